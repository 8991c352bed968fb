"""The pad question: how another setup drives a tone, and what brings drive and loudness back."""

from __future__ import annotations

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
from diaulos.app.widgets.labels import TextLabel
from diaulos.errors import DiaulosError
from diaulos.figures import number
from diaulos.session import edits
from diaulos.session.instrument import Instrument, Tone
from diaulos.session.model import Session
from diaulos.session.roles import reamp_rig
from diaulos.session.tone_stage import stage_of
from diaulos.work.instruments.drive import DriveChange, drive_change, roll_volume
from diaulos.work.instruments.inputs import AMP_LOAD


class DrivePage(QWidget):
    """One tone, one instrument, in figures. It asks for edits."""

    edit_asked = Signal(object, str)
    make_up_asked = Signal()

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
        self.keep = QPushButton("Keep the rig's tone\N{HORIZONTAL ELLIPSIS}")
        self.keep.setToolTip(
            "Keeps the reamp rig's amplifier and cabinet as a tone that remembers this "
            "instrument, its trim and the pad."
        )
        self.keep.clicked.connect(self._on_keep)
        row.addWidget(self.keep)
        self.remove = QPushButton("Remove")
        self.remove.setAccessibleName("Remove tone")
        self.remove.clicked.connect(self._on_remove)
        row.addWidget(self.remove)
        self.pad = QCheckBox("Pad on")
        self.pad.clicked.connect(
            lambda on: self.edit_asked.emit(edits.set_tone_stage(pad_on=on), "")
        )
        row.addWidget(self.pad)
        row.addStretch(1)
        column.addLayout(row)
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
        note = _line("muted")
        note.setText(
            "The pad and the trim are not volume but drive: a driven amplifier gets cleaner "
            "before it gets quieter. Cutting 5 dB ahead of it needs about 1.3 dB behind it, "
            "10 dB about 2.2 dB (common practice, no source); a clean one needs all of it. That "
            "is why the make-up is measured."
        )
        column.addWidget(note)
        column.addStretch(1)

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
        self.pad.setChecked(stage_of(session).pad_on)
        self.pad.setText(f"Pad on (\N{MINUS SIGN}{stage_of(session).pad_db:g} dB)")
        self.remove.setEnabled(bool(session.tones))
        self._refill()

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
            "at 5 kHz."
        )
        self.roll.setToolTip("From the circuit, into a 1 M amplifier over the usual cable.")

    def _on_keep(self) -> None:
        session, instrument = self._session, self._instrument
        if session is None or instrument is None or not session.rigs:
            return
        name, good = QInputDialog.getText(self, "Keep tone", "Name of the tone:")
        if good and name.strip():
            self.keep_tone(name.strip())

    def keep_tone(self, name: str) -> None:
        """Keep the reamp rig's tone under a name, with this instrument, trim and pad."""
        session, instrument = self._session, self._instrument
        assert session is not None
        assert instrument is not None
        rig = reamp_rig(session)
        amp = next((d for d in rig.devices if d.kind == "amp"), None)
        box = next((d for d in rig.devices if d.kind == "load_box"), None)
        if amp is None:
            return
        used = {t.id for t in session.tones}
        ident = next(f"tone{n:02d}" for n in range(1, 1000) if f"tone{n:02d}" not in used)
        tone = Tone(
            id=ident, name=name, voice=amp.word("voice"), drive=amp.number("drive"),
            bass=amp.number("bass"), mid=amp.number("mid"), treble=amp.number("treble"),
            master_db=amp.number("master"), cabinet=box.word("cabinet") if box else "none",
            instrument_id=instrument.id, trim_db=instrument.trim_db,
            pad_on=stage_of(session).pad_on,
        )  # fmt: skip
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
