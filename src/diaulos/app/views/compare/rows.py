"""The candidates as rows: key, mark, name, where from, and a level window at the matched level."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter

from diaulos.app import theme
from diaulos.app.widgets.level_window import paint_level_window
from diaulos.app.widgets.marks import TAP_TOKENS, paint_mark
from diaulos.app.widgets.rows import Index, RowDelegate, Rows, paint_line
from diaulos.figures import LevelFigures, number
from diaulos.records import dataclass
from diaulos.work.compare.choices import Candidate, Measured

QUIET_DBFS = -96.0
NOISE_DBFS = -60.0


@dataclass(frozen=True)
class CandidateRow:
    """One candidate: its number (from 1), what was measured of it, the gain it is heard at."""

    number: int
    candidate: Candidate
    measured: Measured | None = None
    gain_db: float | None = None
    edited: str = ""
    """What was done to it: moved, turned, cut."""
    problem: str = ""

    @property
    def letter(self) -> str:
        """A for the reference, then on."""
        return "ABCDEFGHI"[self.number - 1]

    def figures(self) -> LevelFigures | None:
        """Its levels as it is heard here; None while they are not known."""
        one, gain = self.measured, self.gain_db
        if one is None or gain is None or one.peak_dbfs is None or one.lufs is None:
            return None
        # What is never quiet does not show its noise.
        quiet = one.quietest_dbfs
        floor = quiet if quiet is not None and quiet < NOISE_DBFS else QUIET_DBFS
        return LevelFigures(
            "dBFS", floor + gain, 0.0, one.peak_dbfs + gain, min(one.lufs, one.peak_dbfs) + gain
        )

    def under(self) -> str:
        """Where it is from, and at which gain it is heard."""
        words = self.candidate.take_name
        if self.gain_db is not None and self.measured is not None:
            words = f"{number(self.gain_db, 2, sign=True)} dB, {words}"
        return f"{self.edited}, {words}" if self.edited else words


class CandidateModel(Rows):
    """The rows of a comparison."""

    def ident(self, item: CandidateRow) -> str:
        """Its key."""
        return item.candidate.key

    def words(self, item: CandidateRow) -> tuple[str, str]:
        """The row in words."""
        told = f"{item.letter}: {item.candidate.name}, {item.under()}"
        if item.number == 1:
            told += "; the reference"
        figures = item.figures()
        if item.problem:
            told += f"; {item.problem}"
        elif figures is not None:
            told += f"; {figures.words()}"
        return item.candidate.name, told + ". Matched by gain alone: its file stays as it is."


class CandidateDelegate(RowDelegate):
    """Paints a candidate."""

    height = 90

    def paint_item(self, painter: QPainter, rect: QRectF, item: CandidateRow, index: Index) -> None:
        """Letter and mark, name, where from, level window."""
        look = theme.current()
        painter.setFont(theme.figure_font(12, bold=True))
        painter.setPen(look.colour("ink"))
        painter.drawText(QRectF(rect.left(), rect.top(), 18, 20), 0, item.letter)
        paint_mark(painter, QRectF(rect.left() + 18, rect.top() + 1, 16, 16),
                   item.candidate.tap, look)  # fmt: skip
        painter.setFont(theme.text_font(10, bold=True))
        painter.setPen(look.colour("ink"))
        words = rect.adjusted(40, 0, 0, 0)
        paint_line(painter, words, 1, item.candidate.name)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        paint_line(painter, rect, 19, item.under())
        if item.problem:
            painter.setPen(look.colour("ink"))
            painter.drawText(rect.adjusted(0, 38, 0, 0), int(Qt.TextFlag.TextWordWrap),
                             item.problem)  # fmt: skip
            return
        token = TAP_TOKENS.get(item.candidate.tap, "ink")
        window = QRectF(rect.left(), rect.top() + 37, rect.width(), 46)
        paint_level_window(painter, window, item.figures(), token)
