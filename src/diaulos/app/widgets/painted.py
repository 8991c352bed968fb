"""What draws itself, and what has a size in figures: both follow the size of the text.

A drawing is made in a space of its own, where text has the size that it has at zoom 1; the
painter enlarges it. So a drawing knows nothing of the zoom but `wide`, `high` and `at`.
"""

from __future__ import annotations

from typing import TypeVar
from weakref import WeakKeyDictionary, WeakSet

from PySide6.QtCore import QPointF, QRectF, QSize
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QHeaderView, QWidget
from shiboken6 import isValid

from diaulos.app import theme

Kind = TypeVar("Kind", bound=QWidget)

SIZES = (
    "setFixedWidth",
    "setFixedHeight",
    "setMinimumWidth",
    "setMinimumHeight",
    "setMaximumWidth",
    "setMaximumHeight",
    "setDefaultSectionSize",
)
_sized: WeakSet[QWidget] = WeakSet()
"""Those of which one was called: most widgets have no size of their own."""
_rescaled: WeakSet[Rescaled] = WeakSet()
_columns: WeakKeyDictionary[QHeaderView, dict[int, int]] = WeakKeyDictionary()
"""Widths of columns at zoom 1."""


class Rescaled(QWidget):
    """A widget that is told when text has another size."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        _rescaled.add(self)

    def rescaled(self) -> None:
        """Text has another size now."""
        self.updateGeometry()
        self.update()


class Painted(Rescaled):
    """A widget that paints."""

    def canvas(self) -> QPainter:
        """A painter in the drawing's own space."""
        painter = QPainter(self)
        painter.scale(theme.zoom(), theme.zoom())
        return painter

    @property
    def wide(self) -> float:
        """Width in the drawing's own space."""
        return self.width() / theme.zoom()

    @property
    def high(self) -> float:
        """Height in the drawing's own space."""
        return self.height() / theme.zoom()

    @property
    def box(self) -> QRectF:
        """All of it, in the drawing's own space."""
        return QRectF(0.0, 0.0, self.wide, self.high)

    @property
    def edge(self) -> QRectF:
        """Where a frame one pixel wide is drawn."""
        return self.box.adjusted(0.0, 0.0, -1.0, -1.0)

    def at(self, place: QPointF) -> QPointF:
        """A place on the widget, in the drawing's own space."""
        return place / theme.zoom()


def scaled_size(width: float, height: float) -> QSize:
    """A size at zoom 1, as it is now."""
    return QSize(theme.px(width), theme.px(height))


def fix_width(widget: QWidget, width: int) -> None:
    """A width that follows the text."""
    _set(widget, "setFixedWidth", width)


def fix_height(widget: QWidget, height: int) -> None:
    """A height that follows the text."""
    _set(widget, "setFixedHeight", height)


def least_width(widget: QWidget, width: int) -> None:
    """A least width that follows the text."""
    _set(widget, "setMinimumWidth", width)


def least_height(widget: QWidget, height: int) -> None:
    """A least height that follows the text."""
    _set(widget, "setMinimumHeight", height)


def most_width(widget: QWidget, width: int) -> None:
    """A greatest width that follows the text."""
    _set(widget, "setMaximumWidth", width)


def most_height(widget: QWidget, height: int) -> None:
    """A greatest height that follows the text."""
    _set(widget, "setMaximumHeight", height)


def row_height(header: QHeaderView, height: int) -> None:
    """A height of a table's rows that follows the text."""
    _set(header, "setDefaultSectionSize", height)


def column_width(header: QHeaderView, column: int, width: int) -> None:
    """A width of a table's column that follows the text."""
    _columns.setdefault(header, {})[column] = width
    header.resizeSection(column, theme.px(width))


def _set(widget: QWidget, method: str, size: int) -> None:
    _sized.add(widget)
    widget.setProperty(method, size)
    getattr(widget, method)(theme.px(size))


def rescale_all() -> None:
    """Bring every size and every drawing to the size that text has now."""
    for widget in _there(_sized):
        for method in SIZES:
            size = widget.property(method)
            if size is not None:
                getattr(widget, method)(theme.px(size))
    for header, widths in list(_columns.items()):
        for column, width in widths.items() if isValid(header) else ():
            header.resizeSection(column, theme.px(width))
    for drawing in _there(_rescaled):
        drawing.rescaled()


def _there(widgets: WeakSet[Kind]) -> list[Kind]:
    """Those that Qt has still."""
    return [one for one in list(widgets) if isValid(one)]
