"""The session folder: open, save, lock, journal, recover.

    NAME.diaulos/
      session.json     the document, written beside, synced and renamed
      session.previous.json   what it was before the last save
      journal.json     edits since the last save, at least every 30 s and at each take
      lock             process id of the one who may write
      audio/ impulses/ sheets/
      overviews/       waveforms as drawn; may be thrown away

Sessions come from strangers: sizes are limited before reading, nothing is executed, and
no name leads out of the folder.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import socket
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from diaulos.errors import SessionFileError, SessionLockedError, StorageError
from diaulos.session.migrations import migrate
from diaulos.session.model import Session
from diaulos.signal.overview import Overview
from diaulos.storage.audiofile import AudioInfo, audio_info, read_blocks
from diaulos.storage.bwf import Bext, WavWriter, WordLength, coding_history_line, write_failed
from diaulos.storage.overviews import forget_overviews, load_overview, save_overview
from diaulos.work.ports import (
    AudioSink,
    AudioSource,
    CancelToken,
    ExternalSource,
    FileNotes,
    Progress,
    no_progress,
)

SUFFIX = ".diaulos"
MAX_SESSION_BYTES = 64 * 1024 * 1024
FOLDERS = ("audio", "impulses", "sheets")


@dataclass(frozen=True)
class FileSource:
    """An audio file as the use cases read it."""

    info: AudioInfo

    @property
    def rate_hz(self) -> int:
        return self.info.rate_hz

    @property
    def frames(self) -> int:
        return self.info.frames

    @property
    def channels(self) -> int:
        return self.info.channels

    @property
    def is_float(self) -> bool:
        return self.info.is_float

    @property
    def time_reference(self) -> int | None:
        return self.info.bext.time_reference if self.info.bext is not None else None

    def blocks(
        self, *, first: int = 0, count: int | None = None, block: int = 65_536
    ) -> Iterator[NDArray[np.float32]]:
        return read_blocks(self.info, first=first, count=count, block=block)


def make_bext(notes: FileNotes, rate_hz: int, channels: int, word: str) -> Bext:
    """The bext chunk for a new file."""
    return Bext(
        description=notes.description,
        origination_date=notes.made_at.strftime("%Y-%m-%d"),
        origination_time=notes.made_at.strftime("%H:%M:%S"),
        time_reference=notes.time_reference,
        coding_history=coding_history_line(
            rate_hz,
            "24" if word == "24" else "float",
            channels,
            f"Diaulos; {notes.history}" if notes.history else "Diaulos",
        ),
    )


class ExternalAudio:
    """Audio files outside the session, by path."""

    def open(self, path: Path) -> ExternalSource:
        return FileSource(audio_info(path))

    def create(
        self, path: Path, rate_hz: int, channels: int, word: str, notes: FileNotes, replace: bool
    ) -> AudioSink:
        if path.exists() and not replace:
            raise StorageError(
                "the file exists already.",
                where=str(path),
                remedy="Choose another name, or allow it to be replaced.",
            )
        beside = path.with_name(f".{path.name}.{os.getpid()}.part")
        beside.unlink(missing_ok=True)
        kind: WordLength = "24" if word == "24" else "float"
        writer = WavWriter(
            beside, rate_hz, channels, kind, make_bext(notes, rate_hz, channels, word)
        )
        return _RenamedOnClose(writer, path)


class _RenamedOnClose:
    """A file that appears under its name only when it is whole."""

    def __init__(self, writer: WavWriter, path: Path) -> None:
        self._writer, self._path = writer, path

    @property
    def frames(self) -> int:
        return self._writer.frames

    @property
    def clipped_samples(self) -> int:
        return self._writer.clipped_samples

    def write(self, samples: NDArray[Any]) -> None:
        self._writer.write(samples)

    def close(self) -> None:
        self._writer.close()
        try:
            self._writer.path.replace(self._path)
        except OSError as error:
            raise write_failed(self._path, error) from error

    def abandon(self) -> None:
        self._writer.abandon()


OVERVIEWS = "overviews"
"""A folder that can be thrown away: everything in it is worked out anew."""
RECORDING = ".recording.json"
"""Ends the name of a note on a recording in progress."""


class SessionFolder:
    """A session's folder on disk; holds the lock when it may write."""

    def __init__(self, path: Path, *, read_only: bool) -> None:
        self.path = path
        self.read_only = read_only
        self._write_lock = threading.Lock()

    # --- opening ---

    @staticmethod
    def create(path: Path, session: Session) -> SessionFolder:
        """A new session folder; refuses a folder that holds one already."""
        path = _with_suffix(path)
        if (path / "session.json").exists():
            raise StorageError(
                "there is a session already.", where=str(path), remedy="Choose another name."
            )
        try:
            for name in FOLDERS:
                (path / name).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise write_failed(path, error) from error
        folder = SessionFolder(path, read_only=False)
        folder._lock()
        try:
            folder.save(session)
        except StorageError:
            folder.close()
            raise
        return folder

    @staticmethod
    def open(path: Path, *, read_only: bool = False) -> SessionFolder:
        """Open a folder; SessionLockedError when another process writes to it."""
        if path.is_file() and path.name == "session.json":
            path = path.parent
        if not (path / "session.json").is_file():
            raise SessionFileError(
                "there is no session here.",
                where=str(path),
                remedy=f"Choose a folder that ends in {SUFFIX} and holds a session.json.",
            )
        folder = SessionFolder(path, read_only=read_only)
        if not read_only:
            folder._lock()
        return folder

    def _lock(self) -> None:
        lock = self.path / "lock"
        for _ in range(2):
            try:
                with open(lock, "x", encoding="utf-8") as file:
                    file.write(_lock_text())
                return
            except FileExistsError:
                pid = _lock_holder(lock)
                if pid is not None:
                    raise SessionLockedError(
                        f"another process (number {pid}) has this session open.",
                        pid=pid,
                        where=str(self.path),
                        remedy="Close it there, or open it here read-only.",
                    ) from None
                lock.unlink(missing_ok=True)
            except OSError as error:
                raise write_failed(lock, error) from error
        raise StorageError("the lock file cannot be taken.", where=str(lock))

    def close(self) -> None:
        """Give the lock back."""
        lock = self.path / "lock"
        if not self.read_only and lock.is_file() and lock.read_text("utf-8") == _lock_text():
            lock.unlink(missing_ok=True)
        self.read_only = True

    # --- the document ---

    def load(self) -> Session:
        """The saved session, brought up to date."""
        return read_session(self.path / "session.json")

    def save(self, session: Session) -> None:
        """Save atomically; the previous version is kept, the journal is done with."""
        with self._write_lock:
            self._require_writable()
            target = self.path / "session.json"
            previous = self.path / "session.previous.json"
            beside = self._write_beside(target, session)
            try:
                if target.exists():
                    kept = self.path / ".session.previous.part"
                    kept.unlink(missing_ok=True)
                    os.link(target, kept)
                    kept.replace(previous)
                beside.replace(target)
                _sync_folder(self.path)
                (self.path / "journal.json").unlink(missing_ok=True)
            except OSError as error:
                beside.unlink(missing_ok=True)
                raise write_failed(target, error) from error

    def write_journal(self, session: Session) -> None:
        """Keep unsaved work; the saved session is not touched."""
        with self._write_lock:
            self._require_writable()
            target = self.path / "journal.json"
            beside = self._write_beside(target, session)
            try:
                beside.replace(target)
            except OSError as error:
                raise write_failed(target, error) from error

    def journal(self) -> Session | None:
        """Unsaved work that an earlier process left, if it can be read."""
        path = self.path / "journal.json"
        if not path.is_file():
            return None
        try:
            return read_session(path)
        except SessionFileError:
            return None

    def drop_journal(self) -> None:
        """The person does not want the unsaved work."""
        if not self.read_only:
            (self.path / "journal.json").unlink(missing_ok=True)

    def _write_beside(self, target: Path, session: Session) -> Path:
        beside = target.with_name(f".{target.name}.part")
        text = session_text(session)
        try:
            with open(beside, "w", encoding="utf-8") as file:
                file.write(text)
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            beside.unlink(missing_ok=True)
            raise write_failed(target, error) from error
        return beside

    def _require_writable(self) -> None:
        if self.read_only:
            raise StorageError(
                "the session is open read-only.",
                where=str(self.path),
                remedy="Save it under another name.",
            )

    # --- audio (SessionStore) ---

    def inside(self, file: str) -> Path:
        """Path of a file of the session; refuses what would lead out of the folder."""
        path = self.path / file
        if Path(file).is_absolute() or ".." in Path(file).parts:
            raise SessionFileError("it would lead out of the session folder.", where=file)
        # A link inside the folder must not lead out of it either.
        if not path.resolve().is_relative_to(self.path.resolve()):
            raise SessionFileError("it leads out of the session folder.", where=file)
        return path

    def open_audio(self, file: str) -> AudioSource:
        return FileSource(audio_info(self.inside(file)))

    def create_audio(
        self, file: str, rate_hz: int, channels: int, word: str, notes: FileNotes
    ) -> AudioSink:
        self._require_writable()
        path = self.inside(file)
        try:
            path.parent.mkdir(exist_ok=True)
        except OSError as error:
            raise write_failed(path, error) from error
        kind: WordLength = "24" if word == "24" else "float"
        return WavWriter(path, rate_hz, channels, kind, make_bext(notes, rate_hz, channels, word))

    def has_file(self, file: str) -> bool:
        return self.inside(file).exists()

    def kept_overview(self, file: str) -> Overview | None:
        path, there = self.inside(file), self._overviews()
        return None if there is None else load_overview(there, path, audio_info(path).frames)

    def keep_overview(self, file: str, overview: Overview) -> None:
        there = self._overviews()
        if self.read_only or there is None:
            return
        with contextlib.suppress(OSError):  # it only saves time
            save_overview(there, self.inside(file), overview)

    def _overviews(self) -> Path | None:
        """Their folder; None where a stranger's link would lead out of the session."""
        try:
            return self.inside(OVERVIEWS)
        except SessionFileError:
            return None

    def write_sheet(self, name: str, text: str) -> str:
        """A text in sheets/, written beside and renamed."""
        self._require_writable()
        path = self.inside(f"sheets/{name}")
        beside = path.with_name(f".{name}.part")
        try:
            path.parent.mkdir(exist_ok=True)
            beside.write_text(text, encoding="utf-8")
            beside.replace(path)
        except OSError as error:
            beside.unlink(missing_ok=True)
            raise write_failed(path, error) from error
        return f"sheets/{name}"

    # --- recordings in progress ---

    def note_recording(self, take_id: str, text: str) -> None:
        """What the take under way will be, beside its audio, on the disk before the first
        sample."""
        self._require_writable()
        path = self.inside(f"audio/{take_id}{RECORDING}")
        beside = path.with_name(f".{path.name}.part")
        try:
            path.parent.mkdir(exist_ok=True)
            with open(beside, "w", encoding="utf-8") as file:
                file.write(text)
                file.flush()
                os.fsync(file.fileno())
            beside.replace(path)
        except OSError as error:
            beside.unlink(missing_ok=True)
            raise write_failed(path, error) from error

    def recordings(self) -> dict[str, str]:
        """The notes of recordings that no session has taken over yet, by take id."""
        found = {}
        for path in sorted((self.path / "audio").glob(f"t*{RECORDING}")):
            try:
                if path.stat().st_size <= MAX_SESSION_BYTES:
                    found[path.name.removesuffix(RECORDING)] = path.read_text("utf-8")
            except (OSError, UnicodeDecodeError):
                continue
        return found

    def forget_recording(self, take_id: str) -> None:
        """The take is in the session, or not wanted."""
        self._require_writable()
        self.inside(f"audio/{take_id}{RECORDING}").unlink(missing_ok=True)

    def free_bytes(self) -> int:
        """Room on the disk."""
        return shutil.disk_usage(self.path).free

    def orphans(self, session: Session) -> list[str]:
        """Audio files that the session does not name: what a dead process left."""
        used = session.used_files()
        found = [f"audio/{path.name}" for path in sorted((self.path / "audio").glob("*.wav"))]
        return [file for file in found if file not in used]

    def delete_files(self, files: set[str]) -> None:
        """Delete audio for good: only "empty bin" does this."""
        self._require_writable()
        for file in sorted(files):
            try:
                self.inside(file).unlink(missing_ok=True)
                there = self._overviews()
                if there is not None:
                    forget_overviews(there, self.inside(file))
            except OSError as error:
                raise write_failed(self.path / file, error) from error

    def copy_to(
        self,
        path: Path,
        session: Session,
        progress: Progress = no_progress,
        cancel: CancelToken | None = None,
    ) -> SessionFolder:
        """The whole session under another name, its audio with it.

        When it fails or is cancelled, what was copied is removed again.
        """
        cancel = cancel or CancelToken()
        target = SessionFolder.create(path, session)
        files = [file for file in sorted(session.used_files()) if self.has_file(file)]
        try:
            for number, file in enumerate(files):
                cancel.check()
                progress(number / len(files), "Copying the session")
                shutil.copyfile(self.inside(file), target.inside(file))
        except OSError as error:
            target.remove()
            raise write_failed(path, error) from error
        except BaseException:
            target.remove()
            raise
        return target

    def rename(self, path: Path) -> None:
        """Move the whole folder to another name beside it; its lock goes with it."""
        try:
            self.path.rename(path)
        except OSError as error:
            raise write_failed(path, error) from error
        self.path = path

    def remove(self) -> None:
        """Delete the whole folder: only for one that was made just now."""
        shutil.rmtree(self.path, ignore_errors=True)
        self.read_only = True


def _with_suffix(path: Path) -> Path:
    return path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)


def _lock_text() -> str:
    return f"{os.getpid()} {socket.gethostname()}\n"


def _lock_holder(lock: Path) -> int | None:
    """The living process that holds a lock, or None when it is stale."""
    try:
        words = lock.read_text("utf-8").split()
        pid = int(words[0])
    except (OSError, ValueError, IndexError):
        return None
    if len(words) > 1 and words[1] != socket.gethostname():
        return pid  # a process of another machine: nobody here can tell that it is gone
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return None
    except PermissionError:
        return pid
    return pid


def _sync_folder(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def session_text(session: Session) -> str:
    """session.json: readable, in the order of the model's fields."""
    data = session.model_dump(mode="json")
    data["snapshots"] = dict(sorted(data["snapshots"].items()))
    return json.dumps(data, indent=1, ensure_ascii=False, allow_nan=False) + "\n"


def read_session(path: Path) -> Session:
    """Read and check a session file; SessionFileError names the field that is wrong."""
    try:
        size = path.stat().st_size
        if size > MAX_SESSION_BYTES:
            raise SessionFileError(
                f"it is {size // 1_000_000} MB; a session file has at most "
                f"{MAX_SESSION_BYTES // 1_000_000} MB.",
                where=str(path),
                remedy="It is damaged or not a session.",
            )
        data = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise SessionFileError(
            f"it cannot be read ({error.strerror}).", where=str(path), remedy="Check its rights."
        ) from error
    except json.JSONDecodeError as error:
        raise SessionFileError(
            f"it is cut off or damaged at line {error.lineno}.",
            where=str(path),
            remedy="session.previous.json beside it holds the version before: copy it over.",
        ) from error
    except (UnicodeDecodeError, RecursionError) as error:
        raise SessionFileError(
            "it is not a session file.", where=str(path), remedy="Choose another folder."
        ) from error
    if not isinstance(data, dict):
        raise SessionFileError("it does not hold a session.", where=str(path))
    try:
        return Session.model_validate(migrate(data, str(path)))
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(part) for part in first["loc"]) or "session"
        raise SessionFileError(
            f"{field}: {_plain(first)}",
            where=str(path),
            remedy="Mend the field, or use session.previous.json beside it. Nothing was changed.",
        ) from error


def _plain(error: Any) -> str:
    if error["type"] == "extra_forbidden":
        return "this field is not known."
    if "pattern" in error["type"]:
        return f"{error.get('input')!r} is not a name inside the session folder."
    return f"{error['msg']}."
