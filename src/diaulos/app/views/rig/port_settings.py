"""Settings of a device as fields of a form."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QScrollArea,
    QWidget,
)

from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.wrapping import Flowing
from diaulos.rig.graph import RigGraph
from diaulos.rig.mixer import LEVEL, MUTE, PAN, is_strip_setting
from diaulos.rig.model import (
    Choice,
    Control,
    Device,
    PortRef,
    RigState,
)
from diaulos.rig.states import in_state, setting_words
from diaulos.session.instrument import Instrument


def _stem(ident: str) -> str:
    return ident.rstrip("0123456789")


class PortSettings(QWidget):
    """The page of settings."""

    setting_asked = Signal(str, str, object)
    reamp_setting_asked = Signal(str, str, object)
    """(device, setting, value) that stands so in state Reamp alone."""
    settings_area: QScrollArea
    _graph: RigGraph | None
    _instruments: tuple[Instrument, ...]
    _device: str
    _port: PortRef | None
    _writable: bool
    _fields: dict[str, QComboBox | QDoubleSpinBox]

    _names: dict[str, TextLabel]
    _shape: tuple[object, ...]
    _state: RigState = "record"

    # --- settings ---

    def _show_settings(self, device: Device) -> None:
        """The port's own controls first: those that end with its number. The fields stay
        while the device has the same ones, so that a knob keeps the keyboard."""
        number = "".join(c for c in (self._port.port if self._port else "") if c.isdigit())
        own = [s for s in device.settings if number and s.id == _stem(s.id) + number]
        strip = {f"{part}{self._port.port}" for part in (LEVEL, PAN, MUTE)} if self._port else ()
        mixed = [s for s in device.settings if is_strip_setting(s.id)]
        own = [s for s in own if s not in mixed]
        own += [s for s in mixed if s.id in strip or _of_channel(s.id, strip)]
        settings = [*own, *(s for s in device.settings if s not in own and s not in mixed)]
        extra = tuple((one.id, one.name) for one in self._instruments)
        assert self._graph is not None
        rig = self._graph.rig
        other = {s.id: s for s in in_state(rig, "reamp").device(device.id).settings}
        shape = (device.id, tuple((s.id, s.name) for s in settings), extra, self._writable)
        if shape != self._shape:
            self._shape = shape
            self._build_settings(device, settings)
        for setting in settings:
            there = other[setting.id]
            shown = there if self._state == "reamp" else setting
            field = self._fields[setting.id]
            self._fill_field(field, shown)
            both = self._state == "record" or setting.id != "instrument"
            field.setEnabled(self._writable and both)
            thrown = there.value != setting.value
            more = f"\nReamp: {setting_words(there)}" if thrown else ""
            self._names[setting.id].setText(f"{setting.name}{more}")

    def _build_settings(self, device: Device, settings: list[Choice | Control]) -> None:
        """One row each; what stands otherwise in state Reamp says so under its name."""
        page = Flowing()  # as high as names that go on in a second line need
        # Not a form layout: that gives names which go on in a second line too little height.
        form = QGridLayout(page)
        form.setContentsMargins(6, 6, 6, 2)
        form.setVerticalSpacing(4)
        form.setColumnStretch(0, 1)
        form.setColumnStretch(1, 1)
        self._fields, self._names = {}, {}
        if any(one.id != "instrument" for one in settings):
            form.addWidget(TextLabel("Set for state"), 0, 0)
            form.addWidget(self._state_box(device), 0, 1)
        for setting in settings:
            self._fields[setting.id] = self._field(device, setting)
            self._names[setting.id] = TextLabel(setting.name)
            self._names[setting.id].setWordWrap(True)
            row = form.rowCount()
            form.addWidget(self._names[setting.id], row, 0)
            form.addWidget(self._fields[setting.id], row, 1)
        if not settings:
            form.addWidget(TextLabel("It has no switch and no knob."), 0, 0, 1, 2)
        form.setRowStretch(form.rowCount(), 1)
        self.settings_area.setWidget(page)

    def _state_box(self, device: Device) -> QComboBox:
        box = combo("State that is set", {"record": "Both", "reamp": "Reamp alone"},
                    least=7)  # fmt: skip
        box.setCurrentIndex(box.findData(self._state))
        box.setToolTip(
            "A rig that records and reamps with the same devices has two states. What stands "
            "otherwise in Reamp is a switch that is thrown on the hardware: set it here"
        )

        def choose() -> None:
            self._state = "reamp" if box.currentData() == "reamp" else "record"
            self._show_settings(device)

        box.activated.connect(lambda _i: choose())
        return box

    def _ask(self, device: str, setting: str, value: object) -> None:
        if self._state == "reamp":
            self.reamp_setting_asked.emit(device, setting, value)
        else:
            self.setting_asked.emit(device, setting, value)

    def _field(self, device: Device, setting: Choice | Control) -> QComboBox | QDoubleSpinBox:
        name = f"{setting.name} of {device.name}"
        if isinstance(setting, Choice):
            box = combo(name, least=7)
            options = list(setting.options)
            if setting.id == "instrument":
                options += [(one.id, one.name) for one in self._instruments]
            for value, words in options:
                box.addItem(words, value)
            box.activated.connect(
                lambda _i, b=box: self._ask(device.id, setting.id, b.currentData())
            )
            box.wheelEvent = lambda event: event.ignore()  # type: ignore[method-assign]  # a wheel scrolls the form and turns no knob
            return box
        spin = NumberField()
        spin.setAccessibleName(name)
        spin.setRange(setting.minimum, setting.maximum)
        spin.setSingleStep(setting.step)
        spin.setDecimals(0 if float(setting.step).is_integer() else 1)
        spin.setSuffix(f" {setting.unit}".rstrip())
        spin.setKeyboardTracking(False)
        spin.valueChanged.connect(partial(self._on_spin, device.id, setting))
        spin.wheelEvent = lambda event: event.ignore()  # type: ignore[method-assign]  # a wheel scrolls the form and turns no knob
        return spin

    def _fill_field(self, field: QComboBox | QDoubleSpinBox, setting: Choice | Control) -> None:
        blocker = QSignalBlocker(field)
        if isinstance(field, QDoubleSpinBox):
            assert isinstance(setting, Control)
            field.setRange(setting.minimum, setting.maximum)
            field.setSingleStep(setting.step)
            field.setValue(setting.value)
        else:
            if field.findData(setting.value) < 0:
                field.addItem(str(setting.value), setting.value)
            field.setCurrentIndex(field.findData(setting.value))
        del blocker

    def _on_spin(self, device: str, setting: Control, value: float) -> None:
        self._ask(device, setting.id, setting.nearest(value))


def _of_channel(setting_id: str, strips: set[str] | tuple[str, ...]) -> bool:
    """Whether a strip is one channel of the port that these are named after."""
    return any(
        setting_id.startswith(f"{one}_") and setting_id.removeprefix(f"{one}_").isdigit()
        for one in strips
    )
