"""What the plan says is what the sound does: drawn rigs with the excerpt's own notes, and every
arrangement with other playing."""

from __future__ import annotations

import random
from collections import defaultdict
from dataclasses import dataclass, field, replace

import numpy as np

from diaulos.demo.saltmarsh import PLAYERS
from diaulos.errors import DiaulosError
from diaulos.rig.bench import BenchFaults, RigBench, strum_volts
from diaulos.rig.bench.processors import Limit
from diaulos.rig.bench.steps import StepMaker
from diaulos.rig.catalogue.types import make
from diaulos.rig.course import Course, source_of
from diaulos.rig.excerpt import CHORDS, PLANNED_CHORDS
from diaulos.rig.fits import joined
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import CableKind, Choice, Control, Direction, PortRef, Rig
from diaulos.rig.sources import PlayedSource
from diaulos.rig.templates import TEMPLATES, build
from diaulos.rig.trackplan import TrackPlan, plan_tracks
from diaulos.units import gain_to_db
from diaulos.work.rigs.look import instrument_source
from diaulos.work.rigs.rendering import PLAYER_LOAD, recorded_gain

RATE = 48_000.0
RIGS, PERFORMANCES = 300, 400
QUIETEST_DBFS = -70.0
"""A track below is as good as silent: its peak is not what anybody plans."""
NEAR_DB, ALL_DB = 0.5, 1.5
CLIPS_DB = 0.5
STRUMS = 3
TOLD = 100
RECORDING = tuple(one for one in TEMPLATES if not one.startswith("reamp"))


def instruments() -> list[PlayedSource]:
    """Those of the demo, by their readings."""
    return [instrument_source(player.instrument) for player in PLAYERS]


def turned(rig: Rig, rng: random.Random, share: float) -> Rig:
    """Some knobs turned and switches thrown."""
    for device in rig.devices:
        for setting in device.settings:
            if setting.id == "rate":
                continue  # at the wrong speed it is another sound: a fault of its own
            if rng.random() > share:
                continue
            if isinstance(setting, Control):
                value: float | str = setting.nearest(rng.uniform(setting.minimum, setting.maximum))
            elif isinstance(setting, Choice) and setting.options:
                value = rng.choice([option for option, _ in setting.options])
            else:
                continue
            rig = rig.with_setting(device.id, setting.id, value)
    return rig


MICROPHONES = ("large_dynamic", "small_dynamic", "condenser", "ribbon")
BETWEEN = ("pedal", "compressor_pedal", "buffered_splitter")


def exchanged(rig: Rig, rng: random.Random, share: float) -> Rig:
    """Other microphones in the place of some, and a pedal or splitter behind some instruments."""
    for device in rig.devices:
        if device.kind == "microphone" and rng.random() < share:
            other = make(rng.choice(MICROPHONES), device.id)
            rig = rig.model_copy(
                update={"devices": tuple(other if d.id == device.id else d for d in rig.devices)}
            )
    for cable in rig.cables:
        starts = rig.device(cable.source.device).kind == "instrument"
        if not starts or cable.kind is CableKind.AIR or rng.random() > share:
            continue
        box = make(rng.choice(BETWEEN), f"between_{cable.id}")
        behind = next(p.id for p in box.ports if p.direction is Direction.OUT)
        rest = tuple(one for one in rig.cables if one.id != cable.id)
        rig = rig.model_copy(update={"devices": (*rig.devices, box), "cables": rest})
        rig = joined(rig, cable.source, PortRef(device=box.id, port="in"))
        rig = joined(rig, PortRef(device=box.id, port=behind), cable.target)
    return rig


def shaken(rig: Rig, rng: random.Random, share: float = 0.25) -> Rig:
    """The same, with other devices and cables of other lengths."""
    rig = turned(exchanged(rig, rng, share), rng, share)
    cables = tuple(
        cable.model_copy(update={"length_m": round(rng.uniform(0.3, 12.0), 1)})
        if rng.random() < share else cable
        for cable in rig.cables
    )  # fmt: skip
    return rig.model_copy(update={"cables": cables})


@dataclass(frozen=True)
class Heard:
    """A course as it sounded: peak in dBFS, and how far the worst limit was passed, in dB."""

    peak_dbfs: float
    over_db: float


def listened(course: Course, volts: np.ndarray) -> Heard:
    """A course played step by step, without noise."""
    assert course.source is not None
    maker = StepMaker(
        course, RATE, BenchFaults.none(), None, lambda _key: 0,
        recorded_gain(course.source, PLAYER_LOAD),
    )  # fmt: skip
    signal, over = volts, -300.0
    for step in maker.steps:
        if isinstance(step.processor, Limit):
            over = max(over, gain_to_db(float(np.max(np.abs(signal))) / step.processor.peak))
        signal, _ = step.processor.process(signal, step.processor.initial_state())
    return Heard(gain_to_db(float(np.max(np.abs(signal)))), over)


@dataclass
class Tally:
    """What came of a run."""

    differences: list[float] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)


def one_rig(seed: int, sources: list[PlayedSource], tally: Tally) -> None:
    """A drawn rig: every track's peak, and whether what clips is what was said to clip."""
    rng = random.Random(seed)
    name = rng.choice(RECORDING)
    rig = shaken(build(name, "r1"), rng)
    played = rng.choice(sources)
    graph = RigGraph(rig, {d.id: played for d in rig.devices if d.kind == "instrument"})
    try:
        plans = plan_tracks(graph)
    except DiaulosError:
        return
    for plan in plans:
        if plan.course is None or plan.course.source is None or plan.unclipped_dbfs is None:
            continue
        if plan.unclipped_dbfs < QUIETEST_DBFS:
            continue
        volts = strum_volts(plan.course.source, PLAYER_LOAD, RATE, strums=STRUMS)
        _held_together(
            f"rig {seed}, {name}, {plan.track}", plan, listened(plan.course, volts), tally
        )


def _held_together(where: str, plan: TrackPlan, heard: Heard, tally: Tally) -> None:
    assert plan.unclipped_dbfs is not None
    off = min(0.0, heard.peak_dbfs) - min(0.0, plan.unclipped_dbfs)
    tally.differences.append(off)
    if abs(off) > ALL_DB:
        tally.wrong.append(f"{where}: {plan.unclipped_dbfs:.1f} planned, {off:+.1f} dB")
    said = max((level.clips_db for level in plan.clipped), default=0.0)
    if said > CLIPS_DB and heard.over_db <= 0.0:
        tally.wrong.append(f"{where}: said to clip by {said:.1f} dB, does not")
    if heard.over_db > CLIPS_DB and said == 0.0:
        tally.wrong.append(f"{where}: clips by {heard.over_db:.1f} dB, not said")


def one_performance(number: int, sources: list[PlayedSource]) -> list[tuple[str, float]]:
    """Other chords with another seed through an arrangement: (tap, got less planned)."""
    rng = random.Random(number)
    graph, plans, start, played = _arranged(rng, sources)
    chords = rng.choice([one for one in CHORDS if one != PLANNED_CHORDS])
    seed = rng.randint(2, 6)
    volts = strum_volts(played, PLAYER_LOAD, RATE, seed=seed, chords=chords)
    bench = RigBench(
        graph, start, RATE, BenchFaults(seed=seed), None, recorded_gain(played, PLAYER_LOAD)
    )
    heard = bench.process(np.concatenate([volts, np.zeros(int(0.2 * RATE))]))
    found = []
    for plan in plans:
        if plan.source == start and plan.unclipped_dbfs is not None and plan.track in heard:
            got = gain_to_db(float(np.max(np.abs(heard[plan.track]))))
            found.append((str(plan.tap), min(0.0, got) - min(0.0, plan.unclipped_dbfs)))
    return found


def _arranged(
    rng: random.Random, sources: list[PlayedSource]
) -> tuple[RigGraph, tuple[TrackPlan, ...], str, PlayedSource]:
    rig = build(rng.choice(RECORDING), "r1")
    played = replace(rng.choice(sources))
    graph = RigGraph(rig, {d.id: played for d in rig.devices if d.kind == "instrument"})
    plans = plan_tracks(graph)
    start = next(plan.source for plan in plans if plan.source)
    source = source_of(graph, rig.device(start))
    assert source is not None
    return graph, plans, start, source


def run(rigs: int, performances: int, seed: int) -> tuple[str, int]:
    """Words for a person, and how many things did not hold."""
    sources = instruments()
    tally = Tally()
    for number in range(rigs):
        one_rig(seed * 100_003 + number, sources, tally)
    off = np.abs(tally.differences)
    near = float(np.mean(off <= NEAR_DB))
    if near < 0.95:
        tally.wrong.append(f"only {near:.1%} of {off.size} tracks are within {NEAR_DB} dB")
    by_tap: dict[str, list[float]] = defaultdict(list)
    for number in range(performances):
        for tap, db in one_performance(seed * 99_991 + number, sources):
            by_tap[tap].append(db)
    lines = []
    for tap, values in sorted(by_tap.items()):
        found = np.array(values)
        middle, within = float(np.median(found)), float(np.mean(np.abs(found) <= 1.5))
        widest = float(np.abs(found).max())
        lines.append(f"{tap}: median {middle:+.2f}, {within:.0%} within 1.5, most {widest:.1f} dB")
        told = found.size >= TOLD  # a handful has no median
        if widest > 3.0 or (told and (abs(middle) > 0.5 or within < 0.9)):
            tally.wrong.append(lines[-1])
    shown = "\n  ".join([*lines, *tally.wrong[:20]])
    return (
        f"truth: {len(tally.wrong)} of {off.size} tracks in {rigs} rigs wrong, {near:.1%} within "
        f"{NEAR_DB} dB, most {off.max():.2f}; {performances} performances\n  {shown}",
        len(tally.wrong),
    )
