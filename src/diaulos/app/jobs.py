"""Long work off the UI thread, one job at a time, with progress and Cancel.

A job captures its inputs when it is made, changes nothing, and its result is handed over
on the UI thread.
"""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal

from diaulos.errors import CancelledError
from diaulos.records import dataclass
from diaulos.work.ports import CancelToken, Progress

SWITCH_S = 0.00005
"""How long a worker may keep the interpreter while the window waits. Qt asks the interpreter
at every step of painting (whether we have our own of a method), hundreds of times for one view:
at Python's usual 5 ms that is seconds while a job runs. Two workers lose nothing by it."""

Work = Callable[[Progress, CancelToken], Any]


@dataclass(frozen=True)
class Job:
    """Work with a title and what to do with its result (on the UI thread).

    A `background` job shows no progress bar and gives way: a newer one of the same title
    takes its place. One that `captures` opens an audio stream: playback pauses first. One that
    `keeps` what it has when it is ended early is stopped, not cancelled.
    """

    title: str
    work: Work
    done: Callable[[Any], None]
    failed: Callable[[Exception], None] | None = None
    background: bool = False
    captures: bool = False
    keeps: bool = False


class _Wires(QObject):
    """Signals from the worker's thread to the UI's."""

    progressed = Signal(object, float, str)
    finished = Signal(object, object)
    failed = Signal(object, object)


class Jobs(QObject):
    """Runs jobs and tells how they fare."""

    started = Signal(str)
    progressed = Signal(float, str)
    ended = Signal()
    failed = Signal(object)
    idle = Signal()
    refused = Signal(str)
    """A job was not started because another runs: the words for the person."""
    capturing = Signal()
    """A job is about to open an audio stream."""
    emptied = Signal()
    """The last thread has ended, also of jobs that were dropped."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        sys.setswitchinterval(SWITCH_S)
        self._wires = _Wires()
        queued = Qt.ConnectionType.QueuedConnection
        self._wires.progressed.connect(self._on_progress, queued)
        self._wires.finished.connect(self._on_finished, queued)
        self._wires.failed.connect(self._on_failed, queued)
        self._front: tuple[Job, CancelToken] | None = None
        self._back: dict[str, tuple[Job, CancelToken]] = {}
        self._waiting: dict[str, Job] = {}
        self._held = 0
        self._threads: dict[int, threading.Thread] = {}

    @property
    def busy(self) -> bool:
        """Whether a job with a progress bar runs."""
        return self._front is not None

    @property
    def quiet(self) -> bool:
        """Whether nothing at all runs or waits."""
        return self._front is None and not self._back and not self._waiting

    @property
    def empty(self) -> bool:
        """Whether no thread is left, not even of a job that was dropped."""
        return not self._threads

    @property
    def title(self) -> str:
        """Of the job with the progress bar, "" without one."""
        return self._front[0].title if self._front is not None else ""

    @property
    def keeps(self) -> bool:
        """Whether the job with the progress bar keeps what it has when it is ended early."""
        return self._front is not None and self._front[0].keeps

    def refuse_if_busy(self) -> bool:
        """Say what is in the way, if anything is; True when it is."""
        if self._front is None:
            return False
        self.refused.emit(f"Not now: {self.title} is running.")
        return True

    @contextmanager
    def held(self) -> Iterator[None]:
        """Background jobs that are started meanwhile begin at the end: a view that is made and
        laid out asks the interpreter at every step, and would wait for theirs."""
        self._held += 1
        try:
            yield
        finally:
            self._held -= 1
            if not self._held:
                for title in [one for one in self._waiting if one not in self._back]:
                    self.start(self._waiting.pop(title))

    def start(self, job: Job) -> bool:
        """Start a job. While another one with a progress bar runs it is refused, which is told
        here: False. Background jobs always start."""
        if job.background:
            running = self._back.get(job.title)
            if running is not None:
                running[1].cancel()
            if running is not None or self._held:
                self._waiting[job.title] = job
                return True
            token = CancelToken()
            self._back[job.title] = (job, token)
            self._spawn(job, token)
            return True
        if self.refuse_if_busy():
            return False
        if job.captures:
            self.capturing.emit()
        token = CancelToken()
        self._front = (job, token)
        self.started.emit(job.title)
        self._spawn(job, token)
        return True

    def cancel(self) -> None:
        """Ask the job with the progress bar to stop."""
        if self._front is not None:
            self._front[1].cancel()

    def drop_background(self) -> None:
        """Forget the background jobs: what they were for is going away."""
        self._waiting.clear()
        for _, token in self._back.values():
            token.cancel()
        self._back.clear()

    def end_all(self) -> None:
        """Ask everything to stop: `emptied` tells when the last thread has."""
        self.drop_background()
        self.cancel()

    def shut_down(self) -> None:
        """Ask everything to stop and wait for it: for whoever has no event loop any more."""
        self.end_all()
        for thread in list(self._threads.values()):
            thread.join()

    def _spawn(self, job: Job, token: CancelToken) -> None:
        def run() -> None:
            try:
                result = job.work(
                    lambda fraction, text: self._wires.progressed.emit(job, fraction, text), token
                )
            except Exception as error:
                self._wires.failed.emit(job, error)
            else:
                self._wires.finished.emit(job, result)

        thread = threading.Thread(target=run, name=f"job: {job.title}", daemon=True)
        self._threads[id(job)] = thread
        thread.start()

    def _on_progress(self, job: Job, fraction: float, text: str) -> None:
        if self._front is not None and self._front[0] is job:
            self.progressed.emit(fraction, text)

    def _clear(self, job: Job) -> bool:
        """Forget a job that ended; True when its result is still wanted."""
        thread = self._threads.pop(id(job), None)
        if thread is not None:
            thread.join()
        if job.background:
            running = self._back.get(job.title)
            if running is None or running[0] is not job:
                return False  # dropped: whoever asked for it is gone
            self._back.pop(job.title)
            following = self._waiting.pop(job.title, None)
            if following is not None:
                self.start(following)
                return False
            return True
        self._front = None
        self.ended.emit()
        return True

    def _on_finished(self, job: Job, result: Any) -> None:
        if self._clear(job):
            job.done(result)
        self._tell_quiet()

    def _on_failed(self, job: Job, error: Exception) -> None:
        wanted = self._clear(job)
        if wanted and not (job.background and isinstance(error, CancelledError)):
            if job.failed is not None:
                job.failed(error)
            else:
                self.failed.emit(error)
        self._tell_quiet()

    def _tell_quiet(self) -> None:
        if self.quiet:
            self.idle.emit()
        if self.empty:
            self.emptied.emit()
