"""A sheet as a page on screen and on a printer: the parts of the sheet, on paper in either look.

What a session says is text here, too: everything is escaped before it becomes markup of ours.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QByteArray, QMarginsF, QPoint, QRect, QRectF, QSize, Qt, QUrl
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
from diaulos.work.sheets.model import Drawn, Levels, Notices, Part, Rows, Sheet, Windows, Words

MARGIN = 28
LEAST, MOST = 460, 860
DRAWN = 1520
"""Pixels that a drawing is kept in across: twice what it is shown in."""
Drawing = Callable[[Drawn], str]
LOOK = theme.PRINTED


class SheetPage(Rescaled):
    """The page; as wide as there is room for, as high as the sheet needs."""

    def __init__(self, drawing: Drawing) -> None:
        super().__init__()
        self._drawing = drawing
        self._sheet: Sheet | None = None
        self._words = ""
        self.document = QTextDocument(self)
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

    def _fill(self) -> None:
        fill_document(self.document, self._sheet, self._words, self._drawing, theme.zoom())
        self.setAccessibleDescription(self.document.toPlainText()[:2_000])
        self._lay()

    def _lay(self) -> None:
        width = min(self.width(), theme.px(MOST))
        self.document.setTextWidth(max(200, width - 2 * MARGIN))
        self.setFixedHeight(int(self.document.size().height()) + 2 * MARGIN)
        self.update()

    def rescaled(self) -> None:
        """Text has another size now."""
        self.setMinimumWidth(theme.px(LEAST))
        self._fill()

    def sizeHint(self) -> QSize:
        return QSize(theme.px(640), self.height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self._lay()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        width = min(self.width(), theme.px(MOST))
        left = (self.width() - width) // 2  # in the middle of what is wider than a page
        painter.fillRect(QRectF(left, 0, width, self.height()), LOOK.colour("paper"))
        painter.translate(left + MARGIN, MARGIN)
        context = QAbstractTextDocumentLayout.PaintContext()
        context.palette.setColor(QPalette.ColorRole.Text, LOOK.colour("ink"))
        context.clip = QRectF(event.rect()).translated(-left - MARGIN, -MARGIN)
        painter.setClipRect(context.clip)
        self.document.documentLayout().draw(painter, context)
        if self.hasFocus():
            painter.resetTransform()
            painter.setClipping(False)
            painter.setPen(theme.current().colour("di"))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    # --- copies ---

    def copy_image(self) -> None:
        """The page into the clipboard."""
        width = min(self.width(), theme.px(MOST))
        picture = QPixmap(width, self.height())
        picture.fill(LOOK.colour("paper"))
        page = QRect((self.width() - width) // 2, 0, width, self.height())
        self.render(picture, QPoint(), QRegion(page))
        QGuiApplication.clipboard().setPixmap(picture)


def fill_document(
    document: QTextDocument, sheet: Sheet | None, words: str, drawing: Drawing, zoom: float = 1.0
) -> None:
    """A sheet as a document that can be painted and printed."""
    document.clear()
    document.setDocumentMargin(0)
    document.setDefaultFont(QFont(theme.FAMILY, max(1, round(10 * zoom))))
    if sheet is None:
        document.setHtml(f'<p style="color:{LOOK.muted}">{escaped(words)}</p>')
        return
    images = [part for part in sheet.parts if isinstance(part, Levels | Windows)]
    for at, part in enumerate(images):
        document.addResource(
            QTextDocument.ResourceType.ImageResource, QUrl(f"levels:{at}"), _image(drawing(part))
        )
    document.setHtml(rich_text(sheet))


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
    parts = [
        f'<h2 style="margin:0">{escaped(sheet.title)}</h2>',
        f'<p style="margin:0">{escaped(sheet.under)}</p>',
        f'<p style="margin:0; color:{LOOK.muted}">{escaped(sheet.made_at.replace("T", " "))}</p>',
    ]
    if sheet.note:
        parts.append(_part(Words("Note", tuple(sheet.note.splitlines())), 0))
    drawn = 0
    for part in sheet.parts:
        parts.append(_part(part, drawn))
        drawn += isinstance(part, Levels | Windows)
    return "".join(parts)


def _part(part: Part, drawn: int) -> str:
    head = f'<p style="margin:14px 0 4px 0"><b>{escaped(part.title)}</b></p>'
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


def _table(part: Rows) -> str:
    wide = part.wide or (1.0,) * len(part.head)
    total = sum(wide)
    cells = ["<td></td>"] if part.tick else []
    for at, name in enumerate(part.head):
        share = round(96.0 * wide[at] / total)
        cells.append(
            f'<td width="{share}%"{_side(part, at)}><b>{escaped(name) or "&nbsp;"}</b></td>'
        )
    line = f"border-bottom:1px solid {LOOK.line}"
    rows = [f"<tr>{''.join(cells)}</tr>"]
    for row in part.rows:
        cells = [f'<td style="{line}">\N{BALLOT BOX}</td>'] if part.tick else []
        cells += [
            f'<td style="{line}"{_side(part, at)}>{escaped(cell)}</td>'
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
