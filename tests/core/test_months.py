"""Over months: one unit in many sessions, what changed and what else changed with it."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile
from test_cli import documented

from diaulos.__main__ import main
from diaulos.demo.saltmarsh import bare_demo
from diaulos.rig.model import Measured, PortRef, Rig
from diaulos.rig.templates import build
from diaulos.session.edits import keep_noise_check
from diaulos.session.instrument import Instrument, IntonationReading, StrengthReading
from diaulos.session.model import LoopCheck, LoopReturn, Origin, Session, SlateRecord, rig_hash
from diaulos.session.noise_check import NoiseCheck, NoiseTrack
from diaulos.signal.brightness import brightness_db
from diaulos.storage.below import sessions_below
from diaulos.storage.session_file import session_text
from diaulos.work.months.timeline import Series, changes, timeline

RATE = 48_000


def reading(day: str, peak_dbfs: float, file: str | None = None) -> StrengthReading:
    one = bare_demo().instruments[0]
    return StrengthReading(
        position_id=one.position_id, label="hard", made_at=f"{day}T12:00:00", peak_dbfs=peak_dbfs,
        true_peak_dbtp=peak_dbfs, loudest_400ms_dbfs=peak_dbfs - 6.0, full_scale_dbu=12.0,
        volume_knob=10.0, tone_knob=10.0, file=file,
    )  # fmt: skip


def session_with(called: str, **change: object) -> Session:
    session = bare_demo()
    one = session.instruments[0].model_copy(update={"strength": (), **change})
    bare = {"rigs": (), "current_rig": "", "recording_rig": "", "reamp_rig": ""}
    return session.model_copy(update={"name": called, "instruments": (one,), **bare})


def silent(_file: str) -> None:
    return None


def of_kind(series: tuple[Series, ...], kind: str) -> list[Series]:
    return [one for one in series if one.kind == kind]


def test_new_strings_are_named_by_the_note_or_by_their_brightness() -> None:
    before = session_with("Spring", strength=(reading("2026-02-01", -10.0, "audio/a.wav"),))
    after = session_with(
        "Summer", strength=(reading("2026-03-03", -7.9, "audio/b.wav"),),
        notes="New strings on 3 March",
    )  # fmt: skip
    series = timeline([(before, silent), (after, silent)])
    (strength,) = of_kind(series, "strength")
    assert [point.value for point in strength.points] == pytest.approx([2.0, 4.1])
    (change,) = changes(series)
    assert "+2.1 dB on 2026-03-03, since 2026-02-01" in change.words
    assert change.cause == "noted: New strings on 3 March"
    light = {"audio/a.wav": -20.0, "audio/b.wav": -14.0}
    quiet = after.model_copy(
        update={"instruments": (after.instruments[0].model_copy(update={"notes": ""}),)}
    )
    found = changes(timeline([(before, light.get), (quiet, light.get)]))
    causes = {one.kind: one.cause for one in found}
    assert causes["strength"] == "likely new strings: +6.0 dB from 2 to 6 kHz, too"


def test_a_change_with_another_cable_names_the_cable_and_one_with_nothing_says_nothing() -> None:
    one = session_with("A", strength=(reading("2026-02-01", -10.0),))
    other = session_with("B", strength=(reading("2026-04-01", -12.0),), cable_m=9.0)
    (change,) = changes(timeline([(one, silent), (other, silent)]))
    assert change.cause == "cable: 6 m, 100 pF/m before, 9 m, 100 pF/m now"
    same = session_with("C", strength=(reading("2026-04-01", -12.0),))
    assert changes(timeline([(one, silent), (same, silent)]))[0].cause == ""
    near = session_with("D", strength=(reading("2026-04-01", -10.6),))
    assert changes(timeline([(one, silent), (near, silent)])) == ()


def test_noise_checks_stand_on_the_line_with_what_was_tried() -> None:
    """A rig that got louder between two checks, by as much as they say, and the cable that was
    changed meanwhile."""
    rig = build("modeler-usb", "rig01")
    cable = rig.cables[0]
    longer = cable.model_copy(update={"length_m": 9.0})
    after = rig.model_copy(
        update={"cables": tuple(longer if one == cable else one for one in rig.cables)}
    )

    def check(day: str, there: Rig, dbfs: float) -> NoiseCheck:
        track = NoiseTrack(
            track=there.tracks[0].port, name="DI", tap="di", floor_dbfs=dbfs,
            floor_a_dbfs=dbfs - 6.0, hum_dbfs=dbfs - 3.0, hiss_dbfs=dbfs - 9.0,
        )  # fmt: skip
        return NoiseCheck(
            made_at=f"{day}T09:00:00", label="As it is", rig_name=there.name,
            rig_hash=rig_hash(there), played_by="bench", tracks=(track,),
        )  # fmt: skip

    session = session_with("One")
    for there, one in (
        (rig, check("2026-02-01", rig, -92.0)), (rig, check("2026-02-02", rig, -91.0)),
        (after, check("2026-03-01", after, -80.5)),
    ):  # fmt: skip
        session = keep_noise_check(one, there)(session)
    series = of_kind(timeline([(session, silent)]), "noise")
    assert [one.what for one in series] == ["DI, noise", "DI, noise, A-weighted"]
    assert [point.value for point in series[0].points] == [-92.0, -91.0, -80.5]
    found = changes(series)
    assert len(found) == 2
    assert all("+10.5 dB on 2026-03-01" in one.words for one in found)
    assert all("9 m" in one.cause for one in found)


def test_strings_go_dead_against_their_best_since_they_were_new() -> None:
    days = ["2026-01-01", "2026-02-01", "2026-03-01", "2026-04-01", "2026-05-01"]
    light = dict(zip((f"audio/{n}.wav" for n in range(5)), (-21.0, -14.0, -15.5, -17.0, -18.8),
                     strict=True))  # fmt: skip
    readings = tuple(reading(day, -10.0, f"audio/{n}.wav") for n, day in enumerate(days))
    found = changes(timeline([(session_with("All", strength=readings), light.get)]))
    dead = [one for one in found if "dead" in one.words]
    assert len(dead) == 1
    assert "4.8 dB less bright than on 2026-02-01" in dead[0].words
    fresh = dict(light) | {"audio/4.wav": -15.0}
    found = changes(timeline([(session_with("All", strength=readings), fresh.get)]))
    assert not [one for one in found if "dead" in one.words]


def test_one_unit_by_its_entry_or_its_name_and_a_reading_once() -> None:
    first = session_with("A", strength=(reading("2026-02-01", -10.0),))
    other = session_with("B", name="Renamed", strength=(reading("2026-03-01", -10.2),))
    assert len(of_kind(timeline([(first, silent), (other, silent)]), "strength")) == 2
    origin = {"instrument:baritone": Origin(entry="baritone", hash="0" * 16)}
    both = [one.model_copy(update={"origins": origin}) for one in (first, other)]
    (strength,) = of_kind(timeline([(one, silent) for one in [*both, both[0]]]), "strength")
    assert len(strength.points) == 2
    assert strength.unit == "Renamed"


def test_loops_calibrations_and_intonation_are_on_the_line() -> None:
    session = bare_demo()
    rig = next(one for one in session.rigs if one.cables)
    longer = rig.model_copy(
        update={"cables": (rig.cables[0].model_copy(update={"length_m": 12.0}), *rig.cables[1:])}
    )

    def check(day: str, gain_db: float, hashed: str) -> LoopCheck:
        slate = SlateRecord(
            delay_samples=100.0, polarity=1, level_dbfs=-20.0, noise_dbfs=-90.0, harmonics_db=-80.0,
            response=((100.0, gain_db), (10_000.0, gain_db)),
        )  # fmt: skip
        back = LoopReturn(name="Return", port=PortRef(device="x", port="y"), slate=slate)
        return LoopCheck(rig_name=rig.name, rig_hash=hashed, played_by="bench",
                         made_at=f"{day}T10:00:00", returns=(back,))  # fmt: skip

    checks = (check("2026-01-01", -3.0, rig_hash(rig)), check("2026-02-01", -3.8, rig_hash(longer)))
    snapshots = {rig_hash(rig): rig, rig_hash(longer): longer}
    session = session.model_copy(update={"loop_checks": checks, "snapshots": snapshots})
    series = timeline([(session, silent)])
    (loop,) = of_kind(series, "loop")
    assert [point.value for point in loop.points] == pytest.approx([-3.0, -3.8])
    change = next(one for one in changes(series) if one.kind == "loop")
    assert "\N{MINUS SIGN}0.8 dB" in change.words
    assert "cable" in change.cause
    assert "12 m" in change.cause
    one = session_with(
        "I", intonation=(
            IntonationReading(string=1, note="B3", open_hz=246.9, fretted_hz=494.0, made_at="2026"),
        )
    )  # fmt: skip
    (sharp,) = of_kind(timeline([(one, silent)]), "intonation")
    assert sharp.points[0].value == pytest.approx(1200 * np.log2(494.0 / 493.8))
    device = next(d for d in rig.devices if any(s.kind == "adc" for p in d.paths for s in p.stages))
    paths = []
    for path in device.paths:
        stages = tuple(
            stage.model_copy(update={"measured": (
                Measured(full_scale_dbu=11.0, made_at="2026-01-01", how="meter"),
                Measured(full_scale_dbu=11.6, made_at="2026-05-01", how="loop"),
            )}) if stage.kind == "adc" else stage
            for stage in path.stages
        )  # fmt: skip
        paths.append(path.model_copy(update={"stages": stages}))
    measured = rig.model_copy(
        update={"devices": (device.model_copy(update={"paths": tuple(paths)}),), "cables": (),
                "tracks": ()}
    )  # fmt: skip
    found = changes(
        timeline([(session_with("R").model_copy(update={"rigs": (measured,)}), silent)])
    )
    assert any(one.kind == "calibration" and "+0.6 dB" in one.words for one in found)


def test_brightness_of_made_strums() -> None:
    """A tone of 500 Hz and one of 4 kHz 20 dB below: 10 log10(0.01 / 1.01) (analytic)."""
    time = np.arange(3 * RATE) / RATE
    both = np.sin(2 * np.pi * 500.0 * time) + 0.1 * np.sin(2 * np.pi * 4_000.0 * time)
    assert brightness_db(both, RATE) == pytest.approx(10.0 * np.log10(0.01 / 1.01), abs=0.02)
    assert brightness_db(0.01 * both, RATE) == pytest.approx(brightness_db(both, RATE))
    noisy = np.concatenate([both, 1e-3 * np.random.default_rng(1).standard_normal(9 * RATE)])
    assert brightness_db(noisy, RATE) == pytest.approx(brightness_db(both, RATE), abs=0.1)
    assert brightness_db(np.zeros(RATE), RATE) is None
    assert brightness_db(both[:100], RATE) is None


def written(path: Path, session: Session) -> Path:
    (path / "audio").mkdir(parents=True)
    (path / "session.json").write_text(session_text(session))
    return path


def test_sessions_are_read_as_they_lie_and_the_shell_tells(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    time = np.arange(2 * RATE) / RATE
    for name, day, peak, high in (("a", "2026-02-01", -10.0, 0.02), ("b", "2026-03-03", -7.9, 0.1)):
        session = session_with(name, strength=(reading(day, peak, "audio/s.wav"),))
        folder = written(tmp_path / "kept" / f"{name}.diaulos", session)
        sound = np.sin(2 * np.pi * 500 * time) + high * np.sin(2 * np.pi * 4_000 * time)
        soundfile.write(str(folder / "audio" / "s.wav"), 0.3 * sound, RATE)
    broken = tmp_path / "kept" / "c.diaulos"
    broken.mkdir()
    (broken / "session.json").write_text("{")
    (tmp_path / "kept" / "loop").symlink_to(tmp_path / "kept")
    before = {path: path.stat().st_mtime_ns for path in tmp_path.rglob("*") if path.is_file()}
    assert main(["months", str(tmp_path), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert set(data) == documented("months")
    assert data["sessions"] == 2
    assert data["unread"][0]["path"].endswith("c.diaulos")
    kinds = {one["kind"] for one in data["series"]}
    assert {"strength", "brightness"} <= kinds
    strength = next(one for one in data["changes"] if one["kind"] == "strength")
    assert strength["cause"].startswith("likely new strings")
    assert {path: path.stat().st_mtime_ns for path in before} == before
    assert main(["months", str(tmp_path), "--unit", "baritone", "--no-sound"]) == 0
    told = capsys.readouterr().out
    assert "Nobody noted why." in told
    assert "cannot be read" in told
    empty = tmp_path / "empty"
    empty.mkdir()
    assert main(["months", str(empty)]) == 1
    assert "no session lies there" in capsys.readouterr().err


def test_a_link_out_of_a_session_is_not_followed(tmp_path: Path) -> None:
    session = session_with("a", strength=(reading("2026-02-01", -10.0, "audio/s.wav"),))
    folder = written(tmp_path / "a.diaulos", session)
    outside = tmp_path / "outside.wav"
    soundfile.write(str(outside), np.ones(RATE) * 0.1, RATE)
    (folder / "audio" / "s.wav").symlink_to(outside)
    ((found, bright),), unread = sessions_below([tmp_path])
    assert not unread
    assert isinstance(found.instruments[0], Instrument)
    assert bright("audio/s.wav") is None
