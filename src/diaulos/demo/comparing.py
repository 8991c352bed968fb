"""What the demo compares: a digital and an analog way of one performance, two amplifiers that come
out inverted against each other, a bass by two microphones, a part played twice, a blind test.

Nothing is recorded: each is the simulated player through our own stand-ins, with figures of ours.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from diaulos.rig.model import Tap
from diaulos.session import compare_edits
from diaulos.session.compared import BlindSide, BlindTest, BlindTrial
from diaulos.session.edits import Edit
from diaulos.session.model import Session
from diaulos.signal.amp import AmpSettings, drive_signal
from diaulos.signal.cabinet import cabinet_taps
from diaulos.signal.convolve import convolve_long
from diaulos.signal.fir import shift
from diaulos.units import db_to_gain

Real = NDArray[np.float64]

ANALOG_LATE, ANALOG_DB, ANALOG_NOISE_DBFS = 63.4, -0.35, -92.0
"""What another pair of converters does to a sound: later, a little less, its own noise, and a
gentle fall at the top; representative, from memory."""
ANALOG_TOP = 0.06
SECOND_LATE = 44.0
LOWS_LATE = 97.0
"""About 0.7 m farther away, in samples."""
TEST_ID = "demo_blind"
TRIALS = "ab bb aa ba bb aa ab bb aa bb aa aa ba bb aa bb"
"""What X was and what was answered: 12 of 16 right."""


@dataclass(frozen=True)
class Made:
    """One track of a take that is made to be compared."""

    name: str
    tap: Tap
    samples: Real


def through(volts: Real, voice: str, drive: float, cabinet: str, rate_hz: float) -> Real:
    """Played through a stand-in amplifier and cabinet, at -11 dBFS peak."""
    driven = drive_signal(volts, AmpSettings(voice=voice, drive=drive), rate_hz)
    heard = np.asarray(convolve_long(driven, cabinet_taps(cabinet, rate_hz))[: volts.size])
    return np.asarray(heard * (db_to_gain(-11.0) / float(np.max(np.abs(heard)))), np.float64)


def two_ways(volts: Real, rate_hz: float, seed: int) -> tuple[Made, ...]:
    """One performance by the digital and by the analog way, and by two amplifiers of which one
    turns it over."""
    digital = through(volts, "tideline", 4.0, "open-one", rate_hz)
    softer = (1.0 - ANALOG_TOP) * digital
    softer[1:] += ANALOG_TOP * digital[:-1]
    late = shift(softer, ANALOG_LATE, digital.size) * db_to_gain(ANALOG_DB)
    noise = np.random.default_rng(seed).standard_normal(digital.size)
    analog = late + noise * db_to_gain(ANALOG_NOISE_DBFS)
    # The other amplifier turns it over by itself.
    other = shift(through(volts, "foghorn", 3.0, "closed-four", rate_hz), SECOND_LATE, digital.size)
    return (
        Made("Modeled, digital", "modeled", digital),
        Made("Modeled, analog", "modeled", np.asarray(analog)),
        Made("Combo", "cabinet", through(volts, "tideline", 6.0, "open-one", rate_hz)),
        Made("Stack", "cabinet", np.asarray(other)),
    )


def two_microphones(volts: Real, rate_hz: float) -> tuple[Made, ...]:
    """A bass cabinet by a microphone for the lows, farther away, and one for the highs."""
    lows = shift(through(volts, "keel", 3.0, "bass-fifteen", rate_hz), LOWS_LATE, volts.size)
    highs = through(volts, "keel", 4.0, "closed-two", rate_hz)
    return (
        Made("Microphone, lows", "mic", np.asarray(lows)),
        Made("Microphone, highs", "mic", highs),
    )


def finished_test(take_id: str, files: tuple[str, str], made_at: str) -> BlindTest:
    """Sixteen trials of the digital way and the analog one."""
    a, b = (f"{take_id}:{file}" for file in files)
    return BlindTest(
        id=TEST_ID,
        made_at=made_at,
        kind="abx",
        planned=16,
        a=BlindSide(name="Modeled, digital", file=a, gain_db=0.0),
        b=BlindSide(name="Modeled, analog", file=b, gain_db=-ANALOG_DB),
        trials=tuple(_trial(pair) for pair in TRIALS.split()),
    )


def _trial(pair: str) -> BlindTrial:
    return BlindTrial.model_validate({"was": pair[0], "answer": pair[1]})


def kept_test(take_id: str, files: tuple[str, str], made_at: str) -> Callable[[Session], Edit]:
    """The step that keeps it, once."""
    return partial(_keep, take_id, files, made_at)


def _keep(take_id: str, files: tuple[str, str], made_at: str, session: Session) -> Edit:
    there = any(one.id == TEST_ID for one in session.blind_tests)
    if there or all(take.id != take_id for take in session.takes):
        return Edit("Nothing", lambda now: now)
    return compare_edits.keep_blind_test(finished_test(take_id, files, made_at))
