"""The calibration of an input: the dBu that reached 0 dBFS, or "unknown"."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QWidget

from diaulos.app.widgets.number_field import NumberField

USUAL_DBU = 12.0


class CalibrationField(QWidget):
    """A level with a box for "unknown", which is where it starts."""

    changed = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.level = NumberField()
        self.level.setRange(-40.0, 60.0)
        self.level.setDecimals(1)
        self.level.setValue(USUAL_DBU)
        self.level.setSuffix(" dBu at 0 dBFS")
        self.level.setAccessibleName("Level that reached full scale")
        self.level.setEnabled(False)
        self.unknown = QCheckBox("Unknown")
        self.unknown.setChecked(True)
        self.unknown.toggled.connect(self._on_toggled)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.level, 1)
        row.addWidget(self.unknown)

    @property
    def value(self) -> float | None:
        """dBu at 0 dBFS, None for unknown."""
        return None if self.unknown.isChecked() else self.level.value()

    def show_value(self, full_scale_dbu: float | None) -> None:
        """Show a calibration."""
        self.unknown.setChecked(full_scale_dbu is None)
        if full_scale_dbu is not None:
            self.level.setValue(full_scale_dbu)

    def _on_toggled(self, on: bool) -> None:
        self.level.setEnabled(not on)
        self.changed.emit()
