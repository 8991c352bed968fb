"""The shape of a recording's hiss: what a source's own noise looks like over frequency.

A pickup's thermal noise, and what it catches, is shaped by its own resonance with the cable and
the input behind it, whatever is played. So the quietest moments of a dry track tell the circuit.

Conventions
- Levels are of sixths of an octave, in dB per hertz re full scale, from `LOWEST_HZ` up: above
  hum, and where strings have died away first.
- What stands out of a band (a whine, a partial that rings on) is left out by the median.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio

Real = NDArray[np.float64]

LOWEST_HZ, HIGHEST_HZ, BANDS_AN_OCTAVE = 1_000.0, 16_000.0, 6
FRAME, FRAME_RATE_HZ = 1024, 48_000.0
"""Samples of a moment, at that rate; at others as long in time, to the next power of two."""
QUIETEST = 0.04
"""Of all moments: those whose level the others are held against."""
LEAST_FRAMES = 8
LOUDER = 1.6
"""Standard deviations to either side that chance makes a moment louder or quieter."""
WINDOW_SPREAD = 1.5
"""Bins of a windowed spectrum that are one independent value."""
PARTS_HZ = (700.0, 1_400.0, 2_800.0, 5_600.0)
SILENCE_DB = -200.0
STANDS_OUT = 5.0
"""Re the median of a band: no noise does that often."""


def centres_hz(rate_hz: float) -> Real:
    """The middles of the bands.

    Parameters
    ----------
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    Frequencies in Hz, a sixth of an octave apart.
    """
    top = min(HIGHEST_HZ, 0.45 * rate_hz)
    count = int(np.log2(top / LOWEST_HZ) * BANDS_AN_OCTAVE) + 1
    return np.asarray(LOWEST_HZ * 2.0 ** (np.arange(count) / BANDS_AN_OCTAVE))


def _frame(rate_hz: float) -> int:
    return int(FRAME * 2 ** round(np.log2(rate_hz / FRAME_RATE_HZ)))


def hiss_shape(samples: Audio, rate_hz: float) -> Hiss | None:
    """Levels of the hiss in a recording's quietest moments.

    Parameters
    ----------
    samples
        Full scale at 1, shape (frames,).
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The hiss; None where no moment is quiet.
    """
    frame = _frame(rate_hz)
    step = frame // 2
    count = (samples.size - frame) // step + 1
    if count < LEAST_FRAMES:
        return None
    at = np.arange(count)[:, None] * step + np.arange(frame)
    window = np.hanning(frame)
    power = np.square(np.abs(np.fft.rfft(np.asarray(samples, np.float64)[at] * window, axis=1)))
    freqs = np.fft.rfftfreq(frame, 1.0 / rate_hz)
    quiet = np.ones(count, bool)
    for first in (hz for hz in PARTS_HZ if hz < 0.4 * rate_hz):
        # What still rings is heard in the lowest part long after it has gone from the others.
        part = power[:, (freqs >= first) & (freqs < 2.0 * first)]
        loud = 10.0 * np.log10(np.maximum(part, 1e-30).mean(axis=1))
        sounding = loud[loud > SILENCE_DB]
        if sounding.size < LEAST_FRAMES:
            return None
        spread = LOUDER * 10.0 / np.log(10.0) / np.sqrt(part.shape[1] / WINDOW_SPREAD)
        floor = float(np.quantile(sounding, QUIETEST))
        quiet &= (loud > SILENCE_DB) & (loud <= floor + 2.0 * spread)
    quiet &= np.convolve(quiet, np.ones(3), "same") >= 2
    if int(np.count_nonzero(quiet)) < LEAST_FRAMES:
        return None
    chosen = power[quiet]
    found = []
    for centre in centres_hz(rate_hz):
        band = chosen[:, np.abs(np.log2(np.maximum(freqs, 1.0) / centre)) <= 0.5 / BANDS_AN_OCTAVE]
        usual = float(np.median(band))
        found.append(float(np.mean(np.minimum(band, STANDS_OUT * usual))))
    return Hiss(np.asarray(10.0 * np.log10(np.maximum(found, 1e-30))), int(chosen.shape[0]))


@dataclass(frozen=True, eq=False)
class Hiss:
    """Levels in dB per band of `centres_hz`, and how many moments they were read from."""

    level_db: Real
    moments: int

    def errors_db(self, rate_hz: float) -> Real:
        """One standard error of each band: few moments tell little of a narrow one."""
        width = centres_hz(rate_hz) * (
            2.0 ** (0.5 / BANDS_AN_OCTAVE) - 2.0 ** (-0.5 / BANDS_AN_OCTAVE)
        )
        seconds = (self.moments + 1) * _frame(rate_hz) / 2.0 / rate_hz
        return np.asarray(10.0 / np.log(10.0) / np.sqrt(np.maximum(1.0, width * seconds)))


def apart(one: Hiss, other: Hiss, rate_hz: float) -> tuple[float, float]:
    """How far two are apart at the gain at which they are least so.

    Parameters
    ----------
    one, other
        Read at the same rate.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The RMS difference in dB, and the same re what the shortness of the recordings explains (1).
    """
    error = np.square(one.errors_db(rate_hz)) + np.square(other.errors_db(rate_hz))
    difference = one.level_db - other.level_db
    weight = 1.0 / error
    difference = difference - np.sum(weight * difference) / np.sum(weight)
    rms = float(np.sqrt(np.sum(weight * np.square(difference)) / np.sum(weight)))
    return rms, float(np.sqrt(np.mean(weight * np.square(difference))))
