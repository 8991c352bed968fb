"""Choose a whole arrangement: each with its sentence."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QListView, QVBoxLayout, QWidget

from diaulos.app import theme
from diaulos.app.widgets.rows import Index, RowDelegate, Rows
from diaulos.rig.templates import TEMPLATES, Template


class _Templates(Rows):
    def ident(self, item: Template) -> str:
        return item.id

    def words(self, item: Template) -> tuple[str, str]:
        return item.name, f"{item.name}. {item.sentence}"


class _Delegate(RowDelegate):
    height = 66

    def paint_item(self, painter: QPainter, rect: QRectF, item: Template, index: Index) -> None:
        look = theme.current()
        painter.setFont(theme.text_font(10, bold=True))
        painter.setPen(look.colour("ink"))
        top = QRectF(rect.left(), rect.top(), rect.width(), 18)
        painter.drawText(top, Qt.AlignmentFlag.AlignLeft, item.name)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        below = QRectF(rect.left(), rect.top() + 19, rect.width(), rect.height() - 19)
        painter.drawText(below, int(Qt.TextFlag.TextWordWrap), item.sentence)


class ArrangementDialog(QDialog):
    """A list of arrangements; `chosen` is the id of the one that was taken."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Add an arrangement")
        self.resize(640, 560)
        self._model = _Templates()
        self._model.set_items(tuple(TEMPLATES.values()))
        self.list = QListView()
        self.list.setModel(self._model)
        self.list.setItemDelegate(_Delegate(self.list))
        self.list.setAccessibleName("Arrangements")
        self.list.setCurrentIndex(self._model.index(0))
        self.list.doubleClicked.connect(lambda _i: self.accept())
        buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Add")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(self.list)
        column.addWidget(buttons)
        self.list.setFocus()

    @property
    def chosen(self) -> str:
        """The id of the arrangement that is chosen."""
        item = self._model.item(self.list.currentIndex().row())
        return item.id if item else ""
