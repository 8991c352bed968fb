"""Block processors: `process(block, state) -> (block, state)`.

A processor holds what does not change, its state what does. `latency_samples` is a delay
that the processor cannot avoid and that the real device does not have; the bench takes it
out of the converters' delay.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.convolve import BlockConvolver
from diaulos.signal.fir import FRACTION_TAPS, fractional_delay
from diaulos.signal.lines import SteadyLines
from diaulos.signal.noise_ahead import NoiseAhead

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

    def maker(self) -> Callable[[int], Real]:
        """Gives the next so many samples of it, from the first."""
        rng = np.random.default_rng(self.seed)
        return lambda count: self.rms * rng.standard_normal(count)

    def initial_state(self) -> NoiseAhead:
        return NoiseAhead(self.maker())

    def process(self, block: Real, state: NoiseAhead) -> tuple[Real, NoiseAhead]:
        return block + state.take(block.size), state


@dataclass(frozen=True)
class ColouredHiss:
    """White noise of one a sample through a FIR: noise with a spectrum."""

    taps: Real
    seed: int
    latency_samples: float = 0.0

    def maker(self) -> Callable[[int], Real]:
        """Gives the next so many samples of it, from the first."""
        rng, convolver = np.random.default_rng(self.seed), BlockConvolver(self.taps)
        tail = convolver.initial_state()

        def make(count: int) -> Real:
            nonlocal tail
            noise, tail = convolver.process(rng.standard_normal(count), tail)
            return noise

        return make

    def initial_state(self) -> NoiseAhead:
        return NoiseAhead(self.maker())

    def process(self, block: Real, state: NoiseAhead) -> tuple[Real, NoiseAhead]:
        return block + state.take(block.size), state


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

    def initial_state(self) -> tuple[SteadyLines, int]:
        scale = self.rms_v * np.sqrt(2.0 / sum(part**2 for _, part in self.lines))
        lines = [
            (hz, scale * part, 2.0 * order + 1.0) for order, (hz, part) in enumerate(self.lines)
        ]
        return SteadyLines(lines, self.rate_hz), 0

    def process(
        self, block: Real, state: tuple[SteadyLines, int]
    ) -> tuple[Real, tuple[SteadyLines, int]]:
        lines, frame = state
        return block + lines.block(frame, block.size), (lines, frame + block.size)


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
