"""The way of the reamp rig step by step, and what was measured of it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.wrapping import WrappingRow, scrolled
from diaulos.work.reamp.guide import Step


class GuidePanel(QWidget):
    """Shows the steps."""

    left = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.title = TextLabel()
        self.title.setProperty("role", "title")
        self.back = QPushButton("Back (W)")
        self.back.clicked.connect(self.left)
        self.steps = TextLabel()
        self.steps.setWordWrap(True)
        self.steps.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.steps.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse
            | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
        self.steps.setAccessibleName("Steps")
        top = WrappingRow()
        top.addWidget(self.title)
        top.add_stretch()
        top.addWidget(self.back)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 0, 0)
        column.addLayout(top)
        column.addWidget(scrolled(self.steps, "Steps of the way"), 1)

    def show_steps(self, rig: str, steps: Sequence[Step], why: str = "") -> None:
        """The steps of a rig, or why it has none."""
        self.title.setText(rig)
        self.steps.setText(guide_text(steps) or why)


def guide_text(steps: Sequence[Step]) -> str:
    """As plain text, for screen and clipboard."""
    parts = []
    for number, step in enumerate(steps, start=1):
        lines = [f"{number}. {step.title}", *(f"    {line}" for line in step.lines)]
        if step.proved:
            lines.append(f"    \N{CHECK MARK} {step.proved}")
        parts.append("\n".join(lines))
    return "\n\n".join(parts)
