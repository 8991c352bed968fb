"""What a person does with a widget, for tests."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialog, QWidget

from diaulos.app.views.reamp.tone_panel import TonePanel
from diaulos.app.widgets.quantity_field import QuantityField

ALT, CTRL, PLAIN = (
    Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.NoModifier,
)  # fmt: skip


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


def press(key: Qt.Key, modifier: Qt.KeyboardModifier = PLAIN) -> None:
    """A key into whatever has the focus; no click anywhere in this file."""
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    window = app.activeWindow()
    assert window is not None
    QTest.keyClick(app.focusWidget() or window, key, modifier)
    if modifier == ALT:
        QTest.qWait(200)  # a button that is pressed by its letter stays down for a moment


def tab_to(wanted: QWidget, most: int = 60) -> None:
    """Tab until it has the focus: everything can be reached."""
    for _ in range(most):
        if wanted.hasFocus():
            return
        press(Qt.Key.Key_Tab)
    pytest.fail(f"{wanted.accessibleName() or wanted} is not reached by Tab")


def through(
    monkeypatch: pytest.MonkeyPatch, kind: type[QDialog], walk: Callable[..., None]
) -> None:
    """Where the window would wait for a dialog, the walk goes through it."""

    def run(dialog: QDialog) -> int:
        dialog.setModal(True)
        dialog.show()
        for _ in range(200):
            if dialog.isActiveWindow():
                break
            dialog.activateWindow()
            QTest.qWait(20)
        assert dialog.isActiveWindow()
        walk(dialog)
        return dialog.result()

    monkeypatch.setattr(kind, "exec", run)
