"""The one place in the window that holds the session."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from threading import Thread

from PySide6.QtCore import QObject, QTimer, Signal

from diaulos.errors import DiaulosError
from diaulos.session.edits import Edit
from diaulos.session.history import History
from diaulos.session.model import Session
from diaulos.work.takes.notes import RecordingStore

WATCH_MS = 1_000
"""How often it is looked whether the folder is still there."""
JOURNAL_MS = 15_000
"""Edits are journalled at least every 30 s; half of that leaves room for a slow disk."""

WriteJournal = Callable[[Session], None]


class Document(QObject):
    """The current session, its history and its folder.

    `changed` fires after each change with the session before and after; `state_changed`
    when what can be undone or saved changes; `failed` with an error for the person.
    """

    changed = Signal(object, object)
    state_changed = Signal()
    failed = Signal(object)
    gone = Signal()
    """The folder is not there any more; told once."""

    def __init__(
        self,
        session: Session,
        store: RecordingStore,
        path: Path,
        *,
        read_only: bool,
        write_journal: WriteJournal,
        parent: QObject | None = None,
    ) -> None:
        super().__init__(parent)
        self._history = History(session)
        self._saved = session
        self._journalled = session
        self._write_journal = write_journal
        self._writer: Thread | None = None
        self.store = store
        self.path = path
        self.read_only = read_only
        self._timer = QTimer(self)
        self._timer.setInterval(JOURNAL_MS)
        self._timer.timeout.connect(self.journal_now)
        self._watch = QTimer(self)
        self._watch.setInterval(WATCH_MS)
        self._watch.timeout.connect(self._look)
        self._watch.start()
        if not read_only:
            self._timer.start()

    @property
    def session(self) -> Session:
        """The session as it is now."""
        return self._history.current

    @property
    def dirty(self) -> bool:
        """Whether there is something that is not saved."""
        return self.session is not self._saved and self.session != self._saved

    @property
    def undo_label(self) -> str:
        """What undo would undo."""
        return self._history.undo_label

    @property
    def redo_label(self) -> str:
        """What redo would do again."""
        return self._history.redo_label

    def apply(self, edit: Edit, *, journal: bool = False, merge: str = "") -> bool:
        """Apply an edit; a failed one changes nothing and is told by `failed`.

        Edits of one `merge` key in a row are one step of undo.
        """
        before = self.session
        try:
            self._history.apply(edit, merge)
        except (DiaulosError, ValueError) as error:
            self.failed.emit(error)
            return False
        self._tell(before)
        if journal:
            self.journal_now()
        return True

    def undo(self) -> None:
        """One step back."""
        before = self.session
        self._history.undo()
        self._tell(before)

    def redo(self) -> None:
        """One step forward."""
        before = self.session
        self._history.redo()
        self._tell(before)

    def mark_saved(self, session: Session) -> None:
        """This session is on the disk now."""
        self._saved = session
        self._journalled = session
        self.state_changed.emit()

    def mark_unsaved(self) -> None:
        """The session came from a journal: nothing of it is saved yet."""
        self._saved = self._saved.model_copy(update={"name": self._saved.name + " "})
        self.state_changed.emit()

    def steps_needing(self, files: set[str]) -> list[str]:
        """Undo steps that deleting these files would break."""
        return self._history.steps_needing(files)

    def forget_steps(self) -> None:
        """Drop undo and redo."""
        self._history.forget_steps()
        self.state_changed.emit()

    def journal_now(self) -> None:
        """Write unsaved work beside the session, in a thread of its own."""
        session = self.session
        if self.read_only or session is self._journalled or session == self._saved:
            return
        self._journalled = session

        def write() -> None:
            if session is not self._journalled:
                return  # a newer one is being written: this one must not come after it
            try:
                self._write_journal(session)
            except DiaulosError as error:
                self.failed.emit(error)

        self._writer = Thread(target=write, name="journal", daemon=True)
        self._writer.start()

    def journal_and_wait(self) -> None:
        """Write unsaved work, and come back when it is on the disk: the program ends."""
        self.journal_now()
        if self._writer is not None:
            self._writer.join()

    def forget_journal(self) -> None:
        """What is not saved now is not wanted: no journal of it is written any more."""
        self._journalled = self.session
        if self._writer is not None:
            self._writer.join()

    def _look(self) -> None:
        if not self.path.is_dir():
            self._watch.stop()
            self._timer.stop()  # a journal has no place to go
            self.gone.emit()

    def close(self) -> None:
        """Stop the timers; the folder is closed by whoever opened it, when the last journal is
        written."""
        self._timer.stop()
        self._watch.stop()
        if self._writer is not None:
            self._writer.join()

    def _tell(self, before: Session) -> None:
        if self.session is not before:
            self.changed.emit(before, self.session)
        self.state_changed.emit()
