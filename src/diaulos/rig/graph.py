"""A rig looked up quickly: who is joined to whom, what leads where, which shields meet.

Built once for a rig; checks, courses, monitoring and the plan ask it. Nodes of the signal
graph are ports; cables lead from an output to an input, a device's paths from an input to
an output. The ground graph joins the shields of cables, what devices join inside, and the
safety earth.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.excerpt import Sent
from diaulos.rig.model import (
    Cable,
    CableKind,
    Device,
    Direction,
    PassiveStage,
    Path,
    Port,
    PortRef,
    Rig,
    SignalClass,
)
from diaulos.rig.sources import PlayedSource

RECORDER = "recorder"
"""The kind of device whose outputs play tracks and whose inputs are tracks."""

EARTH = "earth"

Key = tuple[str, str]
"""Device id and port id."""


@dataclass(frozen=True)
class Plug:
    """A port of a device in a rig."""

    device: Device
    port: Port

    @property
    def ref(self) -> PortRef:
        """Its name in the rig."""
        return PortRef(device=self.device.id, port=self.port.id)

    @property
    def words(self) -> str:
        """For a person."""
        return f"{self.device.name}, {self.port.name}"


class Brought:
    """A brought cabinet's response over frequency: its taps, and the rate that they are at."""

    def __init__(self, taps: NDArray[np.float64], rate_hz: float) -> None:
        count = 1 << max(14, int(taps.size - 1).bit_length())
        self._power = np.square(np.abs(np.fft.rfft(taps, count)))
        self._step_hz = rate_hz / count

    def power(self, freqs_hz: NDArray[np.float64]) -> NDArray[np.float64]:
        """Its power gain at any frequencies."""
        at = np.arange(self._power.size) * self._step_hz
        return np.asarray(np.interp(freqs_hz, at, self._power))


class RigGraph:
    """The rig's devices, ports, cables and paths by what they are asked for."""

    def __init__(
        self,
        rig: Rig,
        sources: Mapping[str, PlayedSource] | None = None,
        sent: Callable[[Rig], Sent | None] | None = None,
        *,
        tone: bool = False,
        cabinets: Mapping[str, Brought] | None = None,
    ) -> None:
        """`tone`: a sine at 1 kHz is played in place of music, where a person compares with a
        meter. `sent` says what a played track holds as a rig sends it. `cabinets` are the impulse
        responses that a person brought, by the name that the rig has for them."""
        self.rig, self.tone = rig, tone
        self.sources = dict(sources or {})
        self._sent = sent
        self.cabinets = dict(cabinets or {})
        self.kept: dict[str, Any] = {}
        """What was worked out for this graph and does not change."""
        self.devices = {device.id: device for device in rig.devices}
        self._ports: dict[Key, Plug] = {}
        self.into: dict[Key, list[Cable]] = defaultdict(list)
        self.out_of: dict[Key, list[Cable]] = defaultdict(list)
        for device in rig.devices:
            for port in device.ports:
                switched = device.as_switched(port) if port.modes else port
                self._ports[device.id, port.id] = Plug(device, switched)
        for cable in rig.cables:
            self.into[cable.target.device, cable.target.port].append(cable)
            self.out_of[cable.source.device, cable.source.port].append(cable)

    @cached_property
    def sent(self) -> Sent | None:
        """What a played track holds, as it is sent; None where nobody says."""
        return self._sent(self.rig) if self._sent is not None else None

    @cached_property
    def _paths(self) -> tuple[dict[Key, list[Path]], dict[Key, list[Path]]]:
        starting: dict[Key, list[Path]] = defaultdict(list)
        ending: dict[Key, list[Path]] = defaultdict(list)
        for device in self.rig.devices:
            choices = {s.id: s.value for s in device.settings}
            for path in device.paths:
                if all(choices.get(setting) == value for setting, value in path.when):
                    starting[device.id, path.source].append(path)
                    ending[device.id, path.target].append(path)
        return starting, ending

    def of(self, rig: Rig) -> RigGraph:
        """Another rig with the same instruments and the same stored track."""
        return RigGraph(rig, self.sources, self._sent, tone=self.tone, cabinets=self.cabinets)

    def played_by(self, sources: Mapping[str, PlayedSource], rig: Rig | None = None) -> RigGraph:
        """The same, or another rig, with some instruments in the place of those that it has."""
        both = {**self.sources, **sources}
        return RigGraph(rig or self.rig, both, self._sent, tone=self.tone, cabinets=self.cabinets)

    def has(self, ref: PortRef) -> bool:
        """Whether there is such a port: a planned track may name one that has gone."""
        return (ref.device, ref.port) in self._ports

    def plug(self, ref: PortRef) -> Plug:
        """The port that a reference names."""
        return self._ports[ref.device, ref.port]

    def source(self, cable: Cable) -> Plug:
        """Where a cable comes from."""
        return self._ports[cable.source.device, cable.source.port]

    def target(self, cable: Cable) -> Plug:
        """Where a cable goes."""
        return self._ports[cable.target.device, cable.target.port]

    def paths_from(self, device: str, port: str) -> list[Path]:
        """The live paths that start at an input."""
        return self._paths[0].get((device, port), [])

    def paths_to(self, device: str, port: str) -> list[Path]:
        """The live paths that end at an output."""
        return self._paths[1].get((device, port), [])

    def used(self, plug: Plug) -> bool:
        """Whether anything is plugged in here."""
        key = (plug.device.id, plug.port.id)
        return bool(self.into.get(key) or self.out_of.get(key))

    def plugs(self, direction: Direction | None = None) -> Iterator[Plug]:
        """All ports, or those of one direction."""
        for plug in self._ports.values():
            if direction is None or plug.port.direction is direction:
                yield plug

    def cables(self) -> Iterator[tuple[Cable, Plug, Plug]]:
        """Every cable with its two ends."""
        yield from self._ends

    @cached_property
    def _ends(self) -> tuple[tuple[Cable, Plug, Plug], ...]:
        return tuple((c, self.source(c), self.target(c)) for c in self.rig.cables)

    def of_kind(self, *kinds: str) -> list[Device]:
        """The devices of some kinds, in the rig's order."""
        return [device for device in self.rig.devices if device.kind in kinds]

    @cached_property
    def tracks(self) -> tuple[PortRef, ...]:
        """The recorders' inputs that something is plugged into, in the rig's order."""
        return tuple(
            PortRef(device=device.id, port=port.id)
            for device in self.of_kind(RECORDER)
            for port in device.ports
            if port.direction is Direction.IN and self.into.get((device.id, port.id))
        )

    # --- circles ---

    @cached_property
    def circles(self) -> tuple[tuple[Key, ...], ...]:
        """Groups of ports that feed back into themselves, the computer's monitoring
        included; each sorted, in the order of their first port."""
        import networkx as nx

        graph = nx.DiGraph()
        for cable in self.rig.cables:
            if self.source(cable).port.signal_class is not SignalClass.POWER:
                graph.add_edge(
                    (cable.source.device, cable.source.port),
                    (cable.target.device, cable.target.port),
                )
        for starting in self._paths[0].items():
            (device, port), paths = starting
            for path in paths:
                graph.add_edge((device, port), (device, path.target))
        found = [
            tuple(sorted(group))
            for group in nx.strongly_connected_components(graph)
            if len(group) > 1
        ]
        return tuple(sorted(found))

    # --- earth ---

    @cached_property
    def loop_cables(self) -> frozenset[str]:
        """Ids of the cables whose shield lies in a loop through the safety earth."""
        return frozenset().union(*self.loops) if self.loops else frozenset()

    @cached_property
    def usb_loop_cables(self) -> frozenset[str]:
        """Ids of the cables in a loop through the safety earth that runs over USB."""
        streams = {
            cable.id
            for cable, source, _ in self.cables()
            if source.port.signal_class is SignalClass.STREAM
        }
        found = [loop for loop in self.loops if loop & streams]
        return frozenset().union(*found) if found else frozenset()

    @cached_property
    def supply_cables(self) -> frozenset[str]:
        """Ids of the cables between two devices that one supply feeds without isolation: their
        shield and the supply's common ground close a loop."""
        fed: dict[str, set[Key]] = defaultdict(set)
        for _, source, target in self.cables():
            if source.port.signal_class is SignalClass.POWER:
                outputs = [p for p in source.device.ports if p.ground == source.port.ground]
                if len(outputs) > 1:
                    fed[target.device.id].add((source.device.id, source.port.ground))
        return frozenset(
            cable.id
            for cable, source, target in self.cables()
            if fed.get(source.device.id, set()) & fed.get(target.device.id, set())
            and source.port.signal_class is not SignalClass.POWER
        )

    @cached_property
    def loops(self) -> tuple[frozenset[str], ...]:
        """Groups of cables, each one or several loops through the safety earth."""
        import networkx as nx

        simple = nx.Graph()
        for device in self.rig.devices:
            if device.earthed:
                simple.add_edge(EARTH, (device.id, "chassis"))
        # Two cables side by side make a loop of their own: a node in the middle of each
        # keeps them apart, since the components below know simple graphs only.
        for cable, source, target in self.cables():
            if joins_shields(source.port, target.port, cable):
                middle = ("cable", cable.id)
                simple.add_edge((source.device.id, source.port.ground), middle)
                simple.add_edge(middle, (target.device.id, target.port.ground))
        if EARTH not in simple:
            return ()
        return tuple(
            frozenset(node[1] for node in component if node[0] == "cable")
            for component in nx.biconnected_components(simple)
            if EARTH in component and len(component) > 2
        )


def joins_shields(source: Port, target: Port, cable: Cable) -> bool:
    """Whether a cable joins the grounds of its two ends."""
    if not source.ground or not target.ground:
        return False
    return cable.kind not in (CableKind.OPTICAL, CableKind.AIR)


def passive_paths(paths: list[Path]) -> list[Path]:
    """The paths through which impedances are seen."""
    return [path for path in paths if is_passive(path)]


def is_passive(path: Path) -> bool:
    """Whether a path is a wire or a passive network."""
    return all(isinstance(stage, PassiveStage) for stage in path.stages)
