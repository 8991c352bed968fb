"""Lists of frozen things: a model with words for each, a delegate that paints text lines."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from diaulos.app import theme
from diaulos.app.widgets.painted import scaled_size

Index = QModelIndex | QPersistentModelIndex
ITEM = Qt.ItemDataRole.UserRole


class Rows(QAbstractListModel):
    """A list of frozen things with a text and words for each."""

    def __init__(self) -> None:
        super().__init__()
        self._items: tuple[Any, ...] = ()

    def set_items(self, items: tuple[Any, ...]) -> None:
        """Show these."""
        if items == self._items:
            return
        self.beginResetModel()
        self._items = items
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - Qt's signature
        return 0 if parent.isValid() else len(self._items)

    def item(self, row: int) -> Any:
        """The thing in a row, or None."""
        return self._items[row] if 0 <= row < len(self._items) else None

    def row_of(self, ident: str) -> int:
        """The row of an id, or -1."""
        return next((i for i, item in enumerate(self._items) if self.ident(item) == ident), -1)

    def ident(self, item: Any) -> str:
        """The id of a thing."""
        raise TypeError("each list knows its own ids")

    def words(self, item: Any) -> tuple[str, str]:
        """Text, and the whole in words."""
        raise TypeError("each list knows its own words")

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        item = self.item(index.row()) if index.isValid() else None
        if item is None:
            return None
        text, words = self.words(item)
        if role == Qt.ItemDataRole.DisplayRole:
            return text
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return words
        return item if role == ITEM else None


class RowDelegate(QStyledItemDelegate):
    """Paints a row of text lines on the list's own background."""

    height = 64

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return scaled_size(200, self.height)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        look = theme.current()
        painter.save()
        rect = QRectF(option.rect)
        state = option.state
        if state & QStyle.StateFlag.State_Selected:
            painter.fillRect(rect, look.colour("paper"))
            painter.fillRect(QRectF(rect.left(), rect.top(), 4, rect.height()), look.colour("amp"))
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        if state & QStyle.StateFlag.State_HasFocus:
            painter.setPen(QPen(look.colour("di"), 1))
            painter.drawRect(rect.adjusted(1, 1, -2, -2))
        painter.setClipRect(rect)
        painter.translate(rect.topLeft())
        painter.scale(theme.zoom(), theme.zoom())
        own = QRectF(0.0, 0.0, rect.width() / theme.zoom(), rect.height() / theme.zoom())
        self.paint_item(painter, own.adjusted(12, 5, -6, -4), index.data(ITEM), index)
        painter.restore()

    def paint_item(self, painter: QPainter, rect: QRectF, item: Any, index: Index) -> None:
        """Paint what the row holds."""


def paint_line(painter: QPainter, rect: QRectF, top: float, text: str) -> None:
    """One line of text, cut with an ellipsis where it does not fit."""
    box = QRectF(rect.left(), rect.top() + top, rect.width(), 17)
    fitted = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(rect.width()))
    painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, fitted)


def paint_figures(painter: QPainter, rect: QRectF, top: float, *choices: str) -> None:
    """The first of these lines that fits: a figure is never cut, it would read as another one."""
    metrics = painter.fontMetrics()
    fits = (one for one in choices if metrics.horizontalAdvance(one) <= int(rect.width()))
    paint_line(painter, rect, top, next(fits, choices[-1]))
