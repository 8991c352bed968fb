"""What plays while the next part is recorded, read ahead of the audio callback.

A thread keeps blocks of the mix ready, so that the callback never waits for a disk. Where it
is late in real time, silence is heard and counted; as fast as it goes, the callback waits.
"""

from __future__ import annotations

import queue
import threading

import numpy as np
from numpy.typing import NDArray

from diaulos.work.blocks import ReadStereo
from diaulos.work.ports import Block

READ_FRAMES = 4_096


AHEAD_S = 2.0


class Backing:
    """A mix that is played from `first` on; with `loop` (first, end) it comes round again and
    again from the moment it reaches the end."""

    def __init__(
        self, read: ReadStereo, first: int, loop: tuple[int, int] | None, rate_hz: int
    ) -> None:
        self._read, self._first, self._loop = read, first, loop
        self._blocks: queue.Queue[tuple[int, NDArray[np.float32]]] = queue.Queue(
            max(2, int(AHEAD_S * rate_hz / READ_FRAMES))
        )
        self._rest, self._rest_at = np.zeros((0, 2), np.float32), 0
        self._done = threading.Event()
        self._thread: threading.Thread | None = None
        self.error: BaseException | None = None
        self.late_frames = 0

    def start(self) -> None:
        """Begin to read; the first block is there when this returns."""
        ready = threading.Event()
        self._thread = threading.Thread(
            target=self._run, args=(ready,), name="backing reader", daemon=True
        )
        self._thread.start()
        ready.wait(5.0)

    def close(self) -> None:
        """Let go of the thread."""
        self._done.set()
        if self._thread is not None:
            self._thread.join(5.0)

    def place(self, frame: int) -> int:
        """The frame of the take that is heard `frame` frames after the beginning."""
        at = self._first + frame
        if self._loop is None or at < self._loop[1]:
            return at
        first, end = self._loop
        return first + (at - first) % (end - first)

    def _run(self, ready: threading.Event) -> None:
        played = 0
        try:
            while not self._done.is_set():
                at = self.place(played)
                count = READ_FRAMES
                if self._loop is not None:
                    count = min(count, self._loop[1] - at)
                block = played, self._read(at, count)
                played += count
                while not self._done.is_set():
                    try:
                        self._blocks.put(block, timeout=0.05)
                        break
                    except queue.Full:
                        ready.set()
                ready.set()
        except BaseException as error:  # told at the end: what is recorded is worth more
            self.error = error
        finally:
            ready.set()

    def fill(self, frame: int, outputs: Block, wait: bool) -> None:
        """Add what is heard from `frame` on, counted from the beginning, to the outputs; a mono
        output gets the mean of both sides. Frames are asked for in order."""
        at, count = 0, outputs.shape[0]
        while at < count:
            if not self._rest.size and not self._next(wait):
                self.late_frames += count - at
                return
            # What came too late is not heard later: it must stay in time with the recording.
            gone = max(0, frame + at - self._rest_at)
            here = self._rest[gone : gone + count - at]
            if outputs.shape[1] == 1:
                outputs[at : at + here.shape[0], 0] += here.mean(axis=1)
            else:
                outputs[at : at + here.shape[0], :2] += here
            at += here.shape[0]
            used = min(self._rest.shape[0], gone + here.shape[0])
            self._rest, self._rest_at = self._rest[used:], self._rest_at + used

    def _next(self, wait: bool) -> bool:
        while True:
            try:
                got = self._blocks.get(timeout=0.1) if wait else self._blocks.get_nowait()
            except queue.Empty:
                alive = self._thread is not None and self._thread.is_alive()
                if wait and alive and not self._done.is_set():
                    continue
                return False
            self._rest_at, self._rest = got
            return True
