"""The loudest part of a stored DI: what a reamp is planned by."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.signal.peaks import loudest_span
from diaulos.work.measuring import read_mono
from diaulos.work.ports import AudioSource

EXCERPT_S = 3.0
"""The loudest stretch of a take that the plan is worked out for."""


@dataclass(frozen=True)
class Loudest:
    """The loudest part of a DI, and its peak over the whole."""

    samples: NDArray[np.float32]
    first: int
    peak_dbfs: float


def read_loudest(source: AudioSource, channel: int = 0) -> Loudest:
    """The loudest stretch of a DI, found in one streaming read."""
    rate = source.rate_hz
    keep = int(EXCERPT_S * rate)
    best: tuple[float, int] = (-1.0, 0)
    peak, at = 0.0, 0
    for block in source.blocks(block=keep):
        mono = block[:, channel]
        peak = max(peak, float(np.max(np.abs(mono), initial=0.0)))
        energy = float(np.dot(mono, mono))
        if energy > best[0]:
            best = (energy, at)
        at += mono.size
    # The loudest stretch may lie across a boundary: look again around the best piece.
    first = max(0, best[1] - keep)
    around = read_mono(source, channel=channel, first=first, count=3 * keep)
    span = loudest_span(around, rate, EXCERPT_S)
    excerpt = around[span.first : span.first + span.count]
    level = 20.0 * float(np.log10(peak)) if peak > 0.0 else -200.0
    return Loudest(np.ascontiguousarray(excerpt), first + span.first, level)
