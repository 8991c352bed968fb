"""Two microphones of one sound whose phase parts from each other between lows and highs.

A delay alone brings one band together and may part the other. A first-order all-pass (from memory:
H(s) = (w - s) / (w + s), by the bilinear transform) leaves every level as it is and turns the phase
from 0 far below its corner over 90 degrees at it to 180 degrees far above.

Conventions
- A mono sum's gain is the power of the sum over the sum of the powers in dB, at equal loudness in
  the whole: +3.01 for equal tracks.
- The low band reaches from 40 Hz to the split, the high one from there to 6 kHz.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from functools import partial
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_rate
from diaulos.signal.difference import db, power_of, spectra, windows

Real = NDArray[np.float64]

LEAST_HZ, MOST_HZ = 40.0, 4_000.0
"""Corners of an all-pass."""
SPLIT_HZ = 400.0
BANDS_HZ = (40.0, 6_000.0)
SEARCHED = 25
SEARCHED_HZ = (60.0, 2_000.0)
OTHER_DB = 0.5
"""By so much in both bands together the all-pass has to do better on A to be put there."""


def allpass_section(corner_hz: float, rate_hz: float) -> Real:
    """The all-pass as a second-order section.

    Parameters
    ----------
    corner_hz
        Where it turns the phase by 90 degrees, in Hz, 40 to 4 000 and below 0.45 of the rate.
    rate_hz
        Sample rate in Hz.

    Returns
    -------
    Shape (1, 6).

    Raises
    ------
    InputError
        For a corner outside the range.
    """
    require_rate(rate_hz)
    if not LEAST_HZ <= corner_hz <= min(MOST_HZ, 0.45 * rate_hz):
        raise InputError(
            f"an all-pass lies between {LEAST_HZ:g} and {MOST_HZ:g} Hz, not at {corner_hz:g} Hz.",
            where="corner",
            remedy="Give it in Hz.",
        )
    tangent = math.tan(math.pi * corner_hz / rate_hz)
    turn = (tangent - 1.0) / (tangent + 1.0)
    return np.array([[turn, 1.0, 0.0, 1.0, turn, 0.0]])


@dataclass(frozen=True)
class BandSums:
    """The mono sum's gain in dB below and above the split."""

    low_db: float
    high_db: float

    @property
    def both_db(self) -> float:
        """What is to be as high as it can."""
        return self.low_db + self.high_db

    @property
    def least_db(self) -> float:
        """Of the band that loses most."""
        return min(self.low_db, self.high_db)


@dataclass(frozen=True)
class ByBand:
    """What two tracks of one sound sum to by band: as found, in time, and with the all-pass that
    does most on top. It is put to `on`, and turns B over where `polarity` is -1."""

    split_hz: float
    found: BandSums
    in_time: BandSums
    turned: BandSums
    """In time, and turned over."""
    passed: BandSums
    corner_hz: float
    polarity: Literal[-1, 1]
    on: Literal["a", "b"]


def sum_by_band(
    a: Audio, found: Audio, in_time: Audio, rate_hz: float, split_hz: float = SPLIT_HZ
) -> ByBand | None:
    """What a delay and an all-pass do for the mono sum below and above a split.

    Parameters
    ----------
    a
        One track, shape (frames,), mono.
    found
        The other as it was found, as loud, the same frames.
    in_time
        The other in time, not turned over, as loud, the same frames.
    rate_hz
        Sample rate in Hz.
    split_hz
        Between both bands, 80 to 3 000 Hz.

    Returns
    -------
    The sums, and the best all-pass; None where one of them is silent in a band.

    Raises
    ------
    InputError
        For a split outside the range.
    """
    require_rate(rate_hz)
    if not 80.0 <= split_hz <= 3_000.0:
        raise InputError(
            f"the split lies between 80 and 3000 Hz, not at {split_hz:g} Hz.", where="split"
        )
    one, other, moved = (np.asarray(x, np.float64) for x in (a, found, in_time))
    first, size = windows(one.size, rate_hz)
    freqs = np.arange(size // 2 + 1) * rate_hz / size
    mine, its, later = (spectra(x, first, size) for x in (one, other, moved))
    edges = (BANDS_HZ[0], split_hz, min(BANDS_HZ[1], 0.45 * rate_hz))
    cuts = tuple(
        slice(*np.searchsorted(freqs, (low, high)).tolist())
        for low, high in itertools.pairwise(edges)
    )
    powers = power_of(mine) + power_of(later)
    wholes = [float(powers[cut].sum()) for cut in cuts]
    if any(float(power_of(rows)[cut].sum()) <= 0.0 for rows in (mine, later) for cut in cuts):
        return None
    common = np.mean(np.conj(mine) * later, axis=0)
    apart = np.mean(np.conj(mine) * its, axis=0)

    def sums(cross: NDArray[np.complex128], sign: float = 1.0) -> BandSums:
        low, high = (
            db(1.0 + sign * 2.0 * float(cross[cut].real.sum()) / whole)
            for cut, whole in zip(cuts, wholes, strict=True)
        )
        return BandSums(low, high)

    def passed(corner_hz: float, on: Literal["a", "b"], sign: float) -> BandSums:
        turn = _response(freqs, corner_hz, rate_hz)
        return sums(common * (turn if on == "b" else np.conj(turn)), sign)

    def total(on: Literal["a", "b"], sign: float, corner_hz: float) -> float:
        return passed(corner_hz, on, sign).both_db

    sides: tuple[Literal["a", "b"], ...] = ("b", "a")
    tried = []
    for on in sides:
        for sign in (1.0, -1.0):
            corner = _best(partial(total, on, sign))
            tried.append((passed(corner, on, sign), corner, sign, on))
    best = max(
        tried, key=lambda one: one[0].both_db - (OTHER_DB if one[3] == "a" else 0.0)
    )  # fmt: skip
    return ByBand(
        split_hz, sums(apart), sums(common), sums(common, -1.0), best[0], best[1],
        1 if best[2] > 0.0 else -1, best[3],
    )  # fmt: skip


def _response(freqs_hz: Real, corner_hz: float, rate_hz: float) -> NDArray[np.complex128]:
    """The all-pass over frequency: its phase is -2 atan(tan(w / 2) / tan(corner / 2))."""
    ratio = np.tan(np.pi * np.minimum(freqs_hz, 0.4999 * rate_hz) / rate_hz)
    ratio /= math.tan(math.pi * corner_hz / rate_hz)
    return np.asarray((1.0 - 1j * ratio) / (1.0 + 1j * ratio))


def _best(figure: Callable[[float], float]) -> float:
    """The corner at which a figure is highest: a grid, then a finer one around its best."""
    grid = np.geomspace(*SEARCHED_HZ, SEARCHED)
    for _ in range(3):
        values = [figure(float(hz)) for hz in grid]
        at = int(np.argmax(values))
        low, high = grid[max(0, at - 1)], grid[min(grid.size - 1, at + 1)]
        grid = np.geomspace(low, high, 11)
    values = [figure(float(hz)) for hz in grid]
    return float(grid[int(np.argmax(values))])
