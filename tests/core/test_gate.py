"""The gate: opens, holds, releases where it says; the same from anywhere; never on the file."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from diaulos.errors import RefusedError
from diaulos.session.compared import Gate
from diaulos.signal.gate import (
    AHEAD_S,
    GateSetting,
    gain_at,
    gate_effect,
    gate_gain_db,
    open_steps,
    propose_gate,
    step_peaks,
)
from diaulos.work.listening.placing import GateReader

RATE = 48_000
SETTING = GateSetting(-40.0, -50.0, hold_ms=50.0, release_ms=100.0, depth_db=-60.0)


def played(
    spans: list[tuple[float, float, float]],
    seconds: float,
    floor_dbfs: float = -70.0,
    hz: float = 220.0,
) -> np.ndarray:
    """Notes of a level, each from a second for some seconds, over a steady noise."""
    draws = np.random.default_rng(1)
    time = np.arange(round(seconds * RATE)) / RATE
    out = 10.0 ** (floor_dbfs / 20.0) * draws.uniform(-1.0, 1.0, time.size)
    for first, length, dbfs in spans:
        part = (time >= first) & (time < first + length)
        out[part] += 10.0 ** (dbfs / 20.0) * np.sin(2.0 * np.pi * hz * time[part])
    return out


def peaks(samples: np.ndarray) -> np.ndarray:
    return step_peaks(iter([samples]), RATE)


def test_it_opens_ahead_holds_and_fades_where_it_says() -> None:
    samples = played([(1.0, 0.5, -20.0)], 3.0)
    gain = gate_gain_db(peaks(samples), SETTING)
    first = round((1.0 - AHEAD_S) * 1e3)
    assert np.all(gain[first:1_500] == 0.0), "the attack and the note are whole"
    # The last peak counts for 20 ms, the hold is 50 ms, and then it falls over 100 ms.
    end = 1_500 + 20 + 50
    assert np.all(gain[1_500 : end - 3] == 0.0)
    assert gain[end + 50] == pytest.approx(-30.0, abs=2.5)
    assert np.all(gain[end + 105 : 2_900] == -60.0)
    assert np.all(gain[: first - 2] == -60.0)


def test_between_the_thresholds_it_stays_as_it_is() -> None:
    """A decay from above both to between them keeps it open; a swell to between them does not open
    it."""
    loud_then_soft = played([(0.5, 0.3, -20.0), (0.8, 1.0, -45.0)], 2.5)
    state = open_steps(peaks(loud_then_soft), SETTING)
    assert state[1_700]
    soft_only = played([(0.5, 1.3, -45.0)], 2.5)
    assert not np.any(open_steps(peaks(soft_only), SETTING))


@pytest.mark.parametrize("hz", [26.0, 31.0, 82.0])
def test_the_lowest_notes_do_not_chatter(hz: float) -> None:
    samples = played([(0.5, 2.0, -35.0)], 3.0, hz=hz)
    state = open_steps(peaks(samples), SETTING)
    assert np.all(state[520:2_500])
    assert np.count_nonzero(np.diff(state.astype(int)) == 1) == 1


def test_noise_between_notes_falls_by_the_depth() -> None:
    samples = played([(0.5, 0.5, -20.0), (2.0, 0.5, -25.0)], 4.0)
    found = peaks(samples)
    gated = samples * gain_at(gate_gain_db(found, SETTING), 0, samples.size, RATE)
    pause = slice(round(1.4 * RATE), round(1.9 * RATE))
    before, after = np.std(samples[pause]), np.std(gated[pause])
    assert 20.0 * np.log10(after / before) == pytest.approx(-60.0, abs=0.01)
    note = slice(round(2.0 * RATE), round(2.5 * RATE))
    np.testing.assert_array_equal(gated[note], samples[note])
    effect = gate_effect(found, SETTING, -70.0)
    assert effect.openings == 2
    assert effect.missed == 0
    assert effect.pauses_after_dbfs == pytest.approx(effect.pauses_before_dbfs - 60.0)
    soft = GateSetting(-10.0, -20.0)
    assert gate_effect(found, soft, -70.0).missed == 2


@settings(max_examples=30, deadline=None)
@given(cuts=st.lists(st.integers(0, 2 * RATE), max_size=8), rate=st.sampled_from([44_100, 48_000]))
def test_peaks_do_not_depend_on_the_blocks(cuts: list[int], rate: int) -> None:
    samples = np.random.default_rng(2).standard_normal(2 * RATE)
    whole = step_peaks(iter([samples]), rate)
    parts = np.split(samples, sorted(cuts))
    np.testing.assert_array_equal(step_peaks(iter(parts), rate), whole)
    assert abs(whole.size - samples.size * 1_000 / rate) <= 1.0


@settings(max_examples=25, deadline=None)
@given(first=st.integers(-5_000, 3 * RATE), count=st.integers(1, 9_000))
def test_from_anywhere_it_is_the_same(first: int, count: int) -> None:
    samples = played([(0.5, 0.5, -20.0), (2.0, 0.5, -25.0)], 3.0)

    def read(at: int, length: int) -> np.ndarray:
        out = np.zeros(length)
        low, high = max(0, at), min(samples.size, at + length)
        if low < high:
            out[low - at : high - at] = samples[low:high]
        return out

    gate = Gate(open_dbfs=-40.0, close_dbfs=-50.0)
    whole = GateReader(read, gate, RATE, samples.size)(-5_000, samples.size + 15_000)
    part = GateReader(read, gate, RATE, samples.size)(first, count)
    np.testing.assert_array_equal(part, whole[first + 5_000 : first + 5_000 + count])


def test_a_proposal_lies_between_the_noise_and_the_quietest_note() -> None:
    samples = played([(0.5, 0.4, -12.0), (1.5, 0.4, -30.0), (2.5, 0.4, -20.0)], 3.5)
    found = propose_gate(peaks(samples))
    assert found.floor_dbfs == pytest.approx(-70.0, abs=0.5)
    assert found.quietest_dbfs == pytest.approx(-30.0, abs=0.5)
    assert found.notes == 3
    setting = found.setting
    assert found.floor_dbfs < setting.close_dbfs < setting.open_dbfs < found.quietest_dbfs
    effect = gate_effect(peaks(samples), setting, found.floor_dbfs)
    assert (effect.openings, effect.missed) == (3, 0)


@pytest.mark.parametrize(
    ("samples", "words"),
    [
        (played([(0.5, 0.4, -62.0)], 2.0), "nothing is quiet|only|no pause"),
        (played([(0.5, 0.4, -61.5)], 2.0, -70.0), "dB above the noise|no pause"),
        (played([(0.0, 2.0, -20.0)], 2.0), "no pause"),
        (np.zeros(2 * RATE), "no noise"),
        (np.zeros(100), "too short"),
    ],
)
def test_what_a_gate_would_spoil_is_refused(samples: np.ndarray, words: str) -> None:
    with pytest.raises(RefusedError, match=words):
        propose_gate(peaks(samples))


def test_it_closes_at_or_below_what_it_opens_at() -> None:
    with pytest.raises(ValidationError, match="closes at a level above"):
        Gate(open_dbfs=-50.0, close_dbfs=-40.0)
