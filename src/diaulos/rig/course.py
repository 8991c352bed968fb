"""Courses: the ordered run of stations from where a signal starts to a recorded track.

A course is found backwards from the track: the cable into a port, the output it comes
from, the path inside that device, the input before it, and so on. It ends where an output
has no path behind it: at an instrument, or at a track that is played. A port of several
channels is followed on one of them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from functools import cached_property
from typing import Any

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.graph import RECORDER, RigGraph
from diaulos.rig.kept import Kept
from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    CabinetStage,
    Cable,
    CableKind,
    DacStage,
    DelayStage,
    Device,
    Path,
    Port,
    PortRef,
    Rig,
    Stage,
    Tap,
)
from diaulos.rig.sources import INSTRUMENT, PlayedSource, representative_of
from diaulos.rig.stages import StageReader
from diaulos.units import metres_to_ms, samples_to_ms

PLAY_KIND = RECORDER


class CircleError(RigError):
    """A course that comes back to where it was."""


@dataclass(frozen=True)
class Leg:
    """One device on a course: where the signal comes in, what happens, where it goes out.

    `entry` is None at the start, `exit` and `path` are None at the track; `cable` leads on.
    """

    device: Device
    entry: Port | None
    path: Path | None
    exit: Port | None
    cable: Cable | None
    channel: int = 0
    """Of the exit, counted from 0."""

    @property
    def has_cabinet(self) -> bool:
        """Whether the signal goes through a cabinet here."""
        stages = self.path.stages if self.path is not None else ()
        return any(
            isinstance(stage, CabinetStage) and self.device.word(stage.setting) != "none"
            for stage in stages
        )


@dataclass(frozen=True, eq=False)
class Course:
    """The legs from the start to the track."""

    graph: RigGraph
    track: PortRef
    legs: tuple[Leg, ...]
    source: PlayedSource | None = None
    """The instrument at the start; None where a track is played."""
    kept: dict[str, Any] = field(default_factory=dict, init=False, repr=False)
    """What was worked out for this course and does not change."""

    @property
    def rig(self) -> Rig:
        """The rig that it runs through."""
        return self.graph.rig

    @property
    def start(self) -> Leg:
        """Where the signal begins."""
        return self.legs[0]

    def has_stage(self, kind: str) -> bool:
        """Whether some device on the course has a stage of this kind."""
        return any(stage.kind == kind for leg in self.legs if leg.path for stage in leg.path.stages)

    @cached_property
    def tap(self) -> Tap:
        """Where the course leaves the shared path."""
        return tap_of(self)

    @property
    def conversions(self) -> int:
        """How often the signal changes between analog and digital."""
        return sum(
            isinstance(stage, (AdcStage, DacStage))
            for leg in self.legs
            if leg.path
            for stage in leg.path.stages
        )

    @property
    def digital_links(self) -> tuple[Cable, ...]:
        """The cables that carry it as numbers between two devices."""
        return tuple(
            leg.cable
            for leg in self.legs
            if leg.cable and leg.exit and leg.exit.signal_class.value in ("digital", "stream")
        )

    def delay_ms(self, rate_hz: float) -> float:
        """From the start to the track: converters, processing, and air."""
        return sum(leg_delay_ms(leg, rate_hz) for leg in self.legs)


def leg_delay_ms(leg: Leg, rate_hz: float) -> float:
    """Time in a device and through the air behind it."""
    total = 0.0
    for stage in leg.path.stages if leg.path else ():
        total += stage_delay_ms(stage, leg.device, rate_hz)
    if leg.cable is not None and leg.exit is not None and leg.exit.signal_class.value == "sound":
        total += metres_to_ms(leg.cable.length_m)
    return total


@dataclass(frozen=True)
class _Delay(StageReader[float]):
    """Time that stages take, in ms."""

    device: Device
    rate_hz: float

    def _converter(self, stage: AdcStage | DacStage) -> float:
        return samples_to_ms(stage.latency_samples, self.rate_hz)

    adc = dac = _converter

    def delay(self, stage: DelayStage) -> float:
        samples = self.device.number(stage.control)
        if stage.buffer is not None:
            samples += stage.buffers * float(self.device.word(stage.buffer))
        return stage.ms + samples_to_ms(samples, self.rate_hz)

    def _none(self, stage: Stage) -> float:
        return 0.0

    gain = passive = amp = compressor = cabinet = filter = _none


def stage_delay_ms(stage: Stage, device: Device, rate_hz: float) -> float:
    """Time that a stage takes."""
    return _Delay(device, rate_hz).read(stage)


TAP_ADJECTIVES: dict[str, str] = {
    "di": "dry", "printed": "printed after pedals", "amp": "amp without cabinet",
    "cabinet": "amp and cabinet", "modeled": "modeled", "mic": "microphone",
}  # fmt: skip


def tap_of(course: Course) -> Tap:
    """Dry, printed behind pedals, amp, amp and cabinet, modeled, or microphone."""
    found: Tap = "di"
    for leg in course.legs:
        if leg.device.kind == "microphone":
            return "mic"
        if leg.path is None:
            continue
        if leg.path.printed and found == "di":
            found = "printed"
        for stage in leg.path.stages:
            if isinstance(stage, AmpStage):
                if stage.full_scale_dbu is not None and found in ("di", "printed"):
                    found = "modeled"
                elif stage.full_scale_dbu is None and found != "modeled":
                    found = "amp"
            elif isinstance(stage, CabinetStage) and leg.device.word(stage.setting) != "none":
                found = "modeled" if found in ("di", "printed", "modeled") else "cabinet"
    return found


def trace(rig: Rig | RigGraph, track: PortRef) -> Course:
    """The course that ends at this input.

    Raises RigError where the way back is missing, divides, or runs in a circle.
    """
    graph = rig if isinstance(rig, RigGraph) else RigGraph(rig)
    here = graph.plug(track)
    legs = [Leg(here.device, here.port, None, None, None)]
    seen: set[tuple[str, str, int]] = set()
    channel = 0
    while True:
        cable = _cable_into(graph, here.ref)
        behind = graph.source(cable)
        key = (behind.device.id, behind.port.id, channel)
        if key in seen:
            raise CircleError(
                "The rig feeds back into itself here.",
                where=str(cable.source),
                remedy="Unplug one of the cables of the circle: it would howl.",
            )
        seen.add(key)
        if channel >= behind.port.channels:
            raise RigError(
                f"{behind.words} carries {behind.port.channels} channel(s); "
                f"channel {channel + 1} is wanted.",
                where=behind.words,
                remedy="Use a connection with more channels, or another input.",
            )
        path = _path_to(graph, behind.device, behind.port, channel)
        if path is None:
            legs.append(Leg(behind.device, None, None, behind.port, cable, channel))
            return Course(graph, track, tuple(reversed(legs)), source_of(graph, behind.device))
        entry = graph.plug(PortRef(device=behind.device.id, port=path.source))
        legs.append(Leg(behind.device, entry.port, path, behind.port, cable, channel))
        here, channel = entry, path.source_channel


def source_of(graph: RigGraph, device: Device) -> PlayedSource | None:
    """The instrument that a device stands for; None for a recorder that plays."""
    if device.kind != INSTRUMENT:
        return None
    known: Mapping[str, PlayedSource] = graph.sources
    return known.get(device.id) or representative_of(device)


def _path_to(graph: RigGraph, device: Device, port: Port, channel: int) -> Path | None:
    """The path behind an output: the one that something feeds, where several are mixed."""
    if device.kind == RECORDER:
        return None  # a played track, whatever the computer's monitoring adds
    paths = [p for p in graph.paths_to(device.id, port.id) if p.target_channel == channel]
    if len(paths) > 1:
        plugged = [p for p in paths if graph.into.get((device.id, p.source))]
        paths = plugged or paths
    if len(paths) > 1:
        fed = [p for p in paths if _is_fed(graph, (device.id, p.source), set())]
        paths = fed or paths
    return paths[0] if paths else None


def _is_fed(graph: RigGraph, key: tuple[str, str], seen: set[tuple[str, str]]) -> bool:
    """Whether an instrument or a played track leads here."""
    if key in seen:
        return False
    seen.add(key)
    for cable in graph.into.get(key, ()):
        device = graph.source(cable).device
        if device.kind in (RECORDER, INSTRUMENT):
            return True
        for path in graph.paths_to(device.id, cable.source.port):
            if _is_fed(graph, (device.id, path.source), seen):
                return True
    return False


def _cable_into(graph: RigGraph, ref: PortRef) -> Cable:
    cables = graph.into.get((ref.device, ref.port), [])
    if not cables:
        raise RigError(
            "Nothing is plugged in here.", where=graph.plug(ref).words, remedy="Plug in a cable."
        )
    if len(cables) > 1:
        if all(cable.kind is CableKind.AIR for cable in cables):
            return cables[0]  # a microphone hears the nearest first; the others bleed in
        raise RigError(
            f"{len(cables)} cables end in one input.",
            where=graph.plug(ref).words,
            remedy="Unplug all but one.",
        )
    return cables[0]


@dataclass(frozen=True, eq=False)
class TracedTrack:
    """A recorded track: its course, or why there is none."""

    track: PortRef
    course: Course | None
    problem: RigError | None = None


def trace_all(graph: RigGraph) -> tuple[TracedTrack, ...]:
    """Every recorded track, in the recorder's order. Kept with the graph."""
    if "traced" in graph.kept:
        kept: tuple[TracedTrack, ...] = graph.kept["traced"]
        return kept
    found = []
    for track in graph.tracks:
        try:
            found.append(TracedTrack(track, trace(graph, track)))
        except RigError as error:
            found.append(TracedTrack(track, None, error))
    graph.kept["traced"] = tuple(found)
    return tuple(found)


def tracks(rig: Rig) -> tuple[PortRef, ...]:
    """The inputs of recorders that something is plugged into, in the rig's order."""
    return RigGraph(rig).tracks


def reamp_course(rig: Rig) -> Course:
    """The course that a reamp's send is worked out for: it starts at a played track and ends at
    a recorded one. RigError when there is none."""
    return reamp_courses(rig)[0]


def reamp_courses(rig: Rig) -> tuple[Course, ...]:
    """Every way by which a sent track comes back, in the recorder's order; ahead of all the
    first one through an amplifier, for which the send is worked out. All start at its played
    channel. RigError when there is none.
    """
    graph = RigGraph(rig)
    first_problem: RigError | None = None
    found: list[Course] = []
    for traced in trace_all(graph):
        if traced.course is None:
            first_problem = first_problem or traced.problem
        elif traced.course.start.device.kind == PLAY_KIND:
            found.append(traced.course)
    if found:
        main = next((one for one in found if one.has_stage("amp")), found[0])
        others = [one for one in found if one is not main and _begins(one) == _begins(main)]
        return (main, *others)
    if first_problem is not None:
        raise first_problem
    raise RigError(
        f"{rig.name} has no reamp path: an output, an amplifier and an input for the return.",
        remedy="Choose another reamp rig, or plug an output into a reamp box and the amplifier.",
    )


def _begins(course: Course) -> tuple[str, str, int]:
    start = course.start
    return start.device.id, start.exit.id if start.exit else "", start.channel


_REAMPS: Kept[tuple[Rig, bool]] = Kept(512)
"""A rig never changes, and every view asks it of every rig behind every edit."""


def can_reamp(rig: Rig) -> bool:
    """Whether a played track leads through an amplifier back to a recorded one."""

    def found() -> tuple[Rig, bool]:
        try:
            return rig, reamp_course(rig).has_stage("amp")
        except RigError:
            return rig, False

    # Kept with the rig itself: while it is held, nothing else has its identity.
    return _REAMPS.get(id(rig), found)[1]
