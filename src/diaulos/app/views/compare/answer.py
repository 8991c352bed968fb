"""The answer: what differs, in one sentence, its parts as figures, and a curve under it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QSizePolicy, QVBoxLayout, QWidget

from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.curve_plot import Curve, CurvePlot
from diaulos.app.widgets.labels import ElidedLabel, TextLabel
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import number
from diaulos.signal.difference import TRUSTED, Split
from diaulos.work.compare.pairs import Pair
from diaulos.work.compare.words import difference_words, tone_curve

CURVES = {
    "tone": "Tone: B against A, level taken out",
    "spectra": "Spectra at equal loudness",
    "null": "What is left, by thirds of an octave",
    "sum": "Mono sum, by octaves",
}
SHARES = (
    ("time_share_db", "Time",
     "Time and polarity: by how much moving and turning B lowers the power of A \N{MINUS SIGN} B"),
    ("level_share_db", "Level", "By how much one gain on B lowers it further"),
    ("tone_share_db", "Tone",
     "By how much the best linear filter lowers it further, judged on what it was not fitted on"),
    ("rest_db", "Rest", "What no gain and no filter takes away: distortion, noise, another touch"),
    ("null_db", "Null", "What the best gain and delay on B leave of A"),
)  # fmt: skip


class AnswerPanel(QWidget):
    """What differs between the reference and the chosen candidate."""

    def __init__(self) -> None:
        super().__init__()
        self.question = ElidedLabel()
        self.question.setProperty("role", "muted")
        self.sentence = TextLabel()
        self.sentence.setProperty("role", "headline")
        self.sentence.setWordWrap(True)
        self.sentence.setAccessibleName("What differs")
        self.sentence.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.sentence.setMinimumHeight(48)
        self.sentence.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop)
        self.shares: dict[str, TextLabel] = {}
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(14)
        for column, (key, name, formula) in enumerate(SHARES):
            caption, figure = TextLabel(name), TextLabel("\N{EN DASH}")
            caption.setProperty("role", "muted")
            figure.setProperty("role", "title")
            told = f"{formula}; in dB relative to the power of A."
            caption.setToolTip(told)
            figure.setToolTip(told)
            figure.setAccessibleName(name)
            self.shares[key] = figure
            grid.addWidget(caption, 0, column)
            grid.addWidget(figure, 1, column)
            grid.setColumnStretch(column, 1)
        self.which = combo("Curve", CURVES, least=26)
        self.which.setToolTip("T shows the next one")
        self.which.activated.connect(lambda _i: self.show_curve())
        self.plot = CurvePlot(axis="dB", fine=True)
        self.plot.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        row = WrappingRow()
        row.setContentsMargins(0, 0, 0, 0)
        row.add_pair("Curve (T)", self.which)
        self.trust = ElidedLabel()
        self.trust.setProperty("role", "muted")
        row.add_growing(self.trust)
        column_ = QVBoxLayout(self)
        column_.setContentsMargins(0, 0, 0, 0)
        column_.addWidget(self.question)
        column_.addWidget(self.sentence)
        column_.addLayout(grid)
        column_.addLayout(row)
        column_.addWidget(self.plot, 1)
        self._pair: Pair | None = None
        self._names = ("A", "B")

    def show_nothing(self, words: str) -> None:
        """There is no pair to be told of."""
        self._pair = None
        self.question.setText("")
        self.sentence.setText(words)
        self._show_shares(None, working=False)
        self.plot.clear("Choose two things to see what differs.")
        self.trust.setText("")

    def show_pair(self, names: tuple[str, str], pair: Pair | None, *, working: bool) -> None:
        """A pair by its names; None while nothing is known of it, `working` while more comes."""
        self._pair, self._names = pair, names
        self.question.setText(f"{names[1]} against {names[0]}: what differs?")
        if pair is None:
            self.sentence.setText("Listening to both\N{HORIZONTAL ELLIPSIS}")
            self._show_shares(None, working=True)
            self.plot.clear("Working it out\N{HORIZONTAL ELLIPSIS}")
            self.trust.setText("")
            return
        self.sentence.setText(difference_words(pair))
        self._show_shares(pair.split, working=working)
        self.show_curve()

    def next_curve(self) -> None:
        """The next curve."""
        keys = list(CURVES)
        at = keys.index(str(self.which.currentData()))
        choose(self.which, keys[(at + 1) % len(keys)])
        self.show_curve()

    def _show_shares(self, split: Split | None, *, working: bool) -> None:
        for key, figure in self.shares.items():
            value = getattr(split, key) if split is not None else None
            if split is None:
                figure.setText("\N{HORIZONTAL ELLIPSIS}" if working else "\N{EN DASH}")
            elif value is None:
                figure.setText("none")
            elif value <= -199.0:
                figure.setText("nothing")
            else:
                figure.setText(f"{number(value, 1)} dB")
        rest = next(tip for key, _, tip in SHARES if key == "rest_db")
        least = split.rest_least_db if split is not None else None
        if split is not None and least is not None and split.rest_db is not None:
            rest += (
                f". {number(split.rest_db, 1)} dB on what the best filter had not seen; "
                f"{number(least, 1)} dB is the least that a filter leaves of what it was fitted on"
            )
            most = split.rest_most_db
            if most is not None and most > split.rest_db:
                rest += f"; {number(most, 1)} dB with a shorter filter that does nearly as well"
        self.shares["rest_db"].setToolTip(rest)

    def show_curve(self) -> None:
        """The chosen curve of the pair."""
        pair = self._pair
        if pair is None:
            return
        which = str(self.which.currentData())
        self.trust.setText("")
        {"tone": self._tone, "spectra": self._spectra, "null": self._null, "sum": self._sum}[which](
            pair
        )

    def _tone(self, pair: Pair) -> None:
        split = pair.split
        told = [] if split is None else list(tone_curve(split))
        sure = np.array([one.coherence >= TRUSTED for one in told])
        if not told or not sure.any():
            self.plot.clear(
                "The two have too little in common for a tone curve."
                if split is not None
                else "No tone curve without a common time. One part played twice? Judge (Q) it so."
                if pair.found is None
                else "Working it out\N{HORIZONTAL ELLIPSIS}"
            )
            return
        hz = np.array([one.hz for one in told])
        gains = np.where(sure, [one.db for one in told], np.nan)
        self.plot.set_curves(hz, (Curve("B re A", gains),))
        if not sure.all():
            self.trust.setText("where coherence is 0.9 or more")

    def _spectra(self, pair: Pair) -> None:
        both = pair.spectrum
        if both is None:
            self.plot.clear("One of the two is silent.")
            return
        a, b = self._names
        self.plot.set_curves(both.hz, (Curve(f"A {a}", both.a_db), Curve(f"B {b}", both.b_db)))

    def _null(self, pair: Pair) -> None:
        bands = () if pair.split is None else pair.split.bands
        if not any(one.null_db is not None for one in bands):
            self.plot.clear("No null without a common time.")
            return
        hz = np.array([one.hz for one in bands])

        def row(values: list[float | None]) -> np.ndarray:
            return np.array([np.nan if one is None else max(-120.0, one) for one in values])

        self.plot.set_curves(
            hz,
            (
                Curve("Best gain", row([one.null_db for one in bands])),
                Curve("Best filter", row([one.null_after_filter_db for one in bands])),
            ),
        )

    def _sum(self, pair: Pair) -> None:
        sums = pair.stacked
        if sums is None:
            self.plot.clear("One of the two is silent.")
            return
        told = [one for one in sums.octaves if one.plays]
        hz = np.array([one.hz for one in told])
        curves = [Curve("As found", np.array([max(-40.0, one.found_db) for one in told]))]
        if pair.found is not None:
            curves += [
                Curve("In time", np.array([max(-40.0, one.in_time_db) for one in told])),
                Curve("Turned", np.array([max(-40.0, one.turned_db) for one in told])),
            ]
        if hz.size < 2:
            self.plot.clear("Both play together in less than two octaves.")
            return
        self.plot.set_curves(hz, tuple(curves))
