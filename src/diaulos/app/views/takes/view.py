"""The Takes view: one key records, everything is remembered.

The level windows of the armed tracks are the body. Takes stand at the right, the waveform
of the chosen one below; one sentence at the foot says what is happening and which key comes
next.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from queue import SimpleQueue

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QPushButton,
    QSizePolicy,
    QSlider,
    QSpinBox,
    QSplitter,
    QStackedLayout,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.document import Document
from diaulos.app.figures import clock, counted, number, typeset
from diaulos.app.jobs import Job, Jobs
from diaulos.app.services import Services
from diaulos.app.views.takes.board import Board, BoardRow
from diaulos.app.views.takes.noise import NoisePanel
from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.app.widgets.level_window import LevelFigures
from diaulos.app.widgets.marks import TAP_TOKENS
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.waveform import Trace, Waveform
from diaulos.errors import CancelledError, DiaulosError, EditError, InputError
from diaulos.session import take_edits
from diaulos.session.model import Session, Take, Track
from diaulos.session.take_edits import differences_since
from diaulos.signal.overview import Overview
from diaulos.work.levels import levels_of
from diaulos.work.listening import LOUDEST_LEVEL_DB, START_LEVEL_DB, Channel, Player
from diaulos.work.overviews import overview_of
from diaulos.work.ports import AudioSource, CancelToken, Progress
from diaulos.work.recording.noisecheck import Attempt, check_noise
from diaulos.work.recording.notes import RecordingStore
from diaulos.work.recording.over import Over
from diaulos.work.recording.ready import Armed, Condition, armed_tracks, checklist
from diaulos.work.recording.recorder import Meters
from diaulos.work.recording.takes import Recorded, Recording, RecordRequest, prepare
from diaulos.work.rig import look_at

METERS_MS = 33
REPORT_DELAY_MS = 30
STARS = ("", "1 of 5", "2 of 5", "3 of 5", "4 of 5", "5 of 5")


def _plain(source: AudioSource, first: int, count: int) -> NDArray[np.float32]:
    """Mono samples of a file, silence outside."""
    out = np.zeros(count, np.float32)
    start, stop = max(0, first), min(source.frames, first + count)
    at = start - first
    if stop > start:
        for block in source.blocks(first=start, count=stop - start):
            out[at : at + block.shape[0]] = block[:, 0]
            at += block.shape[0]
    return out


class _Ready:
    """What is armed and what must be true, with the levels as planned."""

    def __init__(
        self, armed: tuple[Armed, ...], lines: tuple[Condition, ...], rows: tuple[BoardRow, ...]
    ) -> None:
        self.armed, self.lines, self.rows = armed, lines, rows


class TakesView(QWidget):
    """One view. It asks the document for edits and the jobs for work."""

    ident = "takes"
    said = Signal(str)
    problem = Signal(object)
    courses_changed = Signal(object, str)

    def __init__(
        self,
        document: Document,
        jobs: Jobs,
        services: Services,
        store: RecordingStore,
        levels_db: dict[str, float],
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._document, self._jobs, self._services = document, jobs, services
        self._store = store
        self.ready: _Ready | None = None
        self._ready_for: object = None
        self.recording: Recording | None = None
        """Once it is about to begin."""
        self.under_way = False
        """From the key to the take."""
        self._started: SimpleQueue[Recording] = SimpleQueue()
        self._again = False
        self._overviews: dict[str, Overview] = {}
        self.player = Player(services.output, document.session.sample_rate_hz, levels_db)
        self._build()
        self._wire()
        self._on_changed(None, document.session)

    # --- building ---

    def _build(self) -> None:
        self.conditions = QLabel()
        self.conditions.setWordWrap(True)
        self.conditions.setAccessibleName("What must be true now")
        self.bars = QSpinBox()
        self.bars.setRange(0, 999)
        self.bars.setSpecialValueText("until stopped")
        self.bars.setPrefix("bars: ")
        self.bars.setAccessibleName("Length of the take")
        self.count_in = QSpinBox()
        self.count_in.setRange(0, 8)
        self.count_in.setValue(1)
        self.count_in.setSpecialValueText("no count-in")
        self.count_in.setPrefix("count-in, bars: ")
        self.count_in.setAccessibleName("Count-in")
        self.click = QCheckBox("Click")
        self.click.setToolTip("Also while it records; the count-in clicks by itself")
        self.along = QCheckBox("Play the chosen take along")
        self.along.setToolTip("Overdub: the round trip is taken out, so that it lands in time")
        self.record_button = QPushButton("Record (Space)")
        self.record_button.setProperty("main", "true")
        self.board = Board()
        self.noise = NoisePanel()
        self.takes = Table("Takes", ("", "Take", "Length", "Peak"), 1, {0: 58, 2: 62, 3: 62})
        self.wave = Waveform()
        self.wave.set_empty_text("Choose a take to see its waveform.")
        self.plot = self.wave
        self.track = combo("Track to hear and see", least=12)
        self.play_button = QPushButton("Play (P)")
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setRange(-60, int(LOUDEST_LEVEL_DB))
        self.level.setValue(int(START_LEVEL_DB))
        self.level.setFixedWidth(110)
        self.level.setAccessibleName("Listening level in dB")
        self.keep_button = QPushButton("Keeper (K)")
        self.recall_button = QPushButton("Recall (C)")
        self.discard_button = QPushButton("Discard (Del)")
        self.about = QLabel()
        self.about.setWordWrap(True)
        self.about.setProperty("role", "muted")
        self.about.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Minimum)
        self.about.setAccessibleName("About the chosen take")
        self.sentence = QLabel()
        self.sentence.setProperty("role", "headline")
        self.sentence.setAccessibleName("What is happening")
        # A new second must not lay the whole view out again.
        self.sentence.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self._place()

    def _place(self) -> None:
        top = QHBoxLayout()
        top.setSpacing(8)
        top.addWidget(self.record_button)
        for widget in (self.bars, self.count_in, self.click, self.along):
            top.addWidget(widget)
        top.addStretch(1)
        near = QWidget()
        body = QVBoxLayout(near)
        body.setContentsMargins(0, 0, 0, 0)
        body.addWidget(self.board, 1)
        below = QHBoxLayout()
        below.addWidget(self.track)
        below.addWidget(self.play_button)
        below.addStretch(1)
        label = QLabel("Level")
        below.addWidget(label)
        label.setBuddy(self.level)
        below.addWidget(self.level)
        body.addLayout(below)
        self.wave.setFixedHeight(132)
        body.addWidget(self.wave)
        left = QWidget()
        self._stack = QStackedLayout(left)
        self._stack.addWidget(near)
        self._stack.addWidget(self.noise)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(6, 0, 0, 0)
        column.addWidget(self.takes, 1)
        column.addWidget(self.about)
        buttons = QHBoxLayout()
        for button in (self.keep_button, self.recall_button, self.discard_button):
            buttons.addWidget(button)
        column.addLayout(buttons)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.setChildrenCollapsible(False)
        split.addWidget(left)
        split.addWidget(right)
        split.setStretchFactor(0, 1)
        split.setSizes([800, 370])
        whole = QVBoxLayout(self)
        whole.setContentsMargins(8, 6, 8, 6)
        whole.setSpacing(4)
        whole.addLayout(top)
        whole.addWidget(self.conditions)
        whole.addWidget(split, 1)
        whole.addWidget(self.sentence)

    def _wire(self) -> None:
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REPORT_DELAY_MS)
        self._timer.timeout.connect(self._ask_ready)
        self._meters = QTimer(self)
        self._meters.setInterval(METERS_MS)
        self._meters.timeout.connect(self._on_meters)
        self._tick = QTimer(self)
        self._tick.setInterval(50)
        self._tick.timeout.connect(self._on_tick)
        self._document.changed.connect(self._on_changed)
        self._jobs.idle.connect(self._say)
        self.record_button.clicked.connect(self.toggle_record)
        self.takes.currentCellChanged.connect(lambda *_: self._on_take())
        self.track.activated.connect(lambda _i: self._show_wave())
        self.play_button.clicked.connect(self.toggle_play)
        self.level.valueChanged.connect(lambda value: self.player.set_level(float(value)))
        self.noise.check_asked.connect(self.check_noise)
        self.noise.left.connect(self.toggle_noise)
        self.keep_button.clicked.connect(self.keep)
        self.recall_button.clicked.connect(self.recall)
        self.discard_button.clicked.connect(self.discard)

    # --- what is shown ---

    @property
    def settled(self) -> bool:
        """Whether what is armed is that of the session on screen."""
        session = self._document.session
        return not self._timer.isActive() and (not session.rigs or self._ready_for is session)

    @property
    def take(self) -> Take | None:
        """The chosen take."""
        key = self.takes.chosen()
        return next((one for one in self._document.session.takes if one.id == key), None)

    def take_focus(self) -> None:
        """Where the keyboard goes when the view is shown."""
        self.board.setFocus()
        self._timer.start()
        self.said.emit("Space records and stops, A again, M marks, P plays, K keeps. F1 shows all.")

    def close_down(self) -> None:
        """The session goes: a recording ends, what was written is kept."""
        self._timer.stop()
        self._tick.stop()
        self._meters.stop()
        self.stop()
        self.player.close()

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.PaletteChange:
            self._show_takes(self._document.session)
        super().changeEvent(event)

    def _on_changed(self, before: Session | None, after: Session) -> None:
        if before is None or before.takes is not after.takes:
            self._show_takes(after)
        if before is None or before.rigs is not after.rigs or before.current_rig != (
            after.current_rig
        ) or before.instruments is not after.instruments:  # fmt: skip
            self._timer.start()
        else:
            self._ready_for = after
        self._say()

    def _show_takes(self, session: Session) -> None:
        rate = session.sample_rate_hz
        rows = []
        for one in reversed(session.takes):
            peak = max(track.peak_dbfs for track in one.tracks)
            clipped = any(track.clipped_samples for track in one.tracks)
            mark = ("keep " if one.keeper else "") + ("*" * one.rating)
            rows.append(
                (
                    one.id,
                    (
                        Cell(mark, STARS[one.rating], bold=one.keeper, sort=float(one.rating)),
                        Cell(one.name, bold=one.keeper),
                        Cell(clock(one.tracks[0].frames / rate), figure=True,
                             sort=float(one.tracks[0].frames)),
                        Cell("CLIPS" if clipped else number(min(0.0, peak)), figure=True,
                             sort=peak, token="danger" if clipped else ""),
                    ),
                )
            )  # fmt: skip
        self.takes.show_rows(rows)
        self._on_take()

    def _ask_ready(self) -> None:
        """What is armed is worked out beside the window."""
        session = self._document.session
        if not session.rigs:
            return
        store = self._store

        def work(progress: Progress, cancel: CancelToken) -> _Ready:
            report = look_at(session)
            armed = armed_tracks(report)
            levels = {one.track: one.diagram for one in levels_of(session)}
            rows = []
            for one in armed:
                diagram = levels.get(one.port)
                if diagram is None:
                    continue
                end = diagram.track
                target = session.target_peak_dbfs
                figures = LevelFigures(
                    "dBFS", end.noise, 0.0, min(0.0, end.peak), min(0.0, end.typical),
                    (target - 1.0, target + 1.0),
                )  # fmt: skip
                held = min(0.0, end.peak)
                rows.append(BoardRow(str(one.port), one.name, one.tap, figures, held))
            return _Ready(armed, checklist(session, "", store.free_bytes()), tuple(rows))

        def done(ready: _Ready) -> None:
            if session is not self._document.session:
                self._timer.start()
                return
            self.ready, self._ready_for = ready, session
            self._show_ready()

        if not self._jobs.start(Job("takes", work, done, self.problem.emit, background=True)):
            self._timer.start()

    def _show_ready(self) -> None:
        ready = self.ready
        if ready is None:
            return
        if not self.under_way:
            message = "Nothing is armed: no planned track starts at an instrument. Ctrl+2, then T."
            self.board.show_rows(ready.rows, message)
        missing = [one for one in ready.lines if not one.holds]
        told = [f"{one.otherwise}. {one.remedy}" for one in missing]
        self.conditions.setText(typeset(" ".join(told)))
        self.conditions.setProperty("role", "problem" if any(m.must for m in missing) else "muted")
        self.conditions.style().polish(self.conditions)
        self.conditions.setToolTip(
            "\n".join(
                one.words if one.holds else f"NOT YET: {one.otherwise}" for one in ready.lines
            )
        )
        self.conditions.setVisible(bool(missing))
        rows = [
            CourseRow(row.name, row.tap, row.name, f"planned peak {number(row.held_dbfs):>6} dBFS",
                      "armed")
            for row in ready.rows
        ]  # fmt: skip
        self.courses_changed.emit(tuple(rows), "")
        self._say()

    def _say(self) -> None:
        """One sentence: what is happening, and which key comes next."""
        if self.under_way:
            return  # told with the meters
        ready = self.ready
        writable = not self._document.read_only
        must = [one for one in ready.lines if one.must and not one.holds] if ready else []
        if not writable:
            text = "Read-only: nothing can be recorded here. P plays the chosen take."
        elif ready is None:
            text = "Looking at the rig…"
        elif must:
            text = "Not ready: see above."
        else:
            open_ = [one for one in ready.lines if not one.holds]
            remarks = f", {counted(len(open_), 'remark')} above" if open_ else ""
            text = f"Ready{remarks}, {counted(len(ready.armed), 'track')} armed. Space records."
        self.sentence.setText(text)
        able = writable and ready is not None and not must and not self._jobs.busy
        self.record_button.setEnabled(able)
        self.record_button.setText("Record (Space)")
        take = self.take
        for button in (self.keep_button, self.discard_button):
            button.setEnabled(writable and take is not None)
        known = take is not None and bool(take.rig_hash)
        self.recall_button.setEnabled(writable and known)
        self.play_button.setEnabled(take is not None)

    # --- recording ---

    def toggle_record(self) -> None:
        """Record, or stop."""
        if self.under_way:
            self.stop()
        else:
            self.record()

    def record(self) -> None:
        """All armed tracks, on the same sample. Getting ready takes a moment: it is done beside
        the window, which gets the recording when it is about to begin."""
        if self._document.read_only or self.ready is None or self._jobs.busy:
            self.said.emit("Not now: something else is running, or the session is read-only.")
            return
        self.player.pause()
        request = self._request(self._document.session)
        store, source, clock_ = self._store, self._services.record_from, self._services.clock
        started: SimpleQueue[Recording] = SimpleQueue()

        def work(progress: Progress, cancel: CancelToken) -> Recorded:
            recording = prepare(request, store, source, clock_)
            recording.recorder.stop_when(lambda: cancel.cancelled)
            started.put(recording)
            try:
                return recording.run()
            except EditError:
                cancel.check()  # stopped before the first sample: nothing is wrong
                raise

        self._started = started
        self.under_way = True
        if not self._jobs.start(Job("Recording", work, self._on_recorded, self._on_failed)):
            self._ended()
            return
        self.sentence.setText("Getting ready\N{HORIZONTAL ELLIPSIS} Space stops.")
        self.record_button.setText("Stop (Space)")
        self._meters.start()

    def _request(self, session: Session) -> RecordRequest:
        """What to record, and over what."""
        take = self.take
        over = Over(take) if self.along.isChecked() and take is not None else None
        return RecordRequest(
            session,
            bars=self.bars.value() or None,
            count_in_bars=self.count_in.value(),
            click=self.click.isChecked(),
            round_trip_frames=self._services.round_trip_frames if over else 0,
            over=over,
        )

    def stop(self) -> None:
        """End the recording; it becomes a take."""
        if self.recording is not None:
            self.recording.recorder.stop()
        elif self.under_way:
            self._jobs.cancel()

    def again(self) -> None:
        """End this one into the bin and begin anew at once."""
        if not self.under_way:
            self.record()
            return
        self._again = True
        self.stop()

    def mark(self) -> None:
        """Mark this moment of the take."""
        if self.recording is None:
            self.said.emit("M marks a moment while it records.")
            return
        frame = self.recording.recorder.mark()
        rate = self._document.session.sample_rate_hz
        self.said.emit(f"Marked at {clock(frame / rate)}.")

    def _on_recorded(self, done: Recorded) -> None:
        self._ended()
        # The note beside its files stays until the session is saved: the journal is written in
        # a thread of its own, and a death before that must not lose the take.
        if self._document.apply(done.edit, journal=True):
            self.takes.choose(done.take.id)
            self.said.emit(done.words)
            if done.result.stopped_by is not None:
                self.problem.emit(done.result.stopped_by)
        if self._again:
            self._again = False
            self._document.apply(take_edits.discard_take(done.take.id), journal=True)
            self.record()

    def _on_failed(self, error: Exception) -> None:
        self._ended()
        self._again = False
        if isinstance(error, CancelledError):
            self.said.emit(error.what)
        else:
            self.problem.emit(error)

    def _ended(self) -> None:
        self._meters.stop()
        self.recording, self.under_way = None, False
        self._show_ready()
        self._say()

    def _on_meters(self) -> None:
        """Thirty times a second while it records."""
        if self.recording is None and not self._started.empty():
            self.recording = self._started.get()
        recording = self.recording
        if recording is None:
            return
        rate = self._document.session.sample_rate_hz
        meters = recording.recorder.meters
        if meters is not None:
            self.board.show_rows(self._live_rows(recording, meters))
        frame = recording.recorder.captured_frames
        if frame == 0:
            self.sentence.setText("Count-in. Space stops.")
            return
        left = self._store.free_bytes()
        minutes = left / (len(recording.armed) * 3.0 * rate * 60.0)
        text = f"Recording {clock(frame / rate)}"
        if recording.frames is not None:
            text += f" of {clock(recording.frames / rate)}"
        text += f", room for {min(999.0, minutes):.0f} min"
        if meters is not None and (meters.lost_frames or meters.xruns):
            text += f", {meters.xruns} xruns, {meters.lost_frames} frames lost"
        self.sentence.setText(f"{text}. Space stops, M marks, A again.")

    def _live_rows(self, recording: Recording, meters: Meters) -> tuple[BoardRow, ...]:
        planned = {row.key: row for row in self.ready.rows} if self.ready is not None else {}
        rows = []
        for one, meter in zip(recording.armed, meters.tracks, strict=True):
            plan = planned.get(str(one.port))
            floor = plan.figures.floor if plan is not None else -110.0
            target = plan.figures.target if plan is not None else None
            peak = max(min(0.0, meter.peak_dbfs), -150.0)
            figures = LevelFigures("dBFS", floor, 0.0, peak, max(-150.0, meter.rms_dbfs), target)
            held = max(-150.0, min(0.0, meter.held_dbfs))
            rows.append(
                BoardRow(str(one.port), one.name, one.tap, figures, held, meter.clips, True)
            )
        return tuple(rows)

    # --- the noise check ---

    def toggle_noise(self) -> None:
        """The noise check over the body, or the body again."""
        there = self._stack.currentWidget() is self.noise
        self._stack.setCurrentIndex(0 if there else 1)
        (self.board if there else self.noise.listen).setFocus()
        self.said.emit("" if there else "L listens for five seconds, S goes back.")

    def listen(self) -> None:
        """Five seconds of silence, with the label that is typed."""
        if self._stack.currentWidget() is not self.noise:
            self.toggle_noise()
        self.check_noise(self.noise.label.currentText())

    def check_noise(self, label: str) -> None:
        """Another attempt."""
        if self.under_way:
            self.said.emit("Not while it records.")
            return
        session, source = self._document.session, self._services.silence_from

        def work(progress: Progress, cancel: CancelToken) -> Attempt:
            return check_noise(session, source, label, should_stop=lambda: cancel.cancelled)

        if self._jobs.start(Job("Listening to the silence", work, self.noise.add,
                                self.problem.emit)):  # fmt: skip
            self.sentence.setText("Listening to the silence: hold the strings. Esc ends it.")

    # --- the chosen take ---

    def _on_take(self) -> None:
        take = self.take
        names = [(track.name, track.id) for track in take.tracks] if take is not None else []
        shown = [
            (self.track.itemText(i), self.track.itemData(i)) for i in range(self.track.count())
        ]
        if names != shown:
            self.track.clear()
            for name, ident in names:
                self.track.addItem(name, ident)
        self._show_about(take)
        self._show_wave()
        self._say()

    def _show_about(self, take: Take | None) -> None:
        if take is None:
            self.about.setText("No take is chosen." if self._document.session.takes else
                               "No take yet: Space records the first.")  # fmt: skip
            return
        parts = [take.recorded_at.replace("T", " ")]
        if take.rig_name:
            parts.append(take.rig_name)
        clipped = [f"{t.name} {counted(len(t.clips), 'clip')}" for t in take.tracks if t.clips]
        parts += clipped
        if take.marks:
            parts.append(counted(len(take.marks), "mark"))
        if take.cut is not None:
            rate = self._document.session.sample_rate_hz
            parts.append(f"cut to {clock(take.cut[0] / rate)}-{clock(take.cut[1] / rate)}")
        if take.dropouts or take.xruns:
            parts.append(f"{take.xruns} xruns, {len(take.dropouts)} gaps")
        if take.notes:
            parts.append(take.notes)
        differs = differences_since(self._document.session, take) if take.rig_hash else ()
        if differs:
            words = ", ".join(one.words for one in differs[:3])
            parts.append(f"Differs now: {words}{' …' if len(differs) > 3 else ''}")
        self.about.setText(typeset("; ".join(parts) + "."))

    def _show_wave(self) -> None:
        take = self.take
        rate = self._document.session.sample_rate_hz
        if take is None:
            self.wave.set_traces((), 0, rate)
            return
        track = take.track(str(self.track.currentData() or take.tracks[0].id))
        self._hear(take, track)
        known = self._overviews.get(track.file)
        if known is not None:
            self._show_overview(track, known)
            return
        store = self._document.store

        def work(progress: Progress, cancel: CancelToken) -> Overview:
            return overview_of(track.file, store, cancel)

        def done(overview: Overview) -> None:
            self._overviews[track.file] = overview
            here = self.take
            if here is not None and any(one.file == track.file for one in here.tracks):
                self._show_overview(track, overview)

        self._jobs.start(Job("take waveform", work, done, self.problem.emit, background=True))

    def _show_overview(self, track: Track, overview: Overview) -> None:
        try:
            reader = partial(_plain, self._document.store.open_audio(track.file))
        except DiaulosError as error:
            self.problem.emit(error)
            return
        token = TAP_TOKENS.get(track.tap, "ink")
        trace = Trace(track.name, track.tap if token != "ink" else "di", overview, reader)
        self.wave.set_traces((trace,), track.frames, self._document.session.sample_rate_hz)

    def _hear(self, take: Take, track: Track) -> None:
        store = self._document.store
        try:
            channels = tuple(
                Channel(one.id, partial(_plain, store.open_audio(one.file))) for one in take.tracks
            )
        except DiaulosError as error:
            self.problem.emit(error)
            return
        self.player.set_channels(channels, max(one.frames for one in take.tracks))
        self.player.set_loop(take.cut)
        self.wave.set_loop(take.cut)
        self.player.hear({track.id})

    def toggle_play(self) -> None:
        """Play the chosen track, or pause."""
        if self.player.playing:
            self.player.pause()
        elif self.take is not None and not self.under_way:
            self.player.play()
            self.level.setValue(int(self.player.level_db))
            self._tick.start()
        self.play_button.setText("Pause (P)" if self.player.playing else "Play (P)")

    def _on_tick(self) -> None:
        self.wave.set_position(self.player.position)
        if self.player.error is not None:
            error, self.player.error = self.player.error, None
            self.problem.emit(error)
        if not self.player.playing:
            self._tick.stop()
            self.play_button.setText("Play (P)")

    def hear_track(self, number_: int) -> None:
        """The n-th track of the chosen take, counted from 1."""
        if 0 < number_ <= self.track.count():
            self.track.setCurrentIndex(number_ - 1)
            self._show_wave()

    def hear_1(self) -> None:
        self.hear_track(1)

    def hear_2(self) -> None:
        self.hear_track(2)

    def hear_3(self) -> None:
        self.hear_track(3)

    def hear_4(self) -> None:
        self.hear_track(4)

    # --- edits ---

    def _change(self, edit_of: Callable[[Take], object]) -> None:
        take = self.take
        if take is None:
            self.said.emit("Choose a take first.")
            return
        self._document.apply(edit_of(take))  # type: ignore[arg-type]

    def keep(self) -> None:
        """The keeper, or no longer."""
        self._change(lambda take: take_edits.keep_take(take.id, not take.keeper))

    def rate_up(self) -> None:
        """One better; from 5 back to none."""
        self._change(lambda take: take_edits.rate_take(take.id, (take.rating + 1) % 6))

    def discard(self) -> None:
        """Into the bin; Ctrl+Z or the bin brings it back."""
        self._change(lambda take: take_edits.discard_take(take.id))

    def recall(self) -> None:
        """The session's controls as the take had them."""
        self._change(lambda take: take_edits.recall(take.id))

    def rename(self) -> None:
        """Ask for another name."""
        take = self.take
        if take is None:
            return
        name, ok = QInputDialog.getText(self, "Rename take", "Name", text=take.name)
        if ok and name.strip():
            self._document.apply(take_edits.rename_take(take.id, name.strip()))

    def ask_cut(self) -> None:
        """Cut the take to whole bars, or give it back whole; its files stay as they are."""
        take = self.take
        if take is None:
            return
        if take.cut is not None:
            self._document.apply(take_edits.uncut(take.id))
            self.said.emit("The whole take again.")
            return
        text, ok = QInputDialog.getText(
            self, "Cut to bars", "First and last bar, such as 2-5", text="1-4"
        )
        if not ok:
            return
        first, _, last = text.partition("-")
        if not (first.strip().isdecimal() and last.strip().isdecimal()):
            self.problem.emit(InputError(f"{text!r} are no bars.", remedy="Write them like 2-5."))
            return
        bars = int(last) - int(first) + 1
        self._document.apply(take_edits.cut_to_bars(take.id, int(first) - 1, bars))

    def ask_notes(self) -> None:
        """Ask for notes on the take."""
        take = self.take
        if take is None:
            return
        text, ok = QInputDialog.getMultiLineText(self, "Notes", take.name, take.notes)
        if ok:
            self._document.apply(take_edits.note_take(take.id, text.strip()))

    def ask_tags(self) -> None:
        """Ask for tags, by commas."""
        take = self.take
        if take is None:
            return
        text, ok = QInputDialog.getText(self, "Tags", "Tags, by commas", text=", ".join(take.tags))
        if ok:
            tags = tuple(word.strip() for word in text.split(",") if word.strip())
            self._document.apply(take_edits.tag_take(take.id, tags))

    def choose_course(self, name: str) -> None:
        """The track of this name in the chosen take."""
        index = self.track.findText(name)
        if index >= 0:
            self.track.setCurrentIndex(index)
            self._show_wave()
