"""Raising and lowering the sample rate by a whole factor around a nonlinearity.

Both filters are one windowed sinc in polyphase form. 16 frames at a time become one
matrix product (a banded matrix that the linear-algebra library multiplies far faster
than a sample-by-sample filter), so any block size gives the same result.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

FRAMES = 16
TAPS_PER_PHASE = 64
"""With CUTOFF: flat within 0.01 dB to 0.39 of the base rate, below -95 dB from 0.5, so that
nothing folds back even next to half the rate."""
CUTOFF = 0.445

Array = NDArray[np.floating[Any]]


@lru_cache(maxsize=8)
def prototype(factor: int) -> NDArray[np.float64]:
    """Low-pass at CUTOFF of the base rate for a raised rate; sums to `factor`.

    Parameters
    ----------
    factor
        How many times the rate, 2 to 16.

    Returns
    -------
    FIR, sums to `factor`.
    """
    length = TAPS_PER_PHASE * factor
    at = np.arange(length) - (length - 1) / 2.0
    taps = np.sinc(2.0 * CUTOFF * at / factor) * np.kaiser(length, 9.5)
    return np.asarray(taps * (factor / taps.sum()))


@lru_cache(maxsize=8)
def _up_matrix(factor: int, dtype: Any) -> Array:
    taps = prototype(factor)
    matrix = np.zeros((FRAMES + TAPS_PER_PHASE - 1, FRAMES * factor), dtype=dtype)
    for frame in range(FRAMES):
        for phase in range(factor):
            branch = taps[phase::factor][::-1]
            matrix[frame : frame + TAPS_PER_PHASE, frame * factor + phase] = branch
    return matrix


@lru_cache(maxsize=8)
def _down_matrix(factor: int, dtype: Any) -> Array:
    taps = prototype(factor)[::-1] / factor
    hop = FRAMES * factor
    parts = -(-(hop + taps.size - factor) // hop)
    matrix = np.zeros((parts * hop, FRAMES), dtype=dtype)
    for frame in range(FRAMES):
        matrix[frame * factor : frame * factor + taps.size, frame] = taps
    return matrix.reshape(parts, hop, FRAMES)


class Oversampler:
    """A static or stateful process run at `factor` times the rate.

    Causal, with a delay of exactly `latency_samples` at the base rate.
    """

    def __init__(self, factor: int, dtype: Any = np.float64) -> None:
        self.factor = factor
        self._dtype = np.dtype(dtype)
        self._up_history = TAPS_PER_PHASE - 1
        self._down_history = TAPS_PER_PHASE * factor - 1

    @property
    def latency_samples(self) -> float:
        """Delay of raising and lowering together, in samples of the base rate."""
        return (TAPS_PER_PHASE * self.factor - 1) / self.factor

    def initial_state(self) -> tuple[Array, Array]:
        """Silence before the first block."""
        return np.zeros(self._up_history, self._dtype), np.zeros(self._down_history, self._dtype)

    def process(
        self,
        block: Array,
        state: tuple[Array, Array],
        shaper: Callable[[Array], Array],
    ) -> tuple[Array, tuple[Array, Array]]:
        """One block through raising, `shaper` at the high rate, and lowering."""
        before_up, before_down = state
        raised, before_up = self._raise(block, before_up)
        lowered, before_down = self._lower(shaper(raised), before_down)
        return lowered, (before_up, before_down)

    def _raise(self, block: Array, history: Array) -> tuple[Array, Array]:
        rows = -(-block.size // FRAMES)
        padded = np.zeros(history.size + rows * FRAMES, self._dtype)
        padded[: history.size] = history
        padded[history.size : history.size + block.size] = block
        matrix = _up_matrix(self.factor, self._dtype)
        windows = np.lib.stride_tricks.as_strided(
            padded,
            (rows, matrix.shape[0]),
            (FRAMES * padded.strides[0], padded.strides[0]),
            writeable=False,
        )
        out = windows @ matrix
        kept = padded[block.size : block.size + history.size].copy()
        return out.reshape(-1)[: block.size * self.factor], kept

    def _lower(self, raised: Array, history: Array) -> tuple[Array, Array]:
        frames = raised.size // self.factor
        rows = -(-frames // FRAMES)
        hop = FRAMES * self.factor
        matrix = _down_matrix(self.factor, self._dtype)
        padded = np.zeros((rows + len(matrix) - 1) * hop, self._dtype)
        padded[: history.size] = history
        padded[history.size : history.size + raised.size] = raised
        # Long windows overlap much: part by part nothing is copied for the product.
        pieces = padded.reshape(-1, hop)
        out = pieces[:rows] @ matrix[0]
        for part in range(1, len(matrix)):
            out += pieces[part : part + rows] @ matrix[part]
        kept = padded[raised.size : raised.size + history.size].copy()
        return out.reshape(-1)[:frames], kept
