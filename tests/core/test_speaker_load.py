"""Valve amplifiers into speakers: taps, the source's impedance, the rise at the resonance."""

from __future__ import annotations

import math

import numpy as np
import pytest

from diaulos.rig.bench import BenchFaults, RigBench
from diaulos.rig.catalogue.amps import LOAD, SPEAKERS, VALVE_OHM
from diaulos.rig.catalogue.types import make
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.course import Course, trace
from diaulos.rig.flow import Segment, cut, speaker_ohm
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import Rig, SignalClass
from diaulos.rig.templates import build
from diaulos.rig.trackplan import plan_tracks
from support import RATE

FREQS = np.array([40.0, LOAD.resonance_hz, 400.0, 1_000.0, 5_000.0])


def speaker_segment(rig: Rig) -> tuple[Course, Segment]:
    graph = RigGraph(rig)
    course = next(trace(graph, track) for track in graph.tracks
                  if any(leg.device.kind == "amp" for leg in trace(graph, track).legs))  # fmt: skip
    segment = next(
        step for step in cut(course)
        if isinstance(step, Segment)
        and step.source.port.signal_class is SignalClass.SPEAKER
    )  # fmt: skip
    return course, segment


def test_a_speakers_impedance_is_that_of_its_circuit() -> None:
    """Held against the parts themselves: R + j w L and R, L, C in parallel (textbook)."""
    one = LOAD
    w0 = 2.0 * math.pi * one.resonance_hz
    farad = one.resonance_q / (w0 * one.resonance_ohm)
    henry = one.resonance_ohm / (w0 * one.resonance_q)
    for hz in FREQS:
        w = 2.0 * math.pi * hz
        moving = 1.0 / (1.0 / one.resonance_ohm + 1.0 / (1j * w * henry) + 1j * w * farad)
        wanted = one.coil_ohm + 1j * w * one.coil_h + moving
        assert speaker_ohm(one, np.array([hz]))[0] == pytest.approx(wanted, rel=1e-9)
    for speaker in (*SPEAKERS.values(), LOAD):
        assert abs(speaker_ohm(speaker, np.array([400.0]))[0]) == pytest.approx(8.0, rel=0.2)


def test_a_valve_amplifier_rises_where_its_load_does() -> None:
    """Volts at the load re its source: Z / (Z + R), by hand."""
    _, segment = speaker_segment(build("hybrid", "r"))
    got = np.abs(segment.responses(FREQS)[segment.load])
    z = speaker_ohm(LOAD, FREQS)
    wanted = np.abs(z / (z + VALVE_OHM))
    assert got == pytest.approx(wanted, rel=1e-3)
    rise = 20.0 * np.log10(got / got[2])
    assert rise[1] > 1.2, "at the resonance"
    assert rise[4] > 0.8, "in the treble"
    rig = build("hybrid", "r")
    amp = rig.device("amp")
    ports = tuple(p.model_copy(update={"impedance_ohm": 0.05}) if p.id == "speaker" else p
                  for p in amp.ports)  # fmt: skip
    _, stiff = speaker_segment(rig.with_device(amp.model_copy(update={"ports": ports})))
    flat = 20.0 * np.log10(np.abs(stiff.responses(FREQS)[stiff.load]))
    assert np.ptp(flat) < 0.1, "a transistor's output holds its volts"


def test_the_rise_is_in_the_sound() -> None:
    """White noise, much too weak to drive anything, through the same rig with both sources."""
    heard = {}
    noise = 1e-5 * np.random.default_rng(4).normal(size=4 * RATE)
    for name, ohm in (("valve", VALVE_OHM), ("stiff", 0.05)):
        rig = build("hybrid", "r")
        amp = rig.device("amp")
        ports = tuple(p.model_copy(update={"impedance_ohm": ohm}) if p.id == "speaker" else p
                      for p in amp.ports)  # fmt: skip
        rig = rig.with_device(amp.model_copy(update={"ports": ports}))
        graph = RigGraph(rig)
        track = next(t for t in graph.tracks if trace(graph, t).tap == "amp")
        bench = RigBench(graph, "guitar", float(RATE), BenchFaults.none())
        heard[name] = bench.process(noise)[track]
    power = {}
    for name, sound in heard.items():
        spectrum = np.abs(np.fft.rfft(sound)) ** 2
        freqs = np.fft.rfftfreq(sound.size, 1.0 / RATE)
        power[name] = [
            float(spectrum[(freqs > 0.95 * hz) & (freqs < 1.05 * hz)].sum()) for hz in FREQS
        ]
    rise = 10.0 * np.log10(np.array(power["valve"]) / np.array(power["stiff"]))
    z = speaker_ohm(LOAD, FREQS)
    wanted = 20.0 * np.log10(np.abs(z / (z + VALVE_OHM)) / np.abs(z / (z + 0.05)))
    assert rise - rise[2] == pytest.approx(wanted - wanted[2], abs=0.5)


@pytest.mark.parametrize(("tap", "rated"), [("4", 4.0), ("8", 8.0), ("16", 16.0)])
def test_a_tap_is_made_for_its_load(tap: str, rated: float) -> None:
    rig = build("hybrid", "r").with_setting("amp", "tap", tap)
    port = rig.device("amp").port("speaker")
    assert (port.rated_ohm, port.least_ohm) == (rated, rated / 2.0)
    assert port.impedance_ohm == pytest.approx(VALVE_OHM * rated / 8.0)
    watts = (10.0 ** (port.max_dbu / 20.0) * math.sqrt(0.6)) ** 2 / rated
    assert watts == pytest.approx(port.power_w, rel=1e-6), "the same power into each tap's load"
    told = {one.id for one in run_checks(Context(RigGraph(rig)))}
    assert ("load-impedance" in told) == (rated != 8.0), "the load is of 8 ohms"


def test_into_its_rated_load_a_tap_gives_its_volts() -> None:
    peaks = {}
    for tap in ("4", "8", "16"):
        rig = build("hybrid", "r").with_setting("amp", "tap", tap)
        box = rig.device("load_box")
        ports = tuple(
            p.model_copy(update={"impedance_ohm": float(tap), "speaker": None})
            if p.id == "speaker" else p for p in box.ports
        )  # fmt: skip
        rig = rig.with_device(box.model_copy(update={"ports": ports}))
        plan = next(p for p in plan_tracks(RigGraph(rig)) if p.tap == "amp")
        peaks[tap] = next(one.peak for one in plan.levels if one.point.port.id == "speaker")
    assert peaks["8"] - peaks["4"] == pytest.approx(10.0 * math.log10(2.0), abs=0.01)
    assert peaks["16"] - peaks["8"] == pytest.approx(10.0 * math.log10(2.0), abs=0.01)


def test_transistor_amplifiers_have_no_taps() -> None:
    assert not make("bass_amp", "a").has_setting("tap")
    assert make("valve_head", "a").has_setting("tap")
