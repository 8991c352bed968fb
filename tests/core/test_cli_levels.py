"""Levels by use case and by shell: the same figures, gains set, locks, targets, old files."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from test_cli import documented, run, run_json
from test_cli_rig import with_rig

from diaulos.errors import EditError, InputError
from diaulos.rig import changes
from diaulos.rig.levels.whatif import swap_device
from diaulos.rig.model import PlayedLevel, PortRef, SettingRef
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.migrations import migrate
from diaulos.session.model import Session
from diaulos.wiring import SessionFolder
from diaulos.work.rigs.levels import (
    TARGET_CHOICES,
    aim_of,
    course_named,
    forget_played_edit,
    jack_peak_dbu,
    levels_of,
    lock_edit,
    set_played_edit,
    traced_courses,
    typed_played,
)
from diaulos.work.rigs.report import asked, gain_worth
from diaulos.work.rigs.solving import second_edit, solve_edit, solve_rig
from diaulos.work.rigs.stored import stored_of
from diaulos.work.rigs.types import read_type, type_text
from diaulos.work.rigs.verdicts import levels_data, verdict
from support import RATE


def session_of(name: str = "hybrid") -> Session:
    rig = build(name, "rig01")
    return Session(id="s", name="Test", sample_rate_hz=RATE, rigs=(rig,), current_rig="rig01")


def saved(path: Path) -> Session:
    return SessionFolder.open(path, read_only=True).load()


# --- the shell ---


def test_levels_are_what_the_core_says(capsys: pytest.CaptureFixture[str], demo_copy: Path) -> None:
    code, data = run_json(capsys, "levels", demo_copy, "--rig", "rig04")
    assert code == 0
    asked = {"solved", "loud_moments_dbfs"}  # only with their flags
    assert {*data, *data["courses"][0], *asked} == documented("levels")
    folder = SessionFolder.open(demo_copy, read_only=True)
    session = folder.load()
    stored = stored_of(session, folder)
    rows = json.loads(json.dumps(levels_data(levels_of(session, "rig04", stored))))
    assert data["courses"] == rows
    assert [row["name"] for row in rows] == ["DI", "Amp", "Amp and cabinet"]
    code, out, _ = run(capsys, "levels", demo_copy, "--rig", "rig04")
    for row in rows:
        assert row["name"] in out
        assert row["first_clip"]["name"] in out
        assert f"{row['snr_db']:.1f} dB" in out


def test_one_course_solved_and_applied(capsys: pytest.CaptureFixture[str], demo_copy: Path) -> None:
    before = saved(demo_copy)
    code, data = run_json(
        capsys, "levels", demo_copy, "--rig", "rig04", "--course", "Amp and cabinet", "--solve"
    )
    assert code == 0
    (row,) = data["courses"]
    solved = row["solved"]
    turned = {s["id"]: s["value"] for s in solved["settings"] if s["value"] != s["before"]}
    assert turned["interface.mode4"] == "line"  # the wrong patch that the demo has to find
    assert -1.05 < solved["left_over_db"] <= 0.05  # the target is a ceiling
    assert solved["second_best"] is not None
    assert saved(demo_copy) == before
    code, _, _ = run(
        capsys, "levels", demo_copy, "--rig", "rig04", "--course", "Amp and cabinet", "--solve",
        "--apply",
    )  # fmt: skip
    assert code == 0
    after = saved(demo_copy)
    for ref, value in turned.items():
        device, setting = ref.split(".")
        assert after.rig("rig04").device(device).setting(setting).value == value


def test_what_the_shell_refuses(capsys: pytest.CaptureFixture[str], demo_copy: Path) -> None:
    code, _, err = run(capsys, "levels", demo_copy, "--apply")
    assert code == 1
    assert "--apply wants --solve" in err
    code, _, err = run(capsys, "levels", demo_copy, "--course", "nobody")
    assert code == 1
    assert "no course 'nobody'" in err


def test_a_course_without_a_converter_is_told(
    capsys: pytest.CaptureFixture[str], demo_copy: Path
) -> None:
    with_rig(demo_copy, template="reamp-usb")
    code, data = run_json(capsys, "levels", demo_copy, "--rig", "extra", "--solve")
    assert code == 0
    assert "no converter" in data["courses"][0]["solved"]["reason"]
    _, out, _ = run(capsys, "levels", demo_copy, "--rig", "extra", "--solve")
    assert "There is no converter on this course" in out


# --- use cases ---


def test_gains_are_set_as_one_step_and_locks_hold() -> None:
    session = edits.set_device_setting("rig01", "interface", "gain1", 30.0)(session_of())
    solved = solve_rig(session)
    after = solve_edit("rig01", solved)(session)
    assert after.rig().device("interface").number("gain1") == 6.0
    for one in levels_of(after):
        assert one.diagram is not None
    lock = SettingRef(device="interface", setting="gain1")
    locked = lock_edit("rig01", lock, True)(session)
    with pytest.raises(EditError, match="locked meanwhile"):
        solve_edit("rig01", solved)(locked)
    kept = solve_edit("rig01", solve_rig(locked))(locked)
    assert kept.rig().device("interface").number("gain1") == 30.0
    assert lock_edit("rig01", lock, False)(locked) == session
    second = second_edit("rig01", solved[0])(session)
    assert second.rig().device("interface").word("pad1") == "off"  # a pad only to add gain
    assert second.rig().device("interface").number("gain1") == 4.0


@pytest.mark.parametrize("name", ["hybrid", "bass", "modeler-digital", "three-tones"])
def test_no_setting_is_decided_for_two_courses(name: str) -> None:
    seen: set[SettingRef] = set()
    for one in solve_rig(session_of(name), with_freeings=False):
        assert one.solution is not None
        assert not seen & set(one.solution.best.values)
        seen |= set(one.solution.best.values)


def test_another_di_box_is_asked_for_where_it_is_better() -> None:
    """A soft guitar: the passive box loads it and loses 20 dB ahead of the preamp, the active
    one does not. By the solver's own order, each box solved by itself."""
    rig = build("hybrid", "rig01")
    rig = swap_device(rig, "di", "passive_di").with_setting("interface", "gain1", 40.0)
    level = PlayedLevel(device="guitar", emf_peak_dbu=-20.0)
    rig = changes.set_played(rig, level)
    session = session_of().model_copy(update={"rigs": (rig,)})
    plain = solve_rig(session, tracks=(track(1),))[0]
    other = solve_rig(session, tracks=(track(1),), other_di=True)[0]
    assert plain.swapped is None
    assert other.swapped == ("di", "active_di")
    assert other.solution is not None
    assert plain.solution is not None
    key, before = other.solution.best.key, plain.solution.best.key
    assert (*key[:4], key[4] + 1) < before[:5]
    after = solve_edit("rig01", (other,))(session)
    assert after.rig().device("di").type == "active_di"
    said = levels_of(session)[0].diagram
    assert said is not None
    assert "Active DI in place of Passive DI" in verdict(said, other, aim_of(session)).change
    again = solve_rig(after, tracks=(track(1),), other_di=True)[0]
    assert again.swapped is None


def test_a_typed_loudest_peak_counts() -> None:
    session = session_of()
    (track, *_) = traced_courses(session)
    before = jack_peak_dbu(traced_courses(session)[track])
    assert before is not None
    level = typed_played(session, "rig01", "guitar", before + 5.0)
    louder = set_played_edit("rig01", level)(session)
    course = traced_courses(louder)[track]
    assert jack_peak_dbu(course) == pytest.approx(before + 5.0)
    assert course.source is not None
    assert course.source.known
    one, other = levels_of(session)[0].diagram, levels_of(louder)[0].diagram
    assert one is not None
    assert other is not None
    assert other.track.peak - one.track.peak == pytest.approx(5.0)
    assert forget_played_edit("rig01", "guitar")(louder) == session
    with pytest.raises(EditError, match="is no instrument"):
        typed_played(session, "rig01", "interface", 0.0)
    bass = session_of("bass")
    with pytest.raises(EditError, match="8 dBu at most"):
        typed_played(bass, "rig01", "bass", 20.0)


def test_targets_with_their_reasons() -> None:
    session = session_of()
    assert aim_of(session).target_dbfs == -12.0
    for one in TARGET_CHOICES:
        assert len(one.reason) > 40
    rms = edits.set_target(target_statistic="rms", target_rms_dbfs=-18.0)(session)
    assert (aim_of(rms).statistic, aim_of(rms).target_dbfs) == ("rms", -18.0)
    with pytest.raises(EditError, match="no part of the target"):
        edits.set_target(tempo_bpm=90.0)
    with pytest.raises(EditError):
        edits.set_target(least_headroom_db=-1.0)(session)


def test_the_verdict_is_three_lines_and_one_instruction() -> None:
    session = edits.set_device_setting("rig01", "interface", "gain1", 30.0)(session_of())
    one = levels_of(session)[0]
    assert one.diagram is not None
    solved = solve_rig(session)[0]
    said = verdict(one.diagram, solved, aim_of(session))
    assert said.clips_first.endswith(f"clips by {one.diagram.converter.peak:.1f} dB")
    assert "converter" in said.clips_first
    assert "under the loudest peak" in said.noise_set_by
    assert said.instruction == "Gain 1 down 24 dB"
    assert not said.good
    assert said.figure.endswith("dBFS")
    settled = solve_edit("rig01", (solved,))(session)
    there = levels_of(settled)[0].diagram
    assert there is not None
    assert verdict(there, solve_rig(settled)[0], aim_of(settled)).good
    usb = session_of("reamp-usb")
    none = levels_of(usb)[0].diagram
    assert none is not None
    assert "no converter" in verdict(none, solve_rig(usb)[0], aim_of(usb)).change


def test_what_a_gain_change_buys() -> None:
    """A microphone far under its converter's floor gains almost all of it, a hot line none."""
    session = session_of("bass")
    worth = {w.setting.ref.setting: w for w in gain_worth(traced_courses(session)[track(1)])}
    assert 0.0 <= worth["gain1"].bought_db < 3.0
    low = session
    for name in ("gain3", "gain4"):
        low = edits.set_device_setting("rig01", "interface", name, 0.0)(low)
    (mic,) = gain_worth(traced_courses(low)[track(2)])
    assert mic.more_db == 6.0
    assert mic.bought_db > 4.0


def track(number: int) -> PortRef:
    return PortRef(device="computer", port=f"track{number}")


def test_asking_by_id_and_by_name() -> None:
    session = session_of()
    courses = levels_of(session)
    one = course_named(courses, "DI")
    assert course_named(courses, "track1") is one
    course = traced_courses(session)[one.track]
    assert one.diagram is not None
    assert asked(course, "hotter").track.peak > one.diagram.track.peak + 5.9


# --- old files ---


def test_version_3_said_the_input_noise_in_one_figure() -> None:
    new = session_of()
    old = json.loads(new.model_dump_json())
    old["schema_version"] = 3
    old["snapshots"] = {"abc": json.loads(json.dumps(old["rigs"][0]))}
    for field in ("target_statistic", "target_rms_dbfs", "least_headroom_db"):
        del old[field]
    for rig in (*old["rigs"], *old["snapshots"].values()):
        del rig["locked"], rig["played"]
        for device in rig["devices"]:
            for path in device["paths"]:
                for stage in path["stages"]:
                    if stage["kind"] == "adc":
                        del stage["floor_dbfs"], stage["input_noise"], stage["measured"]
                        stage["noise_dbu"] = -101.0
    before = json.dumps(old)
    got = Session.model_validate(migrate(old, "session.json"))
    assert json.dumps(old) == before
    for rig in (*got.rigs, *got.snapshots.values()):
        stages = [s for d in rig.devices for p in d.paths for s in p.stages if s.kind == "adc"]
        assert stages
        for stage in stages:
            assert [n.ein_dbu for n in stage.input_noise] == [-101.0]
            assert stage.floor_dbfs == -114.0


def test_a_type_file_with_a_gain_without_limits_is_refused(tmp_path: Path) -> None:
    device = build("hybrid", "r").device("interface")
    data = json.loads(type_text(device))
    for setting in data["device"]["settings"]:
        if setting["id"] == "gain1":
            del setting["maximum"]
    path = tmp_path / "type.json"
    path.write_text(json.dumps(data), "utf-8")
    with pytest.raises(InputError, match="maximum"):
        read_type(path)
