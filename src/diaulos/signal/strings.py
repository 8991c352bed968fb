"""Plucked strings: the players of the demo and of the tests.

Each note is a sum of partials of a stiff string, f_n = n f0 sqrt(1 + B n^2) (Fletcher and
Rossing, The Physics of Musical Instruments, from memory), with the amplitudes of a string
plucked at one point and picked up at another, decaying faster the higher they are.
Everything is drawn from one seed; nothing is sampled from anybody.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass

Real = NDArray[np.float64]


@dataclass(frozen=True)
class Note:
    """One plucked note. `midi` is the pitch (69 = A at 440 Hz), `strength` 0 to 1."""

    start_s: float
    length_s: float
    midi: float
    strength: float


@dataclass(frozen=True)
class StringCharacter:
    """How the strings of an instrument sound."""

    decay_s: float = 2.2
    stiffness: float = 6e-5
    pluck_at: float = 0.16
    pickup_at: float = 0.11
    brightness_hz: float = 5200.0
    partials: int = 36


def render_notes(
    notes: Sequence[Note],
    rate_hz: float,
    length_s: float,
    character: StringCharacter,
    seed: int,
) -> Real:
    """The EMF of the instrument, scaled so that its peak is 1.

    Parameters
    ----------
    notes
        What is played, with times and force.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    length_s
        Length in s.
    character
        How the strings ring.
    seed
        Of all that is drawn by chance.

    Returns
    -------
    EMF, shape (frames,), peak 1.
    """
    out = ring_notes(notes, rate_hz, length_s, character, seed)
    peak = float(np.max(np.abs(out), initial=0.0))
    return out / peak if peak > 0.0 else out


def ring_notes(
    notes: Sequence[Note],
    rate_hz: float,
    length_s: float,
    character: StringCharacter,
    seed: int,
) -> Real:
    """The EMF of the instrument as the strings give it, unscaled: what is drawn for a note does
    not depend on the notes behind it.

    Parameters
    ----------
    notes
        What is played, with times and force.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    length_s
        Length in s.
    character
        How the strings ring.
    seed
        Of all that is drawn by chance.

    Returns
    -------
    EMF, shape (frames,), in a unit of its own.
    """
    rng = np.random.default_rng(seed)
    total = round(length_s * rate_hz)
    out = np.zeros(total)
    for note in notes:
        first = round(note.start_s * rate_hz)
        count = min(total - first, int(note.length_s * rate_hz))
        if count > 32:
            out[first : first + count] += _pluck(note, rate_hz, count, character, rng)
    return out


def _pluck(
    note: Note, rate_hz: float, count: int, character: StringCharacter, rng: np.random.Generator
) -> Real:
    f0 = 440.0 * 2.0 ** ((note.midi - 69.0) / 12.0)
    order = np.arange(1, character.partials + 1)
    freq = order * f0 * np.sqrt(1.0 + character.stiffness * order**2)
    order, freq = order[freq < 0.42 * rate_hz], freq[freq < 0.42 * rate_hz]
    pluck = character.pluck_at * (1.0 + 0.15 * rng.uniform(-1.0, 1.0))
    amplitude = np.sin(np.pi * order * pluck) * np.sin(np.pi * order * character.pickup_at) / order
    amplitude = amplitude / (1.0 + (freq / (character.brightness_hz * note.strength)) ** 2)
    decay = character.decay_s * (110.0 / f0) ** 0.3 / (1.0 + (freq / 1500.0))
    phase = rng.uniform(-0.3, 0.3, order.size)
    # A block of 256 steps and a coarse grid of them: two small exponentials per partial
    # instead of one long one.
    pole = np.exp((2j * np.pi * freq - 1.0 / decay) / rate_hz)
    step = 256
    fine = pole[:, None] ** np.arange(step)
    coarse = pole[:, None] ** (step * np.arange(-(-count // step)))
    weight = amplitude * np.exp(1j * phase) * note.strength
    wave = np.einsum("p,pc,pf->cf", weight, coarse, fine, optimize=True).imag.reshape(-1)[:count]
    attack = min(count, max(8, int(0.0012 * rate_hz)))
    wave[:attack] *= np.linspace(0.0, 1.0, attack)
    release = min(count, int(0.02 * rate_hz))
    wave[count - release :] *= np.linspace(1.0, 0.0, release)
    return np.asarray(wave)


@dataclass(frozen=True)
class Part:
    """A part to be played: chords or lines on a grid of eighth notes.

    `steps` holds one tuple of midi pitches per eighth; () is a rest that lets ring.
    """

    steps: tuple[tuple[int, ...], ...]
    strength: float = 0.7
    strum_s: float = 0.012
    ring_eighths: float = 2.0


def play(
    part: Part, tempo_bpm: float, length_s: float, seed: int, lead_in_s: float = 0.5
) -> list[Note]:
    """The notes of a person who plays the part over and over, with human timing and force.

    Parameters
    ----------
    part
        Notes and rests.
    tempo_bpm
        Beats per minute.
    length_s
        Length in s.
    seed
        Of all that is drawn by chance.
    lead_in_s
        Silence ahead, in s.

    Returns
    -------
    Notes with their times in s.
    """
    rng = np.random.default_rng(seed)
    eighth = 30.0 / tempo_bpm
    notes: list[Note] = []
    index = 0
    while lead_in_s + index * eighth < length_s - 0.5:
        pitches = part.steps[index % len(part.steps)]
        accent = 1.0 if index % 4 == 0 else 0.85
        onset = lead_in_s + index * eighth + rng.normal(0.0, 0.006)
        force = part.strength * accent * float(np.clip(rng.normal(1.0, 0.14), 0.5, 1.35))
        for rank, midi in enumerate(pitches):
            start = max(0.0, onset + rank * part.strum_s * rng.uniform(0.7, 1.3))
            ring = part.ring_eighths * eighth * rng.uniform(0.9, 1.1)
            detune = rng.normal(0.0, 0.02)
            notes.append(Note(start, ring, midi + detune, force))
        index += 1
    return notes
