"""The strip across the top: one row per course, in sight in every view."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from diaulos.app import theme
from diaulos.app.widgets.labels import tip
from diaulos.app.widgets.marks import paint_mark
from diaulos.app.widgets.own_words import own_word
from diaulos.app.widgets.painted import Painted, scaled_size
from diaulos.figures import TAP_WORDS
from diaulos.records import dataclass

ROW = 22
MOST_ROWS = 4
"""More scroll. Fewer leave room, so that nothing below moves from view to view."""


@dataclass(frozen=True)
class CourseRow:
    """One course: its key, mark, name, last peak and the worst that is known of it."""

    key: str
    tap: str
    name: str
    peak: str
    finding: str
    serious: bool = False


class CourseStrip(Painted):
    """Rows to choose from, by mouse or by the arrow keys."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._rows: tuple[CourseRow, ...] = ()
        self._current = ""
        self._top = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Courses")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def set_rows(self, rows: tuple[CourseRow, ...], current: str) -> None:
        """Show these courses."""
        self._rows, self._current = rows, current
        self._keep_in_sight()
        words = [
            f"{row.name}, {TAP_WORDS.get(row.tap, '')}, {row.peak}, {row.finding}" for row in rows
        ]
        self.setAccessibleDescription("; ".join(words))
        self.update()

    def _keep_in_sight(self) -> None:
        """The chosen row among those that are shown."""
        index = next((i for i, row in enumerate(self._rows) if row.key == self._current), -1)
        if index >= 0:
            self._top = min(self._top, index)
            self._top = max(self._top, index - MOST_ROWS + 1)
        self._top = max(0, min(self._top, len(self._rows) - MOST_ROWS))

    @property
    def shown(self) -> tuple[CourseRow, ...]:
        """The rows that are in sight."""
        return self._rows[self._top : self._top + MOST_ROWS]

    def sizeHint(self) -> QSize:
        return scaled_size(600, ROW * MOST_ROWS + 4)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(300, ROW * MOST_ROWS + 4)

    def wheelEvent(self, event: QWheelEvent) -> None:
        step = -1 if event.angleDelta().y() > 0 else 1
        self._top = max(0, min(self._top + step, len(self._rows) - MOST_ROWS))
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = int(self.at(event.position()).y() // ROW) + self._top
        if 0 <= index < len(self._rows):
            self.chosen.emit(self._rows[index].key)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()), 0)
        keys = [row.key for row in self._rows]
        if not step or self._current not in keys:
            super().keyPressEvent(event)
            return
        index = keys.index(self._current) + step
        if 0 <= index < len(keys):
            self.chosen.emit(keys[index])

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent):
            index = int(self.at(QPointF(event.pos())).y() // ROW) + self._top
            if 0 <= index < len(self._rows):
                QToolTip.showText(event.globalPos(), self.tip(index), self)
                return True
        return super().event(event)

    def tip(self, index: int) -> str:
        """A row in full, and what its figure is."""
        row = self._rows[index]
        source = (
            "Peak of the last take or pass, as recorded: 20 log10 of the largest sample"
            if row.peak.startswith("last")
            else "Loudest peak of the instrument's excerpt, played through the course"
        )
        shown = row.peak if any(letter.isdigit() for letter in row.peak) else ""
        parts = (row.name, own_word("course"), row.finding, f"{shown}. {source}." if shown else "")
        return tip("\n".join(part for part in parts if part))

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.update()
        super().focusInEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.update()
        super().focusOutEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        look = theme.current()
        painter = self.canvas()
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        # Figures are told whole; names and words share what is left.
        painter.setFont(theme.figure_font(10))
        wide = (painter.fontMetrics().horizontalAdvance(row.peak) for row in self._rows)
        figures = max(wide, default=0) + 4.0
        ends = max(self.wide * 0.59, 0.25 * self.wide + figures)
        for index, row in enumerate(self.shown):
            box = QRectF(0, index * ROW, self.wide, ROW)
            here = row.key == self._current
            if here:
                painter.fillRect(box, look.colour("raised"))
                painter.fillRect(QRectF(0, box.top(), 4, ROW), look.colour("amp"))
            paint_mark(painter, QRectF(14, box.top() + 3, 16, 16), row.tap, look)
            painter.setFont(theme.text_font(10, bold=here))
            painter.setPen(look.colour("ink"))
            name = QRectF(40, box.top(), ends - figures - 50, ROW)
            fit = painter.fontMetrics()
            elided = Qt.TextElideMode.ElideRight
            painter.drawText(name, left, fit.elidedText(row.name, elided, int(name.width())))
            painter.setFont(theme.figure_font(10))
            figure = QRectF(ends - figures, box.top(), figures, ROW)
            painter.drawText(figure, right, row.peak)
            painter.setFont(theme.text_font(10))
            painter.setPen(look.colour("danger" if row.serious else "muted"))
            area = QRectF(ends + 14, box.top(), self.wide - ends - 26, ROW)
            words = painter.fontMetrics().elidedText(row.finding, elided, int(area.width()))
            painter.drawText(area, right, words)
        if len(self._rows) > MOST_ROWS:
            part = self.high / len(self._rows)
            bar = QRectF(self.wide - 5, self._top * part, 4, MOST_ROWS * part)
            painter.fillRect(bar, look.colour("muted"))
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawLine(self.edge.bottomLeft(), self.edge.bottomRight())
        if self.hasFocus():
            painter.setPen(QPen(look.colour("di"), 2))
            painter.drawRect(self.box.adjusted(1, 1, -1, -2))
