"""An output joined to an input through a circuit: a duplex stream, as fast as it goes. The stand-in
for what somebody measures by a sweep: a coil on a pickup, a cable behind a resistor."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, loaded
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.errors import AudioDeviceError
from diaulos.records import dataclass
from diaulos.signal.convolve import BlockConvolver
from diaulos.units import db_to_gain, dbu_to_peak_volt
from diaulos.work.ports import BlockStatus, BlockTime, StreamCallback, StreamInfo, StreamSpec

Real = NDArray[np.float64]
Response = Callable[[Real], NDArray[np.complex128]]
"""Full scale at the input per full scale at the output, over Hz."""
TAPS, AHEAD = 8_192, 64
END = 0.46
"""Of the rate: above that a converter's filter ends everything."""
NOISE_DBFS = -108.0
BLOCKS_LATE = 2
COIL_VOLT_AT_1KHZ = 0.02
"""EMF that a full-scale output induces at 1 kHz by a coil on a pickup; it rises by 6 dB per octave
(representative, from memory)."""
ROOM_DBU, HUM_DBU = -98.0, -92.0
"""What a pickup hears of a room: noise, and the mains at 50 Hz."""


def response_taps(response: Response, rate_hz: float) -> Real:
    """A circuit as a filter of 8 192 taps, 64 samples late.

    Parameters
    ----------
    response
        Complex gain over Hz, above 0.
    rate_hz
        Sample rate, Hz.

    Returns
    -------
    Taps, shape (8192,).
    """
    hz = np.arange(1, TAPS // 2 + 1) * rate_hz / TAPS
    gain = response(hz) / (1.0 + (hz / (END * rate_hz)) ** 40)
    gain = gain * np.exp(-2j * np.pi * hz * AHEAD / rate_hz)
    whole = np.fft.irfft(np.concatenate([np.abs(gain[:1]), gain]), TAPS)
    fade = TAPS // 8
    whole[-fade:] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / fade)
    return np.asarray(whole)


def coil_response(circuit: InstrumentCircuit, load: Load, full_scale_dbu: float) -> Response:
    """A coil that drives a pickup into a load, at an input that is full at so many dBu."""
    scale = COIL_VOLT_AT_1KHZ / dbu_to_peak_volt(full_scale_dbu)

    def response(hz: Real) -> NDArray[np.complex128]:
        return np.asarray(scale * loaded(circuit.source(hz), load, hz) * 1j * hz / 1_000.0)

    return response


@dataclass(frozen=True)
class Divider:
    """An output, a resistor, a cable and an input in a row."""

    source_ohm: float
    series_ohm: float
    input_ohm: float
    input_f: float

    def __call__(self, hz: Real) -> NDArray[np.complex128]:
        """Volts at the input per volt of the open output."""
        across = 1.0 / self.input_ohm + 2j * np.pi * hz * self.input_f
        return np.asarray(1.0 / (1.0 + (self.source_ohm + self.series_ohm) * across))


class FilterBackend:
    """Plays through a circuit. Noise and hum of 50 Hz at the input are linear, RMS and peak."""

    def __init__(
        self, response: Response, *, noise: float = db_to_gain(NOISE_DBFS), hum: float = 0.0,
        seed: int = 0,
    ) -> None:  # fmt: skip
        self._response, self._noise, self._hum, self._seed = response, noise, hum, seed

    def open(self, spec: StreamSpec, callback: StreamCallback) -> FilterStream:
        """A stream of one output and one input."""
        if spec.input_channels != 1 or spec.output_channels != 1:
            raise AudioDeviceError(
                "there is one channel out and one in.", remedy="Open it with one of each."
            )
        taps = response_taps(self._response, float(spec.rate_hz))
        return FilterStream(taps, self._noise, self._hum, self._seed, spec, callback)


class FilterStream:
    """A stream of the circuit."""

    def __init__(
        self, taps: Real, noise: float, hum: float, seed: int, spec: StreamSpec,
        callback: StreamCallback,
    ) -> None:  # fmt: skip
        self._taps, self._noise, self._hum = BlockConvolver(taps), noise, hum
        self._spec, self._callback = spec, callback
        self._rng = np.random.default_rng(seed)
        self.xruns = 0
        self._stopped = threading.Event()
        latency = spec.block_frames / spec.rate_hz
        self.info = StreamInfo(
            spec.rate_hz, latency, latency, "circuit", realtime=False,
            block_frames=spec.block_frames,
        )  # fmt: skip

    def run(self) -> None:
        """Call back until the callback says stop."""
        frames, at = self._spec.block_frames, 0
        state = self._taps.initial_state()
        waiting = deque([np.zeros(frames)] * BLOCKS_LATE)
        while not self._stopped.is_set():
            room = self._noise * self._rng.standard_normal(frames)
            turns = (at + np.arange(frames)) * 50.0 / self._spec.rate_hz
            room += self._hum * np.sin(2.0 * np.pi * turns)
            sound, state = self._taps.process(waiting.popleft(), state)
            inputs = np.clip(sound + room, -1.0, 1.0 - 2.0**-23).astype(np.float32)[:, None]
            outputs = np.zeros((frames, 1), np.float32)
            if not self._callback(inputs, outputs, frames, BlockTime(at), BlockStatus()):
                return
            waiting.append(outputs[:, 0].astype(np.float64))
            at += frames

    def stop(self) -> None:
        """End `run` after the block that is under way."""
        self._stopped.set()
