"""The monitor mix: who hears what, by which fader, and advice that works when it is followed."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.rig.bench import BenchFaults, RigBench, strum_volts
from diaulos.rig.catalogue.types import make
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.checks.registry import Finding
from diaulos.rig.fits import joined
from diaulos.rig.graph import RigGraph
from diaulos.rig.mixer import strip
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.monitoring import Way, plan_monitoring
from diaulos.rig.sources import representative_of
from diaulos.rig.templates import build
from diaulos.work.rigs.rendering import PLAYER_LOAD, recorded_gain
from support import RATE


def ways(rig: Rig, kind: str = "direct") -> tuple[Way, ...]:
    (phones,) = [one for one in plan_monitoring(RigGraph(rig), float(RATE)).listeners
                 if one.listener_id == "headphones"]  # fmt: skip
    return tuple(way for way in phones.ways if way.kind == kind)


def findings(rig: Rig, ident: str) -> list[Finding]:
    return [one for one in run_checks(Context(RigGraph(rig))) if one.id == ident]


@pytest.fixture
def direct() -> Rig:
    """A dry DI and two modeled sides, heard directly."""
    return build("modeler-analog", "r").with_setting("interface", "direct", "on")


def test_every_way_is_told_with_its_tap_and_its_fader(direct: Rig) -> None:
    told = {(way.tap, way.strip_name) for way in ways(direct)}
    assert told == {("di", "Input 1"), ("modeled", "Input 3"), ("modeled", "Input 4")}


def test_dry_and_modeled_at_once_is_found_and_the_fader_cures_it(direct: Rig) -> None:
    (found,) = findings(direct, "layered-monitoring")
    dry, wet = ways(direct)[0], ways(direct)[1]
    assert f"{abs(wet.delay_ms - dry.delay_ms):.1f} ms apart" in found.cause
    assert found.mend is not None
    cured = found.mend.change(direct)
    assert not findings(cured, "layered-monitoring")
    assert strip(cured.device("interface"), "in1").level_db == -60.0
    assert {way.tap for way in ways(cured)} == {"modeled"}


def test_no_advice_to_pull_down_where_the_dry_sound_is_what_one_hears(direct: Rig) -> None:
    """Seen: "pull DI down" where the DI is what the player hears."""
    muted = direct
    for n in (3, 4):
        muted = muted.with_setting("interface", f"mute_in{n}", "on")
    assert {way.tap for way in ways(muted)} == {"di"}
    assert not findings(muted, "layered-monitoring")
    assert not [line for line in plan_monitoring(RigGraph(muted), float(RATE)).mute
                if "Pull" in line]  # fmt: skip


def test_a_closed_fader_or_a_pan_to_the_other_side_is_not_heard(direct: Rig) -> None:
    closed = direct.with_setting("interface", "mix_in3", -60.0)
    assert "Input 3" not in {way.strip_name for way in ways(closed)}
    left = direct.with_setting("interface", "pan_in3", -100.0)
    sides = {way.strip_name: way.sides for way in ways(left)}
    assert sides["Input 3"] == (-1,)
    assert sides["Input 4"] == (-1, 1)


def test_what_a_split_player_hears_is_told_side_by_side() -> None:
    """A modeler with the processed sound left and the dry one right, heard directly."""
    rig = build("split-chain", "r").with_setting("interface", "direct", "on")
    rig = rig.with_setting("interface", "pan_in1", -100.0).with_setting(
        "interface", "pan_in2", 100.0
    )
    heard = {way.tap: way.sides for way in ways(rig)}
    assert heard["di"] == (1,)
    assert [sides for tap, sides in heard.items() if tap != "di"] == [(-1,)]
    assert not findings(rig, "layered-monitoring"), "an ear each: nothing is laid over anything"
    centred = rig.with_setting("interface", "pan_in2", 0.0)
    assert findings(centred, "layered-monitoring")


def test_a_digital_input_is_heard_directly_too() -> None:
    rig = build("modeler-digital", "r").with_setting("interface", "direct", "on")
    told = {(way.tap, way.strip_name) for way in ways(rig)}
    assert ("modeled", "Coaxial digital 1") in told
    muted = rig.with_setting("interface", "mute_coax_in_1", "on").with_setting(
        "interface", "mute_coax_in_2", "on"
    )
    assert not any(way.tap == "modeled" for way in ways(muted))


def test_nobody_hears_says_what_makes_it_heard() -> None:
    rig = build("modeler-analog", "r")
    (found,) = findings(rig, "nobody-hears")
    assert found.mend is not None
    assert not findings(found.mend.change(rig), "nobody-hears")
    muted = rig.with_setting("interface", "direct", "on")
    for n in (1, 3, 4):
        muted = muted.with_setting("interface", f"mute_in{n}", "on")
    (found,) = findings(muted, "nobody-hears")
    assert found.mend is not None
    assert "mute" in found.mend.label.lower()
    assert not findings(found.mend.change(muted), "nobody-hears")


def test_playback_is_an_input_of_the_mixer_too() -> None:
    rig = build("modeler-analog", "r")
    assert [way.strip_name for way in ways(rig, "playback")] == ["playback"]
    closed = rig.with_setting("interface", "mute_play1", "on").with_setting(
        "interface", "mute_play2", "on"
    )
    assert not ways(closed, "playback")
    left = rig.with_setting("interface", "mute_play2", "on").with_setting(
        "interface", "pan_play1", -100.0
    )
    assert [way.sides for way in ways(left, "playback")] == [(-1,)]


def test_a_source_that_the_controller_does_not_select_is_not_heard() -> None:
    rig = build("modeler-analog", "r").with_setting("interface", "direct", "on")
    rig = rig.model_copy(
        update={
            "devices": (*rig.devices, make("monitor_controller", "control")),
            "cables": tuple(c for c in rig.cables if c.target.device != "headphones"),
        }
    )
    for one, other in (("interface.main1", "control.in2_l"), ("control.phones", "headphones.in")):
        (a, b), (c, d) = one.split("."), other.split(".")
        rig = joined(rig, PortRef(device=a, port=b), PortRef(device=c, port=d))
    assert not ways(rig)
    assert ways(rig.with_setting("control", "source", "b"))


def test_recordings_are_the_same_whatever_the_faders_do(direct: Rig) -> None:
    changed = direct
    for setting, value in (("mix_in1", -60.0), ("pan_in3", 100.0), ("mute_in4", "on"),
                           ("mix_play1", 6.0)):  # fmt: skip
        changed = changed.with_setting("interface", setting, value)
    source = representative_of(direct.device("guitar"))
    volts = strum_volts(source, PLAYER_LOAD, float(RATE))[:RATE]
    heard = [
        RigBench(RigGraph(rig), "guitar", float(RATE), BenchFaults(seed=3), None,
                 recorded_gain(source, PLAYER_LOAD)).process(volts)
        for rig in (direct, changed)
    ]  # fmt: skip
    for track, sound in heard[0].items():
        assert np.array_equal(sound, heard[1][track])
