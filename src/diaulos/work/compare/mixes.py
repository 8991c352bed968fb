"""What thins out in a mix: tracks heard in one place that take from each other when summed."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.signal.stacking import Stacked, stack
from diaulos.units import db_to_gain
from diaulos.work.compare.words import HOLE_DB, LOSS_DB, hertz_words
from diaulos.work.listening.player import Channel
from diaulos.work.ports import CancelToken

MIDDLE = 0.2
"""Panned less than this to a side a track is in the middle."""
STRETCH_S, PLACES = 6.0, (0.2, 0.5, 0.8)
"""Looked at: so many seconds at each of these places of the take."""
MOST = 12


@dataclass(frozen=True)
class Thin:
    """Two tracks that thin out together, by their names; the sum re the sum of their powers in dB,
    and the octave with the deepest hole, if that is what is wrong."""

    a: str
    b: str
    sum_db: float
    hole_hz: float | None = None
    hole_db: float = 0.0

    @property
    def words(self) -> str:
        """For a person."""
        if self.hole_hz is not None:
            lost = f"a hole of {number(-self.hole_db, 0)} dB around {hertz_words(self.hole_hz)}"
        else:
            lost = f"{number(self.sum_db, 1, sign=True)} dB in mono"
        return f"{self.a} and {self.b} thin out together ({lost})."


def thinning(
    named: Sequence[tuple[str, Channel]], frames: int, rate_hz: float, cancel: CancelToken
) -> tuple[Thin, ...]:
    """Pairs of what is heard in the middle that thin out, the worst first."""
    middle = [
        (name, one) for name, one in named if not one.side and abs(one.pan) < MIDDLE
    ][:MOST]  # fmt: skip
    if len(middle) < 2:
        return ()
    heard = []
    for _, one in middle:
        cancel.check()
        heard.append(_stretches(one, frames, rate_hz))
    found = []
    for at in range(len(middle)):
        for other in range(at + 1, len(middle)):
            cancel.check()
            sums = stack(heard[at], heard[other], heard[other], rate_hz)
            thin = None if sums is None else _thin(middle[at][0], middle[other][0], sums)
            if thin is not None:
                found.append(thin)
    return tuple(sorted(found, key=lambda one: min(one.sum_db, one.hole_db)))


def summed_db(pair: Sequence[Channel], frames: int, rate_hz: float) -> float | None:
    """What two channels sum to in one place, dB re the sum of their powers; None for silence."""
    one, other = (_stretches(channel, frames, rate_hz) for channel in pair)
    sums = stack(one, other, other, rate_hz)
    return None if sums is None else sums.found_db


def _stretches(one: Channel, frames: int, rate_hz: float) -> NDArray[np.float64]:
    """As it is heard, at some places of the take; short takes whole."""
    count = round(STRETCH_S * rate_hz)
    gain = db_to_gain(one.gain_db)
    if frames <= count * len(PLACES):
        return gain * np.asarray(one.read(0, frames), np.float64)
    parts = [
        one.read(max(0, min(frames - count, round(place * frames) - count // 2)), count)
        for place in PLACES
    ]
    return gain * np.concatenate([np.asarray(part, np.float64) for part in parts])


def _thin(a: str, b: str, sums: Stacked) -> Thin | None:
    holes = [one for one in sums.octaves if one.plays and one.found_db < HOLE_DB]
    if sums.found_db < LOSS_DB:
        return Thin(a, b, sums.found_db)
    if holes:
        deepest = min(holes, key=lambda one: one.found_db)
        return Thin(a, b, sums.found_db, deepest.hz, deepest.found_db)
    return None
