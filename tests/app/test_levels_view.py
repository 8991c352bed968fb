"""The Levels view: figures as the core and the shell say them, gains set and taken back by
key, what if, the sound check, calibration, two metres' distance."""

from __future__ import annotations

import csv
import io
import json
import math
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics, QGuiApplication
from PySide6.QtWidgets import QApplication, QComboBox, QDoubleSpinBox, QPushButton, QScrollArea
from pytestqt.qtbot import QtBot
from test_window import names_missing

from diaulos.__main__ import main
from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.dialogs.calibrate import CalibrateDialog
from diaulos.app.views.levels.painting import fit_words
from diaulos.app.views.levels.view import LevelsView
from diaulos.figures import number
from diaulos.rig.levels.calibration import input_stage
from diaulos.rig.model import PortRef, Rig, SettingRef
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.work.rigs.columns import columns_of
from diaulos.work.rigs.levels import aim_of, levels_of
from diaulos.work.rigs.solving import solve_rig
from diaulos.work.rigs.stored import Stored, stored_of
from diaulos.work.rigs.verdicts import verdict
from support import RATE


def track(n: int) -> PortRef:
    return PortRef(device="computer", port=f"track{n}")


@pytest.fixture
def shown(opened: Desk, qtbot: QtBot) -> LevelsView:
    """The live room with its wrong patches."""
    opened.document.apply(edits.choose_rig("rig04"))
    opened.window.activateWindow()
    qtbot.keyClick(opened.window, Qt.Key.Key_3, Qt.KeyboardModifier.ControlModifier)
    view = opened.views["levels"]
    assert view is not None
    assert opened.current is view
    settle(view, qtbot)
    return view


def settle(view: LevelsView, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: view.settled and view._jobs.quiet, timeout=60_000)


def press(
    qtbot: QtBot, view: LevelsView, key: Qt.Key,
    with_: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
) -> None:  # fmt: skip
    view.window().activateWindow()
    view.diagram.setFocus()
    qtbot.keyClick(view.window(), key, with_)
    settle(view, qtbot)


def undo(view: LevelsView, qtbot: QtBot) -> None:
    press(qtbot, view, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)


def held(view: LevelsView):  # type: ignore[no-untyped-def]
    return view._document.session


def choose(view: LevelsView, name: str, qtbot: QtBot) -> None:
    view.choose_course(name)
    settle(view, qtbot)


def stored(view: LevelsView) -> Stored:
    """What is stored of the playing of the session's instruments."""
    return stored_of(held(view), view._document.store)


def value_of(view: LevelsView, ref: str) -> float | str:
    device, setting = ref.split(".")
    return view.rig.device(device).setting(setting).value


# --- what is shown ---


def test_window_shell_and_core_agree(
    shown: LevelsView, opened: Desk, qtbot: QtBot, capsys: pytest.CaptureFixture[str]
) -> None:
    opened.folder.save(held(shown))
    assert main(["levels", str(opened.folder.path), "--json", "--solve"]) == 0
    rows = {row["name"]: row for row in json.loads(capsys.readouterr().out)["courses"]}
    core = {one.name: one for one in levels_of(held(shown))}
    strip = {row.name: row for row in opened.window.strip._rows}
    assert list(rows) == list(core) == list(strip) == ["DI", "Amp", "Amp and cabinet"]
    for name, row in rows.items():
        choose(shown, name, qtbot)
        diagram = core[name].diagram
        assert diagram is not None
        stations = {s["name"]: s for s in row["stations"]}
        for column in shown.diagram.columns:
            station = stations[column.station.place.name]
            tail = column.station.unit.lower()
            assert column.station.peak == pytest.approx(station[f"peak_{tail}"], abs=0.001)
            assert number(station[f"peak_{tail}"]) in shown.diagram.tip(
                shown.diagram.columns.index(column)
            )
        assert row["first_clip"]["name"] in shown.verdict.clips.text()
        assert number(abs(row["first_clip"]["headroom_db"])) in shown.verdict.clips.text()
        assert row["noise_set_by"]["name"] in shown.verdict.noise.text()
        assert f"{row['snr_db']:.1f} dB" in shown.verdict.noise.text()
        assert number(row["planned_peak_dbfs"]) in strip[name].peak
        assert stations[f"Track {row['track'][-1]}"]["peak_dbfs"] == pytest.approx(
            row["planned_peak_dbfs"], abs=0.001
        )
        table = shown.noise.table
        assert table.rowCount() == len(row["noise_budget"])
        for line, share in enumerate(row["noise_budget"]):
            assert table.item(line, 0).text() == share["name"]
            assert table.item(line, 1).text() == number(diagram.budget[line].dbfs)
            assert share["dbfs"] == pytest.approx(diagram.budget[line].dbfs, abs=0.01)
    assert strip["Amp and cabinet"].serious


def test_columns_leave_out_what_says_nothing(shown: LevelsView, qtbot: QtBot) -> None:
    choose(shown, "Amp", qtbot)
    few = [column.station.place.key for column in shown.diagram.columns]
    shown.every.setChecked(True)
    every = [column.station.place.key for column in shown.diagram.columns]
    assert set(few) < set(every)
    assert len(every) == len(shown.report.chosen.diagram.stations)
    for column in columns_of(shown.report.chosen.diagram):
        assert column.station.place.key in every
    shown.every.setChecked(False)
    kept = {str(c.ref) for column in shown.diagram.columns for c in column.station.controls}
    assert kept == set(shown.controls.fields)


def test_the_diagram_is_told_in_words_and_by_keys(shown: LevelsView, qtbot: QtBot) -> None:
    words = shown.diagram.accessibleDescription()
    assert "Active DI: Input: peak" in words
    assert "dB left" in words
    chosen = []
    shown.diagram.chosen.connect(chosen.append)
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Left):
        qtbot.keyClick(shown.diagram, key)
    assert chosen == [1, 2, 1]
    tip = shown.diagram.tip(len(shown.diagram.columns) - 1)
    assert "0 dBFS here is" in tip
    assert "Headroom" in tip
    qtbot.mouseClick(
        shown.diagram, Qt.MouseButton.LeftButton,
        pos=shown.diagram._well(3).center().toPoint(),
    )  # fmt: skip
    assert shown.diagram.index == 3


def test_the_drawing_as_csv_and_image(shown: LevelsView, opened: Desk) -> None:
    opened.copy_csv()
    rows = list(csv.DictReader(io.StringIO(QGuiApplication.clipboard().text())))
    diagram = shown.report.chosen.diagram
    assert [row["station"] for row in rows] == [s.place.name for s in diagram.stations]
    assert float(rows[-1]["peak"]) == pytest.approx(diagram.track.peak, abs=0.01)
    opened.copy_image()
    assert not QGuiApplication.clipboard().pixmap().isNull()


@pytest.mark.parametrize("look", [theme.DAY, theme.NIGHT])
def test_it_paints_in_both_looks(shown: LevelsView, qtbot: QtBot, look: theme.Look) -> None:
    app = QApplication.instance()
    theme.apply(app, look)
    for name in ("DI", "Amp and cabinet"):
        choose(shown, name, qtbot)
        picture = shown.diagram.grab().toImage()
        danger = look.colour("danger").rgb()
        wells = [shown.diagram._well(i) for i in range(len(shown.diagram.columns))]
        found = any(
            picture.pixel(x, y) == danger
            for well in wells[-1:]
            for x in range(int(well.left()), int(well.right()), 3)
            for y in range(int(well.top()), int(well.bottom()), 3)
        )
        assert found is (name == "Amp and cabinet")  # the word CLIPS on its patch
    theme.apply(app, theme.DAY)


def test_other_courses_are_laid_over(shown: LevelsView, qtbot: QtBot) -> None:
    choose(shown, "Amp", qtbot)
    shown._fill_lay()
    (action,) = [a for a in shown.lay_menu.actions() if a.text() == "DI"]
    before = shown.diagram.grab().toImage()
    action.setChecked(True)
    assert [one.name for one in shown.diagram.laid] == ["DI"]
    assert shown.diagram.grab().toImage() != before
    shown.lay_over(track(1), False)
    assert shown.diagram.laid == ()


# --- setting ---


def test_g_sets_what_the_verdict_says_and_undo_takes_it_back(
    shown: LevelsView, qtbot: QtBot
) -> None:
    before = held(shown)
    choose(shown, "Amp and cabinet", qtbot)
    assert "Input 4 switch from Microphone to Line" in shown.verdict.change.text()
    press(qtbot, shown, Qt.Key.Key_G)
    assert value_of(shown, "interface.mode4") == "line"
    solved = solve_rig(held(shown), "", (track(3),), stored(shown))[0].solution
    assert solved.changes == ()
    assert -1.05 < solved.left_db <= 0.05  # the target is a ceiling
    said = verdict(shown.report.chosen.diagram, shown.report.solved, aim_of(held(shown)))
    assert shown.verdict.figure.text() == said.figure
    undo(shown, qtbot)
    assert held(shown) == before


def test_all_courses_and_the_second_best(shown: LevelsView, qtbot: QtBot) -> None:
    before = held(shown)
    press(qtbot, shown, Qt.Key.Key_G, Qt.KeyboardModifier.ShiftModifier)
    for one in solve_rig(held(shown), "", None, stored(shown)):
        assert one.solution.changes == ()
    undo(shown, qtbot)
    assert held(shown) == before
    assert shown.verdict.second.text().startswith("Second best: Gain 1")
    best = shown.report.solved.solution.second.values
    press(qtbot, shown, Qt.Key.Key_G, Qt.KeyboardModifier.ControlModifier)
    assert (
        value_of(shown, "interface.gain1") == best[SettingRef(device="interface", setting="gain1")]
    )


def test_controls_follow_the_keyboard(shown: LevelsView, qtbot: QtBot) -> None:
    field = shown.controls.fields["interface.gain1"]
    assert isinstance(field.value, QDoubleSpinBox)
    peak = shown.report.chosen.diagram.track.peak
    field.value.setFocus()
    qtbot.keyClick(field.value, Qt.Key.Key_Up)
    qtbot.keyClick(field.value, Qt.Key.Key_Up)
    settle(shown, qtbot)
    assert shown.controls.fields["interface.gain1"] is field  # kept under the hand
    assert value_of(shown, "interface.gain1") == 8.0
    assert shown.report.chosen.diagram.track.peak == pytest.approx(peak + 2.0)
    switch = shown.controls.fields["interface.pad1"].value
    assert isinstance(switch, QComboBox)
    switch.setCurrentIndex(switch.findData("on"))
    switch.activated.emit(switch.currentIndex())
    settle(shown, qtbot)
    assert shown.report.chosen.diagram.track.peak == pytest.approx(peak - 13.0)


def test_a_locked_control_stays(shown: LevelsView, qtbot: QtBot) -> None:
    field = shown.controls.fields["interface.gain1"]
    said = []
    shown.said.connect(said.append)
    press(qtbot, shown, Qt.Key.Key_L)
    assert "Tab to a control first" in said[-1]
    field.value.setFocus()
    shown.toggle_lock()
    settle(shown, qtbot)
    assert held(shown).rig().locked == (SettingRef(device="interface", setting="gain1"),)
    assert field.locked.isVisible()
    assert "Gain 1 from" not in shown.verdict.change.text()
    press(qtbot, shown, Qt.Key.Key_G)
    assert value_of(shown, "interface.gain1") == 6.0
    undo(shown, qtbot)
    undo(shown, qtbot)
    assert held(shown).rig().locked == ()


def test_the_target_and_its_reason(shown: LevelsView, qtbot: QtBot) -> None:
    shown.target.setCurrentIndex(shown.target.findText("RMS −18 dBFS"))
    shown._on_target()
    settle(shown, qtbot)
    assert held(shown).target_statistic == "rms"
    assert "EBU R 68" in shown.target.toolTip()
    assert shown.verdict.target.text() == "target RMS −18 dBFS"
    shown._document.apply(edits.set_target(target_statistic="peak", target_peak_dbfs=-10.5))
    settle(shown, qtbot)
    assert shown.target.currentText() == "Peak −10.5 dBFS"


def test_the_loudest_playing_is_typed(shown: LevelsView, qtbot: QtBot) -> None:
    peak = shown.report.chosen.diagram.track.peak
    assert "measured in Instruments" in shown.loudest.toolTip()
    assert not shown.measured.isEnabled()
    shown.loudest.setValue(shown.loudest.value() - 4.0)
    settle(shown, qtbot)
    assert shown.report.chosen.diagram.track.peak == pytest.approx(peak - 4.0, abs=0.06)
    assert "typed" in shown.loudest.toolTip()
    shown.measured.click()
    settle(shown, qtbot)
    assert held(shown).rig().played == ()
    assert shown.report.chosen.diagram.track.peak == pytest.approx(peak)


def test_a_level_that_cannot_be_is_told(shown: LevelsView, qtbot: QtBot, answers: dict) -> None:
    rig = build("bass", "bassrig")
    shown._document.apply(edits.add_rig(rig))
    settle(shown, qtbot)
    before = held(shown)
    shown.loudest.setValue(25.0)
    settle(shown, qtbot)
    assert "8 dBu at most" in answers["asked"][-1][0]
    assert held(shown) == before
    assert shown.loudest.value() < 9.0


# --- what if ---


def test_what_if_shows_before_and_after(shown: LevelsView, qtbot: QtBot) -> None:
    before = held(shown)
    index = shown.question.findText("Instrument hotter by 6 dB")
    shown.question.setCurrentIndex(index)
    shown.question.activated.emit(index)
    settle(shown, qtbot)
    assert shown.diagram.before
    asked, plain = shown.report.asked, shown.report.chosen.diagram
    assert asked.track.peak - plain.track.peak == pytest.approx(6.0)
    text = shown.verdict.asked.text()
    assert f"{number(plain.track.peak)} → {number(asked.track.peak)} dBFS" in text
    assert held(shown) == before  # a question changes nothing
    shown.ask("")
    settle(shown, qtbot)
    assert shown.diagram.before == ()
    assert not shown.verdict.asked.isVisible()


# --- at two metres ---


def test_distance_is_one_figure_and_one_instruction(shown: LevelsView, qtbot: QtBot) -> None:
    press(qtbot, shown, Qt.Key.Key_V)
    far = shown.distance
    assert far.isVisible()
    assert far.name.text() == "DI"
    peak = shown.report.chosen.diagram.converter.peak
    assert -12.0 < peak < -6.0
    assert far.figure.text() == f"{peak:.1f} dBFS".replace("-", "−")
    down = math.ceil(peak + 12.0)  # the target is a ceiling
    assert far.instruction.text() == f"Gain 1 down {down} dB"
    assert not far.clips.isVisible()
    assert far.figure.font().pointSize() >= 60
    for _ in range(2):
        qtbot.keyClick(far, Qt.Key.Key_Down)
        settle(shown, qtbot)
    assert far.name.text() == "Amp and cabinet"
    assert far.clips.isVisible()
    qtbot.keyClick(shown.window(), Qt.Key.Key_G)
    settle(shown, qtbot)
    assert not far.clips.isVisible()
    qtbot.keyClick(shown.window(), Qt.Key.Key_V)
    assert not far.isVisible()


# --- against reality ---


def test_a_sound_check_on_the_bench_agrees(shown: LevelsView, qtbot: QtBot) -> None:
    press(qtbot, shown, Qt.Key.Key_B)
    assert shown.pages.currentIndex() == 2
    assert shown.check.words.text() == "Plan and sound check agree within 1 dB."
    assert shown.check.table.rowCount() == 3
    assert shown.diagram.heard_dbfs == pytest.approx(
        next(d.heard_dbfs for d in shown.check.check.differences if d.track == track(1))
    )


def test_a_surprise_is_named_and_taken_over(shown: LevelsView, qtbot: QtBot) -> None:
    shown._services = replace(shown._services, clock=lambda: datetime(2026, 1, 1, 0, 0, 1))
    shown.check.surprise.click()
    settle(shown, qtbot)
    assert "Likely cause: Four-input interface: Input 3 switch stands at Instrument" in (
        shown.check.words.text()
    )
    shown.check.take_cause.click()
    settle(shown, qtbot)
    assert value_of(shown, "interface.mode3") == "instrument"


def test_an_imported_sound_check_is_taken_over(
    shown: LevelsView, qtbot: QtBot, tmp_path: Path
) -> None:
    peak = shown.report.chosen.diagram.track.peak
    time = np.arange(RATE) / RATE
    loud = 10.0 ** ((peak - 2.0) / 20.0) * np.sin(2 * np.pi * 1000.0 * time)
    soundfile.write(str(tmp_path / "check.wav"), loud, RATE, subtype="FLOAT")
    shown.check_file(tmp_path / "check.wav")
    settle(shown, qtbot)
    assert shown.check.table.item(0, 3).text() == "−2.0"
    shown.check.take_level.click()
    settle(shown, qtbot)
    assert shown.report.chosen.diagram.track.peak == pytest.approx(peak - 2.0, abs=0.05)
    undo(shown, qtbot)
    shown.check.take_input.click()
    settle(shown, qtbot)
    assert shown.report.chosen.diagram.track.peak == pytest.approx(peak - 2.0, abs=0.05)
    _, stage = input_stage(shown.rig.device("interface"), "in1")
    assert stage.measured[0].how == "sound check"
    assert stage.measured[0].made_at.startswith("20")


def test_a_broken_file_is_told(shown: LevelsView, qtbot: QtBot, tmp_path: Path, answers) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "broken.wav"
    path.write_bytes(b"RIFFxxxx")
    shown.check_file(path)
    settle(shown, qtbot)
    assert answers["asked"]
    assert shown.check.check is None


# --- calibration ---


def measured(dialog: CalibrateDialog, qtbot: QtBot, view: LevelsView) -> None:
    dialog.measure.click()
    qtbot.waitUntil(lambda: view._jobs.quiet and dialog.measure.isEnabled(), timeout=60_000)


def test_an_input_is_calibrated_and_kept(
    shown: LevelsView, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    peak = shown.report.chosen.diagram.track.peak
    asked: list[CalibrateDialog] = []

    def run(dialog: CalibrateDialog) -> int:
        asked.append(dialog)
        dialog.show()
        assert dialog.input.currentText() == "Four-input interface, Input 1"
        dialog.level.setText("half a volt")
        dialog.measure.click()
        assert "no level" in dialog._problem.text()
        dialog.level.setText("500 mV")
        measured(dialog, qtbot, shown)
        assert dialog.table.rowCount() >= 10
        assert "Linear to" in dialog.words.text()
        assert names_missing(dialog) == []
        return 1

    monkeypatch.setattr(CalibrateDialog, "exec", run)
    press(qtbot, shown, Qt.Key.Key_C)
    (dialog,) = asked
    point = next(p for p in dialog.found.points if p.gain_db == 5.0)
    assert number(point.error_db, 2, sign=True) in dialog.table.item(1, 3).text()
    _, stage = input_stage(shown.rig.device("interface"), "in1")
    assert len(stage.measured) == len(dialog.found.points)
    moved = shown.report.chosen.diagram.track.peak - peak
    assert 0.05 < abs(moved) < 0.8
    dialog.close()
    shown._document.undo()
    settle(shown, qtbot)
    assert shown.report.chosen.diagram.track.peak == pytest.approx(peak)


def test_a_recorded_tone_calibrates(shown: LevelsView, qtbot: QtBot, tmp_path: Path) -> None:
    """+4 dBu read at -2.5 dBFS is +6.5 dBu at 0 dBFS (arithmetic)."""
    time = np.arange(2 * RATE) / RATE
    tone = 10.0 ** (-2.5 / 20.0) * np.sin(2 * np.pi * 200.0 * time)
    soundfile.write(str(tmp_path / "tone.wav"), tone, RATE, subtype="FLOAT")
    dialog = CalibrateDialog(
        held(shown),
        shown._jobs,
        shown._services.files,
        shown._services.rig_audio,
        shown,
        shown._recording_input(),
    )
    qtbot.addWidget(dialog)
    dialog.show()
    dialog.way.setCurrentIndex(dialog.way.findData("file"))
    dialog.level.setText("+4 dBu")
    dialog.measure.click()
    assert "Choose a recording" in dialog._problem.text()
    dialog.choose_file(tmp_path / "tone.wav")
    measured(dialog, qtbot, shown)
    assert dialog.found is not None
    assert dialog.found.points[0].full_scale_dbu == pytest.approx(6.5, abs=0.01)
    assert dialog.table.item(0, 0).text() == "6 dB"
    after = dialog.found.edit("now")(held(shown))
    _, stage = input_stage(after.rig().device("interface"), "in1")
    assert stage.measured[0].how == "recorded tone of 200 Hz"
    dialog.choose_file(tmp_path / "nothing.wav")
    measured(dialog, qtbot, shown)
    assert "no such file" in dialog._problem.text()


def test_the_other_ways_of_calibrating(shown: LevelsView, qtbot: QtBot) -> None:
    rig: Rig = build("reamp-box", "loops").with_setting("interface", "gain4", 0.0)
    shown._document.apply(edits.add_rig(rig))
    settle(shown, qtbot)
    dialog = CalibrateDialog(
        held(shown),
        shown._jobs,
        shown._services.files,
        shown._services.rig_audio,
        shown,
        PortRef(device="interface", port="in4"),
    )
    qtbot.addWidget(dialog)
    dialog.show()
    out = dialog.output.findText("Four-input interface, Line output 3")
    dialog.output.setCurrentIndex(out)
    for way in ("loop", "output", "box"):
        dialog.way.setCurrentIndex(dialog.way.findData(way))
        assert dialog.found is None
        measured(dialog, qtbot, shown)
        assert dialog._problem.text() == ""
        assert dialog.found is not None, way
        assert dialog.table.rowCount() >= 1
    (more,) = [s.measured_db for d in (dialog.found.edit("now")(held(shown)).rig().devices)
               if d.kind == "reamp_box" for p in d.paths for s in p.stages]  # fmt: skip
    assert more == pytest.approx(dialog.found.point.error_db)


# --- the rest ---


def test_every_control_has_a_name(shown: LevelsView) -> None:
    assert names_missing(shown) == []
    for index in range(3):
        shown.pages.setCurrentIndex(index)
        assert names_missing(shown) == []


def test_everything_is_reached_by_tab(shown: LevelsView, qtbot: QtBot) -> None:
    wanted = {shown.course, shown.loudest, shown.target, shown.question, shown.lay,
              shown.distance_button, shown.diagram, shown.every, shown.tone,
              shown.calibrate_button, shown.solve_all,
              shown.verdict.set_button, shown.verdict.second_button,
              *(field.value for field in shown.controls.fields.values())}  # fmt: skip
    shown.window().activateWindow()
    shown.diagram.setFocus()
    seen = set()
    for _ in range(80):
        seen.add(QApplication.focusWidget())
        qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
    missing = [w.accessibleName() or w.text() for w in wanted - seen if w.isEnabled()]
    assert missing == []


def test_a_rig_without_courses_says_what_to_do(shown: LevelsView, qtbot: QtBot) -> None:
    empty = Rig(id="empty", name="Empty", devices=(), cables=())
    shown._document.apply(edits.add_rig(empty))
    settle(shown, qtbot)
    assert "Plan tracks in Rig" in shown.diagram.message
    assert not shown.verdict.set_button.isEnabled()
    shown.set_gains()
    shown.diagram.grab()


def test_a_course_without_a_converter_says_so(shown: LevelsView, qtbot: QtBot) -> None:
    shown._document.apply(edits.add_rig(build("reamp-usb", "usb")))
    settle(shown, qtbot)
    assert "no converter" in shown.verdict.change.text()
    assert shown.diagram.columns
    assert not shown.verdict.set_button.isEnabled()


def test_a_gain_without_limits_is_told_at_its_place(shown: LevelsView, qtbot: QtBot) -> None:
    rig = held(shown).rig()
    device = rig.device("interface")
    endless = tuple(
        s.model_copy(update={"minimum": -5000.0, "maximum": 5000.0}) if s.id == "gain1" else s
        for s in device.settings
    )
    device = device.model_copy(update={"settings": endless})
    shown._document.apply(edits.change_rig(rig.id, "Endless", lambda r: r.with_device(device)))
    settle(shown, qtbot)
    assert "without limits" in shown.verdict.change.text()
    assert shown.diagram.columns  # the diagram still stands


def test_read_only_shows_and_does_not_set(
    desk: Desk,
    demo_copy: Path,
    qtbot: QtBot,
    settled,
    answers: dict,  # type: ignore[no-untyped-def]
) -> None:
    assert desk.open_path(demo_copy, read_only=True)
    settled(desk)
    desk.show("levels")
    view = desk.views["levels"]
    settle(view, qtbot)
    for button in (view.verdict.set_button, view.verdict.second_button, view.solve_all):
        assert isinstance(button, QPushButton)
        assert not button.isEnabled()
    for field in view.controls.fields.values():
        assert not field.value.isEnabled()


def test_loud_moments_are_told_and_room_is_left_for_them(shown: LevelsView, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: shown.verdict.loud.text() != "", timeout=60_000)
    assert shown.verdict.loud.text().startswith("Loud moments to −")
    target = shown.report.solved.solution.best.peak_dbfs
    shown.loud.click()
    settle(shown, qtbot)
    assert held(shown) is not None
    assert shown.rig is not None
    assert shown._document.session.loud_moments
    assert shown.report.solved.solution.aim.target_dbfs < -12.0
    assert shown.report.solved.solution.best.peak_dbfs <= target
    undo(shown, qtbot)
    assert not shown.loud.isChecked()


def test_a_course_of_eleven_stations_is_whole_at_the_usual_size(
    shown: LevelsView, qtbot: QtBot
) -> None:
    """The converter that clips was scrolled out of sight for the sake of a long word."""
    shown.choose_course("Amp and cabinet")
    settle(shown, qtbot)
    shown.window().resize(1280, 800)
    QApplication.processEvents()
    assert len(shown.diagram.columns) == 11
    bars = [one.horizontalScrollBar().maximum() for one in shown.findChildren(QScrollArea)]
    assert set(bars) == {0}


def test_a_word_that_is_wider_than_its_column_is_cut_with_a_sign(qtbot: QtBot) -> None:
    """ "humbuckers," ran into the frame of the chosen column."""
    metrics = QFontMetrics(theme.text_font(9))
    assert fit_words("humbuckers, B standard", metrics, 400) == "humbuckers, B standard"
    fitted = fit_words("humbuckers, B standard", metrics, 50).split()
    assert fitted[0].endswith("\N{HORIZONTAL ELLIPSIS}")
    assert fitted[1:] == ["B", "standard"]
    assert all(metrics.horizontalAdvance(word) <= 50 for word in fitted)
