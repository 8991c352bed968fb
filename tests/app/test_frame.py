"""The frame as a hand meets it: number fields among single keys, highlighted rows, the strip."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, QPoint, Qt, QUrl
from PySide6.QtGui import QFontInfo, QFontMetrics, QHelpEvent, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QApplication,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFileDialog,
    QMenu,
    QPushButton,
    QSpinBox,
    QTabBar,
    QToolButton,
    QToolTip,
    QVBoxLayout,
    QWidget,
)
from pytestqt.qtbot import QtBot
from test_theme import contrast

from diaulos.app import theme
from diaulos.app.actions import ACTIONS
from diaulos.app.asking import ask_file
from diaulos.app.desk import Desk
from diaulos.app.dialogs.manual import ManualDialog
from diaulos.app.dialogs.new_session import NewSessionDialog
from diaulos.app.dialogs.preferences import PreferencesDialog
from diaulos.app.main_window import MainWindow
from diaulos.app.view_table import VIEWS
from diaulos.app.widgets.course_strip import MOST_ROWS
from diaulos.app.widgets.number_field import NumberField, WholeField
from diaulos.app.widgets.quantity_field import QuantityField
from diaulos.app.widgets.working import Working
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.demo.saltmarsh import COMPARED
from diaulos.quantities import INDUCTANCE
from diaulos.rig.changes import set_track
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.roles import recording_rig

Settle = Callable[[Desk], None]


class Place(QWidget):
    """Stands for a view: it takes the focus, and remembers the keys that came through."""

    def __init__(self) -> None:
        super().__init__()
        self.keys: list[str] = []
        self.field = NumberField()
        self.field.setRange(-60.0, 60.0)
        self.field.setDecimals(1)
        self.field.setSuffix(" dB")
        self.field.setValue(3.0)
        self.coil = QuantityField(INDUCTANCE, "Inductance")
        self.coil.show_value(2.4)
        column = QVBoxLayout(self)
        column.addWidget(self.field)
        column.addWidget(self.coil)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def take_focus(self) -> None:
        self.setFocus()

    def keyPressEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self.keys.append(event.text())


@pytest.fixture
def place(qtbot: QtBot) -> Place:
    made = Place()
    qtbot.addWidget(made)
    made.show()
    made.activateWindow()
    made.field.setFocus()
    qtbot.waitUntil(made.field.hasFocus)
    made.field.selectAll()
    return made


def test_enter_takes_the_number_and_gives_the_focus_back(place: Place) -> None:
    QTest.keyClicks(place.field, "-12.5")
    QTest.keyClick(place.field, Qt.Key.Key_Return)
    assert place.field.value() == -12.5
    assert place.field.text() == "\N{MINUS SIGN}12.5 dB"
    assert place.hasFocus()
    place.field.setFocus()
    place.field.selectAll()
    place.field.lineEdit().insert("\N{MINUS SIGN}3")
    QTest.keyClick(place.field, Qt.Key.Key_Return)
    assert place.field.value() == -3.0
    place.field.setValue(-0.04)
    assert place.field.text() == "0.0 dB"


def test_escape_restores_what_was_there(place: Place) -> None:
    QTest.keyClick(place.field, Qt.Key.Key_Up)
    assert place.field.value() == 4.0
    QTest.keyClicks(place.field, "9")
    QTest.keyClick(place.field, Qt.Key.Key_Escape)
    assert place.field.value() == 3.0
    assert place.hasFocus()
    assert place.keys == []


def test_what_was_taken_is_not_restored(place: Place) -> None:
    """A key of the view took the number, and acted on it: it is what was there from now on."""
    QTest.keyClicks(place.field, "7")
    QTest.keyClicks(place.field, "R")
    QTest.keyClicks(place.field, "9")
    QTest.keyClick(place.field, Qt.Key.Key_Escape)
    assert place.field.value() == 7.0


def test_a_quantity_is_typed_like_a_number(place: Place, qtbot: QtBot) -> None:
    told: list[object] = []
    place.coil.changed.connect(told.append)
    line = place.coil.line
    QTest.mouseDClick(line, Qt.MouseButton.LeftButton, pos=QPoint(6, line.height() // 2))
    qtbot.waitUntil(line.hasFocus)
    assert line.selectedText() == "2.4 H"

    QTest.keyClicks(line, "3")
    QTest.keyClick(line, Qt.Key.Key_Escape)
    assert (line.text(), place.coil.value, told) == ("2.4 H", 2.4, [])
    assert place.hasFocus()

    line.setFocus()
    line.selectAll()
    QTest.keyClicks(line, "300 mH")
    QTest.keyClick(line, Qt.Key.Key_Return)
    assert (line.text(), told) == ("300 mH", [0.3])
    assert place.hasFocus()
    assert place.keys == []


def test_escape_takes_away_what_could_not_be_read(place: Place, qtbot: QtBot) -> None:
    line = place.coil.line
    line.setFocus()
    line.selectAll()
    QTest.keyClicks(line, "three")
    QTest.keyClick(line, Qt.Key.Key_Return)
    assert place.coil.reason.text()
    assert line.hasFocus()  # to be mended here

    QTest.keyClick(line, Qt.Key.Key_Escape)

    assert (line.text(), place.coil.reason.text()) == ("2.4 H", "")
    assert place.hasFocus()


def test_in_a_dialog_escape_leaves_a_quantity_to_it(qtbot: QtBot) -> None:
    dialog = QDialog()
    qtbot.addWidget(dialog)
    column = QVBoxLayout(dialog)
    field = QuantityField(INDUCTANCE, "Inductance")
    column.addWidget(field)
    dialog.show()
    field.setFocus()
    QTest.keyClick(field.line, Qt.Key.Key_Escape)
    assert not dialog.isVisible()


@pytest.mark.parametrize("key", ["R", " ", "k"])
def test_what_is_no_part_of_a_number_is_the_views(place: Place, key: str) -> None:
    QTest.keyClicks(place.field, "7")
    QTest.keyClicks(place.field, key)
    assert place.field.value() == 7.0
    assert place.keys == [key]


def test_a_double_click_selects_the_whole_number(place: Place) -> None:
    place.field.setValue(-12.5)
    line = place.field.lineEdit()
    assert line is not None
    QTest.mouseDClick(line, Qt.MouseButton.LeftButton, pos=QPoint(6, line.height() // 2))
    assert line.selectedText() == place.field.cleanText()


def test_in_a_dialog_enter_answers_it(qtbot: QtBot) -> None:
    dialog = QDialog()
    qtbot.addWidget(dialog)
    column = QVBoxLayout(dialog)
    field = WholeField()
    column.addWidget(field)
    buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok)
    buttons.accepted.connect(dialog.accept)
    column.addWidget(buttons)
    dialog.show()
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "5")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert field.value() == 5
    assert dialog.result() == QDialog.DialogCode.Accepted


def test_every_number_on_screen_is_such_a_field(opened: Desk, settled: Settle) -> None:
    for ident in opened.views:
        opened.show(ident)
        settled(opened)
    spins = [one for kind in (QSpinBox, QDoubleSpinBox) for one in opened.window.findChildren(kind)]
    assert len(spins) >= 7
    assert all(isinstance(one, (NumberField, WholeField)) for one in spins)


def test_space_records_while_the_tempo_has_the_focus(
    opened: Desk, qtbot: QtBot, settled: Settle
) -> None:
    """A number that was just typed does not swallow the key that starts a take."""
    opened.show("takes")
    takes = opened.views["takes"]
    qtbot.waitUntil(lambda: takes.ready is not None and takes.settled, timeout=30_000)
    opened.window.activateWindow()
    takes.setup.tempo.setFocus()
    qtbot.waitUntil(takes.setup.tempo.hasFocus)
    takes.setup.tempo.selectAll()
    QTest.keyClicks(takes.setup.tempo, "104")
    QTest.keyClick(takes.setup.tempo, Qt.Key.Key_Space)
    assert opened.document.session.tempo_bpm == 104.0
    qtbot.waitUntil(lambda: takes.under_way, timeout=30_000)
    # Esc ends a recording as Space does, and keeps it: it is not called cancelling.
    working = opened.window.findChild(Working)
    assert (working.cancel.text(), working.cancel.isVisible()) == ("Stop (Esc)", True)
    qtbot.keyClick(opened.window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: not takes.under_way, timeout=30_000)
    settled(opened)


# --- the look, read from what is painted ---


def colours(image: QImage, rect) -> tuple[str, str]:  # type: ignore[no-untyped-def]
    """The ground, and the ink that stands out of it most."""
    rect = rect.intersected(image.rect())
    found: dict[str, int] = {}
    for x in range(rect.left(), rect.right()):
        for y in range(rect.top(), rect.bottom()):
            name = image.pixelColor(x, y).name()
            found[name] = found.get(name, 0) + 1
    ground = max(found, key=lambda one: found[one])
    return ground, max(found, key=lambda one: contrast(one, ground))


@pytest.mark.qt_log_ignore("This plugin does not support", extend=True)
@pytest.mark.parametrize("look", theme.LOOKS.values(), ids=lambda look: look.name)
def test_a_highlighted_row_can_be_read(qtbot: QtBot, look: theme.Look) -> None:
    """It was paper on paper by day: 1.07 to 1."""
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.load_fonts()
    theme.apply(app, look)
    box = QComboBox()
    qtbot.addWidget(box)
    theme.dress(box)
    box.addItems(["Floor modeler", "Reamp box", "Eight-input interface"])
    box.show()
    box.showPopup()
    view = box.view()
    view.setCurrentIndex(box.model().index(1, 0))
    qtbot.waitUntil(view.isVisible)
    image = view.viewport().grab().toImage()
    box.hidePopup()
    rows = [view.visualRect(box.model().index(row, 0)).adjusted(2, 2, -2, -2) for row in (0, 1)]
    plain, chosen = (colours(image, rect) for rect in rows)
    assert contrast(*plain) >= 4.5
    assert contrast(*chosen) >= 4.5
    assert contrast(plain[0], chosen[0]) >= 3.0, "the row stands out"
    theme.apply(app, theme.DAY)


def test_dialog_buttons_carry_no_icons(qtbot: QtBot) -> None:
    box = QDialogButtonBox(
        QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
    )
    qtbot.addWidget(box)
    theme.dress(box)
    box.show()
    assert all(button.icon().isNull() for button in box.buttons())


def test_figures_are_set_in_the_face_of_the_text(qtbot: QtBot) -> None:
    theme.load_fonts()
    font = theme.figure_font(10)
    assert QFontInfo(font).family() == theme.FAMILY
    metrics = QFontMetrics(font)
    assert len({metrics.horizontalAdvance(digit) for digit in "0123456789"}) == 1
    assert metrics.horizontalAdvance(".") < metrics.horizontalAdvance("0")


def test_the_strip_and_the_rail_stay_where_they_are(opened: Desk, settled: Settle) -> None:
    """One course or four: what is below does not move from view to view."""
    window, places = opened.window, set()
    for ident in opened.views:
        opened.show(ident)
        settled(opened)
        QApplication.processEvents()
        top = window.stack.mapTo(window, QPoint(0, 0))
        places.add((window.strip.height(), top.x(), top.y(), window.rail.height()))
        assert window.rail.height() >= window.stack.height() + window.strip.height()
    assert len(places) == 1
    assert window.strip.sizeHint().height() == window.strip.minimumSizeHint().height()
    assert MOST_ROWS == 4


def test_a_session_that_only_records_has_its_tracks_in_the_strip_of_every_view(
    desk: Desk, tmp_path: Path, settled: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Without a rig that reamps there are no loops to keep in sight: the strip was empty in four
    views of seven."""

    def answer(dialog: NewSessionDialog) -> int:
        dialog.folder.setText(str(tmp_path))
        dialog.name.setText("Mine")
        dialog.tone.setCurrentIndex(dialog.tone.findData("none"))
        return 1

    monkeypatch.setattr(NewSessionDialog, "exec", answer)
    desk.window.welcome.buttons["new_session"].click()
    settled(desk)
    assert len(desk.document.session.rigs) == 1
    shown = {}
    for row in VIEWS:
        desk.show(row.ident)
        settled(desk)
        shown[row.ident] = [(one.tap, one.name) for one in desk.window.strip.shown]
    assert len(shown["instruments"]) == 1
    assert len({str(rows) for rows in shown.values()}) == 1, shown
    peaks = {row.peak for row in desk.window.strip.shown}
    desk.show("instruments")
    settled(desk)
    assert {row.peak for row in desk.window.strip.shown} == peaks
    # A row of another view's is not chosen here, and it is said where it is.
    desk.window.strip.chosen.emit(desk.window.strip.shown[0].key)
    assert "Ctrl+2" in desk.window._status.text()
    # What it comes from has changed: so does the row, wherever one is.
    rig = desk.document.session.rigs[0]
    port = rig.tracks[0].port
    renamed = edits.change_rig(rig.id, "Rename", lambda one: set_track(one, port, name="Dry"))
    desk.document.apply(renamed)
    settled(desk)
    assert [row.name for row in desk.window.strip.shown] == ["Dry"]
    # Where a view works them out itself nothing else does.
    begun, start = [], desk.jobs.start
    monkeypatch.setattr(desk.jobs, "start", lambda job: (begun.append(job.title), start(job))[1])
    path = desk.document.path
    for ident in ("rig", "levels", "takes", "instruments"):
        desk.document.mark_saved(desk.document.session)
        desk.window.preferences.view = ident
        desk.call("close_session")
        begun.clear()
        desk.open_path(path)
        settled(desk)
        assert len(desk.window.strip.shown) == 1
        assert ("courses" in begun) == (ident == "instruments"), (ident, begun)


# --- the first minutes ---


def test_without_a_session_there_are_three_ways_to_begin(
    desk: Desk, tmp_path: Path, settled: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = desk.window
    assert window.stack.currentWidget() is window.welcome
    assert list(window.welcome.buttons) == ["open_demo_session", "new_session", "ask_open"]
    made = tmp_path / "Mine.diaulos"

    def answer(dialog: NewSessionDialog) -> int:
        dialog.folder.setText(str(tmp_path))
        dialog.name.setText("Mine")
        dialog.plays.setCurrentIndex(dialog.plays.findData("bass"))
        dialog.tone.setCurrentIndex(dialog.tone.findData("load"))
        return 1

    monkeypatch.setattr(NewSessionDialog, "exec", answer)
    window.welcome.buttons["new_session"].click()
    settled(desk)
    session = desk.document.session
    assert [one.name for one in session.instruments] == ["Bass"]
    assert [rig.name for rig in session.rigs] == ["DI, amp by load box", "Reamp by box"]
    assert (session.recording_rig, session.reamp_rig) == ("rig01", "rig02")
    assert session.rig("rig01").device("bass").name == "Bass"
    desk.call("close_session")
    assert desk.document is None
    assert window.stack.currentWidget() is window.welcome
    # Nothing in the frame speaks of it any more.
    assert window.windowTitle() == "Diaulos"
    assert window.strip.shown == ()
    assert not any(one.isChecked() for one in window.rail.findChildren(QAbstractButton))
    assert (window._status.text(), window._where.text()) == ("", "")
    assert window.house.isHidden()
    recent = [one.text() for one in window.welcome.findChildren(QPushButton)]
    assert "Mine" in recent
    next(one for one in window.welcome.findChildren(QPushButton) if one.text() == "Mine").click()
    assert desk.document.session.name == "Mine"
    assert made.is_dir()


def test_the_demo_is_seen_before_it_is_whole_and_gone_on_with(
    desk: Desk,
    demo_folder: Path,
    tmp_path: Path,
    qtbot: QtBot,
    monkeypatch: pytest.MonkeyPatch,
    settled: Settle,
) -> None:
    """Instruments and rigs at once, takes as they are played; Cancel keeps what there is."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    window = desk.window
    window.welcome.buttons["open_demo_session"].click()
    assert desk.document is not None, "it does not wait for the first take"
    document, path = desk.document, desk.document.path
    assert len(document.session.instruments) == 4
    assert desk.current.ident == "instruments"
    assert desk.jobs.title == "Building the demo session"
    assert window.action("cancel").isEnabled()
    qtbot.waitUntil(lambda: len(document.session.rigs) == 4, timeout=60_000)
    desk.cancel()
    qtbot.waitUntil(lambda: not desk.jobs.busy, timeout=60_000)
    assert desk.document is document
    assert "goes on with it" in window._status.text()
    assert (path / "unfinished").is_file()
    settled(desk)
    document.apply(edits.change_instrument("offset", "Rename", name="Jangler"))
    document.mark_saved(document.session)  # as if the process had been killed
    desk.folder.save(document.session)
    desk.opening.close_session()
    desk.opening.open_demo(path)
    document = desk.document
    assert desk.jobs.busy
    qtbot.waitUntil(lambda: not desk.jobs.busy, timeout=300_000)
    settled(desk)
    session = document.session
    whole = json.loads((demo_folder / "session.json").read_text("utf-8"))
    known = [take["id"] for take in whole["takes"]]
    assert [take.id for take in session.takes][: len(known)] == known
    assert [take.id for take in session.takes][len(known) :] == [one.ident for one in COMPARED]
    assert [len(one.trials) for one in session.blind_tests] == [16]
    assert [rig.id for rig in session.rigs] == [
        *(rig["id"] for rig in whole["rigs"]),
        "rig05",
        "rig06",
    ]
    assert session.takes[0].tracks[0].peak_dbfs == whole["takes"][0]["tracks"][0]["peak_dbfs"]
    assert len(session.takes[0].passes) == 2
    assert session.instrument("offset").name == "Jangler", "what was changed meanwhile stays"
    assert all(one.strength for one in session.instruments)
    assert not document.dirty
    assert not (path / "unfinished").exists()


def test_what_is_dropped_is_opened_or_becomes_a_take(
    desk: Desk, demo_copy: Path, settled: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk.dropped([Path("/nowhere/a.wav")])
    assert "Open a session first" in desk.window._status.text()
    desk.dropped([demo_copy])
    settled(desk)
    assert desk.document.path == demo_copy
    asked: list[list[Path]] = []
    monkeypatch.setattr(desk.importing, "import_take_dialog", asked.append)
    desk.dropped([Path("a.wav"), Path("b.wav")])
    assert asked == [[Path("a.wav"), Path("b.wav")]]


# --- size ---


PAGES = {
    "instruments": ("show_trims", "show_drive", "show_loading"),
    "rig": ("show_tracks_page", "show_patch_page", "show_monitor_page", "show_findings_page"),
    "takes": ("toggle_tuner", "toggle_tuner", "toggle_mix", "toggle_mix"),
}


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800)])
def test_every_view_fits(opened: Desk, settled: Settle, size: tuple[int, int]) -> None:
    """No view asks for more than the least window, whatever rig is shown; nothing is off it."""
    session = opened.document.session
    window = opened.window
    for rig in (session.rigs[-1].id, session.rigs[0].id):
        opened.document.apply(edits.choose_rig(rig))
        for ident in opened.views.copy():
            opened.show(ident)
            window.resize(*size)
            settled(opened)
            for page in PAGES.get(ident, ("",)):
                if page:
                    getattr(opened.views[ident], page)()
                settled(opened)
                QApplication.processEvents()
                for bar in (window.area.verticalScrollBar(), window.area.horizontalScrollBar()):
                    assert bar.maximum() == 0, (ident, page)
            assert (window.width(), window.height()) == size, ident
            inside = window.stack.rect()
            for bar in opened.views[ident].findChildren(QTabBar):
                for index in range(bar.count() if bar.isVisible() else 0):
                    needed = bar.fontMetrics().horizontalAdvance(bar.tabText(index))
                    assert bar.tabRect(index).width() > needed + 8, (ident, bar.tabText(index))
            for child in opened.views[ident].findChildren(QPushButton):
                if child.isVisible() and not _scrolls(child, window.stack):
                    corner = child.mapTo(window.stack, QPoint(child.width(), child.height()))
                    assert inside.contains(corner - QPoint(1, 1)), (ident, child.text())


def _scrolls(widget: QWidget, within: QWidget) -> bool:
    at = widget.parentWidget()
    while at is not None and at is not within:
        if isinstance(at, QAbstractScrollArea):
            return True
        at = at.parentWidget()
    return False


def test_a_row_goes_on_in_the_next_line(qtbot: QtBot) -> None:
    place = QWidget()
    qtbot.addWidget(place)
    row = WrappingRow(place)
    buttons = [QPushButton(f"Button {n}") for n in range(4)]
    for button in buttons[:3]:
        row.addWidget(button)
    row.add_stretch()
    row.addWidget(buttons[3])
    wide = row.sizeHint().width()
    place.resize(wide + 100, 60)
    place.show()
    assert len({button.y() for button in buttons}) == 1
    assert buttons[3].geometry().right() == place.rect().right()
    narrow = wide // 2
    assert row.heightForWidth(narrow) > row.heightForWidth(wide)
    place.resize(narrow, 200)
    QApplication.processEvents()
    assert len({button.y() for button in buttons}) > 1
    assert all(place.rect().contains(button.geometry()) for button in buttons)


# --- which rig ---


def test_every_view_names_its_rig_and_can_choose_another(
    opened: Desk, settled: Settle, qtbot: QtBot
) -> None:
    session = opened.document.session
    opened.window.resize(1280, 800)
    opened.show("levels")
    settled(opened)
    levels = opened.views["levels"]
    assert levels.rigs.currentText() == session.rig().name
    opened.show("takes")
    settled(opened)
    # Whole, beside empty room: "Live room, three to..." was what stood there.
    for one in (levels.rigs, opened.views["takes"].rigs):
        assert one.shown == one.currentText()
    assert opened.views["takes"].rigs.shown == "Live room, three tones"
    other = next(rig for rig in session.rigs if rig.id != session.current_rig)
    levels.rigs.setCurrentIndex(levels.rigs.findData(other.id))
    levels.rigs.activated.emit(levels.rigs.currentIndex())
    settled(opened)
    assert opened.document.session.current_rig == other.id
    opened.document.apply(edits.add_rig(build("bass", "more")))
    opened.show("takes")
    settled(opened)
    takes = opened.views["takes"]
    assert takes.rigs.currentText() == recording_rig(opened.document.session).name
    assert takes.rigs.findData("rig01") < 0, "it has nothing to record"
    reamps = opened.document.session.reamp_rig
    takes.rigs.setCurrentIndex(takes.rigs.findData("rig04"))
    takes.rigs.activated.emit(takes.rigs.currentIndex())
    settled(opened)
    assert recording_rig(opened.document.session).id == "rig04"
    assert opened.document.session.reamp_rig == reamps
    opened.document.undo()
    assert takes.rigs.currentData() == "more"


@pytest.mark.parametrize("key", [Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space])
def test_a_choice_that_has_the_keys_is_taken_by_enter_and_by_space(
    desk: Desk, demo_copy: Path, settled: Settle, qtbot: QtBot, key: Qt.Key
) -> None:
    window = desk.window
    window.preferences.add_recent(str(demo_copy))
    window.show_welcome()
    window.activateWindow()
    asked: list[str] = []
    window.welcome.asked.disconnect()
    window.welcome.asked.connect(asked.append)
    window.welcome.buttons["new_session"].setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.keyClick(window.welcome.buttons["new_session"], key)
    assert asked == ["new_session"]
    recent = next(
        one for one in window.welcome.findChildren(QPushButton)
        if one.text() == demo_copy.name.removesuffix(".diaulos")
    )  # fmt: skip
    recent.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.keyClick(recent, key)
    qtbot.waitUntil(lambda: desk.document is not None)
    desk.show("reamp")
    settled(desk)
    view = desk.views["reamp"]
    view._way.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.keyClick(view._way, key)
    assert view.pages.currentWidget() is view.guide
    view.escape()
    box = view.tone._slate
    ticked = box.isChecked()
    box.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.keyClick(box, key)
    assert box.isChecked() == (ticked != (key == Qt.Key.Key_Space)), "a box is ticked by Space"


def test_a_file_question_begins_where_the_last_file_was(
    opened: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    places: list[str] = []

    def choose(_parent: QWidget, _title: str, place: str, _kinds: str) -> tuple[str, str]:
        places.append(place)
        return str(tmp_path / "a.wav"), ""

    monkeypatch.setattr(QFileDialog, "getOpenFileName", choose)
    view = opened.views[opened.current.ident]
    assert ask_file(view, "A recording", "Audio (*.wav)") == str(tmp_path / "a.wav")
    dialog = QDialog(opened.window)
    ask_file(dialog, "A recording", "Audio (*.wav)")
    ask_file(dialog, "Another question", "Audio (*.wav)")
    # The first time in the person's own folder, not where the program happens to stand.
    assert places == [str(Path.home()), str(tmp_path), str(Path.home())]


@pytest.mark.parametrize("look", [theme.DAY, theme.NIGHT], ids=lambda one: one.name)
def test_a_file_question_fits_a_small_screen(opened: Desk, qtbot: QtBot, look: theme.Look) -> None:
    opened.window.dress(look, 1.0)
    question = QFileDialog(opened.window, "Export", "", "Audio (*.wav)")
    question.setOption(QFileDialog.Option.DontUseNativeDialog)
    question.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
    question.show()
    qtbot.waitExposed(question)

    assert question.height() <= 560
    buttons = [one for one in question.findChildren(QToolButton) if one.isVisible()]
    assert buttons
    for button in buttons:
        # What it shows has room: the padding of our own buttons leaves a dot of it.
        image = button.grab(button.rect().adjusted(3, 3, -3, -3)).toImage()
        paper = image.pixelColor(0, 0)
        if button.objectName() == "toParentButton":
            # An arrow that can be told from what it stands on, at night, too.
            most = max(
                abs(image.pixelColor(x, y).lightness() - paper.lightness())
                for x in range(image.width())
                for y in range(image.height())
            )
            assert most > 60
        drawn = [
            (x, y)
            for x in range(image.width())
            for y in range(image.height())
            if image.pixelColor(x, y) != paper
        ]
        wide = max(x for x, _y in drawn) - min(x for x, _y in drawn)
        assert wide >= 6, button.objectName()
    question.close()
    opened.window.dress(theme.DAY, 1.0)


def test_an_entry_that_cannot_be_chosen_says_why(
    desk: Desk, demo_copy: Path, settled: Settle
) -> None:
    window = desk.window
    assert "Open a session" in window.action("save").statusTip()
    assert desk.open_path(demo_copy)
    settled(desk)
    desk.show("reamp")
    assert window.action("reamp").statusTip() == ""
    assert window.action("record").statusTip() == "It belongs to the view Takes (Ctrl+4)."
    disabled = [spec for spec in ACTIONS if not window.action(spec.ident).isEnabled()]
    assert disabled
    assert all(window.action(spec.ident).statusTip() for spec in disabled)


@pytest.mark.qt_log_ignore("This plugin does not support raise")  # a tooltip comes to the front
def test_the_pointer_over_an_entry_that_cannot_be_chosen_is_told_why(desk: Desk) -> None:
    """Qt chooses no disabled entry, so that its status tip alone would never be seen."""
    window = desk.window
    for ident in ("save", "undo", "practices"):
        action = window.action(ident)
        menu = next(
            one for one in window.findChildren(QMenu)
            if action in one.actions() and one.parent() is not None
        )  # fmt: skip
        assert not action.isEnabled()
        assert menu.toolTipsVisible()
        menu.adjustSize()
        place = menu.actionGeometry(action).center()
        told = QHelpEvent(QEvent.Type.ToolTip, place, menu.mapToGlobal(place))
        QApplication.sendEvent(menu, told)
        assert QToolTip.text() == "Open a session first (Ctrl+O)."
        QToolTip.hideText()


def test_ports_in_use_come_first_and_free_ones_are_folded(opened: Desk, settled: Settle) -> None:
    opened.show("rig")
    settled(opened)
    panel = opened.views["rig"].panel
    words = [panel.ports.item(row).text() for row in range(panel.ports.count())]
    assert len(words) >= 3
    assert not any(one.endswith("free") for one in words)
    assert words[-1].endswith("free ports")
    panel._on_head(panel.ports.item(len(words) - 1))
    shown = [panel.ports.item(row).text() for row in range(panel.ports.count())]
    assert shown[: len(words) - 1] == words[:-1]
    assert sum(one.endswith("free") for one in shown) == int(words[-1].split()[1])


def test_what_is_under_the_pointer_has_its_menu(opened: Desk, settled: Settle) -> None:
    """With the entries of the menu bar: one table, one wording, one state."""
    seen = 0
    for ident in ("instruments", "rig", "takes", "reamp"):
        opened.show(ident)
        settled(opened)
        for widget, idents in opened.views[ident].menus():
            assert widget.contextMenuPolicy() is Qt.ContextMenuPolicy.ActionsContextMenu
            assert [one.text() for one in widget.actions()] == [
                opened.window.action(name).text() for name in idents
            ]
            seen += 1
        assert any(
            action.isEnabled()
            for widget, _ in opened.views[ident].menus()
            for action in widget.actions()
        ), ident
    assert seen >= 6


def test_the_safety_notice_is_never_scrolled_away(opened: Desk, settled: Settle) -> None:
    opened.show("reamp")
    opened.window.resize(1024, 700)
    settled(opened)
    QApplication.processEvents()
    notice = opened.views["reamp"]._notice
    assert notice.isVisible()
    assert not _scrolls(notice, opened.window.stack)
    assert opened.window.area.verticalScrollBar().maximum() == 0
    assert opened.window.height() == 700
    corner = notice.mapTo(opened.window, QPoint(notice.width() - 1, notice.height() - 1))
    assert opened.window.rect().contains(corner)


def test_levels_say_what_they_are_planned_by(opened: Desk, settled: Settle) -> None:
    """A rig that reamps goes by the newest DI; in Reamp another one may be chosen."""
    opened.show("levels")
    settled(opened)
    page = opened.views["levels"].verdict
    newest = next(t for t in reversed(opened.document.session.takes) if t.di is not None)
    assert page.played.text() == f"Played: DI of {newest.name}, as Reamp sends it."
    opened.document.apply(edits.choose_rig("rig04"))
    settled(opened)
    assert page.played.text().startswith("Played: ")
    assert "as Reamp sends it" not in page.played.text()


def test_the_words_of_a_range_are_seen(opened: Desk, settled: Settle) -> None:
    """What grows takes what its line has left, whatever little it asks for."""
    opened.show("takes")
    settled(opened)
    takes = opened.views["takes"]
    takes.takes.choose(opened.document.session.takes[0].id)
    settled(opened)
    takes.player.range_words.setText("Range 0:01.0 to 0:03.0, 2.0 s")
    QApplication.processEvents()
    assert takes.player.range_words.isVisible()
    assert takes.player.range_words.width() > 100


def test_the_task_beside_the_instrument_in_hand_is_seen(opened: Desk, settled: Settle) -> None:
    """ "Set trim, pad off": what the device is to be turned to is read before a take."""
    opened.document.apply(edits.add_rig(build("modeler-usb", "more")))
    opened.document.apply(edits.choose_instrument("baritone"))
    opened.show("takes")
    for width in (1024, 1280):
        opened.window.resize(width, 800)
        settled(opened)
        QApplication.processEvents()
        task = opened.views["takes"].hand.task
        assert task.isVisible()
        assert "trim" in task.text()
        assert task.width() > 150, width


def test_letters_over_a_list_rename_nothing(opened: Desk, settled: Settle) -> None:
    session = opened.document.session
    opened.document.apply(edits.choose_rig(recording_rig(session).id))
    opened.show("rig")
    settled(opened)
    view = opened.views["rig"]
    view.show_tracks_page()
    table = view.tracks.table
    table.setFocus()
    table.setCurrentCell(0, 1)
    assert table.item(0, 1).flags() & Qt.ItemFlag.ItemIsEditable
    before = opened.document.session
    for letter in ("q", "y", "x"):
        QTest.keyClick(table, letter)
        assert table.state() is not QAbstractItemView.State.EditingState
    assert opened.document.session == before
    QTest.keyClick(table, Qt.Key.Key_F2)
    assert table.state() is QAbstractItemView.State.EditingState


# --- what every desktop program has ---


def test_menus_fit_the_least_window(opened: Desk) -> None:
    window = opened.window
    menus = window.menuBar().findChildren(QMenu)
    assert len(menus) > 12
    for menu in menus:
        assert menu.sizeHint().height() <= 640, (menu.title(), menu.sizeHint())


def test_preferences_hold_at_once_and_are_remembered(
    opened: Desk, tmp_path: Path, qtbot: QtBot
) -> None:
    window = opened.window
    kept = window.preferences
    kept.remember_folder("A question", str(tmp_path))
    kept.levels_db = {"Phones": -31.0}
    kept.acknowledged = True
    dialog = PreferencesDialog(kept, window.dress, window)
    qtbot.addWidget(dialog)
    dialog.show()
    dialog.looks["night"].click()
    assert theme.current() is theme.NIGHT
    dialog.zoom.setCurrentIndex(dialog.zoom.findData("1.25"))
    dialog.zoom.activated.emit(dialog.zoom.currentIndex())
    assert (theme.zoom(), kept.zoom, kept.look) == (1.25, 1.25, "night")
    dialog.folder.setText(str(tmp_path / "nowhere"))
    dialog.folder.editingFinished.emit()
    assert dialog.problem.text()
    assert kept.sessions_folder == Path.home()
    dialog.folder.setText(str(tmp_path))
    dialog.folder.editingFinished.emit()
    assert kept.sessions_folder == tmp_path
    assert not dialog.problem.text()
    for what in ("recent", "folders", "levels", "safety"):
        assert dialog.forgetting[what].isEnabled(), what
        dialog.forgetting[what].click()
        assert not dialog.forgetting[what].isEnabled(), what
    assert (kept.recent, kept.folders, kept.levels_db, kept.acknowledged) == ([], {}, {}, False)
    again = PreferencesDialog(kept, window.dress, window)
    qtbot.addWidget(again)
    again.show()
    qtbot.waitUntil(again.looks["night"].hasFocus)
    window.dress(theme.DAY, 1.0)
    kept.sessions_folder = tmp_path / "gone"
    assert kept.sessions_folder == Path.home(), "a folder that is gone"


def test_the_manual_is_read_inside(window: MainWindow, qtbot: QtBot) -> None:
    """Before a session is open, too; it finds a word on any page and follows its own links."""
    assert window.action("manual").isEnabled()
    window.action("manual").trigger()
    manual = window._manual
    assert isinstance(manual, ManualDialog)
    assert "Ctrl+4" in manual.text.toPlainText()
    QTest.keyClicks(manual.wanted, "impedance-balanced-nowhere")
    QTest.keyClick(manual.wanted, Qt.Key.Key_Return)
    assert "not in the manual" in manual.told.text()
    manual.wanted.setText("residual-current")
    QTest.keyClick(manual.wanted, Qt.Key.Key_Return)
    assert manual.pages.currentItem().text() == "Safety notices"
    assert manual.text.textCursor().selectedText() == "residual-current"
    manual._on_link(QUrl("glossary.md"))
    assert manual.pages.currentItem().text() == "Words and units"
    manual._on_link(QUrl("elsewhere.md"))
    assert "elsewhere.md" in manual.told.text()
    manual.close()
    window.action("manual").trigger()
    assert window._manual is manual
    assert manual.isVisible()
    manual.close()
