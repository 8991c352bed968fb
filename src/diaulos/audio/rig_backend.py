"""The bench as an input device: simulated players in front of a whole rig.

Every armed track is an input channel; the players strum over and over. In real time a
block comes when its moment has come, else as fast as it can be reckoned.
"""

from __future__ import annotations

import itertools
import threading
import time as clock
from collections import deque
from collections.abc import Callable, Iterator, Mapping

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioDeviceError
from diaulos.ids import BENCH
from diaulos.rig.bench import BenchFaults, Impulses, RigBench
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef
from diaulos.work.ports import Block, BlockStatus, BlockTime, StreamCallback, StreamInfo, StreamSpec
from diaulos.work.rigs.audio import Played

Real = NDArray[np.float64]
AT_ONCE = 4_096
"""Frames that are played at once where nothing waits for them."""


def over_and_over(volts: Real) -> Callable[[], Iterator[Real]]:
    """What a player plays again and again."""
    return lambda: itertools.repeat(volts)


class _Voice:
    """What is played, in blocks of the size that is asked for; silence when it ends."""

    def __init__(self, played: Played, bench: RigBench) -> None:
        self.bench = bench
        self._blocks = played.blocks()
        self._rest: Real = np.zeros(0)
        self._at = 0
        if bench.lead_samples:  # all tracks are that late for the bench's own reasons
            self.bench.process(self.next(bench.lead_samples))

    def next(self, frames: int) -> Real:
        out, filled = np.zeros(frames), 0
        while filled < frames:
            if self._at == self._rest.size:
                more = next(self._blocks, None)
                if more is None:
                    break
                self._rest, self._at = more, 0
            count = min(frames - filled, self._rest.size - self._at)
            out[filled : filled + count] = self._rest[self._at : self._at + count]
            filled, self._at = filled + count, self._at + count
        return out


class RigBackend:
    """Plays a rig's instruments into its recorder; what is put out is heard by nobody."""

    def __init__(
        self,
        graph: RigGraph,
        tracks: tuple[PortRef, ...],
        players: tuple[Played, ...],
        faults: BenchFaults,
        *,
        paced: bool = False,
        impulses: Impulses | None = None,
        now: Callable[[], float] = clock.monotonic,
        sleep: Callable[[float], None] = clock.sleep,
    ) -> None:
        self._graph, self._tracks, self._players = graph, tracks, players
        self._faults, self._paced, self._impulses = faults, paced, impulses
        self._now, self._sleep = now, sleep

    def open(self, spec: StreamSpec, callback: StreamCallback) -> RigStream:
        """A stream with one input for every track."""
        if spec.input_channels != len(self._tracks):
            raise AudioDeviceError(
                f"{spec.input_channels} inputs are asked for; the rig has {len(self._tracks)}.",
                remedy="Arm other tracks.",
            )
        voices = [
            _Voice(player, RigBench(self._graph, player.device, float(spec.rate_hz), self._faults,
                                    self._impulses, player.recorded))
            for player in self._players
        ]  # fmt: skip
        return RigStream(self._tracks, voices, spec, callback, self._clock())

    def _clock(self) -> tuple[Callable[[], float], Callable[[float], None]] | None:
        return (self._now, self._sleep) if self._paced else None


class RigStream:
    """A stream of the rig."""

    def __init__(
        self,
        tracks: tuple[PortRef, ...],
        voices: list[_Voice],
        spec: StreamSpec,
        callback: StreamCallback,
        pace: tuple[Callable[[], float], Callable[[float], None]] | None,
    ) -> None:
        self._columns = {track: index for index, track in enumerate(tracks)}
        self._voices, self._spec, self._callback, self._pace = voices, spec, callback, pace
        self.xruns = 0
        # Nobody waits for a single block where it goes as fast as it can.
        self._at_once = 1 if pace is not None else max(1, AT_ONCE // spec.block_frames)
        self._ready: deque[Block] = deque()
        self._stopped = threading.Event()
        block_s = spec.block_frames / spec.rate_hz
        self.info = StreamInfo(
            spec.rate_hz, block_s, block_s, BENCH, realtime=pace is not None,
            block_frames=spec.block_frames,
        )  # fmt: skip

    def run(self) -> None:
        """Call back until the callback says stop."""
        frames, at = self._spec.block_frames, 0
        outputs = np.zeros((frames, self._spec.output_channels), np.float32)
        begun = self._pace[0]() if self._pace else 0.0
        while not self._stopped.is_set():
            inputs = self._inputs(frames)
            outputs[:] = 0.0
            if self._pace is not None:
                due = begun + (at + frames) / self._spec.rate_hz
                wait = due - self._pace[0]()
                if wait > 0.0:
                    self._pace[1](wait)
            if not self._callback(inputs, outputs, frames, BlockTime(at), BlockStatus()):
                return
            at += frames

    def stop(self) -> None:
        """End `run` after the block that is under way."""
        self._stopped.set()

    def _inputs(self, frames: int) -> Block:
        if not self._ready:
            heard = self._heard(self._at_once * frames)
            self._ready.extend(np.split(heard, self._at_once))
        return self._ready.popleft()

    def _heard(self, frames: int) -> Block:
        inputs = np.zeros((frames, len(self._columns)), np.float32)
        for voice in self._voices:
            heard: Mapping[PortRef, Real] = voice.bench.process(voice.next(frames))
            for track, column in self._columns.items():
                if track in heard:
                    inputs[:, column] = heard[track]
        # The delay behind the bench's converters rings over full scale; numbers do not.
        return np.clip(inputs, -1.0, 1.0)
