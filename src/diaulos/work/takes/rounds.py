"""Rounds of a loop: every time round is a take of its own, with files of its own.

All tracks change over at the same sample, and none is lost between two rounds.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from numpy.typing import NDArray

from diaulos.work.ports import AudioSink

OpenTrack = Callable[[int, int], AudioSink]
"""(round, track), both from 0 -> its file, made when its first sample comes."""


class RoundSink:
    """One track: goes on in the next round's file where a round is full."""

    def __init__(self, open_track: OpenTrack, track: int, frames: int) -> None:
        self._open, self._track, self._frames = open_track, track, frames
        self._sink = open_track(0, track)
        self._round, self._here, self._total = 0, 0, 0
        self._clipped = 0

    @property
    def frames(self) -> int:
        """Frames in all rounds."""
        return self._total

    @property
    def clipped_samples(self) -> int:
        """Samples that did not fit the word length, in all rounds."""
        return self._clipped + self._sink.clipped_samples

    def write(self, samples: NDArray[Any]) -> None:
        """Append samples."""
        while samples.size:
            if self._here == self._frames:
                self._sink.close()
                self._clipped += self._sink.clipped_samples
                self._round, self._here = self._round + 1, 0
                self._sink = self._open(self._round, self._track)
            part = samples[: self._frames - self._here]
            self._sink.write(part)
            self._here += part.size
            self._total += part.size
            samples = samples[part.size :]

    def close(self) -> None:
        """Finish the last round."""
        self._sink.close()

    def abandon(self) -> None:
        """Throw the present round away."""
        self._sink.abandon()
