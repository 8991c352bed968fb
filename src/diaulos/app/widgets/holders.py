"""What holds panes and pages, with lines in the colour of the look.

They draw their lines themselves: a style sheet on them would be worked out for all that is in
them at once (see dressing.py).
"""

from __future__ import annotations

from PySide6.QtCore import QEvent
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QSplitter, QSplitterHandle, QTabWidget

from diaulos.app import theme


class _Handle(QSplitterHandle):
    def paintEvent(self, _event: QPaintEvent) -> None:
        QPainter(self).fillRect(self.rect(), theme.current().colour("line"))


class Split(QSplitter):
    """Panes beside or above one another, whose sizes are dragged."""

    def createHandle(self) -> QSplitterHandle:
        return _Handle(self.orientation(), self)


class Tabs(QTabWidget):
    """Pages with a tab each, and a line between tabs and page."""

    def paintEvent(self, _event: QPaintEvent) -> None:
        tabs = self.tabBar().geometry()
        below = self.tabPosition() == QTabWidget.TabPosition.North
        y = tabs.bottom() if below else tabs.top()
        painter = QPainter(self)
        painter.setPen(theme.current().colour("line"))
        painter.drawLine(0, y, self.width(), y)

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() == QEvent.Type.PaletteChange:
            self.update()
