"""What is said of the answers of a blind test. Honest: "not shown" is not "the same"."""

from __future__ import annotations

from diaulos.figures import number
from diaulos.signal.blind import BlindResult, Sequential, power

FOUND_RATE = 0.9
"""How often the listener is right of whom it is told how surely the test would have found them."""


def answer_words(result: BlindResult, first: str = "the first", second: str = "the second") -> str:
    """The answer of a fixed number of trials, in a sentence."""
    trials, right = result.trials, result.right
    abx = result.kind == "abx"
    score = f"{right} of {trials}" if abx else f"{right} of {trials} for {first}"
    if result.shown:
        p_value = p_words(result.p_value)
        if abx:
            return f"{score}, {p_value}: you hear a difference."
        preferred = first if 2 * right > trials else second
        return f"{score}, {p_value}: you prefer {preferred}."
    if result.needed is None:
        least = fewest_trials(result.kind)
        return (
            f"{score}: too few trials to show anything, even if all were "
            f"{'right' if abx else 'for one'}. Do {least} or more."
        )
    chance = round(100 * power(trials, FOUND_RATE, result.kind))
    who = "a listener right" if abx else "somebody who prefers one"
    return (
        f"{score}: not shown; {who} 9 times in 10 would have been found with {chance} %. "
        f"{result.needed} were needed."
    )


def sequential_words(trials: int, right: int, judged: Sequential, kind: str = "abx") -> str:
    """The answer of a test that is stopped when one likes."""
    abx = kind == "abx"
    score = f"{right} of {trials}" if abx else f"{right} of {trials} for the first"
    if judged.shown:
        what = "you hear a difference" if abx else "you prefer one"
        return f"{score}, {number(min(judged.odds, 1e6), 0)} to 1: {what}."
    return (
        f"{score}: not shown yet ({number(judged.odds, 1)} to 1, "
        f"{number(judged.enough, 0)} are needed). Not shown is not the same as equal."
    )


def p_words(p_value: float) -> str:
    """A p-value as it is printed."""
    if p_value < 0.001:
        return "p < 0.001"
    return f"p = {number(p_value, 3 if p_value < 0.01 else 2)}"


def fewest_trials(kind: str) -> int:
    """So many trials at least can show anything at 5 %."""
    return 5 if kind == "abx" else 6
