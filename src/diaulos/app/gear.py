"""Own gear: the library beside the session that is open."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtGui import QImage

from diaulos import wiring
from diaulos.app.asking import ask_file, ask_folder, ask_to_save
from diaulos.app.holder import Holder
from diaulos.app.jobs import Job
from diaulos.app.widgets.photographs import picture_of
from diaulos.errors import DiaulosError
from diaulos.figures import counted
from diaulos.session.edits import Edit
from diaulos.session.model import Session
from diaulos.session.tone_stage import in_hand
from diaulos.work.library.keeping import Standing, keep, standings, take, what_would_change
from diaulos.work.ports import CancelToken, Progress

if TYPE_CHECKING:
    from diaulos.app.dialogs.gear import GearDialog

GEAR = f"Gear (*{wiring.GEAR_SUFFIX} *.json);;All files (*)"
PICTURES = "Pictures (*.png *.jpg *.jpeg *.webp);;All files (*)"
Task = Callable[[], Any]


class Gear:
    """What is kept for all sessions, and how it comes into this one."""

    def __init__(self, desk: Holder) -> None:
        self._desk = desk
        self.dialog: GearDialog | None = None

    @property
    def _session(self) -> Session | None:
        document = self._desk.document
        return document.session if document is not None else None

    def ask_gear(self) -> None:
        """The library."""
        from diaulos.app.dialogs.gear import GearDialog

        desk = self._desk
        desk.hush()
        dialog = GearDialog(self._session, desk.window)
        self.dialog = dialog
        dialog.taken.connect(self.take_entry)
        dialog.kept.connect(self.keep_thing)
        dialog.tagged.connect(self.tag_entry)
        dialog.exported.connect(self.ask_export_entry)
        dialog.imported.connect(self.ask_import_entry)
        dialog.merged.connect(self.ask_merge)
        dialog.removed.connect(self.remove_entry)
        dialog.chosen.connect(self._show_lines)
        dialog.chosen.connect(self._show_photographs)
        dialog.photograph_asked.connect(self.ask_photograph)
        dialog.photograph_removed.connect(self.remove_photograph)
        self._look()
        dialog.exec()
        self.dialog = None

    # --- looking ---

    def _look(self) -> None:
        library, session, folder = self._desk.services.library, self._session, self._desk.folder

        def work(_progress: Progress, _cancel: CancelToken) -> tuple[Any, tuple[Standing, ...]]:
            listed = library.entries()
            found = standings(session, listed, folder) if session is not None else ()
            return listed, found

        def done(found: tuple[Any, tuple[Standing, ...]]) -> None:
            if self.dialog is not None:
                problems = tuple(one.file for one in library.unread)
                self.dialog.show_gear(self._session, found[0], found[1], problems)

        self._desk.jobs.start(Job("Own gear", work, done, self._failed, background=True))

    def tell_newer(self) -> None:
        """Say once, after a session was opened, what the library has newer."""
        library, session, folder = self._desk.services.library, self._session, self._desk.folder
        if session is None or not session.origins:
            return

        def work(_progress: Progress, _cancel: CancelToken) -> tuple[Standing, ...]:
            return standings(session, library.entries(), folder)

        def done(found: tuple[Standing, ...]) -> None:
            newer = [one.name for one in found if one.state in ("newer", "both")]
            if newer and session is self._session:
                self._desk.window.say(
                    f"The library has a newer {', '.join(newer[:3])}: File > Own gear."
                )

        self._desk.jobs.start(Job("Newer gear", work, done, lambda _error: None, background=True))

    def _show_lines(self, entry_id: str) -> None:
        session, dialog, library = self._session, self.dialog, self._desk.services.library
        if session is None or dialog is None:
            return
        keys = [key for key, origin in session.origins.items() if origin.entry == entry_id]
        if not keys:
            return

        def work(_progress: Progress, _cancel: CancelToken) -> Any:
            return what_would_change(session, keys[0], library.read(entry_id))

        def done(lines: Any) -> None:
            if self.dialog is dialog:
                dialog.show_lines(entry_id, lines)

        self._desk.jobs.start(Job("What would change", work, done, self._failed, background=True))

    def _show_photographs(self, entry_id: str) -> None:
        dialog, library = self.dialog, self._desk.services.library

        def work(_progress: Progress, _cancel: CancelToken) -> list[tuple[str, QImage]]:
            return [(name, picture_of(data)) for name, data in
                    wiring.photographs_of(library, entry_id)]  # fmt: skip

        def done(found: list[tuple[str, QImage]]) -> None:
            if dialog is not None and self.dialog is dialog:
                dialog.show_photographs(entry_id, found)

        self._desk.jobs.start(Job("Photographs", work, done, self._failed, background=True))

    # --- doing ---

    def _failed(self, error: Exception) -> None:
        if self.dialog is not None and isinstance(error, DiaulosError):
            self.dialog.say(str(error))
        else:
            self._desk.show_problem(error)

    def _do(self, title: str, work: Task, done: Callable[[Any], str]) -> None:
        def finished(result: Any) -> None:
            words = done(result)
            if self.dialog is not None:
                self.dialog.say(words)
            self._look()

        self._desk.jobs.start(Job(title, lambda _p, _c: work(), finished, self._failed))

    def keep_thing(self, kind: Any, ident: str) -> None:
        """Something of the session, into the library."""
        document, folder, services = self._desk.document, self._desk.folder, self._desk.services
        if document is None or folder is None:
            return
        session, now = document.session, services.clock().isoformat(timespec="seconds")[:19]

        def done(found: tuple[Any, Edit]) -> str:
            entry, edit = found
            if not document.read_only:
                document.apply(edit)
            return f"{entry.name} is in the library."

        self._do("Keeping", lambda: keep(session, kind, ident, services.library, folder, now), done)

    def take_entry(self, entry_id: str, key: str) -> None:
        """An entry, into the session."""
        document, folder, library = (
            self._desk.document, self._desk.folder, self._desk.services.library
        )  # fmt: skip
        if document is None or folder is None:
            return
        if document.read_only:
            self._failed(DiaulosError("The session is read-only.", remedy="Save it under a name."))
            return
        session = document.session

        def work() -> tuple[str, Edit]:
            entry = library.read(entry_id)
            where = key
            if not where and entry.kind == "cable":
                where = f"cable:{in_hand(session)}" if in_hand(session) else ""
            return entry.name, take(entry, library, folder, where)

        def done(found: tuple[str, Edit]) -> str:
            document.apply(found[1])
            return f"{found[0]} is in the session; Ctrl+Z takes it out again."

        self._do("Taking from the library", work, done)

    def tag_entry(self, entry_id: str, tags: tuple[str, ...]) -> None:
        """An entry with other tags."""
        library = self._desk.services.library

        def work() -> str:
            library.write(library.tagged(entry_id, tags))
            return ", ".join(tags) or "none"

        self._do("Tagging", work, lambda told: f"Tags: {told}.")

    def remove_entry(self, entry_id: str) -> None:
        """An entry less."""
        library = self._desk.services.library

        def work() -> str:
            entry = library.read(entry_id)
            library.remove(entry)
            return entry.name

        self._do("Removing", work, lambda name: f"{name} went to the library's folder earlier.")

    def ask_photograph(self, entry_id: str) -> None:
        """A picture of the thing, from a file."""
        path = ask_file(self._desk.window, "A photograph", PICTURES)
        library = self._desk.services.library
        if path:
            self._do(
                "Keeping a photograph",
                lambda: wiring.add_photograph(library, entry_id, Path(path)),
                lambda name: f"{name} lies beside the entry.",
            )

    def remove_photograph(self, entry_id: str, name: str) -> None:
        """An entry less one photograph."""
        library = self._desk.services.library
        self._do(
            "Removing a photograph", lambda: wiring.remove_photograph(library, entry_id, name),
            lambda _none: f"{name} belongs to the entry no more; its file stays in the folder.",
        )  # fmt: skip

    def ask_export_entry(self, entry_id: str) -> None:
        """An entry as one file."""
        name = f"{entry_id}{wiring.GEAR_SUFFIX}"
        path = ask_to_save(self._desk.window, "Export gear", name, GEAR)
        library = self._desk.services.library
        if path:
            self._do(
                "Exporting", lambda: wiring.export_entry(library, entry_id, Path(path),
                                                         replace=True),
                lambda _none: f"Written: {path}",
            )  # fmt: skip

    def ask_import_entry(self) -> None:
        """One more entry, from a file."""
        path = ask_file(self._desk.window, "Import gear", GEAR)
        library = self._desk.services.library
        if path:
            self._do("Importing", lambda: wiring.import_entry(library, Path(path)), _told)

    def ask_merge(self) -> None:
        """Another copy of the library, taken in."""
        path = ask_folder(self._desk.window, "Merge a library")
        library = self._desk.services.library
        if path:
            self._do("Merging", lambda: wiring.merge_library(library, Path(path)), _told)


def _told(steps: list[dict[str, Any]]) -> str:
    """What became of the entries, by the way."""
    if len(steps) == 1:
        return f"{steps[0]['name']} {steps[0]['words']}."
    ways: dict[str, list[str]] = {}
    for one in steps:
        ways.setdefault(one["way"], []).append(one["name"])
    words = [f"{counted(len(names), 'entry')} {way}" for way, names in ways.items()]
    told = ", ".join(words) or "nothing in it"
    both = ways.get("conflict", [])
    return f"{told}." + (f" Changed in both, kept twice: {', '.join(both[:5])}." if both else "")
