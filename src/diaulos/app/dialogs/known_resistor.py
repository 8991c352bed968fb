"""A cable, an input or an output measured by a known resistor: two sweeps, and the arithmetic."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.dialogs.sweep_line import Bench, SweepLine
from diaulos.app.jobs import Job, Jobs
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.quantity_field import QuantityField
from diaulos.circuit.known_resistor import behind_resistor, source_impedance
from diaulos.errors import DiaulosError
from diaulos.figures import number
from diaulos.quantities import CAPACITANCE, RESISTANCE
from diaulos.records import dataclass
from diaulos.session.edits import Edit, change_instrument
from diaulos.session.instrument import Instrument
from diaulos.signal.response import SweptResponse
from diaulos.work.instruments.identifying import with_error
from diaulos.work.instruments.sweeping import swept_response
from diaulos.work.ports import AudioBackend, CancelToken, Progress

WHAT: tuple[tuple[str, str], ...] = (
    ("cable", "The capacitance of a cable"), ("input", "The impedance of an input"),
    ("output", "The source impedance of an output"),
)  # fmt: skip
STEPS = {
    "cable": (
        "1. Plug the output straight into the cable, the cable into the input, and sweep.\n"
        "2. Put the resistor between output and cable, at the cable's near end, and sweep again."
    ),
    "input": (
        "1. Plug the output straight into the input by a short cable, and sweep.\n"
        "2. Put the resistor into the hot lead, close to the input, and sweep again."
    ),
    "output": (
        "1. Plug the output into the lighter load (the input alone will do), and sweep.\n"
        "2. Put the heavier load, a resistor, across it, and sweep again. A line output only: "
        "never an amplifier's speaker output."
    ),
}
USUAL = {"cable": 100e3, "input": 470e3, "output": 600.0}
BAND_HZ = (200.0, 5_000.0)
"""In which an output's levels are compared: its coupling capacitor is below."""
Backend = Callable[[str, float, bool, Instrument, int, int], AudioBackend]
"""(what, resistor, whether it is in, instrument, output, input) -> what the sweep goes through."""


@dataclass(frozen=True)
class _Found:
    words: str
    farad: float | None = None


class KnownResistorDialog(QDialog):
    """Measures; `edit` takes a cable's capacitance over into the instrument."""

    def __init__(
        self, instrument: Instrument, bench: Bench, backend: Backend, jobs: Jobs,
        parent: QWidget | None = None,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.setWindowTitle("Measure by a resistor")
        self.instrument, self._bench, self._backend, self._jobs = instrument, bench, backend, jobs
        self.edit: Edit | None = None
        self._sweeping = False
        self.swept: list[SweptResponse | None] = [None, None]
        title = TextLabel("What is measured?")
        title.setProperty("role", "title")
        self.what = QComboBox()
        self.what.setAccessibleName("What is measured")
        for ident, words in WHAT:
            self.what.addItem(words, ident)
        self.steps = TextLabel()
        self.steps.setWordWrap(True)
        self.line = SweepLine(bench)
        self.output, self.input, self.level = self.line.output, self.line.input, self.line.level
        self.resistor = QuantityField(RESISTANCE, "The resistor, as read from it or by a meter")
        self.other_ohm = QuantityField(RESISTANCE, "The lighter load")
        self.other_ohm.show_value(10e3)
        self.input_pf = QuantityField(CAPACITANCE, "What the input adds", optional=True,
                                      none_text="not known")  # fmt: skip
        self.length = NumberField()
        self.length.setRange(0.1, 100.0)
        self.length.setDecimals(2)
        self.length.setSuffix(" m")
        self.length.setValue(instrument.cable_m)
        self.length.setAccessibleName("Length of the cable")
        self.sweeps = (QPushButton("Sweep &1"), QPushButton("Sweep &2"))
        self.told = (TextLabel("not measured yet"), TextLabel("not measured yet"))
        self.found = TextLabel()
        self.found.setWordWrap(True)
        self.found.setAccessibleName("What was found")
        self.said = TextLabel()
        self.said.setWordWrap(True)
        self.said.setProperty("role", "problem")
        self.take = QPushButton("&Take the cable over")
        self.take.setToolTip(f"As the usual cable of {instrument.name}; Ctrl+Z undoes it")
        self._lay(title)
        self._wire()
        self._on_what()

    def _lay(self, title: TextLabel) -> None:
        self.form = QFormLayout()
        self.form.addRow("Measure", self.what)
        self.form.addRow(self._bench.name, self.line)
        self.form.addRow("The resistor", self.resistor)
        self.form.addRow("The lighter load", self.other_ohm)
        self.form.addRow("The input adds", self.input_pf)
        self.form.addRow("The cable is", self.length)
        for button, told in zip(self.sweeps, self.told, strict=True):
            row = QHBoxLayout()
            row.addWidget(button)
            row.addWidget(told, 1)
            self.form.addRow(row)
        close = QPushButton("Close")
        close.clicked.connect(self.reject)
        foot = QHBoxLayout()
        foot.addWidget(self.take)
        foot.addStretch(1)
        foot.addWidget(close)
        column = QVBoxLayout(self)
        column.addWidget(title)
        column.addLayout(self.form)
        for part in (self.steps, self.found, self.said):
            column.addWidget(part)
        column.addStretch(1)
        column.addLayout(foot)
        for button in self.findChildren(QPushButton):
            button.setAutoDefault(False)
        self.resize(560, 520)
        theme.dress(self)

    def _wire(self) -> None:
        self.what.activated.connect(lambda _at: self._on_what())
        for at, button in enumerate(self.sweeps):
            button.clicked.connect(lambda _on=False, at=at: self.sweep(at))
        for field in (self.resistor, self.other_ohm, self.input_pf):
            field.changed.connect(lambda _value: self._work_out())
        self.length.valueChanged.connect(lambda _value: self._work_out())
        self.take.clicked.connect(self._on_take)

    @property
    def kind(self) -> str:
        """What is measured."""
        return str(self.what.currentData())

    def _on_what(self) -> None:
        kind = self.kind
        self.steps.setText(STEPS[kind])
        self.resistor.show_value(USUAL[kind])
        self.form.setRowVisible(self.other_ohm, kind == "output")
        self.form.setRowVisible(self.input_pf, kind == "cable")
        self.form.setRowVisible(self.length, kind == "cable")
        self.take.setVisible(kind == "cable")
        self.swept = [None, None]
        for told in self.told:
            told.setText("not measured yet")
        self.said.setText("")
        self._work_out()

    def sweep(self, at: int) -> None:
        """Send a sweep, without the resistor (0) or with it (1)."""
        ohm = self.resistor.value
        if ohm is None:
            return
        backend = self._backend(self.kind, ohm, bool(at), self.instrument,
                                self.output.value(), self.input.value())  # fmt: skip
        rate, level = self._bench.rate_hz, self.level.value()
        self.said.setText("")
        self.told[at].setText("sweeping\N{HORIZONTAL ELLIPSIS}")

        def work(progress: Progress, cancel: CancelToken) -> SweptResponse:
            return swept_response(backend, rate, level, progress, cancel)

        def done(swept: SweptResponse) -> None:
            self._sweeping = False
            self.swept[at] = swept
            self.told[at].setText(f"measured, peak {number(swept.peak_dbfs)} dBFS")
            self._work_out()

        def failed(error: Exception) -> None:
            self._sweeping = False
            self.told[at].setText("not measured yet")
            self.said.setText(str(error))

        self._sweeping = self._jobs.start(Job("Sweeping", work, done, failed, captures=True))
        if not self._sweeping:
            self.told[at].setText("not measured yet")

    def _work_out(self) -> None:
        first, second = self.swept
        self.edit = None
        self.take.setEnabled(False)
        if first is None or second is None or self.resistor.value is None:
            self.found.setText("")
            return
        try:
            found = self._result(first, second)
        except DiaulosError as error:
            self.found.setText("")
            self.said.setText(str(error))
            return
        self.said.setText("")
        self.found.setText(found.words)
        if found.farad is not None:
            pf_per_m = 1e12 * found.farad / self.length.value()
            self.edit = change_instrument(
                self.instrument.id, "Measured cable", cable_m=self.length.value(),
                cable_pf_per_m=round(pf_per_m, 1),
            )  # fmt: skip
            self.take.setEnabled(True)

    def _result(self, first: SweptResponse, second: SweptResponse) -> _Found:
        ohm = self.resistor.value
        assert ohm is not None
        hz = np.asarray(first.hz, np.float64)
        if self.kind == "output":
            part = (hz >= BAND_HZ[0]) & (hz <= BAND_HZ[1])
            # The heavier load is what the resistor and the input make together.
            light = self.other_ohm.value or 10e3
            heavy = 1.0 / (1.0 / light + 1.0 / ohm)
            lighter, heavier = (np.asarray(one.db[part], np.float64) for one in (first, second))
            out = source_impedance(light, lighter, heavy, heavier)
            return _Found(f"The output's source impedance is "
                          f"{with_error(out.ohm, out.ohm_error, RESISTANCE)}.")  # fmt: skip
        found = behind_resistor(ohm, hz, np.asarray(first.db - second.db, np.float64))
        words = []
        if self.kind == "input":
            told = with_error(found.ohm, found.ohm_error, RESISTANCE)
            words.append(f"The input's impedance is {told}.")
        farad = found.farad
        if farad is not None and found.farad_error is not None:
            own = self.input_pf.value or 0.0 if self.kind == "cable" else 0.0
            farad -= own
            told = with_error(farad, found.farad_error, CAPACITANCE)
            if self.kind == "cable":
                per_m = 1e12 * farad / self.length.value()
                words.append(f"The cable has {told}: {number(per_m, 0)} pF/m.")
                if not own:
                    words.append("The input's own capacitance is in it: measure the input first.")
            else:
                words.append(f"Its capacitance is {told}, short cable included.")
        if found.reason is not None:
            words.append(found.reason)
        words.append(f"Fit within {number(found.fit_db, 3)} dB.")
        return _Found(" ".join(words), farad if self.kind == "cable" else None)

    def reject(self) -> None:
        """Esc or Close ends a running sweep first: nothing sounds behind a closed dialog."""
        if self._sweeping:
            self._jobs.cancel()
        super().reject()

    def _on_take(self) -> None:
        if self.edit is not None:
            self.accept()
