"""A course cut where a device isolates its input from its output.

Between two such devices lies a segment: a source impedance, cables, passive networks and
a load that all act on each other. `Segment.responses` works it out; the level plan and
the bench both use it, so that figures and sound cannot disagree.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from diaulos.circuit.network import (
    Complex,
    Real,
    TwoPort,
    capacitor,
    chain,
    inductor,
    node_levels,
    parallel,
    resistor,
    series,
    shunt,
    transformer,
)
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.course import Course, Leg
from diaulos.rig.graph import RigGraph, passive_paths
from diaulos.rig.model import (
    AUDIO_CLASSES,
    DIGITAL_CLASSES,
    Balance,
    Cable,
    CableKind,
    Device,
    PassiveStage,
    Path,
    Port,
    PortRef,
    SignalClass,
    SpeakerLoad,
)
from diaulos.units import db_to_gain


@dataclass(frozen=True)
class Point:
    """A place on the course where a level can be read: a port of a device, seen on the way
    in or out."""

    leg: int
    port: Port

    def __str__(self) -> str:
        return f"{self.leg}.{self.port.id}"


@dataclass(frozen=True, eq=False)
class SideLoad:
    """What else hangs at a node: other cables of the same output, other passive ways, and
    the input itself where a course goes on by a link beside it."""

    graph: RigGraph
    cables: tuple[Cable, ...] = ()
    device: Device | None = None
    paths: tuple[Path, ...] = ()
    port: Port | None = None

    def admittance(self, freqs_hz: Real) -> Complex:
        """Current per volt at the node."""
        total: Complex = np.zeros(freqs_hz.shape, complex)
        for cable in self.cables:
            total = total + _cable_admittance(self.graph, cable, freqs_hz, frozenset())
        for path in self.paths:
            assert self.device is not None
            total = total + _path_admittance(self.graph, self.device, path, freqs_hz, frozenset())
        if self.port is not None:
            total = total + port_admittance(self.port, freqs_hz)
        return total


Part = Cable | tuple[Device, Path] | SideLoad


@dataclass(frozen=True)
class Link:
    """One part of a segment and the point behind it (None inside)."""

    two_port: Part
    behind: Point | None


@dataclass(frozen=True)
class Segment:
    """From the output of one isolating device to the input of the next."""

    source: Point
    links: tuple[Link, ...]
    circuit: InstrumentCircuit | None = None
    """The instrument that drives it, in place of the port's resistance."""
    leg_db: float = 0.0
    """What is lost where one leg of a symmetrical output is used."""

    @property
    def load(self) -> Point:
        """The input at the end."""
        behind = self.links[-1].behind
        assert behind is not None
        return behind

    @property
    def digital(self) -> bool:
        """True for streams and for sound: what goes in comes out."""
        return self.source.port.signal_class in (*DIGITAL_CLASSES, SignalClass.SOUND)

    @property
    def air_gain(self) -> float:
        """What the distance between a cone and a microphone makes of the sound at 1 m."""
        cone = self.source.port.cone_m
        cables = [link.two_port for link in self.links if isinstance(link.two_port, Cable)]
        if self.source.port.signal_class is not SignalClass.SOUND or cone is None or not cables:
            return 1.0
        return sound_gain(cone, cables[-1].length_m)

    @property
    def inverts(self) -> bool:
        """True where a passive network turns the polarity."""
        return len(self.inverting) % 2 == 1

    @property
    def inverting(self) -> tuple[str, ...]:
        """The ids of the devices whose passive networks turn the polarity."""
        return tuple(
            link.two_port[0].id
            for link in self.links
            if isinstance(link.two_port, tuple)
            for stage in link.two_port[1].stages
            if isinstance(stage, PassiveStage) and stage.inverts
        )

    def responses(self, freqs_hz: Real) -> dict[Point, Complex]:
        """Voltage at every point of the segment re the source's EMF, over frequency."""
        points = (self.source, *(link.behind for link in self.links))
        if self.digital:
            found_there = {p: np.ones(freqs_hz.shape, complex) for p in points if p is not None}
            found_there[self.load] = np.full(freqs_hz.shape, self.air_gain, complex)
            return found_there
        parts = [_two_port(link.two_port, freqs_hz) for link in self.links]
        load_port = self.load.port
        load = 1.0 / port_admittance(load_port, freqs_hz)
        scale: Complex | float = 10.0 ** (self.leg_db / 20.0) * (-1.0 if self.inverts else 1.0)
        if self.circuit is None:
            impedance = resistor(self.source.port.impedance_ohm, freqs_hz)
        else:
            source = self.circuit.source(freqs_hz)
            impedance, scale = source.impedance, scale * source.emf
        levels = node_levels(impedance, parts, load)
        found: dict[Point, Complex] = {}
        for index, (point, level) in enumerate(zip(points, levels, strict=True)):
            if index:
                scale = scale * _measured_gain(self.links[index - 1].two_port)
            if point is not None:
                found[point] = np.asarray(scale * level)
        return found

    def load_impedance(self, freqs_hz: Real) -> Complex:
        """What the input at the end looks into, itself included: from how much another
        resistor there would pull it down."""
        point = self.load
        if point.port.speaker is not None:  # noise is told of inputs, by their nominal ohms
            plain = Point(point.leg, point.port.model_copy(update={"speaker": None}))
            return replace(
                self, links=(*self.links[:-1], replace(self.links[-1], behind=plain))
            ).load_impedance(freqs_hz)
        port = point.port
        pulled = port.model_copy(
            update={"impedance_ohm": 1.0 / (1.0 / port.impedance_ohm + 1.0 / TEST_OHM)}
        )
        links = (*self.links[:-1], replace(self.links[-1], behind=Point(point.leg, pulled)))
        other = replace(self, links=links)
        ratio = self.responses(freqs_hz)[point] / other.responses(freqs_hz)[other.load]
        return np.asarray(TEST_OHM * (ratio - 1.0))


TEST_OHM = 1e5


@dataclass(frozen=True)
class Active:
    """A device that isolates its input from its output, at its place on the course."""

    index: int
    leg: Leg

    @property
    def entry(self) -> Point:
        """Its input."""
        assert self.leg.entry is not None
        return Point(self.index, self.leg.entry)

    @property
    def exit(self) -> Point:
        """Its output."""
        assert self.leg.exit is not None
        return Point(self.index, self.leg.exit)


def cut(course: Course) -> tuple[Segment | Active, ...]:
    """Segments and isolating devices in turn, from the start to the track. Kept with the
    course."""
    known: tuple[Segment | Active, ...] | None = course.kept.get("cut")
    if known is None:
        known = course.kept["cut"] = _cut(course)
    return known


def _cut(course: Course) -> tuple[Segment | Active, ...]:
    steps: list[Segment | Active] = []
    graph = course.graph
    start = course.legs[0]
    assert start.exit is not None
    source, links = Point(0, start.exit), _side_links(graph, start)
    circuit = course.source.circuit if course.source else None
    leg_db = _leg_loss_db(start, course.legs[1])
    for index, leg in enumerate(course.legs[1:], start=1):
        cable = course.legs[index - 1].cable
        assert cable is not None
        assert leg.entry is not None
        links.append(Link(cable, Point(index, leg.entry)))
        here = PortRef(device=leg.device.id, port=leg.entry.id)
        paths = graph.paths_from(here.device, here.port)
        passive = passive_paths(paths)
        if leg.path is None or leg.exit is None:
            break
        others = tuple(path for path in passive if path is not leg.path)
        # A link-through beside a buffer: the buffer's input is there too.
        own = leg.entry if leg.path in passive and len(passive) < len(paths) else None
        if others or own is not None:
            beside = SideLoad(graph, device=leg.device, paths=others, port=own)
            links[-1:] = [Link(cable, None), Link(beside, Point(index, leg.entry))]
        if leg.path in passive:
            links.append(Link((leg.device, leg.path), Point(index, leg.exit)))
            links += _side_links(graph, leg)
            continue
        steps.append(Segment(source, tuple(links), circuit, leg_db))
        steps.append(Active(index, leg))
        source, links, circuit = Point(index, leg.exit), _side_links(graph, leg), None
        leg_db = _leg_loss_db(leg, course.legs[index + 1])
    steps.append(Segment(source, tuple(links), circuit, leg_db))
    return tuple(steps)


ONE_LEG_DB = 20.0 * np.log10(0.5)


def _leg_loss_db(leg: Leg, after: Leg) -> float:
    """6 dB where a symmetrical output meets an unbalanced input or cable."""
    cable, source, target = leg.cable, leg.exit, after.entry
    if cable is None or source is None or target is None:
        return 0.0
    if source.balance is not Balance.SYMMETRICAL or source.signal_class not in AUDIO_CLASSES:
        return 0.0
    one_leg = target.balance is Balance.NONE or cable.kind is CableKind.INSTRUMENT
    return float(ONE_LEG_DB) if one_leg else 0.0


def _side_links(graph: RigGraph, leg: Leg) -> list[Link]:
    """The other cables of the output that a course leaves by."""
    assert leg.exit is not None
    cables = graph.out_of.get((leg.device.id, leg.exit.id), [])
    others = tuple(c for c in cables if leg.cable is None or c.id != leg.cable.id)
    if not others or leg.exit.signal_class in (*DIGITAL_CLASSES, SignalClass.SOUND):
        return []
    return [Link(SideLoad(graph, cables=others), None)]


def port_admittance(port: Port, freqs_hz: Real) -> Complex:
    """What an input draws per volt by itself."""
    own = resistor(port.impedance_ohm, freqs_hz)
    if port.speaker is not None:
        own = speaker_ohm(port.speaker, freqs_hz)
    return 1.0 / parallel(own, capacitor(port.capacitance_pf * 1e-12, freqs_hz))


def speaker_ohm(speaker: SpeakerLoad, freqs_hz: Real) -> Complex:
    """Impedance of a loudspeaker in ohms: R + j w L + R_r / (1 + j Q (f/f_r - f_r/f))."""
    ratio = np.maximum(freqs_hz, 1e-3) / speaker.resonance_hz
    moving = speaker.resonance_ohm / (1.0 + 1j * speaker.resonance_q * (ratio - 1.0 / ratio))
    coil = speaker.coil_ohm + 2j * np.pi * freqs_hz * speaker.coil_h
    return np.asarray(coil + moving)


def input_admittance(graph: RigGraph, ref: PortRef, freqs_hz: Real,
                     seen: frozenset[str] = frozenset()) -> Complex:  # fmt: skip
    """What an input draws per volt, with all that hangs behind it through passive ways."""
    plug = graph.plug(ref)
    total: Complex = np.zeros(freqs_hz.shape, complex)
    paths = graph.paths_from(ref.device, ref.port)
    passive = passive_paths(paths)
    if len(passive) < len(paths) or not passive:
        total = total + port_admittance(plug.port, freqs_hz)
    for path in passive:
        total = total + _path_admittance(graph, plug.device, path, freqs_hz, seen)
    return total


def _path_admittance(
    graph: RigGraph, device: Device, path: Path, freqs_hz: Real, seen: frozenset[str]
) -> Complex:
    behind: Complex = np.full(freqs_hz.shape, 1e-12, complex)
    for cable in graph.out_of.get((device.id, path.target), ()):
        behind = behind + _cable_admittance(graph, cable, freqs_hz, seen)
    part = _path_two_port(device, path, freqs_hz)
    load = 1.0 / behind
    return np.asarray((part.c * load + part.d) / (part.a * load + part.b))


def _cable_admittance(
    graph: RigGraph, cable: Cable, freqs_hz: Real, seen: frozenset[str]
) -> Complex:
    if cable.id in seen:
        return np.zeros(freqs_hz.shape, complex)
    own = 1.0 / capacitor(cable.capacitance_f, freqs_hz)
    return np.asarray(own + input_admittance(graph, cable.target, freqs_hz, seen | {cable.id}))


def _measured_gain(part: Part) -> float:
    """What a calibrated box gives more than its parts say."""
    if not isinstance(part, tuple):
        return 1.0
    stages = (stage for stage in part[1].stages if isinstance(stage, PassiveStage))
    return db_to_gain(sum(stage.measured_db for stage in stages))


def _two_port(part: Part, freqs_hz: Real) -> TwoPort:
    if isinstance(part, Cable):
        return shunt(capacitor(part.capacitance_f, freqs_hz))
    if isinstance(part, SideLoad):
        return shunt(1.0 / (part.admittance(freqs_hz) + 1e-15))
    return _path_two_port(*part, freqs_hz)


def _path_two_port(device: Device, path: Path, freqs_hz: Real) -> TwoPort:
    parts = []
    for stage in path.stages:
        if not isinstance(stage, PassiveStage):
            raise RigError("A passive network must stand alone in its path.", where=device.name)
        parts.append(passive_two_port(stage, device.number(stage.control), freqs_hz))
    return chain(parts, freqs_hz)


def pad_ohms(ohm: float, loss_db: float) -> tuple[float, float]:
    """Series and shunt resistor of an attenuator (L-pad) that takes off so many dB and shows
    `ohm` in front with `ohm` behind: R (1 - 1/K) and R / (K - 1), K = 10^(dB/20) (textbook)."""
    ratio = 10.0 ** (-abs(loss_db) / 20.0)
    return ohm * (1.0 - ratio), ohm * ratio / (1.0 - ratio) if ratio < 1.0 else math.inf


def sound_gain(cone_m: float, distance_m: float) -> float:
    """Sound pressure on the axis of a piston in a baffle, at low frequencies, re that at 1 m:
    (sqrt(r^2 + a^2) - r) / (sqrt(1 + a^2) - 1) (Kinsler et al., the near field of a piston,
    from memory)."""
    near = math.hypot(distance_m, cone_m) - distance_m
    return near / (math.hypot(1.0, cone_m) - 1.0)


def passive_two_port(stage: PassiveStage, trim_loss_db: float, freqs_hz: Real) -> TwoPort:
    """Chain matrix of a passive network with its trim set to a loss in dB (0 = full up)."""
    parts: list[TwoPort] = []
    if stage.series_in_ohm > 0.0:
        parts.append(series(resistor(stage.series_in_ohm, freqs_hz)))
    if stage.shunt_ohm is not None:
        parts.append(shunt(resistor(stage.shunt_ohm, freqs_hz)))
    if stage.magnetising_h is not None:
        parts.append(shunt(inductor(stage.magnetising_h, np.maximum(freqs_hz, 1e-3))))
    if stage.turns_ratio != 1.0:
        parts.append(transformer(stage.turns_ratio, freqs_hz))
    if stage.pad_ohm is not None:
        less = np.full(freqs_hz.shape, 10.0 ** (abs(trim_loss_db) / 20.0), complex)
        none = np.zeros(freqs_hz.shape, complex)
        parts.append(TwoPort(a=less, b=none, c=none, d=less))
    if stage.trim_ohm is not None:
        ratio = 10.0 ** (-abs(trim_loss_db) / 20.0)
        if ratio < 1.0:
            parts.append(series(resistor((1.0 - ratio) * stage.trim_ohm, freqs_hz)))
        parts.append(shunt(resistor(ratio * stage.trim_ohm, freqs_hz)))
    if stage.series_out_ohm > 0.0:
        parts.append(series(resistor(stage.series_out_ohm, freqs_hz)))
    return chain(parts, freqs_hz)
