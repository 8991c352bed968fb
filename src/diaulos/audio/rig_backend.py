"""The bench as an input device: simulated players in front of a whole rig.

Every armed track is an input channel; the players strum over and over. In real time a
block comes when its moment has come, else as fast as it can be reckoned.
"""

from __future__ import annotations

import time as clock
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioDeviceError
from diaulos.rig.bench import BenchFaults, Impulses, RigBench
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef
from diaulos.work.ports import BlockStatus, BlockTime, StreamCallback, StreamInfo, StreamSpec

Real = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Player:
    """Somebody at an instrument: what it plays, over and over (volts as a DI would hold them),
    and the gain over frequency that turns the instrument's EMF into that."""

    device: str
    volts: Real
    recorded: Callable[[Real], Real] | None = None


class RigBackend:
    """Plays a rig's instruments into its recorder; what is put out is heard by nobody."""

    def __init__(
        self,
        graph: RigGraph,
        tracks: tuple[PortRef, ...],
        players: tuple[Player, ...],
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
        benches = [
            (player, RigBench(self._graph, player.device, float(spec.rate_hz), self._faults,
                              self._impulses, player.recorded))
            for player in self._players
        ]  # fmt: skip
        return RigStream(self._tracks, benches, spec, callback, self._clock())

    def _clock(self) -> tuple[Callable[[], float], Callable[[float], None]] | None:
        return (self._now, self._sleep) if self._paced else None


class RigStream:
    """A stream of the rig."""

    def __init__(
        self,
        tracks: tuple[PortRef, ...],
        benches: list[tuple[Player, RigBench]],
        spec: StreamSpec,
        callback: StreamCallback,
        pace: tuple[Callable[[], float], Callable[[float], None]] | None,
    ) -> None:
        self._columns = {track: index for index, track in enumerate(tracks)}
        self._benches, self._spec, self._callback, self._pace = benches, spec, callback, pace
        self.xruns = 0
        block_s = spec.block_frames / spec.rate_hz
        self.info = StreamInfo(spec.rate_hz, block_s, block_s, "bench", realtime=pace is not None)

    def run(self) -> None:
        """Call back until the callback says stop."""
        frames, at = self._spec.block_frames, 0
        outputs = np.zeros((frames, self._spec.output_channels))
        begun = self._pace[0]() if self._pace else 0.0
        while True:
            inputs = self._inputs(at, frames)
            outputs[:] = 0.0
            if self._pace is not None:
                due = begun + (at + frames) / self._spec.rate_hz
                wait = due - self._pace[0]()
                if wait > 0.0:
                    self._pace[1](wait)
            if not self._callback(inputs, outputs, frames, BlockTime(at), BlockStatus()):
                return
            at += frames

    def _inputs(self, at: int, frames: int) -> Real:
        inputs = np.zeros((frames, len(self._columns)))
        for player, bench in self._benches:
            place = (at + np.arange(frames)) % player.volts.size
            heard: Mapping[PortRef, Real] = bench.process(player.volts[place])
            for track, column in self._columns.items():
                if track in heard:
                    inputs[:, column] = heard[track]
        # The delay behind the bench's converters rings over full scale; numbers do not.
        return np.clip(inputs, -1.0, 1.0)
