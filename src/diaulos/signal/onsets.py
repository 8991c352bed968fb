"""Where notes begin, and how far apart two players of one part begin them.

Conventions
- An onset is where a note or the first string of a strum begins, in seconds from the first frame.
- A difference is positive where B begins later than A.

Method: the loudness of twenty bands rises above the loudest that it was just before (spectral flux
with a memory, from memory): something may begin there. Whether it does, and where to the sample,
is told by what the sound just before does not foretell (`foretelling`): a string that is let go or
a beat of two that ring is no onset. Two players are held against each other onset by onset.
The first string of a strum may be too faint under the chord that rings: a dry DI tells best.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_finite, require_mono, require_rate
from diaulos.signal.foretelling import Change, Foretelling

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
RISE_DB, TOGETHER_S = 0.35, 0.012
"""A rise in dB a band that is looked into, the highest of those so near to one another,"""
AROUND_S, ABOVE, SHARE = 1.5, 2.2, 0.25
"""where it stands out by so much of the usual one around and by such a share of the strong ones."""
AHEAD_S, LEARN_S, CLOSE_S = 0.075, 0.075, 0.018
"""Looking begins so far ahead of a rise, as a strum's first strings may hardly rise; but what is
fitted on has heard the onset before for so long, and lies at least so far from what is told."""
BEHIND_S = 0.010
CHANGE_DB, CLEAR_DB, STRONG_DB = 3.5, 4.0, -20.0
"""Misses rise by so much seen from afar, and from close by; and over the level around."""
MORE_DB, LEAST_DB = -2.0, -9.0
SEEN_DB, SEEN_S = 0.3, 0.006
"""More than was foretold is an onset, and a little less where the bands rise by so much as well so
soon: a new note may stand against one that rings. Far less is a string let go."""
UNSEEN_DB, STRING_S = 0.05, 0.018
"""Where the bands do not rise at all it is an onset only if no other is found, and so near."""
STRUCK_S, STRUCK_DB, NEAR_S = 0.0075, 14.0, 0.005
"""A string is often let go just before it is struck: so soon, and so clear, is the stroke;
a change lies at most so far from where it was seen from afar."""
APART_S = 0.070
"""Onsets of two players farther apart than this are not the same note's."""

UNSURE_MS, LEAST_SURE = 8.0, 3
"""Where the onsets and the rises around them differ by more, it is not told how far apart they
are, unless that leaves so few."""
LAG_S, AROUND_A_S, AROUND_B_S = 0.045, 0.030, 0.070
"""How far the rises' lag is looked for, and how much around an onset of A is held against B."""

Heed = Callable[[], None]
"""Asked between two steps of long work; it raises CancelledError to end it."""


def go_on() -> None:
    """Nobody ends it."""


def find_onsets(samples: Audio, rate_hz: float, heed: Heed = go_on) -> Real:
    """Where notes begin.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    rate_hz
        Sample rate in Hz.
    heed
        Asked before each moment that is looked into.

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
    hop_s = hop / rate_hz
    foretelling = Foretelling(x, rate_hz, AHEAD_S)
    found: list[float] = []
    for peak in _peaks(rises, hop_s):
        last = found[-1] if found else -np.inf
        if peak * hop_s - last < GAP_S:
            continue
        heed()
        at = _begin(foretelling, rises, hop_s, peak * hop_s, last)
        if at is not None and at - last >= GAP_S:
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
    """The highest of rises that lie together."""
    import scipy.ndimage

    around = 2 * round(0.5 * AROUND_S / hop_s) + 1
    usual = scipy.ndimage.percentile_filter(rises, 60, around, mode="nearest")
    strong = scipy.ndimage.percentile_filter(rises, 98, around, mode="nearest")
    clear = np.maximum.reduce([ABOVE * usual, np.full_like(usual, RISE_DB), SHARE * strong])
    near = 2 * round(0.5 * TOGETHER_S / hop_s) + 1
    top = rises >= scipy.ndimage.maximum_filter1d(rises, near, mode="nearest")
    return [int(index) for index in np.flatnonzero(top & (rises > clear))]


@dataclass(frozen=True)
class _Seen:
    """A change, and how far the bands rise with it."""

    at_s: float
    change: Change
    rise_db: float

    @property
    def begins(self) -> bool:
        """Whether something begins with it."""
        change, seen = self.change, self.rise_db >= SEEN_DB
        return (
            change.clear_db >= CLEAR_DB
            and change.strong_db >= STRONG_DB
            and change.more_db >= (LEAST_DB if seen else MORE_DB)
        )


def _begin(
    foretelling: Foretelling, rises: Real, hop_s: float, at_s: float, last_s: float
) -> float | None:
    """Where something begins around a rise, in s; None where nothing does."""
    ahead = float(np.clip(at_s - last_s - LEARN_S, CLOSE_S, AHEAD_S))
    changes = foretelling.changes(at_s, ahead, BEHIND_S, CHANGE_DB)

    def seen(near_s: float) -> _Seen:
        change = foretelling.look(near_s, CLOSE_S)
        at = foretelling.seconds(change)
        first = max(0, round(at / hop_s) - 1)
        rise = rises[first : first + 1 + round(SEEN_S / hop_s)].max(initial=0.0)
        return _Seen(at, change, float(rise))

    begun: _Seen | None = None
    unseen: _Seen | None = None
    for near in changes:
        if begun is not None and near - begun.at_s > STRUCK_S + NEAR_S:
            break
        one = seen(near)
        if begun is not None:
            # Let go just before it is struck: what is struck is the onset.
            later = one.at_s - begun.at_s
            if later > STRUCK_S:
                break
            if later > 0.0 and one.change.clear_db >= STRUCK_DB and one.rise_db > begun.rise_db:
                begun = one
        elif one.begins and one.rise_db >= UNSEEN_DB:
            begun = one
        elif one.begins and unseen is None and near >= at_s - STRING_S:
            unseen = one
    found = begun or unseen
    return None if found is None else max(0.0, found.at_s)


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
    """Two players of one part: onsets they have in common, those that only one has, in s, and
    those that both have, but of which it cannot be told how far apart they lie."""

    paired: tuple[Paired, ...]
    only_a_s: tuple[float, ...]
    only_b_s: tuple[float, ...]
    unsure: tuple[Paired, ...] = ()


def compare_onsets(a: Audio, b: Audio, rate_hz: float, heed: Heed = go_on) -> Doubled:
    """How far apart two players begin the notes of one part.

    Parameters
    ----------
    a
        One player, shape (frames,), mono.
    b
        The other, shape (frames,), of the same start.
    rate_hz
        Sample rate in Hz.
    heed
        Asked before each moment that is looked into.

    Returns
    -------
    The pairs, and what has no partner.
    """
    a_s, b_s = find_onsets(a, rate_hz, heed), find_onsets(b, rate_hz, heed)
    paired = pair_onsets(a_s, b_s)
    met_a = {one.at_s for one in paired}
    met_b = {round(one.at_s + one.late_ms / 1000.0, 6) for one in paired}
    rises_a, hop = _rises(np.asarray(a, np.float64), rate_hz)
    rises_b, _ = _rises(np.asarray(b, np.float64), rate_hz)
    alike = [_most_alike(rises_a, rises_b, hop / rate_hz, one) for one in paired]
    sure = [abs(lag - one.late_ms) <= UNSURE_MS for lag, one in zip(alike, paired, strict=True)]
    if sum(sure) < LEAST_SURE:
        sure = [True] * len(sure)  # in noise the rises tell nothing: the onsets alone count
    return Doubled(
        tuple(one for one, told in zip(paired, sure, strict=True) if told),
        tuple(float(at) for at in a_s if float(at) not in met_a),
        tuple(float(at) for at in b_s if round(float(at), 6) not in met_b),
        tuple(one for one, told in zip(paired, sure, strict=True) if not told),
    )


def _most_alike(a: Real, b: Real, hop_s: float, one: Paired) -> float:
    """The lag in ms at which the rises around an onset are most alike, near what the onsets say: a
    strum whose first string one of them hid is told by the others."""
    reach, before, behind = (round(part / hop_s) for part in (LAG_S, AROUND_A_S, AROUND_B_S))
    at, near = round(one.at_s / hop_s), round(one.late_ms / 1000.0 / hop_s)
    first, last = at - before, at + behind
    lowest, highest = first + near - reach, last + near + reach
    if first < 0 or lowest < 0 or last > a.size or highest > b.size:
        return one.late_ms
    alike = np.correlate(np.log1p(3.0 * b[lowest:highest]), np.log1p(3.0 * a[first:last]), "valid")
    return 1000.0 * hop_s * (near - reach + int(np.argmax(alike)))


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
