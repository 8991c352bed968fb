"""How a loop differs from what it was: level, response, delay, polarity, noise, and which kind of
change that is.

Conventions
- Every figure is now less then. A response is the gain over `RESPONSE_HZ` of a slate, in dB.
- What two changes sound alike by is one kind: a longer cable and a tone knob both take treble.
- Behind a driven stage a changed send is told from a changed return: harmonics rise with what goes
  in, and not with what is made of it afterwards. Orders two to five re the linear one rise by one
  to four times the send (power series of a curve without memory).
"""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass

Real = NDArray[np.float64]

ChangeKind = Literal[
    "inverted", "delay", "send", "return", "level", "treble", "tone", "hum", "noise"
]

LEVEL_DB = 0.3
"""A loop that is less away is as it was."""
SHAPE_DB = 0.35
"""The same of a part of the response against its middle."""
NOISE_DB = 3.0
HUM_SHARE_DB = 6.0
"""Hum that is so little under all of the noise is what the noise is."""
DELAY_SAMPLES = 2.0
LEVEL_HZ = (150.0, 1_500.0)
TREBLE_HZ = (3_000.0, 12_000.0)
HIGH_FROM_HZ = 2_500.0
"""A response that differs most above that differs in treble."""
CLEAR_OF_HUM_HZ = 400.0
"""Under that the mains' lines stand in the response of a loop that hums."""
BASS_HZ = (50.0, 110.0)
MIDDLE_HZ = (250.0, 1_200.0)
PASSED_DB = 35.0
"""What the loop passes: not so far under its loudest."""
DRIVEN_DB = -55.0
"""Harmonics above that are the loop's, and tell a send from a return."""
RISE = 0.4
"""Of the send's change, by which harmonics rise at least."""


@dataclass(frozen=True)
class LoopState:
    """What a slate told of a loop. `response` is (Hz, dB) pairs; `hum_dbfs` the RMS of the mains'
    lines in the loop's own noise. Delay and polarity are None where they are not known for sure."""

    response: tuple[tuple[float, float], ...]
    delay_samples: float | None
    polarity: int | None
    noise_dbfs: float
    hum_dbfs: float
    harmonics_db: float


@dataclass(frozen=True)
class LoopChange:
    """A loop now against then. `curve` is (Hz, dB) where both pass something; `kinds` the kinds of
    change that explain it, none where it is as it was."""

    level_db: float
    treble_db: float
    bass_db: float
    delay_samples: float
    inverted: bool
    noise_db: float
    hum_db: float
    harmonics_db: float
    curve: tuple[tuple[float, float], ...]
    kinds: tuple[ChangeKind, ...]


def loop_change(then: LoopState, now: LoopState, expected_db: Real | None = None) -> LoopChange:
    """What is other than it was.

    Parameters
    ----------
    then
        The loop as it was.
    now
        The loop as it is.
    expected_db
        By how much the response is to differ, since settings were changed on purpose, shape as the
        responses; None for not at all.

    Returns
    -------
    The differences and their kinds.
    """
    hz = np.array([at for at, _ in now.response])
    old = np.array([db for _, db in then.response])
    new = np.array([db for _, db in now.response])
    apart = new - old - (0.0 if expected_db is None else expected_db)
    passed = (old > old.max() - PASSED_DB) & (new > new.max() - PASSED_DB)
    hums = _hums(then, now)
    if hums:
        passed &= hz > CLEAR_OF_HUM_HZ
    level = _middle(hz, apart, passed, LEVEL_HZ)
    middle = _middle(hz, apart, passed, MIDDLE_HZ)
    treble = _middle(hz, apart, passed, TREBLE_HZ, otherwise=middle) - middle
    bass = _middle(hz, apart, passed, BASS_HZ, otherwise=middle) - middle
    shape = apart[passed] - middle
    change = LoopChange(
        level_db=level,
        treble_db=treble,
        bass_db=bass,
        delay_samples=_later(then, now),
        inverted=None not in (now.polarity, then.polarity) and now.polarity != then.polarity,
        noise_db=now.noise_dbfs - then.noise_dbfs,
        hum_db=now.hum_dbfs - then.hum_dbfs,
        harmonics_db=now.harmonics_db - then.harmonics_db,
        curve=tuple(zip(hz[passed].tolist(), apart[passed].tolist(), strict=True)),
        kinds=(),
    )
    kinds = _kinds(change, then, now, _smooth(hz[passed], shape), hums=hums)
    return replace(change, kinds=kinds)


def _later(then: LoopState, now: LoopState) -> float:
    if then.delay_samples is None or now.delay_samples is None:
        return 0.0
    return now.delay_samples - then.delay_samples


def _hums(then: LoopState, now: LoopState) -> bool:
    return now.hum_dbfs > then.hum_dbfs + NOISE_DB and now.hum_dbfs > now.noise_dbfs - HUM_SHARE_DB


def _middle(
    hz: Real, apart: Real, passed: NDArray[np.bool_], band: tuple[float, float],
    otherwise: float = 0.0,
) -> float:  # fmt: skip
    inside = passed & (hz >= band[0]) & (hz <= band[1])
    return float(np.median(apart[inside])) if inside.any() else otherwise


def _smooth(hz: Real, values: Real) -> tuple[float, float]:
    """The widest deviation below and above where treble begins, by three neighbours' median: one
    band alone is noise."""
    if values.size < 3:
        return 0.0, 0.0
    median = np.abs(np.median(np.stack([values[:-2], values[1:-1], values[2:]]), axis=0))
    high = hz[1:-1] >= HIGH_FROM_HZ
    low_db = float(np.max(median[~high], initial=0.0))
    return low_db, float(np.max(median[high], initial=0.0))


def _kinds(
    change: LoopChange,
    then: LoopState,
    now: LoopState,
    widest: tuple[float, float],
    *,
    hums: bool,
) -> tuple[ChangeKind, ...]:
    found: list[ChangeKind] = []
    if change.inverted:
        found.append("inverted")
    if abs(change.delay_samples) > DELAY_SAMPLES:
        found.append("delay")
    low, high = widest
    if max(low, high) > SHAPE_DB:
        found.append("treble" if high >= low else "tone")
    elif abs(change.level_db) > LEVEL_DB:
        found.append(_level_kind(change, then, now))
    if change.noise_db > NOISE_DB + max(0.0, change.level_db):
        found.append("hum" if hums else "noise")
    return tuple(found)


def _level_kind(change: LoopChange, then: LoopState, now: LoopState) -> ChangeKind:
    """Send, return, or one of the two."""
    if min(then.harmonics_db, now.harmonics_db) < DRIVEN_DB:
        return "level"
    if change.noise_db > NOISE_DB + max(0.0, change.level_db):
        return "level"  # what is taken for harmonics may be noise
    rise = change.harmonics_db / change.level_db
    return "send" if rise > RISE else "return"
