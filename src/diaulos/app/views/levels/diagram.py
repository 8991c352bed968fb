"""The level diagram: a column per station with floor and ceiling, the signal a ribbon through
them, noise beneath. What clips first is where the ribbon meets a ceiling."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QFocusEvent,
    QGuiApplication,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from diaulos.app import theme
from diaulos.app.views.levels.columns import Column, columns_of
from diaulos.app.widgets.marks import TAP_PATTERNS, TAP_TOKENS
from diaulos.figures import level, number
from diaulos.rig.levels.diagram import LevelDiagram
from diaulos.units import LOWEST_DB
from diaulos.work.rigs.verdicts import stations_table

AXIS = 40
RIGHT_AXIS = 42
LEAST_COLUMN = 76
TOP, FOOT = 6, 78
"""Room above the drawing; below it for the names, five lines at most."""
LOWEST_DBU, HIGHEST_DBU = -130.0, 36.0
CEILING_GAP = 17


@dataclass(frozen=True)
class Laid:
    """Another course laid over the one that is shown."""

    name: str
    diagram: LevelDiagram


class LevelDiagramWidget(QWidget):
    """The drawing, with a chosen column for the keyboard."""

    chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Level diagram")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.diagram: LevelDiagram | None = None
        self.columns: tuple[Column, ...] = ()
        self.before: tuple[Column, ...] = ()
        self.laid: tuple[Laid, ...] = ()
        self.heard_dbfs: float | None = None
        self.target_dbfs: float | None = None
        self.statistic = "peak"
        self.message = ""
        self.everything = False
        self.index = 0

    # --- what is shown ---

    def show_diagram(
        self,
        diagram: LevelDiagram | None,
        *,
        before: LevelDiagram | None = None,
        laid: tuple[Laid, ...] = (),
        heard_dbfs: float | None = None,
        target_dbfs: float | None = None,
        statistic: str = "peak",
        message: str = "",
    ) -> None:
        """A course; `before` is the same one ahead of a question, `heard_dbfs` the peak of a
        sound check, `message` what is said where there is no course."""
        self.diagram, self.laid, self.message = diagram, laid, message
        self.heard_dbfs, self.target_dbfs, self.statistic = heard_dbfs, target_dbfs, statistic
        every = self.everything
        self.columns = columns_of(diagram, everything=every) if diagram is not None else ()
        keys = {column.station.place.key for column in self.columns}
        self.before = ()
        if before is not None:
            self.before = tuple(
                column
                for column in columns_of(before, everything=True)
                if column.station.place.key in keys
            )
        self.index = min(self.index, max(0, len(self.columns) - 1))
        self.setMinimumWidth(AXIS + RIGHT_AXIS + LEAST_COLUMN * max(1, len(self.columns)))
        self.setAccessibleDescription(self.words())
        self.updateGeometry()
        self.update()

    def words(self) -> str:
        """The drawing for those who do not see it."""
        if self.diagram is None:
            return self.message
        parts = [self._column_words(column) for column in self.columns]
        return ". ".join(parts)

    def _column_words(self, column: Column) -> str:
        station = column.station
        text = f"{station.place.name}: peak {level(station.peak, station.unit)}"
        if station.noise > LOWEST_DB:
            text += f", noise {level(station.noise, station.unit, 0)}"
        room = station.headroom_db
        if room is None:
            return text
        return text + (
            f", clips by {number(-room)} dB" if room < 0 else f", {number(room)} dB left"
        )

    def choose(self, index: int) -> None:
        """Another column."""
        if self.columns:
            self.index = max(0, min(index, len(self.columns) - 1))
            self.chosen.emit(self.index)
            self.update()

    # --- geometry ---

    def sizeHint(self) -> QSize:
        return QSize(AXIS + RIGHT_AXIS + LEAST_COLUMN * max(1, len(self.columns)), 380)

    def minimumSizeHint(self) -> QSize:
        return QSize(AXIS + RIGHT_AXIS + LEAST_COLUMN * max(1, len(self.columns)), 240)

    @property
    def column_width(self) -> float:
        """Of each column."""
        return (self.width() - AXIS - RIGHT_AXIS) / max(1, len(self.columns))

    def _well(self, index: int) -> QRectF:
        width = self.column_width
        return QRectF(AXIS + index * width, TOP, width, self.height() - TOP - FOOT)

    def _scale(self) -> tuple[float, float]:
        """Lowest and highest level of the axis: what is there, in steps of ten."""
        tops = [HIGHEST_DBU - 20.0]
        for column in self.columns:
            station = column.station
            tops.append(column.height(station.peak) + 8.0)
            if station.ceiling is not None:
                tops.append(column.height(station.ceiling) + 8.0)
        quiet = [
            column.height(column.station.noise)
            for column in self.columns
            if column.station.noise > LOWEST_DB
        ]
        low = min([*quiet, -80.0]) - 6.0
        return max(LOWEST_DBU, 10.0 * (low // 10.0)), min(60.0, 10.0 * (max(tops) // 10.0 + 1.0))

    def _y(self, value: float) -> float:
        low, high = self._scale()
        share = (value - low) / (high - low)
        return self.height() - FOOT - min(1.0, max(0.0, share)) * (self.height() - TOP - FOOT)

    # --- painting ---

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        look = theme.current()
        if not self.columns:
            painter.setPen(look.colour("muted"))
            painter.setFont(theme.text_font(11))
            area = QRectF(self.rect()).adjusted(40, 20, -40, -20)
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(area, int(flags), self.message)
            return
        self._paint_axis(painter)
        for index, column in enumerate(self.columns):
            self._paint_column(painter, index, column)
        self._paint_laid(painter)
        self._paint_before(painter)
        self._paint_ribbon(painter)
        self._paint_digital_axis(painter)
        for index, column in enumerate(self.columns):
            self._paint_figures(painter, index, column)
        if self.hasFocus():
            painter.setPen(QPen(look.colour("di"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self._well(self.index).adjusted(3, -2, -3, FOOT - 4))

    def _paint_axis(self, painter: QPainter) -> None:
        look = theme.current()
        low, high = self._scale()
        painter.setFont(theme.figure_font(8))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for value in range(int(low), int(high) + 1, 10):
            y = self._y(float(value))
            strong = value % 20 == 0
            painter.setPen(QPen(look.faint("line", 0.8 if strong else 0.35), 1))
            painter.drawLine(QPointF(AXIS, y), QPointF(self.width() - RIGHT_AXIS, y))
            if strong:
                painter.setPen(look.colour("muted"))
                painter.drawText(QRectF(0, y - 8, AXIS - 5, 16), right, number(value, 0))
        painter.setPen(look.colour("muted"))
        painter.setFont(theme.text_font(8))
        painter.drawText(QRectF(0, self.height() - FOOT + 2, AXIS - 5, 16), right, "dBu")

    def _paint_digital_axis(self, painter: QPainter) -> None:
        """The other scale of the last converter, at the right."""
        column = self.columns[-1]
        if column.station.unit != "dBFS":
            return
        look = theme.current()
        painter.setFont(theme.figure_font(8))
        painter.setPen(look.colour("muted"))
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        x = self.width() - RIGHT_AXIS
        low, high = self._scale()
        for value in range(0, -160, -20):
            at = column.height(float(value))
            if low < at < high:
                y = self._y(at)
                painter.drawText(QRectF(x + 4, y - 8, RIGHT_AXIS - 4, 16), left, number(value, 0))
        painter.setFont(theme.text_font(8))
        painter.drawText(QRectF(x + 2, self.height() - FOOT + 2, RIGHT_AXIS, 16), left, "dBFS")

    def _paint_column(self, painter: QPainter, index: int, column: Column) -> None:
        look = theme.current()
        well = self._well(index).adjusted(7, 0, -7, 0)
        station = column.station
        top = self._y(column.height(station.ceiling)) if station.ceiling is not None else TOP
        body = QRectF(well.left(), top, well.width(), well.bottom() - top)
        painter.fillRect(body, look.colour("raised"))
        if station.noise > LOWEST_DB:
            floor = self._y(column.height(station.noise))
            hatch = look.faint("muted", 0.55)
            area = QRectF(well.left(), floor, well.width(), well.bottom() - floor)
            painter.fillRect(area, QBrush(hatch, Qt.BrushStyle.BDiagPattern))
            painter.setPen(QPen(look.colour("muted"), 1.2))
            painter.drawLine(area.topLeft(), area.topRight())
        painter.setPen(QPen(look.colour("line"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawLine(body.topLeft(), body.bottomLeft())
        painter.drawLine(body.topRight(), body.bottomRight())
        if station.ceiling is not None:
            first = self.diagram is not None and self.diagram.first_clip is not None and (
                self.diagram.first_clip.place.key == station.place.key
            )  # fmt: skip
            painter.setPen(QPen(look.colour("ink"), 4.0 if first else 2.0))
            painter.drawLine(body.topLeft(), body.topRight())
        if column.station.place.key.endswith(".converter") and self.target_dbfs is not None:
            self._paint_target(painter, column, well)
        self._paint_title(painter, index, column)

    def _paint_target(self, painter: QPainter, column: Column, well: QRectF) -> None:
        """The target as a bracket at the converter that records."""
        if column is not self._recording():
            return
        assert self.target_dbfs is not None
        y = self._y(column.height(self.target_dbfs))
        painter.setPen(QPen(theme.current().colour("good"), 2.0))
        for x, way in ((well.left() - 4, 1.0), (well.right() + 4, -1.0)):
            painter.drawLine(QPointF(x, y - 6), QPointF(x, y + 6))
            painter.drawLine(QPointF(x, y), QPointF(x + way * 12, y))

    def _recording(self) -> Column | None:
        found = [c for c in self.columns if c.station.place.key.endswith(".converter")]
        return found[-1] if found else None

    def _paint_title(self, painter: QPainter, index: int, column: Column) -> None:
        look = theme.current()
        well = self._well(index)
        flags = int(Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop)
        flags |= int(Qt.TextFlag.TextWordWrap)
        top = self.height() - FOOT + 4.0
        device, place = column.title
        for text, token, bold, most in ((device, "ink", True, 2.0), (place, "muted", False, 3.0)):
            painter.setFont(theme.text_font(8, bold=bold))
            painter.setPen(look.colour(token))
            line = painter.fontMetrics().lineSpacing()
            area = QRectF(well.left() + 1, top, well.width() - 2, most * line)
            used = painter.boundingRect(area, flags, text)
            painter.drawText(area, flags, text)
            top += min(used.height(), most * line)

    def _edges(self, columns: tuple[Column, ...], typical: bool) -> list[QPointF]:
        """The ribbon's edge: level through each column, straight between two."""
        points = []
        places = {c.station.place.key: i for i, c in enumerate(self.columns)}
        for column in columns:
            index = places.get(column.station.place.key)
            if index is None:
                continue
            well = self._well(index)
            station = column.station
            y = self._y(column.height(station.typical if typical else station.peak))
            points += [QPointF(well.left() + 9, y), QPointF(well.right() - 9, y)]
        return points

    def _paint_ribbon(self, painter: QPainter) -> None:
        look = theme.current()
        assert self.diagram is not None
        token = TAP_TOKENS.get(self.diagram.course.tap, "ink")
        upper, lower = self._edges(self.columns, False), self._edges(self.columns, True)
        colour = look.colour(token)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look.faint(token, 0.30))
        painter.drawPolygon(QPolygonF([*upper, *reversed(lower)]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(colour, 2.6))
        painter.drawPolyline(QPolygonF(upper))
        painter.setPen(QPen(colour, 1.0))
        painter.drawPolyline(QPolygonF(lower))

    def _paint_before(self, painter: QPainter) -> None:
        if not self.before:
            return
        look = theme.current()
        painter.setPen(QPen(look.colour("ink"), 1.6, Qt.PenStyle.DashLine))
        points = self._edges(self.before, False)
        if points:
            painter.drawPolyline(QPolygonF(points))
            painter.setFont(theme.text_font(8))
            painter.drawText(points[0] + QPointF(2, 12), "before")

    def _paint_laid(self, painter: QPainter) -> None:
        """Other courses from the same left to the same right edge, each in its own pattern."""
        look = theme.current()
        if not self.laid:
            return
        left = AXIS + self.column_width / 2
        width = self.column_width * (len(self.columns) - 1)
        for number_, one in enumerate(self.laid):
            columns = columns_of(one.diagram)
            tap = one.diagram.course.tap
            pen = QPen(look.colour(TAP_TOKENS.get(tap, "ink")), 1.8)
            pen.setStyle(TAP_PATTERNS.get(tap, Qt.PenStyle.SolidLine))
            painter.setPen(pen)
            share = 1.0 / max(1, len(columns) - 1)
            points = [
                QPointF(left + index * share * width, self._y(c.height(c.station.peak)))
                for index, c in enumerate(columns)
            ]
            painter.drawPolyline(QPolygonF(points))
            painter.setFont(theme.text_font(8, bold=True))
            at = points[len(points) // 2]
            painter.drawText(at + QPointF(4, -5 - 11 * (number_ % 2)), one.name)

    def _paint_figures(self, painter: QPainter, index: int, column: Column) -> None:
        look = theme.current()
        station = column.station
        well = self._well(index).adjusted(7, 0, -7, 0)
        y = self._y(column.height(station.peak))
        room = station.headroom_db
        clips = room is not None and room < -0.05
        first = self.diagram is not None and self.diagram.first_clip is not None and (
            self.diagram.first_clip.place.key == station.place.key
        )  # fmt: skip
        painter.setFont(theme.figure_font(9, bold=True))
        unit = "dBFS" if station.unit == "dBFS" else "dBu"
        text = f"{number(station.peak)}"
        below = y + 11
        if station.ceiling is not None:
            ceiling = self._y(column.height(station.ceiling))
            if abs(below - (ceiling - CEILING_GAP / 2.0)) < 15.0 or (
                clips and below < ceiling + 20
            ):
                below = min(y, ceiling - CEILING_GAP) - 9.0  # clear of the ceiling's own figure
        self._boxed(painter, QPointF(well.center().x(), below), text, "ink")
        if station.ceiling is not None:
            top = self._y(column.height(station.ceiling))
            painter.setFont(theme.figure_font(8))
            painter.setPen(look.colour("muted"))
            words = f"{number(station.ceiling, 1 if station.ceiling % 1 else 0)} {unit}"
            centre = Qt.AlignmentFlag.AlignCenter
            above = QRectF(well.left() - 6, top - CEILING_GAP, well.width() + 12, 15)
            painter.drawText(above, centre, words)
            if clips:
                self._filled(painter, QPointF(well.center().x(), top + 9), "CLIPS")
            elif first and room is not None:
                painter.setFont(theme.figure_font(8, bold=True))
                middle = (top + y) / 2.0
                self._boxed(
                    painter, QPointF(well.center().x(), middle), f"{number(room)} dB", "ink"
                )
                painter.setPen(QPen(look.colour("ink"), 1.2))
                x = well.left() + 8
                painter.drawLine(QPointF(x, top + 3), QPointF(x, y - 3))
        if station.noise > LOWEST_DB:
            floor = self._y(column.height(station.noise))
            painter.setFont(theme.figure_font(8))
            self._boxed(
                painter, QPointF(well.center().x(), floor + 9), number(station.noise, 0), "muted"
            )
        if self.heard_dbfs is not None and column is self._recording():
            self._paint_heard(painter, column, well)

    def _paint_heard(self, painter: QPainter, column: Column, well: QRectF) -> None:
        """The peak of the sound check: a lozenge with its figure."""
        assert self.heard_dbfs is not None
        look = theme.current()
        y = self._y(column.height(self.heard_dbfs))
        x = well.right() - 2
        painter.setPen(QPen(look.colour("ink"), 1.6))
        painter.setBrush(look.colour("paper"))
        painter.drawPolygon(
            QPolygonF([QPointF(x - 6, y), QPointF(x, y - 6), QPointF(x + 6, y), QPointF(x, y + 6)])
        )
        painter.setFont(theme.figure_font(8, bold=True))
        beside = QPointF(self.width() - RIGHT_AXIS / 2.0 + 4, y)
        self._boxed(painter, beside, number(self.heard_dbfs), "ink")

    def _boxed(self, painter: QPainter, centre: QPointF, text: str, token: str) -> None:
        """A figure on a patch of paper, so that no line runs through it."""
        look = theme.current()
        width = painter.fontMetrics().horizontalAdvance(text) + 6
        height = painter.fontMetrics().height()
        area = QRectF(centre.x() - width / 2, centre.y() - height / 2, width, height)
        painter.fillRect(area, look.faint("raised", 0.85))
        painter.setPen(look.colour(token))
        painter.drawText(area, Qt.AlignmentFlag.AlignCenter, text)

    def _filled(self, painter: QPainter, centre: QPointF, text: str) -> None:
        look = theme.current()
        painter.setFont(theme.text_font(8, bold=True))
        width = painter.fontMetrics().horizontalAdvance(text) + 10
        area = QRectF(centre.x() - width / 2, centre.y() - 8, width, 16)
        painter.fillRect(area, look.colour("danger"))
        painter.setPen(look.colour("danger_ink"))
        painter.drawText(area, Qt.AlignmentFlag.AlignCenter, text)

    # --- hands ---

    def _column_at(self, x: float) -> int:
        return int((x - AXIS) // max(1.0, self.column_width))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = self._column_at(event.position().x())
        if 0 <= index < len(self.columns):
            self.choose(index)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if step:
            self.choose(self.index + step)
            return
        super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.update()
        super().focusInEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.update()
        super().focusOutEvent(event)

    def event(self, event) -> bool:  # type: ignore[no-untyped-def]
        if isinstance(event, QHelpEvent):
            index = self._column_at(float(event.pos().x()))
            if 0 <= index < len(self.columns):
                QToolTip.showText(event.globalPos(), self.tip(index), self)
                return True
        return bool(super().event(event))

    def tip(self, index: int) -> str:
        """A column in full, with where its figures come from."""
        column = self.columns[index]
        station = column.station
        lines = [
            station.place.name,
            f"Loudest peak {level(station.peak, station.unit)} at 1 kHz, "
            f"typical {level(station.typical, station.unit)} (RMS of loud playing)",
        ]
        if station.headroom_db is not None and station.ceiling is not None:
            lines.append(
                f"Headroom {number(station.headroom_db)} dB = ceiling "
                f"{level(station.ceiling, station.unit)} − peak"
            )
        if station.noise > LOWEST_DB:
            lines.append(
                f"Noise {level(station.noise, station.unit)}, 20 Hz to 20 kHz; "
                f"A-weighted {level(station.noise_a, station.unit)}"
            )
        full = station.place.full_scale_dbu
        if full is not None:
            lines.append(f"0 dBFS here is {level(full, 'dBu')}; dBFS = dBu − {number(full)}")
        return "\n".join(lines)

    # --- copies ---

    def copy_image(self) -> None:
        """The drawing into the clipboard."""
        picture = QPixmap(self.size())
        picture.fill(theme.current().colour("paper"))
        self.render(picture)
        QGuiApplication.clipboard().setPixmap(picture)

    def copy_csv(self) -> None:
        """Every station with its figures into the clipboard."""
        stations = self.diagram.stations if self.diagram is not None else ()
        QGuiApplication.clipboard().setText(stations_table(stations).csv())
