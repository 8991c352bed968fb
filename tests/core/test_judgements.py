"""Judgements that were wrong once: each is held against arithmetic or against the sound."""

from __future__ import annotations

import math

import numpy as np
import pytest
from test_rig_checks import (
    by_modeler,
    findings,
    ids,
    one,
    patch,
    plus,
    port,
    replugged,
    two_amps,
    with_cable,
    without,
)

from diaulos.rig.bench import BenchFaults, strum_volts
from diaulos.rig.bench.steps import StepMaker
from diaulos.rig.checks import Context, Finding
from diaulos.rig.checks.power import speaker_loads
from diaulos.rig.course import Course, trace, trace_all
from diaulos.rig.elements import BAND_HZ, Curve, Gain, NoiseSource, elements_of
from diaulos.rig.fits import joined
from diaulos.rig.flow import sound_gain
from diaulos.rig.graph import RigGraph
from diaulos.rig.inputs import free_inputs
from diaulos.rig.model import GainStage, PlannedTrack, Rig
from diaulos.rig.polarity import is_inverted
from diaulos.rig.templates import build
from diaulos.signal.delay import find_alignment
from diaulos.units import BOLTZMANN_J_PER_K, ROOM_TEMPERATURE_K, ZERO_DBU_V, peak_volt_to_dbu
from diaulos.work.rigs.rendering import PLAYER_LOAD, recorded_gain
from support import RATE


def peak_at(rig: Rig, port_name: str) -> float:
    """The planned peak at a port, in dBu."""
    context = Context(RigGraph(rig))
    device, name = port_name.split(".")
    return context.peaks[device, name]


# --- the microphone's distance ---


@pytest.mark.parametrize(("metres", "db"), [(0.05, 20.5), (1.0, 0.0), (3.0, -9.5)])
def test_sound_falls_off_as_from_a_piston(metres: float, db: float) -> None:
    """Twelve-inch cone, a = 0.13 m: the closed form on its axis."""
    assert 20.0 * math.log10(sound_gain(0.13, metres)) == pytest.approx(db, abs=0.1)


def test_a_microphone_farther_away_gets_less() -> None:
    rig = build("three-tones", "r1")
    near = peak_at(rig, "mic.out")
    far = peak_at(with_cable(rig, "mic.sound", length_m=3.0), "mic.out")
    assert near - far == pytest.approx(30.0, abs=0.1)


# --- the attenuator ---


def speaker_peak(rig: Rig) -> float:
    return peak_at(rig, "cabinet.speaker")


def test_an_attenuator_takes_what_it_says_and_at_0_db_is_a_wire() -> None:
    rig = build("three-tones", "r1")
    direct = rig.model_copy(
        update={
            "devices": tuple(d for d in rig.devices if d.id != "attenuator"),
            "cables": tuple(
                cable for cable in rig.cables
                if "attenuator" not in (cable.source.device, cable.target.device)
            ),
        }
    )  # fmt: skip
    direct = joined(direct, port("amp.speaker"), port("cabinet.speaker"))
    bare = speaker_peak(direct)
    for db in (0.0, -3.0, -12.0, -30.0):
        there = speaker_peak(rig.with_setting("attenuator", "quieter", db))
        assert there - bare == pytest.approx(db, abs=0.05)


@pytest.mark.parametrize("db", [0.0, -3.0, -12.0])
def test_an_attenuator_keeps_the_load_and_shares_the_power(db: float) -> None:
    rig = build("three-tones", "r1").with_setting("attenuator", "quieter", db)
    ohm, loads = speaker_loads(RigGraph(rig), port("amp.speaker"))
    assert ohm == pytest.approx(8.0)
    shares = {one.plug.device.id: one.share for one in loads}
    assert shares["cabinet"] == pytest.approx(10.0 ** (db / 10.0))
    assert sum(shares.values()) == pytest.approx(1.0)


def test_an_attenuator_without_its_speaker_is_told() -> None:
    rig = without(build("three-tones", "r1"), "attenuator.out", "cabinet.speaker")
    assert "attenuator-without-speaker" in ids(rig)
    assert "valve-amp-without-load" not in ids(rig)
    open_ = rig.with_setting("attenuator", "quieter", 0.0)
    assert "valve-amp-without-load" in ids(open_)


def test_an_attenuator_of_an_older_session_is_a_load_as_it_was() -> None:
    """Kept in a session's file it is a plain gain into 8 ohms."""
    rig = build("three-tones", "r1")
    device = rig.device("attenuator")
    paths = tuple(
        p.model_copy(update={"stages": (GainStage(control="quieter"),)}) if p.target == "out" else p
        for p in device.paths
    )
    ports = tuple(
        p.model_copy(update={"impedance_ohm": 8.0}) if p.id == "speaker" else p
        for p in device.ports
    )
    rig = rig.with_device(device.model_copy(update={"paths": paths, "ports": ports}))
    ohm, loads = speaker_loads(RigGraph(rig), port("amp.speaker"))
    assert ohm == pytest.approx(8.0)
    assert [one.plug.device.id for one in loads] == ["attenuator"]
    assert "attenuator-without-speaker" not in ids(rig)


# --- what is recorded ---


def test_a_bass_di_is_not_the_guitars_dry_di() -> None:
    """A guitar by a microphone and a bass by a DI, as one performance."""
    rig = build("three-tones", "r1")
    rig = without(without(rig, "di.out", "interface.in1"), "interface.rec1", "computer.track1")
    rig = plus(plus(rig, "bass", "bass2"), "active_di", "di2")
    for source, target in (("bass2.out", "di2.in"), ("di2.out", "interface.in2"),
                           ("interface.rec2", "computer.track4")):  # fmt: skip
        rig = joined(rig, port(source), port(target))
    kept = tuple(t for t in rig.tracks if str(t.port) != "computer.track1")
    bass = PlannedTrack(
        port=port("computer.track4"), name="Bass DI", tap="di", source="bass2",
        group=kept[0].group,
    )  # fmt: skip
    rig = rig.model_copy(update={"tracks": (*kept, bass)})
    found = one(rig, "no-dry-di")
    assert rig.device("guitar").name in found.cause


def test_free_inputs_are_those_that_can_take_a_source() -> None:
    rig = build("modeler-analog", "r1")
    free = {str(plug.ref) for plug in free_inputs(RigGraph(rig))}
    assert not any(name.startswith("modeler.") for name in free)
    assert all(name.startswith("interface.in") for name in free)
    assert free
    # Its effects return and its digital outputs are no inputs either.
    assert {str(p.ref) for p in free_inputs(RigGraph(build("modeler-usb", "r1")))} == set()


def test_more_tracks_than_can_be_taken_are_told() -> None:
    rig = build("modeler-analog", "r1")
    more = tuple(
        PlannedTrack(port=port(f"computer.track{n}"), name=f"T{n}", tap="di", source="guitar")
        for n in range(10, 15)
    )
    rig = rig.model_copy(update={"tracks": (*rig.tracks, *more)})
    found = one(rig, "too-few-inputs")
    free = len(free_inputs(RigGraph(rig)))
    assert f"{free} more inputs can take one" in found.cause


def test_a_knob_is_calibrated_only_where_a_calibration_was_made() -> None:
    rig = build("modeler-digital", "r1").with_setting("modeler", "output", -20.0)
    assert "calibrated-knob" not in ids(rig)


# --- polarity ---


def test_inverted_courses_are_told_and_true_in_the_sound() -> None:
    rig = two_amps("lantern")
    found: Finding = one(rig, "inverted-courses")
    assert rig.device("amp").name in found.cause
    sounds = {}
    for traced in trace_all(RigGraph(rig)):
        course = traced.course
        assert course is not None
        sounds[str(traced.track)] = (is_inverted(course), sounded(course))
    turned, first = sounds["computer.track2"]
    upright, other = sounds["computer.track4"]
    assert (turned, upright) == (True, False)
    got = find_alignment(first, other, RATE, within=(-RATE / 20, RATE / 20))
    assert got.polarity == -1


def sounded(course: Course) -> np.ndarray:
    """A course played by the simulated player, without noise and time."""
    assert course.source is not None
    signal = strum_volts(course.source, PLAYER_LOAD, RATE)
    maker = StepMaker(
        course, RATE, BenchFaults.none(), None, lambda _key: 0,
        recorded_gain(course.source, PLAYER_LOAD),
    )  # fmt: skip
    for step in maker.steps:
        signal, _ = step.processor.process(signal, step.processor.initial_state())
    return signal


# --- a DI box takes a line ---


def modeler_into_di(output_db: float) -> Rig:
    """A modeler's line output by a DI box into a microphone input."""
    rig = plus(build("modeler-analog", "r1"), "active_di", "di2")
    rig = replugged(rig, "modeler.out_l", "interface.in3", "di2.in")
    rig = joined(rig, port("di2.out"), port("interface.in3"))
    for device, setting, value in (
        ("modeler", "output", output_db), ("interface", "mode3", "mic"),
        ("interface", "phantom3", "on"), ("interface", "gain3", 0.0),
    ):  # fmt: skip
        rig = rig.with_setting(device, setting, value)
    return rig


def test_a_line_output_in_a_di_box_is_judged_by_its_ceiling() -> None:
    quiet = modeler_into_di(-20.0)
    assert not ids(quiet) & {"line-into-instrument", "switch-unlike"}
    assert peak_at(quiet, "modeler.out_l") < 12.0


def test_one_that_clips_there_is_padded() -> None:
    rig = modeler_into_di(0.0)
    device = rig.device("di2")
    low = tuple(
        p.model_copy(update={"max_dbu": -20.0}) if p.id == "in" else p for p in device.ports
    )
    rig = rig.with_device(device.model_copy(update={"ports": low}))
    told = [f for f in findings(rig) if f.id in ("line-into-instrument", "switch-unlike")]
    assert told
    assert all(f.mend is not None for f in told)
    assert "clip" in told[0].consequence


# --- drive ---


def test_less_drive_is_true_in_the_sound_and_its_remedy_restores_it() -> None:
    """An amplifier behind a modeler's instrument output against the guitar plugged straight in."""
    rig = by_modeler(0.0, "instrument")
    found = one(rig, "less-drive")
    less = float(found.cause.split("gets ")[1].split(" dB")[0])
    graph = RigGraph(rig)
    course = next(t.course for t in trace_all(graph) if t.course and t.course.has_stage("amp"))
    amp = next(leg for leg in course.legs if leg.device.kind == "amp")
    straight = patch(("guitar", "guitar"), ("valve_combo", "amp"), join=(("guitar.out", "amp.in"),))
    there = peak_of(course, amp.device.id)
    alone = peak_of(trace(RigGraph(straight), port("amp.in")), "amp")
    assert alone - there == pytest.approx(less, abs=0.1)
    assert found.mend is not None
    mended = found.mend.change(rig)
    assert "less-drive" not in ids(mended)
    again = next(
        t.course for t in trace_all(RigGraph(mended)) if t.course and t.course.has_stage("amp")
    )
    assert peak_of(again, amp.device.id) == pytest.approx(alone, abs=0.5)


def peak_of(course: Course, device: str) -> float:
    """The peak at a device's input as the bench plays it, in dBu."""
    assert course.source is not None
    signal = strum_volts(course.source, PLAYER_LOAD, RATE)
    maker = StepMaker(
        course, RATE, BenchFaults.none(), None, lambda _key: 0,
        recorded_gain(course.source, PLAYER_LOAD),
    )  # fmt: skip
    at = next(i for i, leg in enumerate(course.legs) if leg.device.id == device)
    for step in maker.steps:
        signal, _ = step.processor.process(signal, step.processor.initial_state())
        if any(point.leg == at for point, _ in step.reads):
            return peak_volt_to_dbu(float(np.max(np.abs(signal))))
    raise AssertionError(device)


# --- noise ---


def test_the_source_resistance_counts_at_an_amplifier() -> None:
    """Behind the reamp box an amplifier's input sees 5.6 kilohm and the trim's rest, 1 Mohm
    beside: 4kTR over 20 Hz to 20 kHz (Nyquist), reckoned by hand."""
    graph = RigGraph(build("reamp-box", "r1"))
    course = next(t.course for t in trace_all(graph) if t.course and t.course.has_stage("amp"))
    row = list(elements_of(course))
    words = "thermal noise of Four-input interface"
    at, box = next(
        (i, e) for i, e in enumerate(row) if isinstance(e, NoiseSource) and e.words == words
    )
    ohm = 1.0 / (1.0 / 5_610.0 + 1.0 / 1e6)
    volts2 = 4.0 * BOLTZMANN_J_PER_K * ROOM_TEMPERATURE_K * ohm * (20_000.0 - 20.0)
    by_hand = 10.0 * math.log10(volts2 / ZERO_DBU_V**2)
    assert by_hand == pytest.approx(-115.1, abs=0.05)
    # It stands where the segment begins; the segment's own loss is ahead of the amplifier.
    there = 10.0 * math.log10(float(np.sum(box.density * BAND_HZ)))
    end = next(i for i, e in enumerate(row) if i > at and isinstance(e, Curve))
    lost = sum(e.db for e in row[at:end] if isinstance(e, Gain))
    assert there + lost == pytest.approx(by_hand, abs=0.2)
