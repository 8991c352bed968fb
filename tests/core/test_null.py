"""How deep two recordings null: depth, gain, polarity and delay against what they were made of."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.errors import InputError
from diaulos.signal.fir import shift
from diaulos.signal.null import null_depth
from support import RATE, performance


@pytest.mark.parametrize("off", [-0.6, 0.0, 0.3])
@pytest.mark.parametrize("late", [0.25, 1_234.406, 700.0])
def test_a_delayed_turned_copy_nulls_to_what_its_filter_leaves(late: float, off: float) -> None:
    """The delay's own filter is right within -97 dB up to 20 kHz."""
    here = performance(seconds=4.0, seed=3)
    there = -0.7 * shift(here, late, here.size + 3_000)
    found = null_depth(here, there, float(RATE), late + off)
    assert found.depth_db < -90.0
    assert found.delay_samples == pytest.approx(late, abs=1e-3)
    assert found.polarity == -1
    assert found.gain_db == pytest.approx(20.0 * np.log10(0.7), abs=1e-3)


@pytest.mark.parametrize("noise_db", [-20.0, -50.0, -80.0])
def test_noise_of_a_known_level_is_what_is_left(noise_db: float) -> None:
    here = performance(seconds=4.0, seed=4)
    noise = np.random.default_rng(5).standard_normal(here.size)
    inner = slice(RATE // 10, -RATE // 10)
    noise *= np.std(here[inner]) / np.std(noise[inner]) * 10.0 ** (noise_db / 20.0)
    found = null_depth(here, here + noise, float(RATE), 0.0)
    assert found.depth_db == pytest.approx(noise_db, abs=0.1)


def test_what_cannot_be_nulled_says_nothing() -> None:
    here = performance(seconds=1.0, seed=4)
    assert null_depth(here, np.zeros(here.size), float(RATE), 0.0).depth_db == 0.0
    assert null_depth(here[:1_000], here[:1_000], float(RATE), 0.0).depth_db == 0.0
    assert null_depth(here, here, float(RATE), -5.0e6).depth_db == 0.0
    with pytest.raises(InputError):
        null_depth(here, here, 0.0, 0.0)
