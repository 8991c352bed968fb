"""Punch-in: a new stretch inside an old track, as a new file. The old one stays as it is.

The new file is the old track up to the stretch, then what is recorded, then the old track
again, with short crossfades inside the stretch. It is whole for everything that comes after
(reamping, comparing), and a process that dies leaves the beginning and what was recorded.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.work.measuring import read_span
from diaulos.work.ports import AudioSink, AudioSource

FADE_S = 0.005
"""Long enough not to click, short enough to lie ahead of an attack that is early."""


COPY_FRAMES = 65_536


class PunchSink:
    """A file that takes the recorded stretch and puts the old track around it.

    `old` None is a track that was not there before: silence lies around the stretch, up to
    `frames` in all.
    """

    def __init__(
        self, sink: AudioSink, old: AudioSource | None, first: int, frames: int, fade: int
    ) -> None:
        self._sink, self._old, self._first, self._total = sink, old, first, frames
        self._fade = max(1, fade)
        self._got = 0
        self._held = np.zeros(0, np.float32)
        """The newest samples: they become the way back should it end here."""

    @property
    def frames(self) -> int:
        """Frames of the stretch that came."""
        return self._got

    @property
    def clipped_samples(self) -> int:
        """Samples that did not fit the word length."""
        return self._sink.clipped_samples

    def begin(self) -> None:
        """Write what lies ahead of the stretch: before the first sample comes."""
        self._copy(0, self._first)

    def _copy(self, first: int, end: int) -> None:
        while first < end:
            count = min(COPY_FRAMES, end - first)
            self._sink.write(self._old_span(first, count))
            first += count

    def _old_span(self, first: int, count: int) -> NDArray[np.float32]:
        return np.zeros(count, np.float32) if self._old is None else (
            read_span(self._old, first, count)
        )  # fmt: skip

    def write(self, samples: NDArray[Any]) -> None:
        """Recorded samples, from the beginning of the stretch on."""
        new = np.array(samples, dtype=np.float32).reshape(-1)
        if self._got < self._fade and new.size:
            count = min(new.size, self._fade - self._got)
            way = (np.arange(self._got, self._got + count) + 0.5) / self._fade
            gain = np.sin(0.5 * np.pi * way) ** 2
            old = self._old_span(self._first + self._got, count)
            new[:count] = (gain * new[:count] + (1.0 - gain) * old).astype(np.float32)
        self._got += new.size
        joined = np.concatenate([self._held, new])
        keep = min(joined.size, self._fade)
        if joined.size > keep:
            self._sink.write(joined[: joined.size - keep])
        self._held = joined[joined.size - keep :]

    def close(self) -> None:
        """The way back into the old track, and its rest. Where these cannot be written, the
        file ends with what could."""
        try:
            count = self._held.size
            if count:
                end = self._first + self._got
                gain = np.cos(0.5 * np.pi * (np.arange(count) + 0.5) / count) ** 2
                old = self._old_span(end - count, count)
                self._sink.write((gain * self._held + (1.0 - gain) * old).astype(np.float32))
                self._held = self._held[:0]
            self._copy(self._first + self._got, self._total)
        finally:
            self._sink.close()

    def abandon(self) -> None:
        """Throw it away."""
        self._sink.abandon()
