"""Stations in a row played as one sound as they do one by one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pytest
from numpy.typing import NDArray

from diaulos.rig.bench import BenchFaults
from diaulos.rig.bench.processors import ColouredHiss, Filter, Hiss, Limit, Processor
from diaulos.rig.bench.runs import Run, can_join, joined
from diaulos.rig.bench.whole import RigBench
from diaulos.rig.graph import RigGraph
from diaulos.rig.templates import build

RATE = 48_000.0
Real = NDArray[np.float64]


def fading(count: int, seed: int) -> Real:
    rng = np.random.default_rng(seed)
    return rng.standard_normal(count) * np.exp(-np.arange(count) / (count / 9.0))


ROW: tuple[Processor, ...] = (
    Hiss(0.01, 1),
    Filter(fading(4_096, 2)),
    Filter(np.array([-0.3])),
    Hiss(0.02, 3),
    Filter(fading(900, 4)),
    ColouredHiss(np.hanning(211) / 100.0, 5),
    Filter(np.array([2.0])),
)


def one_by_one(row: tuple[Processor, ...], sound: Real) -> Real:
    for processor in row:
        sound, _ = processor.process(sound, processor.initial_state())
    return sound


@pytest.mark.parametrize("size", [64, 1_000, 4_096, 60_000])
@pytest.mark.parametrize("row", [ROW, ROW[1:3], (ROW[0], ROW[3]), (ROW[2], ROW[6])])
def test_a_row_as_one_gives_what_its_stations_give(row: tuple[Processor, ...], size: int) -> None:
    sound = np.random.default_rng(9).standard_normal(60_000)
    one = joined(row)
    assert isinstance(one, Run)

    state, parts = one.initial_state(), []
    for first in range(0, sound.size, size):
        block, state = one.process(sound[first : first + size], state)
        parts.append(block)

    wanted = one_by_one(row, sound)
    rest = np.concatenate(parts) - wanted
    assert np.std(rest) < 10.0 ** (-135.0 / 20.0) * np.std(wanted)


def test_what_comes_in_is_left_as_it_is() -> None:
    sound = np.ones(500)
    one = joined((Filter(np.ones(1)), Hiss(0.5, 3)))
    one.process(sound, one.initial_state())
    np.testing.assert_array_equal(sound, np.ones(500))


def test_a_limit_joins_nothing_and_one_alone_stays_itself() -> None:
    assert not can_join(Limit(1.0))
    assert not can_join(None)
    assert joined(ROW[:1]) is ROW[0]


def test_of_a_long_response_only_what_nobody_could_measure_is_left_out() -> None:
    one = joined((ROW[1], ROW[4]))
    assert isinstance(one, Run)
    whole = np.convolve(fading(4_096, 2), fading(900, 4))
    lost = np.sum(np.square(whole[one.taps.size :])) / np.sum(np.square(whole))
    assert one.taps.size < whole.size
    assert lost < 1e-14


@pytest.mark.parametrize("template", ["hybrid", "amp-load", "amp-mic"])
def test_a_rig_sounds_as_its_stations_do_one_by_one(
    template: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    graph = RigGraph(build(template, "r1"))
    played = 0.4 * np.sin(2.0 * np.pi * 220.0 * np.arange(int(0.5 * RATE)) / RATE)

    made: list[int] = []

    def counted(row: Sequence[Processor]) -> Processor:
        made.append(len(row))
        return joined(row)

    def heard() -> dict[str, Real]:
        made.clear()
        bench = RigBench(graph, "guitar", RATE, BenchFaults(seed=3))
        found = [bench.process(part) for part in np.array_split(played, 7)]
        return {str(ref): np.concatenate([one[ref] for one in found]) for ref in found[0]}

    monkeypatch.setattr("diaulos.rig.bench.whole.joined", counted)
    as_one = heard()
    assert max(made) >= 3
    monkeypatch.setattr("diaulos.rig.bench.whole.can_join", lambda _: False)
    apart = heard()
    assert max(made) == 1
    assert as_one.keys() == apart.keys()
    for track, samples in apart.items():
        np.testing.assert_allclose(as_one[track], samples, atol=1e-6 * np.abs(samples).max())
