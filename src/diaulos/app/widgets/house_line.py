"""What a view departs from the house's practice by: a note at its foot, with the price of either
choice. Never as a fault, and nothing where nothing departs."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.labels import ElidedLabel, tip

Note = tuple[str, str]
"""What is otherwise here, and the price."""


class HouseLine(QWidget):
    """One note at a time; the button goes on to the next."""

    def __init__(self) -> None:
        super().__init__()
        self._notes: tuple[Note, ...] = ()
        self._at = 0
        self.setAccessibleName("House practice")
        self.words, self.price = ElidedLabel(), ElidedLabel()
        self.words.setAccessibleName("What departs from the house's practice here")
        self.price.setAccessibleName("Price of either choice")
        self.price.setProperty("role", "muted")
        self.next = QPushButton("")
        self.next.setAccessibleName("Next note")
        self.next.clicked.connect(self.go_on)
        self.next.setFlat(True)
        self.next.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        lines = QVBoxLayout()
        lines.setSpacing(0)
        lines.addWidget(self.words)
        lines.addWidget(self.price)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 2, 8, 2)
        row.addLayout(lines, 1)
        row.addWidget(self.next)
        self.hide()

    def show_notes(self, notes: Sequence[Note]) -> None:
        """Those of the view on screen; none hides the line."""
        if tuple(notes) == self._notes:
            return
        self._notes, self._at = tuple(notes), 0
        self._show()

    def go_on(self) -> None:
        """The next note."""
        self._at = (self._at + 1) % max(1, len(self._notes))
        self._show()

    def _show(self) -> None:
        self.setVisible(bool(self._notes))
        if not self._notes:
            return
        words, price = self._notes[self._at]
        self.words.setText(f"House practice: {words}")
        self.price.setText(price)
        for label in (self.words, self.price):
            label.setToolTip(tip(f"{words}\n{price}\nEdit > House practices shows all."))
        self.next.setText(f"{self._at + 1} of {len(self._notes)}")
        self.next.setToolTip("The next note of this view")
        self.next.setVisible(len(self._notes) > 1)
