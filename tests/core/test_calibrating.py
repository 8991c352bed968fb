"""Calibration and the sound check: what was hidden in the bench's unit is found again."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from diaulos.errors import EditError, InputError, RefusedError, RigError
from diaulos.rig import changes
from diaulos.rig.bench.unit import as_built
from diaulos.rig.catalogue.types import make
from diaulos.rig.course import trace
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.calibration import (
    CalibrationPoint,
    Linearity,
    calibrated_inputs,
    input_stage,
    known_dbu,
    nominal_input_dbu,
    open_circuit_dbu,
    output_stage,
    with_input_calibration,
)
from diaulos.rig.levels.causes import likely_causes, planned_peak
from diaulos.rig.model import PortRef, Rig, SettingRef
from diaulos.rig.plan import dac_full_scale_dbu, full_scale_dbu, solve_send
from diaulos.rig.templates import build
from diaulos.session.model import Session
from diaulos.signal.tone import measure_tone
from diaulos.units import dbu_to_volt, volt_to_dbu
from diaulos.wiring import BenchAudio
from diaulos.work.blocks import ArraySource
from diaulos.work.rigs.calibrating import (
    calibrate_box,
    calibrate_by_loop,
    calibrate_input,
    calibrate_output,
    calibrate_output_by_meter,
    gain_steps,
    loop_course,
    point_from_recording,
)
from diaulos.work.rigs.levels import levels_of, traced_courses
from diaulos.work.rigs.soundcheck import (
    bench_check,
    file_check,
    take_calibration_edit,
    take_cause_edit,
    take_level_edit,
)
from support import RATE

BENCH = BenchAudio()

FOUND_DB = 0.03
"""Between what is hidden in the unit and what a calibration finds: noise of half a second."""


def session_of(*rigs: Rig) -> Session:
    return Session(id="s", name="Test", sample_rate_hz=RATE, rigs=rigs, current_rig=rigs[0].id)


def sine(peak: float, hz: float, seconds: float = 1.0, phase: float = 0.3) -> np.ndarray:
    time = np.arange(round(seconds * RATE)) / RATE
    return peak * np.sin(2 * np.pi * hz * time + phase)


# --- the tone ---


@pytest.mark.parametrize("hz", [199.1, 200.0, 203.7, 1000.0])
@pytest.mark.parametrize("peak_dbfs", [-1.0, -12.0, -60.0])
def test_a_tone_is_read_rightly(hz: float, peak_dbfs: float) -> None:
    """Known level and frequency, with hum and hiss beside it."""
    rng = np.random.default_rng(1)
    peak = 10.0 ** (peak_dbfs / 20.0)
    signal = sine(peak, hz) + peak * 0.01 * rng.standard_normal(RATE) + 0.02 * sine(peak, 50.0)
    tone = measure_tone(np.clip(signal, -0.99, 0.99), RATE, round(hz / 100.0) * 100.0)
    assert tone.peak_dbfs == pytest.approx(peak_dbfs, abs=0.02)
    assert tone.hz == pytest.approx(hz, abs=0.05)
    assert -40.0 < tone.residual_db < -28.0


def test_what_is_no_tone_is_refused() -> None:
    with pytest.raises(RefusedError, match="clips at"):
        measure_tone(np.clip(sine(1.4, 200.0), -1, 1), RATE, 200.0)
    with pytest.raises(RefusedError, match="too short"):
        measure_tone(sine(0.5, 200.0, 0.1), RATE, 200.0)
    with pytest.raises(RefusedError, match="no clear tone"):
        measure_tone(sine(0.5, 440.0), RATE, 200.0)
    with pytest.raises(RefusedError, match="There is no"):
        measure_tone(np.zeros(RATE), RATE, 200.0)


# --- arithmetic ---


@pytest.mark.parametrize(
    ("text", "dbu"),
    [
        ("1 V", volt_to_dbu(1.0)), ("775 mV", volt_to_dbu(0.775)), ("+4 dBu", 4.0),
        ("−10 dBV", -7.7815), ("-10 dBV", -7.7815), ("1,23 V", volt_to_dbu(1.23)),
    ],
)  # fmt: skip
def test_a_level_is_typed_with_its_unit(text: str, dbu: float) -> None:
    """-10 dBV is -7.78 dBu (reference, analytic)."""
    assert known_dbu(text) == pytest.approx(dbu, abs=0.001)


@pytest.mark.parametrize("text", ["", "4", "4 dB", "one V", "0 V", "-1 V", "nan V"])
def test_a_level_without_a_unit_is_refused(text: str) -> None:
    with pytest.raises(InputError):
        known_dbu(text)


def test_an_output_is_kept_open_circuit() -> None:
    """150 ohm into 12 kilohm takes 0.108 dB (divider, analytic)."""
    device = make("interface4", "interface")
    loaded = 4.0
    assert open_circuit_dbu(device, "out3", loaded, 12_000.0) == pytest.approx(4.108, abs=0.001)
    assert open_circuit_dbu(device, "out3", loaded, float("inf")) == 4.0
    with pytest.raises(InputError, match="short circuit"):
        open_circuit_dbu(device, "out3", loaded, 0.0)


def test_a_point_and_linearity() -> None:
    point = CalibrationPoint(10.0, 4.0, -4.5, 8.0)
    assert point.full_scale_dbu == 8.5
    assert point.error_db == 0.5
    assert not point.odd
    assert CalibrationPoint(0.0, 4.0, -4.0, 2.0).odd
    line = Linearity((0.0, -10.0, -20.0), (-3.0, -13.2, -22.9))
    assert line.worst_db == pytest.approx(0.17, abs=0.01)
    assert sum(line.deviations_db) == pytest.approx(0.0)


def test_a_calibration_counts_where_its_switches_stand() -> None:
    rig = build("hybrid", "rig01")
    device = rig.device("interface")
    points = tuple(
        CalibrationPoint(gain, nominal_at(device, gain) + off, 0.0, nominal_at(device, gain))
        for gain, off in ((0.0, 0.4), (20.0, 0.8))
    )
    new = with_input_calibration(rig, device, "in1", points, "2026-01-01T00:00", "tone")
    unit = new.device("interface")
    for gain, off in ((0.0, 0.4), (10.0, 0.6), (20.0, 0.8), (40.0, 0.8)):
        turned = unit.with_setting("gain1", gain)
        _, stage = input_stage(turned, "in1")
        assert full_scale_dbu(stage, turned) == pytest.approx(nominal_at(device, gain) + off)
    padded = unit.with_setting("pad1", "on").with_setting("gain1", 0.0)
    _, stage = input_stage(padded, "in1")
    assert full_scale_dbu(stage, padded) == pytest.approx(
        nominal_input_dbu(padded, "in1")
    )  # other switches were not calibrated
    again = with_input_calibration(new, unit, "in1", points[:1], "2026-02-01T00:00", "tone")
    _, stage = input_stage(again.device("interface"), "in1")
    assert [one.made_at[:7] for one in stage.measured] == ["2026-01", "2026-02"]


def nominal_at(device: object, gain: float) -> float:
    return nominal_input_dbu(device.with_setting("gain1", gain), "in1")  # type: ignore[attr-defined]


# --- on the bench ---


@pytest.mark.parametrize("seed", [1, 2])
def test_a_tone_finds_the_hidden_unit(seed: int) -> None:
    rig = build("hybrid", "rig01")
    session = session_of(rig, rig.model_copy(update={"id": "rig02"}))
    gains = (0.0, 10.0, 30.0)
    into = PortRef(device="interface", port="in1")
    found = calibrate_input(session, BENCH, rig, into, known_dbu("1 V"), gains=gains, seed=seed)
    for point in found.points:
        here = rig.with_setting("interface", "gain1", point.gain_db)
        real = as_built(here, seed).device("interface")
        _, stage = input_stage(real, "in1")
        assert point.full_scale_dbu == pytest.approx(full_scale_dbu(stage, real), abs=FOUND_DB)
        assert 0.001 < abs(point.error_db) < 0.7
    assert found.linearity is not None
    assert found.linearity.worst_db < 0.05
    changed = found.edit("2026-11-25T10:00")(session)
    for one in changed.rigs:
        _, stage = input_stage(one.device("interface"), "in1")
        assert {m.gain_db for m in stage.measured} == set(gains)
        assert {m.how for m in stage.measured} == {"tone of 200 Hz"}
    before, after = levels_of(session)[0].diagram, levels_of(changed)[0].diagram
    assert before is not None
    assert after is not None
    assert before.track.peak != after.track.peak


def test_calibrated_the_plan_is_the_unit() -> None:
    """After calibrating at the gain in use, the plan says what the real unit records."""
    rig = build("hybrid", "rig01")
    session = session_of(rig)
    gain = rig.device("interface").number("gain1")
    found = calibrate_input(session, BENCH, rig, PortRef(device="interface", port="in1"), 0.0,
                            gains=(gain,), seed=5)  # fmt: skip
    plan = levels_of(found.edit("now")(session))[0].diagram
    real = levels_of(session_of(only_interface_as_built(rig, 5)))[0].diagram
    assert plan is not None
    assert real is not None
    assert plan.track.peak == pytest.approx(real.track.peak, abs=FOUND_DB)


def only_interface_as_built(rig: Rig, seed: int) -> Rig:
    return rig.with_device(as_built(rig, seed).device("interface"))


OUT = PortRef(device="interface", port="line_out3")
IN = PortRef(device="interface", port="line_in5")


def test_loop_back_and_the_output_and_the_box() -> None:
    """Input by tone, output against the input, box between both: every hidden figure found."""
    seed = 3
    rig = build("reamp-box", "rig01")
    out, into = PortRef(device="interface", port="out3"), PortRef(device="interface", port="in4")
    rig = rig.with_setting("interface", "gain4", 0.0)
    session = session_of(rig)
    known = calibrate_input(session, BENCH, rig, into, 4.0, gains=(0.0,), seed=seed)
    session = known.edit("a")(session)
    output = calibrate_output(session, BENCH, session.rig(), out, into, seed=seed)
    real = as_built(rig, seed).device("interface")
    _, stage = output_stage(real, "out3")
    assert output.point.full_scale_dbu == pytest.approx(
        dac_full_scale_dbu(stage, real), abs=FOUND_DB
    )
    session = output.edit("b")(session)
    ident = box_id(rig)
    box = calibrate_box(session, BENCH, session.rig(), ident, out, into, seed=seed)
    hidden = as_built(rig, seed).device(ident).paths[0].stages[0].measured_db  # type: ignore[union-attr]
    assert box.point.error_db == pytest.approx(hidden, abs=FOUND_DB)
    session = box.edit("c")(session)
    stored = session.rig().device(ident).paths[0].stages[0].measured_db  # type: ignore[union-attr]
    assert stored == pytest.approx(hidden, abs=FOUND_DB)
    again = calibrate_by_loop(session, BENCH, session.rig(), out, into, gains=(0.0,), seed=seed)
    assert again.points[0].error_db == pytest.approx(known.points[0].error_db, abs=2 * FOUND_DB)
    assert again.at_1khz_db == pytest.approx(0.0, abs=0.05)
    assert again.linearity is not None
    assert again.linearity.worst_db < 0.05


def box_id(rig: Rig) -> str:
    return next(d.id for d in rig.devices if d.kind == "reamp_box")


def test_the_send_stands_on_measured_figures() -> None:
    """A calibrated output and box move the reamp's send by exactly what they were off."""
    from diaulos.rig.course import reamp_course

    rig = build("reamp-box", "rig01")
    into = PortRef(device="interface", port="in4")
    out = next(c.source for c in rig.cables if c.target.device == box_id(rig))
    session = session_of(rig)
    nominal = solve_send(reamp_course(rig), -20.0, 12.0)
    gain = rig.device("interface").number("gain4")
    known = calibrate_input(session, BENCH, rig, into, 4.0, seed=7, gains=(gain,))
    session = known.edit("a")(session)
    output = calibrate_output(session, BENCH, session.rig(), out, into, seed=7)
    measured = solve_send(reamp_course(output.edit("b")(session).rig()), -20.0, 12.0)
    assert measured.gain_db - nominal.gain_db == pytest.approx(-output.point.error_db, abs=1e-4)
    assert abs(output.point.error_db) > 0.01


def test_a_meter_at_the_output() -> None:
    device = make("interface4", "interface")
    found = calibrate_output_by_meter(device, "out3", 4.0, -12.0, 10_000.0)
    assert found.point.full_scale_dbu == pytest.approx(16.13, abs=0.01)
    assert found.point.error_db == pytest.approx(0.13, abs=0.01)


def test_a_recorded_tone_gives_a_point() -> None:
    """1 V RMS is +2.22 dBu; read at -18 dBFS it makes +20.22 dBu at 0 dBFS (analytic)."""
    device = make("interface4", "interface").with_setting("mode1", "line")
    point = point_from_recording(
        device, "in1", known_dbu("1 V"), sine(10 ** (-18 / 20), 200.0), RATE
    )
    assert point.full_scale_dbu == pytest.approx(20.218, abs=0.01)


def test_what_cannot_be_calibrated_says_so() -> None:
    rig = build("modeler-analog", "rig01")
    with pytest.raises(RigError, match="no converter behind"):
        input_stage(rig.device("di"), "in")
    with pytest.raises(RigError, match="no converter ahead"):
        output_stage(rig.device("di"), "out")
    converter = make("converter", "converter")
    with_converter, ident = changes.add_made(rig, converter, "converter")
    with pytest.raises(RigError, match="does not play and record by USB"):
        loop_course(with_converter, PortRef(device="interface", port="out3"),
                    PortRef(device=ident, port="in1"))  # fmt: skip
    with pytest.raises(RigError, match="no transformer or trim"):
        calibrate_box(session_of(rig), BENCH, rig, "interface",
                      PortRef(device="interface", port="out3"),
                      PortRef(device="interface", port="in1"))  # fmt: skip
    assert "in1" in calibrated_inputs(rig.device("interface"))
    steps = gain_steps(rig.device("interface"), "in1")
    assert steps[0] == 0.0
    assert steps[-1] == 60.0
    assert len(steps) <= 13


def test_the_same_seed_is_the_same_unit() -> None:
    rig = build("hybrid", "rig01")
    assert as_built(rig, 4) == as_built(rig, 4)
    assert as_built(rig, 4) != as_built(rig, 5)


# --- the sound check ---


@pytest.mark.parametrize("name", ["hybrid", "modeler-analog", "bass"])
def test_a_sound_check_of_the_described_rig_agrees(name: str) -> None:
    check = bench_check(session_of(build(name, "rig01")), BENCH, seed=2)
    assert check.exact
    assert check.agrees
    assert check.causes == ()


@pytest.mark.parametrize(
    ("name", "ref", "value"),
    [
        ("hybrid", "interface.pad1", "on"),
        ("hybrid", "interface.mode3", "mic"),
        ("hybrid", "di.pad", "on"),
        ("modeler-analog", "interface.gain3", 15.0),
        ("bass", "interface.gain1", 12.0),
    ],
)
def test_the_turned_switch_is_named(name: str, ref: str, value: float | str) -> None:
    """One thing stands otherwise; the courses that share it tell which."""
    rig = build(name, "rig01")
    device, setting = ref.split(".")
    real = rig.with_setting(device, setting, value)
    courses = {t: trace(RigGraph(rig), t) for t in RigGraph(rig).tracks}
    heard = {t: planned_peak(trace(RigGraph(real), t)) for t in courses}
    causes = likely_causes(courses, heard)
    assert causes[0].ref == SettingRef(device=device, setting=setting)
    assert causes[0].value == value
    assert causes[0].explains
    fixed = take_cause_edit("rig01", causes[0])(session_of(rig))
    assert fixed.rig().device(device).setting(setting).value == value


def test_one_leg_and_the_volume_knob_are_told_apart() -> None:
    """6 dB on one symmetrical cable is a leg; 6 dB on every course of a player is the player."""
    rig = build("hybrid", "rig01")
    graph = RigGraph(rig)
    courses = {t: trace(graph, t) for t in graph.tracks}
    peaks = {t: planned_peak(c) for t, c in courses.items()}
    linear = {graph.tracks[0]: courses[graph.tracks[0]]}
    softer = likely_causes(linear, {graph.tracks[0]: peaks[graph.tracks[0]] - 9.3})
    assert softer[0].kind in ("knob", "player")
    assert any(one.kind == "player" for one in softer)
    pre = build("three-tones", "rig01")
    tones = RigGraph(pre)
    there = {t: trace(tones, t) for t in tones.tracks}
    planned = {t: planned_peak(c) for t, c in there.items()}
    legged = [
        t for t, c in there.items()
        if any(leg.exit and leg.exit.balance.value == "symmetrical" for leg in c.legs)
    ]  # fmt: skip
    for track in legged[:1]:
        heard = {**planned, track: planned[track] - 6.02}
        assert any(one.kind == "leg" for one in likely_causes(there, heard, most=9))


def test_a_surprise_is_found_on_the_bench() -> None:
    """Whatever the bench turned is among the causes, or too small to matter."""
    session = session_of(build("hybrid", "rig01"))
    found = 0
    for seed in (2, 4, 5):  # pad 3, the impulse loader's output, pad 4
        check = bench_check(session, BENCH, seed=seed, surprise=True)
        name = check.turned.partition(": ")[0]
        assert not check.agrees
        found += any(name in cause.words for cause in check.causes)
    assert found == 3


def test_an_imported_sound_check(tmp_path: Path) -> None:
    rig = build("hybrid", "rig01")
    session = session_of(rig)
    courses = traced_courses(session)
    track = next(iter(courses))
    planned = planned_peak(courses[track])
    samples = sine(10.0 ** ((planned - 15.0) / 20.0), 1000.0).astype(np.float32)
    soundfile.write(str(tmp_path / "check.wav"), samples, RATE)
    check = file_check(session, {track: ArraySource(samples, RATE)})
    assert not check.exact
    assert check.differences[0].db == pytest.approx(-15.0, abs=0.05)
    assert check.causes[0].ref == SettingRef(device="interface", setting="pad1")
    with pytest.raises(EditError, match="no course"):
        file_check(session, {PortRef(device="x", port="y"): ArraySource(samples, RATE)})
    with pytest.raises(EditError, match="channel 3 is wanted"):
        file_check(session, {track: ArraySource(samples, RATE)}, channels={track: 2})


def test_a_difference_is_taken_over() -> None:
    rig = build("hybrid", "rig01")
    session = session_of(rig)
    courses = traced_courses(session)
    track = next(iter(courses))
    planned = planned_peak(courses[track])
    samples = sine(10.0 ** ((planned + 1.5) / 20.0), 1000.0).astype(np.float32)
    check = file_check(session, {track: ArraySource(samples, RATE)})
    as_input = take_calibration_edit(courses[track], check.differences[0], "now")(session)
    assert planned_peak(traced_courses(as_input)[track]) == pytest.approx(planned + 1.5, abs=0.02)
    as_player = take_level_edit("rig01", courses[track], 1.5)(session)
    assert planned_peak(traced_courses(as_player)[track]) == pytest.approx(planned + 1.5, abs=0.02)
    assert as_player.rig().played[0].origin == "sound check"
    assert dbu_to_volt(0.0) == pytest.approx(0.7746, abs=1e-4)
