"""May two tracks be heard in one place, or are they panned apart?

Conventions
- Both are given at the loudness at which they are heard. A mono sum's gain is the power of the sum
  over the sum of the powers, in dB: +3.01 for equal tracks, 0 for tracks that have nothing in
  common, without end for one turned over.
- Side over mid is of the one panned hard left and the other hard right: mid is half the sum, side
  half the difference.
- A notch is where the spectrum of the sum lies lowest below the sum of the spectra.
"""

from __future__ import annotations

import math
from dataclasses import replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_rate
from diaulos.signal.difference import Complex, band_edges, db, power_of, spectra, windows

Real = NDArray[np.float64]

OCTAVES_HZ = tuple(62.5 * 2.0**step for step in range(9))
PLAYS_DB = -20.0
"""Both play in an octave where each has at least this share of its own loudest octave."""
NOTCH_OCTAVES = 1.0 / 12.0
NOTCH_DB = -6.0
MOST_NOTCHES = 8
LEAST_SIDE_DB = -60.0


@dataclass(frozen=True)
class OctaveSum:
    """The mono sum's gain of an octave around `hz`, as found, in time, and in time with one turned
    over; `plays` where both have something there."""

    hz: float
    found_db: float
    in_time_db: float
    turned_db: float
    plays: bool


@dataclass(frozen=True)
class Notch:
    """Where the sum lies low: at `hz`, `db` below the sum of both."""

    hz: float
    db: float


@dataclass(frozen=True)
class Stacked:
    """How two tracks go together: the mono sum's gain in dB, their correlation at no lag (-1 to 1),
    side over mid in dB when panned; by octave; and the notches of the sum as found and in time."""

    found_db: float
    in_time_db: float
    turned_db: float
    correlation: float
    in_time_correlation: float
    side_mid_db: float
    octaves: tuple[OctaveSum, ...]
    notches: tuple[Notch, ...]
    in_time_notches: tuple[Notch, ...]


@dataclass(frozen=True)
class Held:
    """Two tracks held against each other, the other one as it was found and in time.

    Energies of all frames (`mine`; `its` as found, `later` in time), what they have in common
    (`cross` as found, `aligned` in time), and spectra of windows, shape (windows, bins), of windows
    of `size` frames.
    """

    rate_hz: float
    size: int
    mine: float
    its: float
    later: float
    cross: float
    aligned: float
    here: Complex
    found: Complex
    moved: Complex
    gain: float = 1.0
    """Of the other one, whose spectra are without it."""

    def louder(self, gain: float) -> Held:
        """The other one at a gain."""
        return replace(
            self, its=gain**2 * self.its, later=gain**2 * self.later, cross=gain * self.cross,
            aligned=gain * self.aligned, gain=gain * self.gain,
        )  # fmt: skip

    @cached_property
    def powers(self) -> tuple[Real, Real, Real]:
        """Mean power spectra: of the one, of the other as found, and in time."""
        here, found, moved = (power_of(rows) for rows in (self.here, self.found, self.moved))
        return here, self.gain**2 * found, self.gain**2 * moved

    def common(self, other: Complex) -> Real:
        """Twice what both have in common, a mean power spectrum."""
        both = self.here.real * other.real + self.here.imag * other.imag
        return np.asarray(2.0 * self.gain * np.mean(both, axis=0))


def stack(a: Audio, found: Audio, in_time: Audio, rate_hz: float) -> Stacked | None:
    """How two tracks go together.

    Parameters
    ----------
    a
        One track, shape (frames,), mono.
    found
        The other as it was found, as loud, the same frames.
    in_time
        The other in time with A and not turned over, as loud, the same frames.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    The figures; None where one of them is silent.
    """
    require_rate(rate_hz)
    one, other, moved = (np.asarray(x, np.float64) for x in (a, found, in_time))
    first, size = windows(one.size, rate_hz)
    return stacked(
        Held(
            rate_hz, size, float(one @ one), float(other @ other), float(moved @ moved),
            float(one @ other), float(one @ moved), spectra(one, first, size),
            spectra(other, first, size), spectra(moved, first, size),
        )
    )  # fmt: skip


def stacked(held: Held) -> Stacked | None:
    """How two tracks go together that were held against each other at one loudness.

    Parameters
    ----------
    held
        The two.

    Returns
    -------
    The figures; None where one of them is silent.
    """
    mine, its, later, cross, aligned = (
        held.mine, held.its, held.later, held.cross, held.aligned
    )  # fmt: skip
    if mine <= 0.0 or its <= 0.0 or later <= 0.0:
        return None
    rate_hz = held.rate_hz
    freqs = np.arange(held.size // 2 + 1) * rate_hz / held.size
    mine_power, found_power, moved_power = held.powers
    sums = (
        _Sums(mine_power, found_power, held.common(held.found)),
        _Sums(mine_power, moved_power, held.common(held.moved)),
    )
    return Stacked(
        found_db=db(1.0 + 2.0 * cross / (mine + its)),
        in_time_db=db(1.0 + 2.0 * aligned / (mine + later)),
        turned_db=db(1.0 - 2.0 * aligned / (mine + later)),
        correlation=cross / math.sqrt(mine * its),
        in_time_correlation=aligned / math.sqrt(mine * later),
        side_mid_db=max(
            LEAST_SIDE_DB,
            db(mine + its - 2.0 * cross) - db(mine + its + 2.0 * cross),
        ),
        octaves=_octaves(freqs, sums[0], sums[1], rate_hz),
        notches=_notches(freqs, sums[0]),
        in_time_notches=_notches(freqs, sums[1]),
    )


@dataclass(frozen=True)
class _Sums:
    """Power spectra: of one track, of the other, and twice what both have in common."""

    mine: Real
    its: Real
    both: Real

    def gain(self, cut: slice, sign: float = 1.0) -> float:
        powers = float(self.mine[cut].sum() + self.its[cut].sum())
        both = float(self.both[cut].sum())
        return db(1.0 + sign * both / powers) if powers > 0.0 else 0.0


def _octaves(freqs: Real, found: _Sums, moved: _Sums, rate_hz: float) -> tuple[OctaveSum, ...]:
    centres = np.array([hz for hz in OCTAVES_HZ if hz * math.sqrt(2.0) < 0.5 * rate_hz])
    cuts = list(band_edges(freqs, centres, 1.0))
    mine = np.array([found.mine[cut].sum() for cut in cuts])
    its = np.array([found.its[cut].sum() for cut in cuts])
    share = 10.0 ** (PLAYS_DB / 10.0)
    plays = (mine >= share * mine.max()) & (its >= share * its.max())
    return tuple(
        OctaveSum(float(hz), found.gain(cut), moved.gain(cut), moved.gain(cut, -1.0), bool(played))
        for hz, cut, played in zip(centres, cuts, plays, strict=True)
    )


def _notches(freqs: Real, sums: _Sums) -> tuple[Notch, ...]:
    """The deepest dips of the sum, a twelfth of an octave wide, where both play."""
    top = min(16_000.0, float(freqs[-1]) * 0.9)
    steps = np.arange(0.0, math.log2(top / 50.0), 1.0 / 48.0)
    at = 50.0 * 2.0**steps
    cuts = list(band_edges(freqs, at, NOTCH_OCTAVES))
    mine = np.array([sums.mine[cut].mean() for cut in cuts])
    its = np.array([sums.its[cut].mean() for cut in cuts])
    both = np.array([sums.both[cut].mean() for cut in cuts])
    gains = 10.0 * np.log10(np.maximum(1.0 + both / np.maximum(mine + its, 1e-300), 1e-12))
    share = 10.0 ** (2.0 * PLAYS_DB / 10.0)
    heard = (mine >= share * mine.max()) & (its >= share * its.max())
    found = []
    for index in range(1, at.size - 1):
        here = gains[index]
        if not heard[index] or here > NOTCH_DB:
            continue
        first = max(0, index - 12)
        # Of equal ones (low down several steps share one bin) the first.
        if first + int(np.argmin(gains[first : index + 13])) != index:
            continue
        found.append(Notch(_finest(freqs, sums, cuts[index], float(at[index])), float(here)))
    deepest = sorted(found, key=lambda notch: notch.db)[:MOST_NOTCHES]
    return tuple(sorted(deepest, key=lambda notch: notch.hz))


def _finest(freqs: Real, sums: _Sums, cut: slice, near_hz: float) -> float:
    """The middle of a dip: where what both have in common is least, by a parabola."""
    low, high = max(1, cut.start - 2), min(freqs.size - 2, cut.stop + 2)
    ratio = sums.both[low:high] / np.maximum(sums.mine[low:high] + sums.its[low:high], 1e-300)
    if ratio.size < 5:
        return near_hz
    bins = np.arange(low, high)
    bend, slope, _ = np.polyfit(bins - near_hz / freqs[1], ratio, 2)
    if bend <= 0.0:
        return near_hz
    middle = near_hz / freqs[1] - slope / (2.0 * bend)
    return float(np.clip(middle, low, high) * freqs[1])
