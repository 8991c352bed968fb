"""The loop as two legs: out above, back below, the amplifier at the turn."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from diaulos.app import theme
from diaulos.app.widgets.labels import tip
from diaulos.app.widgets.level_window import LevelFigures, LevelWindow
from diaulos.app.widgets.painted import Painted, least_height, scaled_size

CARD_H = 82
GAP = 10
TURN_W = 46


@dataclass(frozen=True)
class StationShown:
    """One station of a leg: two short titles, its levels, its tap's token, how it was worked
    out."""

    title: str
    port: str
    figures: LevelFigures | None
    token: str
    trace: str


class _Card(Painted):
    """A station: what it is, and its level window."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._shown: StationShown | None = None
        self._window = LevelWindow(self)
        self._window.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def show_station(self, shown: StationShown) -> None:
        self._shown = shown
        self._window.set_figures(shown.figures, shown.token)
        self.setAccessibleName(f"{shown.title}, {shown.port}")
        words = shown.figures.words() if shown.figures else "levels not worked out yet"
        self.setAccessibleDescription(words)
        self.setToolTip(tip(f"{shown.title}: {shown.port}\n{words}\n{shown.trace}"))
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._window.setGeometry(
            theme.px(5), theme.px(33), self.width() - theme.px(10), theme.px(47)
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        look = theme.current()
        painter = self.canvas()
        painter.fillRect(self.box, look.colour("raised"))
        focus = self.hasFocus()
        painter.setPen(QPen(look.colour("di" if focus else "line"), 2 if focus else 1))
        painter.drawRect(self.edge)
        if self._shown is None:
            return
        painter.setFont(theme.text_font(9, bold=True))
        painter.setPen(look.colour("ink"))
        width = int(self.wide) - 8
        metrics = painter.fontMetrics()
        elide = Qt.TextElideMode.ElideRight
        painter.drawText(
            QRectF(5, 2, width, 16), 0, metrics.elidedText(self._shown.title, elide, width)
        )
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        metrics = painter.fontMetrics()
        painter.drawText(
            QRectF(5, 17, width, 15), 0, metrics.elidedText(self._shown.port, elide, width)
        )


def _place_of(card: _Card) -> QRectF:
    """Where a card lies, in the space of the drawing."""
    place, zoom = card.geometry(), theme.zoom()
    return QRectF(place.x() / zoom, place.y() / zoom, place.width() / zoom, place.height() / zoom)


class LoopDiagram(Painted):
    """Draws the loop. Laid out here, never dragged about."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._out: list[_Card] = []
        self._back: list[_Card] = []
        self._amp_name = ""
        self._tone = ""
        self._delay = ""
        self.setAccessibleName("The loop: out to the amplifier and back")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        least_height(self, 2 * CARD_H + 46)

    def show_loop(
        self,
        out: tuple[StationShown, ...],
        back: tuple[StationShown, ...],
        amp_name: str,
        tone: str,
    ) -> None:
        """Show these stations; cards are kept where there are as many as before."""
        self._amp_name, self._tone = amp_name, tone
        for cards, shown in ((self._out, out), (self._back, back)):
            while len(cards) > len(shown):
                cards.pop().deleteLater()
            while len(cards) < len(shown):
                card = _Card(self)
                card.show()
                cards.append(card)
            for card, station in zip(cards, shown, strict=True):
                card.show_station(station)
        previous: QWidget | None = None
        for card in (*self._out, *self._back):
            if previous is not None:
                QWidget.setTabOrder(previous, card)
            previous = card
        self._place()
        self.update()

    @property
    def cards(self) -> list[QWidget]:
        """The stations' widgets, out and back."""
        return [*self._out, *self._back]

    def sizeHint(self) -> QSize:
        return scaled_size(560, 2 * CARD_H + 46)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(480, 2 * CARD_H + 46)  # all of it: a cut card says nothing

    def rescaled(self) -> None:
        super().rescaled()
        self._place()

    def resizeEvent(self, event: object) -> None:
        self._place()

    def _place(self) -> None:
        width = self.wide - TURN_W
        for row, cards in enumerate((self._out, self._back)):
            count = max(len(cards), 1)
            card_w = (width - GAP * count) / count
            top = 20 + row * (CARD_H + 24)
            for index, card in enumerate(cards):
                # Out runs to the right, back runs to the left.
                column = index if row == 0 else count - 1 - index
                card.setGeometry(
                    theme.px(column * (card_w + GAP)), theme.px(top),
                    theme.px(card_w), theme.px(CARD_H),
                )  # fmt: skip

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._out:
            return
        look = theme.current()
        painter = self.canvas()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        painter.drawText(QRectF(0, 2, 300, 16), 0, "Out: the DI goes to the amplifier")
        back_top = _place_of(self._back[0]).y() - 18 if self._back else 0
        painter.drawText(QRectF(0, back_top, 330, 16), 0, "Back: what it makes of it returns")
        self._paint_cables(painter)
        self._paint_turn(painter)

    def _paint_cables(self, painter: QPainter) -> None:
        look = theme.current()
        for cards, token, style, forward in (
            (self._out, "di", Qt.PenStyle.SolidLine, True),
            (self._back, "amp", Qt.PenStyle.DashLine, False),
        ):
            for one, two in pairwise(cards):
                painter.setPen(QPen(look.colour(token), 2, style))
                here, there = _place_of(one), _place_of(two)
                y = here.center().y()
                start, end = (here.right(), there.left()) if forward else (
                    here.left(), there.right()
                )  # fmt: skip
                painter.drawLine(QPointF(start, y), QPointF(end, y))
                sign = -1 if forward else 1
                painter.setPen(QPen(look.colour(token), 2))
                painter.drawLine(QPointF(end, y), QPointF(end + 4 * sign, y - 4))
                painter.drawLine(QPointF(end, y), QPointF(end + 4 * sign, y + 4))

    def _paint_turn(self, painter: QPainter) -> None:
        if not self._back:
            return
        look = theme.current()
        last, first = _place_of(self._out[-1]), _place_of(self._back[0])
        x = self.wide - TURN_W + 6
        top, bottom = last.center().y(), first.center().y()
        path = QPainterPath(QPointF(last.right(), top))
        path.lineTo(x, top)
        path.arcTo(QRectF(x - 24, top, 48, bottom - top), 90, -180)
        path.lineTo(first.right(), bottom)
        painter.setPen(QPen(look.colour("amp"), 3))
        painter.drawPath(path)
        painter.save()
        painter.translate(x + 4, (top + bottom) / 2)
        painter.rotate(90)
        painter.setFont(theme.text_font(9, bold=True))
        painter.setPen(look.colour("ink"))
        painter.drawText(QRectF(-80, -8, 160, 16), Qt.AlignmentFlag.AlignCenter, self._amp_name)
        painter.restore()
