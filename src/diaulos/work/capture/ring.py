"""The bounded buffer between an audio callback and a thread, in either direction.

One side puts, one side takes, and neither ever waits for a lock of the other: each side
writes one counter only and reads the other's, so that a thread that is held up holds up no
callback. Memory is set aside once. What does not fit is dropped whole and its place told, so
that it can be counted, marked and never hidden.
"""

from __future__ import annotations

import time
from collections import deque

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass

Array32 = NDArray[np.float32]

RING_S = 4.0
"""Seconds of all tracks that the buffer holds: a writer may stall for half of it and more."""
LOOK_S = 0.002
"""How often a side that waits looks again; far below a block of any usual size."""


@dataclass(frozen=True)
class Taken:
    """A stretch that was taken: frames as they came, how many came before them (what was lost is
    not among those), and how many were lost right before it."""

    samples: Array32
    first: int
    lost: int


class Ring:
    """Frames of several channels in order: one thread or callback puts, one takes."""

    def __init__(self, frames: int, channels: int) -> None:
        self._data: Array32 = np.zeros((frames, channels), np.float32)
        self._size = frames
        # Written by the side that puts:
        self._written = 0  # frames put in, ever
        self._lost = 0  # frames dropped, ever
        self._losing = 0  # frames dropped since the last that were put in
        self._gaps: deque[tuple[int, int]] = deque()
        """(frames put in before it, frames lost) of drops that nobody has taken yet."""
        # Written by the side that takes:
        self._read = 0  # frames taken out, ever
        self._closed = False

    @property
    def nbytes(self) -> int:
        """Memory that it holds."""
        return int(self._data.nbytes)

    @property
    def lost(self) -> int:
        """Frames dropped so far."""
        return self._lost

    @property
    def there(self) -> int:
        """Frames that can be taken."""
        return self._written - self._read

    @property
    def closed(self) -> bool:
        """Whether nothing more comes."""
        return self._closed

    # --- the side that puts ---

    def put(self, samples: NDArray[np.floating], *, wait: bool = False) -> bool:
        """Append frames; False when they did not fit and are lost. With `wait` it waits for
        room in place of losing (a source that is not in real time)."""
        count = samples.shape[0]
        while wait and not self._closed and self._size - self.there < count:
            time.sleep(LOOK_S / 4.0)
        if self._closed:
            return False
        if self._size - self.there < count:
            self.lose(count)
            return False
        if self._losing:
            self._gaps.append((self._written, self._losing))
            self._losing = 0
        at = self._written % self._size
        first = min(count, self._size - at)
        self._data[at : at + first] = samples[:first]
        self._data[: count - first] = samples[first:]
        self._written += count  # published last: what lies before it is whole
        return True

    def lose(self, count: int) -> None:
        """Frames that never came."""
        self._lost += count
        self._losing += count

    def close(self) -> None:
        """Nothing more comes; what is there can still be taken. Either side may call it."""
        if self._losing:
            self._gaps.append((self._written, self._losing))
            self._losing = 0
        self._closed = True

    # --- the side that takes ---

    def take(self, most: int) -> Taken | None:
        """The next frames, up to `most` and up to the next gap; waits for them. None when the
        ring is closed and empty."""
        while True:
            closed = self._closed  # read first: what came before closing is not passed over
            found = self.poll(most)
            if found is not None:
                return found
            if closed:
                return None
            time.sleep(LOOK_S)

    def poll(self, most: int) -> Taken | None:
        """As `take`, without waiting: None when there is nothing now."""
        lost = 0
        while self._gaps and self._gaps[0][0] == self._read:
            lost += self._gaps.popleft()[1]
        there = self.there
        if there == 0:
            return None if not lost else Taken(self._data[:0], self._read, lost)
        count = min(there, most)
        if self._gaps:
            count = min(count, self._gaps[0][0] - self._read)
        at = self._read % self._size
        first = min(count, self._size - at)
        samples = np.concatenate([self._data[at : at + first], self._data[: count - first]])
        begun = self._read
        self._read += count
        return Taken(samples, begun, lost)

    def skip(self, count: int) -> int:
        """Pass over frames that are there; how many were passed over."""
        count = min(count, self.there)
        self._read += count
        return count
