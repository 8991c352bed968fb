"""Noise drawn ahead is the noise that would have come without."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.rig.bench.processors import ColouredHiss, Hiss
from diaulos.signal.noise_ahead import PIECE, NoiseAhead


@pytest.mark.parametrize("blocks", [(PIECE,) * 3, (1, 0, 97, PIECE + 5, 3, 2 * PIECE), (64,) * 700])
def test_the_samples_are_those_of_the_generator_in_a_row(blocks: tuple[int, ...]) -> None:
    ahead = NoiseAhead(np.random.default_rng(5).standard_normal)

    found = np.concatenate([ahead.take(count) for count in blocks])

    np.testing.assert_array_equal(found, np.random.default_rng(5).standard_normal(sum(blocks)))


def test_a_single_block_draws_no_more_than_itself() -> None:
    drawn: list[int] = []

    def make(count: int) -> np.ndarray:
        drawn.append(count)
        return np.zeros(count)

    NoiseAhead(make).take(100)

    assert drawn == [100]


def test_what_fails_ahead_is_raised_where_it_is_taken() -> None:
    calls: list[int] = []

    def make(count: int) -> np.ndarray:
        calls.append(count)
        if len(calls) > 2:
            raise ArithmeticError("no more")
        return np.zeros(count)

    ahead = NoiseAhead(make)
    ahead.take(10)
    ahead.take(10)  # the piece behind it fails meanwhile

    with pytest.raises(ArithmeticError, match="no more"):
        ahead.take(PIECE)


@pytest.mark.parametrize("noise", [Hiss(0.5, 3), ColouredHiss(np.hanning(211), 3)])
def test_hiss_does_not_depend_on_blocks(noise: Hiss | ColouredHiss) -> None:
    silence = np.zeros(50_000)
    whole, _ = noise.process(silence, noise.initial_state())
    state, parts = noise.initial_state(), []
    for first in range(0, silence.size, 1_000):
        out, state = noise.process(silence[first : first + 1_000], state)
        parts.append(out)

    np.testing.assert_allclose(np.concatenate(parts), whole, atol=1e-12)
