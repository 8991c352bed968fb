"""A take that comes round again under a longer one: its copies, joined on whole bars.

What rings on behind its last bar sounds into the next copy, as it would where the part was played
again.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.work.listening.player import ReadBlock


@dataclass(frozen=True)
class Laid:
    """Where a take lies in the time of one that was recorded over it: `offset` is its frame at the
    other's first; with `round_frames` it comes round again after so many, each copy `frames`
    long."""

    offset: int
    round_frames: int = 0
    frames: int = 0


def laid(read: ReadBlock, places: tuple[Laid, ...]) -> ReadBlock:
    """What is read in the time of the outermost take; the innermost place comes first."""
    for place in places:
        if place.round_frames:
            read = repeated(read, place.round_frames, place.frames)
        if place.offset:
            read = _later(read, place.offset)
    return read


def _later(read: ReadBlock, offset: int) -> ReadBlock:
    return lambda first, count: read(first + offset, count)


def repeated(read: ReadBlock, round_frames: int, frames: int) -> ReadBlock:
    """A reader that comes round.

    Parameters
    ----------
    read
        Reads the take once; what lies outside is silence.
    round_frames
        Frames from the beginning of one copy to that of the next.
    frames
        How long a copy sounds: what is longer than a round overlaps the next one.

    Returns
    -------
    Reads the copies, without end; nothing ahead of the first.
    """

    def copies(first: int, count: int) -> NDArray[np.float32]:
        last = max(0, (first + count - 1) // round_frames)
        earliest = min(last, max(0, (first - frames) // round_frames + 1))
        out = np.zeros(count, np.float32)
        for number in range(earliest, last + 1):
            at = first - number * round_frames
            begin, end = max(0, -at), min(count, frames - at)
            if end > begin:
                out[begin:end] += read(at + begin, end - begin)
        return out

    return copies
