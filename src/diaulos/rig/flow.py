"""A course cut where a device isolates its input from its output.

Between two such devices lies a segment: a source impedance, cables, passive networks and
a load that all act on each other. `Segment.responses` works it out; the level plan and
the bench both use it, so that figures and sound cannot disagree.
"""

from __future__ import annotations

from dataclasses import dataclass

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
from diaulos.errors import RigError
from diaulos.rig.course import Course, Leg
from diaulos.rig.model import Cable, Device, PassiveStage, Port, SignalClass


@dataclass(frozen=True)
class Point:
    """A place on the course where a level can be read: a port of a device, seen on the way
    in or out."""

    leg: int
    port: Port

    def __str__(self) -> str:
        return f"{self.leg}.{self.port.id}"


@dataclass(frozen=True)
class Link:
    """One part of a segment and the point behind it (None inside)."""

    two_port: Cable | tuple[Device, PassiveStage]
    behind: Point


@dataclass(frozen=True)
class Segment:
    """From the output of one isolating device to the input of the next."""

    source: Point
    links: tuple[Link, ...]

    @property
    def load(self) -> Point:
        """The input at the end."""
        return self.links[-1].behind

    @property
    def digital(self) -> bool:
        """True for streams: what goes in comes out."""
        return self.source.port.signal_class in (SignalClass.STREAM, SignalClass.DIGITAL)

    @property
    def inverts(self) -> bool:
        """True where a passive network turns the polarity."""
        return sum(not isinstance(k.two_port, Cable) and k.two_port[1].inverts
                   for k in self.links) % 2 == 1  # fmt: skip

    def responses(self, freqs_hz: Real) -> dict[Point, Complex]:
        """Voltage at every point of the segment re the source's EMF, over frequency."""
        points = (self.source, *(link.behind for link in self.links))
        if self.digital:
            return {point: np.ones(freqs_hz.shape, complex) for point in points}
        parts = [_two_port(link.two_port, freqs_hz) for link in self.links]
        load_port = self.load.port
        load = parallel(
            resistor(load_port.impedance_ohm, freqs_hz),
            capacitor(load_port.capacitance_pf * 1e-12, freqs_hz),
        )
        source = resistor(self.source.port.impedance_ohm, freqs_hz)
        sign = -1.0 if self.inverts else 1.0
        levels = node_levels(source, parts, load)
        return {point: sign * level for point, level in zip(points, levels, strict=True)}


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
    """Segments and isolating devices in turn, from the start to the track."""
    steps: list[Segment | Active] = []
    start = course.legs[0]
    assert start.exit is not None
    source, links = Point(0, start.exit), []
    for index, leg in enumerate(course.legs[1:], start=1):
        cable = course.legs[index - 1].cable
        assert cable is not None
        assert leg.entry is not None
        links.append(Link(cable, Point(index, leg.entry)))
        if leg.path is None or leg.exit is None:
            break
        passive = _passive_of(leg)
        if passive is not None:
            links.append(Link((leg.device, passive), Point(index, leg.exit)))
            continue
        steps.append(Segment(source, tuple(links)))
        steps.append(Active(index, leg))
        source, links = Point(index, leg.exit), []
    steps.append(Segment(source, tuple(links)))
    return tuple(steps)


def _passive_of(leg: Leg) -> PassiveStage | None:
    assert leg.path is not None
    passive = [stage for stage in leg.path.stages if isinstance(stage, PassiveStage)]
    if passive and len(leg.path.stages) > 1:
        raise RigError("A passive network must stand alone in its path.", where=leg.device.name)
    return passive[0] if passive else None


def _two_port(part: Cable | tuple[Device, PassiveStage], freqs_hz: Real) -> TwoPort:
    if isinstance(part, Cable):
        return shunt(capacitor(part.capacitance_f, freqs_hz))
    device, stage = part
    return passive_two_port(stage, device.number(stage.control), freqs_hz)


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
    if stage.trim_ohm is not None:
        ratio = 10.0 ** (-abs(trim_loss_db) / 20.0)
        if ratio < 1.0:
            parts.append(series(resistor((1.0 - ratio) * stage.trim_ohm, freqs_hz)))
        parts.append(shunt(resistor(ratio * stage.trim_ohm, freqs_hz)))
    if stage.series_out_ohm > 0.0:
        parts.append(series(resistor(stage.series_out_ohm, freqs_hz)))
    return chain(parts, freqs_hz)
