"""Import: a DI, or files as one take."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from diaulos.app.asking import ask_file, ask_files
from diaulos.app.holder import Holder
from diaulos.app.jobs import Job
from diaulos.errors import DiaulosError
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.takes.importing import ImportOutcome, ImportRequest, import_di
from diaulos.work.takes.take_import import TakeImportRequest, import_take

AUDIO = "Audio (*.wav *.flac *.rf64);;All files (*)"


class Importing:
    """How audio from elsewhere comes into the session."""

    def __init__(self, desk: Holder) -> None:
        self._desk = desk

    def ask_import(self) -> None:
        """Ask for a file and for what must be known about it."""
        path = ask_file(self._desk.window, "Import DI", AUDIO)
        if path:
            self.import_dialog(Path(path))

    def import_dialog(self, path: Path) -> None:
        """Ask for what must be known about a file, then import it."""
        from diaulos.app.dialogs.import_di import ImportDiDialog

        desk = self._desk
        if desk.document is None:
            return
        try:
            source = desk.services.files.open(path)
        except DiaulosError as error:
            desk.show_problem(error)
            return
        dialog = ImportDiDialog(
            path,
            source.channels,
            source.rate_hz,
            source.frames / source.rate_hz,
            desk.document.session,
            desk.window,
        )
        if dialog.exec():
            self.import_file(dialog.request())

    def import_file(self, request: ImportRequest) -> None:
        """Import a file as a new take."""
        document, services = self._desk.document, self._desk.services
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

        self._start(f"Importing {request.path.name}", work)

    def ask_import_take(self) -> None:
        """Ask for files, and what their channels are."""
        paths = ask_files(self._desk.window, "Import files as a take", AUDIO)
        if paths:
            self.import_take_dialog([Path(path) for path in paths])

    def import_take_dialog(self, paths: list[Path]) -> None:
        """Ask what the channels of some files are, then import them."""
        from diaulos.app.dialogs.import_take import ImportTakeDialog

        desk = self._desk
        if desk.document is None:
            return
        try:
            found = [(path, desk.services.files.open(path)) for path in paths]
        except DiaulosError as error:
            desk.show_problem(error)
            return
        dialog = ImportTakeDialog(found, desk.document.session, desk.window)
        if dialog.exec():
            self.import_take(dialog.request())

    def import_take(self, request: TakeImportRequest) -> None:
        """Import files as one take."""
        document, services = self._desk.document, self._desk.services
        if document is None:
            return
        session, store = document.session, document.store

        def work(progress: Progress, cancel: CancelToken) -> ImportOutcome:
            return import_take(
                request, session, store=store, files=services.files, resample=services.resample,
                clock=services.clock, progress=progress, cancel=cancel,
            )  # fmt: skip

        self._start(f"Importing {request.name}", work)

    def _start(self, title: str, work: Callable[[Progress, CancelToken], ImportOutcome]) -> None:
        desk, document = self._desk, self._desk.document
        assert document is not None

        def done(outcome: ImportOutcome) -> None:
            if document.apply(outcome.edit, journal=True):
                for view in desk.views.values():
                    view.imported(outcome.take.id)
                desk.window.say(f"{outcome.take.name} is in the session. {outcome.note}".strip())

        desk.jobs.start(Job(title, work, done))
