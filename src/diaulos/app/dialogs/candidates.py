"""Choose what is compared: tracks and passes of every take, or a file."""

from __future__ import annotations

from collections.abc import Collection

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QDialogButtonBox,
    QLineEdit,
    QListView,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.marks import paint_mark
from diaulos.app.widgets.rows import ITEM, Index, RowDelegate, Rows, paint_line
from diaulos.figures import TAP_WORDS
from diaulos.work.compare.choices import Candidate


class _Candidates(Rows):
    def ident(self, item: Candidate) -> str:
        return item.key

    def words(self, item: Candidate) -> tuple[str, str]:
        tap = TAP_WORDS.get(item.tap, item.tap)
        return f"{item.take_name}: {item.name}", f"{item.name} of {item.take_name}, {tap}"


class _Delegate(RowDelegate):
    height = 44

    def paint_item(self, painter: QPainter, rect: QRectF, item: Candidate, index: Index) -> None:
        look = theme.current()
        paint_mark(painter, QRectF(rect.left(), rect.top() + 2, 16, 16), item.tap, look)
        painter.setFont(theme.text_font(10, bold=True))
        painter.setPen(look.colour("ink"))
        paint_line(painter, rect.adjusted(22, 0, 0, 0), 1, item.name)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        tap = TAP_WORDS.get(item.tap, item.tap)
        paint_line(painter, rect.adjusted(22, 0, 0, 0), 19, f"{item.take_name}, {tap}")


class CandidatesDialog(QDialog):
    """A list to choose from; `chosen` is what was taken, `file_asked` whether a file is wanted."""

    def __init__(
        self, candidates: tuple[Candidate, ...], there: Collection[str], room: int,
        parent: QWidget | None = None,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.setWindowTitle("What is compared")
        self.resize(520, 540)
        self._all = tuple(one for one in candidates if one.key not in there)
        self._room = room
        self.file_asked = False
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Type part of a name or of a take")
        self.filter.setAccessibleName("Filter")
        self.filter.textChanged.connect(self._on_filter)
        self._model = _Candidates()
        self._model.set_items(self._all)
        self.list = QListView()
        self.list.setModel(self._model)
        self.list.setItemDelegate(_Delegate(self.list))
        self.list.setAccessibleName("Tracks and passes")
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.doubleClicked.connect(lambda _i: self.accept())
        if self._all:
            self.list.setCurrentIndex(self._model.index(0))
        hint = TextLabel(
            f"Shift and Ctrl choose several; {room} more can be compared."
            if self._all
            else "Everything of this session is compared already, or it holds no take yet."
        )
        hint.setProperty("role", "muted")
        hint.setWordWrap(True)
        buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Add")
        buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(bool(self._all))
        file = QPushButton("A file\N{HORIZONTAL ELLIPSIS}")
        buttons.addButton(file, QDialogButtonBox.ButtonRole.ActionRole)
        file.clicked.connect(self._on_file)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(self.filter)
        column.addWidget(self.list, 1)
        column.addWidget(hint)
        column.addWidget(buttons)
        theme.dress(self)

    @property
    def chosen(self) -> tuple[Candidate, ...]:
        """What is marked, in the order of the list, as many as there is room for."""
        rows = sorted(index.row() for index in self.list.selectedIndexes())
        return tuple(self._model.index(row).data(ITEM) for row in rows)[: self._room]

    def _on_filter(self, text: str) -> None:
        wanted = text.casefold()
        self._model.set_items(
            tuple(one for one in self._all if wanted in f"{one.name} {one.take_name}".casefold())
        )
        if self._model.rowCount():
            self.list.setCurrentIndex(self._model.index(0))

    def _on_file(self) -> None:
        self.file_asked = True
        self.accept()
