"""The lock of a session's folder: who may write.

A lock of the operating system (flock) on the file `lock`: it ends with its process, however
that dies, and says nothing wrong when a process number comes to life again. What the file
holds only tells a person who has the session open; on a folder that several machines share,
where such locks may not reach, it is all there is, and only a person can tell.

    PID HOST BOOT-ID START
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import socket
import stat
from pathlib import Path

from diaulos.errors import SessionLockedError
from diaulos.storage.beside import no_file, write_failed

OPEN = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
MOST_BYTES = 1_000
MOST_PID = 2**22
"""The largest process number that Linux gives (proc(5), PID_MAX_LIMIT)."""


def boot_id() -> str:
    """Of this start of the system, "" where it does not say."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
    except (OSError, UnicodeDecodeError):
        return ""


def started(pid: int) -> str:
    """When a process began, in ticks since the system's start; "" where nobody knows. Together
    with the process number it names one process."""
    try:
        text = Path(f"/proc/{pid}/stat").read_text("ascii", "replace")
        return text.rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


def own_text() -> str:
    """What this process writes into its lock."""
    pid = os.getpid()
    return f"{pid} {socket.gethostname()} {boot_id() or '-'} {started(pid) or '-'}\n"


class FolderLock:
    """Held from `take` to `release`."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / "lock"
        self._handle: int | None = None

    @property
    def held(self) -> bool:
        """Whether this process may write."""
        return self._handle is not None

    def take(self) -> None:
        """Take it. SessionLockedError when another has it, StorageError or SessionFileError
        when no lock can be there. A full disk does not matter: its text is for people."""
        for _ in range(10):
            handle = self._opened()
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as error:
                words = _words(handle)
                os.close(handle)
                if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
                    raise self._locked(words, foreign=False) from None
                raise write_failed(self.path, error) from error
            if not self._still_there(handle):
                os.close(handle)  # its holder let it go just now: the name is another file's
                continue
            words = _words(handle)
            if _of_another_machine(words):
                os.close(handle)
                raise self._locked(words, foreign=True)
            with contextlib.suppress(OSError):
                os.ftruncate(handle, 0)
                os.pwrite(handle, own_text().encode("ascii", "replace"), 0)
            self._handle = handle
            return
        raise self._locked((), foreign=False)

    def release(self) -> None:
        """Let it go. The file is unlinked while it is held, so that nobody holds a lock that
        the next one cannot see."""
        if self._handle is None:
            return
        if self._still_there(self._handle):
            with contextlib.suppress(OSError):
                self.path.unlink()
        os.close(self._handle)
        self._handle = None

    def moved_to(self, folder: Path) -> None:
        """The folder has another name now, and the lock with it."""
        self.path = folder / "lock"

    def break_foreign(self) -> None:
        """Forget what a lock of another machine says: a person knows that it is stale. One
        that is held on this machine stays."""
        handle = self._opened()
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            os.ftruncate(handle, 0)
        except OSError:
            pass
        finally:
            os.close(handle)

    def _opened(self) -> int:
        try:
            handle = os.open(self.path, OPEN, 0o666)
        except OSError as error:
            if error.errno in (errno.ELOOP, errno.EISDIR, errno.ENXIO):
                raise no_file(self.path) from error
            raise write_failed(self.path, error) from error
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            os.close(handle)
            raise no_file(self.path)
        return handle

    def _still_there(self, handle: int) -> bool:
        try:
            there = self.path.stat(follow_symlinks=False)
        except OSError:
            return False
        mine = os.fstat(handle)
        return (there.st_dev, there.st_ino) == (mine.st_dev, mine.st_ino)

    def _locked(self, words: tuple[str, ...], *, foreign: bool) -> SessionLockedError:
        pid = _pid(words)
        who = f"another process (number {pid})" if pid else "another process"
        if foreign:
            who += f" of another machine or an earlier start ({words[1][:64]})"
        remedy = "Close it there, or open it here read-only."
        if foreign:
            remedy = "Nobody here can tell whether it still runs. " + remedy
        return SessionLockedError(
            f"{who} has this session open.", pid=pid, foreign=foreign,
            where=str(self.path.parent), remedy=remedy,
        )  # fmt: skip


def _words(handle: int) -> tuple[str, ...]:
    try:
        text = os.pread(handle, MOST_BYTES, 0).decode("ascii", "replace")
    except OSError:
        return ()
    return tuple("".join(c for c in word if c.isprintable()) for word in text.split()[:4])


def _pid(words: tuple[str, ...]) -> int:
    """The process number, 0 where there is none that can be."""
    if not words or not words[0].isascii() or not words[0].isdecimal() or len(words[0]) > 7:
        return 0
    pid = int(words[0])
    return pid if pid <= MOST_PID else 0


def _of_another_machine(words: tuple[str, ...]) -> bool:
    """Whether a lock that nobody here holds may be held on another machine. A machine that was
    renamed is known by its start, one that was started again by its name."""
    if len(words) < 2 or not _pid(words):
        return False  # no lock of ours
    same_start = len(words) > 2 and words[2] != "-" and words[2] == boot_id()
    return not same_start and words[1] != socket.gethostname()
