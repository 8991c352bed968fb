"""The Levels view: the diagram large, the controls under it, the verdict at the right."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QDoubleSpinBox,
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSplitter,
    QStackedLayout,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.dialogs.calibrate import CalibrateDialog
from diaulos.app.jobs import Job
from diaulos.app.view import View, ViewContext
from diaulos.app.views.levels.controls import ControlsRow
from diaulos.app.views.levels.diagram import Laid, LevelDiagramWidget
from diaulos.app.views.levels.pages import CheckPage, DistancePage, NoisePage, VerdictPanel
from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.working import Working
from diaulos.errors import DiaulosError, EditError
from diaulos.figures import number
from diaulos.rig.levels.causes import Cause, Difference
from diaulos.rig.levels.whatif import scenarios
from diaulos.rig.model import PortRef, Rig, SettingRef
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.levels import (
    TARGET_CHOICES,
    CourseLevels,
    aim_of,
    forget_played_edit,
    jack_peak_dbu,
    lock_edit,
    set_played_edit,
    traced_courses,
    typed_played,
)
from diaulos.work.rigs.report import LevelsReport, look_at_levels
from diaulos.work.rigs.solving import second_edit, solve_edit, solve_rig
from diaulos.work.rigs.soundcheck import (
    SoundCheck,
    bench_check,
    file_check,
    take_calibration_edit,
    take_cause_edit,
    take_level_edit,
)

REPORT_DELAY_MS = 20
OWN_TARGET = "own"


class LevelsView(View):
    """One view. It asks the document for edits and the jobs for work."""

    ident = "levels"

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        document = context.document
        self.report: LevelsReport | None = None
        self._track: PortRef | None = None
        self._question = ""
        self._laid: set[PortRef] = set()
        self._asked_for: tuple[object, ...] = ()
        self._check: SoundCheck | None = None
        self._build()
        self._wire()
        self._on_changed(None, document.session)

    # --- building ---

    def _build(self) -> None:
        self.course = combo("Course to show", least=14)
        self.target = combo("Target", least=13)
        for one in TARGET_CHOICES:
            self.target.addItem(one.words, (one.statistic, one.value))
            self.target.setItemData(
                self.target.count() - 1, one.reason, Qt.ItemDataRole.ToolTipRole
            )
        self.question = combo("What if", least=17)
        self.loudest = QDoubleSpinBox()
        self.loudest.setRange(-60.0, 30.0)
        self.loudest.setDecimals(1)
        self.loudest.setSingleStep(0.5)
        self.loudest.setSuffix(" dBu")
        self.loudest.setKeyboardTracking(False)
        self.loudest.setAccessibleName("Loudest peak at the jack")
        self.measured = QPushButton("Measured")
        self.measured.setToolTip("Use the strength that was measured in Instruments again")
        self.lay = QPushButton("Lay over")
        self.lay.setToolTip("Other courses over this one")
        self.lay_menu = QMenu(self.lay)
        self.lay.setMenu(self.lay_menu)
        self.every = QCheckBox("All stations")
        self.tone = QCheckBox("Free the tone")
        self.tone.setToolTip(
            "The solver may also turn what stands ahead of an amplifier: there a pad or a trim is "
            "not volume but drive"
        )
        self.boxes = QCheckBox("Other DI boxes")
        self.boxes.setToolTip("A DI box of another kind is at hand: the solver may ask for it")
        self.distance_button = QPushButton("Distance (V)")
        self.distance_button.setToolTip("Readable at two metres: one figure, one instruction")
        self.diagram = LevelDiagramWidget()
        self.plot = self.diagram
        self.controls = ControlsRow()
        self.board = QWidget()
        inside = QVBoxLayout(self.board)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(0)
        inside.addWidget(self.diagram, 1)
        inside.addWidget(self.controls)
        self.area = QScrollArea()
        self.area.setWidget(self.board)
        self.area.setWidgetResizable(True)
        self.area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.verdict = VerdictPanel()
        self.verdict_area = QScrollArea()
        self.verdict_area.setWidget(self.verdict)
        self.verdict_area.setWidgetResizable(True)
        self.verdict_area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.verdict_area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.verdict_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.noise = NoisePage()
        self.check = CheckPage()
        self.pages = QTabWidget()
        self.pages.setAccessibleName("Pages")
        self.pages.tabBar().setAccessibleName("Pages")
        for page, name in (
            (self.verdict_area, "Verdict (1)"), (self.noise, "Noise (2)"),
            (self.check, "Sound check (3)"),
        ):  # fmt: skip
            self.pages.addTab(page, name)
        self.calibrate_button = QPushButton("Calibrate (C)")
        self.calibrate_button.setToolTip(
            "What reaches 0 dBFS at an input, an output or a box: measured, dated, reused"
        )
        self.solve_all = QPushButton("Set all courses (Shift+G)")
        self.distance = DistancePage()
        self._working = Working(self._jobs)
        self._place()

    def _place(self) -> None:
        top = QHBoxLayout()
        top.setSpacing(6)
        for words, widget in (
            ("Course", self.course), ("Loudest", self.loudest), ("", self.measured),
            ("Target", self.target), ("What if", self.question), ("", self.lay),
        ):  # fmt: skip
            if words:
                label = TextLabel(words)
                label.setProperty("role", "muted")
                top.addWidget(label)
            top.addWidget(widget)
        top.addStretch(1)
        top.addWidget(self.distance_button)
        foot = QHBoxLayout()
        foot.addWidget(self.every)
        foot.addWidget(self.tone)
        foot.addWidget(self.boxes)
        hint = TextLabel("L locks a control.")
        hint.setProperty("role", "muted")
        foot.addSpacing(8)
        foot.addWidget(hint)
        foot.addStretch(1)
        foot.addWidget(self.calibrate_button)
        foot.addWidget(self.solve_all)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(self.area, 1)
        column.addLayout(foot)
        self.pages.setMinimumWidth(300)
        self.pages.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.setChildrenCollapsible(False)
        split.addWidget(left)
        split.addWidget(self.pages)
        split.setStretchFactor(0, 1)
        split.setSizes([866, 314])
        near = QWidget()
        whole = QVBoxLayout(near)
        whole.setContentsMargins(8, 6, 8, 4)
        whole.setSpacing(4)
        whole.addLayout(top)
        whole.addWidget(split, 1)
        whole.addWidget(self._working)
        self._stack = QStackedLayout(self)
        self._stack.addWidget(near)
        self._stack.addWidget(self.distance)

    def _wire(self) -> None:
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REPORT_DELAY_MS)
        self._timer.timeout.connect(self._ask_report)
        self._document.changed.connect(self._on_changed)
        self.course.activated.connect(lambda _i: self._on_course(self.course.currentData()))
        self.target.activated.connect(lambda _i: self._on_target())
        self.question.activated.connect(lambda _i: self.ask(self.question.currentData() or ""))
        self.loudest.valueChanged.connect(self._on_loudest)
        self.measured.clicked.connect(self._on_measured)
        self.every.toggled.connect(self._on_every)
        self.tone.toggled.connect(lambda _on: self._timer.start())
        self.boxes.toggled.connect(lambda _on: self._timer.start())
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

    # --- what is shown ---

    @property
    def rig(self) -> Rig:
        """The current rig as it is now."""
        return self._document.session.rig()

    @property
    def settled(self) -> bool:
        """Whether the figures are those of the session on screen."""
        return not self._timer.isActive() and (
            not self._document.session.rigs or self._asked_for == self._wanted()
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

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.PaletteChange and self.report is not None:
            self._show_check()
        super().changeEvent(event)

    def _on_changed(self, before: Session | None, after: Session) -> None:
        if not after.rigs:
            self.diagram.show_diagram(
                None, message="This session has no rig yet. Ctrl+2 makes one."
            )
            return
        if before is not None and after.rig() is not before.rig() and self._check is not None:
            # What was heard belongs to the rig as it was.
            if after.rig().id != before.rig().id:
                self._check = None
                self._show_check()
        self._show_target(after)
        self._timer.start()

    def _show_target(self, session: Session) -> None:
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

        def work(progress: Progress, cancel: CancelToken) -> LevelsReport:
            return look_at_levels(session, track, question, free_tone=free, other_di=other_di)

        def done(report: LevelsReport) -> None:
            if wanted == self._wanted():
                self._asked_for = wanted
                self._show_report(report)
            else:
                self._timer.start()

        self._jobs.start(Job("levels", work, done, self.problem.emit, background=True))

    def _show_report(self, report: LevelsReport) -> None:
        self.report = report
        session = self._document.session
        writable = not self._document.read_only
        self._show_courses(report)
        self._show_diagram(report)
        self.controls.show_columns(self.diagram.columns, writable)
        aim = aim_of(session)
        word = "peak" if aim.statistic == "peak" else "RMS"
        self.verdict.show_report(
            report, f"target {word} {number(aim.target_dbfs, 0)} dBFS", aim.target_dbfs, writable
        )
        self.noise.show_report(report)
        self.distance.show_report(report)
        self._show_loudest(report, writable)
        self._show_check()
        self.solve_all.setEnabled(writable)
        self.tone.setEnabled(writable)
        self._tell_courses()

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

    def _show_check(self) -> None:
        report = self.report
        names = {one.track: one.name for one in report.courses} if report is not None else {}
        self.check.show_check(self._check, names, not self._document.read_only)

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
        peak = min(0.0, diagram.track.peak)
        serious = room is not None and room < 0.0
        level = f"planned peak {number(peak):>6} dBFS"
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

    def show_check_page(self) -> None:
        self.pages.setCurrentIndex(2)

    def toggle_distance(self) -> None:
        """Readable at two metres, or near again."""
        far = self._stack.currentIndex() == 0
        self._stack.setCurrentIndex(1 if far else 0)
        if far:
            self.distance.setFocus()
        else:
            self.diagram.setFocus()

    # --- edits ---

    def _on_value(self, ref: SettingRef, value: float | str) -> None:
        name = self.rig.device(ref.device).setting(ref.setting).name
        self._document.apply(
            edits.change_rig(
                self.rig.id,
                f"Set {name}",
                lambda rig: rig.with_setting(ref.device, ref.setting, value),
            ),
            merge=str(ref),
        )

    def _on_lock(self, ref: SettingRef, locked: bool) -> None:
        self._document.apply(lock_edit(self.rig.id, ref, locked))

    def toggle_lock(self) -> None:
        """The control that has the keyboard: locked against the solver, or no longer."""
        field = self.controls.focused()
        if field is None:
            self.said.emit("Tab to a control first: L locks it against the solver.")
        elif field.lock.isEnabled():
            field.lock.toggle()

    def _on_target(self) -> None:
        data = self.target.currentData()
        if data == OWN_TARGET:
            return
        statistic, value = data
        field = "target_peak_dbfs" if statistic == "peak" else "target_rms_dbfs"
        self._document.apply(edits.set_target(target_statistic=statistic, **{field: value}))
        self.said.emit(str(self.target.currentData(Qt.ItemDataRole.ToolTipRole) or ""))

    def _on_loudest(self, value: float) -> None:
        chosen = self.report.chosen if self.report is not None else None
        if chosen is None or chosen.diagram is None:
            return
        device = chosen.diagram.course.start.device.id
        try:
            level = typed_played(self._document.session, self.rig.id, device, value)
        except DiaulosError as error:
            self.problem.emit(error)
            self._timer.start()
            return
        self._document.apply(set_played_edit(self.rig.id, level), merge=f"played {device}")

    def _on_measured(self) -> None:
        chosen = self.report.chosen if self.report is not None else None
        if chosen is not None and chosen.diagram is not None:
            device = chosen.diagram.course.start.device.id
            self._document.apply(forget_played_edit(self.rig.id, device))

    def set_gains(self) -> None:
        """What the verdict says, as one step of undo."""
        report = self.report
        if report is None or report.solved is None or report.solved.solution is None:
            self.said.emit("There is nothing to set on this course.")
            return
        if not report.solved.solution.changes and report.solved.swapped is None:
            self.said.emit("Nothing to change: this is the best that its steps allow.")
            return
        if self._document.apply(solve_edit(report.rig.id, (report.solved,))):
            self.said.emit("Set. Ctrl+Z takes it back.")

    def set_second(self) -> None:
        """The second best of the course."""
        report = self.report
        if report is None or report.solved is None:
            return
        try:
            edit = second_edit(report.rig.id, report.solved)
        except EditError as error:
            self.problem.emit(error)
            return
        if self._document.apply(edit):
            self.said.emit("The second best is set. Ctrl+Z takes it back.")

    def set_all(self) -> None:
        """Every course of the rig, one after the other."""
        session, rig_id = self._document.session, self.rig.id
        free, other_di = self.tone.isChecked(), self.boxes.isChecked()

        def work(progress: Progress, cancel: CancelToken) -> object:
            return solve_rig(
                session, rig_id, free_tone=free, other_di=other_di, with_freeings=False
            )

        def done(solved: object) -> None:
            count = sum(len(one.solution.changes) for one in solved if one.solution)  # type: ignore[attr-defined]
            if not count:
                self.said.emit("Nothing to change on any course.")
            elif self._document.apply(solve_edit(rig_id, solved)):  # type: ignore[arg-type]
                self.said.emit(f"{count} controls are set. Ctrl+Z takes them back.")

        self._jobs.start(Job("Setting all courses", work, done, self.problem.emit))

    # --- against reality ---

    def sound_check(self, *, surprise: bool = False) -> None:
        """Ten seconds on the bench, beside the plan."""
        session = self._document.session
        seed = 1 + len(session.rigs) + (self._services.clock().second if surprise else 0)
        rig_id, audio = self.rig.id, self._services.rig_audio

        def work(progress: Progress, cancel: CancelToken) -> SoundCheck:
            return bench_check(
                session,
                audio,
                rig_id,
                seed=seed,
                surprise=surprise,
                progress=progress,
                cancel=cancel,
            )

        self._jobs.start(Job("Sound check", work, self._on_check, self.problem.emit, captures=True))

    def check_bench(self) -> None:
        """The sound check by its key."""
        self.show_check_page()
        self.sound_check()

    def ask_check_file(self) -> None:
        """A recording of the loudest playing on the chosen course."""
        path, _ = QFileDialog.getOpenFileName(self, "A sound check", "", "Audio (*.wav *.flac)")
        if path:
            self.check_file(Path(path))

    def check_file(self, path: Path) -> None:
        """This recording against the chosen course."""
        report = self.report
        if report is None or report.chosen is None:
            return
        session, track, files = self._document.session, report.chosen.track, self._services.files

        def work(progress: Progress, cancel: CancelToken) -> SoundCheck:
            return file_check(session, {track: files.open(path)})

        self._jobs.start(Job("Reading the sound check", work, self._on_check, self.problem.emit))

    def _on_check(self, check: SoundCheck) -> None:
        self._check = check
        self.show_check_page()
        self._show_check()
        if self.report is not None:
            self._show_diagram(self.report)
        worst = max((abs(one.db) for one in check.differences), default=0.0)
        self.said.emit(
            "Plan and sound check agree within 1 dB."
            if check.agrees
            else f"Off by up to {number(worst)} dB: the likely cause stands at the right."
        )

    def _take_cause(self, cause: Cause) -> None:
        if self._document.apply(take_cause_edit(self.rig.id, cause)):
            self.said.emit("The session now says what stands there. Ctrl+Z takes it back.")

    def _take_input(self, difference: Difference) -> None:
        course = traced_courses(self._document.session).get(difference.track)
        if course is None:
            return
        now = self._services.clock().isoformat(timespec="minutes")
        try:
            edit = take_calibration_edit(course, difference, now)
        except DiaulosError as error:
            self.problem.emit(error)
            return
        if self._document.apply(edit):
            self.said.emit("Taken over as the input's calibration, with its date.")

    def _take_level(self, difference: Difference) -> None:
        course = traced_courses(self._document.session).get(difference.track)
        if course is not None and self._document.apply(
            take_level_edit(self.rig.id, course, difference.db)
        ):
            self.said.emit("Taken over as the loudest playing of this instrument here.")

    def _recording_input(self) -> PortRef | None:
        """The input whose converter records the chosen course."""
        chosen = self.report.chosen if self.report is not None else None
        legs = chosen.diagram.course.legs if chosen is not None and chosen.diagram else ()
        for leg in reversed(legs):
            if leg.path is not None and leg.entry is not None:
                if any(stage.kind == "adc" for stage in leg.path.stages):
                    return PortRef(device=leg.device.id, port=leg.entry.id)
        return None

    def ask_calibrate(self) -> None:
        """Measure an input, an output or a box."""
        dialog = CalibrateDialog(
            self._document.session,
            self._jobs,
            self._services.files,
            self._services.rig_audio,
            self,
            self._recording_input(),
        )
        if dialog.exec() and dialog.found is not None:
            now = self._services.clock().isoformat(timespec="minutes")
            if self._document.apply(dialog.found.edit(now)):
                self.said.emit("Calibrated. Every rig with this unit now stands on it.")
