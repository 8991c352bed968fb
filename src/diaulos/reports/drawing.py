"""Drawings as SVG: the level diagram of a course, with the marks of the screen.

A drawing is one string without fonts of its own, scripts or links: HTML holds it as it is, PDF
draws it. Labels are placed by what they need: two never overlap.
"""

from __future__ import annotations

import math
from xml.sax.saxutils import escape, quoteattr

from diaulos.figures import number
from diaulos.reports import look
from diaulos.work.sheets.model import DrawnColumn, Levels

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


def level_svg(levels: Levels) -> str:
    """The diagram of a course. Same levels, same bytes."""
    low, high = _range(levels)
    scale = (HIGH - TOP - FOOT) / (high - low)

    def y(dbu: float) -> float:
        return round(TOP + (high - min(high, max(low, dbu))) * scale, 2)

    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE:g} {HIGH:g}" role="img"'
        f" aria-label={quoteattr(levels.words)} font-family={quoteattr(look.FAMILY)}>",
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


def _text(
    x: float, y: float, text: str, size: float, colour: str, anchor: str, *, bold: bool = False
) -> str:
    weight = ' font-weight="bold"' if bold else ""
    return (
        f'<text x="{x:.2f}" y="{y:.2f}" font-size="{size:g}" fill="{colour}"'
        f' text-anchor="{anchor}"{weight}>{escape(text)}</text>'
    )
