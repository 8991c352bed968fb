"""Rigs with one thing changed, and a judge of whether it matters.

The judge goes by the level plan and by its own way of following a track; it shares no code
with the checks.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass

from diaulos.rig.checks import Context, Severity, run_checks
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import (
    AmpStage,
    CabinetStage,
    Cable,
    CableKind,
    Choice,
    Control,
    Device,
    Direction,
    PortRef,
    Rig,
)
from diaulos.rig.templates import TEMPLATES, build
from diaulos.rig.trackplan import plan_tracks

LEVEL_DB, DELAY_MS = 3.0, 1.0


@dataclass(frozen=True)
class Mutant:
    """A rig with one thing changed, in words."""

    words: str
    rig: Rig


@dataclass(frozen=True)
class Fact:
    """What the judge knows of one track."""

    source: str
    tap: str
    channel: str
    rates: tuple[str, ...]
    peak: float | None
    delay: float
    clips: frozenset[str]


def follow(rig: Rig, track: PortRef) -> tuple[str, str, str, tuple[str, ...]]:
    """Source, tap, channel and rates of a track by looking back port by port.

    Written apart from `rig/course.py`: "" as source where the way ends, divides or circles.
    """
    devices = {d.id: d for d in rig.devices}
    device, port, channel = devices[track.device], track.port, 0
    way: list[tuple[Device, str]] = []
    marks: list[str] = []
    rates: list[str] = []
    came_by = ""
    for _ in range(200):
        cables = [c for c in rig.cables if (c.target.device, c.target.port) == (device.id, port)]
        if not cables or (len(cables) > 1 and any(c.kind is not CableKind.AIR for c in cables)):
            return "", "", "", ()
        cable = cables[0]
        device, port = devices[cable.source.device], cable.source.port
        came_by = came_by or f"{cable.source}"
        if device.has_setting("rate"):
            rates.append(device.word("rate"))
        if device.kind in ("recorder", "instrument"):
            return device.id, _tap(marks), came_by, tuple(sorted(set(rates)))
        paths = [
            p for p in device.paths
            if p.target == port and p.target_channel == channel
            and all(device.word(name) == value for name, value in p.when)
        ]  # fmt: skip
        plugged = [p for p in paths if any(
            (c.target.device, c.target.port) == (device.id, p.source) for c in rig.cables
        )]  # fmt: skip
        if not paths:
            return "", "", "", ()
        path = (plugged or paths)[0]
        if device.kind == "microphone":
            marks.append("mic")
        for stage in reversed(path.stages):
            if isinstance(stage, AmpStage):
                marks.append("amp" if stage.full_scale_dbu is None else "model")
            elif isinstance(stage, CabinetStage) and device.word(stage.setting) != "none":
                marks.append("cabinet")
        if path.printed:
            marks.append("printed")
        way.append((device, port))
        port, channel = path.source, path.source_channel
    return "", "", "", ()


def _tap(marks: list[str]) -> str:
    return "+".join(reversed(marks)) or "di"


def facts(rig: Rig, tracks: tuple[PortRef, ...]) -> dict[PortRef, Fact]:
    """What stands at every track."""
    plans = {p.track: p for p in plan_tracks(RigGraph(rig))}
    found = {}
    for track in tracks:
        source, tap, channel, rates = follow(rig, track)
        plan = plans.get(track)
        good = plan is not None and plan.problem is None
        found[track] = Fact(
            source,
            tap,
            channel,
            rates,
            plan.peak_dbfs if plan is not None and good else None,
            plan.delay_ms(48_000.0) if plan is not None and good else 0.0,
            frozenset(str(c.point) for c in plan.clipped) if plan is not None else frozenset(),
        )
    return found


def speakers_strayed(rig: Rig) -> int:
    """How many speaker outputs end in something else."""
    graph = RigGraph(rig)
    return sum(
        source.port.signal_class.value == "speaker" and target.port.signal_class.value != "speaker"
        for _, source, target in graph.cables()
    )


def matters(before: Rig, after: Rig) -> bool:
    """Whether some track changes source, tap, channel or rate, moves, or clips, or a speaker
    output leaves speaker and load ports."""
    tracks = tuple(t.port for t in before.tracks)
    if speakers_strayed(after) > speakers_strayed(before):
        return True
    old, new = facts(before, tracks), facts(after, tracks)
    for track in tracks:
        a, b = old[track], new[track]
        if (a.source, a.tap, a.channel, a.rates) != (b.source, b.tap, b.channel, b.rates):
            return True
        if (a.peak is None) != (b.peak is None):
            return True
        if a.peak is not None and b.peak is not None and abs(a.peak - b.peak) > LEVEL_DB:
            return True
        if abs(a.delay - b.delay) > DELAY_MS or b.clips - a.clips:
            return True
    return False


# --- making them ---


def mutants(rig: Rig, seed: int, count: int) -> Iterator[Mutant]:
    """Some rigs with one thing changed."""
    rng = random.Random(seed)
    kinds = (_swap, _swap, _switch, _switch, _turn, _turn, _ohms, _rate, _unplug, _move, _length)
    made = 0
    while made < count:
        found = rng.choice(kinds)(rig, rng)
        if found is None or found.rig == rig:
            continue
        made += 1
        yield found


def _with_cables(rig: Rig, changed: dict[str, Cable]) -> Rig:
    return rig.model_copy(update={"cables": tuple(changed.get(c.id, c) for c in rig.cables)})


def _swap(rig: Rig, rng: random.Random) -> Mutant | None:
    one, other = rng.sample(rig.cables, 2)
    changed = {
        one.id: one.model_copy(update={"target": other.target}),
        other.id: other.model_copy(update={"target": one.target}),
    }
    return Mutant(f"swap {one.source}→{one.target} and {other.source}→{other.target}",
                  _with_cables(rig, changed))  # fmt: skip


def _move(rig: Rig, rng: random.Random) -> Mutant | None:
    one = rng.choice(rig.cables)
    inputs = [
        PortRef(device=d.id, port=p.id)
        for d in rig.devices
        for p in d.ports
        if p.direction is Direction.IN
    ]
    target = rng.choice(inputs)
    changed = {one.id: one.model_copy(update={"target": target})}
    return Mutant(f"move {one.source} from {one.target} to {target}", _with_cables(rig, changed))


def _unplug(rig: Rig, rng: random.Random) -> Mutant | None:
    one = rng.choice(rig.cables)
    rest = tuple(c for c in rig.cables if c.id != one.id)
    return Mutant(f"unplug {one.source}→{one.target}", rig.model_copy(update={"cables": rest}))


def _switch(rig: Rig, rng: random.Random) -> Mutant | None:
    device = rng.choice(rig.devices)
    choices = [s for s in device.settings if isinstance(s, Choice) and len(s.options) > 1]
    if not choices:
        return None
    choice = rng.choice(choices)
    value = rng.choice([v for v, _ in choice.options if v != choice.value])
    return Mutant(
        f"{device.id} {choice.id} {choice.value}→{value}",
        rig.with_setting(device.id, choice.id, value),
    )


def _turn(rig: Rig, rng: random.Random) -> Mutant | None:
    device = rng.choice(rig.devices)
    knobs = [s for s in device.settings if isinstance(s, Control)]
    if not knobs:
        return None
    knob = rng.choice(knobs)
    value = knob.nearest(rng.uniform(knob.minimum, knob.maximum))
    return Mutant(
        f"{device.id} {knob.id} {knob.value:g}→{value:g}",
        rig.with_setting(device.id, knob.id, value),
    )


def _ohms(rig: Rig, rng: random.Random) -> Mutant | None:
    device = rng.choice(rig.devices)
    ports = [p for p in device.ports if _used(rig, device.id, p.id)]
    if not ports:
        return None
    port = rng.choice(ports)
    factor = rng.choice((0.01, 0.1, 0.25, 0.5, 2.0, 4.0, 10.0))
    new = port.model_copy(update={"impedance_ohm": port.impedance_ohm * factor})
    changed = device.model_copy(
        update={"ports": tuple(new if p.id == port.id else p for p in device.ports)}
    )
    return Mutant(f"{device.id}.{port.id} ohms ×{factor:g}", rig.with_device(changed))


def _used(rig: Rig, device: str, port: str) -> bool:
    return any(
        (e.device, e.port) == (device, port) for c in rig.cables for e in (c.source, c.target)
    )


def _rate(rig: Rig, rng: random.Random) -> Mutant | None:
    rated = [d for d in rig.devices if d.has_setting("rate")]
    device = rng.choice(rated)
    value = rng.choice(("44100", "88200", "96000"))
    return Mutant(f"{device.id} rate {value}", rig.with_setting(device.id, "rate", value))


def _length(rig: Rig, rng: random.Random) -> Mutant | None:
    one = rng.choice(rig.cables)
    length = round(rng.choice((0.2, 2.0, 5.0, 12.0, 30.0)), 2)
    changed = {one.id: one.model_copy(update={"length_m": length})}
    return Mutant(f"{one.source}→{one.target} {length:g} m", _with_cables(rig, changed))


# --- the count ---


@dataclass(frozen=True)
class Count:
    """How many were made, how many matter, how many of those some check notices."""

    made: int
    matter: int
    noticed: int
    rest: tuple[str, ...]


def count_noticed(per_template: int = 60, seed: int = 100) -> Count:
    """Mutants of every template; a mutant is noticed by a finding that the template itself
    does not have (another check, another place or another severity)."""
    made = matter = noticed = 0
    rest: list[str] = []
    for index, name in enumerate(TEMPLATES):
        rig = build(name, "r1")
        before = _found(rig)
        for mutant in mutants(rig, seed + index, per_template):
            made += 1
            if not matters(rig, mutant.rig):
                continue
            matter += 1
            if _found(mutant.rig) - before:
                noticed += 1
            else:
                rest.append(f"{name}: {mutant.words}")
    return Count(made, matter, noticed, tuple(sorted(set(rest))))


def _found(rig: Rig) -> set[tuple[tuple[str, str], Severity]]:
    return {(f.key, f.severity) for f in run_checks(Context(RigGraph(rig)))}
