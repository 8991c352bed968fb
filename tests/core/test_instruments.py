"""Instruments: model, strength, trims, the pad question, undoing a load, the shell."""

from __future__ import annotations

import itertools
import json
from pathlib import Path

import numpy as np
import pytest
import scipy.signal
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from diaulos.__main__ import main
from diaulos.circuit.loading import Load, analyse, level_db
from diaulos.demo.instruments import FRETLESS, INSTRUMENT_INPUT, OFFSET, SEMI, strum
from diaulos.demo.instruments import Strums as DemoStrums
from diaulos.demo.saltmarsh import PLAYERS
from diaulos.errors import EditError, InputError, RefusedError
from diaulos.rig.bench import through_input
from diaulos.rig.catalogue import reamp_rig
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.instrument import (
    ComparedInput,
    Instrument,
    StrengthReading,
    Tone,
    ToneStage,
    note_to_midi,
)
from diaulos.session.migrations import migrate
from diaulos.session.model import Session, Take, Track
from diaulos.session.representative import PICKUP_TYPES, pickup, representative
from diaulos.session.tone_stage import stage_of
from diaulos.session.tunings import TUNINGS, tuning_called
from diaulos.signal.delay import find_alignment
from diaulos.signal.pitch import note_name
from diaulos.signal.strength import measure_strength
from diaulos.signal.strings import StringCharacter
from diaulos.storage.folder import SessionFolder
from diaulos.units import dbu_to_peak_volt
from diaulos.wiring import bench_for
from diaulos.work.blocks import ArraySource
from diaulos.work.instruments.drive import drive_change, make_up_db, roll_volume
from diaulos.work.instruments.inputs import (
    AMP_LOAD,
    LOW_LOAD,
    compare_inputs,
    mend_input,
    rate_impedances,
)
from diaulos.work.instruments.strength import strength_warnings
from diaulos.work.instruments.trims import solve_trims, stage_peak_dbfs, trim_rows, trims_table
from diaulos.work.reamp.passes import ReampRequest, make_pass
from diaulos.work.takes.unload import FilteredSource, undo_for
from diaulos.work.takes.unloading import store_unloaded
from support import NOON, RATE, outside, performance

DOCS = Path(__file__).parents[2] / "docs" / "cli.md"


def reading(peak_dbu: float, full_scale: float | None = 12.0, **more: object) -> StrengthReading:
    scale = 12.0 if full_scale is None else full_scale
    values: dict = {
        "position_id": "pos1", "label": "Strum", "made_at": "2026-05-09",
        "peak_dbfs": peak_dbu - scale, "true_peak_dbtp": peak_dbu - scale,
        "loudest_400ms_dbfs": -20.0, "full_scale_dbu": full_scale, **more,
    }  # fmt: skip
    return StrengthReading(**values)


def instrument(ident: str, peak_dbu: float | None, **more: object) -> Instrument:
    made = representative(ident, ident.title())
    strength = () if peak_dbu is None else (reading(peak_dbu),)
    return made.model_copy(update={"strength": strength, **more})


def session(*instruments: Instrument, **more: object) -> Session:
    rig = reamp_rig()
    return Session(
        id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id,
        instruments=instruments, **more,
    )  # fmt: skip


# --- the model ---


def test_every_pickup_type_makes_a_circuit() -> None:
    for type_id in PICKUP_TYPES:
        made = representative("x", "X", "guitar", type_id)
        assert not made.measured
        assert np.isfinite(analyse(made.circuit(), AMP_LOAD).level_1khz_db)


@pytest.mark.parametrize("position", [p.id for p in OFFSET.positions])
def test_selector_positions_change_the_circuit(position: str) -> None:
    chosen = OFFSET.model_copy(update={"position_id": position})
    level = level_db(chosen.circuit(), AMP_LOAD, 100.0)
    # Two coils in series give twice the EMF; in parallel the same.
    assert level == pytest.approx(6.0 if position == "series" else 0.0, abs=1.0)


def test_a_knob_turned_down_takes_level() -> None:
    low = OFFSET.model_copy(
        update={"controls": OFFSET.controls.model_copy(update={"volume_knob": 5.0})}
    )
    load = Load.together(OFFSET.cable, AMP_LOAD)
    drop = level_db(OFFSET.circuit(), load, 1000.0) - level_db(low.circuit(), load, 1000.0)
    assert drop > 8.0


def test_notes_and_tunings() -> None:
    assert [note_to_midi(n) for n in ("C4", "A4", "B0", "F#3", "Bb1")] == [60, 69, 23, 54, 34]
    for one in TUNINGS.values():
        pitches = [note_to_midi(name) for name in one.strings]
        assert tuning_called(one.id) == tuning_called(one.words) == one
        assert pitches == sorted(pitches)
    with pytest.raises(ValueError, match="is not a note"):
        note_to_midi("H2")


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"position_id": "gone"}, "not one of the positions"),
        ({"strings": ("E2", "X9")}, "is not a note"),
        ({"cable_m": -1.0}, "greater than or equal"),
        ({"pickups": (pickup("single", "a"), pickup("single", "a"))}, "same id|names no pickup"),
    ],
)
def test_what_is_wrong_is_named_and_changes_nothing(values: dict, words: str) -> None:
    before = session(instrument("one", 0.0))
    with pytest.raises(EditError, match=words):
        edits.change_instrument("one", "Change", **values)(before)


def test_coils_and_a_buffer_cannot_be_wired_together() -> None:
    both = (pickup("single", "a"), pickup("active", "b"))
    positions = ({"id": "p", "name": "P", "pickups": ("a", "b"), "wiring": "parallel"},)
    with pytest.raises(ValidationError, match="only coils"):
        Instrument.model_validate(
            {"id": "x", "name": "X", "pickups": [p.model_dump() for p in both],
             "positions": positions, "position_id": "p"}
        )  # fmt: skip


def test_an_instrument_of_version_1_gets_representative_values(tmp_path: Path) -> None:
    old = json.loads(session(instrument("one", None)).model_dump_json())
    old["schema_version"] = 1
    old["instruments"] = [{"id": "one", "name": "Old one", "family": "bass", "notes": "kept"}]
    for field in ("tone_stage", "compared_inputs", "reference_instrument", "tones"):
        del old[field]
    new = Session.model_validate(migrate(old, "session.json"))
    (made,) = new.instruments
    assert (made.name, made.notes, made.pickups[0].type) == ("Old one", "kept", "bass")
    assert len(new.compared_inputs) == 5


def test_edits_of_instruments() -> None:
    start = session(instrument("one", 0.0))
    more = edits.add_instrument(instrument("two", None))(start)
    assert more.instrument("Two").id == "two"
    with pytest.raises(EditError, match="already"):
        edits.add_instrument(instrument("two", None))(more)
    measured = edits.add_strength("two", reading(3.0))(more)
    assert measured.instrument("two").reading.peak_dbu == pytest.approx(3.0)
    assert edits.remove_strength("two", 0)(measured) == more
    with pytest.raises(EditError):
        edits.remove_strength("two", 0)(more)
    assert edits.remove_instrument("two")(more) == start
    with pytest.raises(EditError, match="no instrument"):
        edits.remove_instrument("three")(more)
    with pytest.raises(EditError, match="Six inputs"):
        edits.set_compared_inputs((ComparedInput(name="x", ohm=1e6),) * 7)(start)
    with pytest.raises(EditError, match="trim_step_db"):
        edits.set_tone_stage(trim_step_db=0.0)(start)


# --- loading in words ---


def test_what_is_lost_in_words() -> None:
    one = instrument("one", 0.0)
    rows = {row.name: row for row in compare_inputs(session(one), one)}
    assert "resonance gone: will sound dull and quiet" in rows["Line input"].words
    assert "dB down at 1 kHz" in rows["Line input"].words
    assert rows["Active DI"].words == "nothing is lost"
    assert rows["Amplifier"].figures.resonance_hz > 3000.0
    piezo = representative("p", "P", "piezo")
    thin = compare_inputs(session(piezo), piezo)[1]
    assert "will sound thin" in thin.words


def test_the_closest_impedance_is_marked() -> None:
    one = instrument("one", 0.0)
    for reference, wanted in ((AMP_LOAD, 1e6), (LOW_LOAD, 47e3)):
        rated = rate_impedances(one, ToneStage(), reference)
        (chosen,) = (c for c in rated if c.chosen)
        assert chosen.ohm == wanted
        assert chosen.apart_db == min(c.apart_db for c in rated)


def test_a_fixed_input_says_what_would_mend_it() -> None:
    apart, ways = mend_input(instrument("one", 0.0), LOW_LOAD, AMP_LOAD)
    assert apart > 2.0
    assert "instrument switch" in ways[0].what
    assert ways[0].apart_db < 0.5
    near, none = mend_input(instrument("one", 0.0), AMP_LOAD, AMP_LOAD)
    assert near == pytest.approx(0.0, abs=1e-9)
    assert none == []


# --- strength ---


def test_strength_of_a_known_strum() -> None:
    """One second of a sine at -6 dBFS, its end silent: peak, RMS and decay are known."""
    n = np.arange(RATE)
    tone = 0.5 * np.sin(2.0 * np.pi * 220.0 * n / RATE)
    signal = np.concatenate([np.zeros(RATE // 2), tone, np.zeros(2 * RATE)])
    signal += 1e-5 * np.random.default_rng(1).standard_normal(signal.size)
    found = measure_strength(signal, RATE)
    assert found.peak_dbfs == pytest.approx(-6.02, abs=0.01)
    assert found.true_peak_dbtp == pytest.approx(-6.02, abs=0.02)
    assert found.loudest_400ms_dbfs == pytest.approx(-6.02, abs=0.01)
    assert found.decay_s == pytest.approx(1.0, abs=0.3)
    assert (found.clipped_samples, found.strums) == (0, 1)


@pytest.mark.parametrize(("spread", "uneven"), [(0.02, False), (0.6, True)])
def test_uneven_strums_are_told(spread: float, uneven: bool) -> None:
    strums = DemoStrums("s", 0.0, 12.0, spread=spread)
    found = measure_strength(strum(FRETLESS, StringCharacter(), RATE, strums, 5), RATE)
    assert found.strums == 5
    assert found.uneven == uneven


def test_repeats_that_differ_and_clipping_are_told() -> None:
    one = instrument("one", 0.0)
    hot = one.model_copy(update={"strength": (reading(0.0), reading(4.0, clipped_samples=9))})
    assert "9 samples clip" in strength_warnings(hot)[0]
    apart = one.model_copy(update={"strength": (reading(0.0), reading(4.0))})
    assert "differ by 4.0 dB" in strength_warnings(apart)[0]
    assert strength_warnings(one) == []


def test_the_strongest_calibrated_reading_counts() -> None:
    """A reading of exactly 0 dBu is one too; an uncalibrated one counts only alone."""
    readings = (reading(-3.0), reading(0.0), reading(9.0, None))
    one = instrument("one", None).model_copy(update={"strength": readings})
    assert one.reading == readings[1]
    alone = one.model_copy(update={"strength": readings[2:]})
    assert alone.reading == readings[2]
    elsewhere = reading(20.0, position_id="other")
    assert one.model_copy(update={"strength": (*readings, elsewhere)}).reading == readings[1]


def test_silence_and_scraps_are_refused() -> None:
    with pytest.raises(RefusedError, match="silent"):
        measure_strength(np.zeros(RATE), RATE)
    with pytest.raises(RefusedError, match="seconds of strumming"):
        measure_strength(np.ones(100), RATE)
    with pytest.raises(InputError, match="sample 3"):
        measure_strength(np.array([0.0, 0.0, 0.0, np.nan] * RATE), RATE)


def test_flat_tops_below_full_scale_are_clipping_too() -> None:
    wave = np.sin(2.0 * np.pi * 100.0 * np.arange(RATE) / RATE)
    assert measure_strength(wave * 0.9, RATE).flat_tops == 0
    flat = measure_strength(np.clip(wave, -0.7, 0.7), RATE)
    assert flat.flat_tops > 150  # two a period, but for those at both ends
    assert flat.clipped_samples == 0
    full = measure_strength(np.clip(2.0 * wave, -1.0, 1.0), RATE)
    assert full.clipped_samples > 1000
    assert full.flat_tops == 0  # one fault, told once


SAMPLES = Path("/usr/share/sonic-pi/samples")


@pytest.mark.parametrize("name", ["guit_e_fifths", "guit_em9", "guit_e_slide", "bass_thick_c"])
def test_strength_of_real_recordings(name: str, capsys: pytest.CaptureFixture[str]) -> None:
    """Debian's sonic-pi-samples (CC0), against soundfile's own samples."""
    path = SAMPLES / f"{name}.flac"
    outside(path.is_file(), "sonic-pi-samples")
    samples, _ = soundfile.read(str(path), always_2d=True)
    assert main(["strength", str(path), "--channel", "1", "--json"]) == 0
    got = json.loads(capsys.readouterr().out)
    peak = 20.0 * np.log10(np.max(np.abs(samples[:, 0])))
    assert got["peak_dbfs"] == pytest.approx(peak, abs=0.001)
    assert peak <= got["true_peak_dbtp"] + 0.001
    assert got["loudest_400ms_dbfs"] < peak
    assert got["peak_dbu"] is None


# --- trims ---


def test_trims_bring_each_to_the_target() -> None:
    held = session(
        instrument("one", 0.0), instrument("two", 7.3), instrument("none", None),
        instrument("hot", 9.0, keep_hot=True, trim_db=1.5),
    )  # fmt: skip
    solved = solve_trims(held)
    # Target -12 dBFS at a tone stage that is full at +12 dBu: 0 dBu wants no trim.
    assert solved == {"one": 0.0, "two": -7.0}, "in whole dB, unless it is asked otherwise"
    held = edits.set_tone_stage(trim_step_db=0.5)(held)
    solved = solve_trims(held)
    assert solved == {"one": 0.0, "two": -7.5}
    rows = {r.instrument_id: r for r in trim_rows(edits.set_trims(solved)(held))}
    assert rows["two"].peak_dbfs == pytest.approx(-12.2)
    assert rows["two"].left_over_db == pytest.approx(0.2)
    assert rows["hot"].drive_db == pytest.approx(10.5)
    assert rows["hot"].plain_drive_db == pytest.approx(9.0)
    assert rows["none"].reason == "not measured yet"


@given(st.floats(-40.0, 30.0), st.sampled_from([0.5, 1.0]), st.booleans())
def test_a_solved_trim_is_a_step_in_range_and_the_closest(
    peak: float, step: float, pad: bool
) -> None:
    stage = ToneStage(trim_step_db=step, pad_on=pad)
    held = session(instrument("one", peak), tone_stage=stage)
    trim = solve_trims(held)["one"]
    assert stage.trim_minimum_db <= trim <= stage.trim_maximum_db
    assert (trim - stage.trim_minimum_db) / step == pytest.approx(
        round((trim - stage.trim_minimum_db) / step)
    )
    plain = peak - 12.0 - (10.0 if pad else 0.0)
    best = min(
        abs(-12.0 - plain - t)
        for t in np.arange(stage.trim_minimum_db, stage.trim_maximum_db + 0.01, step)
    )
    assert abs(-12.0 - plain - trim) == pytest.approx(best, abs=1e-9)


def test_a_source_that_limits_itself_is_no_louder_than_it_can_be() -> None:
    active = representative("a", "A", "bass", "active")
    loud = active.model_copy(update={"strength": (reading(20.0),)})
    (row,) = trim_rows(session(loud))
    assert row.plain_dbfs == pytest.approx(8.0 - 12.0)  # its maximum is +8 dBu


def test_trims_from_the_shell(demo_copy: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["trims", str(demo_copy), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    held = SessionFolder.open(demo_copy, read_only=True).load()
    for told, row in zip(data["trims"], trim_rows(held), strict=True):
        assert told["peak_dbfs"] == row.peak_dbfs
        assert told["solved_trim_db"] == solve_trims(held).get(row.instrument_id)
    assert data["trims"][3]["reason"] == "measured without a calibration"
    assert main(["trims", str(demo_copy)]) == 0
    assert "solved" in capsys.readouterr().out


# --- the pad question ---


TONE = Tone(
    id="t", name="T", voice="foghorn", drive=5.0, bass=5.0, mid=5.0, treble=5.0,
    master_db=-6.0, cabinet="closed-four", instrument_id="one", trim_db=-2.0,
)  # fmt: skip


def test_another_instrument_and_the_pad_change_the_drive() -> None:
    held = session(instrument("one", 0.0), instrument("two", 5.2), tones=(TONE,))
    same = drive_change(held, TONE, held.instrument("one"))
    assert same.drive_db == pytest.approx(2.0)  # trim 0 now, -2 when it was made
    assert same.trim_db == pytest.approx(-2.0)
    other = drive_change(held, TONE, held.instrument("two"))
    assert other.drive_db == pytest.approx(7.2)
    assert (other.trim_db, other.left_over_db) == pytest.approx((-7.0, -0.2))
    # Foghorn's drive control spans 30 dB over 10.
    assert other.drive_knob == pytest.approx(5.0 - 7.2 / 3.0)
    assert other.made_with == "One, trim \N{MINUS SIGN}2 dB, pad off"
    padded = edits.set_tone_stage(pad_on=True)(held)
    with_pad = drive_change(padded, TONE, held.instrument("two"))
    assert with_pad.drive_db == pytest.approx(7.2 - 10.0)
    assert "pad on" in with_pad.used_with


def test_without_a_measurement_the_pad_question_is_refused() -> None:
    held = session(instrument("one", None), instrument("two", 1.0), tones=(TONE,))
    with pytest.raises(RefusedError, match="One is not measured yet"):
        drive_change(held, TONE, held.instrument("two"))


def test_make_up_is_measured_and_small_where_it_is_driven() -> None:
    """Common practice, no source: 5 dB ahead of a driven amp cost 1 to 2 dB behind it."""
    di = performance(seconds=5.0, seed=21).astype(np.float32)
    driven = make_up_db(di, RATE, 2.0, TONE, -5.0, -5.0)
    clean = make_up_db(di, RATE, 2.0, TONE.model_copy(update={"voice": "lantern"}), -5.0, -5.0)
    assert 0.8 < driven < 2.2
    assert clean == pytest.approx(5.0, abs=0.5)
    assert make_up_db(di, RATE, 2.0, TONE, 0.0, 0.0) == pytest.approx(0.0, abs=1e-9)
    with pytest.raises(RefusedError, match="silent"):
        make_up_db(np.zeros(RATE, np.float32), RATE, 2.0, TONE, -5.0, -5.0)


def test_rolling_the_volume_off_loses_treble_without_a_bleed() -> None:
    plain = OFFSET.model_copy(
        update={"controls": OFFSET.controls.model_copy(update={"bleed_pf": 0.0})}
    )
    rolled = roll_volume(plain, AMP_LOAD, 6.0)
    assert rolled.level_db == pytest.approx(-6.0, abs=0.01)
    assert rolled.treble_db < -1.0
    assert 0.0 < rolled.knob < 10.0
    assert roll_volume(OFFSET, AMP_LOAD, 6.0).treble_db > rolled.treble_db
    with pytest.raises(RefusedError, match="no volume pot"):
        roll_volume(FRETLESS, AMP_LOAD, 6.0)


# --- undoing a load ---


def di_session(tmp_path: Path, load_ohm: float | None) -> tuple[SessionFolder, Session]:
    """A DI of the semi-hollow played into an impedance, as a session."""
    emf = 0.2 * performance(seconds=6.0, seed=31)
    ohm = load_ohm or 1e6
    load = Load.together(SEMI.cable, Load(ohm, 50e-12))
    volts = through_input(emf, SEMI.circuit(), load, RATE)
    folder_session = session(SEMI)
    folder = SessionFolder.create(tmp_path / "Load", folder_session)
    digital = volts / dbu_to_peak_volt(12.0)
    path = folder.path / "audio" / "t0001_k01.wav"
    soundfile.write(str(path), digital, RATE, subtype="PCM_24")
    track = Track(
        id="k01", name="DI", tap="di", file="audio/t0001_k01.wav", frames=digital.size,
        full_scale_dbu=12.0, load_ohm=load_ohm, load_pf=50.0,
        peak_dbfs=20.0 * np.log10(np.max(np.abs(digital))),
    )  # fmt: skip
    take = Take(id="t0001", name="Take", recorded_at="x", tracks=(track,), instrument_id="semi")
    return folder, edits.add_take(take)(folder_session)


def test_the_amp_sees_the_guitar_as_if_it_were_plugged_in(tmp_path: Path) -> None:
    folder, held = di_session(tmp_path, 100e3)
    made = make_pass(
        ReampRequest(held, "t0001", undo_load=True), store=folder, backend_for=bench_for(),
        clock=lambda: NOON,
    ).made  # fmt: skip
    assert "100 kΩ to 1 MΩ" in made.unloaded
    assert "noise +" in made.unloaded
    plain = make_pass(
        ReampRequest(held, "t0001"), store=folder, backend_for=bench_for(), clock=lambda: NOON
    ).made
    assert plain.unloaded == ""
    # Undoing the load brings level back at the amplifier's input.
    assert made.amp_peak_dbu > plain.amp_peak_dbu + 1.0
    assert made.main.alignment is not None
    folder.close()


def test_a_corrected_di_is_stored_as_a_take_of_its_own(tmp_path: Path) -> None:
    """Held against the same playing into the wanted input: the truth is known here."""
    folder, held = di_session(tmp_path, 100e3)
    made = store_unloaded(held, held.takes[0], held.rig(), store=folder, clock=lambda: NOON)
    after = made.edit(held)
    assert [t.name for t in after.takes] == ["Take", "Take, load undone"]
    assert after.takes[0] == held.takes[0]
    track = made.take.tracks[0]
    assert track.load_ohm == 1e6
    emf = 0.2 * performance(seconds=6.0, seed=31)
    wanted = through_input(
        emf, SEMI.circuit(), Load.together(SEMI.cable, Load(1e6, 60e-12)), RATE
    ) / dbu_to_peak_volt(12.0)
    got, _ = soundfile.read(str(folder.path / track.file))
    sos = scipy.signal.butter(8, 5000.0, fs=RATE, output="sos")
    error = scipy.signal.sosfilt(sos, got - wanted)
    assert 20.0 * np.log10(error.std() / scipy.signal.sosfilt(sos, wanted).std()) < -40.0
    folder.close()


def test_a_take_without_a_di_cannot_be_corrected(tmp_path: Path) -> None:
    folder, held = di_session(tmp_path, 100e3)
    mic = held.takes[0].tracks[0].model_copy(update={"tap": "mic"})
    take = held.takes[0].model_copy(update={"tracks": (mic,)})
    with pytest.raises(EditError, match="no dry DI"):
        store_unloaded(held, take, held.rig(), store=folder, clock=lambda: NOON)
    folder.close()


def test_trims_go_to_a_sheet(tmp_path: Path) -> None:
    held = session(instrument("one", 0.0), instrument("two", None))
    folder = SessionFolder.create(tmp_path / "S", held)
    assert folder.write_sheet("trims.csv", trims_table(held).csv()) == "sheets/trims.csv"
    rows = (folder.path / "sheets" / "trims.csv").read_text("utf-8").splitlines()
    assert rows[1] == "One,Pickup,Floor modeler,0,off,-12.0,0.0,0.0,0.0,no"
    assert rows[2].startswith("Two,Pickup,Floor modeler,0,off,,")
    folder.close()


def test_an_unknown_load_or_instrument_is_not_undone(tmp_path: Path) -> None:
    folder, held = di_session(tmp_path, None)
    take = held.takes[0]
    with pytest.raises(EditError, match="Nobody wrote down"):
        undo_for(held, take, take.tracks[0], held.rig())
    held = edits.set_track_load("t0001", "k01", 100e3)(held)
    take = held.takes[0]
    assert undo_for(held, take, take.tracks[0], held.rig()).correction.most_db > 3.0
    # Without a rig that reamps: as a usual amplifier's input would load.
    straight = undo_for(held, take, take.tracks[0], build("straight", "other"))
    assert straight.wanted.ohm == 1e6
    assert straight.cost.endswith("for a usual 1 MΩ input")
    assert "-" not in straight.cost, "a minus sign, and none before nothing"
    assert straight.correction.most_db > 3.0
    low = edits.set_track_load("t0001", "k01", 10e3)(held).takes[0]
    with pytest.raises(RefusedError, match="would be needed"):
        undo_for(held, low, low.tracks[0], held.rig())
    folder.close()


@given(st.integers(0, 9000), st.integers(1, 9000), st.integers(64, 5000))
@settings(max_examples=25)
def test_a_filtered_source_reads_the_same_from_anywhere(first: int, count: int, block: int) -> None:
    taps = np.random.default_rng(1).standard_normal(300)
    samples = np.random.default_rng(2).standard_normal(9500).astype(np.float32)
    source = FilteredSource(ArraySource(samples, RATE), taps)
    want = np.convolve(samples, taps)[first : min(9500, first + count)]
    parts = list(source.blocks(first=first, count=count, block=block))
    got = np.concatenate(parts)[:, 0] if parts else np.zeros(0)
    np.testing.assert_allclose(got, want, atol=1e-3)


@pytest.mark.parametrize("name", ["guit_e_fifths", "guit_em9"])
def test_a_real_recording_keeps_its_timing_when_its_load_is_undone(name: str) -> None:
    """Debian's sonic-pi-samples (CC0): the filter is minimum phase, the notes do not move."""
    from diaulos.circuit.correction import correction
    from diaulos.rig.bench import correction_taps
    from diaulos.signal.convolve import convolve_long

    path = SAMPLES / f"{name}.flac"
    outside(path.is_file(), "sonic-pi-samples")
    samples, rate = soundfile.read(str(path), always_2d=True)
    a = samples[:, 0]
    cable = OFFSET.cable
    found = correction(
        OFFSET.circuit(), Load.together(cable, LOW_LOAD), Load.together(cable, INSTRUMENT_INPUT)
    )
    b = convolve_long(a, correction_taps(found, rate))[: a.size]
    assert np.isfinite(b).all()
    assert abs(find_alignment(a, b, rate).delay_samples) < 6.0


# --- the shell's loading ---


def run_loading(tmp_path: Path, data: object, capsys: pytest.CaptureFixture[str]) -> tuple:
    path = tmp_path / "in.json"
    path.write_text(data if isinstance(data, str) else json.dumps(data))
    code = main(["loading", str(path), "--json"])
    out, err = capsys.readouterr()
    return code, out, err


def test_loading_from_the_shell(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    from support import REFERENCE

    file = REFERENCE / "01_pickup_loading" / "cases.json"
    csv = tmp_path / "curves.csv"
    assert main(["loading", str(file), "--csv", str(csv), "--json"]) == 0
    got = {c["id"]: c["results"] for c in json.loads(capsys.readouterr().out)["cases"]}
    want = {c["id"]: c["results"] for c in json.loads(file.read_text("utf-8"))["cases"]}
    assert list(got) == list(want)
    for ident, results in want.items():
        assert set(got[ident]) == set(results)
        assert got[ident]["level_1kHz_dB"] == pytest.approx(results["level_1kHz_dB"], abs=0.05)
    rows = csv.read_text("utf-8").splitlines()
    assert len(rows) == 242
    assert rows[0].startswith("Hz,sc_10k_3m,")
    assert main(["loading", str(file)]) == 0
    assert "resonance" in capsys.readouterr().out


GOOD = {"kind": "inductive", "L": 2.3, "Rdc": 6000.0, "Cw": 1.1e-10, "Rin": 1e6}


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ("not json", "not JSON"),
        ({"cases": []}, "no list"),
        ({"cases": [{"id": "a"}]}, "case a.*no circuit"),
        (
            {"cases": [{"id": "a", "circuit": {**GOOD, "L": -1.0}}]},
            "L: an inductance is not negative",
        ),
        ({"cases": [{"id": "a", "circuit": {**GOOD, "L": "4"}}]}, "L is missing or not a number"),
        ({"cases": [{"id": "a", "circuit": {**GOOD, "colour": 1}}]}, "'colour' is not known"),
        ({"cases": [{"id": "a", "circuit": {**GOOD, "tone_at": "x"}}]}, "it can be hot, wiper"),
        ({"cases": [{"circuit": {"L": 1.0, "Rin": 1e6}}]}, "kind is missing"),
    ],
)
def test_a_bad_file_of_circuits(
    tmp_path: Path, data: object, words: str, capsys: pytest.CaptureFixture[str]
) -> None:
    code, out, err = run_loading(tmp_path, data, capsys)
    assert code == 1
    assert json.loads(out)["error"]
    import re

    assert re.search(words, err), err


def test_make_up_is_measured_with_trim_and_pad_ahead() -> None:
    """The drive is that of the DI with trim and pad: what comes cold into the amplifier loses
    nearly all that is taken off, what comes hot little of it."""
    di = performance(seconds=5.0, seed=21).astype(np.float32)
    hot = make_up_db(di, RATE, 2.0, TONE, 0.0, -10.0)
    cold = make_up_db(di, RATE, 2.0, TONE, -16.0, -10.0)
    assert cold > hot + 2.0
    same = make_up_db(di, RATE, -14.0, TONE, 0.0, -10.0)
    assert cold == pytest.approx(same, abs=1e-9), "16 dB of pad and trim are 16 dB of the DI"


def test_a_modelers_tone_is_kept_and_found_again() -> None:
    from diaulos.rig.states import in_state
    from diaulos.rig.templates import build
    from diaulos.work.instruments.drive import matching_tone, rig_with_tone, tone_of

    rig = build("modeler-usb", "r").with_setting("guitar", "instrument", "one")
    held = session(instrument("one", 3.0)).model_copy(update={"rigs": (rig,), "current_rig": "r"})
    found = tone_of(rig)
    assert rig_with_tone(held) == in_state(rig, "reamp")
    assert found is not None
    tone = found.kept("tone01", "Mine", held.instrument("one"), stage_of(held))
    assert (tone.voice, tone.cabinet, tone.pad_db, tone.peak_dbu) == (
        "tideline", "closed-two", 9.0, 3.0,
    )  # fmt: skip
    held = edits.add_tone(tone)(held)
    assert matching_tone(held, rig) == tone
    assert drive_change(held, tone, held.instrument("one")).drive_db == pytest.approx(0.0)
    off = rig.with_setting("modeler", "model", "off")
    assert tone_of(off) is None, "a modeler with its model off has no tone"


# --- a tone as a file ---


def test_a_tone_travels_with_what_it_was_made_with(tmp_path: Path) -> None:
    from diaulos.work.instruments.tone_file import asked_here, completed, read_tone, write_tone
    from diaulos.work.instruments.tone_file import tone_text as text_of

    held = session(instrument("one", 0.0), instrument("two", 5.2), tones=(TONE,))
    path = tmp_path / "tone.json"
    write_tone(path, text_of(completed(held, TONE, 10.0)))
    data = json.loads(path.read_text("utf-8"))
    assert data["made_with"]["peak_dbu"] == 0.0
    assert data["made_with"]["trim_db"] == -2.0
    other = session(instrument("mine", 5.2))
    tone = read_tone(path, other)
    other = edits.add_tone(tone)(other)
    # 5.2 dB stronger, and 2 dB of trim that are not taken off here.
    assert asked_here(other, tone, other.instrument("mine")) == (
        "Mine is 7.2 dB hotter here: set trim \N{MINUS SIGN}7.0 dB or drive 2.6 "
        "(0.2 dB are left over with the trim)."
    )
    again = read_tone(path, other)
    assert (again.id, again.name) not in [(tone.id, tone.name)]


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"settings": {"drive": 11.0}}, "settings.drive"),
        ({"settings": {"voice": "nobody"}}, "no voice here"),
        ({"made_with": {"peak_dbu": float("nan")}}, "made_with.peak_dbu"),
        ({"format": "something"}, "format"),
        ({"name": "two\nlines"}, "name"),
        ({"surplus": 1}, "surplus"),
    ],
)
def test_a_damaged_tone_file_names_its_field(
    change: dict[str, object], told: str, tmp_path: Path
) -> None:
    from diaulos.work.instruments.tone_file import read_tone, tone_text

    data = json.loads(tone_text(TONE))
    for key, value in change.items():
        data[key] = {**data[key], **value} if isinstance(value, dict) else value
    path = tmp_path / "tone.json"
    path.write_text(json.dumps(data), "utf-8")
    with pytest.raises(InputError, match=told):
        read_tone(path, session(instrument("one", 0.0)))


def test_what_is_no_tone_file_is_said(tmp_path: Path) -> None:
    from diaulos.work.instruments.tone_file import read_tone

    held = session(instrument("one", 0.0))
    path = tmp_path / "x.json"
    for data, told in ((b"\xff\x00", "."), (b" " * 70_000, "too long"), (b"[]", ".")):
        path.write_bytes(data)
        with pytest.raises(InputError, match=told):
            read_tone(path, held)
    with pytest.raises(InputError, match="cannot be read"):
        read_tone(tmp_path / "none.json", held)


def test_the_tone_schema_in_docs_is_the_files() -> None:
    from diaulos.work.instruments.tone_file import tone_schema

    path = Path(__file__).parents[2] / "docs" / "tone.schema.json"
    assert json.loads(path.read_text("utf-8")) == tone_schema()


# --- knobs and strength ---


def test_a_strength_stays_that_of_the_knob_it_was_measured_with() -> None:
    """Turning the guitar down makes it quieter, in trims and in the plan."""
    from diaulos.work.rigs.look import instrument_source

    full = OFFSET.model_copy(
        update={"strength": (reading(3.0).model_copy(
            update={"position_id": OFFSET.position_id, "volume_knob": 10.0, "tone_knob": 10.0}),)}
    )  # fmt: skip
    turned = full.model_copy(
        update={"controls": full.controls.model_copy(update={"volume_knob": 6.0})}
    )
    emf = instrument_source(full).emf_peak_dbu
    assert instrument_source(turned).emf_peak_dbu == pytest.approx(emf), "the strings are the same"
    quieter = turned.turned_db
    assert quieter < -3.0
    one, other = (stage_peak_dbfs(i, ToneStage()) for i in (full, turned))
    assert other - one == pytest.approx(quieter)
    unknown = turned.model_copy(update={"strength": (reading(3.0).model_copy(
        update={"position_id": OFFSET.position_id}),)})  # fmt: skip
    assert unknown.turned_db == 0.0, "nobody noted it: as it stands now"


@pytest.mark.parametrize("number", range(len(PLAYERS)))
def test_what_the_demo_plays_can_be_fretted(number: int) -> None:
    """Every step on strings of its own, within five frets and the open strings."""
    player, named = PLAYERS[number], {note_name(midi): midi for midi in range(128)}
    open_strings = [named[name] for name in player.instrument.strings]
    for step in player.part.steps:
        ways = [
            [note - string for note, string in zip(step, chosen, strict=True)]
            for chosen in itertools.permutations(open_strings, len(step))
        ]
        fretted = [[fret for fret in way if fret] for way in ways if min(way, default=0) >= 0]
        assert any(not way or max(way) - min(way) <= 4 for way in fretted), step
