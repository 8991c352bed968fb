"""Into time: how late each candidate is, how much of that is the way through the air, and what a
delay and an all-pass do for the sum of two microphones."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QPushButton, QVBoxLayout, QWidget

from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.tables import Cell, Table
from diaulos.app.widgets.wrapping import WrappingRow
from diaulos.figures import number, plain
from diaulos.signal.allpass import SPLIT_HZ, BandSums, ByBand
from diaulos.units import samples_to_ms
from diaulos.work.compare.intotime import IN_TIME_SAMPLES, Nudge, Timing, distance_of_samples
from diaulos.work.compare.placed import metres_words

WORTH_DB = 1.0
"""By so much an all-pass has to better the worse of both bands to be proposed."""
DASH = "\N{EN DASH}"


class TimingPage(QWidget):
    """All candidates against the reference; a nudge for all of them at once."""

    nudged = Signal(str)
    split_changed = Signal()
    pass_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        title = TextLabel("Into time with A")
        title.setProperty("role", "title")
        self.table = Table("How late each is", ("", "Late", "ms", "In air", "The loop"), 4)
        self.table.setSelectionMode(Table.SelectionMode.NoSelection)
        self.about = TextLabel()
        self.about.setProperty("role", "muted")
        self.about.setWordWrap(True)
        self.buttons: dict[Nudge, QPushButton] = {}
        row = WrappingRow()
        words: tuple[tuple[Nudge, str, str], ...] = (
            ("as found", "As found", "No move: each is heard where its file lies"),
            ("latency", "Take the loop out",
             "Late less the way through the air: the room stays as it was"),
            ("all", "Take the distance out, too", "All of what it is late"),
        )  # fmt: skip
        for nudge, text, told in words:
            button = QPushButton(text)
            button.setToolTip(f"{told}. Of all candidates at once; undo takes it back.")
            button.clicked.connect(lambda _on=False, which=nudge: self.nudged.emit(which))
            self.buttons[nudge] = button
            row.addWidget(button)
        self.advanced = QCheckBox("Advanced: by band")
        self.advanced.setToolTip("Below and above a split, and a first-order all-pass on top")
        self.advanced.toggled.connect(lambda _on: self._on_advanced())
        self.split = NumberField()
        self.split.setRange(80.0, 3_000.0)
        self.split.setDecimals(0)
        self.split.setSingleStep(50.0)
        self.split.setSuffix(" Hz")
        self.split.setValue(SPLIT_HZ)
        self.split.setAccessibleName("Split between both bands")
        self.split.setToolTip("The low band reaches from 40 Hz to it, the high one up to 6 kHz")
        self.split.valueChanged.connect(lambda _v: self.split_changed.emit())
        self.bands = Table("Mono sum of A and B by band", ("A + B", "Below", "Above"), 0)
        self.bands.setSelectionMode(Table.SelectionMode.NoSelection)
        self.pass_button = QPushButton("Put the all-pass in")
        self.pass_button.clicked.connect(self.pass_asked)
        self.said = TextLabel()
        self.said.setProperty("role", "muted")
        self.said.setWordWrap(True)
        self.by_band = QWidget()
        inner = QVBoxLayout(self.by_band)
        inner.setContentsMargins(0, 0, 0, 0)
        line = WrappingRow()
        line.add_pair("Split", self.split)
        line.addWidget(self.pass_button)
        inner.addLayout(line)
        inner.addWidget(self.bands)
        inner.addWidget(self.said)
        self.by_band.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        for part in (title, self.table, self.about):
            column.addWidget(part)
        column.addLayout(row)
        column.addWidget(self.advanced)
        column.addWidget(self.by_band)
        column.addStretch(1)

    def _on_advanced(self) -> None:
        self.by_band.setVisible(self.advanced.isChecked())
        self.split_changed.emit()

    def show_timings(
        self, rows: Sequence[tuple[str, str, Timing | None]], rate_hz: float, can_write: bool
    ) -> None:
        """Letter, name, and what is known of each but the reference."""
        shown = []
        known = [timing for _, _, timing in rows if timing is not None]
        for letter, name, timing in rows:
            if timing is None:
                cells = [Cell(letter, name, bold=True), *[Cell(DASH, figure=True)] * 4]
            else:
                late, air, loop = timing.late_samples, timing.air_samples, timing.latency_samples
                cells = [
                    Cell(letter, name, bold=True),
                    Cell(plain(late, 1, sign=True), "Samples after A, as its file lies",
                         figure=True),
                    Cell(plain(samples_to_ms(late, rate_hz), 2, sign=True),
                         "Samples over the sample rate", figure=True),
                    Cell(DASH if air is None else plain(air, 1, sign=True),
                         _air_words(air, rate_hz), figure=True),
                    Cell(DASH if loop is None else plain(loop, 1, sign=True),
                         "Late less in air: converters, amplifier, cables", figure=True),
                ]  # fmt: skip
            shown.append((letter, cells))
        self.table.show_rows(shown)
        self.table.as_high_as_rows()
        fine = bool(known) and can_write and all(one.candidate.files for one in known)
        air = all(one.air_samples is not None for one in known)
        self.buttons["as found"].setEnabled(fine and any(_is_moved(one) for one in known))
        self.buttons["all"].setEnabled(fine)
        self.buttons["latency"].setEnabled(fine and air)
        if not known:
            self.about.setText("None of them has a common time with A.")
        elif not air:
            self.about.setText(
                "A microphone's distance is not known: note it under Microphone places, and the"
                " loop alone can be taken out."
            )
        else:
            self.about.setText("Samples after A. A nudge moves all of them; G hears them together.")

    def show_bands(self, found: ByBand | None, corner_hz: float | None, words: str) -> None:
        """The chosen pair by band; the corner of an all-pass that is there already."""
        self.pass_button.setText("Put the all-pass in" if corner_hz is None else "Take it out")
        if found is None:
            self.bands.show_rows(())
            self.pass_button.setEnabled(corner_hz is not None)
            self.said.setText(words)
            return
        rows = [
            ("found", "As found", found.found),
            ("time", "In time", found.in_time),
            ("turned", "In time, turned", found.turned),
        ]
        best = max(found.in_time.least_db, found.turned.least_db)
        worth = corner_hz is None and found.passed.least_db > best + WORTH_DB
        if worth:
            on = found.on.upper()
            turned = ", B turned" if found.polarity < 0 else ""
            rows.append(("pass", f"{number(found.corner_hz, 0)} Hz on {on}{turned}", found.passed))
        self.bands.show_rows([(key, _band_cells(name, sums)) for key, name, sums in rows])
        self.bands.as_high_as_rows(4)
        self.pass_button.setEnabled(worth or corner_hz is not None)
        if corner_hz is not None:
            self.said.setText(f"An all-pass at {number(corner_hz, 0)} Hz is in.")
        elif worth:
            self.said.setText(
                "A first-order all-pass turns the phase below its corner little, above it by"
                " half a turn; levels stay."
            )
        else:
            self.said.setText("No all-pass does better than the delay: none is needed.")


def _is_moved(one: Timing) -> bool:
    return one.now is not None and abs(one.now.delay_samples) > IN_TIME_SAMPLES


def _air_words(air: float | None, rate_hz: float) -> str:
    if air is None:
        return "The microphone's distance is not known"
    metres = metres_words(distance_of_samples(air, rate_hz))
    return f"{metres} farther than A's microphone, at the speed of sound at 20 \N{DEGREE SIGN}C"


def _band_cells(name: str, sums: BandSums) -> list[Cell]:
    told = "10 log10 of the power of A + B over the sum of their powers, in this band"
    return [
        Cell(name),
        *(
            Cell(f"{number(max(-60.0, value), 1, sign=True)} dB", told, figure=True)
            for value in (sums.low_db, sums.high_db)
        ),
    ]
