"""The instrument in hand: one list, the same in Takes and in Instruments.

Choosing there plugs the instrument into the recording rig and takes its trim along. On a real
device nothing turns by itself: what has to be set is said, and whether it was is asked.
"""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QBoxLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.labels import ElidedLabel, TextLabel, tip
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.session.tone_stage import TrimTask, in_hand, trim_task

STATE_WORDS = {
    "confirmed": "set",
    "not set": "NOT SET",
    "assumed": "taken as set",
    "": "",
}


class InHand(QWidget):
    """Which instrument is plugged in, and what its trim asks for. It asks for edits."""

    edit_asked = Signal(object)

    def __init__(self, *, upright: bool = False) -> None:
        super().__init__()
        self._shown: tuple[object, ...] = ()
        self.box = combo("Instrument in hand", least=10 if upright else 26)
        self.box.setToolTip(
            "What is plugged into the recording rig. Its trim goes with it: one trim for each "
            "instrument, so that all drive the tone alike."
        )
        self.box.activated.connect(self._on_choose)
        # In one line a long name is cut before it widens the window.
        self.task: QLabel = TextLabel() if upright else ElidedLabel()
        self.task.setWordWrap(upright)
        self.done = QPushButton("Done")
        self.done.setToolTip("It is set on the device. Takes remember that.")
        self.done.setAccessibleName("The trim is set")
        self.done.clicked.connect(lambda: self.edit_asked.emit(edits.confirm_trim(True)))
        self.undone = QPushButton("Not set")
        self.undone.setToolTip("It stands otherwise. Takes remember that, and it is said there.")
        self.undone.setAccessibleName("The trim is not set")
        self.undone.clicked.connect(lambda: self.edit_asked.emit(edits.confirm_trim(False)))
        whole: QBoxLayout = QVBoxLayout(self) if upright else QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(4 if upright else 8)
        first, second = QHBoxLayout(), QHBoxLayout()
        first.addWidget(TextLabel("In hand"))
        first.addWidget(self.box, 1 if upright else 0)
        second.addWidget(self.done)
        second.addWidget(self.undone)
        if upright:
            second.addStretch(1)
        whole.addLayout(first)
        if upright:
            whole.addWidget(self.task)
            whole.addLayout(second)
        else:
            whole.addLayout(second)
            whole.addWidget(self.task, 1)
            whole.addStretch(0)  # takes the room while there is no task

    def show_session(self, session: Session, writable: bool) -> None:
        """Show what is plugged in, without asking for anything."""
        held, task = in_hand(session), trim_task(session)
        names = tuple((one.id, one.name) for one in session.instruments)
        shown = (held, task, names, writable, bool(session.rigs))
        if shown == self._shown:
            return
        self._shown = shown
        blocker = QSignalBlocker(self.box)
        self.box.clear()
        if not held:
            self.box.addItem("nobody said", "")
        for ident, name in names:
            self.box.addItem(name, ident)
        choose(self.box, held)
        del blocker
        self.box.setEnabled(writable and bool(names) and bool(session.rigs))
        self._show_task(task, writable)

    def show_again(self, session: Session, writable: bool) -> None:
        """Show it anew: what was chosen did not come about."""
        self._shown = ()
        self.show_session(session, writable)

    def _show_task(self, task: TrimTask | None, writable: bool) -> None:
        asked = task is not None and (task.trim_db != 0.0 or bool(task.pad_on))
        for button in (self.done, self.undone):
            button.setVisible(asked)
            button.setEnabled(writable)
        self.task.setVisible(asked)
        if task is None or not asked:
            return
        self.task.setText(f"{task.words}: {STATE_WORDS[task.state]}.")
        self.task.setProperty("role", "problem" if task.state == "not set" else "muted")
        self.task.style().polish(self.task)
        self.done.setEnabled(writable and task.state != "confirmed")
        self.undone.setEnabled(writable and task.state != "not set")
        self.task.setToolTip(
            tip(
                f"{self.task.text()}\nThe simulated studio turns it by itself; on a real device it "
                "is set by hand. What is said here is stored with every take."
            )
        )

    def _on_choose(self, _index: int) -> None:
        ident = self.box.currentData()
        if ident and ident != self._shown[0]:
            self.edit_asked.emit(edits.choose_instrument(str(ident)))
