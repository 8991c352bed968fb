"""The session that is open, its folder, its views and the strip above them.

What is done with sessions stands in rooms of its own: opening, saving, importing. The desk
knows no view by name; they stand in `view_table.py`. Imported after the first paint: from
here on the document's own modules are needed.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from html import escape
from pathlib import Path

from PySide6.QtCore import QObject, QRect, Qt
from PySide6.QtWidgets import QAbstractButton, QListWidget, QMessageBox, QWidget
from shiboken6 import isValid

from diaulos.app import theme
from diaulos.app.asking import ask
from diaulos.app.breathing import breathe
from diaulos.app.collecting import Keeper
from diaulos.app.document import Document
from diaulos.app.gear import Gear
from diaulos.app.importing import Importing
from diaulos.app.jobs import Jobs
from diaulos.app.main_window import MainWindow
from diaulos.app.months import Months
from diaulos.app.opening import Opening
from diaulos.app.practices import Practices
from diaulos.app.recorded import Recorded
from diaulos.app.saving import Saving
from diaulos.app.services import Services
from diaulos.app.sounding import Sounding
from diaulos.app.training import Training
from diaulos.app.view import GoneError, View, ViewContext
from diaulos.app.widgets.controls import TICKS
from diaulos.app.widgets.pictured import Pictured
from diaulos.app.widgets.working import Working
from diaulos.errors import CancelledError, DiaulosError
from diaulos.ids import BENCH
from diaulos.session import edits, take_edits
from diaulos.session.model import Session
from diaulos.wiring import SessionFolder
from diaulos.work.listening.sound import Sound
from diaulos.work.reamp.words import Loops


class Desk(QObject):
    """One session at a time, and the views on it."""

    def __init__(self, window: MainWindow, services: Services) -> None:
        super().__init__(window)
        self.window = window
        self.services = services
        self.jobs = Jobs(self)
        self.document: Document | None = None
        self.folder: SessionFolder | None = None
        self.sound: Sound | None = None
        self.views: dict[str, View] = {}
        self.keeper = Keeper()
        self.ended = False
        """Whether the window has closed."""
        self.opening = Opening(self)
        self.saving = Saving(self)
        self.importing = Importing(self)
        self.sounding = Sounding(self)
        self.gear = Gear(self)
        self.training = Training(self)
        self.practices = Practices(self)
        self.months = Months(self)
        self._table = {row.ident: row for row in window.views}
        self._loops = Loops()
        self._recorded = Recorded(self.jobs, self)
        self._recorded.found.connect(self._on_recorded)
        self._making: set[str] = set()
        window.desk = self
        window.strip.chosen.connect(self._on_course)
        self.jobs.started.connect(self._on_busy)
        self.jobs.progressed.connect(self._on_progress)
        self.jobs.ended.connect(window.update_actions)
        self.jobs.idle.connect(window.update_actions)
        self.jobs.failed.connect(self.show_problem)
        self.jobs.refused.connect(window.say)
        self.jobs.capturing.connect(self._on_capturing)
        self.working = Working(self.jobs)
        window.show_work(self.working)
        window.show_welcome()
        window.update_actions()

    # --- for the window ---

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
        return next((view for view in self.views.values() if view is shown), None)

    def history_labels(self) -> tuple[str, str]:
        """What undo and redo would do."""
        if self.document is None:
            return "", ""
        if self.recording:
            return "", ""
        return self.document.undo_label, self.document.redo_label

    def command(self, name: str) -> Callable[[], object]:
        """A command by its name, wherever it stands."""
        for room in (
            self,
            self.opening,
            self.saving,
            self.importing,
            self.sounding,
            self.gear,
            self.training,
            self.practices,
            self.months,
        ):
            found = getattr(room, name, None)
            if callable(found):
                return found  # type: ignore[no-any-return]  # getattr knows no types
        raise LookupError(name)

    def call(self, name: str) -> None:
        """Carry out a command of the table of actions."""
        self.command(name)()

    def call_view(self, name: str) -> None:
        """Carry out a command of the view on screen."""
        getattr(self.current, name)()

    def open_path(self, path: str | Path, *, read_only: bool = False) -> bool:
        """Open a session."""
        return self.opening.open_path(path, read_only=read_only)

    def save(self, then: Callable[[], None] | None = None) -> None:
        """Save; `then` is called when it is on the disk."""
        self.saving.save(then)

    def dropped(self, paths: list[Path]) -> None:
        """A session folder is opened; audio files become a take."""
        folders = [path for path in paths if path.is_dir()]
        if folders:
            self.open_path(folders[0])
        elif self.document is None:
            self.window.say("Open a session first: files become a take in it.")
        elif self.document.read_only:
            self.window.say("The session is read-only: nothing is brought in.")
        else:
            self.importing.import_take_dialog(paths)

    def closing(self) -> bool:
        """Whether the window may close now."""
        return self.saving.closing()

    def may_leave(self, then: Callable[[], object]) -> bool:
        """Whether the open session may be left now; `then` is called when it may later."""
        return self.saving.may_leave(then)

    def end_unasked(self) -> None:
        """The system ends the program: keep everything, ask nothing, close the window."""
        self.saving.end_unasked()

    def show_problem(self, error: Exception) -> None:
        """Say what went wrong and what to do."""
        if isinstance(error, CancelledError):
            self.window.say(error.what)
            return
        self.window.say(str(error))
        box = QMessageBox(self.window)
        box.setIcon(QMessageBox.Icon.Warning)
        box.setWindowTitle("Diaulos")
        # What it quotes may come from a stranger's file: it is text, not markup.
        box.setTextFormat(Qt.TextFormat.PlainText)
        if isinstance(error, DiaulosError):
            box.setText(error.what[:1].upper() + error.what[1:])
            box.setInformativeText("\n".join(part for part in (error.remedy, error.where) if part))
        else:
            box.setText("Something went wrong inside Diaulos. Nothing saved was lost.")
            box.setInformativeText(f"{type(error).__name__}: {error}")
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def ask(self, title: str, text: str, *answers: str, no: str = "Cancel") -> int:
        """Ask with one button for each answer; which one was pressed, -1 for `no` and Esc."""
        return ask(self.window, title, text, *answers, no=no)

    # --- one session ---

    def attach(
        self,
        folder: SessionFolder,
        session: Session,
        *,
        unsaved: bool = False,
        loops: Loops | None = None,
        view: str = "",
    ) -> None:
        """Show this session in place of the one before, in this view or in that of the last
        time; `loops` knows its rigs already."""
        self.detach()
        self._loops = loops or Loops()
        self.keeper.keep()
        preferences = self.window.preferences
        self.folder = folder
        self.document = Document(
            session,
            folder,
            folder.path,
            read_only=folder.read_only,
            write_journal=folder.write_journal,
            parent=self,
        )
        if unsaved:
            self.document.mark_unsaved()
        self.document.state_changed.connect(self._on_state)
        self.document.failed.connect(self.show_problem)
        self.document.gone.connect(self._on_gone)
        self.sound = Sound(
            self.services.output,
            session.sample_rate_hz,
            preferences.levels_db,
            partial(setattr, preferences, "levels_db"),
        )
        with self.jobs.held():  # what is worked out beside it waits until the view can be used
            self.show(view or self.window.first_view().ident)
            if self.folder is not folder:
                return  # the program was ended while the view was made
            preferences.add_recent(str(folder.path))
            breathe()
            self._on_state()
            breathe()
            if self.folder is not folder:
                return
            self.gear.tell_newer()
            self.practices.look()
            self.document.changed.connect(self._on_document)

    def _on_document(self, before: Session | None, after: Session) -> None:
        """What is said of the house's practice follows what is edited."""
        if after.practice or (before is not None and before.practice):
            self.practices.look()

    def detach(self) -> None:
        """Let go of the session, whatever is not saved of it."""
        self.jobs.drop_background()
        self._recorded.forget()
        for view in self.views.values():
            view.close_down()
            self.window.stack.removeWidget(view)
            view.deleteLater()
        self.views.clear()
        if self.sound is not None:
            self.sound.close()
            self.sound = None
        if self.document is not None:
            self.document.close()
            self.document.deleteLater()
            self.document = None
        if self.folder is not None:
            self.folder.close()
            self.folder = None

    def shut_down(self) -> None:
        """The window is closing: stop everything, give the lock back."""
        self.ended = True
        self.jobs.end_all()
        self.detach()

    def _on_gone(self) -> None:
        """The folder was unplugged, deleted or renamed: told once, nothing goes on there."""
        for view in self.views.values():
            ending = view.ending()
            if ending is not None:
                ending.stop()
        assert self.document is not None
        if self.ask(
            "The session's folder is not there any more",
            f"{self.document.path}\nWas a disk unplugged, or the folder renamed? What is in this "
            "window can be saved elsewhere; its audio comes back with the folder.",
            "Save as\N{HORIZONTAL ELLIPSIS}",
            no="Not now",
        ) == 0:  # fmt: skip
            self.saving.ask_save_as()

    def _on_state(self) -> None:
        document = self.document
        if document is None:
            return
        session = document.session
        mark = "*" if document.dirty else ""
        only = " (read-only)" if document.read_only else ""
        self.window.setWindowTitle(f"{session.name}{mark}{only} \N{EN DASH} Diaulos")
        self.say_where()
        self.window.update_actions()

    def _on_capturing(self) -> None:
        """A stream is about to be opened: playback pauses, and lets go of a real device, which
        may be there for one program only."""
        self.hush()
        if self.sound is not None and self.services.device() != BENCH:
            self.sound.close()

    def device_changed(self) -> None:
        """What is open to listen by is let go; the next sound opens what is chosen now."""
        if self.sound is not None:
            self.sound.close()
        for view in self.views.values():
            view.device_changed()
        self.say_where()

    def say_where(self) -> None:
        """What is open, and by which device it sounds."""
        if self.document is None:
            return
        session = self.document.session
        word = "24 bit" if session.word_length == "24" else "32 bit float"
        only = " (read-only)" if self.document.read_only else ""
        self.window.say_where(
            f"{session.sample_rate_hz / 1000:g} kHz, {word}, {session.tempo_bpm:g} bpm, "
            f"{session.metre}{only}"
        )

    # --- views and strip ---

    def show(self, ident: str) -> None:
        """Show a view; it is made when it is first asked for: starting does not pay for it."""
        if self.document is None or ident in self._making:
            return
        left = self.current
        if left is not None and left.ident != ident:
            left.leave()  # before the other one is made: the window lives meanwhile
            self.hush()
        with self.jobs.held():
            try:
                view = self.views.get(ident) or self._made(ident)
            except GoneError:
                return
            self._turn_to(view)
        if self.views.get(ident) is not view or self.current is not view:
            return
        self._on_rows(view)
        # The focus must not fall onto a button: Space stays with playback.
        self.working.focus_after = view.take_focus
        view.take_focus()
        self.window.update_actions()
        self.window.dress_rest()

    def _turn_to(self, view: View) -> None:
        """Bring a view to the front. It is laid out, its pictures are drawn one by one, and then
        it is painted: all at once would be felt. Until then what was there stays on screen."""
        stack = self.window.stack
        stack.setUpdatesEnabled(False)
        try:
            stack.setCurrentWidget(view)
            self.window.rail.show_chosen(view.ident)
            self.window.preferences.view = view.ident
            breathe()  # what is in it gets its place
            for drawing in view.findChildren(QWidget):
                if isinstance(drawing, Pictured) and isValid(drawing) and drawing.isVisible():
                    drawing.make_ready()
                    breathe()
        finally:
            stack.setUpdatesEnabled(True)
        breathe()  # the page is painted before anything else is done

    def _made(self, ident: str) -> View:
        """A new view, in its place. GoneError when the session went while it was made."""
        document = self.document
        assert document is not None
        assert self.sound is not None

        def between() -> None:
            breathe()
            if self.document is not document:
                raise GoneError

        context = ViewContext(
            document,
            self.jobs,
            self.services,
            self.sound,
            self.window.preferences,
            self._loops,
            between,
        )
        self._making.add(ident)
        try:
            view = self._table[ident].load()(context)
            self.views[ident] = view
            self._fit_in(view, between)
        finally:
            self._making.discard(ident)
        return view

    def _fit_in(self, view: View, between: Callable[[], None]) -> None:
        self.keeper.view_made()
        view.said.connect(self.window.say)
        view.problem.connect(self.show_problem)
        view.empty_asked.connect(self.saving.empty_bin)
        view.courses_changed.connect(lambda *_: self._on_rows(view))
        # Dressed in its place: what moves to another parent is worked out once more.
        self.window.stack.addWidget(view)
        between()
        dress = partial(theme.dress, view, between)
        lay_out = partial(_lay_out, view, self.window.stack)
        for step in (view.begin, lambda: self._fit_out(view), dress, lay_out):
            step()
            between()

    def _fit_out(self, view: View) -> None:
        for button in view.findChildren(QAbstractButton):
            # A click leaves the focus where it was: Space stays with playback.
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            self.window.guard_space(button)
        for ticks in view.findChildren(QListWidget):
            if ticks.property(TICKS):
                self.window.guard_space(ticks)
        for widget, idents in view.menus():
            widget.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
            widget.addActions([self.window.action(ident) for ident in idents])

    def hush(self) -> None:
        """Playback pauses, wherever it comes from."""
        if self.sound is not None:
            self.sound.pause()

    def _on_course(self, key: str) -> None:
        if self.current is None:
            return
        if self.current.course_rows[0]:
            self.current.choose_course(key)
        else:
            self.window.say("The rig and its courses are drawn in Rig, Ctrl+2.")

    def _on_rows(self, view: View) -> None:
        """The strip shows the courses of the view on screen, or what the rig records where it has
        none of its own."""
        if view is not self.current or self.document is None:
            return
        rows, chosen = view.course_rows
        if not rows:
            recorded, document = self._recorded, self.document
            rows = recorded.known(document) if view.draws_courses else recorded.rows(document)
        self.window.strip.set_rows(rows, chosen)

    def _on_recorded(self) -> None:
        if self.current is not None:
            self._on_rows(self.current)

    def _on_busy(self, title: str) -> None:
        self.window.say(f"{title}\N{HORIZONTAL ELLIPSIS}")
        self.window.update_actions()

    def _on_progress(self, fraction: float, text: str) -> None:
        self.window.say(f"{text} {fraction:.0%}")
        if self.document is None:
            self.window.say_empty(f"<h2>{escape(text)}</h2><p>{fraction:.0%}</p>")

    # --- edits and copies ---

    @property
    def recording(self) -> bool:
        """Whether a view runs what is asked about before it is ended."""
        endings = (view.ending() for view in self.views.values())
        return any(one is not None and one.question for one in endings)

    def undo(self) -> None:
        """One step back; not under a recording, which would end in another session."""
        if self.document is not None and not self._held():
            self.document.undo()

    def redo(self) -> None:
        """One step forward again."""
        if self.document is not None and not self._held():
            self.document.redo()

    def _held(self) -> bool:
        if self.recording:
            self.window.say("Nothing is undone while a take is recorded.")
        return self.recording

    def restore(self) -> None:
        """What was discarded last, out of the bin: a take in Takes, a pass elsewhere."""
        if self.document is None:
            return
        session = self.document.session
        takes_first = self.current is not None and self.current.takes_first
        if session.take_bin and (takes_first or not session.bin):
            self.document.apply(take_edits.restore_take(session.take_bin[-1].id))
        elif session.bin:
            self.document.apply(edits.restore_pass(session.bin[-1].item.main.file))
        else:
            self.window.say("The bin is empty.")

    def cancel(self) -> None:
        """Ask the job that runs to stop; without one, whatever the view on screen leaves by Esc."""
        busy = self.jobs.busy
        self.jobs.cancel()
        if not busy and self.current is not None:
            self.current.escape()

    def copy_image(self) -> None:
        """The plot on screen into the clipboard."""
        if self.current is not None:
            self.current.plot.copy_image()
            self.window.say("The plot is in the clipboard, as an image.")

    def copy_csv(self) -> None:
        """Its figures into the clipboard."""
        if self.current is not None:
            self.current.plot.copy_csv()
            self.window.say("The plot's figures are in the clipboard, as CSV.")


def _lay_out(view: View, stack: QWidget) -> None:
    """Give it its size and everything in it its place, before it is shown: that is felt by
    itself. A picture of one pixel does it, as Qt lays out what it paints."""
    view.resize(stack.size())
    view.grab(QRect(0, 0, 1, 1))
