"""The pages of the trainer's exercises, and the row that lets both be heard afterwards."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFormLayout,
    QHBoxLayout,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.level_window import LevelWindow
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.painted import least_height
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import LevelFigures, level, number
from diaulos.work.training.faults import FAULTS, FaultHunt
from diaulos.work.training.hearing import INTERVALS, Hearing
from diaulos.work.training.setting import FULL_SCALE_DBU, MOST_GAIN_DB, Gaining, Matching


class AfterRow(QWidget):
    """What was answered is heard again: a button for each sound, told what it was."""

    hear = Signal(str)
    on = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Hear it again")
        self.sounds: list[QPushButton] = []
        self.next = QPushButton()
        self.next.setProperty("main", "true")
        self.next.setToolTip("Enter")
        self.next.setAutoDefault(False)
        self.next.clicked.connect(self.on.emit)
        self._row = WrappingRow(self)
        self.hide()

    @property
    def there(self) -> bool:
        """Whether something can be heard again."""
        return bool(self.sounds)

    @property
    def going_on(self) -> bool:
        """Whether there is something to go on to."""
        return self.there and self.next.isVisibleTo(self)

    def show_sounds(self, names: Sequence[str], on: str = "") -> None:
        """By their names, in the order of their keys; none hides the row."""
        while self._row.count():
            item = self._row.takeAt(0)
            old = item.widget() if item is not None else None
            if old is not None and old is not self.next:
                old.hide()
                old.deleteLater()
        self.sounds = []
        for at, name in enumerate(names, start=1):
            button = QPushButton(f"{name} ({at})")
            button.setCheckable(True)
            button.setAutoDefault(False)
            button.clicked.connect(lambda _on=False, at=at: self.hear.emit(str(at)))
            self._row.addWidget(button)
            self.sounds.append(button)
        self._row.addWidget(self.next)
        self.next.setText(on)
        self.next.setVisible(bool(on))
        self.setVisible(bool(names))
        if names:
            theme.dress(self)

    def show_heard(self, key: str) -> None:
        """Which one sounds."""
        for at, button in enumerate(self.sounds, start=1):
            button.setChecked(str(at) == key)


class HearingPage(QWidget):
    """Three sounds."""

    hear = Signal(str)
    answered = Signal(int)
    ended = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.question = TextLabel()
        self.question.setProperty("role", "title")
        self.question.setWordWrap(True)
        self.count = TextLabel()
        self.sounds: list[QPushButton] = []
        self.answers: list[QPushButton] = []
        column = QVBoxLayout(self)
        column.addWidget(self.question)
        column.addWidget(TextLabel("1, 2, 3 hear; Enter: the one that is heard is the one."))
        for at in range(INTERVALS):
            row = QHBoxLayout()
            sound = QPushButton(f"Hear {at + 1}")
            sound.setCheckable(True)
            sound.setAccessibleName(f"Hear sound {at + 1}")
            answer = QPushButton("This one")
            answer.setAccessibleName(f"Sound {at + 1} is the one")
            sound.clicked.connect(lambda _on=False, at=at: self.hear.emit(str(at + 1)))
            answer.clicked.connect(lambda _on=False, at=at: self.answered.emit(at))
            row.addWidget(sound, 1)
            row.addWidget(answer)
            column.addLayout(row)
            self.sounds.append(sound)
            self.answers.append(answer)
        self.enough = QPushButton("&Enough: what was found?")
        self.enough.clicked.connect(self.ended.emit)
        column.addWidget(self.count)
        column.addStretch(1)
        column.addWidget(self.enough)

    def show_run(self, run: Hearing) -> None:
        """How far it is."""
        self.question.setText(run.skill.question)
        trials = len(run.stairs.trials)
        self.count.setText(f"Trial {trials + 1}, at most 60." if not run.done else "")
        for button in (*self.sounds, *self.answers, self.enough):
            button.setEnabled(True)

    def show_heard(self, key: str) -> None:
        """Which one sounds."""
        for at, button in enumerate(self.sounds, start=1):
            button.setChecked(str(at) == key)

    def show_answered(self) -> None:
        """The answer is looked back at."""
        self.show_over()
        self.enough.setEnabled(True)

    def show_over(self) -> None:
        """Nothing to answer any more."""
        for button in (*self.sounds, *self.answers, self.enough):
            button.setEnabled(False)


class MatchingPage(QWidget):
    """Two sounds, and a gain without a figure."""

    hear = Signal(str)
    turned = Signal(int)
    ended = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        question = TextLabel("Make B as loud as A, by ear.")
        question.setProperty("role", "title")
        self.sounds = (QPushButton("Hear A (1)"), QPushButton("Hear B (2)"))
        self.softer, self.louder = QPushButton("B softer (Down)"), QPushButton("B louder (Up)")
        self.done = QPushButton("&That is equal")
        column = QVBoxLayout(self)
        column.addWidget(question)
        first, second = QHBoxLayout(), QHBoxLayout()
        for at, button in enumerate(self.sounds, start=1):
            button.setCheckable(True)
            button.clicked.connect(lambda _on=False, at=at: self.hear.emit(str(at)))
            first.addWidget(button)
        for steps, button in ((-1, self.softer), (1, self.louder)):
            button.setAutoRepeat(True)
            button.clicked.connect(lambda _on=False, steps=steps: self.turned.emit(steps))
            second.addWidget(button)
        column.addLayout(first)
        column.addLayout(second)
        column.addWidget(TextLabel("A tenth of a dB a step; no figure is shown until the end."))
        column.addStretch(1)
        column.addWidget(self.done)
        self.done.clicked.connect(self.ended.emit)

    def show_run(self, run: Matching) -> None:
        """Ready."""
        del run
        for button in (*self.sounds, self.softer, self.louder, self.done):
            button.setEnabled(True)

    def show_heard(self, key: str) -> None:
        """Which one sounds."""
        for at, button in enumerate(self.sounds, start=1):
            button.setChecked(str(at) == key)

    def show_over(self) -> None:
        """Nothing to turn any more."""
        for button in (*self.sounds, self.softer, self.louder, self.done):
            button.setEnabled(False)


class FaultPage(QWidget):
    """A rig to look at and to hear, and what may be wrong with it."""

    hear = Signal(str)
    answered = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        question = TextLabel("One to three things are wrong in this rig. Which?")
        question.setProperty("role", "title")
        self.looks = QTreeWidget()
        self.looks.setHeaderHidden(True)
        least_height(self.looks, 150)
        self.looks.setColumnCount(4)
        self.looks.setAccessibleName("What can be seen of the rig")
        self.tracks = QHBoxLayout()
        self.sounds: list[QPushButton] = []
        self.choices: dict[str, QCheckBox] = {}
        column = QVBoxLayout(self)
        column.addWidget(question)
        column.addWidget(self.looks, 1)
        column.addLayout(self.tracks)
        for fault in FAULTS:
            box = QCheckBox(fault.words)
            self.choices[fault.id] = box
            column.addWidget(box)
        self.done = QPushButton("&That is what is wrong")
        self.done.clicked.connect(lambda: self.answered.emit(self.chosen))
        column.addWidget(self.done)

    @property
    def chosen(self) -> set[str]:
        """Ids of what is ticked."""
        return {ident for ident, box in self.choices.items() if box.isChecked()}

    def show_run(self, run: FaultHunt, tracks: tuple[str, ...]) -> None:
        """The rig, and a button for what each track records."""
        self.looks.clear()
        for title, rows in run.looks():
            head = QTreeWidgetItem([title])
            self.looks.addTopLevelItem(head)
            for row in rows:
                head.addChild(QTreeWidgetItem(list(row)))
            head.setExpanded(True)
            head.setFirstColumnSpanned(True)
        for at in range(4):
            self.looks.resizeColumnToContents(at)
        while self.tracks.count():
            item = self.tracks.takeAt(0)
            old = item.widget() if item is not None else None
            if old is not None:
                old.hide()
                old.deleteLater()
        self.sounds = []
        for at, name in enumerate(tracks, start=1):
            button = QPushButton(f"Hear {name} ({at})")
            button.setCheckable(True)
            button.clicked.connect(lambda _on=False, at=at: self.hear.emit(str(at)))
            self.tracks.addWidget(button)
            self.sounds.append(button)
        for box in self.choices.values():
            box.setChecked(False)
            box.setEnabled(True)
            box.show()
        self.done.show()
        theme.dress(self)

    def show_heard(self, key: str) -> None:
        """Which one sounds."""
        for at, button in enumerate(self.sounds, start=1):
            button.setChecked(str(at) == key)

    def show_over(self) -> None:
        """Nothing to answer any more: what was ticked stays, what is heard is heard below."""
        self.done.setVisible(False)
        for button in self.sounds:
            button.hide()
        for box in self.choices.values():
            box.setEnabled(False)
            box.setVisible(box.isChecked())


class GainingPage(QWidget):
    """A gain, a few looks, a take."""

    looked = Signal(float)
    recorded = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        question = TextLabel(
            "An unknown player: the loudest peak of the take is to reach the target."
        )
        question.setProperty("role", "title")
        question.setWordWrap(True)
        self.gain = NumberField()
        self.gain.setRange(0.0, MOST_GAIN_DB)
        self.gain.setDecimals(0)
        self.gain.setSuffix(" dB")
        self.gain.setAccessibleName("Gain")
        self.look = QPushButton("&Look: some seconds of hard playing")
        self.record = QPushButton("&Record the take")
        self.meter = LevelWindow()
        self.meter.setAccessibleName("Loudest peak that was seen last")
        self.seen = TextLabel()
        self.seen.setWordWrap(True)
        form = QFormLayout()
        form.addRow("Gain", self.gain)
        column = QVBoxLayout(self)
        column.addWidget(question)
        column.addLayout(form)
        column.addWidget(self.meter)
        column.addWidget(self.seen)
        column.addStretch(1)
        column.addWidget(self.look)
        column.addWidget(self.record)
        self.look.clicked.connect(lambda: self.looked.emit(self.gain.value()))
        self.record.clicked.connect(lambda: self.recorded.emit(self.gain.value()))

    def show_run(self, run: Gaining) -> None:
        """What was seen so far."""
        self.gain.setValue(run.gain_db)
        peak = run.take_dbfs if run.take_dbfs is not None else None
        if peak is None and run.looks:
            peak = run.looks[-1][1]
        figures = None
        if peak is not None:
            target = run.target_dbfs
            figures = LevelFigures(
                "dBFS", -90.0, 0.0, peak, peak - 10.0, (target - 1.0, target + 1.0)
            )
        self.meter.set_figures(figures)
        rows = [
            f"Gain {number(gain, 0)} dB: " + (level(dbfs, "dBFS") if dbfs < 0.0 else "clips")
            for gain, dbfs in run.looks
        ]
        rows.append(f"Target {level(run.target_dbfs, 'dBFS', 0)}; {run.left} looks are left. "
                    f"0 dBFS is {level(FULL_SCALE_DBU, 'dBu', 0)} at gain 0.")  # fmt: skip
        self.seen.setText("\n".join(rows))
        over = run.take_dbfs is not None
        self.look.setEnabled(run.left > 0 and not over)
        self.record.setEnabled(not over)
        self.gain.setEnabled(not over)
