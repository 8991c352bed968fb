"""The tone stage in the rig: one trim, whoever turns it, in figures and in sound."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
import truth

from diaulos.__main__ import main
from diaulos.errors import EditError, RigError
from diaulos.rig.bench import strum_volts
from diaulos.rig.catalogue.types import make
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.printed import printed, set_printed
from diaulos.rig.templates import build
from diaulos.rig.trackplan import plan_tracks
from diaulos.session import edits
from diaulos.session.history import History
from diaulos.session.migrations import migrate
from diaulos.session.model import Session
from diaulos.session.representative import representative
from diaulos.session.tone_stage import in_hand, placed, stage_of, trim_task
from diaulos.storage.folder import SessionFolder
from diaulos.work.rigs.rendering import PLAYER_LOAD
from support import RATE


def session(template: str = "modeler-usb") -> Session:
    rig = build(template, "rig01").with_setting("guitar", "instrument", "one")
    return Session(
        id="s", name="S", sample_rate_hz=48_000,
        instruments=(
            representative("one", "Offset").model_copy(update={"trim_db": 0.0}),
            representative("two", "Baritone", "baritone").model_copy(update={"trim_db": -4.0}),
        ),
        rigs=(rig,), current_rig="rig01",
    )  # fmt: skip


def device_trim(held: Session) -> float:
    found = placed(held)
    assert found is not None
    return found.place.trim.value


def test_choosing_an_instrument_sets_its_trim_and_undo_takes_both_back() -> None:
    history = History(session())
    assert (in_hand(history.current), device_trim(history.current)) == ("one", 0.0)
    history.apply(edits.choose_instrument("two"))
    assert (in_hand(history.current), device_trim(history.current)) == ("two", -4.0)
    assert history.current.rig().device("guitar").name == "Baritone"
    history.undo()
    assert (in_hand(history.current), device_trim(history.current)) == ("one", 0.0)


def test_the_trim_is_one_value_from_either_side() -> None:
    held = edits.choose_instrument("two")(session())
    held = edits.set_trims({"two": -6.0}, "Trim")(held)
    assert device_trim(held) == -6.0
    held = edits.change_rig("rig01", "Turn", lambda r: r.with_setting("modeler", "input_trim", 3))(
        held
    )
    assert held.instrument("two").trim_db == 3.0
    assert held.instrument("one").trim_db == 0.0, "the other instrument keeps its own"
    held = edits.set_trims({"two": 2.6}, "Trim")(held)
    assert (device_trim(held), held.instrument("two").trim_db) == (3.0, 3.0), "in its own steps"


def test_the_stage_is_the_device_and_its_name_is_the_devices() -> None:
    held = session()
    stage = stage_of(held)
    assert (stage.name, stage.pad_db, stage.full_scale_dbu) == ("Desktop modeler", 9.0, 12.0)
    held = edits.set_tone_stage(pad_on=True, name="Blue box", impedance_ohm=220e3)(held)
    device = held.rig().device("modeler")
    assert (device.name, device.word("pad"), device.word("impedance")) == ("Blue box", "on", "220k")
    stage = stage_of(held)
    assert (stage.name, stage.pad_on, stage.impedance_ohm) == ("Blue box", True, 220e3)
    assert stage.full_scale_dbu == 12.0, "with the pad off"
    with pytest.raises(EditError, match="no input impedance"):
        edits.set_tone_stage(impedance_ohm=300e3)(held)


def test_a_rig_without_a_trim_leaves_the_typed_stage() -> None:
    held = session().model_copy(update={"rigs": (build("three-tones", "rig01"),)})
    assert placed(held) is None
    assert stage_of(edits.set_tone_stage(pad_on=True)(held)).pad_on
    assert trim_task(held) is None


def peaks(rig: Rig) -> dict[str, float]:
    return {p.track.port: p.unclipped_dbfs or 0.0 for p in plan_tracks(RigGraph(rig))}


@pytest.mark.parametrize("tap", ["behind", "ahead"])
def test_where_the_dry_tap_lies_decides_what_pad_and_trim_do_to_it(tap: str) -> None:
    rig = build("modeler-usb", "r").with_setting("modeler", "dry_tap", tap)
    changed = rig.with_setting("modeler", "input_trim", -6.0).with_setting("modeler", "pad", "on")
    before, after = peaks(rig), peaks(changed)
    dry = next(port for port in before if port.endswith("3"))
    wet = next(port for port in before if port.endswith("1"))
    moved = after[dry] - before[dry]
    assert moved == pytest.approx(-15.0 if tap == "behind" else 0.0, abs=0.02)
    assert after[wet] < before[wet] - 1.0, "the tone is driven less, wherever the tap is"


@pytest.mark.parametrize("entry", ["behind", "ahead"])
def test_a_stream_comes_in_where_the_device_says(entry: str) -> None:
    """Either way the tone is driven as by the instrument at the jack, trim included: where the
    stream passes the trim by, the send makes up for it."""
    from diaulos.rig.course import trace_all
    from diaulos.rig.plan import solve_send

    rig = build("reamp-usb", "r").with_setting("modeler", "reentry", entry)
    pushed = rig.with_setting("modeler", "input_trim", 6.0)
    course = {r: next(t.course for t in trace_all(RigGraph(r)) if t.course) for r in (rig, pushed)}
    sent = [solve_send(course[r], -30.0, 12.0).amp_peak_dbu for r in (rig, pushed)]
    gains = [solve_send(course[r], -30.0, 12.0).gain_db for r in (rig, pushed)]
    assert sent[0] == pytest.approx(sent[1], abs=0.01), "the same drive is what is aimed at"
    assert gains[1] - gains[0] == pytest.approx(0.0 if entry == "ahead" else 6.0, abs=0.01)


# --- as a data sheet prints it ---


def test_printed_figures_move_the_track_and_only_in_their_mode() -> None:
    rig = build("modeler-analog", "r")
    ref = PortRef(device="interface", port="in1")
    rig = rig.with_setting("interface", "mode1", "instrument").with_setting("interface", "gain1", 0)
    before = peaks(rig)
    at = printed(rig, ref)
    assert at is not None
    assert (at.maximum_dbu, at.mode) == (13.0, "Instrument")
    typed = set_printed(rig, ref, maximum_dbu=9.0, impedance_ohm=2.2e6)
    now = printed(typed, ref)
    assert now is not None
    assert (now.maximum_dbu, now.impedance_ohm) == (pytest.approx(9.0), 2.2e6)
    track = next(t.port.port for t in rig.tracks if t.input_number == 1)
    assert peaks(typed)[track] - before[track] == pytest.approx(4.0, abs=0.5), "and a lighter load"
    for mode in ("line", "mic"):
        one, other = (
            printed(r.with_setting("interface", "mode1", mode), ref) for r in (rig, typed)
        )
        assert one == other, "what is printed of one mode says nothing of the others"
    line = set_printed(rig.with_setting("interface", "mode1", "line"), ref, maximum_dbu=24.0)
    assert printed(line.with_setting("interface", "mode1", "instrument"), ref) == at
    assert line.device("interface").port("in1").max_dbu >= 24.0


def test_a_gain_range_belongs_to_its_mode() -> None:
    rig = build("modeler-analog", "r").with_setting("interface", "mode1", "instrument")
    ref = PortRef(device="interface", port="in1")
    rig = rig.with_setting("interface", "gain1", 50.0)
    typed = set_printed(rig, ref, gain_minimum_db=0.0, gain_maximum_db=42.0, gain_step_db=3.0)
    assert typed.device("interface").number("gain1") == 42.0
    line = typed.with_setting("interface", "mode1", "line")
    assert line.device("interface").setting("gain1").maximum == 60.0
    back = line.with_setting("interface", "gain1", 60.0).with_setting(
        "interface", "mode1", "instrument"
    )
    assert back.device("interface").number("gain1") == 42.0
    with pytest.raises(RigError, match="cannot run"):
        set_printed(rig, ref, gain_minimum_db=10.0, gain_maximum_db=5.0)


def test_another_least_gain_does_not_move_the_printed_maximum() -> None:
    rig = build("modeler-analog", "r").with_setting("interface", "mode1", "instrument")
    ref = PortRef(device="interface", port="in1")
    typed = set_printed(rig, ref, gain_minimum_db=10.0, gain_maximum_db=55.0)
    at = printed(typed, ref)
    assert at is not None
    assert at.maximum_dbu == pytest.approx(13.0)


# --- old sessions ---


def test_an_old_modeler_gets_a_trim_and_keeps_what_was_set_and_measured() -> None:
    old = session().model_dump(mode="json")
    old["schema_version"] = 8
    old.pop("trim_said")
    device = next(d for d in old["rigs"][0]["devices"] if d["id"] == "modeler")
    device["settings"] = [
        s for s in device["settings"] if s["id"] not in ("input_trim", "dry_tap", "reentry")
    ]
    plain = [p for p in device["paths"] if not any(w[1] == "ahead" for w in p["when"])]
    for path in plain:
        path["when"] = [w for w in path["when"] if w[0] not in ("dry_tap", "reentry")]
        path["stages"] = [s for s in path["stages"] if s.get("control") != "input_trim"]
        for stage in path["stages"]:
            if path["target"] == "out_l" and stage["kind"] == "dac":
                stage["measured"] = [{"full_scale_dbu": 6.5, "how": "meter"}]
    device["paths"] = plain
    for setting in device["settings"]:
        if setting["id"] == "pad":
            setting["value"] = "on"
    new = Session.model_validate(migrate(old, "session.json"))
    assert device_trim(new) == 0.0
    modeler = new.rig().device("modeler")
    assert modeler.word("pad") == "on"
    measured = [
        s.measured for p in modeler.paths if p.target == "out_l" for s in p.stages
        if s.kind == "dac"
    ]  # fmt: skip
    assert measured
    assert all(one and one[0].full_scale_dbu == 6.5 for one in measured)


# --- by hand, and from the shell ---


def test_what_somebody_said_of_the_trim_counts_until_it_changes() -> None:
    held = edits.choose_instrument("two")(session())
    task = trim_task(held)
    assert task is not None
    assert (task.words, task.state) == (
        "Set trim \N{MINUS SIGN}4 dB, pad off on Desktop modeler", "assumed",
    )  # fmt: skip
    held = edits.confirm_trim(True)(held)
    assert trim_task(held).state == "confirmed"
    assert trim_task(edits.confirm_trim(False)(held)).state == "not set"
    assert trim_task(edits.set_trims({"two": -5.0}, "Trim")(held)).state == "assumed"


def test_with_and_without_trim_are_two_sounds(tmp_path: Path, capsys) -> None:
    """Seen: trim -6 and pad on recorded sample-identical files to trim 0 and pad off."""
    where = tmp_path / "s.diaulos"
    assert main(["new", str(where)]) == 0
    assert main(["instrument", str(where), "--add", "guitar", "--name", "G"]) == 0
    assert main(["rig", str(where), "--add", "modeler-usb", "--instrument", "G", "--current"]) == 0
    heard = []
    capsys.readouterr()
    for trim in ("0", "-6"):
        assert main(["instrument", str(where), "--choose", "G", "--trim-db", trim, "--json"]) == 0
        told = json.loads(capsys.readouterr().out)
        assert told["tone_stage"]["trim_db"] == float(trim)
        assert main(["record", str(where), "--seconds", "2", "--seed", "3", "--json"]) == 0
        take = json.loads(capsys.readouterr().out)
        for track in take["tracks"]:
            assert abs(track["difference_db"]) < 3.0
        heard.append([t["peak_dbfs"] for t in take["tracks"]])
    assert heard[0][2] - heard[1][2] == pytest.approx(6.0, abs=0.05)
    held = SessionFolder.open(where, read_only=True).load()
    kept = held.snapshots[held.takes[-1].rig_hash].device("modeler")
    assert kept.number("input_trim") == -6.0
    assert held.takes[-1].trim_state == "assumed"


def test_both_modelers_have_a_tone_stage() -> None:
    for kind in ("floor_modeler", "desktop_modeler"):
        assert make(kind, "x").setting("input_trim").step == 1.0


@pytest.mark.parametrize("name", ["modeler-usb", "amp-in-loop"])
def test_a_trim_that_overfills_the_numbers_clips_and_is_told(name: str) -> None:
    """Behind the converter there is no volt to clip at: the stream, or the converter of the send,
    is what is full. Neither was both said and heard."""
    rig = build(name, "r1")
    modeler = next(one.id for one in rig.devices if one.has_setting("input_trim"))
    rig = rig.with_setting(modeler, "input_trim", 18.0)
    for plan in plan_tracks(RigGraph(rig)):
        assert plan.course is not None
        volts = strum_volts(plan.course.source, PLAYER_LOAD, float(RATE), strums=3)
        heard = truth.listened(plan.course, volts)
        said = max((level.clips_db for level in plan.clipped), default=0.0)
        assert said == pytest.approx(max(0.0, heard.over_db), abs=0.3), plan.track
