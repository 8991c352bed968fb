"""A-weighting after IEC 61672-1 (pole frequencies from memory)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Real = NDArray[np.float64]

POLES_HZ = (20.599, 107.653, 737.862, 12194.217)


def a_weighting_gain(freqs_hz: Real) -> Real:
    """Amplitude of the A-weighting at each frequency, 1 at 1 kHz.

    R(f) = f4^2 f^4 / ((f^2 + f1^2) sqrt((f^2 + f2^2)(f^2 + f3^2)) (f^2 + f4^2)), re its
    value at 1 kHz.

    Parameters
    ----------
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Linear gain, shape (n,), 1 at 1 kHz.
    """
    return np.asarray(_curve(np.asarray(freqs_hz, dtype=np.float64)) / _curve(np.array(1000.0)))


def _curve(freqs_hz: Real) -> Real:
    f1, f2, f3, f4 = POLES_HZ
    square = np.square(freqs_hz)
    middle = np.sqrt((square + f2**2) * (square + f3**2))
    return np.asarray(f4**2 * square**2 / ((square + f1**2) * middle * (square + f4**2)))
