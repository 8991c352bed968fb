"""The quietest stretch of a recording: what its noise is at most.

A take seldom holds seconds of silence, but nearly always a moment before the first note or
between two. What is measured there bounds the noise from above; it claims no more.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.units import gain_to_db

STRETCH_S = 0.3
HOPS = 3
"""A stretch is this many hops long and begins with any of them."""


class QuietestMeter:
    """The RMS (after AES17) of the quietest 0.3 s, in any order of blocks. Stretches of exact
    zeros do not count: digital silence is a gap or a mute, and no noise."""

    def __init__(self, rate_hz: int) -> None:
        self._hop = max(1, int(STRETCH_S * rate_hz / HOPS))
        self._rest = np.zeros(0)
        self._squares: list[float] = []
        self._least: float | None = None

    def add(self, block: NDArray[np.floating]) -> None:
        """Mono samples."""
        samples = np.concatenate([self._rest, np.asarray(block, dtype=np.float64)])
        whole = samples.size // self._hop
        rows = samples[: whole * self._hop].reshape(whole, self._hop)
        self._rest = samples[whole * self._hop :]
        # The mean goes: a converter's offset is heard by nobody.
        for square in np.var(rows, axis=1).tolist():
            self._squares = [*self._squares, square][-HOPS:]
            if len(self._squares) == HOPS and min(self._squares) > 0.0:
                mean = sum(self._squares) / HOPS
                self._least = mean if self._least is None else min(self._least, mean)

    def reading(self) -> float | None:
        """dBFS; None where no stretch of 0.3 s holds sound."""
        return None if self._least is None else gain_to_db(float(np.sqrt(2.0 * self._least)))
