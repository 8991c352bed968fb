"""Pairs made from real recordings: is a delay that is said with confidence right?

The recordings are Debian's sonic-pi-samples (CC0). Each pair is a stretch of one or several of
them, and the same stretch late or early, filtered, driven, noisy, at another level, with an
offset, by another clock or at another rate.
"""

from __future__ import annotations

import random
from collections import Counter
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
import scipy.fft
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.signal.amp import AmpSettings, drive_signal
from diaulos.signal.cabinet import cabinet_taps
from diaulos.signal.convolve import convolve_long
from diaulos.signal.delay import Alignment, find_alignment
from diaulos.signal.fir import minimum_phase, shift
from diaulos.storage.audiofile import audio_info, resample_whole
from support import read_all

Audio = NDArray[np.float64]
FOLDER = Path("/usr/share/sonic-pi/samples")
NAMES = (
    "guit_e_fifths", "guit_e_slide", "guit_em9", "guit_harmonics",
    "bass_hit_c", "bass_thick_c", "bass_woodsy_c", "bass_hard_c", "bass_drop_c", "bass_dnb_f",
)  # fmt: skip
RATE = 48_000
PAIRS = 3_000
WITHIN_S = 0.0005
REFUSED_AT_MOST = 0.02
SURE = 0.9
KINDS = 2 * ("copy", "copy", "filtered", "driven", "noisy", "drifting", "rates") + ("loop", "long")


@lru_cache(maxsize=32)
def recording(name: str) -> Audio:
    """A recording in mono at `RATE`, without silence at its end."""
    info = audio_info(FOLDER / f"{name}.flac")
    x = read_all(info).mean(axis=1).astype(np.float32)
    if info.rate_hz != RATE:
        x = resample_whole(x, info.rate_hz, RATE)
    loud = np.nonzero(np.abs(x) > 1e-3 * np.abs(x).max())[0]
    return np.asarray(x[: loud[-1] + 1], np.float64)


def phrase(rng: random.Random, seconds: float) -> Audio:
    """So much of recordings one after the other, each at a level of its own; short ones whole."""
    parts: list[Audio] = []
    total = 0
    bass = rng.random() < 0.5
    names = [n for n in NAMES if n.startswith("bass") == bass]
    while total < seconds * RATE:
        one = recording(rng.choice(names))
        first = 0 if one.size < 3 * RATE else rng.randrange(0, one.size - 2 * RATE)
        count = min(one.size - first, round(rng.uniform(0.4, 4.0) * RATE))
        gap = np.zeros(round(rng.uniform(0.0, 0.3) * RATE)) if rng.random() < 0.3 else np.zeros(0)
        piece = one[first : first + count] * rng.uniform(0.4, 1.0)
        fade = min(200, piece.size // 4)
        piece[-fade:] *= np.linspace(1.0, 0.0, fade)
        parts += [piece, gap]
        total += piece.size + gap.size
    return np.concatenate(parts)


@dataclass(frozen=True)
class Pair:
    """Two recordings of one performance, and how late the second is. `good`: that can be told."""

    words: str
    a: Audio
    b: Audio
    delay: float
    good: bool = True
    exact: bool = False


def made(number: int) -> Pair:
    """The pair of a number."""
    rng = random.Random(number)
    kind = rng.choice(KINDS)
    noise = np.random.default_rng(number)
    if kind == "loop":
        return looped(number, rng)
    single = kind in ("copy", "filtered", "noisy") and rng.random() < 0.5
    if single:
        a = recording(rng.choice(NAMES))[: rng.randrange(2, 12) * RATE]
    else:
        a = phrase(rng, rng.uniform(2.0, 20.0) if kind != "long" else rng.uniform(60.0, 300.0))
    delay = rng.uniform(-0.5, 1.0) * min(1.0, a.size / RATE / 4.0) * RATE
    if rng.random() < 0.3:
        delay = float(round(delay))
    sign = rng.choice((-1.0, 1.0))
    lag, b, words = 0.0, a, kind
    if kind in ("filtered", "driven", "noisy") or (kind == "long" and rng.random() < 0.5):
        b, lag, words = _treated(a, kind, rng)
    ppm = rng.uniform(-100.0, 100.0) if kind == "drifting" else 0.0
    tail = max(0, round(delay)) + 400
    b = shift(_stretched(b, ppm), delay, b.size + tail)
    snr = rng.choice((20.0, 10.0)) if kind == "noisy" else rng.choice((60.0, 40.0))
    if kind != "copy":
        level = float(np.sqrt(np.mean(b[np.abs(b) > 1e-3 * np.abs(b).max()] ** 2)))
        b = b + level * 10.0 ** (-snr / 20.0) * noise.standard_normal(b.size)
    b = sign * b * 10.0 ** (rng.uniform(-40.0, 6.0) / 20.0)
    if rng.random() < 0.2:
        b = b + 0.05 * float(np.abs(b).max())
    if kind == "rates":
        # At another rate, and brought back by a resampler of its own.
        rate = rng.choice((44_100, 96_000))
        b = np.asarray(resample_whole(resample_whole(b.astype(np.float32), RATE, rate), rate, RATE))
    true = delay * (1.0 + ppm * 1e-6) + lag
    return Pair(f"{number} {words} {ppm:.0f} ppm", a, b, true, exact=kind == "copy")


def looped(number: int, rng: random.Random) -> Pair:
    """A loop, and its later rounds only: nobody can tell which of them."""
    round_ = phrase(rng, rng.uniform(1.0, 4.0))
    rounds = rng.randrange(3, 6)
    a = np.tile(round_, rounds)
    later = round_.size * rng.randrange(1, rounds - 1)
    return Pair(f"{number} loop", a, a[later:] * 0.5, -float(later), good=False)


def _treated(a: Audio, kind: str, rng: random.Random) -> tuple[Audio, float, str]:
    """Filtered or driven, with the shift of its waveform that the treatment itself makes."""
    if kind == "driven":
        voice = rng.choice(("lantern", "tideline", "foghorn", "keel"))
        cabinet = "bass-fifteen" if voice == "keel" else rng.choice(("open-one", "closed-two"))
        driven = drive_signal(a * rng.uniform(0.2, 1.0), AmpSettings(voice=voice), float(RATE))
        b = convolve_long(driven, cabinet_taps(cabinet, float(RATE)))[: a.size]
        return b, _driven_lag(a, b), f"driven {voice} {cabinet}"
    low, high = rng.uniform(20.0, 90.0), rng.uniform(3_000.0, 9_000.0)
    taps = minimum_phase(
        lambda f: 1.0 / np.sqrt(1.0 + (low / np.maximum(f, 1.0)) ** 2)
        / np.sqrt(1.0 + (f / high) ** 4),
        float(RATE),
    )  # fmt: skip
    b, words = convolve_long(a, taps)[: a.size], f"filtered {low:.0f} to {high:.0f}"
    return b, _lag_of(a, b), f"{kind} {words}"


def _driven_lag(a: Audio, b: Audio) -> float:
    """The lag of the same amplifier at no latency, as it is found there."""
    try:
        found = find_alignment(a, b, float(RATE), max_delay_samples=RATE // 100).delay_samples
    except RefusedError:
        return 0.0
    return found if abs(found) < 0.002 * RATE else 0.0


def _lag_of(a: Audio, b: Audio) -> float:
    """The shift that best lines up a treated waveform: the peak of a plain correlation of all
    above 250 Hz within 4 ms."""
    size = 1 << int(np.ceil(np.log2(a.size + b.size)))
    hz = np.fft.rfftfreq(size, 1.0 / RATE)
    weight = hz**2 / (hz**2 + 250.0**2) * (hz < 8_000.0)
    cross = np.fft.irfft(np.fft.rfft(b, size) * np.conj(np.fft.rfft(a, size)) * weight, size)
    reach = round(0.004 * RATE)
    near = np.concatenate([cross[-reach:], cross[: reach + 1]])
    return float(np.argmax(np.abs(near)) - reach)


def _stretched(x: Audio, ppm: float) -> Audio:
    """By a clock that is so far off: B runs longer by `ppm`."""
    if ppm == 0.0:
        return x
    import scipy.ndimage

    at = np.arange(round(x.size * (1.0 + ppm * 1e-6))) / (1.0 + ppm * 1e-6)
    return np.asarray(scipy.ndimage.map_coordinates(x, [at], order=5, mode="constant"))


@dataclass(frozen=True)
class Answer:
    """What came of a pair. `late_s` is how far off it is."""

    pair: Pair
    found: Alignment | None
    reason: str
    off_s: float = 0.0

    @property
    def wrong(self) -> bool:
        """Said with confidence, and off."""
        return self.found is not None and self.found.confidence >= SURE and self.off_s > WITHIN_S


def answered(pair: Pair) -> Answer:
    """Ask for the alignment of a pair."""
    try:
        found = find_alignment(pair.a, pair.b, float(RATE))
    except RefusedError as error:
        return Answer(pair, None, error.reason)
    return Answer(pair, found, "", abs(found.delay_samples - pair.delay) / RATE)


def plainly(pair: Pair) -> float:
    """Where one plain correlation of all of both has its highest peak, in samples."""
    size = scipy.fft.next_fast_len(pair.a.size + pair.b.size, real=True)
    spectrum = scipy.fft.rfft(pair.b - pair.b.mean(), size)
    cross = scipy.fft.irfft(spectrum * np.conj(scipy.fft.rfft(pair.a, size)), size)
    best = int(np.argmax(np.abs(cross)))
    return float(best if best < pair.b.size else best - size)


def run(pairs: int, seed: int) -> tuple[str, int]:
    """Words for a person, and how many things did not hold."""
    wrong: list[str] = []
    count: Counter[str] = Counter()
    for number in range(pairs):
        answer = answered(made(seed * 100_003 + number))
        pair = answer.pair
        count["good"] += pair.good
        count["refused"] += pair.good and answer.found is None
        count["sure"] += answer.found is not None and answer.found.confidence >= SURE
        off = answer.found is not None and answer.off_s > WITHIN_S
        worse = pair.exact and (off or answer.found is None)
        if answer.wrong or (worse and abs(plainly(pair) - pair.delay) <= WITHIN_S * RATE):
            got = answer.reason
            if answer.found is not None:
                got = f"{answer.found.delay_samples:.1f} at {answer.found.confidence:.2f}"
            wrong.append(f"{pair.words}: {got} where {pair.delay:.1f} is true")
    if count["refused"] > REFUSED_AT_MOST * count["good"] + 2:
        wrong.append(f"{count['refused']} of {count['good']} good pairs are refused")
    words = (
        f"delays: {len(wrong)} of {pairs} pairs wrong; {count['sure']} answered with {SURE} or "
        f"more, {count['refused']} of {count['good']} good ones refused"
    )
    return "\n  ".join([words, *wrong[:20]]), len(wrong)
