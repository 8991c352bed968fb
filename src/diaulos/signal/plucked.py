"""A response from plucks by hand: the mean spectrum of many of them, in bands.

Conventions
- Bands of a sixth of an octave; the level of one is that of its mean power over everything that was
  played, in dB of full scale, less what it holds while nothing sounds.
- No two plucks are alike: what plucks into two loads have in common is a curve that nobody knows,
  and a level each (`circuit.identify`, "each"). The more plucks, the less is left to chance.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_mono, require_rate
from diaulos.units import gain_to_db

FFT_SIZE, HOP = 8_192, 4_096
LOW_HZ, HIGH_HZ, PER_OCTAVE = 150.0, 9_600.0, 6
QUIET = 0.05
"""The quietest part of the frames holds no string."""
LEAST_SNR_DB = 12.0
LEAST_S, PLAYED_DB = 8.0, 20.0
"""Strings have to ring for so long, by so much louder than the quiet."""
FULL = 0.999


@dataclass(frozen=True)
class Plucked:
    """`db` at `hz`, shape (n,), NaN where a band does not stand clear of the noise; how long
    strings rang, and the loudest peak."""

    hz: Audio
    db: Audio
    rang_s: float
    peak_dbfs: float


def read_plucks(samples: Audio, rate_hz: float) -> Plucked:
    """The mean spectrum of what was plucked.

    Parameters
    ----------
    samples
        Some tens of seconds of single strings, shape (frames,), full scale 1.
    rate_hz
        Sample rate, Hz.

    Returns
    -------
    Levels in dB by bands.

    Raises
    ------
    RefusedError
        Where it clips, or too little was played.
    """
    require_rate(rate_hz)
    sound = np.asarray(require_mono(samples, "plucks"), np.float64)
    peak = float(np.max(np.abs(sound), initial=0.0))
    if peak >= FULL:
        raise RefusedError(
            "clipped", "the plucks clip.", remedy="Turn the input's gain down, and pluck again."
        )
    powers, freqs = _frames(sound, rate_hz)
    edges = LOW_HZ * 2.0 ** (np.arange(_bands(rate_hz) + 1) / PER_OCTAVE)
    bands = np.array(
        [powers[:, (freqs >= low) & (freqs < high)].sum(axis=1)
         for low, high in itertools.pairwise(edges)]
    )  # fmt: skip
    quiet = np.quantile(bands, QUIET, axis=1)
    whole = bands.sum(axis=0)
    rings = whole > 10.0 ** (PLAYED_DB / 10.0) * max(float(np.quantile(whole, QUIET)), 1e-20)
    rang_s = float(np.sum(rings)) * HOP / rate_hz
    if rang_s < LEAST_S:
        raise RefusedError(
            "too_little", f"strings rang for {rang_s:.0f} s, {LEAST_S:.0f} s are needed.",
            remedy="Pluck every open string again and again, with short rests between.",
        )  # fmt: skip
    mean = bands.mean(axis=1)
    clear = mean > 10.0 ** (LEAST_SNR_DB / 10.0) * quiet
    level = np.full(mean.size, np.nan)
    level[clear] = 10.0 * np.log10(mean[clear] - quiet[clear])
    return Plucked(np.sqrt(edges[:-1] * edges[1:]), level, rang_s, gain_to_db(peak))


def _bands(rate_hz: float) -> int:
    return int(np.log2(min(HIGH_HZ, 0.42 * rate_hz) / LOW_HZ) * PER_OCTAVE)


def _frames(sound: Audio, rate_hz: float) -> tuple[Audio, Audio]:
    window = np.hanning(FFT_SIZE)
    count = max(0, 1 + (sound.size - FFT_SIZE) // HOP)
    freqs = np.arange(FFT_SIZE // 2 + 1) * rate_hz / FFT_SIZE
    powers = np.empty((max(1, count), freqs.size))
    powers[0] = 0.0
    for at in range(count):
        part = sound[at * HOP : at * HOP + FFT_SIZE] * window
        powers[at] = np.abs(np.fft.rfft(part)) ** 2 / FFT_SIZE
    return powers, freqs


def clear_in_all(levels: Sequence[Audio]) -> Audio:
    """Where every one of several responses stands clear.

    Parameters
    ----------
    levels
        In dB, each of shape (n,), NaN where one does not.

    Returns
    -------
    Whether, shape (n,).
    """
    return np.asarray(np.all(np.isfinite(np.array(levels)), axis=0))
