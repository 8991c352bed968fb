"""Which of several lags explains a recording best: what is left of B when A, at that lag, has
gone through the best short filter.

A held note looks nearly the same one period later, and its cross-spectra agree there as well.
But its beginning, its decay and the small mistuning of its partials do not: at the true lag a
filter of some milliseconds leaves less of B unexplained than at any other. Both are worked on
at a quarter of the rate, in stretches of some seconds, each with a filter of its own, so that
slow changes and drifting clocks do not count as a difference.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio
from diaulos.signal.convolve import convolve_long

Real = NDArray[np.float64]

QUARTER = 4
BEFORE_S, BEHIND_S = 0.0005, 0.003
"""Reach of the filter: causal but for the lag's own error. Longer than a cabinet's body, shorter
than the period of all but high notes."""
REACH_S = BEFORE_S + BEHIND_S
STRETCH_S = 3.0
WINDOW_S = 0.005
RIDGE = 1e-7
"""Of the mean power, so that what A does not hold asks for no infinite gain."""
LOW_TAPS = 48
FLOOR = 1e-5
"""Share of B that the filter's own errors leave: smaller rests are equal."""
PARTIAL = 0.7
"""A lag that explains less of B than this share of what another does is only a part."""
FAR_NEPERS = 50.0
FAR_RATIO = 1.2
"""Moments of B far apart leave different noise: smaller ratios tell nothing there."""
WINDOW_VALUES = WINDOW_S * 48_000.0 / QUARTER
"""Values in a window, at the usual rate."""


@dataclass(frozen=True, eq=False)
class Left:
    """What a lag leaves unexplained: energy of the rest and of B by window of B's time."""

    rest: Real
    whole: Real
    freedom: float
    """How many independent values the rest has: few where it is tones, many where it is noise."""

    @property
    def share(self) -> float:
        """The rest re the whole, 0 to about 1."""
        return self.over(np.ones(self.rest.size, bool))

    def over(self, windows: NDArray[np.bool_]) -> float:
        """The rest re the whole in some windows, FLOOR to about 1."""
        whole = max(float(self.whole[windows].sum()), 1e-30)
        return max(float(self.rest[windows].sum()) / whole, FLOOR)

    @property
    def told(self) -> float:
        """Energy of B that it explains: little where little overlaps."""
        return float(self.whole.sum() - self.rest.sum())


def _cut(x: Audio, first: int, count: int, least: int = 0, end: int | None = None) -> Real:
    """`count` samples from `first` on, silence outside, and outside `least` to `end`."""
    out = np.zeros(count)
    start, stop = max(0, least, first), min(x.size, first + count)
    stop = stop if end is None else min(stop, end)
    if stop > start:
        out[start - first : stop - first] = x[start:stop]
    return out


def _low(x: Audio) -> Audio:
    """What a quarter of the rate can hold, and its differences: low notes alone must not
    decide. Offsets go."""
    at = np.arange(LOW_TAPS) - (LOW_TAPS - 1) / 2.0
    taps = np.sinc(at * 0.8 / QUARTER) * np.hanning(LOW_TAPS + 2)[1:-1]
    taps = np.diff(taps / taps.sum(), prepend=0.0, append=0.0)
    return convolve_long(x, taps.astype(x.dtype))


class Explained:
    """Two recordings, of which the one is to explain the other over a span of its own.

    `first` and `count` are the span of A, in frames.
    """

    def __init__(self, a: Audio, b: Audio, rate_hz: float, first: int, count: int) -> None:
        self.rate_hz = rate_hz
        self._window = max(QUARTER, round(WINDOW_S * rate_hz) // QUARTER * QUARTER)
        self._first, self._count = first, count
        self._size_b = b.size
        self._a, self._b = _low(a), _low(b)

    def left_over(self, lag_at: Callable[[float], float]) -> Left:
        """What a lag (in samples, at a frame of A) leaves of B, by window of B's time. What B
        or the span of A does not hold is left out as zeros: what lies before and behind A
        nobody knows, it may have been cut out of a loop."""
        window = self._window
        history = round(BEHIND_S * self.rate_hz)
        stretch = round(STRETCH_S * self.rate_hz) // window * window
        rests = np.zeros(self._size_b // window)
        wholes = np.zeros(rests.size)
        freedom = 0.0
        done = self._first
        while done < self._first + self._count:
            middle = done + min(stretch, self._first + self._count - done) / 2.0
            lag = round(lag_at(middle))
            # Whole windows of B, inside both: the first moments of either have no history.
            begin = max(1, -(-(done + lag + history) // window))
            end = min(done + stretch, self._first + self._count) + lag
            end = min(end // window, rests.size - 1)
            if end > begin:
                rest, whole = self._stretch(begin * window - lag, (end - begin) * window, lag)
                freedom += _freedom(rest)
                shape = (end - begin, window // QUARTER)
                rests[begin:end] = np.square(rest).reshape(shape).sum(axis=1)
                wholes[begin:end] = np.square(whole).reshape(shape).sum(axis=1)
            done += stretch
        return Left(rests, wholes, freedom)

    def _stretch(self, start: int, frames: int, lag: int) -> tuple[Real, Real]:
        """The rest and B itself over one stretch, at a quarter of the rate."""
        low_rate = self.rate_hz / QUARTER
        before, behind = round(BEFORE_S * low_rate), round(BEHIND_S * low_rate)
        last = before + behind
        at = start - behind * QUARTER
        # A counts only where B is there: what nobody recorded must not bend the filter.
        whole = _cut(self._a, at, frames + last * QUARTER, -lag, self._size_b - lag)
        one, other = whole[::QUARTER], _cut(self._b, start + lag, frames)[::QUARTER]
        told = _explained(one, other, last)
        return other - told, other


def _explained(one: Real, other: Real, last: int) -> Real:
    """The best sum over k = 0 ... last of h[k] one[i + last - k] for every other[i]: least
    squares over just those rows (the covariance method), so that an exact copy is explained
    exactly."""
    n = other.size
    rows = [one[last - k : last - k + n] for k in range(last + 1)]
    square = np.empty((last + 1, last + 1))
    square[0] = [float(rows[0] @ row) for row in rows]
    square[:, 0] = square[0]
    for j in range(last):
        # One row down and one column right, the sums begin and end one sample earlier.
        new, old = one[last - 1 - j], one[n + last - 1 - j]
        earlier, later = one[last - 1 :: -1][:last], one[n : n + last][::-1]
        square[j + 1, 1:] = square[j, :-1] + new * earlier - old * later
    power = float(np.trace(square)) / (last + 1)
    if power <= 0.0:
        return np.zeros(n)
    wanted = np.array([float(row @ other) for row in rows])
    h = np.linalg.solve(square + RIDGE * power * np.eye(last + 1), wanted)
    return np.asarray(np.convolve(one, h, "valid"))


def _freedom(rest: Real) -> float:
    """Twice the number of bins that share a rest's power: (sum S)^2 / sum S^2."""
    import scipy.fft

    power = np.square(np.abs(scipy.fft.rfft(rest)))
    most = float(power.max(initial=0.0))
    if most <= 0.0:
        return 0.0
    power = power / most
    return 2.0 * float(power.sum()) ** 2 / float(np.square(power).sum())


@dataclass(frozen=True)
class Verdict:
    """One lag against another: `ratio` of what the other leaves to what it leaves, `nepers` of
    likelihood, `whiteness` of its rest (1 for noise, near 0 for a few tones)."""

    ratio: float
    nepers: float
    whiteness: float

    @property
    def sure(self) -> bool:
        """Whether the other is out of the question. A rest of noise tells by small differences;
        one of tones is the model's own error and asks for large ones. Set by hand on some hundreds
        of pairs made from recordings."""
        return (
            self.nepers * self.whiteness >= 15.0
            or (self.ratio >= 1.2 and self.nepers >= 20.0)
            or (self.ratio >= 2.0 and self.nepers >= 5.0)
        )


def against(best: Left, rival: Left) -> Verdict:
    """How one lag fares against another over the windows that both hold.

    Parameters
    ----------
    best
        What one lag leaves.
    rival
        What another lag of the same span leaves.

    Returns
    -------
    The verdict; nothing for or against where they share no window.
    """
    if best.told <= 0.0 or rival.told <= 0.0:
        return Verdict(1.0, 0.0, 0.0)
    if min(best.told, rival.told) < PARTIAL * max(best.told, rival.told):
        # Where the one explains far less of B, only a part is repeated.
        nepers = FAR_NEPERS if best.told > rival.told else -FAR_NEPERS
        return Verdict(FAR_RATIO, nepers, 1.0)
    both = (best.whole > 0.0) & (rival.whole > 0.0)
    counts = (int(np.count_nonzero(best.whole)), int(np.count_nonzero(rival.whole)))
    shared = int(np.count_nonzero(both))
    freedom = min(best.freedom, rival.freedom)
    values = max(1.0, WINDOW_VALUES * max(1, min(counts)))
    whiteness = min(1.0, freedom / values)
    if shared > 0.5 * min(counts):
        mine, its = best.over(both), rival.over(both)
        freedom *= shared / max(counts)
        return Verdict(its / mine, 0.5 * freedom * math.log(its / mine), whiteness)
    # Other moments of B: what they leave differs by chance as well.
    ratio = rival.share / best.share
    errors = math.log(ratio) * math.sqrt(freedom) / 2.0
    far = max(ratio, 1.0 / ratio) >= FAR_RATIO
    return Verdict(ratio, math.copysign(0.5 * errors**2, errors) if far else 0.0, 0.0)
