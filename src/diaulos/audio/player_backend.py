"""A simulated player in front of an input: a stream that only records."""

from __future__ import annotations

import threading

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioDeviceError
from diaulos.units import dbu_to_peak_volt, dbu_to_volt
from diaulos.work.ports import BlockStatus, BlockTime, StreamCallback, StreamInfo, StreamSpec

NOISE_DBU = -98.0


class PlayerBackend:
    """Plays volts into one input over and over, as fast as it can.

    The input clips at `full_scale_dbu` and adds its own noise.
    """

    def __init__(self, volts: NDArray[np.float64], full_scale_dbu: float, seed: int = 0) -> None:
        self._volts, self._full_scale_dbu, self._seed = volts, full_scale_dbu, seed

    def open(self, spec: StreamSpec, callback: StreamCallback) -> PlayerStream:
        """A stream of one input."""
        if spec.input_channels != 1:
            raise AudioDeviceError("the player has one channel.", remedy="Open it with one input.")
        return PlayerStream(self._volts, self._full_scale_dbu, self._seed, spec, callback)


class PlayerStream:
    """A stream of the player."""

    def __init__(
        self,
        volts: NDArray[np.float64],
        full_scale_dbu: float,
        seed: int,
        spec: StreamSpec,
        callback: StreamCallback,
    ) -> None:
        self._volts, self._spec, self._callback = volts, spec, callback
        self._scale = 1.0 / dbu_to_peak_volt(full_scale_dbu)
        self._rng = np.random.default_rng(seed)
        self.xruns = 0
        self._stopped = threading.Event()
        latency = spec.block_frames / spec.rate_hz
        self.info = StreamInfo(
            spec.rate_hz, latency, latency, "player", realtime=False, block_frames=spec.block_frames
        )

    def run(self) -> None:
        """Call back until the callback says stop."""
        frames, at, noise = self._spec.block_frames, 0, dbu_to_volt(NOISE_DBU)
        outputs = np.zeros((frames, self._spec.output_channels), np.float32)
        while not self._stopped.is_set():
            place = (at + np.arange(frames)) % self._volts.size
            volts = self._volts[place] + noise * self._rng.standard_normal(frames)
            inputs = np.clip(volts * self._scale, -1.0, 1.0 - 2.0**-23)[:, None].astype(np.float32)
            outputs[:] = 0.0
            if not self._callback(inputs, outputs, frames, BlockTime(at), BlockStatus()):
                return
            at += frames

    def stop(self) -> None:
        """End `run` after the block that is under way."""
        self._stopped.set()
