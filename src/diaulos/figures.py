"""Figures as text, the same in window, shell and sheets: a real minus sign, a unit."""

from __future__ import annotations

import math
import re

MINUS = "\N{MINUS SIGN}"

TAP_WORDS = {
    "di": "dry DI",
    "printed": "printed after pedals",
    "amp": "amp, no cabinet",
    "cabinet": "amp and cabinet",
    "modeled": "modeled",
    "mic": "microphone",
}
"""A tap in words."""


def number(value: float, places: int = 1, *, sign: bool = False) -> str:
    """A level or a difference of levels; silence and the unknown as a dash."""
    if value <= -199.0:
        return "\N{EN DASH}"
    return plain(value, places, sign=sign)


def plain(value: float, places: int = 1, *, sign: bool = False) -> str:
    """A figure that is no level (samples, ms): all that is finite is told."""
    if not math.isfinite(value):
        return "\N{EN DASH}"
    text = f"{value:+.{places}f}" if sign else f"{value:.{places}f}"
    if float(text) == 0.0:
        text = ("\N{PLUS-MINUS SIGN}" if sign else "") + text.lstrip("+-")
    return text.replace("-", MINUS)


def typeset(text: str) -> str:
    """A sentence from the core with real minus signs."""
    return re.sub(r"(?<![\w.])-(?=\d)", MINUS, text)


def level(value: float, unit: str, places: int = 1) -> str:
    """A level with its unit."""
    return f"{number(value, places)} {unit}"


def counted(count: int, word: str) -> str:
    """A number of things: 1 clip, 2 clips, 2 passes."""
    more = "es" if word.endswith("s") else "s"
    return f"{count} {word}{'' if count == 1 else more}"


def clock(seconds: float) -> str:
    """Minutes and seconds."""
    return f"{int(seconds // 60)}:{seconds % 60:04.1f}"
