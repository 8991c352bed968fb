"""Recording: from an audio back end into one file a track.

On top of `Capture`: the consumer writes and measures, whoever asked gets meters through a slot
that holds only the newest, and at the end the result. All tracks begin on the same sample.
What is dropped is counted, its place marked, and filled with silence, so that what comes after
stays in time.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import field

import numpy as np

from diaulos.errors import DiaulosError, StorageError
from diaulos.records import dataclass
from diaulos.units import gain_to_db
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.ring import RING_S, Array32, Taken
from diaulos.work.capture.stream import Capture, Late, not_late
from diaulos.work.measuring import FULL_SCALE
from diaulos.work.ports import AudioBackend, AudioSink, StreamSpec

BLOCK_FRAMES = 512
MOST_MARKS = 1_000
CLIP_GAP_S = 0.05
"""Clipped samples closer together than this are one clip."""


@dataclass(frozen=True)
class Meter:
    """One track while it runs: peak and RMS of the newest stretch in dBFS (RMS after AES17),
    the loudest peak so far, how often it clipped and the frame of the newest clip."""

    peak_dbfs: float
    rms_dbfs: float
    held_dbfs: float
    clips: int
    last_clip: int | None = None


@dataclass(frozen=True)
class Meters:
    """All tracks at one moment of the recording."""

    frame: int
    tracks: tuple[Meter, ...]
    lost_frames: int
    xruns: int


@dataclass(frozen=True)
class Dropout:
    """Frames that were lost: silence stands in the file in their place."""

    frame: int
    frames: int


@dataclass(frozen=True)
class TrackResult:
    """What one track became."""

    frames: int
    peak_dbfs: float
    clipped_samples: int
    clips: tuple[int, ...]
    """Frames at which it began to clip."""


@dataclass(frozen=True)
class RecordResult:
    """The whole recording. `stopped_by` is an error that ended it early; what was written
    until then is kept."""

    frames: int
    tracks: tuple[TrackResult, ...]
    dropouts: tuple[Dropout, ...]
    xruns: int
    marks: tuple[int, ...]
    stopped_by: DiaulosError | None = None


@dataclass
class _Watched:
    """A track's measures so far."""

    held: float = 0.0
    peak: float = 0.0
    square: float = 0.0
    seen: int = 0
    clipped: int = 0
    clips: list[int] = field(default_factory=list)
    last_clip: int = -(10**12)

    def add(self, block: Array32, first: int, gap: int) -> None:
        loud = np.abs(block)
        top = float(loud.max(initial=0.0))
        self.peak, self.held = max(self.peak, top), max(self.held, top)
        self.square += float(np.dot(block, block))
        self.seen += block.size
        if top < FULL_SCALE:
            return
        at = np.nonzero(loud >= FULL_SCALE)[0]
        self.clipped += at.size
        for frame in (at + first).tolist():
            if frame - self.last_clip > gap and len(self.clips) < MOST_MARKS:
                self.clips.append(frame)
            self.last_clip = frame

    def meter(self) -> Meter:
        rms = (2.0 * self.square / self.seen) ** 0.5 if self.seen else 0.0
        newest = Meter(
            gain_to_db(self.peak), gain_to_db(rms), gain_to_db(self.held), len(self.clips),
            self.clips[-1] if self.clips else None,
        )  # fmt: skip
        self.peak, self.square, self.seen = 0.0, 0.0, 0
        return newest


class Recorder:
    """One recording. `run` returns when it is stopped, full, or something ended it.

    `sinks` are mono files, one for each input channel in order. Recording begins at
    `start_frame` of the stream (a count-in, a pre-roll), later by `late` (the round trip of an
    overdub), and ends after `frames`, or when `stop` is called. `ahead` is heard meanwhile. The
    files are closed at the end, unless `keep_open`.
    """

    def __init__(
        self,
        backend: AudioBackend,
        sinks: Sequence[AudioSink],
        rate_hz: int,
        *,
        frames: int | None = None,
        start_frame: int = 0,
        ahead: Ahead | None = None,
        block_frames: int = BLOCK_FRAMES,
        output_channels: int = 2,
        ring_s: float = RING_S,
        keep_open: bool = False,
        late: Late = not_late,
    ) -> None:
        self._sinks, self._rate_hz, self._keep_open = tuple(sinks), rate_hz, keep_open
        spec = StreamSpec(rate_hz, block_frames, len(self._sinks), output_channels)
        self.capture = Capture(
            backend, spec, start=start_frame, frames=frames, ahead=ahead, ring_s=ring_s, late=late
        )
        self._watched = [_Watched() for _ in self._sinks]
        self._slot: Meters | None = None
        self._written = 0
        self._dropouts: list[Dropout] = []
        self._marks: list[int] = []
        self._wanted: Callable[[], bool] = lambda: False

    # --- for whoever asked ---

    def stop(self) -> None:
        """End the recording after the block that is under way."""
        self.capture.stop()

    def stop_when(self, wanted: Callable[[], bool]) -> None:
        """End it as well when this says so; asked some fifty times a second."""
        self._wanted = wanted

    def mark(self) -> int:
        """Mark the present moment; returns its frame."""
        frame = max(0, self.captured_frames)
        if len(self._marks) < MOST_MARKS:
            self._marks.append(frame)
        return frame

    @property
    def meters(self) -> Meters | None:
        """The newest meters."""
        return self._slot

    @property
    def captured_frames(self) -> int:
        """Frames of the recording that the callback has seen."""
        return self.capture.captured

    # --- the recording ---

    def run(self, on_look: Callable[[], None] = lambda: None) -> RecordResult:
        """Record. Errors that end it are in the result where they are ours (a full disk, a
        device that is gone), with what was written until then; others come out after that is
        safe. What `on_look` raises comes out."""
        gap = int(CLIP_GAP_S * self._rate_hz)
        try:
            failure = self.capture.run(lambda taken: self._take(taken, gap), on_look, self._wanted)
        except DiaulosError as error:
            self._close()
            raise error from None
        except BaseException:
            self._close()
            raise
        closing = self._close()
        if failure is not None and not isinstance(failure, DiaulosError):
            raise failure
        return RecordResult(
            frames=self._written,
            tracks=tuple(
                TrackResult(self._written, gain_to_db(one.held), one.clipped, tuple(one.clips))
                for one in self._watched
            ),
            dropouts=tuple(self._dropouts),
            xruns=self.capture.xruns,
            marks=tuple(m for m in self._marks if m < max(1, self._written)),
            stopped_by=failure or closing,
        )

    def _take(self, taken: Taken, gap: int) -> None:
        if taken.lost:
            self._dropouts.append(Dropout(self._written, taken.lost))
            self._put(np.zeros((taken.lost, len(self._sinks)), np.float32), gap)
        if taken.samples.size:
            self._put(taken.samples, gap)

    def _put(self, samples: Array32, gap: int) -> None:
        for channel, sink in enumerate(self._sinks):
            block = np.ascontiguousarray(samples[:, channel])
            sink.write(block)
            self._watched[channel].add(block, self._written, gap)
        self._written += samples.shape[0]
        self._slot = Meters(
            self._written,
            tuple(one.meter() for one in self._watched),
            sum(one.frames for one in self._dropouts),
            self.capture.xruns,
        )

    def _close(self) -> DiaulosError | None:
        """Close every file; those that cannot be closed keep what their header says."""
        problem: DiaulosError | None = None
        for sink in () if self._keep_open else self._sinks:
            try:
                sink.close()
            except StorageError as error:
                problem = problem or error
        return problem
