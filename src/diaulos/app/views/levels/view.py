"""The Levels view: the diagram large, the controls under it, the verdict at the right."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, QTimer

from diaulos.app.breathing import InTurn
from diaulos.app.jobs import Job
from diaulos.app.view import ViewContext
from diaulos.app.views.levels.painting import Laid
from diaulos.app.views.levels.setting import LevelsSetting
from diaulos.app.widgets.controls import choose
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.figures import number
from diaulos.rig.levels.spread import loud_moments_db
from diaulos.rig.levels.whatif import scenarios
from diaulos.rig.model import PortRef
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.levels import (
    CourseLevels,
    aim_of,
    jack_peak_dbu,
)
from diaulos.work.rigs.report import LevelsReport, look_at_levels
from diaulos.work.rigs.soundcheck import (
    SoundCheck,
)
from diaulos.work.rigs.stored import stored_of

REPORT_DELAY_MS = 20
LATE_MS = 150
"""After so long what is shown says that it is being worked out."""
OWN_TARGET = "own"


class LevelsView(LevelsSetting):
    """One view. It asks the document for edits and the jobs for work."""

    ident = "levels"
    draws_courses = True

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        self.report: LevelsReport | None = None
        self._track: PortRef | None = None
        self._question = ""
        self._laid: set[PortRef] = set()
        self._asked_for: tuple[object, ...] = ()
        self._check: SoundCheck | None = None
        self._build()
        self._wire()

    def begin(self) -> None:
        """Show the session for the first time."""
        self._on_changed(None, self._document.session)

    def _wire(self) -> None:
        self._rest = InTurn(self)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REPORT_DELAY_MS)
        self._timer.timeout.connect(self._ask_report)
        self._document.changed.connect(self._on_changed)
        self.rigs.asked.connect(lambda rig: self._document.apply(edits.choose_rig(rig)))
        self.course.activated.connect(lambda _i: self._on_course(self.course.currentData()))
        self.target.activated.connect(lambda _i: self._on_target())
        self.question.activated.connect(lambda _i: self.ask(self.question.currentData() or ""))
        self.loudest.valueChanged.connect(self._on_loudest)
        self.measured.clicked.connect(self._on_measured)
        self.every.toggled.connect(self._on_every)
        self.tone.toggled.connect(lambda _on: self._timer.start())
        self.boxes.toggled.connect(lambda _on: self._timer.start())
        self.loud.toggled.connect(self._on_loud)
        self._late = QTimer(self)
        self._late.setSingleShot(True)
        self._late.setInterval(LATE_MS)
        self._late.timeout.connect(self.verdict.show_working)
        self.distance_button.clicked.connect(self.toggle_distance)
        self.distance.left.connect(self.toggle_distance)
        self.distance.stepped.connect(self.next_course)
        self.calibrate_button.clicked.connect(self.ask_calibrate)
        self.solve_all.clicked.connect(self.set_all)
        self.lay_menu.aboutToShow.connect(self._fill_lay)
        self.controls.value_asked.connect(self._on_value)
        self.controls.lock_asked.connect(self._on_lock)
        self.diagram.chosen.connect(lambda _i: self._say_column())
        self.verdict.set_asked.connect(self.set_gains)
        self.verdict.second_asked.connect(self.set_second)
        self.check.bench_asked.connect(lambda surprise: self.sound_check(surprise=surprise))
        self.check.file_asked.connect(self.ask_check_file)
        self.check.cause_asked.connect(self._take_cause)
        self.check.input_asked.connect(self._take_input)
        self.check.level_asked.connect(self._take_level)

    @property
    def settled(self) -> bool:
        """Whether the figures are those of the session on screen."""
        return (
            not self._timer.isActive()
            and self._rest.done
            and (not self._document.session.rigs or self._asked_for == self._wanted())
        )

    def _wanted(self) -> tuple[object, ...]:
        session = self._document.session
        free = (self.tone.isChecked(), self.boxes.isChecked())
        return (id(session), self._track, self._question, *free)

    def take_focus(self) -> None:
        """Where the keyboard goes when the view is shown."""
        self.diagram.setFocus()
        self.said.emit(
            "Left and Right choose a station, Tab its controls, Up and Down turn them. "
            "G sets what the verdict says."
        )

    def close_down(self) -> None:
        """The session goes."""
        self._timer.stop()
        self._late.stop()
        self._rest.stop()

    def _on_changed(self, before: Session | None, after: Session) -> None:
        if not after.rigs:
            self.diagram.show_diagram(
                None, message="This session has no rig yet. Ctrl+2 makes one."
            )
            return
        self.rigs.show_rigs(after, after.rig().id, not self._document.read_only)
        if before is not None and after.rig() is not before.rig() and self._check is not None:
            # What was heard belongs to the rig as it was.
            if after.rig().id != before.rig().id:
                self._check = None
                self._show_check()
        self._show_target(after)
        self._timer.start()

    def _show_target(self, session: Session) -> None:
        self.loud.setChecked(session.loud_moments)
        aim = aim_of(session)
        wanted = (aim.statistic, aim.target_dbfs)
        at = next(
            (i for i in range(self.target.count()) if tuple(self.target.itemData(i)) == wanted), -1
        )
        own = self.target.findData(OWN_TARGET)
        if at < 0:
            word = "Peak" if aim.statistic == "peak" else "RMS"
            if own < 0:
                self.target.addItem("", OWN_TARGET)
                own = self.target.count() - 1
            self.target.setItemText(own, f"{word} {number(aim.target_dbfs)} dBFS")
            at = own
        self.target.setCurrentIndex(at)
        tip = self.target.itemData(at, Qt.ItemDataRole.ToolTipRole) or "Your own target."
        self.target.setToolTip(str(tip))

    def _ask_report(self) -> None:
        """Diagrams and settings are worked out beside the window."""
        session, wanted = self._document.session, self._wanted()
        track, question = self._track, self._question
        free, other_di = self.tone.isChecked(), self.boxes.isChecked()
        store = self._document.store

        def work(progress: Progress, cancel: CancelToken) -> LevelsReport:
            stored = stored_of(session, store)
            found = look_at_levels(
                session, track, question, stored, free_tone=free, other_di=other_di
            )
            if found.chosen is not None and found.chosen.diagram is not None:
                _ = found.chosen.diagram.playing  # found here, and kept: the window shows it
            return found

        def done(report: LevelsReport) -> None:
            if wanted == self._wanted():
                self._asked_for = wanted
                self._show_report(report)
            else:
                self._timer.start()

        self._late.start()
        self._jobs.start(Job("levels", work, done, self.problem.emit, background=True))

    def _ask_loud(self) -> None:
        """How loud other playing gets: several performances, played beside the window."""
        report, wanted = self.report, self._wanted()
        chosen = report.chosen if report is not None else None
        if chosen is None or chosen.diagram is None:
            return
        diagram = chosen.diagram

        def work(progress: Progress, cancel: CancelToken) -> float:
            return loud_moments_db(diagram.course)

        def done(spread_db: float) -> None:
            if wanted == self._wanted() and diagram.course.source is not None:
                self.verdict.show_loud(diagram.converter.peak, spread_db)

        def failed(error: Exception) -> None:
            self.verdict.show_loud(None, 0.0)  # no converter: the verdict says so

        self._jobs.start(Job("loud moments", work, done, failed, background=True))

    def _show_report(self, report: LevelsReport) -> None:
        """The diagram at once, what stands around it in turn: no step is felt."""
        self._late.stop()
        self.report = report
        self._show_courses(report)
        self._show_diagram(report)
        self._rest.begin(
            (
                partial(
                    self.controls.show_columns,
                    self.diagram.columns,
                    not self._document.read_only,
                ),
                partial(self._show_verdict, report),
                partial(self._show_others, report),
            )
        )

    def _show_verdict(self, report: LevelsReport) -> None:
        writable = not self._document.read_only
        aim = aim_of(self._document.session)
        word = "peak" if aim.statistic == "peak" else "RMS"
        self.verdict.show_report(
            report, f"target {word} {number(aim.target_dbfs, 0)} dBFS", aim, writable
        )
        self._show_loudest(report, writable)
        self._show_check()
        self.solve_all.setEnabled(writable)
        self.loud.setEnabled(writable)
        self.tone.setEnabled(writable)

    def _show_others(self, report: LevelsReport) -> None:
        self.noise.show_report(report)
        self.distance.show_report(report)
        self._tell_courses()
        self._ask_loud()

    def _show_courses(self, report: LevelsReport) -> None:
        entries = [(one.name, one.track) for one in report.courses]
        shown = [
            (self.course.itemText(i), self.course.itemData(i)) for i in range(self.course.count())
        ]
        if entries != shown:
            self.course.clear()
            for name, track in entries:
                self.course.addItem(name, track)
        chosen = report.chosen
        index = next((i for i, e in enumerate(entries) if chosen and e[1] == chosen.track), 0)
        self.course.setCurrentIndex(index)
        asked = [("As it is", "")]
        if chosen is not None and chosen.diagram is not None:
            asked += [(one.words, one.id) for one in scenarios(chosen.diagram.course)]
        there = [
            (self.question.itemText(i), self.question.itemData(i))
            for i in range(self.question.count())
        ]
        if asked != there:
            self.question.clear()
            for words, ident in asked:
                self.question.addItem(words, ident)
        choose(self.question, self._question)

    def _show_diagram(self, report: LevelsReport) -> None:
        chosen = report.chosen
        if chosen is None or chosen.diagram is None:
            message = "Nothing is recorded in this rig. Plan tracks in Rig (Ctrl+2)."
            if chosen is not None and chosen.problem is not None:
                message = str(chosen.problem)
            self.diagram.show_diagram(None, message=message)
            return
        laid = tuple(
            Laid(one.name, one.diagram)
            for one in report.courses
            if one.track in self._laid and one.diagram is not None and one.track != chosen.track
        )
        asked = report.asked if self._question else None
        aim = aim_of(self._document.session)
        self.diagram.show_diagram(
            asked or chosen.diagram,
            before=chosen.diagram if asked is not None else None,
            laid=laid,
            heard_dbfs=self._heard(chosen.track),
            target_dbfs=aim.target_dbfs,
            statistic=aim.statistic,
        )

    def _heard(self, track: PortRef) -> float | None:
        rows = self._check.differences if self._check is not None else ()
        return next((one.heard_dbfs for one in rows if one.track == track), None)

    def _show_loudest(self, report: LevelsReport, writable: bool) -> None:
        chosen = report.chosen
        course = chosen.diagram.course if chosen is not None and chosen.diagram else None
        level = jack_peak_dbu(course) if course is not None else None
        self.loudest.setEnabled(writable and level is not None)
        self.loudest.blockSignals(True)
        if level is not None:
            self.loudest.setValue(level)
        self.loudest.blockSignals(False)
        typed = None
        if course is not None:
            start = course.start.device.id
            typed = next((one for one in report.rig.played if one.device == start), None)
        self.measured.setEnabled(writable and typed is not None)
        source = course.source if course is not None else None
        origin = "representative"
        if typed is not None:
            origin = typed.origin
        elif source is not None and source.known:
            origin = "measured in Instruments"
        self.loudest.setToolTip(
            f"Loudest peak at the jack into 1 MΩ, in dBu of a sine: {origin}. Type another one, or "
            "take it over from a sound check."
        )

    def _tell_courses(self) -> None:
        """The rig's courses for the strip: tap, name, planned peak, what clips first."""
        report = self.report
        if report is None:
            return
        rows = [self._row(one) for one in report.courses]
        self._tell_strip(tuple(rows), report.chosen.name if report.chosen else "")

    def _row(self, one: CourseLevels) -> CourseRow:
        if one.diagram is None:
            return CourseRow(one.name, "", one.name, "no course", str(one.problem), True)
        diagram = one.diagram
        first = diagram.first_clip
        room = first.headroom_db if first is not None else None
        words = "nothing clips"
        if first is not None and room is not None:
            state = f"clips by {number(-room)} dB" if room < 0.0 else f"{number(room)} dB left"
            words = f"{first.place.name}: {state}"
        peak = diagram.track.peak
        serious = room is not None and room < 0.0
        level = f"planned peak {number(peak)} dBFS"
        return CourseRow(one.name, diagram.course.tap, one.name, level, words, serious)

    def _say_column(self) -> None:
        if self.diagram.columns:
            self.said.emit(self.diagram.tip(self.diagram.index).replace("\n", "; "))

    # --- choosing ---

    def _on_course(self, track: PortRef | None) -> None:
        self._track = track
        self._question = ""
        self._timer.start()

    def choose_course(self, name: str) -> None:
        """The course of this name."""
        for one in self.report.courses if self.report is not None else ():
            if one.name == name:
                self._on_course(one.track)

    def next_course(self, step: int) -> None:
        """The course below or above."""
        courses = self.report.courses if self.report is not None else ()
        chosen = self.report.chosen if self.report is not None else None
        tracks = [one.track for one in courses]
        if chosen is not None and chosen.track in tracks:
            index = (tracks.index(chosen.track) + step) % len(tracks)
            self._on_course(tracks[index])

    def ask(self, question: str) -> None:
        """A what-if question by its id, "" for none."""
        self._question = question
        self._timer.start()

    def _fill_lay(self) -> None:
        self.lay_menu.clear()
        for one in self.report.courses if self.report is not None else ():
            action = self.lay_menu.addAction(one.name)
            action.setCheckable(True)
            action.setChecked(one.track in self._laid)
            action.toggled.connect(partial(self.lay_over, one.track))

    def lay_over(self, track: PortRef, on: bool) -> None:
        """Another course over this one, or no longer."""
        if on:
            self._laid.add(track)
        else:
            self._laid.discard(track)
        if self.report is not None:
            self._show_diagram(self.report)

    def _on_every(self, on: bool) -> None:
        self.diagram.everything = on
        if self.report is not None:
            self._show_report(self.report)

    def show_verdict_page(self) -> None:
        self.pages.setCurrentIndex(0)

    def show_noise_page(self) -> None:
        self.pages.setCurrentIndex(1)

    def toggle_distance(self) -> None:
        """Readable at two metres, or near again."""
        far = self._stack.currentIndex() == 0
        self._stack.setCurrentIndex(1 if far else 0)
        if far:
            self.distance.setFocus()
        else:
            self.diagram.setFocus()
