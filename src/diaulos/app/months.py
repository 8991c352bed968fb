"""Over months: the sessions of a folder, read beside the one that is open."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from diaulos import wiring
from diaulos.app.asking import ask_folder
from diaulos.app.holder import Holder
from diaulos.app.jobs import Job
from diaulos.work.months.timeline import Change, Series, changes, timeline
from diaulos.work.ports import CancelToken, Progress

if TYPE_CHECKING:
    from diaulos.app.dialogs.months import MonthsDialog

Found = tuple[tuple[Series, ...], tuple[Change, ...], int, list[tuple[str, str]]]


class Months:
    """Reads the sessions around the one that is open."""

    def __init__(self, desk: Holder) -> None:
        self._desk = desk
        self.dialog: MonthsDialog | None = None

    def ask_months(self) -> None:
        """What was measured over months, in the folder of the open session."""
        from diaulos.app.dialogs.months import MonthsDialog

        document = self._desk.document
        if document is None:
            return
        dialog = MonthsDialog("", self._desk.window)
        self.dialog = dialog
        dialog.folder_asked.connect(self._ask_folder)
        self.look(document.path.parent)
        dialog.exec()
        self.dialog = None

    def _ask_folder(self) -> None:
        path = ask_folder(self._desk.window, "Where your sessions lie")
        if path:
            self.look(Path(path))

    def look(self, folder: Path) -> None:
        """Read every session in a folder."""
        if self.dialog is not None:
            self.dialog.folder.setText(str(folder))
            self.dialog.said.setText("Reading\N{HORIZONTAL ELLIPSIS}")

        def work(_progress: Progress, _cancel: CancelToken) -> Found:
            sessions, unread = wiring.sessions_below([folder])
            series = timeline(sessions)
            return series, changes(series), len(sessions), unread

        def done(found: Found) -> None:
            if self.dialog is not None:
                self.dialog.show_found(*found)

        self._desk.jobs.start(
            Job("Over months", work, done, self._desk.show_problem, background=True)
        )
