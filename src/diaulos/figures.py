"""Figures as text, the same in window, shell and sheets: a real minus sign, a unit."""

from __future__ import annotations

import math
import re

from diaulos.records import dataclass

MINUS = "\N{MINUS SIGN}"

LOWEST_SPAN_DB = 30.0
"""A level window shows at least that much below the clip point."""

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
    """A number of things: 1 clip, 2 clips, 2 passes, 2 entries."""
    if count == 1:
        return f"{count} {word}"
    if word.endswith("y"):
        return f"{count} {word[:-1]}ies"
    return f"{count} {word}{'es' if word.endswith('s') else 's'}"


def clock(seconds: float) -> str:
    """Minutes and seconds."""
    return f"{int(seconds // 60)}:{seconds % 60:04.1f}"


@dataclass(frozen=True)
class LevelFigures:
    """What a level window shows, on screen and on a sheet, all in one unit. `ceiling` None:
    nothing clips here."""

    unit: str
    floor: float
    ceiling: float | None
    peak: float
    typical: float
    target: tuple[float, float] | None = None

    @property
    def headroom_db(self) -> float | None:
        """From the loudest peak to the clip point."""
        return None if self.ceiling is None else self.ceiling - self.peak

    def span(self) -> tuple[float, float]:
        """Levels at the left and right end of the bar."""
        top = self.ceiling if self.ceiling is not None else self.peak + 12.0
        bottom = max(self.floor, top - 140.0)
        return min(bottom, top - LOWEST_SPAN_DB), top

    def words(self) -> str:
        """The same in words, for those who do not see it."""
        text = f"peak {level(self.peak, self.unit)}, typical {level(self.typical, self.unit)}"
        text += f", noise floor {level(self.floor, self.unit, 0)}"
        headroom = self.headroom_db
        if headroom is None:
            return text + ", nothing clips here"
        if headroom <= 0.0:
            return text + ", clips"
        return text + f", headroom {number(headroom)} dB"
