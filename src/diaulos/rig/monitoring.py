"""Who hears what by which way, and how late.

Ways are followed back from a listener: an instrument or microphone heard without the
computer is direct, one heard through it is software monitoring, a played track is playback.
"""

from __future__ import annotations

from dataclasses import replace
from heapq import heappop, heappush
from typing import Literal

from diaulos.records import dataclass
from diaulos.rig.course import stage_delay_ms
from diaulos.rig.graph import RECORDER, Plug, RigGraph
from diaulos.rig.mixer import strip_of
from diaulos.rig.model import (
    IN_THE_COMPUTER,
    AmpStage,
    CabinetStage,
    Choice,
    Connector,
    DelayStage,
    Device,
    Direction,
    Path,
    SignalClass,
    Tap,
)
from diaulos.rig.sources import INSTRUMENT
from diaulos.units import metres_to_ms, samples_to_ms, speed_of_sound_m_per_s

LISTENERS = ("headphones", "monitor")
LATE_MS = 10.0
"""From where most players feel software monitoring (common practice, no source)."""

WayKind = Literal["direct", "software", "playback"]
PLAYBACK = "playback"
MOST_STEPS = 20_000
"""So many ports are looked at for one listener."""


@dataclass(frozen=True)
class Way:
    """One way from a source to a listener: in ms, and as far as sound goes in that time. `tap`
    is where it leaves the shared path (None for playback), `strip` the fader that it comes by
    and `mixer` the device that has it, "" where it has none. `sides` are the ears: -1, 1."""

    kind: WayKind
    source: str
    source_id: str
    delay_ms: float
    through: tuple[str, ...]
    tap: Tap | None = None
    mixer: str = ""
    strip: str = ""
    strip_name: str = ""
    sides: tuple[int, ...] = (-1, 1)

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
class Layered:
    """A source that a listener hears dry and processed at once, by the same kind of way. `dry`
    is the way that can be pulled down."""

    source: str
    dry: Way
    wet: Way

    @property
    def apart_ms(self) -> float:
        """How far the two are apart."""
        return abs(self.wet.delay_ms - self.dry.delay_ms)


@dataclass(frozen=True)
class Listening:
    """A listener's plan."""

    listener: str
    listener_id: str
    ways: tuple[Way, ...]
    doubled: tuple[Doubled, ...]
    layered: tuple[Layered, ...]
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
                        _layered(ways),
                        _buffer_limit(graph, ways, rate_hz, limit_ms),
                    )
                )
    return MonitorPlan(tuple(listeners), _mute(graph, listeners), _unchanged(graph))


@dataclass(frozen=True)
class _At:
    """A place on the way back from a listener, and what was met since."""

    device: str
    port: str
    channel: int = 0
    software: bool = False
    met: frozenset[str] = frozenset()
    mixer: str = ""
    strip: str = ""
    strip_name: str = ""
    sides: tuple[int, ...] = (-1, 1)


def _ways(graph: RigGraph, device: Device, port_id: str, rate_hz: float) -> tuple[Way, ...]:
    """All ways of all sources to a listener; of several of one kind, tap and fader the quickest
    counts: places are taken in the order of their delay (Dijkstra)."""
    found: dict[tuple[str, str, str, str], Way] = {}
    count = 0
    waiting: list[tuple[float, int, _At, tuple[str, ...]]] = [(0.0, 0, _At(device.id, port_id), ())]
    seen: set[_At] = set()
    while waiting and len(seen) < MOST_STEPS:
        late, _, at, through = heappop(waiting)
        if at in seen:
            continue
        seen.add(at)
        for cable in graph.into.get((at.device, at.port), ()):
            behind = graph.source(cable)
            air = (
                metres_to_ms(cable.length_m)
                if behind.port.signal_class is SignalClass.SOUND
                else 0.0
            )
            for step, place, names in _behind(graph, behind, at, late + air, through, rate_hz,
                                              found):  # fmt: skip
                count += 1
                heappush(waiting, (step, count, place, names))
    order = {"direct": 0, "software": 1, "playback": 2}
    return tuple(
        sorted(found.values(), key=lambda way: (order[way.kind], way.source_id, way.delay_ms))
    )


def _behind(
    graph: RigGraph,
    behind: Plug,
    at: _At,
    late: float,
    through: tuple[str, ...],
    rate_hz: float,
    found: dict[tuple[str, str, str, str], Way],
) -> list[tuple[float, _At, tuple[str, ...]]]:
    device = behind.device
    through = (device.name, *through)
    paths = graph.paths_to(device.id, behind.port.id)
    at = replace(at, met=at.met | {"mic"}) if device.kind == "microphone" else at
    if device.kind == RECORDER:
        key = ("playback", device.id, "", at.strip)
        way = _way(at, "playback", f"{device.name}: tracks", device.id, late, through)
        _add(found, key, way)
        at = replace(at, software=True)
    elif not paths:
        if device.kind == INSTRUMENT:
            kind: WayKind = "software" if at.software else "direct"
            way = _way(at, kind, device.name, device.id, late, through)
            known = (kind, device.id, str(way.tap), at.strip)
            _add(found, known, way)
        return []
    several = behind.port.channels > 1
    return [
        (late + _path_ms(path, device, rate_hz), place, through)
        for path in paths
        if not several or path.target_channel == at.channel
        if (place := _before(at, device, path, behind.port.id)) is not None
    ]


def _add(
    found: dict[tuple[str, str, str, str], Way], key: tuple[str, str, str, str], way: Way
) -> None:
    """One more way; of two alike the quicker stays, on the ears of both."""
    old = found.get(key)
    if old is not None:
        sides = tuple(sorted({*old.sides, *way.sides}))
        way = replace(way if way.delay_ms < old.delay_ms else old, sides=sides)
    found[key] = way


def _way(
    at: _At, kind: WayKind, source: str, source_id: str, late: float, through: tuple[str, ...]
) -> Way:
    tap = None if kind == "playback" else _tap(at.met)
    return Way(kind, source, source_id, late, through, tap, at.mixer, at.strip, at.strip_name,
               at.sides)  # fmt: skip


def _before(at: _At, device: Device, path: Path, port_id: str) -> _At | None:
    """The place ahead of a path; None where a fader on it is closed."""
    met = set(at.met)
    if path.printed:
        met.add("printed")
    for stage in path.stages:
        if isinstance(stage, AmpStage):
            met.add("amp" if stage.full_scale_dbu is None else "model")
        elif isinstance(stage, CabinetStage) and device.word(stage.setting) != "none":
            met.add("cabinet")
    by_program = at.software or device.kind in IN_THE_COMPUTER
    place = _At(device.id, path.source, path.source_channel, by_program, frozenset(met),
                at.mixer, at.strip, at.strip_name, at.sides)  # fmt: skip
    fader = strip_of(device, path)
    if fader is None:
        return place
    side = {"main1": (-1,), "main2": (1,)}.get(port_id, at.sides)
    sides = tuple(one for one in side if fader.reaches(one))
    if not sides:
        return None
    ident, name = fader.ident, fader.name
    if ident.startswith("play"):
        ident = name = PLAYBACK  # left and right of one mix
    return replace(place, mixer=device.id, strip=ident, strip_name=name, sides=sides)


def _tap(met: frozenset[str]) -> Tap:
    if "mic" in met:
        return "mic"
    if "model" in met:
        return "modeled"
    if "amp" in met:
        return "cabinet" if "cabinet" in met else "amp"
    if "cabinet" in met:
        return "modeled"
    return "printed" if "printed" in met else "di"


def _path_ms(path: Path, device: Device, rate_hz: float) -> float:
    return sum(stage_delay_ms(stage, device, rate_hz) for stage in path.stages)


def _doubled(ways: tuple[Way, ...]) -> tuple[Doubled, ...]:
    """Sources that come directly and through the software, by the quickest of each."""
    found = []
    for source in dict.fromkeys(way.source_id for way in ways):
        quickest = {
            kind: min((way.delay_ms for way in ways
                       if way.source_id == source and way.kind == kind), default=None)
            for kind in ("direct", "software")
        }  # fmt: skip
        direct, software = quickest["direct"], quickest["software"]
        if direct is not None and software is not None:
            name = next(way.source for way in ways if way.source_id == source)
            found.append(Doubled(name, abs(software - direct)))
    return tuple(found)


def _layered(ways: tuple[Way, ...]) -> tuple[Layered, ...]:
    """Where one is heard dry and processed on the same ear, by the same kind of way."""
    found = []
    for kind in ("direct", "software"):
        here = [way for way in ways if way.kind == kind]
        for source in dict.fromkeys(way.source_id for way in here):
            own = [way for way in here if way.source_id == source]
            dry = [way for way in own if way.tap in ("di", "printed")]
            wet = [way for way in own if way.tap not in ("di", "printed")]
            pairs = [(a, b) for a in dry for b in wet if set(a.sides) & set(b.sides)]
            if pairs:
                found.append(Layered(pairs[0][0].source, *pairs[0]))
    return tuple(found)


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
    pulled = {(two.dry.mixer, two.dry.strip): two.dry for one in listeners for two in one.layered}
    for dry in pulled.values():
        if dry.strip and dry.strip != PLAYBACK:
            mixer = graph.devices[dry.mixer].name
            found.append(
                f"Pull {dry.strip_name} down in the monitor mix of {mixer}; keep it armed."
            )
    if any(t.source and _plays(graph, t.source) for t in graph.rig.tracks):
        found.append("Mute the stored DI in the mix while it is sent out.")
    phantom = any(
        plug.port.phantom and plug.port.connector in (Connector.XLR, Connector.COMBO)
        for plug in graph.plugs(Direction.IN)
    )
    if phantom:
        found.append("Mute the monitors before phantom power is switched or a cable is plugged.")
    return tuple(found)


def _plays(graph: RigGraph, device_id: str) -> bool:
    device = graph.devices.get(device_id)
    return device is not None and device.kind == RECORDER
