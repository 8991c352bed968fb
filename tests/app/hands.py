"""What a person does with a widget, for tests."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from diaulos.app.views.reamp.tone_panel import TonePanel
from diaulos.app.widgets.quantity_field import QuantityField


def type_in(field: QuantityField, text: str) -> None:
    """Type a value over the old one and press Enter."""
    field.line.selectAll()
    field.line.insert(text)  # keyClicks knows ASCII alone
    QTest.keyClick(field.line, Qt.Key.Key_Return)


def choose_target(panel: TonePanel, kind: str, ident: str) -> None:
    """Choose a reference for the level match."""
    choice = panel._target
    index = next(n for n in range(choice.count()) if choice.itemData(n) == (kind, ident))
    choice.setCurrentIndex(index)
