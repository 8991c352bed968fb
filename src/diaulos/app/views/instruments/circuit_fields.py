"""The fields of an instrument and where they stand."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.views.instruments.schematic import Schematic
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.quantity_field import QuantityField
from diaulos.app.widgets.wrapping import scrolled
from diaulos.quantities import (
    CAPACITANCE,
    LENGTH,
    RESISTANCE,
    Quantity,
)
from diaulos.session.instrument import (
    FAMILY_WORDS,
)
from diaulos.session.representative import PICKUP_TYPES
from diaulos.session.tunings import TUNINGS

NARROW = 5
PER_METRE = Quantity("capacitance per metre", "F", "pF", 1e-13, 1e-7, allow_zero=True)
LIGHTS = {"volume_ohm": "volume", "tone_ohm": "tone", "tone_nf": "tone", "cable_m": "cable",
          "cable_pf_per_m": "cable"}  # fmt: skip


def _tight(grid: QGridLayout) -> None:
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setHorizontalSpacing(6)
    grid.setVerticalSpacing(2)


def _group(title: str) -> tuple[QWidget, QGridLayout]:
    holder = QWidget()
    column = QVBoxLayout(holder)
    column.setContentsMargins(0, 2, 0, 0)
    column.setSpacing(2)
    label = TextLabel(title)
    label.setProperty("role", "title")
    column.addWidget(label)
    grid = QGridLayout()
    _tight(grid)
    column.addLayout(grid)
    return holder, grid


class CircuitFields(QWidget):
    """Groups, knobs and fields."""

    fields: dict[str, QuantityField]
    schematic: Schematic

    # --- what the form does with them ---

    def _change(self, key: str, value: object, merge: str = "") -> None:
        """A value of the instrument."""

    def _change_control(self, key: str, value: object, merge: str = "") -> None:
        """A knob or a part of its wiring."""

    def _refill(self) -> None:
        """Another pickup."""

    def _on_type(self, _index: int) -> None:
        """Another type of pickup."""

    def _on_measured(self, on: bool) -> None:
        """Its values were measured, or are representative."""

    def _on_add_pickup(self) -> None:
        """One more pickup."""

    def _on_name(self) -> None:
        """Another name."""

    def _on_tuning_chosen(self, index: int) -> None:
        """A tuning of the list."""

    def _on_tuning_typed(self) -> None:
        """A tuning of one's own."""

    # --- building ---

    # --- building ---

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(self.schematic)
        inside = QWidget()
        groups = QVBoxLayout(inside)
        groups.setContentsMargins(0, 0, 4, 0)
        groups.setSpacing(4)
        self.name = QLineEdit()
        self.name.setProperty("field", "true")
        self.name.setAccessibleName("Name of the instrument")
        self.name.editingFinished.connect(self._on_name)
        groups.addWidget(self.name)
        row = QHBoxLayout()
        self.family = combo("Family", FAMILY_WORDS, NARROW)
        self.family.activated.connect(lambda _i: self._change("family", self.family.currentData()))
        self.tuning = combo("Strings and tuning", least=NARROW)
        self.tuning.setEditable(True)
        self.tuning.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        for one in TUNINGS.values():
            self.tuning.addItem(one.words, one.strings)
        self.tuning.activated.connect(self._on_tuning_chosen)
        line = self.tuning.lineEdit()
        assert line is not None
        line.setAccessibleName("Strings, lowest first")
        line.editingFinished.connect(self._on_tuning_typed)
        row.addWidget(self.family)
        row.addWidget(self.tuning, 1)
        groups.addLayout(row)
        groups.addWidget(self._pickup_group())
        groups.addWidget(self._controls_group())
        groups.addWidget(self._cable_group())
        groups.addWidget(self._inputs_group())
        self.notes = QLineEdit()
        self.notes.setProperty("field", "true")
        self.notes.setAccessibleName("Notes")
        self.notes.setPlaceholderText("Notes")
        self.notes.editingFinished.connect(lambda: self._change("notes", self.notes.text()))
        groups.addWidget(self.notes)
        groups.addStretch(1)
        area = scrolled(inside, "Circuit")
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column.addWidget(area, 1)

    def _pickup_group(self) -> QWidget:
        group, grid = _group("Pickup")
        self.position = combo("Selector position", least=NARROW)
        self.position.activated.connect(
            lambda _i: self._change("position_id", self.position.currentData())
        )
        self.which = combo("Pickup of the position", least=NARROW)
        self.which.activated.connect(lambda _i: self._refill())
        types = {key: words for key, (words, _) in PICKUP_TYPES.items()}
        self.type = combo("Pickup type", types, NARROW)
        self.type.activated.connect(self._on_type)
        self.add_position = QPushButton("Add")
        self.add_position.setAccessibleName("Add pickup")
        self.add_position.setToolTip("One more pickup with a selector position of its own.")
        self.add_position.clicked.connect(self._on_add_pickup)
        grid.addWidget(self.position, 0, 0, 1, 2)
        grid.addWidget(self.add_position, 0, 2, 1, 2)
        grid.addWidget(self.which, 1, 0, 1, 2)
        grid.addWidget(self.type, 1, 2, 1, 2)
        self._values = QWidget()
        self._value_grid = QGridLayout(self._values)
        _tight(self._value_grid)
        grid.addWidget(self._values, 2, 0, 1, 4)
        self.measured = QCheckBox("Measured values")
        self.measured.setToolTip("Representative values are from memory, not of your pickup.")
        self.measured.clicked.connect(self._on_measured)
        grid.addWidget(self.measured, 3, 0, 1, 4)
        return group

    def _controls_group(self) -> QWidget:
        group, grid = _group("Controls")
        self.volume = self._knob("volume_knob", "Volume")
        self.tone = self._knob("tone_knob", "Tone")
        for index, (words, knob, ohm) in enumerate(
            (("Volume", self.volume, "volume_ohm"), ("Tone", self.tone, "tone_ohm"))
        ):
            field = self._field(ohm, RESISTANCE, f"{words} pot", 1.0, optional=True)
            field.changed.connect(lambda value, key=ohm: self._change_control(key, value))
            grid.addWidget(TextLabel(words), index, 0)
            grid.addWidget(knob, index, 1)
            grid.addWidget(field, index, 2)
        self.taper = QCheckBox("Audio taper")
        self.taper.setToolTip("An audio taper gives 15 % at the middle (common practice).")
        self.taper.clicked.connect(
            lambda on: self._change_control("volume_taper", "audio" if on else "linear")
        )
        self.wiper = QCheckBox("Tone control after volume")
        self.wiper.clicked.connect(
            lambda on: self._change_control("tone_at", "wiper" if on else "hot")
        )
        cap = self._field("tone_nf", CAPACITANCE, "Tone capacitor", 1e-9)
        cap.changed.connect(lambda value: self._change_control("tone_nf", value * 1e9))
        bleed = self._field("bleed_pf", CAPACITANCE, "Treble bleed", 1e-12)
        bleed.changed.connect(lambda value: self._change_control("bleed_pf", value * 1e12))
        rows = QHBoxLayout()
        rows.addWidget(self.taper)
        rows.addWidget(self.wiper)
        grid.addLayout(rows, 2, 0, 1, 3)
        caps = QHBoxLayout()
        caps.setSpacing(6)
        for words, field in (("Tone C", cap), ("Bleed C", bleed)):
            caps.addWidget(TextLabel(words))
            caps.addWidget(field)
        grid.addLayout(caps, 3, 0, 1, 3)
        grid.setColumnStretch(1, 1)
        return group

    def _cable_group(self) -> QWidget:
        group, grid = _group("Usual cable")
        length = self._field("cable_m", LENGTH, "Cable length", 1.0)
        length.changed.connect(lambda value: self._change("cable_m", value))
        per_m = self._field("cable_pf_per_m", PER_METRE, "Cable capacitance per metre", 1e-12)
        per_m.changed.connect(lambda value: self._change("cable_pf_per_m", value * 1e12))
        grid.addWidget(length, 0, 0)
        grid.addWidget(per_m, 0, 1)
        grid.addWidget(TextLabel("/m"), 0, 2)
        return group

    def _inputs_group(self) -> QWidget:
        group, self._inputs_grid = _group("Inputs compared")
        return group

    def _knob(self, key: str, words: str) -> QSlider:
        slider = QSlider(Qt.Orientation.Horizontal)
        slider.setRange(0, 100)
        slider.setPageStep(10)
        slider.setAccessibleName(f"{words} knob, 0 to 10")
        slider.valueChanged.connect(
            lambda value, k=key: self._change_control(k, value / 10.0, merge=f"{k} turned")
        )
        slider.setToolTip(f"{words} knob from 0 to 10")
        return slider

    def _field(
        self, key: str, quantity: Quantity, name: str, unit: float, *, optional: bool = False
    ) -> QuantityField:
        field = QuantityField(quantity, name, optional=optional)
        light = LIGHTS.get(key, key)
        field.focused.connect(lambda on, k=light: self.schematic.light(k if on else ""))
        field.setProperty("unit", unit)
        self.fields[key] = field
        return field
