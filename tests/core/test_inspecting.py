"""Pitch, hum and faults: generated signals of known make, worked examples, real recordings."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
import soundfile
from test_cli import documented, run, run_json

from diaulos import wiring
from diaulos.errors import EditError, RefusedError
from diaulos.session.instrument import note_to_midi
from diaulos.session.tunings import TUNINGS
from diaulos.signal.faults import FaultFinder
from diaulos.signal.fir import shift
from diaulos.signal.hum import (
    BUS_HZ,
    Noise,
    analyse_noise,
    compare_noise,
    gate_threshold_dbfs,
)
from diaulos.signal.pitch import (
    cents_between,
    find_pitch,
    midi_hz,
    nearest_note,
    nearest_string,
    note_name,
)
from diaulos.signal.strings import Note, StringCharacter, render_notes
from diaulos.work.blocks import ArraySource
from diaulos.work.instruments.file_tuning import tune, tuning_named
from diaulos.work.takes.inspecting import measure_file
from support import RATE, performance, reference_cases

TUNING = reference_cases("06_tuning", "tuning.json")
HUM = reference_cases("07_hum_noise", "hum_noise.json")


def of(cases: list[dict], group: str) -> list[dict]:
    found = [case for case in cases if case["group"] == group]
    assert found
    return found


def close(case: dict) -> object:
    return pytest.approx(case["value"], **{case["tol_kind"]: case["tol"]})


def seconds(length: float) -> np.ndarray:
    return np.arange(round(length * RATE)) / RATE


# --- pitch ---


@pytest.mark.parametrize("case", of(TUNING, "open_string"), ids=lambda c: c["id"])
def test_open_strings(case: dict) -> None:
    i = case["inputs"]
    assert midi_hz(i["midi"], i["A4"]) == close(case)
    if i["note"][1] not in "#b":
        assert note_to_midi(i["note"]) == i["midi"]
        assert note_name(i["midi"]) == i["note"]


@pytest.mark.parametrize("case", of(TUNING, "cents"), ids=lambda c: c["id"])
def test_cents(case: dict) -> None:
    assert cents_between(case["inputs"]["f2"], case["inputs"]["f1"]) == close(case)


@pytest.mark.parametrize("case", of(TUNING, "nearest_note_cents"), ids=lambda c: c["id"])
def test_the_nearest_note(case: dict) -> None:
    assert nearest_note(case["inputs"]["f"], case["inputs"]["A4"]).cents == close(case)


@pytest.mark.parametrize("length", [0.3, 0.45, 1.5])
@pytest.mark.parametrize("hz", [43.65, 55.0, 82.41, 146.83, 329.63, 659.3, 1396.9])
def test_steady_tones_within_a_cent(hz: float, length: float) -> None:
    """First answer after 0.3 s of sound; with overtones and some noise."""
    rng = np.random.default_rng(int(hz))
    for off in (-23.0, 0.0, 7.0):
        f = hz * 2.0 ** (off / 1200.0)
        t = seconds(length)
        x = 0.3 * np.sin(2 * np.pi * f * t) + 0.15 * np.sin(4 * np.pi * f * t + 1.0)
        x = x + 1e-3 * rng.standard_normal(t.size)
        found = find_pitch(x, RATE)
        assert cents_between(found.hz, f) == pytest.approx(0.0, abs=1.0)
        assert found.confidence > 0.8


@pytest.mark.parametrize("hz", [26.0, 27.5, 30.87, 36.7])
def test_the_lowest_need_four_tenths_of_a_second(hz: float) -> None:
    t = seconds(0.42)
    x = 0.3 * np.sin(2 * np.pi * hz * t) + 0.2 * np.sin(4 * np.pi * hz * t)
    assert cents_between(find_pitch(x, RATE).hz, hz) == pytest.approx(0.0, abs=1.0)
    with pytest.raises(RefusedError) as told:
        find_pitch(x[: int(0.33 * RATE)], RATE)
    assert told.value.reason == "too_short"


def string(hz: float, stiffness: float, glide_cents: float, first: float = 1.0) -> tuple:
    """A plucked string by its own formula, not the demo's: partials n f sqrt(1 + B n^2) that
    start sharp and settle. Returns the sound and the mean first partial from 0.3 to 1 s."""
    t = seconds(1.4)
    bend = 2.0 ** (glide_cents * np.exp(-t / 0.25) / 1200.0)
    out = np.zeros(t.size)
    for n in range(1, 13):
        f = n * hz * math.sqrt(1.0 + stiffness * n * n)
        if f > 0.4 * RATE:
            break
        level = (first if n == 1 else 1.0) / n * np.exp(-t * (0.8 + 0.25 * n))
        out += level * np.sin(2 * np.pi * np.cumsum(f * bend) / RATE + n)
    out[: int(0.002 * RATE)] *= np.linspace(0.0, 1.0, int(0.002 * RATE))
    inside = (t >= 0.3) & (t < 1.0)
    truth = hz * math.sqrt(1.0 + stiffness) * float(np.mean(bend[inside]))
    quiet = np.zeros(int(0.2 * RATE))
    return np.concatenate([quiet, 0.3 * out]), truth


@pytest.mark.parametrize("name", sorted({n for one in TUNINGS.values() for n in one.strings}))
def test_stiff_gliding_strings_within_three_cents(name: str) -> None:
    hz = midi_hz(note_to_midi(name))
    for stiffness, glide in ((2e-5, 4.0), (1e-4, 12.0), (4e-4, 6.0)):
        sound, truth = string(hz, stiffness, glide)
        found = find_pitch(sound, RATE)
        assert cents_between(found.hz, truth) == pytest.approx(0.0, abs=3.0)


def test_a_missing_first_partial_is_found_by_the_others() -> None:
    sound, truth = string(41.2, 1e-4, 0.0, first=1e-3)
    found = find_pitch(sound, RATE)
    assert found.partials > 1
    assert cents_between(found.hz, truth) == pytest.approx(0.0, abs=3.0)


def test_the_demos_strings_are_in_tune() -> None:
    for name in ("E2", "D3", "B3", "B1"):
        midi = note_to_midi(name)
        character = StringCharacter()
        sound = render_notes([Note(0.1, 2.0, midi, 1.0)], RATE, 2.2, character, 3)
        wanted = midi_hz(midi) * math.sqrt(1.0 + character.stiffness)
        assert cents_between(find_pitch(sound, RATE).hz, wanted) == pytest.approx(0.0, abs=3.0)


def test_the_last_pluck_counts() -> None:
    one, _ = string(110.0, 5e-5, 3.0)
    other, truth = string(146.83, 5e-5, 3.0)
    found = find_pitch(np.concatenate([one, other]), RATE)
    assert cents_between(found.hz, truth) == pytest.approx(0.0, abs=3.0)


def test_what_has_no_pitch_is_refused() -> None:
    rng = np.random.default_rng(1)
    for samples, reason in (
        (np.zeros(RATE), "silent"), (np.zeros(1000), "too_short"),
        (0.2 * rng.standard_normal(RATE), "no_pitch"),
    ):  # fmt: skip
        with pytest.raises(RefusedError) as told:
            find_pitch(samples, RATE)
        assert told.value.reason == reason


def test_strings_of_a_tuning_and_another_a4() -> None:
    assert nearest_string(80.0, (40, 45, 50)).note == "E2"
    sound, truth = string(midi_hz(40, 432.0), 0.0, 0.0)
    found = tune(sound, RATE, TUNINGS["standard"].strings, 432.0)
    assert found.note == "E2"
    assert found.cents == pytest.approx(cents_between(truth, midi_hz(40, 432.0)), abs=1.0)
    assert tuning_named("drop-d")[0] == "D2"
    with pytest.raises(EditError, match="no tuning 'nothing'"):
        tuning_named("nothing")


# --- noise ---


def hiss(level_dbfs: float, length: float = 5.0, seed: int = 1) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return 10.0 ** (level_dbfs / 20.0) / math.sqrt(2.0) * rng.standard_normal(round(length * RATE))


def tones(parts: list[tuple[float, float]], length: float = 5.0) -> np.ndarray:
    t = seconds(length)
    return sum(
        (10.0 ** (level / 20.0) * np.sin(2 * np.pi * hz * t + hz) for hz, level in parts),
        np.zeros(t.size),
    )


@pytest.mark.parametrize("mains", [49.87, 50.0, 50.03, 59.94, 60.02, 60.2])
def test_hum_is_found_with_its_mains(mains: float) -> None:
    """Levels within 0.5 dB, the mains within 0.02 Hz in 5 s."""
    parts = [(mains, -62.0), (2 * mains, -58.0), (3 * mains, -70.0), (5 * mains, -75.0)]
    found = analyse_noise(hiss(-80.0) + tones(parts), RATE)
    assert found.mains_hz == pytest.approx(mains, abs=0.02)
    got = {round(tone.hz / mains): tone.dbfs for tone in found.hum}
    for hz, level in parts:
        assert got[round(hz / mains)] == pytest.approx(level, abs=0.5)
    assert found.hiss_dbfs == pytest.approx(-80.0, abs=1.0)
    total = HUM and 10 * math.log10(sum(10 ** (level / 10) for _, level in parts))
    assert found.hum_dbfs == pytest.approx(total, abs=0.5)


@pytest.mark.parametrize("case", of(HUM, "hum_rms_dBFS_aes17"), ids=lambda c: c["id"])
def test_total_of_harmonics(case: dict) -> None:
    levels = case["inputs"]["levels"]
    parts = [((n + 1) * 50.0, level) for n, level in enumerate(levels)]
    assert analyse_noise(hiss(-90.0) + tones(parts), RATE).hum_dbfs == pytest.approx(
        case["value"], abs=0.1
    )


@pytest.mark.parametrize("case", of(HUM, "usb_frame_tones"), ids=lambda c: c["id"])
def test_bus_tones_are_looked_for_where_they_are(case: dict) -> None:
    assert set(np.round(case["value"], 6)) <= set(BUS_HZ) or case["inputs"]["interval_ms"] < 1.0


def test_bus_tones_and_their_clock() -> None:
    off = 1.0 + 8e-5
    parts = [(1000.0 * off, -82.0), (2000.0 * off, -90.0), (8000.0 * off, -86.0)]
    found = analyse_noise(hiss(-75.0) + tones(parts), RATE)
    assert [round(t.hz / 1000.0) for t in found.bus_tones] == [1, 2, 8]
    for tone, (hz, level) in zip(found.bus_tones, parts, strict=True):
        assert tone.hz == pytest.approx(hz, abs=0.1)
        assert tone.dbfs == pytest.approx(level, abs=0.5)
    assert found.mains_hz is None
    assert "stands out" in found.reason
    assert analyse_noise(hiss(-75.0), RATE).bus_tones == ()


def test_a_line_at_1_khz_counts_once() -> None:
    """The twentieth harmonic of 50 Hz and the first tone of a bus are one place."""
    mains = [(50.0, -62.0), (100.0, -58.0), (150.0, -70.0)]
    found = analyse_noise(hiss(-80.0) + tones([*mains, (1000.0, -75.0)]), RATE)
    assert [round(t.hz) for t in found.bus_tones] == [1000]
    assert all(t.hz < 999.0 for t in found.hum)
    ladder = [(50.0 * n, -60.0 - n) for n in range(1, 21)]
    found = analyse_noise(hiss(-95.0) + tones(ladder), RATE)
    assert found.bus_tones == ()
    assert round(found.hum[-1].hz) == 1000


@pytest.mark.parametrize("seed", range(4))
def test_a_processor_is_named_by_what_it_does(seed: int) -> None:
    t = seconds(5.0)
    base = hiss(-85.0, seed=seed)
    sweep = 1e-4 * np.sin(
        2 * np.pi * np.cumsum(2500.0 + 1500.0 * np.sin(2 * np.pi * 0.7 * t)) / RATE
    )
    assert analyse_noise(base + sweep, RATE).processor == "sweeping"
    rng = np.random.default_rng(seed)
    burst = 2e-3 * rng.standard_normal(t.size) * ((t * (37.0 + 10.0 * seed)) % 1.0 < 0.3)
    assert analyse_noise(base + burst, RATE).processor == "chopped"


@pytest.mark.parametrize("seed", range(6))
def test_nothing_else_is_called_a_processor(seed: int) -> None:
    """Hiss, hum, bus tones, and the buzz of a dimmer at twice the mains."""
    base = hiss(-80.0, seed=seed)
    assert analyse_noise(base, RATE).processor == ""
    mains = [(50.0 * n, -55.0 - n) for n in range(1, 12)]
    assert analyse_noise(base + tones(mains), RATE).processor == ""
    bus = [(1000.0 * n, -82.0) for n in range(1, 9)]
    assert analyse_noise(base + tones(bus), RATE).processor == ""
    t = seconds(5.0)
    buzz = 3e-3 * np.random.default_rng(seed).standard_normal(t.size) * ((t * 100.0) % 1.0 < 0.1)
    assert analyse_noise(base + buzz + tones([(50.0, -50.0), (100.0, -48.0)]), RATE).processor == ""


@pytest.mark.parametrize("hz", [49.0, 55.0, 61.7, 98.0, 123.0])
@pytest.mark.parametrize("kind", ["plucked", "steady"])
def test_held_bass_notes_are_no_hum(hz: float, kind: str) -> None:
    """Near the mains and its double, dying away or held as steady as a machine."""
    t = seconds(6.0)
    fade = np.exp(-t / 2.0) if kind == "plucked" else np.full(t.size, 0.05)
    note = fade * (
        0.4 * np.sin(2 * np.pi * hz * t) + 0.3 * np.sin(4 * np.pi * hz * t)
        + 0.2 * np.sin(6 * np.pi * hz * t)
    )  # fmt: skip
    found = analyse_noise(note + hiss(-85.0, 6.0), RATE)
    assert found.mains_hz is None
    assert found.hum == ()
    assert found.reason


def test_hum_under_music_is_found_in_the_rests_only() -> None:
    music = 0.3 * performance(seconds=6.0, seed=2)
    rest = np.zeros(4 * RATE)
    whole = np.concatenate([music, rest]) + hiss(-84.0, 10.0) + tones([(50.0, -66.0)], 10.0)
    found = analyse_noise(whole, RATE)
    assert found.mains_hz == pytest.approx(50.0, abs=0.02)
    assert found.hum[0].dbfs == pytest.approx(-66.0, abs=0.5)
    assert found.quiet_s < 5.0
    without = analyse_noise(whole[: 6 * RATE], RATE)
    assert without.mains_hz is None
    assert "is quiet" in without.reason or "stands out" in without.reason


def test_attempts_are_compared_by_kind() -> None:
    before = analyse_noise(hiss(-80.0) + tones([(50.0, -60.0), (1000.0, -80.0)]), RATE)
    after = analyse_noise(hiss(-83.0, seed=2) + tones([(50.0, -72.0)]), RATE)
    change = compare_noise(before, after)
    assert change.hum_db == pytest.approx(-12.0, abs=0.5)
    assert change.hiss_db == pytest.approx(-3.0, abs=0.5)
    assert change.bus_db is not None
    assert change.bus_db < -20.0
    same = compare_noise(after, after)
    assert (same.hum_db, same.bus_db, same.hiss_db) == (0.0, None, 0.0)


def test_a_gate_opens_between_floor_and_note() -> None:
    quiet = Noise(None, "", (), (), -70.0, -74.0, -70.0, 5.0)
    assert gate_threshold_dbfs(quiet, -40.0) == -55.0
    assert gate_threshold_dbfs(quiet, -66.0) is None


# --- faults ---


def test_faults_do_not_depend_on_the_blocks() -> None:
    """Against looking at the whole at once."""
    rng = np.random.default_rng(5)
    x = 0.2 * rng.standard_normal(20_000)
    runs = [(100, 3), (500, 2), (4_000, 7), (9_998, 5), (19_997, 3)]
    for first, length in runs:
        x[first : first + length] = 1.0 if first % 200 else -1.0
    x[12_000] = 1.0
    x[12_001] = -1.0  # two samples of opposite sign are no run
    zeros = [(2_000, 40), (6_000, 20), (8_190, 64), (15_000, 1000)]
    for first, length in zeros:
        x[first : first + length] = 0.0
    wanted = {(f, n) for f, n in runs if n >= 3}
    for size in (1, 7, 64, 4096, 20_000):
        finder = FaultFinder()
        step = size if size > 1 else 1
        for at in range(0, x.size, step):
            finder.add(x[at : at + step])
        found = finder.finish()
        assert {(s.frame, s.frames) for s in found.runs} == wanted
        assert found.full_scale_samples == sum(n for _, n in runs) + 2
        assert {(s.frame, s.frames) for s in found.dropouts} == {
            (2_000, 40), (8_190, 64), (15_000, 1000),
        }  # fmt: skip
        assert found.dc == pytest.approx(float(x.mean()))


def test_silence_is_no_dropout() -> None:
    finder = FaultFinder()
    finder.add(np.concatenate([np.zeros(5_000), 0.3 * np.ones(1_000), np.zeros(5_000)]))
    assert finder.finish().dropouts == ()


@pytest.mark.parametrize(
    ("second", "pair", "delay"),
    [
        (lambda x: x, "same", 0.0), (lambda x: -x, "inverted", 0.0),
        (lambda x: 0.5 * x, "same", 0.0), (lambda x: -0.7 * x, "inverted", 0.0),
        (lambda x: shift(x, 37.25, x.size), "late", 37.25),
    ],
)  # fmt: skip
def test_two_channels_together(second, pair: str, delay: float, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    x = 0.3 * performance(seconds=12.0, seed=6)
    both = np.stack([x, second(x)], axis=1).astype(np.float32)
    soundfile.write(str(tmp_path / "pair.wav"), both, RATE, subtype="FLOAT")
    found = measure_file(wiring.ExternalAudio().open(tmp_path / "pair.wav"))
    assert found.pair == pair
    assert found.pair_delay_samples == pytest.approx(delay, abs=0.02)


def test_levels_of_a_file() -> None:
    """A full-scale sine reads 0 dBFS RMS (AES17) and -3.01 LUFS (BS.1770, 997 Hz)."""
    t = seconds(4.0)
    x = (1.0 - 2.0**-22) * np.sin(2 * np.pi * 997.0 * t) * 0.5
    found = measure_file(ArraySource((x + 0.001).astype(np.float32), RATE))
    (one,) = found.channels
    assert one.peak_dbfs == pytest.approx(-6.02 + 0.017, abs=0.01)
    assert one.rms_dbfs == pytest.approx(-6.02, abs=0.01)
    assert one.lufs == pytest.approx(-3.01 - 6.02, abs=0.02)
    assert one.faults.dc == pytest.approx(0.001, abs=1e-5)
    assert found.pair is None


# --- the shell ---


def test_the_commands(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    sound, truth = string(82.41, 5e-5, 3.0)
    soundfile.write(str(tmp_path / "e.wav"), sound, RATE, subtype="FLOAT")
    code, data = run_json(capsys, "tune", tmp_path / "e.wav", "--tuning", "drop-d")
    assert code == 0
    assert set(data) == documented("tune")
    assert data["note"] == "D2"
    assert data["hz"] == pytest.approx(truth, rel=0.002)
    _, out, _ = run(capsys, "tune", tmp_path / "e.wav")
    assert out.startswith("E2  ")
    soundfile.write(str(tmp_path / "silent.wav"), np.zeros(RATE), RATE)
    code, data = run_json(capsys, "tune", tmp_path / "silent.wav")
    assert (code, data["reason"]) == (3, "silent")

    one, other = hiss(-80.0) + tones([(50.0, -60.0)]), hiss(-80.0, seed=3)
    for name, samples in (("a", one), ("b", other)):
        soundfile.write(str(tmp_path / f"{name}.wav"), samples, RATE, subtype="FLOAT")
    code, data = run_json(capsys, "noise", tmp_path / "a.wav")
    assert code == 0
    assert set(data) == documented("noise")
    assert data["mains_hz"] == pytest.approx(50.0, abs=0.02)
    code, data = run_json(capsys, "noise", tmp_path / "a.wav", "--compare", tmp_path / "b.wav")
    assert data["compared"]["mains_hz"] is None
    assert data["change"]["hum_db"] < -20.0
    _, out, _ = run(capsys, "noise", tmp_path / "a.wav", "--compare", tmp_path / "b.wav")
    assert "hum of 50.00 Hz mains" in out
    assert "change, dB" in out

    both = np.stack([one, -one], axis=1)
    soundfile.write(str(tmp_path / "pair.wav"), both, RATE, subtype="FLOAT")
    code, data = run_json(capsys, "measure", tmp_path / "pair.wav")
    assert code == 0
    assert set(data) == documented("measure")
    assert data["pair"] == "inverted"
    _, out, _ = run(capsys, "measure", tmp_path / "pair.wav")
    assert "channel 2" in out
    assert "inverted" in out
