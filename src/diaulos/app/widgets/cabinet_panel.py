"""Cabinets for a track that was recorded without one: stepped through and heard, then put in place.

Takes and Reamp show the same panel; `app/cabinets.py` does what it asks for.
"""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.controls import combo
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import counted, number
from diaulos.records import dataclass

NONE = "none"
"""Key of the row without a cabinet."""
DEEPEST_KEY = 9


@dataclass(frozen=True)
class Subject:
    """What gets a cabinet: a track, or returns that belong together, by their audio files."""

    files: tuple[str, ...]
    name: str
    before: str = ""
    """The cabinet that it has been through already, in words."""


@dataclass(frozen=True)
class CabinetRow:
    """A cabinet that can be heard."""

    key: str
    """`NONE`, a cabinet of the session, or the path of a file of the folder."""
    name: str
    place: str
    """Where it comes from, in words."""
    bright_hz: float | None = None
    length_ms: float | None = None
    stereo: bool = False
    gain_db: float | None = None
    """What makes it as loud as none; None where that was not measured."""
    hotkey: int | None = None
    """Of an alternative that is in place."""
    used: bool = False


class _Steps(Table):
    """Up and down step, Enter takes, figures choose what is in place."""

    taken = Signal()
    numbered = Signal(int)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.taken.emit()
        elif event.text().isdecimal() and len(event.text()) == 1:
            self.numbered.emit(int(event.text()))
        else:
            super().keyPressEvent(event)


class CabinetPanel(QWidget):
    """Shows cabinets; asks for what is done with them."""

    subject_asked = Signal(object)
    tried = Signal(str)
    """A row's key: it is to be heard."""
    put_asked = Signal(str)
    folder_asked = Signal()
    removed = Signal()
    left = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._rows: tuple[CabinetRow, ...] = ()
        self._subjects: tuple[Subject, ...] = ()
        self.subject = combo("Track or pass that gets a cabinet", least=16)
        self.subject.activated.connect(self._on_subject)
        self.put = QPushButton("Put in place (Enter)")
        self.put.setProperty("main", "true")
        self.put.setToolTip(
            "What is chosen stands behind the track from now on, in Takes, Reamp and exports; the "
            "file stays as it is. Its gain is then found from the whole track."
        )
        self.put.clicked.connect(self._put)
        self.folder = QPushButton("Folder\N{HORIZONTAL ELLIPSIS}")
        self.folder.setToolTip(
            "Impulse responses of a folder, WAV or FLAC, of any rate, from dark to bright."
        )
        self.folder.clicked.connect(self.folder_asked)
        self.remove = QPushButton("Take away")
        self.remove.setToolTip("No cabinet and no alternatives any more. Ctrl+Z brings them back.")
        self.remove.clicked.connect(self.removed)
        self.back = QPushButton("Back (Z)")
        self.back.clicked.connect(self.left)
        self.words = TextLabel()
        self.words.setWordWrap(True)
        self.words.setAccessibleName("What is heard")
        self.table = _Steps(
            "Cabinets", ("Key", "Cabinet", "From", "Brightness, kHz", "Length, ms", "Gain, dB"), 1,
            {0: 44, 2: 110, 3: 118, 4: 92, 5: 76},
        )  # fmt: skip
        self.table.currentCellChanged.connect(self._on_row)
        self.table.taken.connect(self._put)
        self.table.numbered.connect(self.choose_key)
        top = WrappingRow()
        top.add_pair("Behind", self.subject)
        for button in (self.put, self.folder, self.remove):
            top.addWidget(button)
        top.add_stretch()
        top.addWidget(self.back)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 0, 0)
        column.addLayout(top)
        column.addWidget(self.words)
        column.addWidget(self.table, 1)

    # --- what is shown ---

    @property
    def chosen_subject(self) -> Subject | None:
        """What gets the cabinet."""
        index = self.subject.currentIndex()
        return self._subjects[index] if 0 <= index < len(self._subjects) else None

    def show_subjects(self, subjects: Sequence[Subject], chosen: tuple[str, ...]) -> None:
        """The tracks and passes of a take; `chosen` are the files of the one that is shown."""
        self._subjects = tuple(subjects)
        blocker = QSignalBlocker(self.subject)
        self.subject.clear()
        for one in subjects:
            self.subject.addItem(one.name)
        index = next((i for i, one in enumerate(subjects) if one.files == chosen), 0)
        self.subject.setCurrentIndex(index if subjects else -1)
        del blocker

    def show_rows(self, rows: Sequence[CabinetRow], chosen: str) -> None:
        """Every cabinet, and the one that is heard."""
        self._rows = tuple(rows)
        blocker = QSignalBlocker(self.table)
        self.table.show_rows([(row.key, _cells(row)) for row in rows])
        self.table.choose(chosen)
        del blocker
        self.remove.setEnabled(any(row.hotkey for row in rows))
        self.put.setEnabled(bool(rows))

    def say(self, words: str) -> None:
        """What is heard, or what is wrong."""
        self.words.setText(words)

    def choose_key(self, number_: int) -> None:
        """The n-th alternative that is in place; 0 for none."""
        wanted = NONE if number_ == 0 else next(
            (row.key for row in self._rows if row.hotkey == number_), ""
        )  # fmt: skip
        if wanted:
            self.table.choose(wanted)

    # --- what is asked ---

    def _on_subject(self, index: int) -> None:
        if 0 <= index < len(self._subjects):
            self.subject_asked.emit(self._subjects[index])

    def _on_row(self, *_places: int) -> None:
        key = self.table.chosen()
        if key is not None:
            self.tried.emit(str(key))

    def _put(self) -> None:
        key = self.table.chosen()
        if key is not None:
            self.put_asked.emit(str(key))


def refused_words(refused: Sequence[str]) -> str:
    """Files of a folder that cannot be used."""
    if not refused:
        return ""
    return f" {counted(len(refused), 'file')} cannot be used: {refused[0]}"


def _cells(row: CabinetRow) -> list[Cell]:
    key = "" if row.hotkey is None else str(row.hotkey)
    if row.key == NONE:
        key = "0"
    bright = "" if row.bright_hz is None else number(row.bright_hz / 1000.0, 2)
    length = "" if row.length_ms is None else number(row.length_ms, 0)
    gain = "" if row.gain_db is None else number(row.gain_db, 1, sign=True)
    name = f"{row.name}, stereo" if row.stereo else row.name
    return [
        Cell(key),
        Cell(name, bold=row.used),
        Cell(row.place),
        Cell(
            bright,
            "Mean of the logarithm of frequency, weighted with the power per octave from 80 Hz to "
            "12 kHz: low is dark, high is bright",
            row.bright_hz, True,
        ),
        Cell(length, "Without the silence ahead and behind", row.length_ms, True),
        Cell(
            gain,
            "Makes the whole track as loud as it is without a cabinet (BS.1770, gated)",
            row.gain_db, True,
        ),
    ]  # fmt: skip
