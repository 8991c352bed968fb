"""Long work on the window's own thread, in steps between which the window lives.

Widgets are made and dressed on this thread and no other. Between two steps timers beat, what
changed is painted, and other threads are heard; keys and clicks wait in line, so that what was
pressed means what it meant when it was pressed.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import TypeVar

from PySide6.QtCore import QCoreApplication, QEventLoop, QObject, QTimer

T = TypeVar("T")
WAIT_MS = 5


def breathe() -> None:
    """One breath between two steps. Timers that became due while it painted have their turn, too:
    one pass of the loop looks at them once."""
    for _ in range(2):
        QCoreApplication.processEvents(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)


def beside(work: Callable[[], T]) -> T:
    """What `work` gives or raises, done on a thread of its own while the window breathes."""
    given: list[T] = []
    raised: list[BaseException] = []

    def run() -> None:
        try:
            given.append(work())
        except BaseException as error:  # raised again below, where it was asked for
            raised.append(error)

    thread = threading.Thread(target=run, name="beside")
    thread.start()
    while thread.is_alive():
        breathe()
        thread.join(WAIT_MS / 1000.0)
    if raised:
        raise raised[0]
    return given[0]


class InTurn(QObject):
    """Steps that follow one another, each at a turn of its own: what one changed is laid out and
    painted before the next."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._steps: list[Callable[[], object]] = []
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._go_on)

    @property
    def done(self) -> bool:
        """Whether no step is left."""
        return not self._steps

    def begin(self, steps: Sequence[Callable[[], object]]) -> None:
        """These steps, in place of what is left of those before."""
        self._steps = list(steps)
        self._timer.start()

    def stop(self) -> None:
        """No more of them."""
        self._steps = []
        self._timer.stop()

    def _go_on(self) -> None:
        if self._steps:
            self._steps.pop(0)()
        if self._steps:
            self._timer.start()
