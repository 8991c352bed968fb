"""A whole rig played: what one instrument or stored track gives at every recorder input.

Courses that share stations share what is played there, noise included. Each track is as
late as its course; a lead that all share makes room for the filters and is taken off again.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.bench.processors import Delay, Processor
from diaulos.rig.bench.runs import can_join, joined
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


class _Tree:
    """Courses as processors, those that they share once."""

    def __init__(self) -> None:
        self._root = _Node(None)
        self._settled = False
        self.processors = 0
        """How many stations are played, shared ones once."""

    def grow(self, track: PortRef, processors: Iterable[tuple[Hashable, Processor]],
             delay: Delay | None) -> None:  # fmt: skip
        """A course: its processors by what they are, and how late its track is behind them."""
        node = self._root
        for key, processor in processors:
            if key not in node.children:
                node.children[key] = _Node(processor)
                self.processors += 1
            node = node.children[key]
        node.tracks.append((track, delay, delay.initial_state() if delay else None))

    def _settle(self) -> None:
        """Before the first block: what stands in a row and can be one is joined."""
        self._settled = True
        waiting = [self._root]
        while waiting:
            node = waiting.pop()
            row = [node.processor] if node.processor is not None else []
            while can_join(node.processor) and not node.tracks and len(node.children) == 1:
                (child,) = node.children.values()
                if not can_join(child.processor):
                    break
                assert child.processor is not None
                row.append(child.processor)
                node.children, node.tracks = child.children, child.tracks
            if row:
                node.processor = joined(row)
                node.state = node.processor.initial_state()
            waiting += node.children.values()

    def process(self, block: Real) -> dict[PortRef, Real]:
        """The next block of every track."""
        if not self._settled:
            self._settle()
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
        self._tree = _Tree()
        makers = _makers(self.courses, rate_hz, faults, impulses, recorded)
        self._lead = 0
        if faults.latency:
            short = min(m.delay_samples - _own(m) for m in makers.values())
            self._lead = max(0, int(np.ceil(FRACTION_TAPS / 2 - short)))
        for track, maker in makers.items():
            late = maker.delay_samples - _own(maker) + self._lead
            self._tree.grow(track, _steps(maker), Delay(late) if faults.latency else None)

    @property
    def lead_samples(self) -> int:
        """What every track is later than its course: to be left off at the start."""
        return self._lead

    @property
    def processors(self) -> int:
        """How many stations are played, shared ones once."""
        return self._tree.processors

    def process(self, block: Real) -> dict[PortRef, Real]:
        """The next block of every track."""
        return self._tree.process(block)


LEAST_DELAY = FRACTION_TAPS / 2


class LoopBench:
    """What is sent goes out once and comes back by several courses, which all start at one played
    channel. A sample comes back as late as its course is; what the filters of the bench cannot
    make shorter, all are later."""

    def __init__(
        self,
        courses: Sequence[Course],
        rate_hz: float,
        faults: BenchFaults,
        impulses: Impulses | None = None,
    ) -> None:
        self._tracks = [course.track for course in courses]
        self._tree = _Tree()
        makers = _makers({one.track: one for one in courses}, rate_hz, faults, impulses)
        rests = {track: maker.delay_samples - _own(maker) for track, maker in makers.items()}
        longer = max(0.0, LEAST_DELAY - min(rests.values())) if faults.latency else 0.0
        if len(set(rests.values())) > 1:
            # What they have in common stands in front: behind a converter that is full a filter
            # would ring over it.
            longer = max(0.0, 2 * LEAST_DELAY - min(rests.values())) if faults.latency else 0.0
            first = min(rests.values()) + longer - LEAST_DELAY
        else:
            first = min(rests.values()) + longer
        ahead = [(("ahead",), Delay(first))] if faults.latency else []
        for track, maker in makers.items():
            rest = rests[track] + longer - first
            late = Delay(rest) if faults.latency and rest >= LEAST_DELAY else None
            self._tree.grow(track, [*ahead, *_steps(maker)], late)
        self.latency_samples = tuple(
            maker.delay_samples + longer if faults.latency else 0.0 for maker in makers.values()
        )
        """Of each return: converters, processing and air, the whole loop but for buffers and the
        lag of the amplifier's and the cabinet's own filters."""

    def process(self, block: Real) -> Real:
        """The next block of every return, (frames, returns)."""
        found = self._tree.process(block)
        return np.clip(np.stack([found[track] for track in self._tracks], axis=1), -1.0, 1.0)


def _makers(
    courses: Mapping[PortRef, Course],
    rate_hz: float,
    faults: BenchFaults,
    impulses: Impulses | None,
    recorded: Callable[[Real], Real] | None = None,
) -> dict[PortRef, StepMaker]:
    """Noise is seeded by where it is, so that courses share it."""

    def seed_of(key: Hashable) -> int:
        return (zlib.crc32(repr(key).encode()) + faults.seed * 7919) % 2**32

    return {
        track: StepMaker(course, rate_hz, faults, impulses, seed_of, recorded)
        for track, course in courses.items()
    }


def _steps(maker: StepMaker) -> list[tuple[Hashable, Processor]]:
    return [(step.key, step.processor) for step in maker.steps]


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
