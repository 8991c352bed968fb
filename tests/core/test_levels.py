"""The level diagram and its noise against worked examples, standards and the sound itself."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from diaulos.circuit.pickup import Active
from diaulos.errors import RigError
from diaulos.rig import changes
from diaulos.rig.bench import Bench, BenchFaults, RigBench
from diaulos.rig.catalogue.types import make
from diaulos.rig.course import Course, trace
from diaulos.rig.elements import BAND_A, BAND_HZ, GRID_HZ, flat_density, tones_density
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.diagram import LevelDiagram, dither_dbfs, level_diagram
from diaulos.rig.levels.settings import settings_on, with_values
from diaulos.rig.levels.whatif import scenario, scenarios, swap_device
from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    Device,
    Direction,
    InputNoise,
    Path,
    PlayedLevel,
    PortRef,
    SettingRef,
    SignalClass,
)
from diaulos.rig.noise import input_noise, voltage_noise_dbu
from diaulos.rig.sources import PlayedSource
from diaulos.rig.templates import TEMPLATES, Patch, build
from diaulos.signal.amp import VOICES, AmpSettings, drive_signal, idle_response
from diaulos.signal.weighting import a_weighting_gain
from diaulos.units import dbu_to_peak_volt, gain_to_db, power_sum_db
from support import RATE, reference_cases

LEVELS = reference_cases("03_levels", "levels.json")
HUM = reference_cases("07_hum_noise", "hum_noise.json")
TRACK = PortRef(device="computer", port="track1")
ONE_NOISE_DB = 0.5
"""Between planned and played noise: some seconds of random noise, and the amplifiers' rest."""


def cases(*groups: str) -> list[dict]:
    found = [case for case in LEVELS if case["group"] in groups]
    assert found, groups
    return found


def close(case: dict) -> object:
    return pytest.approx(case["value"], **{case["tol_kind"]: case["tol"]})


# --- one input by itself: a source of 150 ohm, a gain, a converter ---


def bare_input(
    max_dbu: float, gain_db: float, ein_dbu: float | None, floor_dbfs: float, current_pa: float = 0
) -> Device:
    """An input that loads nothing, with nothing but these figures."""
    device = make("interface2", "interface")
    ports = tuple(
        port.model_copy(
            update={"impedance_ohm": 1e9, "modes": (), "max_dbu": None,
                    "signal_class": SignalClass.MIC}
        )
        if port.id == "in1"
        else port
        for port in device.ports
    )  # fmt: skip
    noise = () if ein_dbu is None else (InputNoise(ein_dbu=ein_dbu, current_pa=current_pa),)
    stage = AdcStage(
        full_scale_dbu=max_dbu, latency_samples=0.0, floor_dbfs=floor_dbfs, input_noise=noise,
        control="gain1",
    )  # fmt: skip
    paths = tuple(
        Path(source="in1", target="rec1", stages=(stage,)) if p.target == "rec1" else p
        for p in device.paths
    )
    settings = tuple(
        s.model_copy(update={"minimum": -20.0, "maximum": 80.0, "step": 0.01, "value": gain_db})
        if s.id == "gain1"
        else s
        for s in device.settings
    )
    return device.model_copy(update={"ports": ports, "paths": paths, "settings": settings})


def fed(device: Device, peak_dbu: float, ohm: float = 150.0) -> Course:
    patch = Patch("One input")
    patch.add("bass", "source").add("computer", "computer")
    patch.devices["interface"] = device
    patch.join("source.out", "interface.in1", 0.0).join("interface.rec1", "computer.track1")
    rig = changes.checked(
        build("bass", "r1"), devices=tuple(patch.devices.values()), cables=tuple(patch.cables),
        tracks=(),
    )  # fmt: skip
    sources = {"source": PlayedSource("Source", Active(ohm), peak_dbu)}
    return trace(RigGraph(rig, sources), TRACK)


@pytest.mark.parametrize("case", cases("noise_floor_dBFS"), ids=lambda c: c["id"])
def test_noise_floor_of_an_input_and_its_converter(case: dict) -> None:
    """An EIN closed with 150 ohm comes out as published, plus the converter's floor."""
    i = case["inputs"]
    device = bare_input(i["max_dBu"], i["gain_dB"], i["ein_dBu"], i["conv_floor_dBFS"])
    assert level_diagram(fed(device, -20.0)).track.noise == close(case)


@pytest.mark.parametrize("case", cases("snr_after_gain"), ids=lambda c: c["id"])
def test_signal_to_noise_after_a_gain(case: dict) -> None:
    i = case["inputs"]
    device = bare_input(i["max_dBu"], i["gain_dB"], i["ein_dBu"], i["conv_floor_dBFS"])
    assert level_diagram(fed(device, i["peak_dBu"])).snr_db == close(case)


@pytest.mark.parametrize("case", cases("gain_where_pre_equals_converter"), ids=lambda c: c["id"])
def test_gain_where_the_input_is_as_loud_as_its_converter(case: dict) -> None:
    i = case["inputs"]
    device = bare_input(i["max_dBu"], case["value"], i["ein_dBu"], i["conv_floor_dBFS"])
    shares = {s.kind: s.dbfs for s in level_diagram(fed(device, -20.0)).budget}
    assert power_sum_db(shares["voltage"], shares["thermal"]) == pytest.approx(
        shares["converter"], abs=0.005
    )


@pytest.mark.parametrize("case", cases("amp_only_noise_from_ein"), ids=lambda c: c["id"])
def test_voltage_noise_from_a_published_figure(case: dict) -> None:
    """The reference takes out the 150 ohm at 300 K."""
    assert voltage_noise_dbu(case["inputs"]["ein_dBu"], 300.0) == close(case)
    assert voltage_noise_dbu(-140.0) == -300.0  # quieter than its own resistor: nothing is left


@pytest.mark.parametrize("case", cases("ein_with_other_source"), ids=lambda c: c["id"])
def test_noise_with_another_source(case: dict) -> None:
    """2.2 kilohm in place of 150 ohm, current noise neglected."""
    device = bare_input(0.0, 0.0, -128.0, -200.0)
    noise = level_diagram(fed(device, -20.0, case["inputs"]["R"])).track.noise
    assert noise == close(case)


def test_current_noise_works_on_the_source() -> None:
    """i_n R by hand: 1 pA over 10 kilohm is 10 nV per root hertz (analytic)."""
    device = bare_input(0.0, 0.0, -128.0, -200.0, current_pa=1.0)
    shares = {s.kind: s.dbfs for s in level_diagram(fed(device, -20.0, 10e3)).budget}
    wanted = gain_to_db(1e-12 * 10e3 * math.sqrt(19_980.0) / math.sqrt(0.6))
    assert shares["current"] == pytest.approx(wanted, abs=0.01)


def test_a_pad_raises_the_noise_re_the_input() -> None:
    device = make("interface2", "interface").with_setting("mode1", "mic")
    path = next(p for p in device.paths if p.source == "in1" and p.target == "rec1")
    stage = path.stages[0]
    assert isinstance(stage, AdcStage)
    plain = input_noise(stage.input_noise, stage.offsets, device)
    padded = input_noise(stage.input_noise, stage.offsets, device.with_setting("pad1", "on"))
    assert plain is not None
    assert padded is not None
    assert padded.voltage_dbu - plain.voltage_dbu == pytest.approx(15.0)
    assert plain.current_a > 0.0 == padded.current_a


@pytest.mark.parametrize("case", cases("tpdf_noise_re_sine"), ids=lambda c: c["id"])
def test_dither(case: dict) -> None:
    assert dither_dbfs(case["inputs"]["bits"]) == close(case)


@pytest.mark.parametrize("case", cases("chain_di_pre"), ids=lambda c: c["id"])
def test_di_pad_gain_converter(case: dict) -> None:
    """The chain of the worked example, loss by loss, as a rig."""
    i = case["inputs"]
    device = bare_input(i["max_dBu"], i["gain_dB"] - i["di_loss_dB"] - i["pad_dB"], None, -200.0)
    if i["gain_dB"] - i["di_loss_dB"] - i["pad_dB"] < -20.0:
        pytest.fail("the knob of the test does not reach that far")
    assert level_diagram(fed(device, i["peak_dBu"])).track.peak == close(case)


@pytest.mark.parametrize("case", cases("upad_balanced_loss"), ids=lambda c: c["id"])
def test_the_inline_pad_loses_what_its_resistors_say(case: dict) -> None:
    i = case["inputs"]
    patch = Patch("Pad")
    patch.add("bass", "source").add("inline_pad", "pad").add("computer", "computer")
    device = bare_input(0.0, 0.0, None, -200.0)
    ports = tuple(
        p.model_copy(update={"impedance_ohm": i["Zin"]}) if p.id == "in1" else p
        for p in device.ports
    )
    patch.devices["interface"] = device.model_copy(update={"ports": ports})
    patch.join("source.out", "pad.in", 0.0).join("pad.out", "interface.in1", 0.0)
    patch.join("interface.rec1", "computer.track1")
    rig = changes.checked(
        build("bass", "r1"), devices=tuple(patch.devices.values()), cables=tuple(patch.cables),
        tracks=(),
    )  # fmt: skip
    source = {"source": PlayedSource("Source", Active(i["Zout"]), 0.0)}
    assert level_diagram(trace(RigGraph(rig, source), TRACK)).track.peak == close(case)


@pytest.mark.parametrize(
    "case", [c for c in HUM if c["group"] == "a_weighting"], ids=lambda c: c["id"]
)
def test_a_weighting(case: dict) -> None:
    """IEC 61672-1, pole frequencies from memory."""
    got = gain_to_db(float(a_weighting_gain(np.array([case["inputs"]["f"]]))[0]))
    assert got == close(case)


def test_the_grid_weighs_noise_and_tones_rightly() -> None:
    assert float(flat_density(-100.0) @ BAND_HZ) == pytest.approx(1e-10)
    tones = tones_density(((50.0, 2.0), (1000.0, 3.0)))
    assert float(tones @ BAND_HZ) == pytest.approx(5.0)
    weighted = 2.0 * a_weighting_gain(np.array([50.0]))[0] ** 2 + 3.0
    assert float(tones @ BAND_A) == pytest.approx(weighted, rel=0.01)
    white_a = 10.0 * math.log10(float(flat_density(0.0) @ BAND_A))
    fine = np.linspace(20.0, 20_000.0, 200_001)
    exact = 10.0 * math.log10(float(np.mean(np.square(a_weighting_gain(fine)))))
    assert white_a == pytest.approx(exact, abs=0.05)
    assert 1000.0 in GRID_HZ


# --- diagrams of whole rigs ---


def diagrams(name: str) -> list[LevelDiagram]:
    graph = RigGraph(build(name, "r1"))
    return [level_diagram(trace(graph, track)) for track in graph.tracks]


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_every_template_has_its_diagrams(name: str) -> None:
    for diagram in diagrams(name):
        assert diagram.stations[-1].unit == "dBFS"
        assert diagram.first_clip is not None
        if diagram.course.conversions:
            assert diagram.noise_set_by is not None
            assert 50.0 < diagram.snr_db < 125.0
        else:  # numbers alone: nothing hisses
            assert diagram.noise_set_by is None
        assert len({s.place.key for s in diagram.stations}) == len(diagram.stations)
        for station in diagram.stations:
            assert station.typical < station.peak
            if station.ceiling is not None:
                assert station.headroom_db == pytest.approx(station.ceiling - station.peak)
        sums = max(-300.0, power_sum_db(*(share.dbfs for share in diagram.budget)))
        assert sums == pytest.approx(diagram.track.noise, abs=1e-6)


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_the_diagram_and_the_level_plan_say_the_same(name: str) -> None:
    """Two walks over one course; where nothing clips they must meet."""
    from diaulos.rig.trackplan import course_levels

    for diagram in diagrams(name):
        if any((s.headroom_db or 1.0) < 0.0 for s in diagram.stations):
            continue
        planned = {
            f"{level.point.leg}.{level.point.port.id}": level.peak
            for level in course_levels(diagram.course)
        }
        for station in diagram.stations:
            if station.place.key in planned and "." in station.place.key:
                assert station.peak == pytest.approx(planned[station.place.key], abs=0.01)


def silent(graph: RigGraph, source: str, seconds: float) -> dict[PortRef, np.ndarray]:
    bench = RigBench(graph, source, RATE, BenchFaults(seed=4, latency=False))
    second = round(RATE)
    bench.process(np.zeros(second))
    return bench.process(np.zeros(round(seconds * second)))


def band_dbfs(x: np.ndarray, *, weighted: bool = False) -> float:
    """RMS from 20 Hz to 20 kHz, AES17, by the spectrum."""
    power = np.abs(np.fft.rfft(x)) ** 2
    freqs = np.fft.rfftfreq(x.size, 1.0 / RATE)
    band = (freqs >= 20.0) & (freqs <= 20_000.0)
    if weighted:
        power = power * a_weighting_gain(np.maximum(freqs, 1e-3)) ** 2
    return 10.0 * math.log10(4.0 * float(power[band].sum()) / x.size**2)


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_the_planned_noise_is_what_is_played(name: str) -> None:
    """Silence into the bench: thermal, voltage and current noise, stages, converters, hum and
    the idle amplifier, each worked out twice. 0.5 dB, A-weighted too."""
    graph = RigGraph(build(name, "r1"))
    start = trace(graph, graph.tracks[0]).start.device.id
    for track, heard in silent(graph, start, 6.0).items():
        diagram = level_diagram(trace(graph, track))
        if not diagram.course.conversions:
            assert not heard.any()
            assert diagram.track.noise < -200.0
            continue
        assert band_dbfs(heard) == pytest.approx(diagram.track.noise, abs=ONE_NOISE_DB)
        played = band_dbfs(heard, weighted=True)
        assert played == pytest.approx(diagram.track.noise_a, abs=ONE_NOISE_DB)


@pytest.mark.parametrize("voice", sorted(VOICES))
def test_the_idle_amplifier_has_this_response(voice: str) -> None:
    """A tone far too small to drive it, through the amplifier itself: 0.05 dB."""
    settings = AmpSettings(voice=voice, drive=6.0, bass=7.0, mid=3.0, treble=6.5, master_db=-8.0)
    for hz in (60.0, 440.0, 3000.0, 9000.0):
        time = np.arange(RATE) / RATE
        out = drive_signal(1e-6 * np.sin(2 * np.pi * hz * time), settings, RATE)[RATE // 2 :]
        rest = np.mean(out)
        turn = np.exp(-2j * np.pi * hz * np.arange(out.size) / RATE)
        got = 2.0 * abs(np.mean((out - rest) * turn)) / 1e-6
        wanted = float(idle_response(settings, np.array([hz]), RATE)[0])
        assert gain_to_db(got / wanted) == pytest.approx(0.0, abs=0.05)


def linear(course: Course) -> bool:
    return not any(
        isinstance(stage, AmpStage) for leg in course.legs if leg.path for stage in leg.path.stages
    )


@pytest.mark.parametrize("name", ["modeler-digital", "hybrid", "split-chain", "bass"])
def test_what_clips_first_clips_first_in_the_sound(name: str) -> None:
    """A 1 kHz sine raised to 0.3 dB under and over the named headroom: the station's own limit
    is met then and not before, and no other one is."""
    graph = RigGraph(build(name, "r1"), tone=True)
    for track in graph.tracks:
        course = trace(graph, track)
        if not linear(course):
            continue
        diagram = level_diagram(course)
        first = diagram.first_clip
        assert first is not None
        assert first.headroom_db is not None
        for over, clips in ((-0.3, False), (0.3, True)):
            level = diagram.source_peak + first.headroom_db + over
            source = replace(course.source, emf_peak_dbu=level)  # type: ignore[type-var]
            there = level_diagram(replace(course, source=source))
            beyond = [s for s in there.stations if (s.headroom_db or 1.0) < -0.05]
            heard = probe_peaks(course, level)
            assert bool(beyond) is clips
            if clips:
                assert beyond[0].place.key == first.place.key
            for station in there.stations:
                if station.place.key in heard and not clips:
                    assert heard[station.place.key] == pytest.approx(station.peak, abs=0.1)
            assert (distortion_db(course, level) > -45.0) is clips


def played_sine(course: Course, emf_dbu: float) -> np.ndarray:
    time = np.arange(RATE // 2) / RATE
    volts = dbu_to_peak_volt(emf_dbu) * np.sin(2 * np.pi * 1000.0 * time)
    return Bench(course, RATE, BenchFaults.none()).process(volts)[RATE // 4 :]


def distortion_db(course: Course, emf_dbu: float) -> float:
    """All but the fundamental, re it."""
    out = played_sine(course, emf_dbu)
    power = np.abs(np.fft.rfft(out * np.hanning(out.size))) ** 2
    at = int(np.argmax(power))
    tone = power[at - 3 : at + 4].sum()
    rest = power[200:].sum() - tone
    return 10.0 * math.log10(rest / tone)


def probe_peaks(course: Course, emf_dbu: float) -> dict[str, float]:
    """Peak at the recorded track by the bench, in dBFS."""
    out = played_sine(course, emf_dbu)
    last = len(course.legs) - 1
    assert course.legs[last].entry is not None
    return {f"{last}.{course.track.port}": gain_to_db(float(np.abs(out).max()))}


# --- settings of a course ---


def test_what_the_solver_may_turn() -> None:
    graph = RigGraph(build("hybrid", "r1"))
    amp = {s.ref.setting: s for s in settings_on(trace(graph, graph.tracks[1]))}
    assert amp["level"].kept.startswith("ahead of the amplifier")
    assert amp["gain3"].kept == "" == amp["pad3"].kept
    freed = {s.ref.setting: s for s in settings_on(trace(graph, graph.tracks[1]), free_tone=True)}
    assert freed["level"].kept == ""
    tones = RigGraph(build("three-tones", "r1"))
    mic = {s.ref.setting: s for s in settings_on(trace(tones, tones.tracks[2]), free_tone=True)}
    assert any("loudness in the room" in s.kept for s in mic.values())
    locked = replace_rig(graph, SettingRef(device="interface", setting="gain3"))
    kept = {s.ref.setting: s.kept for s in settings_on(trace(locked, graph.tracks[1]))}
    assert kept["gain3"] == "locked"


def replace_rig(graph: RigGraph, *locks: SettingRef) -> RigGraph:
    rig = graph.rig
    for lock in locks:
        rig = changes.set_lock(rig, lock, True)
    return RigGraph(rig, graph.sources)


def test_a_course_with_other_values_is_that_of_the_changed_rig() -> None:
    graph = RigGraph(build("modeler-digital", "r1"))
    course = trace(graph, graph.tracks[2])
    for setting in settings_on(course, free_tone=True):
        for value in setting.steps[:3]:
            quick = level_diagram(with_values(course, {setting.ref: value}))
            rig = graph.rig.with_setting(setting.ref.device, setting.ref.setting, value)
            slow = level_diagram(trace(RigGraph(rig), course.track))
            assert [s.peak for s in quick.stations] == pytest.approx(
                [s.peak for s in slow.stations]
            )
            assert quick.track.noise == pytest.approx(slow.track.noise)


def test_locks_and_played_levels_go_with_their_device() -> None:
    rig = build("hybrid", "r1")
    rig = changes.set_lock(rig, SettingRef(device="interface", setting="gain1"), True)
    rig = changes.set_played(rig, PlayedLevel(device="guitar", emf_peak_dbu=3.0))
    assert changes.remove_device(rig, "interface").locked == ()
    assert changes.remove_device(rig, "guitar").played == ()
    assert changes.forget_played(rig, "guitar").played == ()
    with pytest.raises(RigError, match="no control 'nothing'"):
        changes.set_lock(rig, SettingRef(device="interface", setting="nothing"), True)


# --- what if ---


def test_what_if_questions() -> None:
    graph = RigGraph(build("hybrid", "r1"))
    course = trace(graph, graph.tracks[0])
    before = level_diagram(course)
    asked = {one.id: level_diagram(one.change(course)) for one in scenarios(course)}
    assert asked["hotter"].track.peak - before.track.peak == pytest.approx(6.0)
    digs = asked["digs-in"]
    assert digs.track.peak - before.track.peak == pytest.approx(4.0)
    assert digs.track.typical - before.track.typical == pytest.approx(2.0)
    assert asked["di-passive_di"].track.peak < before.track.peak - 3.0
    assert asked["interface.mode1=line"].track.peak < before.track.peak - 5.0
    assert asked["active"].course.source is not None
    assert asked["active"].course.source.active
    with pytest.raises(RigError, match="cannot be asked 'nothing'"):
        scenario(course, "nothing")


def test_an_active_instrument_gets_no_hotter_than_its_electronics() -> None:
    graph = RigGraph(build("bass", "r1"))
    course = trace(graph, graph.tracks[0])
    hotter = scenario(course, "hotter").change(course)
    assert hotter.source is not None
    assert hotter.source.emf_peak_dbu == hotter.source.max_dbu == 8.0


def test_another_box_must_have_the_plugs_that_are_used() -> None:
    rig = build("hybrid", "r1")
    assert swap_device(rig, "di", "passive_di").device("di").type == "passive_di"
    buffered = changes.checked(
        rig,
        cables=tuple(
            c.model_copy(update={"source": PortRef(device="di", port="buffered")})
            if c.source == PortRef(device="di", port="thru")
            else c
            for c in rig.cables
        ),
    )
    with pytest.raises(RigError, match="has no buffered output"):
        swap_device(buffered, "di", "passive_di")


# --- bad input ---


def test_nothing_of_zero_impedance_gets_in() -> None:
    device = make("interface2", "interface")
    with pytest.raises(ValueError, match="greater than 0"):
        Device.model_validate(
            {
                **device.model_dump(),
                "ports": [
                    {**p.model_dump(), "impedance_ohm": 0.0}
                    if p.direction is Direction.IN
                    else p.model_dump()
                    for p in device.ports
                ],
            }
        )
