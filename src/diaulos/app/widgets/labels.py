"""Labels that show text as text.

A name may come from a stranger's session or file: `<b>` in it is three characters, not bold
type. Qt guesses otherwise, so no label of ours is Qt's own; markup of ours says so, and puts
foreign words through `escaped`.
"""

from __future__ import annotations

from html import escape

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel, QSizePolicy, QWidget


class TextLabel(QLabel):
    """Plain text."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


class ElidedLabel(QLabel):
    """Plain text in one line, as much of it as there is room for; all of it in the tooltip, where
    nobody set another."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._told = ""
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setText(text)

    def minimumSizeHint(self) -> QSize:
        return QSize(0, super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        room = self.contentsRect()
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, room.width())
        whole = "" if text == self.text() else tip(self.text())
        if self.toolTip() == self._told and whole != self._told:
            self._told = whole
            self.setToolTip(whole)
        self.style().drawItemText(
            painter, room, int(self.alignment()), self.palette(), self.isEnabled(), text,
            self.foregroundRole(),
        )  # fmt: skip


class RichLabel(QLabel):
    """Markup of our own; foreign words in it are `escaped`."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.RichText)
        self.setText(text)


def escaped(text: str) -> str:
    """Foreign words inside our own markup."""
    return escape(text, quote=True)


def tip(text: str) -> str:
    """A tooltip that shows foreign words as text. Qt takes what holds a tag for markup: that
    becomes markup which says what it said."""
    if "<" not in text:
        return text
    return "<qt>" + escape(text, quote=False).replace("\n", "<br>") + "</qt>"
