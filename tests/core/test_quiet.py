"""The quietest stretch of a recording."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.signal.quiet import QuietestMeter
from support import RATE


def quietest(samples: np.ndarray, block: int = 4_096) -> float | None:
    meter = QuietestMeter(RATE)
    for at in range(0, samples.size, block):
        meter.add(samples[at : at + block])
    return meter.reading()


def sine(seconds: float, peak: float) -> np.ndarray:
    return peak * np.sin(2 * np.pi * 200.0 * np.arange(int(seconds * RATE)) / RATE)


def test_it_is_the_level_of_the_quietest_part() -> None:
    """AES17: a sine's RMS in dBFS is its peak (analytic)."""
    samples = np.concatenate([sine(1.0, 0.5), sine(0.6, 0.001), sine(1.0, 0.5)])
    assert quietest(samples) == pytest.approx(-60.0, abs=0.05)
    assert quietest(samples + 0.1) == pytest.approx(-60.0, abs=0.05)  # an offset is no noise


@pytest.mark.parametrize("block", [1, 64, 5_000, 200_000])
def test_it_does_not_depend_on_the_blocks(block: int) -> None:
    samples = 0.1 * np.random.default_rng(1).standard_normal(RATE // (8 if block == 1 else 1))
    samples[:20_000] *= 0.01
    one, other = quietest(samples, block), quietest(samples, 777)
    assert one == other


def test_what_holds_no_noise_has_no_reading() -> None:
    assert quietest(np.zeros(RATE)) is None
    assert quietest(sine(0.2, 0.5)) is None
    gap = np.concatenate([sine(1.0, 0.5), np.zeros(RATE), sine(1.0, 0.5)])
    assert quietest(gap) == pytest.approx(-6.02, abs=0.05)
