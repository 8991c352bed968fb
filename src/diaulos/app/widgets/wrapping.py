"""A row that goes on in the next line where it is narrow, and scrolling for what is high."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QPoint, QRect, QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLayout,
    QLayoutItem,
    QScrollArea,
    QSizePolicy,
    QSpacerItem,
    QStackedWidget,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.own_words import OWN_WORDS, own_word

LEAST_HEIGHT = 120
LEAST_WIDTH = 380
"""What asks for more is scrolled sideways, too."""


class WrappingRow(QLayout):
    """Left to right, then on to the next line. What may grow takes the room that a line has
    left; a stretch pushes what follows to the right, as long as it is in the same line."""

    def __init__(self, parent: QWidget | None = None, *, spacing: int = 6) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self._growing: list[QWidget] = []
        self._heights: dict[int, int] = {}
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def add_stretch(self) -> None:
        """Room between what is before and what is behind."""
        policy = QSizePolicy.Policy
        self.addItem(QSpacerItem(0, 0, policy.Expanding, policy.Minimum))

    def add_growing(self, widget: QWidget) -> None:
        """What takes the room that its line has left, and can do with little."""
        self.addWidget(widget)
        self._growing.append(widget)

    def add_pair(self, words: str, *widgets: QWidget, grow: bool = False) -> None:
        """A label and what it names, never parted. One that may grow takes what its line has
        left, and is asked for as little as it can do with."""
        pair = QWidget()
        row = QHBoxLayout(pair)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(self.spacing())
        label = TextLabel(words)
        label.setProperty("role", "muted")
        label.setBuddy(widgets[0])
        if words.lower() in OWN_WORDS:
            label.setToolTip(own_word(words.lower()))
        row.addWidget(label)
        for widget in widgets:
            row.addWidget(widget, int(widget is widgets[0]))
        self.addWidget(pair)
        if grow:
            self._growing.append(pair)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation.Horizontal

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        # Asked for again and again while a view is laid out.
        if width not in self._heights:
            self._heights[width] = self._lay(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def invalidate(self) -> None:
        self._heights.clear()
        super().invalidate()

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._lay(rect, move=True)

    def sizeHint(self) -> QSize:
        shown = [item.sizeHint() for item in self._items if not item.isEmpty() or _stretch(item)]
        width = sum(one.width() + self.spacing() for one in shown)
        return QSize(width, max((one.height() for one in shown), default=0))

    def minimumSize(self) -> QSize:
        found = QSize()
        for item in self._items:
            if not item.isEmpty():
                found = found.expandedTo(item.minimumSize())
        return found

    def _lines(self, width: int) -> list[list[QLayoutItem]]:
        lines: list[list[QLayoutItem]] = [[]]
        used = 0
        for item in self._items:
            if item.isEmpty() and not _stretch(item):
                continue
            wide = self._least(item)
            if lines[-1] and used + wide > width:
                lines.append([])
                used = 0
            lines[-1].append(item)
            used += wide + (0 if _stretch(item) else self.spacing())
        return lines

    def _least(self, item: QLayoutItem) -> int:
        """As wide as it wants to be; what may grow is asked for less."""
        size = item.minimumSize() if item.widget() in self._growing else item.sizeHint()
        return max(size.width(), item.minimumSize().width())

    def _lay(self, rect: QRect, *, move: bool) -> int:
        y = rect.top()
        for number, line in enumerate(self._lines(rect.width())):
            widths = [self._least(item) for item in line]
            gaps = self.spacing() * max(0, sum(not _stretch(item) for item in line) - 1)
            left = max(0, rect.width() - sum(widths) - gaps)
            grow = [i for i, item in enumerate(line) if item.widget() in self._growing]
            grow = grow or [i for i, item in enumerate(line) if _stretch(item)]
            for rank, index in enumerate(grow):
                widths[index] += left // len(grow) + (left % len(grow) if rank == 0 else 0)
            high = max((item.sizeHint().height() for item in line), default=0)
            if number:
                y += self.spacing()
            x = rect.left()
            for item, wide in zip(line, widths, strict=True):
                if move and not _stretch(item):
                    tall = min(high, max(item.sizeHint().height(), item.minimumSize().height()))
                    item.setGeometry(QRect(QPoint(x, y + (high - tall) // 2), QSize(wide, tall)))
                x += wide + (0 if _stretch(item) else self.spacing())
            y += high
        return y - rect.top()


def _stretch(item: QLayoutItem) -> bool:
    return item.spacerItem() is not None


def _least(inside: QWidget, width: int) -> QSize:
    """The least size of what is so wide: rows that wrap are higher where it is narrow."""
    least = inside.minimumSizeHint().expandedTo(inside.minimumSize())
    layout = inside.layout()
    if layout is None or not layout.hasHeightForWidth():
        return least
    return QSize(least.width(), max(least.height(), layout.totalMinimumHeightForWidth(width)))


class Flowing(QWidget):
    """Part of a view with rows that wrap. A splitter asks for a least size only, so this one tells
    it for the width of the moment."""

    def minimumSizeHint(self) -> QSize:
        least = super().minimumSizeHint()
        layout = self.layout()
        if layout is None or not layout.hasHeightForWidth():
            return least
        high = layout.totalMinimumHeightForWidth(max(self.width(), least.width()))
        return QSize(least.width(), max(least.height(), high))

    def hasHeightForWidth(self) -> bool:
        return False  # it tells its least height itself

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self.updateGeometry()


class Pages(QStackedWidget):
    """Pages of which one is shown; the others ask for no room."""

    def __init__(self) -> None:
        super().__init__()
        self.currentChanged.connect(lambda _index: self.updateGeometry())

    def minimumSizeHint(self) -> QSize:
        return self.least(self.width())

    def hasHeightForWidth(self) -> bool:
        return False  # of all pages together it would be that of none

    def least(self, width: int) -> QSize:
        """The least size of the page that is shown, where it is so wide."""
        shown = self.currentWidget()
        return QSize() if shown is None else _least(shown, width)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self.updateGeometry()


def unfilled(area: QScrollArea) -> None:
    """Let the window's paper be seen in it. Qt fills what is scrolled; what fills itself is
    painted by itself, and once more with the window when a page is shown."""
    area.viewport().setAutoFillBackground(False)
    inside = area.widget()
    if inside is not None:
        inside.setAutoFillBackground(False)


class PageArea(QScrollArea):
    """Pages as large as their place, scrolled where they need more."""

    def __init__(self, pages: Pages, name: str) -> None:
        super().__init__()
        self._pages = pages
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setAccessibleName(name)
        self.setWidget(pages)
        unfilled(self)
        pages.installEventFilter(self)
        pages.currentChanged.connect(lambda _index: self._fit())

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self._pages and event.type() == QEvent.Type.LayoutRequest:
            self._fit()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def minimumSizeHint(self) -> QSize:
        return QSize(LEAST_WIDTH, LEAST_HEIGHT)

    def _fit(self) -> None:
        # Not Qt's own way: that gives what may shrink the height that it would like to have.
        room, bar = self.maximumViewportSize(), self.verticalScrollBar().sizeHint().width()
        least = self._pages.least(room.width())
        if least.height() > room.height():
            least = self._pages.least(room.width() - bar)
            room.setWidth(room.width() - bar)
        if least.width() > room.width():
            room.setHeight(room.height() - bar)
        self._pages.resize(least.expandedTo(room))


class _Scrolled(QScrollArea):
    """As wide as what is inside needs; as low as it gets."""

    def minimumSizeHint(self) -> QSize:
        inside = self.widget()
        wide = inside.minimumSizeHint().width() if inside is not None else 0
        wide = min(wide + self.verticalScrollBar().sizeHint().width() + 2, theme.px(LEAST_WIDTH))
        return QSize(wide, LEAST_HEIGHT)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()  # what is inside may need another width: Qt does not ask
        return super().eventFilter(watched, event)


def scrolled(inside: QWidget, name: str) -> QScrollArea:
    """What is higher than its place, or much wider, scrolled."""
    area = _Scrolled()
    area.setWidget(inside)
    unfilled(area)
    area.setWidgetResizable(True)
    area.setFrameShape(QScrollArea.Shape.NoFrame)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setAccessibleName(name)
    return area
