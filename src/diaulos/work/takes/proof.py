"""Every track proved: whether what was recorded is what the rig says it should be.

Conventions
- Held against each other are the tracks of one instrument, recorded at once on one clock. What
  the rig should make of the playing is worked out from the recorded dry DI: its course is undone,
  and every other course is played by the bench's own stages.
- Where a track is not what our stages make of it, nothing is concluded from that: a real
  amplifier sounds otherwise. Only what no amplifier can do is told then: to be a copy, to be
  silent, to be less held back than what went into it.
- A doubt is told and stored with the take; it never ends a recording.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.bench import BenchFaults, Impulses, RigBench
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.trackplan import TrackPlan, plan_tracks
from diaulos.session.model import Doubt, Session
from diaulos.signal.crosstalk import noise_leak
from diaulos.signal.relation import Leak, Likeness, besides, copied, leaked, most_alike, steepness
from diaulos.units import gain_to_db
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.stored import NOTHING_STORED, Stored
from diaulos.work.takes.fitting import Candidate, candidates, fit

Real = NDArray[np.float64]

REACH_S = 0.05
"""Tracks of one take lie no farther apart."""
SHORTEST_S = 2.0
HEARD_DBFS = -45.0
"""A group of which nothing is louder was not played."""
SILENT_DBFS = -60.0
UNDER_PLAN_DB = 50.0
PLANNED_DBFS = -50.0
COPY_DB, NO_COPY_DB = -22.0, -12.0
"""What is left of a copy at most, and of a track that our stages make of the DI at least."""
ALL_AS_PLANNED, UNLIKE = 0.97, 0.6
TURNED = 0.97
"""Two amplifiers that are driven hard are more alike than anybody would think."""
CERTAIN, EXACTLY = 0.9, 0.9998
CLEARLY = 1.25
"""So much likelier the tracks have to be the other way round."""
LEAVES = 0.25
"""And so little of what they leave as they are."""
HELD_BACK, LET_GO = 0.9, 1.15
FULL_DBFS = -0.1
"""A dry DI that is full says nothing of the others."""
LEAK_DB = -50.0
OVER_PLAN_DB = 6.0
BENT_COHERENCE, LEAK_COHERENCE, REST_COHERENCE = 0.14, 0.28, 0.6
EMF_FLOOR = 1e-4
"""Of the power that a dry course lets through at most: less of it is not undone."""
IMPULSE_V = 1e-4
PAD_S = 0.25
EDGE_S = 0.25
"""A stretch begins and ends in the middle of a note; what was played ahead of it and behind it is
not known, and the dry course is undone wrongly there. So much of both ends says nothing."""


@dataclass(frozen=True)
class Proved:
    """A track to be proved: what the plan says of it, and its samples."""

    plan: TrackPlan
    name: str
    samples: Real

    @cached_property
    def peak_dbfs(self) -> float:
        """The loudest peak."""
        return gain_to_db(float(np.max(np.abs(self.samples), initial=0.0)))

    @property
    def silent(self) -> bool:
        """Whether nothing but noise came, where the plan has playing."""
        planned = self.plan.unclipped_dbfs
        if planned is None or planned < PLANNED_DBFS:
            return False
        return self.peak_dbfs < SILENT_DBFS or self.peak_dbfs < planned - UNDER_PLAN_DB

    @property
    def dry(self) -> bool:
        """Whether it is another dry track: two of them hold the same by right."""
        return self.plan.tap == "di"

    def holding(self, samples: Real) -> Proved:
        """The same track, had it recorded this."""
        return Proved(self.plan, self.name, samples)


def prove(
    session: Session,
    rig: Rig,
    heard: Mapping[PortRef, NDArray[np.floating]],
    names: Mapping[PortRef, str],
    stored: Stored = NOTHING_STORED,
    impulses: Impulses | None = None,
    look: Callable[[], None] = lambda: None,
) -> tuple[Doubt, ...]:
    """What is doubtful of some seconds of a take.

    Parameters
    ----------
    session
        With the instruments, and the rate of the samples.
    rig
        As it was while it was recorded.
    heard
        Samples of each recorded track, full scale at 1, of one start and clock, shape (frames,).
    names
        Of the tracks.
    stored
        What is kept of the instruments' playing.
    impulses
        The person's own impulse responses.
    look
        Called between the steps; raises to cancel.

    Returns
    -------
    The doubts, by instrument and track in the plan's order; none where too little was played to
    tell.
    """
    graph, rate_hz = rig_graph(session, rig, stored), float(session.sample_rate_hz)
    groups: dict[str, list[Proved]] = {}
    for plan in plan_tracks(graph):
        if plan.track in heard and plan.course is not None and plan.course.source is not None:
            one = Proved(plan, names.get(plan.track, str(plan.track)),
                         np.asarray(heard[plan.track], np.float64))  # fmt: skip
            groups.setdefault(plan.source, []).append(one)
    found: list[Doubt] = []
    for source, tracks in groups.items():
        look()
        if min(one.samples.size for one in tracks) >= SHORTEST_S * rate_hz:
            group = _Group(graph, source, tuple(tracks), rate_hz, impulses, look)
            found += group.doubts()
            choice = candidates(session, rig, source, stored)
            found += _instrument(group.dry_as_found(found), choice, rate_hz, look)
    return tuple(found)


@dataclass(frozen=True)
class _Group:
    """The tracks of one instrument."""

    graph: RigGraph
    source: str
    tracks: tuple[Proved, ...]
    rate_hz: float
    impulses: Impulses | None
    look: Callable[[], None]
    kept: dict[int, tuple[Proved, dict[PortRef, Real]]] = field(default_factory=dict)
    """What the rig makes of a dry track, by the track's identity."""

    def dry_as_found(self, doubts: Sequence[Doubt]) -> Proved | None:
        """The dry track, where the other doubts leave it standing."""
        dry = next((one for one in self.tracks if one.plan.tap == "di"), None)
        if dry is None or dry.peak_dbfs < HEARD_DBFS:
            return None
        return None if any(dry.name in (one.track, one.other) for one in doubts) else dry

    def doubts(self) -> list[Doubt]:
        if max(one.peak_dbfs for one in self.tracks) < HEARD_DBFS:
            return []
        silent = [one for one in self.tracks if one.silent]
        sounding = [one for one in self.tracks if not one.silent]
        found = [_silent(one) for one in silent]
        dry = next((one for one in sounding if one.plan.tap == "di"), None)
        if dry is None or len(sounding) < 2:
            return found
        others = [one for one in sounding if one is not dry]
        return found + self._held_against(dry, others)

    def _held_against(self, dry: Proved, others: list[Proved]) -> list[Doubt]:
        copies = self._copies_among(dry, others)
        if copies:
            bad = {id(one) for _, one in copies}
            rest = [one for one in others if id(one) not in bad]
            return [*(doubt for doubt, _ in copies), *self._rest(dry, rest)]
        swapped = self._swapped(dry, others)
        if swapped is not None:
            words, turned_dry, turned = swapped
            return [words, *self._rest(turned_dry, turned)]
        return self._rest(dry, others)

    def _copies_among(self, dry: Proved, others: list[Proved]) -> list[tuple[Doubt, Proved]]:
        """Tracks beside the dry one that hold the same and should not: the one that is less what it
        should be is the copy."""
        if self._fit(dry, others) >= ALL_AS_PLANNED:
            return []
        expected = self._expected(dry)
        known = [one for one in others if one.plan.track in expected]
        found: list[tuple[Doubt, Proved]] = []
        for one, other in itertools.combinations(known, 2):
            self.look()
            a, b = expected[one.plan.track], expected[other.plan.track]
            reach = (-self._reach, self._reach)
            if not self._same(one, other) or copied(a, b, reach).null_db < NO_COPY_DB:
                continue
            first = abs(self._match(a, one).likeness) < abs(self._match(b, other).likeness)
            wrong, right = (one, other) if first else (other, one)
            null_db = copied(right.samples, wrong.samples, reach).null_db
            found.append((_copy_of(right, wrong, null_db), wrong))
        return found

    def _rest(self, dry: Proved, others: Sequence[Proved]) -> list[Doubt]:
        found: list[Doubt] = []
        leaks: list[tuple[float, Proved, Leak]] = []
        expected = self._expected(dry)
        for one in others:
            self.look()
            made = expected.get(one.plan.track)
            if made is None:
                continue
            copy = _copy(dry, one, made, self._reach)
            if copy is not None:
                found.append(copy)
            elif dry.peak_dbfs < FULL_DBFS:
                match = self._match(made, one)
                found += self._one(dry, one, made, match)
                leak = _back(dry, one, made, match, self.rate_hz)
                if leak is not None and not one.dry:
                    leaks.append((leak.coherence, one, leak))
        if leaks:
            # Tracks of one performance are alike: the one that leaks is the most alike.
            _, one, leak = max(leaks, key=lambda entry: entry[0])
            # And what the dry one should not hold is then in what the others should.
            found = [doubt for doubt in found if doubt.kind != "leak"]
            found.append(_leak(one, dry, leak, self.rate_hz))
        return found

    def _one(self, dry: Proved, one: Proved, made: Real, match: Likeness) -> list[Doubt]:
        found: list[Doubt] = []
        if match.likeness < -TURNED and match.rival < CERTAIN * -match.likeness:
            found.append(
                Doubt(
                    kind="inverted", track=one.name,
                    words=f"{one.name} arrives upside down: by the rig it should be "
                    f"the same way up as {dry.name} makes it.",
                    remedy="Turn its polarity where it is mixed, or find the lead or switch that "
                    "turns it.",
                )
            )  # fmt: skip
        forth = _forth(dry, one, made, match, self.rate_hz)
        return found if forth is None or one.dry else [*found, forth]

    # --- which is which ---

    def _swapped(
        self, dry: Proved, others: list[Proved]
    ) -> tuple[Doubt, Proved, list[Proved]] | None:
        """Two tracks that hold each other's sound, and the tracks as they would be then."""
        here = self._fit(dry, others)
        if here >= ALL_AS_PLANNED:
            return None
        best: tuple[float, Proved] | None = None
        same = {id(one) for one in others if self._same(dry, one)}
        for one in others:
            self.look()
            if id(one) in same:
                continue  # exchanged, they would be what they are
            turned_dry, turned = _exchanged(dry, one, others)
            fit = self._fit(turned_dry, turned)
            steep = steepness(dry.samples, one.samples, self.rate_hz)
            less = steep is not None and steep > LET_GO
            sure = fit >= CERTAIN or (fit > CLEARLY * max(here, 0.1) and less)
            likely = sure or (less and here < UNLIKE and fit >= here)
            if same:
                likely = fit >= CERTAIN  # else what holds another's sound is its copy
            if likely and (best is None or fit > best[0]):
                best = fit, one
        if best is not None:
            one = best[1]
            turned_dry, turned = _exchanged(dry, one, others)
            return _swap(dry, one), turned_dry, turned
        return self._swapped_among(dry, others)

    def _swapped_among(
        self, dry: Proved, others: list[Proved]
    ) -> tuple[Doubt, Proved, list[Proved]] | None:
        expected = self._expected(dry)
        for index, one in enumerate(others):
            for other in others[index + 1 :]:
                a, b = expected.get(one.plan.track), expected.get(other.plan.track)
                if a is None or b is None:
                    continue
                as_is = min(abs(self._match(a, one).likeness), abs(self._match(b, other).likeness))
                crossed = min(
                    abs(self._match(a, other).likeness), abs(self._match(b, one).likeness)
                )
                if crossed >= TURNED and 1.0 - crossed**2 < LEAVES * (1.0 - as_is**2):
                    return _swap(one, other), dry, list(_among(others, one, other))
        return None

    def _fit(self, dry: Proved, others: Sequence[Proved]) -> float:
        """How alike the others are to what the rig makes of the dry one: of the least alike."""
        expected = self._expected(dry)
        fits = [
            abs(self._match(expected[one.plan.track], one).likeness)
            for one in others
            if one.plan.track in expected
        ]
        return min(fits, default=1.0)

    # --- what the rig makes of it ---

    @property
    def _reach(self) -> int:
        return round(REACH_S * self.rate_hz)

    def _same(self, dry: Proved, one: Proved) -> bool:
        return copied(dry.samples, one.samples, (-self._reach, self._reach)).null_db < COPY_DB

    def _match(self, made: Real, one: Proved) -> Likeness:
        made, samples = _inside(made, self.rate_hz), _inside(one.samples, self.rate_hz)
        return most_alike(made, samples, (-self._reach, self._reach), finer=1)

    def _expected(self, dry: Proved) -> dict[PortRef, Real]:
        """What every track of the rig should hold when the dry one holds this."""
        if id(dry) not in self.kept:
            self.kept[id(dry)] = dry, self._played(dry)
        return self.kept[id(dry)][1]

    def _played(self, dry: Proved) -> dict[PortRef, Real]:
        response = self._bench().process(self._impulse())[dry.plan.track] / IMPULSE_V
        emf, lead = undone(dry.samples, response, round(PAD_S * self.rate_hz))
        count = dry.samples.size
        return {
            track: samples[lead : lead + count]
            for track, samples in self._bench().process(emf).items()
        }

    def _bench(self) -> RigBench:
        faults = BenchFaults(noise=False)
        return RigBench(self.graph, self.source, self.rate_hz, faults, self.impulses, None)

    def _impulse(self) -> Real:
        impulse = np.zeros(round(2.0 * PAD_S * self.rate_hz))
        impulse[0] = IMPULSE_V
        return impulse


def undone(samples: Real, response: Real, pad: int) -> tuple[Real, int]:
    """What went into a linear course, by what came out.

    Parameters
    ----------
    samples
        What came out, shape (frames,).
    response
        The course's answer to an impulse of 1, shape (taps,).
    pad
        Frames of silence ahead and behind.

    Returns
    -------
    What went in, and the frame in it that belongs to the first one of `samples`.
    """
    import scipy.fft

    count = samples.size + 2 * pad
    size = scipy.fft.next_fast_len(count + response.size, real=True)
    padded = np.zeros(size)
    padded[pad : pad + samples.size] = samples
    gain = scipy.fft.rfft(response, size)
    power = np.square(np.abs(gain))
    inverse = gain.conj() / (power + EMF_FLOOR * float(power.max()))
    return np.asarray(scipy.fft.irfft(scipy.fft.rfft(padded) * inverse, size)[:count]), pad


def _inside(x: Real, rate_hz: float) -> Real:
    """A stretch without its ends."""
    edge = round(EDGE_S * rate_hz)
    return x[edge : x.size - edge]


def _exchanged(dry: Proved, one: Proved, others: Sequence[Proved]) -> tuple[Proved, list[Proved]]:
    return dry.holding(one.samples), [
        other.holding(dry.samples) if other is one else other for other in others
    ]


def _among(others: Sequence[Proved], a: Proved, b: Proved) -> Sequence[Proved]:
    return [
        one.holding(b.samples) if one is a else one.holding(a.samples) if one is b else one
        for one in others
    ]


# --- one doubt each ---


def _swap(one: Proved, other: Proved) -> Doubt:
    return Doubt(
        kind="swapped", track=one.name, other=other.name,
        words=f"{one.name} and {other.name} hold each other's sound.",
        remedy="Exchange their leads (or sides of the device), or their sockets in Rig > Which "
        "socket is which.",
    )  # fmt: skip


def _silent(one: Proved) -> Doubt:
    return Doubt(
        kind="silent", track=one.name,
        words=f"{one.name} is silent while others play.",
        remedy="Look at its lead, its input's switch and gain, and Rig > Which socket is which.",
    )  # fmt: skip


def _copy(dry: Proved, one: Proved, made: Real, reach: int) -> Doubt | None:
    """A track that should be something else than the dry one, and is not."""
    same = copied(dry.samples, one.samples, (-reach, reach))
    if same.null_db > COPY_DB:
        return None
    if copied(dry.samples, made, (-reach, reach)).null_db < NO_COPY_DB:
        return None
    return _copy_of(dry, one, same.null_db)


def _copy_of(held: Proved, one: Proved, null_db: float) -> Doubt:
    return Doubt(
        kind="copy", track=one.name, other=held.name,
        words=f"{one.name} is a copy of {held.name}: what differs lies {-null_db:.0f} dB down.",
        remedy="See which of the two is what it says: the tap of the device, a bypass, or one "
        "input feeding two tracks.",
    )  # fmt: skip


def _instrument(
    dry: Proved | None, choice: Sequence[Candidate], rate_hz: float, look: Callable[[], None]
) -> list[Doubt]:
    if dry is None:
        return []
    found = fit(dry.samples, dry.plan.track, choice, rate_hz, look)
    if found.verdict != "another":
        return []
    return [
        Doubt(
            kind="instrument", track=dry.name,
            words=f"{dry.name} does not fit the instrument that is said. {found.words}",
            remedy="Choose the instrument in hand and its selector (Takes, Instruments), or the "
            "input's switch in Rig.",
        )
    ]  # fmt: skip


def _forth(dry: Proved, one: Proved, made: Real, lag: Likeness, rate_hz: float) -> Doubt | None:
    """A leak of the dry track into another: only where the other is else what our stages make of
    it can a rest be told from a tone."""
    if lag.likeness < CERTAIN or lag.lag_samples != 0.0:
        return None
    leak = besides(*(_inside(x, rate_hz) for x in (one.samples, made, dry.samples)))
    found = leak.db > LEAK_DB and leak.coherence > REST_COHERENCE
    return _leak(dry, one, leak, rate_hz) if found else None


def _back(dry: Proved, one: Proved, made: Real, lag: Likeness, rate_hz: float) -> Leak | None:
    """A leak of another track into the dry one.

    It bends what the rig makes of the dry one. Of an amplifier of which that says nothing, a driven
    one tells: a clean one shares its very noise with the dry track.
    """
    samples, made, played = (_inside(x, rate_hz) for x in (one.samples, made, dry.samples))
    leak = leaked(samples, played, rate_hz)
    if leak.db < LEAK_DB or leak.coherence < BENT_COHERENCE:
        return None
    if CERTAIN < lag.likeness < EXACTLY and lag.lag_samples == 0.0:
        return leak
    usual = leaked(made, played, rate_hz)
    more = leak.db > usual.db + OVER_PLAN_DB and leak.coherence > 2.0 * usual.coherence
    held = steepness(dry.samples, one.samples, rate_hz)
    clear = leak.coherence > LEAK_COHERENCE and held is not None and held < HELD_BACK
    return leak if more and clear else None


def _leak(source: Proved, into: Proved, leak: Leak, rate_hz: float) -> Doubt:
    # What the noise of pauses tells is nearer than what the playing does.
    noise = noise_leak(source.samples, into.samples, rate_hz)
    down = noise.db if noise is not None and noise.sure else leak.db
    return Doubt(
        kind="leak", track=into.name, other=source.name,
        words=f"{source.name} leaks into {into.name}, {-down:.0f} dB down.",
        remedy="Look at the device's sides (panned hard?), a shared lead or splitter, and a "
        "recorder that mixes inputs.",
    )  # fmt: skip
