"""Long work on the window's own thread, in steps between which the window lives.

Widgets are made and dressed on this thread and no other. Between two steps timers beat, what
changed is painted, and other threads are heard; keys and clicks wait in line, so that what was
pressed means what it meant when it was pressed.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import TypeVar

from PySide6.QtCore import QCoreApplication, QEventLoop

T = TypeVar("T")
WAIT_MS = 5


def breathe() -> None:
    """One breath between two steps."""
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
