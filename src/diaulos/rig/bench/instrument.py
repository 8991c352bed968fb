"""An instrument plugged into an input: string motion in, volts out."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.pickup import PickupCircuit, loaded_level
from diaulos.signal.convolve import convolve_long
from diaulos.signal.fir import minimum_phase

Real = NDArray[np.float64]


def through_pickup(
    emf: Real,
    pickup: PickupCircuit,
    rate_hz: float,
    *,
    cable_f: float,
    load_ohm: float,
    load_f: float = 0.0,
) -> Real:
    """What an input receives from a pickup whose EMF is given, in the EMF's unit.

    The loading curve as a minimum-phase filter, as such a network is.
    """

    def response(freqs: Real) -> Real:
        at = np.maximum(freqs, 1.0)
        level = loaded_level(pickup, at, cable_f=cable_f, load_ohm=load_ohm, load_f=load_f)
        return np.asarray(np.abs(level))

    taps = minimum_phase(response, rate_hz, max_taps=4096)
    return np.asarray(convolve_long(emf, taps)[: emf.size])
