"""A loop: what is sent goes out through a stream, and its return is recorded."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.units import db_to_gain
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.recorder import Recorder
from diaulos.work.ports import AudioBackend, AudioSink, CancelToken, Progress

BLOCK_FRAMES = 1024
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
    sink: AudioSink,
    progress: Progress,
    cancel: CancelToken,
    block_frames: int = BLOCK_FRAMES,
) -> LoopResult:
    """Send a track (mono blocks, `frames` in all) and record what comes back into `sink`.

    The sink's first sample is of the moment when the track's first sample was handed to
    the stream. The sink is left open. Raises CancelledError, StorageError,
    AudioDeviceError; the caller decides what becomes of the sink then.
    """
    total = frames + int(TAIL_S * rate_hz) + 4 * block_frames
    gain = np.float32(db_to_gain(send_gain_db))
    sent = _Sent(track, gain)
    ahead = Ahead(sent, 1, rate_hz)
    recorder = Recorder(
        backend, [sink], rate_hz, frames=total, ahead=ahead, block_frames=block_frames,
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
    return LoopResult(sink.frames, result.xruns + late, sum(gap.frames for gap in result.dropouts))


class _Sent:
    """A mono track at its send gain, as blocks of one column."""

    def __init__(self, track: Iterable[NDArray[np.float32]], gain: np.float32) -> None:
        self._track, self._gain = track, gain

    def __iter__(self) -> Iterator[NDArray[np.float32]]:
        for block in self._track:
            yield (block * self._gain)[:, None]
