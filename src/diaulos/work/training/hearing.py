"""Hear it: three sounds, one of which differs. How small may the difference be?

Every skill scales one difference by a magnitude: a level, a lag, or a part of the difference that
two things really make (two loads, two microphone places, two cabinets). Where loudness is not the
question, the changed sound is brought to the loudness of the other, so that nobody hears that
instead.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, curves_db
from diaulos.circuit.pickup import Coil, Controls, Magnetic
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.signal.cabinet import CABINETS, magnitude
from diaulos.signal.convolve import convolve_long
from diaulos.signal.fir import minimum_phase
from diaulos.signal.loudness import LoudnessMeter
from diaulos.signal.staircase import Staircase
from diaulos.units import db_to_gain

Real = NDArray[np.float64]
Curve = Callable[[Real], Real]
"""The whole difference, in dB over Hz."""

INTERVALS = 3
PEAK_DBFS = -6.0
TAPS = 2_048
TOLD_HZ = np.geomspace(60.0, 12_000.0, 200)
COIL = Magnetic((Coil(2.4, 6_000.0, 110e-12, 600e3),), Controls(volume_ohm=250e3, tone_ohm=250e3))
"""A single coil on a cable of 450 pF (representative, from memory)."""
CABLE_F = 450e-12


@dataclass(frozen=True)
class Skill:
    """What is asked. `unit` is that of the magnitude; of a part it is "" and `curve` is what it is
    a part of. `matched`: brought to equal loudness."""

    id: str
    title: str
    question: str
    least: float
    most: float
    unit: str
    apply: Callable[[Real, float, float], Real]
    matched: bool = True
    curve: Curve | None = None

    def told(self, magnitude: float) -> str:
        """A magnitude in words: of a part the most that it does, and where."""
        if self.curve is None:
            places = 2 if magnitude < 1.0 else 1
            return f"{number(magnitude, places)} {self.unit}"
        db = self.curve(TOLD_HZ)
        db = db - np.median(db)
        at = int(np.argmax(np.abs(db)))
        most = number(magnitude * float(db[at]), 1, sign=True)
        return f"{most} dB at {number(float(TOLD_HZ[at]), 0)} Hz"


def _louder(samples: Real, _rate_hz: float, db: float) -> Real:
    return np.asarray(samples * db_to_gain(db))


def _later(samples: Real, rate_hz: float, ms: float) -> Real:
    """Summed with itself, so much later: what two tracks out of time do in the middle."""
    size = samples.size
    freqs = np.fft.rfftfreq(2 * size, 1.0 / rate_hz)
    spectrum = np.fft.rfft(samples, 2 * size) * np.exp(-2j * np.pi * freqs * ms * 1e-3)
    return np.asarray(0.5 * (samples + np.fft.irfft(spectrum, 2 * size)[:size]))


def _turned(samples: Real, rate_hz: float, part: float) -> Real:
    """A second microphone's sound is in it, turned over instead of as it should be."""
    return _with_second(samples, rate_hz, -part)


def _with_second(samples: Real, rate_hz: float, part: float) -> Real:
    return np.asarray(samples + part * _later_alone(samples, rate_hz, 0.35))


def _later_alone(samples: Real, rate_hz: float, ms: float) -> Real:
    return np.asarray(2.0 * _later(samples, rate_hz, ms) - samples)


def _by_curve(curve: Curve) -> Callable[[Real, float, float], Real]:
    def apply(samples: Real, rate_hz: float, part: float) -> Real:
        taps = minimum_phase(
            lambda hz: 10.0 ** (part * curve(np.maximum(hz, 20.0)) / 20.0), rate_hz, max_taps=TAPS
        )
        return np.asarray(convolve_long(samples, taps)[: samples.size])

    return apply


def _loads(hz: Real) -> Real:
    light, heavy = Load(1e6, CABLE_F), Load(60e3, CABLE_F)
    levels = curves_db(COIL, [light, heavy], hz)
    return np.asarray(levels[1] - levels[0])


def _volume(hz: Real) -> Real:
    """The volume turned down by 9 dB against a pad of as much: what is lost besides."""
    load = Load(1e6, CABLE_F)
    down = Magnetic(COIL.coils, Controls(volume_ohm=250e3, volume_ratio=0.36, tone_ohm=250e3))
    level = curves_db(down, [load], hz)[0] - curves_db(COIL, [load], hz)[0]
    at_1k = (
        curves_db(down, [load], np.array([1e3]))[0] - curves_db(COIL, [load], np.array([1e3]))[0]
    )
    return np.asarray(level - at_1k)


def _edge(hz: Real) -> Real:
    """From the centre of a cone to its edge: a corner of the first order at half the frequency, as
    the stand-in has it."""
    high = 12_000.0
    return np.asarray(-10.0 * np.log10((1.0 + (hz / (0.5 * high)) ** 2) / (1.0 + (hz / high) ** 2)))


def _cabinets(hz: Real) -> Real:
    one, other = CABINETS["open-one"], CABINETS["closed-four"]
    level = 20.0 * np.log10(
        np.maximum(magnitude(other, hz), 1e-3) / np.maximum(magnitude(one, hz), 1e-3)
    )
    # Above their falls both are silent: what they differ by there is heard by nobody.
    return np.asarray(np.clip(level, -18.0, 18.0))


SKILLS: tuple[Skill, ...] = (
    Skill("level", "Level", "Which one is louder?", 0.1, 3.0, "dB", _louder, matched=False),
    Skill("delay", "Two tracks out of time", "In which one do two tracks lie apart?", 0.01, 2.0,
          "ms", _later),
    Skill("polarity", "A second microphone turned over", "In which one is it turned over?", 0.01,
          0.9, "of the first one's level", _turned),
    Skill("load", "The load of an input", "Which one went into the heavier load?", 0.03, 1.0, "",
          _by_curve(_loads), curve=_loads),
    Skill("volume", "Volume knob against pad", "Which one was turned down at the guitar?", 0.05,
          1.0, "", _by_curve(_volume), curve=_volume),
    Skill("place", "Microphone place", "Which one stood nearer the edge?", 0.05, 1.0, "",
          _by_curve(_edge), curve=_edge),
    Skill("cabinet", "Two cabinets", "Which one is the other cabinet?", 0.02, 1.0, "",
          _by_curve(_cabinets), curve=_cabinets),
)  # fmt: skip


def skill_of(skill_id: str) -> Skill:
    """By its id."""
    return next(one for one in SKILLS if one.id == skill_id)


def loudness_of(samples: Real, rate_hz: float) -> float:
    """Integrated loudness of a mono sound, LUFS."""
    meter = LoudnessMeter(rate_hz, 1)
    meter.add(samples)
    return float(meter.reading().lufs)


def material(samples: Real) -> Real:
    """A sound as it is trained with: at one peak, faded at its ends so that it loops."""
    peak = float(np.max(np.abs(samples), initial=0.0))
    scaled = samples * (db_to_gain(PEAK_DBFS) / peak) if peak > 0.0 else samples.copy()
    fade = min(480, scaled.size // 4)
    ramp = 0.5 - 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / max(1, fade))
    scaled[:fade] *= ramp
    scaled[scaled.size - fade :] *= ramp[::-1]
    return np.asarray(scaled)


@dataclass(frozen=True)
class Trial:
    """Three sounds; `odd` (from 0) is the one that differs, by `magnitude`."""

    sounds: tuple[Real, ...]
    odd: int
    magnitude: float


@dataclass
class Hearing:
    """One measurement of one skill. The order comes from the seed, so that a class shares it."""

    skill: Skill
    sound: Real
    rate_hz: float
    seed: int
    stairs: Staircase = field(init=False)
    trial: Trial = field(init=False)
    last: Trial | None = field(init=False, default=None)
    """The one that was answered last: it can be heard again, now that it is known what it was."""

    def __post_init__(self) -> None:
        self.stairs = Staircase(self.skill.least, self.skill.most)
        self._draws = np.random.default_rng(self.seed)
        self._plain = self._reference()
        self._lufs = loudness_of(self._plain, self.rate_hz)
        self.trial = self._next()

    def _reference(self) -> Real:
        if self.skill.id == "delay":
            return _later(self.sound, self.rate_hz, 0.0)
        return self.sound

    def _next(self) -> Trial:
        magnitude = self.stairs.next()
        odd = int(self._draws.integers(INTERVALS))
        plain = self._plain
        if self.skill.id == "polarity":
            plain = _with_second(self.sound, self.rate_hz, magnitude)
            plain = self._as_loud(plain, self._lufs)
        changed = self.skill.apply(self.sound, self.rate_hz, magnitude)
        if self.skill.matched:
            changed = self._as_loud(changed, self._lufs)
        sounds = [plain] * INTERVALS
        sounds[odd] = changed
        most = max(float(np.max(np.abs(one), initial=0.0)) for one in sounds)
        # All three come down together where one would clip.
        down = min(1.0, 0.99 / most) if most > 0.0 else 1.0
        return Trial(tuple(np.asarray(down * one) for one in sounds), odd, magnitude)

    def _as_loud(self, samples: Real, lufs: float) -> Real:
        now = loudness_of(samples, self.rate_hz)
        if not (np.isfinite(now) and np.isfinite(lufs)):
            return samples
        return np.asarray(samples * db_to_gain(lufs - now))

    def answer(self, choice: int) -> str:
        """An answer (from 0); what it was, in words. The next trial is ready then."""
        was = self.last = self.trial
        right = choice == was.odd
        self.stairs.answered(was.magnitude, right)
        words = f"{'Right' if right else 'It was another one'}: {was.odd + 1}, "
        words += self.skill.told(was.magnitude) + "."
        if not self.stairs.done:
            self.trial = self._next()
        return words

    def called(self, at: int) -> str:
        """What a sound (from 0) of the last trial was."""
        was = self.last
        if was is None:
            return ""
        return self.skill.told(was.magnitude) if at == was.odd else "Without it"

    @property
    def done(self) -> bool:
        """Whether enough is known."""
        return self.stairs.done

    def result(self) -> str:
        """What was found, as far as it is known."""
        found = self.stairs.found
        if not found.trials:
            return "Nothing was answered yet."
        low, high = self.skill.told(found.low), self.skill.told(found.high)
        if found.value > self.skill.most:
            return (
                f"After {found.trials} trials: the largest difference here, "
                f"{self.skill.told(self.skill.most)}, was not heard reliably."
            )
        return (
            f"After {found.trials} trials: {self.skill.told(found.value)} (95 %: {low} to {high}), "
            f"{found.right} right."
        )
