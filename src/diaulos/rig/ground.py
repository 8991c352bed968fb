"""Noise that grounds carry: the hum of a loop through the safety earth, the tones of a computer's
bus in a loop that runs over USB, the ripple of a supply that pedals share. Figures are
representative, from memory.

Two mains plugs some metres apart differ by a few millivolts at mains frequency. Where the
shields of a connection close the loop, that voltage divides between the shield and the
rest of the loop; the shield's part is in series with an unbalanced signal.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from diaulos.records import dataclass
from diaulos.rig.model import (
    AUDIO_CLASSES,
    Balance,
    Cable,
    CableKind,
    Port,
)

if TYPE_CHECKING:
    from diaulos.rig.graph import RigGraph

EARTH_V = 2e-3
"""Between two outlets, RMS."""
EARTH_OHM = 0.2
"""Of the rest of the loop."""
SHIELD_OHM_PER_M = 0.05
HUM_HARMONICS = ((1, 1.0), (3, 0.4), (5, 0.2), (7, 0.1))
"""Harmonics of the mains in a loop's hum, and their parts of the voltage."""
BUS_TONES_HZ = ((1_000.0, 1.0), (8_000.0, 0.7))
"""Of the traffic on a USB cable: a packet a millisecond, and eight."""
BUS_PART = 0.1
"""Of a loop's hum, where the loop runs over USB."""
SUPPLY_V = 60e-6
"""RMS of the ripple between two pedals that one supply feeds without isolation."""
RIPPLE_HARMONICS = ((2, 1.0), (4, 0.5), (6, 0.3))
"""Of the mains, behind a rectifier."""


@dataclass(frozen=True)
class GroundNoise:
    """What a cable's shield adds to its signal: RMS volts, and lines in Hz with their parts."""

    words: str
    kind: str
    rms_v: float
    lines: tuple[tuple[float, float], ...]


def ground_noises(graph: RigGraph, cable: Cable, mains_hz: float) -> tuple[GroundNoise, ...]:
    """What the grounds of a rig add to the signal in a cable; nothing where it is balanced."""
    if not is_exposed(cable, graph.source(cable).port, graph.target(cable).port):
        return ()
    name = cable.label or cable.id
    found = []
    if cable.id in graph.loop_cables:
        volts = loop_hum_v(cable)
        lines = tuple((mains_hz * n, part) for n, part in HUM_HARMONICS)
        found.append(GroundNoise(f"hum of the ground loop through {name}", "hum", volts, lines))
        if cable.id in graph.usb_loop_cables:
            words = f"bus tones of the USB ground through {name}"
            found.append(GroundNoise(words, "bus", BUS_PART * volts, BUS_TONES_HZ))
    if cable.id in graph.supply_cables:
        lines = tuple((mains_hz * n, part) for n, part in RIPPLE_HARMONICS)
        words = f"ripple of the shared supply through {name}"
        found.append(GroundNoise(words, "hum", SUPPLY_V, lines))
    return tuple(found)


def is_exposed(cable: Cable, source: Port, target: Port) -> bool:
    """Whether what flows in a cable's shield is added to its signal: unbalanced analog."""
    if source.signal_class not in AUDIO_CLASSES or target.signal_class not in AUDIO_CLASSES:
        return False
    balanced = target.balance is not Balance.NONE and source.balance is not Balance.NONE
    return not balanced or cable.kind is CableKind.INSTRUMENT


def loop_hum_v(cable: Cable) -> float:
    """RMS volts of hum in series with the signal of an exposed cable in a loop."""
    shield = SHIELD_OHM_PER_M * max(cable.length_m, 0.3)
    return EARTH_V * shield / (shield + EARTH_OHM)
