"""The bench as an audio back end: a duplex stream whose cables run through a rig."""

from __future__ import annotations

import threading
from collections import deque

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioDeviceError
from diaulos.ids import BENCH
from diaulos.rig.bench import Bench, BenchFaults, Impulses
from diaulos.rig.course import Course
from diaulos.work.ports import (
    BlockStatus,
    BlockTime,
    StreamCallback,
    StreamInfo,
    StreamSpec,
)

Real = NDArray[np.float64]
BUFFERS_EACH_WAY = 1
"""Blocks that a driver holds on the way out, and again on the way in."""


class BenchBackend:
    """Plays a course in place of a converter, as fast as it can.

    What is put out in a block is heard by the rig one block later and comes in another
    block later, as with a real driver; the converters' delay comes on top. None of it is
    told: whoever wants to know has to measure.
    """

    def __init__(
        self, course: Course, faults: BenchFaults, impulses: Impulses | None = None
    ) -> None:
        self._course = course
        self._faults = faults
        self._impulses = impulses

    def open(self, spec: StreamSpec, callback: StreamCallback) -> BenchStream:
        """A stream through the course; one channel each way."""
        if spec.input_channels != 1 or spec.output_channels != 1:
            raise AudioDeviceError(
                "the bench's loop has one channel each way.",
                remedy="Open it with one input and one output.",
            )
        bench = Bench(self._course, float(spec.rate_hz), self._faults, self._impulses)
        return BenchStream(bench, spec, callback)


class BenchStream:
    """A stream of the bench."""

    def __init__(self, bench: Bench, spec: StreamSpec, callback: StreamCallback) -> None:
        self._bench = bench
        self._spec = spec
        self._callback = callback
        self.xruns = 0
        self._stopped = threading.Event()
        self.info = StreamInfo(
            rate_hz=spec.rate_hz,
            input_latency_s=spec.block_frames / spec.rate_hz,
            output_latency_s=spec.block_frames / spec.rate_hz,
            clock_id=BENCH,
            realtime=False,
            block_frames=spec.block_frames,
        )

    def run(self) -> None:
        """Call back until the callback says stop, or somebody does."""
        frames = self._spec.block_frames
        silence = np.zeros(frames)
        waiting: deque[Real] = deque([silence] * BUFFERS_EACH_WAY)
        arriving: deque[Real] = deque([silence] * BUFFERS_EACH_WAY)
        at = 0
        while True:
            outputs = np.zeros((frames, 1), np.float32)
            inputs = arriving.popleft()[:, None].astype(np.float32)
            go_on = self._callback(inputs, outputs, frames, BlockTime(at), BlockStatus())
            waiting.append(outputs[:, 0].astype(np.float64))
            arriving.append(self._bench.process(waiting.popleft()))
            at += frames
            if not go_on or self._stopped.is_set():
                return

    def stop(self) -> None:
        """End `run` after the block that is under way."""
        self._stopped.set()
