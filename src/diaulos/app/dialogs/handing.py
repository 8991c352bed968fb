"""A session in one file: what goes along."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QDialogButtonBox,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.labels import TextLabel
from diaulos.figures import counted
from diaulos.session.model import Session
from diaulos.work.handing.packing import PackChoice, Packing, plan_packing


class HandingDialog(QDialog):
    """Asks what goes along; `packing` is what was chosen."""

    def __init__(
        self, session: Session, there: Callable[[str], bool], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Hand over")
        self._session, self._there = session, there
        self.packing: Packing = plan_packing(session, PackChoice(), there)
        title = TextLabel("A session in one file")
        title.setProperty("role", "title")
        self.takes = QListWidget()
        self.takes.setAccessibleName("Takes that go along")
        for take in session.takes:
            item = QListWidgetItem(take.name)
            item.setData(Qt.ItemDataRole.UserRole, take.id)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked)
            self.takes.addItem(item)
        self.dis = QCheckBox("Dry DIs")
        self.dis.setChecked(True)
        self.dis.setToolTip("Off: their tracks stay in the session, their files at home")
        self.bin = QCheckBox("The bin")
        self.said = TextLabel()
        self.said.setWordWrap(True)
        self.buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        self.pack = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        self.pack.setText("Pack\N{HORIZONTAL ELLIPSIS}")
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        for part in (title, self.takes, self.dis, self.bin, self.said, self.buttons):
            column.addWidget(part)
        self.resize(460, 420)
        self.takes.itemChanged.connect(lambda _item: self._show())
        self.dis.toggled.connect(lambda _on: self._show())
        self.bin.toggled.connect(lambda _on: self._show())
        theme.dress(self)
        self._show()

    def _show(self) -> None:
        kept = tuple(
            self.takes.item(row).data(Qt.ItemDataRole.UserRole)
            for row in range(self.takes.count())
            if self.takes.item(row).checkState() is Qt.CheckState.Checked
        )
        everything = len(kept) == self.takes.count()
        choice = PackChoice(() if everything else kept, self.dis.isChecked(), self.bin.isChecked())
        self.pack.setEnabled(bool(kept) or everything)
        if not kept and not everything:
            self.said.setText("Choose a take.")
            return
        self.packing = plan_packing(self._session, choice, self._there)
        words = [f"{counted(len(self.packing.files), 'file')} go along."]
        if self.packing.left_out:
            words.append(f"{counted(len(self.packing.left_out), 'file')} stay at home.")
        if self.packing.missing:
            words.append(f"Not in the folder: {', '.join(self.packing.missing[:5])}.")
        self.said.setText(" ".join(words))
