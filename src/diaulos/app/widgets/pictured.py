"""A drawing that is kept as a picture.

A diagram takes tens of milliseconds to draw, and Qt asks for it whenever the page is shown. What
our own code asks for (by `update`) is drawn anew; what Qt asks for again is the picture.
"""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRect
from PySide6.QtGui import QPainter, QPaintEvent, QPixmap
from PySide6.QtWidgets import QWidget

from diaulos.app import theme
from diaulos.app.widgets.painted import Painted

MOST_PIXELS = 8_000_000
"""Larger drawings are drawn where they are seen, each time: a picture would take 32 MB."""


class Pictured(Painted):
    """A widget whose drawing is kept until `update` says that it is another. Of one that is
    scrolled the part that is seen is kept."""

    _picture: QPixmap | None = None
    _made_for: tuple[object, ...] = ()
    _part = QRect()
    """What of the widget the picture shows."""

    def draw(self, painter: QPainter) -> None:
        """The drawing, in its own space; what the painter's clip hides may be left out."""
        raise TypeError("each picture knows what it shows")

    def draw_over(self, painter: QPainter) -> None:
        """What moves over it, drawn each time."""

    @property
    def scaling(self) -> float:
        """Pixels of the screen per pixel of the drawing's own space."""
        return theme.zoom()

    def update(self, *args: Any) -> None:
        """The drawing is another one now."""
        self._picture = None
        super().update(*args)

    def stir(self) -> None:
        """What moves over the drawing has moved."""
        QWidget.update(self)

    def make_ready(self) -> None:
        """Draw what is seen of it now, where it is not drawn yet: before it is asked for with all
        the rest."""
        self._keep(self.visibleRegion().boundingRect())

    def _keep(self, seen: QRect) -> None:
        ratio = self.devicePixelRatioF()
        looks = (theme.current().name, theme.zoom(), self.isEnabled())
        key = (self.size().toTuple(), ratio, *looks)
        if self._picture is not None and key == self._made_for and self._part.contains(seen):
            return
        self._picture, self._made_for, self._part = None, key, seen
        if seen.isEmpty() or seen.width() * seen.height() * ratio**2 > MOST_PIXELS:
            return
        picture = QPixmap(seen.size() * ratio)
        picture.setDevicePixelRatio(ratio)
        picture.fill(theme.current().colour("paper"))
        painter = QPainter(picture)
        painter.translate(-seen.topLeft())
        self._begin(painter, seen)
        self.draw(painter)
        painter.end()
        self._picture = picture

    def paintEvent(self, event: QPaintEvent) -> None:
        self._keep(self.visibleRegion().boundingRect().united(event.rect()))
        painter = QPainter(self)
        if self._picture is not None:
            painter.drawPixmap(self._part.topLeft(), self._picture)
        else:
            painter.save()
            self._begin(painter, event.rect())
            self.draw(painter)
            painter.restore()
        self._begin(painter, event.rect())
        self.draw_over(painter)
        painter.end()

    def _begin(self, painter: QPainter, seen: QRect) -> None:
        painter.setFont(self.font())
        painter.setClipRect(seen)
        painter.scale(self.scaling, self.scaling)
