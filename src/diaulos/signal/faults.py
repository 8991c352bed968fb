"""Faults of a recorded channel, found block by block: DC, samples at full scale and runs of
them, flat tops below it, stretches of exact zero inside sound."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.clipping import FlatTops, full_scale

RUN = 3
"""Equal samples at full scale in a row that make a run."""
ZEROS = 32
"""Exact zeros in a row, with sound on both sides, that make a dropout."""
AROUND = 64
SOUND = 10.0 ** (-60.0 / 20.0)
"""What counts as sound beside a dropout: a peak of -60 dBFS within 64 samples."""
MOST = 1_000


@dataclass(frozen=True)
class Stretch:
    """First frame and length."""

    frame: int
    frames: int


@dataclass(frozen=True)
class ChannelFaults:
    """What was found. `runs` and `dropouts` hold at most a thousand each; the counts all."""

    dc: float
    full_scale_samples: int
    run_count: int
    runs: tuple[Stretch, ...]
    dropout_count: int
    dropouts: tuple[Stretch, ...]
    flat_tops: int = 0
    """Runs that lie flat at one extreme below full scale: clipped ahead of the converter."""


class FaultFinder:
    """One channel; `add` takes blocks of any size, `finish` says what was found."""

    def __init__(self, bits: int | None = None) -> None:
        """`bits` of the file's samples, None for floats."""
        self._limit, self._flat = full_scale(bits), FlatTops(bits)
        self._frames = 0
        self._sum = 0.0
        self._full = 0
        self._runs: list[Stretch] = []
        self._run_count = 0
        self._open_run = 0
        self._sign = 0.0
        self._zeros = 0
        self._before = 0.0
        self._tail = np.zeros(0)
        self._waiting: list[tuple[Stretch, int, float]] = []
        """Dropouts whose sound behind is not known yet: stretch, samples still to see, peak."""
        self._dropouts: list[Stretch] = []
        self._dropout_count = 0

    def add(self, samples: NDArray[np.floating]) -> None:
        """The next block."""
        x = np.asarray(samples, dtype=np.float64)
        if x.size == 0:
            return
        self._sum += float(x.sum())
        self._flat.add(x)
        self._find_runs(x)
        self._find_zeros(x)
        self._frames += x.size

    def finish(self) -> ChannelFaults:
        """What was found in all."""
        self._close_run(self._frames)
        return ChannelFaults(
            self._sum / max(1, self._frames),
            self._full,
            self._run_count,
            tuple(self._runs),
            self._dropout_count,
            tuple(self._dropouts),
            self._flat.runs,
        )

    def _find_runs(self, x: NDArray[np.float64]) -> None:
        full = np.abs(x) >= self._limit
        self._full += int(full.sum())
        if not full.any() and not self._open_run:
            return
        at = np.flatnonzero(full)
        if self._open_run and (at.size == 0 or at[0] != 0 or np.sign(x[0]) != self._sign):
            self._close_run(self._frames)
        if at.size == 0:
            return
        signs = np.sign(x[at])
        new = np.ones(at.size, bool)
        new[1:] = (np.diff(at) != 1) | (np.diff(signs) != 0)
        starts = np.flatnonzero(new)
        ends = np.append(starts[1:], at.size)
        for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
            first, length = int(at[start]), end - start
            if start == 0 and self._open_run and first == 0:
                length += self._open_run
                first -= self._open_run
            self._open_run = 0
            if first + length == x.size:
                self._open_run, self._sign = length, float(signs[start])
            else:
                self._keep_run(self._frames + first, length)

    def _close_run(self, end: int) -> None:
        if self._open_run:
            self._keep_run(end - self._open_run, self._open_run)
            self._open_run = 0

    def _keep_run(self, first: int, length: int) -> None:
        if length >= RUN:
            self._run_count += 1
            if len(self._runs) < MOST:
                self._runs.append(Stretch(first, length))

    def _find_zeros(self, x: NDArray[np.float64]) -> None:
        zero = x == 0.0
        edges = np.flatnonzero(np.diff(np.concatenate([[False], zero, [False]]).astype(np.int8)))
        begun = 0
        joined = np.concatenate([self._tail, np.abs(x)])
        offset = self._tail.size
        for start, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
            if start > 0:
                self._settle(joined[offset + begun : offset + start])
            length = end - start
            if start == 0 and self._zeros:
                length += self._zeros
            elif start > 0 or not self._zeros:
                around = joined[max(0, offset + start - AROUND) : offset + start]
                self._before = float(around.max(initial=0.0))
            if end == x.size:
                self._zeros = length
            else:
                self._zeros = 0
                self._end_of_zeros(self._frames + end - length, length)
            begun = end
        if not zero[0] and self._zeros and begun == 0:
            self._end_of_zeros(self._frames - self._zeros, self._zeros)
            self._zeros = 0
        if begun < x.size:
            if not zero[0] and self._zeros:
                self._zeros = 0
            self._settle(joined[offset + begun :])
        self._tail = joined[-AROUND:]

    def _end_of_zeros(self, first: int, length: int) -> None:
        if length >= ZEROS and self._before >= SOUND and first > 0:
            self._waiting.append((Stretch(first, length), AROUND, 0.0))

    def _settle(self, after: NDArray[np.float64]) -> None:
        """Sound that follows decides about the dropouts that wait."""
        still = []
        for stretch, left, peak in self._waiting:
            seen = after[:left]
            peak = max(peak, float(seen.max(initial=0.0)))
            left -= seen.size
            if peak >= SOUND:
                self._dropout_count += 1
                if len(self._dropouts) < MOST:
                    self._dropouts.append(stretch)
            elif left > 0:
                still.append((stretch, left, peak))
        self._waiting = still
