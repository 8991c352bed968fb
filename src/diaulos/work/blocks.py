"""Streams of blocks: one channel of them, of another size, from an array, into a file.

What every room of the use cases needs to read and write audio without holding all of it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioFileError
from diaulos.work.ports import (
    AudioSink,
    AudioSource,
    Progress,
)

ReadStereo = Callable[[int, int], NDArray[np.float32]]
"""(first frame, count) -> (count, 2), silence outside."""

ProgressPart = Callable[[float, str], None]


def part_of(progress: Progress, first: float, last: float) -> ProgressPart:
    """Progress of a part of the work as a stretch of the whole."""

    def tell(fraction: float, text: str) -> None:
        progress(first + (last - first) * fraction, text)

    return tell


def mono_blocks(blocks: Iterable[NDArray[Any]], channel: int) -> Iterator[NDArray[np.float32]]:
    """One channel of blocks of (frames, channels)."""
    for block in blocks:
        yield np.ascontiguousarray(block[:, channel], dtype=np.float32)


def one_channel(source: AudioSource, channel: int | None, name: str) -> int:
    """The channel to use, from 0; refuses several where none was chosen."""
    if channel is None:
        if source.channels != 1:
            raise AudioFileError(
                f"it has {source.channels} channels where one is needed.",
                where=name,
                remedy="Choose one with --channel, or export one channel alone.",
            )
        return 0
    if not 1 <= channel <= source.channels:
        raise AudioFileError(
            f"it has {source.channels} channel{'s' if source.channels != 1 else ''}; "
            f"there is no channel {channel}.",
            where=name,
            remedy="Channels are counted from 1.",
        )
    return channel - 1


class ArraySource:
    """Mono audio in memory, read like a file."""

    channels = 1
    bits: int | None = None

    def __init__(self, samples: NDArray[np.float32], rate_hz: int) -> None:
        self._samples = samples
        self.rate_hz = rate_hz
        self.frames = int(samples.size)

    def blocks(
        self, *, first: int = 0, count: int | None = None, block: int = 65_536
    ) -> Iterator[NDArray[np.float32]]:
        stop = self.frames if count is None else min(self.frames, first + count)
        for at in range(first, stop, block):
            yield self._samples[at : min(stop, at + block), None]


def write_all(sink: AudioSink, blocks: Iterator[NDArray[np.float32]]) -> None:
    """Write blocks and finish the file; on any error the file is thrown away."""
    try:
        for block in blocks:
            sink.write(block)
        sink.close()
    except BaseException:
        sink.abandon()
        raise
