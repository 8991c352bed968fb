"""A session built by a script: new, arrangements, rig, instrument, import."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from test_cli import documented, run, run_json

from diaulos.rig.checks import Severity
from diaulos.rig.templates import TEMPLATES
from diaulos.storage.folder import SessionFolder
from diaulos.work.rigs.look import look_at
from support import RATE


@pytest.fixture
def folder(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> Path:
    code, data = run_json(capsys, "new", tmp_path / "Shore", "--rate", "44100", "--tempo", "90")
    assert code == 0
    assert set(data) == documented("new")
    return Path(data["session"])


def test_a_new_session_is_not_made_over_another(
    capsys: pytest.CaptureFixture[str], folder: Path
) -> None:
    assert folder.name == "Shore.diaulos"
    session = SessionFolder.open(folder, read_only=True).load()
    assert (session.sample_rate_hz, session.tempo_bpm) == (44_100, 90.0)
    code, _, words = run(capsys, "new", folder)
    assert code == 1
    assert "there is a session already" in words
    code, _, words = run(capsys, "new", folder.parent / "Other", "--word", "16")
    assert code == 1
    assert "no word length" in words


def test_arrangements_say_what_they_are_for(capsys: pytest.CaptureFixture[str]) -> None:
    code, data = run_json(capsys, "arrangements")
    assert code == 0
    assert set(data) == documented("arrangements")
    rows = {row["id"]: row for row in data["arrangements"]}
    assert set(rows) == set(TEMPLATES)
    assert (rows["hybrid"]["records"], rows["hybrid"]["reamps"]) == (True, False)
    assert (rows["reamp-box"]["records"], rows["reamp-box"]["reamps"]) == (False, True)
    assert rows["bass"]["name"] == TEMPLATES["bass"].name


def test_rigs_and_instruments_are_added(capsys: pytest.CaptureFixture[str], folder: Path) -> None:
    code, data = run_json(
        capsys, "instrument", folder, "--add", "bass", "--name", "Low", "--pickup", "active",
        "--tuning", "Bass, six strings",
    )  # fmt: skip
    assert code == 0
    assert set(data) == documented("instrument")
    assert data["instruments"][-1]["strings"] == ["B0", "E1", "A1", "D2", "G2", "C3"]
    code, data = run_json(
        capsys, "rig", folder, "--add", TEMPLATES["bass"].name, "--name", "Cellar",
        "--instrument", "Low",
    )  # fmt: skip
    assert code == 0
    assert set(data) == documented("rig")
    assert (data["name"], data["current"]) == ("Cellar", False)
    session = SessionFolder.open(folder, read_only=True).load()
    assert session.rig("Cellar").device("bass").word("instrument") == data_id(session, "Low")
    assert session.rig().name == "Reamp by box"
    for words, told in (
        (("--add", "bass", "--name", "Cellar"), "already a rig"),
        (("--add", "nothing"), "no template 'nothing'"),
        (("--add", "bass", "--instrument", "Nobody"), "no instrument 'Nobody'"),
        (("--add", "reamp-box", "--instrument", "Low"), "has no instrument"),
        (("--name", "x"), "want --add"),
    ):
        code, _, error = run(capsys, "rig", folder, *words)
        assert code == 1
        assert told in error
    for words, told in (
        (("--add", "harp", "--name", "x"), "unknown kind"),
        (("--add", "bass", "--name", "Low"), "already an instrument"),
        (("--add", "bass", "--name", "y", "--pickup", "x"), "unknown pickup"),
        (("--add", "bass", "--name", "y", "--tuning", "x"), "unknown tuning"),
        (("--add", "bass"), "wants --add KIND and --name"),
    ):
        code, _, error = run(capsys, "instrument", folder, *words)
        assert code == 1
        assert told in error


def data_id(session, name: str) -> str:  # type: ignore[no-untyped-def]
    return str(session.instrument(name).id)


def test_files_are_imported_as_takes(
    capsys: pytest.CaptureFixture[str], folder: Path, tmp_path: Path
) -> None:
    tone = 0.5 * np.sin(2 * np.pi * 220.0 * np.arange(RATE) / RATE)
    soundfile.write(str(tmp_path / "dry.wav"), tone, RATE)
    soundfile.write(str(tmp_path / "amp.wav"), np.stack([tone, 0.5 * tone], axis=1), RATE)
    code, data = run_json(capsys, "import", folder, tmp_path / "dry.wav", "--full-scale-dbu", "14")
    assert code == 0
    assert set(data) == documented("import")
    (track,) = data["tracks"]
    assert track["tap"] == "di"
    assert track["peak_dbfs"] == pytest.approx(-6.02, abs=0.1)
    assert "Resampled" in str(data["note"])
    code, data = run_json(
        capsys, "import", folder, tmp_path / "dry.wav", tmp_path / "amp.wav", "--name", "Both"
    )
    assert code == 0
    assert [one["tap"] for one in data["tracks"]] == ["di", "amp", "amp"]
    session = SessionFolder.open(folder, read_only=True).load()
    assert [take.name for take in session.takes] == ["dry", "Both"]
    assert session.takes[0].tracks[0].full_scale_dbu == 14.0
    code, _, words = run(capsys, "import", folder, tmp_path / "amp.wav", "--full-scale-dbu", "14")
    assert code == 1
    assert "single dry DI" in words
    code, _, words = run(capsys, "import", folder, tmp_path / "gone.wav")
    assert code == 1
    assert "gone.wav" in words


def test_each_channel_of_a_stereo_file_is_said_what_it_is(
    capsys: pytest.CaptureFixture[str], folder: Path, tmp_path: Path
) -> None:
    """Left wet, right dry, with the dry one's calibration."""
    tone = 0.5 * np.sin(2 * np.pi * 220.0 * np.arange(RATE) / RATE)
    path = tmp_path / "both.wav"
    soundfile.write(str(path), np.stack([0.5 * tone, tone], axis=1), RATE)
    verb = ("import", folder, path)
    code, data = run_json(capsys, *verb, "--as", "1=modeled", "--as", "2=di:12.5")
    assert code == 0
    assert [(one["tap"], one["full_scale_dbu"]) for one in data["tracks"]] == [
        ("modeled", None), ("di", 12.5),
    ]  # fmt: skip
    take = SessionFolder.open(folder, read_only=True).load().takes[0]
    assert take.sent.id == take.tracks[1].id
    for wrong, words in (
        ("3=di", "no track 3"), ("1=drums", "Taps: "), ("x", "says nothing"),
        ("1=di:loud", "no level"), ("1=di:900", "no plausible"),
    ):  # fmt: skip
        code, _, told = run(capsys, *verb, "--as", wrong)
        assert code == 1, wrong
        assert words in told


@pytest.mark.parametrize("tone", ["none", "modeler", "load", "microphone"])
@pytest.mark.parametrize("plays", ["guitar", "bass"])
def test_a_session_begins_with_what_plays(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], plays: str, tone: str
) -> None:
    """The instrument's own entry is plugged in, gains are set, and nobody caused a finding."""
    code, made = run_json(capsys, "new", tmp_path / "S", "--plays", plays, "--tone", tone)
    assert code == 0
    assert len(made["rigs"]) == (1 if tone == "none" else 2)
    folder = SessionFolder.open(Path(made["session"]))
    session = folder.load()
    folder.close()
    rig = session.rig(session.recording_rig)
    (instrument,) = session.instruments
    assert [d.word("instrument") for d in rig.devices if d.kind == "instrument"] == [instrument.id]
    report = look_at(session, rig.id)
    assert [one for one in report.findings if one.severity > Severity.NOTE] == []
    assert all(plan.unclipped_dbfs is not None for plan in report.tracks)
