"""The Takes view: one key records, everything is remembered.

The level windows of the armed tracks are the body; the tuner, the noise check and the mix
open over it. Takes stand at the right, the waveform of the chosen one below; one sentence at
the foot says what is happening and which key comes next.
"""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtGui import QHideEvent
from PySide6.QtWidgets import QWidget

from diaulos.app.breathing import InTurn, breathe
from diaulos.app.cabinets import CabinetDesk
from diaulos.app.jobs import Job
from diaulos.app.view import Ending, ViewContext
from diaulos.app.views.takes.board import BoardRow
from diaulos.app.views.takes.capture import Capture
from diaulos.app.views.takes.hunt_ear import HuntEar
from diaulos.app.views.takes.hunting import TakesHunting
from diaulos.app.views.takes.live import HearLive
from diaulos.app.views.takes.tuner_ear import TunerEar
from diaulos.app.views.takes.tuning import Ready
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.app.widgets.labels import tip
from diaulos.errors import CancelledError
from diaulos.figures import LevelFigures, clock, counted, number, typeset
from diaulos.rig.model import PortRef
from diaulos.session import edits, take_edits
from diaulos.session.model import Doubt, Session, Take
from diaulos.session.roles import recording_rig
from diaulos.work.listening.heard import Tried, heard_otherwise
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.levels import TARGET_BAND_DB, levels_of
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.stored import stored_of
from diaulos.work.takes.impulses import load_impulses
from diaulos.work.takes.proving import doubt_words, doubts_edit, prove_take, proving_of
from diaulos.work.takes.ready import armed_tracks, checklist, recordable_tracks, sides_of
from diaulos.work.takes.recording import Recorded, Recording, RecordRequest
from diaulos.work.takes.sides import same_sides, same_words

REPORT_DELAY_MS = 30


def _merged(take: Take) -> str:
    """What is found of a take is one step of undo with the take."""
    return f"recorded {take.id}"


class TakesView(TakesHunting):
    """One view. It asks the document for edits and the jobs for work."""

    ident = "takes"
    draws_courses = True
    takes_first = True

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        document, jobs = context.document, context.jobs
        self._store = store = document.store
        self.ready: Ready | None = None
        self._ready_for: object = None
        self._again = False
        self._then_record = False
        self._early = False
        """Whether Space was pressed before the rig was looked at."""
        self._tuned_port: PortRef | None = None
        self._now = self._before = ""
        """The take that is chosen and the one before it, by id."""
        self.capture = Capture(
            jobs, lambda: self._services, store,
            lambda: self.ready.armed_rows if self.ready is not None else (), self,
        )  # fmt: skip
        self.ear = TunerEar(jobs, lambda: self._services, self)
        self.hunt_ear = HuntEar(jobs, self)
        self._build()
        self.live = HearLive(
            self.live_row, jobs, self._services, store, context.preferences, self
        )  # fmt: skip
        self.cabinet_desk = CabinetDesk(self.cabinets, document, jobs, self._services, self)
        self._wire()

    def begin(self) -> None:
        """Show the session for the first time."""
        self._on_changed(None, self._document.session)

    def _wire(self) -> None:
        self._rest = InTurn(self)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REPORT_DELAY_MS)
        self._timer.timeout.connect(self._ask_ready)
        self._document.changed.connect(self._on_changed)
        self._jobs.idle.connect(self._say)
        self.record_button.clicked.connect(self.toggle_record)
        self.setup.changed.connect(self._say)
        self.setup.tempo_asked.connect(
            lambda bpm: self._document.apply(edits.set_info(tempo_bpm=bpm), merge="tempo")
        )
        self.setup.metre_asked.connect(
            lambda metre: self._document.apply(edits.set_info(metre=metre))
        )
        self.hand.edit_asked.connect(self._choose_hand)
        self.rigs.asked.connect(self._choose_rig)
        self.capture.told.connect(self.sentence.setText)
        self.capture.metered.connect(self.board.show_rows)
        self.capture.done.connect(self._on_recorded)
        self.capture.failed.connect(self._on_failed)
        self.ear.heard.connect(self.tuner.show_heard)
        self.ear.ended.connect(self._on_ear_ended)
        self.ear.failed.connect(self.problem)
        self.book.chosen_changed.connect(self._on_take)
        self.book.turned.connect(self._on_take)
        self.board.arm_asked.connect(self._arm)
        self.player.mix_button.clicked.connect(self.toggle_mix)
        self.mix.cabinet.clicked.connect(self.toggle_cabinets)
        self.player.said.connect(self.said)
        self.player.problem.connect(self.problem)
        self.player.range_changed.connect(self._say)
        self.noise.check_asked.connect(self.check_noise)
        self.noise.file_asked.connect(self.ask_noise_file)
        self.noise.left.connect(self.toggle_noise)
        self.noise.hunt_asked.connect(self.toggle_hunt)
        self._wire_hunt()
        self.live.said.connect(self.said)
        self.live.failed.connect(self.problem)
        self.tuner.left.connect(self.toggle_tuner)
        self.tuner.problem.connect(self.problem)
        self.tuner.a4_asked.connect(lambda hz: self._document.apply(edits.set_a4(hz), merge="a4"))
        self.tuner.input_asked.connect(self._tune_on)
        self.tuner.own_asked.connect(self._make_own)
        self.tuner.checked.connect(self._keep_check)
        self.tuner.frets.toggled.connect(lambda _on: self._listen_again())
        self.mix.left.connect(self.toggle_mix)
        self.cabinets.left.connect(self.toggle_cabinets)
        self.cabinet_desk.tried.connect(self._try_cabinet)
        self.cabinet_desk.said.connect(self.said)
        self.cabinet_desk.problem.connect(self.problem)
        self.cabinets.subject_asked.connect(lambda _subject: self._alone())
        self.book.keep.clicked.connect(self.keep)
        self.book.recall.clicked.connect(self.recall)
        self.book.discard.clicked.connect(self.discard)
        self.book.restore.clicked.connect(self.restore_chosen)
        self.book.empty.clicked.connect(self.empty_asked)

    @property
    def recording(self) -> Recording | None:
        """The recording that is about to begin, or under way."""
        return self.capture.recording

    @property
    def under_way(self) -> bool:
        """From the key to the take."""
        return self.capture.under_way

    @property
    def settled(self) -> bool:
        """Whether what is armed is that of the session on screen."""
        session = self._document.session
        shown = not self._timer.isActive() and self._rest.done
        return shown and (not session.rigs or self._ready_for is session)

    def take_focus(self) -> None:
        """Where the keyboard goes when the view is shown."""
        self.board.setFocus()
        self._timer.start()
        self.said.emit("Space records and stops, A again, M marks, P plays, K keeps. F1 shows all.")

    def imported(self, take_id: str) -> None:
        """A take came from a file: it is the chosen one."""
        self.takes.choose(take_id)

    def ending(self) -> Ending | None:
        """A recording is ended and kept; the tuner nobody misses."""
        if self.ear.listening:
            return Ending(self.ear.stop)
        if self.hunt_ear.watching or self.hunt_ear.listening:
            return Ending(self.hunt_ear.stop)
        if not self.under_way:
            return None
        return Ending(
            self.stop,
            "A recording is running",
            "Stop it, keep the take and close?",
            "Stop and close",
            "Keep recording",
        )

    def menus(self) -> tuple[tuple[QWidget, tuple[str, ...]], ...]:
        """Of a take, and of one in the bin."""
        return (
            (
                self.book.takes,
                ("play_take", "keep_take", "rate_take", "rename_take", "note_take", "tag_take",
                 "cut_take", "recall", "heard_gain", "discard_take"),
            ),
            (self.book.binned, ("restore_take",)),
        )  # fmt: skip

    def close_down(self) -> None:
        """The session goes: a recording ends, what was written is kept."""
        self._timer.stop()
        self._rest.stop()
        if self._page in (self.tuner, self.hunting):
            self._open(self.board)  # else it would listen again
        self.ear.close_down()
        self.hunt_ear.close_down()
        self.live.stop()
        self.capture.close_down()
        self.player.close_down()

    def hideEvent(self, event: QHideEvent) -> None:
        """Another view: the tuner lets go of its input."""
        listening = self.ear.listening or self._page is self.hunting
        if listening and not event.spontaneous():
            self._open(self.board)
        super().hideEvent(event)

    def _on_changed(self, before: Session | None, after: Session) -> None:
        if before is None or before.takes is not after.takes or (
            before.take_bin is not after.take_bin
        ):  # fmt: skip
            if before is None:
                self.book.show_session(after, breathe)
            else:
                self.book.show_session(after)
            self._on_take()
        elif heard_otherwise(before, after):
            self.player.show_mix(after)
        if self._page is self.cabinets and before is not None:
            self.cabinet_desk.show(self.heard_take)
        if before is None or before.rigs is not after.rigs or _roles(before) != (
            _roles(after)
        ) or before.instruments is not after.instruments or (
            before.disarmed is not after.disarmed
        ):  # fmt: skip
            self._timer.start()
            self.begin_hunt()  # of another rig
        else:
            self._ready_for = after
        self.setup.show_session(after, not self._document.read_only)
        self.hand.show_session(after, not self._document.read_only)
        self._show_rig()
        if self._page is self.tuner:
            self._show_tuning()
        self._say()

    def _ask_ready(self) -> None:
        """What is armed is worked out beside the window."""
        session = self._document.session
        if not session.rigs:
            return
        store = self._store

        def work(progress: Progress, cancel: CancelToken) -> Ready:
            stored = stored_of(session, store)
            rig = recording_rig(session).id
            report = look_at(session, rig, stored)
            armed = armed_tracks(session, report)
            off = session.disarmed.get(rig, ())
            levels = {one.track: one.diagram for one in levels_of(session, rig, stored)}
            rows = []
            for one in recordable_tracks(report):
                diagram = levels.get(one.port)
                if diagram is None:
                    continue
                end = diagram.track
                target = session.target_peak_dbfs
                figures = LevelFigures(
                    "dBFS", end.noise, 0.0, end.peak, end.typical,
                    (target - TARGET_BAND_DB, target + TARGET_BAND_DB),
                )  # fmt: skip
                held = end.peak
                rows.append(
                    BoardRow(str(one.port), one.name, one.tap, figures, held,
                             armed=one.port not in off)
                )  # fmt: skip
            lines = checklist(session, rig, store.free_bytes(), stored=stored)
            return Ready(armed, lines, tuple(rows), report)

        def done(ready: Ready) -> None:
            if session is not self._document.session:
                self._timer.start()
                return
            self.ready, self._ready_for = ready, session
            self._show_ready()
            if ready.report is not None:
                self.live.show(session, ready.armed, ready.report)
            if self._page is self.tuner:
                self._show_tuning()
                if not any(one.port == self._tuned_port for one in ready.armed):
                    self._listen_again()  # another input
            if self._early:
                self._early = False
                self.record()

        self._jobs.start(Job("takes", work, done, self.problem.emit, background=True))

    def _show_ready(self) -> None:
        ready = self.ready
        if ready is None:
            return
        self.setup.show_pairs(bool(sides_of(ready.armed)))
        missing = [one for one in ready.lines if not one.holds]
        told = [f"{one.otherwise}. {one.remedy}" for one in missing]
        self.conditions.setText(typeset(" ".join(told)))
        self.conditions.setProperty("role", "problem" if any(m.must for m in missing) else "muted")
        self.conditions.style().polish(self.conditions)
        self.conditions.setToolTip(
            tip(
                "\n".join(
                    one.words if one.holds else f"NOT YET: {one.otherwise}" for one in ready.lines
                )
            )
        )
        self.conditions.setVisible(bool(missing) and not self.board.far)
        rows = [
            CourseRow(row.name, row.tap, row.name, f"planned peak {number(row.held_dbfs)} dBFS",
                      "armed" if row.armed else "not armed")
            for row in ready.rows
        ]  # fmt: skip
        self._tell_strip(tuple(rows), "")
        self._say()
        # When the rest has its place: it is drawn anew in every size.
        self._rest.begin((self._show_board,))

    def _show_board(self) -> None:
        ready = self.ready
        if ready is not None and not self.under_way:
            message = (
                "Nothing is armed: no planned track of this rig starts at an instrument. "
                "Choose another rig above, or choose this one in Rig (Ctrl+2) and plan its "
                "tracks (T)."
            )
            self.board.show_rows(ready.rows, message)

    def _say(self) -> None:
        """One sentence: what is happening, and which key comes next."""
        if self.under_way:
            return  # told with the meters
        ready = self.ready
        writable = not self._document.read_only
        must = [one for one in ready.lines if one.must and not one.holds] if ready else []
        missing = self.setup.missing(self.take, self.stretch)
        if not writable:
            text = "Read-only: nothing can be recorded here. P plays the chosen take."
        elif self.ear.listening:
            text = "Listening. 1 to 9 choose a string, F checks intonation, T closes."
        elif self._page is self.hunting:
            text = "Hunting a noise. H listens, Q goes back."
        elif ready is None:
            text = "Looking at the rig\N{HORIZONTAL ELLIPSIS}"
        elif must:
            text = "Not ready: see above."
        elif missing:
            text = missing
        else:
            open_ = [one for one in ready.lines if not one.holds]
            told = bool(open_) and not self.board.far
            remarks = f", {counted(len(open_), 'warning')}" if told else ""
            tracks = counted(len(ready.armed), "track")
            text = f"Ready{remarks}, {tracks} armed. Space records."
        self.sentence.setText(text)
        session = self._document.session
        rig = recording_rig(session).name if session.rigs else ""
        self.sentence.setToolTip(tip(f"Recorded with the rig {rig}. Another one: Ctrl+2."))
        able = writable and ready is not None and not must and not missing
        self.record_button.setEnabled(able and (self._gives_way or not self._jobs.busy))
        self.record_button.setText("Record (Space)")
        self.book.enable(writable, self.take)

    @property
    def _gives_way(self) -> bool:
        """Whether what listens lets go of its input for a take."""
        return self.ear.listening or self.hunt_ear.watching

    def device_changed(self) -> None:
        """What is heard live ends; a hunt listens by the device that is chosen now."""
        self.live.stop()
        if self.ready is not None and self.ready.report is not None:
            self.live.show(self._document.session, self.ready.armed, self.ready.report)
        if self._page is self.hunting:
            self.begin_hunt()
            self._watch_again()

    def hear_live(self) -> None:
        """Hear what is chosen live, or not any more."""
        if self.under_way and self.live.on:
            self.said.emit("Not while it records: it may be what the other program hears.")
            return
        self.live.toggle()

    # --- recording ---

    def toggle_record(self) -> None:
        """Record, or stop."""
        if self.under_way:
            self.stop()
        else:
            self.record()

    def record(self) -> None:
        """All armed tracks, on the same sample; the tuner lets go of its input first."""
        if self.ear.listening:
            self._then_record = True
            self.toggle_tuner()
            return
        if self.hunt_ear.watching:
            self._then_record = True
            self.toggle_hunt()
            return
        if self._jobs.refuse_if_busy():
            return
        if self._document.read_only:
            self.said.emit("The session is read-only: nothing can be recorded here.")
            return
        if self.ready is None:
            self._wait_to_record()
            return
        missing = self.setup.missing(self.take, self.stretch)
        if missing:
            self.said.emit(missing)
            return
        self._open(self.board)
        request = self._request(self._document.session)
        if self.capture.start(request):
            self.sentence.setText("Getting ready\N{HORIZONTAL ELLIPSIS} Space stops.")
            self.record_button.setText("Stop (Space)")

    def _request(self, session: Session) -> RecordRequest:
        """What to record, and over what."""
        return self.setup.request(
            session, self.take, self.stretch, self.mix.soloed, self._services.way_round(),
            float(self.player.level.value()),
        )  # fmt: skip

    def _show_rig(self) -> None:
        session = self._document.session
        chosen = recording_rig(session).id if session.rigs else ""
        self.rigs.show_rigs(session, chosen, not self._document.read_only)

    def _choose_rig(self, rig_id: str) -> None:
        """Another rig to record with; not while one is recorded with."""
        if self.under_way:
            self.said.emit("Stop first: the take keeps the rig that it began with.")
            self._show_rig()
            return
        self._document.apply(edits.choose_recording_rig(rig_id))

    def _choose_hand(self, edit: edits.Edit) -> None:
        """Another instrument in hand, or a word about its trim; not while it is recorded."""
        if self.under_way:
            self.said.emit("Stop first: what is recorded keeps the instrument that it began with.")
            self.hand.show_again(self._document.session, not self._document.read_only)
            return
        self._document.apply(edit)

    def _arm(self, key: str) -> None:
        """The switch of one track."""
        session = self._document.session
        row = next((one for one in (self.ready.rows if self.ready else ()) if one.key == key), None)
        if row is None or self.under_way:
            return
        rig = recording_rig(session)
        port = next(one.port for one in rig.tracks if str(one.port) == key)
        self._document.apply(edits.arm(rig.id, [port], not row.armed))

    def arm_all(self) -> None:
        """Every planned track is recorded."""
        self._arm_each(True)

    def arm_none(self) -> None:
        """No track is recorded: to arm one alone."""
        self._arm_each(False)

    def _arm_each(self, on: bool) -> None:
        if not self.under_way and self._document.session.rigs:
            rig = recording_rig(self._document.session)
            ports = [one.port for one in rig.tracks]
            self._document.apply(edits.arm(rig.id, ports, on))

    def next_way(self) -> None:
        """Another recording mode."""
        if not self.under_way:
            self.said.emit(self.setup.next_way())

    def _wait_to_record(self) -> None:
        """A key that was pressed early holds: it records as soon as the rig is looked at. Pressed
        again, or by Esc or another view, it does not."""
        if not self._document.session.rigs:
            self.said.emit("This session has no rig yet. Ctrl+2 makes one.")
            return
        self._early = not self._early
        self.said.emit(
            "The rig is looked at; then it records. Esc does not."
            if self._early
            else "Nothing is recorded."
        )

    def leave(self) -> None:
        """Another view is shown."""
        self._early = False

    def escape(self) -> None:
        """Esc was pressed while no job runs."""
        if self._early:
            self._wait_to_record()

    def stop(self) -> None:
        """End the recording; it becomes a take."""
        self.capture.stop()

    def again(self) -> None:
        """End this one into the bin and begin anew at once."""
        if not self.under_way:
            self.record()
            return
        self._again = True
        self.stop()

    def mark(self) -> None:
        """Mark this moment of the take."""
        frame = self.capture.mark()
        if frame is None:
            self.said.emit("M marks a moment while it records.")
            return
        rate = self._document.session.sample_rate_hz
        self.said.emit(f"Marked at {clock(frame / rate)}.")

    def _on_recorded(self, done: Recorded) -> None:
        # The note beside its files stays until the session is saved: the journal is written in
        # a thread of its own, and a death before that must not lose the take.
        over, way = self.take, self.setup.chosen
        if self._document.apply(done.edit, journal=True, merge=_merged(done.take)):
            self._prove(done)
            if way not in ("loop", "punch") or over is None:
                self.takes.choose(done.take.id)
            self.said.emit(done.words)
            if done.result.stopped_by is not None:
                self.problem.emit(done.result.stopped_by)
        self._show_ready()
        if self._again:
            self._again = False
            for one in done.takes:
                self._document.apply(take_edits.discard_take(one.id), journal=True)
            self.record()

    def _prove(self, done: Recorded) -> None:
        """Whether every track of the new takes is what it says: told, and kept with them."""
        document, store = self._document, self._document.store
        session = document.session

        def work(
            progress: Progress, cancel: CancelToken
        ) -> tuple[dict[str, tuple[Doubt, ...]], str]:
            stored, impulses = stored_of(session, store), load_impulses(session, store)
            found: dict[str, tuple[Doubt, ...]] = {}
            same = ""
            # Of many rounds the first and the last: nobody replugs in between.
            for take in (*done.takes[:1], *done.takes[1:][-1:]):
                proving = proving_of(session, take, stored, impulses)
                if proving is not None:
                    found[take.id] = prove_take(proving, take, store, cancel.check)
                    same = same_words(same_sides(proving, store))
            return found, same

        def told(result: tuple[dict[str, tuple[Doubt, ...]], str]) -> None:
            found, same = result
            if same:
                self.said.emit(same)
            known = {take.id: take for take in document.session.takes}
            for ident, doubts in found.items():
                if doubts and ident in known:
                    take = known[ident]
                    document.apply(
                        doubts_edit(take, doubts), journal=True, merge=_merged(done.take)
                    )
                    self.said.emit(f"{take.name}: {doubt_words(doubts)}")

        self._jobs.start(
            Job(f"proof of {done.take.id}", work, told, self.problem.emit, background=True)
        )

    def _on_failed(self, error: Exception) -> None:
        self._show_ready()
        self._again = False
        if isinstance(error, CancelledError):
            self.said.emit(error.what)
        else:
            self.problem.emit(error)

    def toggle_mix(self) -> None:
        """The monitor mix of the chosen take."""
        if self._toggle(self.mix, self.mix.back, "1 to 9 solo a track, X goes back."):
            self.mix.take_focus()

    def toggle_cabinets(self) -> None:
        """Cabinets for a track of the chosen take, or the body again."""
        if self._page is not self.cabinets and self.take is None:
            self.said.emit("Choose a take first.")
            return
        words = (
            "Up and Down step, 1 to 9 and 0 change between those in place, P plays, Z goes back."
        )
        if self._toggle(self.cabinets, self.cabinets.table, words):
            self.cabinet_desk.show(self.heard_take)
            self._alone()
        self._say()

    def _alone(self) -> None:
        """What gets the cabinet is heard by itself."""
        subject = self.cabinets.chosen_subject
        if subject is not None:
            self.mix.hear_alone(subject.files)

    def _try_cabinet(self, tried: Tried) -> None:
        self.player.try_on(tried)

    def toggle_far(self) -> None:
        """Readable at two metres, or near again."""
        far = not self.board.far
        self._open(self.board)
        self.board.set_far(far)
        for widget in (self.setup, self.conditions, self.player, self.book):
            widget.setVisible(not far)
        self.sentence.setProperty("role", "far" if far else "headline")
        self.sentence.style().polish(self.sentence)
        self.board.setFocus()
        self._show_ready()
        self.said.emit("V comes near again." if far else "")

    # --- the chosen take ---

    def other_take(self) -> None:
        """Back to the take that was chosen before, at the same place, and on from there: with a
        trim or a pad against without, by one key."""
        if self.under_way:
            return
        session = self._document.session
        other = next((one for one in session.takes if one.id == self._before), None)
        if other is None or self.book.in_bin:
            self.said.emit("Choose two takes, one after the other; J then goes back and forth.")
            return
        at, playing = self.player.sound.position, self.player.sound.playing
        self.takes.choose(other.id)
        self.player.go_on(min(at, max(track.frames for track in other.tracks)), playing)
        self.said.emit(f"{other.name}. J goes back.")

    def _on_take(self) -> None:
        take = self.take
        if take is not None and take.id != self._now:
            self._before, self._now = self._now, take.id
        self.book.show_about(self._document.session, take)
        self.player.show_take(self._document.session, self.heard_take)
        if self._page is self.cabinets:
            self.cabinet_desk.show(self.heard_take)
        self._ask_culprit()
        self._say()

    def toggle_play(self) -> None:
        """Play the chosen take as it is mixed, or pause."""
        if not self.under_way:
            self.player.toggle_play()


def _roles(session: Session) -> tuple[str, str]:
    """What says which rig records."""
    return session.current_rig, session.recording_rig
