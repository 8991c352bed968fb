"""Each tap has a mark and a line pattern of its own, so that colour never stands alone."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from diaulos.app.theme import Look

TAP_TOKENS = {
    "di": "di",
    "printed": "di",
    "amp": "amp",
    "cabinet": "cabinet",
    "modeled": "modeled",
    "mic": "mic",
}
TAP_PATTERNS = {
    "di": Qt.PenStyle.SolidLine,
    "printed": Qt.PenStyle.SolidLine,
    "amp": Qt.PenStyle.DashLine,
    "cabinet": Qt.PenStyle.DashDotLine,
    "modeled": Qt.PenStyle.DotLine,
    "mic": Qt.PenStyle.DashDotDotLine,
}


def paint_mark(painter: QPainter, rect: QRectF, tap: str, look: Look) -> None:
    """The tap's mark inside a square: a dash at a post, a dash between posts, a wedge, a
    notched box, a ring, a half disc."""
    if tap not in TAP_TOKENS:
        return
    colour = look.colour(TAP_TOKENS[tap])
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour, 2.0))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    box = rect.adjusted(2, 2, -2, -2)
    middle = box.center()
    if tap == "di":
        painter.setPen(QPen(colour, 3.0))
        painter.drawLine(QPointF(box.left(), middle.y()), QPointF(box.right(), middle.y()))
        painter.drawLine(box.topLeft(), box.bottomLeft())
    elif tap == "printed":
        painter.setPen(QPen(colour, 3.0))
        painter.drawLine(QPointF(box.left(), middle.y()), QPointF(box.right(), middle.y()))
        for x in (box.left(), box.right()):
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
    elif tap == "amp":
        painter.setBrush(colour)
        corners = [box.topLeft(), QPointF(box.right(), middle.y() - 2), box.bottomLeft()]
        painter.drawPolygon(QPolygonF([*corners, QPointF(box.left() + 3, middle.y())]))
    elif tap == "cabinet":
        painter.drawRect(box)
        painter.drawLine(box.topLeft(), box.bottomRight())
    elif tap == "modeled":
        painter.drawEllipse(box)
        painter.drawPoint(middle)
    else:
        painter.setBrush(colour)
        painter.drawChord(box, 0, 180 * 16)
        painter.drawLine(QPointF(middle.x(), middle.y()), QPointF(middle.x(), box.bottom()))
    painter.restore()
