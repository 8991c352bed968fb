"""Small helpers for controls: combo boxes that do not widen their window, late buttons."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtWidgets import QAbstractButton, QComboBox, QWidget


def combo(name: str, words: Mapping[str, str] | None = None, least: int = 8) -> QComboBox:
    """A combo box with an accessible name that is as narrow as its place."""
    box = QComboBox()
    box.setAccessibleName(name)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(least)
    for key, text in (words or {}).items():
        box.addItem(text, key)
    return box


def choose(box: QComboBox, data: object) -> None:
    """Show the entry of this data, without telling anybody; the first when there is none."""
    blocker = QSignalBlocker(box)
    index = box.findData(data)
    box.setCurrentIndex(index if index >= 0 else 0)
    del blocker


def late_button(button: QAbstractButton, inside: QWidget) -> None:
    """A button that is made after its view was added: a click leaves the focus where it was,
    and Space presses it only when it was reached by Tab."""
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    guard = getattr(inside.window(), "guard_space", None)
    if guard is not None:
        guard(button)
