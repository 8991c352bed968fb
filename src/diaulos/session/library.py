"""A person's own gear: entries of a library, and what a session remembers of where it took them.

An entry holds one thing as a session holds it. Its `hash` is that of the thing alone, so that a
new tag makes no new calibration; `earlier` are the hashes that it had before, the newest first:
by them two copies of a library know which one is ahead.
"""

import json
from typing import Annotated, Any, Literal, Self

from pydantic import Field, StringConstraints, model_validator

from diaulos.rig.model import Device, Frozen, Prose, Rig, Word
from diaulos.session.instrument import Instrument, Name, Tone
from diaulos.session.model import Session, content_hash

EntryKind = Literal["instrument", "device", "cable", "tone", "impulse", "arrangement"]
KINDS: dict[EntryKind, str] = {
    "instrument": "Instrument",
    "device": "Device",
    "cable": "Cable",
    "tone": "Tone",
    "impulse": "Impulse response",
    "arrangement": "Arrangement",
}
FOLDERS: dict[EntryKind, str] = {
    "instrument": "instruments", "device": "devices", "cable": "cables", "tone": "tones",
    "impulse": "impulses", "arrangement": "arrangements",
}  # fmt: skip
EntryId = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9_]{0,60}$")]
FileName = Annotated[
    str,
    StringConstraints(pattern=r"^[A-Za-z0-9_][A-Za-z0-9_-]{0,80}\.(wav|jpg|jpeg|png|webp|txt)$"),
]
"""A file that lies beside an entry: sound, or a photograph; no way out of its folder."""
Hash = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{16}$")]
Tag = Annotated[str, StringConstraints(pattern=r"^[^\p{Cc}\p{Zl}\p{Zp},]{1,60}$")]
MOST_EARLIER = 200


class OwnCable(Frozen):
    """A cable that somebody owns, measured or as it was sold."""

    length_m: float = Field(default=3.0, ge=0.0, le=1000.0)
    pf_per_m: float = Field(default=100.0, ge=0.0, le=10_000.0)
    measured: bool = False
    kind: Word = "instrument"


class OwnImpulse(Frozen):
    """An impulse response: its file lies beside the entry."""

    file: FileName
    channels: int = Field(default=1, ge=1, le=2)


class Kept(Frozen):
    """A file that belongs to an entry."""

    file: FileName
    sha256: Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$")]
    size: int = Field(ge=0, le=1 << 40)


class Entry(Frozen):
    """One thing of a library, as its file holds it."""

    format: Literal["diaulos-library"] = "diaulos-library"
    version: Literal[1] = 1
    id: EntryId
    kind: EntryKind
    name: Name
    tags: tuple[Tag, ...] = Field(default=(), max_length=40)
    notes: Prose = ""
    changed_at: Word = ""
    earlier: tuple[Hash, ...] = Field(default=(), max_length=MOST_EARLIER)
    files: tuple[Kept, ...] = Field(default=(), max_length=60)
    instrument: Instrument | None = None
    device: Device | None = None
    cable: OwnCable | None = None
    tone: Tone | None = None
    impulse: OwnImpulse | None = None
    arrangement: Rig | None = None

    @model_validator(mode="after")
    def _one_thing(self) -> Self:
        held = [kind for kind in KINDS if getattr(self, kind) is not None]
        if held != [self.kind]:
            there = ", ".join(held) or "nothing"
            raise ValueError(f"an entry of kind {self.kind} holds {there}")
        names = [one.file for one in self.files]
        if len({name.casefold() for name in names}) != len(names):
            raise ValueError("two of its files have the same name")
        if self.impulse is not None and self.impulse.file not in names:
            raise ValueError(f"{self.impulse.file} is not among its files")
        return self

    @property
    def thing(self) -> Frozen:
        """What it holds."""
        held = getattr(self, self.kind)
        assert isinstance(held, Frozen)
        return held

    @property
    def hash(self) -> str:
        """Content hash of the thing; of an impulse response, of its sound."""
        return thing_hash(self.thing, self.files if self.kind == "impulse" else ())

    def revised(self, thing: Frozen, files: tuple[Kept, ...], changed_at: str) -> Self:
        """With another content; what it was before is remembered."""
        new = self.model_copy(update={self.kind: thing, "files": files, "changed_at": changed_at})
        if new.hash == self.hash:
            return self
        earlier = tuple(dict.fromkeys((self.hash, *self.earlier)))[:MOST_EARLIER]
        return new.model_copy(update={"earlier": earlier})

    @property
    def words(self) -> str:
        """What is searched, in small letters."""
        told = [self.name, KINDS[self.kind], *self.tags, self.notes]
        if self.instrument is not None:
            told += [self.instrument.family, *(one.name for one in self.instrument.pickups)]
        if self.device is not None:
            told += [self.device.type, self.device.kind]
        if self.arrangement is not None:
            told += [one.name for one in self.arrangement.devices]
        return " ".join(told).casefold()


def thing_hash(thing: Frozen, files: tuple[Kept, ...] = ()) -> str:
    """Content hash of a thing without its place in a session (its id, the names of its files),
    and of its sound where that is given."""
    data = _placeless(thing.model_dump(mode="json"))
    sounds = sorted(one.sha256 for one in files if one.file.endswith(".wav"))
    return content_hash(_Hashed(text=json.dumps(data, sort_keys=True), sounds=tuple(sounds)))


class _Hashed(Frozen):
    text: str
    sounds: tuple[str, ...]


def _placeless(data: dict[str, Any]) -> dict[str, Any]:
    data = dict(data)
    data.pop("id", None)
    data.pop("file", None)
    if "strength" in data:
        data["strength"] = [{**one, "file": None} for one in data["strength"]]
    return data


def change_lines(old: Frozen, new: Frozen, most: int = 40) -> tuple[tuple[str, str, str], ...]:
    """What differs between two states of a thing: (where, what it was, what it is), in the order
    of the model; "…" in the place of what is too much to list."""
    found: list[tuple[str, str, str]] = []
    _compare("", _placeless(old.model_dump(mode="json")), _placeless(new.model_dump(mode="json")),
             found)  # fmt: skip
    if len(found) > most:
        return (*found[:most], ("\N{HORIZONTAL ELLIPSIS}", "", f"{len(found) - most} more"))
    return tuple(found)


def _compare(where: str, old: Any, new: Any, found: list[tuple[str, str, str]]) -> None:
    if old == new:
        return
    if isinstance(old, dict) and isinstance(new, dict):
        for key in dict.fromkeys((*old, *new)):
            _compare(_joined(where, key), old.get(key), new.get(key), found)
        return
    if isinstance(old, list) and isinstance(new, list) and old and new:
        if all(isinstance(one, dict) and "id" in one for one in (*old, *new)):
            before = {one["id"]: one for one in old}
            after = {one["id"]: one for one in new}
            for key in dict.fromkeys((*before, *after)):
                name = (after.get(key) or before.get(key) or {}).get("name") or key
                _compare(_joined(where, name), before.get(key), after.get(key), found)
            return
        if len(old) == len(new):
            for at, (one, other) in enumerate(zip(old, new, strict=True), start=1):
                _compare(_joined(where, str(at)), one, other, found)
            return
    found.append((where, _short(old), _short(new)))


UNITS = {
    "pf_per_m": "pF/m", "m": "m", "db": "dB", "dbu": "dBu", "dbfs": "dBFS", "dbtp": "dBTP",
    "ohm": "ohm", "pf": "pF", "nf": "nF", "h": "H", "f": "F", "hz": "Hz", "s": "s", "ms": "ms",
}  # fmt: skip


def _joined(where: str, key: str) -> str:
    """A place in words: cable_pf_per_m is "cable (pF/m)"."""
    for ending, unit in UNITS.items():
        if key.endswith(f"_{ending}"):
            key = f"{key.removesuffix(f'_{ending}')} ({unit})"
            break
    key = key.replace("_", " ")
    return f"{where}, {key}" if where else key


def _short(value: Any) -> str:
    if value is None:
        return "\N{EN DASH}"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, list):
        return f"{len(value)} entries"
    if isinstance(value, dict):
        return str(value.get("name") or value.get("label") or "an entry")
    return str(value)[:120]


# --- what a session remembers ---


def things_of(session: Session, kind: EntryKind) -> dict[str, Frozen]:
    """What a session has of a kind, by the key under which it remembers where it came from."""
    if kind == "instrument":
        return {f"instrument:{one.id}": one for one in session.instruments}
    if kind == "device":
        return {f"device:{one.name}": one for one in session.own_types}
    if kind == "tone":
        return {f"tone:{one.id}": one for one in session.tones}
    if kind == "impulse":
        return {f"impulse:{one.file}": one for one in session.impulses}
    if kind == "arrangement":
        return {f"arrangement:{one.id}": one for one in session.rigs}
    return {}
