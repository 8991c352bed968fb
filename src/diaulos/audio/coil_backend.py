"""A small coil on a pickup in front of an input: a duplex stream whose output drives the coil and
whose input hears the pickup into a load. The stand-in for a measurement at home."""

from __future__ import annotations

import threading
from collections import deque

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, loaded
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.errors import AudioDeviceError
from diaulos.signal.convolve import BlockConvolver
from diaulos.units import dbu_to_peak_volt, dbu_to_volt
from diaulos.work.ports import BlockStatus, BlockTime, StreamCallback, StreamInfo, StreamSpec

Real = NDArray[np.float64]
TAPS, AHEAD = 8_192, 64
COIL_VOLT_AT_1KHZ = 0.02
"""EMF that a full-scale output induces at 1 kHz; it rises by 6 dB per octave (representative,
from memory)."""
NOISE_DBU = -98.0
HUM_DBU = -92.0
"""Of a room, 50 Hz: a coil on a pickup hears it, too."""
BLOCKS_LATE = 2


class CoilBackend:
    """Plays a pickup that a coil drives, as fast as it can."""

    def __init__(
        self, circuit: InstrumentCircuit, load: Load, full_scale_dbu: float, seed: int = 0
    ) -> None:
        self._circuit, self._load, self._seed = circuit, load, seed
        self._full_scale_dbu = full_scale_dbu

    def open(self, spec: StreamSpec, callback: StreamCallback) -> CoilStream:
        """A stream of one output and one input."""
        if spec.input_channels != 1 or spec.output_channels != 1:
            raise AudioDeviceError(
                "the coil has one channel out and one in.", remedy="Open it with one of each."
            )
        scale = 1.0 / dbu_to_peak_volt(self._full_scale_dbu)
        taps = _taps(self._circuit, self._load, float(spec.rate_hz)) * scale
        return CoilStream(taps, scale, self._seed, spec, callback)


def _taps(circuit: InstrumentCircuit, load: Load, rate_hz: float) -> Real:
    """Impulse response from the output to volts at the input."""
    hz = np.arange(1, TAPS // 2 + 1) * rate_hz / TAPS
    response = loaded(circuit.source(hz), load, hz) * 1j * hz / 1_000.0 * COIL_VOLT_AT_1KHZ
    # A coil's rise ends below half the rate, as a converter's filter ends it.
    response *= 1.0 / (1.0 + (hz / (0.46 * rate_hz)) ** 40)
    response *= np.exp(-2j * np.pi * hz * AHEAD / rate_hz)
    whole = np.fft.irfft(np.concatenate([[0.0], response]), TAPS)
    fade = TAPS // 8
    whole[-fade:] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / fade)
    return np.asarray(whole)


class CoilStream:
    """A stream of the coil."""

    def __init__(
        self, taps: Real, scale: float, seed: int, spec: StreamSpec, callback: StreamCallback
    ) -> None:
        self._taps, self._scale = BlockConvolver(taps), scale
        self._spec, self._callback = spec, callback
        self._rng = np.random.default_rng(seed)
        self.xruns = 0
        self._stopped = threading.Event()
        latency = spec.block_frames / spec.rate_hz
        self.info = StreamInfo(
            spec.rate_hz, latency, latency, "coil", realtime=False, block_frames=spec.block_frames
        )

    def run(self) -> None:
        """Call back until the callback says stop."""
        frames, at = self._spec.block_frames, 0
        state = self._taps.initial_state()
        waiting = deque([np.zeros(frames)] * BLOCKS_LATE)
        noise, hum = dbu_to_volt(NOISE_DBU), dbu_to_peak_volt(HUM_DBU)
        while not self._stopped.is_set():
            room = noise * self._rng.standard_normal(frames)
            room += hum * np.sin(2.0 * np.pi * 50.0 * (at + np.arange(frames)) / self._spec.rate_hz)
            sound, state = self._taps.process(waiting.popleft(), state)
            inputs = np.clip(sound + room * self._scale, -1.0, 1.0 - 2.0**-23)
            outputs = np.zeros((frames, 1), np.float32)
            if not self._callback(
                inputs.astype(np.float32)[:, None], outputs, frames, BlockTime(at), BlockStatus()
            ):
                return
            waiting.append(outputs[:, 0].astype(np.float64))
            at += frames

    def stop(self) -> None:
        """End `run` after the block that is under way."""
        self._stopped.set()
