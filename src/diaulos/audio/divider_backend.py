"""An output, a resistor, a cable and an input in a row: a duplex stream, the stand-in for measuring
one of them by a known resistor."""

from __future__ import annotations

import threading
from collections import deque
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioDeviceError
from diaulos.signal.convolve import BlockConvolver
from diaulos.units import db_to_gain
from diaulos.work.ports import BlockStatus, BlockTime, StreamCallback, StreamInfo, StreamSpec

Real = NDArray[np.float64]
TAPS, AHEAD = 8_192, 64
NOISE_DBFS = -108.0
BLOCKS_LATE = 2


@dataclass(frozen=True)
class Divider:
    """What is in the row: the output's source impedance, the resistor, what loads it."""

    source_ohm: float
    series_ohm: float
    input_ohm: float
    input_f: float

    def gain(self, hz: Real) -> NDArray[np.complex128]:
        """Volts at the input per volt of the open output."""
        across = 1.0 / self.input_ohm + 2j * np.pi * hz * self.input_f
        return np.asarray(1.0 / (1.0 + (self.source_ohm + self.series_ohm) * across))


class DividerBackend:
    """Plays through a divider, as fast as it can."""

    def __init__(self, divider: Divider, seed: int = 0) -> None:
        self._divider, self._seed = divider, seed

    def open(self, spec: StreamSpec, callback: StreamCallback) -> DividerStream:
        """A stream of one output and one input."""
        if spec.input_channels != 1 or spec.output_channels != 1:
            raise AudioDeviceError(
                "the divider has one channel out and one in.", remedy="Open it with one of each."
            )
        hz = np.arange(TAPS // 2 + 1) * spec.rate_hz / TAPS
        response = self._divider.gain(hz) * np.exp(-2j * np.pi * hz * AHEAD / spec.rate_hz)
        response *= 1.0 / (1.0 + (hz / (0.47 * spec.rate_hz)) ** 40)
        taps = np.fft.irfft(response, TAPS)
        return DividerStream(taps, self._seed, spec, callback)


class DividerStream:
    """A stream of the divider."""

    def __init__(self, taps: Real, seed: int, spec: StreamSpec, callback: StreamCallback) -> None:
        self._taps, self._spec, self._callback = BlockConvolver(taps), spec, callback
        self._rng = np.random.default_rng(seed)
        self.xruns = 0
        self._stopped = threading.Event()
        latency = spec.block_frames / spec.rate_hz
        self.info = StreamInfo(
            spec.rate_hz, latency, latency, "divider", realtime=False,
            block_frames=spec.block_frames,
        )  # fmt: skip

    def run(self) -> None:
        """Call back until the callback says stop."""
        frames, at, noise = self._spec.block_frames, 0, db_to_gain(NOISE_DBFS)
        state = self._taps.initial_state()
        waiting = deque([np.zeros(frames)] * BLOCKS_LATE)
        while not self._stopped.is_set():
            sound, state = self._taps.process(waiting.popleft(), state)
            sound = sound + noise * self._rng.standard_normal(frames)
            inputs = np.clip(sound, -1.0, 1.0 - 2.0**-23).astype(np.float32)[:, None]
            outputs = np.zeros((frames, 1), np.float32)
            if not self._callback(inputs, outputs, frames, BlockTime(at), BlockStatus()):
                return
            waiting.append(outputs[:, 0].astype(np.float64))
            at += frames

    def stop(self) -> None:
        """End `run` after the block that is under way."""
        self._stopped.set()
