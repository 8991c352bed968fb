"""A recording read in another one's time, in blocks: delay, drift, polarity, gain."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.session.model import AlignmentRecord, Pass, Return, SentPart
from diaulos.signal.delay import Alignment
from diaulos.signal.fir import FRACTION_TAPS, fractional_delay
from diaulos.units import db_to_gain
from diaulos.work.measuring import read_mono, read_span
from diaulos.work.ports import AudioSource

BLOCK = 65_536
JOIN_S = 0.005
"""What a part that was sent alone comes in and goes out over."""


_HALF = 32


def record_of(found: Alignment) -> AlignmentRecord:
    """An alignment as it is stored."""
    return AlignmentRecord(
        delay_samples=found.delay_samples,
        delay_error_samples=found.delay_error_samples,
        polarity=1 if found.polarity > 0 else -1,
        confidence=found.confidence,
        drift_ppm=found.drift_ppm,
        drift_error_ppm=found.drift_error_ppm,
    )


def read_aligned(
    source: AudioSource,
    first: int,
    count: int,
    delay_samples: float,
    drift_ppm: float = 0.0,
    channel: int = 0,
    *,
    width: type[np.floating] = np.float64,
) -> NDArray[np.floating]:
    """`count` samples from `first` on, in the time of the other recording.

    Sample n is the recording at n + delay + drift x n, band-limited; silence outside it. With
    numpy.float32 for `width` a recording without drift is moved in half the time.
    """
    if abs(drift_ppm) < 1e-9:
        ahead = math.ceil(delay_samples)
        taps = fractional_delay(ahead - delay_samples)
        lead = FRACTION_TAPS // 2 - 1
        start = first + ahead + lead - (FRACTION_TAPS - 1)
        window = _window(source, start, count + FRACTION_TAPS - 1, channel)
        if ahead == delay_samples:
            skip = FRACTION_TAPS - 1 - lead
            return window[skip : skip + count]
        if width is np.float32:
            from diaulos.signal.convolve import convolve_long

            narrow = convolve_long(window.astype(np.float32), taps)
            return narrow[FRACTION_TAPS - 1 : FRACTION_TAPS - 1 + count]
        from diaulos.signal.convolve import BlockConvolver

        convolver = BlockConvolver(taps)
        full, _ = convolver.process(window, convolver.initial_state())
        return full[FRACTION_TAPS - 1 :]
    out = np.empty(count)
    for at in range(0, count, 16_384):
        frames = np.arange(first + at, first + min(count, at + 16_384), dtype=np.float64)
        place = frames + delay_samples + drift_ppm * 1e-6 * frames
        start = int(np.floor(place[0])) - _HALF
        window = _window(source, start, int(np.floor(place[-1])) + 2 * _HALF - start, channel)
        whole = np.floor(place).astype(np.int64)
        index = whole[:, None] + np.arange(-_HALF + 1, _HALF + 1)[None, :]
        distance = place[:, None] - index
        taps = np.sinc(distance) * np.cos(np.pi * distance / (2.0 * _HALF + 1.0)) ** 2
        out[at : at + frames.size] = np.einsum("fk,fk->f", window[index - start], taps)
    return out


def _window(source: AudioSource, first: int, count: int, channel: int) -> NDArray[np.float64]:
    out = np.zeros(count)
    start, stop = max(0, first), min(source.frames, first + count)
    if stop > start:
        part = read_mono(source, channel=channel, first=start, count=stop - start)
        out[start - first : stop - first] = part
    return out


def aligned_blocks(
    source: AudioSource,
    frames: int,
    alignment: AlignmentRecord | None,
    *,
    gain_db: float = 0.0,
    fix_polarity: bool = True,
    channel: int = 0,
) -> Iterator[NDArray[np.float32]]:
    """The whole recording in the other's time, as (frames, 1) blocks."""
    delay, drift, sign = 0.0, 0.0, 1.0
    if alignment is not None:
        delay, drift = alignment.delay_samples, alignment.told_drift_ppm
        sign = -1.0 if fix_polarity and alignment.polarity < 0 else 1.0
    gain = sign * db_to_gain(gain_db)
    for first in range(0, frames, BLOCK):
        count = min(BLOCK, frames - first)
        block = read_aligned(source, first, count, delay, drift, channel)
        yield (gain * block).astype(np.float32)[:, None]


def return_in_time(
    source: AudioSource,
    found: AlignmentRecord | None,
    first: int,
    count: int,
    *,
    part: SentPart | None = None,
) -> NDArray[np.floating]:
    """A return in the take's time and polarity as it was found, its match not applied. Of a `part`
    of the take that was sent alone nothing is heard ahead of its first frame."""
    if found is None:
        return read_span(source, first, count)
    drift = found.told_drift_ppm
    read = read_aligned(source, first, count, found.delay_samples, drift)
    if part is not None:
        read = read * part_gain(part, first, count, source.rate_hz)
    return found.polarity * read


def part_gain(part: SentPart, first: int, count: int, rate_hz: int) -> NDArray[np.float64]:
    """What of a part that was sent alone is heard, linear: it comes in over 5 ms ahead of its first
    frame, and rings out."""
    if part.joined:
        return np.ones(count)
    fade = max(1, round(JOIN_S * rate_hz))
    return np.clip((np.arange(first, first + count) - (part.first - fade)) / fade, 0.0, 1.0)


def part_blocks(
    sources: Sequence[AudioSource], made: Pass, part: Sequence[Return], frames: int,
    *, matched: bool = True,
) -> Iterator[NDArray[np.float32]]:  # fmt: skip
    """What belongs together as it is exported without a cabinet: in time, in polarity, at its
    matched level, a column for each return. `sources` are the returns' audio."""
    columns = [
        _in_time_blocks(source, made, one, frames, matched)
        for source, one in zip(sources, part, strict=True)
    ]
    for blocks in zip(*columns, strict=True):
        yield np.concatenate(blocks, axis=1)


def _in_time_blocks(
    source: AudioSource, made: Pass, one: Return, frames: int, matched: bool
) -> Iterator[NDArray[np.float32]]:
    gain = np.float64(db_to_gain(one.match.total_db if one.match and matched else 0.0))
    placed = made.placed(one)
    for first in range(0, frames, BLOCK):
        count = min(BLOCK, frames - first)
        block = return_in_time(source, placed, first, count, part=made.part)
        yield (gain * block).astype(np.float32)[:, None]
