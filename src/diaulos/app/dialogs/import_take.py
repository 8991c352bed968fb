"""Import files as a take: which channels, what they are called, where they were tapped."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QGridLayout,
    QLineEdit,
    QScrollArea,
    QWidget,
)

from diaulos.app.dialogs.foot import add_foot
from diaulos.app.widgets.calibration import CalibrationField
from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.figures import TAP_WORDS
from diaulos.session.instrument import one_line
from diaulos.session.model import Session
from diaulos.work.ports import ExternalSource
from diaulos.work.takes.take_import import TakeImportRequest, WantedTrack, wanted_tracks


class ImportTakeDialog(QDialog):
    """Asks what the channels of some files are."""

    def __init__(
        self,
        found: list[tuple[Path, ExternalSource]],
        session: Session,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Import files as a take")
        form = QFormLayout(self)
        self.name = QLineEdit(one_line(found[0][0].stem))
        self.name.setAccessibleName("Name of the take")
        self.name.textChanged.connect(self._check)
        form.addRow("Name of the take", self.name)
        self.instrument = QComboBox()
        self.instrument.setAccessibleName("Instrument")
        self.instrument.addItem("Not assigned", "")
        for instrument in session.instruments:
            self.instrument.addItem(instrument.name, instrument.id)
        form.addRow("Instrument", self.instrument)
        self.rows: list[tuple[WantedTrack, QCheckBox, QLineEdit, QComboBox]] = []
        self.calibrations: list[CalibrationField] = []
        """Of every row; it counts for a DI."""
        inner = QWidget()
        grid = QGridLayout(inner)
        for path, source in found:
            facts = f"{source.frames / source.rate_hz:.1f} s, {source.rate_hz / 1000:g} kHz"
            for track in wanted_tracks(path, source.channels):
                self._add(grid, track, facts)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inner)
        area.setMinimumSize(860, min(320, 60 + 38 * len(self.rows)))
        area.setAccessibleName("Channels")
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        form.addRow(area)
        hint = (
            "Each channel that is ticked becomes a track. Files that say when they were recorded "
            "(Broadcast Wave)\nare lined up; the others begin together."
        )
        self._problem, self._buttons = add_foot(self, form, hint, "Import")
        self._check()

    def _add(self, grid: QGridLayout, track: WantedTrack, facts: str) -> None:
        line = len(self.rows)
        wanted = QCheckBox()
        wanted.setChecked(True)
        wanted.setAccessibleName(f"Import {track.name}")
        wanted.toggled.connect(self._check)
        name = QLineEdit(track.name)
        name.setAccessibleName("Name of the track")
        name.textChanged.connect(self._check)
        tap = combo(f"Tap of {track.name}", TAP_WORDS, least=14)
        choose(tap, track.tap)
        full = CalibrationField()
        full.setToolTip("dBu of a sine that reached 0 dBFS in this channel; told of a DI")
        tap.currentIndexChanged.connect(
            lambda _i: full.setVisible(tap.currentData() in ("di", "printed"))
        )
        for column, widget in enumerate((wanted, name, tap, TextLabel(facts), full)):
            grid.addWidget(widget, line, column)
        full.setVisible(track.tap in ("di", "printed"))
        self.calibrations.append(full)
        self.rows.append((track, wanted, name, tap))

    def _check(self) -> None:
        chosen = [(name.text().strip()) for _, wanted, name, _ in self.rows if wanted.isChecked()]
        text = ""
        if not self.name.text().strip():
            text = "Give the take a name."
        elif not chosen:
            text = "Tick at least one channel."
        elif not all(chosen):
            text = "Give every track a name."
        self._problem.setText(text)
        self._buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not text)

    def request(self) -> TakeImportRequest:
        """What was asked for."""
        tracks = tuple(
            replace(
                track, name=name.text().strip()[:200], tap=tap.currentData(),
                full_scale_dbu=full.value if tap.currentData() in ("di", "printed") else None,
            )
            for (track, wanted, name, tap), full in zip(self.rows, self.calibrations, strict=True)
            if wanted.isChecked()
        )  # fmt: skip
        return TakeImportRequest(
            self.name.text().strip()[:200], tracks, str(self.instrument.currentData())
        )
