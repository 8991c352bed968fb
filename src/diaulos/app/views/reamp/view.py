"""The Reamp view: choose a stored take, send it out, compare what came back."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QItemSelectionModel, Qt, QTimer
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QListView,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.jobs import Job
from diaulos.app.view import View, ViewContext
from diaulos.app.views.reamp.lists import (
    PassDelegate,
    PassModel,
    TakeDelegate,
    TakeModel,
    TakeRow,
)
from diaulos.app.views.reamp.loop_diagram import LoopDiagram, StationShown
from diaulos.app.views.reamp.player_bar import PlayerBar
from diaulos.app.views.reamp.tone_panel import TonePanel
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.level_window import LevelFigures
from diaulos.app.widgets.waveform import Trace, Waveform
from diaulos.app.widgets.working import Working
from diaulos.errors import DiaulosError, RigError
from diaulos.rig.bench import Probe
from diaulos.session import edits
from diaulos.session.model import Pass, Session, Take, Track, tone_words
from diaulos.signal.overview import Overview, build_overview
from diaulos.units import db_to_gain
from diaulos.work.listening.aligned import pass_blocks
from diaulos.work.listening.heard import compared_channels, pass_gain_db, pass_reader, track_reader
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.reamp.matching import rematch
from diaulos.work.reamp.passes import ReampOutcome, ReampRequest, make_pass, open_di
from diaulos.work.reamp.planning import Excerpt, ReampPlan, plan_reamp, read_excerpt
from diaulos.work.reamp.words import (
    Loops,
    made_words,
    send_remarks,
    send_words,
    tone_remark,
)
from diaulos.work.takes.exporting import export_pass
from diaulos.work.takes.impulses import import_impulse, load_impulses
from diaulos.work.takes.overviews import overview_of
from diaulos.work.takes.unload import undo_for
from diaulos.work.takes.unloading import UnloadedTake, store_unloaded

PLAN_DELAY_MS = 60
TICK_MS = 33
TARGET_BAND_DB = 6.0


@dataclass(frozen=True)
class _Waves:
    """What is drawn and heard of a take and one pass."""

    take_id: str
    pass_id: str
    di: Overview
    back: Overview | None


class ReampView(View):
    """One view. It asks the document for edits and the jobs for work."""

    ident = "reamp"

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        document = context.document
        self._plan: ReampPlan | None = None
        self._loops = Loops()
        self._plan_key: tuple[object, ...] = ()
        self._excerpts: dict[str, Excerpt] = {}
        self._waves: _Waves | None = None
        self.player = self._sound.place()
        self._build()
        self._wire()
        self._on_changed(None, document.session)
        if document.session.takes:
            self._choose_take(0)

    # --- building ---

    def _build(self) -> None:
        self.takes = TakeModel()
        self.take_list = QListView()
        self.take_list.setModel(self.takes)
        self.take_list.setItemDelegate(TakeDelegate(self.take_list))
        self.take_list.setAccessibleName("Stored takes")
        self.passes = PassModel()
        self.pass_list = QListView()
        for shown in (self.take_list, self.pass_list):
            shown.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.pass_list.setModel(self.passes)
        self.pass_list.setItemDelegate(PassDelegate(self.pass_list))
        self.pass_list.setAccessibleName("Passes of this take")
        self.loop = LoopDiagram()
        self.tone = TonePanel()
        self.wave = self.plot = Waveform()
        self.bar = PlayerBar()
        self._title = _label("", "title")
        self._send_text = _label("", "muted")
        self._send_text.setWordWrap(True)
        self._send_text.setMinimumHeight(36)
        self._problem = _label("", "problem")
        self._problem.setWordWrap(True)
        self._problem.hide()
        self._notice = _label(
            "Never run a valve amplifier without its load. Power off to re-plug speakers. "
            "Start the send low.",
            "notice",
        )
        self._notice.setFixedHeight(28)
        self._working = Working(self._jobs)
        self._empty_takes = _label(
            "No stored takes yet.\nFile > Import DI\N{HORIZONTAL ELLIPSIS} brings a dry "
            "recording in.",
            "muted",
        )
        self._empty_takes.setWordWrap(True)
        self._empty_passes = _label("No passes yet. R sends the take out.", "muted")
        self._empty_passes.setWordWrap(True)

        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.setChildrenCollapsible(False)
        upper.addWidget(_column(_label("Stored takes", "title"), self._empty_takes, self.take_list))
        upper.addWidget(self._middle())
        upper.addWidget(self._right())
        upper.setSizes([204, 636, 350])
        upper.setStretchFactor(1, 1)
        lower = _column(self.wave, self.bar)
        whole = QSplitter(Qt.Orientation.Vertical)
        whole.setChildrenCollapsible(False)
        whole.addWidget(upper)
        whole.addWidget(lower)
        whole.setSizes([510, 150])
        whole.setStretchFactor(0, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 6, 8, 4)
        layout.addWidget(whole)

    def _middle(self) -> QWidget:
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(8, 0, 8, 0)
        column.setSpacing(5)
        column.addWidget(self._title)
        column.addWidget(self.loop)
        column.addWidget(self._send_text)
        column.addWidget(self.tone)
        column.addWidget(self._working)
        column.addWidget(self._problem)
        column.addStretch(1)
        column.addWidget(self._notice)
        return middle

    def _right(self) -> QWidget:
        self._keep = QPushButton("Keep (K)")
        self._discard = QPushButton("Discard (Del)")
        self._rematch = QPushButton("Match again (M)")
        self._rematch.setToolTip("Brings the chosen pass to the reference that is set now.")
        self._export = QPushButton("Export (E)")
        self._export.setToolTip("Broadcast Wave, aligned to the DI's start, at matched level.")
        row1, row2 = QHBoxLayout(), QHBoxLayout()
        for row, pair in (
            (row1, (self._keep, self._discard)),
            (row2, (self._rematch, self._export)),
        ):
            row.setSpacing(6)
            for button in pair:
                row.addWidget(button)
        right = _column(_label("Passes", "title"), self._empty_passes, self.pass_list)
        box = right.layout()
        assert isinstance(box, QVBoxLayout)
        box.setContentsMargins(8, 0, 0, 0)
        box.addLayout(row1)
        box.addLayout(row2)
        return right

    def _wire(self) -> None:
        self._document.changed.connect(self._on_changed)
        self.take_list.selectionModel().currentChanged.connect(self._on_take)
        self.pass_list.selectionModel().currentChanged.connect(self._on_pass)
        self.tone.setting_asked.connect(self._on_setting)
        self.tone.rig_asked.connect(self.choose_rig)
        self.tone.cabinet_file_asked.connect(self.ask_cabinet)
        self.tone.target_changed.connect(self._refresh_channels)
        self.tone.auto_changed.connect(self._plan_soon)
        self.tone.reamp_asked.connect(self.reamp)
        self.tone.load_asked.connect(self._on_load)
        self._keep.clicked.connect(self.keep)
        self._discard.clicked.connect(self.discard)
        self._rematch.clicked.connect(self.match_again)
        self._export.clicked.connect(self.ask_export)
        self._jobs.started.connect(self._on_job_started)
        self._jobs.ended.connect(self._on_job_ended)
        # The focus must not fall onto a button: Space stays with playback.
        self._working.focus_after = self.pass_list
        self.bar.play_asked.connect(self.toggle_play)
        self.bar.heard_changed.connect(lambda: self.player.hear(self.bar.heard))
        self.bar.level_changed.connect(self.player.set_level)
        self.bar.loop_changed.connect(lambda _on: self._set_loop())
        self.wave.sought.connect(self.player.seek)
        self.wave.sought.connect(self.wave.set_position)
        self.wave.range_changed.connect(self._set_loop)
        self._plan_timer = QTimer(self)
        self._plan_timer.setSingleShot(True)
        self._plan_timer.setInterval(PLAN_DELAY_MS)
        self._plan_timer.timeout.connect(self._plan_now)
        self._tick = QTimer(self)
        self._tick.setInterval(TICK_MS)
        self._tick.timeout.connect(self._on_tick)

    # --- what is chosen ---

    @property
    def take(self) -> Take | None:
        """The chosen take, as it is in the session now."""
        row = self.takes.item(self.take_list.currentIndex().row())
        return row.take if row else None

    @property
    def chosen_pass(self) -> Pass | None:
        """The chosen pass."""
        found = self.passes.item(self.pass_list.currentIndex().row())
        return found if isinstance(found, Pass) else None

    def take_focus(self) -> None:
        """Where the keyboard goes when the view is shown."""
        self.take_list.setFocus()
        if self.take is None:
            self.said.emit("No takes yet. Import a DI with Ctrl+I.")
        else:
            self.said.emit("Choose a take. R sends it out to the amplifier and back.")

    def hear_di(self) -> None:
        """The DI alone, or with others when solo is off."""
        self.bar.choose("di")

    def hear_reference(self) -> None:
        """The reference."""
        self.bar.choose("reference")

    def hear_pass(self) -> None:
        """The pass."""
        self.bar.choose("pass")

    def toggle_loop(self) -> None:
        """Loop what is shown, or not."""
        self.bar.toggle_loop()

    @property
    def settled(self) -> bool:
        """Whether levels and waveforms of what is chosen are on screen."""
        if self._plan_timer.isActive():
            return False
        take = self.take
        if take is None or take.di is None or not self._document.session.rigs:
            return True
        told = self._plan is not None or not self._problem.isHidden()
        return told and self._waves is not None

    def _choose_take(self, row: int) -> None:
        self.take_list.setCurrentIndex(self.takes.index(row))

    def choose_course(self, key: str) -> None:
        """A loop of the strip: its rig."""
        self.choose_rig(key)

    def choose_rig(self, rig_id: str) -> None:
        """Another current rig."""
        if rig_id and rig_id != self._document.session.current_rig:
            self._document.apply(edits.choose_rig(rig_id))

    def imported(self, take_id: str) -> None:
        """A take came from a file: it is the chosen one."""
        row = self.takes.row_of(take_id)
        if row >= 0:
            self._choose_take(row)

    # --- following the document ---

    def _on_changed(self, before: Session | None, session: Session) -> None:
        chosen = self.take.id if self.take else ""
        self.takes.set_items(tuple(TakeRow(take, session) for take in session.takes))
        row = self.takes.row_of(chosen)
        if row < 0 and session.takes:
            row = min(max(self.take_list.currentIndex().row(), 0), len(session.takes) - 1)
        if row >= 0:
            blocked = self.take_list.selectionModel().blockSignals(True)
            self._choose_take(row)
            self.take_list.selectionModel().blockSignals(blocked)
        self._empty_takes.setVisible(not session.takes)
        self._show_take()
        if session.rigs:
            self.tone.show_rig(session, session.rig())
        self._tell_courses()
        self._plan_soon()

    def _on_take(self) -> None:
        self.player.pause()
        self._show_take()
        self._plan_soon()

    def _show_take(self) -> None:
        session, take = self._document.session, self.take
        chosen = self.chosen_pass.id if self.chosen_pass else ""
        self.passes.show(session, take)
        self._empty_passes.setVisible(not (take and take.passes))
        rows = self.passes.rowCount()
        row = self.passes.row_of(chosen)
        if row < 0:
            row = rows - 1
        blocked = self.pass_list.selectionModel().blockSignals(True)
        if rows:
            self.pass_list.selectionModel().setCurrentIndex(
                self.passes.index(row), QItemSelectionModel.SelectionFlag.ClearAndSelect
            )
        self.pass_list.selectionModel().blockSignals(blocked)
        self.pass_list.viewport().update()
        self.tone.show_targets(take)
        self._show_load()
        if take is None:
            self._title.setText("Reamp")
        else:
            instrument = session.instrument_name(take.instrument_id)
            self._title.setText(
                f"{take.name}  \N{MIDDLE DOT}  {instrument}" if instrument else take.name
            )
        self._on_pass()

    def _show_load(self) -> None:
        """Whether the DI's load can be undone for the current rig, and at what price."""
        session, take = self._document.session, self.take
        if take is None or take.di is None or not session.rigs:
            self.tone.show_load(None, "", False)
            return
        try:
            undo = undo_for(session, take, take.di, session.rig())
        except DiaulosError as error:
            self.tone.show_load(take.di.load_ohm, str(error), False)
            return
        self.tone.show_load(take.di.load_ohm, undo.cost, undo.correction.most_db > 0.2)

    def _on_load(self, ohm: float | None) -> None:
        take = self.take
        if take is not None and take.di is not None and not self._document.read_only:
            self._document.apply(edits.set_track_load(take.id, take.di.id, ohm))

    def _on_pass(self) -> None:
        one = self.chosen_pass
        writable = not self._document.read_only
        self._keep.setEnabled(one is not None and writable)
        self._keep.setText("Unmark (K)" if one and one.keeper else "Keep (K)")
        self._discard.setEnabled(one is not None and writable)
        self._rematch.setEnabled(one is not None and writable and not self._jobs.busy)
        self._export.setEnabled(one is not None and not self._jobs.busy)
        self._show_reamp_button()
        self._waves_soon()

    def _show_reamp_button(self) -> None:
        take = self.take
        possible = take is not None and take.di is not None and bool(self._document.session.rigs)
        self.tone.reamp_button.setEnabled(
            possible and not self._jobs.busy and not self._document.read_only
        )

    # --- the plan: levels at every station ---

    def _plan_soon(self) -> None:
        self._plan_timer.start()

    def _plan_now(self) -> None:
        session, take = self._document.session, self.take
        if take is None or take.di is None or not session.rigs:
            self.loop.show_loop((), (), "", "")
            self._send_text.setText("")
            return
        di, rig = take.di, session.rig()
        auto, store, undo = self.tone.auto_return, self._document.store, self.tone.undo_load
        instrument = next((i for i in session.instruments if i.id == take.instrument_id), None)
        key = (di, rig, auto, session.impulses, session.target_peak_dbfs, undo, undo and instrument)
        if key == self._plan_key:
            return
        known = None if undo else self._excerpts.get(di.file)

        def work(progress: Progress, cancel: CancelToken) -> tuple[Excerpt, ReampPlan]:
            source, _ = open_di(session, take, di, rig, store, undo)
            excerpt = known or read_excerpt(source)
            cancel.check()
            return excerpt, plan_reamp(
                rig,
                excerpt,
                session.sample_rate_hz,
                di.full_scale_dbu,
                session.target_peak_dbfs,
                auto_return=auto,
                impulses=load_impulses(session, store),
                cancel=cancel,
            )

        def done(result: tuple[Excerpt, ReampPlan]) -> None:
            if not undo:
                self._excerpts[di.file] = result[0]
            self._plan_key = key
            self._show_plan(result[1], session.target_peak_dbfs)

        self._jobs.start(Job("plan", work, done, self._plan_failed, background=True))

    def _plan_failed(self, error: Exception) -> None:
        self._plan, self._plan_key = None, ()
        self._send_text.setText("")
        self._problem.setText(str(error))
        self._problem.show()
        self.loop.show_loop((), (), "", "")
        self._tell_courses()

    def _show_plan(self, plan: ReampPlan, target_dbfs: float) -> None:
        self._plan = plan
        self._problem.hide()
        tap = self._loops.tap_of(plan.rig) or "amp"
        shown = [(p.station.side, _station(p, tap, target_dbfs)) for p in plan.probes]
        out = tuple(station for side, station in shown if side == "out")
        back = tuple(station for side, station in shown if side == "back")
        amp = next((d.name for d in plan.rig.devices if d.kind == "amp"), "")
        self.loop.show_loop(out, back, amp, tone_words(plan.rig))
        send = plan.send
        remark = tone_remark(self._document.session, self.take)
        self._send_text.setText(send_words(plan) + remark + send_remarks(plan))
        looks = f" The amp looks back into {send.source_ohm / 1000.0:.1f} kilohm."
        self._send_text.setToolTip(
            "Send gain = dBu at 0 dBFS of the DI \N{MINUS SIGN} dBu at the amp input for a "
            f"0 dBFS send.{looks if send.source_ohm else ''}"
        )
        self._tell_courses()

    def _tell_courses(self) -> None:
        """The loops for the strip."""
        session = self._document.session
        rows = [
            CourseRow(one.rig_id, one.tap, one.name, one.peak, one.finding, one.serious)
            for one in self._loops.rows(session, self._plan)
        ]
        self._tell_strip(tuple(rows), session.current_rig)

    # --- edits ---

    def _on_setting(self, device: str, setting: str, value: object) -> None:
        assert isinstance(value, (str, float))
        rig = self._document.session.current_rig
        if not self._document.apply(edits.set_device_setting(rig, device, setting, value)):
            self.tone.show_rig(self._document.session, self._document.session.rig())

    def keep(self) -> None:
        """Mark or unmark the chosen pass."""
        take, one = self.take, self.chosen_pass
        if take and one and not self._document.read_only:
            self._document.apply(edits.keep_pass(take.id, one.id, not one.keeper))

    def discard(self) -> None:
        """The chosen pass into the bin."""
        take, one = self.take, self.chosen_pass
        if take and one and not self._document.read_only:
            self.player.pause()
            if self._document.apply(edits.discard_pass(take.id, one.id)):
                self.said.emit(f"{one.name} is in the bin. Ctrl+Z brings it back.")

    def rename(self) -> None:
        """Another name for the chosen pass."""
        take, one = self.take, self.chosen_pass
        if take and one and not self._document.read_only:
            name, good = QInputDialog.getText(self, "Rename pass", "Name:", text=one.name)
            if good and name.strip():
                self._document.apply(edits.rename_pass(take.id, one.id, name.strip()))

    # --- work ---

    def reamp(self) -> None:
        """Send the chosen take out and bring it back as a new pass."""
        take = self.take
        if take is None or self._jobs.refuse_if_busy() or not self.tone.reamp_button.isEnabled():
            return
        session, store = self._document.session, self._document.store
        request = ReampRequest(
            session,
            take.id,
            target=self.tone.target,
            auto_return=self.tone.auto_return,
            undo_load=self.tone.undo_load,
        )
        services = self._services

        def work(progress: Progress, cancel: CancelToken) -> ReampOutcome:
            impulses = load_impulses(session, store)
            return make_pass(
                request,
                store=store,
                backend_for=services.bench_for(impulses),
                clock=services.clock,
                impulses=impulses,
                progress=progress,
                cancel=cancel,
            )

        self._jobs.start(Job(f"Reamping {take.name}", work, self._on_reamped, captures=True))

    def _on_reamped(self, outcome: ReampOutcome) -> None:
        if not self._document.apply(outcome.edit, journal=True):
            self.said.emit("The take is gone; the return's file was kept in the session's folder.")
            return
        made = outcome.made
        if self.take is not None and self.take.id == outcome.take_id:
            row = self.passes.row_of(made.id)
            self.pass_list.setCurrentIndex(self.passes.index(row))
        self.said.emit(made_words(made, self._document.session.sample_rate_hz))

    def match_again(self) -> None:
        """Match the chosen pass to the reference that is set now."""
        take, one = self.take, self.chosen_pass
        if take is None or one is None or not self._rematch.isEnabled():
            return
        target, store = self.tone.target, self._document.store
        if target.kind == "pass" and target.ident == one.id:
            self.said.emit("A pass cannot be its own reference. Choose another one.")
            return

        def work(progress: Progress, cancel: CancelToken) -> object:
            progress(0.2, "Measuring loudness")
            return rematch(take, one, target, store)

        def done(record: object) -> None:
            from diaulos.session.model import MatchRecord

            assert record is None or isinstance(record, MatchRecord)
            self._document.apply(edits.rematch_pass(take.id, one.id, record))

        self._jobs.start(Job("Matching", work, done))

    def store_unloaded(self) -> None:
        """The DI with its load undone as a new take."""
        take, session = self.take, self._document.session
        if take is None or not session.rigs:
            return
        store, clock, rig = self._document.store, self._services.clock, session.rig()

        def work(progress: Progress, cancel: CancelToken) -> UnloadedTake:
            return store_unloaded(
                session, take, rig, store=store, clock=clock, progress=progress, cancel=cancel
            )

        def done(made: UnloadedTake) -> None:
            if self._document.apply(made.edit, journal=True):
                self._choose_take(self.takes.row_of(made.take.id))
                self.said.emit(f"{made.take.name} is in the session: {made.words}.")

        self._jobs.start(Job("Undoing the load", work, done))

    def ask_cabinet(self) -> None:
        """Ask for an impulse response and use it."""
        path, _ = QFileDialog.getOpenFileName(
            self, "Load an impulse response", "", "Audio (*.wav *.flac)"
        )
        if path:
            self.load_cabinet(path)
        else:
            self.tone.show_rig(self._document.session, self._document.session.rig())

    def load_cabinet(self, path: str) -> None:
        """Bring an impulse response into the session and choose it as the cabinet."""
        from pathlib import Path

        session, store, services = self._document.session, self._document.store, self._services
        rig = session.rig()
        brings = [d for d in rig.devices if d.has_setting("cabinet")]
        device = next((d for d in brings if d.kind == "load_box"), brings[0] if brings else None)
        try:
            if device is None:
                raise RigError("No device of this rig adds a cabinet.", where=rig.name)
            outcome = import_impulse(
                Path(path),
                session,
                store=store,
                files=services.files,
                resample=services.resample,
                clock=services.clock,
            )
        except DiaulosError as error:
            self.tone.show_rig(session, rig)
            self.problem.emit(error)
            return
        use = edits.set_device_setting(rig.id, device.id, "cabinet", outcome.impulse.file)
        both = edits.Edit(outcome.edit.label, lambda current: use(outcome.edit(current)))
        self._document.apply(both)
        if outcome.note:
            self.said.emit(outcome.note)

    def ask_export(self) -> None:
        """Ask where to, and write the chosen pass there."""
        take, one = self.take, self.chosen_pass
        if take is None or one is None or not self._export.isEnabled():
            return
        name = f"{take.name} - {one.name}.wav".replace("/", "-")
        path, _ = QFileDialog.getSaveFileName(self, "Export pass", name, "Broadcast Wave (*.wav)")
        if path:
            self.export_to(path)

    def export_to(self, path: str) -> None:
        """Write the chosen pass to a file."""
        from pathlib import Path

        take, one = self.take, self.chosen_pass
        assert take is not None
        assert one is not None
        session, store, services = self._document.session, self._document.store, self._services

        def work(progress: Progress, cancel: CancelToken) -> str:
            progress(0.1, "Writing")
            target = Path(path)
            export_pass(
                session,
                take,
                one,
                store.open_audio(one.file),
                lambda notes: services.files.create(
                    target, session.sample_rate_hz, 1, session.word_length, notes, True
                ),
                services.clock,
            )
            return target.name

        self._jobs.start(
            Job(
                "Exporting",
                work,
                lambda name: self.said.emit(f"Written: {name}, aligned to the DI."),
            )
        )

    def _on_job_started(self, title: str) -> None:
        self._problem.hide()
        self._on_pass()

    def _on_job_ended(self) -> None:
        self._on_pass()

    # --- waveform and listening ---

    def _waves_soon(self) -> None:
        take, one = self.take, self.chosen_pass
        if take is None or take.di is None:
            self._waves = None
            self.wave.set_traces((), 0, self._document.session.sample_rate_hz)
            self.wave.set_empty_text("Choose a take to see its waveform.")
            self.bar.set_available(set())
            return
        self._refresh_channels()
        known = self._waves
        if known and known.take_id == take.id and known.pass_id == (one.id if one else ""):
            self._show_waves()
            return
        di, store = take.di, self._document.store
        old = known.di if known and known.take_id == take.id else None

        def work(progress: Progress, cancel: CancelToken) -> _Waves:
            below = old
            if below is None:
                below = overview_of(di.file, store, cancel)
            cancel.check()
            back = None
            if one is not None:
                unmatched = one.model_copy(update={"match": None})
                heard = pass_blocks(store.open_audio(one.file), unmatched, di.frames)
                back = build_overview(block[:, 0] for block in heard)
            return _Waves(take.id, one.id if one else "", below, back)

        def done(waves: _Waves) -> None:
            self._waves = waves
            self._show_waves()

        self._jobs.start(Job("waveform", work, done, background=True))

    def _show_waves(self) -> None:
        take, waves = self.take, self._waves
        if take is None or take.di is None or waves is None or waves.take_id != take.id:
            return
        rate = self._document.session.sample_rate_hz
        try:
            traces = self._traces(take, take.di, waves)
        except DiaulosError as error:  # a file that is gone is told where it would be seen
            self.wave.set_empty_text(str(error))
            self.wave.set_traces((), 0, rate)
            return
        self.wave.set_traces(traces, take.di.frames, rate)

    def _traces(self, take: Take, di: Track, waves: _Waves) -> tuple[Trace, ...]:
        store = self._document.store
        traces = [Trace("DI", "di", waves.di, track_reader(di.file, store))]
        one = next((p for p in take.passes if p.id == waves.pass_id), None)
        if one is not None and waves.back is not None:
            snapshot = self._document.session.snapshots.get(one.rig_hash)
            tap = (self._loops.tap_of(snapshot) if snapshot else "") or "amp"
            gain = db_to_gain(pass_gain_db(one))
            traces.append(Trace(one.name, tap, waves.back, pass_reader(one, store), gain))
        return tuple(traces)

    def _refresh_channels(self) -> None:
        take, one = self.take, self.chosen_pass
        if take is None or take.di is None:
            return
        store = self._document.store
        try:
            channels = compared_channels(take, one, self.tone.target, store)
        except DiaulosError as error:
            self.problem.emit(error)
            return
        self.player.set_channels(channels, take.di.frames)
        self.bar.set_available({channel.key for channel in channels})
        self.bar.show_time(
            self.player.position, take.di.frames, self._document.session.sample_rate_hz
        )
        self.player.hear(self.bar.heard)
        self._set_loop()

    def toggle_play(self) -> None:
        """Play or pause."""
        if self.player.playing:
            self.player.pause()
        elif self.take is not None:
            self.player.hear(self.bar.heard)
            self.player.play()
            self.bar.show_level(self.player.level_db)
            where = self.player.device
            self.said.emit(
                "No sound device: playing in silence."
                if self.player.silent
                else f"Playing: {where}"
            )
            self._tick.start()
        self.bar.show_playing(self.player.playing)

    def _set_loop(self) -> None:
        first, last = self.wave.view
        loop = (int(first), int(last)) if self.bar.looping else None
        self.player.set_loop(loop)
        self.wave.set_loop(loop)

    def _on_tick(self) -> None:
        take = self.take
        frames = take.di.frames if take and take.di else 0
        rate = self._document.session.sample_rate_hz
        self.wave.set_position(self.player.position)
        self.bar.show_time(self.player.position, frames, rate)
        error = self.player.taken_error()
        if error is not None:
            self.problem.emit(error)
        if not self.player.playing:
            self._tick.stop()
            self.bar.show_playing(False)

    def close_down(self) -> None:
        """The session goes."""
        self._tick.stop()
        self._plan_timer.stop()


# --- helpers -------------------------------------------------------------------------


def _label(text: str, role: str) -> QLabel:
    label = TextLabel(text)
    label.setProperty("role", role)
    return label


def _column(*widgets: QWidget) -> QWidget:
    holder = QWidget()
    column = QVBoxLayout(holder)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(5)
    for widget in widgets:
        column.addWidget(widget)
    return holder


def _station(shown: Probe, tap: str, target_dbfs: float) -> StationShown:
    station = shown.station
    name = station.name
    title, _, port = name.partition(": ")
    if not port:
        title, port = "Track", title
    target = None
    if station.unit == "dBFS" and station.side == "back":
        target = (target_dbfs - TARGET_BAND_DB, target_dbfs)
    figures = LevelFigures(
        unit=station.unit,
        floor=shown.floor,
        ceiling=station.ceiling,
        peak=shown.peak,
        typical=shown.typical,
        target=target,
    )
    token = "di" if station.side == "out" else tap
    if station.point.port.signal_class == "speaker":
        token = "amp"
    trace = (
        "Worked out by the bench for the loudest 3 s of the take, noise off; typical is the "
        "RMS of a sine reading (AES17), the floor is the noise with nothing played."
    )
    return StationShown(title, port, figures, token, trace)
