"""A sheet as PDF, by fpdf2: the shipped type embedded, drawings as lines, tables that go on over
pages under a repeated head. The same sheet gives the same bytes."""

from __future__ import annotations

import io
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Literal

from diaulos.reports import look
from diaulos.reports.drawing import WIDE, drawing, drawn_high
from diaulos.work.sheets.model import Levels, Notices, Part, Rows, Sheet, Windows, Words

if TYPE_CHECKING:
    from fpdf import FPDF

Paper = Literal["A4", "Letter"]
MARGIN, GAP = 14.0, 3.5
BODY, SMALL, TITLE, HEAD = 9.0, 8.0, 16.0, 11.0
TICK_MM = 3.0
TICK_WIDE = 0.5


def pdf_sheet(sheet: Sheet, paper: Paper = "A4") -> bytes:
    """The whole sheet as a file."""
    pdf = _document(sheet, paper)
    pdf.add_page()
    _heading(pdf, sheet)
    if sheet.note:
        _part(pdf, Words("Note", tuple(sheet.note.splitlines())))
    for at, part in enumerate(sheet.parts):
        if sheet.kind == "tone" and at:
            _next_half(pdf)
        _part(pdf, part)
    return bytes(pdf.output())


def _next_half(pdf: FPDF) -> None:
    """Down to the next half of a page: a card stands on a half of its own, to be cut off."""
    half = pdf.h / 2.0
    if pdf.get_y() > half:
        pdf.add_page()
        return
    pdf.set_draw_color(look.LINE)
    pdf.set_dash_pattern(dash=2.0, gap=2.0)
    pdf.line(MARGIN, half, pdf.w - MARGIN, half)
    pdf.set_dash_pattern()
    pdf.set_y(half)


def _document(sheet: Sheet, paper: Paper) -> FPDF:
    from fpdf import FPDF

    class Pages(FPDF):
        """With a foot on every page."""

        def footer(self) -> None:
            self.set_y(-MARGIN + 3.0)
            self.set_font(look.FAMILY, "", SMALL)
            self.set_text_color(look.MUTED)
            words = look.drawable(f"{sheet.title}, {sheet.under}")
            room = self.epw - 24.0
            while self.get_string_width(words) > room and len(words) > 4:
                words = words[: -max(2, len(words) // 20)].rstrip() + "\N{HORIZONTAL ELLIPSIS}"
            self.cell(self.epw - 22.0, 4.0, words)
            self.cell(22.0, 4.0, f"{self.page_no()} / {{nb}}", align="R")

    pdf = Pages(orientation="portrait", unit="mm", format=paper)
    pdf.set_margin(MARGIN)
    pdf.set_auto_page_break(auto=True, margin=MARGIN + 4.0)
    for style in look.FONTS:
        pdf.add_font(look.FAMILY, style, look.font_path(style))
    pdf.set_title(look.drawable(f"{sheet.title}: {sheet.under}"))
    pdf.set_creator("Diaulos")
    pdf.set_lang("en")
    pdf.set_creation_date(_made(sheet.made_at))
    return pdf


def _made(text: str) -> datetime:
    try:
        made = datetime.fromisoformat(text)
    except ValueError:
        made = datetime(2000, 1, 1)
    return made if made.tzinfo is not None else made.replace(tzinfo=UTC)


def _heading(pdf: FPDF, sheet: Sheet) -> None:
    pdf.set_text_color(look.INK)
    pdf.set_font(look.FAMILY, "B", TITLE)
    pdf.multi_cell(0, 7.5, look.drawable(sheet.title), new_x="LMARGIN", new_y="NEXT")
    pdf.set_font(look.FAMILY, "", HEAD)
    pdf.multi_cell(0, 5.5, look.drawable(sheet.under), new_x="LMARGIN", new_y="NEXT")
    pdf.set_font(look.FAMILY, "", SMALL)
    pdf.set_text_color(look.MUTED)
    made = sheet.made_at.replace("T", " ")
    pdf.multi_cell(0, 4.5, look.drawable(made), new_x="LMARGIN", new_y="NEXT")


def _part(pdf: FPDF, part: Part) -> None:
    pdf.ln(GAP)
    if isinstance(part, Levels | Windows):
        high = pdf.epw * drawn_high(part) / WIDE
        if pdf.will_page_break(high + 8.0):
            pdf.add_page()
    elif pdf.will_page_break(24.0):
        pdf.add_page()
    if isinstance(part, Notices):
        _notices(pdf, part)
        return
    pdf.set_text_color(look.INK)
    pdf.set_font(look.FAMILY, "B", HEAD)
    pdf.multi_cell(0, 5.5, look.drawable(part.title), new_x="LMARGIN", new_y="NEXT")
    pdf.ln(0.8)
    pdf.set_font(look.FAMILY, "", BODY)
    if isinstance(part, Words):
        for line in part.lines:
            pdf.multi_cell(0, 4.6, look.drawable(line), new_x="LMARGIN", new_y="NEXT")
    elif isinstance(part, Levels | Windows):
        drawn = look.drawable(drawing(part))
        pdf.image(io.BytesIO(drawn.encode()), w=pdf.epw, alt_text=look.drawable(part.words))
        pdf.ln(1.0)
    elif part.rows:
        _table(pdf, part)
    else:
        pdf.set_text_color(look.MUTED)
        pdf.multi_cell(0, 4.6, look.drawable(part.empty), new_x="LMARGIN", new_y="NEXT")


def _notices(pdf: FPDF, part: Notices) -> None:
    """In a frame, ahead of everything."""
    first = pdf.get_y()
    page = pdf.page_no()
    pdf.set_text_color(look.DANGER)
    pdf.set_font(look.FAMILY, "B", HEAD)
    pdf.set_x(MARGIN + 2.0)
    pdf.cell(0, 6.5, look.drawable(part.title), new_x="LMARGIN", new_y="NEXT")
    pdf.set_text_color(look.INK)
    for title, text in part.lines:
        pdf.set_x(MARGIN + 2.0)
        pdf.set_font(look.FAMILY, "B", SMALL)
        pdf.write(4.2, look.drawable(f"{title}. "))
        pdf.set_font(look.FAMILY, "", SMALL)
        left = pdf.l_margin
        pdf.set_left_margin(MARGIN + 2.0)
        pdf.set_right_margin(MARGIN + 2.0)
        pdf.write(4.2, look.drawable(text))
        pdf.set_left_margin(left)
        pdf.set_right_margin(MARGIN)
        pdf.ln(5.0)
    if pdf.page_no() == page:
        pdf.set_draw_color(look.DANGER)
        pdf.set_line_width(0.5)
        pdf.rect(MARGIN, first, pdf.epw, pdf.get_y() - first)
        pdf.set_line_width(0.2)


def _table(pdf: FPDF, part: Rows) -> None:
    from fpdf.enums import TableBordersLayout, TableCellFillMode
    from fpdf.fonts import FontFace

    wide = part.wide or (1.0,) * len(part.head)
    aligns = ["RIGHT" if at in part.right else "LEFT" for at in range(len(part.head))]
    head, rows = part.head, part.rows
    if part.tick:
        wide, head = (TICK_WIDE, *wide), ("", *head)
        aligns = ["LEFT", *aligns]
    pdf.set_draw_color(look.LINE)
    pdf.set_font(look.FAMILY, "", SMALL)
    pdf.set_text_color(look.INK)
    with pdf.table(
        col_widths=tuple(wide),
        text_align=tuple(aligns),
        headings_style=FontFace(emphasis="BOLD", color=look.INK, fill_color=None),
        borders_layout=TableBordersLayout.HORIZONTAL_LINES,
        cell_fill_mode=TableCellFillMode.NONE,
        line_height=4.2,
        padding=(0.6, 1.5),
        width=pdf.epw,
    ) as table:
        line = table.row()
        for name in head:
            line.cell(look.drawable(name))
        for cells in rows:
            line = table.row()
            if part.tick:
                line.cell("\N{BALLOT BOX}" if 0x2610 in look.signs() else "[  ]")
            for cell in cells:
                line.cell(look.drawable(cell))
