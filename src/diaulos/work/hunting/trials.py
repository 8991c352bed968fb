"""What a person can do to tell the causes of a noise apart, and what each does to each cause.

A trial is undone after it was listened to, so that each is held against the same thing. No trial
lifts an earth or opens a device.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Literal

from diaulos.circuit.pickup import Active, turned_down
from diaulos.records import dataclass
from diaulos.rig.bench import BenchFaults
from diaulos.rig.catalogue.parts import OUT, port
from diaulos.rig.course import Course, Leg
from diaulos.rig.graph import RECORDER, Plug, RigGraph
from diaulos.rig.model import (
    AUDIO_CLASSES,
    Cable,
    Connector,
    Device,
    PortRef,
    SignalClass,
)
from diaulos.rig.sources import INSTRUMENT, PlayedSource, representative_of
from diaulos.rig.strays import Stray
from diaulos.work.hunting.causes import (
    Cause,
    Family,
    catches,
    courses_of,
    reached,
)

TrialKind = Literal["volume", "turn", "lead", "pull", "outlet", "battery", "computer", "mend"]
Outcome = Literal["gone", "less", "same"]
OUTCOMES: tuple[Outcome, ...] = ("gone", "less", "same")
Chances = dict[Outcome, float]

GONE: Chances = {"gone": 0.90, "less": 0.08, "same": 0.02}
SAME: Chances = {"gone": 0.03, "less": 0.07, "same": 0.90}
"""What is heard of a cause that a trial takes away, or leaves: common practice, no source."""
TURNED: Chances = {"gone": 0.55, "less": 0.35, "same": 0.10}
EARTHED: Chances = {"gone": 0.80, "less": 0.15, "same": 0.05}
SHORTED: Chances = {"gone": 0.15, "less": 0.20, "same": 0.65}
"""A lead with the volume down behind it: a broken shield is quieter at a low impedance."""
FED: Chances = {"gone": 0.60, "less": 0.10, "same": 0.30}
COST: dict[TrialKind, float] = {
    "volume": 1.0, "turn": 1.1, "pull": 1.2, "lead": 1.4, "computer": 1.4, "battery": 1.6,
    "outlet": 2.0, "mend": 1.0,
}  # fmt: skip
"""How much trouble each is, re turning a knob; representative."""
PULLED = "pulled plug"
TURNED_GAIN, MENDED_GAIN, ONE_OUTLET = 0.2, 0.05, 0.03
"""On the bench: of a field after turning and after mending, of the voltage between two outlets
when there is one."""


@dataclass(frozen=True)
class Trial:
    """Something to do: at which device or cable, in words, and how it is undone."""

    kind: TrialKind
    at: str
    words: str
    undo: str = ""


def trials_of(graph: RigGraph, tracks: Iterable[PortRef] = ()) -> tuple[Trial, ...]:
    """All that can be tried in a rig, in the order of the signal.

    Parameters
    ----------
    graph
        The rig with its instruments.
    tracks
        The tracks that are listened to; none is all.

    Returns
    -------
    Each once; none that needs what the rig does not have.
    """
    found: dict[tuple[str, str], Trial] = {}
    courses = courses_of(graph, tracks)
    for course in courses.values():
        for one in _at_the_instrument(course):
            found.setdefault((one.kind, one.at), one)
        for leg in course.legs:
            if leg.cable is None or not is_plug(leg):
                continue
            cable = leg.cable
            source, target = graph.source(cable), graph.target(cable)
            found.setdefault(("pull", cable.id), _pull(cable.id, target))
            if not catches(graph, leg):
                continue
            found.setdefault(
                ("lead", cable.id),
                Trial(
                    "lead", cable.id,
                    f"Use another lead from {source.device.name} to {target.device.name}.",
                ),
            )  # fmt: skip
    for one in (*_of_supplies(graph, courses), *_of_earths(graph)):
        found.setdefault((one.kind, one.at), one)
    return tuple(found.values())


def is_plug(leg: Leg) -> bool:
    """Whether the cable behind a leg carries sound that may be pulled while all is on: analog, and
    no loudspeaker's, which is never pulled from an amplifier that is on."""
    return leg.exit is not None and leg.exit.signal_class in AUDIO_CLASSES


def _pull(cable_id: str, target: Plug) -> Trial:
    first = "Switch its phantom power off first, then pull" if target.port.phantom else "Pull"
    return Trial("pull", cable_id, f"{first} the plug out of {target.words}.", "Plug it in.")


def _at_the_instrument(course: Course) -> Iterable[Trial]:
    device = course.start.device
    source = course.graph.sources.get(device.id) or representative_of(device)
    if turned_down(source.circuit) is not None:
        yield Trial(
            "volume", device.id, f"Turn the volume of {source.name} to 0.", "Turn it up again."
        )
    yield Trial(
        "turn", device.id,
        f"Turn with {source.name} and walk some steps; stay where it is least.", "Come back.",
    )  # fmt: skip


def _of_supplies(graph: RigGraph, courses: dict[PortRef, Course]) -> Iterable[Trial]:
    on_way = {leg.device.id for course in courses.values() for leg in course.legs}
    for _, source, target in graph.cables():
        if source.port.signal_class is SignalClass.POWER and target.device.id in on_way:
            yield Trial(
                "battery", target.device.id,
                f"Feed {target.device.name} by a battery or a supply of its own.",
                f"Feed it by {source.device.name} again.",
            )  # fmt: skip


def _of_earths(graph: RigGraph) -> Iterable[Trial]:
    if not graph.loops:
        return
    yield Trial(
        "outlet", "",
        "Feed all devices from one outlet, if its rating allows it (amplifiers and screens count).",
        "Feed them as before.",
    )  # fmt: skip
    for device in graph.of_kind(RECORDER):
        if device.earthed:
            yield Trial(
                "computer", device.id,
                f"Run {device.name} on its battery: take its charger out of the outlet.",
                "Plug the charger in.",
            )  # fmt: skip


# --- what is heard ---


def chances(graph: RigGraph, cause: Cause, family: Family, trial: Trial, track: PortRef) -> Chances:
    """How likely each outcome on a track is, were this the cause; a track that it does not reach
    stays as it is."""
    if track not in reached(graph, cause, family):
        return SAME
    if trial.kind == "turn":
        return TURNED if cause.kind == "pickup" and trial.at == cause.at[0] else SAME
    if trial.kind == "lead":
        return GONE if cause.kind == "lead" and trial.at == cause.at[0] else SAME
    if trial.kind == "outlet":
        return EARTHED if cause.kind == "loop" and family == "mains" else SAME
    if trial.kind == "volume" and cause.kind == "lead" and _is_at(graph, cause, trial.at):
        return SHORTED
    if trial.kind == "battery" and cause.kind == "device" and trial.at == cause.at[0]:
        return FED
    after = acted(graph, trial)
    return SAME if track in reached(after, cause, family) else GONE


def _is_at(graph: RigGraph, cause: Cause, device: str) -> bool:
    """Whether a lead is the one behind an instrument."""
    return any(one.id == cause.at[0] and one.source.device == device for one in graph.rig.cables)


def acted(graph: RigGraph, trial: Trial) -> RigGraph:
    """The rig while a trial is done: as far as it is a change of the rig."""
    kept = graph.kept.setdefault("acted", {})
    if trial not in kept:
        kept[trial] = _acted(graph, trial)
    found: RigGraph = kept[trial]
    return found


def _acted(graph: RigGraph, trial: Trial) -> RigGraph:
    rig = graph.rig
    if trial.kind == "volume":
        device = rig.device(trial.at)
        source = graph.sources.get(device.id) or representative_of(device)
        down = turned_down(source.circuit)
        return graph.played_by({device.id: replace(source, circuit=down or source.circuit)})
    if trial.kind == "pull":
        return _pulled(graph, trial.at)
    if trial.kind == "battery":
        kept = tuple(
            one for one in rig.cables
            if one.target.device != trial.at
            or graph.source(one).port.signal_class is not SignalClass.POWER
        )  # fmt: skip
        return graph.of(rig.model_copy(update={"cables": kept}))
    if trial.kind == "computer":
        device = rig.device(trial.at).model_copy(update={"earthed": False})
        return graph.of(rig.with_device(device))
    return graph


def _pulled(graph: RigGraph, cable_id: str) -> RigGraph:
    """With a plug pulled out and nothing but a short in its place: what starts there is silent."""
    rig = graph.rig
    cable = next(one for one in rig.cables if one.id == cable_id)
    out = port("out", "Out", OUT, Connector.TS, SignalClass.INSTRUMENT, 1.0)
    stand_in = Device(id=PULLED, kind=INSTRUMENT, name="Nothing", ports=(out,))
    short = Cable(
        id=PULLED, source=PortRef(device=PULLED, port="out"), target=cable.target, length_m=0.0
    )
    cables = tuple(short if one.id == cable_id else one for one in rig.cables)
    changed = rig.model_copy(update={"devices": (*rig.devices, stand_in), "cables": cables})
    return graph.played_by({PULLED: PlayedSource("Nothing", Active(1.0), -200.0)}, changed)


# --- on the bench ---


@dataclass(frozen=True, eq=False)
class Studio:
    """A rig and what is wrong with the room, as the bench plays them."""

    graph: RigGraph
    faults: BenchFaults

    def after(self, trial: Trial) -> Studio:
        """While somebody does what a trial says."""
        faults = self.faults
        if trial.kind == "turn":
            faults = _quieter(faults, "pickup", trial.at, TURNED_GAIN)
        elif trial.kind in ("lead", "pull"):
            faults = _quieter(faults, "cable", trial.at, 0.0)
        elif trial.kind == "outlet":
            faults = replace(faults, earth_gain=ONE_OUTLET)
        return Studio(acted(self.graph, trial), faults)

    def mended(self, cause: Cause) -> Studio:
        """After the remedy of a cause."""
        graph, faults = self.graph, self.faults
        if cause.kind == "pickup":
            faults = _quieter(faults, "pickup", cause.at[0], MENDED_GAIN)
        elif cause.kind in ("lead", "device"):
            place = "cable" if cause.kind == "lead" else "device"
            faults = _quieter(faults, place, cause.at[0], 0.0)
        elif cause.kind == "loop":
            faults = replace(faults, isolated=faults.isolated | set(cause.at))
        else:
            graph = acted(graph, Trial("battery", cause.at[-1], ""))
        return Studio(graph, faults)


def _quieter(faults: BenchFaults, place: str, at: str, gain: float) -> BenchFaults:
    strays: list[Stray] = []
    for one in faults.strays:
        if (one.place, one.at) == (place, at):
            one = replace(one, rms_v=gain * one.rms_v)
        if one.rms_v > 0.0:
            strays.append(one)
    return replace(faults, strays=tuple(strays))
