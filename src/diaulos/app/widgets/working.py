"""The place in the status line that tells how far a job is, with Cancel. Only the
words beside it give way when a job begins."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton

from diaulos.app.jobs import Jobs
from diaulos.app.widgets.painted import Rescaled, fix_height, fix_width

WIDTH = 140
CANCEL, STOP = "Cancel (Esc)", "Stop (Esc)"


class Working(Rescaled):
    """Follows the jobs by itself; empty while nothing runs."""

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        fix_width(self.bar, WIDTH)
        fix_height(self.bar, 14)
        self.bar.setAccessibleName("Progress")
        self._jobs = jobs
        self.cancel = QPushButton(CANCEL)
        self.cancel.setProperty("tiny", "true")
        self.cancel.clicked.connect(jobs.cancel)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 8, 0)
        row.addWidget(self.bar)
        row.addWidget(self.cancel)
        self.rescaled()
        self._show(False)
        jobs.started.connect(self._on_started)
        jobs.progressed.connect(self._on_progress)
        jobs.ended.connect(self._on_ended)
        self.focus_after: Callable[[], None] | None = None
        """Says who gets the keyboard when the job ends while Cancel has it."""

    def rescaled(self) -> None:
        # As high as with its button: the line below the view never grows under it.
        self.setMinimumHeight(self.cancel.sizeHint().height())
        super().rescaled()

    def _show(self, running: bool) -> None:
        self.bar.setVisible(running)
        self.cancel.setVisible(running)

    def _on_started(self, title: str) -> None:
        self.bar.setValue(0)
        self.bar.setAccessibleDescription(title)
        self.cancel.setText(STOP if self._jobs.keeps else CANCEL)
        self._show(True)

    def _on_progress(self, fraction: float, text: str) -> None:
        self.bar.setValue(round(1000 * fraction))
        self.bar.setAccessibleDescription(text)

    def _on_ended(self) -> None:
        if self.cancel.hasFocus() and self.focus_after is not None:
            self.focus_after()
        self._show(False)
