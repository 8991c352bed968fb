"""Networks against circuit simulation (ngspice runs in reference/01 and /02) and, where it
is installed, against an ngspice process on a netlist generated from the rig's own model."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from diaulos.circuit.network import (
    capacitor,
    chain,
    inductor,
    node_levels,
    parallel,
    resistor,
    series,
    shunt,
    transformer,
    unit_source,
)
from diaulos.circuit.pickup import PickupCircuit, loaded_level
from diaulos.rig.catalogue import reamp_rig
from diaulos.rig.course import reamp_course
from diaulos.rig.flow import Segment, cut, passive_two_port
from diaulos.rig.model import PassiveStage
from diaulos.units import volt_to_dbu
from support import program, reference_cases

LEVEL_DB = 0.05
FREQS = np.array([100.0, 1000.0, 5000.0, 10_000.0])
PLAIN = {"kind", "L", "Rdc", "Cw", "Rvol", "Rtone", "Ctone", "volume_k", "tone_fraction",
         "cable_m", "cable_F_per_m", "Rin", "Cin"}  # fmt: skip
PICKUPS = [
    case
    for case in reference_cases("01_pickup_loading", "cases.json")
    if case["circuit"]["kind"] == "inductive"
    and {"L", "Rvol", "Rtone"} <= set(case["circuit"]) <= PLAIN
]
REAMPS = [
    case
    for case in reference_cases("02_transformer_reamp", "cases.json")
    if case["group"] == "reamp" and "Lk" not in case["circuit"] and "Lser" not in case["circuit"]
]


def _pickup(c: dict) -> PickupCircuit:
    return PickupCircuit(
        c["L"], c["Rdc"], c["Cw"], c["Rvol"], c["Rtone"], c["Ctone"],
        c["volume_k"], c["tone_fraction"],
    )  # fmt: skip


@pytest.mark.parametrize("case", PICKUPS, ids=lambda case: case["id"])
def test_pickup_loading(case: dict) -> None:
    c = case["circuit"]
    cable = c["cable_m"] * c["cable_F_per_m"]
    level = loaded_level(_pickup(c), FREQS, cable_f=cable, load_ohm=c["Rin"], load_f=c["Cin"])
    got = 20.0 * np.log10(np.abs(level))
    keys = ("level_100Hz_dB", "level_1kHz_dB", "level_5kHz_dB", "level_10kHz_dB")
    np.testing.assert_allclose(got, [case["results"][k] for k in keys], atol=LEVEL_DB)


@pytest.mark.parametrize("case", PICKUPS, ids=lambda case: case["id"])
def test_thermal_noise_of_the_loaded_pickup(case: dict) -> None:
    c = case["circuit"]
    freqs = np.geomspace(20.0, 20_000.0, 4000)
    load = parallel(
        resistor(c["Rin"], freqs), capacitor(c["cable_m"] * c["cable_F_per_m"] + c["Cin"], freqs)
    )
    noise = _pickup(c).source(freqs).through(shunt(load)).noise_v_rms(freqs)
    assert volt_to_dbu(noise) == pytest.approx(case["results"]["noise_dBu"], abs=0.1)


@pytest.mark.parametrize("case", REAMPS, ids=lambda case: case["id"])
def test_reamp_box(case: dict) -> None:
    c = case["circuit"]
    stage = PassiveStage(
        series_in_ohm=c.get("pad_series_ohm", 0.0),
        shunt_ohm=c.get("pad_shunt_ohm"),
        turns_ratio=c.get("turns_ratio", 1.0),
        trim_ohm=c.get("trim"),
        series_out_ohm=c["Rser"],
    )
    loss = -20.0 * np.log10(c.get("k", 1.0))
    box = passive_two_port(stage, loss, FREQS)
    cable = shunt(capacitor(c["cable_m"] * c["cable_F_per_m"], FREQS))
    load = parallel(resistor(c["Rin"], FREQS), capacitor(c["Cin"], FREQS))
    level = node_levels(resistor(c["Rout"], FREQS), [box, cable], load)[-1]
    keys = ("level_100Hz_dB", "level_1kHz_dB", "level_5kHz_dB", "level_10kHz_dB")
    want = [case["results"][k] for k in keys]
    np.testing.assert_allclose(20.0 * np.log10(np.abs(level)), want, atol=LEVEL_DB)


def test_magnetising_inductance_against_simulation() -> None:
    """The case with a real transformer, its parasitics built from the same parts."""
    case = next(
        case
        for case in reference_cases("02_transformer_reamp", "cases.json")
        if case["id"] == "re_x4_real"
    )
    c = case["circuit"]
    k = c["k"]
    parts = [
        series(resistor(c["Rp"], FREQS) + inductor(c["Lk"], FREQS)),
        shunt(inductor(c["Lm"], FREQS)),
        transformer(c["turns_ratio"], FREQS),
        series(resistor(c["Rs"] + (1.0 - k) * c["trim"], FREQS)),
        shunt(resistor(k * c["trim"], FREQS)),
        series(resistor(c["Rser"], FREQS)),
        shunt(capacitor(c["cable_m"] * c["cable_F_per_m"], FREQS)),
    ]
    load = parallel(resistor(c["Rin"], FREQS), capacitor(c["Cin"], FREQS))
    level = node_levels(resistor(c["Rout"], FREQS), parts, load)[-1]
    keys = ("level_100Hz_dB", "level_1kHz_dB", "level_5kHz_dB", "level_10kHz_dB")
    want = [case["results"][key] for key in keys]
    np.testing.assert_allclose(20.0 * np.log10(np.abs(level)), want, atol=LEVEL_DB)


def test_send_against_an_ngspice_process(tmp_path: Path) -> None:
    """The send of the catalogue's rig, as the rig describes it, run through ngspice."""
    ngspice = program("ngspice")
    segment = next(s for s in cut(reamp_course(reamp_rig())) if isinstance(s, Segment)
                   and not s.digital)  # fmt: skip
    first, box, last = (link.two_port for link in segment.links)
    stage = box[1]
    n, trim = stage.turns_ratio, stage.trim_ohm
    load = segment.load.port
    lines = [
        "send",
        "V1 emf 0 AC 1",
        f"Rout emf a {segment.source.port.impedance_ohm}",
        f"C1 a 0 {first.capacitance_f}",
        f"Lm a 0 {stage.magnetising_h}",
        f"E1 sec 0 a 0 {1.0 / n}",
        "Vs sec s2 0",
        f"F1 a 0 Vs {1.0 / n}",
        f"Rtrim s2 0 {trim}",
        f"Rser s2 out {stage.series_out_ohm}",
        f"C2 out 0 {last.capacitance_f + load.capacitance_pf * 1e-12}",
        f"Rin out 0 {load.impedance_ohm}",
        ".control",
        "ac dec 10 100 10000",
        "wrdata result.txt vdb(out)",
        ".endc",
        ".end",
    ]
    (tmp_path / "send.cir").write_text("\n".join(lines) + "\n")
    subprocess.run([ngspice, "-b", "send.cir"], cwd=tmp_path, check=False, capture_output=True)
    table = np.loadtxt(tmp_path / "result.txt")
    got = segment.responses(table[:, 0])[segment.load]
    assert table.shape[0] > 15
    np.testing.assert_allclose(20.0 * np.log10(np.abs(got)), table[:, 1], atol=LEVEL_DB)


@given(st.floats(1e3, 1e7), st.floats(1e3, 1e7))
def test_more_load_never_raises_the_level(one: float, two: float) -> None:
    pickup = PickupCircuit(4.4, 8200.0, 150e-12)
    freqs = np.geomspace(20.0, 20_000.0, 60)
    open_level = np.abs(loaded_level(pickup, freqs, cable_f=300e-12, load_ohm=one))
    both = one * two / (one + two)
    loaded = np.abs(loaded_level(pickup, freqs, cable_f=300e-12, load_ohm=both))
    assert np.all(loaded <= open_level * (1.0 + 1e-9))


def test_chain_of_nothing_is_a_wire() -> None:
    wire = chain([], FREQS)
    source = unit_source(150.0, FREQS).through(wire)
    np.testing.assert_allclose(source.emf, 1.0)
    np.testing.assert_allclose(source.impedance, 150.0)
