"""The ways of a source into an input, best first."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.tables import Cell, Table
from diaulos.figures import number
from diaulos.rig.ways import Way

HEAD = ("Through", "Switch", "Verdict", "Comes as", "To clipping", "Gain", "Left", "Noise",
        "4 kHz")  # fmt: skip


class WaysDialog(QDialog):
    """A table of ways; the chosen one can be plugged in, its sentence copied."""

    plug_asked = Signal(object)

    def __init__(
        self,
        title: str,
        ways: tuple[Way, ...],
        sentence: Callable[[Way], str],
        writable: bool,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._ways, self._sentence = ways, sentence
        self.setWindowTitle("Ways into this input")
        self.resize(900, 560)
        head = TextLabel(title)
        head.setProperty("role", "title")
        self.table = Table("Ways into this input", HEAD, 0)
        self.table.show_rows([(index, _cells(way)) for index, way in enumerate(ways)])
        self.table.itemSelectionChanged.connect(self._on_chosen)
        self.about = TextLabel()
        self.about.setWordWrap(True)
        self.about.setProperty("role", "muted")
        self.words = TextLabel()
        self.words.setWordWrap(True)
        self.words.setAccessibleName("For the engineer at the desk")
        self.plug = QPushButton("Plug in so (Enter)")
        self.plug.setProperty("main", "true")
        self.plug.setDefault(True)
        self.plug.setEnabled(writable)
        self.plug.clicked.connect(self._on_plug)
        self.copy = QPushButton("Copy the sentence")
        self.copy.clicked.connect(lambda: QGuiApplication.clipboard().setText(self.words.text()))
        close = QPushButton("Close")
        close.clicked.connect(self.reject)
        row = QHBoxLayout()
        for button in (self.plug, self.copy):
            row.addWidget(button)
        row.addStretch(1)
        row.addWidget(close)
        column = QVBoxLayout(self)
        for widget in (head, self.table, self.about, self.words):
            column.addWidget(widget)
        column.addLayout(row)
        self.table.choose_first()
        self.table.setFocus()
        self._on_chosen()

    @property
    def way(self) -> Way | None:
        """The chosen way."""
        index = self.table.chosen()
        return self._ways[index] if index is not None else None

    def _on_chosen(self) -> None:
        way = self.way
        if way is None:
            self.about.setText("")
            self.words.setText("")
            return
        told = [f"Tightest at {way.tightest}."]
        if way.misfit:
            told.append(way.misfit)
        if way.unplugs:
            told.append(f"It unplugs {'; '.join(way.unplugs)}.")
        self.about.setText(" ".join(told))
        self.words.setText(f"For the engineer: {self._sentence(way)}")

    def _on_plug(self) -> None:
        if self.way is not None:
            self.plug_asked.emit(self.way)
            self.accept()


def _cells(way: Way) -> tuple[Cell, ...]:
    token = "danger" if way.clips or way.verdict == "DANGER" else ""
    gain = Cell("fixed", figure=True)
    left = Cell("", figure=True)
    if way.gain_db is not None and way.left_db is not None:
        gain = Cell(f"{number(way.gain_db, 0)} dB", "Highest step at which the loudest peak does "
                    "not pass the target", way.gain_db, figure=True)  # fmt: skip
        left = Cell(f"{number(way.left_db, 0)} dB", "What the gain has above that", way.left_db,
                    figure=True)  # fmt: skip
    return (
        Cell(way.box_name or "straight in", bold=True),
        Cell(way.mode.lower()),
        Cell(way.verdict, token=token),
        Cell(f"{number(way.arrives_dbu)} dBu", "Loudest peak at the input, in dBu of a sine",
             way.arrives_dbu, figure=True),
        Cell(f"{number(way.room_db)} dB", "To the nearest clip point on the way, gain at its "
             f"least: {way.tightest}", way.room_db, figure=True),
        gain,
        left,
        Cell(f"{number(way.noise_dbfs)} dBFS", "Of the track at that gain: RMS after AES17, 20 Hz "
             f"to 20 kHz; {number(way.snr_db)} dB below the peak", way.noise_dbfs, figure=True),
        Cell(f"{number(way.treble_db, sign=True)} dB", "Level at 4 kHz less that at 1 kHz, from "
             "the pickup on", way.treble_db, figure=True),
    )  # fmt: skip
