"""What differs between two recordings of one performance, split into parts that are heard apart.

Conventions
- A is the reference; everything in dB is re the power of A. B is brought to A: by time and
  polarity, then by one gain, then by one linear filter. What that leaves is the rest: distortion,
  noise, modulation, another touch.
- The null is what the best gain on B leaves of A. For the split B is taken to be A through a level
  and a filter, with the rest on top: its level is the one that a filter of one tap would have
  (least squares with A as the input), and is left alone where the tone differs so much that it
  would make things worse.
- A share is by how much its step lowers the power of the residual; None where it lowers nothing.
- Bands are thirds of an octave around the preferred frequencies (1 kHz and powers of 2^(1/3)).

Sources: the response of least squares is the classical one, cross-spectrum over spectrum (Wiener);
coherence after Welch's method, from memory.
"""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.between import Between, filter_between
from diaulos.signal.checks import Audio, require_rate

Real = NDArray[np.float64]
Complex = NDArray[np.complex128]

DEEPEST_DB = -200.0
"""Less cannot be told from nothing."""
WINDOW_S = 0.17
"""Of the spectra: 6 Hz apart."""
MOST_WINDOWS = 400
"""Spread over what there is: a spectrum gets no truer by more."""
LEAST_SHARE = 1e-18
"""Of the reference's power: less is the arithmetic's own."""
LOWEST_HZ, HIGHEST_HZ = 40.0, 16_000.0
PLAYED_DB = -60.0
"""A band this far below the loudest of both holds nothing to be judged."""
TRUSTED = 0.9
"""Coherence from which on a response is told."""


@dataclass(frozen=True)
class Band:
    """A third of an octave: how much more B has (B re A as they are given), what the best gain
    leaves re A's power in it and the best filter re B's, and how far both go together (0 to 1).
    None where neither plays."""

    hz: float
    level_db: float | None
    null_db: float | None
    null_after_filter_db: float | None
    coherence: float | None


@dataclass(frozen=True)
class Gain:
    """The filter between both at a frequency in Hz: dB of B re A, how far to trust it, and how much
    A has around there, re where it has most, in dB."""

    hz: float
    db: float
    coherence: float
    power_db: float = 0.0


@dataclass(frozen=True)
class Split:
    """The residual after each step, in dB re A, and the share of each step.

    `gain_db` brings B to A as near as a gain can; `null_db` is what it leaves of A. `louder_db` is
    the level of what B has of A.
    """

    gain_db: float
    louder_db: float
    null_db: float
    null_after_filter_db: float | None
    found_db: float
    in_time_db: float
    level_db: float
    rest_db: float | None
    time_share_db: float | None
    level_share_db: float | None
    tone_share_db: float | None
    rest_least_db: float | None
    """The least that any filter tried leaves on what it was fitted on; `rest_db` is what the best
    leaves on what it had not seen."""
    rest_most_db: float | None
    """What the shortest filter leaves that does nearly as well as the best. The rest lies between
    the least and the most as a rule: not where the filter is not found whole."""
    bands: tuple[Band, ...]
    response: tuple[Gain, ...]


def db(power: float) -> float:
    """A ratio of powers in dB, no deeper than -200.

    Parameters
    ----------
    power
        The ratio, 0 or more.

    Returns
    -------
    10 log10 of it, at least -200 dB.
    """
    return max(DEEPEST_DB, 10.0 * math.log10(max(power, 1e-30)))


def third_octaves(rate_hz: float, lowest_hz: float = LOWEST_HZ) -> Real:
    """Centres of thirds of an octave up to 0.45 of the rate.

    Parameters
    ----------
    rate_hz
        Sample rate in Hz.
    lowest_hz
        The least centre in Hz.

    Returns
    -------
    Frequencies in Hz, shape (bands,).
    """
    highest = min(HIGHEST_HZ, 0.45 * rate_hz / 2.0 ** (1.0 / 6.0))
    steps = np.arange(-30, 31)
    centres = 1000.0 * 2.0 ** (steps / 3.0)
    return np.asarray(centres[(centres >= lowest_hz * 0.98) & (centres <= highest * 1.02)])


def split_difference(a: Audio, found: Audio, in_time: Audio, rate_hz: float) -> Split | None:
    """What differs between A and B.

    Parameters
    ----------
    a
        The reference, shape (frames,), mono, full scale at 1.
    found
        B as it was found, the same frames.
    in_time
        B with its delay, drift and polarity taken out, the same frames.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The split; None where one of them is silent or they have nothing in common.
    """
    require_rate(rate_hz)
    one, other = np.asarray(a, np.float64), np.asarray(in_time, np.float64)
    power, own, cross = float(one @ one), float(other @ other), float(one @ other)
    if power <= 0.0 or own <= 0.0 or cross <= 0.0:
        return None
    best, gain = cross / own, cross / power
    untouched = float(np.sum(np.square(np.asarray(found, np.float64) - one))) / power
    moved = float(np.sum(np.square(other - one))) / power
    level = other / gain
    equal = float(np.sum(np.square(level - one))) / power
    if equal > moved:
        gain, level, equal = 1.0, other, moved
    filtered = filter_between(one, level, rate_hz)
    scaled = float(level @ level) / power
    rest = None if filtered is None else min(filtered.left * scaled, equal)
    null = float(np.sum(np.square(one - best * other))) / power
    return Split(
        gain_db=20.0 * math.log10(best),
        louder_db=20.0 * math.log10(gain),
        null_db=db(null),
        null_after_filter_db=None if filtered is None else db(min(filtered.left, 1.0)),
        found_db=db(untouched),
        in_time_db=db(moved),
        level_db=db(equal),
        rest_db=None if rest is None else db(rest),
        time_share_db=_share(untouched, moved),
        level_share_db=_share(moved, equal),
        tone_share_db=None if rest is None else _share(equal, rest),
        rest_least_db=None
        if filtered is None or rest is None
        else db(min(filtered.least * scaled, rest)),
        rest_most_db=None
        if filtered is None or rest is None
        else db(min(max(filtered.most * scaled, rest), equal)),
        bands=_bands(one, other, best, filtered, rate_hz),
        response=() if filtered is None else _response(one, level, filtered, gain, rate_hz),
    )


def _share(before: float, after: float) -> float | None:
    less = before - after
    return db(less) if less > max(1e-9 * after, LEAST_SHARE) else None


def windows(count: int, rate_hz: float) -> tuple[NDArray[np.int64], int]:
    """Where windows of spectra begin, and how long they are: half over each other, or spread
    evenly where there would be more than enough.

    Parameters
    ----------
    count
        Frames that there are.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    First frames, shape (windows,), and the length in frames, a power of two.
    """
    size = 2 ** round(math.log2(WINDOW_S * rate_hz))
    while size > 64 and size > count:
        size //= 2
    last = max(0, count - size)
    number = int(np.clip(1 + 2 * last // size, 1, MOST_WINDOWS))
    return np.round(np.linspace(0, last, number)).astype(np.int64), size


def spectra(x: Audio, first: NDArray[np.int64], size: int) -> Complex:
    """Windowed spectra of a signal, one row a window.

    Parameters
    ----------
    x
        Samples, shape (frames,).
    first
        Where the windows begin, in frames.
    size
        Their length in frames.

    Returns
    -------
    Shape (windows, size / 2 + 1).
    """
    import scipy.fft

    x = np.asarray(x)
    if x.size < size:
        x = np.concatenate([x, np.zeros(size - x.size)])
    # Of double width, whatever the samples are of: only what is looked at is widened.
    window = 0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(size) / size)
    return np.asarray(scipy.fft.rfft(x[first[:, None] + np.arange(size)] * window, workers=2))


def power_of(rows: Complex) -> Real:
    """The mean power spectrum of windowed spectra.

    Parameters
    ----------
    rows
        Shape (windows, bins).

    Returns
    -------
    Shape (bins,).
    """
    return np.asarray(np.mean(np.square(rows.real) + np.square(rows.imag), axis=0))


def band_edges(freqs_hz: Real, centres_hz: Real, octaves: float) -> Iterator[slice]:
    """The bins of each band, at least one.

    Parameters
    ----------
    freqs_hz
        The bins, rising, in Hz.
    centres_hz
        The bands' centres in Hz.
    octaves
        How wide they are.

    Yields
    ------
    A slice of the bins for each band.
    """
    half = 2.0 ** (octaves / 2.0)
    low = np.searchsorted(freqs_hz, centres_hz / half)
    high = np.searchsorted(freqs_hz, centres_hz * half)
    for first, last in zip(low, high, strict=True):
        yield slice(int(first), max(int(first) + 1, int(last)))


def _bands(
    a: Real, b: Real, gain: float, filtered: Between | None, rate_hz: float
) -> tuple[Band, ...]:
    """`b` lies in time, `gain` brings it to A."""
    first, size = windows(a.size, rate_hz)
    freqs = np.arange(size // 2 + 1) * rate_hz / size
    one, other = spectra(a, first, size), spectra(b, first, size)
    mine, its, left = power_of(one), power_of(other), power_of(gain * other - one)
    cross = np.mean(one.conj() * other, axis=0)
    alike = np.square(np.abs(cross)) / np.maximum(mine * its, 1e-300)
    if first.size < 4:
        alike = np.zeros_like(alike)
    after, under = _rest_spectrum(b, filtered, rate_hz, size)
    centres = third_octaves(rate_hz)
    cuts = list(band_edges(freqs, centres, 1.0 / 3.0))
    loudest = max(float(mine[cut].sum()) for cut in cuts)
    loudest_b = max(float(its[cut].sum()) for cut in cuts)
    floor = 10.0 ** (PLAYED_DB / 10.0)
    found = []
    for hz, cut in zip(centres, cuts, strict=True):
        a_power, b_power = float(mine[cut].sum()), float(its[cut].sum())
        hz = float(hz)
        if a_power <= floor * loudest and b_power <= floor * loudest_b:
            found.append(Band(hz, None, None, None, None))
            continue
        reference = max(a_power, 1e-30)
        weight = mine[cut] + 1e-300
        rest = None
        if after is not None and float(under[cut].sum()) > 0.0:
            rest = db(float(after[cut].sum()) / float(under[cut].sum()))
        found.append(
            Band(
                hz,
                db(b_power / reference),
                db(float(left[cut].sum()) / reference),
                rest,
                float(np.sum(weight * alike[cut]) / weight.sum()),
            )
        )
    return tuple(found)


def _rest_spectrum(
    b: Real, filtered: Between | None, rate_hz: float, size: int
) -> tuple[Real | None, Real]:
    """The spectrum of what the filter leaves, re the power of all of B, and of B likewise, over the
    same frames."""
    nothing = np.zeros(size // 2 + 1)
    if filtered is None:
        return None, nothing
    here = b[filtered.first : filtered.first + filtered.rest.size]
    count = min(here.size, filtered.rest.size)
    if count < size:
        return None, nothing
    first, _ = windows(count, rate_hz)
    rest = power_of(spectra(filtered.rest[:count], first, size))
    under = power_of(spectra(here[:count], first, size))
    whole = float(np.sum(np.square(here)))
    # The filter was fitted to B at A's level: both are re what they hold in all.
    scale = filtered.left * whole / max(float(np.sum(np.square(filtered.rest))), 1e-300)
    return rest * scale, under


def _response(a: Real, b: Real, filtered: Between, gain: float, rate_hz: float) -> tuple[Gain, ...]:
    """The filter in dB of B as found re A, at sixths of an octave, with the coherence there.

    Around each frequency a line is laid through the filter's gains, bin by bin, each as heavy as
    it is sure: between the partials of a string there is little to go by.
    """
    first, size = windows(a.size, rate_hz)
    freqs = np.arange(size // 2 + 1) * rate_hz / size
    one, other = spectra(a, first, size), spectra(b, first, size)
    mine, its = power_of(one), power_of(other)
    cross = np.square(np.abs(np.mean(one.conj() * other, axis=0)))
    alike = np.clip(cross / np.maximum(mine * its, 1e-300), 0.0, 1.0)
    if first.size < 4:
        alike = np.zeros_like(alike)
    gains = 20.0 * np.log10(np.maximum(np.abs(filtered.spectrum(size)), 1e-10))
    sure = alike / np.maximum(1.0 - alike, 1e-7)
    thirds = third_octaves(rate_hz)
    at = np.sort(np.concatenate([thirds, thirds[:-1] * 2.0 ** (1.0 / 6.0)]))
    cuts = list(band_edges(freqs, at, 1.0 / 6.0))
    most = max(float(mine[cut].sum()) for cut in cuts)
    found = []
    for hz, cut in zip(at, cuts, strict=True):
        share = float(mine[cut].sum()) / max(most, 1e-300)
        middle = round(hz * size / rate_hz)
        cut = slice(max(1, min(cut.start, middle - 1)), max(cut.stop, middle + 2))
        octaves = np.log2(freqs[cut] / hz)
        weight = sure[cut] + 1e-12
        centre = float(np.sum(weight * octaves) / weight.sum())
        mean = float(np.sum(weight * gains[cut]) / weight.sum())
        spread = float(np.sum(weight * np.square(octaves - centre)))
        slope = float(np.sum(weight * (octaves - centre) * gains[cut])) / max(spread, 1e-12)
        trust = mine[cut] + 1e-300
        told = float(np.sum(trust * alike[cut]) / trust.sum())
        played = float(mine[cut].sum()) > 1e-12 * float(mine.sum())
        found.append(
            Gain(
                float(hz),
                mean - slope * centre + 20.0 * math.log10(gain),
                told if played else 0.0,
                db(share),
            )
        )
    return tuple(found)
