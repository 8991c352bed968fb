"""New session: where, and what cannot be changed later."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QWidget,
)

from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.painted import least_width
from diaulos.session.instrument import FAMILY_WORDS
from diaulos.session.model import SAMPLE_RATES_HZ
from diaulos.work.rigs.building import INPUTS, TONES, Start, start_of

METRES = ("4/4", "3/4", "6/8", "2/4", "5/4", "7/8", "12/8")


class NewSessionDialog(QDialog):
    """Asks for folder and name, what plays, records and makes the tone, and the usual figures."""

    def __init__(self, folder: Path, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("New session")
        form = QFormLayout(self)
        self.name = QLineEdit("New session")
        self.name.setAccessibleName("Session name")
        self.name.textChanged.connect(self._check)
        self.folder = QLineEdit(str(folder))
        self.folder.setAccessibleName("Folder")
        least_width(self.folder, 320)
        self.folder.textChanged.connect(self._check)
        browse = QPushButton("Browse\N{HORIZONTAL ELLIPSIS}")
        browse.clicked.connect(self._browse)
        row = QHBoxLayout()
        row.addWidget(self.folder, 1)
        row.addWidget(browse)
        self.plays = combo("What plays", {**FAMILY_WORDS, "": "Nothing yet: one rig, to reamp"})
        self.inputs = combo(
            "What records", {str(n): f"An interface with {n} inputs" for n in INPUTS}
        )
        self.tone = combo("What makes the tone", TONES)
        self.plays.currentIndexChanged.connect(self._on_plays)
        self.tone.currentIndexChanged.connect(self._on_plays)
        self.rate = QComboBox()
        self.rate.setAccessibleName("Sample rate")
        for rate in SAMPLE_RATES_HZ:
            self.rate.addItem(f"{rate / 1000:g} kHz", rate)
        self.rate.setCurrentIndex(SAMPLE_RATES_HZ.index(48_000))
        self.word = QComboBox()
        self.word.setAccessibleName("Word length")
        self.word.addItem("24 bit", "24")
        self.word.addItem("32 bit float", "float")
        self.tempo = NumberField()
        self.tempo.setRange(20.0, 400.0)
        self.tempo.setDecimals(1)
        self.tempo.setValue(120.0)
        self.tempo.setSuffix(" bpm")
        self.tempo.setAccessibleName("Tempo")
        self.metre = QComboBox()
        self.metre.setAccessibleName("Metre")
        self.metre.addItems(list(METRES))
        self._problem = TextLabel()
        self._problem.setProperty("role", "problem")
        self._buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        self._buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Create")
        self._buttons.accepted.connect(self.accept)
        self._buttons.rejected.connect(self.reject)
        form.addRow("Name", self.name)
        form.addRow("In folder", row)
        form.addRow("What plays", self.plays)
        form.addRow("What records", self.inputs)
        form.addRow("What makes the tone", self.tone)
        form.addRow("Sample rate", self.rate)
        form.addRow("Word length", self.word)
        form.addRow("Tempo", self.tempo)
        form.addRow("Metre", self.metre)
        form.addRow(self._problem)
        form.addRow(self._buttons)
        self.name.selectAll()
        self._check()

    def _on_plays(self) -> None:
        some = bool(self.plays.currentData())
        self.tone.setEnabled(some)
        # A modeler over USB is its own interface.
        self.inputs.setEnabled(some and self.tone.currentData() != "modeler")

    @property
    def start(self) -> Start | None:
        """What the session begins with; None for nothing but a rig to reamp by."""
        plays = str(self.plays.currentData())
        if not plays:
            return None
        return start_of(plays, int(self.inputs.currentData()), str(self.tone.currentData()))

    @property
    def path(self) -> Path:
        """The session's folder."""
        return Path(self.folder.text()).expanduser() / f"{self.name.text().strip()}.diaulos"

    def _browse(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Folder", self.folder.text())
        if chosen:
            self.folder.setText(chosen)

    def _check(self) -> None:
        name = self.name.text().strip()
        text = ""
        if not name:
            text = "Give the session a name."
        elif "/" in name or name.startswith("."):
            text = "A name has no slash and does not begin with a dot."
        elif not Path(self.folder.text()).expanduser().is_dir():
            text = "This folder does not exist. Choose another one."
        elif self.path.exists():
            text = "There is a session of this name already. Choose another name."
        self._problem.setText(text)
        self._buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not text)
