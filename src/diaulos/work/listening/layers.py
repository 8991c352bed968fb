"""Candidates that are switched between at one moment: no gap, no click, no step in level.

All of them are read together, so that a switch needs nothing that is not there already; within one
block the one fades out as the other fades in.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FADE_S = 0.005


class Fader:
    """How loud each of several candidates is just now, on its way to what was asked for."""

    def __init__(self, count: int, rate_hz: float) -> None:
        self._now = np.zeros(count)
        self._step = 1.0 / max(1.0, FADE_S * rate_hz)
        self._begun = False

    def mixed(self, block: NDArray[np.float32], wanted: NDArray[np.float64]) -> NDArray[np.float32]:
        """The candidates of a block (frames, candidates, 2) as one (frames, 2). What is faded in
        first begins at once; after that a change takes 5 ms, along a straight line: candidates of
        one performance add up to one of them."""
        if not self._begun:
            self._now, self._begun = wanted.astype(np.float64), True
        far = wanted - self._now
        if not np.any(far):
            return np.asarray(np.einsum("fkc,k->fc", block, wanted), np.float32)
        steps = np.arange(1, block.shape[0] + 1)[:, None] * self._step
        gains = self._now + np.clip(far, -steps, steps)
        self._now = gains[-1]
        return np.asarray(np.einsum("fkc,fk->fc", block, gains), np.float32)
