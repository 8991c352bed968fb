"""Pairs made from real recordings: is the difference split as it was made?

The recordings are Debian's sonic-pi-samples (CC0). Each pair is a phrase of them, and the same at
another level, late, filtered, driven a little, with noise. The truth is the same steps taken on the
parts by themselves: what the drive's best linear gain leaves of it, and the noise, is the rest.
"""

from __future__ import annotations

import math
import random
from collections import Counter

import numpy as np
from delays import RATE, phrase
from numpy.typing import NDArray
from scipy import signal as ss

from diaulos.signal.fir import shift
from diaulos.work.compare.pairs import Side, compare_pair
from diaulos.work.ports import CancelToken

Real = NDArray[np.float64]

PAIRS = 200
HARD = (100, 121, 131, 162)
"""Pairs that were wrong once: looked at in the tenth, too."""
SECONDS = 12.0
TIME_DB, LEVEL_DB, TONE_DB, REST_DB = 0.1, 0.1, 0.5, 1.5
"""How far a share may be off, in dB; tone and rest off the ends that are stated of them."""
WORTH = 0.3
"""Of what was left before it: a share that is the small difference of two large figures is not told
to a tenth of a decibel."""
FLOOR_DB = -40.0
"""A rest deeper than this may be told as high as this re it: the filter is 85 ms long, and what
rings on behind it is not explained."""


def filtered(x: Real, rng: random.Random) -> Real:
    """Through some bells, shelves and cuts as tone controls and cabinets have them."""
    out = x
    for _ in range(rng.randint(0, 3)):
        hz, q = math.exp(rng.uniform(math.log(120.0), math.log(6000.0))), rng.uniform(0.7, 3.0)
        gain = 10.0 ** (rng.uniform(-9.0, 9.0) / 20.0) - 1.0
        top, bottom = ss.iirpeak(hz, q, fs=RATE)
        out = out + gain * ss.lfilter(top, bottom, out)
    if rng.random() < 0.5:
        corner = rng.uniform(2500.0, 9000.0)
        out = ss.sosfilt(ss.butter(rng.choice([1, 2]), corner, fs=RATE, output="sos"), out)
    return np.asarray(out)


def pair(rng: random.Random) -> tuple[Real, Real, Real, float, int]:
    """A, B, the linear part of B in A's time, how late B is, its polarity."""
    a = phrase(rng, SECONDS)[: round(SECONDS * RATE)]
    a = a / np.max(np.abs(a))
    made = filtered(a, rng)
    linear = made
    if rng.random() < 0.5:
        drive = rng.uniform(0.2, 1.5) / np.max(np.abs(made))
        bent = np.tanh(drive * made) / drive
        linear = made * (float(made @ bent) / float(made @ made))
        made = bent
    gain = 10.0 ** (rng.uniform(-12.0, 12.0) / 20.0)
    polarity = rng.choice([1, -1])
    late = rng.uniform(0.0, 200.0)
    noise = np.random.default_rng(rng.randrange(2**31)).standard_normal(a.size)
    noise *= 10.0 ** (rng.uniform(-70.0, -30.0) / 20.0) * math.sqrt(float(np.mean(made**2)))
    b = polarity * gain * shift(made + noise, late, a.size + 300)
    return a, b, gain * linear, late, polarity


def _db(power: float) -> float:
    return 10.0 * math.log10(max(power, 1e-20))


def off(rng: random.Random) -> tuple[dict[str, float], str, float | None]:
    """How far each share of one pair is off, in dB; what went wrong altogether; and how far apart
    the ends of its rest lie."""
    a, b, linear, late, polarity = pair(rng)
    found = compare_pair(
        Side("A", a.astype(np.float32), RATE), Side("B", b.astype(np.float32), RATE), CancelToken()
    )
    if found.found is None:
        return {}, f"refused: {found.reason}", None
    if found.found.polarity != polarity:
        return {}, "polarity", None
    # An honest delay lines the waveforms up; a filter's own lag is part of it.
    if abs(found.found.delay_samples - late) > 40.0:
        return {}, f"delay off by {found.found.delay_samples - late:.1f}", None
    split = found.split
    if split is None or split.rest_db is None:
        return {}, "no split", None
    from diaulos.signal.peaks import loudest_span
    from diaulos.work.compare.pairs import SPLIT_S

    moved = polarity * shift(b, -found.found.delay_samples, a.size)
    own = shift(linear, late - found.found.delay_samples, a.size)
    span = loudest_span(a, RATE, min(SPLIT_S, a.size / RATE))
    cut = slice(span.first, span.first + span.count)
    one, other, line = a[cut], moved[cut], own[cut]
    raw = b[: a.size][cut]
    power = float(one @ one)
    level = float(one @ other) / power
    steps = [
        float(np.sum((raw - one) ** 2)) / power,
        float(np.sum((other - one) ** 2)) / power,
        float(np.sum((other / level - one) ** 2)) / power,
        float(np.sum(((other - line) / level) ** 2)) / power,
    ]
    if steps[2] > steps[1]:
        return {}, "", None
    told = {
        "time": (split.time_share_db, steps[0] - steps[1]),
        "level": (split.level_share_db, steps[1] - steps[2]),
        "tone": (split.tone_share_db, steps[2] - steps[3]),
    }
    if _db(steps[2]) < FLOOR_DB + 6.0:
        del told["tone"]
    found_off = {
        name: (-200.0 if share is None else share) - _db(wanted)
        for name, (share, wanted) in told.items()
        if wanted > WORTH * steps[{"time": 0, "level": 1, "tone": 2}[name]]
    }
    rest = _db(steps[3])
    most = split.rest_db if split.rest_most_db is None else split.rest_most_db
    if rest > FLOOR_DB or split.rest_db > FLOOR_DB:
        found_off["rest"] = outside(rest, split.rest_least_db, most)
    if "tone" in found_off and split.rest_least_db is not None:
        # The tone's share is what the filter takes away: as sure as what it leaves.
        less, more = (
            _db(max(0.0, steps[2] - 10.0 ** (end / 10.0))) for end in (most, split.rest_least_db)
        )
        found_off["tone"] = outside(_db(told["tone"][1]), less, more)
    apart = None if split.rest_least_db is None else most - split.rest_least_db
    return found_off, "", apart


def outside(true: float, least: float | None, most: float) -> float:
    """How far what is stated lies off the truth: 0 between its ends."""
    low = most if least is None else min(least, most)
    return low - true if true < low else most - true if true > most else 0.0


LIMITS = {"time": TIME_DB, "level": LEVEL_DB, "tone": TONE_DB, "rest": REST_DB}


def run(pairs: int, seed: int) -> tuple[str, int]:
    """Make pairs and hold every share against the truth."""
    wrong: Counter[str] = Counter()
    worst = dict.fromkeys(LIMITS, 0.0)
    judged, widths = 0, []
    for number in (*range(pairs), *(one for one in HARD if one >= pairs)):
        shares, problem, apart = off(random.Random(f"{seed} {number}"))
        if apart is not None:
            widths.append(apart)
        if problem:
            wrong[problem] += 1
            continue
        judged += 1
        for name, by in shares.items():
            worst[name] = max(worst[name], abs(by))
            if abs(by) > LIMITS[name]:
                wrong[f"{name} off by {by:+.2f} dB"] += 1
    told = ", ".join(f"{name} {by:.2f} dB" for name, by in worst.items())
    count = sum(wrong.values())
    made = pairs + sum(one >= pairs for one in HARD)
    words = f"differences: {judged} of {made} pairs split, {count} wrong; worst {told}"
    if widths:
        half, most = np.quantile(widths, [0.5, 0.95])
        words += f"; ends of the rest {half:.2f} dB apart (median), {most:.2f} dB (95 %)"
    for problem, times in wrong.most_common(20):
        words += f"\n  {times} x {problem}"
    return words, count
