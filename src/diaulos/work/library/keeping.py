"""Gear from a session into the library, and from the library into a session."""

from __future__ import annotations

from collections.abc import Iterable
from hashlib import sha256
from pathlib import PurePosixPath
from typing import Literal, Protocol, TypeVar

from diaulos.errors import EditError
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.rig.model import Device, Frozen, Rig
from diaulos.session.edits import Edit
from diaulos.session.instrument import Instrument, Tone
from diaulos.session.library import (
    KINDS,
    Entry,
    EntryKind,
    Kept,
    OwnCable,
    OwnImpulse,
    change_lines,
    thing_hash,
    things_of,
)
from diaulos.session.model import Impulse, Origin, Session


class Sounds(Protocol):
    """Whole files of a session's folder."""

    def read_file(self, file: str) -> bytes:
        """A file of the session; SessionFileError where there is none."""

    def add_file(self, file: str, data: bytes) -> None:
        """One more; StorageError where one of its name lies there."""

    def has_file(self, file: str) -> bool:
        """Whether one of its name lies there."""


class Shelf(Protocol):
    """A library, as the use cases see it."""

    def read(self, entry_id: str) -> Entry:
        """An entry."""

    def data(self, entry: Entry, name: str) -> bytes:
        """A file of an entry."""

    def fresh_id(self, name: str) -> str:
        """An id for a new entry."""

    def write(self, entry: Entry, files: dict[str, bytes]) -> None:
        """An entry in the place of the one of its id."""


class Shelved(Protocol):
    """What a list knows of an entry."""

    @property
    def id(self) -> str:
        """Of the entry."""

    @property
    def hash(self) -> str:
        """Content hash of the thing."""


State = Literal["same", "newer", "own", "both", "gone"]
STATES: dict[State, str] = {
    "same": "as in the library",
    "newer": "the library has a newer one",
    "own": "changed here since it was taken",
    "both": "changed here and in the library",
    "gone": "no longer in the library",
}


@dataclass(frozen=True)
class Standing:
    """How something of a session stands to the entry that it came from."""

    key: str
    name: str
    kind: EntryKind
    entry_id: str
    state: State


# --- into the library ---


def keep(
    session: Session, kind: EntryKind, named: str, shelf: Shelf, sounds: Sounds, now: str,
    tags: Iterable[str] = (),
) -> tuple[Entry, Edit]:  # fmt: skip
    """Something of a session as an entry of the library, and the edit that remembers it.

    What came from an entry, or was kept before, becomes its newest state; anything else a new
    entry, and so does what was changed in the library meanwhile, too, tagged "conflict". `named` is
    an id or a name, of a cable the instrument that it belongs to. EditError where the session has
    no such thing.
    """
    key, thing, name = find(session, kind, named)
    thing, data = _with_sounds(thing, sounds)
    files = tuple(_kept(file, one) for file, one in data.items())
    origin = session.origins.get(key)
    old = _entry_or_none(shelf, origin.entry) if origin is not None else None
    marks = tuple(tags)
    if old is not None and origin is not None and _went_on(old, origin, thing, files):
        # Both changed: the library's stays, this one is put beside it.
        name, marks, old = f"{name} ({session.name})"[:200], (*marks, "conflict"), None
    if old is not None and old.kind == kind:
        photographs = tuple(one for one in old.files if not one.file.endswith(".wav"))
        entry = old.revised(thing, (*files, *photographs), now)
        entry = entry.model_copy(
            update={"name": name, "tags": tuple(dict.fromkeys((*old.tags, *marks)))}
        )
    else:
        entry = Entry.model_validate(
            {"id": shelf.fresh_id(name), "kind": kind, "name": name,
             "tags": tuple(dict.fromkeys(marks)), "changed_at": now, "files": files, kind: thing}
        )  # fmt: skip
    shelf.write(entry, data)
    return entry, remember(key, entry)


def _went_on(old: Entry, origin: Origin, thing: Frozen, files: tuple[Kept, ...]) -> bool:
    """Whether the library's state is another one than was taken, and than this one is."""
    here = thing_hash(thing, files if old.kind == "impulse" else ())
    return old.hash not in (origin.hash, here)


def find(session: Session, kind: EntryKind, named: str) -> tuple[str, Frozen, str]:
    """Something of a session: its key, itself, what it is called."""
    if kind == "cable":
        one = session.instrument(named)
        cable = OwnCable(length_m=one.cable_m, pf_per_m=one.cable_pf_per_m)
        return f"cable:{one.id}", cable, f"Cable of {one.name}"
    there = things_of(session, kind)
    for key, thing in there.items():
        name = str(getattr(thing, "name", ""))
        if named in (name, key.partition(":")[2]):
            return key, thing, name
    if kind == "device":
        for rig in session.rigs:
            for device in rig.devices:
                if named in (device.id, device.name):
                    return f"device:{device.name}", device, device.name
    known = ", ".join(str(getattr(thing, "name", "")) for thing in there.values()) or "none"
    raise EditError(f"There is no {KINDS[kind].casefold()} {named!r}.", remedy=f"Here: {known}.")


def _with_sounds(thing: Frozen, sounds: Sounds) -> tuple[Frozen, dict[str, bytes]]:
    """A thing as an entry holds it, and the files that belong to it."""
    if isinstance(thing, Impulse):
        name = PurePosixPath(thing.file).name
        own = OwnImpulse(file=name, channels=thing.channels)
        return own, {name: sounds.read_file(thing.file)}
    if isinstance(thing, Instrument):
        data = {}
        for reading in thing.strength:
            if reading.file is not None and sounds.has_file(reading.file):
                data[PurePosixPath(reading.file).name] = sounds.read_file(reading.file)
        return thing, data
    return thing, {}


def _kept(file: str, data: bytes) -> Kept:
    return Kept(file=file, sha256=sha256(data).hexdigest(), size=len(data))


def _entry_or_none(shelf: Shelf, entry_id: str) -> Entry | None:
    from diaulos.errors import DiaulosError

    try:
        return shelf.read(entry_id)
    except DiaulosError:
        return None


def remember(key: str, entry: Entry) -> Edit:
    """That something of a session is an entry of the library, as it is now."""

    def change(session: Session) -> Session:
        origin = Origin(entry=entry.id, hash=entry.hash)
        return session.model_copy(update={"origins": {**session.origins, key: origin}})

    return Edit(f"Keep {entry.name} in the library", change)


# --- into a session ---


def take(entry: Entry, shelf: Shelf, sounds: Sounds, key: str = "") -> Edit:
    """An entry as a part of a session; in the place of what has the key, where one is given.

    Its sound is put into the session's folder now; the edit names it."""
    thing = _into(entry, shelf, sounds)
    label = f"Take {entry.name} from the library"

    def change(now: Session) -> Session:
        placed, changed = _placed(now, entry, thing, key)
        origin = Origin(entry=entry.id, hash=entry.hash)
        return changed.model_copy(update={"origins": {**changed.origins, placed: origin}})

    return Edit(label, change)


def _into(entry: Entry, shelf: Shelf, sounds: Sounds) -> Frozen:
    """The thing with the names that its files have in the session."""
    thing = entry.thing
    if isinstance(thing, OwnImpulse):
        file = _put(entry, thing.file, "impulses", shelf, sounds)
        return Impulse(name=entry.name, file=file, channels=thing.channels)
    if isinstance(thing, Instrument):
        names = {one.file for one in entry.files}
        readings = []
        for reading in thing.strength:
            inside = PurePosixPath(reading.file).name if reading.file else ""
            put = _put(entry, inside, "audio", shelf, sounds) if inside in names else None
            readings.append(reading.model_copy(update={"file": put}))
        return thing.model_copy(update={"strength": tuple(readings)})
    return thing


def _put(entry: Entry, name: str, folder: str, shelf: Shelf, sounds: Sounds) -> str:
    """A file of an entry in the session's folder: the one of its name where that is the same."""
    data = shelf.data(entry, name)
    stem, suffix = PurePosixPath(name).stem, PurePosixPath(name).suffix
    at = 1
    while True:
        file = f"{folder}/{stem}{suffix}" if at == 1 else f"{folder}/{stem}_{at}{suffix}"
        if not sounds.has_file(file):
            sounds.add_file(file, data)
            return file
        if sounds.read_file(file) == data:
            return file
        at += 1


def _placed(session: Session, entry: Entry, thing: Frozen, key: str) -> tuple[str, Session]:
    """The session with the thing in it, and the key that it has there."""
    ident = key.partition(":")[2]
    if isinstance(thing, Instrument):
        others = tuple(one for one in session.instruments if one.id != ident)
        ident = ident or free_id({one.id for one in others}, thing.id)
        thing = thing.model_copy(update={"id": ident})
        return f"instrument:{ident}", session.model_copy(
            update={"instruments": _in_place(session.instruments, thing)}
        )
    if isinstance(thing, Tone):
        ident = ident or free_id({one.id for one in session.tones}, thing.id)
        # It names the instrument that it was made with; one of this session's it is not.
        thing = thing.model_copy(update={"id": ident, "instrument_id": ""})
        return f"tone:{ident}", session.model_copy(
            update={"tones": _in_place(session.tones, thing)}
        )
    if isinstance(thing, Rig):
        ident = ident or free_id({one.id for one in session.rigs}, "rig")
        thing = thing.model_copy(update={"id": ident})
        rigs = _in_place(session.rigs, thing)
        current = session.current_rig or ident
        return f"arrangement:{ident}", session.model_copy(
            update={"rigs": rigs, "current_rig": current}
        )
    if isinstance(thing, Device):
        rest = tuple(one for one in session.own_types if one.name != (ident or thing.name))
        return f"device:{thing.name}", session.model_copy(update={"own_types": (*rest, thing)})
    if isinstance(thing, Impulse):
        rest_ = tuple(one for one in session.impulses if one.file not in (thing.file, ident))
        return f"impulse:{thing.file}", session.model_copy(update={"impulses": (*rest_, thing)})
    assert isinstance(thing, OwnCable)
    if not ident:
        raise EditError(
            f"{entry.name} is a cable: choose the instrument that it is plugged into.",
            remedy="Give the instrument.",
        )
    owner = session.instrument(ident)
    plugged = owner.model_copy(update={"cable_m": thing.length_m, "cable_pf_per_m": thing.pf_per_m})
    return f"cable:{ident}", session.model_copy(
        update={"instruments": _in_place(session.instruments, plugged)}
    )


_Placed = TypeVar("_Placed", bound=Instrument | Tone | Rig)


def _in_place(there: tuple[_Placed, ...], new: _Placed) -> tuple[_Placed, ...]:
    """Where one of its id is, else at the end."""
    if any(one.id == new.id for one in there):
        return tuple(new if one.id == new.id else one for one in there)
    return (*there, new)


# --- how they stand to each other ---


def standings(
    session: Session, shelved: Iterable[Shelved], sounds: Sounds | None = None
) -> tuple[Standing, ...]:
    """Everything of a session that came from the library, and whether either side changed."""
    known = {one.id: one.hash for one in shelved}
    found = []
    for key, origin in session.origins.items():
        kind = _kind_of(key)
        if kind is None:
            continue
        there = _present(session, kind, key)
        if there is None:
            continue
        changed = _hash_now(there, sounds) not in (origin.hash, "")
        entry_hash = known.get(origin.entry)
        state: State = "same"
        if entry_hash is None:
            state = "gone"
        elif entry_hash != origin.hash:
            state = "both" if changed else "newer"
        elif changed:
            state = "own"
        name = str(getattr(there, "name", "")) or "Cable"
        found.append(Standing(key, name, kind, origin.entry, state))
    return tuple(found)


def _kind_of(key: str) -> EntryKind | None:
    word = key.partition(":")[0]
    return next((kind for kind in KINDS if kind == word), None)


def _present(session: Session, kind: EntryKind, key: str) -> Frozen | None:
    if kind == "cable":
        owner = next((i for i in session.instruments if f"cable:{i.id}" == key), None)
        return None if owner is None else OwnCable(
            length_m=owner.cable_m, pf_per_m=owner.cable_pf_per_m
        )  # fmt: skip
    found = things_of(session, kind).get(key)
    if found is None and kind == "device":
        devices = (device for rig in session.rigs for device in rig.devices)
        found = next((one for one in devices if f"device:{one.name}" == key), None)
    return found


def _hash_now(thing: Frozen, sounds: Sounds | None) -> str:
    """As the entry would have it; "" where that cannot be told without its sound."""
    if not isinstance(thing, Impulse):
        return thing_hash(thing)
    if sounds is None or not sounds.has_file(thing.file):
        return ""
    name = PurePosixPath(thing.file).name
    own = OwnImpulse(file=name, channels=thing.channels)
    return thing_hash(own, (_kept(name, sounds.read_file(thing.file)),))


def what_would_change(session: Session, key: str, entry: Entry) -> tuple[tuple[str, str, str], ...]:
    """(where, here, in the library) of everything that taking an entry over would change."""
    kind = _kind_of(key)
    there = _present(session, kind, key) if kind is not None else None
    if there is None:
        return ()
    if isinstance(there, Impulse):
        return (("sound", there.name, entry.name),)
    return change_lines(there, entry.thing)
