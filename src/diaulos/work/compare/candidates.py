"""What can be compared: tracks and passes of takes, and files."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.signal.loudness import Layout, LoudnessMeter
from diaulos.work.blocks import one_channel
from diaulos.work.compare.pairs import MOST_S, Side
from diaulos.work.measuring import read_mono
from diaulos.work.ports import AudioSource

Resample = Callable[[NDArray[np.float32], int, int], NDArray[Any]]


def side_of_file(
    name: str, source: AudioSource, rate_hz: int, resample: Resample, channel: int | None = None
) -> Side:
    """A file to be compared at a rate: one of its channels, or of several their mean; then its
    loudness is that of all of them."""
    frames = min(source.frames, round(MOST_S * source.rate_hz))
    if channel is not None or source.channels == 1:
        index = one_channel(source, channel, name)
        samples = read_mono(source, channel=index, count=frames)
        return Side(name, _at_rate(samples, source.rate_hz, rate_hz, resample), rate_hz)
    layout: Layout = "stereo"
    meter = LoudnessMeter(float(source.rate_hz), source.channels, layout)
    parts = []
    for block in source.blocks(count=frames):
        meter.add(block)
        parts.append(block.mean(axis=1, dtype=np.float32))
    samples = np.concatenate(parts) if parts else np.zeros(0, np.float32)
    heard = meter.reading().lufs
    return Side(name, _at_rate(samples, source.rate_hz, rate_hz, resample), rate_hz, layout, heard)


def as_monitored(sides: list[Side]) -> list[Side]:
    """Mono ones beside a stereo one are heard from both speakers."""
    from dataclasses import replace

    if not any(one.layout == "stereo" for one in sides):
        return sides
    return [replace(one, layout="dual_mono") if one.layout == "mono" else one for one in sides]


def _at_rate(
    samples: NDArray[np.float32], from_hz: int, to_hz: int, resample: Resample
) -> NDArray[np.float32]:
    if from_hz == to_hz:
        return samples
    return np.asarray(resample(samples, from_hz, to_hz), np.float32)
