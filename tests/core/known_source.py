"""A source whose every sample tells its place, for what must not lose or move one."""

from __future__ import annotations

import time

import numpy as np

from diaulos.work.ports import BlockStatus, BlockTime, StreamInfo


def known(frame: np.ndarray, channel: int) -> np.ndarray:
    """A sample that tells its place: exact in 24 bit and as float32, other in every channel."""
    step = (frame * 31 + channel * 7919) % 1_000_003
    return step / 2.0**21 - 13.0 / 64.0


class KnownBackend:
    """Channels whose every sample is known; in real time or not, with its callback's times."""

    def __init__(self, *, realtime: bool = False, seconds: float = 1e9) -> None:
        self.realtime, self.seconds = realtime, seconds
        self.outputs: list[np.ndarray] = []

    def open(self, spec, callback):  # type: ignore[no-untyped-def]
        self.spec, self.callback, self.xruns, self.stopped = spec, callback, 0, False
        self.info = StreamInfo(
            spec.rate_hz, 0.01, 0.01, "known", self.realtime, block_frames=spec.block_frames
        )
        return self

    def run(self) -> None:
        at, count = 0, self.spec.block_frames
        begun = time.monotonic()
        while at < self.seconds * self.spec.rate_hz:
            frames = at + np.arange(count)
            inputs = np.stack([known(frames, c) for c in range(self.spec.input_channels)], axis=1)
            inputs = inputs.astype(np.float32)
            outputs = np.zeros((count, self.spec.output_channels), np.float32)
            if self.realtime:
                time.sleep(max(0.0, begun + (at + count) / self.spec.rate_hz - time.monotonic()))
            go_on = self.callback(inputs, outputs, count, BlockTime(at), BlockStatus())
            self.outputs.append(outputs)
            if not go_on or self.stopped:
                return
            at += count

    def stop(self) -> None:
        self.stopped = True
