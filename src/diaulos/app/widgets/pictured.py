"""A drawing that is kept as a picture.

A diagram takes tens of milliseconds to draw, and Qt asks for it whenever the page is shown. What
our own code asks for (by `update`) is drawn anew; what Qt asks for again is the picture.
"""

from __future__ import annotations

from typing import Any

from PySide6.QtGui import QPainter, QPaintEvent, QPixmap
from PySide6.QtWidgets import QWidget

from diaulos.app import theme
from diaulos.app.widgets.painted import Painted

MOST_PIXELS = 8_000_000
"""Larger drawings are drawn where they are seen, each time: a picture would take 32 MB."""


class Pictured(Painted):
    """A widget whose drawing is kept until `update` says that it is another."""

    _picture: QPixmap | None = None
    _made_for: tuple[object, ...] = ()

    def draw(self, painter: QPainter) -> None:
        """The drawing, in its own space."""
        raise TypeError("each picture knows what it shows")

    def draw_over(self, painter: QPainter) -> None:
        """What moves over it, drawn each time."""

    def update(self, *args: Any) -> None:
        """The drawing is another one now."""
        self._picture = None
        super().update(*args)

    def stir(self) -> None:
        """What moves over the drawing has moved."""
        QWidget.update(self)

    def make_ready(self) -> None:
        """Draw it now, where it is not drawn yet: before it is asked for with all the rest."""
        ratio = self.devicePixelRatioF()
        looks = (theme.current().name, theme.zoom(), self.isEnabled())
        key = (self.size().toTuple(), ratio, *looks)
        if self._picture is not None and key == self._made_for:
            return
        self._picture, self._made_for = None, key
        if self.width() * self.height() * ratio**2 > MOST_PIXELS:
            return
        picture = QPixmap(self.size() * ratio)
        picture.setDevicePixelRatio(ratio)
        picture.fill(theme.current().colour("paper"))
        painter = QPainter(picture)
        self._begin(painter)
        self.draw(painter)
        painter.end()
        self._picture = picture

    def paintEvent(self, event: QPaintEvent) -> None:
        self.make_ready()
        painter = QPainter(self)
        if self._picture is not None:
            painter.drawPixmap(0, 0, self._picture)
        else:
            painter.save()
            self._begin(painter)
            self.draw(painter)
            painter.restore()
        self._begin(painter)
        self.draw_over(painter)
        painter.end()

    def _begin(self, painter: QPainter) -> None:
        painter.setFont(self.font())
        painter.scale(theme.zoom(), theme.zoom())
