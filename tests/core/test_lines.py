"""Steady sines in blocks against the sines themselves."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.errors import InputError
from diaulos.signal.lines import PIECE, SteadyLines

RATE = 48_000.0
LINES = ((50.0, 0.6, 1.0), (150.0, 0.3, 3.0), (8_000.0, 0.01, 0.2), (0.0, 0.5, np.pi / 2))


def sines(first: int, count: int) -> np.ndarray:
    time = (first + np.arange(count)) / RATE
    return sum(part * np.sin(2.0 * np.pi * hz * time + phase) for hz, part, phase in LINES)


@pytest.mark.parametrize("count", [0, 1, 97, PIECE, PIECE + 1, 3 * PIECE + 5])
def test_a_block_is_the_sum_of_its_sines(count: int) -> None:
    found = SteadyLines(LINES, RATE).block(1_234, count)

    np.testing.assert_allclose(found, sines(1_234, count), atol=1e-10)


def test_an_hour_later_it_is_still_in_phase() -> None:
    later = 3_600 * int(RATE)  # whole turns of every line: as at the start

    found = SteadyLines(LINES, RATE).block(later, 1_000)

    np.testing.assert_allclose(found, sines(0, 1_000), atol=1e-6)


def test_no_lines_are_silence() -> None:
    assert not np.any(SteadyLines((), RATE).block(0, 64))


def test_what_lies_above_half_the_rate_is_refused() -> None:
    with pytest.raises(InputError, match="30000 Hz"):
        SteadyLines(((30_000.0, 1.0, 0.0),), RATE)
