"""The ear of a noise hunt: it watches between the tests, and listens when a test is done."""

from __future__ import annotations

from collections.abc import Callable
from queue import Empty, SimpleQueue

from PySide6.QtCore import QObject, QTimer, Signal

from diaulos.app.jobs import Job, Jobs
from diaulos.errors import CancelledError
from diaulos.rig.model import PortRef
from diaulos.work.hunting.listens import Listen, listen, watch
from diaulos.work.ports import AudioBackend, CancelToken, Progress

POLL_MS = 100
Ports = tuple[PortRef, ...]
Opens = Callable[[], AudioBackend]


class HuntEar(QObject):
    """One stream at a time: the newest figures, or a listen."""

    told = Signal(object)
    """What is heard now, a `Listen` of one stretch."""
    heard = Signal(object)
    """A listen that was asked for."""
    ended = Signal(bool)
    """Nothing is heard any more; whether somebody cancelled it."""
    failed = Signal(object)

    def __init__(self, jobs: Jobs, parent: QObject) -> None:
        super().__init__(parent)
        self._jobs = jobs
        self.watching = self.listening = False
        self._stopping = False
        self._then: Callable[[], None] | None = None
        self._answers: SimpleQueue[Listen] = SimpleQueue()
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._poll)

    def watch(self, opens: Opens, tracks: Ports, rate_hz: int) -> bool:
        """Tell what is heard until it is stopped; False where another job is under way."""
        answers: SimpleQueue[Listen] = SimpleQueue()
        self._stopping = False

        def work(progress: Progress, cancel: CancelToken) -> bool:
            watch(opens(), tracks, rate_hz, answers.put,
                  lambda: self._stopping or cancel.cancelled)  # fmt: skip
            return cancel.cancelled

        job = Job("Watching the noise", work, self._on_watched, self._on_failed, captures=True)
        if not self._jobs.start(job):
            return False
        self._answers, self.watching = answers, True
        self._timer.start()
        return True

    def listen(self, opens: Opens, tracks: Ports, rate_hz: int) -> None:
        """A listen, after what is watched is let go."""

        def begin() -> None:
            def work(progress: Progress, cancel: CancelToken) -> Listen:
                progress(0.0, "Listening")
                found = listen(opens(), tracks, rate_hz, lambda: cancel.cancelled)
                cancel.check()
                return found

            job = Job("Listening to the noise", work, self._on_heard, self._on_failed,
                      captures=True)  # fmt: skip
            self.listening = self._jobs.start(job)

        if self.watching:
            self._then = begin
            self._stopping = True
        else:
            begin()

    def stop(self) -> None:
        """End whatever runs."""
        self._then = None
        self._stopping = True
        if self.listening:
            self._jobs.cancel()

    def close_down(self) -> None:
        """The session goes."""
        self._timer.stop()
        self.stop()

    def _poll(self) -> None:
        newest = None
        try:
            while True:
                newest = self._answers.get_nowait()
        except Empty:
            if newest is not None:
                self.told.emit(newest)

    def _on_watched(self, cancelled: bool) -> None:
        self._timer.stop()
        self.watching = False
        following, self._then = self._then, None
        if following is not None:
            following()
        else:
            self.ended.emit(cancelled)

    def _on_heard(self, heard: Listen) -> None:
        self.listening = False
        self.heard.emit(heard)

    def _on_failed(self, error: Exception) -> None:
        self._timer.stop()
        self._then = None
        self.watching = self.listening = False
        if not isinstance(error, CancelledError):
            self.failed.emit(error)
        self.ended.emit(True)
