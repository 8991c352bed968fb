"""What the demo compares: a digital and an analog way of one performance, two amplifiers that come
out inverted against each other, a bass by two microphones, a part played twice, a blind test.

Nothing is recorded: each is the simulated player through our own stand-ins, with figures of ours.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.catalogue.amps import microphone
from diaulos.rig.flow import sound_gain
from diaulos.rig.model import Device, FilterStage, Tap
from diaulos.session import compare_edits
from diaulos.session.compared import BlindSide, BlindTest, BlindTrial, MicPlace
from diaulos.session.edits import Edit
from diaulos.session.model import Session
from diaulos.signal.amp import AmpSettings, drive_signal
from diaulos.signal.cabinet import cabinet_taps
from diaulos.signal.convolve import convolve_long
from diaulos.signal.fir import shift
from diaulos.units import db_to_gain, metres_to_ms, ms_to_samples

Real = NDArray[np.float64]

ANALOG_LATE, ANALOG_DB, ANALOG_NOISE_DBFS, OWN_NOISE_DBFS = 63.4, -0.35, -92.0, -98.0
"""What another pair of converters does to a sound: later, a little less, its own noise, and a
gentle fall at the top; representative, from memory."""
ANALOG_TOP = 0.06
SECOND_LATE = 44.0
LOWS_M, HIGHS_M = 0.75, 0.05
"""From the cabinet to its two microphones."""
CONE_M, NEAR_M = 0.13, 0.03
"""Radius of the stand-in's cone, and how near a microphone stands that is close."""
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
    rng = np.random.default_rng(seed)
    analog = late + rng.standard_normal(digital.size) * db_to_gain(ANALOG_NOISE_DBFS)
    # The modeler's own input is heard both ways.
    own = rng.standard_normal(digital.size) * db_to_gain(OWN_NOISE_DBFS)
    digital, analog = digital + own, analog + own
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
    late = ms_to_samples(metres_to_ms(LOWS_M - HIGHS_M), rate_hz)
    lows = shift(through(volts, "keel", 3.0, "bass-fifteen", rate_hz), late, volts.size)
    highs = through(volts, "keel", 4.0, "closed-two", rate_hz)
    return (
        Made("Microphone, lows", "mic", np.asarray(lows)),
        Made("Microphone, highs", "mic", highs),
    )


PEDAL_DRIVE = 4.0
"""How hard the pedal clips the loudest peak."""


def cabinet_later(volts: Real, rate_hz: float) -> tuple[Made, ...]:
    """A DI behind a pedal that belongs to the performance, and the amplifier behind it without a
    cabinet: that is chosen later."""
    peak = float(np.max(np.abs(volts)))
    pedal = np.tanh(PEDAL_DRIVE * volts / peak)
    bare = drive_signal(0.5 * peak * pedal, AmpSettings(voice="lantern", drive=3.0), rate_hz)
    bare = np.asarray(bare[: volts.size], np.float64)
    return (
        Made("DI after pedals", "printed", np.asarray(db_to_gain(-9.0) * pedal)),
        Made("Amp", "amp", bare * (db_to_gain(-12.0) / float(np.max(np.abs(bare))))),
    )


PLACES = (
    ("Centre", MicPlace(across=0.0, distance_m=NEAR_M, angle_deg=0.0)),
    ("Edge", MicPlace(across=1.0, distance_m=NEAR_M, angle_deg=0.0)),
    ("Off axis", MicPlace(across=0.0, distance_m=NEAR_M, angle_deg=45.0)),
    ("Farther", MicPlace(across=0.0, distance_m=0.32, angle_deg=0.0)),
)


def microphone_places(volts: Real, rate_hz: float) -> tuple[Made, ...]:
    """One loop by a microphone at four places: the catalogue's own, and the speaker's own fall with
    the distance, so that they behave as the simulated studio's do."""
    cone = through(volts, "tideline", 5.0, "open-one", rate_hz)
    mic = microphone()
    made = []
    for name, place in PLACES:
        word = "edge" if place.across else "off axis" if place.angle_deg else "centre"
        heard = _through_microphone(cone, mic, word, rate_hz)
        metres = place.distance_m or 0.0
        late = ms_to_samples(metres_to_ms(metres), rate_hz)
        farther = sound_gain(CONE_M, metres) / sound_gain(CONE_M, NEAR_M)
        made.append(Made(name, "mic", np.asarray(shift(heard, late, volts.size) * farther)))
    return tuple(made)


def _through_microphone(x: Real, mic: Device, place: str, rate_hz: float) -> Real:
    """The first-order corners of the catalogue's microphone at a place."""
    stage = next(one for one in mic.paths[0].stages if isinstance(one, FilterStage))
    high = next(
        (hz for setting, word, hz in stage.high_cut_by if (setting, word) == ("place", place)),
        stage.high_cut_hz,
    )
    from scipy.signal import butter, sosfilt  # slow to import: the demo is shown before

    sections = [butter(1, stage.low_cut_hz, "high", fs=rate_hz, output="sos")]
    if high is not None and high < 0.45 * rate_hz:
        sections.append(butter(1, high, "low", fs=rate_hz, output="sos"))
    return np.asarray(sosfilt(np.vstack(sections), x))


def noted_places(take_id: str, session: Session) -> Edit:
    """Where the microphones of the places' take stood, noted once."""
    if session.mic_places or all(take.id != take_id for take in session.takes):
        return Edit("Nothing", lambda now: now)
    take = session.take(take_id)
    known = dict(PLACES)
    places = {one.file: known[one.name] for one in take.tracks if one.name in known}
    return Edit(
        "Demo: places",
        lambda now: now.model_copy(update={"mic_places": {**now.mic_places, **places}}),
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
