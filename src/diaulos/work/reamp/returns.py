"""A recorded return measured against what was sent: delay, polarity, level."""

from __future__ import annotations

from dataclasses import dataclass, replace

from diaulos.errors import RefusedError
from diaulos.session.model import (
    AlignmentRecord,
)
from diaulos.signal.delay import Alignment, find_alignment
from diaulos.work.capture.loop import LoopResult
from diaulos.work.measuring import Levels, measure_blocks, read_mono
from diaulos.work.ports import (
    AudioSource,
    CancelToken,
    Progress,
)
from diaulos.work.reamp.planning import read_excerpt

MAX_LOOP_DELAY_S = 1.0


MEASURED_S = 600.0
"""Longer takes are measured on this much around their loudest part."""


@dataclass(frozen=True)
class Returned:
    """The return as measured against what was sent."""

    loop: LoopResult
    alignment: Alignment | None
    refused: str
    levels: Levels


def measure_return(
    di: AudioSource,
    channel: int,
    back: AudioSource,
    loop: LoopResult,
    progress: Progress,
    cancel: CancelToken,
) -> Returned:
    """Delay, polarity and level of a recorded return against the DI that was sent."""
    progress(0.1, "Measuring delay and polarity")
    cancel.check()
    first, count = _measured_part(di, channel)
    sent = read_mono(di, channel=channel, first=first, count=count)
    heard = read_mono(back, first=first, count=count + int(MAX_LOOP_DELAY_S * di.rate_hz))
    alignment, refused = None, ""
    try:
        alignment = find_alignment(
            sent,
            heard,
            float(di.rate_hz),
            max_delay_samples=int(MAX_LOOP_DELAY_S * di.rate_hz),
        )
        if alignment.drift_ppm is not None and first > 0:
            # Measured from `first` on; the delay is told at A's first sample.
            at_zero = alignment.at(-float(first))
            alignment = replace(alignment, delay_samples=at_zero)
    except RefusedError as error:
        refused = error.what
    cancel.check()
    progress(0.6, "Measuring level")
    lead = round(alignment.delay_samples) if alignment else 0
    part = back.blocks(first=max(0, lead), count=di.frames)
    levels = measure_blocks(part, di.rate_hz, 1)
    cancel.check()
    return Returned(loop, alignment, refused, levels)


def _measured_part(di: AudioSource, channel: int) -> tuple[int, int]:
    limit = int(MEASURED_S * di.rate_hz)
    if di.frames <= int(1.5 * limit):
        return 0, di.frames
    middle = read_excerpt(di, channel).first
    first = min(max(0, middle - limit // 2), di.frames - limit)
    return first, limit


def alignment_record(alignment: Alignment | None) -> AlignmentRecord | None:
    """An alignment as it is stored."""
    if alignment is None:
        return None
    return AlignmentRecord(
        delay_samples=alignment.delay_samples,
        delay_error_samples=alignment.delay_error_samples,
        polarity=1 if alignment.polarity > 0 else -1,
        confidence=alignment.confidence,
        drift_ppm=alignment.drift_ppm,
        drift_error_ppm=alignment.drift_error_ppm,
    )
