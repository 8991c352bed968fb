"""Played twice: how far apart two players begin, or one and the click; told in figures."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.errors import DiaulosError
from diaulos.figures import clock, counted, plain
from diaulos.signal.onsets import Paired
from diaulos.work.compare.doubling import (
    PAN_PLAN,
    ClickTrack,
    DoubleTrack,
    Spread,
    beside_words,
    double_words,
)

DIVISIONS = {"4": "quarters", "8": "eighths", "16": "sixteenths"}
TIGHT_MS = 3.0
LISTEN_AHEAD_S = 0.5


class DoubledPage(QWidget):
    """Onsets of A and B, each with its place to hear."""

    asked = Signal()
    """What it is held against changed."""
    place_asked = Signal(float)
    pan_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        title = TextLabel("Played twice?")
        title.setProperty("role", "title")
        self.against = combo("Held against", {"b": "B against A", "click": "B against the click"})
        self.against.activated.connect(lambda _i: self._on_against())
        self.division = combo("Notes of the click", DIVISIONS, least=9)
        self.division.activated.connect(lambda _i: self.asked.emit())
        choose_eighths = self.division.findData("8")
        self.division.setCurrentIndex(choose_eighths)
        self.tempo = NumberField()
        self.tempo.setRange(20.0, 400.0)
        self.tempo.setDecimals(2)
        self.tempo.setSuffix(" bpm")
        self.tempo.setAccessibleName("Tempo of the click")
        self.tempo.valueChanged.connect(lambda _v: self.asked.emit())
        self.first = NumberField()
        self.first.setRange(0.0, 3_600.0)
        self.first.setDecimals(3)
        self.first.setSuffix(" s")
        self.first.setAccessibleName("First click")
        self.first.setToolTip("Where the first note of the click lies in the take")
        self.first.valueChanged.connect(lambda _v: self.asked.emit())
        self.click = QWidget()
        line = WrappingRow(self.click)
        line.add_pair("Click", self.tempo, self.division)
        line.add_pair("from", self.first)
        self.click.hide()
        self.tempo_known = False
        self.sentence = TextLabel()
        self.sentence.setWordWrap(True)
        self.sentence.setAccessibleName("How far apart")
        self.sentence.setMinimumHeight(36)
        self.table = Table("Onsets", ("At", "Later, ms", ""), 2)
        self.table.setToolTip("Enter or a double click hears it")
        self.table.cellActivated.connect(lambda *_: self._on_place())
        self.beside = TextLabel()
        self.beside.setProperty("role", "muted")
        self.beside.setWordWrap(True)
        self.plan = TextLabel(f"Plan: {PAN_PLAN}")
        self.plan.setProperty("role", "muted")
        self.plan.setWordWrap(True)
        self.plan.setToolTip("Common practice")
        self.pan_button = QPushButton("Pan them apart (W)")
        self.pan_button.setToolTip(
            "A hard left and B hard right in the monitor mix of Takes; undo takes it back"
        )
        self.pan_button.clicked.connect(self.pan_asked)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        top = WrappingRow()
        top.addWidget(self.against)
        column.addWidget(title)
        column.addLayout(top)
        for part in (self.click, self.sentence):
            column.addWidget(part)
        column.addWidget(self.table, 1)
        for part in (self.beside, self.plan, self.pan_button):
            column.addWidget(part)

    @property
    def by_click(self) -> bool:
        """Whether B is held against a click."""
        return bool(self.against.currentData() == "click")

    @property
    def grid(self) -> str:
        """Tempo, division and first note of the click, as a piece of work is named."""
        return f"{self.tempo.value():.4f} {self.division.currentData()} {self.first.value():.4f}"

    def show_tempo(self, bpm: float) -> None:
        """The take's own tempo, until somebody says another."""
        self.tempo_known = True
        self.tempo.blockSignals(True)
        self.tempo.setValue(bpm)
        self.tempo.blockSignals(False)

    def _on_against(self) -> None:
        self.click.setVisible(self.by_click)
        self.asked.emit()

    def _on_place(self) -> None:
        at = self.table.chosen()
        if isinstance(at, float):
            self.place_asked.emit(max(0.0, at - LISTEN_AHEAD_S))

    def show_found(self, found: object, *, pans: bool) -> None:
        """What was found: of two players, of one and the click, why it cannot be told, or None
        while it is worked out."""
        self.pan_button.setEnabled(pans)
        if isinstance(found, DoubleTrack):
            missed = len(found.onsets.only_a_s) + len(found.onsets.only_b_s)
            self._show(found.onsets.paired, found.spread, "B", missed, found.onsets.unsure)
            self.beside.setText(beside_words(found))
            return
        self.beside.setText("")
        if isinstance(found, ClickTrack):
            self._show(found.lines, found.spread, "B", 0)
            within = sum(abs(one.late_ms) <= TIGHT_MS for one in found.lines)
            self.beside.setText(
                f"{within} of {counted(len(found.lines), 'onset')} within {TIGHT_MS:g} ms."
            )
            return
        self.table.show_rows(())
        if isinstance(found, DiaulosError):
            self.sentence.setText(str(found))
        else:
            self.sentence.setText("Looking for onsets\N{HORIZONTAL ELLIPSIS}")

    def show_nothing(self, words: str) -> None:
        """There is no pair."""
        self.table.show_rows(())
        self.beside.setText("")
        self.sentence.setText(words)
        self.pan_button.setEnabled(False)

    def _show(
        self, paired: tuple[Paired, ...], spread: Spread, who: str, missed: int,
        unsure: tuple[Paired, ...] = (),
    ) -> None:  # fmt: skip
        told = double_words(spread, who)
        if missed:
            told += f" {counted(missed, 'onset')} without a partner."
        if unsure:
            told += f" {counted(len(unsure), 'onset')} not told for sure."
        self.sentence.setText(told)
        self.sentence.setToolTip(
            "Mean of the differences, their standard deviation, and the one farthest from 0; no"
            " grade of anybody"
        )
        rows = []
        for one in sorted(paired, key=lambda pair: -abs(pair.late_ms)):
            rows.append(
                (
                    one.at_s,
                    [
                        Cell(clock(one.at_s), "Enter hears it", sort=one.at_s, figure=True),
                        Cell(plain(one.late_ms, 1, sign=True),
                             "Onset of B less that of A" if who else "", sort=one.late_ms,
                             figure=True),
                        Cell("farthest" if one == spread.worst else ""),
                    ],
                )
            )  # fmt: skip
        for one in unsure:
            why = "Two ways of telling its lag differ: it is in no figure. Enter hears it"
            heard = Cell(clock(one.at_s), "Enter hears it", sort=one.at_s, figure=True)
            lag = Cell("?", why, sort=0.0, figure=True)
            rows.append((one.at_s, [heard, lag, Cell("not sure", why)]))
        self.table.show_rows(rows)
