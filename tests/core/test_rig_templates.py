"""Every arrangement in figures: what is recorded, from where, how, how late."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import pytest

from diaulos.rig.checks.cabling import node_load
from diaulos.rig.course import trace
from diaulos.rig.flow import Segment, cut
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.templates import TEMPLATES, build
from diaulos.rig.trackplan import plan_tracks
from support import program

"""Input gains come in steps of 1 dB."""

WANTED: dict[str, list[tuple[str, str, str, int, int | None, float]]] = {
    # name, tap, source, conversions, input number, ms after the source at 48 kHz
    "software-amp": [
        ("DI", "di", "guitar", 1, 1, 0.797),
        ("Modeled left", "modeled", "guitar", 1, None, 0.797),
        ("Modeled right", "modeled", "guitar", 1, None, 0.797),
    ],
    "reamp-software": [
        ("Reamp left", "modeled", "computer", 0, None, 0.0),
        ("Reamp right", "modeled", "computer", 0, None, 0.0),
    ],
    "reamp-bass": [
        ("Lows", "mic", "computer", 2, 3, 2.538),
        ("Highs", "mic", "computer", 2, 4, 1.810),
    ],
    "reamp-both": [
        ("Amp", "amp", "computer", 2, 3, 1.664),
        ("Amp and cabinet", "cabinet", "computer", 4, 4, 3.610),
    ],
    "reamp-loop": [
        ("Reamp left", "cabinet", "computer", 2, 5, 2.546),
        ("Reamp right", "cabinet", "computer", 2, 6, 2.546),
    ],
    "modeler-digital": [
        ("Modeled left", "modeled", "guitar", 1, 5, 1.906),
        ("Modeled right", "modeled", "guitar", 1, 6, 1.906),
        ("DI", "di", "guitar", 3, 1, 1.943),
    ],
    "modeler-analog": [
        ("DI", "di", "guitar", 1, 1, 0.797),
        ("Modeled left", "modeled", "guitar", 3, 3, 3.343),
        ("Modeled right", "modeled", "guitar", 3, 4, 3.343),
    ],
    "modeler-usb": [
        ("Modeled left", "modeled", "guitar", 1, 1, 1.906),
        ("Modeled right", "modeled", "guitar", 1, 2, 1.906),
        ("DI", "di", "guitar", 1, 3, 0.506),
    ],
    "split-chain": [
        ("Modeled", "modeled", "guitar", 3, 1, 3.343),
        ("DI", "di", "guitar", 3, 2, 1.943),
    ],
    "hybrid": [
        ("DI", "di", "guitar", 1, 1, 0.797),
        ("Amp", "amp", "guitar", 1, 3, 0.797),
        ("Amp and cabinet", "cabinet", "guitar", 3, 4, 2.743),
    ],
    "three-tones": [
        ("DI", "di", "guitar", 1, 1, 0.797),
        ("Amp", "amp", "guitar", 1, 3, 0.797),
        ("Microphone", "mic", "guitar", 1, 4, 0.942),
    ],
    "bass": [
        ("DI", "di", "bass", 1, 1, 0.797),
        ("Lows", "mic", "bass", 1, 3, 1.671),
        ("Highs", "mic", "bass", 1, 4, 0.942),
    ],
    "reamp-box": [("Reamp return", "cabinet", "computer", 2, 4, 1.664)],
    "reamp-usb": [
        ("Reamp left", "modeled", "computer", 0, 1, 1.4),
        ("Reamp right", "modeled", "computer", 0, 2, 1.4),
    ],
    "amp-in-loop": [
        ("DI", "di", "guitar", 1, 3, 0.506),
        ("Amp and cabinet left", "cabinet", "guitar", 3, 5, 3.052),
        ("Amp and cabinet right", "cabinet", "guitar", 3, 6, 3.052),
    ],
    "straight": [("DI", "di", "guitar", 1, 1, 0.797)],
    "amp-load": [
        ("DI", "di", "guitar", 1, 1, 0.797),
        ("Amp and cabinet", "cabinet", "guitar", 1, 2, 0.797),
    ],
    "amp-mic": [
        ("DI", "di", "guitar", 1, 1, 0.797),
        ("Microphone", "mic", "guitar", 1, 2, 1.088),
    ],
}


def test_every_template_is_listed() -> None:
    assert set(WANTED) == set(TEMPLATES)


@pytest.mark.parametrize("name", sorted(WANTED))
def test_what_a_template_records(name: str) -> None:
    rig = build(name, "r1")
    plans = {plan.track: plan for plan in plan_tracks(RigGraph(rig))}
    assert len(plans) == len(rig.tracks) == len(WANTED[name])
    for track, wanted in zip(rig.tracks, WANTED[name], strict=True):
        plan = plans[track.port]
        assert plan.course is not None
        got = (track.name, plan.tap, plan.source, plan.course.conversions, track.input_number)
        assert got == wanted[:5]
        assert (track.tap, track.source) == (plan.tap, plan.source)
        assert plan.delay_ms(48_000.0) == pytest.approx(wanted[5], abs=1e-3)
        assert not plan.clipped
        assert plan.rates == ("48000",)


@pytest.mark.parametrize("name", sorted(WANTED))
def test_inputs_stand_at_the_target_where_there_is_a_knob(name: str) -> None:
    from diaulos.rig.trackplan import gain_for

    for plan in plan_tracks(RigGraph(build(name, "r1"))):
        found = gain_for(plan, -12.0)
        assert plan.peak_dbfs is not None
        if found is not None:
            device, control, value = found
            assert device.number(control.id) == value  # nothing left to do
            if control.minimum < value < control.maximum:
                assert plan.converter_dbfs is not None
                assert -12.0 - control.step <= plan.converter_dbfs <= -12.0 + 1e-6


@pytest.mark.parametrize("name", sorted(WANTED))
def test_a_template_under_another_id_is_the_same_rig(name: str) -> None:
    one, other = build(name, "a"), build(name, "b")
    assert one.id == "a"
    assert one.model_copy(update={"id": "b"}) == other
    assert Rig.model_validate_json(one.model_dump_json()) == one


# --- a node with several loads, against ngspice ---


def spice_db(folder: Path, lines: list[str], node: str) -> np.ndarray:
    ngspice = program("ngspice")
    run = [".control", "ac dec 10 100 10000", f"wrdata out.txt vdb({node})", ".endc", ".end"]
    (folder / "node.cir").write_text("\n".join(["node", *lines, *run]) + "\n")
    subprocess.run([ngspice, "-b", "node.cir"], cwd=folder, check=False, capture_output=True)
    table = np.loadtxt(folder / "out.txt")
    assert table.shape[0] > 15
    return table


def test_a_guitar_on_a_di_and_an_amp_at_once_is_what_ngspice_gives(tmp_path: Path) -> None:
    """Three tones: the pickup sees the DI box and, by its link, the amp and both cables."""
    rig = build("three-tones", "r1")
    graph = RigGraph(rig)
    course = trace(graph, rig.tracks[1].port)  # the amp's: by the link
    segment = next(s for s in cut(course) if isinstance(s, Segment) and s.circuit is not None)
    assert segment.load.port.id == "in"
    circuit = segment.circuit
    (coil,) = circuit.coils
    pots = circuit.controls
    cables = {str(c.target): c for c in rig.cables}
    di, amp = graph.plug(PortRef(device="di", port="in")), segment.load
    lines = [
        "V1 emf 0 AC 1",
        f"L1 emf a {coil.inductance_h}",
        f"R1 a hot {coil.resistance_ohm}",
        f"C1 hot 0 {coil.winding_f}",
        f"Rv hot 0 {pots.volume_ohm}",
        f"Rt hot t {pots.tone_ohm}",
        f"Ct t 0 {pots.tone_f}",
        f"C2 hot 0 {cables['di.in'].capacitance_f}",
        f"Rd hot 0 {di.port.impedance_ohm}",
        f"C3 hot 0 {di.port.capacitance_pf * 1e-12}",
        f"C4 hot 0 {cables['amp.in'].capacitance_f}",
        f"Ra hot 0 {amp.port.impedance_ohm}",
        f"C5 hot 0 {amp.port.capacitance_pf * 1e-12}",
    ]
    table = spice_db(tmp_path, lines, "hot")
    got = 20.0 * np.log10(np.abs(segment.responses(table[:, 0])[segment.load]))
    np.testing.assert_allclose(got, table[:, 1], atol=0.05)
    # And what the checks take the pickup's load to be.
    ohm, farad, cables_there = node_load(graph, PortRef(device="guitar", port="out"))
    assert ohm == pytest.approx(1.0 / (1.0 / 10e6 + 1.0 / 1e6), rel=1e-6)
    assert farad == pytest.approx(
        sum(c.capacitance_f for c in cables_there) + 15e-12 + 60e-12, rel=1e-6
    )


def test_a_reamp_box_between_line_output_and_amp_is_what_ngspice_gives(tmp_path: Path) -> None:
    rig = build("reamp-box", "r1").with_setting("reamp_box", "trim", -9.5)
    course = trace(rig, rig.tracks[0].port)
    segment = next(
        s for s in cut(course)
        if isinstance(s, Segment) and not s.digital and s.source.port.id == "out3"
    )  # fmt: skip
    stage = rig.device("reamp_box").paths[0].stages[0]
    cables = {str(c.target): c for c in rig.cables}
    part = 10.0 ** (-9.5 / 20.0)
    amp = segment.load.port
    lines = [
        "V1 emf 0 AC 1",
        f"Ro emf a {segment.source.port.impedance_ohm}",
        f"C1 a 0 {cables['reamp_box.in'].capacitance_f}",
        f"Lm a 0 {stage.magnetising_h}",
        f"E1 s 0 a 0 {1.0 / stage.turns_ratio}",
        "Vs s s2 0",
        f"F1 a 0 Vs {1.0 / stage.turns_ratio}",
        f"Rt1 s2 w {(1.0 - part) * stage.trim_ohm}",
        f"Rt2 w 0 {part * stage.trim_ohm}",
        f"Rs w out {stage.series_out_ohm}",
        f"C2 out 0 {cables['amp.in'].capacitance_f + amp.capacitance_pf * 1e-12}",
        f"Ri out 0 {amp.impedance_ohm}",
    ]
    table = spice_db(tmp_path, lines, "out")
    got = 20.0 * np.log10(np.abs(segment.responses(table[:, 0])[segment.load]))
    np.testing.assert_allclose(got, table[:, 1], atol=0.05)
