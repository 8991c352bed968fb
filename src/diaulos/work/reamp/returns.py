"""A recorded return measured against what was sent: delay, polarity, level."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from diaulos.errors import AmbiguousError, RefusedError
from diaulos.records import dataclass
from diaulos.rig.model import PortRef
from diaulos.session.model import (
    AlignmentRecord,
    Pass,
    Return,
    Session,
)
from diaulos.signal.checks import Audio
from diaulos.signal.delay import Alignment, find_alignment
from diaulos.signal.relation import copied
from diaulos.work.capture.loop import LoopResult
from diaulos.work.listening.aligned import record_of
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import Levels, measure_blocks, read_mono
from diaulos.work.ports import (
    AudioSource,
    CancelToken,
    Progress,
)

MAX_LOOP_DELAY_S = 1.0
SURE = 0.9
"""Confidence from which on what a loop took is worth looking for again."""
NEAR_S = 0.05
"""How far from it."""

NULLED_S = 10.0
MEASURED_S = 600.0
"""Longer takes are measured on this much around their loudest part."""


@dataclass(frozen=True)
class Returned:
    """The return as measured against what was sent."""

    loop: LoopResult
    alignment: Alignment | None
    refused: str
    levels: Levels
    null_db: float | None = None
    """What the best gain and delay leave of it without the DI."""


def measure_return(
    di: AudioSource,
    channel: int,
    back: AudioSource,
    loop: LoopResult,
    progress: Progress,
    cancel: CancelToken,
    before_samples: float | None = None,
    skip: int = 0,
) -> Returned:
    """Delay, polarity and level of one recorded return against the DI that was sent. The level is
    of what follows the first `skip` frames.

    `before_samples` is what the same loop gave last time: of several delays that fit, as in a
    looped riff, the one near it is taken.
    """
    progress(0.1, "Measuring delay and polarity")
    cancel.check()
    first, count = _measured_part(di, channel)
    sent = read_mono(di, channel=channel, first=first, count=count)
    heard = read_mono(back, first=first, count=count + int(MAX_LOOP_DELAY_S * di.rate_hz))
    alignment, refused = None, ""
    try:
        alignment = _alignment(sent, heard, float(di.rate_hz), before_samples)
        if alignment.drift_ppm is not None and first > 0:
            # Measured from `first` on; the delay is told at A's first sample.
            at_zero = alignment.at(-float(first))
            alignment = replace(alignment, delay_samples=at_zero)
    except RefusedError as error:
        refused = error.what
    cancel.check()
    progress(0.6, "Measuring level")
    lead = skip + (round(alignment.delay_samples) if alignment else 0)
    part = back.blocks(first=max(0, lead), count=di.frames - skip)
    levels = measure_blocks(part, di.rate_hz, 1)
    cancel.check()
    return Returned(loop, alignment, refused, levels, _null_db(sent, heard, di.rate_hz))


def _null_db(sent: Audio, heard: Audio, rate_hz: int) -> float | None:
    """Of some seconds around the loudest moment."""
    count = min(sent.size, heard.size, round(NULLED_S * rate_hz))
    if count < rate_hz // 10:
        return None
    first = int(np.argmax(np.abs(sent[: heard.size])))
    first = max(0, min(first - count // 4, min(sent.size, heard.size) - count))
    part = slice(first, first + count)
    reach = min(count // 2, round(MAX_LOOP_DELAY_S * rate_hz))
    same = copied(sent[part], heard[first : first + count + reach], (0, reach))
    return round(same.null_db, 1) if same.likeness else None


def _alignment(
    sent: Audio, heard: Audio, rate_hz: float, before_samples: float | None
) -> Alignment:
    """Within what a loop can take; where that leaves several, near what it took before."""
    most = MAX_LOOP_DELAY_S * rate_hz
    try:
        return find_alignment(sent, heard, rate_hz, within=(0.0, most), expected=before_samples)
    except AmbiguousError:
        if before_samples is None:
            raise
        reach = NEAR_S * rate_hz
        near = (max(0.0, before_samples - reach), min(most, before_samples + reach))
        return find_alignment(sent, heard, rate_hz, within=near, expected=before_samples)


def _measured_part(di: AudioSource, channel: int) -> tuple[int, int]:
    limit = int(MEASURED_S * di.rate_hz)
    if di.frames <= int(1.5 * limit):
        return 0, di.frames
    middle = read_loudest(di, channel).first
    first = min(max(0, middle - limit // 2), di.frames - limit)
    return first, limit


def last_delay(
    session: Session, rig_name: str, played_by: str, port: PortRef | None = None
) -> float | None:
    """What a loop took last time by the same device and return (None: the one that the send is
    worked out for), in samples; None before the first sure pass through it."""
    passes = (made for take in session.takes for made in take.passes)
    sure = [
        (made.made_at, back.alignment.delay_samples)
        for made in passes
        if made.rig_name == rig_name and made.played_by == played_by
        for back in made.returns
        if came_by(made, back, port)
        and back.alignment is not None
        and back.alignment.confidence >= SURE
    ]
    return max(sure)[1] if sure else None


def came_by(made: Pass, back: Return, port: PortRef | None) -> bool:
    """Whether a return of a pass came by this input; of older passes the one return did."""
    if port is None or back.port is None:
        return back.file == made.main.file
    return back.port == port


def alignment_record(alignment: Alignment | None) -> AlignmentRecord | None:
    """An alignment as it is stored."""
    return None if alignment is None else record_of(alignment)
