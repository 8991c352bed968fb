"""The stored takes and the passes of one take, as lists."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QStyleOptionViewItem

from diaulos.app import theme
from diaulos.app.widgets.marks import paint_mark
from diaulos.app.widgets.painted import scaled_size
from diaulos.app.widgets.rows import ITEM, Index, RowDelegate, Rows, paint_figures, paint_line
from diaulos.figures import clock, counted, level, number
from diaulos.records import dataclass
from diaulos.rig.model import Rig
from diaulos.session.model import Pass, Return, Session, Take, tone_words
from diaulos.work.reamp.words import part_lines, pass_lines, pass_words, sent_words, take_remarks


class TakeRow:
    """A take with what the list shows of it."""

    def __init__(self, take: Take, session: Session) -> None:
        self.take = take
        self.instrument = session.instrument_name(take.instrument_id)
        di = take.sent
        self.seconds = di.frames / session.sample_rate_hz if di else 0.0
        self.remarks = take_remarks(take)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, TakeRow) and (self.take, self.instrument) == (
            other.take,
            other.instrument,
        )

    __hash__ = None  # type: ignore[assignment]  # rows are compared, never keyed


class TakeModel(Rows):
    """The stored takes."""

    def ident(self, item: TakeRow) -> str:
        return item.take.id

    def words(self, item: TakeRow) -> tuple[str, str]:
        di = item.take.sent
        peak = level(di.peak_dbfs, "dBFS") if di else "no DI"
        remarks = f", {', '.join(item.remarks)}" if item.remarks else ""
        passes = counted(len(item.take.passes), "pass")
        words = (
            f"{item.take.name}: {item.instrument or 'no instrument'}, "
            f"{clock(item.seconds)}, DI peak {peak}, {passes}{remarks}"
        )
        return item.take.name, words


@dataclass(frozen=True)
class PassRow:
    """A pass, and what belongs together of what came back in it."""

    made: Pass
    part: tuple[Return, ...]

    @property
    def ident(self) -> str:
        """The pass's id; of what follows its first part, with the part's first return."""
        first = self.part == self.made.parts[0]
        return self.made.id if first else f"{self.made.id}/{self.part[0].name}"

    @property
    def title(self) -> str:
        """The pass, and which of its returns where it has more than are here."""
        named = self.part[0].group or self.part[0].name
        return self.made.name if len(self.made.parts) == 1 else f"{self.made.name}, {named}"


class PassModel(Rows):
    """The passes of one take."""

    def __init__(self) -> None:
        super().__init__()
        self._session: Session | None = None
        self._ways: dict[int, tuple[Rig, str]] = {}

    def show(self, session: Session, take: Take | None) -> None:
        """The passes of this take."""
        self._session = session
        passes = take.passes if take else ()
        self.set_items(tuple(PassRow(made, part) for made in passes for part in made.parts))

    def ident(self, item: PassRow) -> str:
        return item.ident

    def tone(self, item: PassRow) -> str:
        """Voice, drive and cabinet that it was made with."""
        rig = self._session.snapshots.get(item.made.rig_hash) if self._session else None
        if rig is None:
            return item.made.rig_name
        return f"{tone_words(rig)}, {self._way(rig)}".lstrip(", ")

    def _way(self, rig: Rig) -> str:
        """How it was sent; found once for a rig."""
        known = self._ways.get(id(rig))
        if known is None or known[0] is not rig:
            known = self._ways[id(rig)] = (rig, sent_words(rig))
        return known[1]

    @property
    def rate_hz(self) -> int:
        """The session's rate."""
        return self._session.sample_rate_hz if self._session else 48_000

    def lines(self, item: PassRow) -> tuple[str, ...]:
        """Lines of figures: three of a single return, of several one each behind their loudness."""
        if len(item.part) == 1:
            return pass_lines(item.part[0], self.rate_hz)
        return part_lines(item.part, self.rate_hz)

    def words(self, item: PassRow) -> tuple[str, str]:
        return item.title, pass_words(item.made, item.part, self.tone(item), self.rate_hz)


class TakeDelegate(RowDelegate):
    """A take: name, instrument, length and peak, what is wrong with it."""

    height = 78

    def paint_item(self, painter: QPainter, rect: QRectF, item: TakeRow, index: Index) -> None:
        look = theme.current()
        paint_mark(painter, QRectF(rect.left(), rect.top() + 1, 15, 15), "di", look)
        painter.setFont(theme.text_font(10, bold=True))
        painter.setPen(look.colour("ink"))
        paint_line(painter, rect.adjusted(21, 0, 0, 0), 0, item.take.name)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        paint_line(painter, rect, 18, item.instrument)
        painter.setFont(theme.figure_font(9))
        painter.setPen(look.colour("ink"))
        di = item.take.sent
        long = clock(item.seconds)
        choices = (
            (f"{long}  {level(di.peak_dbfs, 'dBFS')}", f"{long}  {number(di.peak_dbfs)}", long)
            if di
            else (long,)
        )
        paint_figures(painter, rect, 35, *choices)
        if item.remarks:
            painter.setFont(theme.text_font(9, bold=True))
            painter.setPen(look.colour("danger" if "DI clips" in item.remarks else "cabinet"))
            paint_line(painter, rect, 52, ", ".join(item.remarks))
        else:
            painter.setFont(theme.text_font(9))
            painter.setPen(look.colour("muted"))
            paint_line(painter, rect, 52, counted(len(item.take.passes), "pass"))


class PassDelegate(RowDelegate):
    """A pass: name and tone, then its figures."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        row = index.data(ITEM)
        lines = 3 if len(row.part) == 1 else 1 + len(row.part)
        return scaled_size(200, 40 + 16 * lines)

    def paint_item(self, painter: QPainter, rect: QRectF, item: PassRow, index: Index) -> None:
        look = theme.current()
        model = index.model()
        assert isinstance(model, PassModel)
        painter.setFont(theme.text_font(10, bold=True))
        painter.setPen(look.colour("ink"))
        title = item.title + ("  \N{BLACK STAR} kept" if item.made.keeper else "")
        paint_line(painter, rect, 0, title)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        paint_line(painter, rect, 17, model.tone(item))
        painter.setFont(theme.figure_font(9))
        painter.setPen(look.colour("ink"))
        for line, text in enumerate(model.lines(item)):
            paint_line(painter, rect, 34 + 16 * line, text)
