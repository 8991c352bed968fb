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
WORTH_A_THREAD = 1_048_576
"""Samples that are handed over at once: of fewer, handing over costs more than it brings."""
ROWS = 1_024
"""Stretches that are turned together: as much as stays near the processor,"""
TOGETHER = 4
"""and so many of those in one call. Between two calls a thread may have to wait for the
interpreter; with shorter ones two threads were hardly faster than one."""

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
    Lowest and highest by stretches of BASE x STEP^k.
    """
    found: list[tuple[Array32, Array32]] = [(np.zeros(0, np.float32), np.zeros(0, np.float32))]
    under_way: deque[Future[list[tuple[Array32, Array32]]]] = deque()
    waiting: list[Array32] = []
    rest = np.zeros(0, dtype=np.float32)
    frames = 0
    # One each for the threads and for what is left at the end: memory that is fresh costs time.
    rooms = [_room() for _ in range(THREADS + 1)]
    with ThreadPoolExecutor(THREADS) as pool:
        for block in blocks:
            frames += block.size
            joined = np.concatenate([rest, block]) if rest.size else block
            whole = joined.size // BASE * BASE
            rest = joined[whole:].copy()
            for at in range(0, whole, WORTH_A_THREAD):
                rows = joined[at : min(whole, at + WORTH_A_THREAD)].reshape(-1, BASE)
                waiting.append(np.ascontiguousarray(rows))
                if sum(one.size for one in waiting) >= WORTH_A_THREAD:
                    under_way.append(pool.submit(_all_ends, waiting, rooms))
                    waiting = []
                # No more of it in memory than is worked on.
                while len(under_way) > 2 * THREADS:
                    found += under_way.popleft().result()
        for one in under_way:
            found += one.result()
    found += _all_ends(waiting, rooms)
    if rest.size:
        found.append((rest.min(keepdims=True), rest.max(keepdims=True)))
    return pyramid(
        frames,
        np.concatenate([low for low, _ in found]),
        np.concatenate([high for _, high in found]),
    )


def _room() -> NDArray[np.complex64]:
    """Where stretches are turned: groups of ROWS, two samples of all in a line."""
    return np.empty((TOGETHER, BASE // 2, ROWS), np.complex64)


def _all_ends(
    blocks: list[Array32], rooms: list[NDArray[np.complex64]]
) -> list[tuple[Array32, Array32]]:
    """The lowest and the highest of every row. Reducing along the long axis of a transposed copy is
    several times faster; turning two samples at a time, half the copying."""
    room = rooms.pop()
    found, filled = [], 0
    for rows in blocks:
        pairs = rows.view(np.complex64)
        at = 0
        while at < pairs.shape[0]:
            (group, beside), left = divmod(filled, ROWS), pairs.shape[0] - at
            if beside or left < ROWS:
                taken = min(ROWS - beside, left)
                room[group, :, beside : beside + taken] = pairs[at : at + taken].T
            else:
                groups = min(TOGETHER - group, left // ROWS)
                taken = groups * ROWS
                whole = pairs[at : at + taken].reshape(groups, ROWS, BASE // 2)
                room[group : group + groups] = whole.transpose(0, 2, 1)
            at, filled = at + taken, filled + taken
            if filled == TOGETHER * ROWS:
                found.append(_ends(room))
                filled = 0
    group, beside = divmod(filled, ROWS)
    found += [_ends(room[:group]), _ends(room[group : group + 1, :, :beside])]
    rooms.append(room)
    return found


def _ends(turned: NDArray[np.complex64]) -> tuple[Array32, Array32]:
    samples = turned.view(np.float32)
    low = np.minimum.reduce(samples, axis=1).reshape(-1)
    high = np.maximum.reduce(samples, axis=1).reshape(-1)
    return np.minimum(low[0::2], low[1::2]), np.maximum(high[0::2], high[1::2])


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
        low.append(_by_four(np.minimum, low[-1]))
        high.append(_by_four(np.maximum, high[-1]))
    return Overview(frames, tuple(low), tuple(high))


def _by_four(function: np.ufunc, values: Array32) -> Array32:
    """Every STEP of them as one, and what is left over: ten times as fast as `reduceat`."""
    whole, rest = divmod(values.size, STEP)
    fours = values[: whole * STEP].reshape(whole, STEP)
    out = np.empty(whole + (rest > 0), np.float32)
    function(
        function(fours[:, 0], fours[:, 1]), function(fours[:, 2], fours[:, 3]), out=out[:whole]
    )
    if rest:
        out[whole] = function.reduce(values[whole * STEP :])
    return out
