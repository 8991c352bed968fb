"""Match it, and set the gain: a figure by ear or by a few looks, and then the true one."""

from __future__ import annotations

from dataclasses import field

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.figures import level, number
from diaulos.records import dataclass
from diaulos.units import db_to_gain
from diaulos.work.training.hearing import loudness_of

Real = NDArray[np.float64]

OFFSET_DB = 6.0
STEP_DB = 0.1


@dataclass
class Matching:
    """B is to be as loud as A by ear. `gain_db` is what the person has set."""

    a: Real
    b: Real
    rate_hz: float
    seed: int
    gain_db: float = field(init=False)
    equal_db: float = field(init=False)
    """The gain at which both are equally loud, BS.1770."""

    def __post_init__(self) -> None:
        draws = np.random.default_rng(self.seed)
        start = float(draws.uniform(-OFFSET_DB, OFFSET_DB))
        self.equal_db = loudness_of(self.a, self.rate_hz) - loudness_of(self.b, self.rate_hz)
        # It begins audibly off, in either way.
        start = start if abs(start) > 2.0 else start + float(np.copysign(2.0, start))
        self.gain_db = round(round((self.equal_db + start) / STEP_DB) * STEP_DB, 1)

    def turn(self, steps: int) -> None:
        """B up or down, in tenths of a dB."""
        self.gain_db = round(self.gain_db + steps * STEP_DB, 1)

    @property
    def error_db(self) -> float:
        """How much louder B is than A now."""
        return self.gain_db - self.equal_db

    def result(self) -> str:
        """The truth, in words."""
        off = self.error_db
        way = "louder" if off > 0.0 else "quieter"
        told = f"B is {number(abs(off))} dB {way} than A (integrated loudness, BS.1770)."
        if abs(off) < 0.05:
            told = "B is as loud as A to the tenth of a dB (integrated loudness, BS.1770)."
        louder = "The louder of two is easily taken for the better one; 0.2 dB are enough."
        return f"{told} {louder}"


FULL_SCALE_DBU, MOST_GAIN_DB = 26.0, 50.0
MOVES = 4
STRUMS_A_LOOK, STRUMS_A_TAKE = 8, 60
SPREAD_DB = 2.2
"""Standard deviation of the peak of a hard strum (representative, from memory)."""
STRENGTHS_DBU = (-10.0, 6.0)
"""Of whom some gain brings to the target."""


@dataclass
class Gaining:
    """An unknown player, an input with a gain, a target for the loudest peak, and few looks: then
    the take is played, and somebody plays harder in it than at the sound check."""

    seed: int
    target_dbfs: float = -12.0
    gain_db: float = 20.0
    looks: list[tuple[float, float]] = field(default_factory=list)
    """Gain, and the loudest peak that was seen with it."""
    take_dbfs: float | None = None
    played_dbfs: float | None = None
    """The loudest peak of the take, had nothing clipped."""
    best_db: float | None = None
    """The gain that would have been right; both None before it is recorded."""

    def __post_init__(self) -> None:
        self._draws = np.random.default_rng(self.seed)
        self.strength_dbu = float(self._draws.uniform(*STRENGTHS_DBU))

    def _loudest(self, strums: int) -> float:
        peaks = self.strength_dbu + SPREAD_DB * self._draws.standard_normal(strums)
        return float(np.max(peaks)) - FULL_SCALE_DBU + self.gain_db

    @property
    def left(self) -> int:
        """Looks that are left."""
        return MOVES - len(self.looks)

    def set_gain(self, gain_db: float) -> None:
        """Turn the gain, in whole dB."""
        self.gain_db = float(np.clip(round(gain_db), 0.0, MOST_GAIN_DB))

    def look(self) -> float:
        """Some seconds of playing as hard as in the take; the loudest peak, dBFS. What clips reads
        0."""
        peak = min(0.0, self._loudest(STRUMS_A_LOOK))
        self.looks.append((self.gain_db, peak))
        return peak

    def take(self) -> str:
        """Record; what came of it, and what would have been right."""
        peak = self._loudest(STRUMS_A_TAKE)
        self.take_dbfs = min(0.0, peak)
        off = peak - self.target_dbfs
        best = float(np.clip(np.floor(self.gain_db - off), 0.0, MOST_GAIN_DB))
        self.played_dbfs, self.best_db = peak, best
        if peak >= 0.0:
            words = f"The take clips by {number(peak)} dB."
        elif off > 0.0:
            words = f"The loudest peak is {level(peak, 'dBFS')}, {number(off)} dB over the target."
        else:
            words = (
                f"The loudest peak is {level(peak, 'dBFS')}, {number(-off)} dB under the target."
            )
        seen = max((dbfs - gain for gain, dbfs in self.looks if dbfs < 0.0), default=None)
        if seen is not None:
            more = peak - self.gain_db - seen
            words += (
                f" In the take somebody played {number(more, sign=True)} dB re the loudest that "
                "you saw: the more strums, the louder the loudest."
            )
        over = best - (self.gain_db - off)
        if over > 0.0:
            return (
                f"{words} Even without gain it would lie {number(over)} dB over the target: such a "
                "player wants a pad."
            )
        return f"{words} With {number(best, 0)} dB of gain it would have met the target."

    def sounds(self, strums: Real) -> tuple[Real, Real]:
        """The take as it was recorded, cut off at full scale, and with the right gain: some
        strums at the peak that was played."""
        if self.played_dbfs is None or self.best_db is None:
            raise InputError("nothing is recorded yet.", remedy="Record the take first.")
        peak = float(np.max(np.abs(strums), initial=0.0))
        if peak <= 0.0:
            return strums, strums
        taken = strums * (db_to_gain(self.played_dbfs) / peak)
        right = taken * db_to_gain(self.best_db - self.gain_db)
        return np.clip(taken, -1.0, 1.0), np.clip(right, -1.0, 1.0)

    @property
    def off_db(self) -> float | None:
        """How far the take's loudest peak lies above the target; None before it is recorded."""
        return None if self.take_dbfs is None else self.take_dbfs - self.target_dbfs
