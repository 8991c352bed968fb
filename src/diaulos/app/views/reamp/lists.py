"""The stored takes and the passes of one take, as lists."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from diaulos.app import theme
from diaulos.app.widgets.marks import paint_mark
from diaulos.app.widgets.rows import Index, RowDelegate, Rows, paint_line
from diaulos.figures import clock, level
from diaulos.session.model import Pass, Session, Take, tone_words
from diaulos.work.reamp.words import pass_lines, pass_words, take_remarks


class TakeRow:
    """A take with what the list shows of it."""

    def __init__(self, take: Take, session: Session) -> None:
        self.take = take
        self.instrument = session.instrument_name(take.instrument_id)
        di = take.di
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
        di = item.take.di
        peak = level(di.peak_dbfs, "dBFS") if di else "no DI"
        remarks = f", {', '.join(item.remarks)}" if item.remarks else ""
        words = (
            f"{item.take.name}: {item.instrument or 'no instrument'}, "
            f"{clock(item.seconds)}, DI peak {peak}, {len(item.take.passes)} passes{remarks}"
        )
        return item.take.name, words


class PassModel(Rows):
    """The passes of one take."""

    def __init__(self) -> None:
        super().__init__()
        self._session: Session | None = None

    def show(self, session: Session, take: Take | None) -> None:
        """The passes of this take."""
        self._session = session
        self.set_items(take.passes if take else ())

    def ident(self, item: Pass) -> str:
        return item.id

    def tone(self, item: Pass) -> str:
        """Voice, drive and cabinet that it was made with."""
        rig = self._session.snapshots.get(item.rig_hash) if self._session else None
        return tone_words(rig) if rig else item.rig_name

    @property
    def rate_hz(self) -> int:
        """The session's rate."""
        return self._session.sample_rate_hz if self._session else 48_000

    def lines(self, item: Pass) -> tuple[str, str, str]:
        """Three lines of figures."""
        return pass_lines(item, self.rate_hz)

    def words(self, item: Pass) -> tuple[str, str]:
        return item.name, pass_words(item, self.tone(item), self.rate_hz)


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
        di = item.take.di
        peak = level(di.peak_dbfs, "dBFS") if di else ""
        paint_line(painter, rect, 35, f"{clock(item.seconds)}  {peak}")
        if item.remarks:
            painter.setFont(theme.text_font(9, bold=True))
            painter.setPen(look.colour("danger" if "DI clips" in item.remarks else "cabinet"))
            paint_line(painter, rect, 52, ", ".join(item.remarks))
        else:
            painter.setFont(theme.text_font(9))
            painter.setPen(look.colour("muted"))
            count = len(item.take.passes)
            paint_line(painter, rect, 52, f"{count} pass{'es' if count != 1 else ''}")


class PassDelegate(RowDelegate):
    """A pass: name and tone, then its figures."""

    height = 88

    def paint_item(self, painter: QPainter, rect: QRectF, item: Pass, index: Index) -> None:
        look = theme.current()
        model = index.model()
        assert isinstance(model, PassModel)
        painter.setFont(theme.text_font(10, bold=True))
        painter.setPen(look.colour("ink"))
        title = f"{item.name}" + ("  \N{BLACK STAR} kept" if item.keeper else "")
        paint_line(painter, rect, 0, title)
        painter.setFont(theme.text_font(9))
        painter.setPen(look.colour("muted"))
        paint_line(painter, rect, 17, model.tone(item))
        painter.setFont(theme.figure_font(9))
        painter.setPen(look.colour("ink"))
        for top, text in zip((34, 50, 66), model.lines(item), strict=True):
            paint_line(painter, rect, top, text)
