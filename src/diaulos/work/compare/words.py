"""What is said of two recordings: what differs, in a sentence, and whether they may be stacked."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.signal.difference import DEEPEST_DB, TRUSTED, Gain, Split
from diaulos.signal.stacking import Notch, Stacked
from diaulos.work.compare.pairs import Pair

Choice = Literal["stack", "move", "turn", "pan", "unknown"]

HEARD_LU, HEARD_SAMPLES, HEARD_TONE_DB = 0.05, 0.05, 0.1
LOSS_DB, HOLE_DB = -1.0, -6.0
"""From so much loss on a mono sum is warned of: the whole of it, and an octave where both play."""
WORTH_DB = 1.0
"""By so much a move or a turn has to better the sum to be asked for."""
EQUAL_DB = 3.01
LATE_SAMPLES = 1.0
UNSURE_DB, DEEP_DB = 3.0, -60.0
"""A rest whose ends lie so far apart is told by both, unless it lies so deep."""
PLAYED_DB = -30.0
"""Where the reference has less than this of its most, a difference in tone is not what is heard."""


@dataclass(frozen=True)
class Verdict:
    """Stack, move one into time first, turn one over first, or pan; and the same in words."""

    choice: Choice
    words: str


def difference_words(pair: Pair) -> str:
    """What differs, in one sentence: level, time, polarity, tone, rest."""
    found = []
    if pair.louder_lu is None:
        return "One of the two is silent."
    louder = pair.louder_lu
    if abs(louder) >= HEARD_LU:
        found.append(f"{number(abs(louder), 2)} dB {'louder' if louder > 0.0 else 'quieter'}")
    if pair.found is None:
        refused = pair.refused.rstrip(".")
        told = [*found, f"no common time: {refused[:1].lower()}{refused[1:]}"]
        return _sentence(told)
    late = pair.found.delay_samples
    if abs(late) >= HEARD_SAMPLES:
        figure = number(abs(late), 0 if abs(late) >= 10.0 else 2)
        found.append(f"{figure} samples {'late' if late > 0.0 else 'early'}")
    if pair.found.polarity < 0:
        found.append("turned over")
    if pair.split is not None:
        tone = largest_gain(pair.split)
        if tone is not None:
            found.append(tone)
    if not found:
        found.append("no difference in level, time, polarity and tone")
    return _sentence(found, pair.split)


def _sentence(found: list[str], split: Split | None = None) -> str:
    text = ", ".join(found)
    text = text[0].upper() + text[1:]
    if split is None or split.rest_db is None:
        return f"{text}."
    if split.rest_db <= DEEPEST_DB + 20.0:
        return f"{text}; nothing else is left."
    rest, least, most = split.rest_db, split.rest_least_db, split.rest_most_db
    side = "down" if rest <= 0.0 else "above"
    figure = number(abs(rest), 0)
    if least is not None and most is not None and DEEP_DB < most <= 0.0:
        if most - least > UNSURE_DB:
            # A filter that knew too little leaves too much of what it had not seen, and one that
            # rings with the notes explains distortion, too.
            figure = f"{number(abs(most), 0)} to {number(abs(max(least, DEEPEST_DB)), 0)}"
    return f"{text}; the rest lies {figure} dB {side}."


def largest_gain(split: Split) -> str | None:
    """Where the tone differs most, re the middle of it, where the figure can be trusted."""
    told = [one for one in split.response if one.coherence >= TRUSTED and one.power_db >= PLAYED_DB]
    if not told:
        return None
    most = max(told, key=lambda one: abs(one.db - split.louder_db))
    more = most.db - split.louder_db
    if abs(more) < HEARD_TONE_DB:
        return None
    return f"{number(abs(more), 1)} dB {'more' if more > 0.0 else 'less'} at {hertz_words(most.hz)}"


def tone_curve(split: Split) -> tuple[Gain, ...]:
    """The response with the level taken out: the equaliser between both."""
    return tuple(replace(one, db=one.db - split.louder_db) for one in split.response)


def hertz_words(hz: float) -> str:
    """A frequency as people say it."""
    if hz >= 1000.0:
        text = f"{hz / 1000.0:.{0 if hz >= 9950.0 else 1}f}".removesuffix(".0")
        return f"{text} kHz"
    return f"{round(hz / 10.0) * 10 if hz >= 100.0 else round(hz)} Hz"


def verdict_of(pair: Pair) -> Verdict:
    """Stack or pan."""
    sums = pair.stacked
    if sums is None:
        return Verdict("unknown", "nothing to judge: one of the two is silent")
    if pair.found is None:
        return _as_found(sums)
    if _fine(sums, sums.found_db, "found") and sums.found_db >= sums.in_time_db - WORTH_DB:
        return Verdict("stack", f"stack ({_of_three(sums.found_db)})")
    if not _fine(sums, sums.in_time_db, "in_time"):
        return Verdict("pan", f"pan: {_hole(sums)}")
    turned, late = pair.found.polarity < 0, abs(pair.found.delay_samples) >= LATE_SAMPLES
    found = f"({number(sums.found_db, 1, sign=True)} dB, then {_of_three(sums.in_time_db)})"
    if turned and late:
        return Verdict("turn", f"turn one and move it into time first {found}")
    if turned:
        return Verdict("turn", f"turn one first ({number(sums.found_db, 1, sign=True)} dB)")
    return Verdict("move", f"move into time first {found}")


def _as_found(sums: Stacked) -> Verdict:
    """Two that have no common time: played twice, or two parts."""
    if _fine(sums, sums.found_db, "found"):
        figure = number(sums.found_db, 1, sign=True)
        return Verdict("pan", f"pan: two performances ({figure} dB in mono)")
    return Verdict("pan", f"pan: {_hole(sums, 'found')}")


def _of_three(db: float) -> str:
    return f"{number(db, 1, sign=True)} of {number(EQUAL_DB, 1)} dB"


def _fine(sums: Stacked, whole_db: float, which: Literal["found", "in_time"]) -> bool:
    return whole_db >= LOSS_DB and all(
        (one.found_db if which == "found" else one.in_time_db) >= HOLE_DB
        for one in sums.octaves
        if one.plays
    )


def _hole(sums: Stacked, which: Literal["found", "in_time"] = "in_time") -> str:
    """The deepest hole where both play, else how much the whole loses."""
    notches: tuple[Notch, ...] = sums.in_time_notches if which == "in_time" else sums.notches
    deepest = min(notches, key=lambda one: one.db, default=None)
    if deepest is not None:
        return f"{number(-deepest.db, 0)} dB hole at {hertz_words(deepest.hz)}"
    octave = min(
        (one for one in sums.octaves if one.plays),
        key=lambda one: one.found_db if which == "found" else one.in_time_db,
        default=None,
    )
    if octave is not None:
        db = octave.found_db if which == "found" else octave.in_time_db
        if db < HOLE_DB:
            return f"{number(-db, 0)} dB hole around {hertz_words(octave.hz)}"
    whole = sums.found_db if which == "found" else sums.in_time_db
    return f"{number(whole, 1, sign=True)} dB in mono"
