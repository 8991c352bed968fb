"""Plain tables: cells with a text, a figure to sort by, words for a tooltip."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from PySide6.QtCore import QEvent, QSignalBlocker, Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem
from shiboken6 import isValid

from diaulos.app import theme
from diaulos.app.widgets.labels import tip
from diaulos.app.widgets.painted import column_width, row_height
from diaulos.records import dataclass
from diaulos.tables import csv_text

KEY = Qt.ItemDataRole.UserRole
SORT = Qt.ItemDataRole.UserRole + 1
PART = 50


@dataclass(frozen=True)
class Cell:
    """A text; `sort` where the text does not sort by itself; `token` a colour of the look."""

    text: str
    tip: str = ""
    sort: float | None = None
    figure: bool = False
    editable: bool = False
    token: str = ""
    bold: bool = False


class _Item(QTableWidgetItem):
    def __lt__(self, other: QTableWidgetItem) -> bool:
        one, two = self.data(SORT), other.data(SORT)
        if one is not None and two is not None:
            return bool(one < two)
        return self.text().casefold() < other.text().casefold()


class Table(QTableWidget):
    """Rows of cells with a key each; the chosen key stays chosen."""

    def __init__(
        self,
        name: str,
        columns: Sequence[str],
        stretch: int,
        widths: Mapping[int, int] | None = None,
    ) -> None:
        """One column takes what is left; `widths` fixes some, the others fit their text."""
        super().__init__(0, len(columns))
        self._tinted: list[tuple[QTableWidgetItem, str]] = []
        self._look = ""
        """The look that their colours are of."""
        self.setAccessibleName(name)
        self.setHorizontalHeaderLabels(list(columns))
        self.verticalHeader().hide()
        row_height(self.verticalHeader(), 24)
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setTabKeyNavigation(False)
        # A letter typed over a table is a key of the view, or nothing: it renames nothing.
        trigger = QAbstractItemView.EditTrigger
        self.setEditTriggers(trigger.DoubleClicked | trigger.EditKeyPressed)
        self.setWordWrap(False)
        self.horizontalHeader().setHighlightSections(False)
        for column in range(len(columns)):
            mode = QHeaderView.ResizeMode.ResizeToContents
            if column == stretch:
                mode = QHeaderView.ResizeMode.Stretch
            elif widths and column in widths:
                mode = QHeaderView.ResizeMode.Interactive
                column_width(self.horizontalHeader(), column, widths[column])
            self.horizontalHeader().setSectionResizeMode(column, mode)
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        self.horizontalHeader().setDefaultAlignment(left)

    def show_rows(
        self,
        rows: Sequence[tuple[Any, Sequence[Cell]]],
        between: Callable[[], None] = lambda: None,
    ) -> None:
        """Fill; each row is a key and its cells. `between` is called between two parts of a long
        table."""
        chosen = self.chosen()
        blocker = QSignalBlocker(self)
        sorting = self.isSortingEnabled()
        self.setSortingEnabled(False)
        self.setRowCount(len(rows))
        self._tinted.clear()
        look = theme.current()
        self._look = look.name
        for index, (key, cells) in enumerate(rows):
            if index % PART == PART - 1:
                between()
            for column, cell in enumerate(cells):
                item = _Item(cell.text)
                item.setData(KEY, key)
                if cell.sort is not None:
                    item.setData(SORT, cell.sort)
                item.setToolTip(tip(cell.tip or cell.text))
                flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
                if cell.editable:
                    flags |= Qt.ItemFlag.ItemIsEditable
                item.setFlags(flags)
                if cell.figure:
                    right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
                    item.setTextAlignment(right)
                elif cell.bold:
                    item.setFont(theme.bold_font())
                if cell.token:
                    item.setForeground(look.colour(cell.token))
                    self._tinted.append((item, cell.token))
                self.setItem(index, column, item)
        self.setSortingEnabled(sorting)
        self.choose(chosen)
        del blocker

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.PaletteChange:  # another look
            self._tint()
        super().changeEvent(event)

    def showEvent(self, event: QShowEvent) -> None:
        self._tint()  # what was never seen is not told of another look
        super().showEvent(event)

    def _tint(self) -> None:
        look = theme.current()
        if look.name == self._look:
            return
        self._look = look.name
        for item, token in self._tinted:
            if isValid(item):
                item.setForeground(look.colour(token))

    def as_high_as_rows(self, least: int = 1) -> None:
        """As high as what stands in it: for a few rows above something else."""
        rows = max(least, self.rowCount())
        high = self.horizontalHeader().sizeHint().height() + 2 * self.frameWidth()
        self.setFixedHeight(high + rows * self.verticalHeader().defaultSectionSize())

    def chosen(self) -> Any:
        """The key of the chosen row, or None."""
        item = self.item(self.currentRow(), 0)
        return None if item is None else item.data(KEY)

    def choose(self, key: Any) -> None:
        """Choose the row of a key, if it is there."""
        for row in range(self.rowCount()):
            item = self.item(row, 0)
            if key is not None and item is not None and item.data(KEY) == key:
                self.setCurrentCell(row, 0)
                return

    def choose_first(self) -> None:
        """The first row."""
        if self.rowCount():
            self.setCurrentCell(0, 0)

    def as_csv(self) -> str:
        """Headers and rows in the order shown."""
        columns = range(self.columnCount())
        head = [_text(self.horizontalHeaderItem(c)) for c in columns]
        rows = [[_text(self.item(row, c)) for c in columns] for row in range(self.rowCount())]
        return csv_text(head, rows)


def _text(item: QTableWidgetItem | None) -> str:
    return "" if item is None else item.text()
