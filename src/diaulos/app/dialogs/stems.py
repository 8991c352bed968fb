"""Stems: which takes, how they are written, and what the files will be called."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.calibration import CalibrationField
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import fix_height
from diaulos.app.widgets.tables import Cell, Table
from diaulos.errors import DiaulosError
from diaulos.figures import clock, counted
from diaulos.session.model import Session
from diaulos.work.handing.stems import (
    PATTERN,
    PATTERN_OF_SEVERAL,
    Stem,
    StemChoice,
    calibration_words,
    plan_stems,
)
from diaulos.work.sheets.tracking import takes_of


class StemsDialog(QDialog):
    """Asks what is written; `choice` and `stems` are what was chosen."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Stems")
        self._session = session
        self.choice = StemChoice()
        self.stems: tuple[Stem, ...] = ()
        self.takes = QListWidget()
        self.takes.setAccessibleName("Takes")
        self.takes.setToolTip("Space takes a take out or puts it in")
        usual = {take.id for take in takes_of(session, "")}
        for take in session.takes:
            item = QListWidgetItem(take.name)
            item.setData(Qt.ItemDataRole.UserRole, take.id)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            there = take.id in usual
            item.setCheckState(Qt.CheckState.Checked if there else Qt.CheckState.Unchecked)
            self.takes.addItem(item)
        fix_height(self.takes, 96)
        self.pattern = QLineEdit()
        self.pattern.setPlaceholderText(PATTERN)
        self.pattern.setAccessibleName("Pattern of names")
        self.pattern.setToolTip("{n} {name} {take} {tap} {session}; {n:02} with a leading zero")
        self.matched = QCheckBox("At matched level")
        self.matched.setChecked(True)
        self.matched.setToolTip("Off: passes as loud as they came back")
        self.rendered = QCheckBox("Through cabinets and low cuts")
        self.rendered.setChecked(True)
        self.floats = QCheckBox("32-bit float")
        self.floats.setChecked(session.word_length == "float")
        self.made_for = CalibrationField()
        self.made_for.level.setToolTip(
            "What a software amplifier expects at 0 dBFS: the gain to set ahead of it is the DI's"
            " figure less this one"
        )
        self.preview = Table("The files", ("File", "Length", "What it is"), 2, {0: 250})
        self.preview.setSelectionMode(Table.SelectionMode.NoSelection)
        self.said = TextLabel()
        self.said.setWordWrap(True)
        form = QFormLayout()
        form.addRow("Takes", self.takes)
        form.addRow("Names", self.pattern)
        for box in (self.matched, self.rendered, self.floats):
            form.addRow("", box)
        form.addRow("Software amplifier", self.made_for)
        self.buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        self.write = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        self.write.setText("Write into a folder\N{HORIZONTAL ELLIPSIS}")
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(self.preview, 1)
        column.addWidget(self.said)
        column.addWidget(self.buttons)
        self.resize(640, 600)
        self.takes.itemChanged.connect(lambda _item: self._show())
        self.pattern.textChanged.connect(lambda _text: self._show())
        for box in (self.matched, self.rendered, self.floats):
            box.toggled.connect(lambda _on: self._show())
        self.made_for.changed.connect(self._show)
        self.made_for.level.valueChanged.connect(lambda _v: self._show())
        theme.dress(self)
        self._show()

    def _chosen(self) -> StemChoice:
        takes = tuple(
            self.takes.item(row).data(Qt.ItemDataRole.UserRole)
            for row in range(self.takes.count())
            if self.takes.item(row).checkState() is Qt.CheckState.Checked
        )
        return StemChoice(
            takes=takes,
            pattern=self.pattern.text().strip(),
            matched=self.matched.isChecked(),
            rendered=self.rendered.isChecked(),
            made_for_dbu=self.made_for.value,
            word="float" if self.floats.isChecked() else "24",
        )

    def _show(self) -> None:
        self.choice = self._chosen()
        several = len(self.choice.takes) > 1
        self.pattern.setPlaceholderText(PATTERN_OF_SEVERAL if several else PATTERN)
        self.stems = ()
        if not self.choice.takes:
            self.said.setText("Choose a take.")
        else:
            try:
                self.stems = plan_stems(self._session, self.choice)
            except DiaulosError as error:
                self.said.setText(str(error))
        rate = self._session.sample_rate_hz
        rows = []
        for one in self.stems:
            dry = one.tap == "di" and one.track is not None
            words = calibration_words(one, self.choice) if dry else "; ".join(one.decided)
            rows.append(
                (
                    one.file,
                    [
                        Cell(one.file, bold=True),
                        Cell(clock(one.frames / rate), figure=True),
                        Cell(words or "as it is"),
                    ],
                )
            )
        self.preview.show_rows(rows)
        if self.stems:
            self.said.setText(
                f"{counted(len(self.stems), 'file')}, a text of what was done and a track sheet."
                " A dry DI is always as recorded."
            )
        self.write.setEnabled(bool(self.stems))
