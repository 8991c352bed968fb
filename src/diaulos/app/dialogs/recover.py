"""What lies in the session's folder and is not in the session: choose what comes back."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.widgets.labels import TextLabel
from diaulos.work.reamp.recovery import Remains

KEY = Qt.ItemDataRole.UserRole


class RecoverDialog(QDialog):
    """A list to tick; `chosen` is what was ticked."""

    def __init__(self, found: Remains, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Recover recordings")
        self.resize(560, 380)
        self.list = QListWidget()
        self.list.setAccessibleName("What lies in the folder and is not in the session")
        for ident in found.takes:
            self._add(
                f"Recording {ident}: cut off, with the note of what it was to be", "take", ident
            )
        for file in found.passes:
            self._add(f"Return {file}: belongs to a stored take", "pass", file)
        for file in found.others:
            item = self._add(f"{file}: nothing is known of it", "", file)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled)
            item.setToolTip("File > Import files as a take brings it in, if you want it.")
        hint = "Ticked ones come back; nothing is deleted."
        if not (found.takes or found.passes):
            hint = "Nothing here waits to be brought back."
        words = TextLabel(hint)
        words.setProperty("role", "muted")
        words.setWordWrap(True)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.bring = buttons.addButton("Bring back", QDialogButtonBox.ButtonRole.AcceptRole)
        self.bring.setEnabled(bool(found.takes or found.passes))
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(words)
        column.addWidget(self.list, 1)
        column.addWidget(buttons)

    def _add(self, words: str, kind: str, key: str) -> QListWidgetItem:
        item = QListWidgetItem(words)
        item.setData(KEY, (kind, key))
        if kind:
            item.setCheckState(Qt.CheckState.Checked)
        self.list.addItem(item)
        return item

    @property
    def chosen(self) -> Remains:
        """What is ticked."""
        ticked: dict[str, list[str]] = {"take": [], "pass": []}
        for row in range(self.list.count()):
            item = self.list.item(row)
            kind, key = item.data(KEY)
            if kind and item.checkState() == Qt.CheckState.Checked:
                ticked[kind].append(key)
        return Remains(tuple(ticked["take"]), tuple(ticked["pass"]), ())
