"""What grounds carry, heard on the bench: shared supplies, USB loops, isolators; best or a tie."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from diaulos.rig.bench import BenchFaults, RigBench
from diaulos.rig.catalogue.types import make
from diaulos.rig.course import trace
from diaulos.rig.fits import joined
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.diagram import level_diagram
from diaulos.rig.model import CableKind, PortRef, Rig
from diaulos.rig.templates import build
from diaulos.signal.hum import analyse_noise
from diaulos.units import gain_to_db
from diaulos.work.takes.noisecheck import Attempt, best_attempt, check_file, spread_db
from support import RATE


def silence(rig: Rig, port: str, seed: int = 3) -> np.ndarray:
    graph = RigGraph(rig)
    start = next(d.id for d in rig.devices if d.kind == "instrument")
    bench = RigBench(graph, start, float(RATE), BenchFaults(seed=seed))
    track = next(t for t in graph.tracks if t.port == port)
    return bench.process(np.zeros(6 * RATE))[track][RATE:]


def rms_dbfs(sound: np.ndarray) -> float:
    return gain_to_db(float(np.sqrt(2.0 * np.mean(np.square(sound)))))


def planned(rig: Rig, port: str) -> float:
    graph = RigGraph(rig)
    return level_diagram(trace(graph, next(t for t in graph.tracks if t.port == port))).track.noise


def supplied(shared: bool) -> Rig:
    """Two pedals ahead of an interface, on one supply."""
    rig = build("hybrid", "r")
    if not shared:
        return rig
    old = rig.device("supply")
    new = make("shared_supply", "supply").model_copy(update={"name": old.name})
    return rig.with_device(new)


def test_a_shared_supply_is_heard_and_an_isolated_one_is_not() -> None:
    """Seen: both measured alike on the bench."""
    levels = {shared: rms_dbfs(silence(supplied(shared), "track2")) for shared in (True, False)}
    assert levels[True] > levels[False] + 1.0
    noise = analyse_noise(silence(supplied(True), "track2"), float(RATE))
    assert any(abs(tone.hz - 100.0) < 1.0 for tone in noise.hum), "ripple of a rectifier"
    assert RigGraph(supplied(True)).supply_cables
    assert not RigGraph(supplied(False)).supply_cables


def usb_loop(isolated: bool) -> Rig:
    """A modeler's jack straight into an earthed amplifier, its dry stream to an earthed computer;
    no other ground joins the two."""
    rig = build("amp-in-loop", "r")
    kept = [c for c in rig.cables if "reamp_box" not in (c.source.device, c.target.device)]
    # As over light: no other ground joins modeler and interface.
    light = [
        c.model_copy(update={"kind": CableKind.OPTICAL}) if c.source.port == "coax_out" else c
        for c in kept
    ]
    rig = rig.model_copy(update={"cables": tuple(light)})
    rig = joined(rig, PortRef(device="modeler", port="send"), PortRef(device="amp", port="in"))
    if not isolated:
        return rig
    streams = [c for c in rig.cables if "usb" in c.source.port or "usb" in c.target.port]
    rest = tuple(c for c in rig.cables if c not in streams)
    box = make("usb_isolator", "usb_isolator")
    rig = rig.model_copy(update={"cables": rest, "devices": (*rig.devices, box)})
    for number, cable in enumerate(streams, start=1):
        way = "play_" if cable.source.device == "computer" else ""
        rig = joined(rig, cable.source, PortRef(device=box.id, port=f"{way}in{number}"))
        rig = joined(rig, PortRef(device=box.id, port=f"{way}out{number}"), cable.target)
    return rig


def test_a_usb_isolator_takes_the_bus_tones_away() -> None:
    looped, isolated = usb_loop(False), usb_loop(True)
    graph = RigGraph(looped)
    assert graph.usb_loop_cables, "the loop runs over USB"
    assert not RigGraph(isolated).usb_loop_cables
    amp = next(t.port for t in graph.tracks if trace(graph, t).tap != "di")
    before, after = (silence(rig, amp) for rig in (looped, isolated))
    assert rms_dbfs(before) > rms_dbfs(after) + 3.0


@pytest.mark.parametrize("rig", [supplied(True), usb_loop(False)], ids=["supply", "usb"])
def test_the_plan_knows_the_noise_of_grounds(rig: Rig) -> None:
    """On a course without an amplifier the floor is what is planned."""
    graph = RigGraph(rig)
    for track in graph.tracks:
        if trace(graph, track).tap == "di":
            got = rms_dbfs(silence(rig, track.port))
            assert got == pytest.approx(planned(rig, track.port), abs=1.0)


# --- best, or a tie ---


def attempt(label: str, level_db: float, seed: int) -> Attempt:
    rng = np.random.default_rng(seed)
    noise = 10.0 ** (level_db / 20.0) * rng.normal(size=3 * RATE)
    one = check_file("k", noise, float(RATE), label)
    return replace(one, rows=tuple(replace(r, name="k") for r in one.rows))


def test_best_is_said_only_beyond_the_spread_of_repeated_listens() -> None:
    """Seen: "best" at a tie."""
    tie = (attempt("As it is", -80.0, 1), attempt("Another outlet", -80.1, 2))
    assert best_attempt(tie) is None
    clear = (*tie, attempt("With an isolator", -86.0, 3))
    found = best_attempt(clear)
    assert found is not None
    assert found.label == "With an isolator"
    loose = (attempt("As it is", -80.0, 1), attempt("As it is", -83.0, 4),
             attempt("Another outlet", -84.5, 2))  # fmt: skip
    assert spread_db(loose) == pytest.approx(3.0, abs=0.2)
    assert best_attempt(loose) is None, "the same thing differed by as much"
    assert best_attempt(()) is None


def test_a_file_is_checked_like_a_listen() -> None:
    time = np.arange(4 * RATE) / RATE
    hum = sum(0.01 / n * np.sin(2.0 * np.pi * 50.0 * n * time) for n in (1, 3, 5))
    noise = hum + 1e-5 * np.random.default_rng(1).normal(size=time.size)
    (row,) = check_file("a.wav", noise, float(RATE), "A file").rows
    assert row.noise.mains_hz == pytest.approx(50.0, abs=0.1)
    assert row.cause == "Mains hum."
