"""Reading levels off audio files, in blocks."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.clipping import FlatTops, full_scale
from diaulos.signal.loudness import Layout, Loudness, LoudnessMeter
from diaulos.signal.peaks import TruePeakMeter
from diaulos.signal.quiet import QuietestMeter
from diaulos.units import gain_to_db
from diaulos.work.ports import AudioSource

FULL_SCALE = full_scale(24)
"""A sample this large has nowhere to go in 24 bit: it counts as clipped."""


@dataclass(frozen=True)
class Levels:
    """What a stretch of audio measures. Levels are minus infinity for silence."""

    frames: int
    peak_dbfs: float
    true_peak_dbtp: float
    loudness: Loudness
    clipped_samples: int
    """At full scale of the file's own word length."""
    quietest_dbfs: float | None = None
    """RMS of the quietest 0.3 s of a single channel: its noise is no louder."""
    flat_tops: int = 0
    """Runs that lie flat below full scale, of a single channel: clipped ahead of the
    converter."""


def measure_blocks(
    blocks: Iterable[NDArray[Any]],
    rate_hz: int,
    channels: int,
    layout: Layout | None = None,
    bits: int | None = None,
) -> Levels:
    """Measure blocks of (frames, channels) of a file of so many bits (None for floats)."""
    limit, flat = full_scale(bits), FlatTops(bits)
    loudness = LoudnessMeter(float(rate_hz), channels, layout)
    peaks = [TruePeakMeter() for _ in range(channels)]
    quiet = QuietestMeter(rate_hz)
    frames = clipped = 0
    for block in blocks:
        loudness.add(block)
        if channels == 1:
            quiet.add(block[:, 0])
            flat.add(block[:, 0])
        for channel, meter in enumerate(peaks):
            meter.add(block[:, channel])
        clipped += int(np.count_nonzero(np.abs(block) >= limit))
        frames += block.shape[0]
    for meter in peaks:
        meter.finish()
    return Levels(
        frames=frames,
        peak_dbfs=gain_to_db(max(meter.sample_peak for meter in peaks)),
        true_peak_dbtp=gain_to_db(max(meter.true_peak for meter in peaks)),
        loudness=loudness.reading(),
        clipped_samples=clipped,
        quietest_dbfs=quiet.reading(),
        flat_tops=flat.runs,
    )


def measure_source(source: AudioSource, layout: Layout | None = None) -> Levels:
    """Measure a whole file."""
    return measure_blocks(source.blocks(), source.rate_hz, source.channels, layout, source.bits)


def finite_or_none(value: float) -> float | None:
    """A figure for a record or a script: None in place of infinity and NaN."""
    return value if math.isfinite(value) else None


def read_mono(
    source: AudioSource, *, channel: int = 0, first: int = 0, count: int | None = None
) -> NDArray[np.float32]:
    """One channel of a file as one array."""
    parts = [block[:, channel] for block in source.blocks(first=first, count=count)]
    return np.concatenate(parts) if parts else np.zeros(0, dtype=np.float32)


def read_span(source: AudioSource, first: int, count: int) -> NDArray[np.float32]:
    """`count` samples of a mono file from `first` on, silence outside it."""
    out = np.zeros(count, dtype=np.float32)
    start, stop = max(0, first), min(source.frames, first + count)
    if stop > start:
        out[start - first : stop - first] = read_mono(source, first=start, count=stop - start)
    return out
