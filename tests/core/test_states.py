"""The two states of a rig that records and reamps with the same devices."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
import soundfile

from diaulos.cli.main import run as main
from diaulos.errors import RigError
from diaulos.rig.changes import remove_device
from diaulos.rig.checks import Context, Severity, run_checks
from diaulos.rig.course import can_reamp
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig, StateSwitch
from diaulos.rig.returns import planned_returns
from diaulos.rig.states import (
    folded,
    in_state,
    proposed_switches,
    reamps,
    set_in_state,
    switched,
    switches_back,
    thrown_words,
    with_switch,
)
from diaulos.rig.templates import TEMPLATES, build
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.session.roles import reamp_rig, recording_rig
from diaulos.storage.folder import SessionFolder
from diaulos.wiring import bench_for, new_session, rig_backend
from diaulos.work.reamp.passes import ReampRequest, make_pass
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.switches import stands_otherwise, state_words
from diaulos.work.takes.ready import checklist
from diaulos.work.takes.recording import RecordRequest, prepare
from support import NOON, RATE, performance

BOTH = [name for name in TEMPLATES if build(name, "r").reamp_switches]
FEED = StateSwitch(device="modeler", setting="feed", value="usb")


def found(rig: Rig) -> list:
    return list(run_checks(Context(RigGraph(rig))))


def test_some_arrangements_record_and_reamp() -> None:
    assert set(BOTH) == {"modeler-digital", "modeler-usb", "amp-in-loop"}


@pytest.mark.parametrize("name", BOTH)
def test_both_states_are_well(name: str) -> None:
    """No fault for a state: the same inputs hold what is sent back."""
    rig = build(name, "r")
    assert not can_reamp(rig)
    assert reamps(rig)
    sent = in_state(rig, "reamp")
    assert sent.state == "reamp"
    assert in_state(rig, "reamp") is sent, "asked for by every view, worked out once"
    assert in_state(sent, "reamp") is sent
    for one in (rig, sent):
        assert not [f for f in found(one) if f.severity > Severity.NOTE]
    taps = {one.course.tap for one in planned_returns(sent)}
    assert not taps & {"di", "printed"}, "what comes back dry is no return"
    with pytest.raises(RigError, match="how it records"):
        in_state(sent, "record")


def test_a_dry_return_is_recorded_where_it_is_asked_for() -> None:
    sent = in_state(build("modeler-digital", "r"), "reamp")
    assert [one.name for one in planned_returns(sent, ["DI"])] == ["DI"]


@pytest.mark.parametrize("name", BOTH)
def test_the_switches_of_a_state_are_found(name: str) -> None:
    bare = build(name, "r").model_copy(update={"reamp_switches": ()})
    assert proposed_switches(bare) == (FEED,)
    assert thrown_words(bare, (FEED,)).startswith("Set Plays of ")
    assert proposed_switches(in_state(build(name, "r"), "reamp")) == ()


def test_a_rig_that_wants_a_cable_has_no_switch_for_it() -> None:
    assert proposed_switches(build("hybrid", "r")) == ()


@pytest.mark.parametrize("name", BOTH)
def test_a_switch_left_behind_is_named_and_not_a_cable(name: str) -> None:
    """The modeler still plays what the computer sends: Record is a switch away."""
    rig = build(name, "r")
    left = rig.with_setting("modeler", "feed", "usb")
    wrong = [one for one in found(left) if one.id == "not-as-planned"]
    assert wrong
    for one in wrong:
        assert one.remedy.startswith("Set Plays of ")
        assert "Instrument input" in one.remedy
        assert one.mend is not None
        assert not [f for f in found(one.mend.change(left)) if f.id == "not-as-planned"]
    track = next(one for one in rig.tracks if one.tap != "di")
    assert switches_back(left, track.port, "guitar")[0].value == "jack"
    assert switches_back(rig, PortRef(device="computer", port="track9"), "guitar") == ()


def test_a_control_is_the_same_in_both_states_until_it_is_a_switch() -> None:
    rig = build("modeler-usb", "r")
    turned = set_in_state(rig, "reamp", "modeler", "drive", 7.0)
    assert turned.device("modeler").number("drive") == 7.0
    assert in_state(turned, "reamp").device("modeler").number("drive") == 7.0
    other = set_in_state(rig, "reamp", "modeler", "feed", "jack")
    assert other.reamp_switches == (), "as in Record: no switch"
    own = with_switch(rig, StateSwitch(device="modeler", setting="drive", value=2.0))
    softer = set_in_state(own, "reamp", "modeler", "drive", 3.0)
    assert softer.device("modeler").number("drive") == rig.device("modeler").number("drive")
    assert in_state(softer, "reamp").device("modeler").number("drive") == 3.0
    with pytest.raises(RigError):
        set_in_state(own, "reamp", "modeler", "drive", 99.0)


def test_a_change_of_state_reamp_is_brought_home() -> None:
    rig = build("modeler-usb", "r")
    sent = in_state(rig, "reamp")
    changed = sent.with_setting("modeler", "cabinet", "none")
    home = folded(rig, changed)
    assert home.state == "record"
    assert home.device("modeler") == rig.device("modeler")
    assert in_state(home, "reamp").device("modeler") == changed.device("modeler")
    assert [one.words("reamp") for one in switched(home)] == [
        "Desktop modeler: Plays at USB return", "Desktop modeler: Cabinet at No cabinet",
    ]  # fmt: skip
    assert switched(home)[0].words("record") == "Desktop modeler: Plays at Instrument input"


def test_a_device_that_goes_takes_its_switches_along() -> None:
    assert remove_device(build("modeler-usb", "r"), "modeler").reamp_switches == ()
    with pytest.raises(ValueError, match="does not exist"):
        Rig.model_validate({**build("straight", "r").model_dump(), "reamp_switches": [
            {"device": "modeler", "setting": "feed", "value": "usb"}]})  # fmt: skip


def test_what_state_reamp_alone_has_says_so() -> None:
    """A second cabinet in state Reamp: told there, mended there, Record stays as it is."""
    rig = build("amp-in-loop", "r")
    rig = with_switch(rig, StateSwitch(device="modeler", setting="loop", value="off"))
    session = Session(id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id)
    alone = [one for one in look_at(session, both=True).findings if one.state == "reamp"]
    assert alone
    assert all(one.where.startswith("In state Reamp, ") for one in alone)
    assert not [one for one in look_at(session).findings if one.state]
    mended = [one for one in alone if one.mend is not None]
    assert mended
    for one in mended:
        home = one.mend.change(rig)
        assert home.state == "record"


def test_a_howl_in_state_reamp_is_found_before_sound() -> None:
    """The recorder monitors the return into the channel that is sent."""
    rig = build("modeler-usb", "r").with_setting("computer", "monitoring", "on")
    cables = tuple(
        one.model_copy(update={"source": PortRef(device="computer", port="play1")})
        if one.target.port == "usb_play3" else one
        for one in rig.cables
    )  # fmt: skip
    assert not [one for one in found(in_state(rig, "reamp")) if one.id == "feedback-loop"]
    howls = rig.model_copy(update={"cables": cables})
    assert not [one for one in found(howls) if one.id == "feedback-loop"], "Record does not howl"
    worst = found(in_state(howls, "reamp"))
    assert [one.severity for one in worst if one.id == "feedback-loop"] == [Severity.DANGER]


@pytest.fixture
def own(tmp_path: Path) -> tuple[SessionFolder, Session]:
    folder, session = new_session(tmp_path / "own.diaulos")
    yield folder, session
    folder.close()


def take_of(folder: SessionFolder, session: Session, rig: Rig) -> Session:
    """Eight seconds of the simulated player by a rig."""
    session = session.model_copy(update={"rigs": (rig,), "current_rig": rig.id})
    return prepare(
        RecordRequest(session, seconds=8.0), folder, rig_backend(paced=False), lambda: NOON
    ).run().edit(session)  # fmt: skip


@pytest.mark.parametrize(
    ("pad", "trim", "tap", "entry"),
    [
        ("off", 0.0, "behind", "behind"), ("on", 0.0, "behind", "behind"),
        ("off", 6.0, "behind", "behind"), ("on", -6.0, "behind", "behind"),
        ("on", 6.0, "ahead", "behind"), ("on", -6.0, "ahead", "ahead"),
        ("off", 6.0, "behind", "ahead"),
    ],
)  # fmt: skip
def test_a_stream_gives_the_tone_stage_what_it_had(
    own: tuple[SessionFolder, Session], pad: str, trim: float, tap: str, entry: str
) -> None:
    """The pass nulls with the modeled track that was recorded."""
    folder, session = own
    rig = build("modeler-usb", "r")
    for setting, value in (
        ("pad", pad), ("input_trim", trim), ("dry_tap", tap), ("reentry", entry),
    ):  # fmt: skip
        rig = rig.with_setting("modeler", setting, value)
    session = take_of(folder, session, rig)
    (take,) = session.takes
    assert reamp_rig(session).state == "reamp"
    assert recording_rig(session) == rig
    made = make_pass(
        ReampRequest(session, take.id), store=folder, backend_for=bench_for(), clock=lambda: NOON
    ).made
    for back in made.returns:
        assert back.recorded is not None
        assert back.recorded.name.startswith("Modeled")
        assert back.recorded.null_db < -80.0
        assert back.recorded.gain_db == pytest.approx(0.0, abs=0.01)
    level = trim - (9.0 if pad == "on" else 0.0)
    wanted = {("behind", "behind"): 0.0, ("ahead", "behind"): level, ("ahead", "ahead"): 0.0,
              ("behind", "ahead"): -level}[tap, entry]  # fmt: skip
    assert made.send_gain_db == pytest.approx(wanted, abs=0.02)


def test_one_rig_records_reamps_and_records_again(own: tuple[SessionFolder, Session]) -> None:
    folder, session = own
    session = take_of(folder, session, build("modeler-digital", "r"))
    made = make_pass(
        ReampRequest(session, "t0001"), store=folder, backend_for=bench_for(), clock=lambda: NOON
    )
    session = made.edit(session)
    assert {one.side for one in made.made.returns} == {"left", "right"}
    assert session.rig() == build("modeler-digital", "r")
    assert session.snapshots[made.made.rig_hash].state == "reamp"
    again = take_of(folder, session, session.rig())
    assert [one.name for one in again.takes[-1].tracks] == [
        one.name for one in session.takes[0].tracks
    ]
    assert not again.takes[-1].doubts
    thrown = edits.throw_in_reamp("r", (StateSwitch(device="modeler", setting="drive", value=9.0),))
    held = thrown(again)
    assert reamp_rig(held).device("modeler").number("drive") == 9.0


def test_the_shell_knows_the_states(
    own: tuple[SessionFolder, Session], capsys: pytest.CaptureFixture[str]
) -> None:
    folder, session = own
    rig = build("modeler-usb", "r")
    folder.save(take_of(folder, session, rig))
    folder.close()
    path = str(folder.path)
    assert main(["check", path, "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert data["switches"] == [
        {"device": "Desktop modeler", "setting": "Plays", "record": "Instrument input",
         "reamp": "USB return"},
    ]  # fmt: skip
    assert all("state" in one for one in data["findings"])
    assert main(["reamp", path, "--take", "t0001", "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)["returns"]) == 2
    assert main(["reamp", path, "--take", "t0001", "--state", "record"]) == 1
    assert "no reamp path" in capsys.readouterr().err


def test_what_is_thrown_on_the_hardware_is_told(own: tuple[SessionFolder, Session]) -> None:
    """On a real device the last pass leaves the switches at Reamp; the simulated studio throws its
    own."""
    folder, session = own
    rig = build("modeler-usb", "r")
    session = take_of(folder, session, rig)
    made = make_pass(
        ReampRequest(session, "t0001"), store=folder, backend_for=bench_for(), clock=lambda: NOON
    )
    assert state_words(rig, "reamp") == "State Reamp: Desktop modeler: Plays at USB return"
    assert state_words(build("straight", "r"), "reamp") == ""
    for device, turned in (("bench", False), ("box", True)):
        take = session.take("t0001")
        there = take.model_copy(
            update={
                "recorded_at": "2026-01-01T12:00:00",
                "played_by": device,
                "passes": (made.made.model_copy(update={"played_by": device}),),
            }
        )
        held = session.model_copy(update={"takes": (there,)})
        assert stands_otherwise(held, rig, "record") is turned
        assert not stands_otherwise(held, rig, "reamp")
        told = next(one for one in checklist(held, "r", 10**12) if one.id == "state")
        assert told.holds is not turned
        assert told.remedy.startswith("Set it on the hardware")
    assert not [one for one in checklist(session, "r", 10**12)[1:] if one.id == "state"]
    straight = session.model_copy(update={"rigs": (build("straight", "r"),)})
    assert not [one for one in checklist(straight, "r", 10**12) if one.id == "state"]


@pytest.mark.parametrize("name", [one for one in TEMPLATES if reamps(build(one, "r"))])
def test_every_arrangement_that_can_reamps_from_the_shell(
    name: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """A DI from a file goes out and every return comes back in time, digital ones included."""
    path = str(tmp_path / "own.diaulos")
    di = tmp_path / "di.wav"
    soundfile.write(di, performance(seconds=6.0, seed=11) * 0.3, RATE, subtype="PCM_24")
    assert main(["new", path]) == 0
    assert main(["rig", path, "--add", name, "--name", "Way", "--current"]) == 0
    assert main(["import", path, str(di), "--full-scale-dbu", "12"]) == 0
    capsys.readouterr()
    assert main(["reamp", path, "--take", "t0001", "--rig", "Way", "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    wanted = planned_returns(in_state(build(name, "r"), "reamp"))
    assert [one["return"] for one in data["returns"]] == [one.name for one in wanted]
    for one in data["returns"]:
        assert one["delay_samples"] is not None, one["reason"]
        assert one["loop_delay_samples"] == pytest.approx(one["delay_samples"], abs=60.0)
        assert one["clipped_samples"] == 0
