"""Hum of a ground loop. Figures are representative, from memory.

Two mains plugs some metres apart differ by a few millivolts at mains frequency. Where the
shields of a connection close the loop, that voltage divides between the shield and the
rest of the loop; the shield's part is in series with an unbalanced signal.
"""

from __future__ import annotations

from diaulos.rig.model import (
    AUDIO_CLASSES,
    Balance,
    Cable,
    CableKind,
    Port,
)

EARTH_V = 2e-3
"""Between two outlets, RMS."""
EARTH_OHM = 0.2
"""Of the rest of the loop."""
SHIELD_OHM_PER_M = 0.05
HUM_HARMONICS = ((1, 1.0), (3, 0.4), (5, 0.2), (7, 0.1))
"""Harmonics of the mains in a loop's hum, and their parts of the voltage."""


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
