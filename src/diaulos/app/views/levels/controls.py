"""Under the diagram: the controls of every station, in the device's own units and steps."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QAction, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.views.levels.diagram import AXIS, RIGHT_AXIS
from diaulos.app.widgets.controls import NarrowBox
from diaulos.app.widgets.labels import TextLabel, tip
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.painted import Rescaled
from diaulos.rig.levels.settings import CourseSetting
from diaulos.rig.model import Choice, Control
from diaulos.work.rigs.columns import Column


class _Elided(TextLabel):
    """A name that is cut with dots where its column is narrow; in full in the tooltip."""

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self._full = text
        self.setProperty("role", "small")
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)

    def paintEvent(self, event: QPaintEvent) -> None:
        # Painted, not set: a new text asks for a new layout, which asks for a new text.
        painter = QPainter(self)
        shown = self.fontMetrics().elidedText(self._full, Qt.TextElideMode.ElideRight, self.width())
        painter.drawText(
            self.rect(), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, shown
        )


class SettingField(QWidget):
    """One control: its name with a lock, and the value."""

    value_asked = Signal(object, object)
    lock_asked = Signal(object, bool)

    def __init__(self, setting: CourseSetting) -> None:
        super().__init__()
        self.setting = setting
        self.name = _Elided(setting.setting.name)
        self.locked = TextLabel("locked")
        self.locked.setProperty("role", "small-bold")
        self.lock = QAction("Locked against the solver (L)", self)
        self.lock.setCheckable(True)
        self.lock.toggled.connect(self._on_lock)
        self.value: QDoubleSpinBox | QComboBox
        if isinstance(setting.setting, Control):
            self.value = self._spin(setting.setting)
        else:
            self.value = self._box(setting.setting)
        self.value.setAccessibleName(setting.words)
        self.value.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.value.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(1)
        column.addWidget(self.name)
        column.addWidget(self.value)
        column.addWidget(self.locked)
        self.value.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
        self.value.addAction(self.lock)
        self.show_setting(setting)

    def _spin(self, control: Control) -> QDoubleSpinBox:
        spin = NumberField()
        spin.setRange(control.minimum, control.maximum)
        spin.setSingleStep(control.step)
        spin.setDecimals(0 if control.step % 1.0 == 0.0 else 1)
        spin.setSuffix(f" {control.unit}" if control.unit else "")
        spin.setKeyboardTracking(False)
        spin.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        spin.valueChanged.connect(
            lambda value: self.value_asked.emit(self.setting.ref, control.nearest(value))
        )
        return spin

    def _box(self, choice: Choice) -> QComboBox:
        box = NarrowBox()
        box.setProperty("compact", "true")
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(4)
        for value, words in choice.options:
            box.addItem(words, value)
        box.activated.connect(
            lambda _index: self.value_asked.emit(self.setting.ref, box.currentData())
        )
        return box

    def _on_lock(self, locked: bool) -> None:
        self.lock_asked.emit(self.setting.ref, locked)

    def show_setting(self, setting: CourseSetting) -> None:
        """The control as it stands now."""
        self.setting = setting
        blockers = [QSignalBlocker(self.lock), QSignalBlocker(self.value)]
        self.lock.setChecked(setting.kept == "locked")
        self.locked.setVisible(setting.kept == "locked")
        self.value.setAccessibleDescription(setting.kept)
        if isinstance(self.value, QDoubleSpinBox):
            self.value.setValue(float(setting.value))
        else:
            self.value.setCurrentIndex(self.value.findData(setting.value))
        del blockers
        kept = "" if setting.kept in ("", "locked") else f"The solver leaves it: {setting.kept}. "
        if isinstance(setting.setting, Control):
            unit = setting.setting.unit
            steps = (
                f"{setting.setting.minimum:g} to {setting.setting.maximum:g} {unit} in steps of "
                f"{setting.setting.step:g}. Up and Down turn it."
            )
        else:
            steps = "A switch."
        hint = tip(f"{setting.words}. {kept}{steps} L or a right click locks it.")
        self.value.setToolTip(hint)
        self.name.setToolTip(hint)

    def set_writable(self, writable: bool) -> None:
        """Whether it may be turned and locked."""
        self.value.setEnabled(writable)
        self.lock.setEnabled(writable)


class ControlsRow(Rescaled):
    """The fields of all columns, each under its own; kept while the stations stay the same."""

    value_asked = Signal(object, object)
    lock_asked = Signal(object, bool)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Controls of the stations")
        self._row = QHBoxLayout(self)
        self.rescaled()
        self._row.setSpacing(0)
        self._shape: tuple[object, ...] = ()
        self.fields: dict[str, SettingField] = {}

    def rescaled(self) -> None:
        # Under the columns of the diagram, whose axes grow with the text.
        self._row.setContentsMargins(theme.px(AXIS), 2, theme.px(RIGHT_AXIS), 2)
        super().rescaled()

    def show_columns(self, columns: tuple[Column, ...], writable: bool) -> None:
        """The controls of these columns."""
        shape = tuple(
            (column.station.place.key, tuple(_shape(one) for one in column.station.controls))
            for column in columns
        )
        if shape != self._shape:
            self._shape = shape
            self._rebuild(columns)
        for column in columns:
            for one in column.station.controls:
                field = self.fields[str(one.ref)]
                field.show_setting(one)
                field.set_writable(writable)

    def _rebuild(self, columns: tuple[Column, ...]) -> None:
        while self._row.count():
            item = self._row.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.fields = {}
        for column in columns:
            cell = QWidget()
            cell.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            inside = QVBoxLayout(cell)
            inside.setContentsMargins(4, 0, 2, 0)
            inside.setSpacing(3)
            for one in column.station.controls:
                field = SettingField(one)
                field.value_asked.connect(self.value_asked)
                field.lock_asked.connect(self.lock_asked)
                self.fields[str(one.ref)] = field
                inside.addWidget(field)
            if not column.station.controls:
                none = TextLabel()
                inside.addWidget(none)
            inside.addStretch(1)
            self._row.addWidget(cell, 1)

    def focused(self) -> SettingField | None:
        """The field that has the keyboard."""
        return next((field for field in self.fields.values() if field.value.hasFocus()), None)


def _shape(one: CourseSetting) -> tuple[object, ...]:
    setting = one.setting
    if isinstance(setting, Control):
        return (str(one.ref), setting.minimum, setting.maximum, setting.step)
    return (str(one.ref), setting.options)
