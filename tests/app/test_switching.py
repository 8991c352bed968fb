"""What is on screen after the look or the size of text was switched."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.main_window import MainWindow


def seen(window: MainWindow) -> QImage:
    return window.screen().grabWindow(window.winId()).toImage()


@pytest.mark.parametrize(
    ("act", "views"),
    [
        ("toggle_look", ("instruments", "rig", "levels", "takes", "reamp", "compare", "sheets")),
        ("larger_text", ("levels", "sheets")),
    ],
)
def test_nothing_of_the_look_before_stays_on_screen(
    act: str,
    views: tuple[str, ...],
    opened: Desk,
    settled: Callable[[Desk], None],
    qtbot: QtBot,
) -> None:
    """What is on screen is what painting everything once more gives."""
    window = opened.window
    for ident in views:
        opened.show(ident)
        settled(opened)
        qtbot.wait(50)
        before = seen(window)

        window.own_commands()[act]()

        qtbot.waitUntil(
            lambda: not any(theme.undressed(view) for view in opened.views.values()),
            timeout=30_000,
        )
        settled(opened)
        qtbot.wait(50)
        after = seen(window)
        assert after != before, ident
        for widget in window.findChildren(QWidget):
            widget.update()
        qtbot.wait(50)
        assert after == seen(window), ident
