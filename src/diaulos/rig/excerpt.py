"""What is played: some seconds of an instrument's hardest playing, by which levels are planned.

Conventions
- An excerpt is the EMF of the instrument, or the samples of a stored track, at `RATE_HZ`,
  scaled to a peak of 1; how loud it is stands with the instrument.
- The simulated player strums chords on the instrument's own strings. The same seed and chords
  play the same notes; the plan knows one performance, takes may be of any.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.records import dataclass
from diaulos.signal.strings import Note, StringCharacter, ring_notes

Real = NDArray[np.float64]
Array32 = NDArray[np.float32]

RATE_HZ = 48_000.0
EXCERPT_S = 3.0
APART_S = 1.05
"""From strum to strum."""
FIRST_S = 0.4
REST_S = 2.8
"""Around all strums but the last: a breath before, the ring after."""
STRUMS = 5
PHRASE = 3
"""Strums of a phrase: what an excerpt holds."""
FORCE_SPREAD = 0.06
LAST_RING_S = 2.2
PLANNED_SEED = 1
"""Of the performance that the plan goes by: every phrase of it is the same."""
Chord = tuple[int, ...]


def _power(strings: Sequence[int]) -> tuple[Chord, ...]:
    root = strings[0]
    return ((root, root + 7, root + 12),)


def _low(strings: Sequence[int]) -> tuple[Chord, ...]:
    return ((strings[0],),)


def _open(strings: Sequence[int]) -> tuple[Chord, ...]:
    return (tuple(strings),)


def _major(strings: Sequence[int]) -> tuple[Chord, ...]:
    root = strings[0] + 3
    return (tuple(root + above for above in (0, 7, 12, 16, 19, 24)[: len(strings)]),)


def _minor(strings: Sequence[int]) -> tuple[Chord, ...]:
    root = strings[0] + 5
    return (tuple(root + above for above in (0, 7, 12, 15, 19, 24)[: len(strings)]),)


def _octaves(strings: Sequence[int]) -> tuple[Chord, ...]:
    root = strings[0] + 3
    return ((root, root + 12), (root + 2, root + 14))


def _riff(strings: Sequence[int]) -> tuple[Chord, ...]:
    root = strings[0]
    return ((root,), (root + 3, root + 10), (root,), (root + 5, root + 12))


def _high(strings: Sequence[int]) -> tuple[Chord, ...]:
    return (tuple(note + 5 for note in strings[-3:]),)


CHORDS: dict[str, tuple[str, Callable[[Sequence[int]], tuple[Chord, ...]]]] = {
    "power": ("root, fifth and octave on the lowest strings", _power),
    "low": ("the lowest string alone", _low),
    "open": ("all open strings", _open),
    "major": ("a barred major chord", _major),
    "minor": ("a barred minor chord", _minor),
    "octaves": ("octaves, two by two", _octaves),
    "riff": ("single notes and fifths on the lowest strings", _riff),
    "high": ("the three highest strings at the fifth fret", _high),
}
"""Chord patterns by name: words for a person, and the chords on given open strings (midi)."""

PLANNED_CHORDS = "major"
"""Of forty performances (these chords, five seeds; guitars and basses, through amplifiers,
cabinets and microphones) this one's levels lie nearest to the middle: within 0.5 dB."""
USUAL_STRINGS: dict[str, tuple[int, ...]] = {"bass": (28, 33, 38, 43)}
GUITAR_STRINGS = (40, 45, 50, 55, 59, 64)


@dataclass(frozen=True, eq=False)
class Excerpt:
    """Some seconds of playing. `key` tells it from every other by content; `words` says what
    it is. `is_emf` is False for what a recorder holds (a stored track that is sent)."""

    samples: Array32
    key: str
    words: str
    simulated: bool = False


@dataclass(frozen=True, eq=False)
class Sent:
    """A stored track that is sent out: its excerpt, and how loud its peak is."""

    excerpt: Excerpt
    peak_dbfs: float


def excerpt_of(samples: Real, words: str, *, simulated: bool = False) -> Excerpt:
    """The excerpt around the loudest moment of a signal, scaled to a peak of 1.

    Parameters
    ----------
    samples
        EMF or stored samples at `RATE_HZ`, shape (frames,), not silent.
    words
        What it is, for a person.
    simulated
        True for the simulated player.

    Returns
    -------
    At most `EXCERPT_S` of it.

    Raises
    ------
    InputError
        For silence and NaN.
    """
    peak = float(np.max(np.abs(samples), initial=0.0))
    if not np.isfinite(peak) or peak <= 0.0:
        raise InputError("there is nothing played in it.", remedy="Record some hard strums.")
    count = min(samples.size, round(EXCERPT_S * RATE_HZ))
    loudest = int(np.argmax(np.abs(samples)))
    first = min(max(0, loudest - count // 2), samples.size - count)
    kept = (samples[first : first + count] / peak).astype(np.float32)
    kept.setflags(write=False)
    return Excerpt(kept, hashlib.sha256(kept.tobytes()).hexdigest()[:16], words, simulated)


def chords_named(name: str, strings: Sequence[int]) -> tuple[Chord, ...]:
    """The chords of a pattern on these open strings.

    Parameters
    ----------
    name
        One of `CHORDS`.
    strings
        Open strings as midi numbers, at least one; sorted here.

    Returns
    -------
    One chord a strum, over and over.

    Raises
    ------
    InputError
        For a name that is none.
    """
    if name not in CHORDS:
        raise InputError(f"unknown chords {name!r}.", remedy=f"Known are: {', '.join(CHORDS)}.")
    return CHORDS[name][1](sorted(strings))


def strummed(
    strings: Sequence[int],
    chords: str,
    seed: int,
    rate_hz: float,
    strums: int = STRUMS,
    spread: float = FORCE_SPREAD,
    character: StringCharacter | None = None,
) -> Real:
    """Hard strums of the simulated player: the EMF, scaled to a peak of 1.

    With the plan's own seed every phrase of three strums is the same; with another each is
    another one.

    Parameters
    ----------
    strings
        Open strings as midi numbers.
    chords
        One of `CHORDS`.
    seed
        Of all that is drawn by chance: force, place of the pick, phase.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    strums
        How many; five are seven seconds, eight are ten.
    spread
        How far the player's force varies, 0 to 1.
    character
        How the strings ring.

    Returns
    -------
    EMF, shape (frames,).
    """
    played = chords_named(chords, strings)
    strings_ring = character or StringCharacter()
    length = round((REST_S + APART_S * (strums - 1)) * rate_hz)
    out = np.zeros(length)
    for first in range(0, strums, PHRASE):
        count = min(PHRASE, strums - first)
        drawn = seed if seed == PLANNED_SEED else seed + 10_007 * (first // PHRASE)
        forces = np.random.default_rng(drawn)
        notes = []
        for index in range(count):
            force = float(np.clip(1.0 - spread * forces.random(), 0.3, 1.0))
            ring = 1.0 if first + index < strums - 1 else LAST_RING_S
            chord = played[(first + index) % len(played)]
            for rank, midi in enumerate(chord):
                start = FIRST_S + APART_S * index + 0.008 * rank
                notes.append(Note(start, ring, midi, force))
        phrase_s = FIRST_S + APART_S * (count - 1) + LAST_RING_S + 0.1
        phrase = ring_notes(notes, rate_hz, phrase_s, strings_ring, drawn)
        at = round(first * APART_S * rate_hz)
        end = min(length, at + phrase.size)
        out[at:end] += phrase[: end - at]
    return np.asarray(out / np.max(np.abs(out)))


@lru_cache(maxsize=64)
def simulated_excerpt(strings: tuple[int, ...], chords: str, seed: int = PLANNED_SEED) -> Excerpt:
    """The simulated player's excerpt on these strings; the same one for the same arguments.

    Parameters
    ----------
    strings
        Open strings as midi numbers.
    chords
        One of `CHORDS`.
    seed
        Of the performance.

    Returns
    -------
    EMF with a peak of 1: the first phrase of three strums.
    """
    emf = strummed(strings, chords, seed, RATE_HZ)
    first = round((FIRST_S - 0.01) * RATE_HZ)
    phrase = emf[first : first + round(EXCERPT_S * RATE_HZ)]
    return excerpt_of(phrase, "simulated player", simulated=True)
