"""The library's folder: one JSON file an entry, its sound and photographs beside it.

    library/instruments/baritone.json
    library/instruments/baritone/strum.wav
    library/earlier/instruments/baritone-0123456789abcdef.json

An entry that is replaced is kept under `earlier`. `index.json` is a cache of what is searched: it
can be deleted. Everything is read as a stranger's: no link is followed, nothing read without a
limit; an entry that cannot be read is named, and the others go on.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import stat
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

from pydantic import ValidationError

from diaulos.errors import DiaulosError, SessionFileError, StorageError
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.session.library import FOLDERS, KINDS, Entry, EntryKind, Kept
from diaulos.storage.beside import READ, read_regular, write_failed, write_whole

MOST_ENTRY = 4 * 1024 * 1024
"""Bytes of an entry's JSON."""
MOST_FILE = 512 * 1024 * 1024
"""Bytes of a file beside an entry."""
MOST_ENTRIES = 50_000
INDEX = "index.json"
INDEX_VERSION = 1
NO_FILES: Mapping[str, bytes] = MappingProxyType({})


@dataclass(frozen=True)
class Listed:
    """An entry as a list shows and searches it."""

    id: str
    kind: EntryKind
    name: str
    tags: tuple[str, ...]
    changed_at: str
    hash: str
    words: str


@dataclass(frozen=True)
class Unread:
    """A file of the library that cannot be read, and why."""

    file: str
    problem: str


class LibraryFolder:
    """A library on disk. Reading makes no folder; the first entry does."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.unread: tuple[Unread, ...] = ()

    # --- looking ---

    def entries(self) -> tuple[Listed, ...]:
        """All that can be read, by name; `unread` names the rest."""
        known = self._index()
        listed: list[Listed] = []
        unread: list[Unread] = []
        index: dict[str, Any] = {}
        changed = False
        for kind, file, about in self._files():
            key = f"{FOLDERS[kind]}/{file}"
            stamp = [about.st_mtime_ns, about.st_size]
            row = known.get(key)
            if row is None or row.get("stamp") != stamp:
                changed = True
                try:
                    row = {"stamp": stamp, **_row(self._read(kind, file.removesuffix(".json")))}
                except DiaulosError as error:
                    row = {"stamp": stamp, "problem": str(error)}
            index[key] = row
            if "problem" in row:
                unread.append(Unread(key, str(row["problem"])))
            else:
                listed.append(_listed(kind, file.removesuffix(".json"), row))
        self.unread = tuple(unread)
        if changed or len(index) != len(known):
            self._keep_index(index)
        return tuple(sorted(listed, key=lambda one: (_by_name(one.name), one.id)))

    def _files(self) -> Iterator[tuple[EntryKind, str, os.stat_result]]:
        count = 0
        for kind, folder in FOLDERS.items():
            try:
                with os.scandir(self.path / folder) as found:
                    for one in sorted(found, key=lambda each: each.name):
                        if not one.name.endswith(".json") or one.name.startswith("."):
                            continue
                        count += 1
                        if count > MOST_ENTRIES:
                            return
                        yield kind, one.name, one.stat(follow_symlinks=False)
            except FileNotFoundError:
                continue
            except OSError as error:
                raise StorageError(
                    f"the library cannot be read ({error.strerror}).",
                    where=str(self.path / folder), remedy="Check its rights.",
                ) from error  # fmt: skip

    def _index(self) -> dict[str, Any]:
        try:
            told = json.loads(read_regular(self.path / INDEX))
            rows = told["entries"] if told["version"] == INDEX_VERSION else {}
            return {key: row for key, row in rows.items() if _sound(row)}
        except (OSError, DiaulosError, ValueError, KeyError, TypeError, AttributeError,
                RecursionError):  # fmt: skip
            return {}

    def _keep_index(self, rows: dict[str, Any]) -> None:
        text = json.dumps({"version": INDEX_VERSION, "entries": rows}, ensure_ascii=False)
        # A cache: where it cannot be written, the next look takes longer.
        with contextlib.suppress(StorageError):
            if self.path.is_dir():
                write_whole(self.path / INDEX, text.encode())

    # --- one entry ---

    def read(self, entry_id: str) -> Entry:
        """The entry of this id; SessionFileError where there is none, or it cannot be read."""
        for kind in KINDS:
            if os.path.lexists(self._place(kind, entry_id)):
                return self._read(kind, entry_id)
        raise SessionFileError(
            f"the library has no entry {entry_id!r}.", where=str(self.path),
            remedy="diaulos library lists what it has.",
        )  # fmt: skip

    def _read(self, kind: EntryKind, entry_id: str) -> Entry:
        path = self._place(kind, entry_id)
        entry = entry_from(read_regular(path, MOST_ENTRY), f"{FOLDERS[kind]}/{path.name}")
        if entry.kind != kind or entry.id != entry_id:
            where = f"{FOLDERS[kind]}/{path.name}"
            raise SessionFileError(
                f"it says that it is {entry.kind} {entry.id}.", where=where,
                remedy="Put it into the folder of its kind, under the name of its id.",
            )  # fmt: skip
        return entry

    def _place(self, kind: EntryKind, entry_id: str) -> Path:
        return self.path / FOLDERS[kind] / f"{entry_id}.json"

    def file(self, entry: Entry, name: str) -> Path:
        """Where a file of an entry lies."""
        return self.path / FOLDERS[entry.kind] / entry.id / name

    def data(self, entry: Entry, name: str) -> bytes:
        """A file of an entry, held against its hash."""
        kept = next((one for one in entry.files if one.file == name), None)
        if kept is None:
            raise SessionFileError(f"{entry.name} has no file {name!r}.", where=entry.id)
        path = self.file(entry, name)
        try:
            found = read_regular(path, MOST_FILE)
        except FileNotFoundError as error:
            raise SessionFileError("the file is missing.", where=str(path)) from error
        if hashlib.sha256(found).hexdigest() != kept.sha256:
            raise SessionFileError(
                f"{name} of {entry.name} is not what was kept.", where=str(path),
                remedy="It was changed from outside: keep the entry anew.",
            )  # fmt: skip
        return found

    def fresh_id(self, name: str) -> str:
        """An id for a new entry, after its name."""
        plain = "".join(sign if sign.isascii() and sign.isalnum() else "_" for sign in name.lower())
        plain = "_".join(part for part in plain.split("_") if part)[:40] or "entry"
        taken = {
            one.name.removesuffix(".json")
            for folder in FOLDERS.values()
            if (self.path / folder).is_dir()
            for one in (self.path / folder).iterdir()
        }
        return free_id(taken, plain)

    # --- changing ---

    def write(self, entry: Entry, files: Mapping[str, bytes] = NO_FILES) -> None:
        """An entry in the place of the one of its id; what was there is kept as earlier. `files`
        are those of its files that are not there yet. StorageError when it fails."""
        place = self._place(entry.kind, entry.id)
        folder = place.parent / entry.id
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
            _no_link(place.parent)
            if files:
                if os.path.lexists(folder):
                    _no_link(folder)
                folder.mkdir(exist_ok=True)
        except OSError as error:
            raise write_failed(place, error) from error
        for name, data in files.items():
            kept = next((one for one in entry.files if one.file == name), None)
            if kept is None or kept.sha256 != hashlib.sha256(data).hexdigest():
                raise StorageError(f"{name} is no file of {entry.name}.", where=str(folder))
            self._keep_file(folder / name, data)
        self._keep_earlier(entry.kind, entry.id)
        write_whole(place, entry_text(entry).encode())

    def _keep_file(self, path: Path, data: bytes) -> None:
        try:
            if (
                hashlib.sha256(read_regular(path, MOST_FILE)).digest()
                == hashlib.sha256(data).digest()
            ):
                return
        except (FileNotFoundError, SessionFileError):
            pass
        write_whole(path, data)

    def _keep_earlier(self, kind: EntryKind, entry_id: str) -> None:
        place = self._place(kind, entry_id)
        try:
            old = read_regular(place, MOST_ENTRY)
        except FileNotFoundError:
            return
        folder = self.path / "earlier" / FOLDERS[kind]
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise write_failed(folder, error) from error
        stamp = hashlib.sha256(old).hexdigest()[:16]
        write_whole(folder / f"{entry_id}-{stamp}.json", old)

    def tagged(self, entry_id: str, tags: tuple[str, ...]) -> Entry:
        """An entry with these tags; SessionFileError for a tag that is none."""
        data = {**self.read(entry_id).model_dump(mode="json"), "tags": list(tags)}
        return entry_from(json.dumps(data).encode(), entry_id)

    def remove(self, entry: Entry) -> None:
        """An entry less; it is kept under `earlier`, its files stay."""
        self._keep_earlier(entry.kind, entry.id)
        place = self._place(entry.kind, entry.id)
        try:
            place.unlink()
        except OSError as error:
            raise write_failed(place, error) from error


def searched(entries: Iterable[Listed], words: str, tags: Iterable[str] = ()) -> tuple[Listed, ...]:
    """Entries that hold every word (as a part of one of theirs) and have every tag."""
    wanted = words.casefold().split()
    marks = {one.casefold() for one in tags}
    return tuple(
        one
        for one in entries
        if all(word in one.words for word in wanted)
        and marks <= {tag.casefold() for tag in one.tags}
    )


def entry_text(entry: Entry) -> str:
    """An entry as the text of its file: readable, the same for the same entry."""
    data = entry.model_dump(mode="json")
    data = {key: value for key, value in data.items() if value is not None or key not in KINDS}
    return json.dumps(data, indent=1, ensure_ascii=False) + "\n"


def entry_from(data: bytes, where: str) -> Entry:
    """An entry from the bytes of a file; SessionFileError names the field."""
    try:
        return Entry.model_validate_json(data)
    except (ValidationError, RecursionError) as error:
        if isinstance(error, RecursionError):
            raise SessionFileError("it is nested too deeply.", where=where) from error
        first = error.errors(include_input=False, include_url=False)[0]
        field = ".".join(str(place) for place in first["loc"])
        raise SessionFileError(
            f"{field}: {first['msg']}." if field else f"{first['msg']}.", where=where,
            remedy="An entry is described in docs/library.schema.json.",
        ) from error  # fmt: skip


def kept_of(name: str, data: bytes) -> Kept:
    """A file as its entry names it."""
    return Kept(file=name, sha256=hashlib.sha256(data).hexdigest(), size=len(data))


def read_outside(path: Path, most: int = MOST_FILE) -> bytes:
    """A file from anywhere that a person named (a photograph, an entry): links are theirs, but it
    must be a plain file, and no larger."""
    try:
        handle = os.open(path, READ & ~os.O_NOFOLLOW)
    except OSError as error:
        raise SessionFileError(
            f"it cannot be read ({error.strerror}).", where=str(path), remedy="Choose another file."
        ) from error
    about = os.fstat(handle)
    with open(handle, "rb") as file:
        if not stat.S_ISREG(about.st_mode):
            raise SessionFileError("it is no plain file.", where=str(path))
        if about.st_size > most:
            raise SessionFileError(
                f"it is {about.st_size // 1_000_000} MB, more than {most // 1_000_000}.",
                where=str(path), remedy="Choose a smaller file.",
            )  # fmt: skip
        return file.read(most)


def _by_name(name: str) -> list[tuple[int, int, str]]:
    """Cable 7 ahead of cable 17."""
    parts = re.split(r"(\d{1,18})", name.casefold())
    return [(0, int(one), "") if one.isdecimal() else (1, 0, one) for one in parts if one]


def _no_link(folder: Path) -> None:
    if folder.is_symlink() or not folder.is_dir():
        raise StorageError(
            "a link lies where a folder of the library belongs.", where=str(folder),
            remedy="Move it away.",
        )  # fmt: skip


def _row(entry: Entry) -> dict[str, Any]:
    return {
        "name": entry.name, "tags": list(entry.tags), "changed_at": entry.changed_at,
        "hash": entry.hash, "words": entry.words,
    }  # fmt: skip


def _sound(row: Any) -> bool:
    if not isinstance(row, dict):
        return False
    if "problem" in row:
        return isinstance(row["problem"], str)
    texts = ("name", "changed_at", "hash", "words")
    return (
        all(isinstance(row.get(key), str) for key in texts)
        and isinstance(row.get("tags"), list)
        and all(isinstance(one, str) for one in row["tags"])
    )


def _listed(kind: EntryKind, entry_id: str, row: dict[str, Any]) -> Listed:
    return Listed(
        entry_id, kind, row["name"], tuple(row["tags"]), row["changed_at"], row["hash"],
        row["words"],
    )  # fmt: skip
