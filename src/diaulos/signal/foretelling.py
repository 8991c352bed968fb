"""What the last tenth of a second does not foretell: how something new is told from what rings on.

Strings that ring are sums of decaying sines: linear prediction over a tenth of a second foretells
them, many of them at once, to a small part of their level (covariance method; Makhoul, Linear
prediction: a tutorial review, Proc. IEEE 1975, from memory). What begins is not foretold, from its
first sample on, be it far fainter than what rings. A string that is let go is not foretold either;
but there is less than was foretold then, not more.

Conventions
- Frames are those of a part that was brought to about 12 kHz: a pluck has enough below 6 kHz.
- Levels are mean squares; ratios of them in dB.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio

Real = NDArray[np.float64]

RATE_HZ = 12_000.0
ORDER, FIT_S = 160, 0.1
"""Coefficients, and what they are fitted on. A chord on six strings has more partials than half of
them, but few that are not much fainter than the others."""
STEADY = 1e-3
"""Of the mean power, added to the diagonal: without it small misses of a fit are blown up."""
FLAT_ORDER = 4
"""A few coefficients over the whole part take the tilt out: the fits then heed the treble too."""
QUIET_DB = 70.0
"""So far below the loudest moment nothing is told from silence."""
BEFORE_S, BEHIND_S = 0.012, 0.004
"""Misses of a moment are compared with those of just before it."""
NEAR_S = 0.030
"""The level that a miss is held against is the highest so near."""
SMOOTH_S = 0.0007
CROSS = 0.35
"""Where misses rise: this share of the way, in dB, from what they were to what they become."""
EARLY_S, LATE_S = 0.005, 0.004
REACH_S = 0.012
"""How far ahead the ringing is carried on to see whether there is more or less of it."""
BANDS, BAND_HZ = 12, (150.0, 5_400.0)


@dataclass(frozen=True)
class Change:
    """A moment from which on a part is not what its past foretold."""

    frame: int
    clear_db: float
    """Its misses over those of just before;"""
    strong_db: float
    """and over the level around it."""
    more_db: float
    """Positive where there is more than was foretold, far below 0 where there is less."""


class Foretelling:
    """A part, each moment of which is foretold by what was before it.

    Parameters
    ----------
    samples
        Audio, shape (frames,), mono.
    rate_hz
        Sample rate in Hz.
    ahead_s
        The farthest ahead that anything is foretold.
    """

    def __init__(self, samples: Audio, rate_hz: float, ahead_s: float) -> None:
        import scipy.ndimage
        import scipy.signal

        step = max(1, round(rate_hz / RATE_HZ))
        y = np.asarray(samples, np.float64)
        y = np.asarray(scipy.signal.resample_poly(y, 1, step)) if step > 1 else y
        self.rate_hz = rate_hz / step
        self._fit = round(FIT_S * self.rate_hz)
        self._pad = ORDER + self._fit + round(ahead_s * self.rate_hz) + 1
        behind = round((LATE_S + REACH_S + 2.0 * BEHIND_S + BEFORE_S) * self.rate_hz)
        self._y = np.concatenate([np.zeros(self._pad), _flat(y), np.zeros(behind)])
        around = scipy.ndimage.uniform_filter1d(np.square(self._y), round(NEAR_S * self.rate_hz))
        self._level = scipy.ndimage.maximum_filter1d(around, 2 * round(NEAR_S * self.rate_hz) + 1)
        self._quiet = float(self._level.max()) * 10.0 ** (-QUIET_DB / 10.0) + 1e-30

    def changes(self, at_s: float, ahead_s: float, behind_s: float, least_db: float) -> list[float]:
        """Where misses rise, in s, from `ahead_s` before a moment to `behind_s` behind it.

        Parameters
        ----------
        at_s
            The moment in s.
        ahead_s
            How long before it the foretelling begins: all that is fitted on lies before that.
        behind_s
            How long behind it looking ends.
        least_db
            A rise is at least so high.

        Returns
        -------
        The clearest moment of each rise, rising; they are near, not exact (see `look`).
        """
        at, ahead = self._frame(at_s), round(ahead_s * self.rate_hz)
        missed, _ = self._missed(at, ahead, round(behind_s * self.rate_hz))
        clear, ratio_db, strength, first = self._rises(missed)
        loud = self._level[at] * 4e-3
        far = (ratio_db >= least_db) & (strength >= loud) & (strength >= 2.5e-3 * strength.max())
        found, go_on = [], 0
        together = round(BEHIND_S * self.rate_hz)
        for index in np.flatnonzero(far):
            if index < go_on:
                continue
            part = slice(index, index + together)
            best = int(index) + int(np.argmax(np.where(far[part], clear[part], 0.0)))
            go_on = best + round(0.75 * together)
            found.append(self._seconds(at - ahead + first + best))
        return found

    def look(self, near_s: float, ahead_s: float) -> Change:
        """A change looked at closely: foretold from just before it.

        Parameters
        ----------
        near_s
            About where it is, in s.
        ahead_s
            How long before that the foretelling begins.

        Returns
        -------
        Where it begins, and what it is like.
        """
        import scipy.ndimage

        near, ahead = self._frame(near_s), round(ahead_s * self.rate_hz)
        late, early = (round(part * self.rate_hz) for part in (LATE_S, EARLY_S))
        missed, ahead_taps = self._missed(near, ahead, 2 * late)
        clear, ratio_db, strength, first = self._rises(missed)
        span = slice(ahead - late - first, ahead + late - first)
        rising = np.where(ratio_db[span] > 0.0, clear[span], -1.0)
        best = span.start + int(np.argmax(rising))
        frame = near - ahead + first + best
        strong_db = 10.0 * np.log10(strength[best] / (self._level[frame] + self._quiet) + 1e-30)
        # To the sample: the first that leaves what was before.
        smooth = max(1, round(SMOOTH_S * self.rate_hz))
        envelope = scipy.ndimage.uniform_filter1d(np.square(missed), smooth, mode="nearest")
        here = first + best
        start = max(0, here - early)
        was = float(envelope[max(0, start - 2 * early) : start + 1].max()) + self._quiet * 1e-3
        became = float(envelope[max(0, here - late // 2) : here + late].max())
        begins = frame
        if became > was:
            crossed = start + int(np.argmax(envelope[start:] > was * (became / was) ** CROSS))
            if crossed <= here + late:
                begins = near - ahead + crossed
        more = self._more(frame, ahead_taps)
        return Change(begins, float(ratio_db[best]), float(strong_db), more)

    def seconds(self, change: Change) -> float:
        """Where a change is, in s from the part's first frame."""
        return self._seconds(change.frame)

    def _frame(self, at_s: float) -> int:
        return self._pad + round(at_s * self.rate_hz)

    def _seconds(self, frame: int) -> float:
        return (frame - self._pad) / self.rate_hz

    def _missed(self, at: int, ahead: int, behind: int) -> tuple[Real, Real]:
        """What is not foretold from `ahead` frames before a frame to `behind` after it; and the
        coefficients, the oldest first. Misses are as those of white noise would be."""
        import scipy.linalg

        first = at - ahead - self._fit
        rows = np.lib.stride_tricks.sliding_window_view(
            self._y[first - ORDER : at + behind], ORDER + 1
        )
        fitted = np.ascontiguousarray(rows[: self._fit])
        alike = fitted.T @ fitted
        matrix, aim = alike[:ORDER, :ORDER], alike[:ORDER, ORDER]
        steady = STEADY * float(np.trace(matrix)) / ORDER + 1e-3 * self._fit * self._quiet + 1e-30
        matrix[np.diag_indices(ORDER)] += steady
        taps = scipy.linalg.solve(matrix, aim, assume_a="pos", check_finite=False)
        there = rows[self._fit :]
        missed = there[:, ORDER] - there[:, :ORDER] @ taps
        return missed / np.sqrt(1.0 + taps @ taps), taps

    def _rises(self, missed: Real) -> tuple[Real, Real, Real, int]:
        """How sure a rise of the misses is at each frame (twice the log of a likelihood ratio, of
        one variance against two), how high in dB, and what it rises to; and the first frame."""
        before, behind = (round(part * self.rate_hz) for part in (BEFORE_S, BEHIND_S))
        sums = np.concatenate([[0.0], np.cumsum(np.square(missed))])
        at = np.arange(before, missed.size - behind + 1)
        was = (sums[at] - sums[at - before]) / before + self._quiet * 1e-3
        is_now = (sums[at + behind] - sums[at]) / behind + self._quiet * 1e-3
        both = (before * was + behind * is_now) / (before + behind)
        clear = (
            (before + behind) * np.log(both) - before * np.log(was) - behind * np.log(is_now)
        )  # fmt: skip
        return clear, 10.0 * np.log10(is_now / was), is_now, before

    def _more(self, frame: int, taps: Real) -> float:
        """Whether there is more than the ringing carried on would be, or less, in dB: twice the
        mean over bands of the one over the other, and what differs over what was foretold."""
        import scipy.fft
        import scipy.linalg
        import scipy.signal

        count = round(REACH_S * self.rate_hz)
        poles = np.concatenate([[1.0], -taps[::-1]])
        state = -scipy.linalg.hankel(poles[1:]) @ self._y[frame - 1 : frame - ORDER - 1 : -1]
        rung, _ = scipy.signal.lfilter([1.0], poles, np.zeros(count), zi=state)
        there = self._y[frame : frame + count]
        window = np.hanning(count)
        hz = np.arange(count // 2 + 1) * self.rate_hz / count
        edges = np.unique(np.searchsorted(hz, np.geomspace(*BAND_HZ, BANDS + 1)))
        edges = edges[edges < hz.size]
        power = np.square(np.abs(scipy.fft.rfft([there * window, rung * window,
                                                 (there - rung) * window], axis=1)))  # fmt: skip
        heard, foretold, differs = np.add.reduceat(power[:, : edges[-1]], edges[:-1], axis=1)
        floor = 1e-4 * max(heard.max(), foretold.max()) + 1e-30
        bands = np.clip(10.0 * np.log10((heard + floor) / (foretold + floor)), -10.0, 10.0)
        left = 10.0 * np.log10((differs.sum() + 1e-30) / (foretold.sum() + 1e-30))
        return float(2.0 * bands.mean() + left)


def _flat(y: Real) -> Real:
    """With the tilt of its spectrum taken out."""
    import scipy.fft
    import scipy.linalg

    size = scipy.fft.next_fast_len(y.size + FLAT_ORDER, real=True)
    alike = scipy.fft.irfft(np.square(np.abs(scipy.fft.rfft(y, size))), size)[: FLAT_ORDER + 1]
    alike[0] = alike[0] * (1.0 + 1e-4) + 1e-30
    taps = scipy.linalg.solve_toeplitz(alike[:-1], alike[1:])
    return np.asarray(np.convolve(y, np.concatenate([[1.0], -taps]))[: y.size])
