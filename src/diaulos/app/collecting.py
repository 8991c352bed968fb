"""The collector of what nothing refers to, kept out of the window's way.

Python looks through everything that was made since it last looked, now and then through all
there is: in a large session that is a tenth of a second in which the window stands still. What
is loaded once and stays (modules, a session that is read) need not be looked through at all.
"""

from __future__ import annotations

import contextlib
import gc
import threading
from collections.abc import Iterator

_lock = threading.Lock()
_held = 0


@contextlib.contextmanager
def held_back() -> Iterator[None]:
    """While much is made that stays, nothing is looked through; threads may do so at once."""
    global _held  # the process has one collector
    with _lock:
        _held += 1
        gc.disable()
    try:
        yield
    finally:
        with _lock:
            _held -= 1
            if not _held:
                gc.enable()


class Keeper:
    """What is there to stay, for a process that is one window.

    What is kept and refers to itself in a circle, as views do, is never let go. So things are kept
    while there is no view; views that are caught by it are let go when the session is closed.
    """

    def __init__(self) -> None:
        self.active = False
        self._views = self._caught = False

    def view_made(self) -> None:
        """There is a view, or what is left of one."""
        self._views = True

    def keep(self, *, views_too: bool = False) -> None:
        """All that is there now stays, unless there are views: then only if they are told to be
        caught by it."""
        if self.active and (views_too or not self._views):
            self._caught = self._caught or self._views
            gc.freeze()

    def closed(self) -> None:
        """No session is open: what is left of its views goes, and the rest is kept again. Nobody
        waits for anything now."""
        if not self.active:
            return
        if self._caught:
            gc.unfreeze()
        gc.collect()
        self._views = self._caught = False
        gc.freeze()
