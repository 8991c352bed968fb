"""The instrument's circuit as a small drawing, in which the value in hand lights up."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from diaulos.app import theme
from diaulos.app.widgets.painted import Painted, scaled_size
from diaulos.quantities import CAPACITANCE, INDUCTANCE, RESISTANCE, show
from diaulos.records import dataclass
from diaulos.session.instrument import ActiveValues, CoilValues, Instrument, PiezoValues


@dataclass(frozen=True)
class Element:
    """One part of the drawing: what kind, its short name, its value in words."""

    key: str
    kind: str
    name: str
    value: str


@dataclass(frozen=True)
class Column:
    """One step from the string to the input: what lies in the way, what leads to ground."""

    across: Element | None = None
    down: Element | None = None


def elements(instrument: Instrument, input_words: str) -> tuple[Column, ...]:
    """The drawing from the string to the input."""
    position = instrument.position
    if position is None:
        return ()
    values = instrument.pickup(position.pickups[0]).values
    columns: list[Column] = []

    def across(key: str, kind: str, name: str, value: str) -> None:
        columns.append(Column(across=Element(key, kind, name, value)))

    def down(key: str, kind: str, name: str, value: str) -> None:
        columns.append(Column(down=Element(key, kind, name, value)))

    def farad(pf: float) -> str:
        return show(pf * 1e-12, CAPACITANCE)

    if isinstance(values, CoilValues):
        across("resistance_ohm", "resistor", "Rdc", show(values.resistance_ohm, RESISTANCE))
        across("inductance_h", "coil", "L", show(values.inductance_h, INDUCTANCE))
        down("winding_pf", "capacitor", "Cw", farad(values.winding_pf))
    elif isinstance(values, ActiveValues):
        across("output_ohm", "resistor", "Rout", show(values.output_ohm, RESISTANCE))
    else:
        across("capacitance_pf", "capacitor_series", "Cs", farad(values.capacitance_pf))
    knobs = instrument.controls
    if knobs.tone_ohm is not None and not isinstance(values, PiezoValues):
        tone = f"{show(knobs.tone_ohm, RESISTANCE)}, {show(knobs.tone_nf * 1e-9, CAPACITANCE)}"
        down("tone", "tone", "Tone", tone)
    if knobs.volume_ohm is not None and not isinstance(values, PiezoValues):
        down("volume", "pot", "Vol", show(knobs.volume_ohm, RESISTANCE))
    down("cable", "capacitor", "Cable", show(instrument.cable.farad, CAPACITANCE))
    down("input", "resistor_down", "Input", input_words)
    return tuple(columns)


class Schematic(Painted):
    """Draws the circuit. `hovered` names the element under the mouse."""

    hovered = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._columns: tuple[Column, ...] = ()
        self._lit = ""
        self._words = ""
        self._places: list[tuple[QRectF, Element]] = []
        self.setMouseTracking(True)
        self.setAccessibleName("Circuit of the instrument")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_instrument(self, instrument: Instrument, input_words: str) -> None:
        """Draw this instrument into this input."""
        self._columns = elements(instrument, input_words)
        position = instrument.position
        self._words = position.wiring if position and len(position.pickups) > 1 else ""
        told = [e for c in self._columns for e in (c.across, c.down) if e]
        self.setAccessibleDescription(", ".join(f"{e.name} {e.value}" for e in told))
        self.update()

    def light(self, key: str) -> None:
        """Light up one element, or none."""
        if key != self._lit:
            self._lit = key
            self.update()

    @property
    def lit(self) -> str:
        """The element that is lit up."""
        return self._lit

    def sizeHint(self) -> QSize:
        return scaled_size(300, 108)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        found = next(
            (e for box, e in self._places if box.contains(self.at(event.position()))), None
        )
        self.light(found.key if found else "")
        self.hovered.emit(found.key if found else "")
        if found:
            QToolTip.showText(
                event.globalPosition().toPoint(), f"{found.name}: {found.value}", self
            )

    def leaveEvent(self, event: object) -> None:
        self.light("")

    def paintEvent(self, event: QPaintEvent) -> None:
        look = theme.current()
        painter = self.canvas()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.box, look.colour("raised"))
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawRect(self.edge)
        self._places = []
        if not self._columns:
            return
        top, ground = 30.0, self.high - 16.0
        left, width = 34.0, (self.wide - 46.0) / len(self._columns)
        painter.setPen(QPen(look.colour("ink"), 1.4))
        painter.drawLine(QPointF(16, ground), QPointF(self.wide - 10, ground))
        painter.drawEllipse(QPointF(16, (top + ground) / 2), 8, 8)
        painter.drawLine(QPointF(16, top), QPointF(16, (top + ground) / 2 - 8))
        painter.drawLine(QPointF(16, (top + ground) / 2 + 8), QPointF(16, ground))
        painter.setFont(theme.text_font(10))
        painter.drawText(
            QRectF(8, (top + ground) / 2 - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, "~"
        )
        painter.drawLine(QPointF(16, top), QPointF(left, top))
        for index, column in enumerate(self._columns):
            x = left + index * width
            self._wire(painter, x, x + width, top, column.across)
            if column.down is not None:
                self._down(painter, x + width / 2, top, ground, column.down)
        if self._words:
            painter.setFont(theme.text_font(9))
            painter.setPen(look.colour("muted"))
            painter.drawText(QRectF(4, self.high - 15, 200, 14), 0, f"two coils, {self._words}")

    def _pen(self, element: Element | None) -> QPen:
        look = theme.current()
        lit = element is not None and element.key == self._lit
        return QPen(look.colour("amp" if lit else "ink"), 2.6 if lit else 1.4)

    def _wire(
        self, painter: QPainter, left: float, right: float, y: float, element: Element | None
    ) -> None:
        painter.setPen(self._pen(None))
        if element is None:
            painter.drawLine(QPointF(left, y), QPointF(right, y))
            return
        a, b = left + 3, right - 3
        painter.drawLine(QPointF(left, y), QPointF(a, y))
        painter.drawLine(QPointF(b, y), QPointF(right, y))
        painter.setPen(self._pen(element))
        if element.kind == "coil":
            count = 4
            step = (b - a) / count
            for turn in range(count):
                painter.drawArc(QRectF(a + turn * step, y - 5, step, 10), 0, 180 * 16)
        elif element.kind == "capacitor_series":
            middle = (a + b) / 2
            painter.drawLine(QPointF(a, y), QPointF(middle - 2, y))
            painter.drawLine(QPointF(middle + 2, y), QPointF(b, y))
            for x in (middle - 2, middle + 2):
                painter.drawLine(QPointF(x, y - 7), QPointF(x, y + 7))
        else:
            painter.drawRect(QRectF(a, y - 5, b - a, 10))
        self._label(painter, QRectF(left - 4, y - 28, right - left + 8, 22), element)

    def _down(
        self, painter: QPainter, x: float, top: float, ground: float, element: Element
    ) -> None:
        painter.setPen(self._pen(element))
        middle = (top + ground) / 2 - 6
        if element.kind == "capacitor":
            painter.drawLine(QPointF(x, top), QPointF(x, middle - 2))
            painter.drawLine(QPointF(x, middle + 2), QPointF(x, ground))
            for y in (middle - 2, middle + 2):
                painter.drawLine(QPointF(x - 7, y), QPointF(x + 7, y))
        else:
            painter.drawLine(QPointF(x, top), QPointF(x, middle - 11))
            painter.drawRect(QRectF(x - 4, middle - 11, 8, 20))
            painter.drawLine(QPointF(x, middle + 9), QPointF(x, ground))
            if element.kind == "pot":
                painter.drawLine(QPointF(x + 12, middle - 1), QPointF(x + 5, middle - 1))
                painter.drawLine(QPointF(x + 8, middle - 4), QPointF(x + 5, middle - 1))
                painter.drawLine(QPointF(x + 8, middle + 2), QPointF(x + 5, middle - 1))
            elif element.kind == "tone":
                for y in (ground - 9, ground - 6):
                    painter.drawLine(QPointF(x - 6, y), QPointF(x + 6, y))
        self._label(painter, QRectF(x - 24, ground + 1, 48, 14), element, value=False)

    def _label(self, painter: QPainter, box: QRectF, element: Element, value: bool = True) -> None:
        look = theme.current()
        lit = element.key == self._lit
        painter.setPen(look.colour("amp" if lit else "muted"))
        painter.setFont(theme.text_font(9, bold=lit))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, element.name)
        reach = QRectF(box.left(), 4, box.width(), self.high - 6)
        self._places.append((reach, element))
