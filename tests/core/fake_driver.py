"""A driver that misbehaves on request: every sample tells its place, whatever goes wrong."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass

import numpy as np
from known_source import known

from diaulos.errors import AudioDeviceError
from diaulos.work.ports import (
    BlockStatus,
    BlockTime,
    DeviceInfo,
    Found,
    StreamCallback,
    StreamInfo,
    StreamSpec,
)

PATIENCE_S = 0.5


@dataclass(frozen=True)
class Faults:
    """What goes wrong, and at which frame of the stream."""

    skip_at: int | None = None
    """A cycle that never runs: the frame number jumps."""
    skip_frames: int = 0
    overflow_at: int | None = None
    stall_at: int | None = None
    """No callback comes any more, and `stop` does not help either."""
    hold_at: int | None = None
    """This process is held up for longer than the patience; the device's own process ticks on."""
    unplug_at: int | None = None
    rate_at: int | None = None
    sizes: tuple[int, ...] = ()
    """Block sizes in turn, whatever was asked for."""
    opens_at_hz: int = 0
    """The device runs at another rate than was asked for."""


class FakeDriver:
    """A back end with faults, in real time or as fast as it goes."""

    def __init__(
        self, faults: Faults = Faults(), *, realtime: bool = False, signs: bool = True
    ) -> None:
        """Without `signs` the device's own process is held up with this one, until `gone`."""
        self.faults, self.realtime, self.signs = faults, realtime, signs
        self.heard: list[np.ndarray] = []
        self.gone = threading.Event()
        """Lets a stream go that stands still."""
        self.held = threading.Event()
        """It is being held up."""

    def look(self) -> Found:
        one = DeviceInfo("fake", "Fake driver", 8, 8, (48_000,), (64, 256, 512), self.realtime)
        return Found((one,))

    def open(self, spec: StreamSpec, callback: StreamCallback) -> FakeStream:
        return FakeStream(self, spec, callback)


class FakeStream:
    """One stream of it."""

    def __init__(self, driver: FakeDriver, spec: StreamSpec, callback: StreamCallback) -> None:
        self.driver, self.spec, self.callback = driver, spec, callback
        self.xruns = 0
        self.stopped = threading.Event()
        rate = driver.faults.opens_at_hz or spec.rate_hz
        patience = PATIENCE_S if driver.realtime else None
        self.info = StreamInfo(
            rate,
            0.005,
            0.005,
            "fake",
            driver.realtime,
            patience,
            block_frames=spec.block_frames,
            ticks=time.monotonic_ns if driver.signs and driver.faults.hold_at is not None else None,
        )

    def run(self) -> None:
        faults, at, turn = self.driver.faults, 0, 0
        begun = time.monotonic()
        channels = self.spec.input_map or tuple(range(self.spec.input_channels))
        while not self.stopped.is_set():
            sizes = faults.sizes or (self.spec.block_frames,)
            count = sizes[turn % len(sizes)]
            turn += 1

            def here(frame: int | None, at: int = at, count: int = count) -> bool:
                return frame is not None and at <= frame < at + count

            if here(faults.skip_at):
                at += faults.skip_frames
                self.xruns += 1
            if here(faults.stall_at):
                self.driver.gone.wait(30.0)
                return
            if here(faults.hold_at):
                self.driver.held.set()
                if self.driver.signs:
                    time.sleep(2.0 * PATIENCE_S)
                else:
                    self.driver.gone.wait(30.0)
            if here(faults.unplug_at):
                raise AudioDeviceError("the device was unplugged.", where="Fake driver")
            frames = at + np.arange(count)
            inputs = np.stack([known(frames, c) for c in channels], axis=1).astype(np.float32)
            outputs = np.zeros((count, self.spec.output_channels), np.float32)
            if self.driver.realtime:
                due = begun + (at + count) / self.spec.rate_hz
                time.sleep(max(0.0, due - time.monotonic()))
            status = BlockStatus(
                input_overflow=here(faults.overflow_at),
                rate_hz=44_100 if here(faults.rate_at) else 0,
            )
            go_on = self.callback(inputs, outputs, count, BlockTime(at), status)
            self.driver.heard.append(outputs)
            if not go_on:
                return
            at += count

    def stop(self) -> None:
        self.stopped.set()
