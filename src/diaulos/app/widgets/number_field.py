"""A field for a number that does not get in the way of the view's single keys.

Enter takes the number and gives the focus back, Esc restores what was there. Keys that are no
part of a number do what they do in the view, after the number was taken. A double click selects
the whole number; the wheel turns it only while it has the focus.
"""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QFocusEvent, QKeyEvent, QValidator, QWheelEvent
from PySide6.QtWidgets import QDialog, QDoubleSpinBox, QSpinBox, QWidget

from diaulos.figures import MINUS, number

_PARTS = set("0123456789.,+-\N{MINUS SIGN}")
ENTER = (Qt.Key.Key_Return, Qt.Key.Key_Enter)


def is_part_of_a_number(event: QKeyEvent) -> bool:
    """Whether a key is typed into a number; what moves or deletes in it is, too."""
    text = event.text()
    if not text or not text.isprintable():
        return True
    mixed = event.modifiers() & ~(
        Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier
    )
    return bool(mixed) or text in _PARTS


def home_of(field: QWidget) -> QWidget | None:
    """Where the keyboard goes when a number was taken: the view around it; None in a dialog,
    where Enter and Esc answer it."""
    at = field.parentWidget()
    while at is not None and not isinstance(at, QDialog):
        if hasattr(at, "take_focus"):
            return at
        at = at.parentWidget()
    return None


class _Keys:
    """What both kinds of number fields do with keys. Comes first among their bases."""

    _old: float = 0.0

    def _prepare(self) -> None:
        assert isinstance(self, (QSpinBox, QDoubleSpinBox))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setKeyboardTracking(False)
        line = self.lineEdit()
        assert line is not None
        line.installEventFilter(self)

    def event(self, event: QEvent) -> bool:
        assert isinstance(self, (QSpinBox, QDoubleSpinBox))
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent):
            if home_of(self) is not None:
                if event.key() in (*ENTER, Qt.Key.Key_Escape):
                    event.accept()  # before the window's own
                    return True
                if not is_part_of_a_number(event):
                    self._take()
                    event.ignore()  # the view's own key
                    return False
        return super().event(event)  # type: ignore[misc,no-any-return]

    def _take(self) -> None:
        """The number as it stands; what the view does next is done with it, so that Esc does not
        take it back."""
        assert isinstance(self, (QSpinBox, QDoubleSpinBox))
        self.interpretText()
        self._old = self.value()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        assert isinstance(self, (QSpinBox, QDoubleSpinBox))
        if event.type() == QEvent.Type.MouseButtonDblClick:
            self.selectAll()
            return True
        return super().eventFilter(watched, event)  # type: ignore[misc,no-any-return]

    def focusInEvent(self, event: QFocusEvent) -> None:
        assert isinstance(self, (QSpinBox, QDoubleSpinBox))
        self._old = self.value()
        super().focusInEvent(event)  # type: ignore[misc]

    def keyPressEvent(self, event: QKeyEvent) -> None:
        assert isinstance(self, (QSpinBox, QDoubleSpinBox))
        home = home_of(self)
        if home is not None and event.key() in ENTER:
            self.interpretText()
            home.take_focus()  # type: ignore[attr-defined]
        elif home is not None and event.key() == Qt.Key.Key_Escape:
            self.setValue(self._old)  # type: ignore[arg-type]
            home.take_focus()  # type: ignore[attr-defined]
        elif home is not None and not is_part_of_a_number(event):
            self._take()
            event.ignore()
        else:
            super().keyPressEvent(event)  # type: ignore[misc]

    def wheelEvent(self, event: QWheelEvent) -> None:
        assert isinstance(self, (QSpinBox, QDoubleSpinBox))
        if self.hasFocus():
            super().wheelEvent(event)  # type: ignore[misc]
        else:
            event.ignore()


class NumberField(_Keys, QDoubleSpinBox):
    """A number with decimals, and a real minus sign."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._prepare()

    def textFromValue(self, value: float) -> str:
        return number(value, self.decimals())

    def valueFromText(self, text: str) -> float:
        return super().valueFromText(text.replace(MINUS, "-"))

    def validate(self, text: str, at: int) -> tuple[QValidator.State, str, int]:
        state, _, at = super().validate(text.replace(MINUS, "-"), at)
        return state, text, at


class WholeField(_Keys, QSpinBox):
    """A whole number."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._prepare()
