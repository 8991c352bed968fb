"""Noise worked out ahead of where it is heard, beside what is played.

Noise does not hang on the signal: while one piece is heard the next is drawn on another thread.
A piece is longer than a block, which costs less for each sample. What comes out is what would
come out without it: the generator is asked in the same order.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Real = NDArray[np.float64]
PIECE = 16_384


@lru_cache(maxsize=1)
def _beside() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(max_workers=1, thread_name_prefix="noise")


class NoiseAhead:
    """A stream of noise. `make` gives the next so many samples, and is never called twice at once;
    what it raises is raised where the samples are taken."""

    def __init__(self, make: Callable[[int], Real]) -> None:
        self._make = make
        self._piece: Real = np.empty(0)
        self._at = 0
        self._coming: Future[Real] | None = None
        self._begun = False

    def take(self, count: int) -> Real:
        """The next samples.

        Parameters
        ----------
        count
            How many, 0 and above.

        Returns
        -------
        Noise, shape (count,).
        """
        if not self._begun:
            # Many a sound is one block long: nothing is drawn for what never comes.
            self._begun = True
            return self._make(count)
        out, filled = np.empty(count), 0
        while filled < count:
            if self._at == self._piece.size:
                self._piece, self._at = self._next(), 0
            some = self._piece[self._at : self._at + count - filled]
            out[filled : filled + some.size] = some
            filled += some.size
            self._at += some.size
        return out

    def _next(self) -> Real:
        coming = self._coming
        piece = self._make(PIECE) if coming is None else coming.result()
        self._coming = _beside().submit(self._make, PIECE)
        return piece
