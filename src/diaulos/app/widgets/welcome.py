"""What is on screen while no session is open: three ways to begin, and what was open lately."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import fix_width

MOST_RECENT = 6
WAYS = (
    ("open_demo_session", "Open the demo", "Takes, rigs and instruments to try everything on"),
    ("new_session", "New session (Ctrl+N)", "Three questions, and it can record"),
    ("ask_open", "Open (Ctrl+O)", "A session folder, its name ends in .diaulos"),
)


class Welcome(QWidget):
    """Three large choices, recent sessions below."""

    asked = Signal(str)
    """A command of the table of actions, or of the desk."""
    recent_asked = Signal(str)

    def __init__(self, recent: Callable[[], list[str]]) -> None:
        super().__init__()
        self._recent = recent
        self.buttons: dict[str, QPushButton] = {}
        self._list = QVBoxLayout()
        self._list.setSpacing(2)
        column = QVBoxLayout(self)
        column.addStretch(2)
        title = TextLabel("No session is open")
        title.setProperty("role", "headline")
        column.addWidget(title, 0, Qt.AlignmentFlag.AlignHCenter)
        for command, words, about in WAYS:
            button = QPushButton(words)
            button.setProperty("choice", "true")
            button.setAutoDefault(True)  # Enter takes it, as in a dialog
            fix_width(button, 360)
            button.setToolTip(about)
            button.setAccessibleDescription(about)
            button.clicked.connect(lambda _=False, c=command: self.asked.emit(c))
            self.buttons[command] = button
            column.addWidget(button, 0, Qt.AlignmentFlag.AlignHCenter)
            line = TextLabel(about)
            line.setProperty("role", "muted")
            column.addWidget(line, 0, Qt.AlignmentFlag.AlignHCenter)
        column.addSpacing(16)
        column.addLayout(self._list)
        column.addStretch(3)

    def refresh(self) -> None:
        """The sessions that were open lately, those that are still there."""
        while (item := self._list.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()  # else a layout that was about to show it shows it as a window
                widget.setParent(None)
                widget.deleteLater()
        there = [path for path in self._recent() if Path(path).is_dir()][:MOST_RECENT]
        if there:
            head = TextLabel("Recent sessions")
            head.setProperty("role", "title")
            self._list.addWidget(head, 0, Qt.AlignmentFlag.AlignHCenter)
        for path in there:
            button = QPushButton(Path(path).name.removesuffix(".diaulos"))
            button.setFlat(True)
            button.setAutoDefault(True)
            button.setToolTip(path)
            button.setAccessibleName(f"Open {path}")
            button.clicked.connect(lambda _=False, p=path: self.recent_asked.emit(p))
            self._list.addWidget(button, 0, Qt.AlignmentFlag.AlignHCenter)
