"""How small a difference somebody hears: an adaptive threshold with its interval.

Conventions
- A trial plays three sounds, one of which differs by a magnitude; who guesses is right in a third
  of them. Magnitudes are positive, and thresholds are on a logarithmic scale.
- The threshold is the magnitude at the middle of the psychometric function
  p(x) = guess + (1 - guess - lapse) / (1 + (t / x)^slope): there two of three answers are right,
  lapses aside. Slope and threshold are both unknown; what is believed of them is kept on a grid and
  moved by every answer (Bayes), and the next magnitude is where an answer is expected to tell most
  (Kontsevich and Tyler, Vision Research 39, 1999, from memory).
"""

from __future__ import annotations

from dataclasses import field

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.records import dataclass

Real = NDArray[np.float64]

GUESS, LAPSE = 1.0 / 3.0, 0.02
SLOPES = (1.5, 2.2, 3.2, 4.6, 6.6)
POINTS, TRIED = 161, 41
MOST_TRIALS = 60
LEAST_TRIALS = 20
CLOSE = 1.25
"""Enough is known when the interval's ends are within so much of the threshold."""


def heard(magnitude: Real | float, threshold: Real | float, slope: Real | float) -> Real:
    """Chance of a right answer.

    Parameters
    ----------
    magnitude
        Of the difference, above 0.
    threshold
        The listener's, in the same unit.
    slope
        How quickly hearing sets in.

    Returns
    -------
    From a third to 0.98.
    """
    ratio = np.asarray(threshold, np.float64) / magnitude
    return np.asarray(GUESS + (1.0 - GUESS - LAPSE) / (1.0 + ratio**slope))


@dataclass(frozen=True)
class Threshold:
    """What was found: the median of what is believed, and 95 % of it."""

    value: float
    low: float
    high: float
    trials: int
    right: int


@dataclass
class Staircase:
    """One measurement. `least` and `most` bound the magnitudes that can be played."""

    least: float
    most: float
    trials: list[tuple[float, bool]] = field(default_factory=list)

    def __post_init__(self) -> None:
        if not 0.0 < self.least < self.most:
            raise InputError(
                f"magnitudes from {self.least:g} to {self.most:g}.", where="magnitudes",
                remedy="The least has to be above 0 and below the most.",
            )  # fmt: skip
        # Somebody may hear less than the least, or not even the most.
        span = np.log([0.5 * self.least, 2.0 * self.most])
        self._logs = np.linspace(span[0], span[1], POINTS)
        self._belief = np.full((POINTS, len(SLOPES)), 1.0 / (POINTS * len(SLOPES)))
        self._tried = np.geomspace(self.least, self.most, TRIED)
        # (tried, thresholds, slopes)
        self._chance = heard(
            self._tried[:, None, None], np.exp(self._logs)[None, :, None],
            np.array(SLOPES)[None, None, :],
        )  # fmt: skip

    def next(self) -> float:
        """The magnitude to play now; the first is the largest, so that everybody knows what to
        listen for."""
        if not self.trials:
            return self.most
        return float(self._tried[int(np.argmin(self._expected_entropy()))])

    def _expected_entropy(self) -> Real:
        right = self._belief[None] * self._chance
        wrong = self._belief[None] * (1.0 - self._chance)
        total = np.zeros(self._tried.size)
        for part in (right, wrong):
            mass = part.sum(axis=(1, 2))
            # Of the threshold alone: the slope is asked for by nobody.
            of_threshold = part.sum(axis=2) / np.maximum(mass, 1e-300)[:, None]
            entropy = -np.sum(of_threshold * np.log(np.maximum(of_threshold, 1e-300)), axis=1)
            total += mass * entropy
        return total

    def answered(self, magnitude: float, right: bool) -> None:
        """An answer to a trial."""
        chance = heard(magnitude, np.exp(self._logs)[:, None], np.array(SLOPES)[None, :])
        self._belief = self._belief * (chance if right else 1.0 - chance)
        self._belief /= np.sum(self._belief)
        self.trials.append((magnitude, right))

    @property
    def found(self) -> Threshold:
        """As far as it is known now."""
        share = np.cumsum(self._belief.sum(axis=1))
        low, middle, high = (
            float(np.exp(np.interp(part, share, self._logs))) for part in (0.025, 0.5, 0.975)
        )
        return Threshold(middle, low, high, len(self.trials), sum(one for _, one in self.trials))

    @property
    def done(self) -> bool:
        """Whether another trial is hardly worth it."""
        if len(self.trials) >= MOST_TRIALS:
            return True
        now = self.found
        close = now.high / now.value <= CLOSE and now.value / now.low <= CLOSE
        return len(self.trials) >= LEAST_TRIALS and close
