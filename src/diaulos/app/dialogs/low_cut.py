"""A low cut for a track or pass: the proposed corner, what it costs, what lies below."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QVBoxLayout, QWidget

from diaulos.app import theme
from diaulos.app.widgets.curve_plot import Curve, CurvePlot
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.tables import Cell, Table
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.signal.lowcut import LEAST_HZ, MOST_HZ, low_cut_db
from diaulos.work.compare.cutting import LowCutFor

PLOTTED_HZ = np.geomspace(15.0, 1_000.0, 241)


@dataclass(frozen=True)
class LowCutAnswer:
    """A corner in Hz, or None: no low cut."""

    corner_hz: float | None


class LowCutDialog(QDialog):
    """Asks for a corner; `answer` is what was chosen."""

    def __init__(
        self, name: str, known: LowCutFor, now_hz: float | None, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Low cut")
        self._known = known
        self.answer: LowCutAnswer | None = None
        title = TextLabel(f"Low cut of {name}")
        title.setProperty("role", "title")
        self.about = TextLabel(known.words)
        self.about.setWordWrap(True)
        self.about.setAccessibleName("What is proposed")
        self.corner = NumberField()
        self.corner.setRange(LEAST_HZ, MOST_HZ)
        self.corner.setDecimals(0)
        self.corner.setSingleStep(5.0)
        self.corner.setSuffix(" Hz")
        self.corner.setAccessibleName("Corner in Hz")
        self.corner.setToolTip("3 dB less there; 12 dB an octave below (second-order Butterworth)")
        self.corner.setValue(now_hz if now_hz is not None else known.corner_hz)
        self.corner.valueChanged.connect(lambda _v: self._show())
        self.plot = CurvePlot(axis="dB, Butterworth of second order")
        self.plot.setToolTip("-10 log10(1 + (corner / f)^4)".replace("-", "\N{MINUS SIGN}", 1))
        self.costs = Table("What it costs", ("String", "Hz", "Less, dB"), 0)
        self.costs.setSelectionMode(Table.SelectionMode.NoSelection)
        buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Cut")
        self.none = buttons.addButton("No low cut", QDialogButtonBox.ButtonRole.ResetRole)
        self.none.setEnabled(now_hz is not None)
        self.none.clicked.connect(lambda _on=False: self._take(None))
        buttons.accepted.connect(lambda: self._take(self.corner.value()))
        buttons.rejected.connect(self.reject)
        form = QFormLayout()
        form.addRow("Corner", self.corner)
        hint = TextLabel("Heard, compared and exported so; the file stays as it is.")
        hint.setProperty("role", "muted")
        column = QVBoxLayout(self)
        for part in (title, self.about):
            column.addWidget(part)
        column.addLayout(form)
        column.addWidget(self.plot, 1)
        column.addWidget(self.costs)
        column.addWidget(hint)
        column.addWidget(buttons)
        self.resize(440, 620)
        theme.dress(self)
        self._show()

    def _show(self) -> None:
        rows = [
            (one.note, [Cell(one.note, bold=True), Cell(number(one.hz, 1), figure=True),
                        Cell(number(one.loss_db, 2), figure=True)])
            for one in self._known.costs(self.corner.value())
        ]  # fmt: skip
        self.costs.show_rows(rows)
        corner = self.corner.value()
        levels = np.array([low_cut_db(float(hz), corner) for hz in PLOTTED_HZ])
        self.plot.set_curves(PLOTTED_HZ, (Curve("Low cut", levels, corner),))

    def _take(self, corner_hz: float | None) -> None:
        self.answer = LowCutAnswer(corner_hz)
        self.accept()
