"""The linear filter between two recordings of one performance: what an equaliser would have to do.

Conventions
- B is taken to be A through a filter, and something that no filter makes: B = h * A + rest.
  The filter reaches a little ahead, so that a delay that is off by some samples does no harm.
- It is fitted by least squares on every other quarter of a second of what was recorded and judged
  on those between, then the other way round: what is called the filter's share was explained on
  sound that it had not seen.

Method: overlap-save blocks make the sum of squares exact (no window, no edge), and conjugate
gradients on its normal equations find its least, led by the power spectrum of A. Where A holds
nothing they change nothing, so that no ridge is needed.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_rate

Real = NDArray[np.float64]
Complex = NDArray[np.complex128]

TAPS_S, AHEAD_S = 0.085, 0.004
"""Reach of the filter: two periods of the lowest note, and what an all-pass or a linear phase
needs ahead."""
LEAST_BLOCKS = 8
"""Fewer tell no filter of that length; it gets shorter, down to"""
LEAST_TAPS = 128
ORDER = 48
"""Of the prediction that flattens."""
STAGES = (
    (1e-9, 64, 20), (1e-3, 64, 10), (1e-7, 256, 15), (1e-3, 256, 10), (1e-6, 1024, 15),
    (1e-3, 1024, 10), (1e-5, 0, 15), (1e-3, 0, 15), (0.0, 0, 20),
)  # fmt: skip
"""Floor of the flattening, taps (0: all), steps of the conjugate gradients. A short filter is soon
found, and leads the longer one. Flattened deep, what is loudest holds nothing up, but noise where A
is weak bends what is strong; so each length is taken up flattened and finished less so, at the end
as it is heard. What a longer filter only makes up shows on what it was not fitted on: the best is
taken."""
SHORT_DB = 2.0
"""A shorter filter that leaves so little more than the best is as good a tone curve: what the
longer one explains besides may be distortion that rings with the notes, which come again."""
ENOUGH = 1e-11
"""Share of the residual's square at which the steps stop."""
LEAD_FLOOR = 1e-9


@dataclass(frozen=True)
class Between:
    """The filter from A to B and what it leaves.

    `left` is the power of what it leaves of B re the power of B, judged on what it was not fitted
    on. `least` is the least that any filter tried leaves on what it was fitted on: one that knows
    too little leaves too much of the first and too little of the second. `most` is what the
    shortest filter leaves that does nearly as well, on what it was not fitted on: of a driven
    recording the longest explains distortion, too, where the same notes come again. `taps` is the
    impulse response, `ahead` how many of them lie before time 0; `rate_hz` the sample rate.
    """

    taps: Real
    ahead: int
    left: float
    least: float
    most: float
    rate_hz: float
    rest: Real
    """What it leaves of B, sample by sample, from frame `first` on."""
    first: int

    def spectrum(self, size: int) -> Complex:
        """Gain at the bins of a transform of so many frames, as `response`."""
        import scipy.fft

        long = max(size, self.taps.size)
        step = long // size
        turns = np.exp(2j * np.pi * self.ahead * np.arange(long // 2 + 1) / long)
        return np.asarray((scipy.fft.rfft(self.taps, long) * turns)[:: max(1, step)])

    def response(self, freqs_hz: Real) -> Complex:
        """Gain at frequencies in Hz, delay of the taps ahead taken out."""
        turns = -2j * np.pi * np.asarray(freqs_hz, np.float64) / self.rate_hz
        at = np.arange(self.taps.size) - self.ahead
        return np.asarray(np.exp(turns[:, None] * at) @ self.taps)


def filter_between(a: Audio, b: Audio, rate_hz: float) -> Between | None:
    """The filter that makes B of A, for recordings that lie in time.

    Parameters
    ----------
    a
        The reference, shape (frames,), mono, full scale at 1.
    b
        In time with it within a millisecond, shape (frames,).
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The filter; None where the recordings are too short or one of them is silent.

    Examples
    --------
    >>> noise = np.random.default_rng(1).standard_normal(96_000)
    >>> found = filter_between(noise, 0.5 * noise, 48_000.0)
    >>> (round(float(abs(found.response(np.array([1000.0])))[0]), 4), found.left < 1e-9)
    (0.5, True)
    """
    require_rate(rate_hz)
    count = min(a.size, b.size)
    one, other = np.asarray(a[:count], np.float64), np.asarray(b[:count], np.float64)
    taps = _taps_for(count, rate_hz)
    if taps is None or not np.any(one) or not np.any(other):
        return None
    ahead = min(round(AHEAD_S * rate_hz), taps // 4)
    blocks = _Blocks.cut(one, other, taps, ahead)
    even = np.arange(blocks.count) % 2 == 0
    power = float(np.sum(np.square(blocks.wanted)))
    if power <= 0.0:
        return None
    flattened = {0.0: blocks}
    best: tuple[float, list[Real], Real] = (math.inf, [], np.zeros(0))
    least, by_length = math.inf, dict[int, float]()
    fitted = [np.zeros(taps), np.zeros(taps)]
    for floor, wanted, steps in STAGES:
        if floor not in flattened:
            flat = _flattening(one, floor)
            flattened[floor] = _Blocks.cut(
                np.convolve(one, flat)[:count], np.convolve(other, flat)[:count], taps, ahead
            )
        length = min(wanted or taps, taps)
        reach = slice(max(0, ahead - length // 4), max(0, ahead - length // 4) + length)
        fitted = [
            flattened[floor].fit(chosen, start, reach, steps)
            for chosen, start in zip((even, ~even), fitted, strict=True)
        ]
        rest = np.empty_like(blocks.wanted)
        rest[~even], rest[even] = blocks.left(fitted[0], ~even), blocks.left(fitted[1], even)
        left = float(np.sum(np.square(rest)))
        seen = sum(
            float(np.sum(np.square(blocks.left(half, chosen))))
            for half, chosen in zip(fitted, (even, ~even), strict=True)
        )
        least = min(least, seen, left)
        by_length[length] = min(left, by_length.get(length, math.inf))
        if left < best[0]:
            best = (left, fitted, rest)
    left, halves, rest = best
    nearly = left * 10.0 ** (SHORT_DB / 10.0)
    most = by_length[min(length for length, more in by_length.items() if more <= nearly)]
    found = 0.5 * (halves[0] + halves[1])
    return Between(
        found, ahead, left / power, least / power, most / power, rate_hz, rest.reshape(-1),
        taps - ahead,
    )  # fmt: skip


def _flattening(a: Real, floor: float) -> Real:
    """A short filter that makes A's spectrum roughly flat (linear prediction): both go through it
    ahead of the fit, which what is loudest would hold up otherwise."""
    import scipy.fft
    import scipy.linalg

    size = scipy.fft.next_fast_len(a.size + ORDER, real=True)
    power = np.square(np.abs(scipy.fft.rfft(a, size, workers=2)))
    alike = scipy.fft.irfft(power, size)[: ORDER + 1]
    alike[0] *= 1.0 + floor
    ahead = scipy.linalg.solve_toeplitz(alike[:-1], alike[1:])
    return np.concatenate([[1.0], -ahead])


def _taps_for(count: int, rate_hz: float) -> int | None:
    """The longest filter that the recordings tell, a power of two."""
    taps = 2 ** round(math.log2(TAPS_S * rate_hz))
    while taps >= LEAST_TAPS:
        if count - taps >= LEAST_BLOCKS * 3 * taps:
            return int(taps)
        taps //= 2
    return None


@dataclass(frozen=True)
class _Blocks:
    """Spectra of A's blocks, each with the samples ahead of it that a filter needs, and the
    samples of B that they are to make."""

    spectra: Complex
    wanted: Real
    taps: int
    last: int
    """Samples of the last block that the recordings reach; the others do not count."""

    @classmethod
    def cut(cls, a: Real, b: Real, taps: int, ahead: int) -> _Blocks:
        import scipy.fft

        size, hop = 4 * taps, 3 * taps
        count = -(-(a.size - taps) // hop)
        first = np.arange(count) * hop
        last = a.size - taps - int(first[-1])
        windows = np.pad(a, (0, hop - last))[first[:, None] + np.arange(size)]
        # Sample `taps` of a window is the first that sees a whole filter.
        at = first[:, None] + taps - ahead + np.arange(hop)
        wanted = np.where((at >= 0) & (at < b.size), b[np.clip(at, 0, b.size - 1)], 0.0)
        wanted[-1, last:] = 0.0
        return cls(scipy.fft.rfft(windows, axis=1, workers=2), wanted, taps, last)

    @property
    def count(self) -> int:
        return int(self.wanted.shape[0])

    def made(self, taps: Real, chosen: NDArray[np.bool_]) -> Real:
        """What the filter makes of the chosen blocks."""
        import scipy.fft

        size = 4 * self.taps
        spectra = self.spectra[chosen] * scipy.fft.rfft(taps, size)
        made = np.asarray(scipy.fft.irfft(spectra, size, axis=1, workers=2)[:, self.taps :])
        if chosen[-1]:
            made[-1, self.last :] = 0.0
        return made

    def against(self, rest: Real, chosen: NDArray[np.bool_]) -> Real:
        """The correlation of what is left with A, lag by lag: the gradient."""
        import scipy.fft

        size = 4 * self.taps
        padded = np.zeros((rest.shape[0], size))
        padded[:, self.taps :] = rest
        spectra = scipy.fft.rfft(padded, axis=1, workers=2)
        summed = np.einsum("bf,bf->f", self.spectra[chosen].conj(), spectra)
        return np.asarray(scipy.fft.irfft(summed, size)[: self.taps])

    def left(self, taps: Real, chosen: NDArray[np.bool_]) -> Real:
        """What the filter leaves of the chosen blocks."""
        return np.asarray(self.wanted[chosen] - self.made(taps, chosen))

    def fit(self, chosen: NDArray[np.bool_], start: Real, reach: slice, steps: int) -> Real:
        """The filter that leaves least in the chosen blocks, of those that differ from another one
        within `reach`."""
        lead = self._lead(chosen)
        taps = start.copy()
        inside = np.zeros(self.taps)
        inside[reach] = 1.0
        rest = inside * self.against(self.wanted[chosen] - self.made(taps, chosen), chosen)
        led = inside * lead(rest)
        way, size = led, float(rest @ led)
        first = size
        for _ in range(steps):
            if size <= ENOUGH * first or size <= 0.0:
                break
            bent = inside * self.against(self.made(way, chosen), chosen)
            step = size / float(way @ bent)
            taps = taps + step * way
            rest = rest - step * bent
            led = inside * lead(rest)
            size, before = float(rest @ led), size
            way = led + (size / before) * way
        return taps

    def _lead(self, chosen: NDArray[np.bool_]) -> Callable[[Real], Real]:
        """About the inverse of the normal equations: what leads the way down."""
        import scipy.fft

        size = 4 * self.taps
        power = np.einsum("bf,bf->f", self.spectra[chosen].conj(), self.spectra[chosen]).real
        # As wide as the filter resolves: between two partials there is something of both.
        power = np.convolve(power, np.full(9, 1.0 / 9.0), mode="same")
        power = power + LEAD_FLOOR * float(power.max(initial=0.0)) + 1e-300

        def led(rest: Real) -> Real:
            return np.asarray(
                scipy.fft.irfft(scipy.fft.rfft(rest, size) / power, size)[: self.taps]
            )

        return led
