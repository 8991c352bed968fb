"""The trainer: hear a difference, match a loudness, set a gain; the figures come afterwards."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent, QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QListWidget,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.dialogs.trainer_pages import (
    AfterRow,
    FaultPage,
    GainingPage,
    HearingPage,
    MatchingPage,
)
from diaulos.app.jobs import Job, Jobs
from diaulos.app.widgets.holders import Split
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import WholeField
from diaulos.app.widgets.wrapping import scrolled
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.session.model import Session
from diaulos.wiring import Trained
from diaulos.work.listening.player import Channel
from diaulos.work.listening.sound import Place
from diaulos.work.rigs.audio import RigAudio
from diaulos.work.training.faults import FaultHunt
from diaulos.work.training.hearing import SKILLS, Hearing, Skill, material
from diaulos.work.training.setting import Gaining, Matching

Real = NDArray[np.float64]
MOST_S = 5.0
MATCH, GAIN, FAULT = "match", "gain", "fault"
TURN_MS = 1_600
"""Each of a pair is heard so long before the other."""


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
        narrow = QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon
        self.material.setSizeAdjustPolicy(narrow)
        self.material.setMinimumContentsLength(14)
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
        self.after = AfterRow()
        self.at_once = QCheckBox("&Go on at once after an answer")
        self.at_once.setToolTip("Off: what was answered is heard again, one beside the other")
        self.close_ = QPushButton("Close")
        self.close_.clicked.connect(self.reject)
        self._lay()
        self._wire()
        self._run: Hearing | Matching | Gaining | FaultHunt | None = None
        self._heard = ""
        self._turns = QTimer(self)
        self._turns.setInterval(TURN_MS)
        self._turns.timeout.connect(self._take_turns)
        self._pair: tuple[str, str] = ("", "")
        self._closed = False
        """What a job still brings is not played then."""
        self._answering = False
        """A trial is being made: an answer to it would be one to the trial before."""
        self.resize(980, 640)
        theme.dress(self)
        self.exercises.setCurrentRow(0)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        # Now it knows the size of its text.
        names = self.exercises
        names.setMinimumWidth(names.sizeHintForColumn(0) + 2 * names.frameWidth() + 4)

    def _lay(self) -> None:
        side = QWidget()
        left = QVBoxLayout(side)
        left.setContentsMargins(0, 0, 8, 0)
        left.addWidget(self.exercises, 1)
        form = QFormLayout()
        form.addRow("Played", self.material)
        form.addRow("Number", self.seed)
        left.addLayout(form)
        left.addWidget(self.at_once)
        left.addWidget(self.begin)
        middle = QWidget()
        right = QVBoxLayout(middle)
        right.setContentsMargins(8, 0, 0, 0)
        right.addWidget(self.before)
        right.addWidget(self.pages, 1)
        right.addWidget(self.told)
        right.addWidget(self.after)
        area = scrolled(middle, "The exercise")
        split = Split(Qt.Orientation.Horizontal)
        split.addWidget(side)
        split.addWidget(area)
        split.setStretchFactor(1, 1)
        split.setSizes([300, 620])
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
        self.after.hear.connect(self.hear)
        self.after.on.connect(self.go_on)
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
        self.finished.connect(lambda _code: self._on_closed())

    # --- choosing ---

    @property
    def exercise(self) -> str:
        """Id of the chosen one."""
        row = self.exercises.currentRow()
        return SKILLS[row].id if 0 <= row < len(SKILLS) else (MATCH, GAIN, FAULT)[row - len(SKILLS)]

    def _skill(self) -> Skill | None:
        row = self.exercises.currentRow()
        return SKILLS[row] if 0 <= row < len(SKILLS) else None

    def _on_closed(self) -> None:
        self._closed = True
        self._quiet()

    def _quiet(self) -> None:
        self._turns.stop()
        self._place.pause()
        self.after.show_sounds(())

    def _chosen(self) -> None:
        self._quiet()
        self._run = None
        self.pages.setCurrentWidget(self.idle)
        self.told.setText("")
        done = [one for one in self.history if one.exercise == self.exercise]
        words = [f"{one.at[:10]}: {one.words}" for one in done[-3:]]
        self.before.setText("\n".join(words))

    def start(self) -> None:
        """Begin the chosen exercise."""
        self._quiet()
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
        self._quiet()
        self.told.setText(run.answer(chosen))
        part = run.right(chosen)
        words = f"{len(chosen & set(run.ids))} of {len(run.ids)} found"
        self._keep(words, part, "of the faults")
        self._run = None
        self.faults.show_over()
        audio = self._audio

        def play(_progress: object, _cancel: object) -> tuple[dict[str, Real], dict[str, Real]]:
            return run.sounds(audio), run.sounds(audio, mended=True)

        def done(both: tuple[dict[str, Real], dict[str, Real]]) -> None:
            if self._run is None and self.pages.currentWidget() is self.faults:
                self._look_back_at_faults(*both)

        self._jobs.start(
            Job("Playing it as it should be", play, done, self._failed, background=True)
        )

    def _look_back_at_faults(self, was: dict[str, Real], mended: dict[str, Real]) -> None:
        """Every track as it was recorded, and as the rig should have recorded it."""
        named = [(f"{name} as it was", one) for name, one in was.items()]
        named += [(f"{name} as it should be", one) for name, one in mended.items()]
        if named:
            self._set_channels(tuple(one for _, one in named))
            self.after.show_sounds([name for name, _ in named])

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
        if not self._sounds_there:
            return
        self._turns.stop()
        self._sound(key)

    @property
    def _sounds_there(self) -> bool:
        return self.after.there or isinstance(self._run, (Hearing, Matching, FaultHunt))

    def _take_turns(self) -> None:
        one, other = self._pair
        self._sound(other if self._heard == one else one)

    def _play_both(self, one: str, other: str) -> None:
        """One after the other, until somebody asks for either or goes on."""
        self._pair = (one, other)
        self._place.seek(0)
        self._sound(one)
        if not self._closed:
            self._turns.start()

    def _sound(self, key: str) -> None:
        if self._closed:
            return
        self._heard = key
        self._place.hear({key})
        if not self._place.playing:
            self._place.play()
        self.hearing.show_heard(key)
        self.matching.show_heard(key)
        self.faults.show_heard(key)
        self.after.show_heard(key)

    # --- answering ---

    def answer(self, choice: int) -> None:
        """One of three differs: this one."""
        run = self._run
        if not isinstance(run, Hearing) or run.done or self._answering or self.after.there:
            return
        self._answering = True
        at_once = self.at_once.isChecked()

        def done(words: str) -> None:
            self._answering = False
            if self._run is not run:
                return
            self.told.setText(words)
            self.hearing.show_run(run)
            if at_once:
                self.go_on()
            else:
                self._look_back(run)

        self._jobs.start(
            Job("Next trial", lambda _p, _c: run.answer(choice), done, self._failed,
                background=True)
        )  # fmt: skip

    def _look_back(self, run: Hearing) -> None:
        """The trial that was answered, with what each of its sounds was, one beside the other."""
        was = run.last
        if was is None:
            return
        self.hearing.show_answered()
        self._set_channels(was.sounds)
        count = len(was.sounds)
        self.after.show_sounds([run.called(at) for at in range(count)], "&Next (Enter)")
        self._play_both(str((was.odd + 1) % count + 1), str(was.odd + 1))

    def go_on(self) -> None:
        """The next trial; the end where that was the last."""
        run = self._run
        self._quiet()
        if not isinstance(run, Hearing):
            return
        self.hearing.show_run(run)
        if run.done:
            self.end()
            return
        self._load_trial()
        self.hear("1")
        self.hearing.setFocus()

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
            self._look_back_at_gain(run)

    def _look_back_at_gain(self, run: Gaining) -> None:
        """The take as it was recorded, and with the gain that would have been right."""
        chosen = self._materials[max(0, self.material.currentIndex())]
        rate = self._rate_hz

        def work(_progress: object, _cancel: object) -> tuple[Real, Real]:
            return run.sounds(material(chosen.make()[: round(MOST_S * rate)]))

        def done(both: tuple[Real, Real]) -> None:
            if self._run is not run:
                return
            self._set_channels(both)
            best = number(run.best_db or 0.0, 0)
            self.after.show_sounds([f"The take, {number(run.gain_db, 0)} dB", f"With {best} dB"])
            self._play_both("1", "2")

        self._jobs.start(Job("Playing the take", work, done, self._failed, background=True))

    def end(self) -> None:
        """The exercise is over: what came of it."""
        run = self._run
        self._quiet()
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
            self._place.set_mix({"2": (run.equal_db, 0.0)})
            self.after.show_sounds(["A", "B, as loud as A"])
            self._play_both("1", "2")
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
        """The digits hear; Enter says that the one that is heard differs, and goes on after that;
        up and down match."""
        key = event.key()
        if self._sounds_there and Qt.Key.Key_1 <= key <= Qt.Key.Key_9:
            heard = int(key) - int(Qt.Key.Key_0)
            if heard <= len(self._place.channels):
                self.hear(str(heard))
                return
        if self.after.going_on and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.go_on()
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
