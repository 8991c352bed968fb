"""The blind page: nothing on it betrays which is which.

No waveform, no meter, no name moves; how many were right is told at the end.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QSlider,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import fix_width, least_height, least_width
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.session.compared import BlindTest
from diaulos.signal.blind import Kind
from diaulos.work.compare.blindrun import (
    USUAL_TRIALS,
    BlindRun,
    Button,
    beforehand,
    result_words,
)
from diaulos.work.listening.player import LOUDEST_LEVEL_DB

KINDS = {"abx": "Is a difference heard? (X is A or B)", "preference": "Which do you prefer?"}
LENGTHS = {0: "stop when you like", 10: "10 trials", 16: "16 trials", 25: "25 trials",
           40: "40 trials"}  # fmt: skip
HEAR: dict[Kind, tuple[tuple[Button, str], ...]] = {
    "abx": (("a", "A"), ("b", "B"), ("x", "X")),
    "preference": (("1", "First"), ("2", "Second")),
}
ANSWERS: dict[Kind, tuple[tuple[Button, str], ...]] = {
    "abx": (("a", "X is A (Left)"), ("b", "X is B (Right)")),
    "preference": (("1", "I prefer the first (Left)"), ("2", "I prefer the second (Right)")),
}


def _big(text: str, acts: Callable[[], None]) -> QPushButton:
    made = QPushButton(text)
    least_height(made, 64)
    least_width(made, 190)
    made.clicked.connect(lambda _on=False: acts())
    return made


class BlindPage(QWidget):
    """Three sheets: before, during, after."""

    begin_asked = Signal(str, int)
    """(kind, trials; 0: until it is stopped)."""
    heard = Signal(str)
    """A button that plays: a, b, x, 1, 2."""
    play_asked = Signal()
    answered = Signal()
    stop_asked = Signal()
    back_asked = Signal()
    export_asked = Signal()
    level_asked = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.run: BlindRun | None = None
        self.sheets = QStackedWidget()
        self.sheets.addWidget(self._before())
        self.sheets.addWidget(self._during())
        self.sheets.addWidget(self._after())
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 12, 24, 12)
        column.addWidget(self.sheets)

    # --- before ---

    def _before(self) -> QWidget:
        sheet = QWidget()
        self.title = TextLabel()
        self.title.setProperty("role", "headline")
        self.title.setWordWrap(True)
        self.kind = combo("What is asked", KINDS, least=28)
        self.length = combo("How many trials", least=18)
        for count, words in LENGTHS.items():
            self.length.addItem(words, count)
        choose(self.length, USUAL_TRIALS)
        self.told = TextLabel()
        self.told.setWordWrap(True)
        self.told.setAccessibleName("What the test can find")
        self.kind.activated.connect(lambda _i: self._tell())
        self.length.activated.connect(lambda _i: self._tell())
        rules = TextLabel(
            "Both play at the same moment and the same loudness; switch as often as you like. "
            "The order is drawn trial by trial and kept with your answers. How many were right is "
            "told at the end. Listen at a level you can bear for a while; take pauses."
        )
        rules.setProperty("role", "muted")
        rules.setWordWrap(True)
        self.begin = QPushButton("Begin (Return)")
        self.begin.setProperty("role", "main")
        self.begin.clicked.connect(self._on_begin)
        self.leave = QPushButton("Back (Esc)")
        self.leave.clicked.connect(self.back_asked)
        self.earlier = TextLabel()
        self.earlier.setProperty("role", "muted")
        self.earlier.setWordWrap(True)
        self.earlier.setAccessibleName("Earlier tests")
        asked = WrappingRow()
        asked.add_pair("Question", self.kind)
        asked.add_pair("Length", self.length)
        asked.add_stretch()
        buttons = QHBoxLayout()
        buttons.addWidget(self.begin)
        buttons.addWidget(self.leave)
        buttons.addStretch(1)
        column = QVBoxLayout(sheet)
        column.addWidget(self.title)
        column.addLayout(asked)
        column.addWidget(self.told)
        column.addWidget(rules)
        column.addLayout(buttons)
        column.addWidget(self.earlier)
        column.addStretch(1)
        return sheet

    def show_before(self, a: str, b: str, earlier: tuple[BlindTest, ...]) -> None:
        """A test of two things is offered."""
        self.run = None
        self.title.setText(f"Blind test: {a} and {b}")
        lines = [f"{one.made_at[:16].replace('T', ' ')}: {result_words(one)}" for one in earlier]
        self.earlier.setText("Earlier tests of these two:\n" + "\n".join(lines) if lines else "")
        self._tell()
        self.sheets.setCurrentIndex(0)
        self.setFocus()

    def _tell(self) -> None:
        self.told.setText(beforehand(self._kind(), int(self.length.currentData())))

    def _kind(self) -> Kind:
        return "preference" if self.kind.currentData() == "preference" else "abx"

    def _on_begin(self) -> None:
        self.begin_asked.emit(self._kind(), int(self.length.currentData()))

    # --- during ---

    def _during(self) -> QWidget:
        sheet = QWidget()
        self.trial = TextLabel()
        self.trial.setProperty("role", "headline")
        self.hint = TextLabel()
        self.hint.setProperty("role", "muted")
        self.hint.setWordWrap(True)
        self._hear_row, self._answer_row = QHBoxLayout(), QHBoxLayout()
        self.play = QPushButton("Play (Space)")
        self.play.clicked.connect(self.play_asked)
        self.slip = QPushButton("Last answer was a slip (Backspace)")
        self.slip.clicked.connect(self._on_slip)
        self.stop = QPushButton("Stop here (Esc)")
        self.stop.clicked.connect(self.stop_asked)
        foot = QHBoxLayout()
        for button in (self.play, self.slip, self.stop):
            foot.addWidget(button)
        foot.addSpacing(18)
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setRange(-60, int(LOUDEST_LEVEL_DB))
        self.level.setAccessibleName("Listening level in dB")
        self.level.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.level.setToolTip("Of both alike")
        fix_width(self.level, 110)
        self.level.valueChanged.connect(self.level_asked)
        foot.addWidget(TextLabel("Level"))
        foot.addWidget(self.level)
        foot.addStretch(1)
        column = QVBoxLayout(sheet)
        column.addStretch(1)
        column.addWidget(self.trial)
        column.addLayout(self._hear_row)
        column.addSpacing(12)
        column.addLayout(self._answer_row)
        column.addSpacing(12)
        column.addLayout(foot)
        column.addWidget(self.hint)
        column.addStretch(2)
        self.hear_buttons: dict[Button, QPushButton] = {}
        self.answer_buttons: dict[Button, QPushButton] = {}
        return sheet

    def start(self, run: BlindRun) -> None:
        """A test begins."""
        self.run = run
        for row in (self._hear_row, self._answer_row):
            while row.count():
                taken = row.takeAt(0)
                old = taken.widget() if taken is not None else None
                if old is not None:
                    old.hide()
                    old.deleteLater()
        self.hear_buttons, self.answer_buttons = {}, {}
        for number, (key, words) in enumerate(HEAR[run.plan.kind], start=1):
            hear = _big(f"{words} ({number})", partial(self.hear, key))
            hear.setCheckable(True)
            hear.setAccessibleName(f"Hear {words}")
            self.hear_buttons[key] = hear
            self._hear_row.addWidget(hear)
        for key, words in ANSWERS[run.plan.kind]:
            answer = _big(words, partial(self.answer, key))
            self.answer_buttons[key] = answer
            self._answer_row.addWidget(answer)
        self._hear_row.addStretch(1)
        self._answer_row.addStretch(1)
        self.sheets.setCurrentIndex(1)
        self._show_trial()
        self.hear(HEAR[run.plan.kind][-1][0] if run.plan.kind == "abx" else "1")
        self.setFocus()

    def _show_trial(self) -> None:
        run = self.run
        if run is None:
            return
        of = f" of {run.plan.planned}" if run.plan.planned else ""
        asked = "is X A or B?" if run.plan.kind == "abx" else "which do you prefer?"
        self.trial.setText(f"Trial {run.number}{of}: {asked}")
        self.slip.setEnabled(run.answered > 0)
        self.hint.setText(
            "A pause would do your ears good: some minutes, then go on where you are."
            if run.pause_due
            else "How many were right is told at the end."
        )

    def hear(self, button: Button) -> None:
        """As if a button were pressed."""
        if self.run is None or button not in self.hear_buttons:
            return
        for key, widget in self.hear_buttons.items():
            widget.setChecked(key == button)
        self.heard.emit(button)

    @property
    def heard_now(self) -> Button | None:
        """The button that is pressed."""
        return next((key for key, one in self.hear_buttons.items() if one.isChecked()), None)

    def hear_number(self, number: int) -> None:
        """The button of a key."""
        if self.run is not None and number <= len(HEAR[self.run.plan.kind]):
            self.hear(HEAR[self.run.plan.kind][number - 1][0])

    def answer(self, button: Button) -> None:
        """An answer is given."""
        run = self.run
        if run is None or run.ended:
            return
        run.answer(button)
        if not run.ended:
            self._show_trial()
            # X is another one now: what is pressed is heard anew.
            now = self.heard_now
            if now is not None:
                self.heard.emit(now)
        self.answered.emit()

    def _on_slip(self) -> None:
        if self.run is not None:
            self.run.take_back()
            self._show_trial()
            now = self.heard_now
            if now is not None:
                self.heard.emit(now)

    def show_playing(self, playing: bool) -> None:
        """The button says what it will do."""
        self.play.setText("Pause (Space)" if playing else "Play (Space)")

    # --- after ---

    def _after(self) -> QWidget:
        sheet = QWidget()
        self.result = TextLabel()
        self.result.setProperty("role", "headline")
        self.result.setWordWrap(True)
        self.result.setAccessibleName("What the test says")
        self.about = TextLabel()
        self.about.setProperty("role", "muted")
        self.about.setWordWrap(True)
        self.table = Table("Trials", ("Trial", "Was", "Answer", "Right"), 3)
        self.export = QPushButton("Export CSV\N{HORIZONTAL ELLIPSIS} (E)")
        self.export.clicked.connect(self.export_asked)
        self.done = QPushButton("Back (Esc)")
        self.done.clicked.connect(self.back_asked)
        buttons = QHBoxLayout()
        buttons.addWidget(self.done)
        buttons.addWidget(self.export)
        buttons.addStretch(1)
        column = QVBoxLayout(sheet)
        column.addWidget(self.result)
        column.addWidget(self.about)
        column.addWidget(self.table, 1)
        column.addLayout(buttons)
        return sheet

    def show_result(self, test: BlindTest) -> None:
        """A test has ended and is kept."""
        self.run = None
        self.result.setText(result_words(test))
        self.about.setText(
            f"A: {test.a.name}, B: {test.b.name}. Kept with the session; undo takes it out."
        )
        names = {"a": "A", "b": "B"}
        rows = []
        for number, one in enumerate(test.trials, start=1):
            right = ("yes" if one.right else "no") if test.kind == "abx" else "\N{EN DASH}"
            rows.append(
                (
                    number,
                    [Cell(str(number), figure=True), Cell(names[one.was]),
                     Cell(names[one.answer]), Cell(right)],
                )
            )  # fmt: skip
        self.table.show_rows(rows)
        self.sheets.setCurrentIndex(2)
        self.setFocus()

    # --- keys ---

    def escape(self) -> None:
        """Stop a test, leave what comes before and behind one."""
        if self.sheets.currentIndex() == 1:
            self.stop_asked.emit()
        else:
            self.back_asked.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """The arrows answer, Return begins, Esc goes back."""
        key, sheet = Qt.Key(event.key()), self.sheets.currentIndex()
        if key == Qt.Key.Key_Escape:
            self.escape()
        elif sheet == 0 and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._on_begin()
        elif sheet == 1 and key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self.run is not None:
            at = 0 if key == Qt.Key.Key_Left else 1
            self.answer(ANSWERS[self.run.plan.kind][at][0])
        elif sheet == 1 and key == Qt.Key.Key_Backspace:
            self._on_slip()
        else:
            super().keyPressEvent(event)
