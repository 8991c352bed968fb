"""A sheet as one HTML file: type and drawings inside, no script, nothing fetched."""

from __future__ import annotations

import base64
from importlib.resources import files
from typing import TYPE_CHECKING

from diaulos.reports import look
from diaulos.reports.drawing import drawing
from diaulos.work.sheets.model import Levels, Notices, Rows, Sheet, Windows, Words

if TYPE_CHECKING:
    from jinja2 import Environment, Template


def html_sheet(sheet: Sheet) -> str:
    """The whole sheet. What comes from a session is text, whatever it looks like."""
    from jinja2 import Environment, StrictUndefined
    from markupsafe import Markup

    room = Environment(autoescape=True, undefined=StrictUndefined, keep_trailing_newline=True)
    room.tests["notices"] = lambda part: isinstance(part, Notices)
    room.tests["words"] = lambda part: isinstance(part, Words)
    room.tests["drawn"] = lambda part: isinstance(part, Levels | Windows)
    room.tests["rows"] = lambda part: isinstance(part, Rows)
    style = _text(room, "sheet.css").render(
        regular=base64.b64encode(look.font("")).decode(),
        bold=base64.b64encode(look.font("B")).decode(),
        look=look,
    )
    return _text(room, "sheet.html").render(
        sheet=sheet, style=Markup(style), drawing=lambda part: Markup(drawing(part))
    )


def _text(room: Environment, name: str) -> Template:
    return room.from_string((files(__package__) / name).read_text("utf-8"))
