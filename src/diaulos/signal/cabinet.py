"""Stand-in speaker cabinets as minimum-phase impulse responses.

A box resonance below, a slope between, a presence region and a steep fall above: what a
microphone close to a speaker hears. Representative, from memory, of no real cabinet.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.records import dataclass
from diaulos.signal.fir import minimum_phase

Real = NDArray[np.float64]

CABINET_TAPS = 4096
"""At 48 kHz; other rates keep the same time."""


@dataclass(frozen=True)
class Cabinet:
    """Shape of one cabinet. `bells` are (Hz, dB, Q)."""

    title: str
    low_hz: float
    high_hz: float
    high_order: int
    bells: tuple[tuple[float, float, float], ...]


CABINETS: dict[str, Cabinet] = {
    "open-one": Cabinet(
        "Open back, one twelve-inch",
        95.0,
        5200.0,
        4,
        ((130.0, 4.0, 2.0), (420.0, -2.5, 1.2), (2300.0, 5.0, 1.6), (3600.0, 3.0, 2.5)),
    ),
    "closed-two": Cabinet(
        "Closed back, two twelve-inch",
        78.0,
        4700.0,
        5,
        ((110.0, 5.0, 2.2), (380.0, -3.0, 1.0), (1500.0, 2.0, 1.5), (2800.0, 5.5, 1.8)),
    ),
    "closed-four": Cabinet(
        "Closed back, four twelve-inch",
        70.0,
        4300.0,
        6,
        ((100.0, 5.5, 2.4), (500.0, -4.0, 0.9), (2500.0, 6.0, 1.4), (3900.0, 2.5, 3.0)),
    ),
    "bass-fifteen": Cabinet(
        "Bass reflex, one fifteen-inch",
        42.0,
        3200.0,
        3,
        ((62.0, 3.5, 1.8), (250.0, -2.0, 1.0), (900.0, 2.0, 1.2), (2000.0, 3.0, 1.6)),
    ),
}


def magnitude(cabinet: Cabinet, freqs_hz: Real) -> Real:
    """Linear gain over frequency, 1 near 500 Hz.

    Parameters
    ----------
    cabinet
        A stand-in cabinet.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Linear gain, shape (n,).
    """
    f = np.maximum(freqs_hz, 1e-3)
    gain = 1.0 / np.sqrt(1.0 + (cabinet.low_hz / f) ** 6)
    gain = gain / np.sqrt(1.0 + (f / cabinet.high_hz) ** (2 * cabinet.high_order))
    for hz, db, q in cabinet.bells:
        gain = gain * 10.0 ** (db / 20.0 / (1.0 + (q * (f / hz - hz / f)) ** 2))
    return np.asarray(gain)


@lru_cache(maxsize=16)
def cabinet_taps(name: str, rate_hz: float) -> Real:
    """Impulse response of a stand-in cabinet at this rate, first sample first.

    Parameters
    ----------
    name
        Id of a stand-in cabinet.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    FIR, shape (taps,).

    Raises
    ------
    InputError
        For a name that is no stand-in.
    """
    cabinet = CABINETS.get(name)
    if cabinet is None:
        raise InputError(
            f"unknown cabinet {name!r}.", remedy=f"Known cabinets: {', '.join(CABINETS)}."
        )
    limit = int(CABINET_TAPS * rate_hz / 48_000.0)
    taps = minimum_phase(lambda f: magnitude(cabinet, f), rate_hz, max_taps=limit)
    taps.setflags(write=False)
    return taps
