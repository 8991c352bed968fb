"""Sessions built up: arrangements as rigs, instruments as devices, by window and shell alike."""

from __future__ import annotations

from diaulos.errors import EditError, InputError
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.rig.course import trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import Rig
from diaulos.rig.sources import INSTRUMENT
from diaulos.rig.templates import (
    TEMPLATES,
    amp_and_load,
    amp_and_microphone,
    build,
    straight,
)
from diaulos.rig.trackplan import with_planned_gains
from diaulos.session import edits
from diaulos.session.edits import Edit
from diaulos.session.instrument import FAMILY_WORDS, Family, Instrument
from diaulos.session.model import Session
from diaulos.session.representative import PICKUP_TYPES, representative
from diaulos.session.tunings import TUNINGS, tuning_called
from diaulos.work.rigs.look import rig_graph


@dataclass(frozen=True)
class Arrangement:
    """An arrangement, and what it is for: `records` where a track starts at an instrument,
    `reamps` where one starts at a played track."""

    id: str
    name: str
    sentence: str
    records: bool
    reamps: bool


def arrangements() -> tuple[Arrangement, ...]:
    """What there is to start a rig from."""
    found = []
    for one in TEMPLATES.values():
        courses = [t.course for t in trace_all(RigGraph(build(one.id, "rig"))) if t.course]
        found.append(
            Arrangement(
                one.id,
                one.name,
                one.sentence,
                any(course.source is not None for course in courses),
                any(course.source is None for course in courses),
            )
        )
    return tuple(found)


def arranged(session: Session, arrangement: str, name: str = "", instrument: str = "") -> Rig:
    """A rig of an arrangement (its id or name) with an id and a name that are free here. With
    an instrument (id or name) it is the one that is plugged in, and the gains are set for it."""
    found = next(
        (one.id for one in TEMPLATES.values() if arrangement in (one.id, one.name)), arrangement
    )
    rig = build(found, free_id({rig.id for rig in session.rigs}, "rig"))
    names = {r.name for r in session.rigs}
    if name and name in names:
        raise EditError(f"There is already a rig {name!r}.", remedy="Give it another name.")
    rig = rig.model_copy(update={"name": name or free_id(names, rig.name, between=" ")})
    if not instrument:
        return rig
    chosen = session.instrument(instrument)
    if chosen.position is None:
        raise EditError(f"{chosen.name} has no pickup yet.", remedy="Choose a pickup for it.")
    rig = with_instrument(rig, chosen)
    target = session.target_peak_dbfs
    return with_planned_gains(rig, target, rig_graph(session, rig))


def with_instrument(rig: Rig, instrument: Instrument) -> Rig:
    """The rig with an instrument of the session in place of each that it has."""
    devices = [device for device in rig.devices if device.kind == INSTRUMENT]
    if not devices:
        raise EditError(
            f"{rig.name} has no instrument: it plays stored takes.",
            remedy="Leave the instrument out, or choose an arrangement that records.",
        )
    for device in devices:
        rig = rig.with_setting(device.id, "instrument", instrument.id)
    return rig


TONES: dict[str, str] = {
    "none": "Nothing: the instrument straight in",
    "modeler": "A modeler, over USB",
    "load": "An amp with a load box",
    "microphone": "An amp with a microphone",
}
"""What makes the tone of a new session, in words."""
INPUTS = (2, 4, 8)


@dataclass(frozen=True)
class Start:
    """What a new session begins with: what plays, how many inputs record it, what makes its
    tone (one of `TONES`)."""

    plays: Family
    inputs: int = 2
    tone: str = "none"


def start_of(plays: str, inputs: int, tone: str) -> Start:
    """A start in words. InputError for words that are none of the known ones."""
    families: dict[str, Family] = {str(one): one for one in FAMILY_WORDS}  # type: ignore[misc]
    if plays not in families:
        raise InputError(
            f"unknown kind of instrument {plays!r}.", remedy=f"Known are: {', '.join(families)}."
        )
    return Start(families[plays], inputs, tone)


def started(session: Session, start: Start) -> Session:
    """A new session with its instrument and its rigs: one that records, and with an amp or a
    modeler one that reamps. The instrument is the session's own, with representative values.
    InputError for words that are none of the known ones."""
    if start.tone not in TONES or start.inputs not in INPUTS:
        raise InputError(
            f"nothing starts with {start.inputs} inputs and {start.tone!r}.",
            remedy=f"Known are: {', '.join(TONES)}; inputs {', '.join(map(str, INPUTS))}.",
        )
    words = FAMILY_WORDS[start.plays]
    instrument = new_instrument(session, start.plays, words)
    session = edits.add_instrument(instrument)(session)
    session = session.model_copy(update={"rigs": (), "current_rig": ""})
    if start.tone == "modeler":
        rigs = [build("modeler-usb", "rig01"), build("reamp-usb", "rig02")]
    elif start.tone == "load":
        rigs = [amp_and_load("rig01", start.plays, start.inputs), build("reamp-box", "rig02")]
    elif start.tone == "microphone":
        rigs = [amp_and_microphone("rig01", start.plays, start.inputs), build("reamp-box", "rig02")]
    else:
        rigs = [straight("rig01", start.plays, start.inputs)]
    rigs[0] = with_instrument(rigs[0], instrument)
    for rig in rigs:
        session = add_rig_edit(session, rig, current=False)(session)
    session = session.model_copy(
        update={"current_rig": "rig01", "recording_rig": "rig01", "reamp_rig": rigs[-1].id}
    )
    graph = rig_graph(session, session.rig("rig01"))
    planned = with_planned_gains(graph.rig, session.target_peak_dbfs, graph)
    return edits.change_rig("rig01", "Set gains", lambda _rig: planned)(session)


def add_rig_edit(session: Session, rig: Rig, *, current: bool) -> Edit:
    """The rig as one undoable step; the current rig stays unless it is asked for."""
    added = edits.add_rig(rig)
    if current or not session.rigs:
        return added
    stays = session.current_rig

    def change(now: Session) -> Session:
        kept = stays if any(r.id == stays for r in now.rigs) else rig.id
        roles = {"recording_rig": now.recording_rig, "reamp_rig": now.reamp_rig}
        return added.change(now).model_copy(update={"current_rig": kept, **roles})

    return Edit(added.label, change)


def new_instrument(
    session: Session, kind: str, name: str, *, pickup: str = "", tuning: str = ""
) -> Instrument:
    """An instrument of a family with representative values. InputError for words that are none
    of the known ones."""
    families: dict[str, Family] = {str(family): family for family in FAMILY_WORDS}  # type: ignore[misc]
    if kind not in families:
        raise InputError(
            f"unknown kind of instrument {kind!r}.", remedy=f"Known are: {', '.join(families)}."
        )
    if pickup and pickup not in PICKUP_TYPES:
        raise InputError(
            f"unknown pickup {pickup!r}.", remedy=f"Known are: {', '.join(PICKUP_TYPES)}."
        )
    known = tuning_called(tuning)
    if tuning and known is None:
        raise InputError(f"unknown tuning {tuning!r}.", remedy=f"Known are: {', '.join(TUNINGS)}.")
    if any(one.name == name for one in session.instruments):
        raise EditError(f"There is already an instrument {name!r}.", remedy="Give another name.")
    ident = free_id({one.id for one in session.instruments}, "instrument")
    made = representative(ident, name, families[kind], pickup)
    return made.model_copy(update={"strings": known.strings}) if known is not None else made
