"""Over months: what was measured of one unit in the sessions of a folder, on a line of time."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.holders import Split
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.plot import Plot
from diaulos.figures import counted, number
from diaulos.tables import csv_text
from diaulos.work.months.timeline import Change, Point, Series

LEAST_SPAN = {"dBu": 3.0, "dB": 3.0, "dBFS": 6.0, "cents": 6.0}
"""A series is drawn over at least so much: chance is not to look like a mountain."""


def when(point: Point) -> float:
    """Seconds of a moment, for the axis; 0 for what cannot be read."""
    try:
        return datetime.fromisoformat(point.at).replace(tzinfo=None).timestamp()
    except ValueError:
        return 0.0


class TimePlot(Plot):
    """One series over time."""

    def __init__(self) -> None:
        super().__init__()
        self._series: Series | None = None
        self.setMinimumHeight(theme.px(180))
        self.setAccessibleName("The figure over time")

    def show_series(self, series: Series | None) -> None:
        """Draw this one."""
        self._series = series
        words = ""
        if series is not None:
            words = "; ".join(
                f"{point.at[:10]}: {number(point.value, 2)} {series.quantity}"
                for point in series.points
            )
        self.setAccessibleDescription(words)
        self.update()

    def as_csv(self) -> str:
        """Date, figure, session."""
        series = self._series
        points = series.points if series is not None else ()
        unit = series.quantity if series is not None else ""
        return csv_text(
            ("Date", f"Figure, {unit}", "Session"),
            [(one.at, f"{one.value:.3f}", one.session) for one in points],
        )

    def draw(self, painter: QPainter) -> None:
        look = theme.current()
        box = QRectF(self.box).adjusted(52, 10, -16, -26)
        painter.fillRect(box, look.colour("paper"))
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawRect(box)
        series = self._series
        if series is None or not series.points:
            return
        times = [when(one) for one in series.points]
        values = [one.value for one in series.points]
        middle = 0.5 * (max(values) + min(values))
        half = 0.6 * max(max(values) - min(values), LEAST_SPAN.get(series.quantity, 1.0))
        first, last = min(times), max(times)
        wide = max(1.0, last - first)

        def place(at: float, value: float) -> QPointF:
            x = box.left() + (0.5 if last == first else (at - first) / wide) * box.width()
            y = box.center().y() - (value - middle) / half * 0.5 * box.height()
            return QPointF(x, y)

        self._axis(painter, box, middle, half, series)
        points = [place(at, value) for at, value in zip(times, values, strict=True)]
        painter.setPen(QPen(look.colour("di"), 2))
        painter.drawPolyline(QPolygonF(points))
        painter.setBrush(look.colour("di"))
        for point in points:
            painter.drawEllipse(point, 4.0, 4.0)

    def _axis(
        self, painter: QPainter, box: QRectF, middle: float, half: float, series: Series
    ) -> None:
        look = theme.current()
        painter.setFont(theme.figure_font(9))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for part in (-1.0, -0.5, 0.0, 0.5, 1.0):
            y = box.center().y() - part * 0.5 * box.height()
            painter.setPen(QPen(look.colour("line"), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(look.colour("muted"))
            text = number(middle + part * half, 1)
            painter.drawText(QRectF(box.left() - 52, y - 8, 46, 16), right, text)
        painter.setFont(theme.text_font(9))
        foot = QRectF(box.left(), box.bottom() + 4, box.width(), 16)
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, series.points[0].at[:10])
        painter.drawText(foot, Qt.AlignmentFlag.AlignHCenter, series.quantity)
        if len(series.points) > 1:
            painter.drawText(foot, Qt.AlignmentFlag.AlignRight, series.points[-1].at[:10])


class MonthsDialog(QDialog):
    """Series at the left, the chosen one drawn, changes beneath."""

    folder_asked = Signal()

    def __init__(self, folder: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Over months")
        self._series: tuple[Series, ...] = ()
        self._changes: tuple[Change, ...] = ()
        self.folder = TextLabel(folder)
        self.folder.setWordWrap(True)
        self.choose = QPushButton("&Folder\N{HORIZONTAL ELLIPSIS}")
        self.choose.setToolTip("Where your sessions lie; they are read, none is opened")
        self.choose.clicked.connect(self.folder_asked.emit)
        self.search = QLineEdit()
        self.search.setPlaceholderText("An instrument, device or loop")
        self.search.setAccessibleName("Search a unit")
        self.search.setClearButtonEnabled(True)
        self.list = QListWidget()
        self.list.setAccessibleName("What was measured")
        self.plot = TimePlot()
        self.changes = QListWidget()
        self.changes.setAccessibleName("What changed")
        self.changes.setWordWrap(True)
        self.changes.setSpacing(3)
        self.said = TextLabel("Reading\N{HORIZONTAL ELLIPSIS}")
        self.said.setWordWrap(True)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        top = QHBoxLayout()
        top.addWidget(self.folder, 1)
        top.addWidget(self.choose)
        side = QWidget()
        left = QVBoxLayout(side)
        left.setContentsMargins(0, 0, 8, 0)
        left.addWidget(self.search)
        left.addWidget(self.list, 1)
        middle = QWidget()
        right = QVBoxLayout(middle)
        right.setContentsMargins(8, 0, 0, 0)
        right.addWidget(self.plot, 1)
        title = TextLabel("What changed")
        title.setProperty("role", "title")
        right.addWidget(title)
        right.addWidget(self.changes, 1)
        split = Split(Qt.Orientation.Horizontal)
        split.addWidget(side)
        split.addWidget(middle)
        split.setStretchFactor(1, 1)
        split.setSizes([300, 520])
        foot = QHBoxLayout()
        foot.addWidget(self.said, 1)
        foot.addWidget(close)
        column = QVBoxLayout(self)
        column.addLayout(top)
        column.addWidget(split, 1)
        column.addLayout(foot)
        for button in self.findChildren(QPushButton):
            button.setAutoDefault(False)
        self.search.textChanged.connect(lambda _text: self._show_list())
        self.list.currentRowChanged.connect(lambda _row: self._show_series())
        self.resize(880, 560)
        theme.dress(self)

    def show_found(
        self, series: Sequence[Series], changes: Sequence[Change], sessions: int,
        unread: Sequence[tuple[str, str]],
    ) -> None:  # fmt: skip
        """What the sessions of the folder hold."""
        self._series, self._changes = tuple(series), tuple(changes)
        words = f"{counted(sessions, 'session')} read."
        if unread:
            words += f" Not read: {'; '.join(path for path, _ in unread[:3])}."
        if not series:
            words += (
                " Nothing was measured in them yet: strengths, intonation, loops and calibrations "
                "stand here once they are."
            )
        self.said.setText(words)
        self._show_list()

    def _show_list(self) -> None:
        wanted = self.search.text().casefold().split()
        self.list.clear()
        for at, one in enumerate(self._series):
            words = f"{one.unit} {one.what} {one.kind}".casefold()
            if all(word in words for word in wanted):
                last = one.points[-1]
                item = QListWidgetItem(
                    f"{one.unit}\n{one.what}: {number(last.value, 1)} {one.quantity}, "
                    f"{len(one.points)} measured"
                )
                item.setData(Qt.ItemDataRole.UserRole, at)
                self.list.addItem(item)
        if self.list.count():
            self.list.setCurrentRow(0)
        self._show_series()

    @property
    def series(self) -> Series | None:
        """The chosen one."""
        item = self.list.currentItem()
        return None if item is None else self._series[int(item.data(Qt.ItemDataRole.UserRole))]

    def _show_series(self) -> None:
        one = self.series
        self.plot.show_series(one)
        self.changes.clear()
        for change in self._changes:
            if one is None or change.unit == one.unit:
                cause = change.cause or "Nobody noted why."
                self.changes.addItem(f"{change.words}.\n{cause}")
        if not self.changes.count():
            self.changes.addItem("Nothing changed by more than chance.")
