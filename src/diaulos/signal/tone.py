"""The level of a steady tone in a recording.

A sine of known frequency is fitted by least squares, its frequency first refined on the
spectrum: cheap generators are some tenths of a percent off. Level in dBFS of its peak (equal
to AES17 RMS); what is left over is the residual, re the tone.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_finite, require_mono, require_rate
from diaulos.units import LOWEST_DB, gain_to_db

Real = NDArray[np.float64]

LEAST_S = 0.25
OFF_SHARE = 0.03
"""How far the generator's frequency may be from what it says."""
MOST_RESIDUAL_DB = -20.0
FULL = 1.0 - 2.0**-23


@dataclass(frozen=True)
class Tone:
    """A tone as measured. `residual_db` is everything else re the tone: noise, hum, other
    tones, distortion."""

    hz: float
    peak_dbfs: float
    residual_db: float


def measure_tone(samples: Audio, rate_hz: float, hz: float) -> Tone:
    """The level of a tone near `hz`.

    Refuses (RefusedError) what is shorter than 0.25 s or three periods, what clips, and what
    is not mostly that tone.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    hz
        Frequency in Hz, above 0.

    Returns
    -------
    Peak in dBFS, frequency, how pure it is.

    Raises
    ------
    RefusedError
        ("too_short", "clipped", "no_tone").
    """
    require_mono(samples, "the tone")
    require_finite(samples, "the tone")
    require_rate(rate_hz)
    x = np.asarray(samples, dtype=np.float64)
    if x.size < max(LEAST_S, 3.0 / hz) * rate_hz:
        raise RefusedError(
            "too_short", "The tone is too short to be measured.", remedy="Record a second."
        )
    loud = int(np.count_nonzero(np.abs(x) >= FULL))
    if loud:
        raise RefusedError(
            "clipped",
            f"The tone clips at {loud} samples.",
            remedy="Turn the generator or the gain down.",
        )
    found = _refined(x, rate_hz, hz)
    level, left = _fitted(x, rate_hz, found)
    rms = math.sqrt(float(np.mean(np.square(left))))
    residual = gain_to_db(rms * math.sqrt(2.0) / level) if level > 0.0 else math.inf
    if residual > MOST_RESIDUAL_DB:
        raise RefusedError(
            "no_tone",
            f"There is no clear tone of {hz:g} Hz: "
            f"what else is there is {residual:.0f} dB re the tone."
            if math.isfinite(residual)
            else f"There is no tone of {hz:g} Hz.",
            remedy="Check the generator, its frequency and the cable.",
        )
    return Tone(found, gain_to_db(level), max(residual, LOWEST_DB))


def _refined(x: Real, rate_hz: float, hz: float) -> float:
    """The frequency at which a windowed spectrum peaks within some percent of `hz`."""
    window = np.hanning(x.size)
    span = np.linspace(hz * (1.0 - OFF_SHARE), hz * (1.0 + OFF_SHARE), 61)
    time = np.arange(x.size) / rate_hz
    for _ in range(4):
        turns = np.exp(-2j * np.pi * np.outer(span, time))
        power = np.abs(turns @ (x * window))
        at = int(np.argmax(power))
        step = span[1] - span[0]
        span = np.linspace(span[at] - step, span[at] + step, 21)
    return float(span[10])


def _fitted(x: Real, rate_hz: float, hz: float) -> tuple[float, Real]:
    phase = 2.0 * np.pi * hz * np.arange(x.size) / rate_hz
    basis = np.column_stack([np.cos(phase), np.sin(phase), np.ones(x.size)])
    parts, *_ = np.linalg.lstsq(basis, x, rcond=None)
    return float(math.hypot(parts[0], parts[1])), x - basis @ parts
