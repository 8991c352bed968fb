"""An excerpt on its way along a course: what its loudest peak and its loudest 400 ms are at
every station.

Conventions
- Linear parts only shape the excerpt: what a shape does to its peak is worked out once, by
  playing, and kept by content. Levels then move in dB.
- An amplifier or a compressor is played at drives `DRIVE_STEP_DB` apart; between two of them the
  levels are interpolated. So a gain ahead of it moves what is behind it without playing anew, and
  the solver goes by the same figures as the plan.
- What a port or converter cuts off is played as cut off.
- A tone in place of an excerpt (a sine at 1 kHz) is shaped by nothing: its peak is its level.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, curves_db
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.records import dataclass
from diaulos.rig.course import Course
from diaulos.rig.elements import AT_1KHZ, GRID_HZ, Curve, Gain, forget_gains
from diaulos.rig.excerpt import PLANNED_CHORDS, RATE_HZ, Array32, Excerpt, simulated_excerpt
from diaulos.rig.kept import Kept
from diaulos.rig.sources import USUAL_CREST_DB, PlayedSource
from diaulos.signal.amp import AmpSettings
from diaulos.signal.compressor import CompressorSettings
from diaulos.signal.fir import minimum_phase
from diaulos.units import LOWEST_DB, dbu_to_peak_volt, gain_to_db, peak_volt_to_dbu

Real = NDArray[np.float64]

DRIVE_STEP_DB = 3.0
LOUD_S = 0.4
CUT_STEP_DB = 0.1
CLIPS_DB = 0.05
"""A peak this far above a ceiling is cut off."""
PAD = 4096
"""Room behind an excerpt for what a filter rings on."""
MOST_BRANCHES = 4
AES17_DB = 10.0 * math.log10(2.0)
"""From a mean square to the dBFS RMS of AES17: a full-scale sine reads 0."""


_FIGURES: Kept[Any] = Kept(50_000)
_SOUNDS: Kept[Array32] = Kept(48)
_SHAPES: Kept[Array32] = Kept(512)


def forget() -> None:
    """Forget all that was played, as at the start of the program: for measuring."""
    for kept in (_FIGURES, _SOUNDS, _SHAPES):
        kept.clear()
    forget_gains()


@dataclass(frozen=True)
class Figures:
    """Of a signal through a shape, re the signal's own level: its peak and its loudest 400 ms
    (RMS after AES17), in dB."""

    peak_db: float
    loud_db: float


@dataclass(frozen=True, eq=False)
class Signal:
    """Something played, its peak 1. `build` plays it; it is called when nobody kept it."""

    key: Hashable
    build: Callable[[], Array32]
    exact: bool = False
    """Whether it is played at its own drive, not at those of the grid: a stored track is sent at
    one level, and nobody turns it."""

    @property
    def samples(self) -> Array32:
        """At `RATE_HZ`, followed by silence for what rings on."""
        found: Array32 = _SOUNDS.get(self.key, self.build)
        return found

    def figures(self, shape: Shape) -> Figures:
        """Its levels behind a shape, played once."""
        found: Figures = _FIGURES.get(
            (self.key, shape.key), lambda: figures_of(self.through(shape), RATE_HZ)
        )
        return found

    def through(self, shape: Shape) -> Array32:
        """Played through a shape."""
        if not shape.key:
            return self.samples
        import scipy.fft

        spectrum = _SOUNDS.get((self.key, "spectrum"), lambda: scipy.fft.rfft(self.samples))
        taps = _SHAPES.get(shape.key, shape.taps)
        turned = scipy.fft.rfft(taps, self.samples.size)
        return np.asarray(scipy.fft.irfft(spectrum * turned, self.samples.size), np.float32)


@dataclass(frozen=True)
class Shape:
    """What linear parts did to a signal since it was last played: 1 at 1 kHz. `key` is ()
    where they did nothing."""

    key: tuple[int, ...] = ()
    gains: tuple[Gain, ...] = ()
    inverts: bool = False

    def behind(self, gain: Gain) -> Shape:
        """The shape behind one more gain."""
        inverts = self.inverts is not gain.inverts
        if gain.flat:
            return Shape(self.key, self.gains, inverts)
        return Shape((*self.key, gain.key), (*self.gains, gain), inverts)

    def taps(self) -> Array32:
        """As a minimum-phase FIR, which such parts are."""
        at_1khz = sum(gain.db for gain in self.gains)

        def magnitude(freqs: Real) -> Real:
            total = np.sum([gain.decibels(freqs) for gain in self.gains], axis=0)
            return np.asarray(10.0 ** ((total - at_1khz) / 20.0))

        return minimum_phase(magnitude, RATE_HZ, max_taps=PAD).astype(np.float32)


def figures_of(samples: Array32 | Real, rate_hz: float) -> Figures:
    """Levels of something played, re an amplitude of 1.

    Parameters
    ----------
    samples
        Shape (frames,), 400 ms and more.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    Its peak, and the RMS of its loudest 400 ms.
    """
    peak = float(np.max(np.abs(samples), initial=0.0))
    frame = round(0.01 * rate_hz)
    whole = samples.size // frame
    squares = np.square(samples[: whole * frame], dtype=np.float64).reshape(whole, frame)
    total = np.concatenate([[0.0], np.cumsum(squares.mean(axis=1))])
    count = min(whole, round(LOUD_S / 0.01))
    loud = float(np.max(total[count:] - total[:-count])) / count if count else 0.0
    if peak <= 0.0 or loud <= 0.0:
        return Figures(LOWEST_DB, LOWEST_DB)
    return Figures(gain_to_db(peak), 10.0 * math.log10(loud) + AES17_DB)


@dataclass(frozen=True)
class _Branch:
    """A signal at a level in dB (of its peak of 1), and how much it counts."""

    weight: float
    signal: Signal
    level: float
    shape: Shape


@dataclass(frozen=True)
class Line:
    """What is played, at one place of a course. Immutable: every step gives the next one."""

    branches: tuple[_Branch, ...] = ()
    tone_peak: float = 0.0
    tone_typical: float = 0.0
    """Of a sine, where there is no branch."""
    typical_shift_db: float = 0.0
    """How much denser than the excerpt the playing is known to be, up to the next amplifier."""

    @property
    def peak(self) -> float:
        """The loudest peak here."""
        if not self.branches:
            return self.tone_peak
        return sum(b.weight * (b.level + b.signal.figures(b.shape).peak_db) for b in self.branches)

    @property
    def typical(self) -> float:
        """RMS of the loudest 400 ms here."""
        if not self.branches:
            return self.tone_typical
        return self.typical_shift_db + sum(
            b.weight * (b.level + b.signal.figures(b.shape).loud_db) for b in self.branches
        )

    def raised(self, db: float) -> Line:
        """Behind a plain gain."""
        if not self.branches:
            return tone(self.tone_peak + db, self.tone_typical + db)
        # Built outright: `replace` costs more than all else here, a thousand times a plan.
        branches = tuple(_Branch(b.weight, b.signal, b.level + db, b.shape) for b in self.branches)
        return Line(branches, typical_shift_db=self.typical_shift_db)

    def through(self, gain: Gain) -> Line:
        """Behind a linear gain."""
        if not self.branches or (gain.flat and not gain.inverts):
            return self.raised(gain.db)
        branches = tuple(
            _Branch(b.weight, b.signal, b.level + gain.db, b.shape.behind(gain))
            for b in self.branches
        )
        return Line(branches, typical_shift_db=self.typical_shift_db)

    def driven(self, curve: Curve) -> Line:
        """Behind an amplifier or a compressor, in dBu on both sides."""
        if not self.branches:
            return replace(
                self,
                tone_peak=curve.peak(self.tone_peak),
                tone_typical=curve.peak(self.tone_typical),
            )
        settings = curve.settings.without_after()
        found: list[_Branch] = []
        for branch in self.branches:
            into = branch.level + branch.signal.figures(branch.shape).peak_db
            if branch.signal.exact:
                found.append(_driven(branch, settings, round(into, 2), branch.weight))
                continue
            steps = into / DRIVE_STEP_DB
            low = math.floor(steps)
            share = steps - low
            if len(self.branches) * 2 > MOST_BRANCHES:
                low, share = round(steps), 0.0
            for at, weight in ((low, 1.0 - share), (low + 1, share)):
                if weight > 0.0:
                    found.append(
                        _driven(branch, settings, at * DRIVE_STEP_DB, branch.weight * weight)
                    )
        line = replace(self, branches=tuple(found), typical_shift_db=0.0)
        return line.raised(curve.settings.after_db)

    def held(self, ceiling: float | None) -> Line:
        """Behind a port or converter that clips there; a tone is held at its peak."""
        if ceiling is None:
            return self
        if not self.branches:
            return replace(
                self,
                tone_peak=min(self.tone_peak, ceiling),
                tone_typical=min(self.tone_typical, ceiling),
            )
        if self.peak <= ceiling + CLIPS_DB:
            return self
        return replace(self, branches=tuple(_cut(b, ceiling) for b in self.branches))


PLAYED_PEAK_DBFS = -12.0
"""Of a stored track while nobody says which one is sent."""


def start_of(course: Course) -> Line:
    """What is played on a course, at its start: the EMF of its instrument in dBu, or a stored
    track in dBFS.

    An instrument's loudest peak is known at its jack; the EMF behind it is as strong as that
    takes, through its own circuit.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    The line.
    """
    source = course.source
    if source is None:
        sent = course.graph.sent
        if sent is None or course.graph.tone:
            return tone(PLAYED_PEAK_DBFS, PLAYED_PEAK_DBFS - USUAL_CREST_DB)
        return play(sent.excerpt, sent.peak_dbfs, exact=True)
    if source.tone or course.graph.tone:
        return tone(source.emf_peak_dbu, source.emf_peak_dbu - source.crest_db)
    line = _played(source)
    if not source.crest_known:
        return line
    return replace(line, typical_shift_db=_crest_db(line, source) - source.crest_db)


def _played(source: PlayedSource) -> Line:
    excerpt = excerpt_for(source)
    jack = _jack_gain(source.circuit, source.jack_load)
    return play(excerpt, source.emf_peak_dbu - peak_behind(excerpt, jack))


def _crest_db(line: Line, source: PlayedSource) -> float:
    at_jack = line.through(_jack_gain(source.circuit, source.jack_load))
    return at_jack.peak - at_jack.typical


def crest_of(source: PlayedSource) -> float:
    """From an instrument's loudest peak at its jack to its loudest 400 ms: as measured, else as
    its excerpt is played.

    Parameters
    ----------
    source
        An instrument in a rig.

    Returns
    -------
    dB.
    """
    if source.crest_known or source.tone:
        return source.crest_db
    return _crest_db(_played(source), source)


def playing_words(course: Course) -> str:
    """What a course's levels are planned by.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    Words for a person.
    """
    source, sent = course.source, course.graph.sent
    if course.graph.tone or (source is not None and source.tone):
        return "a sine at 1 kHz"
    if source is not None:
        return excerpt_for(source).words
    return sent.excerpt.words if sent is not None else f"a sine at {PLAYED_PEAK_DBFS:g} dBFS"


def excerpt_for(source: PlayedSource) -> Excerpt:
    """What an instrument plays in a plan: its stored excerpt, else the simulated player's.

    Parameters
    ----------
    source
        An instrument in a rig.

    Returns
    -------
    The excerpt.
    """
    return source.excerpt or simulated_excerpt(source.strings, PLANNED_CHORDS)


@lru_cache(maxsize=64)
def _jack_gain(circuit: InstrumentCircuit, load: Load) -> Gain:
    power = np.asarray(10.0 ** (curves_db(circuit, [load], GRID_HZ)[0] / 10.0))
    return Gain(float(10.0 * np.log10(power[AT_1KHZ])), power)


def tone(peak: float, typical: float) -> Line:
    """A sine at 1 kHz.

    Parameters
    ----------
    peak
        Its peak in dBu or dBFS.
    typical
        What is called typical of it, in the same unit.

    Returns
    -------
    The line at its start.
    """
    return Line(tone_peak=peak, tone_typical=typical)


def play(excerpt: Excerpt, level: float, *, exact: bool = False) -> Line:
    """An excerpt at a level.

    Parameters
    ----------
    excerpt
        What is played.
    level
        Of its peak, in dBu or dBFS.
    exact
        Whether amplifiers are played at just its level.

    Returns
    -------
    The line at its start.
    """
    signal = Signal(excerpt.key, lambda: _padded(excerpt.samples), exact)
    return Line((_Branch(1.0, signal, level, Shape()),))


def peak_behind(excerpt: Excerpt, gain: Gain) -> float:
    """What a linear part makes of an excerpt's peak, re what it makes of a sine at 1 kHz.

    Parameters
    ----------
    excerpt
        What is played.
    gain
        The part.

    Returns
    -------
    dB.
    """
    signal = Signal(excerpt.key, lambda: _padded(excerpt.samples))
    return signal.figures(Shape().behind(gain)).peak_db


def _padded(samples: Array32) -> Array32:
    import scipy.fft

    size = scipy.fft.next_fast_len(samples.size + PAD, real=True)
    out = np.zeros(size, np.float32)
    out[: samples.size] = samples
    return out


def _driven(
    branch: _Branch, settings: AmpSettings | CompressorSettings, into: float, weight: float
) -> _Branch:
    """A branch through an amplifier or a compressor at one drive: its level is then what was
    played."""
    key = (branch.signal.key, branch.shape.key, branch.shape.inverts, settings, into)

    def amped() -> tuple[Array32, float]:
        sound = branch.signal.through(branch.shape).astype(np.float64)
        sound *= dbu_to_peak_volt(into) / np.max(np.abs(sound))
        out = settings.played(-sound if branch.shape.inverts else sound, RATE_HZ)
        peak = float(np.max(np.abs(out)))
        return np.asarray(out / peak, np.float32), peak_volt_to_dbu(peak)

    def level() -> float:
        sound, found = amped()
        _SOUNDS.get(key, lambda: sound)
        return found

    found: float = _FIGURES.get((key, "level"), level)
    return _Branch(weight, Signal(key, lambda: amped()[0], branch.signal.exact), found, Shape())


def _cut(branch: _Branch, ceiling: float) -> _Branch:
    over = branch.level + branch.signal.figures(branch.shape).peak_db - ceiling
    if over <= CLIPS_DB:
        return branch
    over = round(over / CUT_STEP_DB) * CUT_STEP_DB
    key = (branch.signal.key, branch.shape.key, "cut", round(over, 1))

    def build() -> Array32:
        sound = branch.signal.through(branch.shape)
        most = np.max(np.abs(sound)) / 10.0 ** (over / 20.0)
        return np.asarray(np.clip(sound, -most, most) / most, np.float32)

    shape = Shape(inverts=branch.shape.inverts)
    return _Branch(branch.weight, Signal(key, build, branch.signal.exact), ceiling, shape)
