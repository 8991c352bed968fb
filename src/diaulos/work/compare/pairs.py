"""Two recordings held against each other: time, polarity, level, tone, rest; stack or pan."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.delay import Alignment, find_alignment
from diaulos.signal.difference import Split, power_of, spectra, split_difference, windows
from diaulos.signal.loudness import SILENT_LUFS, Layout, LoudnessMeter
from diaulos.signal.null import null_depth
from diaulos.signal.peaks import loudest_span
from diaulos.signal.stacking import Held, Stacked, stacked
from diaulos.units import db_to_gain
from diaulos.work.blocks import ArraySource
from diaulos.work.listening.aligned import read_aligned, record_of
from diaulos.work.ports import CancelToken

Mono = NDArray[np.float32]
Real = NDArray[np.float64]

MOST_S = 600.0
"""Longer recordings are judged on their first ten minutes."""
SPLIT_S = 12.0
"""The loudest stretch, by which the difference is split."""
NULL_S = 6.0
NEAR_SAMPLES, NEAR_DB = 2.0, -6.0
"""A delay is settled by the null where it stays so near and the null gets so deep."""
SPECTRUM_OCTAVES = 1.0 / 12.0
HELD_FRAMES = 262_144


@dataclass(frozen=True)
class Side:
    """One thing that is compared: its name, its samples in the time of what it belongs to, and how
    it is heard beside the others."""

    name: str
    samples: Mono
    rate_hz: int
    layout: Layout = "mono"
    lufs: float | None = None
    """Where it was measured already, as a stereo one must be; None to measure it here."""


@dataclass(frozen=True)
class Spectrum:
    """Power by twelfths of an octave in dB, at equal loudness."""

    hz: Real
    a_db: Real
    b_db: Real


@dataclass(frozen=True)
class Pair:
    """B held against A.

    `louder_lu` is how much louder B is; `found` None with a `reason` where no delay can be told
    honestly; `split` None there, too, or where there is too little. `judged_s` of what both have in
    common was looked at.
    """

    a: str
    b: str
    rate_hz: int
    louder_lu: float | None
    found: Alignment | None
    reason: str
    refused: str
    split: Split | None
    stacked: Stacked | None
    spectrum: Spectrum | None
    judged_s: float


def compare_pair(
    a: Side, b: Side, cancel: CancelToken, *, split: bool = True, known: Pair | None = None
) -> Pair:
    """Hold B against A; without `split` only what takes little time: delay, level, mono sums. What
    is `known` of the two is not worked out again."""
    rate = float(a.rate_hz)
    most = round(MOST_S * rate)
    one, other = a.samples[:most], b.samples[:most]
    cancel.check()
    # Both leave the interpreter's lock alone for most of their time.
    if known is not None:
        louder, found = known.louder_lu, known.found
        reason, refused = known.reason, known.refused
    else:
        with ThreadPoolExecutor(1) as pool:
            loudness = pool.submit(_louder, a, b)
            found, reason, refused = _lag(one, other, rate)
            louder = loudness.result()
    cancel.check()
    parts = None
    if found is not None and split and louder is not None:
        parts = _split(one, other, found, rate)
        if record_of(found).told_drift_ppm:
            # A filter that weighs one part of the take otherwise than another can look like clocks
            # that part: then the best filter leaves less without a drift.
            cancel.check()
            steady = _steady(found, one.size)
            without = _split(one, other, steady, rate)
            if _rest(without) < _rest(parts):
                found, parts = steady, without
        cancel.check()
    if known is not None and found == known.found:
        return replace(known, split=parts)
    first, count = _in_common(one, other, found)
    sums = spectrum = None
    if louder is not None and count > 0:
        held = _held(one, other, found, first, count, rate).louder(db_to_gain(-louder))
        sums = stacked(held)
        mine, _, moved = held.powers
        spectrum = _spectrum(mine, moved, held.size, rate)
    return Pair(
        a.name, b.name, a.rate_hz, louder, found, reason, refused, parts, sums, spectrum,
        round(count / rate, 3),
    )  # fmt: skip


def _held(a: Mono, b: Mono, found: Alignment | None, first: int, count: int, rate: float) -> Held:
    """Both from a frame of A on, block by block: what takes no room is kept of all, what does of
    some windows."""
    starts, size = windows(count, rate)
    moved = np.empty(count, np.float32)

    def piece(at: int) -> Real:
        span = slice(first + at, first + min(count, at + HELD_FRAMES))
        one = np.asarray(a[span], np.float64)
        later = np.asarray(_in_time(b, found, span.start, one.size, np.float32), np.float64)
        moved[at : at + one.size] = later
        # What lies behind B's end as it was found is silent there.
        raw = np.asarray(b[span], np.float64)
        short = one[: raw.size]
        return np.array([one @ one, raw @ raw, later @ later, short @ raw, one @ later])

    end = first + count
    raw_b = b[first:end]
    if raw_b.size < count:
        raw_b = np.concatenate([raw_b, np.zeros(count - raw_b.size, np.float32)])
    # Summed in one order, whichever thread is first.
    with ThreadPoolExecutor(2) as pool:
        totals = np.sum(list(pool.map(piece, range(0, count, HELD_FRAMES))), axis=0)
        here, found_as, in_time = pool.map(
            lambda x: spectra(x, starts, size), (a[first:end], raw_b, moved)
        )
    mine, its, later_, cross, aligned = (float(one) for one in totals)
    return Held(
        rate, size, mine, its, later_, cross, aligned, here, found_as, in_time
    )  # fmt: skip


def loudness_of(side: Side) -> float:
    """Integrated loudness of all of it, as it is heard."""
    if side.lufs is not None:
        return side.lufs
    meter = LoudnessMeter(float(side.rate_hz), 1, side.layout)
    for first in range(0, side.samples.size, 65_536):
        meter.add(side.samples[first : first + 65_536, None])
    return meter.reading().lufs


def _louder(a: Side, b: Side) -> float | None:
    one, other = loudness_of(a), loudness_of(b)
    return None if min(one, other) < SILENT_LUFS else other - one


def _lag(a: Mono, b: Mono, rate: float) -> tuple[Alignment | None, str, str]:
    """Delay and polarity of B, settled by the null where the two are near enough for one."""
    try:
        found = find_alignment(a, b, rate)
    except RefusedError as error:
        return None, error.reason, error.what
    span = loudest_span(a, rate, min(NULL_S, a.size / rate))
    lag = found.at(span.first + span.count / 2.0)
    start = span.first + math.floor(lag)
    if start < 0 or start + span.count > b.size:
        return found, "", ""
    null = null_depth(
        a[span.first : span.first + span.count],
        b[start : start + span.count],
        rate,
        lag - math.floor(lag),
    )
    moved = null.delay_samples + math.floor(lag) - lag
    if null.depth_db < NEAR_DB and abs(moved) < NEAR_SAMPLES and null.polarity == found.polarity:
        return _shifted(found, moved), "", ""
    return found, "", ""


def _shifted(found: Alignment, by: float) -> Alignment:
    return replace(found, delay_samples=found.delay_samples + by)


def _split(a: Mono, b: Mono, found: Alignment, rate: float) -> Split | None:
    """The difference split over the loudest stretch of what both have in common."""
    first, count, moved = both_in_time(a, b, found)
    if count <= 0:
        return None
    here = np.asarray(a[first : first + count], np.float64)
    at = loudest_span(here, rate, min(SPLIT_S, here.size / rate))
    cut = slice(at.first, at.first + at.count)
    raw = np.zeros(at.count)
    there = np.asarray(b[first : first + count], np.float64)[cut]
    raw[: there.size] = there
    return split_difference(here[cut], raw, moved[cut], rate)


def _steady(found: Alignment, frames: int) -> Alignment:
    """The same without its drift: in time in the middle."""
    return replace(found, delay_samples=found.at(frames / 2.0), drift_ppm=0.0)


def _rest(split: Split | None) -> float:
    return math.inf if split is None or split.rest_db is None else split.rest_db


def both_in_time(a: Mono, b: Mono, found: Alignment | None) -> tuple[int, int, Real]:
    """(first frame of A at which both are there, how many, and B there, in time)."""
    first, count = _in_common(a, b, found)
    return first, count, np.asarray(_in_time(b, found, first, count), np.float64)


def _in_common(a: Mono, b: Mono, found: Alignment | None) -> tuple[int, int]:
    """The first frame of A at which both are there, and how many are."""
    if found is None:
        return 0, min(a.size, b.size)
    drift = record_of(found).told_drift_ppm
    lag = found.delay_samples
    first = max(0, math.ceil(-lag))
    last = min(a.size, math.floor((b.size - lag) / (1.0 + drift * 1e-6)))
    return (first, last - first) if last - first >= 2 else (0, 0)


def _in_time(
    b: Mono, found: Alignment | None, first: int, count: int, width: type = np.float64
) -> NDArray[np.floating]:
    """B from a frame of A on, in A's time and not turned over. Half the `width` is half the time:
    -120 dB re what is moved."""
    if found is None or not count:
        return np.asarray(b[first : first + count], width)
    drift = record_of(found).told_drift_ppm
    source = ArraySource(b, 1)
    moved = read_aligned(source, first, count, found.delay_samples, drift, width=width)
    return np.asarray(found.polarity * moved)


def spectrum_of(a: Real, b: Real, rate: float) -> Spectrum:
    """Both by twelfths of an octave."""
    first, size = windows(a.size, rate)
    powers = [power_of(spectra(x, first, size)) for x in (a, b)]
    return _spectrum(powers[0], powers[1], size, rate)


def _spectrum(a: Real, b: Real, size: int, rate: float) -> Spectrum:
    """Power spectra of windows of `size` frames, by twelfths of an octave."""
    freqs = np.arange(size // 2 + 1) * rate / size
    at = np.geomspace(30.0, min(20_000.0, 0.49 * rate), 113)
    half = 2.0 ** (SPECTRUM_OCTAVES / 2.0)
    low, high = np.searchsorted(freqs, at / half), np.searchsorted(freqs, at * half)
    high = np.maximum(high, low + 1)
    scale = 2.0 / (0.375 * size * size)  # of a Hann window: a full-scale sine is -3 dB in its bin
    rows = []
    for power in (a, b):
        total = np.concatenate([[0.0], np.cumsum(power)])
        rows.append(10.0 * np.log10((total[high] - total[low]) * scale + 1e-20))
    return Spectrum(at, rows[0], rows[1])
