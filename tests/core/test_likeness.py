"""What is kept of a segment by its content is what would be worked out anew."""

from __future__ import annotations

import random

import numpy as np
import truth

from diaulos.errors import RigError
from diaulos.rig.changes import set_cable
from diaulos.rig.course import trace
from diaulos.rig.elements import GRID_HZ, segment_gains
from diaulos.rig.flow import Segment, cut
from diaulos.rig.graph import RigGraph
from diaulos.rig.kept import Kept
from diaulos.rig.likeness import segment_key
from diaulos.rig.model import Rig, SignalClass
from diaulos.rig.templates import TEMPLATES, build


def segments(rig: Rig) -> list[Segment]:
    graph = RigGraph(rig)
    found = []
    for track in graph.tracks:
        try:
            course = trace(graph, track)
        except RigError:
            continue
        found += [one for one in cut(course) if isinstance(one, Segment) and not one.digital]
    return found


def test_equal_keys_are_equal_responses() -> None:
    kept: dict[object, np.ndarray] = {}
    told = 0
    for seed in range(40):
        rng = random.Random(seed)
        rig = truth.shaken(build(rng.choice(sorted(TEMPLATES)), "r1"), rng, share=0.5)
        for segment in segments(rig):
            response = np.array(list(segment.responses(GRID_HZ).values()))
            key = segment_key(segment)
            told += key in kept
            np.testing.assert_allclose(kept.setdefault(key, response), response, rtol=1e-12)
    assert told > 50
    assert len(kept) > 50


def test_whatever_moves_a_response_moves_its_key() -> None:
    """Every control, every switch, every cable of every arrangement, one at a time."""
    assert sum(held_apart(build(name, "r1")) for name in sorted(TEMPLATES)) > 100


def held_apart(rig: Rig) -> int:
    """How many changes of one thing moved a response of the rig; each moved its key."""
    before = [(segment_key(s), list(s.responses(GRID_HZ).values())) for s in segments(rig)]
    changed = [set_cable(rig, cable.id, length_m=cable.length_m + 1.0) for cable in rig.cables]
    for device in rig.devices:
        for setting in device.settings:
            values = (
                [value for value, _ in setting.options]
                if setting.kind == "choice"
                else [setting.minimum, setting.maximum]
            )
            changed += [rig.with_setting(device.id, setting.id, value) for value in values]
    moved = 0
    for other in changed:
        after = segments(other)
        if len(after) != len(before):
            continue
        for (key, was), segment in zip(before, after, strict=True):
            now = list(segment.responses(GRID_HZ).values())
            if len(now) == len(was) and not np.allclose(now, was, rtol=1e-9):
                moved += 1
                assert segment_key(segment) != key
    return moved


def test_gains_are_the_responses() -> None:
    for segment in segments(build("hybrid", "r1")):
        total = np.ones(GRID_HZ.size)
        for (point, gain), level in zip(
            segment_gains(segment), segment.responses(GRID_HZ).items(), strict=True
        ):
            total = total * gain.power
            assert point == level[0]
            np.testing.assert_allclose(total, np.abs(level[1]) ** 2, rtol=1e-9)
        assert segment.source.port.signal_class is not SignalClass.SOUND


def test_the_longest_unused_goes_first() -> None:
    made: list[int] = []

    def make(value: int) -> int:
        made.append(value)
        return value

    kept: Kept[int] = Kept(2)
    for value in (1, 2, 1, 3, 1, 2):
        assert kept.get(value, lambda value=value: make(value)) == value
    assert made == [1, 2, 3, 2]
    kept.clear()
    kept.get(1, lambda: make(1))
    assert made[-1] == 1
