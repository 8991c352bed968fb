"""The pad question: how another setup drives a tone, and what brings drive and loudness back."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.curve_plot import Curve, CurvePlot
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import least_height
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.errors import DiaulosError
from diaulos.figures import number
from diaulos.ids import free_id
from diaulos.session import edits
from diaulos.session.instrument import Instrument, Tone
from diaulos.session.model import Session
from diaulos.session.tone_stage import stage_of
from diaulos.work.instruments.drive import (
    DriveChange,
    VolumeRoll,
    drive_change,
    rig_with_tone,
    roll_volume,
    tone_of,
)
from diaulos.work.instruments.inputs import AMP_LOAD


class DrivePage(QWidget):
    """One tone, one instrument, in figures. It asks for edits."""

    edit_asked = Signal(object, str)
    make_up_asked = Signal()
    export_asked = Signal()
    read_asked = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session: Session | None = None
        self._instrument: Instrument | None = None
        self._change: DriveChange | None = None
        self._made_up: tuple[tuple[object, ...], str] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 0)
        column.setSpacing(8)
        row = QHBoxLayout()
        row.addWidget(TextLabel("Tone"))
        self.tone = combo("Tone", least=16)
        self.tone.currentIndexChanged.connect(lambda _i: self._refill())
        row.addWidget(self.tone)
        row.addStretch(1)
        files = WrappingRow()
        self.keep = QPushButton("Keep the rig's tone\N{HORIZONTAL ELLIPSIS}")
        self.keep.setToolTip(
            "Keeps the rig's amplifier or modeler and its cabinet as a tone that remembers this "
            "instrument, its strength, trim, pad and input: the reamp rig's, else the recording "
            "rig's."
        )
        self.keep.clicked.connect(self._on_keep)
        files.addWidget(self.keep)
        self.remove = QPushButton("Remove")
        self.remove.setAccessibleName("Remove tone")
        self.remove.clicked.connect(self._on_remove)
        files.addWidget(self.remove)
        self.export = QPushButton("Write\N{HORIZONTAL ELLIPSIS}")
        self.export.setAccessibleName("Write tone to a file")
        self.export.setToolTip(
            "Writes the chosen tone to a JSON file, with the strength, pickup, trim, pad and "
            "input impedance that it was made with."
        )
        self.export.clicked.connect(self.export_asked)
        files.addWidget(self.export)
        self.read = QPushButton("Read\N{HORIZONTAL ELLIPSIS}")
        self.read.setAccessibleName("Read tone from a file")
        self.read.setToolTip("Reads a tone from a file, and says what it asks for here.")
        self.read.clicked.connect(self.read_asked)
        files.addWidget(self.read)
        self.pad = QCheckBox("Pad on")
        self.pad.clicked.connect(
            lambda on: self.edit_asked.emit(edits.set_tone_stage(pad_on=on), "")
        )
        row.insertWidget(2, self.pad)
        column.addLayout(row)
        column.addLayout(files)
        self.made = _line("muted")
        self.used = _line("muted")
        self.drive = _line("headline")
        column.addWidget(self.made)
        column.addWidget(self.used)
        column.addWidget(self.drive)
        self.same = _line("")
        self.set_trim = QPushButton("Set that trim")
        self.set_trim.clicked.connect(self._on_set_trim)
        second = QHBoxLayout()
        second.addWidget(self.same, 1)
        second.addWidget(self.set_trim)
        column.addLayout(second)
        third = QHBoxLayout()
        self.make_up = _line("")
        self.measure = QPushButton("Measure make-up (U)")
        self.measure.setToolTip(
            "Plays this instrument's DI through the stand-in amplifier at both drives and "
            "compares the loudness (BS.1770)."
        )
        self.measure.clicked.connect(self.make_up_asked)
        third.addWidget(self.make_up, 1)
        third.addWidget(self.measure)
        column.addLayout(third)
        self.roll = _line("")
        column.addWidget(self.roll)
        self.curve = CurvePlot(axis="dB of change, less that at 1 kHz")
        least_height(self.curve, 120)
        self.curve.setAccessibleName("What the volume knob does to the treble")
        column.addWidget(self.curve, 1)
        note = _line("muted")
        note.setText(
            "The pad and the trim are not volume but drive: a driven amplifier gets cleaner "
            "before it gets quieter. Cutting 5 dB ahead of it needs about 1.3 dB behind it, "
            "10 dB about 2.2 dB (common practice, no source); a clean one needs all of it. That "
            "is why the make-up is measured."
        )
        column.addWidget(note)
        self._rest = QWidget()
        column.addWidget(self._rest, 1)

    @property
    def chosen(self) -> Tone | None:
        """The tone that is looked at."""
        session = self._session
        ident = self.tone.currentData()
        return next((t for t in session.tones if t.id == ident), None) if session else None

    @property
    def change(self) -> DriveChange | None:
        """How the chosen instrument drives it, when that is known."""
        return self._change

    def show_all(self, session: Session, instrument: Instrument | None) -> None:
        """Show the session's tones against this instrument."""
        before = self.tone.currentData()
        self._session, self._instrument = session, instrument
        blocker = QSignalBlocker(self.tone)
        self.tone.clear()
        for tone in session.tones:
            self.tone.addItem(tone.name, tone.id)
        index = self.tone.findData(before)
        self.tone.setCurrentIndex(max(0, index) if session.tones else -1)
        del blocker
        stage = stage_of(session)
        self.pad.setChecked(stage.pad_on)
        self.pad.setText(f"Pad on (\N{MINUS SIGN}{stage.pad_db:g} dB)")
        self.remove.setEnabled(bool(session.tones))
        self.export.setEnabled(bool(session.tones))
        rig = rig_with_tone(session)
        self.keep.setEnabled(rig is not None and instrument is not None)
        self._refill()

    def choose_tone(self, tone_id: str) -> None:
        """The tone of this id."""
        index = self.tone.findData(tone_id)
        if index >= 0:
            self.tone.setCurrentIndex(index)

    def show_make_up(self, key: tuple[object, ...], text: str) -> None:
        """A measured make-up; shown while what it was measured for stays as it was."""
        self._made_up = (key, text)
        self._refill()

    def key(self) -> tuple[object, ...]:
        """What a make-up depends on."""
        change = self._change
        return (
            self.chosen,
            self._instrument.id if self._instrument else "",
            round(change.drive_db, 3) if change else None,
        )

    def _refill(self) -> None:
        session, instrument, tone = self._session, self._instrument, self.chosen
        self._change = None
        for label in (self.made, self.used, self.drive, self.same, self.make_up, self.roll):
            label.setText("")
        self.set_trim.setEnabled(False)
        self.measure.setEnabled(False)
        if session is None or instrument is None:
            return
        if tone is None:
            self.drive.setText("No tones yet.")
            self.same.setText("Set up a tone in Reamp, then keep it here with this instrument.")
            return
        try:
            change = drive_change(session, tone, instrument)
        except DiaulosError as error:
            self.drive.setText("Not known yet")
            self.same.setText(str(error))
            return
        self._change = change
        self.made.setText(f"{tone.name} was made with {change.made_with}.")
        self.used.setText(f"Now: {change.used_with}.")
        self.drive.setText(_drive_words(change.drive_db))
        self.drive.setToolTip(
            "Drive = (peak dBu \N{MINUS SIGN} pad + trim) of this setup \N{MINUS SIGN} the same of "
            "the setup that the tone was made with."
        )
        knob = change.drive_knob
        left = number(change.left_over_db, 1, sign=True)
        self.same.setText(
            f"The same drive: trim {number(change.trim_db, 1, sign=True)} dB ({left} dB left over)"
            + ("." if knob is None else f", or the drive control at {number(knob)}.")
        )
        self.same.setToolTip(
            "The drive control changes the gain of both stages, a trim that ahead of the first: "
            "the same gain in all, not quite the same sound."
        )
        self.set_trim.setEnabled(abs(change.trim_db - instrument.trim_db) > 1e-6)
        self.measure.setEnabled(True)
        if self._made_up is not None and self._made_up[0] == self.key():
            self.make_up.setText(self._made_up[1])
        else:
            self.make_up.setText("Make-up that brings the loudness back: not measured yet.")
        self._show_roll(instrument, change.drive_db)

    def _show_roll(self, instrument: Instrument, drive_db: float) -> None:
        self._show_curve(None)
        if drive_db < 0.5:
            self.roll.setText("")
            return
        try:
            rolled = roll_volume(instrument, AMP_LOAD, drive_db)
        except DiaulosError as error:
            self.roll.setText(f"Turning the guitar down instead: {error}")
            return
        way = "less" if rolled.treble_db < 0.0 else "more"
        self.roll.setText(
            f"Turning the guitar's volume to {number(rolled.knob)} instead takes the same "
            f"{number(drive_db)} dB at 1 kHz, with {number(abs(rolled.treble_db))} dB {way} treble "
            "(2 to 6 kHz)."
        )
        self.roll.setToolTip(
            "From the circuit, into a 1 M amplifier over the usual cable: the mean change from 2 "
            "to 6 kHz, log-spaced, less the change at 1 kHz."
        )
        self._show_curve(rolled)

    def _show_curve(self, rolled: VolumeRoll | None) -> None:
        self.curve.setVisible(rolled is not None)
        self._rest.setVisible(rolled is None)
        if rolled is not None:
            name = f"volume at {number(rolled.knob)}"
            line = Curve(name, np.array(rolled.curve_db))
            self.curve.set_curves(np.array(rolled.freqs_hz), (line,))

    def _on_keep(self) -> None:
        session, instrument = self._session, self._instrument
        if session is None or instrument is None or not session.rigs:
            return
        name, good = QInputDialog.getText(self, "Keep tone", "Name of the tone:")
        if good and name.strip():
            self.keep_tone(name.strip())

    def keep_tone(self, name: str) -> None:
        """Keep the rig's tone under a name, with this instrument, trim and pad."""
        session, instrument = self._session, self._instrument
        assert session is not None
        assert instrument is not None
        rig = rig_with_tone(session)
        found = tone_of(rig) if rig is not None else None
        if found is None:
            return
        ident = free_id({tone.id for tone in session.tones}, "tone", digits=2)
        tone = found.kept(ident, name, instrument, stage_of(session))
        self.edit_asked.emit(edits.add_tone(tone), "")
        self.tone.setCurrentIndex(self.tone.findData(ident))

    def _on_remove(self) -> None:
        tone = self.chosen
        if tone is not None:
            self.edit_asked.emit(edits.remove_tone(tone.id), "")

    def _on_set_trim(self) -> None:
        if self._change is not None and self._instrument is not None:
            trims = {self._instrument.id: self._change.trim_db}
            self.edit_asked.emit(edits.set_trims(trims, "Set trim"), "")


def _line(role: str) -> QLabel:
    label = TextLabel()
    label.setWordWrap(True)
    if role:
        label.setProperty("role", role)
    return label


def _drive_words(drive_db: float) -> str:
    if abs(drive_db) < 0.05:
        return "The tone is driven as it was made."
    way = "harder" if drive_db > 0.0 else "more gently"
    return f"The tone is driven {number(abs(drive_db))} dB {way}."
