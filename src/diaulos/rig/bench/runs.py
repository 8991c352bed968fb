"""Stations in a row that do nothing but filter and add noise, played as one.

What two filters do in a row one filter does, and noise between them may be filtered before it is
added: the same sound for one transform instead of two. Noise is worked out ahead of its time,
beside what is played.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.bench.processors import ColouredHiss, Filter, Hiss, Processor
from diaulos.signal.convolve import BlockConvolver
from diaulos.signal.noise_ahead import NoiseAhead

Real = NDArray[np.float64]
TAIL_DB = -140.0
"""What is left out of the end of a long response, re all of it."""
LONG = 64
"""Up to so many taps nothing is left out: it would save nothing."""


@dataclass(frozen=True)
class Run:
    """Filters in a row as one, and each noise with what it goes through behind its place."""

    taps: Real
    noises: tuple[tuple[Hiss | ColouredHiss, Real], ...]
    latency_samples: float = 0.0

    def initial_state(self) -> tuple[BlockConvolver, Real, NoiseAhead | None]:
        convolver = BlockConvolver(self.taps)
        ahead = NoiseAhead(self._noise()) if self.noises else None
        return convolver, convolver.initial_state(), ahead

    def process(
        self, block: Real, state: tuple[BlockConvolver, Real, NoiseAhead | None]
    ) -> tuple[Real, tuple[BlockConvolver, Real, NoiseAhead | None]]:
        convolver, tail, ahead = state
        out, tail = convolver.process(block, tail)
        if ahead is not None:
            out += ahead.take(block.size)
        return out, (convolver, tail, ahead)

    def _noise(self) -> Callable[[int], Real]:
        makers = [_through(noise.maker(), taps) for noise, taps in self.noises]

        def make(count: int) -> Real:
            total = makers[0](count)
            for maker in makers[1:]:
                total += maker(count)
            return total

        return make


def can_join(processor: Processor | None) -> bool:
    """Whether a station may be part of a run."""
    return isinstance(processor, Filter | Hiss | ColouredHiss)


def joined(processors: Sequence[Processor]) -> Processor:
    """Stations in a row as one; each must be one that can join.

    Parameters
    ----------
    processors
        In the order in which the sound passes them, one or more.

    Returns
    -------
    One that does the same, within -140 dB of what a long response gives.
    """
    if len(processors) == 1:
        return processors[0]
    taps = np.ones(1)
    noises: list[tuple[Hiss | ColouredHiss, Real]] = []
    for one in reversed(processors):
        if isinstance(one, Filter):
            taps = _in_a_row(one.taps, taps)
        else:
            assert isinstance(one, Hiss | ColouredHiss)
            noises.insert(0, (one, taps))
    return Run(taps, tuple(noises))


def _in_a_row(first: Real, second: Real) -> Real:
    from scipy.signal import convolve

    found = np.asarray(convolve(first, second))
    if found.size <= LONG:
        return found
    left = np.cumsum(np.square(found)[::-1])[::-1]
    kept = int(np.count_nonzero(left > left[0] * 10.0 ** (TAIL_DB / 10.0)))
    return found[: max(kept, 1)]


def _through(make: Callable[[int], Real], taps: Real) -> Callable[[int], Real]:
    """What `make` gives, behind a filter."""
    convolver = BlockConvolver(taps)
    tail = convolver.initial_state()

    def filtered(count: int) -> Real:
        nonlocal tail
        found, tail = convolver.process(make(count), tail)
        return found

    return filtered
