"""What every view is, and what it is given.

A view asks the document for edits, the jobs for work and the sound for playback; it tells
what it has to say by signals and keeps no copy of the truth. Views do not know one another,
and the desk knows none of them by name: they stand in `view_table.py`.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from diaulos.app.document import Document
from diaulos.app.jobs import Jobs
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.records import dataclass
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.session.roles import reamp_rig
from diaulos.work.listening.sound import Sound
from diaulos.work.reamp.words import Loops


@dataclass(frozen=True)
class Ending:
    """How what a view runs comes to its end. Without a question nobody would miss it."""

    stop: Callable[[], None]
    question: str = ""
    text: str = ""
    yes: str = ""
    no: str = ""


@dataclass(frozen=True)
class ViewContext:
    """What a view works with, for as long as one session is open."""

    document: Document
    jobs: Jobs
    services: Services
    sound: Sound
    preferences: Preferences
    loops: Loops
    """What comes back from the rigs that reamp, found once for all views."""
    between: Callable[[], None] = lambda: None
    """The window's turn between two steps of making a view. Raises `GoneError` when the session
    went meanwhile: there is nothing to make a view of any more."""


class GoneError(Exception):
    """The session went while a view of it was made."""


class Plot(Protocol):
    """What "copy plot" copies."""

    def copy_image(self) -> None:
        """The drawing into the clipboard."""

    def copy_csv(self) -> None:
        """Its figures into the clipboard."""


class View(QWidget):
    """One view of the session.

    A new one sets `ident`, makes its `plot`, says when it is `settled`, and takes
    the focus; the rest has an answer here already.
    """

    ident = ""
    plot: Plot
    draws_courses = False
    """Whether it works the rig's courses out itself, for the strip as well."""
    takes_first = False
    """Whether "restore" looks among the discarded takes first, or among the passes."""
    said = Signal(str)
    """Words for the status line."""
    problem = Signal(object)
    """An error for the person."""
    courses_changed = Signal(object, str)
    """(rows of the strip, key of the chosen one)."""
    empty_asked = Signal()
    """The bin is to be emptied."""

    def __init__(self, context: ViewContext) -> None:
        super().__init__()
        self._document, self._jobs = context.document, context.jobs
        self._services, self._sound = context.services, context.sound
        self._loops = context.loops
        self._between = context.between
        self.course_rows: tuple[tuple[CourseRow, ...], str] = ((), "")
        """What the strip shows while this view is on screen, and the chosen key."""

    def begin(self) -> None:
        """Show the session for the first time. Called once, a breath after the view was made:
        both together are felt. Here, too, `_between` may be called between two steps."""

    @property
    def settled(self) -> bool:
        """Whether what is on screen is that of the session as it is now."""
        return True

    def take_focus(self) -> None:
        """The view is shown: the keyboard goes where work begins."""
        self.setFocus()

    def menus(self) -> tuple[tuple[QWidget, tuple[str, ...]], ...]:
        """What can be done with what is under the pointer: widgets with ids of actions."""
        return ()

    def leave(self) -> None:
        """Another view is shown; playback pauses without being told here."""

    def choose_course(self, key: str) -> None:
        """A row of the strip was chosen; without courses of its own a view chooses the rig."""
        session = self._document.session
        if key != session.current_rig and any(rig.id == key for rig in session.rigs):
            self._document.apply(edits.choose_rig(key))

    def device_changed(self) -> None:
        """Another device was chosen to record from or to listen by."""

    def imported(self, take_id: str) -> None:
        """A take came from a file."""

    def ending(self) -> Ending | None:
        """How to end what this view runs, None while it runs nothing of its own."""
        return None

    def escape(self) -> None:
        """Esc was pressed while no job runs."""

    def close_down(self) -> None:
        """The session goes: stop timers, end what listens."""

    def _tell_loops(self, session: Session) -> None:
        """For a view without courses of its own: the strip keeps the loops in sight."""
        rows = [
            CourseRow(one.rig_id, one.tap, one.name, one.peak, one.finding, one.serious)
            for one in self._loops.rows(session, None)
        ]
        self._tell_strip(tuple(rows), reamp_rig(session).id if session.rigs else "")

    def _tell_strip(self, rows: tuple[CourseRow, ...], chosen: str) -> None:
        """These rows into the strip."""
        self.course_rows = (rows, chosen)
        self.courses_changed.emit(rows, chosen)
