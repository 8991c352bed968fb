"""The body of Takes: a large level window for every armed track."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip

from diaulos.app import theme
from diaulos.app.widgets.labels import tip
from diaulos.app.widgets.level_window import paint_level_window
from diaulos.app.widgets.marks import TAP_TOKENS, paint_mark
from diaulos.app.widgets.painted import least_height, scaled_size
from diaulos.app.widgets.pictured import Pictured
from diaulos.figures import TAP_WORDS, LevelFigures, counted, number
from diaulos.records import dataclass

LEAST_ROW, MOST_ROW = 48, 104
FAR_ROW = 190
MOST_NAME, MOST_FIGURE = 172.0, 150.0


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
    last_clip: str = ""
    """When it clipped last."""
    armed: bool = True

    @property
    def clip_words(self) -> str:
        """How often it clipped, and when last."""
        return f"{counted(self.clips, 'clip')}, {self.last_clip}".rstrip(", ")

    def tip(self) -> str:
        """The figures, and where they come from."""
        source = (
            "Large: loudest sample since the recording began. Line and bar: peak and RMS now"
            if self.live
            else "Planned: the instrument's excerpt, played through the course; typical: RMS of "
            "the loudest 400 ms"
        )
        room = "Headroom = clip point of the converter \N{MINUS SIGN} loudest peak"
        return tip(f"{self.words()}\n{source}\n{room}")

    def words(self) -> str:
        """For those who do not see it."""
        clips = f", {self.clip_words}" if self.clips else ""
        state = "now" if self.live else "planned"
        if not self.armed:
            state = f"not armed, {state}"
        return f"{self.name}, {TAP_WORDS.get(self.tap, '')}, {state} {self.figures.words()}{clips}"


class Board(Pictured):
    """Paints the rows; asks for a track's switch to be turned.

    What is planned stands still; while it records only names and lines do, and thirty times a
    second the levels are painted over them.
    """

    arm_asked = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._rows: tuple[BoardRow, ...] = ()
        self._message = ""
        self.far = False
        """Readable at two metres."""
        self._cursor = 0
        self._still: tuple[object, ...] = ()
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
            least_height(self, LEAST_ROW * max(1, len(rows)))
            self.updateGeometry()
        live = any(row.live for row in rows)
        still = (message, *((row.name, row.tap, row.armed) for row in rows)) if live else (
            message, *rows
        )  # fmt: skip
        if (live, still) == self._still:
            self.stir()
        else:
            self._still = (live, still)
            self.update()

    def set_far(self, far: bool) -> None:
        """Large enough for two metres, or for the lap."""
        self.far = far
        self.update()

    def sizeHint(self) -> QSize:
        return scaled_size(520, MOST_ROW * max(1, min(5, len(self._rows))))

    def draw(self, painter: QPainter) -> None:
        """Names and lines; the levels, too, where they are planned ones."""
        if not self._rows:
            painter.setPen(theme.current().colour("muted"))
            painter.setFont(theme.text_font(12))
            flags = int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap)
            painter.drawText(self.box.adjusted(40, 0, -40, 0), flags, self._message)
        for index, row in enumerate(self._rows):
            self._paint_still(painter, self._area(index), row)
            if not row.live:
                self._paint_moving(painter, self._area(index), row)

    def draw_over(self, painter: QPainter) -> None:
        """The levels of the moment, and where the keyboard is."""
        for index, row in enumerate(self._rows):
            if row.live:
                self._paint_moving(painter, self._area(index), row)
        if self._rows and self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.current().colour("di"), 2))
            painter.drawRect(self.box.adjusted(1, 1, -1, -1))
            if self._switches and not self.far:
                switch = self._switch(self._area(min(self._cursor, len(self._rows) - 1)))
                painter.drawRect(switch.adjusted(-3, -3, 3, 3))

    @property
    def _switches(self) -> bool:
        """Whether tracks can be armed now: not while they are recorded."""
        return bool(self._rows) and not any(row.live for row in self._rows)

    def _switch(self, area: QRectF) -> QRectF:
        return QRectF(9, area.center().y() - 7, 14, 14)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and Down go to a track's switch, Enter turns it."""
        key = event.key()
        if not self._switches or key not in (
            Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Return, Qt.Key.Key_Enter
        ):  # fmt: skip
            super().keyPressEvent(event)
            return
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            by = 1 if key == Qt.Key.Key_Down else -1
            self._cursor = max(0, min(len(self._rows) - 1, self._cursor + by))
            self.stir()
        else:
            self.arm_asked.emit(self._rows[min(self._cursor, len(self._rows) - 1)].key)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """A click on a switch turns it."""
        self.setFocus()
        at = self.at(event.position())
        for index, row in enumerate(self._rows):
            near = self._switch(self._area(index)).adjusted(-8, -8, 8, 8)
            if self._switches and not self.far and near.contains(at):
                self._cursor = index
                self.arm_asked.emit(row.key)

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent) and self._rows:
            at = self.at(QPointF(event.pos()))
            for index, row in enumerate(self._rows):
                if self._area(index).contains(at):
                    QToolTip.showText(event.globalPos(), row.tip(), self)
                    return True
        return super().event(event)

    def _area(self, index: int) -> QRectF:
        most = FAR_ROW if self.far else MOST_ROW
        height = min(float(most), self.high / len(self._rows))
        return QRectF(0, index * height, self.wide, height)

    def _columns(self, area: QRectF) -> tuple[float, float]:
        """Room of the name and of the figure; the level window has the rest."""
        share = 0.3 * area.width()
        return min(MOST_NAME, max(96.0, share)), min(MOST_FIGURE, max(112.0, share - 6.0))

    def _paint_still(self, painter: QPainter, area: QRectF, row: BoardRow) -> None:
        look = theme.current()
        middle = area.center().y()
        if self.far:
            self._paint_far_name(painter, area, row)
            return
        if not row.live:
            box = self._switch(area)
            painter.setPen(QPen(look.colour("muted"), 1))
            painter.setBrush(look.colour("ink" if row.armed else "raised"))
            painter.drawRect(box)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            if row.armed:
                painter.setPen(QPen(look.colour("paper"), 2))
                painter.drawPolyline(
                    [QPointF(box.left() + x, box.top() + y) for x, y in ((3, 7), (6, 10), (11, 4))]
                )
        paint_mark(painter, QRectF(30, middle - 10, 20, 20), row.tap, look)
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.setPen(look.colour("ink" if row.armed else "muted"))
        room = self._columns(area)[0] if row.armed else area.width() - 80.0
        painter.setFont(theme.text_font(14, bold=True))
        name = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, int(room))
        painter.drawText(QRectF(58, middle - 22, room, 26), left, name)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        state = "now" if row.live else "as planned" if row.armed else "not armed"
        tap = f"{TAP_WORDS.get(row.tap, '')}, {state}"
        tap = painter.fontMetrics().elidedText(tap, Qt.TextElideMode.ElideRight, int(room))
        painter.drawText(QRectF(58, middle + 3, room, 18), left, tap)
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())

    def _paint_moving(self, painter: QPainter, area: QRectF, row: BoardRow) -> None:
        if self.far:
            self._paint_far(painter, area, row)
            return
        look = theme.current()
        middle = area.center().y()
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        room, figure = self._columns(area)
        if not row.armed:
            return  # it is not recorded: its plan stands in Levels
        begins = 62.0 + room
        window = QRectF(begins, middle - 23, area.width() - begins - figure - 16, 46)
        token = TAP_TOKENS.get(row.tap, "ink")
        paint_level_window(painter, window, row.figures, token)
        painter.setFont(theme.figure_font(24 if figure >= MOST_FIGURE else 20, bold=True))
        clipped = row.clips > 0
        painter.setPen(look.colour("danger" if clipped else "ink"))
        far = QRectF(area.right() - figure - 6, middle - 26, figure, 34)
        painter.drawText(far, right, number(row.held_dbfs))
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("danger" if clipped else "muted"))
        planned = "loudest dBFS" if row.live else "peak dBFS"
        under = row.clip_words if clipped else planned
        painter.drawText(QRectF(far.left(), middle + 9, figure, 16), right, under)

    def _far_size(self, area: QRectF) -> int:
        return max(18, min(72, int(area.height() * 0.40)))

    def _paint_far_name(self, painter: QPainter, area: QRectF, row: BoardRow) -> None:
        look = theme.current()
        size = self._far_size(area)
        middle = area.center().y()
        paint_mark(painter, QRectF(10, middle - 18, 36, 36), row.tap, look)
        painter.setPen(look.colour("ink"))
        room = area.width() * 0.34
        for points in range(int(size * 0.62), 13, -2):  # as large as the whole name fits
            painter.setFont(theme.text_font(points, bold=True))
            if painter.fontMetrics().horizontalAdvance(row.name) <= room:
                break
        name = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, int(room))
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(60, area.top(), room, area.height()), left, name)
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())

    def _paint_far(self, painter: QPainter, area: QRectF, row: BoardRow) -> None:
        look = theme.current()
        size = self._far_size(area)
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        clipped = row.clips > 0 or row.figures.peak >= -0.05
        figure = area.width() * 0.34
        painter.setPen(look.colour("danger" if clipped else "ink"))
        painter.setFont(theme.figure_font(size, bold=True))
        far = QRectF(area.right() - figure - 16, area.top(), figure, area.height())
        painter.drawText(far, right, number(row.held_dbfs))
        window = QRectF(area.width() * 0.34 + 76, area.center().y() - 23,
                        max(60.0, area.width() * 0.30 - 76), 46)  # fmt: skip
        token = TAP_TOKENS.get(row.tap, "ink")
        if clipped:
            # The word, as large as the figure: colour alone is not seen at two metres.
            painter.setFont(theme.text_font(int(size * 0.6), bold=True))
            painter.setPen(look.colour("danger"))
            painter.drawText(window.adjusted(0, -40, 0, 40), Qt.AlignmentFlag.AlignCenter,
                             "CLIPS" if not row.clips else counted(row.clips, "clip"))  # fmt: skip
        else:
            # The same window, twice as large.
            painter.save()
            painter.translate(window.left(), area.center().y() - 46)
            painter.scale(2.0, 2.0)
            paint_level_window(painter, QRectF(0, 0, window.width() / 2, 46), row.figures, token)
            painter.restore()
