"""A whole rig played: what one instrument or stored track gives at every recorder input.

Courses that share stations share what is played there, noise included. Each track is as
late as its course; a lead that all share makes room for the filters and is taken off again.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RigError
from diaulos.rig.bench.processors import Delay, Processor
from diaulos.rig.bench.steps import BenchFaults, Impulses, StepMaker
from diaulos.rig.course import Course, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef
from diaulos.signal.fir import FRACTION_TAPS

Real = NDArray[np.float64]


@dataclass
class _Node:
    """A processor that several tracks may come by."""

    processor: Processor | None
    state: Any = None
    children: dict[Hashable, _Node] = field(default_factory=dict)
    tracks: list[tuple[PortRef, Delay | None, Any]] = field(default_factory=list)


class RigBench:
    """Every course that starts at one device, played at once.

    `process` takes a block of what that device puts out (EMF volts of an instrument,
    samples of a played track) and gives a block for each track. `recorded`: see `StepMaker`.
    """

    def __init__(
        self,
        graph: RigGraph,
        source: str,
        rate_hz: float,
        faults: BenchFaults,
        impulses: Impulses | None = None,
        recorded: Callable[[Real], Real] | None = None,
    ) -> None:
        self.courses, self.left_out = courses_from(graph, source)
        self._root = _Node(None)
        makers = {
            track: StepMaker(
                course,
                rate_hz,
                faults,
                impulses,
                lambda key: (zlib.crc32(repr(key).encode()) + faults.seed * 7919) % 2**32,
                recorded,
            )
            for track, course in self.courses.items()
        }
        self._lead = 0
        if faults.latency:
            short = min(m.delay_samples - _own(m) for m in makers.values())
            self._lead = max(0, int(np.ceil(FRACTION_TAPS / 2 - short)))
        for track, maker in makers.items():
            self._grow(track, maker, faults.latency)

    @property
    def lead_samples(self) -> int:
        """What every track is later than its course: to be left off at the start."""
        return self._lead

    def _grow(self, track: PortRef, maker: StepMaker, latency: bool) -> None:
        node = self._root
        for step in maker.steps:
            if step.key not in node.children:
                child = _Node(step.processor, step.processor.initial_state())
                node.children[step.key] = child
            node = node.children[step.key]
        delay = Delay(maker.delay_samples - _own(maker) + self._lead) if latency else None
        node.tracks.append((track, delay, delay.initial_state() if delay else None))

    @property
    def processors(self) -> int:
        """How many stations are played, shared ones once."""
        waiting, count = [self._root], -1
        while waiting:
            node = waiting.pop()
            waiting += node.children.values()
            count += 1
        return count

    def process(self, block: Real) -> dict[PortRef, Real]:
        """The next block of every track."""
        found: dict[PortRef, Real] = {}
        waiting: list[tuple[_Node, Real]] = [(self._root, np.asarray(block, dtype=np.float64))]
        while waiting:
            node, signal = waiting.pop()
            if node.processor is not None:
                signal, node.state = node.processor.process(signal, node.state)
            for index, (track, delay, state) in enumerate(node.tracks):
                if delay is None:
                    found[track] = signal
                else:
                    found[track], state = delay.process(signal, state)
                    node.tracks[index] = (track, delay, state)
            waiting += [(child, signal) for child in node.children.values()]
        return found


def courses_from(graph: RigGraph, source: str) -> tuple[dict[PortRef, Course], dict[PortRef, str]]:
    """The courses that start at a device, and why other tracks have none from there. RigError
    where the rig howls, or where there is none."""
    if graph.circles:
        names = " → ".join(graph.plug(_ref(key)).words for key in graph.circles[0])
        raise RigError(
            "The rig feeds back into itself: it would howl.",
            where=names,
            remedy="Unplug one of the cables of the circle, or switch its monitoring off.",
        )
    courses: dict[PortRef, Course] = {}
    left_out: dict[PortRef, str] = {}
    for traced in trace_all(graph):
        if traced.course is None:
            left_out[traced.track] = str(traced.problem)
        elif traced.course.start.device.id != source:
            left_out[traced.track] = f"it starts at {traced.course.start.device.name}."
        else:
            courses[traced.track] = traced.course
    if not courses:
        raise RigError(
            "Nothing that is recorded starts here.",
            where=source,
            remedy="Plug it, or choose another source.",
        )
    return courses, left_out


def _own(maker: StepMaker) -> float:
    return sum(step.processor.latency_samples for step in maker.steps)


def _ref(key: tuple[str, str]) -> PortRef:
    return PortRef(device=key[0], port=key[1])
