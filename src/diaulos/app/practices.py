"""House practices beside the session that is open: followed, changed, told."""

from __future__ import annotations

from typing import TYPE_CHECKING

from diaulos.app.holder import Holder
from diaulos.app.jobs import Job
from diaulos.figures import counted
from diaulos.session import edits
from diaulos.session.practices import Practice
from diaulos.work.ports import CancelToken, Progress

if TYPE_CHECKING:
    from diaulos.app.dialogs.practices import PracticesDialog
    from diaulos.session.model import Session
    from diaulos.work.practices.departures import Departure


class Practices:
    """What the house does, and what this session does otherwise."""

    def __init__(self, desk: Holder) -> None:
        self._desk = desk
        self.dialog: PracticesDialog | None = None
        self.found: tuple[Departure, ...] = ()
        self._sums: dict[object, float | None] = {}

    def ask_practices(self) -> None:
        """The practices."""
        from diaulos.app.dialogs.practices import PracticesDialog
        from diaulos.work.practices.departures import practices_of

        document = self._desk.document
        if document is None:
            return
        session = document.session
        dialog = PracticesDialog(
            practices_of(session), session.practice, not document.read_only, self._desk.window
        )
        self.dialog = dialog
        dialog.followed.connect(self._follow)
        dialog.kept.connect(self._keep)
        dialog.removed.connect(self._remove)
        self.look()
        dialog.exec()
        self.dialog = None

    def _follow(self, practice_id: str) -> None:
        self._apply(edits.follow_practice(practice_id))

    def _keep(self, practice: Practice) -> None:
        document = self._desk.document
        if document is None or not document.apply(edits.keep_practice(practice)):
            return
        if document.session.practice != practice.id:
            document.apply(edits.follow_practice(practice.id))
        self._shown()

    def _remove(self, practice_id: str) -> None:
        self._apply(edits.remove_practice(practice_id))

    def _apply(self, edit: edits.Edit) -> None:
        document = self._desk.document
        if document is not None and document.apply(edit):
            self._shown()

    def _shown(self) -> None:
        document = self._desk.document
        if document is not None and self.dialog is not None:
            from diaulos.work.practices.departures import practices_of

            session = document.session
            self.dialog.show_practices(practices_of(session), session.practice)
        self.look()

    def look(self) -> None:
        """Work out what departs from the practice; the window tells how much."""
        document = self._desk.document
        if document is None:
            return
        session, store = document.session, document.store
        if _house(session) is None:
            self._told(())
            return
        from diaulos.work.practices.departures import departures, sums_of
        from diaulos.work.rigs.stored import stored_of

        def work(_progress: Progress, _cancel: CancelToken) -> tuple[Departure, ...]:
            return departures(
                session, stored_of(session, store), sums=sums_of(session, store, self._sums)
            )

        def done(found: tuple[Departure, ...]) -> None:
            self._told(found)

        if self.dialog is not None:
            self.dialog.show_departures(None)
        self._desk.jobs.start(
            Job("House practice", work, done, lambda _error: None, background=True)
        )

    def _told(self, found: tuple[Departure, ...]) -> None:
        self.found = found
        document = self._desk.document
        house = _house(document.session) if document is not None else None
        words = f"House: {counted(len(found), 'note')}" if house is not None else ""
        lines = [f"Practice: {house.name}"] if house is not None else []
        lines += [f"{one.place}: {one.words}" for one in found]
        notes: dict[str, list[tuple[str, str]]] = {}
        for one in found:
            notes.setdefault(one.place.casefold(), []).append((one.words, one.price))
        self._desk.window.show_practice(words, "\n".join(lines), notes)
        if self.dialog is not None:
            self.dialog.show_departures(found)


def _house(session: Session) -> Practice | None:
    """The practice that the session follows. Most follow none: what works departures out is
    loaded for those that do."""
    if not session.practice:
        return None
    from diaulos.work.practices.departures import practice_of

    return practice_of(session)
