"""Noise that comes into a rig at one place: a field that a pickup or a lead catches, or what one
device makes by itself. A studio has them, a plan does not: they are no part of a rig, but of what
the bench is told to add (`BenchFaults`). Lines and their parts are representative, from memory.
"""

from __future__ import annotations

from typing import Literal

from diaulos.records import dataclass
from diaulos.rig.ground import BUS_TONES_HZ

StrayKind = Literal["hum", "buzz", "ripple", "whine", "hiss"]
StrayPlace = Literal["pickup", "cable", "device"]

_LINES: dict[StrayKind, tuple[tuple[int, float], ...]] = {
    # A mains transformer's field.
    "hum": ((1, 1.0), (2, 0.2), (3, 0.4), (5, 0.2), (7, 0.1)),
    # A dimmer or a rectifier switches twice in a period, not quite alike.
    "buzz": tuple((n, n**-0.5) for n in range(1, 41)),
    # What a full-wave rectifier leaves.
    "ripple": ((2, 1.0), (4, 0.5), (6, 0.3), (8, 0.2)),
}


@dataclass(frozen=True)
class Stray:
    """A noise, where it comes in, and its RMS volts there: in series with a pickup's EMF (`at` is
    the instrument's device), with what a cable carries, or at a device's input."""

    kind: StrayKind
    place: StrayPlace
    at: str
    rms_v: float

    def lines(self, mains_hz: float) -> tuple[tuple[float, float], ...]:
        """Its lines in Hz with their parts; none of a hiss."""
        if self.kind == "hiss":
            return ()
        if self.kind == "whine":
            return BUS_TONES_HZ
        return tuple((n * mains_hz, part) for n, part in _LINES[self.kind])
