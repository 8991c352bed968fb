"""The bench as an audio back end: a duplex stream whose cables run through a rig."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioDeviceError
from diaulos.ids import BENCH
from diaulos.rig.bench import BenchFaults, Impulses, LoopBench
from diaulos.rig.course import Course
from diaulos.work.ports import (
    BlockStatus,
    BlockTime,
    StreamCallback,
    StreamInfo,
    StreamSpec,
)

Real = NDArray[np.float64]
BUFFERS_EACH_WAY = 2
"""Blocks that a driver holds on the way out, and again on the way in. What it holds both ways is
played at once: nobody can tell, and what is done for each block costs as much as its sound."""


class BenchBackend:
    """Plays the courses of a reamp in place of a converter, as fast as it can.

    What is put out in a block is heard by the rig some blocks later and comes in as many
    blocks later, as with a real driver; the converters' delay comes on top. None of it is
    told: whoever wants to know has to measure.
    """

    def __init__(
        self, courses: Sequence[Course], faults: BenchFaults, impulses: Impulses | None = None
    ) -> None:
        self._courses = tuple(courses)
        self._faults = faults
        self._impulses = impulses

    def open(self, spec: StreamSpec, callback: StreamCallback) -> BenchStream:
        """A stream through the courses: one channel out, one back for each."""
        backs = len(self._courses)
        if spec.input_channels != backs or spec.output_channels != 1:
            raise AudioDeviceError(
                f"the bench's loop has one channel out and {backs} back.",
                remedy="Open it with one output and an input for each return.",
            )
        bench = LoopBench(self._courses, float(spec.rate_hz), self._faults, self._impulses)
        return BenchStream(bench, spec, callback)


class BenchStream:
    """A stream of the bench."""

    def __init__(self, bench: LoopBench, spec: StreamSpec, callback: StreamCallback) -> None:
        self._bench = bench
        self._spec = spec
        self._callback = callback
        self.xruns = 0
        self._stopped = threading.Event()
        self.info = StreamInfo(
            rate_hz=spec.rate_hz,
            input_latency_s=BUFFERS_EACH_WAY * spec.block_frames / spec.rate_hz,
            output_latency_s=BUFFERS_EACH_WAY * spec.block_frames / spec.rate_hz,
            clock_id=BENCH,
            realtime=False,
            block_frames=spec.block_frames,
        )

    def run(self) -> None:
        """Call back until the callback says stop, or somebody does."""
        frames = self._spec.block_frames
        waiting: list[Real] = [np.zeros(frames)] * BUFFERS_EACH_WAY
        silence = np.zeros((frames, self._spec.input_channels))
        arriving: deque[Real] = deque([silence] * BUFFERS_EACH_WAY)
        at = 0
        while True:
            if not arriving:
                heard = self._bench.process(np.concatenate(waiting))
                arriving.extend(np.split(heard, len(waiting)))
                waiting = []
            outputs = np.zeros((frames, 1), np.float32)
            inputs = arriving.popleft().astype(np.float32)
            go_on = self._callback(inputs, outputs, frames, BlockTime(at), BlockStatus())
            waiting.append(outputs[:, 0].astype(np.float64))
            at += frames
            if not go_on or self._stopped.is_set():
                return

    def stop(self) -> None:
        """End `run` after the block that is under way."""
        self._stopped.set()
