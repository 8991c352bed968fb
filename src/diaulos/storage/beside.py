"""Every write beside and every read of a small file of the session's folder.

A session's folder may come from a stranger: a name that the program is about to use can be a
link to any file of the person's, a FIFO on which a read would wait for ever, or a directory.
So nothing here follows a link, waits, or reads without a limit; and what was there stays
whole until its successor is on the disk.
"""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from pathlib import Path

from diaulos.errors import SessionFileError, StorageError

NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC


def write_failed(path: Path, error: OSError) -> StorageError:
    """The error for a file that cannot be written, with what to do."""
    remedy = {
        errno.ENOSPC: "The disk is full. Free some space and try again.",
        errno.EDQUOT: "Your disk quota is used up. Free some space and try again.",
        errno.EFBIG: "The file may not grow any further on this system.",
        errno.EACCES: "You may not write there. Choose another folder or ask for the right.",
        errno.EPERM: "You may not write there. Choose another folder or ask for the right.",
        errno.EROFS: "That disk is read-only. Choose another folder.",
        errno.ENOENT: "The folder does not exist. Choose another one.",
        errno.EISDIR: "A folder lies where a file belongs. Move it away.",
        errno.ENOTDIR: "A file lies where a folder belongs. Move it away.",
    }.get(error.errno or 0, "Check the disk and try again.")
    return StorageError(
        f"it could not be written ({error.strerror or error}).", where=str(path), remedy=remedy
    )


def place_for(path: Path) -> None:
    """Make room for a new file: what lies there, a link itself included, is removed. OSError."""
    with contextlib.suppress(FileNotFoundError):
        path.unlink()


def part_of(path: Path) -> Path:
    """Where a file is written before it takes its name."""
    return path.with_name(f".{path.name}.part")


def written_beside(target: Path, data: bytes) -> Path:
    """The data in a new file beside the target, on the disk; whoever asked renames it.

    StorageError when it cannot be written; nothing is left behind then.
    """
    beside = part_of(target)
    try:
        place_for(beside)
        handle = os.open(beside, NEW, 0o666)
    except OSError as error:
        raise write_failed(target, error) from error
    try:
        with open(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        with contextlib.suppress(OSError):
            beside.unlink()
        raise write_failed(target, error) from error
    return beside


def replace(beside: Path, target: Path) -> None:
    """Give a file that was written beside its name; both survive a power cut after this."""
    try:
        os.replace(beside, target)
        sync_folder(target.parent)
    except OSError as error:
        with contextlib.suppress(OSError):
            beside.unlink()
        raise write_failed(target, error) from error


def write_whole(target: Path, data: bytes) -> None:
    """A small file in place of the one before, in one step. StorageError when it fails."""
    replace(written_beside(target, data), target)


def keep_previous(target: Path, previous: Path) -> None:
    """What a file holds now under another name, too: a second name for it, or a copy on a disk
    that knows no second names. Nothing happens where there is no file yet."""
    beside = part_of(previous)
    try:
        place_for(beside)
        os.link(target, beside, follow_symlinks=False)
        os.replace(beside, previous)
        return
    except FileNotFoundError:
        return
    except OSError as error:
        # exFAT, FAT and some shares: EPERM, ENOTSUP, EMLINK, ENOSYS ...
        if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EACCES):
            raise write_failed(previous, error) from error
    write_whole(previous, read_regular(target))


MOST_BYTES = 64 * 1024 * 1024
"""Of a session file, a note, a journal: far over what the largest session needs."""


def read_regular(path: Path, most: int | None = None) -> bytes:
    """A whole small file. SessionFileError where it is no regular file, is longer than `most`
    bytes, or cannot be read; FileNotFoundError where there is none."""
    most = MOST_BYTES if most is None else most
    try:
        handle = os.open(path, READ)
    except FileNotFoundError:
        raise
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENXIO):
            raise no_file(path) from error
        raise SessionFileError(
            f"it cannot be read ({error.strerror}).", where=str(path), remedy="Check its rights."
        ) from error
    about = os.fstat(handle)
    if not stat.S_ISREG(about.st_mode):
        os.close(handle)
        raise no_file(path)
    with open(handle, "rb") as file:
        if about.st_size > most:
            raise SessionFileError(
                f"it is {about.st_size // 1_000_000} MB; such a file has at most "
                f"{most // 1_000_000} MB.",
                where=str(path),
                remedy="It is damaged or not a session.",
            )
        try:
            return file.read(most)
        except OSError as error:
            raise SessionFileError(
                f"it cannot be read ({error.strerror}).", where=str(path),
                remedy="Check the disk.",
            ) from error  # fmt: skip


def no_file(path: Path) -> SessionFileError:
    """The error for a link, a folder, a device or a pipe where a file belongs."""
    return SessionFileError(
        "it is a link, a folder or a device where a file belongs.",
        where=str(path),
        remedy="Move it away; it does not come from Diaulos.",
    )


def sync_folder(path: Path) -> None:
    """Bring a folder's names to the disk, where the system can."""
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        os.fsync(handle)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.ENOTSUP, errno.EROFS):
            raise
    finally:
        os.close(handle)
