"""A recording as the window sees it: begun by one key, told thirty times a second, ended."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from queue import SimpleQueue

from PySide6.QtCore import QObject, QTimer, Signal

from diaulos.app.jobs import Job, Jobs
from diaulos.app.services import Services
from diaulos.app.views.takes.board import BoardRow
from diaulos.errors import EditError, StorageError
from diaulos.figures import LevelFigures, clock
from diaulos.session.model import Doubt
from diaulos.work.capture.recorder import Meters
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.stored import stored_of
from diaulos.work.takes.impulses import load_impulses
from diaulos.work.takes.notes import RecordingStore
from diaulos.work.takes.proving import PROVED_S, doubt_words, opening_of
from diaulos.work.takes.recording import Recorded, Recording, RecordRequest, prepare

METERS_MS = 33
WRITTEN_S = 1.0
"""What is written can be read that much later: a file's header is refreshed twice a second."""
SAVING = "Saving the take\N{HORIZONTAL ELLIPSIS}"
MOST_MINUTES = 999.0


def _minutes(minutes: float) -> str:
    more = "more than " if minutes > MOST_MINUTES else ""
    return f"{more}{min(MOST_MINUTES, minutes):.0f} min"


class Capture(QObject):
    """One recording at a time. Getting ready takes a moment: it is done beside the window,
    which gets the recording when it is about to begin."""

    told = Signal(str)
    metered = Signal(object)
    done = Signal(object)
    failed = Signal(object)
    doubted = Signal(object)
    """What is doubtful of the first seconds, while it goes on."""

    def __init__(
        self, jobs: Jobs, services: Callable[[], Services], store: RecordingStore,
        planned: Callable[[], tuple[BoardRow, ...]], parent: QObject,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self._jobs, self._services, self._store = jobs, services, store
        self._planned = planned
        self.recording: Recording | None = None
        """Once it is about to begin."""
        self.under_way = False
        """From the key to the take."""
        self._stopping = False
        self._proving = False
        self._doubts = ""
        self._started: SimpleQueue[Recording] = SimpleQueue()
        self._timer = QTimer(self)
        self._timer.setInterval(METERS_MS)
        self._timer.timeout.connect(self._on_meters)

    def start(self, request: RecordRequest) -> bool:
        """Begin; False where another job is under way."""
        services = self._services()
        store, source, clock_ = self._store, services.record_from, services.clock
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
        self._proving, self._doubts = False, ""
        self.under_way = True
        if not self._jobs.start(
            Job("Recording", work, self._on_done, self._on_failed, captures=True, keeps=True)
        ):
            self._ended()
            return False
        self._timer.start()
        return True

    def stop(self) -> None:
        """End it; it becomes a take."""
        if self.recording is not None:
            self._stopping = True
            self.told.emit(SAVING)
            self.recording.recorder.stop()
        elif self.under_way:
            self._jobs.cancel()

    def mark(self) -> int | None:
        """Mark this moment; its frame, None while nothing is recorded."""
        return None if self.recording is None else self.recording.recorder.mark()

    def close_down(self) -> None:
        """The session goes: a recording ends, what was written is kept."""
        self._timer.stop()
        self.stop()

    def _ended(self) -> None:
        self._timer.stop()
        self.recording, self.under_way = None, False
        self._stopping = False

    def _on_done(self, recorded: Recorded) -> None:
        self._ended()
        self.done.emit(recorded)

    def _on_failed(self, error: Exception) -> None:
        self._ended()
        self.failed.emit(error)

    def _on_meters(self) -> None:
        if self.recording is None and not self._started.empty():
            self.recording = self._started.get()
        recording = self.recording
        if recording is None:
            return
        meters = recording.recorder.meters
        if meters is not None:
            self.metered.emit(self._rows(recording, meters))
            self._prove_opening(recording, meters.frame)
        self.told.emit(SAVING if self._stopping else self._sentence(recording, meters))

    def _prove_opening(self, recording: Recording, written: int) -> None:
        """Once the first seconds are in the files: whether every track is what it says."""
        rate = recording.request.session.sample_rate_hz
        if self._proving or written < (PROVED_S + WRITTEN_S) * rate:
            return
        self._proving = True
        store = self._store
        count = round(PROVED_S * rate)

        def work(progress: Progress, cancel: CancelToken) -> tuple[Doubt, ...] | None:
            session = recording.request.session
            impulses = load_impulses(session, store)
            proving = opening_of(recording, stored_of(session, store), impulses)
            if proving is None:
                return ()
            if not proving.written(store, count):
                return None
            return proving.stretch(store, 0, count, cancel.check)

        def told(doubts: tuple[Doubt, ...] | None) -> None:
            if doubts is None:
                self._proving = False  # the files' headers are behind: once more
            elif self.recording is recording:
                self._doubts = doubt_words(doubts)
                self.doubted.emit(doubts)

        # What fails here fails again at the end of the take, and is told then: no question comes
        # up over somebody's playing.
        self._jobs.start(Job("proof", work, told, lambda error: None, background=True))

    def _sentence(self, recording: Recording, meters: Meters | None) -> str:
        rate = recording.request.session.sample_rate_hz
        frame = recording.recorder.captured_frames
        if frame == 0:
            ahead = "Count-in" if recording.times.count_in else "Pre-roll"
            return f"{ahead}. Space stops."
        text = f"Recording {clock(frame / rate)}"
        if recording.frames is not None:
            text += f" of {clock(recording.frames / rate)}"
        if recording.round_frames:
            text += f", round {frame // recording.round_frames + 1}"
        with contextlib.suppress(StorageError):  # the folder is gone: the desk tells it, once
            minutes = self._store.free_bytes() / (len(recording.armed) * 3.0 * rate * 60.0)
            text += f", disk space for {_minutes(minutes)}"
        if meters is not None and (meters.lost_frames or meters.xruns):
            text += f", {meters.xruns} xruns, {meters.lost_frames} frames lost"
        if recording.unmeasured:
            text += ", in time by the driver's claim"
        if self._doubts:
            text += f". {self._doubts.rstrip('.')}"
        return f"{text}. Space stops, M marks, A again."

    def _rows(self, recording: Recording, meters: Meters) -> tuple[BoardRow, ...]:
        planned = {row.key: row for row in self._planned()}
        rate = recording.request.session.sample_rate_hz
        rows = []
        for one, meter in zip(recording.armed, meters.tracks, strict=True):
            plan = planned.get(str(one.port))
            floor = plan.figures.floor if plan is not None else -110.0
            target = plan.figures.target if plan is not None else None
            peak = max(min(0.0, meter.peak_dbfs), -150.0)
            figures = LevelFigures("dBFS", floor, 0.0, peak, max(-150.0, meter.rms_dbfs), target)
            held = max(-150.0, min(0.0, meter.held_dbfs))
            last = "" if meter.last_clip is None else f"last {clock(meter.last_clip / rate)}"
            rows.append(
                BoardRow(str(one.port), one.name, one.tap, figures, held, meter.clips, True, last)
            )
        return tuple(rows)
