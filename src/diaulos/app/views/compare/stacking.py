"""Stack or pan: the verdict for the chosen pair, and for every pair of the candidates."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PySide6.QtWidgets import QFormLayout, QHeaderView, QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import number
from diaulos.signal.stacking import Notch
from diaulos.work.compare.pairs import Pair
from diaulos.work.compare.words import hertz_words, verdict_of

FIGURES = (
    ("found_db", "Mono sum as found", "10 log10 of the power of A + B over the sum of their powers,"
     " at equal loudness: +3.0 dB for equal tracks"),
    ("in_time_db", "in time", "The same with B in A's time and polarity"),
    ("turned_db", "in time, turned", "The same with B turned over"),
    ("correlation", "Correlation", "Sum of A B over the root of their powers, as found"),
    ("side_mid_db", "Side over mid, panned", "Power of (A \N{MINUS SIGN} B) / 2 over that of"
     " (A + B) / 2 with one left and one right"),
)  # fmt: skip
CHOICES = {"stack": "stack", "move": "move", "turn": "turn", "pan": "pan", "unknown": "?"}


class StackPanel(QWidget):
    """The verdict, its figures, what can be done about it, and the matrix."""

    def __init__(self) -> None:
        super().__init__()
        title = TextLabel("Stack or pan?")
        title.setProperty("role", "title")
        self.verdict = TextLabel()
        self.verdict.setProperty("role", "title")
        self.verdict.setWordWrap(True)
        self.verdict.setAccessibleName("Verdict")
        form = QFormLayout()
        form.setContentsMargins(0, 0, 0, 0)
        self.figures: dict[str, TextLabel] = {}
        for key, name, formula in FIGURES:
            figure = TextLabel("\N{EN DASH}")
            figure.setToolTip(formula)
            figure.setAccessibleName(name)
            caption = TextLabel(name)
            caption.setProperty("role", "muted")
            caption.setToolTip(formula)
            form.addRow(caption, figure)
            self.figures[key] = figure
        self.notches = TextLabel()
        self.notches.setProperty("role", "muted")
        self.notches.setWordWrap(True)
        self.notches.setAccessibleName("Notches of the sum")
        self.move_button = QPushButton("Move B into time (M)")
        self.move_button.setToolTip(
            "B is heard, mixed and exported in A's time. Its file stays as it is; undo takes it"
            " back."
        )
        self.turn_button = QPushButton("Turn B over (P)")
        self.turn_button.setToolTip("Its polarity, wherever it is heard; its file stays as it is")
        row = WrappingRow()
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.move_button)
        row.addWidget(self.turn_button)
        self.matrix = Table("Every pair", ("",), 0)
        self.matrix.setSelectionMode(Table.SelectionMode.NoSelection)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 0, 0)
        column.addWidget(title)
        column.addWidget(self.verdict)
        column.addLayout(form)
        column.addWidget(self.notches)
        column.addLayout(row)
        column.addWidget(self.matrix, 1)

    def show_pair(self, pair: Pair | None, *, moves: bool, turns: bool) -> None:
        """The chosen pair; None while nothing is known. Whether B can be moved and turned."""
        self.move_button.setEnabled(moves and pair is not None and pair.found is not None)
        self.turn_button.setEnabled(turns and pair is not None)
        sums = None if pair is None else pair.stacked
        self.verdict.setText("" if pair is None else _first_up(verdict_of(pair).words))
        for key, figure in self.figures.items():
            value = None if sums is None else getattr(sums, key)
            if pair is not None and pair.found is None and key in ("in_time_db", "turned_db"):
                value = None
            if value is None:
                figure.setText("\N{EN DASH}")
            elif key == "correlation":
                figure.setText(number(value, 2, sign=True))
            else:
                figure.setText(f"{number(max(value, -60.0), 1, sign=True)} dB")
        if pair is None or sums is None:
            self.notches.setText("")
            return
        told = sums.in_time_notches if pair.found is not None else sums.notches
        self.notches.setText(_notch_words(told, pair.found is not None))

    def show_matrix(self, letters: Sequence[str], pairs: Mapping[tuple[int, int], Pair]) -> None:
        """Every pair: the row against the column."""
        self.matrix.setColumnCount(len(letters) + 1)
        self.matrix.setHorizontalHeaderLabels(["", *letters])
        rows = []
        for at, letter in enumerate(letters):
            cells = [Cell(letter, bold=True)]
            for other in range(len(letters)):
                pair = pairs.get((at, other))
                if other <= at:
                    cells.append(Cell(""))
                elif pair is None:
                    cells.append(Cell("\N{HORIZONTAL ELLIPSIS}"))
                else:
                    cells.append(_cell(pair))
            rows.append((letter, cells))
        self.matrix.show_rows(rows)
        header = self.matrix.horizontalHeader()
        for column in range(len(letters) + 1):
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)


def _cell(pair: Pair) -> Cell:
    verdict = verdict_of(pair)
    words = CHOICES[verdict.choice]
    if pair.stacked is not None:
        words += f" {number(max(-60.0, pair.stacked.found_db), 1, sign=True)}"
    return Cell(words, tip=f"{pair.a} and {pair.b}: {verdict.words}")


def _first_up(text: str) -> str:
    return text[:1].upper() + text[1:]


def _notch_words(notches: tuple[Notch, ...], in_time: bool) -> str:
    deep = sorted(notches, key=lambda one: one.db)[:3]
    if not deep:
        return "No notch deeper than 6 dB " + ("in time." if in_time else "as found.")
    told = ", ".join(
        f"{number(-one.db, 0)} dB at {hertz_words(one.hz)}"
        for one in sorted(deep, key=lambda one: one.hz)
    )
    return ("Notches in time: " if in_time else "Notches as found: ") + told
