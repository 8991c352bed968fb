"""All instruments side by side at the tone stage: strength, trim, what is left over."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QDoubleSpinBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.views.instruments.instrument_list import strength_figures
from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.labels import ElidedLabel, TextLabel
from diaulos.app.widgets.level_window import LevelWindow
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.own_words import own_word
from diaulos.app.widgets.painted import (
    least_height,
    most_height,
    most_width,
)
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import level, number
from diaulos.session import edits
from diaulos.session.instrument import Instrument
from diaulos.session.model import Session
from diaulos.session.tone_stage import placed, stage_of
from diaulos.work.instruments.strength import strength_warnings
from diaulos.work.instruments.trims import TrimRow


class TrimsPage(QWidget):
    """Level windows, trims, readings. It asks for edits."""

    edit_asked = Signal(object, str)
    measure_asked = Signal()
    strum_asked = Signal()
    solve_asked = Signal()
    sheet_asked = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session: Session | None = None
        self._instrument: Instrument | None = None
        self.spins: dict[str, QDoubleSpinBox] = {}
        self._ids: tuple[str, ...] = ()
        self._windows: dict[str, tuple[LevelWindow, QLabel, QCheckBox]] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 6, 0, 0)
        column.setSpacing(6)
        column.addLayout(self._stage_row())
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(10)
        self._grid.setVerticalSpacing(6)
        column.addLayout(self._grid)
        buttons = WrappingRow()
        self.solve = QPushButton("Calculate trims (T)")
        self.solve.setProperty("main", "true")
        self.solve.setToolTip(
            "Sets each trim to the step that brings the peak closest to the target; instruments "
            "that stay hot keep theirs."
        )
        self.solve.clicked.connect(self.solve_asked)
        self.measure = QPushButton("Measure strength\N{HORIZONTAL ELLIPSIS} (M)")
        self.measure.clicked.connect(self.measure_asked)
        self.strum = QPushButton("Simulate a strum (B)")
        self.strum.setToolTip(
            "A simulated player strums the chosen instrument into a simulated 1 M input."
        )
        self.strum.clicked.connect(self.strum_asked)
        self.send = QPushButton("Add to sheet")
        self.send.setToolTip(
            "Writes the profiles (instrument, position, trim, peak) to sheets/trims.csv."
        )
        self.send.clicked.connect(self.sheet_asked)
        for button in (self.solve, self.measure, self.strum, self.send):
            buttons.addWidget(button)
        buttons.add_stretch()
        column.addLayout(buttons)
        self._title = TextLabel()
        self._title.setProperty("role", "title")
        column.addWidget(self._title)
        self.readings = QListWidget()
        self.readings.setAccessibleName("Readings of the chosen instrument")
        most_height(self.readings, 110)
        least_height(self.readings, 48)
        self.readings.setWordWrap(True)
        self.readings.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column.addWidget(self.readings)
        row = QHBoxLayout()
        self.remove = QPushButton("Remove reading")
        self.remove.clicked.connect(self._on_remove)
        row.addWidget(self.remove)
        self.warnings = TextLabel()
        self.warnings.setProperty("role", "problem")
        self.warnings.setWordWrap(True)
        row.addWidget(self.warnings, 1)
        column.addLayout(row)
        column.addStretch(1)

    def _stage_row(self) -> QVBoxLayout:
        self.stage_name = QLineEdit()
        self.stage_name.setAccessibleName("Name of the device that makes the tone")
        most_width(self.stage_name, 150)
        self.stage_name.editingFinished.connect(
            lambda: self._stage(name=self.stage_name.text().strip() or "Modeler or amplifier")
        )
        self.full_scale = _spin(
            "Level at which the device that makes the tone is full", -40.0, 60.0, 0.5, " dBu"
        )
        self.full_scale.setToolTip("dBu of a sine that reaches 0 dBFS in it, trim 0, pad off.")
        self.full_scale.valueChanged.connect(lambda v: self._stage("full", full_scale_dbu=v))
        self.step = combo("Step of the trim", least=13)
        for step in (0.1, 0.5, 1.0, 2.0):
            self.step.addItem(f"steps of {step:g} dB", step)
        self.step.activated.connect(lambda _i: self._stage(trim_step_db=self.step.currentData()))
        self.target = _spin("Target peak", -60.0, 0.0, 1.0, " dBFS")
        self.target.valueChanged.connect(
            lambda v: self._ask(edits.set_info(target_peak_dbfs=v), "target")
        )
        self.pad = QCheckBox("Pad on")
        self.pad.clicked.connect(lambda on: self._stage(pad_on=on))
        self.reference = combo("Reference instrument for the drive", least=10)
        self.reference.activated.connect(
            lambda _i: self._ask(edits.set_reference_instrument(self.reference.currentData()))
        )
        rows = QVBoxLayout()
        for line in (
            (("Makes the tone", self.stage_name), ("0 dBFS at", self.full_scale), ("", self.step)),
            (("Target peak", self.target), ("", self.pad), ("Compare drive with", self.reference)),
        ):
            row = WrappingRow()
            for words, widget in line:
                if words:
                    row.add_pair(words, widget)
                else:
                    row.addWidget(widget)
            row.add_stretch()
            rows.addLayout(row)
        self.stage_note = TextLabel()
        self.stage_note.setProperty("role", "muted")
        self.stage_note.setWordWrap(True)
        rows.addWidget(self.stage_note)
        return rows

    def show_all(
        self, session: Session, instrument: Instrument | None, rows: tuple[TrimRow, ...]
    ) -> None:
        """Show every instrument, and the readings of the chosen one."""
        self._session, self._instrument = session, instrument
        stage = stage_of(session)
        found = placed(session)
        self.stage_note.setText(
            f"It is a device of {found.rig.name}: name, trim, pad and figures are its own."
            if found is not None
            else "The recording rig has no device with an input trim: these figures are typed here."
        )
        for widget, value in (
            (self.full_scale, stage.full_scale_dbu), (self.target, session.target_peak_dbfs),
        ):  # fmt: skip
            blocker = QSignalBlocker(widget)
            widget.setValue(value)
            del blocker
        if not self.stage_name.hasFocus():
            self.stage_name.setText(stage.name)
        index = self.step.findData(stage.trim_step_db)
        self.step.setCurrentIndex(max(0, index))
        self.pad.setChecked(stage.pad_on)
        self.pad.setText(f"Pad on (\N{MINUS SIGN}{stage.pad_db:g} dB)")
        ids = tuple(text for row in rows for text in (row.instrument_id, row.name))
        if ids != self._ids:
            self._build_rows(session)
            self._ids = ids
        choose(self.reference, session.reference_instrument)
        for row in rows:
            self._show_row(session, row)
        self._show_readings(instrument)

    def _build_rows(self, session: Session) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()  # else a layout that was about to show it shows it as a window
                widget.setParent(None)
                widget.deleteLater()
        self.spins.clear()
        self._windows.clear()
        heads = ("Peak where the tone is made", "Trim", "Difference; drive")
        for column, words in enumerate(heads):
            label = ElidedLabel(words)
            label.setProperty("role", "muted")
            if words == "Trim":
                label.setToolTip(own_word("trim"))
            self._grid.addWidget(label, 0, column)
        blocker = QSignalBlocker(self.reference)
        self.reference.clear()
        for instrument in session.instruments:
            self.reference.addItem(instrument.name, instrument.id)
        del blocker
        for index, instrument in enumerate(session.instruments, start=1):
            ident = instrument.id
            name = ElidedLabel(instrument.name)
            window = LevelWindow()
            window.setAccessibleName(f"Peak of {instrument.name} where the tone is made")
            stage = stage_of(session)
            spin = _spin(f"Trim of {instrument.name}", stage.trim_minimum_db, stage.trim_maximum_db,
                         stage.trim_step_db, " dB")  # fmt: skip
            spin.valueChanged.connect(
                lambda v, i=ident: self._ask(edits.set_trims({i: v}, "Set trim"), f"trim {i}")
            )
            hot = QCheckBox("Exclude")
            hot.setAccessibleName(f"{instrument.name} stays hot on purpose")
            hot.setToolTip("Excluded from matching: it keeps its trim when trims are calculated.")
            hot.clicked.connect(
                lambda on, i=ident: self._ask(edits.change_instrument(i, "Keep hot", keep_hot=on))
            )
            told = TextLabel()
            told.setWordWrap(True)
            self.spins[ident] = spin
            self._windows[ident] = (window, told, hot)
            for column, (above, below) in enumerate(((name, window), (spin, hot))):
                self._grid.addWidget(above, 2 * index - 1, column)
                self._grid.addWidget(below, 2 * index, column)
            self._grid.addWidget(told, 2 * index - 1, 2, 2, 1)
        self._grid.setColumnStretch(0, 3)
        self._grid.setColumnStretch(2, 2)

    def _show_row(self, session: Session, row: TrimRow) -> None:
        window, told, hot = self._windows[row.instrument_id]
        instrument = session.instrument(row.instrument_id)
        window.set_figures(strength_figures(row, instrument, session.target_peak_dbfs))
        spin, stage = self.spins[row.instrument_id], stage_of(session)
        blocker = QSignalBlocker(spin)
        spin.setRange(stage.trim_minimum_db, stage.trim_maximum_db)
        spin.setSingleStep(stage.trim_step_db)
        spin.setValue(row.trim_db)
        del blocker
        hot.setChecked(row.keep_hot)
        if row.left_over_db is None:
            told.setText(row.reason)
            told.setToolTip("Measure its strength with a calibrated input (M).")
            return
        drive, plain = (
            "\N{EN DASH}" if db is None else number(db, 1, sign=True)
            for db in (row.drive_db, row.plain_drive_db)
        )
        told.setText(
            f"{number(row.left_over_db, 1, sign=True)} dB\ndrive {drive} dB\ntrim 0 {plain} dB"
        )
        told.setToolTip(
            "Remaining difference = target \N{MINUS SIGN} peak = "
            f"{number(row.left_over_db, 2, sign=True)} dB.\n"
            f"Drive compared with the reference: {drive} dB as trimmed, "
            f"{plain} dB with every trim at 0."
        )

    def _show_readings(self, instrument: Instrument | None) -> None:
        self.readings.clear()
        if instrument is None:
            self._title.setText("")
            self.warnings.setText("")
            return
        self._title.setText(f"Readings of {instrument.name}")
        for reading in instrument.strength:
            dbu = "no calibration" if reading.peak_dbu is None else level(reading.peak_dbu, "dBu")
            text = (
                f"{reading.label}: {level(reading.peak_dbfs, 'dBFS')} peak, {dbu}; loudest "
                f"400 ms {level(reading.loudest_400ms_dbfs, 'dBFS')}"
            )
            if reading.decay_s is not None:
                text += f"; decay {reading.decay_s:.1f} s"
            if reading.clipped_samples:
                text += f"; {reading.clipped_samples} CLIPPED"
            elif reading.flat_tops:
                text += f"; {reading.flat_tops} FLAT TOPS"
            self.readings.addItem(text)
            item = self.readings.item(self.readings.count() - 1)
            item.setToolTip(
                f"True peak {level(reading.true_peak_dbtp, 'dBTP')}, {reading.strums} hard strums, "
                f"measured {reading.made_at}.\n400 ms: RMS after AES17. Decay: from the last strum "
                "to 3 dB above the floor. dBu = dBFS + the input's dBu at 0 dBFS."
            )
        if not instrument.strength:
            self.readings.addItem(
                "Not measured yet. M measures a recording, B strums on the bench."
            )
        self.remove.setEnabled(bool(instrument.strength))
        self.warnings.setText("; ".join(strength_warnings(instrument)))

    def _on_remove(self) -> None:
        row = self.readings.currentRow()
        if self._instrument is not None and 0 <= row < len(self._instrument.strength):
            self._ask(edits.remove_strength(self._instrument.id, row))

    def _stage(self, merge: str = "", **values: object) -> None:
        self._ask(edits.set_tone_stage(**values), merge)

    def _ask(self, edit: edits.Edit, merge: str = "") -> None:
        self.edit_asked.emit(edit, merge)


def _spin(name: str, low: float, high: float, step: float, suffix: str) -> QDoubleSpinBox:
    spin = NumberField()
    spin.setRange(low, high)
    spin.setSingleStep(step)
    spin.setDecimals(1)
    spin.setSuffix(suffix)
    spin.setAccessibleName(name)
    spin.setKeyboardTracking(False)
    spin.setAlignment(Qt.AlignmentFlag.AlignRight)
    return spin
