"""The level diagram: a column per station with floor and ceiling, the signal a ribbon through
them, noise beneath. What clips first is where the ribbon meets a ceiling."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QSize, Qt, Signal
from PySide6.QtGui import (
    QGuiApplication,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QPixmap,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip

from diaulos.app import theme
from diaulos.app.views.levels.painting import FOOT, Laid, LevelPainting
from diaulos.app.widgets.painted import least_width, scaled_size
from diaulos.figures import level, number
from diaulos.rig.levels.diagram import LevelDiagram
from diaulos.units import LOWEST_DB
from diaulos.work.rigs.columns import Column, columns_of
from diaulos.work.rigs.verdicts import stations_table

AXIS = 40
RIGHT_AXIS = 42
LEAST_COLUMN = 69


class LevelDiagramWidget(LevelPainting):
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
        least_width(self, AXIS + RIGHT_AXIS + LEAST_COLUMN * max(1, len(self.columns)))
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
        return scaled_size(AXIS + RIGHT_AXIS + LEAST_COLUMN * max(1, len(self.columns)), 380)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(AXIS + RIGHT_AXIS + LEAST_COLUMN * max(1, len(self.columns)), 240)

    # --- painting ---

    def draw(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        look = theme.current()
        if not self.columns:
            painter.setPen(look.colour("muted"))
            painter.setFont(theme.text_font(11))
            area = self.box.adjusted(40, 20, -40, -20)
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

    def draw_over(self, painter: QPainter) -> None:
        if self.hasFocus() and self.columns:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(theme.current().colour("di"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self._well(self.index).adjusted(3, -2, -3, FOOT - 4))

    # --- hands ---

    def _column_at(self, x: float) -> int:
        return int((x - AXIS) // max(1.0, self.column_width))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = self._column_at(self.at(event.position()).x())
        if 0 <= index < len(self.columns):
            self.choose(index)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if step:
            self.choose(self.index + step)
            return
        super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent):
            index = self._column_at(self.at(QPointF(event.pos())).x())
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
            f"Loudest peak {level(station.peak, station.unit)}, "
            f"typical {level(station.typical, station.unit)} (RMS of the loudest 400 ms)",
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
