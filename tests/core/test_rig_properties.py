"""What must hold for any rig: two ways of reckoning agree, quick answers are the slow ones."""

from __future__ import annotations

import random
from itertools import pairwise

import networkx as nx
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from mutants import mutants
from one_khz import estimate
from test_rig_whole import random_change
from truth import turned

from diaulos.errors import DiaulosError
from diaulos.rig.bench.unit import as_built
from diaulos.rig.catalogue.types import make
from diaulos.rig.checks import Context, Severity, run_checks
from diaulos.rig.checks.power import speaker_loads
from diaulos.rig.course import stage_delay_ms
from diaulos.rig.graph import EARTH, RigGraph, joins_shields
from diaulos.rig.layout import lay_out
from diaulos.rig.levels.calibration import (
    CalibrationPoint,
    calibrated_inputs,
    with_input_calibration,
)
from diaulos.rig.model import SOFTWARE, PortRef, Rig
from diaulos.rig.monitoring import plan_monitoring
from diaulos.rig.templates import TEMPLATES, Patch, build
from diaulos.rig.trackplan import plan_tracks
from diaulos.session.model import Session
from diaulos.units import metres_to_ms
from diaulos.work.rigs.look import courses_data, findings_data, look_at
from support import RATE

NAMES = st.sampled_from(sorted(TEMPLATES))


def shaken(name: str, seed: int, share: float = 0.3) -> Rig:
    """A template with some of its knobs turned and switches thrown."""
    return turned(build(name, "r1"), random.Random(seed), share)


@settings(max_examples=60)
@given(NAMES, st.integers(0, 10_000))
def test_the_plan_and_the_checks_reckon_the_same_level(name: str, seed: int) -> None:
    """Written twice, sharing nothing but the description: 0.1 dB at 1 kHz, whatever is set."""
    graph = RigGraph(shaken(name, seed), tone=True)
    for plan in plan_tracks(graph):
        if plan.course is None or plan.problem is not None:
            continue
        assert estimate(plan.course).track_dbfs == pytest.approx(plan.peak_dbfs, abs=0.1)


@settings(max_examples=30)
@given(NAMES, st.integers(0, 10_000))
def test_they_do_so_for_calibrated_units_too(name: str, seed: int) -> None:
    rng = random.Random(seed)
    rig = as_built(shaken(name, seed), seed)
    for device in rig.devices:
        for port in calibrated_inputs(device):
            points = tuple(
                CalibrationPoint(gain, 12.0 - gain + rng.uniform(-2.0, 2.0), 0.0, 0.0)
                for gain in (0.0, 12.0, 40.0)
            )
            rig = with_input_calibration(rig, rig.device(device.id), port, points, "now", "drawn")
    for plan in plan_tracks(RigGraph(rig, tone=True)):
        if plan.course is None or plan.problem is not None:
            continue
        assert estimate(plan.course).track_dbfs == pytest.approx(plan.peak_dbfs, abs=0.1)


@settings(max_examples=40)
@given(NAMES, st.integers(0, 10_000))
def test_anything_can_be_looked_at(name: str, seed: int) -> None:
    """Random edits and faults: no exception, a drawing, figures for scripts, remedies that
    can be applied."""
    rng = random.Random(seed)
    rig = build(name, "r1")
    for step in range(rng.randrange(1, 9)):
        try:
            if rng.random() < 0.5:
                rig = next(iter(mutants(rig, seed + step, 1))).rig
            else:
                rig = random_change(rig, rng)
        except (DiaulosError, IndexError, ValueError):
            continue  # what cannot be done here
    session = Session(id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id)
    report = look_at(session)
    assert len(courses_data(report, RATE)) == len(report.graph.tracks)
    assert len(findings_data(report.findings)) == len(report.findings)
    layout = lay_out(report.graph)
    assert {box.device for box in layout.boxes} == {d.id for d in rig.devices}
    assert {wire.cable for wire in layout.wires} == {c.id for c in rig.cables}
    for one in report.findings:
        if one.mend is not None:
            mended = one.mend.change(rig)
            assert Rig.model_validate(mended.model_dump()) == mended
            run_checks(Context(RigGraph(mended)))


@settings(max_examples=40)
@given(NAMES, st.integers(0, 10_000))
def test_a_remedy_never_makes_the_worst_worse(name: str, seed: int) -> None:
    rig = shaken(name, seed, 0.15)
    found = run_checks(Context(RigGraph(rig)))
    before = sum(one.severity >= Severity.FAULT for one in found)
    for one in found:
        if one.mend is None or one.severity < Severity.CAUTION:
            continue
        after = run_checks(Context(RigGraph(one.mend.change(rig))))
        assert one.key not in {f.key for f in after}
        dangers = [f for f in after if f.severity is Severity.DANGER]
        assert len(dangers) <= sum(f.severity is Severity.DANGER for f in found)
        assert sum(f.severity >= Severity.FAULT for f in after) <= before + 2


# --- ground loops ---


def slow_loops(rig: Rig) -> set[str]:
    """Cables on some simple circle through the earth, by listing every circle."""
    graph = RigGraph(rig)
    plain = nx.Graph()
    for device in rig.devices:
        if device.earthed:
            plain.add_edge(EARTH, (device.id, "chassis"))
    for cable, source, target in graph.cables():
        if joins_shields(source.port, target.port, cable):
            plain.add_edge((source.device.id, source.port.ground), ("cable", cable.id))
            plain.add_edge(("cable", cable.id), (target.device.id, target.port.ground))
    found: set[str] = set()
    for circle in nx.simple_cycles(plain):
        if EARTH in circle:
            found |= {node[1] for node in circle if node[0] == "cable"}
    return found


@settings(max_examples=40)
@given(NAMES, st.integers(0, 10_000))
def test_ground_loops_are_the_circles_through_the_earth(name: str, seed: int) -> None:
    rng = random.Random(seed)
    rig = build(name, "r1")
    devices = tuple(d.model_copy(update={"earthed": rng.random() < 0.5}) for d in rig.devices)
    rig = rig.model_copy(update={"devices": devices})
    assert set(RigGraph(rig).loop_cables) == slow_loops(rig)


# --- speakers ---


def nodal_ohm(rig: Rig) -> float:
    """The load of amp.speaker by nodal analysis: every plug has a hot and a cold node."""
    parent: dict[tuple, tuple] = {}

    def root(node: tuple) -> tuple:
        while parent.setdefault(node, node) != node:
            node = parent[node]
        return node

    def join(a: tuple, b: tuple) -> None:
        parent[root(a)] = root(b)

    resistors = []
    for device in rig.devices:
        if device.kind == "cabinet":
            for pole in "hc":
                join((device.id, "speaker", pole), (device.id, "link", pole))
            ohm = device.port("speaker").impedance_ohm
            resistors.append(((device.id, "speaker", "h"), (device.id, "speaker", "c"), ohm))
        elif device.kind == "series_link":
            join((device.id, "speaker", "h"), (device.id, "out1", "h"))
            join((device.id, "out1", "c"), (device.id, "out2", "h"))
            join((device.id, "out2", "c"), (device.id, "speaker", "c"))
    for cable in rig.cables:
        for pole in "hc":
            join((cable.source.device, cable.source.port, pole),
                 (cable.target.device, cable.target.port, pole))  # fmt: skip
    hot, cold = root(("amp", "speaker", "h")), root(("amp", "speaker", "c"))
    nodes = sorted({root(end) for a, b, _ in resistors for end in (a, b)} | {hot, cold})
    at = {node: index for index, node in enumerate(n for n in nodes if n != cold)}
    matrix = np.zeros((len(at), len(at)))
    for a, b, ohm in resistors:
        one, two = at.get(root(a)), at.get(root(b))
        for x, y in ((one, two), (two, one)):
            if x is not None:
                matrix[x, x] += 1.0 / ohm
                if y is not None:
                    matrix[x, y] -= 1.0 / ohm
    current = np.zeros(len(at))
    current[at[hot]] = 1.0
    return float(np.linalg.lstsq(matrix, current, rcond=None)[0][at[hot]])


def speaker_tree(seed: int) -> Rig:
    """Cabinets linked on, or split by series links, at random."""
    rng = random.Random(seed)
    patch = Patch("Tree").add("valve_combo", "amp")
    open_ends = ["amp.speaker"]
    for number in range(rng.randrange(1, 7)):
        source = open_ends.pop(rng.randrange(len(open_ends)))
        if rng.random() < 0.4:
            patch.add("series_link", f"link{number}")
            patch.join(source, f"link{number}.speaker")
            open_ends += [f"link{number}.out1", f"link{number}.out2"]
            continue
        patch.add("cabinet1", f"cab{number}")
        device = patch.devices[f"cab{number}"]
        ohm = rng.choice((2.0, 4.0, 8.0, 16.0))
        ports = tuple(
            p.model_copy(update={"impedance_ohm": ohm}) if p.id == "speaker" else p
            for p in device.ports
        )
        patch.devices[f"cab{number}"] = device.model_copy(update={"ports": ports})
        patch.join(source, f"cab{number}.speaker")
        open_ends.append(f"cab{number}.link")
    for number, source in enumerate(open_ends):
        if ".out" in source:  # a series link with an open end carries nothing
            patch.add("cabinet2", f"end{number}").join(source, f"end{number}.speaker")
    return Rig(id="r", name="R", devices=tuple(patch.devices.values()), cables=tuple(patch.cables))


@settings(max_examples=60)
@given(st.integers(0, 100_000))
def test_any_tree_of_cabinets_is_what_kirchhoff_says(seed: int) -> None:
    rig = speaker_tree(seed)
    ohm, loads = speaker_loads(RigGraph(rig), PortRef(device="amp", port="speaker"))
    assert ohm == pytest.approx(nodal_ohm(rig), rel=1e-6)
    assert sum(load.share for load in loads) == pytest.approx(1.0)


# --- monitoring ---


def slow_ways(graph: RigGraph, listener: str) -> dict[tuple[str, str], float]:
    """The quickest way of every kind to a listener, by listing every simple way."""
    plain = nx.DiGraph()
    for cable, source, target in graph.cables():
        air = metres_to_ms(cable.length_m) if source.port.signal_class.value == "sound" else 0.0
        plain.add_edge(
            (source.device.id, source.port.id), (target.device.id, target.port.id), late=air
        )
    for device in graph.rig.devices:
        for path in device.live_paths:
            late = sum(stage_delay_ms(stage, device, RATE) for stage in path.stages)
            a, b = (device.id, path.source), (device.id, path.target)
            if not plain.has_edge(a, b) or plain.edges[a, b]["late"] > late:
                plain.add_edge(a, b, late=late)
    found: dict[tuple[str, str], float] = {}
    recorders = {d.id for d in graph.rig.devices if d.kind in ("recorder", SOFTWARE)}
    for device in graph.rig.devices:
        start = (device.id, "out")
        if device.kind != "instrument" or start not in plain or (listener, "in") not in plain:
            continue
        for way in nx.all_simple_paths(plain, start, (listener, "in")):
            late = sum(plain.edges[e]["late"] for e in pairwise(way))
            kind = "software" if any(node[0] in recorders for node in way) else "direct"
            key = (kind, device.id)
            found[key] = min(late, found.get(key, np.inf))
    return found


@settings(max_examples=40)
@given(NAMES, st.sampled_from(["off", "on"]), st.sampled_from(["off", "on"]), st.integers(0, 4))
def test_monitoring_finds_the_quickest_way(
    name: str, direct: str, software: str, buffer: int
) -> None:
    rig = build(name, "r1").with_setting("computer", "monitoring", software)
    rig = rig.with_setting("computer", "buffer", str(2 ** (5 + buffer)))
    if any(d.id == "interface" for d in rig.devices):
        rig = rig.with_setting("interface", "direct", direct)
    graph = RigGraph(rig)
    plan = plan_monitoring(graph, RATE)
    for one in plan.listeners:
        ways: dict[tuple[str, str], float] = {}
        for way in one.ways:  # every tap and fader has its own; the quickest of a kind comes first
            if way.kind != "playback":
                ways.setdefault((way.kind, way.source_id), way.delay_ms)
        assert ways == pytest.approx(slow_ways(graph, one.listener_id))


def test_the_quickest_way_is_taken_where_there_are_two() -> None:
    """Through the slow modeler and beside it: both are told, the quick one first."""
    patch = Patch("Two ways")
    for type_id, ident in (
        ("guitar", "guitar"), ("passive_splitter", "y"), ("floor_modeler", "modeler"),
        ("line_mixer", "mixer"), ("headphones", "headphones"),
    ):  # fmt: skip
        patch.add(type_id, ident)
    patch.join("guitar.out", "y.in").join("y.out1", "modeler.in")
    patch.join("modeler.out_l", "mixer.in1").join("y.out2", "mixer.in2")
    patch.join("mixer.out", "headphones.in")
    rig = Rig(id="r", name="R", devices=tuple(patch.devices.values()), cables=tuple(patch.cables))
    (one,) = plan_monitoring(RigGraph(rig), RATE).listeners
    assert [way.tap for way in one.ways] == ["di", "modeled"]
    assert one.ways[0].delay_ms == 0.0
    assert one.ways[1].delay_ms > 1.0
    assert one.layered
    assert make("line_mixer", "x").mixer
