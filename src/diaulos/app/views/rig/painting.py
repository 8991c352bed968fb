"""How a rig is painted."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QPainter,
    QPainterPath,
    QPen,
)

from diaulos.app import theme
from diaulos.app.widgets.cables import LABELS, cable_pen
from diaulos.app.widgets.marks import TAP_TOKENS
from diaulos.app.widgets.pictured import Pictured
from diaulos.rig.checks import Finding, Severity
from diaulos.rig.course import Course
from diaulos.rig.graph import RigGraph
from diaulos.rig.layout import PORT_H, TITLE_H, Box, Layout, PortPlace, Wire
from diaulos.rig.model import Cable, PortRef


def _paint_badge(painter: QPainter, row: QRectF, severity: Severity, *, left: bool = False) -> None:
    """The severity as a word; danger is filled."""
    look = theme.current()
    painter.setFont(theme.text_font(9, bold=True))
    text = severity.word
    width = painter.fontMetrics().horizontalAdvance(text) + 6
    x = row.left() if left else row.right() - width
    area = QRectF(x, row.top(), width, row.height())
    token = {Severity.NOTE: "muted", Severity.CAUTION: "cabinet"}.get(severity, "danger")
    filled = severity is Severity.DANGER
    painter.setPen(QPen(look.colour(token), 1.0))
    painter.setBrush(look.colour("danger" if filled else "raised"))
    painter.drawRect(area)
    painter.setPen(look.colour("danger_ink" if filled else token))
    painter.drawText(area, Qt.AlignmentFlag.AlignCenter, text)


def _path(wire: Wire) -> QPainterPath:
    """Curves between the columns, straight lines where a cable passes one."""
    points = [QPointF(x, y) for x, y in wire.points]
    path = QPainterPath(points[0])
    for index, (one, two) in enumerate(pairwise(points)):
        if wire.back or index % 2 == 1:
            path.lineTo(two)
            continue
        reach = max(14.0, (two.x() - one.x()) / 2.0)
        path.cubicTo(one.x() + reach, one.y(), two.x() - reach, two.y(), two.x(), two.y())
    return path


class RigPainting(Pictured):
    """Wires, labels, boxes, ports."""

    _graph: RigGraph | None
    _cables: dict[str, Cable]
    _safety: dict[str, bool]
    _layout: Layout
    _findings: Mapping[str, Finding]
    _courses: dict[str, Course]
    _focus_track: str
    _port: PortRef | None
    _device: str

    def _cables_of_focus(self) -> dict[str, str]:
        """Cables on the courses through what is chosen, with the tap's token."""
        found: dict[str, str] = {}
        for course in self._courses.values():
            cables = [leg.cable for leg in course.legs if leg.cable is not None]
            touched = self._port is not None and any(
                self._port in (cable.source, cable.target) for cable in cables
            )
            if touched:
                for cable in cables:
                    found.setdefault(cable.id, TAP_TOKENS[course.tap])
        return found

    def _paint_wire(self, painter: QPainter, wire: Wire, on: dict[str, str]) -> None:
        assert self._graph is not None
        look = theme.current()
        cable = self._cables.get(wire.cable)
        if cable is None:
            return
        bad = self._findings.get(f"cable {wire.cable}")
        token = on.get(wire.cable, "")
        if bad is not None and bad.severity >= Severity.FAULT and not token:
            token = "danger"
        signal_class = self._graph.source(cable).port.signal_class
        painter.setPen(cable_pen(signal_class, look, token, 1.0 if wire.cable in on else 0.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(_path(wire))

    def _paint_label(self, painter: QPainter, wire: Wire) -> None:
        assert self._graph is not None
        look = theme.current()
        cable = self._cables.get(wire.cable)
        if cable is None:
            return
        text = LABELS[self._graph.source(cable).port.signal_class]
        painter.setFont(theme.text_font(9))
        x, y = wire.points[0]
        width = painter.fontMetrics().horizontalAdvance(text) + 3
        high = painter.fontMetrics().height()
        area = QRectF(x + 4, y - high - 1, width, high)
        painter.fillRect(area, look.colour("paper"))
        painter.setPen(look.colour("muted"))
        painter.drawText(area, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, text)

    def _paint_box(self, painter: QPainter, box: Box, seen: QRectF) -> None:
        look = theme.current()
        rect = QRectF(box.x, box.y, box.width, box.height)
        here = box.device == self._device
        painter.setPen(QPen(look.colour("di" if here else "muted"), 2.0 if here else 1.0))
        painter.setBrush(look.colour("raised"))
        painter.drawRect(rect)
        painter.setFont(theme.text_font(9, bold=True))
        painter.setPen(look.colour("ink"))
        bad = self._findings.get(box.device)
        room = box.width - 10 - (34 if bad else 0)
        metrics = painter.fontMetrics()
        name = metrics.elidedText(box.name, Qt.TextElideMode.ElideRight, int(room))
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(box.x + 5, box.y, room, TITLE_H), left, name)
        if bad is not None:
            _paint_badge(painter, QRectF(box.x, box.y + 3, box.width - 4, 15), bad.severity)
        painter.setPen(QPen(look.colour("line"), 1.0))
        painter.drawLine(
            QPointF(box.x, box.y + TITLE_H), QPointF(box.x + box.width, box.y + TITLE_H)
        )
        for place in box.ports:
            if seen.top() <= place.y <= seen.bottom():
                self._paint_port(painter, place)
        if box.device in self._safety:
            # It stands at the amp and the load, read or not.
            unread = self._safety[box.device]
            painter.setFont(theme.text_font(9, bold=unread))
            painter.setPen(look.colour("cabinet" if unread else "muted"))
            below = QRectF(box.x, box.y + box.height + 1, box.width, painter.fontMetrics().height())
            text = "safety: read first" if unread else "safety"
            painter.drawText(below, Qt.AlignmentFlag.AlignHCenter, text)

    def _paint_port(self, painter: QPainter, place: PortPlace) -> None:
        assert self._graph is not None
        look = theme.current()
        row = QRectF(place.x, place.y, place.width, PORT_H)
        if place.ref == self._port:
            painter.fillRect(row.adjusted(1, 0, -1, 0), look.colour("di"))
        used = self._graph.used(self._graph.plug(place.ref))
        colour = "paper" if place.ref == self._port else ("ink" if used else "muted")
        painter.setPen(look.colour(colour))
        painter.setFont(theme.text_font(9))
        bad = self._findings.get(f"{place.ref.device}.{place.ref.port}")
        room = int(place.width - 10 - (44 if bad else 0))
        text = painter.fontMetrics().elidedText(place.name, Qt.TextElideMode.ElideRight, room)
        side = Qt.AlignmentFlag.AlignRight if place.outward else Qt.AlignmentFlag.AlignLeft
        area = row.adjusted(5, 0, -5, 0)
        painter.drawText(area, side | Qt.AlignmentFlag.AlignVCenter, text)
        if bad is not None:
            badge = row.adjusted(3, 1, -3, -1)
            _paint_badge(painter, badge, bad.severity, left=place.outward)
        x = place.x + place.width if place.outward else place.x
        painter.setPen(QPen(look.colour("muted"), 1.0))
        painter.setBrush(look.colour("ink" if used else "paper"))
        painter.drawEllipse(QPointF(x, place.y + PORT_H / 2), 2.6, 2.6)
