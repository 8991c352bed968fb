"""The Reamp view: choose a stored take, send it out, compare what came back."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QItemSelectionModel, Qt, QTimer
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QListView,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.breathing import InTurn
from diaulos.app.cabinets import CabinetDesk
from diaulos.app.jobs import Job
from diaulos.app.view import ViewContext
from diaulos.app.views.reamp.going_round import ReampRunning
from diaulos.app.views.reamp.guide_panel import GuidePanel
from diaulos.app.views.reamp.listening import Waves
from diaulos.app.views.reamp.lists import (
    PassDelegate,
    PassModel,
    PassRow,
    TakeDelegate,
    TakeModel,
    TakeRow,
)
from diaulos.app.views.reamp.loop_diagram import LoopDiagram, ReturnShown, StationShown
from diaulos.app.views.reamp.player_bar import PlayerBar
from diaulos.app.views.reamp.queue_panel import QueuePanel
from diaulos.app.views.reamp.running_panel import RunningPanel
from diaulos.app.views.reamp.tone_panel import TonePanel
from diaulos.app.widgets.cabinet_panel import CabinetPanel, Subject
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.app.widgets.holders import Split
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.own_words import own_word
from diaulos.app.widgets.painted import least_height
from diaulos.app.widgets.waveform import Waveform
from diaulos.app.widgets.wrapping import Flowing, Pages, scrolled
from diaulos.errors import DiaulosError
from diaulos.figures import LevelFigures
from diaulos.rig.as_recorded import ahead_when_recorded
from diaulos.rig.bench import Probe
from diaulos.session import edits
from diaulos.session.model import Session, tone_words
from diaulos.session.roles import reamp_rig
from diaulos.work.listening.heard import Tried
from diaulos.work.loudest import Loudest, read_loudest
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.reamp.guide import guide
from diaulos.work.reamp.passes import open_di
from diaulos.work.reamp.planning import ReampPlan, plan_reamp
from diaulos.work.reamp.words import (
    send_remarks,
    send_words,
    tone_remark,
)
from diaulos.work.rigs.switches import stands_otherwise, state_words
from diaulos.work.takes.impulses import load_impulses
from diaulos.work.takes.unload import undo_for

PLAN_DELAY_MS = 60
PRINTED = (
    "After pedals: what they did stays. Amplifier, cabinet and level can be changed, pedals and "
    "the pickup's load cannot."
)
TICK_MS = 33
TARGET_BAND_DB = 6.0


class ReampView(ReampRunning):
    """One view. It asks the document for edits and the jobs for work."""

    ident = "reamp"

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        self._plan: ReampPlan | None = None
        self._plan_key: tuple[object, ...] = ()
        self._excerpts: dict[str, Loudest] = {}
        self._waves: Waves | None = None
        self._tried: Tried = {}
        self.player = self._sound.place()
        self._build()
        self._wire()

    def begin(self) -> None:
        """Show the session for the first time."""
        self._follow(None, self._document.session, self._between)

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
        self._between()
        self.wave = self.plot = Waveform()
        self.bar = PlayerBar()
        self._title = _label("", "title")
        self._title.setWordWrap(True)
        self._state = _label("", "muted")
        self._state.setWordWrap(True)
        self._state.setToolTip(
            "What stands otherwise in this rig's state Reamp than when it records. The simulated "
            "studio sets it; on the hardware a person does."
        )
        self._send_text = _label("", "muted")
        self._send_text.setWordWrap(True)
        least_height(self._send_text, 36)
        self._problem = _label("", "problem")
        self._problem.setWordWrap(True)
        self._problem.hide()
        self._notice = _label(
            "Never run a valve amplifier without its load. Power off to re-plug speakers. "
            "Start the send low.",
            "notice",
        )
        self._notice.setWordWrap(True)
        self._empty_takes = _label(
            "No stored takes yet.\nFile > Import DI\N{HORIZONTAL ELLIPSIS} brings a dry "
            "recording in.",
            "muted",
        )
        self._empty_takes.setWordWrap(True)
        self._empty_passes = _label("No passes yet. R sends the take out.", "muted")
        self._empty_passes.setWordWrap(True)

        upper = Split(Qt.Orientation.Horizontal)
        upper.setChildrenCollapsible(False)
        left = _column(_label("Stored takes", "title"), self._empty_takes, self.take_list)
        right = self._right()
        self._aside = (left, right)
        upper.addWidget(left)
        self._loop_page = Flowing()
        column = QVBoxLayout(self._loop_page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(scrolled(self._middle(), "Loop and tone"), 1)
        column.addWidget(self.tone.foot)
        column.addWidget(self._notice)  # always in sight, whatever is scrolled
        self._between()
        self.cabinets = CabinetPanel()
        self.queue = QueuePanel()
        self._between()
        self.pages = Pages()
        self.running = RunningPanel()
        self.guide = GuidePanel()
        for page in (self._loop_page, self.cabinets, self.queue, self.running, self.guide):
            self.pages.addWidget(page)
        upper.addWidget(self.pages)
        upper.addWidget(right)
        upper.setSizes([165, 610, 240])
        for index, share in enumerate((1, 3, 2)):
            upper.setStretchFactor(index, share)
        lower = _column(self.wave, self.bar)
        whole = Split(Qt.Orientation.Vertical)
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
        column.setContentsMargins(8, 0, 4, 0)
        column.setSpacing(5)
        head = QHBoxLayout()
        head.addWidget(self._title, 1)
        self._way = QPushButton("How to set up (W)")
        self._way.setToolTip("What to make safe, to plug and to set, and what is measured")
        head.addWidget(self._way, 0, Qt.AlignmentFlag.AlignTop)
        head.addWidget(self.tone.check_button, 0, Qt.AlignmentFlag.AlignTop)
        column.addLayout(head)
        column.addWidget(self._state)
        column.addWidget(self.loop)
        column.addWidget(self._send_text)
        column.addWidget(self.tone)
        column.addWidget(self._problem)
        column.addStretch(1)
        return middle

    def _right(self) -> QWidget:
        self._keep = QPushButton("Keep (K)")
        self._discard = QPushButton("Discard (Del)")
        self._rematch = QPushButton("Match again (M)")
        self._rematch.setToolTip("Brings the chosen pass to the reference that is set now.")
        self._export = QPushButton("Export (E)")
        self._export.setToolTip("Broadcast Wave, aligned to the DI's start, at matched level.")
        self._cabinet = QPushButton("Cabinet (Z)")
        self._cabinet.setToolTip("A cabinet for a pass, or a track, that came without one")
        self._in_a_row = QPushButton("Tones in a row (Q)")
        self._in_a_row.setToolTip(
            "Several tones through several takes, matched to one reference, without anybody"
        )
        self._round = QPushButton("Go round (G)")
        self._round.setToolTip(
            "A range goes round while you turn knobs or move a microphone: what comes back against "
            "a reference, by third octave"
        )
        row1, row2, row3, row4 = QHBoxLayout(), QHBoxLayout(), QHBoxLayout(), QHBoxLayout()
        for row, pair in (
            (row1, (self._keep, self._discard)),
            (row2, (self._rematch, self._export)),
            (row3, (self._cabinet, self._round)),
            (row4, (self._in_a_row,)),
        ):
            row.setSpacing(6)
            for button in pair:
                row.addWidget(button)
        title = _label("Passes", "title")
        title.setToolTip(own_word("pass"))
        right = _column(title, self._empty_passes, self.pass_list)
        box = right.layout()
        assert isinstance(box, QVBoxLayout)
        box.setContentsMargins(8, 0, 0, 0)
        box.addLayout(row1)
        box.addLayout(row2)
        box.addLayout(row3)
        box.addLayout(row4)
        return right

    def _wire(self) -> None:
        self.cabinet_desk = CabinetDesk(
            self.cabinets, self._document, self._jobs, self._services, self
        )
        self.cabinets.left.connect(self.toggle_cabinets)
        self.cabinets.subject_asked.connect(self._choose_subject)
        self.cabinet_desk.tried.connect(self._try_cabinet)
        self.cabinet_desk.said.connect(self.said)
        self.cabinet_desk.problem.connect(self.problem)
        self._wire_queue()
        self._wire_running()
        self._way.clicked.connect(self.toggle_guide)
        self.guide.left.connect(self.toggle_guide)
        self._round.clicked.connect(self.toggle_round)
        self._in_a_row.clicked.connect(self.toggle_queue)
        self._document.changed.connect(self._on_changed)
        self.take_list.selectionModel().currentChanged.connect(self._on_take)
        self.pass_list.selectionModel().currentChanged.connect(self._on_pass)
        self.tone.setting_asked.connect(self._on_setting)
        self.tone.rig_asked.connect(self.choose_rig)
        self.tone.cabinet_file_asked.connect(self.ask_cabinet)
        self.tone.target_changed.connect(self._refresh_channels)
        self.tone.auto_changed.connect(self._plan_soon)
        self.tone.reamp_asked.connect(self.reamp)
        self.tone.check_asked.connect(self.check_loop)
        self.tone.load_asked.connect(self._on_load)
        self.tone.whole_asked.connect(self.clear_range)
        self.tone.sent_asked.connect(self._on_sent)
        self._keep.clicked.connect(self.keep)
        self._discard.clicked.connect(self.discard)
        self._rematch.clicked.connect(self.match_again)
        self._export.clicked.connect(self.ask_export)
        self._cabinet.clicked.connect(self.toggle_cabinets)
        self._jobs.started.connect(self._on_job_started)
        self._jobs.ended.connect(self._on_job_ended)
        self.bar.play_asked.connect(self.toggle_play)
        self.bar.heard_changed.connect(lambda: self.player.hear(self.bar.heard))
        self.bar.level_changed.connect(self.player.set_level)
        self.bar.loop_changed.connect(lambda _on: self._set_loop())
        self.wave.sought.connect(self.player.seek)
        self.wave.sought.connect(self.wave.set_position)
        self.wave.range_changed.connect(self._set_loop)
        self._rest = InTurn(self)
        self._plan_timer = QTimer(self)
        self._plan_timer.setSingleShot(True)
        self._plan_timer.setInterval(PLAN_DELAY_MS)
        self._plan_timer.timeout.connect(self._plan_now)
        self._tick = QTimer(self)
        self._tick.setInterval(TICK_MS)
        self._tick.timeout.connect(self._on_tick)

    def take_focus(self) -> None:
        """Where the keyboard goes when the view is shown."""
        self.take_list.setFocus()
        if self.take is None:
            self.said.emit("No takes yet. Import a DI with Ctrl+I.")
        else:
            self.said.emit("Choose a take. R sends it out to the amplifier and back.")

    @property
    def settled(self) -> bool:
        """Whether levels and waveforms of what is chosen are on screen."""
        if self._plan_timer.isActive() or not self._rest.done:
            return False
        take = self.take
        if take is None or take.sent is None or not self._document.session.rigs:
            return True
        told = self._plan is not None or not self._problem.isHidden()
        return told and self._waves is not None

    def menus(self) -> tuple[tuple[QWidget, tuple[str, ...]], ...]:
        """Of a take, and of a pass."""
        return (
            (self.take_list, ("reamp", "loop_check", "reference", "store_unloaded")),
            (
                self.pass_list,
                (
                    "hear_pass",
                    "keep",
                    "rename",
                    "match",
                    "recall_pass",
                    "differs",
                    "export",
                    "discard",
                ),
            ),
        )

    # --- how it is set up ---

    def toggle_guide(self) -> None:
        """The way of the rig step by step, or the loop again."""
        if self.in_queue:
            self.toggle_queue()
        opened = self.pages.currentWidget() is not self.guide
        self.pages.setCurrentWidget(self.guide if opened else self._loop_page)
        if opened:
            self._show_guide()
            self.guide.back.setFocus()
        else:
            self.take_list.setFocus()

    def _show_guide(self) -> None:
        session = self._document.session
        if not session.rigs:
            self.guide.show_steps("", (), "There is no rig yet: choose an arrangement in Rig (N).")
            return
        try:
            steps, why = guide(session, device=self._services.device()), ""
        except DiaulosError as error:
            steps, why = (), str(error)
        self.guide.show_steps(reamp_rig(session).name, steps, why)

    # --- a cabinet later ---

    def toggle_cabinets(self) -> None:
        """Cabinets for the chosen pass, or for a track of the take, or the loop again."""
        opened = self.pages.currentWidget() is not self.cabinets
        if self.in_queue:
            self.toggle_queue()
        self._end_round()
        if opened and self.take is None:
            self.said.emit("Choose a take first.")
            return
        self.pages.setCurrentWidget(self.cabinets if opened else self._loop_page)
        if opened:
            row = self.chosen_row
            files = tuple(one.file for one in row.part) if row is not None else ()
            self.cabinet_desk.show(self.take, files)
            self.cabinets.table.setFocus()
            self.said.emit("Up and Down step, Space plays, Z goes back.")
        else:
            self.cabinet_desk.leave()
            self.pass_list.setFocus()

    def hear_di(self) -> None:
        """The DI; among the cabinets the first of those in place."""
        self._number(1, super().hear_di)

    def hear_reference(self) -> None:
        """The reference; among the cabinets the second of those in place."""
        self._number(2, super().hear_reference)

    def hear_pass(self) -> None:
        """The pass; among the cabinets the third of those in place."""
        self._number(3, super().hear_pass)

    def _number(self, number: int, otherwise: Callable[[], None]) -> None:
        if self.pages.currentWidget() is self.cabinets:
            self.cabinets.choose_key(number)
        else:
            otherwise()

    def _choose_subject(self, subject: Subject) -> None:
        """What gets the cabinet is what is heard, where it is a pass."""
        for row in range(self.passes.rowCount()):
            item = self.passes.item(row)
            if isinstance(item, PassRow) and subject.files == tuple(b.file for b in item.part):
                self.pass_list.setCurrentIndex(self.passes.index(row))

    def _try_cabinet(self, tried: Tried) -> None:
        self._tried = tried
        self._refresh_channels()

    def choose_course(self, key: str) -> None:
        """A loop of the strip: its rig."""
        self.choose_rig(key)

    def choose_rig(self, rig_id: str) -> None:
        """Another rig to send through; Takes keeps its own."""
        if rig_id and rig_id != reamp_rig(self._document.session).id:
            self._document.apply(edits.choose_reamp_rig(rig_id))

    def imported(self, take_id: str) -> None:
        """A take came from a file: it is the chosen one."""
        row = self.takes.row_of(take_id)
        if row >= 0:
            self._choose_take(row)

    # --- following the document ---

    def _on_changed(self, before: Session | None, session: Session) -> None:
        self._follow(before, session)

    def _follow(
        self,
        before: Session | None,
        session: Session,
        between: Callable[[], None] = lambda: None,
    ) -> None:
        """Show the session; `between` is called between two steps. Where it is edited meanwhile,
        the steps that are left are those of the session as it is then."""
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
        between()
        self._show_take()
        between()
        session = self._document.session
        if session.rigs:
            rig = reamp_rig(session)
            self.tone.show_rig(session, rig)
            state = state_words(session.rig(rig.id), "reamp")
            if stands_otherwise(session, session.rig(rig.id), "reamp"):
                state = f"Set it on the hardware first. {state}"
            self._state.setText(state)
            self._state.setVisible(bool(state))
        between()
        if self.in_queue:
            self._show_queue()
        if self.on_round:
            self._show_round()
        if self.pages.currentWidget() is self.guide:
            self._show_guide()
        self._turned(before, session)
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
        if self.pages.currentWidget() is self.cabinets:
            row_now = self.chosen_row
            files = tuple(one.file for one in row_now.part) if row_now is not None else ()
            self.cabinet_desk.show(take, files)
        self._show_load()
        self._show_part()
        if take is None:
            self._title.setText("Reamp")
        else:
            instrument = session.instrument_name(take.instrument_id)
            self._title.setText(
                f"{take.name}  \N{MIDDLE DOT}  {instrument}" if instrument else take.name
            )
        self._on_pass()

    def _show_load(self) -> None:
        """Whether the DI's load can be undone for the reamp rig, and at what price."""
        session, take = self._document.session, self.take
        if take is None or take.sent is None or not session.rigs:
            self.tone.show_load(None, "", False)
            self.tone.show_sent((), "")
            return
        names = {"di": "Send the dry DI", "printed": "Send the DI after pedals"}
        choices = [(one.id, names[one.tap]) for one in take.sendable]
        self.tone.show_sent(choices, take.sent.id)
        if take.sent.tap == "printed":
            # The pedals' input loaded the pickup, and their output drives the cable.
            self.tone.show_load(take.sent.load_ohm, PRINTED, False)
            return
        try:
            undo = undo_for(session, take, take.sent, reamp_rig(session))
        except DiaulosError as error:
            self.tone.show_load(take.sent.load_ohm, str(error), False)
            return
        self.tone.show_load(take.sent.load_ohm, undo.cost, undo.correction.most_db > 0.2)

    def _on_sent(self, track_id: str) -> None:
        take = self.take
        if take is not None and not self._document.read_only:
            self._document.apply(edits.choose_sent(take.id, track_id))

    def _on_load(self, ohm: float | None) -> None:
        take = self.take
        if take is not None and take.sent is not None and not self._document.read_only:
            self._document.apply(edits.set_track_load(take.id, take.sent.id, ohm))

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
        possible = take is not None and take.sent is not None and bool(self._document.session.rigs)
        self.tone.check_button.setEnabled(bool(self._document.session.rigs) and not self._jobs.busy)
        self.tone.reamp_button.setEnabled(
            possible and not self._jobs.busy and not self._document.read_only
        )

    # --- the plan: levels at every station ---

    def _plan_soon(self) -> None:
        self._plan_timer.start()

    def _plan_now(self) -> None:
        session, take = self._document.session, self.take
        if take is None or take.sent is None or not session.rigs:
            self.loop.show_loop((), (), "", "")
            self._send_text.setText("")
            return
        di, rig = take.sent, reamp_rig(session)
        auto, store, undo = self.tone.auto_return, self._document.store, self.tone.undo_load
        instrument = next((i for i in session.instruments if i.id == take.instrument_id), None)
        key = (
            di, take.rig_hash, rig, auto, session.impulses, session.target_peak_dbfs, undo,
            undo and instrument,
        )  # fmt: skip
        if key == self._plan_key:
            return
        known = None if undo else self._excerpts.get(di.file)
        then = session.snapshots.get(take.rig_hash)

        def work(progress: Progress, cancel: CancelToken) -> tuple[Loudest, ReampPlan]:
            source, _ = open_di(session, take, di, rig, store, undo)
            excerpt = known or read_loudest(source)
            cancel.check()
            return excerpt, plan_reamp(
                rig,
                excerpt,
                session.sample_rate_hz,
                di.full_scale_dbu,
                session.target_peak_dbfs,
                auto_return=auto,
                ahead_db=None if undo else ahead_when_recorded(then, rig),
                impulses=load_impulses(session, store),
                cancel=cancel,
            )

        def done(result: tuple[Loudest, ReampPlan]) -> None:
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
        taps = {one.back.name: one.back.course.tap for one in plan.returns}
        shown = [
            (name, p.station.side, _station(p, taps[name], target_dbfs))
            for name, p in plan.stations
        ]
        out = tuple(station for _, side, station in shown if side == "out")
        back = tuple(
            ReturnShown(name, tuple(s for at, side, s in shown if at == name and side == "back"))
            for name in taps
        )
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
        self._rest.begin((self._tell_courses,))  # the diagram is painted first

    def _tell_courses(self) -> None:
        """The loops for the strip."""
        session = self._document.session
        rows = [
            CourseRow(one.rig_id, one.tap, one.name, one.peak, one.finding, one.serious)
            for one in self._loops.rows(session, self._plan)
        ]
        self._tell_strip(tuple(rows), reamp_rig(session).id if session.rigs else "")

    def _on_job_started(self, title: str) -> None:
        if self._plan is not None:  # else it tells why there is none, and goes on telling it
            self._problem.hide()
        self._on_pass()

    def _on_job_ended(self) -> None:
        self._on_pass()

    def close_down(self) -> None:
        """The session goes."""
        self._running = False
        self._end_round()
        self._poll.stop()
        self._next.stop()
        self._tick.stop()
        self._plan_timer.stop()
        self._rest.stop()


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
        "RMS of its loudest 400 ms (AES17), the floor is the noise with nothing played."
    )
    return StationShown(title, port, figures, token, trace)
