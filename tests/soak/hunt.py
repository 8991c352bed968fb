"""The noise hunt: rigs of the bench with one thing wrong in them. Is it found, and by how many
tests?"""

from __future__ import annotations

import random
import statistics
from collections import Counter
from dataclasses import dataclass, replace

import numpy as np
from truth import RECORDING, instruments, shaken

from diaulos.errors import DiaulosError
from diaulos.rig.bench import BenchFaults, RigBench
from diaulos.rig.catalogue.types import make
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.strays import Stray, StrayKind, StrayPlace
from diaulos.rig.templates import build
from diaulos.units import LOWEST_DB, db_to_gain
from diaulos.work.hunting.causes import Cause, Family, causes_of, courses_of
from diaulos.work.hunting.hunt import STANDS_DB, Hunt, family_of
from diaulos.work.hunting.listens import SETTLE_S, SPAN_S, SPANS, Listen, listen_of
from diaulos.work.hunting.trials import Studio

RATE = 48_000
RIGS = 200
LEAST_RIGHT, MOST_TESTS = 0.95, 4
GIVEN_UP = 20
STRAYS: dict[Family, tuple[StrayKind, ...]] = {
    "mains": ("hum", "buzz", "ripple"), "whine": ("whine",), "hiss": ("hiss",),
}  # fmt: skip
PLACES: dict[str, StrayPlace] = {"pickup": "pickup", "lead": "cable", "device": "device"}


@dataclass
class Room:
    """A studio with something wrong, and what that is."""

    studio: Studio
    family: Family
    planted: Cause
    tracks: tuple[PortRef, ...]
    floors: dict[PortRef, float]
    words: str


def _listen(studio: Studio, tracks: tuple[PortRef, ...], seed: int, spans: int = SPANS) -> Listen:
    """What `listen` hears, without a stream: in one block."""
    graph, sounds = studio.graph, {}
    settle, frames = int(SETTLE_S * RATE), int(spans * SPAN_S * RATE)
    faults = replace(studio.faults, seed=seed)
    for start in {c.start.device.id for c in courses_of(graph, tracks).values()}:
        bench = RigBench(graph, start, float(RATE), faults)
        lead = bench.lead_samples + settle
        for track, sound in bench.process(np.zeros(lead + frames)).items():
            if track in tracks:
                sounds[track] = np.clip(sound[lead:], -1.0, 1.0).astype(np.float32)
    return listen_of({track: sounds[track] for track in tracks}, float(RATE))


def _rig(rng: random.Random) -> Rig:
    rig = shaken(build(rng.choice(RECORDING), "r1"), rng, 0.1)
    if rng.random() < 0.3:  # a supply without isolation, where there is one
        devices = tuple(
            make("shared_supply", one.id) if one.type == "isolated_supply" else one
            for one in rig.devices
        )
        rig = Rig.model_validate({**rig.model_dump(), "devices": devices})
    return rig


def room(seed: int) -> Room | None:
    """A drawn rig with one planted cause; None where it cannot be or cannot be heard."""
    rng = random.Random(seed)
    played = rng.choice(instruments())
    try:
        rig = _rig(rng)
        graph = RigGraph(rig, {d.id: played for d in rig.devices if d.kind == "instrument"})
        tracks = tuple(courses_of(graph))
        family: Family = rng.choice(("mains", "mains", "mains", "whine", "hiss"))
        causes = causes_of(graph, family) if tracks else ()
        if not causes:
            return None
        return _planted(graph, tracks, family, rng.choice(causes), rng, f"{seed} {rig.name}")
    except (DiaulosError, ValueError):
        return None


def _planted(
    graph: RigGraph, tracks: tuple[PortRef, ...], family: Family, cause: Cause,
    rng: random.Random, words: str,
) -> Room | None:  # fmt: skip
    faults = BenchFaults(mains_hz=rng.choice((50.0, 60.0)))
    studio = Studio(graph, faults)
    plain = _listen(studio, tracks, rng.randint(2, 10**6), 1)
    floors = {track: plain.level(track, "hiss") for track in tracks}
    words = f"{words}: {family}, {cause.words}"
    if cause.kind not in PLACES:
        quiet = _listen(studio.mended(cause), tracks, 1, 1)
        own = [t for t in tracks if plain.level(t, family) > quiet.level(t, family) + 10.0]
        out = [t for t in own if plain.level(t, family) - floors[t] > STANDS_DB[family] + 3.0]
        return Room(studio, family, cause, tracks, floors, words) if out else None
    # As loud as it takes to stand clear of everything else of its kind on the worst track.
    kinds = STRAYS[family]
    if cause.kind != "device":
        kinds = tuple(one for one in kinds if one != "ripple")  # no field has been rectified
    kind = rng.choice(kinds)
    volts = 1e-3
    over_db = rng.uniform(10.0, 30.0)
    for _ in range(3):
        stray = Stray(kind, PLACES[cause.kind], cause.at[0], volts)
        studio = Studio(graph, replace(faults, strays=(stray,)))
        heard = _listen(studio, tracks, 1, 1)
        stands = [
            heard.level(t, family) - max(floors[t], plain.level(t, family)) for t in tracks
            if heard.level(t, family) > LOWEST_DB
        ]  # fmt: skip
        if not stands:
            volts *= 30.0
            continue
        if abs(max(stands) - over_db) < 4.0:
            if family_of(heard, floors) != family:
                return None  # something else is worse
            return Room(studio, family, cause, tracks, floors, words)
        volts *= db_to_gain(over_db - max(stands))
    return None


def hunted(found: Room, seed: int) -> tuple[Cause | None, int, Hunt | None]:
    """What a person who does what is proposed finds, by how many tests."""
    first = _listen(found.studio, found.tracks, seed)
    family = family_of(first, found.floors)
    if family is None:
        return None, 0, None
    hunt = Hunt(found.studio.graph, first, family, found.floors)
    while hunt.verdict is None and len(hunt.results) < GIVEN_UP:
        trial = hunt.next_trial
        assert trial is not None
        heard = _listen(found.studio.after(trial), found.tracks, seed + 1 + len(hunt.results))
        hunt = hunt.after(trial, heard)
    return hunt.verdict, len(hunt.results), hunt


def run(rigs: int, seed: int) -> tuple[str, int]:
    """Words for a person, and how many things did not hold."""
    at, lines, tests, right, kinds = seed * 100_000, [], [], 0, Counter()
    while len(tests) < rigs:
        at += 1
        drawn = room(at)
        if drawn is None:
            continue
        cause, count, hunt = hunted(drawn, at)
        tests.append(count)
        kinds[drawn.planted.kind] += 1
        good = cause is not None and (cause.kind, cause.at) == (drawn.planted.kind,
                                                               drawn.planted.at)  # fmt: skip
        right += good
        if not good:
            tried = "; ".join(r.trial.words for r in hunt.results) if hunt else ""
            said = cause.words if cause else "nothing"
            left = hunt.left[:3] if hunt else ()
            shares = ", ".join(f"{one.cause.words} {one.share:.3f}" for one in left)
            lines.append(f"{drawn.words}; told: {said} after {count}: {tried} ({shares})")
    median = statistics.median(tests)
    wrong = int(right < LEAST_RIGHT * rigs) + int(median > MOST_TESTS)
    words = (
        f"hunt: {right} of {rigs} causes found, by {median:g} tests in the median, {max(tests)} at "
        f"most ({', '.join(f'{n} {kind}' for kind, n in sorted(kinds.items()))}); {wrong} of 2 "
        "aims missed"
    )
    return "\n".join([words, *lines]), wrong
