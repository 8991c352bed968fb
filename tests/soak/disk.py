"""Full disks: every write of a session at every amount of room left. What was saved stays
whole, the error says what to do, and with room again it works.

On a small tmpfs where mounting is allowed, else with a limit on the size of files.
"""

from __future__ import annotations

import contextlib
import os
import resource
import shutil
import signal
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

import numpy as np

from diaulos.errors import StorageError
from diaulos.rig.templates import build
from diaulos.session.edits import set_info
from diaulos.session.model import Session, Take, Track
from diaulos.session.take_edits import discard_take
from diaulos.signal.overview import build_overview
from diaulos.storage.folder import SessionFolder
from diaulos.storage.session_file import read_session
from diaulos.work.ports import FileNotes
from diaulos.work.takes.keeping import delete_binned, save_session

RATE = 48_000
NOON = datetime(2026, 5, 9, 12, 0, 0)
ROOM = (0, 1, 4_096, 16_384, 65_536, 131_072, 400_000, 4_000_000)
"""Bytes that are left on the disk, or that a file may grow to."""


def session_of() -> Session:
    """Large enough that a save needs some room."""
    track = Track(id="k01", name="DI", tap="di", file="audio/t0001_k01.wav", frames=RATE,
                  peak_dbfs=-6.0)  # fmt: skip
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=(track,))
    rigs = tuple(build("hybrid", f"rig{n:02d}") for n in range(1, 4))
    return Session(id="s", name="Test", sample_rate_hz=RATE, rigs=rigs, current_rig="rig01",
                   takes=(take,))  # fmt: skip


def _record(folder: SessionFolder) -> None:
    sink = folder.create_audio("audio/t0009_k01.wav", RATE, 1, "24", FileNotes("", NOON))
    try:
        for _ in range(20):
            sink.write(np.full(RATE // 4, 0.25, np.float32))
        sink.close()
    except BaseException:
        with contextlib.suppress(StorageError):
            sink.close()  # what was written is kept
        raise


def _empty_bin(folder: SessionFolder) -> None:
    saved = folder.load()
    if not saved.takes:
        return  # done before
    session = discard_take("t0001")(saved)
    emptied = session.model_copy(update={"take_bin": ()})
    delete_binned(folder, emptied, session.binned_files())


OPERATIONS: dict[str, Callable[[SessionFolder], object]] = {
    "save": lambda f: save_session(f, set_info(tempo_bpm=99.0)(f.load())),
    "journal": lambda f: f.write_journal(set_info(tempo_bpm=98.0)(f.load())),
    "note": lambda f: f.note_recording("t0009", "x" * 50_000),
    "record": _record,
    "sheet": lambda f: f.write_sheet("a.csv", "y" * 60_000),
    "overview": lambda f: f.keep_overview(
        "audio/t0001_k01.wav", build_overview(iter([np.zeros(RATE, np.float32)]))
    ),
    "empty bin": _empty_bin,
    "open again": lambda f: None,
}


@contextlib.contextmanager
def small_disk(place: Path) -> Iterator[bool]:
    """A tmpfs of 8 MB at a place; False where that is not allowed."""
    place.mkdir()
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=8m", "diaulos-soak", str(place)],
        capture_output=True, check=False,
    ) if os.geteuid() == 0 and shutil.which("mount") else None  # fmt: skip
    mounted = done is not None and done.returncode == 0
    try:
        yield mounted
    finally:
        if mounted:
            subprocess.run(["umount", "-l", str(place)], capture_output=True, check=False)


@contextlib.contextmanager
def room_left(place: Path, room: int, mounted: bool) -> Iterator[None]:
    """So much room and no more, until the block ends."""
    if not mounted:
        before = resource.getrlimit(resource.RLIMIT_FSIZE)
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (room, before[1]))
        try:
            yield
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, before)
        return
    ballast = place / "ballast"
    free = shutil.disk_usage(place).free
    with open(ballast, "wb") as file, contextlib.suppress(OSError):
        file.write(bytes(max(0, free - room)))
        file.flush()
    try:
        yield
    finally:
        ballast.unlink()


def _one(place: Path, name: str, room: int, mounted: bool) -> str:
    """ "" where all holds."""
    path = place / "S.diaulos"
    shutil.rmtree(path, ignore_errors=True)
    session = session_of()
    folder = SessionFolder.create(path, session)
    sink = folder.create_audio("audio/t0001_k01.wav", RATE, 1, "24", FileNotes("", NOON))
    sink.write(np.zeros(RATE, np.float32))
    sink.close()
    if name == "open again":
        folder.close()
    said = ""
    with room_left(place, room, mounted):
        try:
            if name == "open again":
                folder = SessionFolder.open(path)  # its text in the lock is for people
                folder.load()
            OPERATIONS[name](folder)
        except StorageError as error:
            said = str(error)
            if not error.remedy:
                return "no remedy"
        saved = read_session(path / "session.json")
        for file in saved.used_files():
            if not (path / file).is_file():
                return f"the saved session names {file}, which is gone"
    if name != "open again":
        with contextlib.suppress(FileNotFoundError):
            (path / "audio" / "t0009_k01.wav").unlink()
        OPERATIONS[name](folder)  # with room again it works
    read_session(path / "session.json")
    folder.close()
    left = [one.name for one in path.rglob(".*.part")]
    if left:
        return f"left behind: {left} ({said})"
    if room == 0 and not said and name in ("save", "record", "journal", "sheet"):
        return "a full disk was not told"
    return ""


def run(part: int = 1) -> tuple[str, int]:
    """Every operation at every `part`-th amount of room."""
    failures: list[str] = []
    count = 0
    with tempfile.TemporaryDirectory(prefix="diaulos-soak-") as name:
        place = Path(name) / "disk"
        with small_disk(place) as mounted:
            for operation in OPERATIONS:
                for room in ROOM[::part]:
                    count += 1
                    try:
                        what = _one(place, operation, room, mounted)
                    except BaseException as error:
                        what = f"{type(error).__name__}: {error}"
                    if what:
                        failures.append(f"{operation} with {room} bytes: {what}")
    how = "on a small tmpfs" if mounted else "with a limit on the size of files"
    line = f"disk: {count} writes {how}; {len(failures)} not held"
    return "\n".join([line, *failures[:20]]), len(failures)
