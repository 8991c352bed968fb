"""Session folders and files from strangers: nothing outside is touched, nothing waits, nothing
is read without a limit, and what is wrong is said in words."""

from __future__ import annotations

import contextlib
import json
import os
import socket
import struct
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile

from diaulos.errors import (
    AudioFileError,
    DiaulosError,
    InputError,
    SessionFileError,
    SessionLockedError,
    StorageError,
)
from diaulos.rig.templates import build
from diaulos.session.edits import set_info
from diaulos.session.model import Session
from diaulos.signal.overview import build_overview
from diaulos.storage import beside, lock
from diaulos.storage.audiofile import audio_info
from diaulos.storage.bwf import Bext, WavWriter
from diaulos.storage.folder import SessionFolder
from diaulos.storage.session_file import read_session
from diaulos.work.ports import FileNotes
from support import NOON, RATE


def session_of(name: str = "Test") -> Session:
    return Session(
        id="s", name=name, sample_rate_hz=RATE, rigs=(build("hybrid", "rig01"),),
        current_rig="rig01",
    )  # fmt: skip


@pytest.fixture
def folder(tmp_path: Path) -> Iterator[SessionFolder]:
    made = SessionFolder.create(tmp_path / "S", session_of())
    yield made
    made.close()


@pytest.fixture
def prey(tmp_path: Path) -> Path:
    """A file of the person's that a stranger's folder points at."""
    path = tmp_path / "letter.txt"
    path.write_text("dear reader")
    return path


# --- links ---

PARTS = (
    ".session.json.part", ".session.previous.json.part", ".journal.json.part",
    ".session.yours.json.part", "session.previous.json", "journal.json",
)  # fmt: skip


@pytest.mark.parametrize("name", PARTS)
def test_no_write_follows_a_link_out_of_the_folder(
    folder: SessionFolder, prey: Path, name: str
) -> None:
    (folder.path / name).unlink(missing_ok=True)
    (folder.path / name).symlink_to(prey)
    folder.write_journal(set_info(tempo_bpm=90.0)(session_of()))
    folder.save(set_info(tempo_bpm=91.0)(session_of()))
    folder.save(set_info(tempo_bpm=92.0)(session_of()))
    assert prey.read_text() == "dear reader"
    assert folder.load().tempo_bpm == 92.0


@pytest.mark.parametrize(
    ("name", "write"),
    [
        ("audio/.t0001.recording.json.part", lambda f: f.note_recording("t0001", "{}")),
        ("audio/t0001.recording.json", lambda f: f.note_recording("t0001", "{}")),
        ("sheets/.a.csv.part", lambda f: f.write_sheet("a.csv", "x")),
    ],
)
def test_neither_do_notes_and_sheets(
    folder: SessionFolder, prey: Path, name: str, write: object
) -> None:
    (folder.path / name).symlink_to(prey)
    with contextlib.suppress(SessionFileError):  # refused: it leads out of the folder
        write(folder)  # type: ignore[operator]
    assert prey.read_text() == "dear reader"


def test_an_overview_follows_no_link(folder: SessionFolder, prey: Path) -> None:
    soundfile.write(str(folder.path / "audio" / "a.wav"), np.zeros(5_000), RATE)
    there = folder.path / "overviews"
    there.mkdir()
    overview = build_overview(iter([np.zeros(5_000, np.float32)]))
    folder.keep_overview("audio/a.wav", overview)
    (kept,) = there.glob("*.npy")
    kept.unlink()
    (there / f".{kept.name}.part").symlink_to(prey)
    kept.symlink_to(prey)
    assert folder.kept_overview("audio/a.wav") is None
    folder.keep_overview("audio/a.wav", overview)
    assert prey.read_text() == "dear reader"
    assert not kept.is_symlink()


def test_audio_is_never_written_through_a_link(folder: SessionFolder, prey: Path) -> None:
    (folder.path / "audio" / "t0001_k01.wav").symlink_to(prey)
    with pytest.raises(DiaulosError):
        folder.create_audio("audio/t0001_k01.wav", RATE, 1, "24", FileNotes("", NOON))
    dangling = folder.path / "audio" / "t0002_k01.wav"
    dangling.symlink_to(prey.with_name("not yet"))
    with pytest.raises(DiaulosError):
        folder.create_audio("audio/t0002_k01.wav", RATE, 1, "24", FileNotes("", NOON))
    assert prey.read_text() == "dear reader"
    assert not prey.with_name("not yet").exists()


def test_a_linked_session_file_is_not_read(folder: SessionFolder, tmp_path: Path) -> None:
    real = tmp_path / "elsewhere.json"
    (folder.path / "session.json").rename(real)
    (folder.path / "session.json").symlink_to(real)
    with pytest.raises(SessionFileError, match="a link"):
        folder.load()


# --- what is no file ---

STRANGE = ("fifo", "folder", "socket", "device")


def put(path: Path, kind: str) -> None:
    path.unlink(missing_ok=True)
    if kind == "fifo":
        os.mkfifo(path)
    elif kind == "folder":
        path.mkdir()
    elif kind == "socket":
        with socket.socket(socket.AF_UNIX) as made:
            here = Path.cwd()
            os.chdir(path.parent)  # the name of a socket is short
            made.bind(path.name)
            os.chdir(here)
    else:
        path.symlink_to("/dev/zero")


@pytest.mark.parametrize("kind", STRANGE)
def test_a_lock_that_is_no_file_is_told_at_once(tmp_path: Path, kind: str) -> None:
    made = SessionFolder.create(tmp_path / "S", session_of())
    made.close()
    put(made.path / "lock", kind)
    with pytest.raises(DiaulosError) as caught:
        SessionFolder.open(made.path)
    assert caught.value.remedy
    assert SessionFolder.open(made.path, read_only=True).load().name == "Test"


@pytest.mark.parametrize("kind", STRANGE)
@pytest.mark.parametrize("name", ["journal.json", "audio/t0009.recording.json"])
def test_neither_hang_journal_and_notes(folder: SessionFolder, name: str, kind: str) -> None:
    put(folder.path / name, kind)
    assert folder.journal() is None
    assert all(text == "" for text in folder.recordings().values())


@pytest.mark.parametrize("kind", STRANGE)
@pytest.mark.parametrize("name", [".session.json.part", ".journal.json.part"])
def test_neither_hang_temporary_files(folder: SessionFolder, name: str, kind: str) -> None:
    put(folder.path / name, kind)
    later = set_info(tempo_bpm=77.0)(session_of())
    write = folder.save if "session" in name else folder.write_journal
    if kind == "folder":  # it cannot be made way for, and is told
        with pytest.raises(StorageError) as caught:
            write(later)
        assert caught.value.remedy
        return
    write(later)
    kept = folder.load() if "session" in name else folder.journal()
    assert kept == later


@pytest.mark.parametrize("kind", STRANGE)
def test_a_session_file_that_is_none(folder: SessionFolder, kind: str) -> None:
    put(folder.path / "session.json", kind)
    with pytest.raises(SessionFileError):
        read_session(folder.path / "session.json")


def test_a_file_without_end_is_not_read_to_its_end(
    folder: SessionFolder, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(beside, "MOST_BYTES", 10_000)
    (folder.path / "journal.json").write_bytes(b" " * 20_000)
    assert folder.journal() is None
    with pytest.raises(SessionFileError, match="at most"):
        read_session(folder.path / "journal.json")


# --- numbers and nesting ---

HOSTILE = {
    "a number of 10,000 digits": '{"schema_version": ' + "9" * 10_000 + "}",
    "a name of digits": '{"schema_version": 5, "tempo_bpm": ' + "1" * 5_000 + "}",
    "deep brackets": '{"schema_version": 1, "rigs": ' + "[" * 100_000 + "]" * 100_000 + "}",
    "deep objects": '{"a":' * 50_000 + "1" + "}" * 50_000,
    "an old version of nonsense": '{"schema_version": 1, "instruments": {"a": 1}, "rigs": "x"}',
    "an old version with wrong lists": '{"schema_version": 3, "rigs": [1, {"devices": [2, {"paths"'
    ': [3, {"stages": [4, {"kind": "adc", "noise_dbu": {}}]}]}]}], "snapshots": [1]}',
    "bytes": "\x00\x01\x02",
    "a list": "[1, 2]",
    "nothing": "",
    "infinity": '{"schema_version": 5, "id": "s", "name": "x", "sample_rate_hz": Infinity}',
}


@pytest.mark.parametrize("name", HOSTILE, ids=lambda name: name.replace(" ", "_"))
def test_what_is_no_session_is_told_in_words(tmp_path: Path, name: str) -> None:
    path = tmp_path / "session.json"
    path.write_text(HOSTILE[name])
    with pytest.raises(SessionFileError) as caught:
        read_session(path)
    assert caught.value.where == str(path)


@pytest.mark.parametrize("name", HOSTILE, ids=lambda name: name.replace(" ", "_"))
def test_a_note_of_it_stops_no_other_recovery(folder: SessionFolder, name: str) -> None:
    from diaulos.work.reamp.recovery import Remains, bring_back, remains_of

    (folder.path / "audio" / "t0007.recording.json").write_text(HOSTILE[name])
    found = remains_of(folder.load(), folder)
    assert found.takes == ("t0007",)
    recovery = bring_back(folder.load(), folder, Remains(found.takes, (), ()))
    assert recovery.edits == ()
    (problem,) = recovery.failed
    assert isinstance(problem, InputError)
    assert "damaged" in problem.what
    assert "t0007" in str(recovery.problem)


@pytest.mark.parametrize("text", ["a\nb", "a\x00b", "a\x1b[31mb", "tab\there", "line\u2028two"])
def test_names_refuse_control_characters(tmp_path: Path, text: str) -> None:
    data = session_of().model_dump(mode="json")
    data["name"] = text
    path = tmp_path / "session.json"
    path.write_text(json.dumps(data))
    with pytest.raises(SessionFileError, match="name"):
        read_session(path)


# --- the lock ---

HOLDER = """
import sys
from pathlib import Path
from diaulos.storage.folder import SessionFolder
folder = SessionFolder.open(Path(sys.argv[1]))
print("open", flush=True)
sys.stdin.readline()
"""


@pytest.fixture
def held(tmp_path: Path) -> Iterator[tuple[Path, subprocess.Popen[str]]]:
    """A session that another process has open."""
    made = SessionFolder.create(tmp_path / "S", session_of())
    made.close()
    process = subprocess.Popen(
        [sys.executable, "-c", HOLDER, str(made.path)], stdin=subprocess.PIPE,
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert process.stdout is not None
    process.stdout.readline()
    yield made.path, process
    process.kill()
    process.communicate()


def test_a_living_holder_keeps_others_out(held: tuple[Path, subprocess.Popen[str]]) -> None:
    path, process = held
    with pytest.raises(SessionLockedError) as caught:
        SessionFolder.open(path)
    assert caught.value.pid == process.pid
    assert not caught.value.foreign
    SessionFolder.break_lock(path)  # of another machine only
    with pytest.raises(SessionLockedError):
        SessionFolder.open(path)


def test_a_killed_holder_keeps_nobody_out(held: tuple[Path, subprocess.Popen[str]]) -> None:
    path, process = held
    process.kill()
    process.wait()
    assert (path / "lock").exists()
    folder = SessionFolder.open(path)
    folder.close()
    assert not (path / "lock").exists()


@pytest.mark.parametrize(
    "text",
    [
        "{own} {host}\n",  # its number lives: ours
        "1 {host} another-start 123\n",  # another process by that number
        "4194000 renamed-machine {boot} 1\n",  # the machine got another name
        "0 other-machine x y\n", "-1 other-machine x y\n", "9" * 20 + " other-machine x y\n",
        "", "\x00\xff\n", "nonsense",
    ],
)  # fmt: skip
def test_a_stale_lock_keeps_nobody_out(tmp_path: Path, text: str) -> None:
    made = SessionFolder.create(tmp_path / "S", session_of())
    made.close()
    own = {"own": os.getpid(), "host": socket.gethostname(), "boot": lock.boot_id()}
    (made.path / "lock").write_text(text.format(**own))
    folder = SessionFolder.open(made.path)
    assert (made.path / "lock").read_text() == lock.own_text()
    folder.close()


def test_a_lock_of_another_machine_is_taken_over_only_by_a_person(tmp_path: Path) -> None:
    made = SessionFolder.create(tmp_path / "S", session_of())
    made.close()
    (made.path / "lock").write_text("812 boathouse 0000-1111 99\n")
    with pytest.raises(SessionLockedError) as caught:
        SessionFolder.open(made.path)
    assert caught.value.foreign
    assert "boathouse" in str(caught.value)
    SessionFolder.break_lock(made.path)
    SessionFolder.open(made.path).close()


def test_a_lock_file_that_was_removed_lets_nobody_overwrite_anything(tmp_path: Path) -> None:
    """Two hold what they take for the lock: the second save finds the first, and keeps both."""
    one = SessionFolder.create(tmp_path / "S", session_of())
    (one.path / "lock").unlink()
    other = SessionFolder.open(one.path)
    mine = other.load()
    one.save(set_info(name="One")(session_of()))
    with pytest.raises(StorageError, match="another program has saved") as caught:
        other.save(set_info(name="Other")(mine))
    assert "session.yours.json" in str(caught.value)
    assert read_session(one.path / "session.json").name == "One"
    assert read_session(one.path / "session.yours.json").name == "Other"
    with pytest.raises(StorageError):
        other.save(session_of(name="Other, later"))
    assert read_session(one.path / "session.yours.json").name == "Other, later"
    # Another sitting's version has a place of its own.
    (one.path / "lock").unlink()
    third = SessionFolder.open(one.path)
    third.load()
    one.save(session_of(name="One, later"))
    with pytest.raises(StorageError):
        third.save(session_of(name="Third"))
    assert read_session(one.path / "session.yours2.json").name == "Third"
    for holder in (third, other, one):
        holder.close()


def test_what_is_set_aside_never_takes_the_place_of_what_was(tmp_path: Path) -> None:
    made = SessionFolder.create(tmp_path / "S", session_of())
    for name in ("First", "Second"):
        made.write_journal(session_of(name=name))
        made.set_journal_aside()
    assert read_session(made.path / "journal.kept.json").name == "First"
    assert read_session(made.path / "journal.kept2.json").name == "Second"
    made.close()


def test_closing_leaves_another_ones_lock_alone(tmp_path: Path) -> None:
    one = SessionFolder.create(tmp_path / "S", session_of())
    (one.path / "lock").unlink()
    other = SessionFolder.open(one.path)
    one.close()
    assert (one.path / "lock").exists()
    other.close()
    assert not (one.path / "lock").exists()


# --- disks that cannot do everything ---


def test_a_disk_without_second_names_is_saved_to(
    folder: SessionFolder, monkeypatch: pytest.MonkeyPatch
) -> None:
    """exFAT, FAT and some shares know no hard links (EPERM there)."""

    def no_link(*_: object, **__: object) -> None:
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr(os, "link", no_link)
    folder.save(set_info(tempo_bpm=91.0)(session_of()))
    folder.save(set_info(tempo_bpm=92.0)(session_of()))
    assert read_session(folder.path / "session.previous.json").tempo_bpm == 91.0
    assert folder.load().tempo_bpm == 92.0


def test_a_folder_that_is_gone_is_told(folder: SessionFolder, tmp_path: Path) -> None:
    folder.path.rename(tmp_path / "Elsewhere.diaulos")
    assert folder.gone
    for what in (
        lambda: folder.save(session_of()), lambda: folder.write_journal(session_of()),
        folder.free_bytes, lambda: folder.note_recording("t0001", "{}"),
    ):  # fmt: skip
        with pytest.raises(StorageError) as caught:
            what()
        assert caught.value.remedy


# --- the demo ---


def test_fresh_deletes_nothing_but_an_unlocked_demo(tmp_path: Path, demo_copy: Path) -> None:
    from diaulos.demo.saltmarsh import remove_demo

    mine = SessionFolder.create(tmp_path / "Mine", session_of())
    with pytest.raises(SessionLockedError):
        remove_demo(mine.path)
    mine.close()
    with pytest.raises(StorageError, match="somebody's"):
        remove_demo(mine.path)
    assert SessionFolder.open(mine.path, read_only=True).load().name == "Test"
    plain = tmp_path / "Plain.diaulos"
    plain.mkdir()
    (plain / "letter.txt").write_text("dear reader")
    with pytest.raises(SessionFileError):
        remove_demo(plain)
    assert (plain / "letter.txt").exists()
    holder = SessionFolder.open(demo_copy)
    with pytest.raises(SessionLockedError):
        remove_demo(demo_copy)
    holder.close()
    remove_demo(demo_copy)
    assert not demo_copy.exists()


# --- headers ---


def wav(path: Path, **fields: int) -> Path:
    """A small WAV with a header that says something else."""
    writer = WavWriter(path, RATE, 1, "24", Bext())
    writer.write(np.zeros(1_000))
    writer.close()
    data = bytearray(path.read_bytes())
    at = data.index(b"fmt ")
    if "rate" in fields:
        struct.pack_into("<I", data, at + 12, fields["rate"])
    if "channels" in fields:
        struct.pack_into("<H", data, at + 10, fields["channels"])
    if "length" in fields:  # RF64 with a length near the end of all numbers
        data[:4] = b"RF64"
        struct.pack_into("<I", data, 4, 0xFFFFFFFF)
        data[12:16] = b"ds64"
        struct.pack_into("<QQQI", data, 20, fields["length"], fields["length"], 1, 0)
        where = data.index(b"data")
        struct.pack_into("<I", data, where + 4, 0xFFFFFFFF)
    path.write_bytes(bytes(data))
    return path


@pytest.mark.parametrize(
    "fields",
    [
        {"rate": 8}, {"rate": 0}, {"rate": 2**31}, {"channels": 0}, {"channels": 60_000},
        {"length": 2**64 - 1}, {"length": 2**64 - 7}, {"length": 2**63},
    ],
)  # fmt: skip
def test_a_header_that_cannot_be_is_told(tmp_path: Path, fields: dict[str, int]) -> None:
    with pytest.raises(AudioFileError) as caught:
        audio_info(wav(tmp_path / "a.wav", **fields))
    assert "a.wav" in str(caught.value)


def test_a_pipe_is_no_audio(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "a.wav")
    with pytest.raises(AudioFileError):
        audio_info(tmp_path / "a.wav")
