"""What a noise can come from in a rig, and which tracks each cause reaches.

Mains noise (hum and buzz) comes in by a pickup's field, by a lead, round a loop of grounds, by a
supply that pedals share, or from a device itself; a whine by a loop that runs over USB or through
the air; hiss from a device whose gain is up, or that is ill.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from diaulos.circuit.pickup import Active, Magnetic
from diaulos.records import dataclass
from diaulos.rig.course import Course, Leg, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.ground import is_exposed
from diaulos.rig.model import AUDIO_CLASSES, PassiveStage, PortRef
from diaulos.rig.sources import representative_of

Family = Literal["mains", "whine", "hiss"]
FAMILIES: tuple[Family, ...] = ("mains", "whine", "hiss")
CauseKind = Literal["pickup", "lead", "loop", "supply", "device"]

NEVER_LIFT = "Never lift a safety earth."
SINGLE, HUMBUCKING, BUFFERED = 3.0, 1.5, 0.7
"""How much likelier than a bad lead a pickup is to catch a field; representative."""


@dataclass(frozen=True)
class Cause:
    """One thing that the noise can come from. `at` names devices or cables of the rig, `weight`
    how much likelier it is than others before anything was tried (representative)."""

    kind: CauseKind
    at: tuple[str, ...]
    words: str
    remedy: str
    weight: float = 1.0


def courses_of(graph: RigGraph, tracks: Iterable[PortRef] = ()) -> dict[PortRef, Course]:
    """The courses of the recorded tracks that start at an instrument, or of some of them."""
    wanted = set(tracks)
    return {
        one.track: one.course
        for one in trace_all(graph)
        if one.course is not None
        and one.course.source is not None
        and (not wanted or one.track in wanted)
    }


def causes_of(graph: RigGraph, family: Family, tracks: Iterable[PortRef] = ()) -> tuple[Cause, ...]:
    """All that a noise of this kind can come from on these tracks (all that are recorded).

    Parameters
    ----------
    graph
        The rig with its instruments.
    family
        What kind of noise.
    tracks
        The tracks that are listened to; none is all.

    Returns
    -------
    The causes in the order of the signal, each that reaches a track at least.
    """
    courses = courses_of(graph, tracks)
    found: dict[tuple[str, tuple[str, ...]], Cause] = {}
    if family == "hiss":
        for course in courses.values():
            if course.source is not None and isinstance(course.source.circuit, Active):
                _add(found, _electronics(course))
    if family != "hiss":
        for course in courses.values():
            _add(found, _pickup(course))
        for one in (*_loops(graph, courses, family), *_supplies(graph, courses, family)):
            _add(found, one)
    for course in courses.values():
        for leg in course.legs:
            if family != "hiss" and catches(graph, leg):
                _add(found, _lead(graph, leg))
            if makes_noise(leg):
                _add(found, _device(leg, family))
    return tuple(one for one in found.values() if reached(graph, one, family, courses))


def _add(found: dict[tuple[str, tuple[str, ...]], Cause], one: Cause) -> None:
    found.setdefault((one.kind, one.at), one)


def catches(graph: RigGraph, leg: Leg) -> bool:
    """Whether the cable behind a leg may catch a field: unbalanced analog, and a cable at all."""
    if leg.cable is None or leg.exit is None:
        return False
    return is_exposed(leg.cable, leg.exit, graph.target(leg.cable).port)


def makes_noise(leg: Leg) -> bool:
    """Whether a leg is a device with electronics at an analog input: it may hum or hiss."""
    if leg.path is None or leg.entry is None or leg.entry.signal_class not in AUDIO_CLASSES:
        return False
    return not all(isinstance(stage, PassiveStage) for stage in leg.path.stages)


# --- each kind ---


def _pickup(course: Course) -> Cause:
    device = course.start.device
    source = course.graph.sources.get(device.id) or representative_of(device)
    circuit = source.circuit
    weight = BUFFERED
    if isinstance(circuit, Magnetic):
        weight = SINGLE if len(circuit.coils) == 1 else HUMBUCKING
    return Cause(
        "pickup", (device.id,), f"The pickup of {source.name} catches a field",
        "Turn until it is least, go further from transformers, screens and dimmers, switch "
        "dimmers off; a humbucking position, or shielding, helps.", weight,
    )  # fmt: skip


def _electronics(course: Course) -> Cause:
    device = course.start.device
    source = course.graph.sources.get(device.id) or representative_of(device)
    return Cause(
        "pickup", (device.id,), f"The electronics of {source.name} hiss",
        "Put a new battery in, and turn down what its own controls raise; else have it looked at.",
    )  # fmt: skip


def _lead(graph: RigGraph, leg: Leg) -> Cause:
    assert leg.cable is not None
    return Cause(
        "lead", (leg.cable.id,), f"The lead {_between(graph, leg.cable.id)} catches a field",
        "Use another lead, and keep it away from mains leads and supplies.",
    )  # fmt: skip


def _between(graph: RigGraph, cable_id: str) -> str:
    cable = next(one for one in graph.rig.cables if one.id == cable_id)
    return f"from {graph.source(cable).device.name} to {graph.target(cable).device.name}"


def _loops(graph: RigGraph, courses: dict[PortRef, Course], family: Family) -> Iterable[Cause]:
    for loop in graph.loops:
        if family == "whine" and not loop & graph.usb_loop_cables:
            continue
        here = dict.fromkeys(
            leg.cable.id
            for course in courses.values()
            for leg in course.legs
            if leg.cable is not None and leg.cable.id in loop and catches(graph, leg)
        )
        if here:
            between = " and ".join(f"the lead {_between(graph, one)}" for one in here)
            remedy = (
                "Put an isolation transformer into that connection, or run both devices from one "
                f"outlet. {NEVER_LIFT}"
                if family == "mains"
                else f"Put a USB isolator between the computer and its device. {NEVER_LIFT}"
            )
            yield Cause("loop", tuple(here), f"A ground loop over {between}", remedy, 3.0)


def _supplies(graph: RigGraph, courses: dict[PortRef, Course], family: Family) -> Iterable[Cause]:
    if family != "mains":
        return
    for course in courses.values():
        for leg in course.legs:
            if leg.cable is not None and leg.cable.id in graph.supply_cables:
                target = graph.target(leg.cable).device
                words = f"The supply that {leg.device.name} and {target.name} share"
                yield Cause(
                    "supply", (leg.cable.id, leg.device.id, target.id), words,
                    "Feed each of them by an isolated output of its own.", 3.0,
                )  # fmt: skip


def _device(leg: Leg, family: Family) -> Cause:
    device = leg.device
    if family == "hiss":
        return Cause(
            "device", (device.id,), f"{device.name} hisses",
            "Turn a gain down that is up ahead of a pad; else have it looked at, or leave it out.",
        )  # fmt: skip
    amp = leg.path is not None and any(stage.kind == "amp" for stage in leg.path.stages)
    what = "whines" if family == "whine" else "hums"
    return Cause(
        "device", (device.id,), f"{device.name} {what} by itself",
        "Another outlet, and away from transformers; a valve that hums, and anything inside, is "
        f"for a licensed technician. {NEVER_LIFT}" if amp
        else f"Feed it by another supply or a battery, from another outlet. {NEVER_LIFT}",
        1.5 if amp else 0.7,
    )  # fmt: skip


# --- what each reaches ---


def reached(
    graph: RigGraph, cause: Cause, family: Family, courses: dict[PortRef, Course] | None = None
) -> frozenset[PortRef]:
    """The tracks to which a cause leads in this rig; none where the rig no longer has it."""
    found = courses_of(graph) if courses is None else courses
    return frozenset(track for track, course in found.items() if _on(course, cause, family))


def _on(course: Course, cause: Cause, family: Family) -> bool:
    graph = course.graph
    if cause.kind == "pickup":
        return course.start.device.id == cause.at[0] and not is_turned_down(course)
    if cause.kind == "device":
        return any(makes_noise(leg) and leg.device.id == cause.at[0] for leg in course.legs)
    cables = {leg.cable.id for leg in course.legs if leg.cable is not None}
    if cause.kind == "lead":
        return cause.at[0] in cables
    if cause.kind == "supply":
        return cause.at[0] in cables & graph.supply_cables
    looped = graph.loop_cables if family == "mains" else graph.usb_loop_cables
    return bool(set(cause.at) & cables & looped)


def is_turned_down(course: Course) -> bool:
    """Whether the volume of the instrument at the start stands at zero."""
    source = course.source
    if source is None or not isinstance(source.circuit, (Magnetic, Active)):
        return False
    controls = source.circuit.controls
    return controls.volume_ohm is not None and controls.volume_ratio <= 0.0
