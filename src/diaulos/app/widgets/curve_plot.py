"""Level over frequency: labelled at the line's end, with a cursor readout.

The cursor follows the mouse, or the arrow keys; what it reads is written at the top.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import (
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPolygonF,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from diaulos.app import theme
from diaulos.app.widgets.painted import scaled_size
from diaulos.app.widgets.plot import Plot
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.tables import csv_text

LEFT, RIGHT, TOP, BOTTOM = 52, 150, 24, 34
LEAST_RIGHT = 40.0
LEAST_APART = 30.0
"""Between two figures of the axis."""
DECADE_MARKS = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000)
PATTERNS = (
    ("di", Qt.PenStyle.SolidLine),
    ("amp", Qt.PenStyle.DashLine),
    ("modeled", Qt.PenStyle.DotLine),
    ("mic", Qt.PenStyle.DashDotLine),
    ("cabinet", Qt.PenStyle.DashDotDotLine),
    ("ink", Qt.PenStyle.SolidLine),
)
"""Colour and pattern of each line in turn: the pattern tells them apart without colour."""

Real = NDArray[np.float64]
STEPS_DB = (0.5, 1.0, 2.0, 3.0, 6.0, 10.0, 20.0)
"""Between two lines of a fine axis."""


def _unbroken(xs: Real, ys: Real) -> list[tuple[list[float], list[float]]]:
    """A line's points, cut where it has none."""
    there = np.isfinite(ys)
    if there.all():
        return [(xs.tolist(), ys.tolist())]
    cuts = np.flatnonzero(np.diff(there.astype(int))) + 1
    parts = zip(np.split(xs, cuts), np.split(ys, cuts), np.split(there, cuts), strict=True)
    return [(x.tolist(), y.tolist()) for x, y, here in parts if here[0]]


def _last(db: Real) -> float:
    """The level at a line's end."""
    there = db[np.isfinite(db)]
    return float(there[-1]) if there.size else 0.0


@dataclass(frozen=True)
class Curve:
    """One line. `mark_hz` puts a small ring on it (a resonance)."""

    name: str
    db: Real
    mark_hz: float | None = None


class CurvePlot(Plot):
    """Curves over a logarithmic frequency axis."""

    def __init__(
        self,
        parent: QWidget | None = None,
        axis: str = "dB relative to the open pickup",
        *,
        fine: bool = False,
    ) -> None:
        super().__init__(parent)
        self._axis, self._fine, self._step = axis, fine, 10.0
        self._freqs: Real = np.geomspace(20.0, 20_000.0, 2)
        self._curves: tuple[Curve, ...] = ()
        self._range = (-30.0, 10.0)
        self._cursor_hz: float | None = None
        self._right = float(RIGHT)
        """Room for the names, no more than they need."""
        self._chosen = -1
        self._empty = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Level over frequency")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def set_curves(self, freqs_hz: Real, curves: tuple[Curve, ...]) -> None:
        """Show these lines, with gaps where they are NaN; the level axis fits itself in steps of
        10 dB, or (`fine`) as close as there is something to see."""
        self._freqs, self._curves = freqs_hz, curves
        metrics = QFontMetricsF(theme.text_font(9))
        longest = max((metrics.horizontalAdvance(curve.name) for curve in curves), default=0.0)
        self._right = min(float(RIGHT), max(LEAST_RIGHT, longest + 36.0))
        if curves:
            top = max(float(np.nanmax(curve.db)) for curve in curves)
            least = min(float(np.nanmin(curve.db)) for curve in curves)
            bottom = least if self._fine else max(least, top - 50.0)
            self._fit(bottom, top)
        self.setAccessibleDescription("; ".join(self._words(curve) for curve in curves))
        self.update()

    def _fit(self, bottom: float, top: float) -> None:
        if not self._fine:
            self._range = (10.0 * np.floor(bottom / 10.0), 10.0 * np.ceil((top + 1.0) / 10.0))
            return
        # A difference of hundredths is to look like one, not like a mountain.
        spare = max(0.0, 2.0 - (top - bottom)) / 2.0
        bottom, top = bottom - spare, top + spare
        self._step = next((one for one in STEPS_DB if (top - bottom) / one <= 7.0), STEPS_DB[-1])
        low = self._step * np.floor(bottom / self._step)
        self._range = (low, max(low + self._step, self._step * np.ceil(top / self._step)))

    def clear(self, why: str) -> None:
        """Show no line, and this text in their place."""
        self._empty = why
        self.set_curves(self._freqs, ())

    def set_chosen(self, index: int) -> None:
        """The line that is drawn stronger, -1 for none."""
        self._chosen = index
        self.update()

    @property
    def curves(self) -> tuple[Curve, ...]:
        """What is shown."""
        return self._curves

    def read(self, hz: float) -> list[tuple[str, float]]:
        """Name and level of every line at a frequency."""
        at = np.log(np.clip(hz, self._freqs[0], self._freqs[-1]))
        axis = np.log(self._freqs)
        return [(curve.name, float(np.interp(at, axis, curve.db))) for curve in self._curves]

    def _words(self, curve: Curve) -> str:
        at_1k = float(np.interp(np.log(1000.0), np.log(self._freqs), curve.db))
        text = f"{curve.name}: {number(at_1k)} dB at 1 kHz"
        return text + (f", resonance {curve.mark_hz:.0f} Hz" if curve.mark_hz else "")

    def sizeHint(self) -> QSize:
        return scaled_size(560, 260)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(300, 170)

    # --- geometry ---

    def _plot(self) -> QRectF:
        return QRectF(
            LEFT, TOP, max(40, self.wide - LEFT - self._right), max(40, self.high - TOP - BOTTOM)
        )

    def _x(self, hz: float | Real) -> float | Real:
        plot = self._plot()
        low, high = np.log(self._freqs[0]), np.log(self._freqs[-1])
        share: float | Real = (np.log(hz) - low) / (high - low)
        return plot.left() + share * plot.width()

    def _y(self, db: float | Real) -> float | Real:
        plot = self._plot()
        low, high = self._range
        return plot.bottom() - (db - low) / (high - low) * plot.height()

    def _hz_at(self, x: float) -> float:
        plot = self._plot()
        share = min(1.0, max(0.0, (x - plot.left()) / plot.width()))
        low, high = np.log(self._freqs[0]), np.log(self._freqs[-1])
        return float(np.exp(low + share * (high - low)))

    # --- cursor and copies ---

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._cursor_hz = self._hz_at(self.at(event.position()).x())
        self.stir()

    def leaveEvent(self, event: object) -> None:
        if not self.hasFocus():
            self._cursor_hz = None
        self.stir()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: 1.0 / 1.02, Qt.Key.Key_Right: 1.02}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        hz = (self._cursor_hz or 1000.0) * step
        self._cursor_hz = float(np.clip(hz, self._freqs[0], self._freqs[-1]))
        self.stir()

    def as_csv(self) -> str:
        """Hz, then dB of every line."""
        head = ["Hz", *(curve.name for curve in self._curves)]
        rows = (
            [
                f"{hz:.6g}",
                *(
                    f"{curve.db[i]:.4f}" if np.isfinite(curve.db[i]) else ""
                    for curve in self._curves
                ),
            ]
            for i, hz in enumerate(self._freqs)
        )
        return csv_text(head, rows)

    # --- painting ---

    def draw(self, painter: QPainter) -> None:
        look = theme.current()
        plot = self._plot()
        painter.fillRect(plot, look.colour("raised"))
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawRect(plot)
        if not self._curves:
            painter.setFont(theme.text_font(10))
            painter.setPen(look.colour("muted"))
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(plot, flags, self._empty)
            return
        self._paint_axes(painter, plot)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setClipRect(plot)
        for index, curve in enumerate(self._curves):
            self._paint_curve(painter, index, curve)
        painter.setClipping(False)
        self._paint_labels(painter, plot)

    def draw_over(self, painter: QPainter) -> None:
        if self._curves:
            plot = self._plot()
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_cursor(painter, plot)
            if self.hasFocus():
                painter.setPen(QPen(theme.current().colour("di"), 2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(plot)

    def _paint_axes(self, painter: QPainter, plot: QRectF) -> None:
        look = theme.current()
        painter.setFont(theme.figure_font(9))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        low, high = self._range
        for db in np.arange(low, high + 0.1 * self._step, self._step):
            y = float(self._y(db))
            painter.setPen(QPen(look.colour("line"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(look.colour("muted"))
            places = 1 if self._step < 1.0 else 0
            painter.drawText(QRectF(0, y - 8, LEFT - 6, 16), right, f"{number(float(db), places)}")
        told = plot.left() - 100.0
        for hz in DECADE_MARKS:
            if not 0.999 * self._freqs[0] <= hz <= 1.001 * self._freqs[-1]:
                continue
            x = float(self._x(float(hz)))
            painter.setPen(QPen(look.colour("line"), 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            painter.setPen(look.colour("muted"))
            text = f"{hz // 1000} k" if hz >= 1000 else f"{hz}"
            if x - told < LEAST_APART:
                continue  # its line stays
            told = x
            box = QRectF(x - 24, plot.bottom() + 2, 48, 14)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        painter.setFont(theme.text_font(9))
        below = QRectF(plot.left(), plot.bottom() + 17, plot.width(), 15)
        painter.drawText(below, Qt.AlignmentFlag.AlignCenter, "Frequency in Hz")
        painter.drawText(QRectF(4, 2, 200, 16), 0, self._axis)

    def _pen(self, index: int) -> QPen:
        token, pattern = PATTERNS[index % len(PATTERNS)]
        pen = QPen(theme.current().colour(token), 3.0 if index == self._chosen else 1.8)
        pen.setStyle(pattern)
        return pen

    def _paint_curve(self, painter: QPainter, index: int, curve: Curve) -> None:
        xs, ys = np.asarray(self._x(self._freqs)), np.asarray(self._y(curve.db))
        # These curves are smooth: a point every two pixels looks the same, and a stroke's cost
        # goes with its points. The plot has to follow a knob within a frame.
        step = max(1, round(2.0 * xs.size / max(self._plot().width(), 1.0)))
        painter.setPen(self._pen(index))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for xs_, ys_ in _unbroken(xs[::step], ys[::step]):
            points = [QPointF(x, y) for x, y in zip(xs_, ys_, strict=True)]
            painter.drawPolyline(QPolygonF(points))
            if len(points) == 1:
                painter.drawEllipse(points[0], 2.0, 2.0)
        if curve.mark_hz is not None:
            level = float(np.interp(np.log(curve.mark_hz), np.log(self._freqs), curve.db))
            at = QPointF(float(self._x(curve.mark_hz)), float(self._y(level)))
            painter.setPen(QPen(theme.current().colour(PATTERNS[index % 6][0]), 1.5))
            painter.drawEllipse(at, 4.0, 4.0)

    def _paint_labels(self, painter: QPainter, plot: QRectF) -> None:
        """Names at the lines' ends, moved apart where they would overlap."""
        look = theme.current()
        painter.setFont(theme.text_font(9))
        ends = sorted(
            (min(plot.bottom(), max(plot.top(), float(self._y(_last(curve.db))))), index)
            for index, curve in enumerate(self._curves)
        )
        height = 15.0
        places: list[float] = []
        for y, _ in ends:
            places.append(max(y, places[-1] + height if places else plot.top() + 4))
        over = (places[-1] if places else 0.0) - (plot.bottom() - 8)
        for at in range(len(places) - 1, -1, -1):
            limit = plot.bottom() - 8 if at == len(places) - 1 else places[at + 1] - height
            places[at] = min(places[at], limit) if over > 0.0 else places[at]
        for (y, index), place in zip(ends, places, strict=True):
            painter.setPen(self._pen(index))
            painter.drawLine(QPointF(plot.right(), y), QPointF(plot.right() + 10, place))
            painter.drawLine(QPointF(plot.right() + 10, place), QPointF(plot.right() + 26, place))
            painter.setPen(look.colour("ink"))
            box = QRectF(plot.right() + 30, place - 8, self._right - 32, 16)
            name = painter.fontMetrics().elidedText(
                self._curves[index].name, Qt.TextElideMode.ElideRight, int(box.width())
            )
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, name)

    def _paint_cursor(self, painter: QPainter, plot: QRectF) -> None:
        if self._cursor_hz is None:
            return
        look = theme.current()
        x = float(self._x(self._cursor_hz))
        painter.setPen(QPen(look.colour("ink"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        painter.setFont(theme.figure_font(9))
        painter.setPen(look.colour("ink"))
        levels = "  ".join(f"{number(db)}" for _, db in self.read(self._cursor_hz))
        text = f"{self._cursor_hz:.0f} Hz: {levels} dB"
        painter.drawText(
            QRectF(plot.left() + 60, 2, self.wide - plot.left() - 64, 18),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            text,
        )
