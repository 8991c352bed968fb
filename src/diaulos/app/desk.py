"""What the window does with sessions: open, save, import, close, and the views on them.

Imported after the first paint: from here on the document's own modules are needed.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QAbstractButton, QFileDialog, QMessageBox

from diaulos import wiring
from diaulos.app.dialogs.import_di import ImportDiDialog
from diaulos.app.dialogs.import_take import ImportTakeDialog
from diaulos.app.dialogs.new_session import NewSessionDialog
from diaulos.app.document import Document
from diaulos.app.jobs import Job, Jobs
from diaulos.app.main_window import MainWindow
from diaulos.app.services import Services
from diaulos.app.views.instruments.view import InstrumentsView
from diaulos.app.views.levels.view import LevelsView
from diaulos.app.views.reamp.view import ReampView
from diaulos.app.views.rig.view import RigView
from diaulos.app.views.takes.view import TakesView
from diaulos.app.widgets.course_strip import CourseRow
from diaulos.errors import CancelledError, DiaulosError, SessionLockedError
from diaulos.session import edits, take_edits
from diaulos.session.model import Session
from diaulos.wiring import SessionFolder
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.recording.recovery import recover_take, recoverable_takes
from diaulos.work.recording.takes import Recorded
from diaulos.work.take_import import TakeImportRequest, import_take
from diaulos.work.takes import ImportOutcome, ImportRequest, import_di, recover_passes, recoverable

View = ReampView | InstrumentsView | RigView | LevelsView | TakesView

WELCOME = (
    "<h2>No session is open</h2><p>File &gt; New session (Ctrl+N) makes one, "
    "File &gt; Open (Ctrl+O) opens one.</p>"
)


class Desk(QObject):
    """The session that is open, its folder and its view."""

    def __init__(self, window: MainWindow, services: Services) -> None:
        super().__init__(window)
        self.window = window
        self.services = services
        self.jobs = Jobs(self)
        self.document: Document | None = None
        self.folder: SessionFolder | None = None
        self.view: ReampView | None = None
        self.instruments: InstrumentsView | None = None
        self.rig: RigView | None = None
        self.levels: LevelsView | None = None
        self.takes: TakesView | None = None
        self._rows: dict[str, tuple[tuple[CourseRow, ...], str]] = {}
        window.desk = self
        window.strip.chosen.connect(self._on_course)
        self.jobs.started.connect(self._on_busy)
        self.jobs.progressed.connect(self._on_progress)
        self.jobs.ended.connect(window.update_actions)
        self.jobs.failed.connect(self.show_problem)
        window.say_empty(WELCOME)
        window.update_actions()

    # --- state for the window ---

    def state(self) -> set[str]:
        """Words that the table of actions asks for."""
        if self.document is None:
            return set()
        words = {"open"}
        if self.current is not None:
            words.add(f"view {self.current.ident}")
        if not self.document.read_only:
            words.add("write")
            if not self.jobs.busy:
                words.add("idle")
        return words

    @property
    def current(self) -> View | None:
        """The view on screen."""
        shown = self.window.stack.currentWidget()
        views = (self.view, self.instruments, self.rig, self.levels, self.takes)
        return next((view for view in views if view and view is shown), None)

    def history_labels(self) -> tuple[str, str]:
        """What undo and redo would do."""
        if self.document is None:
            return "", ""
        return self.document.undo_label, self.document.redo_label

    def _on_course(self, key: str) -> None:
        if self.rig is not None and self.current is self.rig:
            self.rig.choose_course(key)
        elif self.levels is not None and self.current is self.levels:
            self.levels.choose_course(key)
        elif self.takes is not None and self.current is self.takes:
            self.takes.choose_course(key)
        elif self.view is not None:
            self.view.choose_rig(key)

    def _on_rows(self, view: str, rows: tuple[CourseRow, ...], current: str) -> None:
        """The strip shows the courses of the view on screen: a rig's tracks, or the loops."""
        self._rows[view] = (rows, current)
        self._show_strip()

    def _show_strip(self) -> None:
        ident = self.current.ident if self.current is not None else ""
        rows, current = self._rows.get(ident) or self._rows.get("reamp", ((), ""))
        self.window.strip.set_rows(rows, current)

    def _on_busy(self, title: str) -> None:
        self.window.say(f"{title}\N{HORIZONTAL ELLIPSIS}")
        self.window.update_actions()

    def _on_progress(self, fraction: float, text: str) -> None:
        self.window.say(f"{text} {fraction:.0%}")
        if self.view is None:
            self.window.say_empty(f"<h2>{text}</h2><p>{fraction:.0%}</p>")

    def show_problem(self, error: Exception) -> None:
        """Say what went wrong and what to do."""
        if isinstance(error, CancelledError):
            self.window.say(error.what)
            return
        self.window.say(str(error))
        box = QMessageBox(self.window)
        box.setIcon(QMessageBox.Icon.Warning)
        box.setWindowTitle("Diaulos")
        if isinstance(error, DiaulosError):
            box.setText(error.what[:1].upper() + error.what[1:])
            box.setInformativeText("\n".join(part for part in (error.remedy, error.where) if part))
        else:
            box.setText("Something went wrong inside Diaulos. Nothing saved was lost.")
            box.setInformativeText(f"{type(error).__name__}: {error}")
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    # --- opening ---

    def attach(self, folder: SessionFolder, session: Session, *, recovered: bool = False) -> None:
        """Show this session in place of the one before."""
        self._detach()
        self.folder = folder
        self.document = Document(
            session,
            folder,
            folder.path,
            read_only=folder.read_only,
            write_journal=folder.write_journal,
            parent=self,
        )
        if recovered:
            self.document.mark_unsaved()
        self.document.state_changed.connect(self._on_state)
        self.document.failed.connect(self.show_problem)
        levels = self.window.preferences.levels_db
        self.view = ReampView(self.document, self.jobs, self.services, levels)
        self.view.courses_changed.connect(partial(self._on_rows, "reamp"))
        self._add_view(self.view)
        if self.window.preferences.view == "instruments":
            self.show_instruments()
        elif self.window.preferences.view == "rig":
            self.show_rig()
        elif self.window.preferences.view == "levels":
            self.show_levels()
        elif self.window.preferences.view == "takes":
            self.show_takes()
        else:
            self.show_reamp()
        self.window.preferences.add_recent(str(folder.path))
        self._on_state()
        self.view._tell_courses()

    def _add_view(self, view: View) -> None:
        view.said.connect(self.window.say)
        view.problem.connect(self.show_problem)
        for button in view.findChildren(QAbstractButton):
            # A click leaves the focus where it was: Space stays with playback.
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            self.window.guard_space(button)
        self.window.stack.addWidget(view)

    def _show(self, view: View) -> None:
        self.window.stack.setCurrentWidget(view)
        self.window.rail.show_chosen(view.ident)
        self.window.preferences.view = view.ident
        self._show_strip()
        view.take_focus()
        self.window.update_actions()

    def _detach(self) -> None:
        self.jobs.drop_background()
        if self.instruments is not None:
            self.instruments.close_down()
            self.window.stack.removeWidget(self.instruments)
            self.instruments.deleteLater()
            self.instruments = None
        if self.rig is not None:
            self.rig.close_down()
            self.window.stack.removeWidget(self.rig)
            self.rig.deleteLater()
            self.rig = None
        if self.levels is not None:
            self.levels.close_down()
            self.window.stack.removeWidget(self.levels)
            self.levels.deleteLater()
            self.levels = None
        if self.takes is not None:
            self.takes.close_down()
            self.window.stack.removeWidget(self.takes)
            self.takes.deleteLater()
            self.takes = None
        self._rows.clear()
        if self.view is not None:
            self.view.close_down()
            self.window.preferences.levels_db = self.view.player.last_levels_db
            self.window.stack.removeWidget(self.view)
            self.view.deleteLater()
            self.view = None
        if self.document is not None:
            self.document.close()
            self.document.deleteLater()
            self.document = None
        if self.folder is not None:
            self.folder.close()
            self.folder = None

    def _on_state(self) -> None:
        document = self.document
        if document is None:
            return
        session = document.session
        mark = "*" if document.dirty else ""
        only = " (read-only)" if document.read_only else ""
        self.window.setWindowTitle(f"{session.name}{mark}{only} \N{EN DASH} Diaulos")
        word = "24 bit" if session.word_length == "24" else "32 bit float"
        self.window.say_where(
            f"{session.sample_rate_hz / 1000:g} kHz, {word}, {session.tempo_bpm:g} bpm, "
            f"{session.metre}{only}"
        )
        self.window.update_actions()

    def open_path(self, path: str | Path, *, read_only: bool = False) -> bool:
        """Open a session; offers read-only when it is locked, and unsaved work it finds."""
        if self.folder is not None and self.folder.path.resolve() == Path(path).resolve():
            self.window.say("This session is open already.")
            return True
        if not self.may_close():
            return False
        try:
            folder = SessionFolder.open(Path(path), read_only=read_only)
        except SessionLockedError as error:
            if self._ask("This session is open elsewhere", str(error), "Open read-only"):
                return self.open_path(path, read_only=True)
            return False
        except DiaulosError as error:
            self.show_problem(error)
            return False
        try:
            session = folder.load()
        except DiaulosError as error:
            folder.close()
            self.show_problem(error)
            return False
        recovered = False
        journal = None if read_only else folder.journal()
        if journal is not None and journal != session:
            recovered = self._ask(
                "Unsaved work was found",
                "Diaulos ended early. Bring back what was not saved?",
                "Bring it back",
            )
            if recovered:
                session = journal
            else:
                folder.drop_journal()
        self.attach(folder, session, recovered=recovered)
        if not read_only:
            self._offer_takes()
            self._offer_orphans()
        return True

    def _offer_takes(self) -> None:
        """Recordings that a dead process left, with the note on what they were to be."""
        document, folder = self.document, self.folder
        assert document is not None
        assert folder is not None
        session = document.session
        found = recoverable_takes(session, folder)
        if not found or not self._ask(
            "A recording was cut off",
            f"Diaulos ended during {len(found)} recording(s). What was written can be brought "
            "back as a take.",
            "Bring it back",
        ):
            return

        def work(progress: Progress, cancel: CancelToken) -> list[Recorded]:
            return [recover_take(session, folder, ident) for ident in found]

        def done(recovered: list[Recorded]) -> None:
            for one in recovered:
                if document.apply(one.edit, journal=True):
                    self.window.say(one.words)

        self.jobs.start(Job("Bringing a recording back", work, done))

    def _offer_orphans(self) -> None:
        document, folder = self.document, self.folder
        assert document is not None
        assert folder is not None
        session = document.session
        files = recoverable(session, folder.orphans(session))
        if not files or not self._ask(
            "A pass was found that is not in the session",
            f"{len(files)} recorded return(s) lie in the folder without an entry.",
            "Add them",
        ):
            return

        def work(progress: Progress, cancel: CancelToken) -> list[edits.Edit]:
            return recover_passes(session, folder, files, progress, cancel)

        def done(found: list[edits.Edit]) -> None:
            for edit in found:
                document.apply(edit, journal=True)
            self.window.say(f"{len(found)} of {len(files)} returns are back in the session.")

        self.jobs.start(Job("Bringing passes back", work, done))

    def _ask(self, title: str, text: str, yes: str) -> bool:
        box = QMessageBox(self.window)
        box.setWindowTitle("Diaulos")
        box.setText(title)
        box.setInformativeText(text)
        button = box.addButton(yes, QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        return box.clickedButton() is button

    def ask_open(self) -> None:
        """Ask for a session folder."""
        path = QFileDialog.getExistingDirectory(self.window, "Open a session (a .diaulos folder)")
        if path:
            self.open_path(path)

    def new_session(self) -> None:
        """Ask for what a new session needs and make it."""
        dialog = NewSessionDialog(Path.home(), self.window)
        if dialog.exec() and self.may_close():
            self.make_session(dialog)

    def make_session(self, dialog: NewSessionDialog) -> None:
        """Make the session that a dialog describes."""
        try:
            folder, session = wiring.new_session(
                dialog.path,
                name=dialog.name.text().strip(),
                rate_hz=dialog.rate.currentData(),
                word_length=dialog.word.currentData(),
                tempo_bpm=dialog.tempo.value(),
                metre=dialog.metre.currentText(),
            )
        except DiaulosError as error:
            self.show_problem(error)
            return
        self.attach(folder, session)

    def open_demo(self, path: Path, write: Callable[[Path, Progress], Any]) -> None:
        """Open the demo session, writing it first when it is not there."""
        if (path / "session.json").is_file():
            self.open_path(path)
            return

        def work(progress: Progress, cancel: CancelToken) -> Any:
            return write(path, progress)

        self.jobs.start(Job("Writing the demo", work, lambda made: self.attach(*made)))

    # --- saving ---

    def save(self) -> None:
        """Save, off the UI thread."""
        document, folder = self.document, self.folder
        if document is None or folder is None or document.read_only:
            return
        session = document.session

        recording = self.takes is not None and self.takes.under_way

        def work(progress: Progress, cancel: CancelToken) -> Session:
            folder.save(session)
            if not recording:
                # What is saved is what is wanted: notes on recordings have done their work.
                for ident in folder.recordings():
                    folder.forget_recording(ident)
            return session

        def done(saved: Session) -> None:
            if self.document is document:
                document.mark_saved(saved)
            self.window.say("Saved.")

        if not self.jobs.start(Job("save", work, done, self.show_problem, background=True)):
            self.window.say("Busy; try again in a moment.")

    def ask_save_as(self) -> None:
        """Ask for another name and save there."""
        path, _ = QFileDialog.getSaveFileName(
            self.window, "Save session as", "", "Sessions (*.diaulos)"
        )
        if path:
            self.save_as(Path(path))

    def save_as(self, path: Path) -> None:
        """The whole session under another name, and go on there."""
        document, folder = self.document, self.folder
        if document is None or folder is None:
            return
        session = document.session.model_copy(update={"name": path.name.removesuffix(".diaulos")})

        def work(progress: Progress, cancel: CancelToken) -> SessionFolder:
            return folder.copy_to(path, session, progress, cancel)

        self.jobs.start(Job("Saving as", work, lambda made: self.attach(made, session)))

    # --- edits ---

    def undo(self) -> None:
        if self.document is not None:
            self.document.undo()

    def redo(self) -> None:
        if self.document is not None:
            self.document.redo()

    def restore(self) -> None:
        """What was discarded last, out of the bin: a take in Takes, a pass elsewhere."""
        if self.document is None:
            return
        session = self.document.session
        in_takes = self.takes is not None and self.current is self.takes
        if session.take_bin and (in_takes or not session.bin):
            self.document.apply(take_edits.restore_take(session.take_bin[-1].id))
        elif session.bin:
            self.document.apply(edits.restore_pass(session.bin[-1].item.file))
        else:
            self.window.say("The bin is empty.")

    def empty_bin(self) -> None:
        """Delete what is in the bin for good, after saying what that costs."""
        document, folder = self.document, self.folder
        if document is None or folder is None:
            return
        files = document.session.binned_files()
        if not files:
            self.window.say("The bin is empty.")
            return
        steps = document.steps_needing(files)
        text = f"{len(files)} file(s) are deleted. This cannot be undone."
        if steps:
            shown = ", ".join(dict.fromkeys(steps[-6:]))
            text += (
                f" Undo forgets its {len(steps)} step(s) that need them ({shown}), and all others."
            )
        if not self._ask("Empty the bin?", text, "Delete"):
            return
        document.apply(edits.empty_bin())
        document.forget_steps()
        session = document.session

        def work(progress: Progress, cancel: CancelToken) -> Session:
            # The session first: no saved session may name a file that is gone.
            folder.save(session)
            folder.delete_files(files)
            return session

        self.jobs.start(Job("Emptying the bin", work, document.mark_saved))

    # --- import ---

    def ask_import(self) -> None:
        """Ask for a file and for what must be known about it."""
        path, _ = QFileDialog.getOpenFileName(
            self.window, "Import DI", "", "Audio (*.wav *.flac *.rf64);;All files (*)"
        )
        if path:
            self.import_dialog(Path(path))

    def import_dialog(self, path: Path) -> None:
        """Ask for what must be known about a file, then import it."""
        if self.document is None:
            return
        try:
            source = self.services.files.open(path)
        except DiaulosError as error:
            self.show_problem(error)
            return
        dialog = ImportDiDialog(
            path,
            source.channels,
            source.rate_hz,
            source.frames / source.rate_hz,
            self.document.session,
            self.window,
        )
        if dialog.exec():
            self.import_file(dialog.request())

    def import_file(self, request: ImportRequest) -> None:
        """Import a file as a new take."""
        document, services = self.document, self.services
        if document is None:
            return
        session, store = document.session, document.store

        def work(progress: Progress, cancel: CancelToken) -> ImportOutcome:
            return import_di(
                request,
                session,
                store=store,
                files=services.files,
                resample=services.resample,
                clock=services.clock,
                progress=progress,
                cancel=cancel,
            )

        def done(outcome: ImportOutcome) -> None:
            if document.apply(outcome.edit, journal=True) and self.view is not None:
                row = self.view.takes.row_of(outcome.take.id)
                self.view._choose_take(row)
                self.window.say(f"{outcome.take.name} is in the session. {outcome.note}".strip())

        self.jobs.start(Job(f"Importing {request.path.name}", work, done))

    def ask_import_take(self) -> None:
        """Ask for files, and what their channels are."""
        paths, _ = QFileDialog.getOpenFileNames(
            self.window, "Import files as a take", "", "Audio (*.wav *.flac *.rf64);;All files (*)"
        )
        if paths:
            self.import_take_dialog([Path(path) for path in paths])

    def import_take_dialog(self, paths: list[Path]) -> None:
        """Ask what the channels of some files are, then import them."""
        if self.document is None:
            return
        try:
            found = [(path, self.services.files.open(path)) for path in paths]
        except DiaulosError as error:
            self.show_problem(error)
            return
        dialog = ImportTakeDialog(found, self.document.session, self.window)
        if dialog.exec():
            self.import_take(dialog.request())

    def import_take(self, request: TakeImportRequest) -> None:
        """Import files as one take."""
        document, services = self.document, self.services
        if document is None:
            return
        session, store = document.session, document.store

        def work(progress: Progress, cancel: CancelToken) -> ImportOutcome:
            return import_take(
                request, session, store=store, files=services.files, resample=services.resample,
                clock=services.clock, progress=progress, cancel=cancel,
            )  # fmt: skip

        def done(outcome: ImportOutcome) -> None:
            if document.apply(outcome.edit, journal=True) and self.takes is not None:
                self.takes.takes.choose(outcome.take.id)
                self.window.say(f"{outcome.take.name} is in the session. {outcome.note}".strip())

        self.jobs.start(Job(f"Importing {request.name}", work, done))

    # --- views ---

    def show_reamp(self) -> None:
        if self.view is not None:
            self._show(self.view)

    def show_instruments(self) -> None:
        """Made when it is first asked for: starting does not pay for it."""
        document = self.document
        if document is None:
            return
        if self.instruments is None:
            self.instruments = InstrumentsView(document, self.jobs, self.services)
            self._add_view(self.instruments)
        if self.view is not None:
            self.view.player.pause()
        self._show(self.instruments)

    def show_rig(self) -> None:
        """Made when it is first asked for, like the instruments."""
        document = self.document
        if document is None:
            return
        if self.rig is None:
            self.rig = RigView(document, self.jobs, self.services)
            self.rig.courses_changed.connect(partial(self._on_rows, "rig"))
            self._add_view(self.rig)
        if self.view is not None:
            self.view.player.pause()
        self._show(self.rig)

    def show_levels(self) -> None:
        """Made when it is first asked for, like the others."""
        document = self.document
        if document is None:
            return
        if self.levels is None:
            self.levels = LevelsView(document, self.jobs, self.services)
            self.levels.courses_changed.connect(partial(self._on_rows, "levels"))
            self._add_view(self.levels)
        if self.view is not None:
            self.view.player.pause()
        self._show(self.levels)

    def show_takes(self) -> None:
        """Made when it is first asked for, like the others."""
        document, folder = self.document, self.folder
        if document is None or folder is None:
            return
        if self.takes is None:
            levels = self.window.preferences.levels_db
            self.takes = TakesView(document, self.jobs, self.services, folder, levels)
            self.takes.courses_changed.connect(partial(self._on_rows, "takes"))
            self.takes.empty_asked.connect(self.empty_bin)
            self._add_view(self.takes)
        if self.view is not None:
            self.view.player.pause()
        self._show(self.takes)

    def cancel(self) -> None:
        self.jobs.cancel()

    def copy_image(self) -> None:
        if self.current is not None:
            self.current.plot.copy_image()
            self.window.say("The plot is in the clipboard, as an image.")

    def copy_csv(self) -> None:
        if self.current is not None:
            self.current.plot.copy_csv()
            self.window.say("The plot's figures are in the clipboard, as CSV.")

    # --- closing ---

    def may_close(self) -> bool:
        """Ask only when something would be lost."""
        if self.jobs.busy and not self._only_tuning():
            if not self._ask("Work is going on", "Cancel it and close?", "Cancel it"):
                return False
            self.jobs.cancel()
        document, folder = self.document, self.folder
        if document is None or folder is None or not document.dirty or document.read_only:
            return True
        box = QMessageBox(self.window)
        box.setWindowTitle("Diaulos")
        box.setText(f"Save the changes to {document.session.name}?")
        box.setInformativeText("Without saving, the changes since the last save are lost.")
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        discard = box.addButton("Close without saving", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is save:
            try:
                folder.save(document.session)
            except DiaulosError as error:
                self.show_problem(error)
                return False
            document.mark_saved(document.session)
            return True
        if box.clickedButton() is discard:
            folder.drop_journal()
            return True
        return False

    def _only_tuning(self) -> bool:
        """Whether what runs is the tuner, which nobody misses; it is told to stop."""
        if self.takes is None or not self.takes.ear.listening:
            return False
        self.takes.ear.stop()
        return True

    def shut_down(self) -> None:
        """The window is closing: stop everything, give the lock back."""
        self.jobs.shut_down()
        self._detach()
