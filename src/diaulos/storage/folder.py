"""The session folder: open, save, lock, journal, recover.

    NAME.diaulos/
      session.json     the document, written beside, synced and renamed
      session.previous.json   what it was before the last save
      session.yours.json      what could not be saved because somebody else saved meanwhile
      journal.json     edits since the last save, at least every 30 s and at each take
      journal.kept.json       unsaved work that was set aside
      lock             held by the one who may write (see lock.py)
      audio/ impulses/ sheets/
      overviews/       waveforms as drawn; may be thrown away

Sessions come from strangers: sizes are limited before reading, nothing is executed, no link
is followed, and no name leads out of the folder.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import threading
from collections.abc import Iterable
from pathlib import Path

from diaulos.errors import DiaulosError, SessionFileError, StorageError
from diaulos.ids import free_id
from diaulos.session.model import Session
from diaulos.signal.overview import Overview
from diaulos.storage.audiofile import audio_info
from diaulos.storage.beside import (
    keep_previous,
    read_regular,
    replace,
    write_failed,
    write_whole,
    written_beside,
)
from diaulos.storage.lock import FolderLock
from diaulos.storage.overviews import forget_overviews, load_overview, save_overview
from diaulos.storage.session_file import read_session, session_text
from diaulos.storage.sources import FileSource, new_wav
from diaulos.work.ports import (
    AudioSink,
    AudioSource,
    CancelToken,
    FileNotes,
    Progress,
    no_progress,
)

SUFFIX = ".diaulos"
FOLDERS = ("audio", "impulses", "sheets")
OVERVIEWS = "overviews"
"""A folder that can be thrown away: everything in it is worked out anew."""
RECORDING = ".recording.json"
"""Ends the name of a note on a recording in progress."""
MOST_WHOLE = 512 * 1024 * 1024
"""Bytes of a file that is read whole: an excerpt, an impulse response."""
MOST_NOTES = 1_000
MOST_NOTE_BYTES = 8 * 1024 * 1024
State = tuple[int, int, int, int]
"""Of a file: device, inode, size, time of change. Two saves never have the same."""


class SessionFolder:
    """A session's folder on disk; holds the lock when it may write."""

    def __init__(self, path: Path, *, read_only: bool) -> None:
        self.path = path
        self.read_only = read_only
        self._lock = FolderLock(path)
        self._write_lock = threading.Lock()
        self._known: State | None = None
        """session.json as this process read or wrote it last."""
        self._yours: Path | None = None
        """Where this sitting keeps what it could not save, once it could not."""

    # --- opening ---

    @staticmethod
    def create(path: Path, session: Session) -> SessionFolder:
        """A new session folder; refuses a folder that holds one already."""
        path = _with_suffix(path)
        if os.path.lexists(path / "session.json"):
            raise StorageError(
                "there is a session already.", where=str(path), remedy="Choose another name."
            )
        try:
            for name in FOLDERS:
                (path / name).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise write_failed(path, error) from error
        folder = SessionFolder(path, read_only=False)
        folder._lock.take()
        try:
            folder.save(session)
        except StorageError:
            folder.close()
            raise
        return folder

    @staticmethod
    def open(path: Path, *, read_only: bool = False) -> SessionFolder:
        """Open a folder; SessionLockedError when another process writes to it, StorageError
        when nobody can write there (it can be opened read-only)."""
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
            folder._lock.take()
        return folder

    @staticmethod
    def break_lock(path: Path) -> None:
        """Forget the lock of another machine: a person knows that it is stale."""
        FolderLock(path).break_foreign()

    def close(self) -> None:
        """Give the lock back."""
        self._lock.release()
        self.read_only = True

    @property
    def gone(self) -> bool:
        """Whether the folder is no longer there: unplugged, deleted, renamed."""
        return not self.path.is_dir()

    # --- the document ---

    def load(self) -> Session:
        """The saved session, brought up to date."""
        target = self.path / "session.json"
        state = _state(target)
        session = read_session(target)
        self._known = state
        return session

    def save(self, session: Session) -> None:
        """Save atomically; the previous version is kept, the journal is done with.

        StorageError when it cannot be written, or when somebody else saved meanwhile: both
        versions are kept then.
        """
        with self._write_lock:
            self._require_writable()
            target = self.path / "session.json"
            data = session_text(session).encode("utf-8")
            if _state(target) != self._known:
                yours = self._yours = self._yours or self._free("session.yours")
                write_whole(yours, data)
                raise StorageError(
                    "another program has saved this session meanwhile. Its version stays; yours "
                    f"is kept beside it as {yours.name}.",
                    where=str(target),
                    remedy="Save yours under another name, or open the session again.",
                )
            beside = written_beside(target, data)
            try:
                keep_previous(target, self.path / "session.previous.json")
            except DiaulosError:
                with contextlib.suppress(OSError):
                    beside.unlink()
                raise
            replace(beside, target)
            self._known = _state(target)
            with contextlib.suppress(OSError):
                (self.path / "journal.json").unlink(missing_ok=True)

    def write_journal(self, session: Session) -> None:
        """Keep unsaved work; the saved session is not touched."""
        with self._write_lock:
            self._require_writable()
            write_whole(self.path / "journal.json", session_text(session).encode("utf-8"))

    def journal(self) -> Session | None:
        """Unsaved work that an earlier process left, if it can be read."""
        try:
            return read_session(self.path / "journal.json")
        except SessionFileError:
            return None

    def set_journal_aside(self) -> None:
        """The unsaved work is not wanted now; it is kept under another name."""
        self._require_writable()
        journal = self.path / "journal.json"
        try:
            journal.replace(self._free("journal.kept"))
        except FileNotFoundError:
            return
        except OSError as error:
            raise write_failed(journal, error) from error

    def _free(self, stem: str) -> Path:
        """A name that nothing has: what was kept earlier stays."""
        name = free_id(lambda one: os.path.lexists(self.path / f"{one}.json"), stem)
        return self.path / f"{name}.json"

    def drop_journal(self) -> None:
        """The person does not want the unsaved work."""
        if not self.read_only:
            with contextlib.suppress(OSError):
                (self.path / "journal.json").unlink(missing_ok=True)

    def _require_writable(self) -> None:
        if self.read_only:
            raise StorageError(
                "the session is open read-only.",
                where=str(self.path),
                remedy="Save it under another name.",
            )
        if self.gone:
            raise StorageError(
                "the session's folder is not there any more.",
                where=str(self.path),
                remedy="Bring it back (plug the disk in), or save under another name.",
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
        return new_wav(path, rate_hz, channels, word, notes)

    def has_file(self, file: str) -> bool:
        return self.inside(file).exists()

    def read_file(self, file: str) -> bytes:
        """A whole file of the session; SessionFileError where there is none or it is no file."""
        try:
            return read_regular(self.inside(file), MOST_WHOLE)
        except FileNotFoundError as error:
            raise SessionFileError("the file is missing.", where=file) from error

    def add_file(self, file: str, data: bytes) -> None:
        """A new file of the session; StorageError when one of its name lies there."""
        path = self.inside(file)
        if os.path.lexists(path):
            raise StorageError("the file exists already.", where=file)
        try:
            path.parent.mkdir(exist_ok=True)
        except OSError as error:
            raise write_failed(path, error) from error
        write_whole(path, data)

    def kept_overview(self, file: str) -> Overview | None:
        path, there = self.inside(file), self._overviews()
        return None if there is None else load_overview(there, path, audio_info(path).frames)

    def keep_overview(self, file: str, overview: Overview) -> None:
        there = self._overviews()
        if self.read_only or there is None:
            return
        with contextlib.suppress(OSError, StorageError):  # it only saves time
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
        self._make(path.parent)
        write_whole(path, text.encode("utf-8"))
        return f"sheets/{name}"

    def _make(self, folder: Path) -> None:
        try:
            folder.mkdir(exist_ok=True)
        except OSError as error:
            raise write_failed(folder, error) from error

    # --- recordings in progress ---

    def note_recording(self, take_id: str, text: str) -> None:
        """What the take under way will be, beside its audio, on the disk before the first
        sample."""
        self._require_writable()
        path = self.inside(f"audio/{take_id}{RECORDING}")
        self._make(path.parent)
        write_whole(path, text.encode("utf-8"))

    def recordings(self) -> dict[str, str]:
        """The notes of recordings that no session has taken over yet, by take id. One that
        cannot be read is there with an empty text."""
        found = {}
        for path in sorted((self.path / "audio").glob(f"t*{RECORDING}"))[:MOST_NOTES]:
            try:
                text = read_regular(path, MOST_NOTE_BYTES).decode("utf-8")
            except (OSError, SessionFileError, UnicodeDecodeError):
                text = ""
            found[path.name.removesuffix(RECORDING)] = text
        return found

    def forget_recording(self, take_id: str) -> None:
        """The take is in the saved session, or nothing of it came."""
        self._require_writable()
        path = self.path / "audio" / f"{take_id}{RECORDING}"
        try:
            path.unlink(missing_ok=True)
        except OSError as error:
            raise write_failed(path, error) from error

    def free_bytes(self) -> int:
        """Room on the disk; StorageError when the folder is gone."""
        try:
            return shutil.disk_usage(self.path).free
        except OSError as error:
            raise write_failed(self.path, error) from error

    def free_space(self) -> None:
        """Give up what can be worked out anew: a full disk needs room for the session itself."""
        there = self._overviews()
        if there is not None and not self.read_only:
            for path in there.glob("*.npy"):
                with contextlib.suppress(OSError):
                    path.unlink()

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
        target = SessionFolder.create(path, session)
        try:
            self.copy_files(target, session.used_files(), progress, cancel)
        except BaseException:
            target.remove()
            raise
        return target

    def copy_files(
        self,
        target: SessionFolder,
        files: Iterable[str],
        progress: Progress = no_progress,
        cancel: CancelToken | None = None,
    ) -> None:
        """Files of this session into another one's folder; those that are not here are passed
        over."""
        cancel = cancel or CancelToken()
        there = [file for file in sorted(files) if self.has_file(file)]
        for number, file in enumerate(there):
            cancel.check()
            progress(number / len(there), "Copying the session")
            try:
                shutil.copyfile(self.inside(file), target.inside(file))
            except OSError as error:
                raise write_failed(target.path, error) from error

    def rename(self, path: Path) -> None:
        """Move the whole folder to another name beside it; its lock goes with it."""
        try:
            self.path.rename(path)
        except OSError as error:
            raise write_failed(path, error) from error
        self.path = path
        self._lock.moved_to(path)

    def remove(self) -> None:
        """Delete the whole folder: only for one that was made just now."""
        shutil.rmtree(self.path, ignore_errors=True)
        self.close()


def _with_suffix(path: Path) -> Path:
    return path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)


def _state(path: Path) -> State | None:
    """A file's state, None where there is none."""
    try:
        about = path.stat(follow_symlinks=False)
    except OSError:
        return None
    return about.st_dev, about.st_ino, about.st_size, about.st_mtime_ns
