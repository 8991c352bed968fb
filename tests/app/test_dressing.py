"""Who wears the style sheet: the parts of a page, what is seen first."""

from __future__ import annotations

import gc
from collections.abc import Callable

import pytest
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QScrollArea,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)
from pytestqt.qtbot import QtBot
from shiboken6 import delete

from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.dressing import LEAST, LOOKED_AT, PART, Wardrobe, parts
from diaulos.app.widgets import painted

RED, BLUE = "QLabel { color: #ff0000; }", "QLabel { color: #0000ff; }"


def pane(count: int) -> QWidget:
    inside = QWidget()
    row = QVBoxLayout(inside)
    for n in range(count):
        row.addWidget(QLabel(f"Label {n}"))
    return inside


def colour(label: QLabel) -> str:
    label.ensurePolished()
    return label.palette().windowText().color().name()


def labels(widget: QWidget) -> list[QLabel]:
    return widget.findChildren(QLabel)


def wardrobe() -> Wardrobe:
    made = Wardrobe()
    made.change(RED, lambda: None)
    return made


def two_panes(qtbot: QtBot) -> tuple[QWidget, QWidget, QWidget]:
    page = QWidget()
    qtbot.addWidget(page)
    left, right = pane(LEAST + 5), pane(LEAST + 5)
    row = QHBoxLayout(page)
    row.addWidget(left)
    row.addWidget(right)
    return page, left, right


def test_a_small_page_wears_it_itself(qtbot: QtBot) -> None:
    page = pane(PART - 5)
    qtbot.addWidget(page)
    assert list(parts(page)) == [page]


def test_a_large_page_is_dressed_part_by_part(qtbot: QtBot) -> None:
    page, left, right = two_panes(qtbot)
    times: list[int] = []

    wardrobe().dress(page, lambda: times.append(1))

    assert list(parts(page)) == [left, right]
    assert page.styleSheet() == ""
    assert len(times) >= 2
    assert {colour(one) for one in labels(page)} == {"#ff0000"}


@pytest.mark.parametrize(
    "holder",
    [
        lambda one, two: _with(QSplitter(), "addWidget", one, two),
        lambda one, two: _with(QStackedWidget(), "addWidget", one, two),
        lambda one, two: _with(QScrollArea(), "setWidget", _row(one, two)),
    ],
)
def test_what_merely_holds_others_is_passed_through(
    holder: Callable[[QWidget, QWidget], QWidget], qtbot: QtBot
) -> None:
    one, two = pane(LEAST + 5), pane(LEAST + 5)
    page = holder(one, two)
    qtbot.addWidget(page)

    found = list(parts(page))

    assert one in found
    assert two in found
    assert page not in found


def _with(holder: QWidget, method: str, *inside: QWidget) -> QWidget:
    for one in inside:
        getattr(holder, method)(one)
    return holder


def _row(*inside: QWidget) -> QWidget:
    page = QWidget()
    row = QHBoxLayout(page)
    for one in inside:
        row.addWidget(one)
    return page


def test_what_has_a_name_in_the_sheet_is_not_taken_apart(qtbot: QtBot) -> None:
    page, _left, _right = two_panes(qtbot)
    page.setObjectName("rail")
    assert list(parts(page)) == [page]


def test_what_is_not_seen_is_dressed_when_it_is_shown(qtbot: QtBot) -> None:
    page, _left, right = two_panes(qtbot)
    right.hide()
    dressing = wardrobe()
    dressing.dress(page)
    assert right.styleSheet() == ""
    assert dressing.behind(page)

    page.show()
    right.show()

    assert {colour(one) for one in labels(right)} == {"#ff0000"}
    assert not dressing.behind(page)


def test_what_is_not_seen_is_dressed_in_its_turn(qtbot: QtBot) -> None:
    page, _left, right = two_panes(qtbot)
    right.hide()
    dressing = wardrobe()
    dressing.dress(page)

    assert dressing.dress_next()
    assert not dressing.dress_next()

    assert {colour(one) for one in labels(right)} == {"#ff0000"}


def many_panes(qtbot: QtBot) -> tuple[QWidget, list[QWidget]]:
    page = QWidget()
    qtbot.addWidget(page)
    row = QVBoxLayout(page)
    panes = [pane(LEAST + 5) for _ in range(LOOKED_AT + 10)]
    for one in panes:
        row.addWidget(one)
    return page, panes


def test_a_walk_through_many_parts_is_cut_into_steps(qtbot: QtBot) -> None:
    page, panes = many_panes(qtbot)
    panes[-1].hide()
    dressing = wardrobe()
    dressing.dress(page)

    assert dressing.dress_next()  # so far nothing was found
    assert dressing.behind(page)
    steps = 0
    while dressing.dress_next():
        steps += 1
    assert not dressing.behind(page)
    assert steps <= 4


def test_a_pane_goes_in_the_middle_of_a_walk(qtbot: QtBot) -> None:
    page, panes = many_panes(qtbot)
    panes[-1].hide()
    dressing = wardrobe()
    dressing.dress(page)
    assert dressing.dress_next()

    for one in panes[:-1]:
        delete(one)
    while dressing.dress_next():
        pass

    assert not dressing.behind(page)


def test_another_sheet_reaches_every_part(qtbot: QtBot) -> None:
    page, left, right = two_panes(qtbot)
    dressing = wardrobe()
    dressing.dress(page)
    page.show()
    right.hide()

    dressing.change(BLUE, lambda: None)

    assert {colour(one) for one in labels(left)} == {"#0000ff"}
    assert {colour(one) for one in labels(right)} == {"#ff0000"}
    right.show()
    assert {colour(one) for one in labels(right)} == {"#0000ff"}


def test_what_is_added_later_is_dressed(qtbot: QtBot) -> None:
    page, _left, _right = two_panes(qtbot)
    dressing = wardrobe()
    dressing.dress(page)
    page.show()

    late = QLabel("Late")
    layout = page.layout()
    assert layout is not None
    layout.addWidget(late)
    late.show()

    assert colour(late) == "#ff0000"
    dressing.change(BLUE, lambda: None)
    assert colour(late) == "#0000ff"


def test_a_page_may_go_while_it_is_dressed(qtbot: QtBot) -> None:
    page = _row(pane(LEAST + 5), pane(LEAST + 5))
    gone: list[int] = []

    def between() -> None:
        if not gone:
            gone.append(1)
            delete(page)

    wardrobe().dress(page, between)

    assert gone == [1]


def test_every_widget_of_every_view_wears_the_look(
    opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    """None is forgotten between the parts, and a drop-down's list is none either."""
    window = opened.window
    for row in window.views:
        opened.show(row.ident)
        settled(opened)
    qtbot.waitUntil(
        lambda: not any(theme.undressed(view) for view in opened.views.values()), timeout=30_000
    )
    for view in opened.views.values():
        within = set(parts(view))
        for widget in view.findChildren(QWidget):
            if not isinstance(widget, (QComboBox, QLabel)):
                continue
            at: QWidget | None = widget
            while at is not None and at not in within:
                at = at.parentWidget()
            assert at is not None, (view.ident, widget)
            assert at.styleSheet(), (view.ident, widget)


def test_every_size_and_drawing_is_told_of_another_size_of_text(
    opened: Desk, settled: Callable[[Desk], None]
) -> None:
    """They are kept by weak references: none may be lost while Qt has it still."""
    window = opened.window
    for row in window.views:
        opened.show(row.ident)
        settled(opened)
    gc.unfreeze()
    gc.collect()

    for widget in QApplication.allWidgets():
        if any(widget.property(method) is not None for method in painted.SIZES):
            assert widget in painted._sized, widget
        if isinstance(widget, painted.Rescaled):
            assert widget in painted._rescaled, widget
