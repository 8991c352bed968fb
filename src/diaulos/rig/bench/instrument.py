"""An instrument plugged into an input: string motion in, volts out; and what undoes a load."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.correction import Correction
from diaulos.circuit.loading import Load, curves_db
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.signal.convolve import convolve_long
from diaulos.signal.fir import minimum_phase

Real = NDArray[np.float64]
MAX_TAPS = 4096


def through_input(emf: Real, circuit: InstrumentCircuit, load: Load, rate_hz: float) -> Real:
    """What an input receives from an instrument whose EMF is given, in the EMF's unit.

    The loading curve as a minimum-phase filter, as such a network is.
    """

    def response(freqs: Real) -> Real:
        level = curves_db(circuit, [load], np.maximum(freqs, 1.0))[0]
        return np.asarray(10.0 ** (level / 20.0))

    taps = minimum_phase(response, rate_hz, max_taps=MAX_TAPS)
    return np.asarray(convolve_long(emf, taps)[: emf.size])


def correction_taps(correction: Correction, rate_hz: float) -> Real:
    """The correction as a minimum-phase FIR: no ringing ahead of the notes.

    The networks it undoes are minimum phase themselves, so that it undoes their phase too.
    """
    return minimum_phase(correction.gain_at, rate_hz, max_taps=MAX_TAPS)
