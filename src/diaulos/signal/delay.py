"""Delay, polarity and drift between two recordings of one performance.

Conventions
- The delay is in samples of A, positive when B is late, at A's first sample. It is the
  shift that best lines up the two waveforms, that is, the peak of their cross-correlation
  over the loud parts. An amplifier and cabinet between A and B add a lag of their own,
  which is part of it.
- Polarity is the sign of that peak.
- Drift is positive when B runs longer than A.

Method
1. Coarse: both are averaged by 16 and correlated, the loudest 30 s of A against B. The
   highest peaks of the normalised correlation are candidates, weighted by how well the
   onsets of the notes agree there: a held note looks the same one period later, its
   beginning does not. A few loud blocks rank them.
2. Following: over a long take the lag is followed from the loudest part outwards, so that
   devices that do not share a clock are followed too.
3. Fine: tens of loud blocks of 16k samples, cut at the lag so far, give cross-spectra.
   Their sum's correlation peak is the delay; block by block it tells the drift and, by
   leaving blocks out (jackknife), the error.
4. Judgement: the same performance keeps one lag, to a fraction of a sample, through every
   loud block and far up the spectrum. A part played twice does not, nor do two unrelated
   parts; a repeated loop has a second lag that is as good as the first.

See `tests/test_delay.py` for what it is held to.
"""

from __future__ import annotations

import functools
import math
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AmbiguousError, InputError, RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_finite, require_mono, require_rate
from diaulos.signal.convolve import convolve_long
from diaulos.signal.evidence import (
    FAR_NEPERS,
    FAR_RATIO,
    PARTIAL,
    REACH_S,
    Explained,
    Verdict,
    against,
)
from diaulos.signal.peaks import Span

Real = NDArray[np.float64]
Complex = NDArray[np.complex128]

DECIMATION = 16
COARSE_SECONDS = 30.0
BLOCK = 16_384
MAX_BLOCKS, MAX_BLOCKS_LONG = 88, 44
"""Over two minutes fewer blocks, spread wider, are precise enough."""
LONG_S = 120.0
SILENCE_DBFS = -90.0
MIN_SECONDS = 0.05
SHORTEST_FOR_DRIFT_S = 10.0
FOLLOWED_SHARE = 0.8
"""What the first and the last block lie apart, re the shortest take."""
SHORTEST_STEEP_S, STEEP_ERRORS = 5.0, 5.0
"""From so short on a drift counts that stands out by so many errors: 100 ppm move the middle of a
take of 9 s by half a millisecond against its beginning."""

BAND_HZ = (60.0, 8000.0)
"""Where instruments have something to align."""

LOW_CORNER_HZ = 250.0
"""Below it the cross-spectrum counts less. An amplifier's and a cabinet's low cuts turn
the phase of the lowest notes by more than half a cycle, and would decide the polarity."""

JUDGE_HZ = (120.0, 5000.0)
MIN_AGREEMENT = 0.4
"""Share of loud blocks whose own best lag lies within MAX_SPREAD of the common one."""
SURE_COHERENCE = 0.97
"""Held chords die away into few partials, and a cabinet's filter moves their best lag; when
the phases agree this well all over the spectrum the blocks need not."""
MAX_SPREAD_S = 0.0004
MOST_STEPS, SAME_PPM = 12, 0.5
"""Over some seconds a drift is found step by step until it stays."""
STEEPEST_DRIFT = 500e-6
USUAL_PPM = 125.0
"""How far apart the clocks of two devices may be, and some more; representative."""
GROUPS = 12
"""So many stretches of a take are followed from one to the next; where clocks are so far apart
that a stretch is smeared, at the second try"""
GROUP_S = 6.0
"""stretches of so many seconds."""
STEEPEST = 160.0
"""Samples from stretch to stretch that two clocks may part."""
MIN_COHERENCE = 0.68
"""True pairs, driven amplifiers among them, were seen from 0.8 up; parts played twice to one
click and unrelated parts up to 0.58 (generated players, a hundred each)."""
PARTIAL_EXTRA = 0.2
ONSET_S = 0.006
"""How finely onsets are resolved: a period of 165 Hz."""
LEAST_RISE, HIGHEST_RISE = 1.0, 3.0
"""In nepers of power: the ripple of a low note is no onset, and a note out of silence counts
little more than one out of another."""
ONSET_FLOOR = 0.3
"""What a lag still counts where no onset agrees: amplifiers can blur them all."""
CLEAR_ONSETS = 0.25
"""Below this the onsets of the two agree nowhere, and nothing is concluded from them."""
ONSETS_DECIDE = 0.9
"""Onsets that agree this well begin together."""
SAME_S = 0.0005
"""Lags this near are one answer."""
MOST_FITS = 12
AMBIGUOUS_NEPERS = 1.0
"""A second lag that is not even so much less likely makes the answer a guess."""
MOSTLY = 0.6
"""Share of the shorter recording that an answer has to cover to be believed by itself."""
NEAR_SCORE = 0.02
"""Of two lags some milliseconds apart, by so much the better one's score counts."""
VAGUE_SHARE, VAGUE_RATIO, VAGUE_WHITENESS = 0.1, 1.05, 0.05
"""Where so much of B stays unexplained at the best lag, and it is tones and not noise, a lag that
leaves hardly more is as good."""
UNSURE = 0.8
"""Confidence of an answer that a second lag is not quite out of the question for."""
UNLIKE, VAGUE_S = 0.75, 42e-6
"""A waveform so unlike the other (an amplifier driven hard) and a delay told no finer than that: of
3,000 pairs all that were wrong with confidence looked like this, and a sixth of the driven ones."""
SECOND_PEAK = 0.9
"""Another peak within some milliseconds that is so high, re the one taken, leaves it unsure."""
HOPELESS = 0.4
"""Peaks of the coarse correlation this low, relative to the highest, are no candidates."""
WORTH_A_LOOK = 0.9
"""Candidates this good, relative to the best at first sight, are looked at closely."""


@dataclass(frozen=True)
class Alignment:
    """How B lies against A. `drift_ppm` is None when the takes are too short to tell.

    `delay_error_samples` is half the width of the 95 % interval. `confidence` runs from 0
    to 1: how surely the delay is right within 0.5 ms. 0.9 and more is held against
    pairs made from recordings (`tests/soak/delays.py`).
    """

    delay_samples: float
    polarity: int
    confidence: float
    delay_error_samples: float
    drift_ppm: float | None
    drift_error_ppm: float | None
    correlation: float
    blocks: int
    begin_error_samples: float = 0.0
    """How far off A's first sample may be by clocks that drift unseen."""

    def at(self, frame: float) -> float:
        """The delay at a frame of A, drift included."""
        return self.delay_samples + (self.drift_ppm or 0.0) * 1e-6 * frame


@dataclass(frozen=True)
class _Candidate:
    """A lag in samples, how well the onsets agree there, and whether there are clear ones."""

    lag: int
    onsets: float
    clear: bool


@dataclass(frozen=True)
class _Fit:
    """A judged alignment, how well it explains B (0 to 1), the coarse lag it was found near."""

    alignment: Alignment
    score: float
    lag: int


@dataclass(frozen=True)
class _Blocks:
    """Cross-spectra of the blocks, cut at `starts` in A and `starts + lags` in B."""

    starts: NDArray[np.int64]
    lags: NDArray[np.int64]
    cross: Complex
    power_a: Real
    power_b: Real
    omega: Real

    @property
    def count(self) -> int:
        return int(self.starts.size)


def find_alignment(
    a: Audio,
    b: Audio,
    rate_hz: float,
    *,
    max_delay_samples: int | None = None,
    within: tuple[float, float] | None = None,
    expected: float | None = None,
) -> Alignment:
    """Delay, polarity and drift of B against A, both mono at `rate_hz`.

    `max_delay_samples` limits the search to 0 ... that many samples late (a loop of known
    kind), `within` to any range; without them every overlap is tried. Raises InputError for NaN
    and impossible rates, RefusedError ("silent", "too_short", "not_the_same_performance",
    "ambiguous") where no honest answer exists.

    Parameters
    ----------
    a
        The reference, shape (frames,), mono.
    b
        What is held against it, shape (frames,), mono.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    max_delay_samples
        The most that B may be late, in samples; None for any overlap.
    within
        The least and the most that B may be late, in samples, in its place.
    expected
        Where the delay is expected, in samples: of several that fit, the nearest comes first.

    Returns
    -------
    Delay in samples at A's first one, polarity, drift in ppm, confidence.

    Raises
    ------
    InputError
        For NaN and impossible rates.
    RefusedError
        ("silent", "too_short", "not_the_same_performance", "ambiguous").
    """
    require_rate(rate_hz)
    a, b = require_mono(a, "A"), require_mono(b, "B")
    _require_sound(a, rate_hz, "A")
    _require_sound(b, rate_hz, "B")
    if within is None and max_delay_samples is not None:
        within = (0.0, float(max_delay_samples))
    if within is not None and within[0] > within[1]:
        raise InputError(
            f"no delay lies between {within[0]:g} and {within[1]:g} samples.",
            remedy="Give the smaller one first.",
        )
    profile = _energy_profile(a, rate_hz)
    fits: list[_Fit] = []
    # Clocks far apart smear a long correlation: a shorter one is the second try.
    for seconds in (COARSE_SECONDS, COARSE_SECONDS / 4.0):
        span = _coarse_span(profile, a.size, rate_hz, seconds)
        begun, plain = _coarse_candidates(a, b, span, rate_hz, within)
        ranked = _rank(a, b, profile, rate_hz, begun)
        for candidate, quick in ranked:
            if quick < WORTH_A_LOOK * ranked[0][1] and fits:
                break
            found = _fine(a, b, profile, span, rate_hz, candidate)
            if found is not None and _inside(found[0].delay_samples, within, rate_hz):
                fits.append(_Fit(found[0], found[1], candidate.lag))
        # A held note looks the same one period later, and its onset may be blurred: what the
        # waveforms alone say is looked at as well, and what is left of B decides.
        looked_at = {fit.lag for fit in fits}
        by_shape = _rank(a, b, profile, rate_hz, plain)
        for candidate in _as_good(by_shape):
            if candidate.lag in looked_at:
                continue
            found = _fine(a, b, profile, span, rate_hz, candidate)
            if found is not None and _inside(found[0].delay_samples, within, rate_hz):
                fits.append(_Fit(found[0], found[1], candidate.lag))
        if fits or a.size <= COARSE_SECONDS / 4.0 * rate_hz:
            break
    if not fits:
        raise _not_the_same()
    fits = _apart(fits, rate_hz)
    partial = any(_overlap(a, b, fit.alignment) < MOSTLY for fit in fits)
    if len(fits) == 1 and not partial:
        return fits[0].alignment
    explained = Explained(a, b, rate_hz, span.first, span.count)
    answer = fits[0].alignment if len(fits) == 1 else _best_of(fits, explained, expected)
    if _overlap(a, b, answer) < MOSTLY:
        lags = {candidate.lag for candidate, _ in (*ranked, *by_shape)}
        return _unless_more(answer, explained, lags)
    return answer


def _unless_more(answer: Alignment, explained: Explained, lags: set[int]) -> Alignment:
    """An answer by which only a part fits: unsure where about as much of B fits elsewhere, for a
    passage that was played twice looks like that."""
    told = explained.left_over(answer.at).told
    reach = REACH_S * explained.rate_hz
    for lag in sorted(lags):
        if abs(lag - answer.delay_samples) <= reach:
            continue
        if explained.left_over(functools.partial(_constant, lag)).told > PARTIAL * told:
            return replace(answer, confidence=min(answer.confidence, UNSURE))
    return answer


def _constant(lag: int, _: float) -> float:
    """The same lag everywhere."""
    return float(lag)


def _as_good(ranked: list[tuple[_Candidate, float]]) -> list[_Candidate]:
    """Those that are nearly as good as the best."""
    return [candidate for candidate, quick in ranked if quick >= WORTH_A_LOOK * ranked[0][1]]


def _inside(delay: float, within: tuple[float, float] | None, rate_hz: float) -> bool:
    slack = SAME_S * rate_hz
    return within is None or within[0] - slack <= delay <= within[1] + slack


def _apart(fits: list[_Fit], rate_hz: float) -> list[_Fit]:
    """The fits that are really different lags, the best first."""
    found: list[_Fit] = []
    for fit in sorted(fits, key=lambda fit: -fit.score):
        here = fit.alignment.delay_samples
        if all(abs(here - o.alignment.delay_samples) > SAME_S * rate_hz for o in found):
            found.append(fit)
    return found[:MOST_FITS]


def _best_of(fits: list[_Fit], explained: Explained, expected: float | None) -> Alignment:
    """The fit that leaves the least of B unexplained; refused when another is as good."""
    left = [explained.left_over(fit.alignment.at) for fit in fits]

    def verdict(one: int, other: int) -> Verdict:
        apart = abs(fits[one].alignment.delay_samples - fits[other].alignment.delay_samples)
        if apart <= REACH_S * explained.rate_hz:
            # A filter can make up for so little: here the likeness of the waveforms decides.
            return _by_score(fits[one].score - fits[other].score)
        return against(left[one], left[other])

    def worst(one: int) -> float:
        return min(verdict(one, other).nepers for other in range(len(fits)) if other != one)

    first = max(range(len(fits)), key=worst)
    best, found = left[first], fits[first].alignment
    verdicts = [(verdict(first, at), fit.alignment) for at, fit in enumerate(fits) if at != first]
    vague = best.share > VAGUE_SHARE
    close = [
        other
        for verdict, other in verdicts
        if verdict.nepers < AMBIGUOUS_NEPERS
        or (
            vague
            and verdict.ratio < VAGUE_RATIO
            and verdict.whiteness < VAGUE_WHITENESS
            and not verdict.sure
        )
    ]
    if close:
        candidates = tuple(one.delay_samples for one in (found, *close))
        candidates = tuple(sorted(candidates, key=lambda delay: abs(delay - (expected or 0.0))))
        raise AmbiguousError(
            f"Two delays fit equally well: {candidates[0]:.0f} and {candidates[1]:.0f} samples.",
            candidates,
            remedy="A repeated loop looks the same one round later. Use a longer part "
            "that does not repeat, or one with a count-in, or say where to expect it.",
        )
    if all(verdict.sure for verdict, _ in verdicts):
        return found
    return replace(found, confidence=min(found.confidence, UNSURE))


def _by_score(better: float) -> Verdict:
    """For a lag whose score is better by so much."""
    nepers = FAR_NEPERS if abs(better) > NEAR_SCORE else 2.0 * AMBIGUOUS_NEPERS
    return Verdict(FAR_RATIO, math.copysign(nepers, better), 1.0 if nepers == FAR_NEPERS else 0.0)


def _require_sound(x: Audio, rate_hz: float, name: str) -> None:
    if x.size < MIN_SECONDS * rate_hz:
        raise RefusedError(
            "too_short",
            f"{name} lasts {x.size / rate_hz * 1000.0:.1f} ms; at least "
            f"{MIN_SECONDS * 1000.0:.0f} ms are needed.",
        )
    energy = float(np.dot(x, x))
    if not math.isfinite(energy):
        require_finite(x, name)
    limit = 10.0 ** (SILENCE_DBFS / 20.0)
    # One pass tells in nearly every case: a mean above the limit has a peak above it.
    if energy < x.size * limit**2 and max(float(x.max()), -float(x.min())) < limit:
        raise RefusedError("silent", f"{name} is silent.", remedy="Check what was recorded.")


def _not_the_same() -> RefusedError:
    return RefusedError(
        "not_the_same_performance",
        "The two do not hold the same performance.",
        remedy="Align a take with its own reamp or a copy of it; a part played twice has no "
        "single delay.",
    )


# --- coarse --------------------------------------------------------------------------


@dataclass(frozen=True)
class _Profile:
    """Running energy of every `step`-th sample of A: enough to rank blocks by level."""

    step: int
    total: Real

    def between(self, starts: NDArray[np.int64], count: int) -> Real:
        """Energy of the stretches of `count` samples from `starts` on."""
        return self.total[(starts + count) // self.step] - self.total[starts // self.step]


def _energy_profile(a: Audio, rate_hz: float) -> _Profile:
    # A long take is ranked by fewer of its samples: reading them all is what it costs.
    step = DECIMATION if a.size < LONG_S * rate_hz else 4 * DECIMATION
    squares = np.square(a[::step], dtype=np.float32)
    return _Profile(step, np.concatenate([[0.0], np.cumsum(squares, dtype=np.float64)]))


def _coarse_span(profile: _Profile, frames: int, rate_hz: float, seconds: float) -> Span:
    """The loudest `seconds` of A, found in steps of about 0.1 s."""
    want = int(seconds * rate_hz)
    if frames <= want:
        return Span(0, frames)
    stride = max(1, int(0.1 * rate_hz) // DECIMATION) * DECIMATION
    starts = np.arange(0, frames - want, stride)
    return Span(int(starts[int(np.argmax(profile.between(starts, want)))]), want)


def _decimate(x: Audio) -> NDArray[np.float32]:
    """Means of DECIMATION samples, then differences: low notes alone, whose phase an
    amplifier turns most, must not decide the lag."""
    whole = x.size // DECIMATION
    box = np.full(DECIMATION, 1.0 / DECIMATION, dtype=np.float32)
    frames = np.asarray(x[: whole * DECIMATION], dtype=np.float32).reshape(whole, DECIMATION)
    return np.diff(frames @ box, prepend=np.float32(0.0))


def _coarse_candidates(
    a: Audio,
    b: Audio,
    span: Span,
    rate_hz: float,
    within: tuple[float, float] | None,
    count: int = 8,
) -> tuple[list[_Candidate], list[_Candidate]]:
    """The highest peaks of the low-rate correlation weighted by the onsets, and the highest of
    the waveforms alone."""
    first = span.first - span.first % DECIMATION
    low_a = _decimate(a[first : first + span.count])
    if within is None:
        low_b, offset = _decimate(b), first
    else:
        start = max(0, first + math.floor(within[0]) - 32 * DECIMATION)
        start -= start % DECIMATION
        end = first + span.count + math.ceil(within[1]) + 32 * DECIMATION
        low_b = _decimate(b[start : max(start, end)])
        offset = first - start
    if low_a.size < 4 or low_b.size < 4:
        raise RefusedError("too_short", "The two do not overlap.")
    plain = np.abs(_cross_correlation(low_a, low_b))
    some = np.arange(-(low_a.size - 1), low_b.size, _SLOW)
    slow, clear = _onset_agreement(low_a, low_b, some, rate_hz / DECIMATION)
    onsets = np.repeat(slow, _SLOW)[: plain.size]
    shortest = -(low_a.size - 1)
    if within is not None:
        low = math.floor(offset + within[0] - DECIMATION) // DECIMATION - shortest
        high = math.floor(offset + within[1] + DECIMATION) // DECIMATION - shortest + 1
        plain[: max(0, low)] = 0.0
        plain[max(0, high) :] = 0.0
    guard = max(2, int(0.001 * rate_hz / DECIMATION))
    begun = _peaks(plain * onsets, guard, count)
    others = _peaks(plain, guard, count)

    def candidate(place: int, told: float) -> _Candidate:
        return _Candidate((place + shortest) * DECIMATION - offset, told, clear)

    # What the waveforms alone say is judged by them alone: as if the onsets agreed.
    return (
        [candidate(place, float(onsets[place])) for place in begun],
        [replace(candidate(place, 1.0), clear=True) for place in others],
    )


def _peaks(score: NDArray[np.float32], guard: int, count: int) -> list[int]:
    """Where the highest peaks are, `guard` lags apart at least, down to a hopeless one."""
    score = score.copy()
    found: list[int] = []
    least = 0.0
    for _ in range(count):
        best = int(np.argmax(score))
        if score[best] <= least:
            break
        least = max(least, HOPELESS * float(score[best]))
        found.append(best)
        score[max(0, best - guard) : best + guard + 1] = 0.0
    return found


_SLOW = 8
"""Overlaps and onsets change slowly: they are worked out at every eighth lag."""


def _cross_correlation(a: Audio, b: Audio) -> NDArray[np.float32]:
    """Correlation at every lag from -(len(a) - 1) to len(b) - 1, re the energy that overlaps."""
    values = convolve_long(b.astype(np.float32), a[::-1].astype(np.float32))
    some = np.arange(-(a.size - 1), b.size, _SLOW)
    weight = (1.0 / np.sqrt(_overlap_energy(a, b, some))).astype(np.float32)
    return np.asarray(values * np.repeat(weight, _SLOW)[: values.size], np.float32)


def _onset_agreement(
    low_a: Audio, low_b: Audio, lags: NDArray[np.int64], low_rate_hz: float
) -> tuple[NDArray[np.float32], bool]:
    """How well the beginnings of notes agree at each lag, ONSET_FLOOR to 1, and whether that
    tells anything."""
    nothing = np.ones(lags.size, np.float32)
    step = max(1, int(0.002 * low_rate_hz))
    width = max(2, round(ONSET_S * low_rate_hz / step))
    one, other = (_onsets(x, step, width) for x in (low_a, low_b))
    if one.size < 2 or other.size < 2 or not one.any() or not other.any():
        return nothing, False
    steps = np.arange(-(one.size - 1), other.size)
    values = _cross_correlation(one, other)
    top = float(values.max())
    if top < CLEAR_ONSETS:
        return nothing, False
    share = np.interp(lags / step, steps, np.maximum(values, 0.0) / top)
    return np.asarray(ONSET_FLOOR + (1.0 - ONSET_FLOOR) * share, np.float32), True


def _onsets(low: Audio, step: int, width: int) -> NDArray[np.float32]:
    """Rises of the logarithmic level, in steps of the low rate; silence rises from -60 dB."""
    import scipy.ndimage

    whole = low.size // step
    power = np.square(low[: whole * step]).reshape(whole, step).mean(axis=1)
    smooth = scipy.ndimage.uniform_filter1d(power, width, mode="constant")
    smooth = scipy.ndimage.uniform_filter1d(smooth, width, mode="constant")
    floor = 1e-6 * float(smooth.max(initial=0.0)) + 1e-30
    level = np.log(smooth + floor)
    # What lies before the beginning is silence.
    before = np.concatenate([np.full(width, np.log(floor)), level[:-width]])
    return np.asarray(np.clip(level - before - LEAST_RISE, 0.0, HIGHEST_RISE), np.float32)


def _overlap_energy(low_a: Audio, low_b: Audio, lags: NDArray[np.int64]) -> Real:
    """Product of the energies that overlap at each lag, kept away from tiny overlaps."""
    sum_a = np.concatenate([[0.0], np.cumsum(np.square(low_a), dtype=np.float64)])
    sum_b = np.concatenate([[0.0], np.cumsum(np.square(low_b), dtype=np.float64)])
    start_a, stop_a = np.maximum(0, -lags), np.minimum(low_a.size, low_b.size - lags)
    energy_a = sum_a[stop_a] - sum_a[start_a]
    energy_b = sum_b[stop_a + lags] - sum_b[start_a + lags]
    # An overlap that holds little of what could overlap would win by chance.
    shorter_a = max(sum_a[-1] * min(1.0, low_b.size / low_a.size), 1e-30)
    shorter_b = max(sum_b[-1] * min(1.0, low_a.size / low_b.size), 1e-30)
    product = np.maximum(energy_a, 0.5 * shorter_a) * np.maximum(energy_b, 0.25 * shorter_b)
    return np.asarray(np.maximum(product, 1e-60))


def _rank(
    a: Audio, b: Audio, profile: _Profile, rate_hz: float, candidates: list[_Candidate]
) -> list[tuple[_Candidate, float]]:
    """The candidates by how well some loud blocks fit there, best first, to the sample."""
    if not candidates:
        return []
    block = BLOCK // 2
    while block > 2048 and block * 3 > min(a.size, b.size):
        block //= 2
    ranked = []
    for candidate in candidates:
        starts = _loud_starts(a, b, profile, block, candidate.lag, most=8)
        lags = np.full(starts.size, candidate.lag)
        blocks = _cross_spectra(a, b, starts, lags, block, rate_hz)
        if blocks.count == 0:
            continue
        correlation = _correlation_near(blocks.cross, blocks.omega, block, 64)
        tops = np.abs(correlation).max(axis=1)
        level = math.sqrt(float(blocks.power_a.sum()) * float(blocks.power_b.sum())) + 1e-60
        better = candidate.lag + int(np.argmax(np.abs(correlation.sum(axis=0)))) - 64
        quick = float(tops.sum()) / level * candidate.onsets
        ranked.append((replace(candidate, lag=better), quick))
    if not ranked:
        raise RefusedError("too_short", "The two do not overlap enough.")
    return sorted(ranked, key=lambda item: -item[1])


def _correlation_near(cross: Complex, omega: Real, block: int, reach: int) -> Real:
    """Correlation at lags -reach ... reach, one row per block, in units of the spectra."""
    import scipy.fft

    rows = np.atleast_2d(cross)
    first = round(omega[0] / (2.0 * np.pi) * block)
    # Only short lags are read: folding the spectrum into fewer bins would alias, so the
    # transform stays whole, in single precision.
    full = np.zeros((rows.shape[0], block // 2 + 1), np.complex64)
    full[:, first : first + rows.shape[1]] = rows / (np.abs(rows).max() + 1e-30)
    correlation = scipy.fft.irfft(full, block, axis=1, workers=2)
    scale = (np.abs(rows).max() + 1e-30) * block / 2.0
    near = np.concatenate([correlation[:, -reach:], correlation[:, : reach + 1]], axis=1)
    return np.asarray(near * scale, dtype=np.float64)


# --- fine ----------------------------------------------------------------------------


def _fine(
    a: Audio, b: Audio, profile: _Profile, span: Span, rate_hz: float, candidate: _Candidate
) -> tuple[Alignment, float] | None:
    """The alignment near a coarse lag, and how well it fits; None when it does not."""
    lag = candidate.lag
    block = BLOCK
    while block > 2048 and block * 3 > min(a.size, b.size):
        block //= 2
    most = MAX_BLOCKS if a.size < LONG_S * rate_hz else MAX_BLOCKS_LONG
    starts = _loud_starts(a, b, profile, block, lag, most=most)
    blocks = _cross_spectra(a, b, starts, np.full(starts.size, lag), block, rate_hz)
    if blocks.count == 0:
        return None
    for groups in _groupings(starts, rate_hz):
        line = _follow(blocks, span.first + span.count / 2, rate_hz, block, groups)
        found = _along(a, b, blocks, starts, line, block, rate_hz)
        if found is None:
            continue
        there, fitted = found
        began = candidate.clear and candidate.onsets > ONSETS_DECIDE
        judged = _judge(there, fitted, rate_hz, block, _overlap(a, b, fitted), began)
        if judged is not None:
            confidence, score = judged
            vague = fitted.delay_error_samples > VAGUE_S * rate_hz
            if fitted.begin_error_samples > SAME_S * rate_hz or (
                vague and abs(fitted.correlation) < UNLIKE
            ):
                confidence = min(confidence, UNSURE)
            return replace(fitted, confidence=confidence), score
    return None


def _groupings(starts: NDArray[np.int64], rate_hz: float) -> tuple[int, ...]:
    """Into how many stretches to part the blocks: few first, then ones that clocks 100 ppm
    apart do not smear."""
    finer = min(int(np.ptp(starts) / (GROUP_S * rate_hz)), starts.size // 2)
    return (GROUPS, finer) if finer > GROUPS else (GROUPS,)


def _along(
    a: Audio,
    b: Audio,
    blocks: _Blocks,
    starts: NDArray[np.int64],
    line: tuple[float, float],
    block: int,
    rate_hz: float,
) -> tuple[_Blocks, Alignment] | None:
    """The fit near a followed line (slope, lag at frame 0), and the blocks cut there."""
    slope, offset = line
    fitted = None
    for _ in range(3):
        lags = np.round(offset + slope * (starts + block / 2)).astype(np.int64)
        blocks = _cut_again(a, b, blocks, starts, lags, block, rate_hz)
        if blocks.count == 0:
            return None
        fitted = _fit(blocks, rate_hz, block, slope, offset)
        if abs(fitted.delay_samples - offset) < 1.0:
            break
        offset = fitted.delay_samples
    assert fitted is not None
    if np.ptp(starts) >= FOLLOWED_SHARE * SHORTEST_FOR_DRIFT_S * rate_hz:
        return blocks, fitted
    steep = _steeper(a, b, blocks, starts, fitted, block, rate_hz)
    if steep is not None:
        return steep
    return blocks, _fit(blocks, rate_hz, block, slope, offset, straight=True)


def _steeper(
    a: Audio,
    b: Audio,
    blocks: _Blocks,
    starts: NDArray[np.int64],
    fitted: Alignment,
    block: int,
    rate_hz: float,
) -> tuple[_Blocks, Alignment] | None:
    """A fit over too few seconds to be followed, along its own drift: step by step, for each
    block is only looked at near the line. None where no drift stands out, or none is better."""
    there, found = blocks, fitted
    for _ in range(MOST_STEPS):
        if found.drift_ppm is None or abs(found.drift_ppm) > STEEPEST_DRIFT * 1e6:
            return None
        slope, offset = found.drift_ppm * 1e-6, found.delay_samples
        lags = np.round(offset + slope * (starts + block / 2)).astype(np.int64)
        there = _cut_again(a, b, there, starts, lags, block, rate_hz)
        if there.count == 0:
            return None
        before = found.drift_ppm
        found = _fit(there, rate_hz, block, slope, offset)
        if found.drift_ppm is not None and abs(found.drift_ppm - before) < SAME_PPM:
            break
    if found.drift_ppm is None or found.drift_error_ppm is None:
        return None
    if abs(found.drift_ppm) < STEEP_ERRORS * found.drift_error_ppm:
        return None
    better = abs(found.correlation) > abs(fitted.correlation)
    return (there, found) if better else None


def _cut_again(
    a: Audio,
    b: Audio,
    blocks: _Blocks,
    starts: NDArray[np.int64],
    lags: NDArray[np.int64],
    block: int,
    rate_hz: float,
) -> _Blocks:
    """The blocks at better lags; the same ones when they were cut there already."""
    if blocks.starts.size == starts.size and np.array_equal(blocks.lags, lags):
        return blocks
    return _cross_spectra(a, b, starts, lags, block, rate_hz)


def _loud_starts(
    a: Audio, b: Audio, profile: _Profile, block: int, lag: int, most: int
) -> NDArray[np.int64]:
    """Starts of up to `most` loud blocks of A that have a partner in B."""
    first, last = max(0, -lag), min(a.size, b.size - lag) - block
    if last < first:
        return np.zeros(0, np.int64)
    # Short takes get overlapping blocks, long ones are sampled.
    hop = block * 7 // 8 if last - first >= 8 * block else max(block // 4, 1)
    starts = np.arange(first, last + 1, hop)
    energy = profile.between(starts, block)
    loud = energy > 1e-3 * energy.max()
    starts, energy = starts[loud], energy[loud]
    if starts.size > most:
        # The loudest of each stretch, so that they are spread over the take.
        groups = np.array_split(np.arange(starts.size), most)
        picks = [group[int(np.argmax(energy[group]))] for group in groups]
        starts = starts[np.array(picks)]
    return np.asarray(starts, dtype=np.int64)


def _follow(
    blocks: _Blocks, coarse_centre: float, rate_hz: float, block: int, groups: int
) -> tuple[float, float]:
    """A first line (slope, lag at frame 0) through the lags of groups of blocks, followed
    outwards from the loudest stretch, where the coarse lag was found."""
    base = float(blocks.lags[0])
    starts = blocks.starts
    reach = block // 4
    if starts.size < groups or np.ptp(starts) < SHORTEST_FOR_DRIFT_S * rate_hz:
        near = _correlation_near(blocks.cross.sum(axis=0), blocks.omega, block, 64)[0]
        return 0.0, base + float(np.argmax(np.abs(near)) - 64)
    parts = np.array_split(np.arange(starts.size), groups)
    cross = np.array([blocks.cross[part].sum(axis=0) for part in parts])
    near = np.abs(_correlation_near(cross, blocks.omega, block, reach))
    middle = np.array([float(starts[part].mean()) for part in parts]) + block / 2
    order = np.argsort(np.abs(middle - coarse_centre))
    lags = np.zeros(groups)
    done: list[int] = []
    for index in order:
        guess, width = 0.0, 160
        if done:
            guess, width = _foreseen(index, done, lags, groups > GROUPS), 72
        low = int(np.clip(guess + reach - width, 0, 2 * reach))
        high = int(np.clip(guess + reach + width + 1, 1, 2 * reach + 1))
        lags[index] = float(np.argmax(near[index, low:high]) + low - reach)
        done.append(int(index))
    slope, offset = _robust_line(middle, lags)
    if abs(slope) > STEEPEST_DRIFT or abs(slope) * np.ptp(middle) < 4.0:
        slope, offset = 0.0, float(np.median(lags))
    return slope, base + offset


def _foreseen(index: int, done: list[int], lags: Real, steep: bool) -> float:
    """Where a group's lag is to be expected: near that of the nearest one; where clocks may be
    far apart (`steep`) as the two nearest ones go on."""
    near = sorted(done, key=lambda other: abs(other - index))
    closest = near[0]
    beyond = [other for other in near[1:] if (other > closest) == (closest > index)]
    if not steep or not beyond:
        return float(lags[closest])
    step = (lags[closest] - lags[beyond[0]]) / (closest - beyond[0])
    return float(lags[closest] + np.clip(step, -STEEPEST, STEEPEST) * (index - closest))


def _robust_line(x: Real, y: Real) -> tuple[float, float]:
    """Slope and offset by the median of slopes (Theil and Sen)."""
    if x.size < 2:
        return 0.0, float(np.median(y)) if y.size else 0.0
    dx = x[:, None] - x[None, :]
    dy = y[:, None] - y[None, :]
    far = np.abs(dx) > 0.2 * np.ptp(x)
    slope = float(np.median(dy[far] / dx[far])) if far.any() else 0.0
    return slope, float(np.median(y - slope * x))


def _window(block: int) -> NDArray[np.float32]:
    """Flat, with an eighth of cosine slope at each end: little leaks, little is wasted."""
    slope = block // 8
    window = np.ones(block)
    rise = 0.5 * (1.0 - np.cos(np.pi * (np.arange(slope) + 0.5) / slope))
    window[:slope] = rise
    window[-slope:] = rise[::-1]
    return window.astype(np.float32)


def _cross_spectra(
    a: Audio,
    b: Audio,
    starts: NDArray[np.int64],
    lags: NDArray[np.int64],
    block: int,
    rate_hz: float,
) -> _Blocks:
    import scipy.fft

    inside = (starts + lags >= 0) & (starts + lags + block <= b.size)
    starts, lags = starts[inside], lags[inside]
    window = _window(block)
    bin_hz = rate_hz / block
    low = max(1, math.ceil(BAND_HZ[0] / bin_hz))
    high = min(block // 2, math.floor(BAND_HZ[1] / bin_hz)) + 1
    rows_a = np.empty((starts.size, block), np.float32)
    rows_b = np.empty((starts.size, block), np.float32)
    for row, (start, lag) in enumerate(zip(starts, lags, strict=True)):
        np.multiply(a[start : start + block], window, out=rows_a[row])
        np.multiply(b[start + lag : start + lag + block], window, out=rows_b[row])
    spectra_a = scipy.fft.rfft(rows_a, axis=1, workers=2)[:, low:high]
    spectra_b = scipy.fft.rfft(rows_b, axis=1, workers=2)[:, low:high]
    omega = 2.0 * np.pi * np.arange(low, high) / block
    hz = np.arange(low, high) * bin_hz
    weight = hz**2 / (hz**2 + LOW_CORNER_HZ**2)
    cross = np.multiply(spectra_b, np.conj(spectra_a), dtype=np.complex128) * weight
    power_a = np.square(np.abs(spectra_a), dtype=np.float64) * weight
    power_b = np.square(np.abs(spectra_b), dtype=np.float64) * weight
    return _Blocks(starts, lags, cross, power_a, power_b, omega)


def _half_whitened(cross: Complex) -> Complex:
    """The cross-spectrum with its loudest parts held back: the strongest partials alone,
    which an amplifier's filters turn most, must not decide polarity and peak."""
    return np.asarray(cross / np.sqrt(np.abs(cross) + 1e-30))


def _peak(cross: Complex, omega: Real, block: int, reach: int = 96) -> tuple[float, int]:
    """Whole-sample lag and sign of the half-whitened correlation's peak."""
    near = _correlation_near(_half_whitened(cross), omega, block, reach)[0]
    index = int(np.argmax(np.abs(near)))
    return float(index - reach), 1 if near[index] >= 0.0 else -1


def _refine(cross: Complex, omega: Real, guess: float, sign: int) -> float:
    """The peak of sign x sum Re(cross exp(j omega d)) near a guess, by Newton's steps."""
    delay = guess
    for _ in range(30):
        turned = sign * cross * np.exp(1j * omega * delay)
        first = -float(np.sum(omega * turned.imag))
        second = -float(np.sum(omega * omega * turned.real))
        # Outside the peak's cap go uphill by a fixed stride instead.
        step = -first / second if second < 0.0 else math.copysign(0.5, first)
        step = min(0.5, max(-0.5, step))
        delay += step
        if abs(step) < 1e-9:
            break
    return delay


def _fit(
    blocks: _Blocks,
    rate_hz: float,
    block: int,
    slope: float,
    offset: float,
    *,
    straight: bool = False,
) -> Alignment:
    """Delay and drift over all blocks, with their errors, near a followed line. `straight`: by
    clocks that do not part, whatever the blocks seem to say."""
    middle = blocks.starts + block / 2
    followed = offset + slope * middle
    # Each block is brought onto the followed line by turning its phases.
    turned = blocks.cross * np.exp(-1j * np.outer(blocks.lags - followed, blocks.omega))
    total = turned.sum(axis=0)
    guess, sign = _peak(total, blocks.omega, block)
    common = _refine(total, blocks.omega, guess, sign)
    own, weight = _block_delays(turned, blocks.omega, common, sign)
    keep = weight > 1e-6 * weight.max()
    drift, drift_error, at_zero, error = _drift_line(middle[keep], own[keep], weight[keep], rate_hz)
    unseen_ppm = USUAL_PPM if drift_error is None else min(USUAL_PPM, 2e6 * drift_error)
    begins = float(np.average(middle[keep], weights=weight[keep])) * unseen_ppm * 1e-6
    if straight:
        drift = drift_error = None
    if drift is not None:
        drift += slope
    if drift is None or drift_error is None or abs(drift) < 2.5 * drift_error:
        # No drift that can be told from none: one common delay is the better answer.
        delay = offset + common
        error = _jackknife_error(turned, blocks.omega, common)
    else:
        delay = offset + at_zero
    return Alignment(
        delay_samples=float(delay),
        polarity=sign,
        confidence=0.0,
        delay_error_samples=float(min(max(error, 1e-4), block)),
        drift_ppm=None if drift is None else drift * 1e6,
        drift_error_ppm=None if drift_error is None else drift_error * 1e6,
        correlation=_correlation(blocks, turned, common),
        blocks=blocks.count,
        begin_error_samples=begins,
    )


def _block_delays(turned: Complex, omega: Real, common: float, sign: int) -> tuple[Real, Real]:
    """Each block's own delay near the common one, by Newton's steps from it, and how sharp
    its correlation peak is: its weight in a fit."""
    # Single precision: a block's own delay is no better than a thousandth of a sample.
    delays = np.full(turned.shape[0], common)
    rows = (sign * turned / np.abs(turned).max()).astype(np.complex64)
    once, twice = omega.astype(np.float32), np.square(omega).astype(np.float32)
    second = np.zeros(turned.shape[0])
    for _ in range(3):
        angle = np.outer(delays.astype(np.float32), once)
        phase = rows * (np.cos(angle) + 1j * np.sin(angle))
        first = -(phase.imag @ once).astype(np.float64)
        second = -(phase.real @ twice).astype(np.float64)
        steps = np.where(second < 0.0, -first / np.minimum(second, -1e-30), 0.0)
        delays = delays + np.clip(steps, -1.0, 1.0)
    return np.clip(delays, common - 40.0, common + 40.0), np.maximum(-second, 0.0)


def _drift_line(
    x: Real, y: Real, weight: Real, rate_hz: float
) -> tuple[float | None, float | None, float, float]:
    """Weighted line through the blocks' delays: slope, its 1-sigma error, value at frame 0
    and the latter's 95 % error. Slope and error are None when the blocks span too little."""
    if x.size < 8 or np.ptp(x) < FOLLOWED_SHARE * SHORTEST_STEEP_S * rate_hz:
        return None, None, float(np.average(y, weights=weight)), 0.0
    w = weight.copy()
    slope = offset = 0.0
    for _ in range(5):
        mean_x, mean_y = np.average(x, weights=w), np.average(y, weights=w)
        spread = np.average((x - mean_x) ** 2, weights=w)
        slope = float(np.average((x - mean_x) * (y - mean_y), weights=w) / spread)
        offset = float(mean_y - slope * mean_x)
        residual = np.abs(y - offset - slope * x)
        scale = max(float(np.median(residual)) * 3.0, 1e-6)
        w = weight / np.maximum(1.0, residual / scale) ** 2
    residual = y - offset - slope * x
    share = w / w.sum()
    effective = 1.0 / float(np.sum(share**2))
    variance = float(np.sum(share * residual**2)) / max(effective - 2.0, 1.0)
    slope_error = math.sqrt(variance / spread)
    offset_error = math.sqrt(variance * (1.0 + mean_x**2 / spread))
    return slope, slope_error, offset, 1.96 * offset_error


def _jackknife_error(turned: Complex, omega: Real, common: float) -> float:
    """95 % error of the common delay from leaving out one block at a time."""
    count = turned.shape[0]
    total = turned.sum(axis=0)
    if count < 3:
        # Too few blocks to leave out: leave out interleaved bands instead.
        sign = 1 if float(np.sum((total * np.exp(1j * omega * common)).real)) >= 0.0 else -1
        parts = [_refine(total[k::4], omega[k::4], common, sign) for k in range(4)]
        return 1.96 * float(np.std(parts)) / 2.0 + 1e-3
    # One Newton step per left-out block is exact enough: they lie close to the whole.
    rest = (total[None, :] - turned) * np.exp(1j * omega * common)[None, :]
    turn = 1.0 if np.sum(rest.real) >= 0.0 else -1.0
    first = -turn * (rest.imag @ omega)
    second = -turn * (rest.real @ (omega * omega))
    # Where a single block holds the peak together its absence moves it anywhere.
    moved = np.clip(-first / np.minimum(second, -1e-30), -64.0, 64.0)
    variance = (count - 1) / count * float(np.sum((moved - moved.mean()) ** 2))
    return 1.96 * math.sqrt(variance)


def _correlation(blocks: _Blocks, turned: Complex, common: float) -> float:
    """Normalised correlation of the loud blocks at the common delay, -1 to 1."""
    top = float(np.sum((turned * np.exp(1j * blocks.omega * common)).real))
    return top / math.sqrt(float(blocks.power_a.sum()) * float(blocks.power_b.sum()) + 1e-60)


# --- judgement -----------------------------------------------------------------------


def _overlap(a: Audio, b: Audio, fitted: Alignment) -> float:
    """Share of the shorter recording that lies inside the other."""
    first = max(0.0, -fitted.delay_samples)
    last = min(float(a.size), b.size - fitted.delay_samples)
    return max(0.0, min(1.0, (last - first) / min(a.size, b.size)))


def _judge(
    blocks: _Blocks, fitted: Alignment, rate_hz: float, block: int, overlap: float, began: bool
) -> tuple[float, float] | None:
    """Confidence (0 to 1) and a score to compare candidates; None when it is no match.

    `began`: the notes begin together at this lag. Only then may phases that agree all over
    the spectrum speak for blocks that do not: a held tone's agree one period later, too.
    """
    middle = blocks.starts + block / 2
    delays = fitted.delay_samples + (fitted.drift_ppm or 0.0) * 1e-6 * middle
    turned = (
        fitted.polarity * blocks.cross * np.exp(1j * np.outer(delays - blocks.lags, blocks.omega))
    )
    hz = blocks.omega * rate_hz / (2.0 * np.pi)
    coherence = _band_coherence(turned, blocks.power_a, blocks.power_b, hz)
    agreement = _agreement(turned, blocks.omega, rate_hz, block)
    score = abs(fitted.correlation) * 0.5 + coherence * 0.5
    # Chance finds a likeness where little overlaps: there more is asked.
    needed = MIN_COHERENCE + PARTIAL_EXTRA * (1.0 - overlap)
    sure = min(1.0, max(0.0, (coherence - 0.8) / (SURE_COHERENCE - 0.8))) if began else 0.0
    if agreement < MIN_AGREEMENT * (1.0 - sure) or coherence < needed:
        return None
    confidence = min(1.0, max(agreement, sure) / 0.8) * min(1.0, (coherence - 0.5) / 0.35)
    if _second_peak(turned, blocks.omega, rate_hz, block) > SECOND_PEAK:
        confidence = min(confidence, UNSURE)
    return float(np.clip(confidence, 0.0, 1.0)), score


def _second_peak(turned: Complex, omega: Real, rate_hz: float, block: int) -> float:
    """The highest other peak of the correlation within 2.5 ms, of either sign, re the one that
    was taken: an amplifier's filters can make the next half cycle as good."""
    apart, reach = round(SAME_S * rate_hz), round(0.0025 * rate_hz)
    reach = min(reach, block // 2 - 1)
    near = np.abs(_correlation_near(_half_whitened(turned.sum(axis=0)), omega, block, reach)[0])
    top = float(near[reach - 2 : reach + 3].max(initial=0.0))
    inner = near[1:-1]
    peaks = (inner >= near[:-2]) & (inner >= near[2:])
    far = np.abs(np.arange(1, near.size - 1) - reach) > apart
    return float(inner[peaks & far].max(initial=0.0)) / max(top, 1e-30)


def _band_coherence(turned: Complex, power_a: Real, power_b: Real, hz: Real) -> float:
    """How far the phases agree, a third of an octave at a time, weighted by A's level there.

    The real part of the normalised cross-spectrum per block and band, so that a phase that
    wanders from block to block counts against it. The filter of a cabinet turns whole
    bands by a fixed angle: that angle is taken out first.
    """
    edges = np.geomspace(JUDGE_HZ[0], min(JUDGE_HZ[1], hz[-1]), 17)
    values, weights = [], []
    for low, high in pairwise(edges):
        band = (hz >= low) & (hz < high)
        if band.sum() < 2:
            continue
        per_block = turned[:, band].sum(axis=1)
        level = np.sqrt(power_a[:, band].sum(axis=1) * power_b[:, band].sum(axis=1)) + 1e-30
        total = per_block.sum()
        values.append(float(np.abs(total) / level.sum()))
        weights.append(float(np.sqrt(level.sum())))
    return float(np.average(values, weights=weights)) if values else 0.0


def _agreement(turned: Complex, omega: Real, rate_hz: float, block: int) -> float:
    """Share of blocks, by level, whose own correlation peaks at the common lag."""
    reach = min(block // 2 - 1, int(0.02 * rate_hz))
    near = _correlation_near(_half_whitened(turned), omega, block, reach)
    peak_at = np.abs(np.argmax(near, axis=1) - reach)
    return float(np.mean(peak_at <= max(2.0, MAX_SPREAD_S * rate_hz)))
