"""The rail on the left: the views that exist, in working order."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QToolButton, QVBoxLayout, QWidget

from diaulos.app.widgets.painted import fix_width


class Rail(QWidget):
    """One button per view."""

    chosen = Signal(str)
    trainer_asked = Signal()

    def __init__(self, views: list[tuple[str, str, str]], parent: QWidget | None = None) -> None:
        """`views` holds (id, title, shortcut in words)."""
        super().__init__(parent)
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        fix_width(self, 96)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 8)
        column.setSpacing(2)
        self._group = QButtonGroup(self)
        self._buttons: dict[str, QToolButton] = {}
        for ident, title, shortcut in views:
            button = QToolButton()
            button.setText(title)
            button.setCheckable(True)
            fix_width(button, 95)
            button.setAccessibleName(f"{title} view")
            button.setToolTip(f"{title} ({shortcut})")
            button.clicked.connect(lambda _=False, key=ident: self.chosen.emit(key))
            self._group.addButton(button)
            self._buttons[ident] = button
            column.addWidget(button)
        column.addStretch(1)
        self.trainer = QToolButton()
        self.trainer.setText("Trainer")
        fix_width(self.trainer, 95)
        self.trainer.setAccessibleName("Trainer")
        self.trainer.setToolTip("Hear differences, match, set gains (Ctrl+T)")
        self.trainer.clicked.connect(lambda _on=False: self.trainer_asked.emit())
        column.addWidget(self.trainer)

    def show_chosen(self, ident: str) -> None:
        """Mark the view that is on screen; "" for none."""
        if ident:
            self._buttons[ident].setChecked(True)
            return
        marked = self._group.checkedButton()
        if marked is not None:
            self._group.setExclusive(False)  # else one stays marked
            marked.setChecked(False)
            self._group.setExclusive(True)
