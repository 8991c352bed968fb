"""The one reader of an audio stream: recording, reamping, tuner, strength, calibration and
sound check all read through it.

Three parties. The stream's callback copies every block into a bounded ring and what was made
ahead into the outputs; nothing else happens in it. A consumer takes from the ring in a thread
of its own. Whoever asked waits here, hears how far it is, and may stop it; a device that stops
answering is left behind, and what came until then is kept.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from diaulos.errors import AudioDeviceError
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.ring import RING_S, Ring, Taken
from diaulos.work.ports import (
    AudioBackend,
    Block,
    BlockStatus,
    BlockTime,
    DuplexStream,
    StreamInfo,
    StreamSpec,
)

LOOK_S = 0.02
"""How often whoever asked looks how far it is."""
STOP_S = 0.4
"""How long a stream that was told to stop may take; Cancel answers within half a second."""
LATE_LOOK_S = 0.1
"""A look that comes later than this was held up, and so, perhaps, was the device: of the time
since the last one no more than this counts as the device's silence."""
TAKE_FRAMES = 8_192

Consume = Callable[[Taken], None]
Late = Callable[[StreamInfo], int]
"""How much later than it was played what comes back begins, in frames, of an open stream."""


def not_late(info: StreamInfo) -> int:
    """Nothing that was played is waited for."""
    return 0


class Capture:
    """One stream, read from `start` (a frame of the stream) on, for `frames` or until stopped."""

    def __init__(
        self,
        backend: AudioBackend,
        spec: StreamSpec,
        *,
        start: int = 0,
        frames: int | None = None,
        ahead: Ahead | None = None,
        ring_s: float = RING_S,
        late: Late = not_late,
    ) -> None:
        self._backend, self._spec, self._late = backend, spec, late
        self._start, self._frames, self._ahead = start, frames, ahead
        room = max(int(ring_s * spec.rate_hz), 2 * spec.block_frames)
        self.ring = Ring(room, spec.input_channels)
        self.captured = 0
        """Frames of the recording that the callback has seen."""
        self.xruns = 0
        """Blocks dropped or late, as the driver and the ring tell."""
        self.info: StreamInfo | None = None
        self._expected = 0
        self._ticks = 0
        self._stopping = threading.Event()
        self._ended = threading.Event()
        self._over = False
        self._realtime = False
        self._failure: BaseException | None = None
        self._consumed: BaseException | None = None

    def stop(self) -> None:
        """End it after the block that is under way."""
        self._stopping.set()

    @property
    def stopping(self) -> bool:
        """Whether it was told to end."""
        return self._stopping.is_set()

    def run(
        self,
        consume: Consume,
        on_look: Callable[[], None] = lambda: None,
        wanted: Callable[[], bool] = lambda: False,
    ) -> BaseException | None:
        """Read until it is full, stopped, or something ends it; returns what went wrong.

        `consume` gets stretches in a thread of its own; when it raises, reading ends. `on_look`
        is called some fifty times a second by the thread that calls this; what it raises comes
        out, after all is ended. `wanted` is asked as often: True stops as `stop` does.
        """
        consumer = threading.Thread(
            target=self._consume, args=(consume,), name="take writer", daemon=True
        )
        consumer.start()
        raised: BaseException | None = None
        try:
            stream = self._opened()
            if self._ahead is not None:
                self._ahead.start()
            self._watch(stream, on_look, wanted)
        except BaseException as error:
            raised = error
        self._over = True
        self.ring.close()
        consumer.join()
        if self._ahead is not None:
            self._ahead.close()
        if raised is not None:
            raise raised
        return self._consumed or self._failure

    def _opened(self) -> DuplexStream:
        stream = self._backend.open(self._spec, self._callback)
        self.info = stream.info
        self._realtime = stream.info.realtime
        self._start += stream.info.lead_frames + self._late(stream.info)
        if stream.info.rate_hz != self._spec.rate_hz:
            stream.stop()  # a real one holds ports
            raise AudioDeviceError(
                f"the device runs at {stream.info.rate_hz} Hz, the session at "
                f"{self._spec.rate_hz} Hz.",
                where=self._spec.device,
                remedy="Set the device to the session's rate, or make a session at its rate.",
            )
        return stream

    # --- whoever asked ---

    def _watch(
        self, stream: DuplexStream, on_look: Callable[[], None], wanted: Callable[[], bool]
    ) -> None:
        """Run the stream in a thread of its own and look after it."""
        thread = threading.Thread(
            target=self._run, args=(stream,), name="audio stream", daemon=True
        )
        thread.start()
        patience = stream.info.patience_s
        ticks = stream.info.ticks or (lambda: 0)
        seen, silent_s, looked = (-1, -1), 0.0, time.monotonic()
        told_at: float | None = None
        try:
            while not self._ended.wait(LOOK_S):
                on_look()
                now = time.monotonic()
                life = (self._ticks, ticks())
                silent_s += min(now - looked, LATE_LOOK_S)
                looked = now
                if seen != life:
                    seen, silent_s = life, 0.0
                elif patience is not None and silent_s > patience and told_at is None:
                    self._failure = self._failure or AudioDeviceError(
                        "the device stopped answering.",
                        where=self._spec.device,
                        remedy="Was it unplugged? What came until then is kept.",
                    )
                    self._stopping.set()
                if wanted() or self._consumed is not None:
                    self._stopping.set()
                if self._stopping.is_set() and told_at is None:
                    told_at = now
                    stream.stop()
                if told_at is not None and now - told_at > STOP_S:
                    break  # left behind: its thread ends with the device, or with the process
        except BaseException:
            self._stopping.set()
            stream.stop()
            self._ended.wait(STOP_S)
            raise
        finally:
            self._over = True
        on_look()
        self.xruns = max(self.xruns, stream.xruns)

    def _run(self, stream: DuplexStream) -> None:
        try:
            stream.run()
        except BaseException as error:
            self._failure = self._failure or error
        finally:
            self._ended.set()

    # --- the callback ---

    def _callback(
        self, inputs: Block, outputs: Block, count: int, time: BlockTime, status: BlockStatus
    ) -> bool:
        if self._over:
            return False
        self._ticks += 1
        if status.rate_hz not in (0, self._spec.rate_hz):
            self._failure = AudioDeviceError(
                f"another program set the device to {status.rate_hz} Hz.",
                where=self._spec.device,
                remedy=f"Set it back to {self._spec.rate_hz} Hz. What came until then is kept.",
            )
            return False
        if self._ahead is not None:
            self._ahead.fill(time.frame, outputs, wait=not self._realtime)
        self.xruns += int(status.input_overflow) + int(status.output_underflow)
        end = None if self._frames is None else self._start + self._frames
        # Cycles that the driver left out leave a hole in time: silence stands for them.
        missing = min(time.frame, time.frame if end is None else end) - max(
            self._expected, self._start
        )
        if missing > 0:
            self.ring.lose(missing)
            self.captured += missing
        self._expected = time.frame + count
        first = max(0, self._start - time.frame)
        last = count if end is None else min(count, end - time.frame)
        if last > first:
            fits = self.ring.put(inputs[first:last], wait=not self._realtime)
            self.xruns += int(not fits and not self.ring.closed)
            self.captured += last - first
        done = end is not None and time.frame + count >= end
        return not (done or self._stopping.is_set() or self._consumed is not None)

    # --- the consumer ---

    def _consume(self, consume: Consume) -> None:
        while (taken := self.ring.take(TAKE_FRAMES)) is not None:
            if self._consumed is not None:
                continue  # keep emptying, so that the callback never waits for room
            try:
                consume(taken)
            except BaseException as error:
                self._consumed = error
                self.ring.close()  # the callback may be waiting for room
