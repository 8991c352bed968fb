"""Small helpers for controls: combo boxes that do not widen their window, late buttons."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QEvent, QSignalBlocker, Qt
from PySide6.QtGui import QPaintEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QComboBox,
    QStyle,
    QStyleOptionComboBox,
    QStylePainter,
    QToolTip,
    QWidget,
)


class NarrowBox(QComboBox):
    """A combo box that may be narrower than its words: what does not fit ends in an ellipsis, and
    stands whole in the tooltip and in the list."""

    @property
    def shown(self) -> str:
        """The words as they fit."""
        return self._fitted(self._option())

    def _option(self) -> QStyleOptionComboBox:
        option = QStyleOptionComboBox()
        self.initStyleOption(option)
        return option

    def _fitted(self, option: QStyleOptionComboBox) -> str:
        room = self.style().subControlRect(
            QStyle.ComplexControl.CC_ComboBox, option, QStyle.SubControl.SC_ComboBoxEditField, self
        )
        words, end = self.currentText(), Qt.TextElideMode.ElideRight
        return self.fontMetrics().elidedText(words, end, room.width())

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter, option = QStylePainter(self), self._option()
        option.currentText = self._fitted(option)
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)

    def fit_list(self) -> None:
        """The list as wide as its words."""
        view = self.view()
        edges = 2 * view.frameWidth() + view.verticalScrollBar().sizeHint().width()
        view.setMinimumWidth(view.sizeHintForColumn(0) + edges)

    def showPopup(self) -> None:
        self.fit_list()
        super().showPopup()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and self.shown != self.currentText():
            words = "\n".join(part for part in (self.currentText(), self.toolTip()) if part)
            QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), words, self)
            return True
        return super().event(event)


def combo(name: str, words: Mapping[str, str] | None = None, least: int = 8) -> QComboBox:
    """A combo box with an accessible name that is as narrow as its place."""
    box = NarrowBox()
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


TICKS = "ticks"
"""Property of a list whose rows are ticked by Space."""


def late_button(button: QAbstractButton, inside: QWidget) -> None:
    """A button that is made after its view was added: a click leaves the focus where it was,
    and Space presses it only when it was reached by Tab."""
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    guard = getattr(inside.window(), "guard_space", None)
    if guard is not None:
        guard(button)
