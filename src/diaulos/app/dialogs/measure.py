"""Measure strength: from which recording, and what its full scale was."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QHBoxLayout,
    QPushButton,
    QWidget,
)

from diaulos.app.asking import ask_file
from diaulos.app.dialogs.foot import add_foot
from diaulos.app.widgets.calibration import CalibrationField
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import WholeField
from diaulos.records import dataclass
from diaulos.session.instrument import Instrument, one_line
from diaulos.session.model import Session

FILE = "file"


@dataclass(frozen=True)
class MeasureRequest:
    """A recording of hard playing: a file, or the DI of a take."""

    label: str
    path: Path | None
    take_file: str
    channel: int
    full_scale_dbu: float | None


class MeasureDialog(QDialog):
    """Asks for a recording of some seconds of the hardest strumming."""

    def __init__(
        self, session: Session, instrument: Instrument, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Measure strength")
        self._path: Path | None = None
        self._takes = {take.id: take for take in session.takes if take.di is not None}
        form = QFormLayout(self)
        position = instrument.position
        where = f", position {position.name}" if position else ""
        form.addRow(TextLabel(f"{instrument.name}{where}"))
        self.source = QComboBox()
        self.source.setAccessibleName("Recording to measure")
        self.source.addItem("A file of strumming", FILE)
        for take in self._takes.values():
            if take.instrument_id in ("", instrument.id):
                self.source.addItem(f"The DI of {take.name}", take.id)
        self.source.currentIndexChanged.connect(self._on_source)
        form.addRow("Measure", self.source)
        self.file = TextLabel("none chosen")
        self.browse = QPushButton("Choose\N{HORIZONTAL ELLIPSIS}")
        self.browse.clicked.connect(self._on_browse)
        row = QHBoxLayout()
        row.addWidget(self.file, 1)
        row.addWidget(self.browse)
        form.addRow("File", row)
        self.channel = WholeField()
        self.channel.setRange(1, 64)
        self.channel.setAccessibleName("Channel of the file")
        form.addRow("Channel", self.channel)
        self.calibration = CalibrationField()
        form.addRow("Input calibration", self.calibration)
        hint = (
            "Some seconds of the hardest strumming, or the part as it will be played.\n"
            "Without a calibration the reading cannot be compared in dBu."
        )
        self._problem, self._buttons = add_foot(self, form, hint, "Measure")
        if self.source.count() > 1:
            self.source.setCurrentIndex(1)
        self._on_source()

    def choose_file(self, path: Path) -> None:
        """Measure this file."""
        self._path = path
        self.file.setText(path.name)
        self.source.setCurrentIndex(0)
        self._check()

    def _on_browse(self) -> None:
        path = ask_file(self, "A recording", "Audio (*.wav *.flac)")
        if path:
            self.choose_file(Path(path))

    def _on_source(self) -> None:
        take = self._takes.get(str(self.source.currentData()))
        if take is not None and take.di is not None:
            self.calibration.show_value(take.di.full_scale_dbu)
        self._check()

    def _check(self) -> None:
        is_file = self.source.currentData() == FILE
        self.browse.setEnabled(is_file)
        self.channel.setEnabled(is_file)
        missing = is_file and self._path is None
        self._problem.setText("Choose a file." if missing else "")
        self._buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not missing)

    def request(self) -> MeasureRequest:
        """What was asked for."""
        scale = self.calibration.value
        take = self._takes.get(str(self.source.currentData()))
        if take is not None and take.di is not None:
            return MeasureRequest(take.name, None, take.di.file, 0, scale)
        assert self._path is not None
        return MeasureRequest(
            one_line(self._path.stem), self._path, "", self.channel.value() - 1, scale
        )
