"""A field for a quantity: read as people type it, shown in engineering form.

What cannot be read stays as it was typed, with the reason at the field; the value behind
it does not change. Enter takes the quantity and gives the focus back, Esc restores what was
there, a double click selects all of it. Letters are typed: a unit is part of a quantity.
"""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QLineEdit, QSizePolicy, QVBoxLayout, QWidget
from shiboken6 import isValid

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import ENTER, home_of
from diaulos.app.widgets.painted import least_width
from diaulos.errors import InputError
from diaulos.quantities import Quantity, example, parse, show


class _Line(QLineEdit):
    focused = Signal(bool)
    entered = Signal()
    given_up = Signal()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent):
            leaves = event.key() in (*ENTER, Qt.Key.Key_Escape)
            if leaves and home_of(self) is not None:
                event.accept()  # before the window's own
                return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        inside = home_of(self) is not None
        if inside and event.key() == Qt.Key.Key_Escape:
            self.given_up.emit()
            return
        super().keyPressEvent(event)
        if inside and event.key() in ENTER:
            event.accept()  # it was meant for the field; a dialog's goes on to its button
            if isValid(self):
                self.entered.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.selectAll()

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.focused.emit(True)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.focused.emit(False)


class QuantityField(QWidget):
    """A line for one quantity, and the reason below it when it cannot be read."""

    changed = Signal(object)
    """The new value in the base unit, or None where the field may be empty."""
    focused = Signal(bool)

    def __init__(
        self, quantity: Quantity, name: str, *, optional: bool = False, none_text: str = "none"
    ) -> None:
        super().__init__()
        self._quantity, self._optional, self._none_text = quantity, optional, none_text
        self._value: float | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.line = _Line()
        self.line.setAccessibleName(name)
        least_width(self.line, 44)
        self.line.setProperty("field", "true")
        self.line.setPlaceholderText(none_text if optional else example(quantity))
        self.line.setToolTip(f"For example {example(quantity)}.")
        self.line.editingFinished.connect(self._on_edited)
        self.line.focused.connect(self.focused)
        self.line.entered.connect(self._on_entered)
        self.line.given_up.connect(self._on_given_up)
        self.reason = TextLabel()
        self.reason.setProperty("role", "reason")
        self.reason.setWordWrap(True)
        # A long reason wraps; it does not widen the form.
        self.reason.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.MinimumExpanding)
        self.reason.hide()
        column.addWidget(self.line)
        column.addWidget(self.reason)
        self.setFocusProxy(self.line)

    @property
    def value(self) -> float | None:
        """The value behind the field, in the base unit."""
        return self._value

    def show_value(self, value: float | None) -> None:
        """Show a value, unless it is the one that is shown already."""
        if value == self._value and not self.reason.isVisible() and self.line.text():
            return
        self._value = value
        self.line.setText(self._shown)
        self.line.setCursorPosition(0)
        self._say("")

    @property
    def _shown(self) -> str:
        """The value as it is shown."""
        return "" if self._value is None else show(self._value, self._quantity, 4)

    def _on_entered(self) -> None:
        home = home_of(self)
        if home is not None and not self.reason.text():
            home.take_focus()  # type: ignore[attr-defined]

    def _on_given_up(self) -> None:
        self.line.setText(self._shown)
        self._say("")
        home = home_of(self)
        if home is not None:
            home.take_focus()  # type: ignore[attr-defined]

    def _on_edited(self) -> None:
        text = self.line.text().strip()
        if self._optional and text.lower() in ("", self._none_text):
            self._say("")
            if self._value is not None:
                self._value = None
                self.changed.emit(None)
            return
        if text == self._shown:
            self._say("")
            return
        try:
            value = parse(text, self._quantity)
        except InputError as error:
            self._say(f"{error.what} {error.remedy}".strip())
            return
        self._say("")
        self._value = value
        self.line.setText(show(value, self._quantity, 4))
        self.changed.emit(value)

    def _say(self, text: str) -> None:
        self.reason.setText(text)
        self.reason.setVisible(bool(text))
        self.line.setAccessibleDescription(text)
