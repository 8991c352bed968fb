"""The body of Takes: a large level window for every armed track."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QSizePolicy, QWidget

from diaulos.app import theme
from diaulos.app.figures import counted, number
from diaulos.app.widgets.level_window import LevelFigures, paint_level_window
from diaulos.app.widgets.marks import TAP_TOKENS, TAP_WORDS, paint_mark

LEAST_ROW, MOST_ROW = 58, 104


@dataclass(frozen=True)
class BoardRow:
    """One armed track: planned levels, or those of the moment while it records."""

    key: str
    name: str
    tap: str
    figures: LevelFigures
    held_dbfs: float
    clips: int = 0
    live: bool = False

    def words(self) -> str:
        """For those who do not see it."""
        clips = f", {counted(self.clips, 'clip')}" if self.clips else ""
        state = "now" if self.live else "planned"
        return f"{self.name}, {TAP_WORDS.get(self.tap, '')}, {state} {self.figures.words()}{clips}"


class Board(QWidget):
    """Paints the rows; asks for nothing."""

    def __init__(self) -> None:
        super().__init__()
        self._rows: tuple[BoardRow, ...] = ()
        self._message = ""
        self._still_key: tuple[object, ...] = ()
        self._still_picture = QPixmap()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Armed tracks")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    @property
    def rows(self) -> tuple[BoardRow, ...]:
        """What is shown."""
        return self._rows

    def show_rows(self, rows: tuple[BoardRow, ...], message: str = "") -> None:
        """Show these tracks, or say why there is none."""
        changed = len(rows) != len(self._rows)
        self._rows, self._message = rows, message
        if changed or not rows or not rows[0].live:
            self.setAccessibleDescription("; ".join(row.words() for row in rows) or message)
            self.setMinimumHeight(LEAST_ROW * max(1, len(rows)))
            self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(520, MOST_ROW * max(1, min(5, len(self._rows))))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        look = theme.current()
        if not self._rows:
            painter.setPen(look.colour("muted"))
            painter.setFont(theme.text_font(12))
            flags = int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap)
            painter.drawText(QRectF(self.rect()).adjusted(40, 0, -40, 0), flags, self._message)
            return
        painter.drawPixmap(0, 0, self._still())
        for index, row in enumerate(self._rows):
            self._paint_moving(painter, self._area(index), row)
        if self.hasFocus():
            painter.setPen(QPen(look.colour("di"), 2))
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))

    def _area(self, index: int) -> QRectF:
        height = min(float(MOST_ROW), self.height() / len(self._rows))
        return QRectF(0, index * height, self.width(), height)

    def _still(self) -> QPixmap:
        """What does not move while it records: painted once, not thirty times a second."""
        ratio = self.devicePixelRatioF()
        names = tuple((row.name, row.tap, row.live) for row in self._rows)
        key = (names, self.size().toTuple(), ratio, theme.current().name)
        if key != self._still_key:
            self._still_key = key
            self._still_picture = QPixmap(self.size() * ratio)
            self._still_picture.setDevicePixelRatio(ratio)
            self._still_picture.fill(theme.current().colour("paper"))
            painter = QPainter(self._still_picture)
            for index, row in enumerate(self._rows):
                self._paint_still(painter, self._area(index), row)
            painter.end()
        return self._still_picture

    def _paint_still(self, painter: QPainter, area: QRectF, row: BoardRow) -> None:
        look = theme.current()
        middle = area.center().y()
        paint_mark(painter, QRectF(10, middle - 10, 20, 20), row.tap, look)
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.setPen(look.colour("ink"))
        painter.setFont(theme.text_font(14, bold=True))
        name = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, 168)
        painter.drawText(QRectF(40, middle - 22, 172, 26), left, name)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        state = "now" if row.live else "as planned"
        tap = f"{TAP_WORDS.get(row.tap, '')}, {state}"
        painter.drawText(QRectF(40, middle + 3, 172, 18), left, tap)
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())

    def _paint_moving(self, painter: QPainter, area: QRectF, row: BoardRow) -> None:
        look = theme.current()
        middle = area.center().y()
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        figure = 150.0
        window = QRectF(216, middle - 23, max(60.0, area.width() - 216 - figure - 16), 46)
        token = TAP_TOKENS.get(row.tap, "ink")
        paint_level_window(painter, window, row.figures, token)
        painter.setFont(theme.figure_font(24, bold=True))
        clipped = row.clips > 0
        painter.setPen(look.colour("danger" if clipped else "ink"))
        far = QRectF(area.right() - figure - 6, middle - 26, figure, 34)
        painter.drawText(far, right, number(row.held_dbfs))
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("danger" if clipped else "muted"))
        planned = "loudest dBFS" if row.live else "peak dBFS"
        under = counted(row.clips, "clip") if clipped else planned
        painter.drawText(QRectF(far.left(), middle + 9, figure, 16), right, under)
