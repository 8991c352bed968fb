"""Loop checks: planted changes named, unchanged loops left alone."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from diaulos.audio.bench_backend import BenchBackend
from diaulos.rig.bench import BenchFaults
from diaulos.rig.course import Course, reamp_courses
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.plan import return_control
from diaulos.rig.templates import build
from diaulos.session.model import Session
from diaulos.signal.loop_change import DRIVEN_DB
from diaulos.work.reamp.loopcheck import LoopChecked, check_loop

CHANGED, UNCHANGED = 200, 200
NAMED, QUIET = 0.95, 0
WAYS = ("reamp-box", "reamp-bass", "reamp-both", "reamp-loop")
VOICES = ("lantern", "tideline", "foghorn")
NOON = datetime(2026, 3, 12, 12, 0, tzinfo=UTC)
RATE = 48_000


@dataclass(frozen=True)
class Planted:
    """A change of the hardware: what it is, the hardware, what it does to what comes back, and the
    kinds by which it is named."""

    words: str
    rig: Rig
    kinds: frozenset[str]
    turned: Callable[[np.ndarray, int], np.ndarray] | None = None


class Hardware:
    """The bench as hardware that does not stand as the rig says."""

    def __init__(self, planted: Planted, seed: int) -> None:
        self._planted, self._seed, self._opened = planted, seed, 0

    def __call__(self, courses: tuple[Course, ...]) -> BenchBackend:
        there = {one.track: one for one in reamp_courses(self._planted.rig)}
        now = tuple(there[one.track] for one in courses)
        # No two listenings hear the same noise.
        backend = BenchBackend(now, BenchFaults(seed=self._seed + 1_000_003 * self._opened))
        self._opened += 1
        turned = self._planted.turned
        if turned is None:
            return backend
        opened = backend.open

        def open_(spec, callback):  # type: ignore[no-untyped-def]
            stream = opened(spec, callback)
            process, at = stream._bench.process, 0

            def played(block: np.ndarray) -> np.ndarray:
                nonlocal at
                out = turned(process(block), at)
                at += len(out)
                return out

            stream._bench.process = played
            return stream

        backend.open = open_  # type: ignore[method-assign]
        return backend


def drawn_rig(rng: random.Random) -> Rig:
    """A loop with its amplifier somehow set."""
    rig = build(rng.choice(WAYS), "loop")
    amp = rig.device("amp")
    if rig.device("amp").word("voice") != "keel":
        rig = rig.with_setting("amp", "voice", rng.choice(VOICES))
    for knob in ("drive", "bass", "mid", "treble"):
        rig = rig.with_setting("amp", knob, float(rng.randint(2, 8)))
    assert amp.has_setting("master")
    return rig


def planted_in(rig: Rig, rng: random.Random, kind: str) -> Planted | None:
    """One change of a kind; None where the loop has no place for it."""
    course = reamp_courses(rig)[0]
    if kind == "return":
        control = return_control(course)
        if control is None:
            return None
        device, knob = control
        by = rng.choice([-1, 1]) * rng.uniform(1.0, 6.0)
        value = knob.nearest(knob.value + by)
        if abs(value - knob.value) < 1.0:
            return None
        return Planted(f"{knob.name} by {value - knob.value:.1f} dB",
                       rig.with_setting(device.id, knob.id, value),
                       frozenset({"return", "level"}))  # fmt: skip
    if kind == "send":
        trim = rig.device("reamp_box").setting("trim")
        value = trim.nearest(trim.value + rng.choice([-6.0, -4.0, -3.0, -2.0, 2.0, 4.0, 6.0]))
        if abs(value - trim.value) < 1.0:
            return None
        return Planted(f"box trim by {value - trim.value:.1f} dB",
                       rig.with_setting("reamp_box", "trim", value),
                       frozenset({"send", "level"}))  # fmt: skip
    if kind == "cable":
        more = rng.uniform(10.0, 30.0)
        cables = tuple(
            one.model_copy(update={"length_m": one.length_m + more})
            if one.target == PortRef(device="amp", port="in") else one
            for one in rig.cables
        )  # fmt: skip
        return Planted(f"{more:.0f} m more", rig.model_copy(update={"cables": cables}),
                       frozenset({"treble"}))  # fmt: skip
    if kind == "plug":
        return Planted("an inverted plug", rig, frozenset({"inverted"}), lambda out, _: -out)
    if kind == "hum":
        loud = 10.0 ** (rng.uniform(-62.0, -45.0) / 20.0)

        def hums(out: np.ndarray, at: int) -> np.ndarray:
            t = (at + np.arange(len(out)))[:, None] / RATE
            lines = sum(np.sin(2.0 * np.pi * 50.0 * n * t) / n for n in (1, 2, 3))
            return out + loud * lines

        return Planted("hum", rig, frozenset({"hum"}), hums)
    if kind == "knob":
        knob = rng.choice(["bass", "mid", "treble"])
        value = rig.device("amp").number(knob)
        other = value + rng.choice([-1, 1]) * rng.choice([3.0, 4.0, 5.0])
        if not 0.0 <= other <= 10.0:
            other = 2.0 * value - other
        if not 0.0 <= other <= 10.0:
            return None
        return Planted(f"{knob} from {value:g} to {other:g}", rig.with_setting("amp", knob, other),
                       frozenset({"treble", "tone"}))  # fmt: skip
    # Another input of the interface: its gain stands elsewhere.
    into = course.legs[-2]
    taken = {c.target.port for c in rig.cables if c.target.device == into.device.id}
    free = [p.id for p in into.device.ports if p.id.startswith("in") and p.id not in taken]
    if not free or into.entry is None or not into.entry.id.startswith("in"):
        return None
    port = rng.choice(sorted(free))
    moved = []
    for one in rig.cables:
        if one.target == PortRef(device=into.device.id, port=into.entry.id):
            one = one.model_copy(update={"target": PortRef(device=into.device.id, port=port)})
        if one.source == PortRef(device=into.device.id, port=f"rec{into.entry.id[2:]}"):
            source = PortRef(device=into.device.id, port=f"rec{port[2:]}")
            one = one.model_copy(update={"source": source})
        moved.append(one)
    return Planted(f"input {port} in place of {into.entry.id}",
                   rig.model_copy(update={"cables": tuple(moved)}),
                   frozenset({"return", "level", "treble", "tone"}))  # fmt: skip


KINDS = ("return", "send", "cable", "plug", "hum", "knob", "input")


def checked(session: Session, planted: Planted, seed: int) -> LoopChecked:
    """The loop once more, on hardware that was changed."""
    return check_loop(session, "loop", backend_for=Hardware(planted, seed), clock=lambda: NOON)


def known(rig: Rig, seed: int) -> Session:
    """A session whose loop was checked once."""
    session = Session(id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig=rig.id)
    first = checked(session, Planted("", rig, frozenset()), seed)
    return first.keep(session)


def one_changed(rng: random.Random, kind: str) -> tuple[str, bool]:
    """What was planted and said, and whether it is the right name."""
    while True:
        rig = drawn_rig(rng)
        planted = planted_in(rig, rng, kind)
        if planted is not None:
            break
    seed = rng.randrange(10**6)
    session = known(rig, seed)
    found = checked(session, planted, seed + 1)
    main = found.returns[0]
    if main.change is None:
        return f"{rig.name}, {planted.words}: {main.reason}", False
    kinds = set(main.change.kinds)
    wanted = set(planted.kinds)
    if kind in ("send", "return") and main.slate.harmonics_db > DRIVEN_DB:
        wanted.discard("level")  # behind a driven amplifier the two are told apart
    right = bool(kinds & wanted) and not kinds - planted.kinds - {"noise"}
    change = main.change
    figures = (
        f"level {change.level_db:+.2f}, treble {change.treble_db:+.2f}, "
        f"bass {change.bass_db:+.2f}, "
        f"harmonics {change.harmonics_db:+.1f} ({main.slate.harmonics_db:.0f}), "
        f"noise {change.noise_db:+.1f}, hum {change.hum_db:+.1f}, "
        f"delay {change.delay_samples:+.2f}"
    )
    return f"{rig.name}, {planted.words}: {sorted(kinds)} ({figures})", right


def one_unchanged(rng: random.Random) -> tuple[str, bool]:
    """Whether nothing is said of a loop that is as it was."""
    rig = drawn_rig(rng)
    seed = rng.randrange(10**6)
    session = known(rig, seed)
    found = checked(session, Planted("", rig, frozenset()), seed + 1)
    return f"{rig.name}, unchanged: {found.words}", found.as_last is True


def run(changed: int = CHANGED, unchanged: int = UNCHANGED, seed: int = 1) -> tuple[str, int]:
    """Both, drawn; what was found, and how often something was wrong."""
    rng = random.Random(seed)
    wrong: list[str] = []
    for number in range(changed):
        words, right = one_changed(rng, KINDS[number % len(KINDS)])
        if not right:
            wrong.append(words)
    named = changed - len(wrong)
    said: list[str] = []
    for _ in range(unchanged):
        words, quiet = one_unchanged(rng)
        if not quiet:
            said.append(words)
    told = "\n".join(f"  {one}" for one in (*wrong, *said))
    failed = int(named < NAMED * changed) + int(len(said) > QUIET)
    return (
        f"loops: {named} of {changed} changes named, {len(said)} of {unchanged} unchanged loops "
        f"doubted\n{told}".rstrip(),
        failed,
    )
