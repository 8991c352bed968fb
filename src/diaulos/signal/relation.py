"""How two tracks of one performance, recorded at once, hang together.

Conventions
- The lag is in samples, positive when B is late; the likeness is the normalised
  cross-correlation there, 1 for a copy, -1 for a copy turned over.
- The steepness is in dB of B for each dB of A: below 1 where B is held back (an amplifier that
  is driven), above 1 where A is.
- A leak is the gain by which one track is contained in another, in dB.

For whole signals of some seconds: `signal.delay` finds the delay of recordings to a hundredth of
a sample and says how sure it is; here both share a clock, and what matters is whether they are
the same.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio
from diaulos.units import gain_to_db

Real = NDArray[np.float64]
Complex = NDArray[np.complex128]

FINER = 8
"""Steps of a sample that a lag is looked for in."""
SINC, KAISER = 64, 10.0
"""Samples to either side by which a correlation is read between two of its own."""
FRAME_S = 0.05
LOUD_DB = 30.0
"""Frames this far below the loudest tell nothing of how a track is held back."""
LEAST_FRAMES = 8
WINDOW = 2048
LEAK_HZ = (150.0, 16_000.0)
LEAK_LOUD_DB = 20.0
LEAK_SHARE = 0.02
"""Of the moments and frequencies: those where the one is loudest re the other."""
FLOOR = 1e-12


@dataclass(frozen=True)
class Likeness:
    """The lag at which two tracks are most alike, how alike, and how alike they are at the best
    lag of the other sign."""

    lag_samples: float
    likeness: float
    rival: float

    @property
    def null_db(self) -> float:
        """What the best gain and lag leave of B, in dB re B."""
        return 10.0 * math.log10(max(FLOOR, 1.0 - self.likeness**2))


def most_alike(a: Audio, b: Audio, within: tuple[int, int], *, finer: int = FINER) -> Likeness:
    """The lag at which B is most like A, either way up.

    Parameters
    ----------
    a, b
        Samples of one clock, shape (frames,), of equal length.
    within
        The first and last lag to look at, in samples.
    finer
        Steps of a sample.

    Returns
    -------
    The likeness; 0 where one of them is silent.
    """
    import scipy.fft

    one, other = np.asarray(a, np.float64), np.asarray(b, np.float64)
    energy = math.sqrt(float(one @ one) * float(other @ other))
    if energy <= 0.0:
        return Likeness(0.0, 0.0, 0.0)
    first, last = within
    reach = SINC if finer > 1 else 0
    size = scipy.fft.next_fast_len(
        one.size + max(other.size, abs(first) + reach, abs(last) + reach), real=True
    )
    cross = scipy.fft.rfft(one, size).conj() * scipy.fft.rfft(other, size)
    lags = np.arange(first - reach, last + reach + 1)
    values = scipy.fft.irfft(cross, size)[lags % size] / energy
    coarse = values[reach : reach + last - first + 1]
    best = int(np.argmax(np.abs(coarse)))
    lag, value = float(first + best), float(coarse[best])
    if finer > 1:
        around = values[best : best + 2 * reach + 1]
        lag, value = _finer(around, lag, finer)
    rival = float(np.max(-np.sign(value) * coarse, initial=0.0))
    return Likeness(lag, max(-1.0, min(1.0, value)), max(0.0, rival))


def copied(a: Audio, b: Audio, within: tuple[int, int]) -> Likeness:
    """How much of a copy B is of A: as `most_alike`, over what both hold once they lie in time.

    Parameters
    ----------
    a, b
        Samples of one clock, shape (frames,).
    within
        The first and last lag to look at, in samples.

    Returns
    -------
    The likeness.
    """
    rough = most_alike(a, b, within, finer=1)
    shift = round(rough.lag_samples)
    one, other = a[max(0, -shift) :], b[max(0, shift) :]
    count = min(one.size, other.size)
    fine = most_alike(one[:count], other[:count], (-2, 2))
    return Likeness(shift + fine.lag_samples, fine.likeness, rough.rival)


def _finer(around: Real, lag: float, finer: int) -> tuple[float, float]:
    """A cross-correlation between its samples: what is sampled at a rate is whole there."""
    at = np.arange(-SINC, SINC + 1)
    steps = np.arange(-finer, finer + 1) / finer
    kernel = np.sinc(steps[:, None] - at) * np.kaiser(at.size, KAISER)
    # Its peak is flat: a kernel that lets slow parts through at anything but 1 would move it.
    values = (kernel / kernel.sum(axis=1, keepdims=True)) @ around
    best = int(np.argmax(np.abs(values)))
    return lag + float(steps[best]), float(values[best])


def steepness(a: Audio, b: Audio, rate_hz: float, lag_samples: float = 0.0) -> float | None:
    """How the loudness of B follows that of A.

    Parameters
    ----------
    a, b
        Samples of one clock, shape (frames,).
    rate_hz
        Sample rate in Hz.
    lag_samples
        How late B is.

    Returns
    -------
    dB of B per dB of A, by the main axis of the short levels; None where too little was played.
    """
    width = round(FRAME_S * rate_hz)
    shift = round(lag_samples)
    one = a[max(0, -shift) :]
    other = b[max(0, shift) :]
    count = min(one.size, other.size) // width
    if count < LEAST_FRAMES:
        return None
    levels = [
        10.0 * np.log10(np.square(x[: count * width].reshape(count, width)).mean(axis=1) + FLOOR)
        for x in (np.asarray(one, np.float64), np.asarray(other, np.float64))
    ]
    loud = (levels[0] > levels[0].max() - LOUD_DB) & (levels[1] > levels[1].max() - LOUD_DB)
    if int(np.count_nonzero(loud)) < LEAST_FRAMES:
        return None
    _, axes = np.linalg.eigh(np.cov(levels[0][loud], levels[1][loud]))
    across, up = float(axes[0, 1]), float(axes[1, 1])
    return None if abs(across) < 1e-6 else up / across


@dataclass(frozen=True)
class Leak:
    """How much of one track is in another, and how alike the two are in just those moments and
    frequencies where the first stands out (0 to 1)."""

    db: float
    coherence: float


def leaked(source: Audio, into: Audio, rate_hz: float) -> Leak:
    """How much of one track is in another of the same performance.

    What two tracks have in common by right (an amplifier's answer holds the note that was
    played) is least where the one is far louder than the other: between the partials of the
    strings, or where a cabinet has nothing left. There it is looked for.

    Parameters
    ----------
    source, into
        Samples of one clock and one start, shape (frames,).
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The leak; minus 300 dB where nothing was played.
    """
    import scipy.ndimage

    one, other = _spectra(source, rate_hz), _spectra(into, rate_hz)
    count = min(one.shape[0], other.shape[0])
    one, other = one[:count], other[:count]
    power, rest = np.square(np.abs(one)), np.square(np.abs(other))
    loud = power.sum(axis=1)
    if count == 0 or loud.max() <= 0.0:
        return Leak(-300.0, 0.0)
    looked = (loud > loud.max() * 10.0 ** (-LEAK_LOUD_DB / 10.0))[:, None] & (
        power > power.max() * 1e-6
    )
    # Around each moment, not at it: where a leak happens to cancel is no place to look for one.
    around = scipy.ndimage.uniform_filter(rest, (5, 5), mode="nearest")
    ratio = np.where(looked, power / (around + 1e-20), 0.0)
    chosen = looked & (ratio >= np.quantile(ratio[looked], 1.0 - LEAK_SHARE))
    cross = abs(complex(np.sum(other[chosen] * one[chosen].conj())))
    mine, its = float(power[chosen].sum()), float(rest[chosen].sum())
    return Leak(gain_to_db(cross / mine), cross / math.sqrt(max(1e-30, mine * its)))


def besides(x: Audio, made: Audio, other: Audio) -> Leak:
    """How much of a track is in another besides what is expected there.

    Parameters
    ----------
    x
        The track, shape (frames,).
    made
        What is expected of it, in time with it.
    other
        What may be in it as well.

    Returns
    -------
    The gain of `other` when both are fitted, and how much of what `made` leaves it explains (0 to
    1, as a likeness).
    """
    one, two, three = (np.asarray(part, np.float64) for part in (x, made, other))
    scale = float(two @ two)
    if scale <= 0.0:
        return Leak(-300.0, 0.0)
    rest = one - (float(one @ two) / scale) * two
    own = three - (float(three @ two) / scale) * two
    across, energy = float(rest @ own), float(own @ own)
    if energy <= 0.0:
        return Leak(-300.0, 0.0)
    alike = abs(across) / math.sqrt(max(1e-30, float(rest @ rest) * energy))
    return Leak(gain_to_db(abs(across) / energy), alike)


def _spectra(x: Audio, rate_hz: float) -> Complex:
    window = np.hanning(WINDOW)
    count = max(0, (x.size - WINDOW) // (WINDOW // 2) + 1)
    at = np.arange(count)[:, None] * (WINDOW // 2) + np.arange(WINDOW)
    freqs = np.fft.rfftfreq(WINDOW, 1.0 / rate_hz)
    kept = (freqs >= LEAK_HZ[0]) & (freqs <= LEAK_HZ[1])
    return np.asarray(np.fft.rfft(np.asarray(x, np.float64)[at] * window, axis=1)[:, kept])
