"""A drawing that is kept as a picture: drawn once, anew when it is another."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QApplication, QScrollArea
from pytestqt.qtbot import QtBot

from diaulos.app import theme
from diaulos.app.widgets import pictured
from diaulos.app.widgets.pictured import Pictured


class Square(Pictured):
    def __init__(self) -> None:
        super().__init__()
        self.drawn = self.over = 0
        self.colour = "di"

    def draw(self, painter: QPainter) -> None:
        self.drawn += 1
        painter.fillRect(10, 10, 20, 20, theme.current().colour(self.colour))

    def draw_over(self, painter: QPainter) -> None:
        self.over += 1
        painter.fillRect(40, 10, 5, 5, theme.current().colour("ink"))


def shown(qtbot: QtBot) -> Square:
    square = Square()
    qtbot.addWidget(square)
    square.resize(60, 40)
    square.show()
    qtbot.waitExposed(square)
    square.grab()
    return square


def test_what_is_asked_for_again_is_the_picture(qtbot: QtBot) -> None:
    square = shown(qtbot)
    drawn, over = square.drawn, square.over

    seen = square.grab().toImage()

    assert square.drawn == drawn
    assert square.over == over + 1
    assert seen.pixelColor(20, 20) == theme.current().colour("di")
    assert seen.pixelColor(42, 12) == theme.current().colour("ink")
    assert seen.pixelColor(5, 5) == theme.current().colour("paper")


def test_what_moves_over_it_leaves_it_as_it_is(qtbot: QtBot) -> None:
    square = shown(qtbot)
    drawn, over = square.drawn, square.over

    square.stir()

    qtbot.waitUntil(lambda: square.over > over)
    assert square.drawn == drawn


def test_another_drawing_is_drawn(qtbot: QtBot) -> None:
    square = shown(qtbot)

    square.colour = "amp"
    square.update()

    assert square.grab().toImage().pixelColor(20, 20) == theme.current().colour("amp")


def test_another_size_look_or_size_of_text_is_drawn(qtbot: QtBot) -> None:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    square = shown(qtbot)
    try:
        for change in (
            lambda: square.resize(80, 50),
            lambda: theme.apply(app, theme.NIGHT),
            lambda: theme.apply(app, theme.NIGHT, 1.5),
        ):
            drawn = square.drawn
            change()
            seen = square.grab().toImage()
            assert square.drawn > drawn
            at = round(20 * theme.zoom())
            assert seen.pixelColor(at, at) == theme.current().colour("di")
    finally:
        theme.apply(app, theme.DAY, 1.0)


def test_what_is_too_large_is_drawn_where_it_is_seen(qtbot: QtBot, monkeypatch) -> None:
    monkeypatch.setattr(pictured, "MOST_PIXELS", 100)
    square = shown(qtbot)
    drawn = square.drawn

    seen = square.grab().toImage()

    assert square.drawn == drawn + 1
    assert seen.pixelColor(20, 20) == theme.current().colour("di")
    assert seen.pixelColor(42, 12) == theme.current().colour("ink")


def test_drawn_ahead_is_not_drawn_again(qtbot: QtBot) -> None:
    square = shown(qtbot)
    square.update()
    drawn = square.drawn

    square.make_ready()
    square.make_ready()
    square.grab()

    assert square.drawn == drawn + 1
    assert QColor(square.grab().toImage().pixelColor(20, 20)) == theme.current().colour("di")


class Tall(Pictured):
    """A square every hundred pixels."""

    def __init__(self) -> None:
        super().__init__()
        self.asked: list[QRectF] = []

    def draw(self, painter: QPainter) -> None:
        seen = painter.clipBoundingRect()
        self.asked.append(seen)
        for top in range(0, 2_000, 100):
            square = QRectF(10, top + 10, 20, 20)
            if seen.intersects(square):
                painter.fillRect(square, theme.current().colour("di"))


def test_of_what_is_scrolled_the_part_that_is_seen_is_drawn(qtbot: QtBot) -> None:
    tall, area = Tall(), QScrollArea()
    qtbot.addWidget(area)
    tall.setFixedSize(60, 2_000)
    area.setWidget(tall)
    area.setFrameShape(QScrollArea.Shape.NoFrame)
    area.resize(100, 150)
    area.show()
    qtbot.waitUntil(lambda: bool(tall.asked))
    assert all(one.height() <= 150.0 for one in tall.asked)

    area.verticalScrollBar().setValue(1_000)
    qtbot.waitUntil(lambda: tall.asked[-1].top() >= 1_000.0)
    seen = area.viewport().grab().toImage()

    assert seen.pixelColor(20, 20) == theme.current().colour("di")  # that at 1000
    assert seen.pixelColor(20, 120) == theme.current().colour("di")
    assert seen.pixelColor(20, 60) == theme.current().colour("paper")
    whole = tall.grab().toImage()  # as it is copied
    assert whole.height() == 2_000
    for top in range(0, 2_000, 100):
        assert whole.pixelColor(20, top + 20) == theme.current().colour("di")
