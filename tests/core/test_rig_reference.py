"""The rig against values from outside: worked examples, ngspice runs, standards' arithmetic."""

from __future__ import annotations

import numpy as np
import pytest
from one_khz import estimate

from diaulos.circuit.pickup import Active, Coil, Controls, Magnetic
from diaulos.rig import changes
from diaulos.rig.bench.processors import Slip
from diaulos.rig.catalogue.types import make
from diaulos.rig.checks.ohms import input_ohm
from diaulos.rig.checks.power import speaker_loads
from diaulos.rig.course import trace
from diaulos.rig.flow import Segment, cut
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PassiveStage, PortRef, Rig
from diaulos.rig.monitoring import plan_monitoring
from diaulos.rig.sources import PlayedSource
from diaulos.rig.templates import Patch, build
from diaulos.rig.trackplan import plan_tracks, with_planned_gains
from support import RATE, reference_cases

LEVELS = reference_cases("03_levels", "levels.json")
TIMING = reference_cases("09_timing", "timing.json")
BOXES = reference_cases("02_transformer_reamp", "cases.json")


def of_group(cases: list[dict], *groups: str) -> list[dict]:
    found = [case for case in cases if case["group"] in groups]
    assert found, groups
    return found


def named(case: dict) -> str:
    return case["id"]


def port(text: str) -> PortRef:
    device, name = text.split(".")
    return PortRef(device=device, port=name)


def rig_of(patch: Patch) -> Rig:
    return Rig(
        id="r", name=patch.name, devices=tuple(patch.devices.values()), cables=tuple(patch.cables)
    )


# --- speakers ---


def branches_of(case: dict) -> list[list[float]]:
    """Parallel branches of cabinets in series."""
    inputs = case["inputs"]
    if case["group"] == "cab_series_parallel":
        return inputs["branches"]
    series = case["group"] in ("cab_series", "cab_power_share_series")
    return [inputs["Z"]] if series else [[ohm] for ohm in inputs["Z"]]


def speakers(branches: list[list[float]]) -> Rig:
    """An amplifier on these cabinets; two in a branch go by a series link, more by a chain."""
    patch = Patch("Speakers").add("valve_combo", "amp")
    number = 0
    for branch in branches:
        source = "amp.speaker"
        for index, ohm in enumerate(branch):
            number += 1
            patch.add("cabinet4", f"cab{number}")
            device = patch.devices[f"cab{number}"]
            ports = tuple(
                p.model_copy(update={"impedance_ohm": ohm}) if p.id == "speaker" else p
                for p in device.ports
            )
            patch.devices[f"cab{number}"] = device.model_copy(update={"ports": ports})
            if index < len(branch) - 1:
                patch.add("series_link", f"link{number}")
                patch.join(source, f"link{number}.speaker")
                patch.join(f"link{number}.out1", f"cab{number}.speaker")
                source = f"link{number}.out2"
            else:
                patch.join(source, f"cab{number}.speaker")
    return rig_of(patch)


@pytest.mark.parametrize(
    "case", of_group(LEVELS, "cab_parallel", "cab_series", "cab_series_parallel"), ids=named
)
def test_cabinets_together(case: dict) -> None:
    """analytic, Kirchhoff; see the reference for each source."""
    ohm, _ = speaker_loads(RigGraph(speakers(branches_of(case))), port("amp.speaker"))
    assert ohm == pytest.approx(case["value"], rel=1e-6)


@pytest.mark.parametrize(
    "case", of_group(LEVELS, "cab_power_share_parallel", "cab_power_share_series"), ids=named
)
def test_a_cabinets_share_of_the_power(case: dict) -> None:
    _, loads = speaker_loads(RigGraph(speakers(branches_of(case))), port("amp.speaker"))
    wanted = f"cab{case['inputs']['i'] + 1}"
    shares = {load.plug.device.id: load.share for load in loads}
    assert shares[wanted] == pytest.approx(case["value"], rel=1e-6)
    assert sum(shares.values()) == pytest.approx(1.0)


AT_8_OHM = [c for c in of_group(LEVELS, "amp_power_to_dBu") if c["inputs"]["R"] == 8.0]


@pytest.mark.parametrize("case", AT_8_OHM, ids=named)
def test_an_amps_output_clips_at_its_power(case: dict) -> None:
    from diaulos.rig.catalogue.amps import valve_amp

    amp = valve_amp(power_w=case["inputs"]["P"])
    assert amp.port("speaker").max_dbu == pytest.approx(case["value"], abs=1e-6)


# --- dividers and gains ---


def active(peak_dbu: float, ohm: float = 0.01) -> PlayedSource:
    return PlayedSource("Tone", Active(ohm), peak_dbu)


def line_rig(ohm_in: float, gain_max: float = 60.0) -> Rig:
    """An instrument straight into a line input of so many ohms."""
    patch = Patch("Line").add("guitar", "guitar").add("interface2", "interface")
    patch.add("computer", "computer")
    patch.join("guitar.out", "interface.in1", 0.0).join("interface.rec1", "computer.track1")
    rig = changes.set_port(rig_of(patch), port("interface.in1"), impedance_ohm=ohm_in)
    assert rig.device("interface").setting("gain1").maximum == gain_max
    return rig


@pytest.mark.parametrize("case", of_group(LEVELS, "divider_loss"), ids=named)
def test_an_input_divides(case: dict) -> None:
    inputs = case["inputs"]
    rig = line_rig(inputs["Zin"])
    graph = RigGraph(rig, {"guitar": active(-20.0, inputs["Zout"])})
    (plan,) = plan_tracks(graph)
    at_input = next(lv for lv in plan.levels if lv.point.port.id == "in1")
    assert at_input.peak - (-20.0) == pytest.approx(case["value"], abs=0.01)
    seen = next(p for p in estimate(plan.course).ports if p.port == "in1")
    assert seen.peak - (-20.0) == pytest.approx(case["value"], abs=0.01)


@pytest.mark.parametrize("case", of_group(LEVELS, "divider_two_loads"), ids=named)
def test_two_inputs_at_one_output(case: dict) -> None:
    inputs = case["inputs"]
    rig = line_rig(inputs["Z1"])
    rig = changes.set_port(rig, port("interface.in2"), impedance_ohm=inputs["Z2"])
    from diaulos.rig.fits import joined

    rig = joined(rig, port("guitar.out"), port("interface.in2"))
    rig = changes.set_cable(rig, rig.cables[-1].id, length_m=0.0)
    graph = RigGraph(rig, {"guitar": active(-20.0, inputs["Zout"])})
    (plan,) = plan_tracks(graph)
    at_input = next(lv for lv in plan.levels if lv.point.port.id == "in1")
    assert at_input.peak + 20.0 == pytest.approx(case["value"], abs=0.01)
    seen = next(p for p in estimate(plan.course).ports if p.port == "in1")
    assert seen.peak + 20.0 == pytest.approx(case["value"], abs=0.01)


@pytest.mark.parametrize("case", of_group(LEVELS, "gain_to_target"), ids=named)
def test_the_planned_gain_is_the_worked_one(case: dict) -> None:
    """Peak, full scale and target give the gain; the catalogue's input is full at 18 dBu."""
    inputs = case["inputs"]
    wanted = case["value"] + 18.0 - inputs["max_dBu"]  # the same for an input full at 18 dBu
    rig = line_rig(1e9)
    graph = RigGraph(rig, {"guitar": active(inputs["peak_dBu"])})
    planned = with_planned_gains(rig, inputs["target_dBFS"], graph)
    knob = planned.device("interface").setting("gain1")
    assert knob.value == pytest.approx(min(60.0, max(0.0, wanted)), abs=0.51)


def gain_for_18(case: dict) -> float:
    """The gain that does the same at an input that is full at 18 dBu."""
    return case["inputs"]["gain_dB"] + 18.0 - case["inputs"]["max_dBu"]


ON_THE_KNOB = [c for c in of_group(LEVELS, "headroom_at_gain") if 0.0 <= gain_for_18(c) <= 60.0]


@pytest.mark.parametrize("case", ON_THE_KNOB, ids=named)
def test_headroom_at_a_gain(case: dict) -> None:
    inputs = case["inputs"]
    rig = line_rig(1e9)
    rig = rig.with_setting("interface", "gain1", gain_for_18(case))
    graph = RigGraph(rig, {"guitar": active(inputs["peak_dBu"])})
    (plan,) = plan_tracks(graph)
    if case["value"] > 0.0:
        assert plan.peak_dbfs == pytest.approx(-case["value"], abs=0.01)
        assert not plan.clipped
    else:
        assert max(level.clips_db for level in plan.clipped) == pytest.approx(
            -case["value"], abs=0.06
        )


# --- transformers, against ngspice ---


def di_rig(case: dict) -> tuple[Rig, dict[str, PlayedSource]]:
    """The reference's DI box between its source and a microphone input."""
    circuit = case["circuit"]
    patch = Patch("DI").add("guitar", "guitar").add("passive_di", "di")
    patch.add("mic_preamp", "pre").add("interface2", "interface").add("computer", "computer")
    length, per_m = circuit.get("cable_m", 0.0), circuit.get("cable_F_per_m", 1e-10)
    patch.join("guitar.out", "di.in", length).join("di.out", "pre.in", 0.0)
    patch.join("pre.out", "interface.in1", 0.0).join("interface.rec1", "computer.track1")
    rig = rig_of(patch)
    rig = changes.set_cable(rig, "c01", pf_per_m=per_m * 1e12)
    rig = changes.set_port(rig, port("pre.in"), impedance_ohm=circuit["Rmic"])
    box = rig.device("di")
    stage = PassiveStage(turns_ratio=circuit["turns_ratio"])
    paths = tuple(
        p.model_copy(update={"stages": (stage,)}) if p.target == "out" else p for p in box.paths
    )
    rig = rig.with_device(box.model_copy(update={"paths": paths}))
    source = circuit["source"]
    if "L" not in source:
        return rig, {}
    pots = Controls(source["Rvol"], 1.0, source["Rtone"], source["Ctone"])
    coil = Coil(source["L"], source["Rdc"], source["Cw"])
    return rig, {"guitar": PlayedSource("Case", Magnetic((coil,), pots), 0.0)}


IDEAL = [
    case for case in BOXES
    if case["group"] == "transformer_di" and case["id"].endswith("_ideal")
    and "L" in case["circuit"]["source"]
]  # fmt: skip


@pytest.mark.parametrize("case", IDEAL, ids=named)
def test_a_passive_di_in_a_rig_is_what_ngspice_gives(case: dict) -> None:
    rig, sources = di_rig(case)
    graph = RigGraph(rig, sources)
    course = trace(graph, port("computer.track1"))
    segment = next(s for s in cut(course) if isinstance(s, Segment) and s.circuit is not None)
    freqs = np.array([100.0, 1000.0, 5000.0, 10_000.0])
    got = 20.0 * np.log10(np.abs(segment.responses(freqs)[segment.load]))
    wanted = [case["results"][f"level_{name}_dB"] for name in ("100Hz", "1kHz", "5kHz", "10kHz")]
    np.testing.assert_allclose(got, wanted, atol=0.05)
    # The checks' own arithmetic at 1 kHz, and what the primary shows.
    seen = next(p for p in estimate(course).ports if p.device == "pre" and p.port == "in")
    assert seen.peak == pytest.approx(case["results"]["level_1kHz_dB"], abs=0.1)
    primary = abs(input_ohm(graph, port("di.in")))
    assert primary == pytest.approx(case["results"]["reflected_ohm"], rel=1e-6)


def test_there_are_ideal_transformers_to_compare() -> None:
    assert len(IDEAL) >= 5


# --- time ---


AT_20_C = [c for c in of_group(TIMING, "metres_to_ms") if c["inputs"]["T"] == 20.0]


@pytest.mark.parametrize("case", AT_20_C, ids=named)
def test_air_between_cabinet_and_microphone(case: dict) -> None:
    rig = build("three-tones", "r1")
    air = next(c for c in rig.cables if str(c.target) == "mic.sound")
    late = [
        trace(changes.set_cable(rig, air.id, length_m=metres), rig.tracks[2].port).delay_ms(RATE)
        for metres in (0.0, case["inputs"]["m"])
    ]
    assert late[1] - late[0] == pytest.approx(case["value"], rel=1e-6)


BUFFERS = dict(make("computer", "x").setting("buffer").options)
HAS_BUFFER = [c for c in of_group(TIMING, "buffer_ms") if str(c["inputs"]["n"]) in BUFFERS]


@pytest.mark.parametrize("case", HAS_BUFFER, ids=named)
def test_a_buffer_is_heard_twice_through_the_software(case: dict) -> None:
    """One buffer in, one out: what the reference gives for one, twice."""
    size, rate = case["inputs"]["n"], float(case["inputs"]["fs"])
    rig = build("modeler-analog", "r1").with_setting("computer", "monitoring", "on")
    late = []
    for buffer in ("32", str(size)):
        plan = plan_monitoring(RigGraph(rig.with_setting("computer", "buffer", buffer)), rate)
        late.append(min(w.delay_ms for w in plan.listeners[0].ways if w.kind == "software"))
    per_sample = case["value"] / size
    assert late[1] - late[0] == pytest.approx(2.0 * (case["value"] - 32 * per_sample), abs=1e-6)


def test_a_stream_of_another_rate_is_out_of_tune_by_the_worked_interval() -> None:
    """147 cents between 44.1 and 48 kHz: the reference's worked example."""
    (case,) = of_group(TIMING, "sample_rate_pullup_cents")
    one, other = case["inputs"]["fs2"], case["inputs"]["fs1"]
    tone = np.sin(2.0 * np.pi * 440.0 * np.arange(RATE) / RATE)
    slip = Slip(one / other)
    heard, _ = slip.process(tone, slip.initial_state())
    # Between two jumps of the buffer the pitch is that of the ratio.
    jump = int(64 / (1.0 - one / other))
    piece = heard[jump + 4 : 2 * jump - 4]
    crossings = np.flatnonzero((piece[:-1] < 0.0) & (piece[1:] >= 0.0))
    exact = crossings - piece[crossings] / (piece[crossings + 1] - piece[crossings])
    hz = RATE * (len(exact) - 1) / (exact[-1] - exact[0])
    cents = 1200.0 * np.log2(440.0 / hz)
    assert cents == pytest.approx(case["value"], abs=5.0)


def test_no_choice_of_cases_is_empty() -> None:
    assert all((AT_8_OHM, ON_THE_KNOB, AT_20_C, HAS_BUFFER))
