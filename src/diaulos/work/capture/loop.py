"""A loop: what is sent goes out through a stream, and its return is recorded."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.units import db_to_gain
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.recorder import Recorder
from diaulos.work.ports import AudioBackend, AudioSink, CancelToken, Progress

BLOCK_FRAMES = 1024
RAMP_S = 0.25
"""How long the send rises ahead of a take's first sample."""
TAIL_S = 0.5
"""Recorded beyond the end of the track: the loop's delay and the ring of what is in it."""


@dataclass(frozen=True)
class LoopResult:
    """What came back; frames that were lost stand in it as silence."""

    frames: int
    xruns: int
    lost_frames: int = 0


def run_loop(
    backend: AudioBackend,
    track: Iterable[NDArray[np.float32]],
    frames: int,
    rate_hz: int,
    send_gain_db: float,
    sinks: Sequence[AudioSink],
    progress: Progress,
    cancel: CancelToken,
    block_frames: int = BLOCK_FRAMES,
    *,
    ramp_s: float = 0.0,
) -> LoopResult:
    """Send a track (mono blocks, `frames` in all) and record what comes back into `sinks`, a
    channel each, all on one sample.

    With `ramp_s` the send rises for so long ahead of the first sample, which has its whole gain
    already: what is heard then is the track's beginning, backwards, so that nothing jumps.

    Their first sample is of the moment when the track's first sample was handed to the stream.
    They are left open. Raises CancelledError, StorageError, AudioDeviceError; the caller decides
    what becomes of them then.
    """
    total = frames + int(TAIL_S * rate_hz) + 4 * block_frames
    gain = np.float32(db_to_gain(send_gain_db))
    ramp = int(ramp_s * rate_hz)
    sent = _Sent(track, gain, ramp)
    ahead = Ahead(sent, 1, rate_hz)
    recorder = Recorder(
        backend, list(sinks), rate_hz, frames=total, start_frame=ramp, ahead=ahead,
        block_frames=block_frames,
        output_channels=1, keep_open=True,
    )  # fmt: skip

    def look() -> None:
        cancel.check()
        progress(min(1.0, recorder.captured_frames / total), "Reamping")

    result = recorder.run(look)
    if ahead.error is not None:
        raise ahead.error  # what was sent is not the take
    if result.stopped_by is not None:
        raise result.stopped_by
    # What was not read in time was sent as silence: a block that is late like any other.
    late = -(-ahead.late_frames // block_frames)
    return LoopResult(
        sinks[0].frames, result.xruns + late, sum(gap.frames for gap in result.dropouts)
    )


class _Sent:
    """A mono track at its send gain, as blocks of one column, behind its ramp."""

    def __init__(
        self, track: Iterable[NDArray[np.float32]], gain: np.float32, ramp: int = 0
    ) -> None:
        self._track, self._gain, self._ramp = track, gain, ramp

    def __iter__(self) -> Iterator[NDArray[np.float32]]:
        blocks = iter(self._track)
        first: list[NDArray[np.float32]] = []
        while self._ramp and sum(one.size for one in first) < self._ramp:
            block = next(blocks, None)
            if block is None:
                break
            first.append(block)
        if self._ramp:
            yield (self._rise(first) * self._gain)[:, None]
        for block in chain(first, blocks):
            yield (block * self._gain)[:, None]

    def _rise(self, first: list[NDArray[np.float32]]) -> NDArray[np.float32]:
        """The beginning, backwards, from nothing to its whole level."""
        head = np.concatenate(first)[: self._ramp] if first else np.zeros(0, np.float32)
        lead = np.zeros(self._ramp, np.float32)
        lead[self._ramp - head.size :] = head[::-1]
        rise = 0.5 - 0.5 * np.cos(np.pi * (np.arange(self._ramp) + 0.5) / self._ramp)
        return lead * rise.astype(np.float32)
