"""At the right and below: the verdict, the noise budget, the sound check."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal, SignalInstance
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.level_window import LevelWindow
from diaulos.app.widgets.marks import TAP_TOKENS
from diaulos.app.widgets.tables import Cell, Table
from diaulos.figures import LevelFigures, number, typeset
from diaulos.rig.levels.causes import (
    OTHER_NOTES_DB,
    OTHER_NOTES_DRIVEN_DB,
    Cause,
    Difference,
)
from diaulos.rig.levels.solve import Aim
from diaulos.rig.model import PortRef
from diaulos.work.rigs.levels import target_band
from diaulos.work.rigs.report import LevelsReport
from diaulos.work.rigs.soundcheck import SoundCheck


def _wrapped(role: str = "") -> QLabel:
    label = TextLabel()
    label.setWordWrap(True)
    label.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
    label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
    label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    label.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    if role:
        label.setProperty("role", role)
    return label


class VerdictPanel(QWidget):
    """A course in three lines, and what can be done about it."""

    set_asked = Signal()
    second_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.figure = TextLabel()
        self.figure.setProperty("role", "headline")
        self.figure.setAccessibleName("Peak at the converter")
        self.target = TextLabel()
        self.target.setProperty("role", "muted")
        self.loud = TextLabel()
        self.loud.setProperty("role", "muted")
        self.loud.setAccessibleName("Loud moments")
        self.loud.setWordWrap(True)
        self.room = QCheckBox("Leave room")
        self.room.setAccessibleName("Leave room for loud moments")
        self.room.setToolTip(
            "The target is then for the loudest of several performances of the same strength, not "
            "for the planned one"
        )
        self.asked = _wrapped("notice")
        self.asked.setAccessibleName("What if")
        self.asked.hide()
        self.window_ = LevelWindow()
        self.window_.setAccessibleName("Level of the track")
        self.played = _wrapped("muted")
        self.played.setAccessibleName("What the levels are planned by")
        self.clips, self.noise, self.change = _wrapped(), _wrapped(), _wrapped()
        self.second = _wrapped("muted")
        self.set_button = QPushButton("Apply (G)")
        self.set_button.setProperty("main", "true")
        self.set_button.clicked.connect(self.set_asked)
        self.second.setToolTip(
            "The best setting that differs in more than one step of one control: its loudest peak "
            "at the converter, and its noise beside that of the best"
        )
        self.target.setToolTip(
            "The ceiling for the loudest planned peak at the converter, or the aim for its RMS"
        )
        self.second_button = QPushButton("Second best")
        self.second_button.clicked.connect(self.second_asked)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 4, 0)
        column.setSpacing(3)
        head = QHBoxLayout()
        head.addWidget(self.figure)
        head.addStretch(1)
        head.addWidget(self.target)
        column.addLayout(head)
        column.addWidget(self.window_)
        column.addWidget(self.played)
        moments = QHBoxLayout()
        moments.addWidget(self.loud, 1)
        moments.addWidget(self.room)
        column.addLayout(moments)
        column.addWidget(self.asked)
        for title, label in (
            ("Clips first", self.clips), ("Noise set by", self.noise),
            ("Change to make", self.change),
        ):  # fmt: skip
            name = TextLabel(title)
            name.setProperty("role", "title")
            label.setAccessibleName(title)
            label.setToolTip(VERDICT_TIPS[title])
            column.addWidget(name)
            column.addWidget(label)
        buttons = QHBoxLayout()
        buttons.addWidget(self.set_button)
        buttons.addWidget(self.second_button)
        buttons.addStretch(1)
        column.addLayout(buttons)
        column.addWidget(self.second)
        column.addStretch(1)

    def show_report(self, report: LevelsReport, target: str, aim: Aim, writable: bool) -> None:
        """The chosen course."""
        said, chosen, solved = report.verdict, report.chosen, report.solved
        solution = solved.solution if solved is not None else None
        self.target.setText(target)
        self.show_loud(None, 0.0)
        if said is None or chosen is None or chosen.diagram is None:
            self.figure.setText("\N{EN DASH}")
            self.window_.set_figures(None)
            self.played.setText("")
            problem = typeset(str(chosen.problem)) if chosen and chosen.problem else ""
            for label in (self.clips, self.noise):
                label.setText("\N{EN DASH}")
            self.change.setText(problem)
            self.second.setText("")
            self.set_button.setEnabled(False)
            self.second_button.setEnabled(False)
            return
        self._show_asked(report)
        self.played.setText(f"Played: {chosen.diagram.playing}.")
        track = chosen.diagram.track
        self.figure.setText(said.figure)
        self.figure.setToolTip(
            f"Loudest peak at the converter, played: {chosen.diagram.playing}. "
            "Level at its input − what reaches 0 dBFS"
        )
        self.window_.set_figures(
            LevelFigures("dBFS", track.noise, 0.0, track.peak, track.typical, target_band(aim)),
            TAP_TOKENS.get(chosen.diagram.course.tap, "ink"),
        )
        self.clips.setText(typeset(said.clips_first))
        self.noise.setText(typeset(said.noise_set_by))
        self.change.setText(typeset(said.change))
        swapped = solved is not None and solved.swapped is not None
        changes = swapped or bool(solution is not None and solution.changes)
        self.set_button.setEnabled(writable and changes)
        second = solution.second if solution is not None else None
        self.second_button.setEnabled(writable and second is not None and not swapped)
        self.second.setText("")
        if solution is not None and second is not None:
            other = [
                f"{one.setting.name} {one.value_words(second.values[one.ref])}"
                for one in solution.settings
                if one.ref in second.values
                and second.values[one.ref] != solution.best.values[one.ref]
            ]
            self.second.setText(
                typeset(
                    f"Second best: {', '.join(other)}; peak {second.peak_dbfs:.1f} dBFS, noise "
                    f"{number(second.noise_db - solution.best.noise_db, sign=True)} dB."
                )
            )
        frees = [one.words for one in solved.freeings] if solved is not None else []
        if len(frees) > 1:
            self.second.setText(f"{self.second.text()} Or: {typeset(' '.join(frees[1:3]))}".strip())

    def show_working(self) -> None:
        """What is shown is older than the controls: it is being worked out."""
        self.target.setText("being worked out…")

    def show_loud(self, peak_dbfs: float | None, spread_db: float) -> None:
        """How loud other playing of the same strength gets; nothing while nobody knows."""
        if peak_dbfs is None:
            self.loud.setText("")
            return
        top = number(peak_dbfs + spread_db)
        self.loud.setText(f"Loud moments to {top} dBFS")
        self.loud.setToolTip(
            "The loudest of seven performances of the same strength, other chords and other "
            f"moments: {number(spread_db)} dB above the planned one"
        )

    def _show_asked(self, report: LevelsReport) -> None:
        """What a question would change, before and after."""
        asked = report.asked
        before = report.chosen.diagram if report.chosen is not None else None
        self.asked.setVisible(asked is not None)
        if asked is None or before is None:
            return
        text = f"What if: peak {number(before.track.peak)} → {number(asked.track.peak)} dBFS"
        first = asked.first_clip
        if first is not None and first.headroom_db is not None:
            room = first.headroom_db
            state = f"clips by {number(-room)} dB" if room < 0.0 else f"{number(room)} dB left"
            text += f"; clips first: {first.place.name}, {state}"
        noise = asked.snr_db - before.snr_db
        self.asked.setText(f"{text}; signal to noise {number(noise, sign=True)} dB.")


VERDICT_TIPS = {
    "Clips first": "Headroom = ceiling of the station \N{MINUS SIGN} loudest planned peak there; "
    "the station with the least of it clips first",
    "Noise set by": "The loudest source of noise at the converter, re the loudest planned peak",
    "Change to make": "Every setting is planned through the course. Best: headroom at every "
    "station, then nearest below the target, then least noise, then fewest changes",
}


class NoisePage(QWidget):
    """Every source of noise in the track, the loudest first, and what a gain change buys."""

    def __init__(self) -> None:
        super().__init__()
        self.table = Table("Noise budget", ("Noise of", "dBFS", "dBFS A"), 0, {1: 62, 2: 62})
        self.total = _wrapped()
        self.total.setToolTip(
            "Signal to noise = loudest planned peak \N{MINUS SIGN} power sum of every source in "
            "the table, at the converter"
        )
        self.worth = _wrapped("muted")
        self.worth.setToolTip(
            "The course planned again with the higher gain: noise \N{MINUS SIGN} signal then, less "
            "noise \N{MINUS SIGN} signal now"
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.total)
        column.addWidget(self.table, 1)
        column.addWidget(self.worth)

    def show_report(self, report: LevelsReport) -> None:
        """The chosen course."""
        diagram = report.chosen.diagram if report.chosen is not None else None
        if diagram is None:
            self.table.show_rows([])
            self.total.setText("")
            self.worth.setText("")
            return
        self.total.setText(
            f"Signal to noise {number(diagram.snr_db)} dB, A-weighted "
            f"{number(diagram.snr_a_db)} dB (20 Hz to 20 kHz, 27 °C)"
        )
        self.table.show_rows(
            [
                (
                    f"{index} {share.words}",
                    (
                        Cell(share.words, f"{share.words}: {NOISE_TIPS.get(share.kind, '')}"),
                        Cell(number(share.dbfs), sort=share.dbfs, figure=True, bold=index == 0),
                        Cell(number(share.dbfs_a), sort=share.dbfs_a, figure=True),
                    ),
                )
                for index, share in enumerate(diagram.budget)
            ]
        )
        words = [
            f"{one.setting.setting.name} {number(one.more_db, 0, sign=True)} dB: noise re the "
            f"signal {number(-one.bought_db, 1, sign=True)} dB"
            for one in report.worth
        ]
        self.worth.setText("A gain change buys: " + "; ".join(words) + "." if words else "")


NOISE_TIPS = {
    "thermal": "sqrt(4 k T R B) of the resistance that the input looks into, at 27 °C",
    "voltage": "Published EIN at 150 Ω less the 150 Ω's own thermal noise",
    "current": "Current noise × impedance that is plugged in",
    "converter": "The converter's own floor",
    "output": "Noise of an output stage, no gain ahead of it moves it",
    "source": "Electronics of the instrument",
    "amp": "Input noise of the amplifier × its gain at rest",
    "hum": "Mains hum, planned at 50 Hz",
    "bus": "Tones of a computer's bus, over a USB ground",
    "dither": "3/12 LSB² re a full-scale sine",
}


class CheckPage(QWidget):
    """A sound check beside the plan, what it says, and what to take over."""

    bench_asked = Signal(bool)
    file_asked = Signal()
    cause_asked = Signal(object)
    input_asked = Signal(object)
    level_asked = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.check: SoundCheck | None = None
        self.bench = QPushButton("On the bench (B)")
        self.surprise = QPushButton("With a hidden change")
        self.surprise.setToolTip("The bench turns one control without saying which")
        self.file = QPushButton("From a file…")
        self.bench.clicked.connect(lambda: self.bench_asked.emit(False))
        self.surprise.clicked.connect(lambda: self.bench_asked.emit(True))
        self.file.clicked.connect(self.file_asked)
        self.table = Table(
            "Sound check", ("Course", "Planned", "Heard", "Difference"), 0, {1: 64, 2: 58, 3: 76}
        )
        self.words = _wrapped()
        self.words.setAccessibleName("Likely cause")
        self.words.setToolTip(
            "Difference = heard \N{MINUS SIGN} planned peak of each course; the cause is the one "
            "control that would bring the plan to what was heard"
        )
        self.take_cause = QPushButton("Put the control there")
        self.take_input = QPushButton("Take as calibration")
        self.take_level = QPushButton("Take as loudest playing")
        self.take_cause.clicked.connect(self._on_cause)
        self.take_input.clicked.connect(lambda: self._emit(self.input_asked))
        self.take_level.clicked.connect(lambda: self._emit(self.level_asked))
        top = QHBoxLayout()
        for button in (self.bench, self.surprise):
            top.addWidget(button)
        foot = QVBoxLayout()
        foot.setSpacing(4)
        for button in (self.take_cause, self.take_input, self.take_level):
            foot.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.addLayout(top)
        column.addWidget(self.file)
        column.addWidget(self.table, 1)
        column.addWidget(self.words)
        column.addLayout(foot)
        self.show_check(None, {}, False)

    def show_who(self, *, real: bool) -> None:
        """Who plays: the bench, or somebody at a real device."""
        self.bench.setText("Play ten seconds (B)" if real else "On the bench (B)")
        self.surprise.setVisible(not real)

    def show_check(
        self, check: SoundCheck | None, names: dict[PortRef, str], writable: bool
    ) -> None:
        """What was heard."""
        self.check, self._names = check, names
        rows = check.differences if check is not None else ()
        self.table.show_rows(
            [
                (
                    str(one.track),
                    (
                        Cell(names.get(one.track, str(one.track))),
                        Cell(number(one.planned_dbfs), figure=True, sort=one.planned_dbfs),
                        Cell(number(one.heard_dbfs), figure=True, sort=one.heard_dbfs),
                        Cell(
                            number(one.db, sign=True),
                            figure=True,
                            sort=one.db,
                            bold=not one.agrees,
                            token="" if one.agrees else "danger",
                        ),
                    ),
                )
                for one in rows
            ]
        )
        self.words.setText(self._said(check))
        cause = self._cause()
        self.take_cause.setEnabled(writable and cause is not None and cause.ref is not None)
        differs = check is not None and any(abs(one.db) >= 0.1 for one in check.differences)
        self.take_input.setEnabled(writable and check is not None)
        self.take_level.setEnabled(writable and differs)

    def _said(self, check: SoundCheck | None) -> str:
        if check is None:
            return (
                "Ten seconds of the loudest playing, laid over the plan. Where they differ by more "
                "than 1 dB the likely cause is named."
            )
        if check.agrees:
            text = "Plan and sound check agree" + (" within 1 dB." if check.exact else ".")
        else:
            text = "Likely cause: " + " Or: ".join(typeset(c.words) for c in check.causes)
            if not any(cause.explains for cause in check.causes):
                text = "No single control explains it. Nearest: " + typeset(check.causes[0].words)
        if check.turned:
            text += f" (The bench had turned: {typeset(check.turned)}.)"
        if not check.exact:
            text += (
                f" In a file somebody else plays: {OTHER_NOTES_DB:g} dB, behind an amplifier or "
                f"cabinet {OTHER_NOTES_DRIVEN_DB:g} dB, are the playing's own."
            )
        return text

    def _cause(self) -> Cause | None:
        causes = self.check.causes if self.check is not None else ()
        return next((one for one in causes if one.explains), None)

    def _on_cause(self) -> None:
        cause = self._cause()
        if cause is not None:
            self.cause_asked.emit(cause)

    def chosen(self) -> Difference | None:
        """The course whose row is chosen, or the one furthest off."""
        if self.check is None or not self.check.differences:
            return None
        rows = self.check.differences
        key = self.table.chosen()
        found = next((one for one in rows if str(one.track) == key), None)
        return found or max(rows, key=lambda one: abs(one.db))

    def _emit(self, signal: SignalInstance) -> None:
        difference = self.chosen()
        if difference is not None:
            signal.emit(difference)


class DistancePage(QWidget):
    """For two metres: one course, one figure, one instruction."""

    left = Signal()
    stepped = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("One course at a distance")
        self.name = TextLabel()
        self.figure = TextLabel()
        self.instruction = TextLabel()
        self.clips = TextLabel("CLIPS")
        self.clips.setProperty("role", "clips")
        self.clips.setAccessibleName("This course clips")
        for label, role, name in (
            (self.name, "far", "Course"), (self.figure, "farther", "Peak at the converter"),
            (self.instruction, "farthest", "What to do"),
        ):  # fmt: skip
            label.setProperty("role", role)
            label.setAccessibleName(name)
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            label.setWordWrap(True)
        self.back = QPushButton("Back (V)")
        self.back.clicked.connect(self.left)
        column = QVBoxLayout(self)
        column.addStretch(1)
        column.addWidget(self.name)
        column.addWidget(self.figure)
        column.addWidget(self.clips, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addWidget(self.instruction)
        column.addStretch(1)
        row = QHBoxLayout()
        self.hint = TextLabel("G sets it. Up and Down choose the course.")
        self.hint.setProperty("role", "muted")
        row.addWidget(self.hint)
        row.addStretch(1)
        row.addWidget(self.back)
        column.addLayout(row)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()), 0)
        if step:
            self.stepped.emit(step)
        else:
            super().keyPressEvent(event)

    def show_report(self, report: LevelsReport) -> None:
        """The chosen course."""
        said, chosen = report.verdict, report.chosen
        self.name.setText(chosen.name if chosen is not None else "")
        self.figure.setText(said.figure if said is not None else "no course")
        first = chosen.diagram.first_clip if chosen is not None and chosen.diagram else None
        room = first.headroom_db if first is not None else None
        self.clips.setVisible(room is not None and room < 0.0)
        self.instruction.setText(typeset(said.instruction) if said is not None else "see the rig")
