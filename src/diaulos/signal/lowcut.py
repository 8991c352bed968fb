"""Low cut below a part's lowest note.

Conventions
- A low cut is a Butterworth high-pass of second order (12 dB an octave); its corner is where it
  takes 3.01 dB.
- A proposed corner is the lowest note's frequency, rounded down to 5 Hz: 80 Hz for the low E of a
  guitar. That it lies at 80 to 90 Hz in standard tuning, and lower for baritones and basses, is
  common practice, no source.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.signal.checks import Audio, require_rate

Real = NDArray[np.float64]

ORDER = 2
STEP_HZ = 5.0
LEAST_HZ, MOST_HZ = 15.0, 400.0


def proposed_corner_hz(lowest_hz: float) -> float:
    """A corner that leaves the lowest note alone as far as a low cut can.

    Parameters
    ----------
    lowest_hz
        Frequency of the lowest note in Hz.

    Returns
    -------
    Corner in Hz, a multiple of 5.

    Examples
    --------
    >>> [proposed_corner_hz(hz) for hz in (82.41, 61.74, 41.2, 30.87)]
    [80.0, 60.0, 40.0, 30.0]
    """
    return min(MOST_HZ, max(LEAST_HZ, STEP_HZ * math.floor(lowest_hz / STEP_HZ)))


def low_cut_db(hz: float, corner_hz: float) -> float:
    """The gain of the low cut at a frequency.

    Parameters
    ----------
    hz
        Frequency in Hz, above 0.
    corner_hz
        Corner in Hz.

    Returns
    -------
    dB, 0 or less: -10 log10(1 + (corner / f)^(2 n)), n = 2.

    Examples
    --------
    >>> round(low_cut_db(82.4069, 80.0), 4)
    -2.7605
    """
    return -10.0 * math.log10(1.0 + (corner_hz / hz) ** (2 * ORDER))


def low_cut_sections(corner_hz: float, rate_hz: float) -> Real:
    """The low cut as second-order sections.

    Parameters
    ----------
    corner_hz
        Corner in Hz, 15 to 400.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    Shape (1, 6).

    Raises
    ------
    InputError
        For a corner outside the range.
    """
    import scipy.signal

    require_rate(rate_hz)
    if not LEAST_HZ <= corner_hz <= MOST_HZ:
        raise InputError(
            f"a low cut lies between {LEAST_HZ:g} and {MOST_HZ:g} Hz, not at {corner_hz:g} Hz.",
            where="corner",
            remedy="Give it in Hz.",
        )
    return np.asarray(
        scipy.signal.butter(ORDER, corner_hz, "highpass", fs=rate_hz, output="sos"), np.float64
    )


def share_below_db(samples: Audio, hz: float, rate_hz: float) -> float:
    """How much of a track lies below a frequency.

    Parameters
    ----------
    samples
        Audio, shape (frames,), mono.
    hz
        Frequency in Hz.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    Its power below `hz` re all of it, in dB; -200 for none.
    """
    from diaulos.signal.difference import db, power_of, spectra, windows

    first, size = windows(samples.size, rate_hz)
    power = power_of(spectra(samples, first, size))
    freqs = np.arange(power.size) * rate_hz / size
    whole = float(power.sum())
    return db(float(power[freqs < hz].sum()) / whole) if whole > 0.0 else db(0.0)
