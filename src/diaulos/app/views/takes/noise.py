"""The noise check, over the body of Takes: attempts at the left, what each track holds."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QSizePolicy, QVBoxLayout, QWidget

from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import fix_height
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import number, typeset
from diaulos.work.takes.noisecheck import (
    LABELS,
    Attempt,
    NoiseRow,
    best_attempt,
    changes_since,
    spread_db,
)


class NoisePanel(QWidget):
    """Shows attempts; asks for another."""

    check_asked = Signal(str)
    file_asked = Signal(str)
    left = Signal()
    hunt_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.attempts: tuple[Attempt, ...] = ()
        self.label = combo("What was tried", {word: word for word in LABELS}, least=20)
        self.label.setEditable(True)
        self.listen = QPushButton("Listen for 5 s (H)")
        self.listen.setProperty("main", "true")
        self.listen.clicked.connect(lambda: self.check_asked.emit(self.label.currentText()))
        self.file = QPushButton("A file\N{HORIZONTAL ELLIPSIS}")
        self.file.setToolTip(
            "The silence in a recording: hum, bus tones and hiss of its quiet spans, beside the "
            "other attempts."
        )
        self.file.clicked.connect(lambda: self.file_asked.emit(self.label.currentText()))
        self.hunt = QPushButton("Find the cause (Q)")
        self.hunt.setToolTip(
            "One test after another, each the one that splits the causes left best, to where it "
            "comes from, the remedy, and what that brought."
        )
        self.hunt.clicked.connect(self.hunt_asked)
        self.back = QPushButton("Back (S)")
        self.back.clicked.connect(self.left)
        self.tried = Table("Attempts", ("Attempt", "Loudest, dBFS A"), 0, {1: 130})
        fix_height(self.tried, 132)
        self.tried.currentCellChanged.connect(lambda *_: self._show_chosen())
        self.table = Table(
            "Noise of the tracks",
            ("Track", "dBFS", "dBu", "dBFS A", "Hum", "Bus", "Hiss", "Budget", "Gate"),
            0,
            dict.fromkeys(range(1, 9), 72),
        )
        self.words = TextLabel()
        self.words.setWordWrap(True)
        self.words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.MinimumExpanding)
        self.words.setAccessibleName("Likely causes")
        top = WrappingRow()
        top.addWidget(self.listen)
        top.addWidget(self.label)
        top.addWidget(self.file)
        top.addWidget(self.hunt)
        top.add_stretch()
        top.addWidget(self.back)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(top)
        column.addWidget(self.tried)
        column.addWidget(self.table, 1)
        column.addWidget(self.words)
        self._show_chosen()

    def add(self, attempt: Attempt) -> None:
        """Another attempt; its label gets a number where it was tried before."""
        self.attempts = (*self.attempts, attempt)
        best = best_attempt(self.attempts) if len(self.attempts) > 1 else None
        rows = []
        for index, one in enumerate(self.attempts):
            mark = " (best)" if one is best else ""
            level = one.worst_a_dbfs
            rows.append(
                (
                    index,
                    (
                        Cell(f"{index + 1}. {one.label}{mark}", bold=bool(mark)),
                        Cell(number(level), figure=True, sort=level),
                    ),
                )
            )
        self.tried.show_rows(rows)
        self.tried.choose(len(self.attempts) - 1)
        self._show_chosen()

    def _show_chosen(self) -> None:
        index = self.tried.chosen()
        if index is None or not self.attempts:
            self.table.show_rows([])
            self.words.setText(
                "Hold the strings, turn everything up as for the take, and listen. Then change one "
                "thing, name it, and listen again: the change is told for every kind of noise."
            )
            return
        attempt = self.attempts[index]
        self.table.show_rows([(str(row.track), _cells(row)) for row in attempt.rows])
        self.words.setText(typeset("\n".join(self._said(attempt, index))))

    def _said(self, attempt: Attempt, index: int) -> list[str]:
        lines = [f"{row.name}: {row.cause} {row.remedy}" for row in attempt.rows if row.cause]
        if not lines:
            lines = ["Nothing stands out: what is left is what the devices must have."]
        if len(self.attempts) > 1 and best_attempt(self.attempts) is None:
            spread = spread_db(self.attempts)
            lines.append(
                f"None is best: the quietest differ by less than {spread:.1f} dB, as repeated "
                "listens do."
            )
        if index > 0:
            first = self.attempts[0]
            names = {row.track: row.name for row in attempt.rows}
            for track, change in changes_since(first, attempt).items():
                parts = [
                    f"{word} {number(value, sign=True)} dB"
                    for word, value in (
                        ("hum", change.hum_db), ("bus", change.bus_db), ("hiss", change.hiss_db),
                    )
                    if value is not None and abs(value) >= 0.5
                ]  # fmt: skip
                told = ", ".join(parts) or "no change"
                lines.append(f"Against the first, {names[track]}: {told}.")
        return lines


def _cells(row: NoiseRow) -> tuple[Cell, ...]:
    noise = row.noise
    mains = f"{noise.mains_hz:.2f} Hz mains" if noise.mains_hz is not None else noise.reason
    dbu = row.floor_dbu
    return (
        Cell(row.name, f"{row.cause} {row.remedy}".strip()),
        Cell(number(noise.floor_dbfs), "20 Hz to 20 kHz, RMS after AES17", figure=True),
        Cell("" if dbu is None else number(dbu), "dBFS + what reaches 0 dBFS", figure=True),
        Cell(number(noise.floor_a_dbfs), "A-weighted", figure=True),
        Cell(number(noise.hum_dbfs) if noise.hum else "none", mains, figure=True),
        Cell(number(noise.bus_dbfs) if noise.bus_tones else "none",
             "Whole kilohertz of a digital bus", figure=True),
        Cell(number(noise.hiss_dbfs), "Without hum and bus tones", figure=True),
        Cell(number(row.unavoidable_dbfs), "What the noise budget says cannot be avoided",
             figure=True),
        Cell("" if row.gate_dbfs is None else number(row.gate_dbfs, 0),
             "Halfway between the floor and the quietest wanted note (30 dB under the loudest)",
             figure=True),
    )  # fmt: skip
