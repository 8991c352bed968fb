"""Device by device: what the catalogue's types do in a course, in figures and in sound."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.errors import RigError
from diaulos.rig import changes
from diaulos.rig.bench import BenchFaults, RigBench
from diaulos.rig.bench.steps import clock_ratio, speaks
from diaulos.rig.catalogue.types import TYPES, make
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.course import can_reamp, trace, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.ground import is_exposed
from diaulos.rig.model import Balance, CableKind, PortRef, Rig, SignalClass
from diaulos.rig.templates import Patch, build
from diaulos.rig.trackplan import plan_tracks
from diaulos.units import dbu_to_peak_volt, gain_to_db
from support import RATE


def port(text: str) -> PortRef:
    device, name = text.split(".")
    return PortRef(device=device, port=name)


def chain(*types: str, into: str = "line", **settings: dict[str, float | str]) -> Rig:
    """A guitar through boxes with "in" and "out" ports into input 1, recorded on track 1."""
    patch = Patch("Chain").add("guitar", "guitar")
    source = "guitar.out"
    for number, entry in enumerate(types):
        type_id, _, ports = entry.partition(":")
        way_in, _, way_out = (ports or "in-out").partition("-")
        ident = f"d{number}"
        patch.add(type_id, ident, **settings.get(ident, {}))
        patch.join(source, f"{ident}.{way_in}", 1.0)
        source = f"{ident}.{way_out}"
    patch.add("interface2", "interface", mode1=into, **settings.get("interface", {}))
    patch.add("computer", "computer")
    patch.join(source, "interface.in1", 1.0).join("interface.rec1", "computer.track1", 1.0)
    return Rig(id="r", name="R", devices=tuple(patch.devices.values()), cables=tuple(patch.cables))


def track_peak(rig: Rig) -> float:
    (plan,) = plan_tracks(RigGraph(rig, tone=True))
    assert plan.problem is None
    assert plan.peak_dbfs is not None
    return plan.peak_dbfs


def heard(rig: Rig, hz: float = 1000.0) -> float:
    """Peak in dBFS of a sine at the source's EMF peak, from the sound."""
    graph = RigGraph(rig)
    (plan,) = plan_tracks(graph)
    assert plan.course is not None
    assert plan.course.source is not None
    emf = dbu_to_peak_volt(plan.course.source.emf_peak_dbu)
    tone = emf * np.sin(2.0 * np.pi * hz * np.arange(RATE // 2) / RATE)
    out = RigBench(graph, "guitar", RATE, BenchFaults.none()).process(tone)[plan.track]
    return gain_to_db(float(np.sqrt(2.0 * np.mean(out[out.size // 2 :] ** 2))))


@pytest.mark.parametrize(
    ("types", "into"),
    [
        ((), "instrument"),
        (("passive_splitter:in-out1",), "instrument"),
        (("buffered_splitter:in-out2",), "instrument"),
        (("switcher:in-a",), "instrument"),
        (("pedal",), "instrument"),
        (("stereo_pedal:in-out_r",), "instrument"),
        (("passive_di:in-out",), "mic"),
        (("active_di:in-out",), "mic"),
        (("active_di:in-buffered", "line_isolator"), "line"),
        (("active_di:in-buffered", "isolation_transformer:in2-out2"), "line"),
        (("floor_modeler:in-send",), "instrument"),
        (("active_di:in-buffered", "impulse_loader"), "line"),
        (("active_di:in-out", "mic_preamp"), "line"),
        (("active_di:in-buffered", "line_mixer:in3-out"), "line"),
        (("active_di:in-buffered", "passive_reamp"), "instrument"),
        (("valve_head:in-send",), "line"),
        (("bass_amp:in-di",), "mic"),
    ],
)
def test_figures_and_sound_agree_through_every_box(types: tuple[str, ...], into: str) -> None:
    """Linear boxes: within 0.1 dB at 1 kHz. (An impulse loader's response at 1 kHz as well.)"""
    rig = chain(*types, into=into)
    planned = track_peak(rig)
    if planned < -0.05:  # what clips is no sine any more
        assert heard(rig) == pytest.approx(planned, abs=0.1)


def test_a_pad_takes_what_it_says() -> None:
    plain = chain(into="line")
    padded = plain.with_setting("interface", "pad1", "on")
    assert track_peak(plain) - track_peak(padded) == pytest.approx(15.0)
    box = chain("active_di:in-out", into="mic")
    assert track_peak(box) - track_peak(box.with_setting("d0", "pad", "on")) == pytest.approx(20.0)


def test_a_true_bypass_switcher_leads_one_way() -> None:
    rig = chain("switcher:in-a", into="instrument")
    course = trace(rig, port("computer.track1"))
    assert course.source is not None
    away = rig.with_setting("d0", "way", "b")
    ends = trace(away, port("computer.track1"))
    assert ends.source is None  # a box with nothing behind it
    assert ends.start.device.id == "d0"


def test_a_bypassed_pedal_prints_nothing() -> None:
    on = chain("pedal", into="instrument")
    assert trace(on, port("computer.track1")).tap == "printed"
    off = on.with_setting("d0", "bypass", "off")
    assert trace(off, port("computer.track1")).tap == "di"
    louder = on.with_setting("d0", "level", 6.0)
    assert track_peak(louder) - track_peak(on) == pytest.approx(6.0)


def test_the_loop_of_an_amp_is_in_the_course_when_it_is_on() -> None:
    head = make("valve_head", "amp")
    assert {p.target for p in head.live_paths if p.source == "in"} == {"speaker", "send"}
    looped = head.with_setting("loop", "on")
    assert {p.target for p in looped.live_paths if p.source == "in"} == {"send"}
    assert {p.target for p in looped.live_paths if p.source == "return"} == {"speaker"}


# --- channels ---


def optical() -> Rig:
    """Two instruments by a converter's optical link: inputs 3 and 8."""
    patch = Patch("Optical").add("guitar", "guitar").add("bass", "bass")
    patch.add("converter", "converter").add("interface8", "interface", clock="optical_in")
    patch.add("computer", "computer")
    patch.join("guitar.out", "converter.in3").join("bass.out", "converter.in8")
    patch.join("converter.optical_out", "interface.optical_in")
    for stream in (13, 18):
        patch.join(f"interface.rec{stream}", f"computer.track{stream}")
    return Rig(id="r", name="R", devices=tuple(patch.devices.values()), cables=tuple(patch.cables))


def test_eight_channels_keep_their_order() -> None:
    rig = optical()
    starts = {
        one.track.port: one.course.start.device.id for one in trace_all(RigGraph(rig)) if one.course
    }
    assert starts == {"track13": "guitar", "track18": "bass"}
    assert not [f for f in run_checks(Context(RigGraph(rig))) if f.id.startswith("clock")]


def test_two_channels_do_not_carry_a_third() -> None:
    rig = optical()
    ends = {"source": port("converter.aes_out"), "target": port("interface.coax_in")}
    cables = tuple(
        c.model_copy(update=ends) if str(c.source) == "converter.optical_out" else c
        for c in rig.cables
    )  # fmt: skip
    graph = RigGraph(rig.model_copy(update={"cables": cables}))
    assert not speaks(graph, next(c for c in cables if c.source.port == "aes_out"))
    assert "format-mismatch" in {f.id for f in run_checks(Context(graph))}


def test_a_usb_isolator_hands_streams_on_and_parts_the_grounds() -> None:
    patch = Patch("USB").add("guitar", "guitar").add("interface2", "interface")
    patch.add("usb_isolator", "usb").add("computer", "computer")
    patch.join("guitar.out", "interface.in1").join("interface.rec1", "usb.in1")
    patch.join("usb.out1", "computer.track1")
    rig = Rig(id="r", name="R", devices=tuple(patch.devices.values()), cables=tuple(patch.cables))
    assert trace(rig, port("computer.track1")).start.device.id == "guitar"
    grounds = {p.id: p.ground for p in rig.device("usb").ports}
    assert grounds["in1"] != grounds["out1"]


# --- clocks ---


@pytest.mark.parametrize(
    ("rate", "clock", "ratio"),
    [("48000", "coax_in", 1.0), ("44100", "coax_in", 44.1 / 48.0), ("48000", "internal", 1.00005)],
)
def test_how_many_samples_come_for_each_taken(rate: str, clock: str, ratio: float) -> None:
    rig = build("modeler-digital", "r1").with_setting("modeler", "rate", rate)
    rig = rig.with_setting("interface", "clock", clock)
    link = next(c for c in rig.cables if str(c.target) == "interface.coax_in")
    assert clock_ratio(RigGraph(rig), link) == pytest.approx(ratio)


def test_two_free_clocks_are_heard_as_slips() -> None:
    rig = build("modeler-digital", "r1")
    free = rig.with_setting("interface", "clock", "internal")
    tone = 0.02 * np.sin(2.0 * np.pi * 500.0 * np.arange(3 * RATE) / RATE)
    outs = [
        RigBench(RigGraph(r), "guitar", RATE, BenchFaults.none()).process(tone) for r in (rig, free)
    ]
    linked, dry = port("computer.track1"), port("computer.track3")
    assert not np.allclose(outs[0][linked], outs[1][linked], atol=1e-6)
    np.testing.assert_allclose(outs[0][dry], outs[1][dry], atol=1e-12)


# --- what cannot be ---


def test_what_a_bench_leaves_out_says_why() -> None:
    rig = build("hybrid", "r1")
    rest = tuple(c for c in rig.cables if str(c.target) != "loader.in")
    bench = RigBench(RigGraph(rig.model_copy(update={"cables": rest})), "guitar", RATE,
                     BenchFaults())  # fmt: skip
    assert set(bench.courses) == {port("computer.track1"), port("computer.track2")}
    assert "Impulse loader" in bench.left_out[port("computer.track3")]
    with pytest.raises(RigError, match="Nothing that is recorded starts here"):
        RigBench(RigGraph(rig), "amp", RATE, BenchFaults())


@pytest.mark.parametrize(
    ("name", "reamps"),
    [("reamp-box", True), ("reamp-usb", True), ("hybrid", False), ("bass", False)],
)
def test_which_rigs_can_reamp(name: str, reamps: bool) -> None:
    assert can_reamp(build(name, "r1")) is reamps


def test_only_unbalanced_analog_cables_are_exposed_to_hum() -> None:
    line, jack = make("interface4", "a").port("out3"), make("valve_head", "b").port("send")
    balanced_in = make("interface4", "a").port("in1")
    guitar_in = make("valve_head", "b").port("in")
    cable = build("hybrid", "r1").cables[0]
    assert line.balance is Balance.IMPEDANCE
    assert not is_exposed(cable, line, balanced_in)
    assert is_exposed(cable, jack, balanced_in)
    assert is_exposed(cable, line, guitar_in)
    thin = cable.model_copy(update={"kind": CableKind.INSTRUMENT})
    assert is_exposed(thin, line, balanced_in)
    usb = make("interface4", "a").port("rec1")
    assert not is_exposed(cable, usb, usb)


def test_the_catalogue_has_every_kind_that_a_studio_asks_for() -> None:
    kinds = {make(type_id, "x").kind for type_id in TYPES}
    assert {
        "instrument", "recorder", "interface", "converter", "preamp", "modeler", "impulse_loader",
        "di", "reamp_box", "splitter", "switcher", "isolator", "mixer", "pedal", "supply", "amp",
        "load_box", "attenuator", "cabinet", "series_link", "microphone", "monitor", "headphones",
        "controller",
    } <= kinds  # fmt: skip
    valves = {make(type_id, "x").valve for type_id in ("valve_combo", "bass_amp")}
    assert valves == {True, False}
    assert make("bass_amp", "x").port("speaker").bridged
    assert make("ribbon", "x").port("out").phantom_harms
    assert make("condenser", "x").port("out").needs_phantom
    classes = {p.signal_class for t in TYPES for p in make(t, "x").ports}
    assert classes | {SignalClass.MIC} >= set(SignalClass)


def test_a_figure_changes_nothing_else() -> None:
    rig = build("hybrid", "r1")
    other = changes.set_port(rig, port("drive.in"), impedance_ohm=100e3)
    back = changes.set_port(other, port("drive.in"), impedance_ohm=470e3)
    assert back == rig
    assert track_peak(_only(other)) < track_peak(_only(rig)) - 0.3  # it loads the guitar


def _only(rig: Rig) -> Rig:
    """The dry track alone."""
    cables = tuple(
        c for c in rig.cables
        if c.target.device != "computer" or str(c.target) == "computer.track1"
    )  # fmt: skip
    return rig.model_copy(update={"cables": cables, "tracks": ()})
