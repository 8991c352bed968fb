"""Widgets by themselves: tables, the strip, marks, cables, the row of running work."""

from __future__ import annotations

import csv
import io

import pytest
from PySide6.QtCore import QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QApplication, QLineEdit
from pytestqt.qtbot import QtBot

from diaulos.app import theme
from diaulos.app.jobs import Job, Jobs
from diaulos.app.views.rig.diagram import RigDiagram
from diaulos.app.widgets.cables import LABELS, cable_pen
from diaulos.app.widgets.controls import NarrowBox, combo
from diaulos.app.widgets.course_strip import MOST_ROWS, CourseRow, CourseStrip
from diaulos.app.widgets.labels import ElidedLabel
from diaulos.app.widgets.level_window import CLIPS_W, paint_level_window
from diaulos.app.widgets.marks import TAP_PATTERNS, TAP_TOKENS, paint_mark
from diaulos.app.widgets.painted import rescale_all
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.working import Working
from diaulos.figures import TAP_WORDS, LevelFigures, typeset
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, SignalClass
from diaulos.rig.templates import build


@pytest.fixture(autouse=True)
def look(qtbot: QtBot) -> None:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.load_fonts()
    theme.apply(app, theme.DAY)


def picture(width: int, height: int) -> QImage:
    image = QImage(width, height, QImage.Format.Format_RGB32)
    image.fill(theme.current().colour("paper"))
    return image


# --- level windows ---


def window_of(width: int, peak: float) -> QImage:
    image = picture(width, 46)
    painter = QPainter(image)
    figures = LevelFigures("dBFS", -60.0, 0.0, peak, peak - 6.0)
    paint_level_window(painter, QRectF(0, 0, width, 46), figures, "amp")
    painter.end()
    return image


@pytest.mark.parametrize("width", range(60, 200, 10))
def test_nothing_is_written_over_the_word_clips(width: int) -> None:
    """Whatever is left of the headroom, where the word stands it reads the same."""
    one, other = window_of(width, 19.5), window_of(width, 18.7)
    top = 32 if one.pixelColor(2, 34) == theme.current().colour("danger") else 1
    at = 0 if top == 32 else width - round(CLIPS_W)
    word = QRect(at, top, round(CLIPS_W), 14)
    assert one.copy(word) == other.copy(word)


def test_a_narrow_window_still_tells_by_how_much_it_clips() -> None:
    assert window_of(112, 19.5).copy(45, 32, 67, 14) != window_of(112, 18.7).copy(45, 32, 67, 14)


# --- tables ---


def rows(*figures: float) -> list[tuple[str, list[Cell]]]:
    return [
        (f"k{n}", [Cell(f"row {n}"), Cell(f"{value:g} dB", sort=value, figure=True)])
        for n, value in enumerate(figures)
    ]


def test_a_tables_columns_grow_with_the_text(qtbot: QtBot) -> None:
    table = Table("Takes", ("Take", "Length"), 0, {1: 62})
    qtbot.addWidget(table)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    assert table.columnWidth(1) == 62
    try:
        theme.apply(app, theme.DAY, 1.5)
        rescale_all()
        assert table.columnWidth(1) == 93
    finally:
        theme.apply(app, theme.DAY, 1.0)
        rescale_all()
    assert table.columnWidth(1) == 62


def test_a_table_sorts_by_figure_and_keeps_what_is_chosen(qtbot: QtBot) -> None:
    table = Table("Levels", ("Name", "Level"), 0)
    qtbot.addWidget(table)
    table.setSortingEnabled(True)
    table.show_rows(rows(-3.0, -20.0, 5.0))
    table.choose("k1")
    table.sortByColumn(1, Qt.SortOrder.AscendingOrder)
    assert [table.item(n, 1).text() for n in range(3)] == ["-20 dB", "-3 dB", "5 dB"]
    assert table.chosen() == "k1"
    table.show_rows(rows(-3.0, 40.0, 5.0))
    assert table.chosen() == "k1"
    assert table.item(table.currentRow(), 1).text() == "40 dB"
    table.show_rows(rows(1.0))
    table.choose("k7")  # not there: nothing happens
    assert table.rowCount() == 1


def test_a_table_as_csv_is_what_is_shown(qtbot: QtBot) -> None:
    table = Table("Levels", ("Name", "Level"), 0)
    qtbot.addWidget(table)
    table.show_rows([("a", [Cell('say "hi", twice'), Cell("3 dB")])])
    assert list(csv.reader(io.StringIO(table.as_csv()))) == [
        ["Name", "Level"], ['say "hi", twice', "3 dB"],
    ]  # fmt: skip
    assert not table.item(0, 0).flags() & Qt.ItemFlag.ItemIsEditable


# --- the strip ---


def strip_of(count: int, qtbot: QtBot, current: str = "") -> CourseStrip:
    strip = CourseStrip()
    qtbot.addWidget(strip)
    strip.set_rows(
        tuple(CourseRow(f"c{n}", "di", f"Course {n}", "", "") for n in range(count)), current
    )
    strip.resize(600, strip.sizeHint().height())
    return strip


@pytest.mark.parametrize("count", [0, 1, MOST_ROWS, MOST_ROWS + 1, 30])
def test_the_strip_is_never_higher_than_its_rows(count: int, qtbot: QtBot) -> None:
    strip = strip_of(count, qtbot)
    assert len(strip.shown) == min(count, MOST_ROWS)
    assert strip.sizeHint().height() <= 26 * MOST_ROWS + 2
    strip.grab()


def test_the_strip_keeps_the_chosen_course_in_sight(qtbot: QtBot) -> None:
    for chosen in (0, 3, 9, 29, 12):
        strip = strip_of(30, qtbot, f"c{chosen}")
        assert f"c{chosen}" in [row.key for row in strip.shown]
    assert "Course 29" in strip.accessibleDescription()  # all of them for a screen reader


# --- marks and cables ---


def test_every_tap_has_words_a_colour_a_pattern_and_a_mark_of_its_own() -> None:
    assert set(TAP_WORDS) == set(TAP_TOKENS) == set(TAP_PATTERNS)
    seen = []
    for tap in TAP_WORDS:
        image = picture(24, 24)
        painter = QPainter(image)
        paint_mark(painter, QRectF(2, 2, 20, 20), tap, theme.current())
        painter.end()
        dark = tuple(image.pixelColor(x, y).lightness() < 170 for x in range(24) for y in range(24))
        assert any(dark)
        seen.append(dark)
    assert len(set(seen)) == len(seen)  # told apart without colour
    blank = picture(24, 24)
    painter = QPainter(blank)
    paint_mark(painter, QRectF(2, 2, 20, 20), "", theme.current())
    painter.end()
    assert blank == picture(24, 24)


@pytest.mark.parametrize("look", [theme.DAY, theme.NIGHT])
def test_every_signal_class_has_a_pattern_and_a_label(look: theme.Look) -> None:
    assert set(LABELS) == set(SignalClass)
    assert len(set(LABELS.values())) == len(LABELS)
    patterns = []
    for signal_class in SignalClass:
        pen = cable_pen(signal_class, look)
        patterns.append((pen.widthF(), tuple(pen.dashPattern()), pen.color().name()))
    assert len(set(patterns)) == len(patterns)


# --- the diagram ---


def test_the_diagram_marks_what_is_wrong_and_what_is_chosen(qtbot: QtBot) -> None:
    rig = build("hybrid", "r1").with_setting("interface", "mode4", "mic")
    graph = RigGraph(rig)
    diagram = RigDiagram()
    qtbot.addWidget(diagram)
    diagram.set_room(1170, 300)
    diagram.show_rig(graph)
    plain = diagram.grab().toImage()
    diagram.show_report(run_checks(Context(graph)), {})
    marked = diagram.grab().toImage()
    assert marked != plain
    diagram.choose_port(PortRef(device="interface", port="in4"))
    assert diagram.grab().toImage() != marked
    assert diagram.chosen_rect() is not None
    assert "Input 4" in diagram.accessibleDescription()
    diagram.choose_port(PortRef(device="nobody", port="in"))  # gone: stays as it was
    assert diagram.port == PortRef(device="interface", port="in4")


def test_hovering_tells_names_in_full_and_what_was_found(qtbot: QtBot) -> None:
    rig = build("hybrid", "r1").with_setting("interface", "mode4", "mic")
    graph = RigGraph(rig)
    diagram = RigDiagram()
    qtbot.addWidget(diagram)
    diagram.set_room(1170, 300)
    assert diagram.words_at(QPointF(5, 5)) == ""
    diagram.show_rig(graph)
    diagram.show_report(run_checks(Context(graph)), {})
    place = diagram._layout.place(PortRef(device="interface", port="in4"))
    assert place is not None
    words = diagram.words_at(QPointF(place.x + 9, place.y + 9) * diagram.zoom)
    assert words.splitlines()[:2] == [
        "Four-input interface", "Input 4: microphone, XLR or TRS 6.35 mm",
    ]  # fmt: skip
    assert "A line output goes into an input made for microphone." in words
    assert "ports are free" in words
    box = diagram._layout.box("amp")
    assert box is not None
    title = diagram.words_at(QPointF(box.x + 9, box.y + 5) * diagram.zoom)
    assert title.startswith("18 W combo")
    assert diagram.words_at(QPointF(1, 1)) == ""


def test_an_empty_rig_says_what_to_do(qtbot: QtBot) -> None:
    rig = build("hybrid", "r1").model_copy(update={"devices": (), "cables": (), "tracks": ()})
    diagram = RigDiagram()
    qtbot.addWidget(diagram)
    diagram.show_rig(RigGraph(rig))
    image = diagram.grab().toImage()
    inks = {image.pixelColor(x, y).name() for x in range(0, 420, 2) for y in range(40, 80)}
    assert len(inks) > 3  # words are painted
    qtbot.keyClick(diagram, Qt.Key.Key_Down)
    assert diagram.port is None
    assert diagram.chosen_rect() is None


# --- running work ---


def test_the_row_of_work_follows_a_job_and_gives_the_keyboard_back(qtbot: QtBot) -> None:
    jobs = Jobs()
    row, field = Working(jobs), QLineEdit()
    for widget in (row, field):
        qtbot.addWidget(widget)
    row.focus_after = field.setFocus
    field.show()
    row.show()
    assert row.bar.isHidden()
    high = row.minimumHeight()

    def work(progress, cancel):  # type: ignore[no-untyped-def]
        progress(0.5, "Half")
        while True:
            cancel.check()

    jobs.start(Job("Long work", work, lambda _r: None))
    qtbot.waitUntil(lambda: row.bar.value() == 500, timeout=10_000)
    assert row.bar.accessibleDescription() == "Half"
    assert not row.bar.isHidden()
    assert row.sizeHint().height() <= high == row.minimumHeight(), "nothing above it moves"
    row.cancel.click()
    qtbot.waitUntil(lambda: not jobs.busy, timeout=10_000)
    assert row.bar.isHidden()
    jobs.shut_down()


def test_sentences_get_real_minus_signs() -> None:
    assert typeset("about -8.6 dBFS; the target is -12.") == "about −8.6 dBFS; the target is −12."
    assert typeset("a mid-2000s R-5 box, 3-4 m") == "a mid-2000s R-5 box, 3-4 m"


def test_a_cut_label_tells_the_whole_unless_it_has_a_tooltip_of_its_own(qtbot: QtBot) -> None:
    label = ElidedLabel("Set trim \N{MINUS SIGN}4 dB, pad off on the floor modeler")
    qtbot.addWidget(label)
    label.resize(60, 20)
    label.grab()
    assert label.toolTip() == label.text()
    label.resize(600, 20)
    label.grab()
    assert label.toolTip() == ""
    label.setToolTip("Why")
    label.resize(60, 20)
    label.grab()
    assert label.toolTip() == "Why"


# --- combo boxes ---


def test_words_that_do_not_fit_end_in_an_ellipsis_and_stand_whole_in_the_list(qtbot: QtBot) -> None:
    box = combo("What it plays", {"jack": "Instrument input", "usb": "USB"})
    theme.dress(box)
    qtbot.addWidget(box)
    box.show()
    box.resize(200, box.height())
    assert isinstance(box, NarrowBox)
    assert box.shown == "Instrument input"

    box.resize(90, box.height())

    assert box.shown.endswith("\N{HORIZONTAL ELLIPSIS}")
    assert box.shown != box.currentText()
    box.fit_list()  # as when it is opened
    words = box.view().fontMetrics().horizontalAdvance("Instrument input")
    assert box.view().minimumWidth() > words
    narrow = box.grab().toImage()
    box.setCurrentIndex(1)
    assert box.shown == "USB"
    assert box.grab().toImage() != narrow


@pytest.mark.parametrize("seen", [True, False])
def test_what_is_coloured_in_a_table_follows_the_look(seen: bool, qtbot: QtBot) -> None:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    table = Table("Peaks", ("Name", "Peak"), stretch=0)
    qtbot.addWidget(table)
    table.show_rows([("t1", (Cell("Verse"), Cell("CLIPS", token="danger")))])
    if seen:
        table.show()
    item = table.item(0, 1)
    assert item is not None
    assert item.foreground().color() == theme.DAY.colour("danger")
    try:
        theme.apply(app, theme.NIGHT)
        table.show()
        qtbot.waitUntil(lambda: item.foreground().color() == theme.NIGHT.colour("danger"))
        table.show_rows([])  # what was coloured has gone
    finally:
        theme.apply(app, theme.DAY)
