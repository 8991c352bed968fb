"""Tones in a row: takes and tones to choose at the top, side by side what came of them below."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QRectF, QSignalBlocker, Qt, Signal
from PySide6.QtGui import QPaintEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.columns import fill_columns
from diaulos.app.widgets.controls import TICKS
from diaulos.app.widgets.labels import TextLabel, tip
from diaulos.app.widgets.painted import Painted, most_height
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.session.model import Pass, QueuedPass
from diaulos.signal.overview import Overview

KEY = Qt.ItemDataRole.UserRole
WAVE = 3


@dataclass(frozen=True)
class QueueRow:
    """A pass of the queue as it is shown."""

    item: QueuedPass
    take: str
    made: Pass | None
    differs: str = ""


@dataclass(frozen=True)
class Drawn:
    """A pass's waveform: the frames of what was sent, at its matched level (a linear gain)."""

    overview: Overview
    first: int
    last: int
    gain: float

    @property
    def peak(self) -> float:
        """The largest sample, linear."""
        low, high = self.overview.columns(float(self.first), float(self.last), 400)
        return self.gain * float(max(np.max(high, initial=0.0), -np.min(low, initial=0.0)))


class MiniWave(Painted):
    """A pass's waveform; `height` is as high as the cell, the same for all of a queue."""

    def __init__(self, drawn: Drawn, height: float) -> None:
        super().__init__()
        self._drawn, self._height = drawn, height
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    @property
    def shows(self) -> tuple[Drawn, float]:
        """What is drawn, and how high."""
        return self._drawn, self._height

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, look = self.canvas(), theme.current()
        count = max(2, int(self.wide) - 8)
        drawn = self._drawn
        low, high = drawn.overview.columns(float(drawn.first), float(drawn.last), count)
        middle, half = self.high / 2.0, self.high / 2.0 - 2.0
        tops = np.clip(drawn.gain * high / self._height, -1.0, 1.0)
        lows = np.clip(drawn.gain * low / self._height, -1.0, 1.0)
        # Silence is a line.
        upper = np.minimum(middle - half * tops, middle - 0.5)
        lower = np.maximum(middle - half * lows, middle + 0.5)
        fill_columns(painter, QRectF(4.0, 0.0, count, self.high), upper, lower, look.colour("amp"))


class QueuePanel(QWidget):
    """Shows the queue; asks for what is done with it."""

    added = Signal(object, object)
    """(ids of the takes, places of the tones)."""
    run_asked = Signal()
    file_asked = Signal()
    cleared = Signal()
    chosen_changed = Signal()
    left = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._rows: dict[str, QueueRow] = {}
        self._waves: dict[str, Drawn] = {}
        self.takes = _checks("Takes to send")
        self.tones = _checks("Tones to send them through")
        self.add = QPushButton("Queue")
        self.add.setToolTip("Every chosen tone through every chosen take, take by take")
        self.add.clicked.connect(self._add)
        self.file = QPushButton("From a file\N{HORIZONTAL ELLIPSIS}")
        self.file.setToolTip("A queue as JSON; docs/cli.md says what stands in it.")
        self.file.clicked.connect(self.file_asked)
        self.run = QPushButton("Start (R)")
        self.run.setProperty("main", "true")
        self.run.clicked.connect(self.run_asked)
        self.clear = QPushButton("Clear")
        self.clear.setToolTip("What waits is not made. Passes that were made stay in their takes.")
        self.clear.clicked.connect(self.cleared)
        self.back = QPushButton("Back (Q)")
        self.back.clicked.connect(self.left)
        self.words = TextLabel()
        self.words.setAccessibleName("How far the queue is")
        self.match = TextLabel()
        self.match.setProperty("role", "muted")
        self.table = Table(
            "Passes of the queue",
            ("Take", "Tone", "State", "Waveform", "Before, LUFS", "Gain, dB", "Peak, dBFS",
             "Harmonics, dB", "Differs from the first"),
            8,
            {0: 128, 1: 120, 2: 76, 3: 130, 4: 92, 5: 70, 6: 84, 7: 100},
        )  # fmt: skip
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.table.currentCellChanged.connect(lambda *_: self.chosen_changed.emit())
        for box in (self.takes, self.tones):
            box.itemChanged.connect(lambda _item: self._count())
        self._place()
        self._count()

    def _place(self) -> None:
        top = WrappingRow()
        for widget in (self.run, self.add, self.file, self.clear):
            top.addWidget(widget)
        top.add_growing(self.match)
        top.addWidget(self.back)
        lists = QHBoxLayout()
        for title, box in (("Takes", self.takes), ("Tones", self.tones)):
            column = QVBoxLayout()
            label = TextLabel(title)
            label.setProperty("role", "muted")
            column.addWidget(label)
            column.addWidget(box)
            lists.addLayout(column, 1 if title == "Takes" else 2)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(top)
        column.addLayout(lists)
        column.addWidget(self.words)
        column.addWidget(self.table, 1)

    # --- what can be chosen ---

    def show_choices(
        self, takes: Sequence[tuple[str, str]], tones: Sequence[tuple[str, str]], chosen: str
    ) -> None:
        """(id, name) of the takes and (key, name) of the tones; what was ticked stays so."""
        for box, rows in ((self.takes, takes), (self.tones, tones)):
            ticked = self._ticked(box)
            if box is self.takes and not ticked:
                ticked = [chosen]
            blocker = QSignalBlocker(box)
            box.clear()
            for key, name in rows:
                item = QListWidgetItem(name)
                item.setData(KEY, key)
                item.setToolTip(tip(name))
                item.setFlags(Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEnabled
                              | Qt.ItemFlag.ItemIsSelectable)  # fmt: skip
                on = Qt.CheckState.Checked if key in ticked else Qt.CheckState.Unchecked
                item.setCheckState(on)
                box.addItem(item)
            del blocker
        self._count()

    @staticmethod
    def _ticked(box: QListWidget) -> list[str]:
        items = [box.item(number_) for number_ in range(box.count())]
        return [str(one.data(KEY)) for one in items if one.checkState() == Qt.CheckState.Checked]

    def tick(self, takes: Sequence[str], tones: Sequence[str]) -> None:
        """Tick takes and tones by their names."""
        for box, names in ((self.takes, takes), (self.tones, tones)):
            for number_ in range(box.count()):
                item = box.item(number_)
                on = item.text() in names
                item.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)

    def _count(self) -> None:
        count = len(self._ticked(self.takes)) * len(self._ticked(self.tones))
        self.add.setText(f"Queue {count} pass{'es' if count != 1 else ''}")
        self.add.setEnabled(count > 0)

    def _add(self) -> None:
        self.added.emit(self._ticked(self.takes), self._ticked(self.tones))

    # --- what came of it ---

    def show_rows(self, rows: Sequence[QueueRow]) -> None:
        """The queue."""
        self._rows = {row.item.id: row for row in rows}
        blocker = QSignalBlocker(self.table)
        self.table.show_rows([(row.item.id, _cells(row)) for row in rows])
        del blocker
        self._show_waves()

    def show_waves(self, waves: dict[str, Drawn]) -> None:
        """By queued pass."""
        self._waves = waves
        self._show_waves()

    def _show_waves(self) -> None:
        height = max((one.peak for one in self._waves.values()), default=0.0) or 1.0
        for index in range(self.table.rowCount()):
            item = self.table.item(index, 0)
            known = self._waves.get(str(item.data(KEY))) if item is not None else None
            old = self.table.cellWidget(index, WAVE)
            if known is None:
                if old is not None:
                    self.table.removeCellWidget(index, WAVE)
            elif not isinstance(old, MiniWave) or old.shows != (known, height):
                self.table.setCellWidget(index, WAVE, MiniWave(known, height))

    @property
    def chosen(self) -> QueueRow | None:
        """The row that the cursor is on."""
        return self._rows.get(str(self.table.chosen()))

    @property
    def selected(self) -> tuple[QueueRow, ...]:
        """All rows that are selected."""
        rows = sorted({index.row() for index in self.table.selectedIndexes()})
        items = [self.table.item(row, 0) for row in rows]
        return tuple(self._rows[str(one.data(KEY))] for one in items if one is not None)


def _checks(name: str) -> QListWidget:
    box = QListWidget()
    box.setAccessibleName(name)
    box.setProperty(TICKS, True)
    most_height(box, 120)
    return box


def _cells(row: QueueRow) -> list[Cell]:
    made, item = row.made, row.item
    tone = Cell(item.tone.name, made.name if made is not None else "")
    if made is None:
        if item.pass_id:
            state = Cell("discarded", "The pass is in the bin, or gone.")
        elif item.refused:
            state = Cell("refused", item.refused, token="danger")
        else:
            state = Cell("waits")
        return [Cell(row.take), tone, state, *(Cell("") for _ in range(5)), Cell(item.refused)]
    back, match = made.main, made.main.match
    slate = back.slate
    before = match.before_lufs if match is not None else back.loudness_lufs
    return [
        Cell(row.take),
        tone,
        Cell("kept" if made.keeper else "made", token="good" if made.keeper else ""),
        Cell("", "At its matched level; all of the queue are drawn to one scale"),
        _figure(before, 1, "Loudness as it came (BS.1770)"),
        _figure(match.total_db if match else None, 1, "Brings it to the reference", sign=True),
        _figure(back.peak_dbfs, 1, "Sample peak as it came"),
        _figure(slate.harmonics_db if slate else None, 1,
                "Orders two to five of the slate re the linear one: how hard it is driven"),
        Cell(row.differs),
    ]  # fmt: skip


def _figure(value: float | None, places: int, words: str, *, sign: bool = False) -> Cell:
    text = "" if value is None else number(value, places, sign=sign)
    return Cell(text, words, value, True)
