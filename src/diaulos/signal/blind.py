"""The arithmetic of blind tests: was a difference heard, or could it be luck?

Conventions
- ABX: X is one of the two, and whoever guesses is right one time in two. One-sided: only more
  right answers than luck gives tell that a difference is heard.
- Preference: either of the two may be liked better. Two-sided.
- A fixed number of trials is judged by the exact binomial test. Whoever stops when they like is
  judged by a mixture over all rates (uniform prior): its ratio to luck is over 20 in at most 5 % of
  all tests of a guesser, however often it is looked at (Ville's inequality, from memory).

Statistics by SciPy.
"""

from __future__ import annotations

import math
from typing import Literal

from diaulos.errors import InputError
from diaulos.records import dataclass

Kind = Literal["abx", "preference"]

LEVEL = 0.05
CONFIDENCE = 0.95
ODDS = 1.0 / LEVEL
RATES = (0.6, 0.7, 0.75, 0.8, 0.9, 0.95)
"""How often a listener might be right: what a test could find is told for each."""
MOST_TRIALS = 10_000


@dataclass(frozen=True)
class Chance:
    """How likely a test finds a listener who is right (or prefers the one) so often."""

    rate: float
    power: float


@dataclass(frozen=True)
class Sequential:
    """The test that stays valid at every look: how much likelier the answers are with a difference
    than by luck, and whether that is enough (20 to 1)."""

    odds: float
    enough: float
    shown: bool

    @property
    def p_value(self) -> float:
        """A p-value that holds whenever one stops."""
        return min(1.0, 1.0 / self.odds) if self.odds > 0.0 else 1.0


@dataclass(frozen=True)
class BlindResult:
    """What the answers of a blind test say. `interval` is the exact one (95 %) of the rate of right
    answers; `needed` the least number that shows a difference, None where the test is too short."""

    kind: Kind
    trials: int
    right: int
    p_value: float
    interval: tuple[float, float]
    needed: int | None
    shown: bool
    power_at: tuple[Chance, ...]
    sequential: Sequential


def judge(trials: int, right: int, kind: Kind = "abx") -> BlindResult:
    """What a blind test's answers say.

    Parameters
    ----------
    trials
        How many were answered, 1 to 10 000.
    right
        How many were right; of a preference, how often the first was preferred.
    kind
        "abx" (one-sided) or "preference" (two-sided).

    Returns
    -------
    The result.

    Raises
    ------
    InputError
        For counts that cannot be.

    Examples
    --------
    >>> found = judge(16, 12)
    >>> (round(found.p_value, 3), found.needed, found.shown)
    (0.038, 12, True)
    """
    from scipy import stats

    _require(trials, right)
    side = "greater" if kind == "abx" else "two-sided"
    p_value = float(stats.binomtest(right, trials, 0.5, alternative=side).pvalue)
    exact = stats.binomtest(right, trials, 0.5).proportion_ci(CONFIDENCE, "exact")
    least = needed(trials, kind)
    return BlindResult(
        kind=kind,
        trials=trials,
        right=right,
        p_value=p_value,
        interval=(float(exact.low), float(exact.high)),
        needed=least,
        shown=p_value <= LEVEL,
        power_at=tuple(Chance(rate, power(trials, rate, kind)) for rate in RATES),
        sequential=sequential(trials, right, kind),
    )


def needed(trials: int, kind: Kind = "abx") -> int | None:
    """The least number of right answers that shows a difference.

    Parameters
    ----------
    trials
        How many trials, 1 or more.
    kind
        "abx" or "preference".

    Returns
    -------
    The number; None where not even all of them do.

    Examples
    --------
    >>> [needed(trials) for trials in (4, 10, 16, 25, 40)]
    [None, 9, 12, 18, 26]
    """
    from scipy import stats

    _require(trials, 0)
    tail = LEVEL if kind == "abx" else LEVEL / 2.0
    # sf(k - 1) = P(at least k); isf only says about where.
    least = max(0, int(stats.binom.isf(tail, trials, 0.5)) - 1)
    while least <= trials and float(stats.binom.sf(least - 1, trials, 0.5)) > tail:
        least += 1
    return least if least <= trials else None


def power(trials: int, rate: float, kind: Kind = "abx") -> float:
    """How likely a fixed number of trials shows what a listener hears.

    Parameters
    ----------
    trials
        How many trials, 1 or more.
    rate
        How often the listener is right, 0 to 1.
    kind
        "abx" or "preference".

    Returns
    -------
    A probability; 0 where no number of right answers would do.

    Examples
    --------
    >>> round(power(16, 0.7), 2)
    0.45
    """
    from scipy import stats

    least = needed(trials, kind)
    if least is None:
        return 0.0
    found = float(stats.binom.sf(least - 1, trials, rate))
    if kind == "preference":
        found += float(stats.binom.cdf(trials - least, trials, rate))
    return min(1.0, found)


def sequential(trials: int, right: int, kind: Kind = "abx") -> Sequential:
    """The test that stays valid at every look.

    Parameters
    ----------
    trials
        How many were answered so far, 0 or more.
    right
        How many of them were right.
    kind
        "abx" (shown only when more than half are right) or "preference".

    Returns
    -------
    The odds so far. ln odds = ln B(k + 1, n - k + 1) + n ln 2.

    Examples
    --------
    >>> [sequential(9, 9).shown, sequential(4, 4).shown, sequential(9, 0).shown]
    [True, False, False]
    """
    if trials == 0:
        return Sequential(1.0, ODDS, False)
    _require(trials, right)
    wrong = trials - right
    log_odds = (
        math.lgamma(right + 1) + math.lgamma(wrong + 1) - math.lgamma(trials + 2)
    ) + trials * math.log(2.0)
    odds = math.exp(min(log_odds, 700.0))
    above = kind == "preference" or 2 * right > trials
    return Sequential(odds, ODDS, above and log_odds >= math.log(ODDS))


def _require(trials: int, right: int) -> None:
    if not 1 <= trials <= MOST_TRIALS:
        raise InputError(
            f"a blind test has 1 to {MOST_TRIALS} trials, not {trials}.",
            where="trials",
            remedy="Give the number of trials that were answered.",
        )
    if not 0 <= right <= trials:
        raise InputError(
            f"of {trials} answers {right} cannot be right.",
            where="right",
            remedy=f"Give a number from 0 to {trials}.",
        )
