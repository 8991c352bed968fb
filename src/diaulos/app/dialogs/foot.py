"""The foot that asking dialogs share: a hint, what is wrong, and the two buttons."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QLabel

from diaulos.app.widgets.labels import TextLabel


def add_foot(
    dialog: QDialog, form: QFormLayout, hint: str, accept: str
) -> tuple[QLabel, QDialogButtonBox]:
    """Add the rows; gives the line for a problem, and the buttons."""
    muted = TextLabel(hint)
    muted.setProperty("role", "muted")
    form.addRow(muted)
    problem = TextLabel()
    problem.setProperty("role", "problem")
    form.addRow(problem)
    buttons = QDialogButtonBox(
        QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
    )
    buttons.button(QDialogButtonBox.StandardButton.Ok).setText(accept)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    form.addRow(buttons)
    return problem, buttons
