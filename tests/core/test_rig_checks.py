"""Every check fires on a rig that it is for, and stays quiet on one that is well."""

from __future__ import annotations

import random
from collections.abc import Callable

import numpy as np
import pytest
from one_khz import estimate

from diaulos.rig.catalogue import load_box, reamp_rig
from diaulos.rig.catalogue.types import make
from diaulos.rig.checks import REGISTRY, Context, Finding, Severity, run_checks
from diaulos.rig.checks.power import speaker_loads
from diaulos.rig.course import trace_all
from diaulos.rig.fits import joined
from diaulos.rig.graph import RigGraph
from diaulos.rig.ground import loop_hum_v
from diaulos.rig.levels.calibration import CalibrationPoint, with_output_calibration
from diaulos.rig.model import CableKind, DeviceMap, PlannedTrack, PortRef, Rig, Tie
from diaulos.rig.templates import TEMPLATES, Patch, build
from diaulos.rig.trackplan import plan_tracks

QUIET = "quiet"


def findings(rig: Rig) -> tuple[Finding, ...]:
    return run_checks(Context(RigGraph(rig)))


def ids(rig: Rig) -> set[str]:
    return {finding.id for finding in findings(rig)}


def one(rig: Rig, ident: str) -> Finding:
    return next(finding for finding in findings(rig) if finding.id == ident)


def template(name: str, *changes: tuple[str, str, float | str]) -> Rig:
    rig = build(name, "r1")
    for device, setting, value in changes:
        rig = rig.with_setting(device, setting, value)
    return rig


def patch(*devices: tuple[str, str], join: tuple[tuple[str, str], ...] = ()) -> Rig:
    """Devices by (type, id), joined port to port."""
    made = Patch("made")
    for type_id, device_id in devices:
        made.add(type_id, device_id)
    for source, target in join:
        made.join(source, target)
    return bare(made)


def bare(made: Patch) -> Rig:
    return Rig(
        id="r1", name=made.name, devices=tuple(made.devices.values()), cables=tuple(made.cables)
    )


def port(text: str) -> PortRef:
    device, name = text.split(".")
    return PortRef(device=device, port=name)


def replugged(rig: Rig, source: str, target: str, new_target: str) -> Rig:
    """The cable between two ports moved to another input."""
    cables = tuple(
        c.model_copy(update={"target": port(new_target)})
        if (str(c.source), str(c.target)) == (source, target)
        else c
        for c in rig.cables
    )
    assert cables != rig.cables
    return rig.model_copy(update={"cables": cables})


def without(rig: Rig, source: str, target: str) -> Rig:
    rest = tuple(c for c in rig.cables if (str(c.source), str(c.target)) != (source, target))
    assert len(rest) < len(rig.cables)
    return rig.model_copy(update={"cables": rest})


def with_cable(rig: Rig, target: str, **values: object) -> Rig:
    """The cable into this input changed."""
    cables = tuple(
        c.model_copy(update=values) if str(c.target) == target else c for c in rig.cables
    )
    assert cables != rig.cables
    return rig.model_copy(update={"cables": cables})


def with_port(rig: Rig, where: str, **values: object) -> Rig:
    device = rig.device(port(where).device)
    ports = tuple(
        p.model_copy(update=values) if p.id == port(where).port else p for p in device.ports
    )
    return rig.with_device(device.model_copy(update={"ports": ports}))


def with_device(rig: Rig, device_id: str, **values: object) -> Rig:
    return rig.with_device(rig.device(device_id).model_copy(update=values))


def calibrated(at_db: float) -> Rig:
    """A modeler whose jack output was measured with its knob there."""
    rig = build("modeler-analog", "r1").with_setting("modeler", "output", at_db)
    found = CalibrationPoint(at_db, at_db, -12.0, 12.0 + at_db)
    return with_output_calibration(rig, rig.device("modeler"), "out_l", (found,), "", "meter")


def by_modeler(output_db: float, level: str) -> Rig:
    """An amplifier behind a modeler that only passes on, by its jack output."""
    rig = plus(build("hybrid", "r1"), "floor_modeler", "m")
    for setting, value in (("model", "off"), ("cabinet", "none"), ("out_level", level)):
        rig = rig.with_setting("m", setting, value)
    rig = replugged(rig.with_setting("m", "output", output_db), "echo.out", "amp.in", "m.in")
    return joined(rig, port("m.out_l"), port("amp.in"))


def two_amps(voice: str) -> Rig:
    """One guitar into two amplifiers, an inverting one and one of this voice."""
    rig = plus(plus(build("hybrid", "r1"), "valve_combo", "amp2"), "reactive_load", "load2")
    rig = rig.with_setting("amp2", "voice", voice)
    for source, target in (
        ("echo.out", "amp2.in"),
        ("amp2.speaker", "load2.speaker"),
        ("load2.plain", "interface.in2"),
        ("interface.rec2", "computer.track4"),
    ):
        rig = joined(rig, port(source), port(target))
    return rig


def plus(rig: Rig, type_id: str, device_id: str, *joins: tuple[str, str]) -> Rig:
    rig = rig.model_copy(update={"devices": (*rig.devices, make(type_id, device_id))})
    for source, target in joins:
        rig = joined(rig, port(source), port(target))
    return rig


def bridged(load: str) -> Rig:
    """A bridged bass amp into the older load box, whose line shares the speaker's ground, or
    into the isolated one."""
    rig = patch(("bass", "bass"), ("bass_amp", "amp"), ("interface2", "interface"),
                join=(("bass.out", "amp.in"),))  # fmt: skip
    box = load_box() if load == "earthed" else make("reactive_load", "load_box")
    rig = rig.model_copy(update={"devices": (*rig.devices, box)})
    rig = joined(rig, port("amp.speaker"), port("load_box.speaker"))
    return joined(rig, port("load_box.line"), port("interface.in1"))


def reamp_without_isolation() -> Rig:
    """A computer and an amp, both earthed, joined by an unbalanced cable."""
    return patch(
        ("computer", "computer"), ("interface4", "interface"), ("valve_combo", "amp"),
        ("reactive_load", "load_box"),
        join=(
            ("computer.play3", "interface.play3"), ("interface.out3", "amp.in"),
            ("amp.speaker", "load_box.speaker"), ("load_box.line", "interface.in4"),
            ("interface.rec4", "computer.track5"),
        ),
    )  # fmt: skip


def cabinets(*, series: bool, count: int = 2) -> Rig:
    rig = patch(("guitar", "guitar"), ("valve_combo", "amp"), join=(("guitar.out", "amp.in"),))
    if series:
        rig = plus(rig, "series_link", "link", ("amp.speaker", "link.speaker"))
    for n in range(1, count + 1):
        rig = plus(rig, "cabinet2", f"cab{n}")
        start = f"link.out{n}" if series else "amp.speaker" if n == 1 else f"cab{n - 1}.link"
        rig = joined(rig, port(start), port(f"cab{n}.speaker"))
    return rig


def dead_track() -> Rig:
    return without(build("hybrid", "r1"), "guitar.out", "di.in")


def hybrid_twice_amped() -> Rig:
    """The amp's load box drives a second amp."""
    rig = plus(build("hybrid", "r1"), "valve_head", "amp2")
    rig = without(rig, "load_box.line", "interface.in3")
    rig = joined(rig, port("load_box.line"), port("amp2.in"))
    rig = plus(rig, "reactive_load", "load2", ("amp2.speaker", "load2.speaker"))
    return joined(rig, port("load2.line"), port("interface.in3"))


def monitoring(direct: str, software: str, buffer: str = "64") -> Rig:
    return template(
        "modeler-analog",
        ("interface", "direct", direct),
        ("computer", "monitoring", software),
        ("computer", "buffer", buffer),
    )


def on_stage() -> Rig:
    """A modeler's XLR output into somebody's desk."""
    rig = build("modeler-analog", "r1")
    rig = rig.model_copy(update={"devices": (*rig.devices, make("stage_desk", "desk"))})
    ends = PortRef(device="modeler", port="xlr_l"), PortRef(device="desk", port="in1")
    return joined(rig, *ends)


def held_back(threshold: float) -> Rig:
    """A guitar through a compressor pedal."""
    rig = patch(("guitar", "guitar"), ("compressor_pedal", "box"), ("interface4", "interface"),
                ("computer", "computer"))  # fmt: skip
    for one, other in (("guitar.out", "box.in"), ("box.out", "interface.in1"),
                       ("interface.rec1", "computer.track1")):  # fmt: skip
        rig = joined(rig, port(one), port(other))
    return rig.with_setting("box", "threshold", threshold)


def tied(*channels: int, inputs: int = 8) -> Rig:
    """The first tracks of a rig on these inputs of a real device."""
    rig = build("hybrid", "r1")
    ties = tuple(
        Tie(port=track.port, channel=channel)
        for track, channel in zip(rig.tracks, channels, strict=False)
    )
    return rig.with_map(DeviceMap(device="system", ties=ties, inputs=inputs))


CASES: dict[str, tuple[Callable[[], Rig], Callable[[], Rig]]] = {
    "socket-tied-twice": (lambda: tied(3, 3), lambda: tied(3, 2)),
    "socket-not-there": (lambda: tied(1, 9), lambda: tied(1, 9, inputs=0)),
    "speaker-into-input": (
        lambda: replugged(template("hybrid"), "amp.speaker", "load_box.speaker", "interface.in2"),
        lambda: build("hybrid", "r1"),
    ),
    "not-a-speaker-signal": (
        lambda: replugged(build("hybrid", "r1"), "echo.out", "amp.in", "load_box.speaker"),
        lambda: build("hybrid", "r1"),
    ),
    "speaker-over-thin-cable": (
        lambda: with_cable(build("hybrid", "r1"), "load_box.speaker", kind=CableKind.INSTRUMENT),
        lambda: with_cable(build("hybrid", "r1"), "load_box.speaker", kind=CableKind.USUAL),
    ),
    "bridged-tap": (lambda: bridged("earthed"), lambda: bridged("isolated")),
    "valve-amp-without-load": (
        lambda: without(build("three-tones", "r1"), "amp.speaker", "attenuator.speaker"),
        lambda: without(
            template("bass"), "amp.speaker", "cabinet.speaker"
        ),  # a transistor amp needs none
    ),
    "load-impedance": (
        lambda: cabinets(series=False),
        lambda: cabinets(series=False, count=1),
    ),
    "load-power": (
        lambda: with_port(build("three-tones", "r1"), "attenuator.speaker", power_w=20.0),
        lambda: with_port(build("three-tones", "r1"), "attenuator.speaker", power_w=36.0),
    ),
    "phantom-harms": (
        lambda: with_device(
            plus(template("bass", ("interface", "phantom3", "on")), "ribbon", "r"), "mic_low",
            ports=make("ribbon", "x").ports,
        ),
        lambda: template("bass", ("interface", "phantom3", "on")),  # a dynamic does not mind
    ),
    "phantom-missing": (
        lambda: template("hybrid", ("interface", "phantom1", "off")),
        lambda: build("hybrid", "r1"),
    ),
    "shared-supply": (
        lambda: with_device(
            build("hybrid", "r1"), "supply", ports=make("shared_supply", "x").ports
        ),
        lambda: build("hybrid", "r1"),
    ),
    "no-supply": (
        lambda: without(build("hybrid", "r1"), "supply.dc1", "drive.power"),
        lambda: build("hybrid", "r1"),
    ),
    "does-not-fit": (
        lambda: replugged(
            build("modeler-digital", "r1"), "modeler.coax_out", "interface.coax_in", "interface.in2"
        ),
        lambda: build("modeler-digital", "r1"),
    ),
    "line-into-mic": (
        lambda: template("modeler-analog", ("interface", "mode3", "mic"),
                         ("modeler", "xlr_level", "line")),
        lambda: build("modeler-analog", "r1"),
    ),
    "mic-into-line": (
        lambda: template("bass", ("interface", "mode3", "line")),
        lambda: build("bass", "r1"),
    ),
    "instrument-into-mic": (
        lambda: patch(("guitar", "guitar"), ("mic_preamp", "pre"),
                      join=(("guitar.out", "pre.in"),)),
        lambda: patch(("guitar", "guitar"), ("active_di", "di"), ("mic_preamp", "pre"),
                      join=(("guitar.out", "di.in"), ("di.out", "pre.in"))),
    ),
    "instrument-into-line": (
        lambda: patch(("guitar", "guitar"), ("interface2", "i"), join=(("guitar.out", "i.in1"),)),
        lambda: patch(("guitar", "guitar"), ("interface2", "i"), join=(("guitar.out", "i.in1"),))
        .with_setting("i", "mode1", "instrument"),
    ),
    "line-into-instrument": (
        reamp_without_isolation,
        lambda: build("reamp-box", "r1"),
    ),
    "mic-into-instrument": (
        lambda: patch(("small_dynamic", "mic"), ("interface2", "i"), join=(("mic.out", "i.in1"),))
        .with_setting("i", "mode1", "instrument"),
        lambda: patch(("small_dynamic", "mic"), ("interface2", "i"), join=(("mic.out", "i.in1"),))
        .with_setting("i", "mode1", "mic"),
    ),
    "switch-unlike": (
        lambda: template("modeler-analog", ("modeler", "out_level", "instrument")),
        lambda: build("modeler-analog", "r1"),
    ),
    "instrument-loaded": (
        lambda: template("modeler-usb", ("modeler", "impedance", "47k")),
        lambda: build("modeler-usb", "r1"),
    ),
    "long-unbalanced": (
        lambda: with_cable(build("modeler-usb", "r1"), "modeler.in", length_m=15.0),
        lambda: build("modeler-usb", "r1"),
    ),
    "outputs-joined": (
        lambda: joined(build("hybrid", "r1"), port("loader.out"), port("interface.in3")),
        lambda: build("hybrid", "r1"),
    ),
    "port-used-twice": (
        lambda: joined(build("hybrid", "r1"), port("loader.out"), port("interface.in2")),
        lambda: build("hybrid", "r1"),
    ),
    "one-leg": (
        lambda: patch(("mic_preamp", "pre"), ("guitar", "g"), ("floor_modeler", "m"),
                      join=(("pre.out", "m.return"),)),
        lambda: patch(("mic_preamp", "pre"), ("interface2", "i"), join=(("pre.out", "i.in1"),)),
    ),
    "passive-di-loss": (
        lambda: patch(("guitar", "guitar"), ("passive_di", "di"), ("mic_preamp", "pre"),
                      join=(("guitar.out", "di.in"), ("di.out", "pre.in"))),
        lambda: patch(("bass", "bass"), ("passive_di", "di"), ("mic_preamp", "pre"),
                      join=(("bass.out", "di.in"), ("di.out", "pre.in"))),
    ),
    "format-mismatch": (
        lambda: patch(("converter", "c"), ("mic_preamp", "p"), join=(("c.aes_out", "p.in"),)),
        lambda: patch(("converter", "c"), ("desktop_modeler", "m"),
                      join=(("m.aes_out", "c.aes_in"),)),
    ),
    "rates-differ": (
        lambda: template("modeler-digital", ("modeler", "rate", "44100")),
        lambda: build("modeler-digital", "r1"),
    ),
    "clock-masters": (
        lambda: template("modeler-digital", ("interface", "clock", "internal")),
        lambda: build("modeler-digital", "r1"),
    ),
    "clock-from-nothing": (
        lambda: template("hybrid", ("interface", "clock", "coax_in")),
        lambda: build("hybrid", "r1"),
    ),
    "more-conversions": (
        lambda: build("modeler-analog", "r1"),
        lambda: build("modeler-digital", "r1"),
    ),
    "no-course": (dead_track, lambda: build("hybrid", "r1")),
    "too-few-inputs": (
        lambda: build("modeler-usb", "r1").model_copy(
            update={
                "tracks": tuple(
                    PlannedTrack(port=port(f"computer.track{n}"), name=f"T{n}", tap="di",
                                 source="guitar")
                    for n in range(1, 6)
                )
            }
        ),
        lambda: build("modeler-usb", "r1"),
    ),
    "not-as-planned": (
        lambda: replugged(
            replugged(build("hybrid", "r1"), "load_box.line", "interface.in3", "interface.in2"),
            "loader.out", "interface.in4", "interface.in3",
        ),
        lambda: build("hybrid", "r1"),
    ),
    "no-dry-di": (
        lambda: build("hybrid", "r1").model_copy(
            update={"cables": without(
                build("hybrid", "r1"), "interface.rec1", "computer.track1").cables,
                "tracks": build("hybrid", "r1").tracks[1:]}
        ),
        lambda: build("hybrid", "r1"),
    ),
    "dry-tap-changed": (
        lambda: template("split-chain", ("modeler", "split", "both")),
        lambda: build("split-chain", "r1"),
    ),
    "two-amps": (hybrid_twice_amped, lambda: build("hybrid", "r1")),
    "model-ahead-of-amp": (
        lambda: joined(
            replugged(
                plus(build("hybrid", "r1"), "floor_modeler", "m"),
                "echo.out", "amp.in", "m.in",
            ),
            port("m.out_l"), port("amp.in"),
        ),
        lambda: joined(
            replugged(
                plus(build("hybrid", "r1"), "floor_modeler", "m").with_setting("m", "model", "off")
                .with_setting("m", "cabinet", "none"),
                "echo.out", "amp.in", "m.in",
            ),
            port("m.out_l"), port("amp.in"),
        ),
    ),
    "two-cabinets": (
        lambda: replugged(
            without(
                template("hybrid", ("load_box", "cabinet", "open-one")),
                "load_box.plain",
                "loader.in",
            ),
            "load_box.line",
            "interface.in3",
            "loader.in",
        ),
        lambda: build("hybrid", "r1"),
    ),
    "amp-without-cabinet": (
        lambda: build("hybrid", "r1"),
        lambda: build("bass", "r1"),
    ),
    "cabinet-without-amp": (
        lambda: template("modeler-digital", ("modeler", "model", "off")),
        lambda: build("modeler-digital", "r1"),
    ),
    "stereo-on-split": (
        lambda: template("split-chain", ("modeler", "stereo", "on")),
        lambda: template("modeler-analog", ("modeler", "stereo", "on")),
    ),
    "feedback-loop": (
        lambda: joined(
            template("reamp-box", ("computer", "monitoring", "on")),
            port("interface.main1"), port("interface.in1"),
        ).model_copy(update={"cables": (
            *joined(template("reamp-box", ("computer", "monitoring", "on")),
                    port("interface.phones"), port("reamp_box.in")).cables,
        )}),
        lambda: template("reamp-box", ("computer", "monitoring", "on")),
    ),
    "own-send": (
        lambda: replugged(
            build("reamp-box", "r1"), "interface.rec4", "computer.track5", "computer.track3"
        ),
        lambda: build("reamp-box", "r1"),
    ),
    "calibrated-knob": (
        lambda: calibrated(-6.0).with_setting("modeler", "output", -12.0),
        lambda: calibrated(-12.0).with_setting("modeler", "output", -12.0),
    ),
    "inverted-courses": (
        lambda: two_amps("lantern"),
        lambda: two_amps("tideline"),
    ),
    "nobody-hears": (
        lambda: build("hybrid", "r1"),
        lambda: template("hybrid", ("interface", "direct", "on")),
    ),
    "less-drive": (
        lambda: by_modeler(0.0, "instrument"),
        lambda: by_modeler(0.0, "line"),
    ),
    "compressor-idle": (
        lambda: held_back(20.0),
        lambda: held_back(-24.0),
    ),
    "attenuator-without-speaker": (
        lambda: without(build("three-tones", "r1"), "attenuator.out", "cabinet.speaker"),
        lambda: build("three-tones", "r1"),
    ),
    "di-impedance": (
        lambda: template("modeler-usb", ("modeler", "impedance", "100k")),
        lambda: build("modeler-usb", "r1"),
    ),
    "late-track": (
        lambda: build("modeler-analog", "r1"),
        lambda: build("three-tones", "r1"),
    ),
    "ground-loop": (reamp_without_isolation, lambda: build("reamp-box", "r1")),
    "doubled-monitoring": (
        lambda: monitoring("on", "on"),
        lambda: monitoring("on", "off"),
    ),
    "layered-monitoring": (
        lambda: template("modeler-analog", ("interface", "direct", "on")),
        lambda: build("modeler-analog", "r1"),
    ),
    "ask-mic-or-line": (on_stage, lambda: build("modeler-analog", "r1")),
    "software-late": (
        lambda: monitoring("off", "on", "1024"),
        lambda: monitoring("off", "on", "64"),
    ),
    "clips": (
        lambda: template("hybrid", ("interface", "gain1", 60.0)),
        lambda: build("hybrid", "r1"),
    ),
    "gain-off-target": (
        lambda: template("hybrid", ("interface", "gain1", 0.0)),
        lambda: build("hybrid", "r1"),
    ),
    "mic-hears-monitor": (
        lambda: plus(build("bass", "r1"), "powered_monitor", "m", ("interface.main1", "m.in")),
        lambda: plus(build("hybrid", "r1"), "powered_monitor", "m", ("interface.main1", "m.in")),
    ),
}  # fmt: skip


BY_HAND = {
    "amp-without-cabinet", "ask-mic-or-line", "attenuator-without-speaker", "di-impedance",
    "dry-tap-changed",
    "instrument-into-mic", "inverted-courses", "late-track", "load-impedance", "load-power",
    "long-unbalanced", "more-conversions", "no-course", "no-dry-di", "no-supply", "one-leg",
    "own-send", "passive-di-loss", "shared-supply", "too-few-inputs", "two-amps",
    "valve-amp-without-load",
}  # fmt: skip
"""Whose remedy is not a switch, a knob or a cable."""


def test_every_check_has_a_case() -> None:
    assert set(CASES) == set(REGISTRY)


@pytest.mark.parametrize("ident", sorted(CASES))
def test_it_fires(ident: str) -> None:
    found = one(CASES[ident][0](), ident)
    assert found.severity in REGISTRY[ident].severities
    assert found.where
    assert found.cause.endswith((".", "?"))
    assert found.consequence
    assert found.remedy


@pytest.mark.parametrize("ident", sorted(CASES))
def test_it_stays_quiet(ident: str) -> None:
    assert ident not in ids(CASES[ident][1]())


@pytest.mark.parametrize("ident", sorted(CASES))
def test_the_remedy_removes_its_finding(ident: str) -> None:
    rig = CASES[ident][0]()
    found = one(rig, ident)
    assert (found.mend is None) == (ident in BY_HAND)
    if found.mend is None:
        return
    mended = found.mend.change(rig)
    assert found.mend.label
    assert found.key not in {f.key for f in findings(mended)}


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_a_template_is_well(name: str) -> None:
    """No finding above a note, and a sentence that says what it is for."""
    bad = [f for f in findings(build(name, "r1")) if f.severity > Severity.NOTE]
    assert not bad
    assert TEMPLATES[name].sentence.endswith(".")


@pytest.mark.parametrize("seed", range(10))
def test_findings_do_not_depend_on_the_order_of_devices(seed: int) -> None:
    rng = random.Random(seed)
    rig = CASES[rng.choice(sorted(CASES))][0]()
    devices, cables = list(rig.devices), list(rig.cables)
    rng.shuffle(devices)
    rng.shuffle(cables)
    other = rig.model_copy(update={"devices": tuple(devices), "cables": tuple(cables)})
    assert {(f.id, f.severity) for f in findings(other)} == {
        (f.id, f.severity) for f in findings(rig)
    }


def test_phantom_power_for_an_input_that_was_switched_to_line() -> None:
    """It is given to microphones only: the remedy throws both switches."""
    rig = template("hybrid", ("interface", "phantom1", "off"), ("interface", "mode1", "line"))
    found = one(rig, "phantom-missing")
    assert found.mend is not None
    mended = found.mend.change(rig)
    assert mended.port(port("interface.in1")).phantom
    assert "phantom-missing" not in ids(mended)


def test_half_a_stereo_effect_is_noticed() -> None:
    rig = patch(("guitar", "guitar"), ("stereo_pedal", "echo"), ("valve_combo", "amp"),
                join=(("guitar.out", "echo.in"), ("echo.out", "amp.in")))  # fmt: skip
    assert "one of its two outputs" in one(rig, "stereo-on-split").cause
    rig = plus(rig, "transistor_amp", "amp2", ("echo.out_r", "amp2.in"))
    assert "stereo-on-split" not in ids(rig)


# --- figures ---


@pytest.mark.parametrize(
    ("series", "count", "ohm"), [(False, 1, 8.0), (False, 2, 4.0), (True, 2, 16.0)]
)
def test_cabinets_in_series_and_in_parallel(series: bool, count: int, ohm: float) -> None:
    graph = RigGraph(cabinets(series=series, count=count))
    total, loads = speaker_loads(graph, port("amp.speaker"))
    assert total == pytest.approx(ohm)
    assert [load.share for load in loads] == pytest.approx([1.0 / count] * count)


def test_unequal_cabinets_share_power_by_their_conductance() -> None:
    rig = with_port(cabinets(series=False), "cab2.speaker", impedance_ohm=4.0)
    total, loads = speaker_loads(RigGraph(rig), port("amp.speaker"))
    assert total == pytest.approx(8.0 * 4.0 / 12.0)
    shares = {load.plug.device.id: load.share for load in loads}
    assert shares == pytest.approx({"cab1": 1.0 / 3.0, "cab2": 2.0 / 3.0})


def test_a_line_in_a_microphone_input_says_by_how_much_it_clips() -> None:
    rig = template("modeler-analog", ("interface", "mode3", "mic"), ("interface", "gain3", 40.0))
    found = one(rig, "line-into-mic")
    planned = next(p for p in plan_tracks(RigGraph(rig)) if p.track.port == "track2")
    over = max(level.clips_db for level in planned.clipped)
    assert over > 8.0
    assert f"clip by {over:.0f} dB" in found.consequence


def test_the_doubled_monitor_tells_its_delay() -> None:
    found = one(monitoring("on", "on", "256"), "doubled-monitoring")
    # Two buffers of 256 and the converters, less the direct mixer's 0.3 ms.
    wanted = (2 * 256 + 38.24 + 41.63) / 48.0 - 0.3
    assert f"{wanted:.1f} ms" in found.consequence


def test_hum_of_a_loop_divides_by_the_shield() -> None:
    cable = reamp_without_isolation().cables[1]
    shield = 0.05 * cable.length_m
    assert loop_hum_v(cable) == pytest.approx(2e-3 * shield / (shield + 0.2))


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_an_independent_arithmetic_agrees_with_the_level_plan(name: str) -> None:
    """They share no code; at 1 kHz they are within 0.1 dB."""
    graph = RigGraph(build(name, "r1"), tone=True)
    for traced, planned in zip(trace_all(graph), plan_tracks(graph), strict=True):
        assert traced.course is not None
        assert estimate(traced.course).track_dbfs == pytest.approx(planned.peak_dbfs, abs=0.1)


def test_the_load_seen_by_a_pickup_through_a_transformer() -> None:
    """A passive DI of 10:1 on a 2 kΩ preamp: 100 x 2 kΩ and the copper's 100 x 90 Ω."""
    from diaulos.rig.checks.cabling import node_load

    rig = CASES["passive-di-loss"][0]()
    ohm, farad, cables = node_load(RigGraph(rig), port("guitar.out"))
    assert ohm == pytest.approx(200e3, rel=0.01)
    assert farad == pytest.approx(303e-12, rel=0.02)
    assert len(cables) == 1
    assert np.isfinite(ohm)


def test_a_version_2_rig_is_checked_too() -> None:
    """The rig that older sessions hold has nothing worse than a note."""
    assert all(f.severity <= Severity.NOTE for f in findings(reamp_rig()))


def test_a_level_that_nobody_knows_is_no_fault() -> None:
    """A preamp with nothing in it was said to clip by 8 dB and more."""
    rig = (
        patch(
            ("mic_preamp", "pre"), ("interface4", "interface"), join=(("pre.out", "interface.in1"),)
        )
        .with_setting("interface", "mode1", "mic")
        .with_setting("interface", "gain1", 40.0)
    )
    found = one(rig, "line-into-mic")
    assert found.severity is Severity.CAUTION
    assert "unknown" in found.consequence
    assert "clip by" not in found.consequence


def test_the_level_is_carried_through_passive_boxes() -> None:
    """Into an input that nobody records: as loud as the same way into one that is recorded."""
    rig = patch(
        ("guitar", "guitar"), ("passive_di", "di"), ("interface4", "interface"),
        join=(("guitar.out", "di.in"), ("di.out", "interface.in1")),
    ).with_setting("interface", "mode1", "line")  # fmt: skip
    context = Context(RigGraph(rig))
    peak = context.peak_at(context.graph.plug(port("di.out")))
    assert peak is not None
    assert -30.0 < peak < -10.0
    found = one(rig, "mic-into-line")
    assert f"about {8.0 - peak:.0f} dB too quiet" in found.consequence
