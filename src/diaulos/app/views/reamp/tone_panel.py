"""What can be set before a pass: rig, amplifier, cabinet, return, what to be as loud as."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QSignalBlocker, QSize, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.labels import ElidedLabel, TextLabel, tip
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.painted import least_width
from diaulos.app.widgets.wrapping import Flowing, WrappingRow
from diaulos.quantities import RESISTANCE, show
from diaulos.rig.model import Choice, Control, Device, Rig
from diaulos.session.model import MatchTarget, Session, Take, part_ident, part_name
from diaulos.work.takes.unload import DI_LOADS_OHM

LOAD_CABINET = "load..."
DI_LOADS: tuple[float | None, ...] = (None, *DI_LOADS_OHM)
"""What a DI may have been recorded into, in ohm."""


LOOP_KINDS = ("amp", "load_box", "reamp_box")
MODELER_KINDS = ("modeler", "impulse_loader")
MODELER_TONE = ("voice", "cabinet", "drive", "bass", "mid", "treble", "master")
"""What of a modeler makes the tone; the rest belongs to the rig."""


LOAD_TIP = (
    "The ratio of the instrument's curve into the amplifier to that into the DI's input: where it "
    "is largest, and what it does to the noise"
)


def _line(lines: QVBoxLayout) -> WrappingRow:
    line = WrappingRow(spacing=8)
    lines.addLayout(line)
    return line


def _named(name: str, field: QWidget) -> QWidget:
    """A field under its name."""
    both = QWidget()
    column = QVBoxLayout(both)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(2)
    label = ElidedLabel(name)
    # Whole where there is room, cut before it takes the list of takes its own.
    label.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)
    label.setProperty("role", "muted")
    label.setBuddy(field)
    column.addWidget(label)
    column.addWidget(field)
    return both


class _Foot(Flowing):
    """As low as its rows allow: what is above it has the room."""

    def sizeHint(self) -> QSize:
        return QSize(super().sizeHint().width(), self.minimumSizeHint().height())


class TonePanel(QWidget):
    """Shows the reamp rig's settings; asks for edits, never makes them."""

    setting_asked = Signal(str, str, object)
    rig_asked = Signal(str)
    cabinet_file_asked = Signal()
    target_changed = Signal()
    reamp_asked = Signal()
    check_asked = Signal()
    auto_changed = Signal()
    load_asked = Signal(object)
    whole_asked = Signal()
    sent_asked = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._controls: dict[tuple[str, str], QDoubleSpinBox | QComboBox] = {}
        self._shape: tuple[object, ...] = ()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self._knobs = QWidget()
        self._column = column
        column.addWidget(self._knobs)
        row = WrappingRow(spacing=8)
        self._target = combo("Match level to", least=14)
        self._target.setToolTip("What the new pass is brought to the loudness of (BS.1770).")
        self._target.currentIndexChanged.connect(self._on_target)
        self._lufs = NumberField()
        self._lufs.setRange(-60.0, 0.0)
        self._lufs.setDecimals(1)
        self._lufs.setValue(-18.0)
        self._lufs.setSuffix(" LUFS")
        self._lufs.setAccessibleName("Loudness to reach")
        self._lufs.valueChanged.connect(lambda _value: self.target_changed.emit())
        self._auto = QCheckBox("Set return gain")
        self._auto.setChecked(True)
        self._auto.setToolTip(
            "Sets the return's input gain in its own steps, so that the loudest peak comes "
            "closest to the target from below."
        )
        self._auto.toggled.connect(lambda _on: self.auto_changed.emit())
        self.reamp_button = QPushButton("Reamp (R)")
        self.reamp_button.setProperty("main", "true")
        self.reamp_button.setAccessibleName("Reamp the chosen take")
        self.reamp_button.clicked.connect(self.reamp_asked)
        self.check_button = QPushButton("Check loop (C)")
        self.check_button.setAccessibleName("Check the loop")
        self.check_button.setToolTip(
            "Quiet sweeps of three seconds each: level, response by third octave, delay, polarity "
            "and noise of the loop less those of the last good one."
        )
        self.check_button.clicked.connect(self.check_asked)
        load = WrappingRow(spacing=8)
        self._undo = QCheckBox("Compensate DI input loading")
        self._undo.setToolTip(
            "Sends the DI as the amplifier's input would have seen the instrument: the ratio of "
            "the two loading curves, as a minimum-phase filter."
        )
        self._undo.toggled.connect(lambda _on: self.auto_changed.emit())
        self.load = combo("Impedance that the DI was recorded into", least=18)
        for ohm in DI_LOADS:
            words = "not known" if ohm is None else show(ohm, RESISTANCE)
            self.load.addItem(f"recorded into {words}" if ohm else "recorded into: not known", ohm)
        self.load.activated.connect(lambda _i: self.load_asked.emit(self.load.currentData()))
        self.load_text = ElidedLabel()
        least_width(self.load_text, 120)
        self.load_text.setProperty("role", "muted")
        self._slate = QCheckBox("Slate ahead")
        self._slate.setChecked(True)
        self._slate.setToolTip(
            tip(
                "A quiet sweep goes round the loop before the take is sent, 20 dB under it and "
                "less: it tells the loop's own delay, polarity and noise, and is no part of the "
                "pass. One serves an unchanged loop. Leave it out where a gate swallows it."
            )
        )
        self.sent = combo("Track that is sent", least=10)
        self.sent.setToolTip(
            "The dry DI, or the DI behind pedals that belong to the performance. What a pedal did "
            "is printed: its drive and its effect stay, and what the first input did to the pickup "
            "cannot be undone. Amplifier, cabinet and level can be changed."
        )
        self.sent.activated.connect(lambda _i: self.sent_asked.emit(self.sent.currentData()))
        load.addWidget(self.sent)
        load.addWidget(self._slate)
        load.addWidget(self._undo)
        load.addWidget(self.load)
        load.add_growing(self.load_text)
        row.add_pair("Match level to", self._target, grow=True)
        row.addWidget(self._lufs)
        row.addWidget(self._auto)
        row.addWidget(self.reamp_button)
        self._part = WrappingRow(spacing=8)
        self.part_words = TextLabel()
        self.part_words.setAccessibleName("What of the take is sent")
        self.join_with = combo("Pass whose rest it is joined with", least=16)
        self.join_with.setToolTip(
            "Alone, or with the rest of an older pass around it: a new file, crossfaded over 5 ms. "
            "The same chain goes on at the same gain, another one as loud as the pass was there."
        )
        self.whole = QPushButton("Whole take")
        self.whole.setToolTip("Backspace clears the marked range.")
        self.whole.clicked.connect(self.whole_asked)
        self._part.addWidget(self.part_words)
        self._part.addWidget(self.join_with)
        self._part.addWidget(self.whole)
        self._part.add_stretch()
        self.foot = _Foot()
        below = QVBoxLayout(self.foot)
        below.setContentsMargins(8, 0, 8, 0)
        below.setSpacing(6)
        below.addLayout(self._part)
        below.addLayout(load)
        below.addLayout(row)
        self._lufs.hide()
        self.show_part("", ())

    @property
    def join(self) -> str:
        """Id of the pass that a part is joined with; "" for alone, and for a whole take."""
        return "" if self.join_with.isHidden() else str(self.join_with.currentData() or "")

    def show_part(self, words: str, passes: Sequence[tuple[str, str]]) -> None:
        """What of the take is sent, "" for all of it, and what it can be joined with."""
        chosen = self.join_with.currentData()
        blocker = QSignalBlocker(self.join_with)
        self.join_with.clear()
        self.join_with.addItem("alone", "")
        for ident, name in passes:
            self.join_with.addItem(f"joined with {name}", ident)
        choose(self.join_with, chosen if any(one == chosen for one, _ in passes) else "")
        del blocker
        self.part_words.setText(f"Only {words}:" if words else "")
        for widget in (self.part_words, self.join_with, self.whole):
            widget.setVisible(bool(words))

    def show_sent(self, tracks: Sequence[tuple[str, str]], chosen: str) -> None:
        """(id, name) of what can be sent; to choose where there is more than one, or where it is
        not dry."""
        blocker = QSignalBlocker(self.sent)
        self.sent.clear()
        for ident, name in tracks:
            self.sent.addItem(name, ident)
        choose(self.sent, chosen)
        del blocker
        self.sent.setVisible(len(tracks) > 1)

    @property
    def auto_return(self) -> bool:
        """Whether the return gain is set from the plan."""
        return self._auto.isChecked()

    @property
    def slate(self) -> bool:
        """Whether a quiet sweep goes ahead of the take."""
        return self._slate.isChecked()

    @property
    def undo_load(self) -> bool:
        """Whether the DI is sent with its load undone."""
        return self._undo.isChecked() and self._undo.isEnabled()

    def show_load(self, load_ohm: float | None, text: str, possible: bool) -> None:
        """What the DI was recorded into, and what undoing it would cost or why it cannot be."""
        if self.load.findData(load_ohm) < 0:
            assert load_ohm is not None
            self.load.addItem(f"recorded into {show(load_ohm, RESISTANCE)}", load_ohm)
        choose(self.load, load_ohm)
        blocker = QSignalBlocker(self._undo)
        self._undo.setEnabled(possible)
        if not possible:
            self._undo.setChecked(False)
        del blocker
        self.load_text.setText(text)
        self.load_text.setToolTip(tip(f"{text}\n{LOAD_TIP}"))

    @property
    def target(self) -> MatchTarget:
        """What the next pass is to be as loud as."""
        data = self._target.currentData()
        kind, ident = data if isinstance(data, tuple) else ("none", "")
        if kind == "lufs":
            return MatchTarget(kind="lufs", lufs=self._lufs.value())
        return MatchTarget(kind=kind, ident=ident)

    def show_targets(self, take: Take | None) -> None:
        """Offer the tracks and passes of a take as references; keep what was chosen."""
        before = self._target.currentData()
        blocker = QSignalBlocker(self._target)
        self._target.clear()
        if take is not None:
            for part in take.parts:
                self._target.addItem(f"Track: {part_name(part)}", ("track", part_ident(part)))
            for one in take.passes:
                self._target.addItem(f"Pass: {one.name}", ("pass", one.id))
        self._target.addItem("Target loudness", ("lufs", ""))
        self._target.addItem("Nothing (leave as it is)", ("none", ""))
        index = self._index_of(before)
        if index < 0:
            # Another track than the DI is the natural reference where there is one.
            index = 1 if take is not None and len(take.parts) > 1 else 0
        self._target.setCurrentIndex(index)
        del blocker
        self._lufs.setVisible(self.target.kind == "lufs")

    def _index_of(self, data: object) -> int:
        for index in range(self._target.count()):
            if self._target.itemData(index) == data:
                return index
        return -1

    def _on_target(self) -> None:
        self._lufs.setVisible(self.target.kind == "lufs")
        self.target_changed.emit()

    # --- knobs ---

    def show_rig(self, session: Session, rig: Rig) -> None:
        """The settings of the rig; the widgets are made anew only when it has others."""
        rows = [
            (device, setting)
            for device in rig.devices
            for setting in device.settings
            if device.kind in LOOP_KINDS
            or (device.kind in MODELER_KINDS and setting.id in MODELER_TONE)
        ]
        shape = (
            tuple((r.id, r.name) for r in session.rigs),
            tuple((d.id, d.name, s.id) for d, s in rows),
            tuple(i.file for i in session.impulses),
        )
        if shape != self._shape:
            self._build(session, rows)
            self._shape = shape
        blocker = QSignalBlocker(self._rig)
        self._rig.setCurrentIndex([r.id for r in session.rigs].index(rig.id))
        del blocker
        for device, setting in rows:
            self._fill(self._controls[(device.id, setting.id)], setting)

    def control(self, device_id: str, setting_id: str) -> QDoubleSpinBox | QComboBox:
        """The widget of a setting."""
        return self._controls[(device_id, setting_id)]

    def _build(self, session: Session, rows: list[tuple[Device, Control | Choice]]) -> None:
        self._controls.clear()
        board = QWidget()
        lines = QVBoxLayout(board)
        lines.setContentsMargins(0, 0, 0, 0)
        lines.setSpacing(2)
        self._rig = combo("Rig", least=10)
        for rig in session.rigs:
            self._rig.addItem(rig.name, rig.id)
        self._rig.currentIndexChanged.connect(
            lambda index: self.rig_asked.emit(str(self._rig.itemData(index)))
        )
        first = _line(lines)
        first.add_growing(_named("Rig", self._rig))
        names = [setting.name for _, setting in rows]
        if len(set(names)) == len(names):
            numbers = _line(lines)
            for device, setting in rows:
                number = isinstance(setting, Control)
                whose = f"{device.name}: " if device.kind not in ("amp", "modeler") else ""
                name = f"{whose}{setting.name}" if number else setting.name
                self._add(numbers if number else first, session, device, setting, name)
        else:
            # Two that are called Drive: device by device.
            for device in {device.id: device for device, _ in rows}.values():
                heading = ElidedLabel(device.name)
                heading.setProperty("role", "small-bold")
                lines.addWidget(heading)
                line = _line(lines)
                own = [setting for owner, setting in rows if owner.id == device.id]
                for setting in sorted(own, key=lambda one: isinstance(one, Control)):
                    self._add(line, session, device, setting, setting.name)
        self._knobs.hide()
        self._column.replaceWidget(self._knobs, board)
        self._knobs.setParent(None)
        self._knobs.deleteLater()
        self._knobs = board

    def _add(
        self,
        line: WrappingRow,
        session: Session,
        device: Device,
        setting: Control | Choice,
        name: str,
    ) -> None:
        if isinstance(setting, Choice):
            line.add_growing(_named(name, self._choice(session, device, setting)))
        else:
            line.addWidget(_named(name, self._number(device, setting, name)))

    def _choice(self, session: Session, device: Device, setting: Choice) -> QComboBox:
        box = combo(f"{setting.name} of {device.name}", least=9)
        for key, words in setting.options:
            box.addItem(words, key)
        if setting.id == "cabinet":
            for impulse in session.impulses:
                box.addItem(f"{impulse.name} (own)", impulse.file)
            box.addItem("Load an impulse response\N{HORIZONTAL ELLIPSIS}", LOAD_CABINET)
        box.activated.connect(
            lambda index, d=device.id, s=setting.id, b=box: self._on_choice(d, s, b, index)
        )
        self._controls[(device.id, setting.id)] = box
        return box

    def _on_choice(self, device: str, setting: str, box: QComboBox, index: int) -> None:
        value = str(box.itemData(index))
        if value == LOAD_CABINET:
            self.cabinet_file_asked.emit()
        else:
            self.setting_asked.emit(device, setting, value)

    def _number(self, device: Device, setting: Control, name: str) -> QDoubleSpinBox:
        box = NumberField()
        # As wide as a figure of its range needs, no wider where room is short.
        box.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        box.setRange(setting.minimum, setting.maximum)
        box.setSingleStep(setting.step)
        box.setDecimals(0 if setting.step >= 1.0 else 1)
        box.setKeyboardTracking(False)
        if setting.unit:
            box.setSuffix(f" {setting.unit}")
        box.setAccessibleName(f"{name}, {device.name}")
        box.valueChanged.connect(
            lambda value, d=device.id, s=setting.id: self.setting_asked.emit(d, s, float(value))
        )
        self._controls[(device.id, setting.id)] = box
        return box

    def _fill(self, widget: QDoubleSpinBox | QComboBox, setting: Control | Choice) -> None:
        blocker = QSignalBlocker(widget)
        if isinstance(widget, QComboBox):
            index = widget.findData(setting.value)
            widget.setCurrentIndex(index)
        elif isinstance(setting, Control):
            widget.setValue(setting.value)
        del blocker
