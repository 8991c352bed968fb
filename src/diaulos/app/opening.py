"""Opening sessions, making new ones, and bringing back what a dead process left."""

from __future__ import annotations

from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from diaulos import wiring
from diaulos.app.asking import ask_file, ask_folder, ask_to_save
from diaulos.app.breathing import beside
from diaulos.app.collecting import held_back
from diaulos.app.demo_place import (
    BUILDING,
    begun_demo,
    build_demo,
    demo_path,
    finish,
    is_unfinished,
)
from diaulos.app.document import Document
from diaulos.app.holder import Holder
from diaulos.app.jobs import Job
from diaulos.app.view_table import BARE
from diaulos.errors import CancelledError, DiaulosError, SessionLockedError, StorageError
from diaulos.figures import counted
from diaulos.session.edits import Edit
from diaulos.session.model import Session
from diaulos.wiring import SessionFolder
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.reamp.recovery import Recovery, Remains, bring_back, remains_of
from diaulos.work.reamp.words import Loops

if TYPE_CHECKING:
    from diaulos.app.dialogs.new_session import NewSessionDialog

LET_GO_MS = 200
"""After a session is closed."""


class _Parts(QObject):
    """From the thread that plays to the window."""

    made = Signal(object)


class Opening:
    """How the desk comes by a session."""

    def __init__(self, desk: Holder) -> None:
        self._desk = desk

    def open_path(self, path: str | Path, *, read_only: bool = False) -> bool:
        """Open a session; offers read-only when it is locked, and unsaved work it finds."""
        desk = self._desk
        if Path(path).suffix == wiring.PACKED and Path(path).is_file():
            self.unpack_file(Path(path))
            return False
        if desk.folder is not None and desk.folder.path.resolve() == Path(path).resolve():
            desk.window.say("This session is open already.")
            return True
        if not desk.may_leave(lambda: self.open_path(path, read_only=read_only)):
            return False
        try:
            folder = SessionFolder.open(Path(path), read_only=read_only)
        except SessionLockedError as error:
            return self._open_locked(Path(path), error)
        except StorageError as error:  # a full or read-only disk, no right to write there
            words = "This session cannot be opened for writing"
            if read_only or desk.ask(words, str(error), "Open read-only") != 0:
                return False
            return self.open_path(path, read_only=True)
        except DiaulosError as error:
            desk.show_problem(error)
            return False
        with held_back():
            try:
                session, loops = beside(partial(_read, folder))
            except DiaulosError as error:
                folder.close()
                desk.show_problem(error)
                return False
            if desk.ended:  # while it was read
                folder.close()
                return False
            return self._open_folder(folder, session, loops)

    def _open_locked(self, path: Path, error: SessionLockedError) -> bool:
        """Somebody has it open, or nobody can tell."""
        answers = ["Open read-only", "Take it over"] if error.foreign else ["Open read-only"]
        answer = self._desk.ask("This session is open elsewhere", str(error), *answers)
        if answer == 0:
            return self.open_path(path, read_only=True)
        if answer == 1 and self._desk.ask(
            "Take the session over?",
            "If Diaulos still runs there, what it saves and what you save overwrite each other's "
            "work. Take it over only when you know that it ended.",
            "Take it over",
        ) == 0:  # fmt: skip
            SessionFolder.break_lock(path)
            return self.open_path(path)
        return False

    def _open_folder(self, folder: SessionFolder, session: Session, loops: Loops) -> bool:
        """Show it, with the unsaved work of an earlier process if it is wanted."""
        unsaved = False
        journal = None if folder.read_only else folder.journal()
        if journal is not None and journal != session:
            answer = self._desk.ask(
                "Unsaved work was found",
                "Diaulos ended early. Bring back what was not saved? Without it, it is kept "
                "beside the session (journal.kept.json, or the next free number).",
                "Bring it back",
                "Open without it",
                no="Do not open",
            )
            if answer < 0:
                folder.close()
                return False
            unsaved = answer == 0
            if unsaved:
                session = journal
            else:
                folder.set_journal_aside()
        self._desk.attach(folder, session, unsaved=unsaved, loops=loops)
        if not folder.read_only:
            self._offer()
        return True

    # --- what a dead process left ---

    def _offer(self) -> None:
        """Recordings and passes without an entry, in one job."""
        document, folder = self._desk.document, self._desk.folder
        assert document is not None
        assert folder is not None
        found = beside(partial(remains_of, document.session, folder))
        if self._desk.document is not document:
            return  # it was closed meanwhile
        takes: tuple[str, ...] = ()
        passes: tuple[str, ...] = ()
        later = "File > Recover recordings brings it back later, too."
        if found.takes and self._desk.ask(
            "A recording is not in the session",
            f"{counted(len(found.takes), 'recording')} in the folder without an entry: Diaulos "
            "ended while it ran, or was closed without saving. What was written can be brought "
            f"back as a take. {later}",
            "Bring it back",
            no="Not now",
        ) == 0:  # fmt: skip
            takes = found.takes
        if found.passes and self._desk.ask(
            "A pass was found that is not in the session",
            f"{counted(len(found.passes), 'recorded return')} in the folder without an entry. "
            f"{later}",
            "Add them",
            no="Not now",
        ) == 0:  # fmt: skip
            passes = found.passes
        self.recover(Remains(takes, passes, ()))

    def ask_recover(self) -> None:
        """What lies in the folder and is not in the session."""
        from diaulos.app.dialogs.recover import RecoverDialog

        document, folder = self._desk.document, self._desk.folder
        if document is None or folder is None or document.read_only:
            return
        found = remains_of(document.session, folder)
        dialog = RecoverDialog(found, self._desk.window)
        if dialog.exec():
            self.recover(dialog.chosen)

    def recover(self, wanted: Remains) -> None:
        """Bring these back, one by one; what fails is named and stays where it is."""
        desk, document, folder = self._desk, self._desk.document, self._desk.folder
        if document is None or folder is None or not (wanted.takes or wanted.passes):
            return
        session = document.session

        def work(progress: Progress, cancel: CancelToken) -> Recovery:
            return bring_back(session, folder, wanted, progress, cancel)

        def done(recovery: Recovery) -> None:
            for edit in recovery.edits:
                document.apply(edit, journal=True)
            desk.window.say(recovery.words)
            if recovery.failed:
                desk.show_problem(recovery.problem)

        desk.jobs.start(Job("Bringing recordings back", work, done))

    # --- by hand ---

    def ask_open(self) -> None:
        """Ask for a session folder."""
        path = ask_folder(self._desk.window, "Open a session (a .diaulos folder)")
        if path:
            self.open_path(path)

    def ask_unpack(self) -> None:
        """Ask for a packed session and where its folder goes, and open it."""
        window = self._desk.window
        packed = ask_file(window, "Open a packed session", f"Packed session (*{wiring.PACKED})")
        if packed:
            self.unpack_file(Path(packed))

    def unpack_file(self, packed: Path) -> None:
        """Ask where the folder of a packed session goes, and open it."""
        window = self._desk.window
        name = str(packed.with_suffix(wiring.SUFFIX))
        target = ask_to_save(window, "Where the session goes", name, f"Session (*{wiring.SUFFIX})")
        if not target:
            return

        def work(progress: Progress, cancel: CancelToken) -> wiring.Unpacked:
            return wiring.unpack(packed, Path(target), progress=progress, cancel=cancel)

        def done(found: wiring.Unpacked) -> None:
            self.open_path(found.path)
            gone = len(found.left_out) + len(found.missing)
            more = f" {counted(gone, 'file')} stayed with the sender." if gone else ""
            window.say(f"Unpacked: {found.path}.{more}")

        self._desk.jobs.start(Job("Unpacking", work, done))

    def new_session(self) -> None:
        """Ask for what a new session needs and make it."""
        from diaulos.app.dialogs.new_session import NewSessionDialog

        dialog = NewSessionDialog(self._desk.window.preferences.sessions_folder, self._desk.window)
        if dialog.exec() and self._desk.may_leave(lambda: self.make_session(dialog)):
            self.make_session(dialog)

    def make_session(self, dialog: NewSessionDialog) -> None:
        """Make the session that a dialog describes."""
        try:
            folder, session = beside(
                partial(
                    wiring.new_session,
                    dialog.path,
                    name=dialog.name.text().strip(),
                    rate_hz=dialog.rate.currentData(),
                    word_length=dialog.word.currentData(),
                    tempo_bpm=dialog.tempo.value(),
                    metre=dialog.metre.currentText(),
                    start=dialog.start,
                )
            )
        except DiaulosError as error:
            self._desk.show_problem(error)
            return
        self._desk.attach(folder, session, view=BARE)

    def open_demo_session(self) -> None:
        """Open the demo session of this version."""
        self.open_demo(demo_path())

    def open_demo(self, path: Path) -> None:
        """Open the demo session, writing it first when it is not there."""
        desk = self._desk
        if (path / "session.json").is_file():
            if not self.open_path(path):
                return
        elif not desk.may_leave(lambda: self.open_demo(path)):
            return
        else:
            try:
                folder, session = beside(partial(begun_demo, path))
            except DiaulosError as error:
                desk.show_problem(error)
                return
            desk.attach(folder, session, view=BARE)
        document, where = desk.document, desk.folder
        if document is not None and where is not None and not document.read_only:
            if is_unfinished(where, document.session):
                self._build_demo(document, where)

    def _build_demo(self, document: Document, folder: SessionFolder) -> None:
        """Play what the demo lacks. Every part is shown as soon as it is there."""
        desk, session = self._desk, document.session
        parts = _Parts()

        def add(change: Edit) -> None:
            if desk.document is document:
                document.apply(change, journal=True, merge="demo")

        parts.made.connect(add, Qt.ConnectionType.QueuedConnection)

        def work(progress: Progress, cancel: CancelToken) -> None:
            build_demo(folder, session, parts.made.emit, progress, cancel)

        def done(_nothing: object) -> None:
            parts.deleteLater()
            if desk.document is document:
                desk.save(lambda: finish(folder))
                desk.window.say("The demo session is whole.")

        def failed(error: Exception) -> None:
            parts.deleteLater()
            if isinstance(error, CancelledError):
                desk.window.say("The demo is not whole. File > Open the demo goes on with it.")
            else:
                desk.show_problem(error)

        desk.jobs.start(Job(BUILDING, work, done, failed))

    def close_session(self) -> None:
        """Close what is open, asking about what is not saved."""
        if self._desk.document is not None and self._desk.may_leave(self.close_session):
            self._desk.detach()
            self._desk.window.show_welcome()
            self._desk.window.update_actions()
            QTimer.singleShot(LET_GO_MS, self._let_go)

    def _let_go(self) -> None:
        """The views are gone when this is called."""
        if self._desk.document is None:
            self._desk.keeper.closed()


def _read(folder: SessionFolder) -> tuple[Session, Loops]:
    """The session, and what comes back from its rigs: finding that takes a moment, too."""
    session, loops = folder.load(), Loops()
    with suppress(DiaulosError):  # told by the view that shows it
        loops.rows(session, None)
    return session, loops
