"""The loop as two legs: out above, back below, the amplifier at the turn."""

from __future__ import annotations

from itertools import pairwise

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from diaulos.app import theme
from diaulos.app.widgets.labels import tip
from diaulos.app.widgets.level_window import LevelWindow
from diaulos.app.widgets.painted import Painted, least_height, scaled_size
from diaulos.figures import LevelFigures
from diaulos.records import dataclass

CARD_H = 82
GAP = 10
ROW_GAP = 24
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


@dataclass(frozen=True)
class ReturnShown:
    """A return: its name, and the stations of the way back that no return before it has."""

    name: str
    stations: tuple[StationShown, ...]


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
        self._backs: list[list[_Card]] = []
        self._names: tuple[str, ...] = ()
        self._amp_name = ""
        self._tone = ""
        self.out_words = ""
        """Where the DI goes: into the amplifier, else into what stands last on the way out."""
        self._delay = ""
        self.setAccessibleName("The loop: out to the amplifier and back")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        least_height(self, self._whole)

    @property
    def _whole(self) -> int:
        """As high as all rows."""
        rows = 1 + max(1, len(self._backs))
        return rows * CARD_H + (rows - 1) * ROW_GAP + 22

    def show_loop(
        self,
        out: tuple[StationShown, ...],
        backs: tuple[ReturnShown, ...],
        amp_name: str,
        tone: str,
    ) -> None:
        """Show these stations; cards are kept where there are as many as before."""
        self._amp_name, self._tone = amp_name, tone
        there = amp_name or (out[-1].title if out else "")
        self.out_words = f"Out: the DI goes to {there}" if there else ""
        self._names = tuple(one.name for one in backs)
        while len(self._backs) > len(backs):
            for card in self._backs.pop():
                card.deleteLater()
        while len(self._backs) < len(backs):
            self._backs.append([])
        rows = zip(self._backs, (one.stations for one in backs), strict=True)
        for cards, shown in ((self._out, out), *rows):
            while len(cards) > len(shown):
                cards.pop().deleteLater()
            while len(cards) < len(shown):
                card = _Card(self)
                card.show()
                cards.append(card)
            for card, station in zip(cards, shown, strict=True):
                card.show_station(station)
        previous: QWidget | None = None
        for one in self.cards:
            if previous is not None:
                QWidget.setTabOrder(previous, one)
            previous = one
        least_height(self, self._whole)
        self.updateGeometry()
        self._place()
        self.update()

    @property
    def cards(self) -> list[QWidget]:
        """The stations' widgets, out and back."""
        return [*self._out, *(card for cards in self._backs for card in cards)]

    def sizeHint(self) -> QSize:
        return scaled_size(560, self._whole)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(480, self._whole)  # all of it: a cut card says nothing

    def rescaled(self) -> None:
        super().rescaled()
        self._place()

    def resizeEvent(self, event: object) -> None:
        self._place()

    def _place(self) -> None:
        width = self.wide - TURN_W
        widest = max((len(cards) for cards in self._backs), default=1)
        for row, cards in enumerate((self._out, *self._backs)):
            count = max(len(cards) if row == 0 else widest, 1)
            card_w = (width - GAP * count) / count
            top = 20 + row * (CARD_H + ROW_GAP)
            for index, card in enumerate(cards):
                # Out runs to the right, back runs to the left and ends there.
                column = index if row == 0 else len(cards) - 1 - index
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
        painter.drawText(QRectF(0, 2, self.wide - TURN_W, 16), 0, self.out_words)
        for number, cards in enumerate(self._backs):
            words = "Back: what it makes of it returns" if number == 0 else "Back as well"
            if len(self._backs) > 1:
                words = f"{words}: {self._names[number]}"
            back_top = _place_of(cards[0]).y() - 18
            painter.drawText(QRectF(0, back_top, 400, 16), 0, words)
        self._paint_cables(painter)
        self._paint_turn(painter)

    def _paint_cables(self, painter: QPainter) -> None:
        look = theme.current()
        ways = [(cards, "amp", Qt.PenStyle.DashLine, False) for cards in self._backs]
        for cards, token, style, forward in ((self._out, "di", Qt.PenStyle.SolidLine, True), *ways):
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

        for cards in self._backs[1:]:
            self._paint_branch(painter, cards)

    def _paint_branch(self, painter: QPainter, cards: list[_Card]) -> None:
        """From where another return parts from the first one down to its own first station."""
        first = self._backs[0]
        parts_at = len(first) - len(cards) - 1
        if not 0 <= parts_at < len(first):
            return
        above, below = _place_of(first[parts_at]), _place_of(cards[0])
        x, y = above.center().x(), below.center().y()
        painter.setPen(QPen(theme.current().colour("amp"), 2, Qt.PenStyle.DashLine))
        path = QPainterPath(QPointF(x, above.bottom()))
        path.lineTo(x, y)
        path.lineTo(below.right(), y)
        painter.drawPath(path)

    def _paint_turn(self, painter: QPainter) -> None:
        if not self._backs or not self._backs[0]:
            return
        look = theme.current()
        last, first = _place_of(self._out[-1]), _place_of(self._backs[0][0])
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
        # Between the two cables; its card has the whole name.
        room = bottom - top - 16
        name = painter.fontMetrics().elidedText(
            self._amp_name, Qt.TextElideMode.ElideRight, int(room)
        )
        painter.drawText(QRectF(-room / 2, -8, room, 16), Qt.AlignmentFlag.AlignCenter, name)
        painter.restore()
