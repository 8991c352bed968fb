"""The bounded buffer between the audio callback and the writer.

One side puts, one side takes; memory is set aside once. What does not fit is dropped whole
and its place told, so that it can be counted, marked and never hidden.
"""

from __future__ import annotations

import threading
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array32 = NDArray[np.float32]


RING_S = 4.0
"""Seconds of all tracks that the buffer holds: a writer may stall for half of it and more."""


@dataclass(frozen=True)
class Taken:
    """A stretch that was taken: frames as they came, the frame of the first one in the
    recording, and how many were lost right before it."""

    samples: Array32
    first: int
    lost: int


class Ring:
    """Frames of several channels in order. `put` never waits unless it is asked to."""

    def __init__(self, frames: int, channels: int) -> None:
        self._data: Array32 = np.zeros((frames, channels), np.float32)
        self._size = frames
        self._written = 0  # frames put in, ever
        self._read = 0  # frames taken out, ever
        self._lost = 0  # frames dropped, ever
        self._gaps: list[tuple[int, int]] = []
        """(frames put in before it, frames lost) of drops that nobody has taken yet."""
        self._closed = False
        self._changed = threading.Condition()

    @property
    def nbytes(self) -> int:
        """Memory that it holds."""
        return int(self._data.nbytes)

    @property
    def lost(self) -> int:
        """Frames dropped so far."""
        return self._lost

    def put(self, samples: NDArray[np.floating], *, wait: bool = False) -> bool:
        """Append frames; False when they did not fit and are lost. With `wait` it waits for
        room in place of losing (a source that is not in real time)."""
        count = samples.shape[0]
        with self._changed:
            if wait:
                self._changed.wait_for(
                    lambda: self._closed or self._size - (self._written - self._read) >= count
                )
            if self._closed:
                return False
            if self._size - (self._written - self._read) < count:
                self._lost += count
                if self._gaps and self._gaps[-1][0] == self._written:
                    self._gaps[-1] = (self._written, self._gaps[-1][1] + count)
                else:
                    self._gaps.append((self._written, count))
                return False
            at = self._written % self._size
            first = min(count, self._size - at)
            self._data[at : at + first] = samples[:first]
            self._data[: count - first] = samples[first:]
            self._written += count
            self._changed.notify_all()
        return True

    def take(self, most: int) -> Taken | None:
        """The next frames, up to `most` and up to the next gap; waits for them. None when the
        ring is closed and empty."""
        with self._changed:
            self._changed.wait_for(lambda: self._closed or self._written > self._read)
            lost = 0
            if self._gaps and self._gaps[0][0] == self._read:
                lost = self._gaps.pop(0)[1]
            there = self._written - self._read
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
            self._changed.notify_all()
            return Taken(samples, begun, lost)

    def close(self) -> None:
        """Nothing more comes; what is there can still be taken."""
        with self._changed:
            self._closed = True
            self._changed.notify_all()
