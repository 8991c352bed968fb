"""How deep two recordings of one thing null: what the best gain and delay leave of the one when the
other is taken out of it.

The delay is moved in the frequency domain, so that no filter of ours stands between the two, and
settled where least is left.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_rate
from diaulos.units import gain_to_db

Real = NDArray[np.float64]

EDGE_S = 0.1
"""Faded at either end before the delay is moved, and left out of what is judged."""
STEPS = (0.25, 0.05, 0.005)
"""Samples by which the delay is moved; what is left is a parabola of it near its least."""
MOST_STEPS = 8
DEEPEST_DB = -200.0


@dataclass(frozen=True)
class Null:
    """`depth_db` is what is left re B, `gain_db` and `polarity` are B's re A, `delay_samples` is
    how much later B is."""

    depth_db: float
    gain_db: float
    polarity: int
    delay_samples: float


def null_depth(a: Audio, b: Audio, rate_hz: float, delay_samples: float) -> Null:
    """How deep B nulls with A, near a delay that is known to half a sample.

    Parameters
    ----------
    a
        Samples, shape (frames,), mono.
    b
        What is held against it, shape (frames,), mono, of the same clock.
    rate_hz
        Sample rate in Hz.
    delay_samples
        How much later B is, about.

    Returns
    -------
    The null; a depth of 0 where one of the two is silent or too short.

    Examples
    --------
    >>> noise = np.random.default_rng(1).standard_normal(48_000)
    >>> found = null_depth(noise, -0.5 * np.roll(noise, 100), 48_000.0, 100.0)
    >>> (round(found.gain_db, 2), found.polarity, found.depth_db < -100.0)
    (-6.02, -1, True)
    """
    require_rate(rate_hz)
    edge = round(EDGE_S * rate_hz)
    whole = round(delay_samples)
    first = max(0, -whole)
    here = np.asarray(a, np.float64)[first:]
    there = np.asarray(b, np.float64)[first + whole :] if first + whole >= 0 else np.zeros(0)
    count = min(here.size, there.size)
    nothing = Null(0.0, 0.0, 1, delay_samples)
    if count < 4 * edge:
        return nothing
    here, there = here[:count], there[:count]
    inner = slice(edge, count - edge)
    if not np.any(here[inner]) or not np.any(there[inner]):
        return nothing
    mover = _Mover(there, edge)

    def left(delay: float) -> tuple[float, float]:
        """The power that is left re B's, and B's gain."""
        moved = mover.moved(delay)[inner]
        mine = here[inner]
        cross, own = float(np.dot(mine, moved)), float(np.dot(moved, moved))
        power = float(np.dot(mine, mine))
        if not own or not power:
            return 1.0, 0.0
        gain = cross / power
        rest = moved - gain * mine
        return float(np.dot(rest, rest)) / own, gain

    best = delay_samples - whole
    for step in STEPS:
        best = _lowest(lambda delay: left(delay)[0], best, step)
    least, gain = left(best)
    depth = max(DEEPEST_DB, 10.0 * math.log10(max(1e-20, least)))
    return Null(depth, gain_to_db(abs(gain)), 1 if gain >= 0.0 else -1, whole + best)


def _lowest(left: Callable[[float], float], at: float, step: float) -> float:
    """Where a parabola through three places has its least; they move on until it is between."""
    for _ in range(MOST_STEPS):
        before, here, behind = left(at - step), left(at), left(at + step)
        bend = before - 2.0 * here + behind
        if here <= min(before, behind):
            return at + 0.5 * step * (before - behind) / bend if bend > 0.0 else at
        at += step if behind < before else -step
    return at


class _Mover:
    """A recording moved earlier by parts of a sample: a turn of phase that grows with frequency."""

    def __init__(self, samples: Real, edge: int) -> None:
        import scipy.fft

        self._fft = scipy.fft
        fade = 0.5 - 0.5 * np.cos(np.pi * (np.arange(edge) + 0.5) / edge)
        faded = samples.copy()
        faded[:edge] *= fade
        faded[-edge:] *= fade[::-1]
        self._count = samples.size
        self._size = scipy.fft.next_fast_len(samples.size + edge, real=True)
        self._spectrum = scipy.fft.rfft(faded, self._size)
        self._turn = 2j * np.pi * np.arange(self._spectrum.size) / self._size

    def moved(self, samples: float) -> Real:
        """So many samples earlier."""
        turned = self._spectrum * np.exp(self._turn * samples)
        return np.asarray(self._fft.irfft(turned, self._size)[: self._count])
