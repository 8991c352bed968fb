"""Two sides that are the same: one track is enough."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from test_cli import run, run_json

from diaulos.storage.folder import SessionFolder
from diaulos.work.takes.proving import proving_of
from diaulos.work.takes.sides import same_sides, same_words
from support import RATE


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
