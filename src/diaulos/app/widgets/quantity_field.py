"""A field for a quantity: read as people type it, shown in engineering form.

What cannot be read stays as it was typed, with the reason at the field; the value behind
it does not change.
"""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import QLineEdit, QSizePolicy, QVBoxLayout, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import least_width
from diaulos.errors import InputError
from diaulos.quantities import Quantity, example, parse, show


class _Line(QLineEdit):
    focused = Signal(bool)

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
        self.line.setText("" if value is None else show(value, self._quantity, 4))
        self.line.setCursorPosition(0)
        self._say("")

    def _on_edited(self) -> None:
        text = self.line.text().strip()
        if self._optional and text.lower() in ("", self._none_text):
            self._say("")
            if self._value is not None:
                self._value = None
                self.changed.emit(None)
            return
        shown = "" if self._value is None else show(self._value, self._quantity, 4)
        if text == shown:
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
