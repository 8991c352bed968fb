"""The loop itself: a mono track goes out through a stream and its return is recorded.

Three parties as in any recording: the stream's callback, a writer in its own thread, and
whoever asked. Between callback and writer lies a bounded queue ended by a sentinel; a
stream in real time drops what does not fit and counts it, one that is not waits.
"""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.units import db_to_gain
from diaulos.work.ports import (
    AudioBackend,
    AudioSink,
    Block,
    BlockStatus,
    BlockTime,
    CancelToken,
    Progress,
    StreamSpec,
)

QUEUE_BLOCKS = 256
"""5 s of blocks of 1,024 frames at 48 kHz."""


BLOCK_FRAMES = 1024


TAIL_S = 0.5
"""Recorded beyond the end of the track: the loop's delay and the ring of what is in it."""


@dataclass(frozen=True)
class LoopResult:
    """What came back."""

    frames: int
    xruns: int


class _Writer:
    """Takes blocks from a queue and writes them, until the sentinel."""

    def __init__(self, sink: AudioSink) -> None:
        self.error: BaseException | None = None
        self._sink = sink
        self._queue: queue.Queue[NDArray[np.float32] | None] = queue.Queue(QUEUE_BLOCKS)
        self._thread = threading.Thread(target=self._run, name="take writer", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        while (block := self._queue.get()) is not None:
            if self.error is not None:
                continue  # keep emptying, so that the callback never hangs
            try:
                self._sink.write(block)
            except BaseException as error:
                self.error = error

    def put(self, block: NDArray[np.float32], *, wait: bool) -> bool:
        """Hand over a block; False when there was no room."""
        try:
            self._queue.put(block, block=wait)
        except queue.Full:
            return False
        return True

    def finish(self) -> None:
        """Wait until all is written; raise what the writing raised."""
        self._queue.put(None)
        self._thread.join()
        if self.error is not None:
            raise self.error


def run_loop(
    backend: AudioBackend,
    track: Iterable[NDArray[np.float32]],
    frames: int,
    rate_hz: int,
    send_gain_db: float,
    sink: AudioSink,
    progress: Progress,
    cancel: CancelToken,
    block_frames: int = BLOCK_FRAMES,
) -> LoopResult:
    """Send a track (mono blocks, `frames` in all) and record what comes back into `sink`.

    The sink's first sample is of the moment when the track's first sample was handed to
    the stream. The sink is left open. Raises CancelledError, StorageError,
    AudioDeviceError; the caller throws the sink away then.
    """
    gain = np.float32(db_to_gain(send_gain_db))
    reader = _Rechunked(iter(track), block_frames)
    writer = _Writer(sink)
    total = frames + int(TAIL_S * rate_hz) + 4 * block_frames
    xruns = 0
    failure: list[BaseException] = []
    realtime = [False]

    def callback(
        inputs: Block, outputs: Block, count: int, time: BlockTime, status: BlockStatus
    ) -> bool:
        nonlocal xruns
        try:
            cancel.check()
            if writer.error is not None:
                return False
            sent = reader.next_block()
            outputs[: sent.size, 0] = sent * gain
            kept = min(count, total - time.frame)
            back = inputs[:kept, 0].astype(np.float32)
            fits = writer.put(back, wait=not realtime[0])
            xruns += (not fits) + status.input_overflow + status.output_underflow
            done = time.frame + count
            if (done // count) % 16 == 0:
                progress(min(1.0, done / total), "Reamping")
            return done < total
        except BaseException as error:
            failure.append(error)
            return False

    stream = None
    try:
        spec = StreamSpec(rate_hz=rate_hz, block_frames=block_frames)
        stream = backend.open(spec, callback)
        realtime[0] = stream.info.realtime
        stream.run()
    finally:
        try:
            writer.finish()
        except BaseException as error:
            failure.append(error)
    if failure:
        raise failure[0]
    return LoopResult(sink.frames, xruns + stream.xruns)


class _Rechunked:
    """Blocks of any size as blocks of one size; the last ones shorter, then empty."""

    def __init__(self, blocks: Iterator[NDArray[np.float32]], size: int) -> None:
        self._blocks = blocks
        self._size = size
        self._rest: NDArray[np.float32] = np.zeros(0, dtype=np.float32)

    def next_block(self) -> NDArray[np.float32]:
        while self._rest.size < self._size:
            more = next(self._blocks, None)
            if more is None:
                break
            self._rest = np.concatenate([self._rest, more])
        out, self._rest = self._rest[: self._size], self._rest[self._size :]
        return out
