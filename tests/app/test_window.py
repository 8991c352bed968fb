"""The frame: sessions opened, made, saved, locked, recovered; menus, keys, looks."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QSize, Qt
from PySide6.QtTest import QAbstractItemModelTester
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QWidget
from pytestqt.qtbot import QtBot

from diaulos.app import theme
from diaulos.app.actions import ACTIONS, keys_html, with_views
from diaulos.app.desk import Desk
from diaulos.app.dialogs.import_di import ImportDiDialog
from diaulos.app.dialogs.new_session import NewSessionDialog
from diaulos.app.main_window import MainWindow, first_size
from diaulos.app.preferences import Preferences
from diaulos.app.view_table import VIEWS
from diaulos.app.widgets.controls import NarrowBox
from diaulos.session import edits
from diaulos.storage.folder import SessionFolder
from diaulos.work.takes.importing import ImportRequest
from support import RATE, performance

Settle = Callable[[Desk], None]


def test_nothing_open_says_what_to_do(window: MainWindow) -> None:
    words = [button.text() for button in window.welcome.buttons.values()]
    assert any("Ctrl+N" in one for one in words)
    assert window.action("new").isEnabled()
    assert not window.action("save").isEnabled()
    assert not window.action("reamp").isEnabled()


def test_every_action_can_be_called_and_has_a_name(desk: Desk) -> None:
    idents = [spec.ident for spec in ACTIONS]
    assert len(set(idents)) == len(idents)
    keys = [(spec.view, spec.key) for spec in ACTIONS if spec.key]
    assert len(set(keys)) == len(keys)
    everywhere = {key for view, key in keys if not view}
    assert not everywhere & {key for view, key in keys if view}
    own = desk.window.own_commands()
    views = {row.ident: row.load() for row in VIEWS}
    assert all(view.ident == ident for ident, view in views.items())
    for spec in ACTIONS:
        if spec.call in own:
            continue
        command = getattr(views[spec.view], spec.call) if spec.view else desk.command(spec.call)
        assert callable(command)
    for spec in with_views(ACTIONS, VIEWS):
        assert spec.key in keys_html(with_views(ACTIONS, VIEWS))


def test_open_shows_the_session(opened: Desk) -> None:
    window = opened.window
    assert window.windowTitle().startswith("Saltmarsh")
    assert "48 kHz, 24 bit, 96 bpm, 4/4" in window._where.text()
    assert window.stack.currentWidget() is opened.views["reamp"]
    assert window.action("reamp").isEnabled()
    assert not window.action("undo").isEnabled()
    assert str(opened.folder.path) in window.preferences.recent
    assert opened.open_path(opened.folder.path)  # again: nothing happens
    assert "open already" in window._status.text()


def test_a_new_session_through_its_dialog(desk: Desk, tmp_path: Path, settled: Settle) -> None:
    dialog = NewSessionDialog(tmp_path, desk.window)
    ok = dialog._buttons.button(dialog._buttons.StandardButton.Ok)
    dialog.name.setText("")
    assert not ok.isEnabled()
    assert "name" in dialog._problem.text()
    dialog.name.setText("a/b")
    assert "slash" in dialog._problem.text()
    dialog.name.setText("Quay")
    dialog.folder.setText(str(tmp_path / "gone"))
    assert "does not exist" in dialog._problem.text()
    dialog.folder.setText(str(tmp_path))
    dialog.rate.setCurrentIndex(dialog.rate.findData(96_000))
    dialog.word.setCurrentIndex(1)
    dialog.tempo.setValue(77.5)
    dialog.metre.setCurrentText("6/8")
    assert ok.isEnabled()
    desk.opening.make_session(dialog)
    settled(desk)
    session = desk.document.session
    assert (session.sample_rate_hz, session.word_length) == (96_000, "float")
    assert (session.tempo_bpm, session.metre) == (77.5, "6/8")
    assert desk.views["instruments"].isVisible(), "where work begins"
    desk.show("reamp")
    settled(desk)
    assert "Import DI" in desk.views["reamp"]._empty_takes.text()
    assert (tmp_path / "Quay.diaulos" / "session.json").is_file()
    again = NewSessionDialog(tmp_path)
    again.name.setText("Quay")
    assert "already" in again._problem.text()
    dialog.deleteLater()
    again.deleteLater()


def test_save_reopen_is_as_it_was(opened: Desk, settled: Settle) -> None:
    opened.document.apply(edits.set_device_setting("rig01", "amp", "drive", 8.0))
    assert opened.window.windowTitle().startswith("Saltmarsh*")
    before = opened.document.session
    opened.saving.save()
    settled(opened)
    assert not opened.document.dirty
    assert opened.folder.load() == before
    path = opened.folder.path
    opened.detach()
    opened.open_path(path)
    settled(opened)
    assert opened.document.session == before


def test_another_session_at_once_while_the_first_is_worked_out(
    desk: Desk, demo_copy: Path, tmp_path: Path, settled: Settle
) -> None:
    """Levels and figures of the first are still under way: their results find nobody."""
    from diaulos.wiring import new_session

    assert desk.open_path(demo_copy)
    desk.show("instruments")
    assert not desk.jobs.quiet
    folder, session = new_session(tmp_path / "Second")
    desk.attach(folder, session)
    settled(desk)
    assert desk.document.session.name == "Second"


def test_save_as_goes_on_there(opened: Desk, tmp_path: Path, settled: Settle) -> None:
    opened.saving.save_as(tmp_path / "Copy")
    settled(opened)
    assert opened.folder.path == tmp_path / "Copy.diaulos"
    assert opened.document.session.name == "Copy"
    assert len(list((opened.folder.path / "audio").glob("*.wav"))) == 8


def test_undo_and_redo_by_key(opened: Desk, qtbot: QtBot) -> None:
    window = opened.window
    window.activateWindow()
    opened.document.apply(edits.set_device_setting("rig01", "amp", "drive", 8.0))
    assert "Set drive" in window.action("undo").text()
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert opened.document.session.rig("rig01").device("amp").number("drive") == 5.0
    shift = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
    qtbot.keyClick(window, Qt.Key.Key_Z, shift)
    assert opened.document.session.rig("rig01").device("amp").number("drive") == 8.0


def test_closing_asks_only_when_something_would_be_lost(opened: Desk, answers: dict) -> None:
    assert opened.saving.closing()
    opened.document.apply(edits.set_device_setting("rig01", "amp", "drive", 8.0))
    answers["button"] = "Cancel"
    assert not opened.saving.closing()
    answers["button"] = "Close without saving"
    assert opened.saving.closing()
    answers["button"] = "Save"
    assert opened.saving.closing()
    assert opened.folder.load().rig("rig01").device("amp").number("drive") == 8.0
    assert "Save the changes to Saltmarsh?" in answers["asked"][0][0]


def test_unsaved_work_is_brought_back(desk: Desk, demo_copy: Path, answers: dict,
                                      settled: Settle) -> None:  # fmt: skip
    folder = SessionFolder.open(demo_copy)
    changed = edits.set_device_setting("rig01", "amp", "drive", 9.5)(folder.load())
    folder.write_journal(changed)
    folder.close()
    answers["button"] = "Bring it back"
    assert desk.open_path(demo_copy)
    settled(desk)
    assert desk.document.session.rig("rig01").device("amp").number("drive") == 9.5
    assert desk.document.dirty
    assert "ended early" in answers["asked"][0][1]


def test_the_journal_is_written_without_being_asked(opened: Desk, qtbot: QtBot) -> None:
    opened.document.apply(edits.set_device_setting("rig01", "amp", "drive", 9.0))
    opened.document.journal_now()
    qtbot.waitUntil(lambda: opened.folder.journal() is not None, timeout=10_000)
    assert opened.folder.journal() == opened.document.session


HOLDER = """
import sys
from pathlib import Path
from diaulos.storage.folder import SessionFolder
folder = SessionFolder.open(Path(sys.argv[1]))
print("open", flush=True)
sys.stdin.readline()
"""


def test_a_second_opener_reads_only(
    desk: Desk, demo_copy: Path, answers: dict, settled: Settle
) -> None:
    holder = subprocess.Popen(
        [sys.executable, "-c", HOLDER, str(demo_copy)], stdin=subprocess.PIPE,
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert holder.stdout is not None
    holder.stdout.readline()
    try:
        answers["button"] = "Open read-only"
        assert desk.open_path(demo_copy)
        settled(desk)
        assert str(holder.pid) in answers["asked"][0][1]
        assert desk.document.read_only
        assert "read-only" in desk.window.windowTitle()
        assert not desk.window.action("save").isEnabled()
        assert not desk.views["reamp"].tone.reamp_button.isEnabled()
    finally:
        holder.communicate("\n")


def test_a_damaged_session_is_told_and_nothing_is_lost(
    desk: Desk, demo_copy: Path, answers: dict
) -> None:
    path = demo_copy / "session.json"
    text = path.read_text("utf-8")
    path.write_text(text[: len(text) // 2])
    assert not desk.open_path(demo_copy)
    assert "cut off or damaged" in answers["asked"][0][0]
    assert "session.previous.json" in answers["asked"][0][1]
    assert path.read_text("utf-8") == text[: len(text) // 2]
    assert not (demo_copy / "lock").exists()


def test_a_lost_pass_is_offered(opened: Desk, answers: dict, settled: Settle) -> None:
    path = opened.folder.path
    opened.views["reamp"].reamp()
    settled(opened)
    (made,) = opened.document.session.takes[0].passes
    for thread in threading.enumerate():
        if thread.name == "journal":
            thread.join()
    opened.folder.drop_journal()  # as if the process had died before the journal
    opened.detach()
    answers["button"] = "Add them"
    assert opened.open_path(path)
    settled(opened)
    (found,) = opened.document.session.takes[0].passes
    assert found.files == made.files
    assert found.main.alignment == made.main.alignment


# --- importing ---


def brought(tmp_path: Path) -> Path:
    path = tmp_path / "My riff.wav"
    samples = 0.3 * performance(seconds=4.0)
    soundfile.write(str(path), np.stack([samples, samples], axis=1), 44_100, subtype="PCM_24")
    return path


def test_import_through_its_dialog(opened: Desk, tmp_path: Path, settled: Settle) -> None:
    path = brought(tmp_path)
    dialog = ImportDiDialog(path, 2, 44_100, 4.4, opened.document.session, opened.window)
    assert dialog.name.text() == "My riff"
    dialog.name.setText(" ")
    ok = dialog._buttons.button(dialog._buttons.StandardButton.Ok)
    assert not ok.isEnabled()
    dialog.name.setText("Riff")
    dialog.channel.setCurrentIndex(1)
    dialog.instrument.setCurrentIndex(dialog.instrument.count() - 1)
    dialog.new_name.setText("Borrowed guitar")
    dialog.calibration.unknown.setChecked(False)
    dialog.calibration.level.setValue(13.0)
    request = dialog.request()
    assert request == ImportRequest(path, "Riff", 2, "", "Borrowed guitar", "guitar", 13.0)
    opened.importing.import_file(request)
    settled(opened)
    take = opened.views["reamp"].take
    assert take.name == "Riff"
    assert take.di.full_scale_dbu == 13.0
    assert "Resampled" in opened.window._status.text()
    assert opened.document.session.instrument_name(take.instrument_id) == "Borrowed guitar"
    opened.undo()
    assert all(t.name != "Riff" for t in opened.document.session.takes)
    opened.redo()
    dialog.deleteLater()


def test_a_bad_file_is_told(opened: Desk, tmp_path: Path, answers: dict) -> None:
    path = tmp_path / "notes.wav"
    path.write_text("no sound")
    before = opened.document.session
    opened.importing.import_dialog(path)
    assert "not audio" in answers["asked"][0][0]
    assert opened.document.session is before


# --- looks and keys ---


def test_night_and_day(opened: Desk) -> None:
    window = opened.window
    window.toggle_look()
    assert theme.current() is theme.NIGHT
    assert window.preferences.look == "night"
    window.toggle_look()
    assert theme.current() is theme.DAY


def test_settings_of_a_wrong_type_are_ignored(preferences: Preferences) -> None:
    preferences._file.keep(
        {"look": "17", "recent": "{not json", "levels_db": '{"a": "loud"}', "geometry": "{}"}
    )
    preferences = Preferences(preferences._file)
    assert preferences.look == "day"
    assert preferences.recent == []
    assert preferences.levels_db == {}
    assert preferences.geometry is None


def test_levels_are_remembered(opened: Desk, preferences: Preferences) -> None:
    opened.views["reamp"].player.play()
    opened.views["reamp"].player.set_level(-31.0)
    opened.views["reamp"].player.pause()
    opened.window.close()
    assert preferences.levels_db == {"test output": -31.0}
    assert preferences.geometry is not None


def names_missing(root: QWidget) -> list[str]:
    """Controls that a screen reader would announce as nothing."""
    bare = []
    for widget in root.findChildren(QWidget):
        if not widget.isVisible() or widget.focusPolicy() == Qt.FocusPolicy.NoFocus:
            continue
        if widget.objectName().startswith("qt_") or type(widget).__name__ == "QSplitterHandle":
            continue
        parent = widget.parent()
        inner = type(parent).__name__ in ("QDoubleSpinBox", "QComboBox", "QSpinBox")
        words = widget.accessibleName() or getattr(widget, "text", lambda: "")()
        if not words and not inner:
            bare.append(f"{type(widget).__name__} {widget.objectName()}")
    return bare


def test_every_control_has_a_name(opened: Desk) -> None:
    assert names_missing(opened.views["reamp"]) == []
    for dialog in (
        NewSessionDialog(Path.home()),
        ImportDiDialog(Path("a.wav"), 2, RATE, 1.0, opened.document.session),
    ):
        dialog.show()
        assert names_missing(dialog) == []
        dialog.close()
        dialog.deleteLater()


def test_everything_is_reached_by_tab(opened: Desk, qtbot: QtBot) -> None:
    view = opened.views["reamp"]
    opened.window.activateWindow()
    view.take_list.setFocus()
    wanted = {
        w for w in view.findChildren(QWidget)
        if w.isVisible() and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus
        and w.focusProxy() is None and type(w.parent()).__name__ not in ("QDoubleSpinBox",)
        and not w.objectName().startswith("qt_")
    }  # fmt: skip
    assert len(wanted) > 20
    seen: set[QWidget] = set()
    for _ in range(120):
        focus = QApplication.focusWidget()
        if focus is not None:
            seen.add(focus)
        qtbot.keyClick(focus or opened.window, Qt.Key.Key_Tab)
    missed = {f"{type(w).__name__} {w.accessibleName()}" for w in wanted - seen}
    assert not missed


def test_item_models_hold_to_qts_rules(opened: Desk) -> None:
    testers = [
        QAbstractItemModelTester(model, QAbstractItemModelTester.FailureReportingMode.Fatal)
        for model in (opened.views["reamp"].takes, opened.views["reamp"].passes)
    ]
    opened.views["reamp"].take_list.setCurrentIndex(opened.views["reamp"].takes.index(2))
    opened.document.apply(edits.choose_rig("rig03"))
    assert testers


def test_space_belongs_to_a_focused_button(opened: Desk, qtbot: QtBot) -> None:
    button = next(
        b for b in opened.views["reamp"].findChildren(QAbstractButton) if b.text() == "Solo"
    )
    opened.window.activateWindow()
    button.setFocus()
    qtbot.keyClick(button, Qt.Key.Key_Space)
    assert not button.isChecked()
    assert not opened.views["reamp"].player.playing


def test_drop_downs_of_the_views_say_when_words_do_not_fit(opened: Desk, settled: Settle) -> None:
    for row in opened.window.views:
        opened.show(row.ident)
        settled(opened)
        for box in opened.views[row.ident].findChildren(QComboBox):
            assert isinstance(box, NarrowBox), (row.ident, box.accessibleName())


@pytest.mark.parametrize(
    ("room", "size"),
    [
        ((1920, 1050), (1280, 800)),
        ((1366, 728), (1280, 728)),
        ((1024, 700), (1024, 700)),
        ((800, 600), (1024, 700)),
    ],
)
def test_the_first_window_is_not_larger_than_the_screen(
    room: tuple[int, int], size: tuple[int, int]
) -> None:
    assert first_size(QSize(*room)) == QSize(*size)


def test_the_saved_text_is_what_the_window_holds(opened: Desk, settled: Settle) -> None:
    opened.saving.save()
    settled(opened)
    data = json.loads((opened.folder.path / "session.json").read_text("utf-8"))
    assert data == opened.document.session.model_dump(mode="json")
