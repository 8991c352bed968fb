"""Where notes begin, and how far apart two players of one part begin them.

Conventions
- An onset is where a note or the first string of a strum begins, in seconds from the first frame.
- A difference is positive where B begins later than A.

Method: the loudness of twenty bands rises above the loudest that it was just before (spectral flux
with a memory, from memory): something begins. Where it begins is where the whitened sound leaves
what it was. Two players are held against each other by the rises around an onset: the lag at which
they are most alike, so that a strum of six strings is one thing.
What an amplifier that is driven hard has made of a part blurs its onsets, and of strums the first
string may be the faintest: a dry DI tells them best.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.signal.checks import Audio, require_finite, require_mono, require_rate

Real = NDArray[np.float64]

WINDOW_S, HOP_S = 0.0107, 0.001
BANDS = 20
BAND_HZ = (100.0, 9_000.0)
RANGE_DB = 60.0
"""So far below the loudest moment of a band nothing rises in it;"""
HEARD_DB = 70.0
"""nor so far below the loudest moment of the loudest one: what is let go clicks softly."""
BACK_S = (0.006, 0.045)
"""A rise is against the loudest of what was there so long ago."""
GAP_S = 0.095
"""Nothing begins again so soon: a strum is one onset."""
AROUND_S = 1.5
ABOVE, CLEAR_DB, SHARE = 2.2, 0.8, 0.25
"""A rise is an onset where it stands out by so much of the usual one around, by so many dB, and by
such a share of the strong ones."""
BEFORE_S, BEHIND_S, WAIT_S = 0.012, 0.006, 0.03
SMOOTH_S, CROSS = 0.0007, 0.15
ORDER = 24
LAG_S, AHEAD_S, AFTER_S = 0.045, 0.030, 0.070
"""Around an onset in which two players are held against each other, and how far their lag may lie
from what the onsets by themselves say."""
STRING_S, MORE = (0.008, 0.080), 0.5
"""How soon the next strings of a strum follow, and how much of its first rise they have."""
APART_S = 0.070
"""Onsets of two players farther apart than this are not the same note's."""


def find_onsets(samples: Audio, rate_hz: float) -> Real:
    """Where notes begin.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    Times in s, rising, shape (onsets,); empty for silence.
    """
    require_rate(rate_hz)
    require_mono(samples, "the part")
    require_finite(samples, "the part")
    x = np.asarray(samples, np.float64)
    if x.size < round(4 * WINDOW_S * rate_hz) or not np.any(x):
        return np.zeros(0)
    rises, hop = _rises(x, rate_hz)
    flat = _whitened(x)
    found: list[float] = []
    for peak in _peaks(rises, hop / rate_hz):
        at = _begin(flat, round(peak * hop), rate_hz)
        if not found or at > found[-1]:
            found.append(at)
    return np.array(found)


def _rises(x: Real, rate_hz: float) -> tuple[Real, int]:
    """How far the loudness of each band rises above what it was just before, in dB a band on
    average. The loudest of before counts: the pulses of a low string are no onsets."""
    import scipy.fft
    import scipy.ndimage

    size = scipy.fft.next_fast_len(round(WINDOW_S * rate_hz), real=True)
    hop = max(1, round(HOP_S * rate_hz))
    padded = np.concatenate([np.zeros(size // 2), x, np.zeros(size)])
    windows = np.lib.stride_tricks.sliding_window_view(padded, size)[::hop]
    shape = np.hanning(size)
    freqs = np.arange(size // 2 + 1) * rate_hz / size
    edges = np.searchsorted(freqs, np.geomspace(BAND_HZ[0], min(BAND_HZ[1], 0.45 * rate_hz), BANDS))
    edges = np.unique(edges)
    power = np.empty((windows.shape[0], edges.size - 1))
    for first in range(0, windows.shape[0], 2048):
        rows = scipy.fft.rfft(windows[first : first + 2048] * shape, axis=1)
        energy = np.square(np.abs(rows[:, : edges[-1]]))
        power[first : first + 2048] = np.add.reduceat(energy, edges[:-1], axis=1)
    loudest = np.max(power, axis=0, initial=0.0)
    floor = np.maximum(
        loudest * 10.0 ** (-RANGE_DB / 10.0), loudest.max() * 10.0 ** (-HEARD_DB / 10.0)
    )
    floor = floor + 1e-20
    levels = 10.0 * np.log10(power + floor)
    near, far = (max(1, round(part * rate_hz / hop)) for part in BACK_S)
    width = far - near + 1
    # The loudest of the frames `near` to `far` back.
    highest = scipy.ndimage.maximum_filter1d(
        np.concatenate([np.repeat(levels[:1], far, axis=0), levels]), width, axis=0,
        origin=-(width // 2) if width % 2 else -(width // 2) + 1, mode="nearest",
    )[: levels.shape[0]]  # fmt: skip
    return np.asarray(np.mean(np.maximum(0.0, levels - highest), axis=1)), hop


def _peaks(rises: Real, hop_s: float) -> list[int]:
    """The first rise of each group of them."""
    import scipy.ndimage

    around = 2 * round(0.5 * AROUND_S / hop_s) + 1
    usual = scipy.ndimage.percentile_filter(rises, 60, around, mode="nearest")
    strong = scipy.ndimage.percentile_filter(rises, 98, around, mode="nearest")
    clear = np.maximum.reduce([ABOVE * usual, np.full_like(usual, CLEAR_DB), SHARE * strong])
    top = (rises >= scipy.ndimage.maximum_filter1d(rises, 5, mode="nearest")) & (rises > clear)
    found: list[int] = []
    for index in np.flatnonzero(top):
        if not found or (index - found[-1]) * hop_s >= GAP_S:
            found.append(int(index))
    return found


def _whitened(x: Real) -> Real:
    """What linear prediction does not foresee: an onset stands out of the notes that ring on."""
    import scipy.fft
    import scipy.linalg

    size = scipy.fft.next_fast_len(x.size + ORDER, real=True)
    alike = scipy.fft.irfft(np.square(np.abs(scipy.fft.rfft(x, size))), size)[: ORDER + 1]
    alike[0] *= 1.0 + 1e-6
    ahead = scipy.linalg.solve_toeplitz(alike[:-1], alike[1:])
    return np.asarray(np.convolve(x, np.concatenate([[1.0], -ahead]))[: x.size])


def _begin(flat: Real, near: int, rate_hz: float) -> float:
    """Where the whitened sound leaves what it was before, around a frame; in s."""
    import scipy.ndimage

    back, fore, wait = (round(part * rate_hz) for part in (BEFORE_S, BEHIND_S, WAIT_S))
    first = max(0, near - back - wait)
    here = np.abs(flat[first : near + fore])
    here = scipy.ndimage.uniform_filter1d(here, max(1, round(SMOOTH_S * rate_hz)), mode="nearest")
    start = near - back - first
    if start < 8 or here.size - start < 8:
        return near / rate_hz
    before = float(here[:start].max())
    there = here[start:]
    high = float(there.max())
    if high <= before:
        return near / rate_hz
    crossed = int(np.argmax(there >= before + CROSS * (high - before)))
    return float((first + start + crossed) / rate_hz)


@dataclass(frozen=True)
class Paired:
    """An onset of both players: when A begins, and how much later B does."""

    at_s: float
    late_ms: float


def pair_onsets(a_s: Real, b_s: Real) -> tuple[Paired, ...]:
    """The onsets that two players have in common, each the other's nearest.

    Parameters
    ----------
    a_s
        Onsets of A in s, rising.
    b_s
        Onsets of B in s, rising.

    Returns
    -------
    Pairs no farther apart than 70 ms, in the order of A.

    Examples
    --------
    >>> pair_onsets(np.array([1.0, 2.0, 3.0]), np.array([1.004, 2.5, 2.998]))
    (Paired(at_s=1.0, late_ms=4.0), Paired(at_s=3.0, late_ms=-2.0))
    """
    if not a_s.size or not b_s.size:
        return ()
    to_b = [int(np.argmin(np.abs(b_s - at))) for at in a_s]
    to_a = [int(np.argmin(np.abs(a_s - at))) for at in b_s]
    found = []
    for index, at in enumerate(a_s):
        other = to_b[index]
        late = float(b_s[other] - at)
        if to_a[other] == index and abs(late) <= APART_S:
            found.append(Paired(float(at), round(1000.0 * late, 4)))
    return tuple(found)


@dataclass(frozen=True)
class Doubled:
    """Two players of one part: onsets they have in common, and those that only one has, in s."""

    paired: tuple[Paired, ...]
    only_a_s: tuple[float, ...]
    only_b_s: tuple[float, ...]


def compare_onsets(a: Audio, b: Audio, rate_hz: float) -> Doubled:
    """How far apart two players begin the notes of one part.

    Parameters
    ----------
    a
        One player, shape (frames,), mono.
    b
        The other, shape (frames,), of the same start.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The pairs, and what has no partner.
    """
    onsets = find_onsets(a, rate_hz), find_onsets(b, rate_hz)
    paired = pair_onsets(*onsets)
    if not paired:
        return Doubled((), tuple(onsets[0].tolist()), tuple(onsets[1].tolist()))
    rises_a, hop = _rises(np.asarray(a, np.float64), rate_hz)
    rises_b, _ = _rises(np.asarray(b, np.float64), rate_hz)
    hop_s = hop / rate_hz
    fine = tuple(
        Paired(one.at_s, _most_alike(rises_a, rises_b, hop_s, one))
        if _strummed(rises_a, one.at_s, hop_s)
        or _strummed(rises_b, one.at_s + one.late_ms / 1000.0, hop_s)
        else one
        for one in paired
    )
    met_a = {one.at_s for one in paired}
    met_b = {round(one.at_s + one.late_ms / 1000.0, 6) for one in paired}
    return Doubled(
        fine,
        tuple(float(at) for at in onsets[0] if float(at) not in met_a),
        tuple(float(at) for at in onsets[1] if round(float(at), 6) not in met_b),
    )


def _strummed(rises: Real, at_s: float, hop_s: float) -> bool:
    """Whether more strings follow an onset: then the whole of it is what is played together."""
    at = round(at_s / hop_s)
    first = float(rises[max(0, at - 3) : at + round(STRING_S[0] / hop_s)].max(initial=0.0))
    behind = rises[at + round(STRING_S[0] / hop_s) : at + round(STRING_S[1] / hop_s)]
    return float(behind.max(initial=0.0)) > max(CLEAR_DB, MORE * first)


def _most_alike(a: Real, b: Real, hop_s: float, one: Paired) -> float:
    """The lag in ms at which the rises around an onset are most alike, near what the onsets say."""
    reach, before, behind = (round(part / hop_s) for part in (LAG_S, AHEAD_S, AFTER_S))
    at = round(one.at_s / hop_s)
    near = round(one.late_ms / 1000.0 / hop_s)
    first, last = at - before, at + behind
    lowest, highest = first + near - reach, last + near + reach
    if first < 0 or lowest < 0 or last > a.size or highest > b.size:
        return one.late_ms
    here = np.log1p(3.0 * a[first:last])
    there = np.log1p(3.0 * b[lowest:highest])
    alike = np.correlate(there, here, mode="valid")
    best = int(np.argmax(alike))
    lag = float(best)
    if 0 < best < alike.size - 1:
        left, middle, right = alike[best - 1 : best + 2]
        bend = left - 2.0 * middle + right
        lag += 0.5 * (left - right) / bend if bend < 0.0 else 0.0
    return round(1000.0 * hop_s * (near - reach + lag), 3)


def against_grid(onsets_s: Real, step_s: float, first_s: float = 0.0) -> tuple[Paired, ...]:
    """How far onsets lie behind the nearest line of a grid.

    Parameters
    ----------
    onsets_s
        Onsets in s, rising.
    step_s
        Between two lines of the grid, in s.
    first_s
        Where its first line lies.

    Returns
    -------
    Each onset: the line, and how much later it began.

    Examples
    --------
    >>> against_grid(np.array([0.502, 0.995]), 0.5)
    (Paired(at_s=0.5, late_ms=2.0), Paired(at_s=1.0, late_ms=-5.0))
    """
    lines = np.round((onsets_s - first_s) / step_s)
    at = first_s + lines * step_s
    return tuple(
        Paired(float(line), round(1000.0 * float(late), 4))
        for line, late in zip(at, onsets_s - at, strict=True)
    )
