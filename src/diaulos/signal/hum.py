"""What a silence is made of: mains hum, bus tones, hiss.

Conventions
- Levels are RMS in dBFS after AES17: a full-scale sine reads 0.
- Hum is claimed from quiet spans only, of two seconds or more in all: a held note is louder
  than the noise around it and dies away; the mains does neither. A quiet span is as quiet as
  the quietest tenth of the recording, give or take, and steady.
- The mains frequency is the one, within half a hertz of 50 or 60, whose harmonics together
  stand out most; a tone counts when it stands `CLEAR_DB` above the noise beside it.
- Bus tones are whole kilohertz (frames of 1 ms; standard USB 2.0, from memory).
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_finite, require_mono, require_rate
from diaulos.signal.weighting import a_weighting_gain
from diaulos.units import LOWEST_DB

Real = NDArray[np.float64]

FRAME_S = 0.1
QUIET_MARGIN_DB = 6.0
LEAST_QUIET_S = 2.0
LOUD_DBFS = -30.0
"""Nothing louder than this is called a silence."""
MAINS_HZ = (50.0, 60.0)
OFF_HZ = 0.5
HARMONICS = 20
CLEAR_DB = 12.0
CLAIM_DB = 15.0
"""What the strongest harmonic must stand out by: noise alone reaches 12 dB now and then."""
NEAR_HZ = 2.0
"""A stronger tone this close to a harmonic, but off the mains, is a note."""
BUS_HZ = tuple(1000.0 * n for n in range(1, 20))
BUS_OFF = 2e-4
"""How far a bus's clock may be off, as a share."""


@dataclass(frozen=True)
class NoiseTone:
    """A tone in the silence."""

    hz: float
    dbfs: float


@dataclass(frozen=True)
class Noise:
    """What was found. `mains_hz` is None where no hum can be claimed; `reason` says why."""

    mains_hz: float | None
    reason: str
    hum: tuple[NoiseTone, ...]
    bus_tones: tuple[NoiseTone, ...]
    floor_dbfs: float
    """Everything, 20 Hz to 20 kHz."""
    floor_a_dbfs: float
    hiss_dbfs: float
    """What is left without the tones."""
    quiet_s: float
    processor: str = ""
    """How the noise of a processor gives itself away: "sweeping" tones or "chopped" hiss."""

    @property
    def hum_dbfs(self) -> float:
        """All hum together."""
        return _sum_db([tone.dbfs for tone in self.hum])

    @property
    def bus_dbfs(self) -> float:
        """All bus tones together."""
        return _sum_db([tone.dbfs for tone in self.bus_tones])


def _sum_db(levels: list[float]) -> float:
    total = sum(10.0 ** (level / 10.0) for level in levels)
    return 10.0 * math.log10(total) if total > 0.0 else LOWEST_DB


def analyse_noise(samples: Audio, rate_hz: float) -> Noise:
    """The noise of a recorded silence, or of the quiet spans of a recording.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    Hum, bus tones, hiss and floor in dBFS; what cannot be told, and why.

    Raises
    ------
    InputError
        For NaN and impossible rates.
    """
    require_mono(samples, "the recording")
    require_finite(samples, "the recording")
    require_rate(rate_hz)
    x = np.asarray(samples, dtype=np.float64)
    spans = quiet_spans(x, rate_hz)
    seconds = sum(stop - start for start, stop in spans) / rate_hz
    heard = spans or [(0, x.size)]
    power, freqs, width = _spectrum(x, heard, rate_hz)
    floor, floor_a = _band(power, freqs, rate_hz, False), _band(power, freqs, rate_hz, True)
    if seconds < LEAST_QUIET_S:
        why = f"only {seconds:.1f} s of it is quiet; {LEAST_QUIET_S:g} s are needed"
        return Noise(None, why, (), (), floor, floor_a, floor, seconds)
    longest = max(spans, key=lambda span: span[1] - span[0])
    mains, hum = _hum(x, longest, rate_hz)
    hum, bus = _told_once(hum, _bus_tones(x, longest, rate_hz))
    processor = _processor(x[longest[0] : longest[1]], rate_hz, mains)
    hiss = power.copy()
    for tone in (*hum, *bus):
        near = np.abs(freqs - tone.hz) <= 3.0 * width
        beside = (np.abs(freqs - tone.hz) <= 12.0 * width) & ~near
        if near.any() and beside.any():
            hiss[near] = np.median(hiss[beside])
    reason = "" if mains is not None else "no harmonic of 50 or 60 Hz stands out"
    return Noise(
        mains, reason, hum, bus, floor, floor_a, _band(hiss, freqs, rate_hz, False), seconds,
        processor,
    )  # fmt: skip


def quiet_spans(x: Real, rate_hz: float) -> list[tuple[int, int]]:
    """(first, end) of the stretches that are as quiet as the quietest tenth and steady, half a
    second at least each.

    Parameters
    ----------
    x
        Samples, shape (frames,).
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Returns
    -------
    (first, end) of each, in frames.
    """
    frame = int(FRAME_S * rate_hz)
    count = x.size // frame
    if count == 0:
        return []
    level = 10.0 * np.log10(np.mean(np.square(x[: count * frame].reshape(count, frame)), 1) + 1e-20)
    level += 10.0 * math.log10(2.0)  # AES17
    floor = float(np.percentile(level, 10.0))
    quiet = (level <= floor + QUIET_MARGIN_DB) & (level < LOUD_DBFS)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], quiet.astype(np.int8), [0]])))
    spans = []
    for start, stop in zip(edges[::2], edges[1::2], strict=True):
        if stop - start < round(0.5 / FRAME_S):
            continue
        if _dies_away(level[start:stop]):
            continue  # the end of a note
        spans.append((int(start * frame), int(stop * frame)))
    return spans


def _dies_away(level: Real) -> bool:
    """Whether it falls by more than 2 dB from its first to its last third: a note's end."""
    third = max(1, level.size // 3)
    return bool(float(np.mean(level[:third]) - np.mean(level[-third:])) > 2.0)


def _spectrum(x: Real, spans: list[tuple[int, int]], rate_hz: float) -> tuple[Real, Real, float]:
    """Mean power per bin (AES17: a full-scale sine's bins sum to 1) over the spans, frequencies,
    width of a bin."""
    longest = max(stop - start for start, stop in spans)
    size = 1 << max(8, min(15, int(math.log2(max(longest, 256)))))
    window = np.hanning(size)
    scale = 4.0 / (np.sum(np.square(window)) * size)
    total, count = np.zeros(size // 2 + 1), 0
    for start, stop in spans:
        for at in range(start, max(start + 1, stop - size + 1), size // 2):
            part = x[at : at + size]
            if part.size < size:
                part = np.pad(part, (0, size - part.size))
            total += np.square(np.abs(np.fft.rfft(part * window)))
            count += 1
    return (
        total * scale / max(1, count),
        np.asarray(np.fft.rfftfreq(size, 1.0 / rate_hz)),
        rate_hz / size,
    )


def _band(power: Real, freqs: Real, rate_hz: float, weighted: bool) -> float:
    inside = (freqs >= 20.0) & (freqs <= min(20_000.0, rate_hz / 2.0))
    weight = a_weighting_gain(np.maximum(freqs, 1e-3)) ** 2 if weighted else np.ones(freqs.size)
    total = float(np.sum((power * weight)[inside]))
    return 10.0 * math.log10(total) if total > 1e-30 else LOWEST_DB


# --- tones ---


class _Tones:
    """A long windowed stretch, asked for its level at any frequency: a spectrum so finely
    padded with zeros that a straight line between two of its points is exact to 0.01 dB."""

    def __init__(self, x: Real, rate_hz: float, padding: int) -> None:
        self.rate_hz, self.size = rate_hz, x.size
        window = np.hanning(x.size)
        count = 1 << math.ceil(math.log2(x.size * padding))
        spectrum = np.abs(np.fft.rfft((x - np.mean(x)) * window, count))
        self._level = 2.0 * spectrum / float(window.sum())
        self._step = rate_hz / count

    def amplitude(self, hz: Real) -> Real:
        """Peak amplitude of a sine at each frequency, as the window sees it."""
        at = np.clip(hz / self._step, 0.0, self._level.size - 1.001)
        low = at.astype(np.int64)
        share = at - low
        return np.asarray(self._level[low] * (1.0 - share) + self._level[low + 1] * share)

    def beside(self, hz: float) -> float:
        """Typical amplitude of the noise near a frequency, clear of its own lobe."""
        step = self.rate_hz / self.size
        offsets = step * np.array([-9.5, -8.0, -6.5, -5.0, 5.0, 6.5, 8.0, 9.5])
        near = np.abs(hz + offsets)
        return float(np.median(self.amplitude(near))) + 1e-12


def _decimated(x: Real, rate_hz: float, top_hz: float) -> tuple[Real, float]:
    """A stretch at a lower rate, still whole up to `top_hz`."""
    factor = int(rate_hz / (2.5 * top_hz))
    if factor < 2:
        return x, rate_hz
    spectrum = np.fft.rfft(x)
    kept = x.size // factor
    low = np.fft.irfft(spectrum[: kept // 2 + 1], kept) * (kept / x.size)
    return low, rate_hz * kept / x.size


def _hum(
    x: Real, longest: tuple[int, int], rate_hz: float
) -> tuple[float | None, tuple[NoiseTone, ...]]:
    """The mains and its harmonics, from the longest quiet span."""
    stretch = x[longest[0] : min(longest[1], longest[0] + int(10.0 * rate_hz))]
    low, low_rate = _decimated(stretch, rate_hz, 1_300.0)
    tones = _Tones(low, low_rate, 32)
    best: tuple[float, float] | None = None
    for mains in MAINS_HZ:
        f0 = _finest(tones, mains)
        clear = [
            n for n in range(1, 9)
            if _stands_out(tones, n * f0) and not _beside_a_note(tones, n, mains)
        ]  # fmt: skip
        score = sum(float(tones.amplitude(np.array([n * f0]))[0]) ** 2 for n in clear)
        if not any(_stands_out(tones, n * f0, CLAIM_DB) for n in clear):
            continue
        if best is None or score > best[0]:
            best = (score, f0)
    if best is None:
        return None, ()
    found = []
    for n in range(1, HARMONICS + 1):
        hz = n * best[1]
        near_note = n <= 8 and _beside_a_note(tones, n, _nominal(best[1]))
        if hz < low_rate / 2.2 and _stands_out(tones, hz) and not near_note:
            found.append(NoiseTone(hz, _dbfs(float(tones.amplitude(np.array([hz]))[0]))))
    return best[1], tuple(found)


def _nominal(f0: float) -> float:
    return min(MAINS_HZ, key=lambda mains: abs(mains - f0))


def _finest(tones: _Tones, mains: float) -> float:
    """The fundamental near 50 or 60 Hz whose first harmonics together are strongest."""
    span = np.linspace(mains - OFF_HZ, mains + OFF_HZ, 81)
    for _ in range(3):
        total = np.zeros(span.size)
        for n in (1, 2, 3, 4, 6):
            level = tones.amplitude(n * span)
            beside = tones.beside(n * float(span[span.size // 2]))
            clear = level.max() > beside * 10.0 ** (CLEAR_DB / 20.0)
            total += np.square(level) * (clear and not _beside_a_note(tones, n, mains))
        if not total.any():
            total = np.square(tones.amplitude(span))
        at = int(np.argmax(total))
        step = span[1] - span[0]
        span = np.linspace(span[at] - step, span[at] + step, 21)
    return float(span[10])


def _beside_a_note(tones: _Tones, n: int, mains: float) -> bool:
    """Whether a stronger tone stands close to a harmonic where no mains can be: what is seen
    at the harmonic is then that tone's skirt."""
    inside = tones.amplitude(np.linspace(n * (mains - OFF_HZ), n * (mains + OFF_HZ), 41))
    reach = n * OFF_HZ + NEAR_HZ
    offsets = np.linspace(n * OFF_HZ, reach, 21)[1:]
    around = tones.amplitude(np.concatenate([n * mains - offsets, n * mains + offsets]))
    return bool(around.max() > inside.max())


def _stands_out(tones: _Tones, hz: float, by_db: float = CLEAR_DB) -> bool:
    level = float(tones.amplitude(np.array([hz]))[0])
    return bool(level > tones.beside(hz) * 10.0 ** (by_db / 20.0))


def _bus_tones(x: Real, longest: tuple[int, int], rate_hz: float) -> tuple[NoiseTone, ...]:
    stretch = x[longest[0] : min(longest[1], longest[0] + int(2.0 * rate_hz))]
    tones = _Tones(stretch, rate_hz, 8)
    found: list[NoiseTone] = []
    clock = 0.0  # of the bus, re its nominal rate
    for wanted in (8_000.0, *BUS_HZ):
        if wanted > 0.45 * rate_hz or any(abs(one.hz - wanted) < 10.0 for one in found):
            continue
        if clock:
            span = np.array([wanted * clock])
        elif wanted in (1_000.0, 8_000.0):  # frames begin at 1 kHz, microframes at 8 kHz
            span = np.linspace(wanted * (1.0 - BUS_OFF), wanted * (1.0 + BUS_OFF), 33)
        else:
            break
        level = tones.amplitude(span)
        at = int(np.argmax(level))
        hz = float(span[at])
        if level[at] > tones.beside(hz) * 10.0 ** (CLEAR_DB / 20.0):
            found.append(NoiseTone(hz, _dbfs(float(level[at]))))
            clock = clock or hz / wanted
    return tuple(sorted(found, key=lambda tone: tone.hz))


def _told_once(
    hum: tuple[NoiseTone, ...], bus: tuple[NoiseTone, ...]
) -> tuple[tuple[NoiseTone, ...], tuple[NoiseTone, ...]]:
    """A line that is both a harmonic of the mains and a multiple of 1 kHz counts once: with the
    bus where it has others, or stands out from the harmonics below it; else with the mains."""
    for tone in bus:
        twin = next((one for one in hum if abs(one.hz - tone.hz) <= SAME_LINE_HZ), None)
        if twin is None:
            continue
        below = [one.dbfs for one in hum if 0.0 < twin.hz - one.hz <= NEIGHBOURS_HZ]
        if len(bus) > 1 or not below or twin.dbfs > max(below) + STANDS_OUT_DB:
            hum = tuple(one for one in hum if one is not twin)
        else:
            bus = tuple(one for one in bus if one is not tone)
    return hum, bus


SAME_LINE_HZ = 1.5
NEIGHBOURS_HZ = 400.0
STANDS_OUT_DB = 6.0
SWEEP_LOW_HZ = 400.0
SWEEP_OUT_DB, SWEEP_MOVES_DB = 15.0, 10.0
"""A sweeping tone stands out of its moment, and out of what is usual at its place."""
SWEEP_BINS, SWEEP_STEP_BINS = 10, 25
CHOPPED_DB = 6.0
CHOPPED_FRAME_S = 0.002
CHOPPED_LIKENESS = 0.5
MOST_S = 5.0


def _processor(stretch: Real, rate_hz: float, mains_hz: float | None) -> str:
    """Whether a silence holds what only a processor makes."""
    part = stretch[: int(MOST_S * rate_hz)]
    if _sweeps(part, rate_hz):
        return "sweeping"
    return "chopped" if _is_chopped(part, rate_hz, mains_hz) else ""


def _sweeps(x: Real, rate_hz: float) -> bool:
    """Whether half of the time one tone stands out that is not where it usually is, and that
    goes from place to place steadily."""
    size = 1 << round(math.log2(0.043 * rate_hz))
    count = (x.size - size) // (size // 2) + 1
    if count < 8:
        return False
    frames = np.lib.stride_tricks.sliding_window_view(x, size)[:: size // 2] * np.hanning(size)
    first = round(SWEEP_LOW_HZ * size / rate_hz)
    power = np.square(np.abs(np.fft.rfft(frames, axis=1)))[:, first:] + 1e-30
    at = np.argmax(power, axis=1)
    top = power[np.arange(at.size), at]
    stands = top > np.median(power, axis=1) * 10.0 ** (SWEEP_OUT_DB / 10.0)
    moves = top > np.median(power, axis=0)[at] * 10.0 ** (SWEEP_MOVES_DB / 10.0)
    if float(np.mean(stands & moves)) < 0.5:
        return False
    places = at[stands & moves]
    steps = np.abs(np.diff(places))
    return bool(np.ptp(places) >= SWEEP_BINS and np.median(steps) <= SWEEP_STEP_BINS)


def _is_chopped(x: Real, rate_hz: float, mains_hz: float | None) -> bool:
    """Whether what lies above 1 kHz comes and goes at a steady pace that is not the mains'."""
    frame = max(1, round(CHOPPED_FRAME_S * rate_hz))
    whole = x.size // frame
    if whole < 50:
        return False
    # A difference over a few samples leaves the lows out.
    apart = max(1, round(rate_hz / 8_000.0))
    high = x[apart:] - x[:-apart]
    whole = high.size // frame
    level = np.log(np.square(high[: whole * frame]).reshape(whole, frame).mean(axis=1) + 1e-30)
    swing = float(np.percentile(level, 90.0) - np.percentile(level, 10.0)) * 10.0 / math.log(10.0)
    if swing < CHOPPED_DB:
        return False
    level = level - level.mean()
    likeness = np.correlate(level, level, "full")[whole - 1 :] / float(np.dot(level, level))
    peaks = np.flatnonzero((likeness[1:-1] >= likeness[:-2]) & (likeness[1:-1] >= likeness[2:])) + 1
    peaks = peaks[likeness[peaks] > CHOPPED_LIKENESS]
    if peaks.size == 0:
        return False
    pace = 1.0 / (float(peaks[0]) * CHOPPED_FRAME_S)
    near = mains_hz is not None and any(
        abs(pace - n * mains_hz) < 0.05 * n * mains_hz for n in (1, 2)
    )
    return not near


def _dbfs(amplitude: float) -> float:
    return 20.0 * math.log10(amplitude) if amplitude > 0.0 else LOWEST_DB


def gate_threshold_dbfs(noise: Noise, quietest_note_dbfs: float) -> float | None:
    """Where a gate can open: halfway between the floor and the quietest wanted note; None
    where less than 6 dB lie between them.

    Parameters
    ----------
    noise
        What was found.
    quietest_note_dbfs
        Peak of the quietest wanted note in dBFS.

    Returns
    -------
    dBFS, or None.
    """
    room = quietest_note_dbfs - noise.floor_dbfs
    return noise.floor_dbfs + room / 2.0 if room >= 6.0 else None


@dataclass(frozen=True)
class NoiseChange:
    """Another attempt against the first, dB, per kind; None where neither has it."""

    hum_db: float | None
    bus_db: float | None
    hiss_db: float
    floor_a_db: float


def compare_noise(before: Noise, after: Noise) -> NoiseChange:
    """What an attempt has changed.

    Parameters
    ----------
    before
        The attempt before.
    after
        The attempt after.

    Returns
    -------
    dB, negative where it is quieter.
    """

    def change(one: float, other: float) -> float | None:
        if one <= LOWEST_DB and other <= LOWEST_DB:
            return None
        # A kind that is gone is at the floor of what can be told.
        return max(other, after.hiss_dbfs - 40.0) - max(one, before.hiss_dbfs - 40.0)

    return NoiseChange(
        change(before.hum_dbfs, after.hum_dbfs),
        change(before.bus_dbfs, after.bus_dbfs),
        after.hiss_dbfs - before.hiss_dbfs,
        after.floor_a_dbfs - before.floor_a_dbfs,
    )
