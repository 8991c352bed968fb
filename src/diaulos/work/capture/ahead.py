"""What is played while something is recorded, made ahead of the audio callback.

A thread makes blocks (a mix read from disk, a click, a DI at its send gain) and puts them into
a ring; the callback only copies. Where the thread is late in real time, silence is heard and
counted; as fast as it goes, the callback waits.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from diaulos.work.capture.ring import LOOK_S, Ring
from diaulos.work.ports import Block

READ_FRAMES = 4_096
"""A usual length of the blocks that are made: long enough that a disk is asked seldom."""
AHEAD_S = 2.0


class Ahead:
    """Blocks of (frames, channels) as they are heard, from the stream's frame 0 on; silence
    when they end. Used once."""

    def __init__(self, blocks: Iterable[NDArray[np.floating]], channels: int, rate_hz: int) -> None:
        self._blocks = blocks
        self._ring = Ring(max(int(AHEAD_S * rate_hz), 2 * READ_FRAMES), channels)
        self._heard = 0
        self._thread: threading.Thread | None = None
        self.error: BaseException | None = None
        self.late_frames = 0

    def start(self) -> None:
        """Begin to make them; the first block is there when this returns."""
        ready = threading.Event()
        self._thread = threading.Thread(
            target=self._run, args=(ready,), name="read ahead", daemon=True
        )
        self._thread.start()
        ready.wait(5.0)

    def close(self) -> None:
        """Let go of the thread."""
        self._ring.close()
        if self._thread is not None:
            self._thread.join(5.0)

    def _run(self, ready: threading.Event) -> None:
        try:
            for block in self._blocks:
                for first in range(0, block.shape[0], READ_FRAMES):
                    if not self._ring.put(block[first : first + READ_FRAMES], wait=True):
                        return
                    ready.set()
        except BaseException as error:  # told at the end: what is recorded is worth more
            self.error = error
        finally:
            self._ring.close()
            ready.set()

    def fill(self, frame: int, outputs: Block, wait: bool) -> None:
        """Copy what is heard from a frame of the stream on into the outputs. Frames are asked
        for in order; those that were passed over, or came too late, are not heard later: what
        is heard must stay in time with what is recorded."""
        while self._heard < frame:
            gone = self._ring.skip(frame - self._heard)
            self._heard += gone
            if not gone:
                if self._ring.closed or not wait:
                    break
                time.sleep(LOOK_S / 4.0)
        at, count = 0, outputs.shape[0]
        late = frame - self._heard
        while at < count and not late:
            taken = self._ring.poll(count - at)
            if taken is None:
                if self._ring.closed and not self._ring.there:
                    return
                if not wait:
                    break
                time.sleep(LOOK_S / 4.0)
                continue
            got = taken.samples.shape[0]
            outputs[at : at + got] = taken.samples
            at, self._heard = at + got, self._heard + got
        if not self._ring.closed or self._ring.there:
            self.late_frames += count - at
