"""Waveform overviews and reading in another recording's time."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from diaulos.session.model import AlignmentRecord
from diaulos.signal.fir import shift
from diaulos.signal.overview import BASE, build_overview
from diaulos.work.aligned import aligned_blocks, drift_matters, read_aligned
from diaulos.work.files import ArraySource
from support import RATE, performance

NOISE = np.random.default_rng(2).uniform(-1.0, 1.0, 300_001).astype(np.float32)


@given(st.lists(st.integers(1, 90_000), min_size=1, max_size=6))
@settings(max_examples=20)
def test_the_pyramid_does_not_depend_on_the_blocks(sizes: list[int]) -> None:
    total = min(sum(sizes), NOISE.size)
    edges = np.minimum(np.cumsum([0, *sizes]), total)
    made = build_overview(NOISE[a:b] for a, b in pairwise(edges) if b > a)
    whole = build_overview([NOISE[:total]])
    assert made.frames == total
    for one, other in zip(made.low + made.high, whole.low + whole.high, strict=True):
        np.testing.assert_array_equal(one, other)


@pytest.mark.parametrize("count", [1, 37, 1000])
def test_columns_hold_every_sample_and_little_more(count: int) -> None:
    made = build_overview([NOISE])
    low, high = made.columns(0, NOISE.size, count)
    edges = np.linspace(0, NOISE.size, count + 1).astype(int)
    for index in range(count):
        piece = NOISE[edges[index] : edges[index + 1]]
        assert low[index] <= piece.min()
        assert high[index] >= piece.max()
    assert low.min() == NOISE.min()
    assert high.max() == NOISE.max()


def test_outside_there_is_silence() -> None:
    made = build_overview([np.ones(10 * BASE, np.float32)])
    low, high = made.columns(-1000.0, 5000.0, 60)
    assert low[0] == high[0] == 0.0
    assert high[-1] == 0.0
    assert high.max() == 1.0


PLAYED = performance(seconds=4.0, seed=6)


@pytest.mark.parametrize("delay", [-300.4, 0.0, 12.0, 250.75])
def test_reading_in_the_others_time(delay: float) -> None:
    late = ArraySource(shift(PLAYED, delay).astype(np.float32), RATE)
    got = read_aligned(late, 40_000, 50_000, delay)
    np.testing.assert_allclose(got, PLAYED[40_000:90_000], atol=3e-4)


def test_drift_is_taken_out() -> None:
    from test_delay import drifted

    late = ArraySource(drifted(PLAYED, 40.0, 200.25).astype(np.float32), RATE)
    got = read_aligned(late, 20_000, 150_000, 200.25, 40.0)
    assert np.std(got - PLAYED[20_000:170_000]) < 1e-3 * np.std(PLAYED)


def test_blocks_join_without_a_seam() -> None:
    record = AlignmentRecord(
        delay_samples=33.3, delay_error_samples=0.01, polarity=-1, confidence=1.0
    )
    source = ArraySource(shift(-PLAYED, 33.3).astype(np.float32), RATE)
    whole = np.concatenate(list(aligned_blocks(source, PLAYED.size, record)))[:, 0]
    np.testing.assert_allclose(whole[100:-400], PLAYED[100:-400], atol=3e-4)


def test_a_drift_within_its_error_is_left_alone() -> None:
    assert not drift_matters(None, None)
    assert not drift_matters(0.5, 0.4)
    assert drift_matters(2.0, 0.1)
