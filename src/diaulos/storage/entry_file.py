"""One entry of a library as one file (.diaulosgear): a zip of its JSON and of the files that
belong to it, as they are.

It comes from a stranger: plain files with the names that the entry tells, once each, no larger than
they say, each held against its hash. Nothing is written before all of it was read and found sound.
"""

from __future__ import annotations

import hashlib
import os
import stat
import struct
import zipfile
import zlib
from pathlib import Path

from diaulos.errors import SessionFileError, StorageError
from diaulos.session.library import Entry
from diaulos.storage.beside import write_whole
from diaulos.storage.library import (
    MOST_ENTRY,
    MOST_FILE,
    LibraryFolder,
    entry_from,
    entry_text,
    read_outside,
)

SUFFIX = ".diaulosgear"
ENTRY = "entry.json"
MOST_WHOLE = 600 * 1024 * 1024
DATE = (1980, 1, 1, 0, 0, 0)
"""Of everything in it: the same entry gives the same bytes."""


def export_entry(
    library: LibraryFolder, entry_id: str, path: Path, *, replace: bool = False
) -> None:
    """An entry with what belongs to it as a file. StorageError where it exists already."""
    import io

    if os.path.lexists(path) and not replace:
        raise StorageError(
            "the file exists already.", where=str(path),
            remedy="Choose another name, or replace it.",
        )  # fmt: skip
    entry = library.read(entry_id)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr(_info(ENTRY), entry_text(entry))
        for one in entry.files:
            archive.writestr(_info(one.file), library.data(entry, one.file))
    write_whole(path, out.getvalue())


def _info(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, DATE)
    info.external_attr = (stat.S_IFREG | 0o644) << 16
    info.create_system = 3
    return info


def read_entry_file(path: Path) -> tuple[Entry, dict[str, bytes]]:
    """An entry and its files from a file: a .diaulosgear, or an entry's own JSON where it has no
    files. SessionFileError names what is wrong."""
    import io

    data = read_outside(path, MOST_WHOLE)
    if not data.startswith(b"PK"):
        entry = entry_from(data[: MOST_ENTRY + 1], path.name)
        if entry.files:
            raise SessionFileError(
                f"{entry.files[0].file} belongs to it and is not in it.", where=path.name,
                remedy=f"Export the entry as a {SUFFIX} file.",
            )  # fmt: skip
        return entry, {}
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            return _read(archive, path.name)
    except (zipfile.BadZipFile, zlib.error, struct.error, EOFError, NotImplementedError,
            OSError, ValueError, RuntimeError) as error:  # fmt: skip
        raise _damaged(path.name, str(error)[:200]) from error


def _read(archive: zipfile.ZipFile, where: str) -> tuple[Entry, dict[str, bytes]]:
    found: dict[str, zipfile.ZipInfo] = {}
    for info in archive.infolist():
        name = info.filename
        kind = stat.S_IFMT(info.external_attr >> 16)
        if name in found or len(found) > 70:
            raise _damaged(where, f"{name[:80]!r} is in it twice, or it holds too much")
        if info.orig_filename != name or info.is_dir() or kind not in (0, stat.S_IFREG):
            raise _damaged(where, f"{name[:80]!r} is no plain file")
        if info.compress_type != zipfile.ZIP_STORED or info.flag_bits & 0x1:
            raise _damaged(where, f"{name[:80]!r} is compressed or encrypted")
        if info.file_size > (MOST_ENTRY if name == ENTRY else MOST_FILE):
            raise _damaged(where, f"{name[:80]!r} is too large")
        found[name] = info
    if ENTRY not in found:
        raise _damaged(where, f"it has no {ENTRY}")
    entry = entry_from(archive.read(found[ENTRY]), where)
    if {one.file for one in entry.files} != set(found) - {ENTRY}:
        raise _damaged(where, "it does not hold the files that the entry names")
    files = {}
    for one in entry.files:
        data = archive.read(found[one.file])
        if hashlib.sha256(data).hexdigest() != one.sha256:
            raise _damaged(where, f"{one.file} is not what was exported")
        files[one.file] = data
    return entry, files


class OneEntry:
    """A read file as a shelf of one: what is merged with a library."""

    def __init__(self, entry: Entry, files: dict[str, bytes]) -> None:
        self.entry, self._files = entry, files

    def read(self, entry_id: str) -> Entry:
        """The entry."""
        if entry_id != self.entry.id:
            raise SessionFileError(f"there is no entry {entry_id!r}.")
        return self.entry

    def data(self, entry: Entry, name: str) -> bytes:
        """A file of it."""
        return self._files[name]

    def fresh_id(self, name: str) -> str:
        """Nothing is added to it."""
        raise StorageError("a file of one entry takes no others.")

    def write(self, entry: Entry, files: dict[str, bytes]) -> None:
        """Nothing is added to it."""
        raise StorageError("a file of one entry takes no others.")


def _damaged(where: str, what: str) -> SessionFileError:
    return SessionFileError(
        f"the file is damaged or holds no entry of a library: {what}.", where=where,
        remedy="Ask for it again. Nothing was taken.",
    )  # fmt: skip
