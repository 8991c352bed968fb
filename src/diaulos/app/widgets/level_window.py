"""The level window: the one meter of Diaulos.

A horizontal bar from the noise floor to the clip point of the very port it stands for.
The target band is a bracket over it, the typical level a solid bar, the loudest peak a
line with its figure; the headroom is written out.
"""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from diaulos.app import theme
from diaulos.app.widgets.painted import Painted, scaled_size
from diaulos.figures import LevelFigures, level, number

CLIPS_W = 44.0


class LevelWindow(Painted):
    """A level window as a widget."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._figures: LevelFigures | None = None
        self._token = "di"
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def set_figures(self, figures: LevelFigures | None, token: str = "di") -> None:
        """Show these figures in a tap's colour, or an empty window."""
        self._figures, self._token = figures, token
        self.setAccessibleDescription(figures.words() if figures else "not worked out yet")
        self.update()

    @property
    def figures(self) -> LevelFigures | None:
        """What is shown."""
        return self._figures

    def sizeHint(self) -> QSize:
        return scaled_size(140, 46)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(110, 46)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = self.canvas()
        paint_level_window(painter, self.box, self._figures, self._token)


def paint_level_window(
    painter: QPainter, rect: QRectF, figures: LevelFigures | None, token: str
) -> None:
    """Paint a level window into a rectangle of about 46 pixels height."""
    look = theme.current()
    painter.save()
    bar = QRectF(rect.left() + 1, rect.top() + 21, rect.width() - 2, 10)
    painter.setPen(QPen(look.colour("muted"), 1))
    painter.setBrush(look.colour("paper"))
    painter.drawRect(bar)
    if figures is None:
        painter.restore()
        return
    low, high = figures.span()

    def x_of(value: float) -> float:
        share = (value - low) / max(high - low, 1e-9)
        return bar.left() + min(1.0, max(0.0, share)) * bar.width()

    headroom = figures.headroom_db
    clips = headroom is not None and headroom <= 0.05
    colour = look.colour("danger" if clips else token)
    typical = x_of(figures.typical)
    painter.fillRect(QRectF(bar.left() + 1, bar.top() + 3, typical - bar.left(), 5), colour)
    if figures.target is not None:
        first, last = x_of(figures.target[0]), x_of(figures.target[1])
        painter.setPen(QPen(look.colour("ink"), 1.5))
        top = bar.top() - 3
        for at, inward in ((first, 3.0), (last, -3.0)):
            painter.drawLine(QPointF(at, top), QPointF(at, bar.bottom()))
            painter.drawLine(QPointF(at, top), QPointF(at + inward, top))
    peak = x_of(figures.peak)
    painter.setPen(QPen(colour, 2.5))
    painter.drawLine(QPointF(peak, bar.top() - 4), QPointF(peak, bar.bottom() + 2))
    painter.setFont(theme.figure_font(10, bold=True))
    painter.setPen(look.colour("ink"))
    text = level(figures.peak, figures.unit)
    above = QRectF(rect.left(), rect.top(), rect.width(), 17)
    left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
    painter.drawText(above, left, text)
    taken = painter.fontMetrics().horizontalAdvance(text) + 5
    painter.setFont(theme.text_font(9))
    painter.setPen(look.colour("muted"))
    if not clips and taken + painter.fontMetrics().horizontalAdvance("peak") <= rect.width():
        painter.drawText(above.adjusted(taken, 1, 0, 0), left, "peak")
    _paint_foot(painter, rect, bar, figures, clips, beside=taken + CLIPS_W <= rect.width())
    painter.restore()


def _paint_foot(
    painter: QPainter,
    rect: QRectF,
    bar: QRectF,
    figures: LevelFigures,
    clips: bool,
    *,
    beside: bool,
) -> None:
    """Floor and headroom; what clips says so beside its figure, below it where that is narrow.
    What has no room left beside the word is shorter then, or not said."""
    look = theme.current()
    foot = QRectF(rect.left(), bar.bottom() + 1, rect.width(), 15)
    painter.setFont(theme.figure_font(9))
    if clips:
        word = QRectF(rect.right() - CLIPS_W, rect.top() + 1, CLIPS_W, 15)
        if not beside:
            word = QRectF(foot.left(), foot.top(), CLIPS_W, 15)
        painter.fillRect(word, look.colour("danger"))
        painter.setPen(look.colour("danger_ink"))
        painter.drawText(word, Qt.AlignmentFlag.AlignCenter, "CLIPS")
    painter.setPen(look.colour("muted"))
    left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
    right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
    headroom = figures.headroom_db
    room = "no limit" if headroom is None else f"{number(headroom)} dB left"
    floor = "" if figures.floor <= -199.0 else number(figures.floor, 0)
    if clips and not beside:
        for text in (room, room.removesuffix(" left")):
            if CLIPS_W + painter.fontMetrics().horizontalAdvance(f" {text}") <= foot.width():
                painter.drawText(foot, right, text)
                break
        return
    painter.drawText(foot, right, room)
    if painter.fontMetrics().horizontalAdvance(f"{floor}  {room}") <= foot.width():
        painter.drawText(foot, left, floor)
