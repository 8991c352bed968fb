"""The instruments as a list, each with its strength window at the tone stage."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from diaulos.app import theme
from diaulos.app.widgets.level_window import paint_level_window
from diaulos.app.widgets.rows import Index, RowDelegate, Rows, paint_line
from diaulos.figures import LevelFigures, level, number
from diaulos.session.instrument import FAMILY_WORDS, Instrument
from diaulos.session.model import Session
from diaulos.work.instruments.trims import TrimRow
from diaulos.work.instruments.tuning import intonation_summary

FLOOR_DBFS = -60.0
TARGET_BAND_DB = 3.0


def strength_figures(
    row: TrimRow, instrument: Instrument, target_dbfs: float
) -> LevelFigures | None:
    """The level window of an instrument at the tone stage, trimmed; None when not measured."""
    if row.peak_dbfs is None:
        return None
    reading = instrument.reading
    below = reading.peak_dbfs - reading.loudest_400ms_dbfs if reading else 12.0
    return LevelFigures(
        unit="dBFS",
        floor=FLOOR_DBFS,
        ceiling=0.0,
        peak=row.peak_dbfs,
        typical=row.peak_dbfs - below,
        target=(target_dbfs - TARGET_BAND_DB, target_dbfs),
    )


class InstrumentRow:
    """An instrument with what the list shows of it."""

    def __init__(self, instrument: Instrument, row: TrimRow, target_dbfs: float) -> None:
        self.instrument, self.row, self.target_dbfs = instrument, row, target_dbfs
        self.figures = strength_figures(row, instrument, target_dbfs)
        position = instrument.position
        family = FAMILY_WORDS[instrument.family]
        self.line = f"{family}, {position.name}" if position else family

    def __eq__(self, other: object) -> bool:
        return isinstance(other, InstrumentRow) and (
            (self.instrument, self.row, self.target_dbfs)
            == (other.instrument, other.row, other.target_dbfs)
        )

    __hash__ = None  # type: ignore[assignment]  # rows are compared, never keyed


class InstrumentModel(Rows):
    """The session's instruments."""

    def show(self, session: Session, rows: tuple[TrimRow, ...]) -> None:
        """Show these."""
        target = session.target_peak_dbfs
        self.set_items(
            tuple(
                InstrumentRow(instrument, row, target)
                for instrument, row in zip(session.instruments, rows, strict=True)
            )
        )

    def ident(self, item: InstrumentRow) -> str:
        return item.instrument.id

    def words(self, item: InstrumentRow) -> tuple[str, str]:
        text = f"{item.instrument.name}: {item.line}"
        checked = intonation_summary(item.instrument)
        text += f". {checked.rstrip('.')}" if checked else ""
        if item.figures is None:
            return item.instrument.name, f"{text}, {item.row.reason}"
        trim = number(item.row.trim_db, 1, sign=True)
        return item.instrument.name, (
            f"{text}, trim {trim} dB, {item.figures.words()}\n"
            "Peak = strongest reading in dBu \N{MINUS SIGN} pad \N{MINUS SIGN} dBu at 0 dBFS "
            "+ trim"
        )


class InstrumentDelegate(RowDelegate):
    """An instrument: name, what it is, its strength window."""

    height = 96

    def paint_item(
        self, painter: QPainter, rect: QRectF, item: InstrumentRow, index: Index
    ) -> None:
        look = theme.current()
        painter.setFont(theme.text_font(10, bold=True))
        painter.setPen(look.colour("ink"))
        paint_line(painter, rect, 0, item.instrument.name)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        paint_line(painter, rect, 17, item.line)
        if item.figures is None:
            painter.setPen(look.colour("cabinet"))
            painter.setFont(theme.text_font(9, bold=True))
            paint_line(painter, rect, 42, item.row.reason)
            reading = item.instrument.reading
            if reading is not None:
                painter.setFont(theme.figure_font(9))
                painter.setPen(look.colour("ink"))
                paint_line(painter, rect, 60, level(reading.peak_dbfs, "dBFS peak"))
            return
        window = QRectF(rect.left(), rect.top() + 36, rect.width(), 47)
        paint_level_window(painter, window, item.figures, "di")
