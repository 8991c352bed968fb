"""The waveform of a DI and its return, overlaid, in time.

Zoom with + and - or the wheel, move with the arrows, go to a place with a click. Close up
the samples themselves are drawn, so that one can see that they lie in time.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from diaulos.app import theme
from diaulos.app.widgets.columns import fill_columns
from diaulos.app.widgets.marks import TAP_PATTERNS, TAP_TOKENS
from diaulos.app.widgets.painted import scaled_size
from diaulos.app.widgets.plot import Plot
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.signal.overview import BASE, Overview
from diaulos.tables import csv_text

LEFT, RIGHT, TOP, BOTTOM = 68, 12, 6, 20
CLOSE_UP_FRAMES = 20_000

ReadSamples = Callable[[int, int], np.ndarray]


@dataclass(frozen=True)
class Trace:
    """One waveform: an overview for far off, a reader for close up."""

    name: str
    tap: str
    overview: Overview
    read: ReadSamples
    gain: float = 1.0


@dataclass(frozen=True)
class Mark:
    """A place, from `frame` on for `frames` (0: a moment), with a letter and a colour."""

    frame: int
    letter: str
    token: str = "ink"
    frames: int = 0


class Waveform(Plot):
    """Overlaid waveforms over time."""

    sought = Signal(int)
    range_changed = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._traces: tuple[Trace, ...] = ()
        self._rate_hz = 48_000
        self._frames = 0
        self._view = (0.0, 1.0)
        self._position = 0
        self._cursor: float | None = None
        self._loop: tuple[int, int] | None = None
        self._empty = ""
        self._marks: tuple[Mark, ...] = ()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Waveform of DI and return")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setToolTip("Click to go there. + and \N{MINUS SIGN} zoom, arrows move, 0 shows all.")

    def set_traces(self, traces: tuple[Trace, ...], frames: int, rate_hz: int) -> None:
        """Show these waveforms; the view is kept when the length is the same."""
        if frames != self._frames:
            self._view = (0.0, float(max(frames, 1)))
        self._traces, self._frames, self._rate_hz = traces, frames, rate_hz
        names = " and ".join(f"{trace.name}" for trace in traces)
        self.setAccessibleDescription(f"{names}, {frames / rate_hz:.1f} seconds")
        self.update()

    def set_marks(self, marks: tuple[Mark, ...]) -> None:
        """Places with a letter each: marks, clips, gaps."""
        self._marks = marks
        self.update()

    def set_empty_text(self, text: str) -> None:
        """What stands there while nothing is shown."""
        self._empty = text
        self.update()

    def set_position(self, frame: int) -> None:
        """Where playback is."""
        if frame != self._position:
            self._position = frame
            self.stir()

    def set_loop(self, loop: tuple[int, int] | None) -> None:
        """The stretch that repeats."""
        self._loop = loop
        self.update()

    @property
    def view(self) -> tuple[float, float]:
        """First and last frame shown."""
        return self._view

    @property
    def position(self) -> int:
        """Where playback is."""
        return self._position

    def sizeHint(self) -> QSize:
        return scaled_size(600, 130)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(300, 70)

    # --- moving about ---

    def show_all(self) -> None:
        """The whole take."""
        self._set_view(0.0, float(max(self._frames, 1)))

    def zoom(self, factor: float, centre: float | None = None) -> None:
        """Show `factor` times as much around a frame (the position by default)."""
        first, last = self._view
        middle = float(self._position) if centre is None else centre
        if not first <= middle <= last:
            middle = (first + last) / 2.0
        width = min(float(max(self._frames, 1)), max(64.0, (last - first) * factor))
        share = (middle - first) / max(last - first, 1.0)
        self._set_view(middle - share * width, middle + (1.0 - share) * width)

    def _set_view(self, first: float, last: float) -> None:
        width = last - first
        first = max(0.0, min(first, self._frames - width))
        self._view = (first, first + width)
        self.range_changed.emit()
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        first, last = self._view
        step = (last - first) / 8.0
        key = event.key()
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(0.5)
        elif key == Qt.Key.Key_Minus:
            self.zoom(2.0)
        elif key in (Qt.Key.Key_0, Qt.Key.Key_Home):
            self.show_all()
        elif key == Qt.Key.Key_Left:
            self._set_view(first - step, last - step)
        elif key == Qt.Key.Key_Right:
            self._set_view(first + step, last + step)
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = 0.8 if event.angleDelta().y() > 0 else 1.25
        self.zoom(factor, self._frame_at(self.at(event.position()).x()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._frames:
            self.sought.emit(int(self._frame_at(self.at(event.position()).x())))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._cursor = self._frame_at(self.at(event.position()).x())
        self.stir()

    def leaveEvent(self, event: object) -> None:
        self._cursor = None
        self.stir()

    def _plot(self) -> QRectF:
        return QRectF(LEFT, TOP, max(10, self.wide - LEFT - RIGHT), self.high - TOP - BOTTOM)

    def _frame_at(self, x: float) -> float:
        plot = self._plot()
        share = min(1.0, max(0.0, (x - plot.left()) / plot.width()))
        return self._view[0] + share * (self._view[1] - self._view[0])

    def _x_of(self, frame: float) -> float:
        plot = self._plot()
        first, last = self._view
        return plot.left() + (frame - first) / max(last - first, 1e-9) * plot.width()

    # --- copying ---

    def as_csv(self) -> str:
        """What is shown as text: time, then lowest and highest of each trace."""
        count = 1000
        first, last = self._view
        times = (first + (last - first) * np.arange(count) / count) / self._rate_hz
        columns: list[tuple[str, np.ndarray]] = [("seconds", times)]
        for trace in self._traces:
            low, high = trace.overview.columns(first, last, count)
            columns += [
                (f"{trace.name} low", low * trace.gain),
                (f"{trace.name} high", high * trace.gain),
            ]
        rows = ([f"{values[i]:.6g}" for _, values in columns] for i in range(count))
        return csv_text([name for name, _ in columns], rows)

    # --- painting ---

    def draw(self, painter: QPainter) -> None:
        look = theme.current()
        plot = self._plot()
        painter.fillRect(plot, look.colour("raised"))
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawRect(plot)
        if not self._traces:
            painter.setFont(theme.text_font(10))
            painter.setPen(look.colour("muted"))
            painter.drawText(plot, Qt.AlignmentFlag.AlignCenter, self._empty)
            return
        scale = self._scale()
        self._paint_axes(painter, plot, scale)
        painter.setClipRect(plot)
        if self._loop is not None:
            left, right = self._x_of(self._loop[0]), self._x_of(self._loop[1])
            shade = look.colour("di")
            shade.setAlpha(28)
            painter.fillRect(QRectF(left, plot.top(), right - left, plot.height()), shade)
        close = self._view[1] - self._view[0] <= CLOSE_UP_FRAMES
        # The first trace (the DI) lies on top: it is the thinner one.
        for trace in reversed(self._traces):
            if close:
                self._paint_samples(painter, plot, trace, scale)
            else:
                self._paint_envelope(painter, plot, trace, scale)
        self._paint_marks(painter, plot)

    def draw_over(self, painter: QPainter) -> None:
        if self._traces:
            plot = self._plot()
            painter.setClipRect(plot)
            self._paint_lines(painter, plot)
            painter.setClipping(False)
            self._paint_legend(painter, plot)

    def _paint_marks(self, painter: QPainter, plot: QRectF) -> None:
        painter.setFont(theme.text_font(9, bold=True))
        first, last = self._view
        for mark in self._marks:
            if not first <= mark.frame + mark.frames or mark.frame > last:
                continue
            colour = theme.current().colour(mark.token)
            x = self._x_of(mark.frame)
            if mark.frames:
                width = max(2.0, self._x_of(mark.frame + mark.frames) - x)
                shade = theme.current().colour(mark.token)
                shade.setAlpha(90)
                painter.fillRect(QRectF(x, plot.top(), width, plot.height()), shade)
            painter.setPen(QPen(colour, 1))
            painter.drawLine(QPointF(x, plot.bottom() - 16), QPointF(x, plot.bottom()))
            painter.drawText(QRectF(x + 2, plot.bottom() - 17, 20, 12),
                             Qt.AlignmentFlag.AlignLeft, mark.letter)  # fmt: skip

    def _scale(self) -> float:
        top = 1e-6
        for trace in self._traces:
            for values in (trace.overview.low[-1], trace.overview.high[-1]):
                if values.size:
                    top = max(top, float(np.abs(values).max()) * trace.gain)
        return top * 1.08

    def _paint_axes(self, painter: QPainter, plot: QRectF, scale: float) -> None:
        look = theme.current()
        painter.setFont(theme.figure_font(9))
        painter.setPen(look.colour("muted"))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for share in (1.0, 0.0, -1.0):
            y = plot.center().y() - share * plot.height() / 2.0 / 1.08
            text = "silence" if share == 0.0 else f"{number(20.0 * np.log10(scale / 1.08), 0)} dBFS"
            painter.drawText(QRectF(0, y - 8, LEFT - 4, 16), right, text)
        first, last = self._view[0] / self._rate_hz, self._view[1] / self._rate_hz
        step = _nice_step((last - first) / max(plot.width() / 90.0, 1.0))
        tick = np.ceil(first / step) * step
        places = max(0, int(np.ceil(-np.log10(step))))
        while tick <= last + 1e-12:
            x = self._x_of(tick * self._rate_hz)
            painter.setPen(QPen(look.colour("line"), 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            painter.setPen(look.colour("muted"))
            left = min(x - 40, self.wide - 62)
            box = QRectF(left, plot.bottom() + 2, 80 if left == x - 40 else 62, 16)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{tick:.{places}f} s")
            tick += step

    def _paint_envelope(self, painter: QPainter, plot: QRectF, trace: Trace, scale: float) -> None:
        count = max(1, int(plot.width()))
        low, high = trace.overview.columns(self._view[0], self._view[1], count)
        half = plot.height() / 2.0 / scale * trace.gain
        middle = plot.center().y()
        upper = np.asarray(middle - high * half, np.float64)
        lower = np.maximum(middle - low * half, upper + 1.0)
        fill = theme.current().colour(TAP_TOKENS.get(trace.tap, "muted"))
        fill.setAlpha(110)
        fill_columns(painter, QRectF(plot.left(), plot.top(), count, plot.height()),
                     upper, lower, fill)  # fmt: skip
        painter.setPen(QPen(theme.current().colour(TAP_TOKENS.get(trace.tap, "muted")), 1))
        xs = (plot.left() + np.arange(count) + 0.5).tolist()
        for edge in (upper, lower):
            painter.drawPolyline([QPointF(x, y) for x, y in zip(xs, edge.tolist(), strict=True)])

    def _paint_samples(self, painter: QPainter, plot: QRectF, trace: Trace, scale: float) -> None:
        first = max(0, int(self._view[0]) - 1)
        count = int(self._view[1]) + 2 - first
        samples = np.asarray(trace.read(first, count), dtype=np.float64) * trace.gain
        half = plot.height() / 2.0 / scale
        middle = plot.center().y()
        path = QPainterPath()
        for index, value in enumerate(samples):
            point = QPointF(self._x_of(first + index), middle - value * half)
            if index:
                path.lineTo(point)
            else:
                path.moveTo(point)
        pen = QPen(theme.current().colour(TAP_TOKENS.get(trace.tap, "muted")), 1.6)
        pen.setStyle(TAP_PATTERNS.get(trace.tap, Qt.PenStyle.SolidLine))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(pen)
        painter.drawPath(path)

    def _paint_lines(self, painter: QPainter, plot: QRectF) -> None:
        look = theme.current()
        painter.setPen(QPen(look.colour("ink"), 1.5))
        x = self._x_of(self._position)
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        if self._cursor is not None:
            painter.setPen(QPen(look.colour("muted"), 1, Qt.PenStyle.DotLine))
            x = self._x_of(self._cursor)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            painter.setFont(theme.figure_font(9))
            text = f"{self._cursor / self._rate_hz:.4f} s, sample {int(self._cursor)}"
            left = x + 4 if x < plot.right() - 190 else x - 194
            painter.setPen(look.colour("ink"))
            painter.drawText(QRectF(left, plot.bottom() - 18, 190, 16), 0, text)
        if self.hasFocus():
            painter.setPen(QPen(look.colour("di"), 2))
            painter.drawRect(plot.adjusted(1, 1, -1, -1))

    def _paint_legend(self, painter: QPainter, plot: QRectF) -> None:
        look = theme.current()
        painter.setFont(theme.text_font(9, bold=True))
        x = plot.right() - 8
        metrics = painter.fontMetrics()
        for trace in reversed(self._traces):
            width = metrics.horizontalAdvance(trace.name) + 40
            x -= width
            box = QRectF(x, plot.top() + 3, width, 18)
            painter.fillRect(box, look.colour("raised"))
            pen = QPen(look.colour(TAP_TOKENS.get(trace.tap, "muted")), 2.5)
            pen.setStyle(TAP_PATTERNS.get(trace.tap, Qt.PenStyle.SolidLine))
            painter.setPen(pen)
            painter.drawLine(QPointF(x + 4, box.center().y()), QPointF(x + 28, box.center().y()))
            painter.setPen(look.colour("ink"))
            painter.drawText(box.adjusted(34, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, trace.name)
            x -= 6


def _nice_step(wanted: float) -> float:
    power = 10.0 ** np.floor(np.log10(max(wanted, 1e-9)))
    for factor in (1.0, 2.0, 5.0, 10.0):
        if factor * power >= wanted:
            return float(factor * power)
    return float(10.0 * power)


assert CLOSE_UP_FRAMES > BASE
