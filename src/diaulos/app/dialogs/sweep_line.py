"""Where a sweep goes out and comes in, and how loud it is: what measuring dialogs share."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField, WholeField
from diaulos.records import dataclass

FIRST_DBFS = -20.0


@dataclass(frozen=True)
class Bench:
    """Where it is measured: the rate, whether that is the simulated studio, and the channels."""

    rate_hz: int
    simulated: bool
    name: str
    outputs: int = 1
    inputs: int = 1


class SweepLine(QWidget):
    """Output, input and peak in a line."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.output, self.input = WholeField(), WholeField()
        for field, name, most in (
            (self.output, "Output", bench.outputs), (self.input, "Input", bench.inputs),
        ):  # fmt: skip
            field.setRange(1, max(1, most))
            field.setAccessibleName(name)
            field.setEnabled(not bench.simulated)
        self.level = NumberField()
        self.level.setRange(-60.0, 0.0)
        self.level.setDecimals(1)
        self.level.setValue(FIRST_DBFS)
        self.level.setSuffix(" dBFS")
        self.level.setAccessibleName("Peak of the sweep")
        self.level.setToolTip(
            "Begin low, and raise it until the response stands clear of the noise"
        )
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        parts: tuple[tuple[str, QWidget], ...] = (
            ("output", self.output), ("input", self.input), ("peak", self.level),
        )  # fmt: skip
        for name, part in parts:
            line.addWidget(TextLabel(name))
            line.addWidget(part)
        line.addStretch(1)
