"""What the demo compares is what it says."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.demo.comparing import (
    ANALOG_DB,
    ANALOG_LATE,
    HIGHS_M,
    LOWS_M,
    cabinet_later,
    finished_test,
    two_microphones,
    two_ways,
)
from diaulos.demo.rigs import more_ways
from diaulos.demo.saltmarsh import bare_demo
from diaulos.rig.checks import Severity
from diaulos.units import metres_to_ms, ms_to_samples
from diaulos.work.compare.blindrun import result_words
from diaulos.work.compare.pairs import Side, compare_pair
from diaulos.work.compare.words import verdict_of
from diaulos.work.ports import CancelToken
from diaulos.work.rigs.look import look_at
from support import RATE, performance


@pytest.fixture(scope="module")
def volts() -> np.ndarray:
    return 0.4 * performance(seconds=7.0)


def pair(one, other):  # type: ignore[no-untyped-def]
    sides = [Side(each.name, each.samples.astype(np.float32), RATE) for each in (one, other)]
    return compare_pair(*sides, CancelToken())


def test_two_ways_in_differ_by_little_and_two_amplifiers_are_inverted(volts: np.ndarray) -> None:
    digital, analog, combo, stack = two_ways(volts, float(RATE), 401)
    found = pair(digital, analog)
    assert found.found is not None
    assert found.found.delay_samples == pytest.approx(ANALOG_LATE, abs=0.5)
    assert found.louder_lu == pytest.approx(ANALOG_DB, abs=0.1)
    assert found.split is not None
    assert found.split.rest_db is not None
    assert found.split.rest_db < -40.0
    amps = pair(combo, stack)
    assert amps.found is not None
    assert amps.found.polarity == -1
    assert verdict_of(amps).choice in ("turn", "pan")


def test_the_farther_microphone_is_later(volts: np.ndarray) -> None:
    lows, highs = two_microphones(volts, float(RATE))
    found = pair(highs, lows)
    assert found.found is not None
    air = ms_to_samples(metres_to_ms(LOWS_M - HIGHS_M), RATE)
    assert found.found.delay_samples == pytest.approx(air, abs=5.0)


def test_an_amplifier_without_a_cabinet_stands_behind_a_printed_pedal(volts: np.ndarray) -> None:
    printed, bare = cabinet_later(volts, float(RATE))
    assert (printed.tap, bare.tap) == ("printed", "amp")
    peaks = [20.0 * np.log10(np.max(np.abs(one.samples))) for one in (printed, bare)]
    assert peaks[0] == pytest.approx(-9.0, abs=0.1)
    assert peaks[1] == pytest.approx(-12.0, abs=0.1)
    assert printed.samples.size == bare.samples.size == volts.size


def test_the_more_ways_bring_several_returns_and_nothing_is_wrong_in_them() -> None:
    session = bare_demo()
    rigs = more_ways()
    session = session.model_copy(update={"rigs": (*session.rigs, *rigs)})
    for rig in rigs:
        report = look_at(session, rig.id)
        assert len(report.tracks) >= 2
        assert not [one for one in report.findings if one.severity >= Severity.CAUTION]


def test_the_finished_test_says_what_its_answers_say() -> None:
    test = finished_test("t0005", ("audio/a.wav", "audio/b.wav"), "2026-05-09T15:30:00")
    assert (len(test.trials), test.right) == (16, 12)
    assert result_words(test) == "12 of 16, p = 0.04: you hear a difference."
