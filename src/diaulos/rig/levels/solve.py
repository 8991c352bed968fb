"""The gain solver: the settings of a course at which the loudest playing reaches the target.

Order, first to last
1. Headroom: what is missing to the least headroom at the tightest station ahead of the
   converter, in tenths of a dB (0 where every station has it).
2. How far the converter's peak (or RMS) passes the target: the target is a ceiling.
3. A pad that is engaged only to add gain behind it, where less gain without it comes within
   one step.
4. Distance below the target, in tenths of a dB.
5. Noise re the peak in the track, in tenths of a dB.
6. How many settings differ from what they are now.
7. A fixed order: the noise itself, then each setting's own order along the course.

Switches are tried, gains are worked out: behind the last amplifier levels add up in dB, so
that the best setting of all gains together is found station by station (dynamic
programming), without trying their product.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.course import Course
from diaulos.rig.elements import (
    BAND_HZ,
    FLAT,
    Curve,
    Gain,
    Knob,
    NoiseSource,
    Read,
    Real,
    step_elements,
)
from diaulos.rig.flow import Active, Segment, cut
from diaulos.rig.levels.diagram import no_converter
from diaulos.rig.levels.settings import CourseSetting, Role, settings_on, with_values
from diaulos.rig.model import AUDIO_CLASSES, AdcStage, Control, SettingRef
from diaulos.rig.playing import Line, start_of

STEP_DB = 0.1
FURTHER = 2
ABOVE = 1_000_000
"""Steps from which a setup counts as another one."""
MOST_TRIED = 20_000
"""Combinations of switches; more is no rig that a person has."""
Key = tuple[int, int, int, int, int, int, float, tuple[int, ...]]
"""(headroom missing, above, padded, below, noise, changes, noise itself, fixed order)."""
PADS_DB = 0.5
"""What a switch takes away at least to count as a pad."""


@dataclass(frozen=True)
class Aim:
    """What the solver is to reach, and what it may turn."""

    target_dbfs: float = -12.0
    statistic: str = "peak"
    least_headroom_db: float = 6.0
    free_tone: bool = False
    locked: tuple[SettingRef, ...] | None = None
    """In place of the rig's own locks; None: those."""
    decided: tuple[SettingRef, ...] = ()
    """What another course was solved with and this one shares."""


@dataclass(frozen=True)
class Setup:
    """One way to set a course, and what it comes to."""

    values: Mapping[SettingRef, float | str]
    key: Key
    peak_dbfs: float
    reached_dbfs: float
    noise_db: float
    """Re the peak in the track."""

    @property
    def short_db(self) -> float:
        """Headroom that the tightest station ahead of the converter lacks."""
        return self.key[0] * STEP_DB


@dataclass(frozen=True)
class Solution:
    """The best setup of a course and the best that really differs from it. `tried` counts the
    combinations of switches."""

    course: Course
    settings: tuple[CourseSetting, ...]
    best: Setup
    second: Setup | None
    aim: Aim
    tried: int

    @property
    def changes(self) -> tuple[tuple[CourseSetting, float | str], ...]:
        """The settings to turn, and where to."""
        return tuple(
            (one, self.best.values[one.ref])
            for one in self.settings
            if one.ref in self.best.values and self.best.values[one.ref] != one.value
        )

    @property
    def left_db(self) -> float:
        """From the target to what is reached: negative where it stays below."""
        return self.best.reached_dbfs - self.aim.target_dbfs

    @property
    def works(self) -> bool:
        """Whether headroom is there and the target within the finest step of a gain."""
        return self.best.key[0] == 0 and abs(self.left_db) <= self.tolerance_db

    @property
    def tolerance_db(self) -> float:
        """The finest step of a gain that may be turned, for the target is not passed: the next
        step may be just too much. Half a decibel at least."""
        steps = [
            s.setting.step
            for s in self.settings
            if not s.kept and s.role is Role.GAIN and s.setting.kind == "control"
        ]
        return max(0.5, min(steps, default=0.5)) + STEP_DB

    def solved(self) -> Course:
        """The course as the best setup leaves it."""
        return with_values(self.course, self.best.values)


def solve(course: Course, aim: Aim | None = None) -> Solution:
    """The best settings of a course; RigError when it has no converter, a lock names what it
    does not have, or a gain has no limits.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    aim
        Target, headroom and locks; None for the usual ones.

    Returns
    -------
    Best and second best settings, what is left over.

    Raises
    ------
    RigError
        Without a converter, for a lock on what is not there, for a gain without limits.
    """
    aim = aim or Aim()
    return _Solver(course, aim).run()


def check_locks(course: Course, locked: tuple[SettingRef, ...]) -> None:
    """RigError where a lock names a setting that its device does not have, or twice.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    locked
        Settings that stay; None for the rig's own locks.

    Raises
    ------
    RigError
        For a lock on what is not there, or twice.
    """
    seen: set[SettingRef] = set()
    for lock in locked:
        devices = {device.id: device for device in course.rig.devices}
        device = devices.get(lock.device)
        if device is None or not device.has_setting(lock.setting):
            raise RigError(
                f"A lock names {lock}, which the rig does not have.",
                where=str(lock),
                remedy="Take that lock away.",
            )
        if lock in seen:
            raise RigError(
                f"{device.name}: {device.setting(lock.setting).name} is locked twice.",
                where=str(lock),
                remedy="Take one of the two locks away.",
            )
        seen.add(lock)


_T = TypeVar("_T")
_At = tuple[int, tuple[object, ...]]
"""A step and the values that it depends on."""

_Rise = float | Gain | Curve | tuple[float | None, bool] | None

# --- one step of a course with its switches as named ---


@dataclass(frozen=True, eq=False)
class _Noise:
    knobs: int
    density: Real
    """At the end of the step, its knobs at nothing."""


@dataclass(frozen=True, eq=False)
class _Step:
    """A step of the course with its knobs taken out. `rises` is a row of gains in dB, gains that
    shape what is played, curves, knobs (None) and the ceilings that are read there."""

    rises: tuple[_Rise, ...]
    power: Real
    noises: tuple[_Noise, ...]
    effects: tuple[tuple[tuple[str, str], NDArray[np.float64]], ...]
    """What its open knobs give at each of their steps: a calibration may hold for some
    positions of the switches only."""


class _Solver:
    def __init__(self, course: Course, aim: Aim) -> None:
        self.course, self.aim = course, aim
        self.start = start_of(course)
        check_locks(course, course.rig.locked if aim.locked is None else aim.locked)
        self.steps = cut(course)
        self.settings = settings_on(
            course, free_tone=aim.free_tone, locked=aim.locked, decided=aim.decided
        )
        free = [one for one in self.settings if not one.kept]
        self.options = {one.ref: one.steps for one in free}
        self.tried = [one for one in free if one.role is not Role.GAIN or one.ahead_of]
        self.turned = [one for one in free if one not in self.tried]
        self.last = self._last_converter()
        self.cache: dict[_At, _Step] = {}
        self.misfits: dict[_At, int] = {}
        self.touched = [self._touching(step) for step in self.steps]

    def _last_converter(self) -> int:
        for index in range(len(self.steps) - 1, -1, -1):
            step = self.steps[index]
            if isinstance(step, Active) and step.leg.path is not None:
                if any(isinstance(stage, AdcStage) for stage in step.leg.path.stages):
                    return index
        raise no_converter(self.course)

    def _touching(self, step: Segment | Active) -> tuple[CourseSetting, ...]:
        """The tried settings that a step depends on. A gain acts inside its device alone; a
        device's current noise depends on what is plugged into it too."""
        inside: set[str] = set()
        segment = step
        if isinstance(step, Active):
            inside = {step.leg.device.id}
            segment = next(s for s in self.steps if isinstance(s, Segment) and s.load == step.entry)
        assert isinstance(segment, Segment)
        legs = self.course.legs[segment.source.leg : segment.load.leg + 1]
        around = {leg.device.id for leg in legs}
        return tuple(
            one
            for one in self.tried
            if one.ref.device in inside or (one.ref.device in around and one.role is not Role.GAIN)
        )

    # --- trying ---

    def run(self) -> Solution:
        count = math.prod(len(self.options[one.ref]) for one in self.tried)
        if count > MOST_TRIED:
            raise RigError(
                f"{count} combinations of switches are too many to try.",
                where=str(self.course.track),
                remedy="Lock some of them.",
            )
        products = list(self._products())
        misfits = [self._misfit_of(values) for values in products]
        fitting = min(misfits)
        combos = [
            self._combo(values)
            for values, misfit in zip(products, misfits, strict=True)
            if misfit == fitting
        ]
        least = min(combo.least_short for combo in combos)
        found: list[tuple[Setup, _Combo]] = []
        for combo in combos:
            setup = combo.best(combo.least_short)
            if setup is not None:
                found.append((setup, combo))
        found = self._with_pads(found)
        found.sort(key=lambda one: one[0].key)
        best = found[0][0]
        assert best.key[0] == least
        rivals = [
            setup if combo.apart(best) >= FURTHER else combo.second(best) for setup, combo in found
        ]
        second = min(
            (rival for rival in rivals if rival is not None),
            key=lambda setup: setup.key,
            default=None,
        )
        return Solution(self.course, self.settings, best, second, self.aim, len(combos))

    def _with_pads(self, found: list[tuple[Setup, _Combo]]) -> list[tuple[Setup, _Combo]]:
        """Marks the combinations in which a pad only makes room for gain behind it."""
        switches = [one for one in self.tried if one.role is Role.SWITCH]
        by_values = {self._switched(combo.values): (setup, combo) for setup, combo in found}
        marked = []
        for setup, combo in found:
            others = (
                by_values.get(self._switched({**combo.values, one.ref: value}))
                for one in switches
                for value in self.options[one.ref]
                if value != combo.values[one.ref]
            )
            combo.padded = any(other and _needless(setup, combo, *other) for other in others)
            if combo.padded:
                setup = replace(setup, key=(*setup.key[:2], 1, *setup.key[3:]))
            marked.append((setup, combo))
        return marked

    def _switched(self, values: Mapping[SettingRef, float | str]) -> tuple[float | str, ...]:
        return tuple(values[one.ref] for one in self.tried)

    def _products(self) -> Iterator[dict[SettingRef, float | str]]:
        refs = [one.ref for one in self.tried]
        for values in itertools.product(*(self.options[ref] for ref in refs)):
            yield dict(zip(refs, values, strict=True))

    def _known(self, values: dict[SettingRef, float | str], kept: dict[_At, _T],
               work: Callable[[Course, Segment | Active, int], _T]) -> list[_T]:  # fmt: skip
        """Something of every step, worked out once for what each step depends on."""
        found: list[_T] = []
        made: list[tuple[Course, tuple[Segment | Active, ...]]] = []
        for index, touching in enumerate(self.touched):
            key = (index, tuple(values[one.ref] for one in touching))
            if key not in kept:
                if not made:
                    course = with_values(self.course, values)
                    made.append((course, cut(course)))
                course, steps = made[0]
                kept[key] = work(course, steps[index], index)
            found.append(kept[key])
        return found

    def _misfit_of(self, values: dict[SettingRef, float | str]) -> int:
        return sum(self._known(values, self.misfits, lambda _course, step, _index: _misfit(step)))

    def _combo(self, values: dict[SettingRef, float | str]) -> _Combo:
        return _Combo(self, values, self._known(values, self.cache, self._step))

    def _step(self, course: Course, step: Segment | Active, index: int) -> _Step:
        """A step worked out, gains that are turned left open."""
        open_knobs = {(one.ref.device, one.ref.setting): one for one in self.turned}
        effects: list[tuple[tuple[str, str], NDArray[np.float64]]] = []
        rises: list[_Rise] = []
        noises: list[tuple[int, Real]] = []
        power, knobs = FLAT, 0
        for element in step_elements(course, step):
            through: Real | None = None
            if isinstance(element, Gain):
                plain = element.flat and not element.inverts
                rises.append(element.db if plain else element)
                through = element.power
            elif isinstance(element, Curve):
                rises.append(element)
                through = element.idle
            elif isinstance(element, Knob):
                name = (element.device, element.setting)
                if name in open_knobs and index <= self.last:
                    rises.append(None)
                    knobs += 1
                    steps = self.options[open_knobs[name].ref]
                    effects.append((name, np.array([element.effect(float(v)) for v in steps])))
                else:
                    rises.append(element.db)
                    through = 10.0 ** (element.db / 10.0) * FLAT
            elif isinstance(element, NoiseSource):
                noises.append((knobs, element.density))
            else:
                assert isinstance(element, Read)
                rises.append((element.place.ceiling, element.place.key.endswith(".converter")))
            if through is not None:
                noises = [(k, density * through) for k, density in noises]
                power = power * through
        return _Step(
            tuple(rises),
            power,
            tuple(_Noise(k, density) for k, density in noises),
            tuple(effects),
        )


def _needless(setup: Setup, combo: _Combo, other: Setup, without: _Combo) -> bool:
    """Whether a combination takes level away only to have it back by gain, where the other one
    comes within a step of the target with less."""
    takes_away = combo.reached < without.reached - PADS_DB
    more_gain = setup.reached_dbfs - combo.reached > other.reached_dbfs - without.reached + 1e-9
    comes_near = (
        other.key[0] <= setup.key[0]
        and other.key[1] == 0
        and other.key[3] <= _tenths(without.step_db)
    )
    return takes_away and more_gain and comes_near


def _misfit(step: Segment | Active) -> int:
    """1 where an output meets an input of another class."""
    if isinstance(step, Active):
        return 0
    load = step.load.port
    behind = (link.behind.port for link in reversed(step.links[:-1]) if link.behind)
    last = next(behind, step.source.port)
    if last.signal_class not in AUDIO_CLASSES or load.signal_class not in AUDIO_CLASSES:
        return 0
    return int(last.signal_class is not load.signal_class)


@dataclass
class _States:
    """Settings of the first knobs: what they add up to, how many differ from now, the noise
    re the source so far, and which they are."""

    c: NDArray[np.float64]
    changes: NDArray[np.int64]
    noise: NDArray[np.float64]
    code: NDArray[np.int64]
    apart: NDArray[np.int64]
    """0 like the best so far, 1 by one step of one control, 2 further."""

    @staticmethod
    def start(noise: float, apart: int) -> _States:
        zero = np.zeros(1, np.int64)
        return _States(np.zeros(1), zero, np.array([noise]), zero, zero + apart)

    def taken(self, at: NDArray[np.int64] | NDArray[np.bool_]) -> _States:
        return _States(self.c[at], self.changes[at], self.noise[at], self.code[at], self.apart[at])


class _Combo:
    """The course with its switches as named: what is left are gains that add up."""

    def __init__(
        self, solver: _Solver, values: dict[SettingRef, float | str], steps: list[_Step]
    ) -> None:
        self.solver, self.values = solver, values
        self.padded = False
        turned = {(one.ref.device, one.ref.setting): one for one in solver.turned}
        found = [one for step in steps for one in step.effects]
        self.knobs = [turned[name] for name, _ in found]
        self.effects = [effect for _, effect in found]
        self.grid_db = _grid_of(self.effects)
        steps_db = [k.setting.step for k in self.knobs if isinstance(k.setting, Control)]
        self.step_db = max(steps_db, default=0.0)
        self._forward(steps)
        self._noise(steps)
        lows = np.cumsum([0.0, *(float(effect.min()) for effect in self.effects)])
        over = [low - limit for low, limit in zip(lows, self.limits, strict=True)]
        self.least_short = max(0, *(_tenths(one) for one in over))

    def _forward(self, steps: list[_Step]) -> None:
        """Levels with every knob at nothing, and what each number of knobs may add."""
        aim = self.solver.aim
        count = 0
        self.limits = [math.inf] * (len(self.knobs) + 1)
        line = self.solver.start
        at_converter = line
        for index, step in enumerate(steps[: self.solver.last + 1]):
            rises = step.rises
            for place, rise in enumerate(rises):
                if rise is None:
                    count += 1
                elif isinstance(rise, tuple):
                    ceiling, converter = rise
                    if converter and index == self.solver.last and _is_last(rises, place):
                        at_converter = line
                        break
                    if ceiling is not None:
                        room = ceiling - line.peak - aim.least_headroom_db
                        self.limits[count] = min(self.limits[count], room)
                else:
                    line = _risen(line, rise)
        self.at_converter = (at_converter.peak, at_converter.typical)
        self.reached = self.at_converter[0 if aim.statistic == "peak" else 1]
        self.peak = self._track_peak(steps)

    def _track_peak(self, steps: list[_Step]) -> float:
        """The peak in the track with every knob at nothing; behind the last converter there
        may be a modeled amplifier, which no gain behind it follows."""
        line = self.solver.start
        for step in steps:
            for rise in step.rises:
                if rise is not None and not isinstance(rise, tuple):
                    line = _risen(line, rise)
        return line.peak

    def _noise(self, steps: list[_Step]) -> None:
        """Noise in the track by how many knobs are ahead of where it comes in, knobs at
        nothing."""
        self.noise = [0.0] * (len(self.knobs) + 1)
        before, tail = len(self.knobs), FLAT
        for step in reversed(steps):
            own = sum(1 for rise in step.rises if rise is None)
            before -= own
            for noise in step.noises:
                self.noise[before + noise.knobs] += float((noise.density * tail) @ BAND_HZ)
            tail = tail * step.power

    # --- the best setting of the knobs ---

    def best(self, short: int) -> Setup | None:
        """The best setup with no more headroom missing than named, in tenths."""
        return self._chosen(self._states(short, None), short)

    def apart(self, best: Setup) -> int:
        """How far its own settings are from the best: a switch thrown is as good as two steps."""
        away = 0
        for one in self.solver.tried:
            value, other = self.values[one.ref], best.values[one.ref]
            if value == other:
                continue
            options = self.solver.options[one.ref]
            steps = abs(options.index(value) - options.index(other))
            away += FURTHER if one.role is Role.SWITCH else steps
        return min(away, FURTHER)

    def second(self, best: Setup) -> Setup | None:
        """The best with these switches that differs in more than one step of one control."""
        if not self.knobs:
            return None
        codes = [self.solver.options[k.ref].index(best.values[k.ref]) for k in self.knobs]
        widest = self._widest()
        short = best.key[0]
        while short <= widest:
            states = self._states(short, codes, self.apart(best))
            found = self._chosen(states.taken(states.apart == FURTHER), short)
            if found is not None:
                return found
            short += 1
        return None

    def _widest(self) -> int:
        highs = np.cumsum([0.0, *(float(effect.max()) for effect in self.effects)])
        over = [high - limit for high, limit in zip(highs, self.limits, strict=True)]
        return max(0, *(_tenths(one) for one in over))

    def _states(self, short: int, best: list[int] | None, apart: int = 0) -> _States:
        slack = (short + 0.5) * STEP_DB - 1e-9
        states = _States.start(self.noise[0], apart)
        last = len(self.effects) - 1
        for index, effect in enumerate(self.effects):
            knob = self.knobs[index]
            options = self.solver.options[knob.ref]
            now = options.index(knob.value) if knob.value in options else -1
            sums = states.c[:, None] + effect[None, :]
            fits = sums <= self.limits[index + 1] + slack
            if index == last and best is None:
                fits &= self._nearest(sums, fits)
            of, place = np.nonzero(fits)
            c = sums[of, place]
            noise = states.noise[of] + self.noise[index + 1] * 10.0 ** (-c / 10.0)
            changes = states.changes[of] + (place != now)
            code = states.code[of] * effect.size + place
            further = states.apart[of]
            if best is not None:
                further = np.minimum(further + np.abs(place - best[index]), FURTHER)
            states = _States(c, changes, noise, code, further)
            if index < last:
                states = _thinned(states, self.grid_db)
        return states

    def _nearest(self, sums: NDArray[np.float64], fits: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """The sums that come closest to the target, above or below: the others are not worth
        working out."""
        if not fits.any():
            return fits
        away = self._tenths_away(sums)
        return np.asarray(away == away[fits].min())

    def _tenths_away(self, sums: NDArray[np.float64]) -> NDArray[np.int64]:
        """Tenths below the target; what is above counts from `ABOVE` on."""
        above = self.reached + sums - self.solver.aim.target_dbfs
        over = np.ceil(above / STEP_DB - 1e-6)
        away = np.where(over > 0, ABOVE + over, np.rint(-above / STEP_DB))
        return np.asarray(away.astype(np.int64))

    def _chosen(self, states: _States, short: int) -> Setup | None:
        if states.c.size == 0:
            return None
        away = self._tenths_away(states.c)
        states, near = states.taken(away == away.min()), int(away.min())
        over, below = (near - ABOVE, 0) if near >= ABOVE else (0, near)
        noise = 10.0 * np.log10(np.maximum(states.noise, 1e-30)) - self.peak
        tenths = np.rint(noise / STEP_DB).astype(np.int64)
        exact = np.round(noise, 6)
        changes = states.changes + self._changed()
        order = np.lexsort((states.code, exact, changes, tenths))
        at = int(order[0])
        values = dict(self.values)
        code = int(states.code[at])
        places: dict[SettingRef, int] = {}
        for knob, effect in zip(reversed(self.knobs), reversed(self.effects), strict=True):
            code, place = divmod(code, effect.size)
            values[knob.ref] = self.solver.options[knob.ref][place]
        for ref, value in values.items():
            places[ref] = self.solver.options[ref].index(value)
        fixed = tuple(places[one.ref] for one in self.solver.settings if one.ref in places)
        key: Key = (
            short,
            over,
            int(self.padded),
            below,
            int(tenths[at]),
            int(changes[at]),
            float(exact[at]),
            fixed,
        )
        total = float(states.c[at])
        return Setup(
            values,
            self._key(key, values),
            self.at_converter[0] + total,
            self.reached + total,
            float(noise[at]),
        )

    def _key(self, key: Key, values: Mapping[SettingRef, float | str]) -> Key:
        """What is really missing may be less than what was allowed."""
        c, total = 0.0, -self.limits[0]
        for index, knob in enumerate(self.knobs):
            place = self.solver.options[knob.ref].index(values[knob.ref])
            c += float(self.effects[index][place])
            total = max(total, c - self.limits[index + 1])
        return (max(0, _tenths(total)), *key[1:])

    def _changed(self) -> int:
        return sum(1 for one in self.solver.tried if self.values[one.ref] != one.value)


def _risen(line: Line, rise: float | Gain | Curve) -> Line:
    if isinstance(rise, Gain):
        return line.through(rise)
    if isinstance(rise, Curve):
        return line.driven(rise)
    return line.raised(rise)


def _is_last(rises: tuple[_Rise, ...], place: int) -> bool:
    """Whether no later converter is in the same step."""
    return not any(isinstance(one, tuple) and one[1] for one in rises[place + 1 :])


def _tenths(db: float) -> int:
    return int(np.rint(db / STEP_DB)) if math.isfinite(db) else 0


GRIDS_DB = (1.0, 0.5, 0.1)
"""Steps that gains share, coarsest first; a calibrated gain lies on none of them."""


def _grid_of(effects: list[NDArray[np.float64]]) -> float | None:
    """The step on which all gains lie, None where they do not."""
    for step in GRIDS_DB:
        if all(np.abs(e / step - np.rint(e / step)).max(initial=0.0) < 1e-6 for e in effects):
            return step
    return None


def _thinned(states: _States, grid_db: float | None) -> _States:
    """Of the settings that add up alike, the quietest for each number of changes, and of those
    the ones that more changes make quieter: what is both louder and more work never wins."""
    if states.c.size == 0:
        return states
    noise = np.round(10.0 * np.log10(np.maximum(states.noise, 1e-30)), 9)
    if grid_db is None:
        _, place = np.unique(np.rint(states.c * 1e6).astype(np.int64), return_inverse=True)
    else:
        place = np.rint(states.c / grid_db).astype(np.int64)
        place -= place.min()
    # One cell for each sum, distance from the best and number of changes.
    group = place * (FURTHER + 1) + states.apart
    most = int(states.changes.max()) + 1
    cell = group * most + states.changes
    quietest = np.full(int(cell.max()) + 1, np.inf)
    np.minimum.at(quietest, cell, noise)
    at = np.nonzero(noise == quietest[cell])[0]
    first = np.full(quietest.size, np.iinfo(np.int64).max)
    np.minimum.at(first, cell[at], states.code[at])
    at = at[states.code[at] == first[cell[at]]]
    # Fewer changes first: what is not quieter than that goes.
    best = np.full(int(group.max()) + 1, np.inf)
    keep = []
    for changes in range(most):
        here = at[states.changes[at] == changes]
        better = here[noise[here] < best[group[here]]]
        best[group[better]] = noise[better]
        keep.append(better)
    return states.taken(np.sort(np.concatenate(keep)))


def unlocked(aim: Aim) -> Aim:
    """The same aim with nothing locked.

    Parameters
    ----------
    aim
        Target, headroom and locks; None for the usual ones.

    Returns
    -------
    The aim.
    """
    return replace(aim, locked=())
