"""What a pickup is made of, in steps: a coil, two or three loads, a sweep into each."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFormLayout,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.dialogs.sweep_line import Bench, SweepLine
from diaulos.app.jobs import Job, Jobs
from diaulos.app.widgets.curve_plot import Curve, CurvePlot
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.quantity_field import QuantityField
from diaulos.circuit.identify import NAMES, Common, Identified, Response, identify
from diaulos.circuit.loading import Load
from diaulos.errors import DiaulosError
from diaulos.figures import number
from diaulos.quantities import CAPACITANCE, RESISTANCE
from diaulos.session.edits import Edit
from diaulos.session.instrument import Instrument
from diaulos.signal.plucked import Plucked, clear_in_all
from diaulos.signal.response import SweptResponse
from diaulos.wiring import PLUCKS_S
from diaulos.work.instruments.identifying import WORDS, found_edit, with_error
from diaulos.work.instruments.sweeping import into_load, plucked_response, swept_response
from diaulos.work.ports import AudioBackend, CancelToken, Progress

LOADS = 3
USUAL_RESISTORS: tuple[float | None, ...] = (None, 47e3, 10e3)
WAYS: tuple[tuple[str, Common], ...] = (
    ("A coil: it rises by 6 dB per octave", "slope"),
    ("Anything: only ratios between loads count", "curve"),
    ("Plucks by hand, without a coil: roughly", "each"),
)
STEPS = (
    "1. Turn volume and tone up to 10, choose the pickup, keep away from transformers.\n"
    "2. Lay a small coil (some hundred turns, below 50 ohm) on the pickup, joined to the output "
    "through a resistor of some hundred ohm: a line output, never an amplifier's speaker output. "
    "Do not move it between the loads.\n"
    "3. Sweep into the input alone, then with a resistor across the jack, best a third one, too."
)
PLUCK_STEPS = (
    "1. Turn volume and tone up to 10, choose the pickup. Type the resistance that a meter reads "
    "at the jack: without it plucks tell hardly more than the resonance.\n"
    "2. For each load: pluck every open string in turn, evenly, with a short rest after each "
    "round, for a minute.\n"
    "3. Play into the input alone, then with a resistor across the jack, best a third one, too. "
    "No two plucks are alike: the errors tell how much is left to chance."
)
OWN_WORDS = {"fit_db": "Fit within", "resonance_hz": "Resonance, load 1"}
TIPS = {
    "inductance_h": "Of the coil, by the least squares of all responses; half of a 95 % interval",
    "resistance_ohm": "Of the coil; a meter at the jack reads it with the pots across it",
    "capacitance_f": "Across the jack without the input's own: winding and cable as a sum",
    "eddy_ohm": "Of metal in the field, as a resistance parallel to the inductance",
    "resonance_hz": "Where the level into the first load is highest, with cable and input",
    "fit_db": "RMS of what the found circuit leaves unexplained",
}
Backend = Callable[[Instrument, Load, int, int], AudioBackend]
"""(instrument, load, output, input (from 1)) -> what the sweep goes through."""


Plucks = Callable[[Instrument, Load, int, int], AudioBackend]
"""(instrument, load, which load (from 0), input (from 1)) -> where the plucks come from."""


class IdentifyDialog(QDialog):
    """Measures, fits, shows; `edit` is what takes the values over."""

    def __init__(
        self, instrument: Instrument, bench: Bench, backend: Backend, plucks: Plucks, jobs: Jobs,
        parent: QWidget | None = None,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.setWindowTitle("Identify the pickup")
        self.instrument, self._bench, self._backend, self._jobs = instrument, bench, backend, jobs
        self._plucks, self._plucked = plucks, False
        self.responses: list[Response | None] = [None] * LOADS
        self.found: Identified | None = None
        self.edit: Edit | None = None
        self._sweeping = False
        title = TextLabel(f"What the pickup of {instrument.name} is made of")
        title.setProperty("role", "title")
        self.steps = TextLabel(STEPS)
        self.steps.setWordWrap(True)
        self._build_fields()
        self._build_loads()
        self.plot = CurvePlot(self, "dB, as measured")
        self.plot.setMinimumHeight(theme.px(170))
        self.plot.clear("Sweep into a load: its response stands here, and the fit over it.")
        self.values = {name: TextLabel("\N{EN DASH}") for name in (*NAMES, "fit_db")}
        told = QFormLayout()
        told.setVerticalSpacing(4)
        self.values["resonance_hz"] = TextLabel("\N{EN DASH}")
        for name, label in self.values.items():
            words = WORDS[name][0] if name in WORDS else OWN_WORDS[name]
            label.setAccessibleName(words)
            label.setToolTip(TIPS.get(name, ""))
            told.addRow(words, label)
        self.reason = TextLabel()
        self.reason.setWordWrap(True)
        self.reason.setProperty("role", "muted")
        self.said = TextLabel()
        self.said.setWordWrap(True)
        self.said.setProperty("role", "problem")
        self.take = QPushButton("&Take the values over")
        self.take.setToolTip("Into the pickup of this position, marked as measured; Ctrl+Z undoes")
        self.take.setEnabled(False)
        self.take.clicked.connect(self._on_take)
        close = QPushButton("Close")
        close.clicked.connect(self.reject)
        result = QHBoxLayout()
        result.addWidget(self.plot, 3)
        result.addLayout(told, 2)
        foot = QHBoxLayout()
        foot.addWidget(self.take)
        foot.addStretch(1)
        foot.addWidget(close)
        column = QVBoxLayout(self)
        for part in (title, self.steps):
            column.addWidget(part)
        column.addLayout(self._form)
        column.addLayout(self._grid)
        column.addLayout(result, 1)
        for part in (self.reason, self.said):
            column.addWidget(part)
        column.addLayout(foot)
        for button in self.findChildren(QPushButton):
            button.setAutoDefault(False)
        self.resize(780, 640)
        theme.dress(self)
        self._show()

    # --- building ---

    def _build_fields(self) -> None:
        self._form = QFormLayout()
        self.line = SweepLine(self._bench)
        self.output, self.input, self.level = self.line.output, self.line.input, self.line.level
        self._form.addRow(self._bench.name, self.line)
        self.input_ohm = QuantityField(RESISTANCE, "Input impedance")
        self.input_ohm.show_value(1e6)
        self.input_pf = QuantityField(CAPACITANCE, "Input capacitance")
        self.input_pf.show_value(30e-12)
        self.meter = QuantityField(RESISTANCE, "Resistance by a meter", optional=True,
                                   none_text="not measured")  # fmt: skip
        self.common = QComboBox()
        self.common.setAccessibleName("What drives the pickup")
        for words, common in WAYS:
            self.common.addItem(words, common)
        about = QHBoxLayout()
        about.addWidget(self.input_ohm)
        about.addWidget(self.input_pf)
        about.addWidget(TextLabel("meter at the jack"))
        about.addWidget(self.meter)
        self._form.addRow("The input has", about)
        self._form.addRow("Driven by", self.common)
        for quantity in (self.input_ohm, self.input_pf, self.meter):
            quantity.changed.connect(lambda _value: self._fit())
        self.common.currentIndexChanged.connect(lambda _at: self._on_common())

    def _build_loads(self) -> None:
        self._grid = QGridLayout()
        self.resistors: list[QuantityField] = []
        self.sweeps: list[QPushButton] = []
        self.told: list[TextLabel] = []
        for at, ohm in enumerate(USUAL_RESISTORS):
            field = QuantityField(
                RESISTANCE, f"Resistor across the jack, load {at + 1}", optional=True,
                none_text="the input alone",
            )  # fmt: skip
            field.show_value(ohm)
            button = QPushButton(f"Sweep &{at + 1}")
            button.setAccessibleName(f"Sweep into load {at + 1}")
            told = TextLabel("not measured yet")
            button.clicked.connect(lambda _on=False, at=at: self.sweep(at))
            field.changed.connect(lambda _value, at=at: self._forget(at))
            self._grid.addWidget(TextLabel(f"Load {at + 1}, across the jack"), at, 0)
            self._grid.addWidget(field, at, 1)
            self._grid.addWidget(button, at, 2)
            self._grid.addWidget(told, at, 3)
            self.resistors.append(field)
            self.sweeps.append(button)
            self.told.append(told)
        self._grid.setColumnStretch(3, 1)

    # --- measuring ---

    @property
    def plucking(self) -> bool:
        """Whether strings are plucked instead of swept."""
        return bool(self.common.currentData() == "each")

    def _on_common(self) -> None:
        """Plucks and sweeps are not held against each other."""
        plucking = self.plucking
        self.steps.setText(PLUCK_STEPS if plucking else STEPS)
        self.output.setEnabled(not plucking and not self._bench.simulated)
        self.level.setEnabled(not plucking)
        for at, button in enumerate(self.sweeps):
            button.setText(f"Pluck &{at + 1}" if plucking else f"Sweep &{at + 1}")
            button.setAccessibleName(f"{'Pluck' if plucking else 'Sweep'} into load {at + 1}")
        if plucking != self._plucked:
            self._plucked = plucking
            for at, one in enumerate(self.responses):
                if one is not None:
                    self.responses[at] = None
                    self.told[at].setText("measured otherwise: again")
        self._fit()

    def load_at(self, at: int) -> Load:
        """Input and resistor together, without the instrument's own cable."""
        own = Load(self.input_ohm.value or 1e6, self.input_pf.value or 0.0)
        ohm = self.resistors[at].value
        return own if ohm is None else Load.together(own, Load(ohm))

    def sweep(self, at: int) -> None:
        """Send a sweep, or listen to plucks, while load `at` is plugged."""
        load, plucking, one = self.load_at(at), self.plucking, self.instrument
        out, back = self.output.value(), self.input.value()
        rate, level = self._bench.rate_hz, self.level.value()
        doing = "plucking" if plucking else "sweeping"
        self.said.setText("")
        self.told[at].setText(f"{doing}\N{HORIZONTAL ELLIPSIS}")
        name = "the input alone" if self.resistors[at].value is None else f"load {at + 1}"

        def work(progress: Progress, cancel: CancelToken) -> tuple[Response, float]:
            heard: SweptResponse | Plucked
            if plucking:
                backend = self._plucks(one, load, at, back)
                heard = plucked_response(backend, rate, PLUCKS_S, progress, cancel)
            else:
                backend = self._backend(one, load, out, back)
                heard = swept_response(backend, rate, level, progress, cancel)
            return into_load(heard, load.ohm, load.farad, name), heard.peak_dbfs

        def done(result: tuple[Response, float]) -> None:
            self._sweeping = False
            self.responses[at] = result[0]
            self.told[at].setText(f"measured, peak {number(result[1])} dBFS")
            self._fit()

        def failed(error: Exception) -> None:
            self._sweeping = False
            self.told[at].setText("not measured yet")
            self.said.setText(str(error))

        title = doing.capitalize()
        self._sweeping = self._jobs.start(Job(title, work, done, failed, captures=True))
        if not self._sweeping:
            self.told[at].setText("not measured yet")

    def _forget(self, at: int) -> None:
        """Another resistor: what was measured belongs to the one before."""
        if self.responses[at] is not None:
            self.responses[at] = None
            self.told[at].setText("changed: sweep again")
            self._fit()

    # --- fitting ---

    def _fit(self) -> None:
        there = []
        for at, one in enumerate(self.responses):
            if one is not None:
                load = self.load_at(at)
                there.append(Response(load.ohm, load.farad, one.hz, one.db, one.name))
        self.found = None
        if not there:
            self._show()
            return
        common, meter = self.common.currentData(), self.meter.value
        clear = clear_in_all([one.db for one in there])
        asked = tuple(
            Response(one.load_ohm, one.load_f, one.hz[clear], one.db[clear], one.name)
            for one in there
        )

        def work(_progress: Progress, _cancel: CancelToken) -> Identified:
            return identify(asked, common, meter)

        def done(found: Identified) -> None:
            self.found = found
            self._show(asked)

        def failed(error: Exception) -> None:
            self.said.setText(str(error))
            self._show(asked)

        self._jobs.start(Job("Identify", work, done, failed, background=True))

    def _show(self, responses: tuple[Response, ...] = ()) -> None:
        found = self.found
        if responses:
            curves = [Curve(one.name or "measured", one.db) for one in responses]
            if found is not None:
                tilt = self._tilt(responses)
                curves += [
                    Curve(f"fit, {one.name}", fitted + tilt)
                    for one, fitted in zip(responses, found.fitted, strict=True)
                ]
            self.plot.set_curves(responses[0].hz, tuple(curves))
        for name in NAMES:
            told = found.told.get(name) if found is not None else None
            value, error = (told.value, told.error) if told is not None else (None, None)
            self.values[name].setText(with_error(value, error, WORDS[name][1]))
        fit = "\N{EN DASH}" if found is None else f"{number(found.fit_db, 2)} dB"
        self.values["fit_db"].setText(fit)
        peak = found.resonance_hz[0] if found is not None and found.resonance_hz else None
        words = "\N{EN DASH}"
        if peak is not None:
            words = f"{number(peak.value, 0)} \N{PLUS-MINUS SIGN} {number(peak.error, 0)} Hz"
        self.values["resonance_hz"].setText(words)
        words = found.reason or "" if found is not None else ""
        self.edit = None
        if found is not None:
            try:
                self.edit, more = found_edit(self.instrument, found)
                words = f"{words} {more}".strip()
            except DiaulosError as error:
                words = f"{words} {error}".strip()
        self.reason.setText(words)
        self.take.setEnabled(self.edit is not None)

    def _tilt(self, responses: tuple[Response, ...]) -> np.ndarray:
        """What the fit left out of the responses before it looked at them."""
        hz = responses[0].hz
        if self.common.currentData() == "slope":
            return np.asarray(20.0 * np.log10(hz / hz[0]))
        return np.zeros(hz.size)

    def _on_take(self) -> None:
        if self.edit is not None:
            self.accept()

    def reject(self) -> None:
        """Esc or Close ends a running sweep first: nothing sounds behind a closed dialog."""
        if self._sweeping:
            self._jobs.cancel()
        super().reject()
