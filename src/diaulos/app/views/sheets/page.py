"""A sheet as a page on screen and on a printer: the parts of the sheet, on paper in either look.

What a session says is text here, too: everything is escaped before it becomes markup of ours.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import replace

from PySide6.QtCore import (
    QByteArray,
    QMarginsF,
    QObject,
    QPoint,
    QRect,
    QRectF,
    QSize,
    Qt,
    QTimer,
    QUrl,
)
from PySide6.QtGui import (
    QAbstractTextDocumentLayout,
    QFont,
    QGuiApplication,
    QImage,
    QPainter,
    QPaintEvent,
    QPalette,
    QPixmap,
    QRegion,
    QResizeEvent,
    QTextDocument,
)
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QSizePolicy

from diaulos.app import theme
from diaulos.app.widgets.labels import escaped
from diaulos.app.widgets.painted import Rescaled
from diaulos.records import dataclass
from diaulos.work.sheets.model import Drawn, Levels, Notices, Part, Rows, Sheet, Windows, Words

MARGIN = 28
LEAST, MOST = 460, 860
DRAWN = 1520
"""Pixels that a drawing is kept in across: twice what it is shown in."""
APART = 14
"""Above a part of a sheet, in pixels: a document drops the margin above its first line."""
PIECE_ROWS = 8
"""Of a list, in one piece: laid out in some 10 ms."""
TURN_S = 0.008
"""How long pieces are laid out before the window has its turn."""
Drawing = Callable[[Drawn], str]
LOOK = theme.PRINTED


class SheetPage(Rescaled):
    """The page; as wide as there is room for, as high as the sheet needs.

    A list of hundreds of takes is long to lay out: it is cut into pieces, and those follow one
    another while the window goes on. What is not laid out yet shows what was there before.
    """

    def __init__(self, drawing: Drawing) -> None:
        super().__init__()
        self._drawing = drawing
        self._sheet: Sheet | None = None
        self._words = ""
        self._pieces: list[QTextDocument] = []
        self._highs: list[float] = []
        self._coming: list[_Piece] = []
        self._next, self._anew = 0, False
        self._turn = QTimer(self)
        self._turn.setSingleShot(True)
        self._turn.setInterval(0)
        self._turn.timeout.connect(self._go_on)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("The sheet")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMinimumWidth(theme.px(LEAST))

    def show_sheet(self, sheet: Sheet) -> None:
        """This sheet."""
        self._sheet, self._words = sheet, ""
        self._fill()

    def show_words(self, words: str) -> None:
        """No sheet, and why."""
        self._sheet, self._words = None, words
        self._fill()

    @property
    def sheet(self) -> Sheet | None:
        """What is shown."""
        return self._sheet

    @property
    def laid(self) -> bool:
        """Whether all of it is laid out."""
        return self._next >= len(self._coming)

    @property
    def pieces(self) -> tuple[QTextDocument, ...]:
        """What the page is made of, from the top, as far as it is laid out."""
        return tuple(self._pieces)

    @property
    def text(self) -> str:
        """What stands on the page."""
        self._finish()
        return "\n".join(piece.toPlainText() for piece in self._pieces)

    def _fill(self) -> None:
        if self._sheet is None:
            self._coming = [_Piece(_said(self._words))]
        else:
            self._coming = list(_pieces_of(self._sheet))
        self._later(anew=True)

    def _later(self, *, anew: bool) -> None:
        """Lay out from the top, from the next turn on: other text, or the same in another width.
        With what else happens now it would be felt."""
        self._anew, self._next = anew, 0
        self._turn.start()

    def _go_on(self) -> None:
        """Some pieces more, as many as are not felt."""
        begun = time.monotonic()
        while not self.laid:
            self._lay_next()
            if time.monotonic() - begun > TURN_S:
                break
        if self.laid:
            for piece in self._pieces[self._next :]:
                piece.deleteLater()
            del self._pieces[self._next :], self._highs[self._next :]
            words = "\n".join(piece.toPlainText() for piece in self._pieces[:4])
            self.setAccessibleDescription(words[:2_000])
        else:
            self._turn.start()
        high = sum(self._above(at) + one for at, one in enumerate(self._highs))
        self.setFixedHeight(round(high) + 2 * MARGIN)
        self.update()

    def _finish(self) -> None:
        """All that is left, now."""
        while not self.laid:
            self._go_on()

    def _lay_next(self) -> None:
        if self._anew:
            coming = self._coming[self._next]
            piece = _document(theme.zoom(), self)
            if coming.drawn is not None:
                _add_drawing(piece, 0, self._drawing(coming.drawn))
            piece.setHtml(coming.markup)
            if self._next < len(self._pieces):
                self._pieces[self._next].deleteLater()
                self._pieces[self._next] = piece
            else:
                self._pieces.append(piece)
                self._highs.append(0.0)
        piece = self._pieces[self._next]
        piece.setTextWidth(max(200, self._across - 2 * MARGIN))
        self._highs[self._next] = piece.size().height()
        self._next += 1

    def _above(self, at: int) -> float:
        """The room above a piece."""
        return APART if at < len(self._coming) and self._coming[at].apart else 0.0

    @property
    def _across(self) -> int:
        return min(self.width(), theme.px(MOST))

    def rescaled(self) -> None:
        """Text has another size now."""
        self.setMinimumWidth(theme.px(LEAST))
        self._later(anew=True)

    def sizeHint(self) -> QSize:
        return QSize(theme.px(640), self.height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            # What was being made anew goes on being made anew.
            self._later(anew=self._anew and not self.laid)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        left = (self.width() - self._across) // 2  # in the middle of what is wider than a page
        painter.fillRect(QRectF(left, 0, self._across, self.height()), LOOK.colour("paper"))
        context = QAbstractTextDocumentLayout.PaintContext()
        context.palette.setColor(QPalette.ColorRole.Text, LOOK.colour("ink"))
        top = float(MARGIN)
        for at, (piece, high) in enumerate(zip(self._pieces, self._highs, strict=True)):
            top += self._above(at)
            seen = QRectF(event.rect()).intersects(QRectF(left, top, self._across, high))
            if seen:
                painter.save()
                painter.translate(left + MARGIN, top)
                context.clip = QRectF(event.rect()).translated(-left - MARGIN, -top)
                painter.setClipRect(context.clip)
                piece.documentLayout().draw(painter, context)
                painter.restore()
            top += high
        if self.hasFocus():
            painter.setPen(theme.current().colour("di"))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    # --- copies ---

    def copy_image(self) -> None:
        """The page into the clipboard."""
        self._finish()
        width = min(self.width(), theme.px(MOST))
        picture = QPixmap(width, self.height())
        picture.fill(LOOK.colour("paper"))
        page = QRect((self.width() - width) // 2, 0, width, self.height())
        self.render(picture, QPoint(), QRegion(page))
        QGuiApplication.clipboard().setPixmap(picture)


def fill_document(
    document: QTextDocument, sheet: Sheet | None, words: str, drawing: Drawing, zoom: float = 1.0
) -> None:
    """A sheet as one document, as it is printed."""
    document.clear()
    _set_up(document, zoom)
    if sheet is None:
        document.setHtml(_said(words))
        return
    images = [part for part in sheet.parts if isinstance(part, Levels | Windows)]
    for at, part in enumerate(images):
        _add_drawing(document, at, drawing(part))
    document.setHtml(rich_text(sheet))


def _document(zoom: float, parent: QObject) -> QTextDocument:
    document = QTextDocument(parent)
    _set_up(document, zoom)
    return document


def _set_up(document: QTextDocument, zoom: float) -> None:
    document.setDocumentMargin(0)
    document.setDefaultFont(QFont(theme.FAMILY, max(1, round(10 * zoom))))


def _said(words: str) -> str:
    return f'<p style="color:{LOOK.muted}">{escaped(words)}</p>'


def _add_drawing(document: QTextDocument, at: int, svg: str) -> None:
    kind = QTextDocument.ResourceType.ImageResource
    document.addResource(kind, QUrl(f"levels:{at}"), _image(svg))


def _image(svg: str) -> QImage:
    drawn = QSvgRenderer(QByteArray(svg.encode()))
    whole = drawn.viewBoxF()
    high = round(DRAWN * whole.height() / max(1.0, whole.width()))
    picture = QImage(DRAWN, max(1, high), QImage.Format.Format_RGB32)
    picture.fill(LOOK.colour("paper"))
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    drawn.render(painter)
    painter.end()
    return picture


def rich_text(sheet: Sheet) -> str:
    """The sheet in the markup that a text document knows."""
    parts, drawn = [_top(sheet)], 0
    if sheet.note:
        parts.append(_part(_note(sheet), 0))
    for part in sheet.parts:
        parts.append(_part(part, drawn))
        drawn += isinstance(part, Levels | Windows)
    return "".join(parts)


@dataclass(frozen=True)
class _Piece:
    """Some of a page, with the drawing that it shows; `apart` where a part of the sheet begins."""

    markup: str
    drawn: Levels | Windows | None = None
    apart: bool = False


def _pieces_of(sheet: Sheet) -> Iterator[_Piece]:
    """The sheet in pieces that follow one another down the page. A long list is several: their
    columns are as wide, for they are told how wide."""
    yield _Piece(_top(sheet))
    if sheet.note:
        yield _Piece(_part(_note(sheet), 0), apart=True)
    for part in sheet.parts:
        apart = not isinstance(part, Notices)  # they bring a margin of their own
        if isinstance(part, Levels | Windows):
            yield _Piece(_part(part, 0), part, apart)
        elif isinstance(part, Rows) and len(part.rows) > PIECE_ROWS:
            first = replace(part, rows=part.rows[:PIECE_ROWS])
            yield _Piece(_head(part) + _table(first), apart=apart)
            for at in range(PIECE_ROWS, len(part.rows), PIECE_ROWS):
                some = replace(part, rows=part.rows[at : at + PIECE_ROWS])
                yield _Piece(_table(some, headed=False))
        else:
            yield _Piece(_part(part, 0), apart=apart)


def _top(sheet: Sheet) -> str:
    parts = [
        f'<h2 style="margin:0">{escaped(sheet.title)}</h2>',
        f'<p style="margin:0">{escaped(sheet.under)}</p>',
        f'<p style="margin:0; color:{LOOK.muted}">{escaped(sheet.made_at.replace("T", " "))}</p>',
    ]
    return "".join(parts)


def _note(sheet: Sheet) -> Words:
    return Words("Note", tuple(sheet.note.splitlines()))


def _head(part: Part) -> str:
    return f'<p style="margin:{APART}px 0 4px 0"><b>{escaped(part.title)}</b></p>'


def _part(part: Part, drawn: int) -> str:
    head = _head(part)
    if isinstance(part, Words):
        lines = "".join(
            f'<p style="margin:0">{escaped(line) or "&nbsp;"}</p>' for line in part.lines
        )
        return head + lines
    if isinstance(part, Notices):
        inside = "".join(
            f'<p style="margin:2px 0"><b>{escaped(title)}.</b> {escaped(text)}</p>'
            for title, text in part.lines
        )
        title = f'<p style="margin:0; color:{LOOK.danger}"><b>{escaped(part.title)}</b></p>'
        return (
            f'<table width="100%" border="2" style="border-color:{LOOK.danger};'
            f' border-collapse:collapse; margin-top:12px" cellpadding="8"><tr><td>{title}{inside}'
            "</td></tr></table>"
        )
    if isinstance(part, Levels | Windows):
        return f'{head}<p><img src="levels:{drawn}" width="{DRAWN // 2}"></p>'
    if not part.rows:
        return f'{head}<p style="color:{LOOK.muted}; margin:0">{escaped(part.empty)}</p>'
    return head + _table(part)


def _table(part: Rows, *, headed: bool = True) -> str:
    wide = part.wide or (1.0,) * len(part.head)
    shares = [f' width="{round(96.0 * one / sum(wide))}%"' for one in wide]
    rows = []
    if headed:
        cells = ["<td></td>"] if part.tick else []
        for at, name in enumerate(part.head):
            side = _side(part, at)
            cells.append(f"<td{shares[at]}{side}><b>{escaped(name) or '&nbsp;'}</b></td>")
        rows.append(f"<tr>{''.join(cells)}</tr>")
    line = f"border-bottom:1px solid {LOOK.line}"
    for row in part.rows:
        cells = [f'<td style="{line}">\N{BALLOT BOX}</td>'] if part.tick else []
        # A piece without the heads is told by its first row how wide its columns are.
        told = shares if not rows else [""] * len(row)
        cells += [
            f'<td{told[at]} style="{line}"{_side(part, at)}>{escaped(cell)}</td>'
            for at, cell in enumerate(row)
        ]
        rows.append(f"<tr>{''.join(cells)}</tr>")
    return (
        f'<table width="100%" cellpadding="3" cellspacing="0" style="border-color:{LOOK.line}">'
        f"{''.join(rows)}</table>"
    )


def _side(part: Rows, at: int) -> str:
    return ' align="right"' if at in part.right else ""


def print_margins() -> QMarginsF:
    """Of a printed page, in mm."""
    return QMarginsF(14.0, 14.0, 14.0, 14.0)
