"""Microphone places: where each stood, and what another place does."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFormLayout, QVBoxLayout, QWidget

from diaulos.app.views.compare.cone import ConePicture
from diaulos.app.widgets.labels import ElidedLabel, TextLabel
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.tables import Cell, Table
from diaulos.figures import number
from diaulos.session.compared import MicPlace
from diaulos.work.compare.placed import PlaceFigures, figures_words, octave_name, two_places

UNKNOWN = -1.0


def _field(name: str, suffix: str, most: float, told: str, decimals: int = 0) -> NumberField:
    """A number that may be unknown: below 0."""
    field = NumberField()
    field.setRange(UNKNOWN, most)
    field.setDecimals(decimals)
    field.setSuffix(suffix)
    field.setSpecialValueText("unknown")
    field.setAccessibleName(name)
    field.setToolTip(told)
    return field


class PlacesPage(QWidget):
    """The cone with the places, the fields of the marked row, and what B's place does."""

    placed = Signal(object)
    """A `MicPlace` for the marked row."""

    def __init__(self) -> None:
        super().__init__()
        title = TextLabel("Microphone places")
        title.setProperty("role", "title")
        self.picture = ConePicture()
        self.who = ElidedLabel()
        self.across = _field("Across the cone", " %", 100.0, "0 % the centre, 100 % the edge")
        self.distance = _field("Distance", " cm", 3_000.0, "From the grille", 1)
        self.angle = _field("Off axis", " \N{DEGREE SIGN}", 90.0, "0 straight at the cone")
        form = QFormLayout()
        form.setContentsMargins(0, 0, 0, 0)
        form.addRow(self.who)
        for words, field in (
            ("Across", self.across), ("Distance", self.distance), ("Off axis", self.angle),
        ):  # fmt: skip
            form.addRow(words, field)
            field.valueChanged.connect(lambda _v: self._on_edited())
        self.sentence = TextLabel()
        self.sentence.setWordWrap(True)
        self.sentence.setAccessibleName("What the place does")
        self.table = Table("Octaves", ("Octave", "B re A"), 0)
        self.table.setSelectionMode(Table.SelectionMode.NoSelection)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(title)
        column.addWidget(self.picture)
        column.addLayout(form)
        column.addWidget(self.sentence)
        column.addWidget(self.table, 1)
        self._showing = False

    def _on_edited(self) -> None:
        if self._showing:
            return
        across, distance, angle = (
            None if field.value() < 0.0 else field.value()
            for field in (self.across, self.distance, self.angle)
        )
        self.placed.emit(
            MicPlace(
                across=None if across is None else across / 100.0,
                distance_m=None if distance is None else distance / 100.0,
                angle_deg=angle,
            )
        )

    def show_places(
        self, places: Sequence[tuple[str, MicPlace]], row: int, name: str, can_write: bool
    ) -> None:
        """All places by letter; the marked row's in the fields."""
        letter, here = places[row] if row < len(places) else ("", MicPlace())
        self.picture.show_places(places, letter)
        self.who.setText(f"{letter}: {name}" if letter else "")
        self._showing = True
        for field, value, scale in (
            (self.across, here.across, 100.0), (self.distance, here.distance_m, 100.0),
            (self.angle, here.angle_deg, 1.0),
        ):  # fmt: skip
            field.setEnabled(can_write and bool(letter))
            field.setValue(UNKNOWN if value is None else value * scale)
        self._showing = False

    def show_figures(
        self, names: tuple[str, str], places: tuple[MicPlace, MicPlace], found: PlaceFigures | None
    ) -> None:
        """What B's place does against A's."""
        if found is None:
            self.sentence.setText("")
            self.table.show_rows(())
            return
        told = two_places(*places)
        a, b = (words or name for words, name in zip(told, names, strict=True))
        self.sentence.setText(figures_words(a, b, found))
        self.sentence.setToolTip(
            "Power above 3 kHz of B over that of A, at equal loudness; the way is the delay times"
            " the speed of sound"
        )
        formula = "Power of B over that of A in this octave, at equal loudness"
        self.table.show_rows(
            [
                (
                    one.hz,
                    [
                        Cell(octave_name(one.hz)),
                        Cell("too little" if one.db is None else
                             f"{number(one.db, 1, sign=True)} dB", formula, figure=True),
                    ],
                )
                for one in found.octaves
            ]
        )  # fmt: skip
