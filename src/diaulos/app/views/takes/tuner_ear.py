"""The tuner's ear as the window sees it: a job that listens until it is stopped."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from queue import Empty, SimpleQueue

from PySide6.QtCore import QObject, QTimer, Signal

from diaulos.app.jobs import Job, Jobs
from diaulos.app.services import Services
from diaulos.rig.model import PortRef
from diaulos.session.model import Session
from diaulos.session.roles import recording_rig
from diaulos.work.instruments.tuning import Heard, Listener
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.stored import NOTHING_STORED
from diaulos.work.takes.ready import Armed

POLL_MS = 33


class TunerEar(QObject):
    """Listens to one track's input."""

    heard = Signal(object)
    ended = Signal()
    failed = Signal(object)

    def __init__(self, jobs: Jobs, services: Callable[[], Services], parent: QObject) -> None:
        super().__init__(parent)
        self._jobs, self._services = jobs, services
        self.listening = False
        self.port: PortRef | None = None
        """What it listens to."""
        self.was_cancelled = False
        """Whether somebody ended it by Cancel, not by a key of the view."""
        self._answers: SimpleQueue[Heard] = SimpleQueue()
        self._before, self._newest = 0, 0
        self._stopping = False
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._poll)

    def start(self, session: Session, track: Armed, frets: tuple[int, ...]) -> bool:
        """Begin to listen; False where another job is under way."""
        source = self._services().pluck_from(frets)
        answers: SimpleQueue[Heard] = SimpleQueue()
        self._stopping = self.was_cancelled = False

        def work(progress: Progress, cancel: CancelToken) -> bool:
            backend = source(session, recording_rig(session), (track.port,), NOTHING_STORED)
            listener = Listener(backend, session.sample_rate_hz, answers.put)
            listener.run(lambda: cancel.cancelled or self._stopping)
            return cancel.cancelled

        if not self._jobs.start(
            Job("Listening to the strings", work, self._done, self._fail, captures=True)
        ):
            return False
        # Plucks are counted on: the first one of a new ear is no old one.
        self._before = self._newest
        self._answers, self.listening, self.port = answers, True, track.port
        self._timer.start()
        return True

    def stop(self) -> None:
        """End it."""
        self._stopping = True

    def close_down(self) -> None:
        """The session goes."""
        self._timer.stop()
        self.stop()

    def _poll(self) -> None:
        try:
            while True:
                heard = self._answers.get_nowait()
                self._newest = self._before + heard.pluck
                self.heard.emit(replace(heard, pluck=self._newest))
        except Empty:
            pass

    def _done(self, cancelled: bool) -> None:
        self._timer.stop()
        self.listening, self.was_cancelled = False, cancelled
        self.ended.emit()

    def _fail(self, error: Exception) -> None:
        self._done(True)
        self.failed.emit(error)
