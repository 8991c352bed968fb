"""The row that a view shows while a job runs: how far it is, and Cancel."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QWidget

from diaulos.app.jobs import Jobs


class Working(QWidget):
    """Follows the jobs by itself; hidden while nothing runs."""

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setAccessibleName("Progress")
        self.cancel = QPushButton("Cancel (Esc)")
        self.cancel.clicked.connect(jobs.cancel)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.bar, 1)
        row.addWidget(self.cancel)
        self.hide()
        jobs.started.connect(self._on_started)
        jobs.progressed.connect(self._on_progress)
        jobs.ended.connect(self._on_ended)
        self.focus_after: QWidget | None = None
        """Who gets the keyboard when the job ends while Cancel has it."""

    def _on_started(self, title: str) -> None:
        self.bar.setValue(0)
        self.bar.setFormat(f"{title}\N{HORIZONTAL ELLIPSIS}")
        self.show()

    def _on_progress(self, fraction: float, text: str) -> None:
        self.bar.setValue(round(1000 * fraction))
        self.bar.setFormat(f"{text}  %p %")

    def _on_ended(self) -> None:
        if self.cancel.hasFocus() and self.focus_after is not None:
            self.focus_after.setFocus()
        self.hide()
