"""Whether a dry track fits the instrument, selector and load that the session says.

Conventions
- By its own noise: a pickup's is shaped by its resonance with the cable and input behind it,
  whatever is played. The quietest moments of the track are held against what the bench hears of
  every instrument, selector position and input impedance that could be meant.
- By its lowest note: what sounds below the lowest string was played on something else, or in
  another tuning.
- Where several fit as well, or none does (real gear hums and crackles in its own way), it cannot be
  told, and nothing is.
"""

from __future__ import annotations

import math
import zlib
from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import DiaulosError
from diaulos.records import dataclass
from diaulos.rig.bench import BenchFaults
from diaulos.rig.bench.steps import StepMaker
from diaulos.rig.course import Course, trace
from diaulos.rig.excerpt import RATE_HZ
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import Choice, PortRef, Rig
from diaulos.rig.sources import PlayedSource
from diaulos.session.model import Session
from diaulos.signal.hiss import Hiss, apart, centres_hz, hiss_shape
from diaulos.signal.pitch import midi_hz, note_name
from diaulos.work.rigs.look import instrument_source, played_sources
from diaulos.work.rigs.stored import NOTHING_STORED, Stored

Real = NDArray[np.float64]

NOISE_S = 2.0
SEED = 5
FITS, SURELY = 1.5, 30.0
"""Of one that is named: re what chance explains, and how much better it has to be than the one
that is said, in chi squared over all bands (a few in thousands by chance)."""
ALIKE = 6.0
MOST, MOST_NAMED = 40, 2
LOWEST_SIZE = 16_384
UNDER = 2.0 ** (-0.7 / 12.0)
"""Below a string by more than it may be out of tune."""
DROPPED = 2.0 ** (-2.7 / 12.0)
"""And the lowest one may be dropped by a whole tone without anybody having said so."""
LOWEST_HZ = 27.0
STRONG_DB, CLEAR_DB = -20.0, 10.0
"""A note that low: re the strongest of its moment, and re what lies beside it."""
MOMENTS = 4
MAINS_HZ, BESIDE_MAINS_HZ = (50.0, 60.0), 4.0
COMES_DB = 12.0


@dataclass(frozen=True)
class Candidate:
    """What a dry track may be of: in words, and the rig as it would be."""

    words: str
    graph: RigGraph
    instrument: str = ""


@dataclass(frozen=True)
class Fit:
    """What a dry track fits. `verdict`: "fits", "another" or "cannot tell"; `others` are those
    that fit where what is said does not."""

    verdict: str
    others: tuple[str, ...] = ()
    words: str = ""


def candidates(
    session: Session, rig: Rig, source: str, stored: Stored = NOTHING_STORED
) -> tuple[Candidate, ...]:
    """What may stand for an instrument of a rig; the first is what the session says."""
    sources = dict(played_sources(session, rig, stored))
    device = rig.device(source)
    said = device.word("instrument") if device.has_setting("instrument") else ""
    found = [Candidate("as the session says", RigGraph(rig, sources), said)]
    for one in session.instruments:
        for position in one.positions:
            if one.id == said and position.id == one.position_id:
                continue
            held = one.model_copy(update={"position_id": position.id})
            words = f"{one.name}, {position.name}"
            found.append(_with(rig, sources, source, instrument_source(held), words, one.id))
    for name, option, words in _loads(rig, source):
        turned = rig.with_setting(name, option[0], option[1])
        found.append(Candidate(words, RigGraph(turned, sources), said))
    return tuple(found[:MOST])


def _with(
    rig: Rig, sources: dict[str, PlayedSource], source: str, played: PlayedSource, words: str,
    ident: str,
) -> Candidate:  # fmt: skip
    return Candidate(words, RigGraph(rig, {**sources, source: played}), ident)


def _loads(rig: Rig, source: str) -> list[tuple[str, tuple[str, str], str]]:
    """The other positions of the switches of what the instrument is plugged into."""
    found = []
    for cable in rig.cables:
        if cable.source.device != source:
            continue
        device = rig.device(cable.target.device)
        port = device.port(cable.target.port)
        loading = {
            name
            for mode in port.modes
            if mode.impedance_ohm is not None or mode.capacitance_pf is not None
            for name, _ in mode.when
        }
        for setting in device.settings:
            if not isinstance(setting, Choice) or setting.id not in loading:
                continue
            now = device.word(setting.id)
            for option, words in setting.options:
                if option != now:
                    found.append(
                        (device.id, (setting.id, option), f"{device.name}, {setting.name} {words}")
                    )
    return found


def fit(
    samples: NDArray[np.floating],
    track: PortRef,
    choice: Sequence[Candidate],
    rate_hz: float,
    look: Callable[[], None] = lambda: None,
) -> Fit:
    """What a dry track is of.

    Parameters
    ----------
    samples
        The track, full scale at 1, shape (frames,).
    track
        The input that recorded it.
    choice
        What it may be of; the first is what the session says.
    rate_hz
        Sample rate in Hz.
    look
        Called between the steps; raises to cancel.

    Returns
    -------
    What it fits.
    """
    low = _too_low(samples, track, choice, rate_hz)
    if low is not None:
        return low
    heard = hiss_shape(samples, rate_hz)
    if heard is None:
        return Fit("cannot tell", words="No moment of it is quiet.")
    errors: list[float] = []
    shapes: list[Hiss | None] = []
    for one in choice:
        look()
        shape = own_noise(one.graph, track, rate_hz)
        shapes.append(shape)
        errors.append(math.inf if shape is None else _chi(heard, shape, rate_hz))
    if not errors or not math.isfinite(errors[0]):
        return Fit("cannot tell")
    bands = centres_hz(rate_hz).size
    best = min(errors)
    if best > FITS * bands:
        return Fit("cannot tell", words="Its noise is that of none of them.")
    if errors[0] <= best + ALIKE:
        rivals = sum(error <= best + SURELY for error in errors)
        return Fit("fits") if rivals < len(errors) else Fit("cannot tell")
    if errors[0] < best + SURELY or errors[0] < FITS * bands:
        return Fit("cannot tell")
    if _chi(heard, white(shapes[errors.index(best)] or heard), rate_hz) < best + SURELY:
        # Any input that hisses by itself sounds like an instrument that does not.
        return Fit("cannot tell", words="Its noise has no shape of its own.")
    named = tuple(
        one.words for one, error in zip(choice, errors, strict=True) if error <= best + ALIKE
    )
    return Fit("another", named, f"Its own noise is that of {_some(named)}.")


def _some(named: Sequence[str]) -> str:
    """The first two, and that there are more."""
    more = " (or others)" if len(named) > MOST_NAMED else ""
    return " or of ".join(named[:MOST_NAMED]) + more


def white(like: Hiss) -> Hiss:
    """Noise without a shape, known as well as another."""
    return Hiss(np.zeros(like.level_db.size), like.moments)


def _chi(heard: Hiss, shape: Hiss, rate_hz: float) -> float:
    return apart(heard, shape, rate_hz)[1] ** 2 * centres_hz(rate_hz).size


def own_noise(graph: RigGraph, track: PortRef, rate_hz: float) -> Hiss | None:
    """What the bench hears of a course that nobody plays."""
    try:
        course = trace(graph, track)
    except DiaulosError:
        return None
    maker = StepMaker(
        course, rate_hz, BenchFaults(seed=SEED), None, lambda key: zlib.crc32(repr(key).encode())
    )
    signal = np.zeros(round(NOISE_S * rate_hz))
    for step in maker.steps:
        signal, _ = step.processor.process(signal, step.processor.initial_state())
    return hiss_shape(signal, rate_hz)


# --- the lowest note ---


def _too_low(
    samples: NDArray[np.floating], track: PortRef, choice: Sequence[Candidate], rate_hz: float
) -> Fit | None:
    strings = [_strings(one, track) for one in choice]
    if not strings or not strings[0]:
        return None
    lowest = midi_hz(min(strings[0]))
    heard = lowest_note_hz(samples, rate_hz, lowest * DROPPED)
    if heard is None:
        return None
    named = []
    for one, tuned in zip(choice, strings, strict=True):
        same = one.instrument == choice[0].instrument
        if tuned and not same and midi_hz(min(tuned)) * UNDER <= heard:
            named.append(one.words.split(",")[0])
    others = tuple(dict.fromkeys(named))
    midi = 69.0 + 12.0 * math.log2(heard / 440.0)
    words = (
        f"It holds {note_name(round(midi))} ({heard:.0f} Hz), below the lowest string "
        f"({note_name(min(strings[0]))})."
    )
    if others:
        words += f" It may be that of {_some(others)}."
    return Fit("another", others, words)


def _strings(one: Candidate, track: PortRef) -> tuple[int, ...]:
    try:
        course: Course = trace(one.graph, track)
    except DiaulosError:
        return ()
    return course.source.strings if course.source is not None else ()


def lowest_note_hz(samples: NDArray[np.floating], rate_hz: float, below_hz: float) -> float | None:
    """A note that stands out below a frequency.

    Parameters
    ----------
    samples
        Shape (frames,).
    rate_hz
        Sample rate in Hz.
    below_hz
        Where to look: down from there.

    Returns
    -------
    Its frequency in Hz; None where there is none. Mains hum is none.
    """
    size = round(LOWEST_SIZE * rate_hz / RATE_HZ)
    step = size // 2
    count = (samples.size - size) // step + 1
    if count < MOMENTS or below_hz <= LOWEST_HZ:
        return None
    at = np.arange(count)[:, None] * step + np.arange(size)
    window = np.blackman(size)
    level = 10.0 * np.log10(
        np.square(np.abs(np.fft.rfft(np.asarray(samples, np.float64)[at] * window, axis=1))) + 1e-20
    )
    freqs = np.fft.rfftfreq(size, 1.0 / rate_hz)
    loudest = level[:, freqs < 2_000.0].max(axis=1)
    looked = np.flatnonzero((freqs >= LOWEST_HZ) & (freqs <= below_hz))
    found: list[float] = []
    for row, top in zip(level, loudest, strict=True):
        if top < loudest.max() - 30.0 or looked.size < 3:
            continue
        peak = int(looked[np.argmax(row[looked])])
        if peak in (looked[0], looked[-1]) or row[peak] < top + STRONG_DB:
            continue
        beside = np.abs(freqs - freqs[peak])
        around = row[(beside > 10.0) & (beside < 25.0) & (freqs > 10.0)]
        if row[peak] < float(np.median(around)) + CLEAR_DB:
            continue
        # Hum is there whether anybody plays or not.
        mains = min(abs(freqs[peak] - hz) for hz in MAINS_HZ) < BESIDE_MAINS_HZ
        if not mains or row[peak] > float(np.min(level[:, peak])) + COMES_DB:
            found.append(float(freqs[peak]))
    if len(found) < MOMENTS:
        return None
    usual = float(np.median(found))
    near = [hz for hz in found if abs(math.log2(hz / usual)) < 1.0 / 12.0]
    return usual if len(near) >= MOMENTS else None
