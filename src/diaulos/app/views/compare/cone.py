"""A speaker cone with the microphone places that were tried: from the front, and from the side."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy

from diaulos.app import theme
from diaulos.app.widgets.painted import Painted, scaled_size
from diaulos.session.compared import MicPlace
from diaulos.work.compare.placed import metres_words, place_words

HIGH = 132.0
DUST_CAP = 0.3
NEAREST_M, FARTHEST_M = 0.01, 4.0
FIRST_RAY, APART = -0.6, 20.0
"""Each place is drawn on a ray of its own, so that none hides another."""


class ConePicture(Painted):
    """Letters of the candidates at their places."""

    def __init__(self) -> None:
        super().__init__()
        self._places: tuple[tuple[str, MicPlace], ...] = ()
        self._chosen = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Microphone places")
        self.setToolTip("From the front: how far across the cone. From the side: how far away.")

    def sizeHint(self) -> QSize:
        return scaled_size(280.0, HIGH)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(220.0, HIGH)

    def show_places(self, places: Sequence[tuple[str, MicPlace]], chosen: str) -> None:
        """Letter and place of each; the chosen one stands out."""
        self._places, self._chosen = tuple(places), chosen
        told = [f"{letter}: {place_words(place) or 'not known'}" for letter, place in places]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = self.canvas()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        radius = HIGH / 2.0 - 8.0
        self._front(painter, QPointF(radius + 8.0, HIGH / 2.0), radius)
        left = 2.0 * radius + 40.0
        self._side(painter, QRectF(left, 8.0, max(60.0, self.wide - left - 12.0), HIGH - 16.0))

    def _front(self, painter: QPainter, middle: QPointF, radius: float) -> None:
        look = theme.current()
        painter.setBrush(look.colour("raised"))
        painter.setPen(QPen(look.colour("line"), 2.0))
        painter.drawEllipse(middle, radius, radius)
        painter.setPen(QPen(look.colour("line"), 1.0))
        painter.drawEllipse(middle, 0.72 * radius, 0.72 * radius)
        painter.drawEllipse(middle, DUST_CAP * radius, DUST_CAP * radius)
        known = [(letter, place) for letter, place in self._places if place.across is not None]
        for at, (letter, place) in enumerate(known):
            ray = 2.0 * math.pi * at / len(known) + FIRST_RAY
            least = APART / (2.0 * math.sin(math.pi / len(known))) if len(known) > 1 else 0.0
            out = max(least, 0.86 * (place.across or 0.0) * radius)
            where = middle + QPointF(out * math.cos(ray), out * math.sin(ray))
            self._mark(painter, where, letter, (place.angle_deg or 0.0) >= 5.0)

    def _side(self, painter: QPainter, box: QRectF) -> None:
        """The grille at the left, distances from 1 cm to 3 m on a logarithmic line."""
        look = theme.current()
        painter.setPen(QPen(look.colour("line"), 2.0))
        painter.drawLine(box.topLeft(), box.bottomLeft())
        base = box.bottom() - 14.0
        painter.setPen(QPen(look.colour("line"), 1.0))
        painter.drawLine(QPointF(box.left(), base), QPointF(box.right(), base))
        painter.setFont(theme.text_font(9))
        for metres in (0.03, 0.3, 3.0):
            x = self._across(box, metres)
            painter.setPen(look.colour("line"))
            painter.drawLine(QPointF(x, base - 3.0), QPointF(x, base + 3.0))
            painter.setPen(look.colour("muted"))
            painter.drawText(QRectF(x - 28.0, base + 3.0, 56.0, 14.0),
                             Qt.AlignmentFlag.AlignHCenter, metres_words(metres))  # fmt: skip
        known = [(letter, place) for letter, place in self._places if place.distance_m is not None]
        if not known:
            painter.setPen(look.colour("muted"))
            painter.drawText(box.adjusted(8.0, 0.0, 0.0, -18.0),
                             int(Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap),
                             "No distance noted")  # fmt: skip
        step = min(22.0, (base - box.top() - 12.0) / max(1, len(known)))
        for at, (letter, place) in enumerate(known):
            where = QPointF(
                self._across(box, place.distance_m or 0.0), box.top() + 12.0 + step * at
            )
            painter.setPen(QPen(look.colour("line"), 1.0, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(box.left(), where.y()), where)
            self._mark(painter, where, letter, (place.angle_deg or 0.0) >= 5.0)

    @staticmethod
    def _across(box: QRectF, metres: float) -> float:
        share = math.log(max(metres, NEAREST_M) / NEAREST_M) / math.log(FARTHEST_M / NEAREST_M)
        return box.left() + 10.0 + min(1.0, share) * (box.width() - 24.0)

    def _mark(self, painter: QPainter, where: QPointF, letter: str, turned: bool) -> None:
        """A letter in a half disc, the tap's own mark; a bar leans on it where it is off axis."""
        look = theme.current()
        chosen = letter == self._chosen
        painter.setPen(QPen(look.colour("mic"), 2.0 if chosen else 1.2))
        painter.setBrush(look.colour("mic") if chosen else look.colour("paper"))
        painter.drawEllipse(where, 9.0, 9.0)
        if turned:
            painter.drawLine(where + QPointF(7.0, -7.0), where + QPointF(14.0, -14.0))
        painter.setPen(look.colour("paper") if chosen else look.colour("ink"))
        painter.setFont(theme.figure_font(9, bold=True))
        painter.drawText(QRectF(where.x() - 9.0, where.y() - 9.0, 18.0, 18.0),
                         Qt.AlignmentFlag.AlignCenter, letter)  # fmt: skip
