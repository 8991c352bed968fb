"""Tables as text, and the one place that writes CSV.

CSV after RFC 4180 (from memory), with line feeds. Spreadsheets take text that begins with =,
+, -, @, a tab or a carriage return for a formula: such text gets an apostrophe ahead of it,
unless it is a number.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from diaulos.records import dataclass

FORMULA = ("=", "+", "-", "@", "\t", "\r")


@dataclass(frozen=True)
class TextTable:
    """Headers and rows of text, as they are shown, printed and copied."""

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]

    def csv(self) -> str:
        """As CSV."""
        return csv_text(self.head, self.rows)


def csv_text(head: Sequence[str], rows: Iterable[Sequence[str | float]]) -> str:
    """Headers and rows as CSV that a spreadsheet shows and does not execute."""
    return "".join(f"{_line(row)}\n" for row in (head, *rows))


def _line(row: Sequence[str | float]) -> str:
    text = io.StringIO(newline="")
    # Ended by both characters, so that a cell with either of them is quoted.
    csv.writer(text, lineterminator="\r\n").writerow([spreadsheet_safe(cell) for cell in row])
    return text.getvalue().removesuffix("\r\n")


def spreadsheet_safe(cell: str | float) -> str:
    """A cell's text, with an apostrophe ahead of what a spreadsheet would execute."""
    text = str(cell)
    if text.lstrip(" ").startswith(FORMULA) and not _is_number(text):
        return f"'{text}"
    return text


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True
