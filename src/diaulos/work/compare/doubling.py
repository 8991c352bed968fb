"""Double tracks: how far apart two players (or one twice) begin, and what of both is lost in mono.

Told in figures, never as a grade of the player.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from diaulos.errors import RefusedError
from diaulos.figures import counted, number
from diaulos.records import dataclass
from diaulos.signal.onsets import (
    Doubled,
    Heed,
    Paired,
    against_grid,
    compare_onsets,
    find_onsets,
    go_on,
)
from diaulos.signal.stacking import Stacked, stack
from diaulos.units import db_to_gain
from diaulos.work.compare.pairs import Side, loudness_of, spectrum_of
from diaulos.work.compare.placed import OctaveStep, octave_steps
from diaulos.work.compare.words import hertz_words

LEAST_ONSETS = 3


@dataclass(frozen=True)
class Spread:
    """Of differences in ms: their mean, their standard deviation, and the one farthest from 0."""

    mean_ms: float
    spread_ms: float
    worst: Paired


@dataclass(frozen=True)
class DoubleTrack:
    """Two tracks of one part: differences, level, what both together give. `tone` is the octave in
    which B differs most, at equal loudness; None where one of them is silent."""

    onsets: Doubled
    spread: Spread
    louder_lu: float | None
    stacked: Stacked | None
    tone: OctaveStep | None = None


@dataclass(frozen=True)
class ClickTrack:
    """One track of a part and a click."""

    lines: tuple[Paired, ...]
    spread: Spread


def spread_of(paired: Sequence[Paired]) -> Spread:
    """Mean, spread and worst; RefusedError where there is too little."""
    if len(paired) < LEAST_ONSETS:
        raise RefusedError(
            "too_few_onsets",
            f"{counted(len(paired), 'onset')} in common is too little to tell how tight they are.",
            remedy="Compare two recordings of one part, from the same bar; a dry DI tells best.",
        )
    late = np.array([one.late_ms for one in paired])
    worst = paired[int(np.argmax(np.abs(late)))]
    return Spread(float(late.mean()), float(late.std()), worst)


def compare_doubled(a: Side, b: Side, heed: Heed = go_on) -> DoubleTrack:
    """Hold one player against the other; `heed` is asked on the way, and may end it."""
    rate = float(a.rate_hz)
    count = min(a.samples.size, b.samples.size)
    one, other = a.samples[:count], b.samples[:count]
    onsets = compare_onsets(one, other, rate, heed)
    spread = spread_of(onsets.paired)
    lufs = loudness_of(a), loudness_of(b)
    louder = lufs[1] - lufs[0] if all(math.isfinite(value) for value in lufs) else None
    both = tone = None
    if louder is not None:
        level = db_to_gain(-louder) * other.astype(np.float64)
        both = stack(one, level, level, rate)
        steps = octave_steps(spectrum_of(one.astype(np.float64), level, rate))
        tone = max(
            (step for step in steps if step.db is not None),
            key=lambda step: abs(step.db or 0.0),
            default=None,
        )
    return DoubleTrack(onsets, spread, louder, both, tone)


def compare_with_click(
    a: Side, tempo_bpm: float, division: int, first_s: float, heed: Heed = go_on
) -> tuple[tuple[Paired, ...], Spread]:
    """Hold one player against a click: a grid of notes of `division` (8: eighths)."""
    onsets = find_onsets(a.samples, float(a.rate_hz), heed)
    step = 240.0 / tempo_bpm / division
    lines = against_grid(onsets, step, first_s)
    return lines, spread_of(lines)


def double_words(spread: Spread, other: str = "B") -> str:
    """In a sentence."""
    mean = spread.mean_ms
    side = "later" if mean >= 0.0 else "earlier"
    return (
        f"{other} begins {number(abs(mean), 1)} ms {side} on average, "
        f"\N{PLUS-MINUS SIGN}{number(spread.spread_ms, 1)} ms; "
        f"at most {number(abs(spread.worst.late_ms), 1)} ms, at {number(spread.worst.at_s, 2)} s."
    )


PAN_PLAN = "A hard left, B hard right, as loud; the middle stays for bass and voice."
"""Common practice, no source."""


def beside_words(found: DoubleTrack) -> str:
    """Level, tone, mono and width of two players, in a sentence."""
    told = []
    if found.louder_lu is not None:
        side = "louder" if found.louder_lu > 0.0 else "quieter"
        told.append(f"B is {number(abs(found.louder_lu), 1)} dB {side}")
    if found.tone is not None and found.tone.db is not None:
        side = "more" if found.tone.db > 0.0 else "less"
        told.append(
            f"has {number(abs(found.tone.db), 1)} dB {side} around {hertz_words(found.tone.hz)}"
        )
    if found.stacked is not None:
        mono, width = found.stacked.found_db, found.stacked.side_mid_db
        told.append(f"in mono both sum to {number(mono, 1, sign=True)} dB")
        told.append(f"panned hard the sides lie {number(width, 1, sign=True)} dB re the middle")
    text = ", ".join(told)
    return f"{text[:1].upper()}{text[1:]}." if text else "One of the two is silent."


def double_data(found: DoubleTrack) -> dict[str, Any]:
    """What the shell prints of two players."""
    sums = found.stacked
    return {
        "onsets": _rows(found.onsets.paired),
        **_spread(found.spread),
        "only_a_s": [round(at, 4) for at in found.onsets.only_a_s],
        "only_b_s": [round(at, 4) for at in found.onsets.only_b_s],
        "unsure_s": [round(one.at_s, 4) for one in found.onsets.unsure],
        "louder_db": None if found.louder_lu is None else round(found.louder_lu, 3),
        "mono_sum_db": None if sums is None else round(sums.found_db, 3),
        "side_mid_db": None if sums is None else round(sums.side_mid_db, 3),
        "words": double_words(found.spread),
    }


def click_data(lines: tuple[Paired, ...], spread: Spread) -> dict[str, Any]:
    """What the shell prints of one player and a click: the same keys, the rest null."""
    empty = dict.fromkeys(("louder_db", "mono_sum_db", "side_mid_db"))
    none: dict[str, list[float]] = {"only_a_s": [], "only_b_s": [], "unsure_s": []}
    return {
        "onsets": _rows(lines), **_spread(spread), **none, **empty,
        "words": double_words(spread, "The part"),
    }  # fmt: skip


def _rows(paired: Sequence[Paired]) -> list[dict[str, float]]:
    return [{"at_s": round(one.at_s, 4), "late_ms": round(one.late_ms, 3)} for one in paired]


def _spread(spread: Spread) -> dict[str, Any]:
    return {
        "mean_ms": round(spread.mean_ms, 3),
        "spread_ms": round(spread.spread_ms, 3),
        "worst_ms": round(spread.worst.late_ms, 3),
        "worst_at_s": round(spread.worst.at_s, 4),
    }
