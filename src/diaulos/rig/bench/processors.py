"""Block processors: `process(block, state) -> (block, state)`.

A processor holds what does not change, its state what does. `latency_samples` is a delay
that the processor cannot avoid and that the real device does not have; the bench takes it
out of the converters' delay.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from diaulos.signal.convolve import BlockConvolver
from diaulos.signal.fir import FRACTION_TAPS, fractional_delay

Real = NDArray[np.float64]


class Processor(Protocol):
    """One station's way with sound."""

    @property
    def latency_samples(self) -> float:
        """Delay that is not the device's own."""

    def initial_state(self) -> Any:
        """The state before the first block."""

    def process(self, block: Real, state: Any) -> tuple[Real, Any]:
        """One block, and the state after it."""


@dataclass(frozen=True)
class Filter:
    """A FIR, or a plain gain when it has one tap."""

    taps: Real
    latency_samples: float = 0.0

    def initial_state(self) -> tuple[BlockConvolver, Real]:
        convolver = BlockConvolver(self.taps)
        return convolver, convolver.initial_state()

    def process(
        self, block: Real, state: tuple[BlockConvolver, Real]
    ) -> tuple[Real, tuple[BlockConvolver, Real]]:
        convolver, tail = state
        out, tail = convolver.process(block, tail)
        return out, (convolver, tail)


@dataclass(frozen=True)
class Limit:
    """A hard limit at a peak: what a port or converter does when it is overdriven."""

    peak: float
    latency_samples: float = 0.0

    def initial_state(self) -> None:
        return None

    def process(self, block: Real, state: None) -> tuple[Real, None]:
        return np.clip(block, -self.peak, self.peak), None


@dataclass(frozen=True)
class Hiss:
    """White noise of a given RMS."""

    rms: float
    seed: int
    latency_samples: float = 0.0

    def initial_state(self) -> np.random.Generator:
        return np.random.default_rng(self.seed)

    def process(self, block: Real, state: np.random.Generator) -> tuple[Real, np.random.Generator]:
        return block + self.rms * state.standard_normal(block.size), state


@dataclass(frozen=True)
class ColouredHiss:
    """White noise of one a sample through a FIR: noise with a spectrum."""

    taps: Real
    seed: int
    latency_samples: float = 0.0

    def initial_state(self) -> tuple[np.random.Generator, BlockConvolver, Real]:
        convolver = BlockConvolver(self.taps)
        return np.random.default_rng(self.seed), convolver, convolver.initial_state()

    def process(
        self, block: Real, state: tuple[np.random.Generator, BlockConvolver, Real]
    ) -> tuple[Real, tuple[np.random.Generator, BlockConvolver, Real]]:
        rng, convolver, tail = state
        noise, tail = convolver.process(rng.standard_normal(block.size), tail)
        return block + noise, (rng, convolver, tail)


@dataclass(frozen=True)
class Delay:
    """A delay in samples, with a fraction; at least FRACTION_TAPS / 2 samples."""

    samples: float
    latency_samples: float = 0.0

    def initial_state(self) -> tuple[BlockConvolver, Real, Real]:
        whole = int(np.floor(self.samples))
        lead = whole - (FRACTION_TAPS // 2 - 1)
        if lead < 0:
            raise ValueError(f"a delay of {self.samples} samples is too short for this filter")
        convolver = BlockConvolver(fractional_delay(self.samples - whole))
        return convolver, convolver.initial_state(), np.zeros(lead)

    def process(
        self, block: Real, state: tuple[BlockConvolver, Real, Real]
    ) -> tuple[Real, tuple[BlockConvolver, Real, Real]]:
        convolver, tail, line = state
        joined = np.concatenate([line, block])
        out, tail = convolver.process(joined[: block.size], tail)
        return out, (convolver, tail, joined[block.size :])


@dataclass(frozen=True)
class Tones:
    """What a ground carries: lines in Hz with their parts, of a given RMS together."""

    rms_v: float
    lines: tuple[tuple[float, float], ...]
    rate_hz: float
    latency_samples: float = 0.0

    def initial_state(self) -> int:
        return 0

    def process(self, block: Real, state: int) -> tuple[Real, int]:
        time = (state + np.arange(block.size)) / self.rate_hz
        scale = self.rms_v * np.sqrt(2.0 / sum(part**2 for _, part in self.lines))
        sound = np.zeros(block.size)
        for order, (hz, part) in enumerate(self.lines):
            sound += part * np.sin(2.0 * np.pi * hz * time + 2 * order + 1)
        return block + scale * sound, state + block.size


SLIP_SAMPLES = 64


@dataclass(frozen=True)
class Slip:
    """A link between two clocks without conversion: `ratio` samples come for each taken.

    The receiver's buffer runs full or empty: samples are repeated or left out, and once in
    `SLIP_SAMPLES` of them it jumps back. Heard as wrong pitch and clicks.
    """

    ratio: float
    latency_samples: float = 0.0

    def initial_state(self) -> tuple[int, Real]:
        return 0, np.zeros(SLIP_SAMPLES)

    def process(self, block: Real, state: tuple[int, Real]) -> tuple[Real, tuple[int, Real]]:
        frame, past = state
        at = frame + np.arange(block.size)
        lag = np.floor((at * (1.0 - self.ratio)) % SLIP_SAMPLES).astype(np.int64)
        joined = np.concatenate([past, block])
        out = joined[SLIP_SAMPLES + np.arange(block.size) - lag]
        return out, (frame + block.size, joined[-SLIP_SAMPLES:].copy())
