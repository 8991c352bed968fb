"""Clipping of a recorded channel: at the rails of its word length, and flat tops below them.

Conventions. Samples are floats with full scale at 1. A file of b bits holds whole numbers from
-2^(b-1) to 2^(b-1)-1; a sample is at full scale when it is at least 2^(b-1)-1 of them at
either rail: what clips there has nowhere else to go.

Quantities
- `full_scale(bits)`: the smallest magnitude that counts as full scale.
- `FlatTops`: runs of samples that lie flat at one extreme of a channel, below full scale:
  what an analog stage ahead of the converter leaves when it clips.

Flat tops. Let M be the extreme of one sign and d a band below it (0.5 % of M, at least two
steps of the word length). A run of n samples inside the band is flat when the signal falls by
more than 6 d within n/4 samples on both sides of it. A rounded top does not do that, however
low and slow it is: for a parabola the fall is 1.25 d at any amplitude, frequency and word
length, for a corner 0.5 d, for a fourth power 4 d. Three such runs at one extreme make a fault:
one peak may be odd, a limit is met again and again. Noise of more than the band hides them.
Common practice, no source; the criterion is ours.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

BAND = 0.005
STEPS = 2.0
FALL = 6.0
LEAST_SAMPLES = 4
LEAST_RUNS = 3
LEAST_STEPS = 16.0
"""An extreme of fewer steps of the word length has no shape to judge."""
MOST_CARRIED = 65_536
AROUND = 2_048
DEFAULT_BITS = 24


def full_scale(bits: int | None) -> float:
    """The smallest magnitude that counts as full scale, in 0 to 1; floats as 24 bit.

    Parameters
    ----------
    bits
        Bits of the file's samples, 8 to 32; None for floats.

    Returns
    -------
    1 - 2^-(bits-1): 32 767 of 32 768 in 16 bit.

    Raises
    ------
    ValueError
        For under 2 bits.
    """
    bits = DEFAULT_BITS if bits is None else bits
    if bits < 2:
        raise ValueError(f"{bits} bits hold no audio; 8 to 32 are expected")
    return 1.0 - 2.0 ** -(min(bits, DEFAULT_BITS) - 1)


class FlatTops:
    """One channel; `add` takes blocks of any size, `runs` says how many flat tops were found."""

    def __init__(self, bits: int | None = None) -> None:
        step = 2.0 ** -((DEFAULT_BITS if bits is None else bits) - 1)
        limit = full_scale(bits)
        self._sides = (_Side(1.0, step, limit), _Side(-1.0, step, limit))

    def add(self, samples: NDArray[np.floating]) -> None:
        """The next block."""
        x = np.asarray(samples, dtype=np.float64)
        for side in self._sides:
            side.add(x)

    @property
    def runs(self) -> int:
        """Flat runs at both extremes so far, 0 where there are too few to speak of a limit."""
        return sum(side.found for side in self._sides)


class ClipCounter:
    """Both kinds of clipping of one channel, as it passes by."""

    def __init__(self, bits: int | None = None) -> None:
        self._limit, self._flat = full_scale(bits), FlatTops(bits)
        self.samples = 0
        """At full scale of the word length."""

    @property
    def flat_tops(self) -> int:
        """Flat runs below full scale."""
        return self._flat.runs

    def add(self, samples: NDArray[np.floating]) -> None:
        """The next block."""
        self.samples += int(np.count_nonzero(np.abs(samples) >= self._limit))
        self._flat.add(samples)


class _Side:
    """The extreme of one sign."""

    def __init__(self, sign: float, step: float, limit: float) -> None:
        self._sign, self._step, self._limit = sign, step, limit
        self._top = 0.0
        self._runs = 0
        self._carried = np.zeros(0)
        self._judged = 0
        """Samples at the head of what is carried whose runs are counted already."""

    @property
    def found(self) -> int:
        beyond = self._top >= self._limit or self._top < LEAST_STEPS * self._step
        return 0 if beyond or self._runs < LEAST_RUNS else self._runs

    @property
    def _band(self) -> float:
        return max(BAND * self._top, STEPS * self._step)

    def add(self, samples: NDArray[np.float64]) -> None:
        x = np.concatenate([self._carried, self._sign * samples])
        top = float(x.max(initial=0.0))
        if top > self._top:
            if top > self._top + self._band:
                self._runs = 0  # what lay flat below was not the extreme
            self._top = top
        inside = x >= self._top - self._band
        if self._top < LEAST_STEPS * self._step or not inside.any():
            self._keep(x, x.size)
            return
        edges = np.flatnonzero(np.diff(np.concatenate([[0], inside.astype(np.int8), [0]])))
        open_at = x.size
        for first, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
            reach = max(1, (end - first) // 4)
            if end + reach >= x.size and end - first < MOST_CARRIED // 4:
                open_at = min(open_at, first)  # its end, or what follows, is not there yet
                break
            if first < self._judged or end - first < LEAST_SAMPLES or first < reach:
                continue
            level = self._top - self._band
            before, after = x[first - reach], x[min(end - 1 + reach, x.size - 1)]
            self._runs += int(level - max(before, after) > FALL * self._band)
        self._keep(x, open_at)

    def _keep(self, x: NDArray[np.float64], open_at: int) -> None:
        """Carry on from the first run that is not judged yet, and some samples before it."""
        start = max(0, open_at - AROUND, x.size - MOST_CARRIED)
        self._judged = max(0, open_at - start)
        self._carried = x[start:]
