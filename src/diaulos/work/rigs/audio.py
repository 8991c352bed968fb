"""What plays a rig where its own sound is asked for: sound check, calibration, "play the rig"."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.bench import BenchFaults, Impulses
from diaulos.rig.course import Course
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.ring import Array32
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import AudioBackend, StreamSpec

Real = NDArray[np.float64]
BLOCK_FRAMES = 4_096


@dataclass(frozen=True, eq=False)
class Played:
    """What is played at one device of a rig, in blocks (volts as a DI holds them, or samples of
    a stored track), and the gain over frequency that turns an instrument's EMF into that."""

    device: str
    blocks: Callable[[], Iterator[Real]]
    recorded: Callable[[Real], Real] | None = None


class RigAudio(Protocol):
    """The audio that plays rigs: the bench now, real ports later."""

    def loop(self, course: Course, seed: int) -> AudioBackend:
        """A course from a played track back to a recorded one: one channel each way."""

    def play(
        self,
        graph: RigGraph,
        tracks: tuple[PortRef, ...],
        played: Played,
        faults: BenchFaults,
        impulses: Impulses | None = None,
    ) -> AudioBackend:
        """A rig while something is played at one of its devices: an input for every track, in
        time with what is played but for the latency of its course."""


class LiveAudio(RigAudio, Protocol):
    """A real device in the place of a rig's interface: what is played at it is a person's
    playing, a generator, a cable."""

    def hear(self, tracks: tuple[PortRef, ...]) -> AudioBackend:
        """What the computer hears at these of its ports, an input for each."""

    def hear_input(self, ref: PortRef) -> AudioBackend:
        """What an interface's analog input records."""


def heard_samples(
    backend: AudioBackend, rate_hz: int, first: int, count: int, sent: Iterable[Real] = ()
) -> Array32:
    """Samples of a stream's first input, from frame `first` on, while blocks of (frames,) are
    sent out. AudioDeviceError where fewer come."""
    spec = StreamSpec(rate_hz, BLOCK_FRAMES)
    ahead = Ahead((block[:, None] for block in sent), 1, rate_hz)
    kept: list[Array32] = []
    capture = Capture(backend, spec, start=first, frames=count, ahead=ahead)
    failure = capture.run(lambda taken: kept.append(taken.samples[:, 0]))
    if failure is not None:
        raise failure
    return np.concatenate(kept)
