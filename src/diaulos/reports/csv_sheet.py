"""A sheet as CSV: part after part, each under its title."""

from __future__ import annotations

from diaulos.figures import level
from diaulos.tables import csv_text
from diaulos.work.sheets.model import Levels, Notices, Part, Rows, Sheet, Windows, Words


def csv_sheet(sheet: Sheet) -> str:
    """All parts of a sheet; what a spreadsheet would execute is text."""
    blocks = [csv_text((sheet.title, sheet.under, sheet.made_at), [])]
    if sheet.note:
        blocks.append(csv_text(("Note",), [(line,) for line in sheet.note.splitlines()]))
    for part in sheet.parts:
        blocks.append(csv_text((part.title,), []) + _block(part))
    return "\n".join(blocks)


def _block(part: Part) -> str:
    if isinstance(part, Rows):
        head = ("Done", *part.head) if part.tick else part.head
        rows = [("", *row) if part.tick else row for row in part.rows]
        return csv_text(head, rows) if rows else csv_text((part.empty,), [])
    if isinstance(part, Notices):
        return csv_text(("Notice", "Text"), part.lines)
    if isinstance(part, Words):
        return csv_text(("",), [(line,) for line in part.lines]).removeprefix('""\n').lstrip("\n")
    if isinstance(part, Windows):
        return csv_text(
            ("Name", "Peak", "Typical", "Noise", "Clips at"),
            [
                (
                    one.name, level(one.figures.peak, one.figures.unit),
                    level(one.figures.typical, one.figures.unit),
                    level(one.figures.floor, one.figures.unit),
                    "" if one.figures.ceiling is None
                    else level(one.figures.ceiling, one.figures.unit),
                )
                for one in part.windows
            ],
        )  # fmt: skip
    assert isinstance(part, Levels)
    head = ("Device", "Place", "Peak", "Typical, dBu", "Noise, dBu", "Ceiling, dBu", "Room")
    return csv_text(
        head,
        [
            (
                one.device, one.place, one.peak, f"{one.typical_dbu:.1f}",
                "" if one.noise_dbu is None else f"{one.noise_dbu:.1f}",
                "" if one.ceiling_dbu is None else f"{one.ceiling_dbu:.1f}", one.room,
            )
            for one in part.columns
        ],
    )  # fmt: skip
