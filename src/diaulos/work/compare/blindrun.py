"""A blind test under way: what X is, what was answered, and nothing that betrays it.

The order is drawn trial by trial by whoever is handed in (a secure source), and is told only when
the test has ended; so is how many were right.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from diaulos.records import dataclass
from diaulos.session.compared import BlindSide, BlindTest, BlindTrial
from diaulos.signal.blind import Kind, judge, needed, power, sequential
from diaulos.tables import TextTable
from diaulos.work.compare.answers import FOUND_RATE, answer_words, sequential_words

Letter = Literal["a", "b"]
Button = Literal["a", "b", "x", "1", "2"]
Draw = Callable[[int], int]
"""A number below the one given, unforeseeable."""

USUAL_TRIALS = 16
PAUSE_AFTER = 16
"""So many trials on end tire the ears: a pause is proposed (common practice, no source)."""


@dataclass(frozen=True)
class BlindPlan:
    """What is tested: ABX or preference, of so many trials, or (0) until somebody stops it."""

    kind: Kind
    planned: int
    a: BlindSide
    b: BlindSide
    first: int = 0
    last: int = 0


class BlindRun:
    """One test from its first trial to its last answer."""

    def __init__(self, plan: BlindPlan, draw: Draw) -> None:
        self.plan = plan
        self._draw = draw
        self._trials: list[BlindTrial] = []
        self._was: Letter = "a"
        self._next()

    def _next(self) -> None:
        self._was = "b" if self._draw(2) else "a"

    @property
    def number(self) -> int:
        """Of the trial that is asked now, from 1."""
        return len(self._trials) + 1

    @property
    def answered(self) -> int:
        """How many were answered."""
        return len(self._trials)

    @property
    def ended(self) -> bool:
        """Whether the planned trials are done."""
        return self.plan.planned > 0 and len(self._trials) >= self.plan.planned

    @property
    def pause_due(self) -> bool:
        """Whether a pause is proposed now."""
        return self.answered > 0 and self.answered % PAUSE_AFTER == 0 and not self.ended

    def heard(self, button: Button) -> Letter:
        """Which of the two a button plays. Of a preference 1 is what was drawn to come first."""
        if button in ("a", "b"):
            return button
        if button == "2":
            return "b" if self._was == "a" else "a"
        return self._was

    def answer(self, button: Button) -> None:
        """X is A or B; or 1 or 2 is preferred."""
        self._trials.append(BlindTrial(was=self._was, answer=self.heard(button)))
        self._next()

    def take_back(self) -> None:
        """The last answer was a slip: it is asked again, drawn anew."""
        if self._trials:
            self._trials.pop()
            self._next()

    def record(self, ident: str, made_at: str) -> BlindTest:
        """The test as it is kept."""
        plan = self.plan
        return BlindTest(
            id=ident, made_at=made_at, kind=plan.kind, planned=plan.planned, a=plan.a, b=plan.b,
            first=plan.first, last=plan.last, trials=tuple(self._trials),
        )  # fmt: skip


def beforehand(kind: Kind, trials: int) -> str:
    """What a number of trials can find, told before it begins."""
    if trials == 0:
        return (
            "Stop when you like: the test stays valid at every look. Somebody right 9 times in 10 "
            "is found after about 12 trials, 3 in 4 after about 28."
        )
    least = needed(trials, kind)
    if least is None:
        return f"{trials} trials are too few to show anything."
    chance = round(100 * power(trials, FOUND_RATE, kind))
    weak = round(100 * power(trials, 0.7, kind))
    what = "right answers show a difference" if kind == "abx" else "for one show a preference"
    return (
        f"{least} of {trials} {what}. Somebody who is right 9 times in 10 is found with "
        f"{chance} %, 7 in 10 with {weak} %."
    )


def result_words(test: BlindTest) -> str:
    """What a finished test says."""
    trials = len(test.trials)
    if not trials:
        return "Nothing was answered."
    if test.planned and trials >= test.planned:
        return answer_words(judge(trials, test.right, test.kind), test.a.name, test.b.name)
    if test.planned:
        # Whoever stops early chose when: only the test that allows it may speak.
        return "Stopped early. " + sequential_words(
            trials, test.right, sequential(trials, test.right, test.kind), test.kind
        )
    return sequential_words(
        trials, test.right, sequential(trials, test.right, test.kind), test.kind
    )


def trials_table(test: BlindTest) -> TextTable:
    """Every trial of a test, and what was heard, for CSV."""
    sides = (test.a, test.b)
    rows = []
    for count, one in enumerate(test.trials, start=1):
        right = ("yes" if one.right else "no") if test.kind == "abx" else ""
        rows.append((str(count), one.was.upper(), one.answer.upper(), right))
    about = [
        ("made at", test.made_at, "", ""),
        ("kind", test.kind, "", ""),
        ("planned", str(test.planned), "", ""),
        *(
            (letter, side.name, side.file, f"{side.gain_db:.3f} dB")
            for letter, side in zip("AB", sides, strict=True)
        ),
    ]
    return TextTable(("trial", "was", "answer", "right"), tuple(rows + about))
