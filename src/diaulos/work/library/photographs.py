"""Photographs of an entry: plain files beside it, kept through every change of the thing."""

from __future__ import annotations

from hashlib import sha256

from diaulos.errors import InputError
from diaulos.session.library import Entry, Kept

MOST_BYTES = 32 * 1024 * 1024
MOST_PHOTOGRAPHS = 20
BEGINNINGS = {"png": b"\x89PNG\r\n\x1a\n", "jpg": b"\xff\xd8\xff"}


def kind_of(data: bytes) -> str | None:
    """The ending that a picture's own first bytes ask for, whatever its file was called; None for
    what is no picture that is known."""
    for ending, beginning in BEGINNINGS.items():
        if data.startswith(beginning):
            return ending
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        return "webp"
    return None


def photographs(entry: Entry) -> tuple[Kept, ...]:
    """Those of an entry, the oldest first."""
    return tuple(one for one in entry.files if not one.file.endswith((".wav", ".txt")))


def with_photograph(entry: Entry, data: bytes, where: str) -> tuple[Entry, str]:
    """An entry with one more photograph, and the name of its file; the same one twice is one.
    InputError for what is no picture, or too much."""
    ending = kind_of(data)
    if ending is None:
        raise InputError(
            "it is no picture.", where=where, remedy="Choose a PNG, JPEG or WebP file."
        )
    if len(data) > MOST_BYTES:
        raise InputError(
            f"it is {len(data) // 1_000_000} MB, more than {MOST_BYTES // 1_000_000}.",
            where=where, remedy="Choose a smaller picture.",
        )  # fmt: skip
    there = photographs(entry)
    digest = sha256(data).hexdigest()
    known = next((one for one in there if one.sha256 == digest), None)
    if known is not None:
        return entry, known.file
    if len(there) >= MOST_PHOTOGRAPHS:
        raise InputError(
            f"{entry.name} has {MOST_PHOTOGRAPHS} photographs already.", where=where,
            remedy="Remove one first.",
        )  # fmt: skip
    # By its content: a name is never given to another picture, even where this one is removed.
    name = f"photograph-{digest[:12]}.{ending}"
    kept = Kept(file=name, sha256=digest, size=len(data))
    return entry.model_copy(update={"files": (*entry.files, kept)}), name


def without_photograph(entry: Entry, name: str) -> Entry:
    """An entry less one photograph; its file stays in the folder."""
    if name not in {one.file for one in photographs(entry)}:
        raise InputError(f"{entry.name} has no photograph {name!r}.", remedy="Look at the list.")
    rest = tuple(one for one in entry.files if one.file != name)
    return entry.model_copy(update={"files": rest})
