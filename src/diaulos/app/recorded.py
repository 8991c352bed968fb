"""What the strip shows where a view has no courses of its own: the tracks of the rig."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from diaulos.app.document import Document
from diaulos.app.jobs import Job, Jobs
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.figures import typeset
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.rows import TrackRow, track_rows
from diaulos.work.rigs.stored import stored_of


def rows_of(tracks: tuple[TrackRow, ...]) -> tuple[CourseRow, ...]:
    """Tracks as rows of the strip; a name is the key."""
    return tuple(
        CourseRow(one.name, one.tap, one.name, one.peak, typeset(one.finding), one.serious)
        for one in tracks
    )


class Recorded(QObject):
    """The recorded tracks of the session's rig, worked out beside the window when a view that
    has no rows asks, and again when what they come from has changed."""

    found = Signal()

    def __init__(self, jobs: Jobs, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._jobs = jobs
        self._asked: tuple[object, ...] = ()
        self._rows: tuple[CourseRow, ...] = ()

    def rows(self, document: Document) -> tuple[CourseRow, ...]:
        """What is known now; `found` tells when there is more."""
        session, store = document.session, document.store
        asked = (document, session.rigs, session.current_rig, session.instruments, session.takes)
        if len(asked) == len(self._asked) and all(
            one is other for one, other in zip(asked, self._asked, strict=True)
        ):
            return self._rows
        if not self._asked or self._asked[0] is not document:
            self._rows = ()  # of another session
        self._asked = asked
        if not session.rigs:
            return ()

        def work(progress: Progress, cancel: CancelToken) -> tuple[TrackRow, ...]:
            return track_rows(look_at(session, "", stored_of(session, store), both=True))

        def done(tracks: tuple[TrackRow, ...]) -> None:
            self._rows = rows_of(tracks)
            self.found.emit()

        def failed(_error: Exception) -> None:
            """The views whose courses these are tell what is wrong."""

        self._jobs.start(Job("courses", work, done, failed, background=True))
        return self._rows

    def known(self, document: Document) -> tuple[CourseRow, ...]:
        """What is known of this session, without asking for more."""
        return self._rows if self._asked and self._asked[0] is document else ()

    def forget(self) -> None:
        """The session goes."""
        self._asked, self._rows = (), ()
