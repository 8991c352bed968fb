"""The monitor mix, over the body of Takes: what is heard of the chosen take, how loud, where.

It also rules what plays while the next part is recorded. A solo is of the moment; all else
is kept with the session and can be undone.
"""

from __future__ import annotations

from collections.abc import Collection

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent, QResizeEvent, QShowEvent
from PySide6.QtWidgets import (
    QApplication,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.controls import late_button
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.marks import paint_mark
from diaulos.app.widgets.painted import Painted, fix_height, fix_width, least_width
from diaulos.figures import number
from diaulos.work.listening.mixing import MixRow, audible

LOWEST_DB, HIGHEST_DB = -60, 12
ROOMY = 640
NO_TAKE = "Choose a take in the list: its tracks and passes are mixed here."
MIXED = (
    "What is heard of the chosen take, alone and while the next part is recorded. A dry DI is "
    "muted as is usual: it does not change what is recorded."
)


class _Mark(Painted):
    """A tap's mark."""

    def __init__(self, tap: str) -> None:
        super().__init__()
        self._tap = tap
        fix_width(self, 20)
        fix_height(self, 20)

    def paintEvent(self, event: QPaintEvent) -> None:
        paint_mark(self.canvas(), self.box, self._tap, theme.current())


class _Fader(QSlider):
    """A slider that Home, or a double click, brings back to 0."""

    def __init__(self, name: str, lowest: int, highest: int, page: int) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self.setRange(lowest, highest)
        self.setPageStep(page)
        self.setAccessibleName(name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Home:
            self.setValue(0)
        else:
            super().keyPressEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.setValue(0)


class _Strip:
    """The controls of one row of the mix, placed in a grid."""

    def __init__(self, panel: MixPanel, line: int, grid: QGridLayout, row: MixRow) -> None:
        self._panel, self.key = panel, row.key
        self.name = TextLabel(row.name)
        least_width(self.name, 84)
        self.solo = QPushButton("Solo")
        self.mute = QPushButton("Mute")
        for button, word in ((self.solo, "Solo"), (self.mute, "Mute")):
            button.setCheckable(True)
            button.setAccessibleName(f"{word} {row.name}")
            late_button(button, panel)
        self.level = _Fader(f"Level of {row.name} in dB", LOWEST_DB, HIGHEST_DB, 3)
        self.level.setToolTip("Home, or a double click: 0 dB")
        self.level_words = TextLabel()
        self.level_words.setToolTip("Gain on the track's own level; 0 dB as recorded or matched")
        self.pan = _Fader(f"Place of {row.name}, left to right", -100, 100, 10)
        self.pan.setToolTip(
            "Equal power: +3 dB at a side, 0 dB in the middle. Home, or a double click: the middle"
        )
        self.pan_words = TextLabel()
        for label, width in ((self.level_words, 60), (self.pan_words, 66)):
            fix_width(label, width)
        self.state = TextLabel()
        self.state.setProperty("role", "muted")
        fix_width(self.state, 70)
        least_width(self.level, 62)
        least_width(self.pan, 48)
        for column, widget in enumerate(
            (_Mark(row.tap), self.name, self.state, self.solo, self.mute, self.level,
             self.level_words, self.pan, self.pan_words)
        ):  # fmt: skip
            grid.addWidget(widget, line, column)
        self.solo.clicked.connect(lambda on: panel.solo(self.key, on))
        self.mute.clicked.connect(lambda on: self._ask(muted=bool(on)))
        self.level.valueChanged.connect(lambda value: self._ask(level_db=float(value)))
        self.pan.valueChanged.connect(lambda value: self._ask(pan=value / 100.0))

    def _ask(self, **values: object) -> None:
        row = self._panel.row(self.key)
        if row is not None:
            heard = row.heard.model_copy(update=values)
            self._panel.heard_asked.emit(self.key, heard, f"mix {self.key} {next(iter(values))}")

    def show(self, row: MixRow, heard: bool, soloed: bool) -> None:
        """The row as it is now, without asking for it."""
        self.name.setText(row.name)
        for slider, value in (
            (self.level, round(row.heard.level_db)), (self.pan, round(100 * row.heard.pan)),
        ):  # fmt: skip
            blocked = slider.blockSignals(True)
            slider.setValue(value)
            slider.blockSignals(blocked)
        self.solo.setChecked(soloed)
        self.mute.setChecked(row.muted)
        self.level_words.setText(f"{number(row.heard.level_db, 0, sign=True)} dB")
        self.pan_words.setText(pan_words(row.heard.pan) if not row.beside else sides_words(row))
        self.state.setText("heard" if heard else "not heard")


def pan_words(pan: float) -> str:
    """middle, left 40, right 100."""
    share = round(100 * pan)
    return "middle" if share == 0 else f"{'left' if share < 0 else 'right'} {abs(share)}"


def sides_words(row: MixRow) -> str:
    """A pair is as wide as it is; its place narrows it towards one side."""
    return "wide" if round(100 * row.heard.pan) == 0 else pan_words(row.heard.pan)


class MixPanel(QWidget):
    """Shows a mix; asks for changes."""

    heard_asked = Signal(str, object, str)
    """(audio file, Heard, key under which changes are one step of undo)."""
    solo_changed = Signal(object)
    apart_asked = Signal(bool)
    """A take's stereo pairs as two tracks each, or as one."""
    left = Signal()
    seen = Signal()
    """It came on screen."""

    def __init__(self) -> None:
        super().__init__()
        self._rows: tuple[MixRow, ...] = ()
        self._strips: dict[str, _Strip] = {}
        self.soloed: frozenset[str] = frozenset()
        self.cabinet = QPushButton("Cabinet (Z)")
        self.cabinet.setToolTip("A cabinet for a track or a pass that came without one")
        self.apart = QPushButton("Stereo as two tracks")
        self.apart.setToolTip(
            "The sides of a stereo pair as rows of their own, panned hard, or as one row; the "
            "files stay as they are. Ctrl+Z undoes it"
        )
        self._apart = False
        self.apart.clicked.connect(lambda: self.apart_asked.emit(not self._apart))
        self.apart.hide()
        self.back = QPushButton("Back (X)")
        self.back.clicked.connect(self.left)
        self.hint = TextLabel(NO_TAKE)
        self.hint.setWordWrap(True)
        self.hint.setProperty("role", "muted")
        self.thin = TextLabel()
        self.thin.setWordWrap(True)
        self.thin.setAccessibleName("What thins out")
        self.thin.setToolTip(
            "Of tracks heard in the middle: power of the sum against the sum of powers, whole and"
            " by octave, at 20, 50 and 80 % of the take"
        )
        self.thin.hide()
        self._inner = QWidget()
        self._grid = QGridLayout(self._inner)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self._inner)
        scroll.setAccessibleName("Tracks and passes")
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        top = QHBoxLayout()
        for button in (self.cabinet, self.apart):
            top.addWidget(button)
        top.addStretch(1)
        top.addWidget(self.back)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(top)
        column.addWidget(self.hint)
        column.addWidget(self.thin)
        column.addWidget(scroll, 1)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.seen.emit()

    def show_thin(self, words: str) -> None:
        """What thins out in the middle, quietly; "": nothing does."""
        self.thin.setText(words)
        self.thin.setVisible(bool(words))

    def show_pairs(self, there: bool, apart: bool) -> None:
        """Whether the take has stereo pairs, and whether their sides are two tracks."""
        self._apart = apart
        self.apart.setVisible(there)
        self.apart.setText("Stereo as one track" if apart else "Stereo as two tracks")

    def row(self, key: str) -> MixRow | None:
        """The row of an audio file."""
        return next((row for row in self._rows if row.key == key), None)

    def strip(self, key: str) -> _Strip:
        """The controls of an audio file."""
        return self._strips[key]

    def take_focus(self) -> None:
        """Where the keyboard goes."""
        first = next(iter(self._strips.values()), None)
        (first.level if first is not None else self.back).setFocus()

    def show_rows(self, rows: tuple[MixRow, ...]) -> None:
        """The mix of a take; of none it says what to do."""
        self.hint.setText(MIXED if rows else NO_TAKE)
        if [row.key for row in rows] != [row.key for row in self._rows]:
            self.soloed = frozenset()
            self._rebuild(rows)
        self._rows = rows
        self._refresh()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._make_room()

    def _make_room(self) -> None:
        """In a narrow room the sliders have it: Solo and Mute tell what is heard, too."""
        for strip in self._strips.values():
            strip.state.setVisible(self.width() >= ROOMY * theme.zoom())

    def _rebuild(self, rows: tuple[MixRow, ...]) -> None:
        focus = QApplication.focusWidget()
        inside = focus is not None and self._inner.isAncestorOf(focus)
        while (item := self._grid.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()  # it is painted until the event loop deletes it
                widget.deleteLater()
        self._strips = {}
        for column, words in ((5, "Level"), (7, "Place")):
            label = TextLabel(words)
            label.setProperty("role", "muted")
            self._grid.addWidget(label, 0, column)
        for line, row in enumerate(rows, start=1):
            self._strips[row.key] = _Strip(self, line, self._grid, row)
        self._grid.setRowStretch(len(rows) + 1, 1)
        self._grid.setColumnStretch(5, 3)
        self._grid.setColumnStretch(7, 2)
        self._make_room()
        if inside:
            self.take_focus()

    def solo(self, key: str, on: bool, alone: bool = False) -> None:
        """Hear this one (with `alone`, only this one), or no longer."""
        kept = frozenset() if alone else self.soloed
        self.soloed = kept | {key} if on else kept - {key}
        self._refresh()
        self.solo_changed.emit(self.soloed)

    def hear_alone(self, keys: Collection[str]) -> None:
        """These alone; none: the mix."""
        self.soloed = frozenset(keys)
        self._refresh()
        self.solo_changed.emit(self.soloed)

    def _refresh(self) -> None:
        heard = audible(self._rows, self.soloed)
        for row in self._rows:
            self._strips[row.key].show(row, row.key in heard, row.key in self.soloed)
