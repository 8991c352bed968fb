"""Drawings as SVG: the level diagram of a course and level windows, with the marks of the screen.

A drawing is one string without fonts of its own, scripts or links: HTML holds it as it is, PDF
draws it. Labels are placed by what they need: two never overlap.
"""

from __future__ import annotations

import math
from xml.sax.saxutils import escape, quoteattr

from diaulos.figures import level, number
from diaulos.reports import look
from diaulos.units import LOWEST_DB
from diaulos.work.sheets.model import Drawn, DrawnColumn, Levels, Window, Windows

WIDE, HIGH = 760.0, 290.0
LEFT, RIGHT, TOP, FOOT = 44.0, 8.0, 12.0, 74.0
STEP_DB = 20.0
SPARE_DB = 6.0
LEAST_DB = -120.0
WELL = 0.62
"""Share of a column that its well takes."""
LETTER = 0.56
"""Width of a letter re its height, as the shipped type has it on average."""
LABEL, FIGURE = 8.5, 9.0
WINDOW_HIGH, BAR_LEFT = 46.0, 190.0
CLIPS_WITHIN_DB = 0.05
"""As on screen: what has no more room than that clips."""


def drawing(drawn: Drawn) -> str:
    """What is drawn on a sheet, as SVG."""
    return level_svg(drawn) if isinstance(drawn, Levels) else windows_svg(drawn)


def drawn_high(drawn: Drawn) -> float:
    """How high a drawing is that is `WIDE` wide."""
    return HIGH if isinstance(drawn, Levels) else WINDOW_HIGH * len(drawn.windows) + 2.0


def windows_svg(windows: Windows) -> str:
    """Level windows beneath each other: the bars of the screen. Same windows, same bytes."""
    high = drawn_high(windows)
    parts = [_head(high, windows.words)]
    for at, one in enumerate(windows.windows):
        parts += _window(one, WINDOW_HIGH * at)
    parts.append("</svg>")
    return "".join(parts)


def _head(high: float, words: str) -> str:
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE:g} {high:g}" role="img"'
        f" aria-label={quoteattr(words)} font-family={quoteattr(look.FAMILY)}>"
    )


def _window(one: Window, top: float) -> list[str]:
    """From the noise floor to the clip point of the place: typical level a bar, loudest peak a
    line, target a bracket, what is left written out."""
    figures = one.figures
    low, high = figures.span()
    left, right, bar = BAR_LEFT, WIDE - RIGHT, top + 19.0

    def x(value: float) -> float:
        return left + min(1.0, max(0.0, (value - low) / (high - low))) * (right - left)

    headroom = figures.headroom_db
    clips = headroom is not None and headroom <= CLIPS_WITHIN_DB
    colour = look.DANGER if clips else look.TAPS.get(one.tap, look.INK)
    peak = x(figures.peak)
    parts = [
        *_mark(one.tap, 2.0, bar - 4.0),
        _text(22.0, bar + 8.0, _fit(one.name, left - 30.0, FIGURE), FIGURE, look.INK, "start"),
        _box(left, bar, right - left, 10.0, look.PAPER, look.MUTED),
        _box(left, bar + 2.5, x(figures.typical) - left, 5.0, colour, "none"),
    ]
    if figures.target is not None:
        for level_dbfs, inward in zip(figures.target, (3.0, -3.0), strict=True):
            at = x(level_dbfs)
            parts.append(_line(at, bar - 3.0, at, bar + 10.0, look.INK, 1.5))
            parts.append(_line(at, bar - 3.0, at + inward, bar - 3.0, look.INK, 1.5))
    parts.append(_line(peak, bar - 4.0, peak, bar + 12.0, colour, 2.5))
    told = level(figures.peak, figures.unit)
    parts.append(_text(left, bar - 6.0, f"{told} peak", FIGURE, look.INK, "start", bold=True))
    if clips:
        parts.append(_box(right - 44.0, bar - 16.0, 44.0, 12.0, look.DANGER, "none"))
        parts.append(_text(right - 22.0, bar - 7.0, "CLIPS", LABEL, look.PAPER, "middle",
                           bold=True))  # fmt: skip
    foot = bar + 21.0
    if figures.floor > LOWEST_DB:
        floor = f"noise {level(figures.floor, figures.unit, 0)}"
        parts.append(_text(left, foot, floor, LABEL, look.MUTED, "start"))
    room = "no limit" if headroom is None else f"{number(headroom)} dB left"
    parts.append(_text(right, foot, room, LABEL, look.MUTED, "end"))
    return parts


def _mark(tap: str, x: float, y: float) -> list[str]:
    """The tap's mark in a square of 14, as on screen: a dash at a post, a dash between posts, a
    wedge, a notched box, a ring, a half disc."""
    colour = look.TAPS.get(tap)
    if colour is None:
        return []
    middle, right, foot = x + 7.0, x + 14.0, y + 14.0
    if tap in ("di", "printed"):
        posts = [_line(x, y, x, foot, colour, 3.0)]
        if tap == "printed":
            posts.append(_line(right, y, right, foot, colour, 3.0))
        return [_line(x, y + 7.0, right, y + 7.0, colour, 3.0), *posts]
    if tap == "amp":
        points = f"{x:g},{y:g} {right:g},{y + 5:g} {x:g},{foot:g} {x + 3:g},{y + 7:g}"
        return [f'<polygon points="{points}" fill="{colour}"/>']
    if tap == "cabinet":
        return [_box(x, y, 14.0, 14.0, "none", colour, 2.0),
                _line(x, y, right, foot, colour, 2.0)]  # fmt: skip
    if tap == "modeled":
        return [
            f'<circle cx="{middle:g}" cy="{y + 7:g}" r="7" fill="none" stroke="{colour}"'
            ' stroke-width="2"/>',
            f'<circle cx="{middle:g}" cy="{y + 7:g}" r="1" fill="{colour}"/>',
        ]
    return [
        f'<path d="M {x:g} {y + 7:g} A 7 7 0 0 1 {right:g} {y + 7:g} Z" fill="{colour}"/>',
        _line(middle, y + 7.0, middle, foot, colour, 2.0),
    ]


def level_svg(levels: Levels) -> str:
    """The diagram of a course. Same levels, same bytes."""
    low, high = _range(levels)
    scale = (HIGH - TOP - FOOT) / (high - low)

    def y(dbu: float) -> float:
        return round(TOP + (high - min(high, max(low, dbu))) * scale, 2)

    parts = [
        _head(HIGH, levels.words),
        *_axis(low, high, y),
    ]
    if levels.columns:
        step = (WIDE - LEFT - RIGHT) / len(levels.columns)
        middles = [LEFT + step * (at + 0.5) for at in range(len(levels.columns))]
        half = 0.5 * WELL * step
        for column, x in zip(levels.columns, middles, strict=True):
            parts += _well(column, x, half, y, low)
        if levels.target_dbu is not None:
            at = y(levels.target_dbu)
            parts.append(_line(middles[-1] - half, at, middles[-1] + half, at, look.GOOD, 2.0))
        parts += _ribbon(levels, middles, half, y)
        for at, (column, x) in enumerate(zip(levels.columns, middles, strict=True)):
            parts += _labels(column, x, step, y, low, odd=bool(at % 2))
    parts.append("</svg>")
    return "".join(parts)


def _range(levels: Levels) -> tuple[float, float]:
    tops = [one.peak_dbu for one in levels.columns]
    tops += [one.ceiling_dbu for one in levels.columns if one.ceiling_dbu is not None]
    floors = [one.noise_dbu for one in levels.columns if one.noise_dbu is not None]
    floors += [one.typical_dbu for one in levels.columns]
    high = STEP_DB * math.ceil((max(tops, default=20.0) + SPARE_DB) / STEP_DB)
    low = STEP_DB * math.floor(max(LEAST_DB, min(floors, default=-100.0)) / STEP_DB)
    return min(low, high - STEP_DB), high


def _axis(low: float, high: float, y) -> list[str]:  # type: ignore[no-untyped-def]
    parts = []
    dbu = low
    while dbu <= high + 0.1:
        at = y(dbu)
        parts.append(_line(LEFT, at, WIDE - RIGHT, at, look.LINE, 0.6))
        parts.append(_text(LEFT - 6.0, at + 3.0, number(dbu, 0), LABEL, look.MUTED, "end"))
        dbu += STEP_DB
    parts.append(_text(2.0, TOP - 3.0, "dBu", LABEL, look.MUTED, "start"))
    return parts


def _well(column: DrawnColumn, x: float, half: float, y, low: float) -> list[str]:  # type: ignore[no-untyped-def]
    """Floor to ceiling of a station; the noise a hatch beneath."""
    top = y(column.ceiling_dbu) if column.ceiling_dbu is not None else TOP
    bottom = y(low)
    parts = [
        f'<rect x="{x - half:.2f}" y="{top:.2f}" width="{2 * half:.2f}"'
        f' height="{bottom - top:.2f}" fill="{look.RAISED}" stroke="{look.LINE}"/>'
    ]
    if column.ceiling_dbu is not None:
        colour = look.DANGER if column.clips else look.INK
        parts.append(_line(x - half, top, x + half, top, colour, 2.4 if column.clips else 1.6))
    if column.noise_dbu is not None:
        floor = y(column.noise_dbu)
        parts.append(_line(x - half, floor, x + half, floor, look.MUTED, 1.0, "2 2"))
    return parts


def _ribbon(levels: Levels, middles: list[float], half: float, y) -> list[str]:  # type: ignore[no-untyped-def]
    """From the typical level to the loudest peak, through all stations."""
    upper, lower = [], []
    for column, x in zip(levels.columns, middles, strict=True):
        for place in (x - half, x + half):
            upper.append(f"{place:.2f},{y(column.peak_dbu):.2f}")
            lower.append(f"{place:.2f},{y(column.typical_dbu):.2f}")
    colour, dash = look.TAPS.get(levels.tap, look.INK), look.DASHES.get(levels.tap, "")
    dashes = f' stroke-dasharray="{dash}"' if dash else ""
    return [
        f'<polygon points="{" ".join([*upper, *reversed(lower)])}" fill="{colour}"'
        ' fill-opacity="0.25" stroke="none"/>',
        f'<polyline points="{" ".join(upper)}" fill="none" stroke="{colour}"'
        f' stroke-width="2"{dashes}/>',
    ]


def _labels(column: DrawnColumn, x: float, step: float, y, low: float, *, odd: bool) -> list[str]:  # type: ignore[no-untyped-def]
    """Peak above the ribbon, or inside the well where the ceiling is near; the names beneath, in
    every other column a little lower, so that two never meet."""
    peak = y(column.peak_dbu)
    above = peak - 4.0
    ceiling = y(column.ceiling_dbu) if column.ceiling_dbu is not None else TOP
    if above - FIGURE < TOP or above - FIGURE - 2.0 < ceiling < above + 2.0:
        above = y(column.typical_dbu) + FIGURE + 4.0
    colour = look.DANGER if column.clips else look.INK
    parts = [_text(x, above, _fit(column.peak, step, FIGURE), FIGURE, colour, "middle", bold=True)]
    room = step * (2.0 if step < 90.0 else 1.0) - 4.0
    base = y(low) + 13.0 + (30.0 if odd and step < 90.0 else 0.0)
    for at, (text, tone) in enumerate(
        ((column.device, look.INK), (column.place, look.MUTED), (column.room, colour))
    ):
        if text:
            fitted = _fit(text, room, LABEL)
            parts.append(_text(x, base + 9.5 * at, fitted, LABEL, tone, "middle"))
    return parts


def _fit(text: str, wide: float, size: float) -> str:
    most = max(3, int(wide / (LETTER * size)))
    return text if len(text) <= most else text[: most - 1].rstrip() + "\N{HORIZONTAL ELLIPSIS}"


def _line(
    x1: float, y1: float, x2: float, y2: float, colour: str, wide: float, dash: str = ""
) -> str:
    dashes = f' stroke-dasharray="{dash}"' if dash else ""
    return (
        f'<line x1="{x1:.2f}" y1="{y1:.2f}" x2="{x2:.2f}" y2="{y2:.2f}" stroke="{colour}"'
        f' stroke-width="{wide:g}"{dashes}/>'
    )


def _box(
    x: float, y: float, wide: float, high: float, fill: str, stroke: str, thick: float = 1.0
) -> str:
    return (
        f'<rect x="{x:.2f}" y="{y:.2f}" width="{max(0.0, wide):.2f}" height="{high:.2f}"'
        f' fill="{fill}" stroke="{stroke}" stroke-width="{thick:g}"/>'
    )


def _text(
    x: float, y: float, text: str, size: float, colour: str, anchor: str, *, bold: bool = False
) -> str:
    weight = ' font-weight="bold"' if bold else ""
    return (
        f'<text x="{x:.2f}" y="{y:.2f}" font-size="{size:g}" fill="{colour}"'
        f' text-anchor="{anchor}"{weight}>{escape(text)}</text>'
    )
