"""Two ways in of one performance: a guided comparison in five steps, with a verdict for the
notes."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFormLayout, QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.records import dataclass

STEPS = ("One performance", "Conversions", "Noise in the pauses", "What differs", "Heard blind")


@dataclass(frozen=True)
class Step:
    """What one step says, and whether it is done."""

    words: str
    done: bool


class WaysPage(QWidget):
    """The steps, each with its answer; then the blind test, then the note."""

    blind_asked = Signal()
    note_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        title = TextLabel("Two ways in")
        title.setProperty("role", "title")
        form = QFormLayout()
        form.setContentsMargins(0, 0, 0, 0)
        form.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapAllRows)
        self.steps: list[tuple[TextLabel, TextLabel]] = []
        for at, name in enumerate(STEPS, start=1):
            caption, words = TextLabel(f"{at}  {name}"), TextLabel()
            caption.setProperty("role", "muted")
            words.setWordWrap(True)
            words.setAccessibleName(name)
            form.addRow(caption, words)
            self.steps.append((caption, words))
        self.blind_button = QPushButton("Hear it blind (B)")
        self.blind_button.clicked.connect(self.blind_asked)
        self.note_button = QPushButton("Note the verdict (N)")
        self.note_button.setToolTip("Below the notes of A's take; undo takes it back")
        self.note_button.clicked.connect(self.note_asked)
        row = WrappingRow()
        row.addWidget(self.blind_button)
        row.addWidget(self.note_button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(title)
        column.addLayout(form)
        column.addLayout(row)
        column.addStretch(1)

    def show_steps(self, steps: Sequence[Step], *, blind: bool, note: bool) -> None:
        """What each step says now; which buttons can be pressed."""
        next_one = next((at for at, step in enumerate(steps) if not step.done), -1)
        for at, ((caption, words), step) in enumerate(zip(self.steps, steps, strict=True)):
            words.setText(step.words)
            caption.setText(f"{'Next: ' if at == next_one else ''}{at + 1}  {STEPS[at]}")
        self.blind_button.setEnabled(blind)
        self.note_button.setEnabled(note)
