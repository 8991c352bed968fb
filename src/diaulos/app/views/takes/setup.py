"""How the next take is recorded: the row at the top of Takes."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QPushButton,
    QSlider,
    QSpinBox,
    QWidget,
)

from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.number_field import NumberField, WholeField
from diaulos.app.widgets.painted import fix_width, least_width
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import number
from diaulos.session.model import Session, Take
from diaulos.work.capture.trips import WayRound
from diaulos.work.takes.over import Over, Way
from diaulos.work.takes.recording import RecordRequest

CLICK_DB = -6
METRES = ("2/4", "3/4", "4/4", "5/4", "6/4", "7/4", "3/8", "6/8", "7/8", "9/8", "12/8")
WAYS = {
    "new": "New take",
    "along": "Over the chosen take",
    "loop": "Round the range",
    "punch": "Into the range",
}
TIPS = {
    "new": "A new take, from its beginning",
    "along": "The chosen take plays along; the new one lands in time with what is heard",
    "loop": "The marked bars of the chosen take come round; every round becomes a take",
    "punch": "The marked range is played anew inside a copy; the chosen take is kept",
}

WAY_OF: dict[str, Way] = {"along": "along", "loop": "loop", "punch": "punch"}
"""What is recorded over a take, by its choice in the list."""


class SetupBar(QWidget):
    """Which way, how long, with which click."""

    changed = Signal()
    tempo_asked = Signal(float)
    metre_asked = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.record = QPushButton("Record (Space)")
        self.record.setProperty("main", "true")
        least_width(self.record, 130)  # nothing beside it moves when it says Stop
        self.way = combo("How it is recorded (W)", WAYS, least=14)
        self.copies = QCheckBox("Repeat it")
        self.copies.setToolTip(
            "The chosen take comes round again, on whole bars, for as long as the new one runs"
        )
        self.apart = QCheckBox("Stereo as two")
        self.apart.setToolTip(
            "The sides of a stereo output as tracks of their own, panned hard; else they are one "
            "track. The mix changes it afterwards"
        )
        self.apart.hide()
        self.bars = _spin("bars ", "until stopped", 999, "Length of the take")
        self.loop = _spin("loop of ", "no loop", 64, "Length of a loop")
        self.loop.setToolTip("Length of a loop: the next take begins after so many bars, no gap")
        self.pre_roll = _spin("pre-roll ", "no pre-roll", 8, "Pre-roll of a punch")
        self.pre_roll.setValue(1)
        self.count_in = _spin("count-in ", "no count-in", 8, "Count-in")
        self.count_in.setValue(1)
        self.click = QCheckBox("Click")
        self.click.setToolTip("Also while it records; the count-in clicks by itself")
        self.tempo = NumberField()
        self.tempo.setRange(20.0, 400.0)
        self.tempo.setDecimals(1)
        self.tempo.setSuffix(" bpm")
        self.tempo.setKeyboardTracking(False)
        self.tempo.setAccessibleName("Tempo of the click")
        self.tempo.setToolTip("Quarter notes a minute. Takes keep the tempo they were made at.")
        self.metre = combo("Metre", {one: one for one in METRES}, least=4)
        self.click_level = QSlider(Qt.Orientation.Horizontal)
        self.click_level.setRange(-40, 12)
        self.click_level.setValue(CLICK_DB)
        fix_width(self.click_level, 72)
        self.click_level.setAccessibleName("Click level in dB")
        row = WrappingRow(self, spacing=8)
        for widget in (self.record, self.way, self.copies, self.bars, self.loop, self.pre_roll,
                       self.count_in, self.apart, self.tempo, self.metre, self.click,
                       self.click_level):  # fmt: skip
            row.addWidget(widget)
        row.add_stretch()
        self.way.currentIndexChanged.connect(self._on_way)
        self.click_level.valueChanged.connect(self._show_click)
        self.tempo.valueChanged.connect(self.tempo_asked)
        self.metre.activated.connect(
            lambda _i: self.metre_asked.emit(str(self.metre.currentData()))
        )
        self._show_click(self.click_level.value())
        self._on_way()

    def _show_click(self, value: int) -> None:
        self.click_level.setToolTip(f"Level of the click: {number(float(value), 0)} dB")

    def show_session(self, session: Session, writable: bool) -> None:
        """Tempo and metre as they are, without asking for them."""
        for widget in (self.tempo, self.metre):
            widget.setEnabled(writable)
        blocked = self.tempo.blockSignals(True)
        self.tempo.setValue(session.tempo_bpm)
        self.tempo.blockSignals(blocked)
        if self.metre.findData(session.metre) < 0:
            self.metre.addItem(session.metre, session.metre)
        choose(self.metre, session.metre)

    @property
    def chosen(self) -> str:
        """new, along, loop or punch."""
        return str(self.way.currentData())

    def show_pairs(self, there: bool) -> None:
        """Whether the armed tracks hold both sides of a stereo output."""
        self.apart.setVisible(there)

    def next_way(self) -> str:
        """The next way in the list; returns its words."""
        self.way.setCurrentIndex((self.way.currentIndex() + 1) % self.way.count())
        return f"{self.way.currentText()}: {TIPS[self.chosen]}."

    def _on_way(self) -> None:
        chosen = self.chosen
        self.way.setToolTip(TIPS[chosen])
        self.copies.setVisible(chosen == "along")
        self.bars.setVisible(chosen != "punch")
        self.loop.setVisible(chosen in ("new", "along"))
        self.pre_roll.setVisible(chosen == "punch")
        self.changed.emit()

    def missing(self, take: Take | None, stretch: tuple[int, int] | None) -> str:
        """What must be there for this way and is not, in words."""
        if self.chosen == "new":
            return ""
        if take is None:
            return "Choose a take to record over."
        if self.chosen != "along" and stretch is None:
            return "Mark a range: I at its beginning, O at its end."
        return ""

    def request(
        self, session: Session, take: Take | None, stretch: tuple[int, int] | None,
        solo: frozenset[str], way_round: WayRound, monitor_db: float,
    ) -> RecordRequest:  # fmt: skip
        """What is asked for."""
        way, over = WAY_OF.get(self.chosen), None
        if take is not None and way is not None and not self.missing(take, stretch):
            first, last = stretch if stretch is not None and way != "along" else (0, None)
            copies = way == "along" and self.copies.isChecked()
            over = Over(take, way, first, last, self.pre_roll.value(), solo, copies)
        return RecordRequest(
            session,
            bars=None if way == "punch" else self.bars.value() or None,
            loop_bars=(self.loop.value() or None) if way in (None, "along") else None,
            count_in_bars=self.count_in.value(),
            click=self.click.isChecked(),
            click_db=float(self.click_level.value()),
            monitor_db=monitor_db,
            way_round=way_round,
            over=over,
            pairs_apart=self.apart.isChecked(),
        )


def _spin(prefix: str, none: str, most: int, name: str) -> QSpinBox:
    spin = WholeField()
    spin.setRange(0, most)
    spin.setPrefix(prefix)
    spin.setSpecialValueText(none)
    spin.setAccessibleName(name)
    spin.setToolTip(f"{name}, in bars")
    return spin
