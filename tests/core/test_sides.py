"""Two sides that are the same: one track is enough."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest
import soundfile
from test_cli import run, run_json

from diaulos.session import take_edits
from diaulos.session.model import Heard, Session
from diaulos.session.practices import SHIPPED
from diaulos.storage.folder import SessionFolder
from diaulos.wiring import write_stem_files
from diaulos.work.compare.choices import candidates_of, open_candidate
from diaulos.work.handing.stems import StemChoice, plan_stems
from diaulos.work.listening.mixing import audible, channels_of, mix_rows, stereo_of
from diaulos.work.practices.departures import departures
from diaulos.work.rigs.look import look_at
from diaulos.work.takes import exporting
from diaulos.work.takes.exporting import export_track
from diaulos.work.takes.proving import proving_of
from diaulos.work.takes.ready import armed_tracks, sides_of
from diaulos.work.takes.sides import same_sides, same_words
from support import RATE

SIDES = ("left", "right")
CEILING = -24.0
"""So low that what comes through a cabinet has to come down."""


def lower_db(session: Session, file: str) -> float:
    """By how much what comes through its cabinet stays under the ceiling."""
    choice = session.cabinets[file].choice
    assert choice is not None
    assert choice.true_peak_dbtp is not None
    return CEILING - choice.true_peak_dbtp


NOON = datetime(2026, 3, 1, 12, 0, 0)


def test_a_mono_tone_in_both_sides_is_told(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "s.diaulos"
    run(capsys, "new", path)
    run(capsys, "rig", path, "--add", "modeler-usb", "--current")
    code, data = run_json(capsys, "record", path, "--seconds", "3", "--fast", "--seed", "4")
    assert code == 0
    wet = [one["name"] for one in data["tracks"] if one["tap"] == "modeled"]
    assert data["same_sides"] == [wet]
    code, text, _ = run(capsys, "record", path, "--seconds", "3", "--fast", "--seed", "4")
    assert "one of them is enough" in text
    folder = SessionFolder.open(path, read_only=True)
    session = folder.load()
    proving = proving_of(session, session.takes[0])
    assert wet[1] in same_words(same_sides(proving, folder))
    # A side that is late by a few samples is another one: a stereo effect.
    right = path / session.takes[0].track(wet[1]).file
    samples, _ = soundfile.read(right)
    soundfile.write(right, np.roll(samples, 40), RATE, subtype="PCM_24")
    assert same_sides(proving, folder) == ()
    soundfile.write(right, 1e-5 * samples, RATE, subtype="PCM_24")
    assert same_sides(proving, folder) == ()
    folder.close()


# --- a pair as one track, or as two ---


@pytest.fixture
def wide(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> Path:
    """A session with a take of a modeler whose sides differ."""
    path = tmp_path / "s.diaulos"
    run(capsys, "new", path)
    run(capsys, "rig", path, "--add", "modeler-usb", "--current")
    folder = SessionFolder.open(path)
    session = folder.load()
    rigs = tuple(
        rig.with_setting("modeler", "stereo", "on") if "modeler" in {d.id for d in rig.devices}
        else rig
        for rig in session.rigs
    )  # fmt: skip
    folder.save(session.model_copy(update={"rigs": rigs}))
    folder.close()
    code, data = run_json(capsys, "record", path, "--seconds", "3", "--fast", "--seed", "4")
    assert code == 0
    assert data["same_sides"] == []
    assert data["pairs_apart"] is False
    sided = {one["side"]: one for one in data["tracks"] if one["side"]}
    assert set(sided) == {"left", "right"}
    assert {one["pair"] for one in sided.values()} == {"Modeled"}
    return path


def test_a_stereo_pair_is_one_row_wide_apart_and_two_by_one_step(wide: Path) -> None:
    folder = SessionFolder.open(wide)
    session = folder.load()
    take = session.takes[0]
    left, right = (next(one for one in take.tracks if one.side == side) for side in SIDES)
    samples = [soundfile.read(wide / one.file)[0] for one in (left, right)]

    def heard(now: Session) -> np.ndarray:
        rows = mix_rows(now, now.takes[0])
        here = [row for row in rows if row.key in (left.file, right.file)]
        return stereo_of(channels_of(here, now, folder))(0, samples[0].size)

    rows = mix_rows(session, take)
    pair = next(row for row in rows if row.name == "Modeled")
    assert pair.files == (left.file, right.file)
    assert len(rows) == 2, "the DI and the pair"
    one = heard(session)
    assert np.abs(one - np.stack(samples, axis=1)).max() < 1e-6
    apart = take_edits.pairs_apart(take.id, True)(session)
    rows = mix_rows(apart, apart.takes[0])
    places = {row.name: row.heard.pan for row in rows if row.tap == "modeled"}
    assert places == {"Modeled left": -1.0, "Modeled right": 1.0}
    assert np.abs(heard(apart) - one).max() < 1e-6, "panned hard it is the same sound"
    again = take_edits.pairs_apart(take.id, False)(apart)
    assert np.abs(heard(again) - one).max() < 1e-6
    assert [len(part) for part in again.takes[0].parts] == [2, 1]
    folder.close()


def test_one_pan_narrows_the_pair_and_one_mute_takes_both(wide: Path) -> None:
    folder = SessionFolder.open(wide, read_only=True)
    session = folder.load()
    left, right = (one for one in session.takes[0].tracks if one.side)
    narrow = take_edits.set_heard(left.file, Heard(pan=1.0))(session)
    rows = [row for row in mix_rows(narrow, narrow.takes[0]) if row.beside]
    out = stereo_of(channels_of(rows, narrow, folder))(0, 48_000)
    assert np.abs(out[:, 0]).max() < 1e-6
    muted = take_edits.set_heard(left.file, Heard(muted=True))(session)
    keys = audible(mix_rows(muted, muted.takes[0]))
    assert left.file not in keys
    assert right.file not in keys
    folder.close()


def test_a_pair_is_exported_compared_and_handed_over_as_one(
    wide: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    code, data = run_json(
        capsys, "export", wide, tmp_path / "both.wav", "--take", "t0001", "--track", "Modeled"
    )  # fmt: skip
    assert code == 0
    both, _ = soundfile.read(data["file"])
    folder = SessionFolder.open(wide, read_only=True)
    session = folder.load()
    take = session.takes[0]
    sides = [soundfile.read(wide / one.file)[0] for one in take.tracks if one.side]
    assert np.abs(both - np.stack(sides, axis=1)).max() < 2.0**-23
    right = tmp_path / "right.wav"
    run(capsys, "export", wide, right, "--take", "t0001", "--track", "Modeled right")
    alone, _ = soundfile.read(right)
    assert np.array_equal(alone, sides[1])
    named = {one.name: one for one in candidates_of(session)}
    assert set(named) == {"DI", "Modeled"}
    assert len(open_candidate(session, named["Modeled"], folder).channels) == 2
    stems = plan_stems(session, StemChoice())
    assert [one.name for one in stems] == ["Modeled", "DI"]
    write_stem_files(session, stems, StemChoice(), folder, tmp_path / "st", clock=lambda: NOON)
    written, _ = soundfile.read(tmp_path / "st" / stems[0].file)
    assert np.abs(written - both).max() < 2.0**-22
    folder.close()


def test_a_cabinet_is_put_behind_both_sides_and_keeps_their_balance(
    wide: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(exporting, "CEILING_DBTP", CEILING)
    code, _ = run_json(
        capsys, "cabinet", wide, "--take", "t0001", "--track", "Modeled", "--put", "open-one"
    )
    assert code == 0
    folder = SessionFolder.open(wide, read_only=True)
    session = folder.load()
    take = session.takes[0]
    sides = [one.file for one in take.part("Modeled")]
    assert set(session.cabinets) == set(sides)
    out = tmp_path / "both.wav"
    run(capsys, "export", wide, out, "--take", "t0001", "--track", "Modeled")
    whole, _ = soundfile.read(out)
    # One side alone through it: the other comes down by as much.
    half = session.model_copy(update={"cabinets": {sides[0]: session.cabinets[sides[0]]}})
    written: list[np.ndarray] = []

    class Sink:
        def write(self, samples: np.ndarray) -> None:
            written.append(samples)

        def close(self) -> None:
            """Nothing to close."""

        abandon = close

    left, right = take.part("Modeled")
    export_track(half, take, left, folder, lambda *_: Sink(), lambda: NOON, beside=right)
    mixed = np.concatenate(written)
    assert np.abs(mixed[:, 0] - whole[:, 0]).max() < 2.0**-22
    assert lower_db(session, left.file) < -3.0
    lower = 10.0 ** (lower_db(session, left.file) / 20.0)
    dry, _ = soundfile.read(wide / right.file)
    assert np.abs(mixed[:, 1] - lower * dry).max() < 2.0**-22
    folder.close()


def test_two_stereo_files_of_one_name_are_two_pairs(
    wide: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for folder in ("a", "b"):
        (tmp_path / folder).mkdir()
        noise = np.random.default_rng(len(folder)).uniform(-0.1, 0.1, (RATE, 2))
        soundfile.write(tmp_path / folder / "room mic.wav", noise, RATE, subtype="PCM_24")
    code, _ = run_json(
        capsys, "import", wide, tmp_path / "a" / "room mic.wav", tmp_path / "b" / "room mic.wav",
        "--name", "Rooms",
    )  # fmt: skip
    assert code == 0
    folder_ = SessionFolder.open(wide, read_only=True)
    take = folder_.load().take("Rooms")
    folder_.close()
    assert [part[0].pair for part in take.parts] == ["room mic", "room mic 2"]
    assert all(len(part) == 2 for part in take.parts)


def test_two_tracks_where_they_are_asked_for(
    wide: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    code, data = run_json(
        capsys, "record", wide, "--seconds", "1", "--fast", "--seed", "4", "--stereo", "two"
    )
    assert code == 0
    assert data["pairs_apart"] is True
    folder = SessionFolder.open(wide, read_only=True)
    session = folder.load()
    rows = mix_rows(session, session.take(data["take"]))
    assert [(row.name, row.heard.pan) for row in rows if row.side] == [
        ("Modeled left", -1.0), ("Modeled right", 1.0),
    ]  # fmt: skip
    folder.close()


def test_a_side_that_is_punched_stays_a_side(
    wide: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    code, data = run_json(
        capsys, "record", wide, "--over", "t0001", "--range", "1-1", "--punch", "--track",
        "Modeled right", "--fast", "--seed", "6",
    )  # fmt: skip
    assert code == 0
    folder = SessionFolder.open(wide, read_only=True)
    take = folder.load().take(data["take"])
    folder.close()
    assert sorted(len(part) for part in take.parts) == [1, 2]
    left, right = next(part for part in take.parts if len(part) == 2)
    assert (left.file[6:11], right.file[6:11]) == ("t0001", data["take"])


def test_what_two_sides_are_called(wide: Path) -> None:
    folder = SessionFolder.open(wide, read_only=True)
    session = folder.load()
    folder.close()
    armed = armed_tracks(session, look_at(session))
    assert sorted(sides_of(armed).values()) == [("Modeled", "left"), ("Modeled", "right")]
    renamed = [
        replace(one, name={"Modeled left": "Lamp", "Modeled right": "Moth"}.get(one.name, one.name))
        for one in armed
    ]
    assert {name for name, _ in sides_of(renamed).values()} == {"Lamp and Moth"}
    assert sides_of(armed[:1]) == {}


@pytest.mark.parametrize("house", ["as_it_plays", "typical_level"])
def test_the_sides_of_a_pair_are_no_two_tones_to_a_house(wide: Path, house: str) -> None:
    """As one track or as two: they belong apart, whatever the house does with two tones."""
    folder = SessionFolder.open(wide, read_only=True)
    session = folder.load()
    folder.close()
    session = session.model_copy(
        update={"takes": (session.takes[0].model_copy(update={"keeper": True}),)}
    )
    practice = next(one for one in SHIPPED if one.id == house)

    for apart in (False, True):
        now = take_edits.pairs_apart(session.takes[0].id, apart)(session)
        assert [one.id for one in departures(now, practice=practice) if one.id == "tones"] == []
