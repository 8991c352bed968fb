"""The stored takes and the passes of one take, as lists."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from diaulos.app import theme
from diaulos.app.widgets.marks import paint_mark
from diaulos.app.widgets.rows import Index, RowDelegate, Rows, paint_line
from diaulos.figures import clock, level, number
from diaulos.session.model import Pass, Session, Take, tone_words
from diaulos.units import samples_to_ms


class TakeRow:
    """A take with what the list shows of it."""

    def __init__(self, take: Take, session: Session) -> None:
        self.take = take
        self.instrument = session.instrument_name(take.instrument_id)
        di = take.di
        self.seconds = di.frames / session.sample_rate_hz if di else 0.0
        self.remarks: list[str] = []
        if di is None:
            self.remarks.append("no DI track")
        else:
            if di.clipped_samples:
                self.remarks.append("DI clips")
            elif di.clips_ahead:
                self.remarks.append("DI clips ahead of its converter")
            if di.full_scale_dbu is None:
                self.remarks.append("calibration unknown")

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
        found = item.alignment
        if found is None:
            timing = f"not in time: {item.alignment_refused}"
        else:
            ms = samples_to_ms(found.delay_samples, self.rate_hz)
            timing = (
                f"{number(found.delay_samples, 2)} samples  {number(ms, 3)} ms  "
                f"{'normal' if found.polarity > 0 else 'inverted'}"
            )
        before = "silent" if item.loudness_lufs is None else number(item.loudness_lufs, 2)
        if item.match is None:
            loud = f"{before} LUFS, not matched"
        else:
            loud = f"{before} \N{RIGHTWARDS ARROW} {number(item.match.after_lufs, 2)} LUFS"
            loud += f"  as {item.match.label}"
        peak = f"peak {level(item.peak_dbfs, 'dBFS')}  headroom {number(item.headroom_db)} dB"
        if item.clipped_samples:
            peak += f"  {item.clipped_samples} CLIPPED"
        return timing, loud, peak

    def words(self, item: Pass) -> tuple[str, str]:
        timing, loud, peak = self.lines(item)
        keep = ", kept" if item.keeper else ""
        parts = [f"{item.name}{keep}: {self.tone(item)}", " ".join(timing.split()), loud, peak]
        found = item.alignment
        if found is not None:
            parts.append(
                f"Delay by cross-correlation of the loud blocks, "
                f"error {number(found.delay_error_samples, 2)} samples (95 %), "
                f"confidence {found.confidence:.2f}"
            )
            if found.drift_ppm is not None and found.drift_error_ppm is not None:
                parts.append(
                    f"drift {number(found.drift_ppm, 2, sign=True)} "
                    f"\N{PLUS-MINUS SIGN}{found.drift_error_ppm:.2f} ppm"
                )
        if item.match is not None:
            parts.append(
                f"gain {number(item.match.gain_db, 2, sign=True)} dB = reference "
                f"{number(item.match.reference_lufs, 2)} \N{MINUS SIGN} before "
                f"{number(item.match.before_lufs, 2)} ({item.match.method})"
            )
            if item.match.pair_offset_db < 0.0:
                parts.append(
                    f"the pair comes down by {number(-item.match.pair_offset_db, 2)} dB, "
                    f"so that it stays under \N{MINUS SIGN}1 dBTP"
                )
        if item.assumed_calibration:
            parts.append("send calibration assumed: +12 dBu at 0 dBFS")
        if item.send_limited_db > 0.0:
            parts.append(f"send {number(item.send_limited_db)} dB short of the instrument's level")
        return item.name, "\n".join(parts)


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
