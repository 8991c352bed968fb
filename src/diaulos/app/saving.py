"""Saving, emptying the bin, and leaving a session without losing anything of it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from diaulos.app.asking import ask_to_save
from diaulos.app.breathing import beside
from diaulos.app.holder import Holder
from diaulos.app.jobs import Job
from diaulos.errors import DiaulosError
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.wiring import SessionFolder
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.takes.keeping import delete_binned, save_session


class Saving:
    """What the desk does to keep a session."""

    def __init__(self, desk: Holder) -> None:
        self._desk = desk
        self._then: Callable[[], Any] | None = None
        self._unasked = False
        """The system ends the program: what is not saved stays in the journal."""
        desk.jobs.emptied.connect(self._on_emptied)

    def save(self, then: Callable[[], None] | None = None) -> None:
        """Save, off the UI thread; `then` is called when it is on the disk."""
        desk, document, folder = self._desk, self._desk.document, self._desk.folder
        if document is None or folder is None or document.read_only:
            return
        session = document.session

        def work(progress: Progress, cancel: CancelToken) -> Session:
            save_session(folder, session)
            return session

        def done(saved: Session) -> None:
            if desk.document is document:
                document.mark_saved(saved)
            if then is not None:
                then()
            else:
                desk.window.say("Saved.")

        desk.jobs.start(Job("save", work, done, desk.show_problem, background=True))

    def ask_save_as(self) -> None:
        """Ask for another name and save there."""
        path = ask_to_save(self._desk.window, "Save session as", "", "Sessions (*.diaulos)")
        if path:
            self.save_as(Path(path))

    def save_as(self, path: Path) -> None:
        """The whole session under another name, and go on there with all that was changed
        while its files were copied."""
        desk, document, folder = self._desk, self._desk.document, self._desk.folder
        if document is None or folder is None:
            return
        name = path.name.removesuffix(".diaulos")

        def named() -> Session:
            assert document is not None
            return document.session.model_copy(update={"name": name})

        first = named()

        def work(progress: Progress, cancel: CancelToken) -> SessionFolder:
            return folder.copy_to(path, first, progress, cancel)

        def done(made: SessionFolder) -> None:
            now = named()
            missing = now.used_files() - first.used_files()

            def rest(progress: Progress, cancel: CancelToken) -> SessionFolder:
                folder.copy_files(made, missing, progress, cancel)
                return made

            def attach(made: SessionFolder) -> None:
                desk.attach(made, named(), unsaved=named() != first)

            if missing:
                desk.jobs.start(Job("Saving as", rest, attach))
            else:
                attach(made)

        desk.jobs.start(Job("Saving as", work, done))

    def empty_bin(self) -> None:
        """Delete what is in the bin for good, after saying what that costs."""
        desk, document, folder = self._desk, self._desk.document, self._desk.folder
        if document is None or folder is None or desk.jobs.refuse_if_busy():
            return
        before = document.session
        files = before.binned_files()
        if not files:
            desk.window.say("The bin is empty.")
            return
        steps = document.steps_needing(files)
        text = f"{len(files)} file(s) are deleted. This cannot be undone."
        if steps:
            shown = ", ".join(dict.fromkeys(steps[-6:]))
            text += (
                f" Undo forgets its {len(steps)} step(s) that need them ({shown}), and all others."
            )
        if desk.ask("Empty the bin?", text, "Delete") != 0 or not document.apply(edits.empty_bin()):
            return
        document.forget_steps()
        session = document.session

        def work(progress: Progress, cancel: CancelToken) -> Session:
            return delete_binned(folder, session, files)

        def failed(error: Exception) -> None:
            # What is still there is in the bin still, so that it can be tried again.
            passes = tuple(
                one for one in before.bin if all(folder.has_file(file) for file in one.item.files)
            )
            takes = tuple(
                one for one in before.take_bin
                if all(folder.has_file(track.file) for track in one.tracks)
            )  # fmt: skip
            if desk.document is document and (passes or takes):
                document.apply(edits.put_back(passes, takes))
                document.forget_steps()
            desk.show_problem(error)

        desk.jobs.start(Job("Emptying the bin", work, document.mark_saved, failed))

    # --- leaving ---

    def closing(self) -> bool:
        """Whether the window may close now."""
        return self.may_leave(self._desk.window.close)

    def may_leave(self, then: Callable[[], Any]) -> bool:
        """End what runs, ask about what is not saved. Where something has to end first, it is
        waited for with a word, and `then` is called."""
        if self._then is not None:
            return False  # being waited for already
        if not self._end_work():
            return False
        if not self._desk.jobs.empty:
            self._then = then
            self._desk.jobs.drop_background()
            title = self._desk.jobs.title
            what = f"{title} comes to its end" if title else "What runs comes to its end"
            self._desk.window.say(f"{what}\N{HORIZONTAL ELLIPSIS}")
            self._desk.window.stack.setEnabled(False)
            return False
        if self._unasked:
            if self._desk.document is not None:
                self._desk.document.journal_and_wait()
            return True
        return self.may_drop()

    def _on_emptied(self) -> None:
        if self._then is not None:
            then, self._then = self._then, None
            self._desk.window.stack.setEnabled(True)
            then()

    def _end_work(self) -> bool:
        """Ask about what runs and stop it; False when it is to go on."""
        desk = self._desk
        if not desk.jobs.busy:
            return True
        endings = [found for view in desk.views.values() if (found := view.ending())]
        for one in endings:
            if one.question and not self._unasked:
                if desk.ask(one.question, one.text, one.yes, no=one.no) != 0:
                    return False
            one.stop()
        if endings:
            return True
        if not self._unasked:
            title = f"{desk.jobs.title} is running"
            if desk.ask(title, "Cancel it and close?", "Cancel it", no="Keep it running") != 0:
                return False
        desk.jobs.cancel()
        return True

    def may_drop(self) -> bool:
        """Ask only when something would be lost."""
        desk, document, folder = self._desk, self._desk.document, self._desk.folder
        if document is None or folder is None or not document.dirty or document.read_only:
            return True
        answer = desk.ask(
            f"Save the changes to {document.session.name}?",
            "Without saving, the changes since the last save are lost.",
            "Save",
            "Close without saving",
        )
        if answer == 0:
            try:
                session = document.session
                beside(partial(save_session, folder, session))
            except DiaulosError as error:
                desk.show_problem(error)
                return False
            document.mark_saved(session)
        elif answer == 1:
            document.forget_journal()
            folder.drop_journal()
        return answer in (0, 1)

    def end_unasked(self) -> None:
        """The system ends the program: a recording is ended and kept, what is not saved goes
        into the journal, no question is asked."""
        self._unasked = True
        if self._desk.document is not None:
            self._desk.document.journal_and_wait()
        self._desk.window.close()
