"""Software monitoring: what can be heard, how late it is, and whether it is heard already."""

from __future__ import annotations

import numpy as np
import pytest

from diaulos.rig.templates import build
from diaulos.session.edits import set_device_setting
from diaulos.session.model import Session
from diaulos.signal.cabinet import cabinet_taps
from diaulos.work.capture.trips import Trip, WayRound
from diaulos.work.rigs.look import look_at
from diaulos.work.takes.live import (
    LiveChoice,
    LiveLatency,
    heard_already,
    live_choices,
    live_latency,
    own_samples,
)
from diaulos.work.takes.ready import recordable_tracks
from support import RATE


def session_of(template: str) -> Session:
    rig = build(template, "r1")
    return Session(id="s", name="S", sample_rate_hz=RATE, rigs=(rig,), current_rig="r1")


def test_an_amplifier_without_cabinet_is_heard_through_any() -> None:
    armed = recordable_tracks(look_at(session_of("hybrid")))
    found = live_choices(armed, {"impulses/mine.wav": "Mine"})
    plain = [one.words for one in found if not one.cabinet]
    assert plain == [one.name for one in armed]
    through = [one for one in found if one.cabinet]
    assert through[0].words.endswith("through Mine")
    assert {one.track for one in through} == {one.port for one in armed if one.tap == "amp"}


def test_its_response_is_that_of_the_cabinet() -> None:
    port = recordable_tracks(look_at(session_of("hybrid")))[0].port
    assert LiveChoice(port, "", "DI").taps(48_000.0, {}) == ()
    stand_in = LiveChoice(port, "closed-two", "Amp").taps(48_000.0, {})
    assert np.allclose(stand_in, cabinet_taps("closed-two", 48_000.0))
    own = LiveChoice(port, "impulses/a.wav", "Amp").taps(48_000.0, {"impulses/a.wav": np.ones(3)})
    assert own == (1.0, 1.0, 1.0)


def test_how_late_it_is_measured_claimed_or_not_known() -> None:
    way = WayRound("box", (Trip("box", RATE, 256, 480.0, 0.01, 1, 1),))
    measured = live_latency(way, RATE, 256, 0.005, 0.0)
    assert (measured.ms, measured.words) == (pytest.approx(10.0), "10.0 ms")
    claimed = live_latency(way, RATE, 512, 0.005, 0.0)
    assert claimed.words == "about 5.0 ms", "measured at another block is not measured"
    assert live_latency(way, RATE, 512, None, 0.0).words == "latency never measured"
    behind = live_latency(way, RATE, 256, None, 96.0)
    assert behind.ms == pytest.approx(12.0), "an amplifier in another program comes on top"


def test_a_software_amplifier_adds_its_own() -> None:
    session = set_device_setting("r1", "software", "latency", 96.0)(session_of("software-amp"))
    found = {one.tap: own_samples(one) for one in recordable_tracks(look_at(session))}
    assert found == {"di": 0.0, "modeled": 96.0}


def test_who_hears_it_directly_is_told_not_to() -> None:
    """An interface that has the input on its headphones already."""
    told = {}
    for name in ("hybrid", "straight", "software-amp", "modeler-usb"):
        report = look_at(session_of(name))
        direct = any(
            way.kind == "direct" for one in report.monitoring.listeners for way in one.ways
        )
        words = heard_already(report, recordable_tracks(report)[0])
        assert bool(words) == direct, name
        told[name] = words
    assert any("heard twice" in words for words in told.values())
    assert not told["software-amp"]


def test_how_late_it_is_is_told_in_a_sentence() -> None:
    assert LiveLatency(6.1, True).sentence == "It is 6.1 ms late."
    assert LiveLatency(6.1, False).sentence == "It is about 6.1 ms late."
    assert LiveLatency(0.0, False, known=False).sentence.startswith("How late was never measured")
