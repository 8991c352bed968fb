"""One time and polarity reference per take: passes keep to it, files never change."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

from diaulos.__main__ import main
from diaulos.errors import EditError
from diaulos.session import edits
from diaulos.session.model import Against
from diaulos.signal.delay import find_alignment
from diaulos.storage.folder import SessionFolder
from diaulos.work.reamp.reference import find_reference
from support import RATE

PLAIN = ("--no-slate", "--json")


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A take of a dry DI and two modeled tracks, reamped once through a box and an amplifier."""
    where = tmp_path_factory.mktemp("ref") / "s.diaulos"
    for words in (
        ["new", str(where)],
        ["rig", str(where), "--add", "modeler-usb", "--current"],
        ["record", str(where), "--seconds", "6", "--seed", "4", "--name", "One"],
        ["rig", str(where), "--add", "reamp-box", "--name", "Out", "--current"],
        ["reamp", str(where), "--take", "One", "--rig", "Out", "--no-slate"],
    ):
        assert main(words) == 0, words
    return where


@pytest.fixture
def copy(made: Path, tmp_path: Path) -> Path:
    import shutil

    path = tmp_path / "s.diaulos"
    shutil.copytree(made, path)
    return path


def run(capsys: pytest.CaptureFixture[str], *words: str) -> dict[str, object]:
    capsys.readouterr()
    assert main([*words, "--json"]) == 0, words
    return json.loads(capsys.readouterr().out)


def test_an_exported_pass_is_in_time_with_the_modeled_track_and_turned_like_it(
    copy: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Seen: 70 samples early, and inverted to it."""
    take = SessionFolder.open(copy, read_only=True).load().take("One")
    modeled = next(track for track in take.tracks if track.tap == "modeled")
    track, _ = soundfile.read(copy / modeled.file)
    by_di = tmp_path / "di.wav"
    run(capsys, "export", str(copy), str(by_di), "--take", "One", "--pass", "p01")
    told = run(capsys, "reference", str(copy), "--take", "One", "--track", modeled.name)
    assert told["reference"] == modeled.id
    assert told["passes"][0]["confidence"] >= 0.8
    by_track = tmp_path / "track.wav"
    out = run(capsys, "export", str(copy), str(by_track), "--take", "One", "--pass", "p01")
    assert out["reference"] == modeled.id
    found = {}
    for name, path in (("di", by_di), ("track", by_track)):
        exported, _ = soundfile.read(path)
        found[name] = find_alignment(track, exported, float(RATE), within=(-600.0, 600.0))
    assert abs(found["track"].delay_samples) < 0.5
    assert found["track"].polarity == 1
    off = abs(found["di"].delay_samples) > 5.0 or found["di"].polarity < 0
    assert off, "what the reference is for"


def test_the_reference_is_chosen_once_and_goes_back_to_the_di(
    copy: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    before = SessionFolder.open(copy, read_only=True).load().take("One")
    modeled = next(track for track in before.tracks if track.tap == "modeled")
    run(capsys, "reference", str(copy), "--take", "One", "--track", modeled.name)
    made = run(capsys, "reamp", str(copy), "--take", "One", "--rig", "Out", "--no-slate")
    assert made["reference"] == modeled.id, "a new pass keeps to it"
    held = SessionFolder.open(copy, read_only=True).load().take("One")
    first, second = held.passes
    one, other = (each.placed(each.main) for each in (first, second))
    assert abs(one.delay_samples - other.delay_samples) < 0.5
    by_the_di = before.passes[0].main.alignment.delay_samples
    assert made["delay_samples"] == pytest.approx(by_the_di, abs=0.5)
    told = run(capsys, "reference", str(copy), "--take", "One", "--track", "DI")
    assert told["reference_name"] == "DI"
    back = SessionFolder.open(copy, read_only=True).load().take("One")
    assert back.reference == ""
    assert back.passes[0].main.found == back.passes[0].main.alignment
    assert main(["reference", str(copy), "--take", "One", "--track", "Nobody"]) == 1


def test_a_pass_that_came_while_the_reference_changed_says_that_it_is_not_measured(
    copy: Path,
) -> None:
    folder = SessionFolder.open(copy, read_only=True)
    session = folder.load()
    take = session.take("One")
    one = take.passes[0]
    chosen = edits.set_reference(take.id, take.tracks[0].id, {})(session)
    placed = chosen.take("One").passes[0].main.found
    assert placed == one.main.alignment, "by the DI until it is measured"
    late = edits.add_pass(take.id, one.model_copy(update={"id": "p99"}), session.rig())(chosen)
    added = late.take("One").pass_("p99")
    assert added.main.against == Against(
        track_id=take.tracks[0].id,
        refused="Not measured against it yet: choose the reference again.",
    )
    plain = edits.set_reference(take.id, "", {})(late)
    assert plain.take("One").pass_("p99").main.against is None


def test_what_is_not_the_same_performance_stays_by_the_di(copy: Path) -> None:
    folder = SessionFolder.open(copy)
    session = folder.load()
    take = session.take("One")
    other = take.tracks[0]
    noise = np.random.default_rng(3).normal(size=other.frames) * 0.1
    soundfile.write(copy / "audio" / "noise.wav", noise, RATE, subtype="PCM_24")
    track = other.model_copy(update={"id": "k09", "name": "Room", "file": "audio/noise.wav"})
    take = take.model_copy(update={"tracks": (*take.tracks, track)})
    found = find_reference(take, "k09", folder)
    (against,) = found.returns.values()
    assert against.alignment is None
    assert against.refused
    assert "0 of 1" in found.words
    with pytest.raises(EditError):
        find_reference(take, "k77", folder)
    folder.close()
