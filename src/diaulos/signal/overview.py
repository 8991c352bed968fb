"""Waveform overviews: the lowest and highest sample of every stretch, in a pyramid.

Level 0 holds stretches of BASE samples, each level above four of the one below. Drawing
reads at most a few values per pixel from the level that fits.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass

BASE = 64
STEP = 4
THREADS = 2
WORTH_A_THREAD = 524_288
"""Samples that are handed over at once: of fewer, handing over costs more than it brings."""
PIECE = 65_536
"""Samples that are worked on at once: as much as stays near the processor."""

Array32 = NDArray[np.float32]


@dataclass(frozen=True)
class Overview:
    """Lowest and highest values per stretch, one pair of arrays per level."""

    frames: int
    low: tuple[Array32, ...]
    high: tuple[Array32, ...]

    def columns(self, first: float, last: float, count: int) -> tuple[Array32, Array32]:
        """Lowest and highest of `count` equal columns between two frames.

        Columns outside the audio are zero.
        """
        per_column = max((last - first) / max(count, 1), 1e-9)
        level = 0
        while level + 1 < len(self.low) and BASE * STEP ** (level + 1) <= per_column:
            level += 1
        stretch = BASE * STEP**level
        edges = first + per_column * np.arange(count + 1)
        size = self.low[level].size
        starts = np.clip(np.floor(edges[:-1] / stretch), 0, size).astype(np.int64)
        stops = np.clip(np.ceil(edges[1:] / stretch), 0, size).astype(np.int64)
        low = _reduce(np.minimum, self.low[level], starts, stops)
        high = _reduce(np.maximum, self.high[level], starts, stops)
        return low, high


def _reduce(function: Any, values: Array32, starts: Any, stops: Any) -> Array32:
    out = np.zeros(starts.size, dtype=np.float32)
    inside = stops > starts
    if inside.any():
        pairs = np.stack([starts[inside], stops[inside]], axis=1).reshape(-1)
        padded = np.append(values, np.float32(0.0))
        out[inside] = function.reduceat(padded, np.minimum(pairs, values.size))[::2]
    return out


def build_overview(blocks: Iterable[Array32]) -> Overview:
    """The pyramid of a mono signal given in blocks of any size.

    Parameters
    ----------
    blocks
        Blocks of any size, each of shape (frames,). Threads work on them: what one held must not
        be written over by the next.

    Returns
    -------
    Lowest and highest by stretches of 256 x 4^k.
    """
    found: list[tuple[Array32, Array32]] = [_ends(np.zeros((0, BASE), np.float32))]
    under_way: deque[Future[list[tuple[Array32, Array32]]]] = deque()
    waiting: list[Array32] = []
    rest = np.zeros(0, dtype=np.float32)
    frames = 0
    with ThreadPoolExecutor(THREADS) as pool:
        for block in blocks:
            frames += block.size
            joined = np.concatenate([rest, block]) if rest.size else block
            whole = joined.size // BASE
            waiting.append(joined[: whole * BASE].reshape(whole, BASE))
            rest = joined[whole * BASE :].copy()
            if sum(rows.size for rows in waiting) >= WORTH_A_THREAD:
                under_way.append(pool.submit(_all_ends, waiting))
                waiting = []
                # No more of it in memory than is worked on.
                while len(under_way) > 2 * THREADS:
                    found += under_way.popleft().result()
        for one in under_way:
            found += one.result()
    found += _all_ends(waiting)
    if rest.size:
        found.append((rest.min(keepdims=True), rest.max(keepdims=True)))
    return pyramid(
        frames,
        np.concatenate([low for low, _ in found]),
        np.concatenate([high for _, high in found]),
    )


def _all_ends(blocks: list[Array32]) -> list[tuple[Array32, Array32]]:
    step = PIECE // BASE
    return [_ends(rows[at : at + step]) for rows in blocks for at in range(0, rows.shape[0], step)]


def _ends(rows: Array32) -> tuple[Array32, Array32]:
    """The lowest and the highest of every row. Reducing along the long axis of a transposed copy is
    several times faster; turning two samples at a time, half the copying."""
    count = rows.shape[0]
    pairs = np.ascontiguousarray(np.ascontiguousarray(rows).view(np.complex64).T)
    turned = pairs.view(np.float32).reshape(BASE // 2, 2 * count)
    low = turned.min(axis=0, initial=np.inf).reshape(count, 2)
    high = turned.max(axis=0, initial=-np.inf).reshape(count, 2)
    return np.minimum(low[:, 0], low[:, 1]), np.maximum(high[:, 0], high[:, 1])


def pyramid(frames: int, lowest: Array32, highest: Array32) -> Overview:
    """The overview from its level 0: the lowest and highest of every stretch of BASE samples.
    ValueError where their number does not fit the frames.

    Parameters
    ----------
    frames
        Frames in all.
    lowest
        Lowest sample of every stretch.
    highest
        Highest sample of every stretch.

    Returns
    -------
    The overview.

    Raises
    ------
    ValueError
        Where their number does not fit the frames.
    """
    if lowest.shape != highest.shape or lowest.shape != (-(-frames // BASE),):
        raise ValueError(f"{lowest.shape} stretches do not make up {frames} frames")
    low, high = [lowest.astype(np.float32)], [highest.astype(np.float32)]
    while low[-1].size > 2048:
        edges = np.arange(0, low[-1].size, STEP)
        low.append(np.minimum.reduceat(low[-1], edges))
        high.append(np.maximum.reduceat(high[-1], edges))
    return Overview(frames, tuple(low), tuple(high))
