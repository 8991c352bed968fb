"""What a process that holds a port and the process that uses it share: counters, two rings of
samples, and the gaps in time. It imports numpy only, and a callback in C could take its side.

Layout of the shared memory, everything in the machine's own order:

    COUNTERS x int64        see `Count`
    2 * GAPS x int64        (frame, frames) of stretches that never came in
    frames * inputs  x f32  what came in, frame after frame
    frames * outputs x f32  what is to go out

A frame's place in a ring is its number modulo the ring's length. Every counter has one writer.
"""

from __future__ import annotations

import enum
import mmap
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

COUNTERS, GAPS = 32, 1_024
RING_FRAMES = 1 << 16
"""1.4 s at 48 kHz: whoever reads may be held up for so long."""


class Count(enum.IntEnum):
    """Where a counter lies, and who writes it: the port's process (P) or its user (U)."""

    TICKS = 0  # P: callbacks so far
    WRITTEN = 1  # P: frames that came in, gaps included
    READ = 2  # U: frames taken
    QUEUED = 3  # U: frames that may go out
    GAPS = 4  # P: entries in the list of gaps
    LOST = 5  # P: frames that had no room in the ring
    SKIPPED = 6  # P: frames of cycles that were never run, or that were over before they were read
    LATE = 7  # P: frames of silence that went out for want of samples
    XRUNS = 8  # P: what the server calls so
    GONE = 9  # P: 1 the server ended
    RATE = 10  # P: frames per second
    BLOCK = 11  # P: frames per cycle, as it is now
    READY = 12  # P: ports are made and connected
    GO = 13  # U: frame 0 is the next cycle
    STOP = 14  # U: end
    IN_LATENCY = 15  # P: claimed, in frames
    OUT_LATENCY = 16  # P: claimed, in frames
    REALTIME = 17  # P: the server runs with real-time priority


class PortRing:
    """Both sides' view of the shared memory."""

    def __init__(self, memory: mmap.mmap, inputs: int, outputs: int) -> None:
        self.counts: NDArray[np.int64] = np.frombuffer(memory, np.int64, COUNTERS)
        at = 8 * COUNTERS
        self.gaps: NDArray[np.int64] = np.frombuffer(memory, np.int64, 2 * GAPS, at).reshape(-1, 2)
        at += 16 * GAPS
        flat = np.frombuffer(memory, np.float32, RING_FRAMES * inputs, at)
        self.heard: NDArray[np.float32] = flat.reshape(RING_FRAMES, inputs)
        at += 4 * RING_FRAMES * inputs
        flat = np.frombuffer(memory, np.float32, RING_FRAMES * outputs, at)
        self.played: NDArray[np.float32] = flat.reshape(RING_FRAMES, outputs)

    @staticmethod
    def size(inputs: int, outputs: int) -> int:
        """Bytes of shared memory for so many channels."""
        return 8 * COUNTERS + 16 * GAPS + 4 * RING_FRAMES * (inputs + outputs)

    def get(self, which: Count) -> int:
        """A counter."""
        return int(self.counts[which])

    def set(self, which: Count, value: int) -> None:
        """Only its writer sets a counter."""
        self.counts[which] = value


def spans(frame: int, frames: int) -> tuple[tuple[int, int, int], ...]:
    """Where a stretch lies in a ring: (first place, frames, offset in the stretch); two where it
    goes over the end.

    >>> spans(RING_FRAMES - 2, 5)
    ((65534, 2, 0), (0, 3, 2))
    """
    place = frame % RING_FRAMES
    first = min(frames, RING_FRAMES - place)
    if first == frames:
        return ((place, frames, 0),)
    return ((place, first, 0), (0, frames - first, first))


Samples = NDArray[np.float32]
WRAP = 1 << 32
"""A driver's clock counts frames modulo this."""


class PortSide:
    """The side of the process that holds the ports: what happens in every callback, and nothing
    but copies. A callback in C could take its place."""

    def __init__(self, ring: PortRing) -> None:
        self.ring = ring
        self.frame = 0
        """Of the stream, at the next cycle."""
        self.last: int | None = None
        self.running = False

    def cycle(
        self,
        frames: int,
        now: int,
        heard: list[Samples],
        played: list[Samples],
        clock: Callable[[], int] | None = None,
    ) -> None:
        """One callback: `now` is the driver's time in frames, `heard` and `played` its buffers,
        one each channel. `clock` tells the driver's time once more, where a driver does not wait
        for programs that are late: it writes over what they have not read yet.

        A place is filled only with what was surely there then. What is in doubt is silence, and
        counted: samples in a wrong place would make all that follows late."""
        ring, counts = self.ring, self.ring.counts
        counts[Count.TICKS] += 1
        counts[Count.BLOCK] = frames
        gap = 0
        if not self.running:
            self.running = bool(counts[Count.GO])
            if not self.running:
                for data in played:
                    data[:] = 0.0
                return
        elif self.last is not None:
            # A cycle that was never run leaves no trace in the samples, only in the time.
            gap = (now - self.last) % WRAP
            if WRAP - frames <= gap:
                # Called again within a cycle that has its place: once for each that was missed.
                self._play(self.frame - frames, frames, played)
                return
            gap = gap if gap < WRAP // 2 else 0
            if gap:
                counts[Count.SKIPPED] += gap
                self._gap(gap)
        self.last = (now + frames) % WRAP
        self._play(self.frame, frames, played)
        if self.frame + frames - int(counts[Count.READ]) > RING_FRAMES:
            counts[Count.LOST] += frames
            self._gap(frames)
            return
        for place, count, offset in spans(self.frame, frames):
            for channel, data in enumerate(heard):
                ring.heard[place : place + count, channel] = data[offset : offset + count]
        # Behind a gap another program may hand on what it made in a cycle before.
        if clock is not None and (gap or clock() != now):
            counts[Count.SKIPPED] += frames
            self._gap(frames)
            return
        self.frame += frames
        counts[Count.WRITTEN] = self.frame

    def _gap(self, frames: int) -> None:
        counts = self.ring.counts
        entry = int(counts[Count.GAPS])
        self.ring.gaps[entry % GAPS] = (self.frame, frames)
        counts[Count.GAPS] = entry + 1
        self.frame += frames
        counts[Count.WRITTEN] = self.frame

    def _play(self, first: int, frames: int, played: list[Samples]) -> None:
        """What stands in the ring for these frames; silence for what is not there yet."""
        ring, counts = self.ring, self.ring.counts
        have = min(frames, max(0, int(counts[Count.QUEUED]) - first))
        if have < frames and played:
            counts[Count.LATE] += frames - have
        parts = spans(first, have) if have else ()
        for channel, data in enumerate(played):
            for place, count, offset in parts:
                data[offset : offset + count] = ring.played[place : place + count, channel]
            data[have:] = 0.0
