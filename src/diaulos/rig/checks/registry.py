"""What a check is: an id, words for the manual, and a function that yields findings."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import field
from enum import IntEnum
from functools import cached_property

from diaulos.errors import DiaulosError
from diaulos.records import dataclass
from diaulos.rig.course import Course, TracedTrack, trace, trace_all
from diaulos.rig.graph import Plug, RigGraph
from diaulos.rig.model import Cable, Choice, PlannedTrack, PortRef, Rig
from diaulos.rig.monitoring import MonitorPlan, plan_monitoring
from diaulos.rig.trackplan import PlannedLevel, TrackPlan, course_levels, plan_traced

Change = Callable[[Rig], Rig]


class Severity(IntEnum):
    """How bad it is."""

    NOTE = 1
    CAUTION = 2
    FAULT = 3
    DANGER = 4

    @property
    def word(self) -> str:
        """For a person and for JSON."""
        return self.name.lower()


@dataclass(frozen=True)
class Mend:
    """A remedy that can be applied: a rig in, a rig out."""

    label: str
    change: Change


@dataclass(frozen=True)
class Finding:
    """What a check found at one place. `port` or `cable` is where it is drawn; `track` is
    the recorded track that it is about, if it is about one."""

    id: str
    severity: Severity
    where: str
    cause: str
    consequence: str
    remedy: str
    port: PortRef | None = None
    cable: str = ""
    device: str = ""
    track: PortRef | None = None
    mend: Mend | None = field(default=None, compare=False)
    state: str = ""
    """"reamp" where only the rig's state Reamp has it."""

    @property
    def key(self) -> tuple[str, str]:
        """What it is and where, whatever its figures are."""
        place = self.cable or (str(self.port) if self.port else self.device)
        return self.id, place


class Context:
    """A rig being checked: what several checks ask, worked out once."""

    def __init__(
        self, graph: RigGraph, rate_hz: float = 48_000.0, target_peak_dbfs: float = -12.0
    ) -> None:
        self.graph = graph
        self.rate_hz = rate_hz
        self.target_peak_dbfs = target_peak_dbfs

    @property
    def rig(self) -> Rig:
        """The rig."""
        return self.graph.rig

    @cached_property
    def traced(self) -> tuple[TracedTrack, ...]:
        """Every recorded track with its course, or why there is none."""
        return trace_all(self.graph)

    @cached_property
    def courses(self) -> tuple[Course, ...]:
        """The courses that there are."""
        return tuple(one.course for one in self.traced if one.course is not None)

    @cached_property
    def plans(self) -> tuple[TrackPlan, ...]:
        """The level plan of every recorded track that has one."""
        return tuple(one for one in plan_traced(self.traced) if one.levels)

    @cached_property
    def peaks(self) -> dict[tuple[str, str], float]:
        """The loudest peaks in dBu that the courses bring to ports."""
        found: dict[tuple[str, str], float] = {}
        for one in self.plans:
            _loudest(found, one.levels, one.course)
        return found

    def peak_at(self, source: Plug) -> float | None:
        """The loudest peak in dBu that an output gives, as it is planned: on the way to a
        track, or else to whatever it is plugged into. None where nobody knows."""
        key = (source.device.id, source.port.id)
        if key not in self.peaks:
            for cable in self.graph.out_of.get(key, ()):
                try:
                    course = trace(self.graph, cable.target)
                    _loudest(self.peaks, course_levels(course), course)
                except DiaulosError:
                    continue  # nothing is played there, or it cannot be worked out
        return self.peaks.get(key)

    @cached_property
    def monitoring(self) -> MonitorPlan:
        """Who hears what."""
        return plan_monitoring(self.graph, self.rate_hz)

    @cached_property
    def planned(self) -> dict[PortRef, PlannedTrack]:
        """The tracks that are meant to be recorded, by port."""
        return {track.port: track for track in self.rig.tracks}

    def track_name(self, track: PortRef) -> str:
        """What a person calls it."""
        if track in self.planned:
            return self.planned[track].name
        return self.graph.plug(track).port.name


def _loudest(
    found: dict[tuple[str, str], float], levels: tuple[PlannedLevel, ...], course: Course | None
) -> None:
    assert course is not None
    for level in levels:
        if level.unit == "dBu":
            key = (course.legs[level.point.leg].device.id, level.point.port.id)
            found[key] = max(found.get(key, -1e9), level.peak)


Check = Callable[[Context], Iterator[Finding]]


@dataclass(frozen=True)
class CheckInfo:
    """A check with its line in the manual."""

    id: str
    severities: tuple[Severity, ...]
    looks_for: str
    why: str
    run: Check


REGISTRY: dict[str, CheckInfo] = {}


def check(ident: str, *severities: Severity, looks_for: str, why: str) -> Callable[[Check], Check]:
    """Register a check."""

    def registered(run: Check) -> Check:
        if ident in REGISTRY:
            raise ValueError(f"two checks are called {ident}")
        REGISTRY[ident] = CheckInfo(ident, severities, looks_for, why, run)
        return run

    return registered


# --- what many findings need ---


def at_cable(graph: RigGraph, cable: Cable) -> str:
    """A cable in words."""
    return f"{graph.source(cable).words} → {graph.target(cable).words}"


def set_mend(plug: Plug, setting: str, value: float | str) -> Mend | None:
    """Set a control or choice of a device, where it exists."""
    device = plug.device
    if not device.has_setting(setting):
        return None
    entry = device.setting(setting)
    words = dict(entry.options).get(str(value), str(value)) if isinstance(entry, Choice) else (
        f"{value:g} {entry.unit}".strip()
    )  # fmt: skip
    return Mend(
        f"{device.name}: set {entry.name} to {words}",
        lambda rig: rig.with_setting(device.id, setting, value),
    )


def unplug_mend(cable: Cable, words: str) -> Mend:
    """Take a cable away."""
    return Mend(
        f"Unplug {words}",
        lambda rig: rig.model_copy(
            update={"cables": tuple(c for c in rig.cables if c.id != cable.id)}
        ),
    )
