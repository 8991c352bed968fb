"""The rig drawn: laid out by Diaulos, chosen from by mouse or by the arrow keys."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QGuiApplication,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QToolTip, QWidget

from diaulos.app import theme
from diaulos.app.views.rig.painting import RigPainting
from diaulos.figures import typeset
from diaulos.rig.checks import Finding
from diaulos.rig.course import Course
from diaulos.rig.graph import RigGraph
from diaulos.rig.layout import PORT_H, Box, Layout, PortPlace, lay_out
from diaulos.rig.model import Cable, PortRef
from diaulos.rig.safety import devices_noted

LEAST_ZOOM, MOST_ZOOM = 0.5, 2.0
MOST_FITTED = 1.5
READABLE = 0.88
"""Fitting the width stops here; from there on it scrolls."""


REACH = 40.0
"""How far from its box or plug something is painted, in the drawing's own pixels."""
NEARLY = 0.98


class RigDiagram(RigPainting):
    """Boxes and cables. `chosen` is a port or a whole device."""

    port_chosen = Signal(object)
    device_chosen = Signal(str)
    partner_asked = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._graph: RigGraph | None = None
        self._cables: dict[str, Cable] = {}
        self._safety: dict[str, bool] = {}
        self._layout = Layout((), (), 0.0, 0.0)
        self._laid: tuple[RigGraph, frozenset[str] | None, PortRef | None] | None = None
        """What the layout was made of."""
        self._findings: Mapping[str, Finding] = {}
        self._courses: dict[str, Course] = {}
        self._focus_track = ""
        self._port: PortRef | None = None
        self._device = ""
        self._zoom = 1.0
        self._fit_width = self._fit_height = 0
        self.fitted = True
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Rig diagram")
        self.setMouseTracking(False)

    # --- what is shown ---

    def show_rig(self, graph: RigGraph) -> None:
        """Draw this rig; what was chosen stays chosen where it is still there."""
        self._graph = graph
        self._cables = {cable.id: cable for cable in graph.rig.cables}
        self._safety = devices_noted(graph.rig)
        if self._device not in graph.devices:
            self._device, self._port = "", None
        if self._port is not None:
            device = graph.devices[self._port.device]
            if all(port.id != self._port.port for port in device.ports):
                self._port = None
        self._rebuild()

    def show_report(self, findings: tuple[Finding, ...], courses: dict[str, Course]) -> None:
        """Mark these findings; `courses` by the track's name in words."""
        marks: dict[str, Finding] = {}
        for one in findings:
            places = [f"{one.port.device}.{one.port.port}"] if one.port else []
            places += [one.device] if one.device else []
            places += [f"cable {one.cable}"] if one.cable else []
            for place in places:
                if place not in marks or marks[place].severity < one.severity:
                    marks[place] = one
        self._findings = marks
        self._courses = courses
        self._rebuild()

    def focus_course(self, track: str) -> None:
        """Draw the devices of one course only; "" draws all."""
        self._focus_track = track
        self._rebuild()

    def _rebuild(self) -> None:
        if self._graph is None:
            return
        only = None
        course = self._courses.get(self._focus_track)
        if course is not None:
            only = frozenset(leg.device.id for leg in course.legs)
        wanted = (self._graph, only, self._port)
        if self._laid is None or self._laid[0] is not wanted[0] or self._laid[1:] != wanted[1:]:
            self._laid, self._layout = wanted, lay_out(*wanted)
        self._resize()
        self._tell()
        self.update()

    # --- size ---

    def set_room(self, width: int, height: int) -> None:
        """The room that the scroll area has."""
        if (width, height) != (self._fit_width, self._fit_height):
            self._fit_width, self._fit_height = width, height
            self._resize()

    def zoom_by(self, factor: float) -> None:
        """Nearer or further."""
        self.fitted = False
        self._zoom = min(MOST_ZOOM, max(LEAST_ZOOM, self._zoom * factor))
        self._resize()

    def zoom_to_fit(self) -> None:
        """As wide as there is room."""
        self.fitted = True
        self._resize()

    @property
    def zoom(self) -> float:
        """Pixels on screen per pixel of the drawing."""
        return self._zoom

    def rescaled(self) -> None:
        self._resize()
        super().rescaled()

    def _resize(self) -> None:
        if self.fitted and self._layout.width > 0.0 and self._fit_width:
            wide = self._fit_width / self._layout.width
            high = self._fit_height / self._layout.height
            text = theme.zoom()
            least = READABLE * text
            if NEARLY * least < wide < least:
                least = wide  # no scrolling for the sake of some pixels
            self._zoom = min(MOST_FITTED * text, max(least, min(wide, high)))
        size = QSize(int(self._layout.width * self._zoom), int(self._layout.height * self._zoom))
        self.setFixedSize(size.expandedTo(QSize(420, 120)))
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom_by(1.1 if event.angleDelta().y() > 0 else 1.0 / 1.1)
            event.accept()
        else:
            super().wheelEvent(event)

    # --- choosing ---

    @property
    def port(self) -> PortRef | None:
        """The chosen port."""
        return self._port

    @property
    def device(self) -> str:
        """The chosen device, or that of the chosen port."""
        return self._device

    def choose_port(self, ref: PortRef | None) -> None:
        """Choose a port without telling anybody."""
        if ref is not None and (self._graph is None or not self._graph.has(ref)):
            return
        self._port = ref
        if ref is not None:
            self._device = ref.device
        self._rebuild()

    def choose_device(self, device: str) -> None:
        """Choose a device without telling anybody."""
        self._device, self._port = device, None
        self._rebuild()

    def _tell(self) -> None:
        if self._graph is None:
            return
        words = "nothing chosen"
        if self._port is not None:
            plug = self._graph.plug(self._port)
            words = f"{plug.words}, {plug.port.signal_class.label}"
        elif self._device:
            words = self._graph.devices[self._device].name
        self.setAccessibleDescription(f"{len(self._layout.boxes)} devices; {words}")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position() / self._zoom
        for box in self._layout.boxes:
            if not QRectF(box.x, box.y, box.width, box.height).contains(at):
                continue
            for place in box.ports:
                if place.y <= at.y() < place.y + PORT_H:
                    self._pick_port(place)
                    return
            self._device, self._port = box.device, None
            self._rebuild()
            self.device_chosen.emit(box.device)
            return

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            QToolTip.showText(event.globalPos(), self.words_at(QPointF(event.pos())), self)
            return True
        return super().event(event)

    def words_at(self, position: QPointF) -> str:
        """What stands at a place in full: names that are cut, and what was found there."""
        if self._graph is None:
            return ""
        at = position / self._zoom
        for box in self._layout.boxes:
            if not QRectF(box.x, box.y, box.width, box.height).contains(at):
                continue
            lines, key = [box.name], box.device
            for place in box.ports:
                if place.y <= at.y() < place.y + PORT_H:
                    port = self._graph.plug(place.ref).port
                    lines.append(f"{port.name}: {port.signal_class.label}, {port.connector.value}")
                    key = f"{place.ref.device}.{place.ref.port}"
            found = self._findings.get(key)
            if found is not None:
                lines.append(f"{found.severity.word.capitalize()}: {typeset(found.cause)}")
                lines.append(typeset(found.consequence))
            if box.free:
                lines.append(f"{box.free} ports are free; they stand in the list below.")
            return "\n".join(lines)
        return ""

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._port is not None:
            self.partner_asked.emit()

    def _pick_port(self, place: PortPlace) -> None:
        self._port, self._device = place.ref, place.ref.device
        self._rebuild()
        self.port_chosen.emit(place.ref)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._port is not None:
            self.partner_asked.emit()
            return
        step = {
            Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1),
            Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0),
        }.get(key)  # fmt: skip
        if step is None or not self._layout.boxes:
            super().keyPressEvent(event)
            return
        if step[1]:
            self._step_port(step[1])
        else:
            self._step_device(step[0])

    def _step_port(self, by: int) -> None:
        ports = [place for box in self._in_order() for place in box.ports]
        index = next((i for i, place in enumerate(ports) if place.ref == self._port), None)
        if index is None:
            box = self._layout.box(self._device)
            if box is not None and box.ports:
                self._pick_port(box.ports[0 if by > 0 else -1])
            elif ports:
                self._pick_port(ports[0])
        elif 0 <= index + by < len(ports):
            self._pick_port(ports[index + by])

    def _step_device(self, by: int) -> None:
        """To the other end of the chosen port's cable, else to the next device."""
        assert self._graph is not None
        ref = self._port
        if ref is not None:
            key = (ref.device, ref.port)
            cables = (self._graph.out_of if by > 0 else self._graph.into).get(key, [])
            for cable in cables:
                end = cable.target if by > 0 else cable.source
                place = self._layout.place(end)
                if place is not None:
                    self._pick_port(place)
                    return
        boxes = self._in_order()
        index = next((i for i, box in enumerate(boxes) if box.device == self._device), -by)
        box = boxes[min(len(boxes) - 1, max(0, index + by))]
        self._device, self._port = box.device, None
        self._rebuild()
        self.device_chosen.emit(box.device)

    def _in_order(self) -> list[Box]:
        return sorted(self._layout.boxes, key=lambda box: (box.column, box.y))

    def chosen_rect(self) -> QRectF | None:
        """Where what is chosen lies on the widget."""
        place = self._layout.place(self._port) if self._port else None
        box = self._layout.box(self._device)
        if place is not None:
            rect = QRectF(place.x, place.y, place.width, PORT_H)
        elif box is not None:
            rect = QRectF(box.x, box.y, box.width, box.height)
        else:
            return None
        z = self._zoom
        return QRectF(rect.x() * z, rect.y() * z, rect.width() * z, rect.height() * z)

    def copy_image(self) -> None:
        """The whole drawing into the clipboard."""
        QGuiApplication.clipboard().setPixmap(self.grab())

    # --- painting ---

    @property
    def scaling(self) -> float:
        """It has a zoom of its own."""
        return self._zoom

    def draw(self, painter: QPainter) -> None:
        if self._graph is None:
            return
        look = theme.current()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self._layout.boxes:
            painter.setPen(look.colour("muted"))
            painter.setFont(theme.text_font(10))
            text = "The rig is empty. Add an arrangement (N) or a device (D)."
            painter.drawText(QRectF(0, 0, 420, 110), Qt.AlignmentFlag.AlignCenter, text)
        on = self._cables_of_focus()
        seen = painter.clipBoundingRect().adjusted(-REACH, -REACH, REACH, REACH)
        for wire in self._layout.wires:
            self._paint_wire(painter, wire, on)
        for box in self._layout.boxes:
            if seen.intersects(QRectF(box.x, box.y, box.width, box.height)):
                self._paint_box(painter, box, seen)
        for wire in self._layout.wires:
            if seen.contains(*wire.points[0]):
                self._paint_label(painter, wire)

    def draw_over(self, painter: QPainter) -> None:
        if self.hasFocus() and self._graph is not None:
            painter.resetTransform()
            painter.setPen(QPen(theme.current().colour("di"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
