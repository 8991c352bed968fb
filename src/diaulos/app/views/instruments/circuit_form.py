"""The values of an instrument, in groups. It asks for edits and never makes them."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QLineEdit,
    QMenu,
    QPushButton,
    QWidget,
)

from diaulos.app.views.instruments.circuit_fields import CircuitFields
from diaulos.app.views.instruments.schematic import Schematic
from diaulos.app.widgets.controls import choose
from diaulos.app.widgets.labels import TextLabel, tip
from diaulos.app.widgets.painted import fix_width, least_width
from diaulos.app.widgets.quantity_field import QuantityField
from diaulos.figures import number
from diaulos.quantities import (
    CAPACITANCE,
    INDUCTANCE,
    LEVEL,
    RESISTANCE,
    Quantity,
    show,
)
from diaulos.session import edits
from diaulos.session.edits import Edit
from diaulos.session.instrument import (
    ComparedInput,
    Instrument,
    note_to_midi,
)
from diaulos.session.model import Session
from diaulos.session.representative import PICKUP_TYPES, pickup, usual_controls
from diaulos.session.tunings import TUNINGS, tuning_called
from diaulos.work.instruments.inputs import rig_inputs

"""Characters that a combo box of the form shows at least."""

# Fields of a pickup per kind: name, key, quantity, base unit per stored unit.
FIELDS: dict[str, tuple[tuple[str, str, Quantity, float], ...]] = {
    "coil": (
        ("Inductance", "inductance_h", INDUCTANCE, 1.0),
        ("Resistance", "resistance_ohm", RESISTANCE, 1.0),
        ("Winding capacitance", "winding_pf", CAPACITANCE, 1e-12),
        ("Eddy-current resistance", "eddy_ohm", RESISTANCE, 1.0),
    ),
    "active": (
        ("Output", "output_ohm", RESISTANCE, 1.0),
        ("Maximum", "max_dbu", LEVEL, 1.0),
        ("Noise", "noise_dbu", LEVEL, 1.0),
    ),
    "piezo": (
        ("Element", "capacitance_pf", CAPACITANCE, 1e-12),
        ("Maximum", "max_dbu", LEVEL, 1.0),
        ("Noise", "noise_dbu", LEVEL, 1.0),
    ),
}


class CircuitForm(CircuitFields):
    """Pickup, controls, cable, strings, inputs compared; the circuit drawn above them."""

    edit_asked = Signal(object, str)
    """(edit, merge key)"""
    said = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._instrument: Instrument | None = None
        self._session: Session | None = None
        self._kind = ""
        self._inputs_shown: tuple[ComparedInput, ...] | None = None
        self.fields: dict[str, QuantityField] = {}
        self.schematic = Schematic()
        self._build()

    # --- showing ---

    def show_instrument(self, session: Session, instrument: Instrument, input_words: str) -> None:
        """Show this instrument's values; what a person is typing stays."""
        before = self._instrument
        self._session, self._instrument = session, instrument
        self.schematic.show_instrument(instrument, input_words)
        if not self.name.hasFocus() or before is None or before.id != instrument.id:
            self.name.setText(instrument.name)
        self.notes.setText(instrument.notes)
        choose(self.family, instrument.family)
        names = " ".join(instrument.strings)
        same = (one.words for one in TUNINGS.values() if one.strings == instrument.strings)
        words = next(same, names)
        self.tuning.setEditText(words)
        self.tuning.setToolTip(tip(f"Lowest first: {names or 'E2 A2 ...'}"))
        blocker = QSignalBlocker(self.position)
        self.position.clear()
        for position in instrument.positions:
            self.position.addItem(position.name, position.id)
        choose(self.position, instrument.position_id)
        del blocker
        chosen = self.which.currentData()
        here = instrument.position
        self.which.clear()
        for ident in here.pickups if here else ():
            self.which.addItem(instrument.pickup(ident).name, ident)
        choose(self.which, chosen)
        self._refill()
        if session.compared_inputs != self._inputs_shown:
            self._inputs_shown = session.compared_inputs
            self._show_inputs(session)

    def _refill(self) -> None:
        instrument, ident = self._instrument, self.which.currentData()
        if instrument is None or ident is None:
            return
        one = instrument.pickup(ident)
        choose(self.type, one.type)
        self.measured.setChecked(one.measured)
        if one.values.kind != self._kind:
            self._build_values(one.values.kind)
        for _, key, _, unit in FIELDS[one.values.kind]:
            value = getattr(one.values, key)
            self.fields[key].show_value(None if value is None else value * unit)
        knobs = instrument.controls
        for key in ("volume_ohm", "tone_ohm"):
            self.fields[key].show_value(getattr(knobs, key))
        self.fields["tone_nf"].show_value(knobs.tone_nf * 1e-9)
        self.fields["bleed_pf"].show_value(knobs.bleed_pf * 1e-12)
        self.fields["cable_m"].show_value(instrument.cable_m)
        self.fields["cable_pf_per_m"].show_value(instrument.cable_pf_per_m * 1e-12)
        for slider, value, pot in (
            (self.volume, knobs.volume_knob, knobs.volume_ohm),
            (self.tone, knobs.tone_knob, knobs.tone_ohm),
        ):
            blocker = QSignalBlocker(slider)
            slider.setValue(round(10.0 * value))
            del blocker
            slider.setEnabled(pot is not None)
            slider.setAccessibleDescription(number(value))
        self.taper.setChecked(knobs.volume_taper == "audio")
        self.wiper.setChecked(knobs.tone_at == "wiper")

    def _build_values(self, kind: str) -> None:
        while (item := self._value_grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()  # else a layout that was about to show it shows it as a window
                widget.setParent(None)
                widget.deleteLater()
        self._kind = kind
        for index, (words, key, quantity, unit) in enumerate(FIELDS[kind]):
            field = self._field(key, quantity, words, unit, optional=key == "eddy_ohm")
            field.changed.connect(lambda value, k=key, u=unit: self._change_value(k, value, u))
            row, column = divmod(index, 2)
            label = TextLabel(words)
            label.setProperty("role", "muted")
            self._value_grid.addWidget(label, 2 * row, column)
            self._value_grid.addWidget(field, 2 * row + 1, column)

    def _show_inputs(self, session: Session) -> None:
        grid = self._inputs_grid
        while (item := grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()  # else a layout that was about to show it shows it as a window
                widget.setParent(None)
                widget.deleteLater()
        for index, compared in enumerate(session.compared_inputs):
            name = QLineEdit(compared.name)
            name.setAccessibleName(f"Name of input {index + 1}")
            name.setCursorPosition(0)
            least_width(name, 50)
            name.setProperty("field", "true")
            name.editingFinished.connect(
                lambda i=index, field=name: self._change_input(
                    i, name=field.text().strip() or "Input"
                )
            )
            ohm = QuantityField(RESISTANCE, f"Impedance of input {index + 1}")
            ohm.show_value(compared.ohm)
            ohm.changed.connect(lambda value, i=index: self._change_input(i, ohm=value))
            farad = QuantityField(CAPACITANCE, f"Capacitance of input {index + 1}")
            farad.show_value(compared.pf * 1e-12)
            farad.changed.connect(lambda value, i=index: self._change_input(i, pf=value * 1e12))
            gone = QPushButton("\N{MULTIPLICATION SIGN}")
            gone.setAccessibleName(f"Remove input {index + 1}")
            gone.setProperty("tiny", "true")
            fix_width(gone, 24)
            gone.clicked.connect(lambda _=False, i=index: self._remove_input(i))
            beside = compared.beside_ohm is not None
            ohm.line.setToolTip(
                f"In parallel with {compared.beside_ohm:g} ohm" if beside else "Input impedance"
            )
            for column, widget in enumerate((name, ohm, farad, gone)):
                grid.addWidget(widget, index, column)
        for column, (stretch, least) in enumerate(((3, 70), (2, 62), (2, 52))):
            grid.setColumnStretch(column, stretch)
            grid.setColumnMinimumWidth(column, least)
        if len(session.compared_inputs) < 6:
            more = QPushButton("Add input")
            more.setToolTip("One to type in, or an input of the recording rig's devices.")
            more.setMenu(self._input_menu(session))
            grid.addWidget(more, 6, 0, 1, 2)
            pair = QPushButton("Add pair")
            pair.setToolTip("The last two inputs in parallel, as through a link.")
            pair.clicked.connect(self._add_pair)
            grid.addWidget(pair, 6, 2, 1, 2)

    # --- asking ---

    def _ask(self, edit: Edit, merge: str = "") -> None:
        self.edit_asked.emit(edit, merge)

    def _change(self, key: str, value: object, merge: str = "") -> None:
        instrument = self._instrument
        if instrument is not None and getattr(instrument, key) != value:
            words = key.removesuffix("_id").removesuffix("_m").replace("_", " ")
            self._ask(edits.change_instrument(instrument.id, f"Set {words}", **{key: value}), merge)

    def _change_control(self, key: str, value: object, merge: str = "") -> None:
        instrument = self._instrument
        if instrument is not None and getattr(instrument.controls, key) != value:
            knobs = {**instrument.controls.model_dump(), key: value}
            if key == "volume_taper":
                knobs["tone_taper"] = value
            words = key.rsplit("_", 1)[0]
            self._ask(edits.change_instrument(instrument.id, f"Set {words}", controls=knobs), merge)

    def _change_value(self, key: str, value: float | None, unit: float) -> None:
        instrument, ident = self._instrument, self.which.currentData()
        if instrument is None or ident is None:
            return
        stored = None if value is None else value / unit
        changed = []
        for one in instrument.pickups:
            if one.id == ident:
                values = edits.revised(one.values, **{key: stored})
                one = one.model_copy(update={"values": values})
            changed.append(one.model_dump())
        self._ask(edits.change_instrument(instrument.id, "Set pickup value", pickups=changed))

    def _on_type(self, _index: int) -> None:
        instrument, ident = self._instrument, self.which.currentData()
        if instrument is None or ident is None:
            return
        kind = self.type.currentData()
        if instrument.pickup(ident).type == kind:
            return
        pickups = [
            pickup(kind, ident).model_dump() if one.id == ident else one.model_dump()
            for one in instrument.pickups
        ]
        values: dict[str, object] = {"pickups": pickups}
        if len(instrument.pickups) == 1:
            values["controls"] = usual_controls(kind).model_dump()
        if kind in ("active", "piezo"):
            # A buffered source cannot be wired to a coil: its positions stand alone.
            values["positions"] = [
                {**p.model_dump(), "pickups": (p.pickups[0],), "wiring": "single"}
                if ident in p.pickups else p.model_dump()
                for p in instrument.positions
            ]  # fmt: skip
        self._ask(edits.change_instrument(instrument.id, "Choose pickup type", **values))
        self.said.emit("Representative values, from memory: replace them by measured ones.")

    def _on_measured(self, on: bool) -> None:
        instrument, ident = self._instrument, self.which.currentData()
        if instrument is not None and ident is not None:
            pickups = [
                {**one.model_dump(), "measured": on} if one.id == ident else one.model_dump()
                for one in instrument.pickups
            ]
            self._ask(edits.change_instrument(instrument.id, "Mark pickup", pickups=pickups))

    def _on_add_pickup(self) -> None:
        instrument = self._instrument
        if instrument is None:
            return
        numbers = {p.id for p in instrument.pickups} | {p.id for p in instrument.positions}
        count = next(
            n for n in range(2, 99) if f"pu{n}" not in numbers and f"pos{n}" not in numbers
        )
        kind = instrument.pickups[0].type if instrument.pickups else "single"
        kind = kind if kind in PICKUP_TYPES else "single"
        which = len(instrument.pickups) + 1
        new = pickup(kind, f"pu{count}", f"Pickup {which}")
        positions = [p.model_dump() for p in instrument.positions]
        positions.append(
            {
                "id": f"pos{count}",
                "name": f"Pickup {which}",
                "pickups": (new.id,),
                "wiring": "single",
            }
        )
        first = instrument.pickups[0] if instrument.pickups else None
        if first is not None and first.values.kind == "coil" == new.values.kind:
            for wiring in ("parallel", "series"):
                positions.append(
                    {"id": f"pos{count}_{wiring}", "name": f"1 and {which}, {wiring}",
                     "pickups": (first.id, new.id), "wiring": wiring}
                )  # fmt: skip
        self._ask(
            edits.change_instrument(
                instrument.id,
                "Add pickup",
                positions=positions,
                position_id=f"pos{count}",
                pickups=[*(p.model_dump() for p in instrument.pickups), new.model_dump()],
            )
        )

    def _on_name(self) -> None:
        name = self.name.text().strip()
        if name:
            self._change("name", name)
        elif self._instrument is not None:
            self.name.setText(self._instrument.name)
            self.said.emit("An instrument has a name.")

    def _on_tuning_chosen(self, index: int) -> None:
        self._change("strings", tuple(self.tuning.itemData(index)))

    def _on_tuning_typed(self) -> None:
        text = self.tuning.currentText().strip()
        known = tuning_called(text)
        if known is not None:
            self._change("strings", known.strings)
            return
        names = tuple(text.replace(",", " ").split())
        try:
            for name in names:
                note_to_midi(name)
        except ValueError as error:
            self.said.emit(f"{error}.")
            return
        self._change("strings", names)

    def _change_input(self, index: int, **values: object) -> None:
        if self._session is None:
            return
        inputs = list(self._session.compared_inputs)
        changed = edits.revised(inputs[index], **values)
        if changed != inputs[index]:
            inputs[index] = changed
            self._ask(edits.set_compared_inputs(tuple(inputs)))

    def _remove_input(self, index: int) -> None:
        if self._session is not None:
            inputs = list(self._session.compared_inputs)
            del inputs[index]
            self._ask(edits.set_compared_inputs(tuple(inputs)))

    def _input_menu(self, session: Session) -> QMenu:
        menu = QMenu(self)
        typed = ComparedInput(name="Typed input", ohm=220e3, pf=50.0)
        for one in (typed, *rig_inputs(session)):
            words = f"{one.name}, {show(one.ohm, RESISTANCE)}"
            menu.addAction(words).triggered.connect(
                lambda _=False, chosen=one: self.add_input(chosen)
            )
        return menu

    def add_input(self, more: ComparedInput) -> None:
        """One more input to compare."""
        if self._session is not None:
            self._ask(edits.set_compared_inputs((*self._session.compared_inputs, more)))

    def _add_pair(self) -> None:
        if self._session is not None and len(self._session.compared_inputs) > 1:
            one, two = self._session.compared_inputs[-2:]
            pair = ComparedInput(
                name=f"{one.name} + {two.name}"[:200], ohm=one.load.ohm, pf=one.load.farad * 1e12,
                beside_ohm=two.load.ohm, beside_pf=two.load.farad * 1e12,
            )  # fmt: skip
            self._ask(edits.set_compared_inputs((*self._session.compared_inputs, pair)))
