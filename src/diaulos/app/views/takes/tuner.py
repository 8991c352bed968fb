"""The tuner, over the body of Takes: one string, readable at two metres, and what to do.

A wide bar like a level window runs from 50 cents flat to 50 cents sharp; the bracket in its
middle is what counts as in tune. The intonation check asks for one note after another.
"""

from __future__ import annotations

import statistics
from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHideEvent, QPainter, QPaintEvent, QPen, QShowEvent
from PySide6.QtWidgets import (
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.controls import combo, late_button
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.painted import Painted, fix_height, least_height, least_width, scaled_size
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.errors import EditError
from diaulos.figures import number, typeset
from diaulos.session.instrument import Instrument, IntonationReading, note_to_midi
from diaulos.session.tunings import TUNINGS
from diaulos.work.instruments.tuning import (
    IN_TUNE_CENTS,
    Heard,
    IntonationCheck,
    Step,
    Strings,
    Tuned,
    intonation_words,
    strings_from,
    tuned,
)

SPAN_CENTS = 50.0
FAR_CENTS = 150.0
"""Another note: its cents say nothing."""
SMOOTHED = 3
"""A figure is the median of this many answers of one pluck: it does not jump."""
OWN, TYPED = "own", "typed"


class TunerFace(Painted):
    """The string, its cents, the bar, and what to do: painted large."""

    def __init__(self) -> None:
        super().__init__()
        self._tuned: Tuned | None = None
        self._fresh = False
        self._words = ""
        self._asked = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Tuner")

    @property
    def shown(self) -> Tuned | None:
        """The reading on screen."""
        return self._tuned

    def show_reading(self, reading: Tuned | None, fresh: bool, words: str, asked: str) -> None:
        """A reading (not fresh: the last one of a string that has died away), what to do, and
        what the intonation check asks for."""
        now = (reading, fresh, words, asked)
        if now == (self._tuned, self._fresh, self._words, self._asked):
            return
        self._tuned, self._fresh, self._words, self._asked = now
        told = asked or words
        if reading is not None:
            told = f"{reading.note}, {number(reading.cents, sign=True)} cents, {told}"
        self.setAccessibleDescription(told)
        self.update()

    def sizeHint(self) -> QSize:
        return scaled_size(640, 300)

    def minimumSizeHint(self) -> QSize:
        return scaled_size(420, 124)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = self.canvas()
        look = theme.current()
        area = self.box.adjusted(16, 6, -16, -6)
        painter.fillRect(self.box, look.colour("raised"))
        reading = self._tuned
        colour = look.colour("muted")
        if reading is not None and self._fresh:
            colour = look.colour("good" if reading.in_tune else "ink")
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        centre = Qt.AlignmentFlag.AlignCenter
        top = QRectF(area.left(), area.top(), area.width(), area.height() * 0.46)
        large = top.adjusted(0, 20, 0, 0)
        size = min(84, int(large.height() * 0.55))
        painter.setPen(colour)
        if reading is not None:
            painter.setFont(theme.text_font(size, bold=True))
            painter.drawText(large, left, reading.note)
            painter.setFont(theme.figure_font(size, bold=True))
            places = 1 if abs(reading.cents) < 9.95 else 0
            far = abs(reading.cents) >= FAR_CENTS
            figure = "far" if far else number(reading.cents, places, sign=True)
            painter.drawText(large.adjusted(0, 0, -110, 0), right, figure)
            painter.setFont(theme.text_font(20))
            painter.drawText(large, right, "cents")
            if reading.string:
                painter.setPen(look.colour("muted"))
                painter.setFont(theme.text_font(14))
                corner = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop
                painter.drawText(top, corner, f"string {reading.string}")
                corner = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop
                hz = f"{reading.hz:.2f} Hz, wanted {reading.wanted_hz:.2f} Hz"
                painter.setFont(theme.figure_font(11))
                painter.drawText(top, corner, hz)
        self._paint_bar(painter, QRectF(area.left(), top.bottom() + 8, area.width(), 44))
        foot = QRectF(
            area.left(), top.bottom() + 76, area.width(), area.bottom() - top.bottom() - 76
        )
        painter.setPen(colour if self._fresh and not self._asked else look.colour("ink"))
        painter.setFont(theme.text_font(min(34, max(16, int(foot.height() * 0.34))), bold=True))
        painter.drawText(foot, int(centre | Qt.TextFlag.TextWordWrap), self._asked or self._words)

    def _paint_bar(self, painter: QPainter, bar: QRectF) -> None:
        look = theme.current()
        painter.setPen(QPen(look.colour("muted"), 1))
        painter.setBrush(look.colour("paper"))
        painter.drawRect(bar)
        painter.setBrush(Qt.BrushStyle.NoBrush)

        def x_of(cents: float) -> float:
            share = (cents + SPAN_CENTS) / (2.0 * SPAN_CENTS)
            return bar.left() + min(1.0, max(0.0, share)) * bar.width()

        reading = self._tuned
        if reading is not None:
            token = "good" if reading.in_tune else "di"
            colour = look.colour(token if self._fresh else "line")
            first, last = sorted((x_of(0.0), x_of(reading.cents)))
            painter.fillRect(QRectF(first, bar.top() + 14, last - first, 16), colour)
            painter.setPen(QPen(colour, 5))
            at = x_of(reading.cents)
            painter.drawLine(QPointF(at, bar.top() - 5), QPointF(at, bar.bottom() + 5))
        painter.setPen(QPen(look.colour("ink"), 2))
        for cents, inward in ((-IN_TUNE_CENTS, 6.0), (IN_TUNE_CENTS, -6.0)):
            at = x_of(cents)
            painter.drawLine(QPointF(at, bar.top() - 7), QPointF(at, bar.bottom()))
            painter.drawLine(QPointF(at, bar.top() - 7), QPointF(at + inward, bar.top() - 7))
        painter.setPen(look.colour("muted"))
        painter.setFont(theme.figure_font(10))
        for cents, words in ((-50, "\N{MINUS SIGN}50 flat"), (0, "0"), (50, "+50 sharp")):
            at = x_of(float(cents))
            box = QRectF(at - 60, bar.bottom() + 4, 120, 16)
            flag = Qt.AlignmentFlag.AlignHCenter
            if cents < 0:
                box, flag = QRectF(bar.left(), box.top(), 120, 16), Qt.AlignmentFlag.AlignLeft
            elif cents > 0:
                box = QRectF(bar.right() - 120, box.top(), 120, 16)
                flag = Qt.AlignmentFlag.AlignRight
            painter.drawText(box, flag, words)


class TunerPanel(QWidget):
    """Shows what is heard; asks for tunings, A4 and the intonation check."""

    left = Signal()
    input_asked = Signal(object)
    """Listen on this port's track."""
    a4_asked = Signal(float)
    own_asked = Signal(object)
    """Make these strings the instrument's own."""
    checked = Signal(object)
    """Readings of an intonation check, to be kept."""
    problem = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.strings = Strings(())
        self.instrument: Instrument | None = None
        self.chosen = 0
        """A string by its number, 0 for the nearest."""
        self.check: IntonationCheck | None = None
        self._made_at = ""
        self._texts: tuple[str, ...] = ()
        self._recent: list[float] = []
        self._pluck = 0
        self._taken: tuple[int, Step | None] = (-1, None)
        """The pluck that the check took last, and for what."""
        self._last: dict[int, Tuned] = {}
        self.face = TunerFace()
        self.tuning = combo("Tuning", least=13)
        self.typed = QLineEdit()
        self.typed.setAccessibleName("Strings, from the lowest")
        least_width(self.typed, 190)
        self.typed.setToolTip("From the lowest, such as D2 A2 D3 G3 B3 E4. Enter takes them.")
        self.own = QPushButton("Keep as its own")
        self.own.setAccessibleDescription("The instrument is tuned like this from now on")
        self.a4 = NumberField()
        self.a4.setRange(380.0, 500.0)
        self.a4.setDecimals(1)
        self.a4.setPrefix("A4 ")
        self.a4.setSuffix(" Hz")
        self.a4.setKeyboardTracking(False)
        self.a4.setAccessibleName("Frequency of A4")
        self.frets = QPushButton("Intonation check (F)")
        self.frets.setCheckable(True)
        self.own.setVisible(False)
        self.back = QPushButton("Back (T)")
        self.input = combo("Track that it listens on", least=27)
        self.where = TextLabel()
        self.where.setProperty("role", "muted")
        self.where.setAccessibleName("Where it listens")
        self._buttons: list[QPushButton] = []
        self._row = WrappingRow()
        self.table = Table(
            "Intonation", ("String", "Note", "Open, Hz", "12th fret, Hz", "Cents", "What it says"),
            5, {0: 56, 1: 52, 2: 90, 3: 100, 4: 64},
        )  # fmt: skip
        fix_height(self.table, 180)
        self._place()
        self.input.activated.connect(lambda _i: self.input_asked.emit(self.input.currentData()))
        self.tuning.activated.connect(lambda _i: self._on_tuning())
        self.typed.editingFinished.connect(self._on_typed)
        self.own.clicked.connect(lambda: self.own_asked.emit(self._names()))
        self.a4.valueChanged.connect(self.a4_asked)
        self.frets.clicked.connect(self.toggle_check)
        self.back.clicked.connect(self.left)

    def _place(self) -> None:
        top = WrappingRow()
        for widget in (self.tuning, self.typed, self.a4):
            top.addWidget(widget)
        top.add_stretch()
        top.addWidget(self.frets)
        top.addWidget(self.back)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(top)
        second = WrappingRow()
        second.add_pair("It listens on", self.input)
        second.add_growing(self.where)
        second.addWidget(self.own)
        column.addLayout(second)
        column.addWidget(self.face, 1)
        column.addLayout(self._row)
        column.addWidget(self.table)

    def showEvent(self, event: QShowEvent) -> None:
        """The table takes room only while it is looked at."""
        self._show_intonation()
        super().showEvent(event)

    def hideEvent(self, event: QHideEvent) -> None:
        """The pages below it are not held up by what is not shown."""
        self.table.setVisible(False)
        super().hideEvent(event)

    # --- what is tuned ---

    def show_setup(
        self, instrument: Instrument | None, a4_hz: float, where: str, made_at: str
    ) -> None:
        """The instrument in hand, what everybody tunes to, and what is to be said of it."""
        before = self.instrument.id if self.instrument is not None else ""
        same = before == (instrument.id if instrument is not None else "")
        kept = self._names() if same and self.tuning.currentData() != OWN else None
        self.instrument, self._made_at = instrument, made_at
        self.where.setText(where)
        blocked = self.a4.blockSignals(True)
        self.a4.setValue(a4_hz)
        self.a4.blockSignals(blocked)
        if not same or self.tuning.count() == 0:
            self.tuning.clear()
            if instrument is not None and instrument.strings:
                self.tuning.addItem("Its own tuning", OWN)
            for one in TUNINGS.values():
                self.tuning.addItem(one.words, one.id)
            self.tuning.addItem("As typed", TYPED)
        names = kept
        if names is None:
            own = instrument.strings if instrument is not None else ()
            names = own or TUNINGS["standard"].strings
        self._show_strings(names, a4_hz)
        self._show_intonation()

    def show_inputs(self, inputs: Sequence[tuple[object, str]], chosen: object) -> None:
        """The tracks that can be listened to: key and words."""
        shown = [
            (self.input.itemData(i), self.input.itemText(i)) for i in range(self.input.count())
        ]
        if shown != list(inputs):
            self.input.clear()
            for key, words in inputs:
                self.input.addItem(words, key)
        index = next((i for i, (key, _) in enumerate(inputs) if key == chosen), -1)
        self.input.setCurrentIndex(index)

    def _names(self) -> tuple[str, ...]:
        return tuple(self.typed.text().split())

    def _on_tuning(self) -> None:
        key = self.tuning.currentData()
        if key == OWN and self.instrument is not None:
            self._show_strings(self.instrument.strings, self.a4.value())
        elif key in TUNINGS:
            self._show_strings(TUNINGS[key].strings, self.a4.value())
        else:
            self.typed.setFocus()

    def _on_typed(self) -> None:
        try:
            names = strings_from(self.typed.text())
        except EditError as error:
            self.problem.emit(error)
            self.typed.setText(" ".join(self._texts))
            return
        if names != self._texts:
            self.tuning.setCurrentIndex(self.tuning.findData(TYPED))
            self._show_strings(names, self.a4.value())

    def _show_strings(self, names: Sequence[str], a4_hz: float) -> None:
        strings = Strings(tuple(note_to_midi(name) for name in names), a4_hz)
        self._texts = tuple(names)
        self.typed.setText(" ".join(names))
        own = self.instrument.strings if self.instrument is not None else None
        self.own.setVisible(own is not None and own != tuple(names))
        if strings == self.strings:
            return
        if strings.midi != self.strings.midi:
            self.chosen, self._last = 0, {}
            self._make_buttons(strings)
        self.strings = strings
        self._recent = []
        if self.check is not None:
            self.check = IntonationCheck(strings, self._made_at)
        self._show(None, False)

    def _make_buttons(self, strings: Strings) -> None:
        for button in self._buttons:
            self._row.removeWidget(button)
            button.deleteLater()
        self._buttons = []
        for string in range(len(strings.midi), 0, -1):
            button = QPushButton()
            button.setCheckable(True)
            least_height(button, 46)
            button.clicked.connect(lambda _=False, n=string: self.choose_string(n))
            button.setProperty("string", string)
            late_button(button, self)
            self._row.addWidget(button)
            self._buttons.append(button)
            self._label(button, strings.name(string), None)

    def _label(self, button: QPushButton, note: str, last: Tuned | None) -> None:
        string = int(button.property("string"))
        state = "" if last is None else f"{number(last.cents, 1, sign=True)} cents"
        if last is not None and last.in_tune:
            state = "in tune"
        text = f"{string}: {note}\n{state}"
        if button.text() != text:
            button.setText(text)
            button.setAccessibleName(f"String {string}, {note}, {state}")

    def choose_string(self, string: int) -> None:
        """Only this string, or (0, or the same again) the nearest one."""
        if string > len(self.strings.midi):
            return
        self.chosen = 0 if string == self.chosen else string
        for button in self._buttons:
            button.setChecked(button.property("string") == self.chosen)
        self._recent = []
        if self.check is not None and string:
            self.check.again(string)
        self._show(None, False)

    # --- what is heard ---

    def show_heard(self, heard: Heard) -> None:
        """One answer of the ear."""
        step = self.check.asked if self.check is not None else None
        if self.check is not None and self.check.hear(heard):
            self._taken = heard.pluck, step
            self._show_intonation()
            if self.check.asked is None:
                self._end_check()
        if heard.pluck == self._taken[0]:
            step = self._taken[1]  # it rings on: what was asked for then still counts
        if heard.pitch is None:
            shown = self.face.shown
            self._recent = [] if heard.kind in ("early", "quiet") else self._recent
            words = {
                "quiet": "Pluck a string.", "early": "listening", "unclear": "one string at a time",
                "note": "",
            }[heard.kind]  # fmt: skip
            if heard.kind == "quiet" and shown is not None:
                words = f"last: {shown.words()}"
            self._show(shown, False, words)
            return
        if heard.pluck != self._pluck:
            self._pluck, self._recent = heard.pluck, []
        self._recent = [*self._recent, heard.pitch.hz][-SMOOTHED:]
        hz = statistics.median(self._recent)
        if step is not None:
            reading = tuned(hz, self.strings, step.string, step.fret)
        else:
            reading = tuned(hz, self.strings, self.chosen)
            if reading.string and abs(reading.cents) < SPAN_CENTS:
                self._last[reading.string] = reading
        self._show(reading, True, reading.words())

    def _show(self, reading: Tuned | None, fresh: bool, words: str = "Pluck a string.") -> None:
        asked = ""
        step = self.check.asked if self.check is not None else None
        if step is not None:
            how = "open" if step.fret == 0 else "at the twelfth fret"
            asked = f"Play string {step.string} ({self.strings.name(step.string)}) {how}"
        self.face.show_reading(reading, fresh, words, asked)
        for button in self._buttons:
            string = int(button.property("string"))
            self._label(button, self.strings.name(string), self._last.get(string))

    # --- intonation ---

    def toggle_check(self) -> None:
        """Begin the intonation check, or end it with what is there."""
        if self.check is None:
            self.check = IntonationCheck(self.strings, self._made_at)
            self.frets.setChecked(True)
            self.frets.setText("End the check (F)")
            self._show(None, False)
            self._show_intonation()
        else:
            self._end_check()

    def _end_check(self) -> None:
        check, self.check = self.check, None
        self.frets.setChecked(False)
        self.frets.setText("Intonation check (F)")
        if check is not None and check.readings:
            self.checked.emit(check.readings)
        self._show(self.face.shown, False, "The check is done." if check else "")

    def close_check(self) -> None:
        """The tuner closes: what is there is kept."""
        if self.check is not None:
            self._end_check()

    def _show_intonation(self) -> None:
        kept = self.instrument.intonation if self.instrument is not None else ()
        readings = {one.string: one for one in kept}
        if self.check is not None:
            readings |= {one.string: one for one in self.check.readings}
        rows = [(string, _cells(readings[string])) for string in sorted(readings, reverse=True)]
        self.table.show_rows(rows)
        self.table.setVisible(bool(rows) or self.check is not None)


def _cells(one: IntonationReading) -> tuple[Cell, ...]:
    words = intonation_words(one)
    return (
        Cell(str(one.string), figure=True),
        Cell(one.note),
        Cell(f"{one.open_hz:.2f}", figure=True),
        Cell(f"{one.fretted_hz:.2f}", figure=True),
        Cell(number(one.cents, 1, sign=True), "1200 log2(twelfth fret / (2 x open))", figure=True),
        Cell(typeset(words), f"{words} (checked {one.made_at.replace('T', ' ')})"),
    )
