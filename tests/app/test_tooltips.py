"""Every computed figure tells its formula or its inputs to who points at it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QRect
from PySide6.QtGui import QHelpEvent
from PySide6.QtWidgets import QApplication, QLabel, QTableWidget, QToolTip, QWidget

from diaulos.app.desk import Desk
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.app.widgets.own_words import OWN_WORDS, own_word
from diaulos.session import edits
from diaulos.session.roles import recording_rig

Settle = Callable[[Desk], None]
FIGURE = re.compile(r"\d\s?(dB|dBu|dBFS|ms|V|kΩ|MΩ|Ω|Hz|kHz|samples|LUFS|pF|m|s)\b")
PAGES = {
    "rig": ("show_tracks_page", "show_patch_page", "show_monitor_page", "show_findings_page"),
    "levels": ("show_noise_page", "show_check_page", "show_verdict_page"),
    "takes": ("toggle_noise", "toggle_noise", "toggle_mix", "toggle_mix"),
    "reamp": ("",),
}


def _untold(view: QWidget) -> Iterator[str]:
    for label in view.findChildren(QLabel):
        if label.isVisible() and FIGURE.search(label.text()):
            at: QWidget | None = label
            tip = ""
            while at is not None and at is not view and not tip:
                tip, at = at.toolTip(), at.parentWidget()
            if not tip or tip == label.text():
                yield f"label {label.accessibleName()} {label.text()[:80]}"
    for table in view.findChildren(QTableWidget):
        if not table.isVisible():
            continue
        for row in range(table.rowCount()):
            for column in range(table.columnCount()):
                item = table.item(row, column)
                if item is not None and FIGURE.search(item.text()):
                    if not item.toolTip() or item.toolTip() == item.text():
                        yield f"cell {table.accessibleName()}, {column}: {item.text()}"


@pytest.mark.parametrize("which", ["recording", "reamp"])
@pytest.mark.parametrize("ident", PAGES)
def test_every_figure_tells_where_it_is_from(
    opened: Desk, settled: Settle, ident: str, which: str
) -> None:
    session = opened.document.session
    rig = recording_rig(session).id if which == "recording" else session.rigs[0].id
    opened.document.apply(edits.choose_rig(rig))
    opened.show(ident)
    settled(opened)
    view = opened.views[ident]
    if ident == "takes":
        view.takes.choose_first()
        settled(opened)
    untold = []
    for page in PAGES[ident]:
        if page:
            getattr(view, page)()
        settled(opened)
        untold += [f"{page}: {one}" for one in _untold(view)]
    assert untold == [], "\n".join(untold)


def test_our_own_words_are_told_where_they_are_met(opened: Desk, settled: Settle) -> None:
    """In the words of the glossary."""
    page = (Path(__file__).parents[2] / "docs" / "glossary.md").read_text("utf-8")
    for word, line in OWN_WORDS.items():
        assert f"| {word} | {line} |" in page, word
    for ident in PAGES:
        opened.show(ident)
        settled(opened)
    opened.show("instruments")
    settled(opened)
    window = opened.window
    tips = {widget.toolTip() for widget in window.findChildren(QWidget)}
    tips |= {opened.views["instruments"].pages.tabToolTip(i) for i in range(3)}
    whole = "\n".join(tips) + window.strip.tip(0)
    for word in ("course", "station", "pass", "trim", "strength"):
        assert own_word(word) in whole, word


def _pointed(widget: QWidget, at: QPoint) -> str:
    """What is told at a place of a drawing."""
    QToolTip.hideText()
    event = QHelpEvent(QHelpEvent.Type.ToolTip, at, widget.mapToGlobal(at))
    QApplication.sendEvent(widget, event)
    return QToolTip.text()


@pytest.mark.qt_log_ignore("This plugin does not support", extend=True)
def test_drawn_figures_tell_it_too(opened: Desk, settled: Settle) -> None:
    """The strip, the board of Takes, the diagram of Levels."""
    opened.show("takes")
    settled(opened)
    strip, board = opened.window.strip, opened.views["takes"].board
    assert "played through the course" in _pointed(strip, QPoint(60, 8))
    told = _pointed(board, QRect(0, 0, board.width(), board.height() // len(board.rows)).center())
    assert "Headroom = clip point" in told
    assert board.rows[0].name in told
    opened.show("levels")
    settled(opened)
    diagram = opened.views["levels"].diagram
    assert "Headroom" in _pointed(diagram, diagram._well(0).center().toPoint())
    opened.show("reamp")
    settled(opened)
    strip.set_rows((CourseRow("a", "amp", "Amp", "last peak 12.8 dBFS", "clips"),), "a")
    assert "last take or pass" in _pointed(strip, QPoint(60, 8))
    for card in opened.views["reamp"].loop.cards:
        assert "peak" in card.toolTip()
