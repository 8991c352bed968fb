"""The trainer: hear a difference, match a loudness, set a gain; the figures come afterwards."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QListWidget,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.jobs import Job, Jobs
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.level_window import LevelWindow
from diaulos.app.widgets.number_field import NumberField, WholeField
from diaulos.figures import LevelFigures, level, number
from diaulos.session.model import Session
from diaulos.wiring import Trained
from diaulos.work.listening.player import Channel
from diaulos.work.listening.sound import Place
from diaulos.work.rigs.audio import RigAudio
from diaulos.work.training.faults import FAULTS, FaultHunt
from diaulos.work.training.hearing import INTERVALS, SKILLS, Hearing, Skill, material
from diaulos.work.training.setting import FULL_SCALE_DBU, MOST_GAIN_DB, Gaining, Matching

Real = NDArray[np.float64]
MOST_S = 5.0
MATCH, GAIN, FAULT = "match", "gain", "fault"


@dataclass(frozen=True)
class Material:
    """A sound to train with, worked out when it is asked for."""

    name: str
    make: Callable[[], Real]


class TrainerDialog(QDialog):
    """Exercises at the left, the one that runs at the right."""

    finished_one = Signal(object)
    """An exercise came to its end: what is kept of it, without its time."""

    def __init__(
        self, place: Place, rate_hz: int, materials: tuple[Material, ...], jobs: Jobs,
        history: tuple[Trained, ...], session: Session, audio: RigAudio,
        parent: QWidget | None = None,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.setWindowTitle("Trainer")
        self._session, self._audio = session, audio
        self._place, self._rate_hz, self._jobs = place, rate_hz, jobs
        self._materials, self.history = materials, history
        self.exercises = QListWidget()
        self.exercises.setAccessibleName("Exercises")
        for skill in SKILLS:
            self.exercises.addItem(f"Hear it: {skill.title}")
        self.exercises.addItem("Match it")
        self.exercises.addItem("Set the gain")
        self.exercises.addItem("Find the fault")
        self.material = QComboBox()
        self.material.setAccessibleName("What is played")
        for one in materials:
            self.material.addItem(one.name)
        self.seed = WholeField()
        self.seed.setRange(1, 999_999)
        self.seed.setValue(1 + len(history))
        self.seed.setAccessibleName("Number of the exercise")
        self.seed.setToolTip("The same number gives the same exercise: a class can share it")
        self.begin = QPushButton("&Begin")
        self.begin.setToolTip("Enter")
        self.before = TextLabel()
        self.before.setWordWrap(True)
        self.before.setProperty("role", "muted")
        self.hearing = HearingPage()
        self.matching = MatchingPage()
        self.gaining = GainingPage()
        self.faults = FaultPage()
        self.idle = TextLabel(
            "Choose an exercise and begin. Start quietly: the level of what is heard is that of "
            "every view. Rest your ears when you are tired."
        )
        self.idle.setWordWrap(True)
        self.pages = QStackedWidget()
        for page in (
            self.idle,
            self.hearing,
            self.matching,
            self.gaining,
            self.faults,
        ):
            self.pages.addWidget(page)
        self.told = TextLabel()
        self.told.setWordWrap(True)
        self.told.setAccessibleName("What it was")
        self.close_ = QPushButton("Close")
        self.close_.clicked.connect(self.reject)
        self._lay()
        self._wire()
        self._run: Hearing | Matching | Gaining | FaultHunt | None = None
        self._heard = ""
        self._answering = False
        """A trial is being made: an answer to it would be one to the trial before."""
        self.resize(900, 600)
        theme.dress(self)
        self.exercises.setCurrentRow(0)

    def _lay(self) -> None:
        side = QWidget()
        left = QVBoxLayout(side)
        left.setContentsMargins(0, 0, 8, 0)
        left.addWidget(self.exercises, 1)
        form = QFormLayout()
        form.addRow("Played", self.material)
        form.addRow("Number", self.seed)
        left.addLayout(form)
        left.addWidget(self.begin)
        middle = QWidget()
        right = QVBoxLayout(middle)
        right.setContentsMargins(8, 0, 0, 0)
        right.addWidget(self.before)
        right.addWidget(self.pages, 1)
        right.addWidget(self.told)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(side)
        split.addWidget(middle)
        split.setStretchFactor(1, 1)
        split.setSizes([260, 620])
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(self.close_)
        column = QVBoxLayout(self)
        column.addWidget(split, 1)
        column.addLayout(foot)
        for button in self.findChildren(QPushButton):
            button.setAutoDefault(False)

    def _wire(self) -> None:
        self.exercises.currentRowChanged.connect(lambda _row: self._chosen())
        self.exercises.itemActivated.connect(lambda _item: self.start())
        self.begin.clicked.connect(self.start)
        self.hearing.hear.connect(self.hear)
        self.hearing.answered.connect(self.answer)
        self.hearing.ended.connect(self.end)
        self.matching.hear.connect(self.hear)
        self.matching.turned.connect(self._turn)
        self.matching.ended.connect(self.end)
        self.faults.hear.connect(self.hear)
        self.faults.answered.connect(self._found_faults)
        self.gaining.looked.connect(self._look)
        self.gaining.recorded.connect(self._take)
        self.finished.connect(lambda _code: self._place.pause())

    # --- choosing ---

    @property
    def exercise(self) -> str:
        """Id of the chosen one."""
        row = self.exercises.currentRow()
        return SKILLS[row].id if 0 <= row < len(SKILLS) else (MATCH, GAIN, FAULT)[row - len(SKILLS)]

    def _skill(self) -> Skill | None:
        row = self.exercises.currentRow()
        return SKILLS[row] if 0 <= row < len(SKILLS) else None

    def _chosen(self) -> None:
        self._place.pause()
        self._run = None
        self.pages.setCurrentWidget(self.idle)
        self.told.setText("")
        done = [one for one in self.history if one.exercise == self.exercise]
        words = [f"{one.at[:10]}: {one.words}" for one in done[-3:]]
        self.before.setText("\n".join(words))

    def start(self) -> None:
        """Begin the chosen exercise."""
        self._place.pause()
        self.told.setText("")
        exercise, skill, seed = self.exercise, self._skill(), self.seed.value()
        rate = self._rate_hz
        if exercise == GAIN:
            self._run = Gaining(seed)
            self.gaining.show_run(self._run)
            self.pages.setCurrentWidget(self.gaining)
            self.gaining.gain.setFocus()
            return
        if exercise == FAULT:
            session, audio = self._session, self._audio

            def play(_progress: object, _cancel: object) -> tuple[FaultHunt, dict[str, Real]]:
                hunt = FaultHunt(session, seed)
                return hunt, hunt.sounds(audio)

            self._jobs.start(
                Job("Playing the rig", play, self._hunted, self._failed, background=True)
            )
            return
        chosen = self._materials[max(0, self.material.currentIndex())]

        def work(_progress: object, _cancel: object) -> Hearing | Matching:
            sound = material(chosen.make()[: round(MOST_S * rate)])
            if skill is not None:
                return Hearing(skill, sound, float(rate), seed)
            other = material(_darker(sound, float(rate)))
            return Matching(sound, other, float(rate), seed)

        self._jobs.start(Job("Preparing", work, self._begun, self._failed, background=True))

    def _failed(self, error: Exception) -> None:
        self._answering = False
        self.told.setText(str(error))

    def _begun(self, run: Hearing | Matching) -> None:
        self._run = run
        if isinstance(run, Hearing):
            self.hearing.show_run(run)
            self.pages.setCurrentWidget(self.hearing)
            self._load_trial()
        else:
            self.matching.show_run(run)
            self.pages.setCurrentWidget(self.matching)
            self._set_channels((run.a, run.b))
            self._place.set_mix({"2": (run.gain_db, 0.0)})
        page = self.hearing if isinstance(run, Hearing) else self.matching
        page.setFocus()
        self.hear("1")

    def _hunted(self, found: tuple[FaultHunt, dict[str, Real]]) -> None:
        run, sounds = found
        self._run = run
        self._set_channels(tuple(sounds.values()) or (np.zeros(1),))
        self.faults.show_run(run, tuple(sounds))
        self.pages.setCurrentWidget(self.faults)
        self.faults.setFocus()

    def _found_faults(self, chosen: set[str]) -> None:
        run = self._run
        if not isinstance(run, FaultHunt):
            return
        self._place.pause()
        self.told.setText(run.answer(chosen))
        part = run.right(chosen)
        words = f"{len(chosen & set(run.ids))} of {len(run.ids)} found"
        self._keep(words, part, "of the faults")
        self._run = None
        self.faults.show_over()

    # --- sounding ---

    def _load_trial(self) -> None:
        run = self._run
        if isinstance(run, Hearing):
            self._set_channels(run.trial.sounds)

    def _set_channels(self, sounds: tuple[Real, ...]) -> None:
        frames = max(one.size for one in sounds)
        channels = tuple(Channel(str(at), _reader(one)) for at, one in enumerate(sounds, start=1))
        self._place.set_channels(channels, frames, layered=True)
        self._place.set_loop((0, frames))
        self._place.seek(0)

    def hear(self, key: str) -> None:
        """Hear one of them from now on."""
        if not isinstance(self._run, (Hearing, Matching, FaultHunt)):
            return
        self._heard = key
        self._place.hear({key})
        if not self._place.playing:
            self._place.play()
        self.hearing.show_heard(key)
        self.matching.show_heard(key)
        self.faults.show_heard(key)

    # --- answering ---

    def answer(self, choice: int) -> None:
        """One of three differs: this one."""
        run = self._run
        if not isinstance(run, Hearing) or run.done or self._answering:
            return
        self._answering = True

        def done(words: str) -> None:
            self._answering = False
            if self._run is not run:
                return
            self.told.setText(words)
            self.hearing.show_run(run)
            if run.done:
                self.end()
                return
            self._load_trial()
            self.hear(self._heard or "1")

        self._jobs.start(
            Job("Next trial", lambda _p, _c: run.answer(choice), done, self._failed,
                background=True)
        )  # fmt: skip

    def _turn(self, steps: int) -> None:
        run = self._run
        if isinstance(run, Matching):
            run.turn(steps)
            self._place.set_mix({"2": (run.gain_db, 0.0)})

    def _look(self, gain_db: float) -> None:
        run = self._run
        if isinstance(run, Gaining) and run.left > 0 and run.take_dbfs is None:
            run.set_gain(gain_db)
            run.look()
            self.gaining.show_run(run)

    def _take(self, gain_db: float) -> None:
        run = self._run
        if isinstance(run, Gaining) and run.take_dbfs is None:
            run.set_gain(gain_db)
            words = run.take()
            self.gaining.show_run(run)
            self.told.setText(words)
            off = run.off_db
            self._keep(f"{number(off or 0.0, sign=True)} dB re the target", off, "dB")

    def end(self) -> None:
        """The exercise is over: what came of it."""
        run = self._run
        self._place.pause()
        if isinstance(run, Hearing):
            words = run.result()
            self.told.setText(words)
            if run.stairs.trials:
                found = run.stairs.found
                self._keep(words, found.value, run.skill.unit or "of the difference")
        elif isinstance(run, Matching):
            words = run.result()
            self.told.setText(words)
            self._keep(f"{number(run.error_db, sign=True)} dB off", run.error_db, "dB")
        self._run = None
        self.hearing.show_over()
        self.matching.show_over()

    def _keep(self, words: str, figure: float | None, unit: str) -> None:
        self.finished_one.emit(
            Trained(at="", exercise=self.exercise, seed=self.seed.value(), figure=figure,
                    unit=unit, words=words)
        )  # fmt: skip
        self.seed.setValue(self.seed.value() + 1)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """1, 2, 3 hear; Enter says that the one that is heard differs; up and down match."""
        key = event.key()
        if isinstance(self._run, (Hearing, Matching, FaultHunt)):
            heard = {Qt.Key.Key_1: "1", Qt.Key.Key_2: "2", Qt.Key.Key_3: "3"}.get(Qt.Key(key))
            if heard is not None and int(heard) <= len(self._place.channels):
                self.hear(heard)
                return
        if isinstance(self._run, Hearing) and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.answer(int(self._heard or "1") - 1)
            return
        if isinstance(self._run, Matching) and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._turn(1 if key == Qt.Key.Key_Up else -1)
            return
        super().keyPressEvent(event)


def _darker(samples: Real, rate_hz: float) -> Real:
    """The other sound of a match: the same through another cabinet, as two tones differ."""
    from diaulos.work.training.hearing import skill_of

    return skill_of("cabinet").apply(samples, rate_hz, 0.4)


def _reader(samples: Real) -> Callable[[int, int], Real]:
    def read(first: int, count: int) -> Real:
        out = np.zeros(count)
        low, high = max(0, first), min(samples.size, first + count)
        if low < high:
            out[low - first : high - first] = samples[low:high]
        return out

    return read


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
        self.done.setEnabled(True)
        theme.dress(self)

    def show_heard(self, key: str) -> None:
        """Which one sounds."""
        for at, button in enumerate(self.sounds, start=1):
            button.setChecked(str(at) == key)

    def show_over(self) -> None:
        """Nothing to answer any more."""
        self.done.setEnabled(False)
        for box in self.choices.values():
            box.setEnabled(False)


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
