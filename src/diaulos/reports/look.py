"""The look of what is printed: the day's ink on white, one pattern a tap, so that it stays readable
in black and white."""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from pathlib import Path

INK, MUTED, LINE, PAPER, RAISED = "#22303C", "#5B6670", "#CFC6B4", "#FFFFFF", "#F6F1E7"
DANGER, GOOD = "#A3003A", "#2E6B4F"
TAPS = {
    "di": "#1B5E8C", "printed": "#1B5E8C", "amp": "#A8471F", "cabinet": "#8A5A00",
    "modeled": "#5F6B14", "mic": "#7B3B6B",
}  # fmt: skip
DASHES = {
    "di": "", "printed": "", "amp": "6 3", "cabinet": "8 3 2 3", "modeled": "2 3",
    "mic": "8 3 2 3 2 3",
}  # fmt: skip
"""The same patterns as the lines on screen."""
FAMILY = "B612"
FONTS = {"": "B612-Regular.otf", "B": "B612-Bold.otf"}


def font_path(style: str) -> Path:
    """The file of a face of the shipped type, "" or "B" (bold): a file that the window ships, none
    of its code."""
    return Path(str(files("diaulos"))) / "app" / "fonts" / FONTS[style]


@cache
def font(style: str) -> bytes:
    """What is in it."""
    return font_path(style).read_bytes()


@cache
def signs() -> frozenset[int]:
    """The code points that the regular face has."""
    import io

    from fontTools.ttLib import TTFont

    return frozenset(TTFont(io.BytesIO(font("")), lazy=True).getBestCmap())


STAND_INS = {
    "\N{NO-BREAK SPACE}": " ", "\N{NON-BREAKING HYPHEN}": "-", "\N{ALMOST EQUAL TO}": "~",
    "\t": " ",
}  # fmt: skip


def drawable(text: str) -> str:
    """The text in signs that the shipped type has; what it lacks is drawn as a box with its code
    point, so that nothing is left out silently."""
    known = signs()
    out = []
    for sign in text:
        if ord(sign) in known or sign == "\n":
            out.append(sign)
        elif sign in STAND_INS:
            out.append(STAND_INS[sign])
        else:
            out.append(f"[U+{ord(sign):04X}]")
    return "".join(out)
