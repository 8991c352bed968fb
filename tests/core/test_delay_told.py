"""Which of several lags is the true one, where to look for it, and when nobody can tell."""

from __future__ import annotations

import numpy as np
import pytest
from delays import recording
from test_delay import drifted
from test_recordings import FOLDER

from diaulos.errors import AmbiguousError, InputError
from diaulos.signal.delay import Alignment, find_alignment
from diaulos.signal.evidence import Explained, against
from diaulos.signal.fir import shift
from diaulos.work.blocks import ArraySource
from diaulos.work.capture.loop import LoopResult
from diaulos.work.ports import CancelToken, no_progress
from diaulos.work.reamp.returns import measure_return
from support import RATE, outside, performance, with_noise

ROUND = 43_211
HALF_MS = 0.0005 * RATE


def riff(rounds: int) -> np.ndarray:
    """One bar, over and over."""
    return np.tile(performance(seconds=3.0)[RATE : RATE + ROUND], rounds)


@pytest.mark.parametrize("name", ["bass_woodsy_c", "bass_thick_c", "bass_hit_c"])
@pytest.mark.parametrize("delay", [911, 33, -700])
def test_a_held_note_is_not_taken_for_its_next_period(name: str, delay: int) -> None:
    """Real held notes (sonic-pi-samples, CC0): they look the same one period later."""
    outside(FOLDER.is_dir(), "sonic-pi-samples")
    a = recording(name)[: int(3.3 * RATE)]
    got = find_alignment(a, 0.5 * shift(a, float(delay), a.size + 1000), RATE)
    assert got.delay_samples == pytest.approx(delay, abs=0.05)
    assert got.confidence >= 0.9


def test_later_rounds_of_a_loop_cannot_be_told() -> None:
    a = riff(5)
    with pytest.raises(AmbiguousError) as caught:
        find_alignment(a, a[2 * ROUND :], RATE)
    told = caught.value.candidates_samples
    assert caught.value.reason == "ambiguous"
    assert min(abs(one + 2 * ROUND) for one in told) < 1.0
    assert list(told) == sorted(told, key=abs)
    with pytest.raises(AmbiguousError) as caught:
        find_alignment(a, a[2 * ROUND :], RATE, expected=-2.0 * ROUND)
    assert caught.value.candidates_samples[0] == pytest.approx(-2 * ROUND, abs=1.0)


def test_a_loop_is_found_within_limits() -> None:
    a = riff(5)
    b = with_noise(np.concatenate([np.zeros(69), a])[: a.size], 50.0)
    reach = 0.05 * RATE
    got = find_alignment(a, b, RATE, within=(-reach, reach))
    assert got.delay_samples == pytest.approx(69.0, abs=0.1)
    around = (ROUND - reach, ROUND + reach)
    got = find_alignment(a, shift(a, 69.0 + ROUND, a.size), RATE, within=around)
    assert got.delay_samples == pytest.approx(69.0 + ROUND, abs=0.1)
    with pytest.raises(InputError, match="between"):
        find_alignment(a, b, RATE, within=(10.0, -10.0))


def test_an_answer_stays_within_its_limits() -> None:
    a = performance(seconds=5.0)
    b = shift(a, 4000.0, a.size + 5000)
    assert find_alignment(a, b, RATE, within=(3000.0, 5000.0)).delay_samples == pytest.approx(4000)
    with pytest.raises(Exception, match="same performance"):
        find_alignment(a, b, RATE, within=(-1000.0, 1000.0))


def test_the_filter_explains_the_true_lag_best() -> None:
    a = performance(seconds=4.0)
    b = with_noise(shift(a, 500.0, a.size + 600), 30.0)
    explained = Explained(a, b, RATE, 0, a.size)
    left = {lag: explained.left_over(lambda _, lag=lag: float(lag)) for lag in (500, 740, 260)}
    assert left[500].share < 0.02
    for other in (740, 260):
        verdict = against(left[500], left[other])
        assert verdict.sure
        assert against(left[other], left[500]).nepers == pytest.approx(-verdict.nepers)


@pytest.mark.parametrize("ppm", [100.0, -100.0, 20.0])
def test_three_minutes_by_clocks_far_apart(ppm: float) -> None:
    a = performance(seconds=180.0, seed=3)
    got = find_alignment(a, with_noise(drifted(a, ppm, 500.25), 30.0), RATE)
    assert got.drift_ppm == pytest.approx(ppm, abs=0.05)
    assert abs(got.delay_samples - 500.25) < 0.1
    assert got.confidence >= 0.9


def test_some_seconds_by_a_fast_clock_begin_where_they_begin() -> None:
    """Over 8 s a clock 90 ppm off moves the middle by 17 samples; the beginning is told."""
    a = performance(seconds=8.0, seed=4)
    got = find_alignment(a, with_noise(drifted(a, 90.0, 500.25), 40.0), RATE)
    assert got.delay_samples == pytest.approx(500.25, abs=1.0)
    assert got.drift_ppm == pytest.approx(90.0, abs=2.0)


def test_a_looped_riff_comes_back_where_the_loop_was_before() -> None:
    """A round shorter than the longest loop: only what it took last time can tell."""
    once = riff(1)[:20_000].astype(np.float32)
    a, back = np.tile(once, 8), np.roll(np.tile(once, 14), 2133)

    def measured(before: float | None) -> Alignment | None:
        sources = (ArraySource(x, RATE) for x in (a, back))
        di, returned = sources
        loop = LoopResult(back.size, 0)
        return measure_return(di, 0, returned, loop, no_progress, CancelToken(), before).alignment

    assert measured(None) is None
    found = measured(2130.0)
    assert found is not None
    assert found.delay_samples == pytest.approx(2133.0, abs=0.5)
