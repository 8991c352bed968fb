"""Every track proved: takes of the bench with a planted fault, which is to be named, and takes
without one, of which nothing is to be said."""

from __future__ import annotations

import random
from collections import Counter
from dataclasses import dataclass, replace

import numpy as np
from truth import RECORDING, turned

from diaulos.demo.saltmarsh import PLAYERS
from diaulos.errors import DiaulosError
from diaulos.rig.bench import BenchFaults, RigBench, strum_volts
from diaulos.rig.excerpt import CHORDS
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.templates import build
from diaulos.rig.trackplan import TrackPlan, plan_tracks, with_planned_gains
from diaulos.session.instrument import Instrument
from diaulos.session.model import Session
from diaulos.signal.hiss import apart, centres_hz
from diaulos.units import db_to_gain
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.rendering import PLAYER_LOAD, recorded_gain
from diaulos.work.takes.fitting import candidates, own_noise, white
from diaulos.work.takes.proof import prove

RATE = 48_000
SECONDS = 10.0
FAULTY, CLEAN = 300, 300
KINDS = ("silent", "copy", "not dry", "swapped", "inverted", "leak", "instrument")
LEAST_NAMED, MOST_FALSE = 0.95, 1
DISTINCT = 60.0
"""Chi squared by which two instruments' own noises differ, for it to be a fault that anybody can
tell by them."""


@dataclass
class Take:
    """A take of the bench, as it should be."""

    session: Session
    rig: Rig
    plans: dict[PortRef, TrackPlan]
    names: dict[PortRef, str]
    heard: dict[PortRef, np.ndarray]
    words: str


def _rig(rng: random.Random, held: Instrument) -> Rig:
    rig = turned(build(rng.choice(RECORDING), "r1"), rng, 0.1)
    for device in rig.devices:
        if device.kind == "instrument" and device.has_setting("instrument"):
            rig = rig.with_setting(device.id, "instrument", held.id)
    return rig


def _hands(rng: random.Random) -> list[Instrument]:
    """The demo's instruments, each at any of its positions."""
    return [
        player.instrument.model_copy(
            update={"position_id": rng.choice(player.instrument.positions).id}
        )
        for player in PLAYERS
    ]


def drawn(seed: int, *, other: bool = False) -> Take | None:
    """A take from drawn rig, instrument and playing; `other`: played on another instrument or
    selector than the session says. None where nothing of it can be held against anything."""
    rng = random.Random(seed)
    hands = _hands(rng)
    held = rng.choice(hands)
    rig = _rig(rng, held)
    session = Session(
        id="s", name="Soak", sample_rate_hz=RATE, instruments=tuple(hands), rigs=(rig,),
        current_rig=rig.id,
    )  # fmt: skip
    try:
        rig = with_planned_gains(rig, graph=rig_graph(session, rig))
        session = session.model_copy(update={"rigs": (rig,)})
        graph = rig_graph(session, rig)
        plans = {
            one.track: one
            for one in plan_tracks(graph)
            if one.course is not None and one.course.source is not None
        }
    except DiaulosError:
        return None
    dry = next((one for one in plans.values() if one.tap == "di"), None)
    if dry is None or (dry.unclipped_dbfs or 0.0) > -0.5:
        return None
    plans = {
        track: one
        for track, one in plans.items()
        if one.source == dry.source and -45.0 < (one.unclipped_dbfs or -99.0) < 6.0
    }
    if other:
        found = _another(session, rig, dry, rng)
        if found is None:
            return None
        graph = found
    source = graph.sources[dry.source]
    seed_played = rng.randint(2, 999)
    volts = strum_volts(
        source, PLAYER_LOAD, RATE, seed=seed_played, chords=rng.choice(list(CHORDS)), strums=8
    )
    bench = RigBench(
        graph, dry.source, RATE, BenchFaults(seed=seed_played), None,
        recorded_gain(source, PLAYER_LOAD),
    )  # fmt: skip
    lead = bench.lead_samples
    heard = {
        track: np.clip(samples[lead : lead + int(SECONDS * RATE)], -1.0, 1.0).astype(np.float32)
        for track, samples in bench.process(volts).items()
        if track in plans
    }
    if dry.track not in heard:
        return None
    names = {track: f"{number} {one.tap}" for number, (track, one) in enumerate(plans.items(), 1)}
    return Take(session, rig, plans, names, heard, rig.name)


def _another(session: Session, rig: Rig, dry: TrackPlan, rng: random.Random) -> RigGraph | None:
    """The rig with another instrument, selector or load, whose own noise anybody could tell."""
    choice = candidates(session, rig, dry.source)
    said = own_noise(choice[0].graph, dry.track, float(RATE))
    far = []
    for one in choice[1:]:
        noise = own_noise(one.graph, dry.track, float(RATE))
        if said is None or noise is None:
            continue
        few = replace(said, moments=34)
        bands = centres_hz(RATE).size
        few_of_it = replace(noise, moments=34)
        shaped = apart(few_of_it, white(few_of_it), float(RATE))[1] ** 2 * bands
        chi = apart(few, noise, float(RATE))[1] ** 2 * bands
        if min(chi, shaped) > DISTINCT:
            far.append(one)
    return rng.choice(far).graph if far else None


def _dry(take: Take) -> PortRef:
    return next(track for track, one in take.plans.items() if one.tap == "di")


def _unlike(take: Take) -> list[PortRef]:
    """Tracks that are no copy of the dry one by plan."""
    dry = _dry(take)
    found = []
    for track, one in take.plans.items():
        if track != dry and one.course is not None and one.course.has_stage("amp"):
            found.append(track)
    return found


def planted(take: Take, kind: str, rng: random.Random) -> tuple[set[str], set[str]] | None:
    """Plant a fault into a take: the kinds that name it, and the tracks it is of."""
    dry, others = _dry(take), _unlike(take)
    name, heard = take.names, take.heard
    if kind == "instrument":
        return {"instrument"}, {name[dry]}
    if kind == "silent":
        if len(heard) < 2:
            return None  # nobody says that anybody plays
        one = rng.choice([*others, dry])
        hiss = np.random.default_rng(rng.randint(1, 999)).standard_normal(heard[one].size)
        heard[one] = (db_to_gain(rng.uniform(-110.0, -75.0)) * hiss).astype(np.float32)
        return {"silent"}, {name[one]}
    if not others:
        return None
    one = rng.choice(others)
    if kind == "copy":
        late = rng.randint(0, 300)
        heard[one] = np.roll(heard[dry], late) * np.float32(db_to_gain(rng.uniform(-12.0, 6.0)))
        return {"copy"}, {name[one]}
    if kind == "not dry":
        heard[dry] = heard[one] * np.float32(db_to_gain(rng.uniform(-12.0, 3.0)))
        return {"copy"}, {name[dry]}
    if kind == "swapped":
        heard[dry], heard[one] = heard[one], heard[dry]
        return {"swapped"}, {name[dry], name[one]}
    if kind == "inverted":
        heard[one] = -heard[one]
        return {"inverted"}, {name[one]}
    a, b = (dry, one) if rng.random() < 0.5 else (one, dry)
    loud = [float(np.sqrt(np.mean(np.square(heard[track])))) for track in (a, b)]
    # As far down re what it leaks into as anybody would mind.
    down = rng.uniform(-34.0, -12.0)
    heard[b] = heard[b] + np.float32(db_to_gain(down) * loud[1] / loud[0]) * heard[a]
    return {"leak"}, {name[b]}


def one_fault(seed: int) -> tuple[str, bool, str] | None:
    """(kind, whether it was named, words)."""
    rng = random.Random(seed)
    kind = rng.choice(KINDS)
    take = drawn(seed, other=kind == "instrument")
    if take is None:
        return None
    wanted = planted(take, kind, rng)
    if wanted is None:
        return None
    doubts = prove(take.session, take.rig, take.heard, take.names)
    kinds, tracks = wanted
    named = any(d.kind in kinds and tracks & {d.track, d.other} for d in doubts)
    said = "; ".join(f"{d.kind} {d.track}/{d.other}" for d in doubts) or "nothing"
    return kind, named, f"{seed} {take.words}: {kind} of {sorted(tracks)}, told: {said}"


def cut(take: Take, seed: int) -> None:
    """As a hand does: begun while it rings, ended before the chord is over, soon or late."""
    rng = random.Random(f"{seed} cut")
    first = round(rng.uniform(0.0, 4.0) * RATE)
    count = round(min(rng.uniform(2.05, 10.0), SECONDS - first / RATE) * RATE)
    take.heard = {track: x[first : first + count] for track, x in take.heard.items()}


def one_clean(seed: int) -> str | None:
    """What was said of a take without a fault, "" for nothing; None where there was none."""
    take = drawn(seed)
    if take is None:
        return None
    if seed % 2:
        cut(take, seed)
    doubts = prove(take.session, take.rig, take.heard, take.names)
    return "; ".join(f"{seed} {take.words}: {d.kind} {d.track}: {d.words}" for d in doubts)


def run(faulty: int, clean: int, seed: int) -> tuple[str, int]:
    """Words for a person, and how many things did not hold."""
    lines: list[str] = []
    count, named, kinds = 0, 0, Counter()
    at = seed * 100_000
    while count < faulty:
        at += 1
        found = one_fault(at)
        if found is None:
            continue
        count += 1
        named += found[1]
        if not found[1]:
            kinds[found[0]] += 1
            lines.append(found[2])
    false, at = [], seed * 100_000 + 50_000
    count = 0
    while count < clean:
        at += 1
        said = one_clean(at)
        if said is None:
            continue
        count += 1
        if said:
            false.append(said)
    wrong = int(named < LEAST_NAMED * faulty) + max(0, len(false) - MOST_FALSE)
    words = f"proof: {named} of {faulty} faults named, {len(false)} of {clean} clean takes doubted"
    return "\n".join([words, *lines, *false]), wrong
