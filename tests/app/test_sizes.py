"""Every view at every size of window and text, day and night, with the longest names.

Geometry is walked: nothing lies outside its place, over its neighbour, or cuts its own text.
What needs more room than there is, is scrolled.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import combinations

import pytest
from PySide6.QtCore import QPoint, QRect, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractScrollArea,
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSplitterHandle,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.widgets.labels import ElidedLabel
from diaulos.rig.templates import TEMPLATES, build
from diaulos.session import edits, take_edits

Settle = Callable[[Desk], None]
PAGES = {
    "instruments": ("show_trims", "show_drive", "show_loading"),
    "rig": ("show_tracks_page", "show_patch_page", "show_monitor_page", "show_findings_page"),
    "levels": ("show_noise_page", "show_check_page", "show_verdict_page"),
    "takes": (
        "toggle_tuner",
        "toggle_tuner",
        "toggle_mix",
        "toggle_mix",
        "toggle_cabinets",
        "toggle_cabinets",
    ),
    "reamp": (
        "toggle_cabinets",
        "toggle_cabinets",
        "toggle_queue",
        "toggle_queue",
        "toggle_round",
        "toggle_round",
        "toggle_guide",
        "toggle_guide",
    ),
}
LONG = "Baritone, second humbuckers, B standard, strings of last winter"
SIZES = ((1024, 700), (1280, 800), (1920, 1080))


def _longest() -> str:
    """The template whose devices and tracks have the longest names."""

    def letters(ident: str) -> int:
        rig = build(ident, "r")
        return max(len(device.name) for device in rig.devices) + len(rig.name)

    return max(TEMPLATES, key=letters)


@pytest.fixture
def long_names(opened: Desk, settled: Settle) -> Iterator[Desk]:
    """The demo with the longest rig to record with, an instrument and a take to match."""
    document = opened.document
    document.apply(edits.add_rig(build(_longest(), "longest")))
    document.apply(edits.choose_recording_rig("longest"))
    document.apply(edits.choose_rig("longest"))
    document.apply(take_edits.rename_take(document.session.takes[0].id, LONG))
    settled(opened)
    yield opened
    opened.window.dress(theme.DAY, 1.0)


def _faults(view: QWidget, frame: QWidget) -> Iterator[str]:
    """What is wrong with where things lie."""
    for widget in (view, *view.findChildren(QWidget)):
        if not widget.isVisible() or isinstance(widget, QSplitterHandle):
            continue
        yield from _cut(widget)
        if isinstance(widget, QScrollArea):
            yield from _scrolled_away(widget)
        shown = [
            child for child in widget.children()
            if isinstance(child, QWidget) and child.isVisible() and not child.isWindow()
            and not isinstance(child, QSplitterHandle)
        ]  # fmt: skip
        if isinstance(widget, (QAbstractScrollArea, QComboBox)) or not widget.layout():
            continue
        for one, two in combinations(shown, 2):
            if one.geometry().intersects(two.geometry()):
                yield f"{_name(one)} lies over {_name(two)}"
        for child in shown:
            if not widget.rect().contains(child.geometry()):
                place, room = child.geometry().getRect(), widget.rect().getRect()
                yield f"{_name(child)} {place} is outside {_name(widget)} {room}"
    inside = frame.rect()
    for child in view.findChildren(QAbstractButton):
        if child.isVisible() and not _scrolls(child, frame):
            corners = QRect(child.mapTo(frame, QPoint(0, 0)), child.size())
            if not inside.contains(corners):
                yield f"{_name(child)} is off the view"


def _scrolled_away(area: QScrollArea) -> Iterator[str]:
    """What is wider than its place where no bar brings it back, or where a bar is there for next
    to nothing."""
    inside = area.widget()
    over = 0 if inside is None else inside.width() - area.viewport().width()
    never = area.horizontalScrollBarPolicy() is Qt.ScrollBarPolicy.ScrollBarAlwaysOff
    if over > 0 and (never or over < 8):
        yield f"{over} pixels of {_name(inside)} are out of sight"


def _cut(widget: QWidget) -> Iterator[str]:
    """A text that has less room than it takes."""
    if isinstance(widget, QLabel):
        if isinstance(widget, ElidedLabel) or not widget.text():
            return
        if widget.sizePolicy().horizontalPolicy() is QSizePolicy.Policy.Ignored:
            return  # elides, or is one line that may be long
        if widget.wordWrap():
            need = widget.heightForWidth(widget.width())
            if widget.height() + 1 < need:
                yield f"{_name(widget)} has {widget.height()} of {need}"
        elif widget.width() + 1 < widget.minimumSizeHint().width():
            yield f"{_name(widget)} has {widget.width()} of {widget.minimumSizeHint().width()}"
    elif isinstance(widget, QCheckBox | QPushButton):
        text = widget.text().replace("&", "")
        need = widget.fontMetrics().horizontalAdvance(text)
        if widget.width() < need:
            yield f"{_name(widget)} has {widget.width()} of {need}"


def _scrolls(widget: QWidget, frame: QWidget) -> bool:
    at = widget.parentWidget()
    while at is not None and at is not frame:
        if isinstance(at, QAbstractScrollArea):
            return True
        at = at.parentWidget()
    return False


def _name(widget: QWidget) -> str:
    text = widget.text() if isinstance(widget, QLabel | QAbstractButton) else ""
    return f"{type(widget).__name__} {(widget.accessibleName() or text)[:40]!r}"


@pytest.mark.parametrize("zoom", [1.0, 1.25])
@pytest.mark.parametrize("look", ["day", "night"])
@pytest.mark.parametrize("size", SIZES)
def test_nothing_is_cut_or_lies_over_another(
    long_names: Desk, settled: Settle, size: tuple[int, int], look: str, zoom: float
) -> None:
    window, desk = long_names.window, long_names
    window.dress(theme.LOOKS[look], zoom)
    window.resize(*size)
    told = []
    for row in window.views:
        desk.show(row.ident)
        settled(desk)
        for page in PAGES.get(row.ident, ("",)):
            if page:
                getattr(desk.views[row.ident], page)()
            if page != "toggle_tuner":  # it listens for as long as it is open
                settled(desk)
            for _ in range(4):  # a layout asks for another one
                QApplication.processEvents()
            assert (window.width(), window.height()) == size, (row.ident, page)
            place = f"{row.ident} {page}"
            told += [f"{place}: {fault}" for fault in _faults(desk.views[row.ident], window.stack)]
            bars = (window.area.verticalScrollBar(), window.area.horizontalScrollBar())
            if zoom == 1.0:
                told += [f"{place} scrolls" for bar in bars if bar.maximum() > 0]
    assert told == [], "\n".join(told)


def test_text_grows_by_key_and_is_remembered(opened: Desk, settled: Settle) -> None:
    window = opened.window
    opened.show("levels")
    settled(opened)
    view = opened.views["levels"]
    before = view.fontMetrics().height()
    strip, rail = window.strip.height(), window.rail.width()
    for _ in range(2):
        QTest.keyClick(window, Qt.Key.Key_Plus, Qt.KeyboardModifier.ControlModifier)
    assert theme.zoom() == 1.25
    QApplication.processEvents()
    assert view.fontMetrics().height() == pytest.approx(1.25 * before, abs=2)
    assert window.strip.height() == pytest.approx(1.25 * strip, abs=1)
    assert window.rail.width() == pytest.approx(1.25 * rail, abs=1)
    assert window.preferences.zoom == 1.25
    QTest.keyClick(window, Qt.Key.Key_Equal, Qt.KeyboardModifier.ControlModifier)
    assert theme.zoom() == 1.5
    QTest.keyClick(window, Qt.Key.Key_0, Qt.KeyboardModifier.ControlModifier)
    assert theme.zoom() == 1.0
    QTest.keyClick(window, Qt.Key.Key_Minus, Qt.KeyboardModifier.ControlModifier)
    assert theme.zoom() == 0.9
    QTest.keyClick(window, Qt.Key.Key_0, Qt.KeyboardModifier.ControlModifier)
    QApplication.processEvents()
    assert window.strip.height() == strip


def test_what_is_drawn_is_chosen_where_it_is_seen(opened: Desk, settled: Settle) -> None:
    """A click finds the column, the row, the port that is under it when text is large."""
    window = opened.window
    opened.show("levels")
    settled(opened)
    window.dress(theme.DAY, 1.5)
    try:
        QApplication.processEvents()
        diagram = opened.views["levels"].diagram
        for index in (0, len(diagram.columns) - 1):
            middle = diagram._well(index).center() * theme.zoom()
            QTest.mouseClick(diagram, Qt.MouseButton.LeftButton, pos=middle.toPoint())
            assert diagram.index == index
        field = next(iter(opened.views["levels"].controls.fields.values()))
        column = next(
            i for i, c in enumerate(diagram.columns)
            if any(str(one.ref) == str(field.setting.ref) for one in c.station.controls)
        )  # fmt: skip
        left = field.mapTo(opened.views["levels"].board, QPoint(field.width() // 2, 0)).x()
        assert int((left / theme.zoom() - 40) // diagram.column_width) == column
    finally:
        window.dress(theme.DAY, 1.0)
