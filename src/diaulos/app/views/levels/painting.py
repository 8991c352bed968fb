"""How a level diagram is painted."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QBrush,
    QFontMetrics,
    QPainter,
    QPen,
    QPolygonF,
)

from diaulos.app import theme
from diaulos.app.widgets.marks import TAP_PATTERNS, TAP_TOKENS
from diaulos.app.widgets.pictured import Pictured
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.rig.levels.diagram import LevelDiagram
from diaulos.units import LOWEST_DB
from diaulos.work.rigs.columns import Column, columns_of

AXIS = 40
RIGHT_AXIS = 42
CEILING_GAP = 17


TOP, FOOT = 6, 92
"""Room above the drawing; below it for the names, five lines at most."""


LOWEST_DBU, HIGHEST_DBU = -130.0, 36.0


@dataclass(frozen=True)
class Laid:
    """Another course laid over the one that is shown."""

    name: str
    diagram: LevelDiagram


def fit_words(text: str, metrics: QFontMetrics, width: int) -> str:
    """Text whose every word has room in a column: it is broken between words only. The tooltip
    has it whole."""
    end = Qt.TextElideMode.ElideRight
    return " ".join(metrics.elidedText(word, end, width) for word in text.split())


class LevelPainting(Pictured):
    """Columns, ribbon, axes, figures."""

    diagram: LevelDiagram | None
    columns: tuple[Column, ...]
    before: tuple[Column, ...]
    laid: tuple[Laid, ...]
    heard_dbfs: float | None
    target_dbfs: float | None
    statistic: str
    message: str
    everything: bool
    index: int

    @property
    def column_width(self) -> float:
        """Of each column."""
        return (self.wide - AXIS - RIGHT_AXIS) / max(1, len(self.columns))

    def _well(self, index: int) -> QRectF:
        width = self.column_width
        return QRectF(AXIS + index * width, TOP, width, self.high - TOP - FOOT)

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
        return self.high - FOOT - min(1.0, max(0.0, share)) * (self.high - TOP - FOOT)

    def _paint_axis(self, painter: QPainter) -> None:
        look = theme.current()
        low, high = self._scale()
        painter.setFont(theme.figure_font(9))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for value in range(int(low), int(high) + 1, 10):
            y = self._y(float(value))
            strong = value % 20 == 0
            painter.setPen(QPen(look.faint("line", 0.8 if strong else 0.35), 1))
            painter.drawLine(QPointF(AXIS, y), QPointF(self.wide - RIGHT_AXIS, y))
            if strong:
                painter.setPen(look.colour("muted"))
                painter.drawText(QRectF(0, y - 8, AXIS - 5, 16), right, number(value, 0))
        painter.setPen(look.colour("muted"))
        painter.setFont(theme.text_font(9))
        painter.drawText(QRectF(0, self.high - FOOT + 2, AXIS - 5, 16), right, "dBu")

    def _paint_digital_axis(self, painter: QPainter) -> None:
        """The other scale of the last converter, at the right."""
        column = self.columns[-1]
        if column.station.unit != "dBFS":
            return
        look = theme.current()
        painter.setFont(theme.figure_font(9))
        painter.setPen(look.colour("muted"))
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        x = self.wide - RIGHT_AXIS
        low, high = self._scale()
        for value in range(0, -160, -20):
            at = column.height(float(value))
            if low < at < high:
                y = self._y(at)
                painter.drawText(QRectF(x + 4, y - 8, RIGHT_AXIS - 4, 16), left, number(value, 0))
        painter.setFont(theme.text_font(9))
        painter.drawText(QRectF(x + 2, self.high - FOOT + 2, RIGHT_AXIS, 16), left, "dBFS")

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
        top = self.high - FOOT + 4.0
        device, place = column.title
        for text, token, bold, most in ((device, "ink", True, 2.0), (place, "muted", False, 3.0)):
            painter.setFont(theme.text_font(9, bold=bold))
            painter.setPen(look.colour(token))
            line = painter.fontMetrics().lineSpacing()
            area = QRectF(well.left() + 2, top, well.width() - 4, most * line)
            fitted = fit_words(text, painter.fontMetrics(), int(area.width()))
            used = painter.boundingRect(area, flags, fitted)
            while used.height() > most * line and " " in fitted:
                fitted = fitted.rpartition(" ")[0] + "\N{HORIZONTAL ELLIPSIS}"
                used = painter.boundingRect(area, flags, fitted)
            painter.drawText(area, flags, fitted)
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
            painter.setFont(theme.text_font(9))
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
            painter.setFont(theme.text_font(9, bold=True))
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
            painter.setFont(theme.figure_font(9))
            painter.setPen(look.colour("muted"))
            words = f"{number(station.ceiling, 1 if station.ceiling % 1 else 0)} {unit}"
            centre = Qt.AlignmentFlag.AlignCenter
            above = QRectF(well.left() - 6, top - CEILING_GAP, well.width() + 12, 15)
            painter.drawText(above, centre, words)
            if clips:
                self._filled(painter, QPointF(well.center().x(), top + 9), "CLIPS")
            elif first and room is not None:
                painter.setFont(theme.figure_font(9, bold=True))
                middle = (top + y) / 2.0
                self._boxed(
                    painter, QPointF(well.center().x(), middle), f"{number(room)} dB", "ink"
                )
                painter.setPen(QPen(look.colour("ink"), 1.2))
                x = well.left() + 8
                painter.drawLine(QPointF(x, top + 3), QPointF(x, y - 3))
        if station.noise > LOWEST_DB:
            floor = self._y(column.height(station.noise))
            painter.setFont(theme.figure_font(9))
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
        painter.setFont(theme.figure_font(9, bold=True))
        beside = QPointF(self.wide - RIGHT_AXIS / 2.0 + 4, y)
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
        painter.setFont(theme.text_font(9, bold=True))
        width = painter.fontMetrics().horizontalAdvance(text) + 10
        area = QRectF(centre.x() - width / 2, centre.y() - 8, width, 16)
        painter.fillRect(area, look.colour("danger"))
        painter.setPen(look.colour("danger_ink"))
        painter.drawText(area, Qt.AlignmentFlag.AlignCenter, text)
