"""The hunt itself: what is likely after what was heard, which test splits the causes left best,
and when it is enough.

Every cause says by the rig what each test would do to the noise on each track (`chances`); what
was heard weighs them (Bayes), and the next test is the one that is expected to leave the least
uncertainty for its trouble.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import field, replace

from diaulos.records import dataclass
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef
from diaulos.units import LOWEST_DB
from diaulos.work.hunting.causes import FAMILIES, Cause, Family, causes_of, reached
from diaulos.work.hunting.listens import Listen
from diaulos.work.hunting.trials import (
    COST,
    OUTCOMES,
    Chances,
    Outcome,
    Trial,
    chances,
    trials_of,
)

GONE_DB, LESS_DB = 6.0, 2.0
"""How far noise falls that is called gone, and that is called less."""
SPREADS = 3.0
"""How many spreads a change must be to count as one."""
SURE = 0.95
LEAST_BITS = 0.04
"""What a test has to tell to be worth its trouble."""
STANDS_DB: Mapping[Family, float] = {"mains": -3.0, "whine": -6.0, "hiss": 3.0}
"""How far a kind stands above the hiss (hiss: above what cannot be avoided) to be worth a hunt."""
SEEN, UNSEEN = 0.88, 0.04
"""How likely noise stands out on a track that its cause reaches, and on one that it does not."""
RIPPLED: Mapping[str, float] = {
    "supply": 0.9, "device": 0.3, "pickup": 0.05, "lead": 0.05, "loop": 0.03,
}  # fmt: skip
"""How likely mains noise of each cause has even harmonics only; representative."""


@dataclass(frozen=True)
class Result:
    """A test and what was heard of it."""

    trial: Trial
    heard: Listen


@dataclass(frozen=True)
class Left:
    """A cause and how likely it is now, 0 to 1."""

    cause: Cause
    share: float


@dataclass(frozen=True, eq=False)
class Hunt:
    """A hunt as far as it has come. `floors` is what hiss cannot be avoided on each track, dBFS."""

    graph: RigGraph
    first: Listen
    family: Family
    floors: Mapping[PortRef, float] = field(default_factory=dict)
    results: tuple[Result, ...] = ()
    refused: tuple[Trial, ...] = ()
    """Tests that cannot be done here."""

    # --- what is hunted ---

    @property
    def tracks(self) -> tuple[PortRef, ...]:
        """The tracks that are listened to."""
        return tuple(self.first.spans)

    def stands_db(self, track: PortRef) -> float:
        """How far the hunted noise stands out on a track."""
        return stands_db(self.first, track, self.family, self.floors)

    @property
    def standing(self) -> tuple[PortRef, ...]:
        """The tracks on which it stands out, the worst first."""
        out = [t for t in self.tracks if self.stands_db(t) > STANDS_DB[self.family]]
        return tuple(sorted(out, key=lambda t: -self.first.level(t, self.family)))

    # --- what was heard ---

    def change_db(self, result: Result, track: PortRef) -> float:
        """What a test changed on a track: negative is quieter; a noise that went under the floor
        counts as `LOWEST_DB` under it was."""
        before = self.first.level(track, self.family)
        after = result.heard.level(track, self.family)
        return LOWEST_DB if after <= LOWEST_DB else after - before

    def spread_db(self, result: Result, track: PortRef) -> float:
        """How far repeated stretches differ, before and in the test."""
        after = result.heard
        spread = self.first.spread_db(track, self.family)
        if after.level(track, self.family) > LOWEST_DB:
            spread = max(spread, min(after.spread_db(track, self.family), 20.0))
        return spread

    def outcome(self, result: Result, track: PortRef) -> Outcome:
        """What a test did on a track."""
        change = self.change_db(result, track)
        if change <= -max(GONE_DB, self.spread_db(result, track)):
            return "gone"
        least = max(LESS_DB, min(GONE_DB, SPREADS * self.first.spread_db(track, self.family)))
        return "less" if change <= -least else "same"

    # --- what is likely ---

    @property
    def left(self) -> tuple[Left, ...]:
        """All causes by how likely they are, the likeliest first."""
        weighed = []
        for cause in causes_of(self.graph, self.family, self.tracks):
            weighed.append((cause, math.log(cause.weight) + self._at_first(cause)
                            + sum(self._heard(cause, one) for one in self.results)))  # fmt: skip
        if not weighed:
            return ()
        most = max(weight for _, weight in weighed)
        total = sum(math.exp(weight - most) for _, weight in weighed)
        shares = [Left(cause, math.exp(weight - most) / total) for cause, weight in weighed]
        return tuple(sorted(shares, key=lambda one: -one.share))

    def _at_first(self, cause: Cause) -> float:
        """Log likelihood of the tracks on which it stands out, and of its harmonics. Tracks of
        one rig share most of their way: they are no independent witnesses."""
        there = reached(self.graph, cause, self.family)
        total = 0.0
        for track in self.tracks:
            chance = SEEN if track in there else UNSEEN
            total += math.log(chance if track in self.standing else 1.0 - chance)
        total /= math.sqrt(len(self.tracks))
        if self.family == "mains" and self.standing:
            rippled = self.first.rippled(self.standing[0])
            chance = RIPPLED[cause.kind]
            total += math.log(chance if rippled else 1.0 - chance)
        return total

    def _heard(self, cause: Cause, result: Result) -> float:
        tracks = self.standing
        total = 0.0
        for track in tracks:
            expected = chances(self.graph, cause, self.family, result.trial, track)
            total += math.log(expected[self.outcome(result, track)])
        return total / math.sqrt(max(1, len(tracks)))

    # --- what to do next ---

    @property
    def verdict(self) -> Cause | None:
        """The cause, once it is as good as sure or nothing more can be told; None before."""
        left = self.left
        if not left:
            return None
        return left[0].cause if self.is_sure or self.next_trial is None else None

    @property
    def is_sure(self) -> bool:
        """Whether the likeliest is as good as sure."""
        left = self.left
        return bool(left) and left[0].share >= SURE

    @property
    def next_trial(self) -> Trial | None:
        """The test that splits the causes left best for its trouble; None where none does."""
        left = [one for one in self.left if one.share > 1e-4]
        done = {one.trial for one in self.results} | set(self.refused)
        best: tuple[float, Trial] | None = None
        for trial in trials_of(self.graph, self.tracks):
            if trial in done:
                continue
            told = self._bits(left, trial)
            if told < LEAST_BITS:
                continue
            worth = told / COST[trial.kind]
            if best is None or worth > best[0] + 1e-9:
                best = worth, trial
        return None if best is None else best[1]

    def _bits(self, left: list[Left], trial: Trial) -> float:
        """What a test is expected to tell, by the track that tells most."""
        return max(
            (
                _information(left, [chances(self.graph, one.cause, self.family, trial, track)
                                    for one in left])
                for track in self.standing
            ),
            default=0.0,
        )  # fmt: skip

    # --- steps ---

    def after(self, trial: Trial, heard: Listen) -> Hunt:
        """With a test done; the same test again adds to what was heard of it."""
        for number, one in enumerate(self.results):
            if one.trial == trial:
                more = replace(one, heard=one.heard.with_more(heard))
                results = (*self.results[:number], more, *self.results[number + 1 :])
                return replace(self, results=results)
        return replace(self, results=(*self.results, Result(trial, heard)))

    def without(self, trial: Trial) -> Hunt:
        """Where a test cannot be done."""
        return replace(self, refused=(*self.refused, trial))

    def undone(self) -> Hunt:
        """Without the last test."""
        return replace(self, results=self.results[:-1])

    def brought_db(self, heard: Listen) -> tuple[PortRef, float]:
        """What a remedy brought on the track that was worst: quieter is positive. What went under
        the hiss counts down to the hiss."""
        track = self.standing[0] if self.standing else self.tracks[0]
        before = self.first.level(track, self.family)
        after = heard.level(track, self.family)
        if after <= LOWEST_DB:
            after = min(before, heard.level(track, "hiss"))
        return track, before - after


def stands_db(
    heard: Listen, track: PortRef, family: Family, floors: Mapping[PortRef, float]
) -> float:
    """How far a kind stands out on a track: mains and whine above the hiss, hiss above what the
    devices must have; dB."""
    level = heard.level(track, family)
    if family == "hiss":
        return level - floors.get(track, level)
    return level - heard.level(track, "hiss") if level > LOWEST_DB else LOWEST_DB


def family_of(heard: Listen, floors: Mapping[PortRef, float]) -> Family | None:
    """The kind of noise that is worth a hunt, None where nothing is: of mains and whine the one
    that stands out further over what would do. Hiss only without either: a dimmer's buzz goes on
    above all harmonics that are counted, and looks like hiss there."""
    best: tuple[float, Family] | None = None
    for family in FAMILIES:
        over = max(stands_db(heard, track, family, floors) for track in heard.spans)
        over -= STANDS_DB[family]
        if family == "hiss" and best is not None:
            break
        if over > 0.0 and (best is None or over > best[0]):
            best = over, family
    return None if best is None else best[1]


def _information(left: list[Left], expected: list[Chances]) -> float:
    """Expected fall of the entropy over the causes by a test's outcome, in bits."""
    total = sum(one.share for one in left)
    bits = 0.0
    for outcome in OUTCOMES:
        chance = sum(one.share * e[outcome] for one, e in zip(left, expected, strict=True)) / total
        if chance <= 0.0:
            continue
        for one, e in zip(left, expected, strict=True):
            joint = one.share / total * e[outcome]
            if joint > 0.0:
                bits += joint * math.log2(e[outcome] / chance)
    return bits
