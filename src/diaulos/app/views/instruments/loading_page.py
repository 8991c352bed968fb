"""What the inputs do to the instrument: curves, figures, in words; which setting to choose."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.curve_plot import Curve, CurvePlot
from diaulos.app.widgets.labels import RichLabel, TextLabel, escaped, tip
from diaulos.app.widgets.painted import fix_height, fix_width, row_height
from diaulos.app.widgets.quantity_field import QuantityField
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.circuit.loading import Load, capacitance_for, log_grid, resistance_for
from diaulos.errors import DiaulosError
from diaulos.figures import number
from diaulos.quantities import CAPACITANCE, FREQUENCY, RESISTANCE, show
from diaulos.records import dataclass
from diaulos.session.instrument import Instrument
from diaulos.session.model import Session
from diaulos.session.tone_stage import stage_of
from diaulos.work.instruments.inputs import (
    REFERENCES,
    ImpedanceChoice,
    InputRow,
    compare_inputs,
    loading_curves,
    mend_input,
    rate_impedances,
)

FREQS = log_grid(20.0, 20_000.0, 1000)
COLUMNS = (
    ("Input", "An input as it is set at the right"),
    ("1 kHz", "Level at 1 kHz re the pickup's EMF, dB"),
    ("100 Hz", "Level at 100 Hz re the pickup's EMF, dB"),
    ("Resonance", "Frequency of the highest level, 100 Hz to 20 kHz"),
    ("Peak", "Level there re 100 Hz, dB"),
    ("\N{MINUS SIGN}3 dB", "Highest frequency 3 dB under the level at 100 Hz"),
    ("Noise", "Thermal noise of all resistors, 300.15 K, 20 Hz to 20 kHz: sqrt(4kT Re(Z) df)"),
)
LOST = "What is lost against an input of 10 M"
NO_WISH = "Type a resonance: which cable or load gives it?"


class LoadingPage(QWidget):
    """Plot, table and the choice of an impedance."""

    impedance_asked = Signal(float)
    figures_asked = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session: Session | None = None
        self._instrument: Instrument | None = None
        self._rows: tuple[InputRow, ...] = ()
        self._ratings: dict[str, tuple[ImpedanceChoice, ...]] = {}
        self.plot = CurvePlot()
        # The last one has no figures: it takes the room that is left.
        self.table = QTableWidget(0, len(COLUMNS) + 1)
        self.table.setAccessibleName("Inputs compared, in figures and words")
        self.table.setHorizontalHeaderLabels([*(name for name, _ in COLUMNS), ""])
        for index, (_, words) in enumerate(COLUMNS):
            item = self.table.horizontalHeaderItem(index)
            assert item is not None
            item.setToolTip(tip(words))
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setMinimumSectionSize(16)
        row_height(self.table.verticalHeader(), 18)
        self.table.setProperty("dense", "true")
        self.table.setShowGrid(False)
        self.table.setTabKeyNavigation(False)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)
        header.setMinimumSectionSize(46)
        self.table.setWordWrap(False)
        self.table.currentCellChanged.connect(lambda row, *_: self._on_row(row // 2))
        self.reference = combo("Compare with", least=16)
        for key, (words, _) in REFERENCES.items():
            self.reference.addItem(f"as {words}" if key != "open" else words, key)
        self.reference.currentIndexChanged.connect(lambda _i: self._show_choice())
        self.choice = RichLabel()
        self.choice.setWordWrap(True)
        self.choice.setToolTip(
            "Apart: RMS of the dB difference, 80 Hz to 6 kHz, logarithmic, level included."
        )
        self.use = QPushButton("Use it")
        self.use.clicked.connect(self._on_use)
        self.mend = TextLabel()
        self.mend.setProperty("role", "muted")
        self.mend.setWordWrap(True)
        self.wanted = QuantityField(FREQUENCY, "Resonance wanted", optional=True)
        self.wanted.line.setPlaceholderText("3.2 kHz")
        self.wanted.changed.connect(lambda _v: self.figures_asked.emit())
        self.inverse = TextLabel(NO_WISH)
        self.inverse.setProperty("role", "muted")
        self.inverse.setWordWrap(True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.plot, 1)
        column.addWidget(self.table)
        first = WrappingRow()
        first.add_pair("Set the input", self.reference)
        first.addWidget(self.use)
        fix_width(self.wanted, 96)
        first.add_pair("Resonance wanted", self.wanted)
        first.add_stretch()
        column.addLayout(first)
        column.addWidget(self.choice)
        column.addWidget(self.mend)
        column.addWidget(self.inverse)

    def show_curves(self, session: Session, instrument: Instrument) -> None:
        """Only the curves: fast enough to follow a knob."""
        self._session, self._instrument = session, instrument
        loads = [Load.together(instrument.cable, c.load) for c in session.compared_inputs]
        if not loads:
            self.plot.clear("No inputs to compare. Add one at the right.")
            return
        levels = loading_curves(instrument, loads, FREQS)
        marks = {row.name: row.figures.resonance_hz for row in self._rows}
        self.plot.set_curves(
            FREQS,
            tuple(
                Curve(compared.name, np.asarray(db), marks.get(compared.name))
                for compared, db in zip(session.compared_inputs, levels, strict=True)
            ),
        )

    def show_figures(self, figures: LoadingFigures) -> None:
        """The figures, once they are worked out."""
        rows = self._rows = figures.rows
        self._ratings = figures.ratings
        self.inverse.setText(figures.wish)
        self.table.setRowCount(2 * len(rows))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for index, row in enumerate(rows):
            for column, text in enumerate(_texts(row)):
                item = QTableWidgetItem(text)
                item.setToolTip(COLUMNS[column][1])
                if column:
                    item.setTextAlignment(right)
                else:
                    item.setFont(theme.bold_font())
                self.table.setItem(2 * index, column, item)
            # What is lost, in words, on a line of its own below the figures.
            words = QTableWidgetItem(f"    {row.words}")
            words.setToolTip(tip(f"{LOST}: {row.words}"))
            self.table.setItem(2 * index + 1, 0, words)
            self.table.setSpan(2 * index + 1, 0, 1, len(COLUMNS) + 1)
        fix_height(self.table, 42 + 36 * max(1, len(rows)))
        if self._session is not None and self._instrument is not None:
            self.show_curves(self._session, self._instrument)
        self._show_choice()

    def _on_row(self, row: int) -> None:
        self.plot.set_chosen(row)
        self._show_mend()

    def _show_choice(self) -> None:
        session, instrument = self._session, self._instrument
        if session is None or instrument is None or instrument.position is None:
            return
        stage = stage_of(session)
        rated = self._ratings.get(self.reference.currentData(), ())
        best = next((c for c in rated if c.chosen), None)
        if best is None:
            self.choice.setText(f"{escaped(stage.name)} has no impedance to choose.")
            return
        self.use.setText(f"Use {show(best.ohm, RESISTANCE)}")
        self.use.setEnabled(best.ohm != stage.impedance_ohm)
        others = ", ".join(
            f"{show(c.ohm, RESISTANCE)} {c.apart_db:.1f}" for c in rated if not c.chosen
        )
        self.choice.setText(
            f"{escaped(stage.name)}: <b>{show(best.ohm, RESISTANCE)}</b> comes closest, "
            f"{best.apart_db:.1f} dB apart. Others: {others} dB."
        )
        self._show_mend()

    def _show_mend(self) -> None:
        session, instrument = self._session, self._instrument
        row = self.table.currentRow() // 2
        if session is None or instrument is None or not 0 <= row < len(session.compared_inputs):
            self.mend.setText("Select an input to see what would fix it.")
            return
        compared = session.compared_inputs[row]
        words, reference = REFERENCES[self.reference.currentData()]
        apart, ways = mend_input(instrument, compared.load, reference)
        text = f"{compared.name} is {apart:.1f} dB apart from {words}."
        if apart < 0.5:
            text += " Nothing to mend."
        elif ways:
            text += " Closer: " + "; ".join(f"{w.what} ({w.apart_db:.1f} dB)" for w in ways) + "."
        else:
            text += " No shorter cable, buffer or switch brings it closer."
        self.mend.setText(text)

    def _on_use(self) -> None:
        for choice in self._ratings.get(self.reference.currentData(), ()):
            if choice.chosen:
                self.impedance_asked.emit(choice.ohm)


@dataclass(frozen=True)
class LoadingFigures:
    """All that takes longer than a frame: rows, ratings per reference, the wish in words."""

    rows: tuple[InputRow, ...]
    ratings: dict[str, tuple[ImpedanceChoice, ...]]
    wish: str


def work_out(
    session: Session, instrument: Instrument, wanted_hz: float | None, check: Callable[[], None]
) -> LoadingFigures:
    """The figures of an instrument, off the UI thread; `check` may raise to cancel."""
    rows = compare_inputs(session, instrument)
    check()
    ratings = {
        key: rate_impedances(instrument, stage_of(session), load)
        for key, (_, load) in REFERENCES.items()
    }
    check()
    wish = NO_WISH if wanted_hz is None else _wish_words(session, instrument, wanted_hz)
    return LoadingFigures(rows, ratings, wish)


def _wish_words(session: Session, instrument: Instrument, wanted_hz: float) -> str:
    stage, circuit = stage_of(session), instrument.circuit()
    parts = []
    try:
        farad = capacitance_for(circuit, stage.impedance_ohm, wanted_hz)
        cable = farad - stage.input_pf * 1e-12
        per_m = instrument.cable_pf_per_m * 1e-12
        if cable <= 0.0:
            parts.append("less capacitance than the input itself has")
        else:
            metres = f" = {cable / per_m:.1f} m of this cable" if per_m > 0.0 else ""
            parts.append(f"{show(cable, CAPACITANCE)} of cable{metres}")
    except DiaulosError as error:
        parts.append(str(error))
    try:
        farad = instrument.cable.farad + stage.input_pf * 1e-12
        ohm = resistance_for(circuit, farad, wanted_hz)
        parts.append(f"or a load of {show(ohm, RESISTANCE)} with the usual cable")
    except DiaulosError:
        pass  # the cable's answer says what can be reached
    return ", ".join(parts)


def _texts(row: InputRow) -> tuple[str, ...]:
    f = row.figures
    low = f.low_corner_hz
    return (
        row.name,
        f"{number(f.level_1khz_db)} dB",
        f"{number(f.level_100hz_db)} dB",
        "none" if f.resonance_hz is None else show(f.resonance_hz, FREQUENCY),
        "\N{EN DASH}" if f.peak_db is None else f"{number(f.peak_db, 1, sign=True)} dB",
        _corner(f.corner_hz) if low is None else f"from {show(low, FREQUENCY)}",
        f"{number(f.noise_dbu)} dBu",
    )


def _corner(hz: float | None) -> str:
    return "over 20 MHz" if hz is None else show(hz, FREQUENCY)
