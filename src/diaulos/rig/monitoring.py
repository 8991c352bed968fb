"""Who hears what by which way, and how late.

Ways are followed back from a listener: an instrument or microphone heard without the
computer is direct, one heard through it is software monitoring, a played track is playback.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from heapq import heappop, heappush
from typing import Literal

from diaulos.rig.course import stage_delay_ms
from diaulos.rig.graph import RECORDER, Plug, RigGraph
from diaulos.rig.model import (
    Choice,
    Connector,
    DelayStage,
    Device,
    Direction,
    Path,
    SignalClass,
)
from diaulos.rig.sources import INSTRUMENT
from diaulos.units import metres_to_ms, samples_to_ms, speed_of_sound_m_per_s

LISTENERS = ("headphones", "monitor")
LATE_MS = 10.0
"""From where most players feel software monitoring (common practice, no source)."""

WayKind = Literal["direct", "software", "playback"]


@dataclass(frozen=True)
class Way:
    """One way from a source to a listener: in ms, and as far as sound goes in that time."""

    kind: WayKind
    source: str
    source_id: str
    delay_ms: float
    through: tuple[str, ...]

    @property
    def metres(self) -> float:
        """The distance in air of the same delay."""
        return self.delay_ms * speed_of_sound_m_per_s() / 1000.0


@dataclass(frozen=True)
class Doubled:
    """A source that a listener hears twice."""

    source: str
    apart_ms: float


@dataclass(frozen=True)
class Listening:
    """A listener's plan."""

    listener: str
    listener_id: str
    ways: tuple[Way, ...]
    doubled: tuple[Doubled, ...]
    buffer_limit: int | None
    """The largest buffer at which its software monitoring stays under the limit; None when
    it has none, 0 when not even the smallest does."""


@dataclass(frozen=True)
class MonitorPlan:
    """Every listener, what to mute, and whether any of it reaches a recording."""

    listeners: tuple[Listening, ...]
    mute: tuple[str, ...]
    recorded_unchanged: bool


def plan_monitoring(graph: RigGraph, rate_hz: float, limit_ms: float = LATE_MS) -> MonitorPlan:
    """The monitoring of a rig."""
    listeners = []
    for device in graph.of_kind(*LISTENERS):
        for port in device.ports:
            if port.direction is Direction.IN and graph.into.get((device.id, port.id)):
                ways = _ways(graph, device, port.id, rate_hz)
                listeners.append(
                    Listening(
                        device.name,
                        device.id,
                        ways,
                        _doubled(ways),
                        _buffer_limit(graph, ways, rate_hz, limit_ms),
                    )
                )
    return MonitorPlan(tuple(listeners), _mute(graph, listeners), _unchanged(graph))


def _ways(graph: RigGraph, device: Device, port_id: str, rate_hz: float) -> tuple[Way, ...]:
    """All sources of a listener; of several ways of one kind the quickest counts: ports are
    taken in the order of their delay (Dijkstra)."""
    found: dict[tuple[str, str], Way] = {}
    waiting: list[tuple[float, str, str, bool, tuple[str, ...]]] = [
        (0.0, device.id, port_id, False, ())
    ]
    seen: set[tuple[str, str, bool]] = set()
    while waiting:
        late, at, port, software, through = heappop(waiting)
        if (at, port, software) in seen:
            continue
        seen.add((at, port, software))
        for cable in graph.into.get((at, port), ()):
            behind = graph.source(cable)
            air = (
                metres_to_ms(cable.length_m)
                if behind.port.signal_class is SignalClass.SOUND
                else 0.0
            )
            for step in _behind(graph, behind, late + air, software, through, rate_hz, found):
                heappush(waiting, step)
    order = {"direct": 0, "software": 1, "playback": 2}
    return tuple(sorted(found.values(), key=lambda way: (order[way.kind], way.source_id)))


def _behind(
    graph: RigGraph,
    behind: Plug,
    late: float,
    software: bool,
    through: tuple[str, ...],
    rate_hz: float,
    found: dict[tuple[str, str], Way],
) -> list[tuple[float, str, str, bool, tuple[str, ...]]]:
    device = behind.device
    through = (device.name, *through)
    paths = graph.paths_to(device.id, behind.port.id)
    if device.kind == RECORDER:
        key = ("playback", device.id)
        found.setdefault(key, Way("playback", f"{device.name}: tracks", device.id, late, through))
        software = True
    elif not paths:
        if device.kind == INSTRUMENT:
            kind: WayKind = "software" if software else "direct"
            old = found.get((kind, device.id))
            if old is None or late < old.delay_ms:
                found[kind, device.id] = Way(kind, device.name, device.id, late, through)
        return []
    return [
        (late + _path_ms(path, device, rate_hz), device.id, path.source, software, through)
        for path in paths
    ]


def _path_ms(path: Path, device: Device, rate_hz: float) -> float:
    return sum(stage_delay_ms(stage, device, rate_hz) for stage in path.stages)


def _doubled(ways: tuple[Way, ...]) -> tuple[Doubled, ...]:
    by_source: dict[str, list[Way]] = defaultdict(list)
    for way in ways:
        if way.kind != "playback":
            by_source[way.source_id].append(way)
    return tuple(
        Doubled(group[0].source, max(w.delay_ms for w in group) - min(w.delay_ms for w in group))
        for group in by_source.values()
        if len({way.kind for way in group}) > 1
    )


def _buffer_limit(
    graph: RigGraph, ways: tuple[Way, ...], rate_hz: float, limit_ms: float
) -> int | None:
    software = [way for way in ways if way.kind == "software"]
    if not software:
        return None
    late = max(way.delay_ms for way in software)
    for device in graph.of_kind(RECORDER):
        if not device.has_setting("buffer"):
            continue
        now = float(device.word("buffer"))
        buffers = max(
            (
                stage.buffers
                for path in device.live_paths
                for stage in path.stages
                if isinstance(stage, DelayStage) and stage.buffer
            ),
            default=0,
        )
        rest = late - samples_to_ms(buffers * now, rate_hz)
        setting = device.setting("buffer")
        assert isinstance(setting, Choice)
        sizes = sorted(int(value) for value, _ in setting.options)
        fitting = [n for n in sizes if rest + samples_to_ms(buffers * n, rate_hz) <= limit_ms]
        return fitting[-1] if fitting else 0
    return None


def _unchanged(graph: RigGraph) -> bool:
    """Whether the ways to the listeners leave every recorded course alone: nothing on a
    course comes out of a recorder's monitoring or a direct mixer."""
    from diaulos.rig.course import trace_all

    for traced in trace_all(graph):
        if traced.course is None:
            continue
        for leg in traced.course.legs:
            if leg.path is not None and any(
                setting in ("direct", "monitoring") for setting, _ in leg.path.when
            ):
                return False
    return True


def _mute(graph: RigGraph, listeners: list[Listening]) -> tuple[str, ...]:
    found = []
    if any(d.kind == "microphone" for d in graph.rig.devices):
        for device in graph.of_kind("monitor"):
            found.append(f"Mute {device.name}: the microphones hear it.")
    for one in listeners:
        if one.doubled:
            found.append(
                f"{one.listener}: mute the software way of "
                f"{', '.join(d.source for d in one.doubled)}, or switch direct monitoring off."
            )
    dry = _dry_to_pull(graph, listeners)
    if dry:
        found.append(f"Pull {', '.join(dry)} down in the monitor mix; keep it armed.")
    if any(t.source and _plays(graph, t.source) for t in graph.rig.tracks):
        found.append("Mute the stored DI in the mix while it is sent out.")
    phantom = any(
        plug.port.phantom and plug.port.connector in (Connector.XLR, Connector.COMBO)
        for plug in graph.plugs(Direction.IN)
    )
    if phantom:
        found.append("Mute the monitors before phantom power is switched or a cable is plugged.")
    return tuple(found)


def _dry_to_pull(graph: RigGraph, listeners: list[Listening]) -> list[str]:
    """The dry tracks that can be pulled down and need not be heard: a recorder's software
    monitoring has a fader for each track, and another track of the same source stays."""
    faders = any(
        device.has_setting("monitoring") and device.word("monitoring") == "on"
        for device in graph.of_kind(RECORDER)
    )
    heard = {way.source_id for one in listeners for way in one.ways if way.kind == "software"}
    tracks = graph.rig.tracks
    return [
        track.name
        for track in tracks
        if faders
        and track.tap == "di"
        and track.source in heard
        and any(other.source == track.source and other.tap != "di" for other in tracks)
    ]


def _plays(graph: RigGraph, device_id: str) -> bool:
    device = graph.devices.get(device_id)
    return device is not None and device.kind == RECORDER
