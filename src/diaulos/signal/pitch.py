"""The pitch of a plucked string: its first partial, 0.3 to 1 s after the pluck.

A string's partials are sharp of whole multiples (stiffness) and fall a little while they
ring; players tune to the first partial once the attack is over. The period comes from the
normalised difference function (de Cheveigne and Kawahara, 2002, from memory), the figure from
the first partial's own peak in a windowed spectrum; where that partial is too weak (small
speakers, a pickup at its node), from the others through f_n = n f sqrt(1 + B n^2).
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_finite, require_mono, require_rate

Real = NDArray[np.float64]

LOWEST_HZ, HIGHEST_HZ = 26.0, 1_400.0
AFTER_PLUCK_S = 0.3
UNTIL_S = 1.0
LEAST_S = 0.3
LOW_HZ, LOW_LEAST_S = 41.0, 0.4
"""Below 41 Hz a period takes its time: 0.4 s are needed."""
WEAK_DB = -34.0
"""A first partial this far under the strongest is not trusted."""
NOTES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")


@dataclass(frozen=True)
class Pitch:
    """What was heard. `confidence` is 0 to 1: how periodic it is."""

    hz: float
    confidence: float
    partials: int
    """How many partials the figure stands on: 1 where the first was strong enough."""


@dataclass(frozen=True)
class Nearest:
    """A pitch against a note: its name, the note's own frequency, cents above it."""

    note: str
    wanted_hz: float
    cents: float


def note_name(midi: int) -> str:
    """C4 for 60.

    Parameters
    ----------
    midi
        Note number, 69 for A4; parts of it are cents.

    Returns
    -------
    Name with octave, sharps.
    """
    return f"{NOTES[midi % 12]}{midi // 12 - 1}"


def midi_hz(midi: float, a4_hz: float = 440.0) -> float:
    """Equal temperament: A4 * 2^((midi - 69) / 12).

    Parameters
    ----------
    midi
        Note number, 69 for A4; parts of it are cents.
    a4_hz
        Frequency of A4 in Hz.

    Returns
    -------
    Hz.
    """
    return a4_hz * float(2.0 ** ((midi - 69.0) / 12.0))


def cents_between(hz: float, wanted_hz: float) -> float:
    """1200 log2(hz / wanted).

    Parameters
    ----------
    hz
        Frequency in Hz, above 0.
    wanted_hz
        The frequency that is wanted, in Hz.

    Returns
    -------
    Cents, positive when higher.
    """
    return 1200.0 * math.log2(hz / wanted_hz)


def nearest_note(hz: float, a4_hz: float = 440.0) -> Nearest:
    """The closest note of equal temperament.

    Parameters
    ----------
    hz
        Frequency in Hz, above 0.
    a4_hz
        Frequency of A4 in Hz.

    Returns
    -------
    The note and the cents off it.
    """
    midi = round(69.0 + 12.0 * math.log2(hz / a4_hz))
    wanted = midi_hz(midi, a4_hz)
    return Nearest(note_name(midi), wanted, cents_between(hz, wanted))


def nearest_string(hz: float, strings: tuple[int, ...], a4_hz: float = 440.0) -> Nearest:
    """The closest of an instrument's open strings (midi).

    Parameters
    ----------
    hz
        Frequency in Hz, above 0.
    strings
        Open strings as note numbers.
    a4_hz
        Frequency of A4 in Hz.

    Returns
    -------
    The string and the cents off it.
    """
    midi = min(strings, key=lambda one: abs(cents_between(hz, midi_hz(one, a4_hz))))
    wanted = midi_hz(midi, a4_hz)
    return Nearest(note_name(midi), wanted, cents_between(hz, wanted))


def find_pitch(samples: Audio, rate_hz: float) -> Pitch:
    """The pitch of the last pluck in a recording (or of a steady tone).

    Refuses (RefusedError) what is too short, silent, or has no pitch from 26 Hz to 1.4 kHz.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    Hz of the first partial, confidence, frames used.

    Raises
    ------
    RefusedError
        ("too_short", "silent", "no_pitch").
    """
    require_mono(samples, "the note")
    require_finite(samples, "the note")
    require_rate(rate_hz)
    x = np.asarray(samples, dtype=np.float64)
    if x.size < LEAST_S * rate_hz:
        raise RefusedError(
            "too_short", f"{x.size / rate_hz:.2f} s is too short.", remedy="Let the note ring."
        )
    x = x - np.mean(x)
    if float(np.max(np.abs(x))) < 1e-4:
        raise RefusedError("silent", "Nothing is heard.", remedy="Play a string.")
    part = _after_pluck(x, rate_hz)
    low, low_rate = _lowered(part, rate_hz)
    coarse, confidence = _period(low, low_rate)
    if coarse < LOW_HZ and part.size < LOW_LEAST_S * rate_hz:
        raise RefusedError(
            "too_short", f"So low a note needs {LOW_LEAST_S:g} s.", remedy="Let it ring."
        )
    hz, partials = _refined(low, low_rate, coarse)
    if not LOWEST_HZ * 0.97 <= hz <= HIGHEST_HZ * 1.03:
        raise RefusedError("no_pitch", "No note is heard.", remedy="Play one string at a time.")
    return Pitch(hz, confidence, partials)


def last_onset(samples: Audio, rate_hz: float) -> int:
    """The frame at which the last strong pluck begins, to 10 ms; 0 where there is none.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    Frame.
    """
    x = np.asarray(samples, dtype=np.float64)
    step = max(1, int(0.01 * rate_hz))
    count = x.size // step
    level = np.sqrt(np.mean(np.square(x[: count * step].reshape(count, step)), axis=1))
    loud = level > 0.05 * float(level.max(initial=0.0))
    onset = 0
    # 50 ms ahead of it: less than that may be the dip inside one period of a low string.
    for index in range(5, count):
        before = level[index - 5 : index].max()
        if loud[index] and level[index] > 2.5 * before:
            onset = index
    return onset * step


def _after_pluck(x: Real, rate_hz: float) -> Real:
    """From 0.3 to 1 s after the last strong onset; what is there where that is less."""
    onset = last_onset(x, rate_hz)
    first = onset + int(AFTER_PLUCK_S * rate_hz)
    last = min(x.size, onset + int(UNTIL_S * rate_hz))
    there = x.size - onset
    least = int((LOW_LEAST_S if there >= LOW_LEAST_S * rate_hz else LEAST_S) * rate_hz)
    if last - first < least:
        # A short note: as late as there is room for the least that is needed.
        last = min(x.size, max(last, onset + least))
        first = max(0, last - least)
    return x[first:last]


def _lowered(x: Real, rate_hz: float) -> tuple[Real, float]:
    """At a rate that is enough for the highest note's first partials."""
    factor = max(1, int(rate_hz // 8_000.0))
    if factor == 1:
        return x, rate_hz
    spectrum = np.fft.rfft(x)
    kept = x.size // factor
    return np.fft.irfft(spectrum[: kept // 2 + 1], kept) * (kept / x.size), rate_hz * kept / x.size


def _period(x: Real, rate_hz: float) -> tuple[float, float]:
    """Coarse frequency and how periodic it is, by the normalised difference function."""
    longest = min(x.size // 2, int(rate_hz / (LOWEST_HZ * 0.95)) + 2)
    size = x.size - longest
    spectrum = np.fft.rfft(x, 2 * x.size)
    head = np.fft.rfft(x[:size], 2 * x.size)
    cross = np.fft.irfft(np.conj(head) * spectrum)[:longest]
    square = np.concatenate([[0.0], np.cumsum(np.square(x))])
    energy = square[np.arange(longest) + size] - square[np.arange(longest)]
    difference = energy[0] + energy - 2.0 * cross
    running = np.cumsum(difference[1:]) / np.arange(1, longest)
    normal = np.concatenate([[1.0], difference[1:] / np.maximum(running, 1e-20)])
    first = max(2, int(rate_hz / (HIGHEST_HZ * 1.05)))
    best = float(normal[first:].min(initial=1.0))
    threshold = max(0.12, best + 0.06)
    lag = first
    while lag < longest - 1 and normal[lag] > threshold:
        lag += 1
    while lag < longest - 1 and normal[lag + 1] < normal[lag]:
        lag += 1
    if normal[lag] > 0.5 or lag >= longest - 1:
        raise RefusedError("no_pitch", "No note is heard.", remedy="Play one string at a time.")
    left, middle, right = normal[lag - 1], normal[lag], normal[lag + 1]
    bend = left - 2.0 * middle + right
    shift = 0.5 * (left - right) / bend if bend > 0.0 else 0.0
    return rate_hz / (lag + shift), float(np.clip(1.0 - normal[lag], 0.0, 1.0))


def _refined(x: Real, rate_hz: float, coarse: float) -> tuple[float, int]:
    """The first partial's own frequency; through the others where it is weak."""
    found: list[tuple[int, float, float]] = []
    window = np.blackman(x.size)
    weighted, total = x * window, float(window.sum())
    for n in range(1, 7):
        hz = n * coarse
        if hz > 0.45 * rate_hz:
            break
        found.append((n, *_peak(weighted, total, rate_hz, hz, coarse)))
    strongest = max(amplitude for _, _, amplitude in found)
    floor = strongest * 10.0 ** (WEAK_DB / 20.0)
    _, first_hz, first = found[0]
    if first >= floor:
        return first_hz, 1
    others = [(n, hz, amplitude) for n, hz, amplitude in found[1:] if amplitude >= floor]
    if not others:
        return coarse, 0
    # (f_n / n)^2 = f^2 (1 + B n^2): a straight line over n^2, weighed by amplitude.
    order = np.array([one[0] for one in others], dtype=float)
    y = np.array([(hz / number) ** 2 for number, hz, _ in others])
    weight = np.array([amplitude for _, _, amplitude in others])
    if order.size < 2:
        return float(math.sqrt(y[0])), 1
    slope, base = np.polyfit(np.square(order), y, 1, w=weight)
    # The first partial, not the string's ideal f: n = 1 on the same line.
    return float(math.sqrt(max(1.0, base + max(0.0, slope)))), int(order.size)


def _peak(
    weighted: Real, total: float, rate_hz: float, hz: float, spacing: float
) -> tuple[float, float]:
    """Frequency and amplitude of the peak near `hz`, on a spectrum with a smooth window of sum
    `total`. The signal is turned down to that frequency and summed in blocks, so that the
    spectrum is worked out from some tens of values; a second turn takes out what the blocks
    damp beside their middle."""
    time = np.arange(weighted.size) / rate_hz
    span = min(0.035 * hz, 0.3 * spacing) + 0.5
    centre, level = hz, np.zeros(1)
    for points, turns in ((41, 1), (15, 3)):
        block = max(1, min(int(rate_hz / (16.0 * span)), weighted.size // 64))
        count = -(-weighted.size // block)
        slow = np.zeros(count * block, np.complex128)
        slow[: weighted.size] = weighted * np.exp(-2j * np.pi * centre * time)
        slow = slow.reshape(count, block).sum(axis=1)
        middle = (np.arange(count) * block + (block - 1) / 2.0) / rate_hz
        aside = 0.0
        for _ in range(turns):
            offsets = aside + np.linspace(-span, span, points)
            level = np.abs(np.exp(-2j * np.pi * np.outer(offsets, middle)) @ slow)
            aside = float(offsets[int(np.argmax(level))])
            span = float(offsets[1] - offsets[0])
        centre += aside
    return centre, float(2.0 * level.max() / total)
