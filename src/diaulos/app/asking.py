"""A question with one button for each answer."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QWidget


def ask(parent: QWidget, title: str, text: str, *answers: str, no: str = "Cancel") -> int:
    """Ask; which answer was pressed, -1 for `no` and Esc."""
    box = QMessageBox(parent)
    box.setWindowTitle("Diaulos")
    # What it quotes may come from a stranger's file: it is text, not markup.
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(title)
    box.setInformativeText(text)
    role = QMessageBox.ButtonRole
    buttons = [box.addButton(answer, role.AcceptRole) for answer in answers]
    stay = box.addButton(no, role.RejectRole)
    box.setEscapeButton(stay)
    box.exec()
    return next((i for i, one in enumerate(buttons) if one is box.clickedButton()), -1)
