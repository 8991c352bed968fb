"""Two copies of a library made one: nothing is overwritten, nothing is lost."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.session.library import Entry, change_lines
from diaulos.work.library.keeping import Shelf

Way = Literal["new", "newer", "older", "same", "conflict"]
WAYS: dict[Way, str] = {
    "new": "comes from there",
    "newer": "is newer there: taken, the one of here is kept as earlier",
    "older": "is newer here: stays",
    "same": "is the same",
    "conflict": "was changed in both: both are kept",
}


@dataclass(frozen=True)
class Step:
    """What becomes of an entry of the other library."""

    entry: Entry
    way: Way
    lines: tuple[tuple[str, str, str], ...] = ()
    """Of a conflict or a newer one: (where, here, there)."""


def plan_merge(own: Iterable[Entry], other: Iterable[Entry]) -> tuple[Step, ...]:
    """What would happen to each entry of the other library, in its order."""
    here = {one.id: one for one in own}
    return tuple(_step(here.get(entry.id), entry) for entry in other)


def _step(mine: Entry | None, entry: Entry) -> Step:
    if mine is None:
        return Step(entry, "new")
    if mine.kind != entry.kind:
        return Step(entry, "conflict")
    if mine.hash == entry.hash:
        return Step(entry, "same")
    lines = change_lines(mine.thing, entry.thing)
    if mine.hash in entry.earlier and entry.hash not in mine.earlier:
        return Step(entry, "newer", lines)
    if entry.hash in mine.earlier and mine.hash not in entry.earlier:
        return Step(entry, "older")
    return Step(entry, "conflict", lines)


def merge(steps: Iterable[Step], into: Shelf, other: Shelf, whose: str = "other") -> int:
    """Carry a plan out; how many entries were written. Of a conflict the other's becomes an entry
    of its own, tagged "conflict", its name with `whose` behind it."""
    written = 0
    for step in steps:
        entry = step.entry
        if step.way == "same":
            written += _joined(entry, into, other)
            continue
        if step.way == "older":
            continue
        if step.way == "conflict":
            name = f"{entry.name} ({whose})"[:200]
            entry = entry.model_copy(
                update={"id": into.fresh_id(name), "name": name,
                        "tags": tuple(dict.fromkeys((*entry.tags, "conflict")))}
            )  # fmt: skip
        data = {one.file: other.data(step.entry, one.file) for one in entry.files}
        if step.way == "newer":
            entry = _with_extras(entry, into.read(entry.id), {})[0]
        into.write(entry, data)
        written += 1
    return written


def _joined(entry: Entry, into: Shelf, other: Shelf) -> int:
    """The same thing in both: what is written on it and the photographs of both."""
    mine = into.read(entry.id)
    extra = {
        one.file: other.data(entry, one.file)
        for one in entry.files
        if one.sha256 not in {kept.sha256 for kept in mine.files}
    }
    both, data = _with_extras(mine, entry, extra)
    if both == mine:
        return 0
    into.write(both, data)
    return 1


def _with_extras(
    entry: Entry, other: Entry, data: dict[str, bytes]
) -> tuple[Entry, dict[str, bytes]]:
    """An entry with the tags, notes and photographs of the other, too."""
    tags = tuple(dict.fromkeys((*entry.tags, *other.tags)))[:40]
    notes = entry.notes
    if other.notes and other.notes not in notes:
        notes = f"{notes}\n{other.notes}".strip()
    files, put = list(entry.files), {}
    for one in other.files:
        if one.file.endswith(".wav") or one.sha256 in {kept.sha256 for kept in files}:
            continue
        stem, dot, suffix = one.file.rpartition(".")
        taken = {kept.file.rpartition(".")[0].casefold() for kept in files}
        name = f"{free_id(taken, stem) if stem.casefold() in taken else stem}{dot}{suffix}"
        files.append(one.model_copy(update={"file": name}))
        if one.file in data:
            put[name] = data[one.file]
    return entry.model_copy(update={"tags": tags, "notes": notes, "files": tuple(files)}), put
