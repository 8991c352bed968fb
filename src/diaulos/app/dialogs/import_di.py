"""Import DI: what must be known about a dry recording before it can be reamped."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QWidget,
)

from diaulos.app.dialogs.foot import add_foot
from diaulos.app.widgets.calibration import CalibrationField
from diaulos.app.widgets.labels import TextLabel
from diaulos.quantities import RESISTANCE, show
from diaulos.session.instrument import FAMILY_WORDS, one_line
from diaulos.session.model import Session
from diaulos.work.takes.importing import ImportRequest
from diaulos.work.takes.unload import DI_LOADS_OHM

NEW = "new"


class ImportDiDialog(QDialog):
    """Asks for channel, instrument and calibration of one file."""

    def __init__(
        self,
        path: Path,
        channels: int,
        rate_hz: int,
        seconds: float,
        session: Session,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Import DI")
        self._path, self._channels = path, channels
        form = QFormLayout(self)
        facts = f"{path.name}: {rate_hz / 1000:g} kHz, {channels} channel"
        facts += f"{'s' if channels != 1 else ''}, {seconds:.1f} s"
        form.addRow(TextLabel(facts))
        if rate_hz != session.sample_rate_hz:
            note = TextLabel(
                f"It will be resampled to the session's {session.sample_rate_hz / 1000:g} kHz."
            )
            note.setProperty("role", "muted")
            form.addRow(note)
        self.name = QLineEdit(one_line(path.stem))
        self.name.setAccessibleName("Name of the take")
        self.name.textChanged.connect(self._check)
        form.addRow("Name of the take", self.name)
        self.channel = QComboBox()
        self.channel.setAccessibleName("Channel with the DI")
        for number in range(1, channels + 1):
            self.channel.addItem(f"Channel {number}", number)
        if channels > 1:
            form.addRow("DI is on", self.channel)
        self.instrument = QComboBox()
        self.instrument.setAccessibleName("Instrument")
        for instrument in session.instruments:
            self.instrument.addItem(instrument.name, instrument.id)
        self.instrument.addItem("New instrument", NEW)
        self.instrument.currentIndexChanged.connect(self._check)
        form.addRow("Instrument", self.instrument)
        self.new_name = QLineEdit("Guitar")
        self.new_name.setAccessibleName("Name of the new instrument")
        self.new_name.textChanged.connect(self._check)
        self.family = QComboBox()
        self.family.setAccessibleName("Family of the new instrument")
        for key, words in FAMILY_WORDS.items():
            self.family.addItem(words, key)
        self._new = QWidget()
        row = QHBoxLayout(self._new)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.new_name, 1)
        row.addWidget(self.family)
        form.addRow("", self._new)
        self.calibration = CalibrationField()
        form.addRow("Input calibration", self.calibration)
        self.load = QComboBox()
        self.load.setAccessibleName("Impedance of the DI input")
        self.load.addItem("Unknown", None)
        for ohm in DI_LOADS_OHM:
            self.load.addItem(show(ohm, RESISTANCE), ohm)
        form.addRow("Input impedance", self.load)
        hint = (
            "The level of a sine at the DI input that reached full scale, at the gain that was "
            "set.\nUnknown: +12 dBu is assumed, and said wherever it is used."
        )
        self._problem, self._buttons = add_foot(self, form, hint, "Import")
        self._check()

    def _check(self) -> None:
        is_new = self.instrument.currentData() == NEW
        self._new.setVisible(is_new)
        text = ""
        if not self.name.text().strip():
            text = "Give the take a name."
        elif is_new and not self.new_name.text().strip():
            text = "Give the instrument a name."
        self._problem.setText(text)
        self._buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not text)

    def request(self) -> ImportRequest:
        """What was asked for."""
        is_new = self.instrument.currentData() == NEW
        return ImportRequest(
            path=self._path,
            name=self.name.text().strip(),
            channel=int(self.channel.currentData()) if self._channels > 1 else 1,
            instrument_id="" if is_new else str(self.instrument.currentData()),
            new_instrument=self.new_name.text().strip() if is_new else "",
            family=self.family.currentData(),
            full_scale_dbu=self.calibration.value,
            load_ohm=self.load.currentData(),
        )
