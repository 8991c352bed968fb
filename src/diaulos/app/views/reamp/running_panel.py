"""The running loop: what comes back against a reference, readable from the amplifier."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.curve_plot import Curve, CurvePlot
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import least_height
from diaulos.app.widgets.wrapping import WrappingRow, scrolled
from diaulos.figures import counted, number
from diaulos.work.reamp.running import Told, Waits

MOMENT = "moment"
CAUTION = (
    "Before you lean towards a loudspeaker: level down, hearing protected. A valve amplifier keeps "
    "its load on."
)
WAITS: dict[Waits, str] = {
    "": "",
    "no reference": "Let it go round, then H holds what is heard as the reference.",
    "not held": "The reference does not have this part of the range. It is compared again where it "
    "has; H holds all that was heard by now.",
    "change": "A second of it is listened to.",
    "lost": "Sound was lost on the way: it is compared again after a second and a half without a "
    "loss. End what else runs, or choose longer blocks (Preferences, Sound).",
}
"""What stands where the curve would."""


def _now_words(told: Told) -> str:
    words = [f"round {int(told.rounds) + 1}"]
    if told.level_dbfs > -150.0:
        level, peak = number(told.level_dbfs), number(told.peak_dbfs)
        words.insert(0, f"Now {level} dBFS RMS, {peak} dBFS peak")
    if told.lost:
        words.append(f"{counted(told.lost, 'frame')} lost so far")
    return ", ".join(words)[:1].upper() + ", ".join(words)[1:]


class RunningPanel(QWidget):
    """Shows the figures; asks for what is done."""

    run_asked = Signal()
    hold_asked = Signal()
    compare_asked = Signal()
    print_asked = Signal()
    reference_asked = Signal(str)
    left = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.run = QPushButton("Start (R)")
        self.run.setProperty("main", "true")
        self.run.setToolTip(
            "Sends the marked range, else what the take is cut to, else all of it, round and "
            "round at the planned volts."
        )
        self.run.clicked.connect(self.run_asked)
        self.hold = QPushButton("Hold (H)")
        self.hold.setToolTip("What is heard now is the reference.")
        self.hold.clicked.connect(self.hold_asked)
        self.compare = QPushButton("Compare (J)")
        self.compare.setToolTip(
            "Plays the reference and the last round in turns, at equal loudness (BS.1770); the "
            "loop stops meanwhile."
        )
        self.compare.clicked.connect(self.compare_asked)
        self.print_ = QPushButton("Print a pass (P)")
        self.print_.setToolTip("An ordinary pass of the range as everything stands now.")
        self.print_.clicked.connect(self.print_asked)
        self.reference = combo("Reference", least=14)
        self.reference.activated.connect(
            lambda _i: self.reference_asked.emit(str(self.reference.currentData()))
        )
        self.back = QPushButton("Back (G)")
        self.back.clicked.connect(self.left)
        self.words = TextLabel()
        self.words.setWordWrap(True)
        self.words.setAccessibleName("What goes round")
        self.level, self.drive = TextLabel(), TextLabel()
        for label, name, words in (
            (self.level, "Level difference",
             "RMS of the last three seconds less that of the reference in the same frames"),
            (self.drive, "Drive difference",
             "Change of the share that no linear filter makes of the DI (coherence): distortion"),
        ):  # fmt: skip
            label.setProperty("role", "far")
            label.setAccessibleName(name)
            label.setToolTip(words)
        self.now = TextLabel()
        self.now.setProperty("role", "muted")
        self.plot = CurvePlot(axis="dB more than the reference")
        least_height(self.plot, 96)  # lower than a plot likes, where text is large
        caution = TextLabel(CAUTION)
        caution.setProperty("role", "notice")
        caution.setWordWrap(True)
        top = WrappingRow()
        for widget in (self.run, self.hold, self.compare, self.print_):
            top.addWidget(widget)
        top.add_pair("Against", self.reference)
        top.add_stretch()
        top.addWidget(self.back)
        figures = QHBoxLayout()
        figures.addWidget(self.level, 1)
        figures.addWidget(self.drive, 1)
        inner = QWidget()
        inside = QVBoxLayout(inner)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addWidget(self.words)
        inside.addLayout(figures)
        inside.addWidget(self.now)
        inside.addWidget(self.plot, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 0, 0)
        column.addLayout(top)
        column.addWidget(scrolled(inner, "Figures of the running loop"), 1)
        column.addWidget(caution)  # always in sight
        self.show_told(None)

    def show_references(self, names: Sequence[tuple[str, str]]) -> None:
        """(key, name) of what can be the reference beside a moment of one's own."""
        chosen = self.reference.currentData()
        blocker = QSignalBlocker(self.reference)
        self.reference.clear()
        self.reference.addItem("the moment of H", MOMENT)
        for key, name in names:
            self.reference.addItem(name, key)
        choose(self.reference, chosen if any(key == chosen for key, _ in names) else MOMENT)
        del blocker

    def show_running(self, running: bool) -> None:
        """The button says what it will do."""
        self.run.setText("Stop (R)" if running else "Start (R)")
        self.hold.setEnabled(running)

    def show_told(self, told: Told | None) -> None:
        """The figures of a moment; None for none yet."""
        found = told.difference if told is not None else None
        if told is None or (told.level_dbfs <= -150.0 and not told.lost):
            self.now.setText("Nothing has come back yet.")
        else:
            self.now.setText(_now_words(told))
        if found is None:
            self.level.setText("Level \N{EN DASH}")
            self.drive.setText("Drive \N{EN DASH}")
            self.plot.clear(WAITS[told.waits] if told is not None else WAITS["no reference"])
            return
        self.level.setText(f"Level {number(found.level_db, sign=True)} dB")
        drive = "\N{EN DASH}"
        if found.drive_db is not None:
            drive = f"{number(found.drive_db, sign=True)} dB"
        self.drive.setText(f"Drive {drive}")
        freqs = np.array([hz for hz, _ in found.bands])
        if freqs.size > 1:
            self.plot.set_curves(freqs, (Curve("now", np.array([db for _, db in found.bands])),))
