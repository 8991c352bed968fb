"""How much of one side of a split device is in the other, by their noise.

While nobody plays, both sides hiss. The processed side is the dry one's hiss made louder, some
milliseconds later; a leak is the same hiss at the same moment. Noise is alike with itself at one
moment only, so that the two can be told apart, far below what is heard while somebody plays.

At one moment, what is alike may have leaked either way. Of what leaked into the dry side the
dry side holds its own echo, as late as the processed side is: that tells which.

Conventions
- A gain is linear, negative where what leaks is turned over; its error is 95 %.
- A positive lag is late in the second.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_rate
from diaulos.units import gain_to_db

Real = NDArray[np.float64]

FRAME_S = 0.1
QUIET_DB = 4.0
"""So far above its quietest a side may be while nobody plays."""
SPAN_S, LEAST_S = 0.4, 1.5
"""Shortest stretch that counts, and how much there must be in all."""
LOW_HZ = 1_000.0
"""Hum and its harmonics lie below: they are alike at every moment."""
ORDER = 32
REACH = 16
"""Samples to either side of one moment in which a leak shows."""
FAR = (32, 2_400)
"""Lags at which the processed side answers."""
SURE = 5.0
"""Standard errors by which an answer must stand out, and lopsidedness must not."""
WIDER, SHARE = 2.0, 0.03
"""What the echo is read by is noisy itself, and a leak is in what it is read by: of both leaks at
once the bench is 1.8 times as far off as noise alone explains, of one by some hundredths of it."""
LATER = 2.0
"""So many times as much answer to one side as to the other tells which side is the processed."""


@dataclass(frozen=True)
class NoiseLeak:
    """The gain by which the noise of one side is in the other, and its error (95 %); seconds of
    noise that told it."""

    gain: float
    error: float
    seconds: float

    @property
    def sure(self) -> bool:
        """Whether there is a leak at all."""
        return abs(self.gain) > 2.0 * self.error

    @property
    def db(self) -> float:
        """The leak in dB; of one that is not sure the most that it can be."""
        return gain_to_db(abs(self.gain) if self.sure else abs(self.gain) + self.error)


def quiet_spans(sides: Sequence[Audio], rate_hz: float) -> tuple[slice, ...]:
    """Where nobody plays: all sides are as quiet as they get.

    Parameters
    ----------
    sides
        Samples of one clock and one start, each of shape (frames,).
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    Stretches of frames, in order.
    """
    require_rate(rate_hz)
    width = round(FRAME_S * rate_hz)
    count = min(side.size for side in sides) // width
    quiet = np.ones(count, bool)
    for side in sides:
        rows = np.asarray(side[: count * width], np.float64).reshape(count, width)
        power = np.square(np.diff(rows, axis=1)).mean(axis=1)
        heard = power[power > 0.0]
        if heard.size == 0:
            return ()
        # Digital silence holds no noise that could tell anything.
        quiet &= (power > 0.0) & (power <= heard.min() * 10.0 ** (QUIET_DB / 10.0))
    edges = np.flatnonzero(np.diff(np.concatenate([[0], quiet.astype(np.int8), [0]])))
    starts, stops = edges[::2], edges[1::2]
    return tuple(
        slice(int(start) * width, int(stop) * width)
        for start, stop in zip(starts, stops, strict=True)
        if (stop - start) * FRAME_S >= SPAN_S - 1e-9
    )


def noise_leaks(a: Audio, b: Audio, rate_hz: float) -> tuple[NoiseLeak | None, NoiseLeak | None]:
    """How much of each side is in the other, by what they hiss while nobody plays.

    Parameters
    ----------
    a, b
        Samples of one clock and one start, shape (frames,).
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The leak of A into B and of B into A, each with what the other could be in its error; None where
    there is too little noise to go by, or where what both have in common is no leak: an amplifier
    that answers without any delay.
    """
    heard = _heard(a, b, rate_hz)
    found = heard.solved((0, 1)) if heard is not None else None
    if heard is None or found is None:
        return None, None
    forth, back = found
    return (back, forth) if heard.turned else (forth, back)


def noise_leak(source: Audio, into: Audio, rate_hz: float) -> NoiseLeak | None:
    """How much of one side is in the other, where it is known that nothing leaks back.

    Parameters
    ----------
    source, into
        Samples of one clock and one start, shape (frames,).
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The leak; None as of `noise_leaks`.
    """
    heard = _heard(source, into, rate_hz)
    found = heard.solved((1 if heard.turned else 0,)) if heard is not None else None
    return found[0] if found is not None else None


@dataclass(frozen=True)
class _Heard:
    """What the likeness of both sides says, by unit errors: of the leak of the dry side into the
    processed one (column 0) and the other way. `turned`: the dry side is B."""

    rows: Real
    wanted: Real
    turned: bool
    near: Real
    """Likeness around one moment, and what either leak makes of it, (3, lags)."""
    alike: Real
    seconds: float

    def solved(self, columns: tuple[int, ...]) -> tuple[NoiseLeak, ...] | None:
        # The echo is there to tell two leaks apart; one alone is told better without.
        count = self.near.shape[1] if len(columns) == 1 else self.wanted.size
        rows = self.rows[:count, columns]
        gains, *_ = np.linalg.lstsq(rows, self.wanted[:count], rcond=None)
        left = self.near[0] - gains @ self.near[1:][list(columns)]
        if _lopsided(left, self.alike):
            return None
        spread = 1.96 * np.sqrt(np.diagonal(np.linalg.inv(rows.T @ rows)))
        wider = WIDER if len(columns) > 1 else 1.0
        errors = np.hypot(wider * spread, SHARE * np.abs(gains))
        return tuple(
            NoiseLeak(float(gain), float(error), self.seconds)
            for gain, error in zip(gains, errors, strict=True)
        )


def _heard(a: Audio, b: Audio, rate_hz: float) -> _Heard | None:
    import scipy.signal

    spans = quiet_spans((a, b), rate_hz)
    seconds = sum(span.stop - span.start for span in spans) / rate_hz
    if seconds < LEAST_S:
        return None
    sections = scipy.signal.butter(4, min(LOW_HZ, 0.2 * rate_hz), "high", fs=rate_hz, output="sos")
    pairs = [
        tuple(
            scipy.signal.sosfilt(sections, np.asarray(side[span], np.float64))[4 * ORDER :]
            for side in (a, b)
        )
        for span in spans
    ]
    across = _summed(pairs, 0, 1, np.arange(-FAR[1], FAR[1] + 1))
    before, behind = (
        float(np.sum(np.square(across[FAR[1] + sign * np.arange(*FAR)]))) for sign in (-1, 1)
    )
    turned = before > LATER * behind
    if turned:
        pairs = [(other, one) for one, other in pairs]
    return _told(pairs, turned, seconds)


def _told(pairs: Sequence[tuple[Real, ...]], turned: bool, seconds: float) -> _Heard | None:
    """Of the dry side (first) and the processed one."""
    import scipy.linalg

    flat = _whitening([dry for dry, _ in pairs])
    pairs = [tuple(np.convolve(x, flat)[ORDER : x.size] for x in pair) for pair in pairs]
    lags = np.arange(-FAR[1], FAR[1] + 1)
    dry, wet, across = (_summed(pairs, *which, lags) for which in ((0, 0), (1, 1), (0, 1)))
    middle = FAR[1]
    count = sum(one.size for one, _ in pairs)
    if dry[middle] <= 0.0 or wet[middle] <= 0.0:
        return None
    power = float(dry[middle]) / count
    near = slice(middle - REACH, middle + REACH + 1)
    # What the dry side's noise does to the likeness at two lags is as alike as the other side is.
    turns = np.abs(np.subtract.outer(np.arange(2 * REACH + 1), np.arange(2 * REACH + 1)))
    alike = power * wet[middle + turns]
    root = np.linalg.cholesky(alike + 1e-9 * alike[0, 0] * np.eye(alike.shape[0]))
    rows, wanted = (
        scipy.linalg.solve_triangular(root, part, lower=True)
        for part in (np.stack([dry[near], wet[near]], axis=1), across[near])
    )
    # The dry side's echo of itself, where the processed side answers it.
    far = middle + np.arange(*FAR)
    clear = np.abs(across[far]) > SURE * np.sqrt(power * wet[middle])
    scale = power * np.sqrt(float(count))
    echo = np.stack([np.zeros(int(clear.sum())), across[far][clear] / scale], axis=1)
    return _Heard(
        np.concatenate([rows, echo]),
        np.concatenate([wanted, dry[far][clear] / scale]),
        turned,
        np.stack([across[near], dry[near], wet[near]]),
        alike,
        seconds,
    )


def _summed(
    pairs: Sequence[tuple[Real, ...]], first: int, second: int, lags: NDArray[np.int64]
) -> Real:
    found = np.zeros(lags.size)
    for pair in pairs:
        found += _likeness(pair[first], pair[second], lags)
    return found


def _likeness(one: Real, other: Real, lags: NDArray[np.int64]) -> Real:
    """Sums of products at lags, positive where the other is late."""
    import scipy.fft

    size = scipy.fft.next_fast_len(one.size + int(np.abs(lags).max()) + 1, real=True)
    cross = scipy.fft.rfft(one, size).conj() * scipy.fft.rfft(other, size)
    return np.asarray(scipy.fft.irfft(cross, size)[lags % size])


def _whitening(parts: Sequence[Real]) -> Real:
    """A prediction filter that makes noise alike with itself at one moment only."""
    import scipy.linalg

    alike = np.zeros(ORDER + 1)
    for part in parts:
        alike += _likeness(part, part, np.arange(ORDER + 1))
    alike[0] *= 1.0 + 1e-9
    return np.concatenate([[1.0], -scipy.linalg.solve_toeplitz(alike[:-1], alike[1:])])


def _lopsided(left: Real, alike: Real) -> bool:
    """Whether what is left is not the same to either side: then it is an answer, no leak."""
    reach = left.size // 2
    lags = np.arange(1, reach + 1)
    turned = left[reach + lags] - left[reach - lags]
    spread = 2.0 * (alike[0, 0] - alike[0, 2 * lags])
    return bool(np.any(np.abs(turned) > SURE * np.sqrt(np.maximum(spread, 0.0) + 1e-300)))
