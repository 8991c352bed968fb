"""The noise hunt: what a cause reaches, what a test does to it on the bench, and what is concluded.
Whole in `./diaulos soak hunt`."""

from __future__ import annotations

from dataclasses import replace

import hunt as planted
import numpy as np
import pytest
from test_ground_noise import supplied, usb_loop

from diaulos.rig.bench import BenchFaults
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef
from diaulos.rig.strays import Stray
from diaulos.rig.templates import build, straight
from diaulos.signal.hum import analyse_noise
from diaulos.units import LOWEST_DB
from diaulos.wiring import studio_backend
from diaulos.work.hunting.causes import Cause, causes_of, courses_of, reached
from diaulos.work.hunting.drills import drill_of
from diaulos.work.hunting.hunt import LESS_DB, Hunt, family_of
from diaulos.work.hunting.listens import SPAN_S, Held, Kinds, Listen, kinds_of, listen, watch
from diaulos.work.hunting.trials import PULLED, Studio, Trial, acted, chances, trials_of
from diaulos.work.hunting.words import (
    brought_words,
    hunted_words,
    outcome_words,
    share_words,
    verdict_words,
)
from support import RATE

QUIET = Kinds(LOWEST_DB, LOWEST_DB, LOWEST_DB, -100.0)


def hybrid() -> RigGraph:
    """A guitar into a DI and, by two pedals, into an amplifier: three tracks."""
    return RigGraph(build("hybrid", "r"))


def heard_of(studio: Studio, tracks: tuple[PortRef, ...] = ()) -> Listen:
    wanted = tracks or tuple(courses_of(studio.graph))
    return planted._listen(studio, wanted, 5)


def cause(graph: RigGraph, kind: str, word: str = "") -> Cause:
    return next(one for one in causes_of(graph, "mains") if one.kind == kind and word in one.words)


# --- the room ---


@pytest.mark.parametrize(
    ("kind", "place", "volume_gone"),
    [("hum", "pickup", True), ("buzz", "pickup", True), ("hum", "cable", False)],
)
def test_what_comes_in_ahead_of_the_volume_goes_with_it(
    kind: str, place: str, volume_gone: bool
) -> None:
    """On the bench: a field in the pickup is turned down with the strings, a lead's is not."""
    graph = RigGraph(build("straight", "r"))
    track = next(iter(courses_of(graph)))
    course = courses_of(graph)[track]
    start = course.start
    assert start.cable is not None
    at = start.device.id if place == "pickup" else start.cable.id
    studio = Studio(graph, BenchFaults(strays=(Stray(kind, place, at, 1e-3),)))
    before = heard_of(studio).level(track, "mains")
    volume = Trial("volume", start.device.id, "")
    after = heard_of(studio.after(volume)).level(track, "mains")
    assert before > -90.0
    assert (after < before - 30.0) == volume_gone
    pulled = Trial("pull", start.cable.id, "")
    assert heard_of(studio.after(pulled)).level(track, "mains") < before - 20.0


def test_a_stray_is_as_loud_as_it_is_said_to_be() -> None:
    """A volt at a device's input, and twice the volts: 6.02 dB."""
    graph = RigGraph(build("straight", "r"))
    track = next(iter(courses_of(graph)))
    levels = []
    for volts in (1e-3, 2e-3):
        stray = Stray("hum", "device", courses_of(graph)[track].legs[1].device.id, volts)
        levels.append(heard_of(Studio(graph, BenchFaults(strays=(stray,)))).level(track, "mains"))
    assert levels[1] - levels[0] == pytest.approx(6.02, abs=0.05)


def test_a_supply_and_its_remedy() -> None:
    graph = RigGraph(supplied(True))
    found = cause(graph, "supply")
    studio = Studio(graph, BenchFaults())
    (track,) = reached(graph, found, "mains") & {PortRef(device="computer", port="track2")}
    before, after = heard_of(studio), heard_of(studio.mended(found))
    assert before.level(track, "mains") > after.level(track, "mains") + 6.0
    assert before.rippled(track), "even harmonics only"
    battery = next(one for one in trials_of(graph) if one.kind == "battery")
    assert not reached(acted(graph, battery), found, "mains")


def test_a_loop_opens_where_a_plug_is_pulled_and_over_usb_it_whines() -> None:
    graph = RigGraph(usb_loop(isolated=False))
    for family in ("mains", "whine"):
        loops = [one for one in causes_of(graph, family) if one.kind == "loop"]
        assert loops, family
        for cable in loops[0].at:
            after = acted(graph, Trial("pull", cable, ""))
            assert not set(loops[0].at) & after.loop_cables
    assert not [one for one in causes_of(RigGraph(usb_loop(isolated=True)), "whine")
                if one.kind == "loop"]  # fmt: skip


def test_an_active_bass_that_hisses_is_not_put_down_to_the_interface() -> None:
    """Seen: of hiss the interface alone was ever a cause, and was called found untested."""
    passive = RigGraph(build("straight", "r"))
    assert [one.kind for one in causes_of(passive, "hiss")] == ["device"]
    graph = RigGraph(straight("r", "bass"))
    (track,) = courses_of(graph)
    wrong = next(one for one in causes_of(graph, "hiss") if one.kind == "pickup")
    assert "electronics" in wrong.words
    stray = Stray("hiss", "pickup", wrong.at[0], 3e-3)
    studio = Studio(graph, BenchFaults(strays=(stray,)))
    floor = heard_of(Studio(graph, BenchFaults())).level(track, "hiss")
    room = planted.Room(studio, "hiss", wrong, (track,), {track: floor}, "")
    told, count, hunt = planted.hunted(room, 3)
    assert told == wrong
    assert count >= 1
    quiet = replace(hunt, graph=passive, results=())
    assert verdict_words(quiet).startswith("By the rig it can only be one thing")


# --- what a person can do ---


def test_no_test_lifts_an_earth_or_unplugs_a_loudspeaker() -> None:
    from truth import RECORDING

    for name in RECORDING:
        graph = RigGraph(build(name, "r"))
        for trial in trials_of(graph):
            assert "earth" not in trial.words.lower()
            if trial.kind in ("pull", "lead"):
                cable = next(one for one in graph.rig.cables if one.id == trial.at)
                assert graph.source(cable).port.signal_class.value != "speaker"
                if graph.target(cable).port.phantom:
                    assert trial.kind != "pull" or "phantom" in trial.words


def test_a_pulled_plug_leaves_what_comes_behind() -> None:
    graph = hybrid()
    course = courses_of(graph)[PortRef(device="computer", port="track2")]
    amp = next(leg for leg in course.legs if leg.device.kind == "amp")
    into = course.legs[course.legs.index(amp) - 1].cable
    assert into is not None
    after = acted(graph, Trial("pull", into.id, ""))
    assert courses_of(after)[course.track].start.device.id == PULLED
    hum = cause(graph, "device", amp.device.name)
    assert course.track in reached(after, hum, "mains")
    assert course.track not in reached(after, cause(graph, "pickup"), "mains")
    assert acted(graph, Trial("pull", into.id, "")) is after, "worked out once"


def test_what_does_not_reach_a_track_leaves_it_as_it_is() -> None:
    graph = hybrid()
    dry = PortRef(device="computer", port="track1")
    amp = cause(graph, "device", "combo")
    for trial in trials_of(graph):
        assert chances(graph, amp, "mains", trial, dry)["same"] == 0.90
    for trial in trials_of(graph):
        for one in causes_of(graph, "mains"):
            assert sum(chances(graph, one, "mains", trial, dry).values()) == pytest.approx(1.0)


# --- what is heard ---


def tones(*parts: tuple[float, float]) -> np.ndarray:
    time = np.arange(3 * RATE) / RATE
    hiss = 1e-5 * np.random.default_rng(1).standard_normal(time.size)
    return hiss + sum(10.0 ** (db / 20.0) * np.sin(2.0 * np.pi * hz * time) for hz, db in parts)


def test_hum_and_buzz_are_told_apart_at_the_fourth_harmonic() -> None:
    found = kinds_of(analyse_noise(tones((50.0, -60.0), (150.0, -70.0), (350.0, -65.0)), RATE))
    assert found.hum == pytest.approx(10.0 * np.log10(1e-6 + 1e-7), abs=0.2)
    assert found.buzz == pytest.approx(-65.0, abs=0.2)
    assert not found.rippled
    assert kinds_of(analyse_noise(tones((120.0, -60.0), (240.0, -66.0)), RATE)).rippled
    assert kinds_of(analyse_noise(tones((8_000.0, -70.0)), RATE)).whine == pytest.approx(
        -70.0, abs=0.3
    )


def test_a_listen_and_what_is_watched_are_of_the_same_silence() -> None:
    graph = RigGraph(build("straight", "r"))
    tracks = tuple(courses_of(graph))
    stray = Stray("hum", "device", courses_of(graph)[tracks[0]].legs[1].device.id, 1e-3)
    studio = Studio(graph, BenchFaults(strays=(stray,)))
    told: list[Listen] = []
    watch(studio_backend(studio, tracks), tracks, RATE, told.append, lambda: len(told) > 1)
    heard = listen(studio_backend(studio, tracks), tracks, RATE)
    for one in tracks:
        assert len(heard.spans[one]) == 2
        assert told[0].level(one, "mains") == pytest.approx(heard.level(one, "mains"), abs=0.1)
        assert heard.spread_db(one, "mains") == 0.5


def test_only_the_newest_is_held() -> None:
    held = Held(most=1_000)
    for number in range(50):
        held.write(np.full(100, number, np.float32))
    assert held.frames == 5_000
    assert 1_000 <= held.samples.size <= 1_100
    assert held.samples[-1] == 49


# --- what is concluded ---


def straight_hunt() -> tuple[Hunt, PortRef]:
    graph = RigGraph(build("straight", "r"))
    (track, *_) = courses_of(graph)
    loud = Kinds(-60.0, -70.0, LOWEST_DB, -100.0)
    return Hunt(graph, Listen({track: (loud, loud)}), "mains"), track


def test_each_test_moves_what_is_likely() -> None:
    hunt, track = straight_hunt()
    assert sum(one.share for one in hunt.left) == pytest.approx(1.0)
    trial = hunt.next_trial
    assert trial is not None
    seen = [trial]
    gone = Listen({track: (QUIET, QUIET)})
    volume = next(one for one in trials_of(hunt.graph) if one.kind == "volume")
    after = hunt.after(volume, gone)
    assert after.left[0].cause.kind == "pickup"
    assert outcome_words(after, after.results[0], track) == "gone (nothing left of it)"
    assert after.undone().left == hunt.left
    # The same again, as before: not the pickup.
    stays = hunt.after(volume, hunt.first)
    assert stays.left[0].cause.kind != "pickup"
    assert "as before" in outcome_words(stays, stays.results[0], track)
    # One that cannot be done is not proposed again, and something else is.
    while (trial := hunt.next_trial) is not None:
        hunt = hunt.without(trial)
        assert trial not in seen or trial == seen[0]
        seen.append(trial)
    assert hunt.verdict is not None
    assert not hunt.is_sure
    assert "most likely" in verdict_words(hunt)


def test_a_test_that_is_done_again_adds_to_what_was_heard() -> None:
    hunt, track = straight_hunt()
    volume = next(one for one in trials_of(hunt.graph) if one.kind == "volume")
    twice = hunt.after(volume, hunt.first).after(volume, hunt.first)
    assert len(twice.results) == 1
    assert len(twice.results[0].heard.spans[track]) == 4


def test_a_change_within_the_spread_is_none() -> None:
    hunt, track = straight_hunt()
    volume = next(one for one in trials_of(hunt.graph) if one.kind == "volume")
    first = tuple(replace(hunt.first.spans[track][0], hum=level) for level in (-60.0, -63.0))
    restless = replace(hunt, first=Listen({track: first}))
    quieter = tuple(replace(one, hum=one.hum - 4.0, buzz=-90.0) for one in first)
    result = restless.after(volume, Listen({track: quieter})).results[0]
    assert restless.change_db(result, track) < -LESS_DB
    assert restless.outcome(result, track) == "same"


def test_what_is_hunted_and_what_a_remedy_brought_are_told() -> None:
    hunt, track = straight_hunt()
    words = hunted_words(hunt, {track: "DI"})
    assert words.startswith("Hum of")
    assert "on DI, 40." in words
    found, brought = hunt.brought_db(Listen({track: (QUIET, QUIET)}))
    assert found == track
    assert brought == pytest.approx(40.4, abs=0.1), "down to the hiss"
    assert "brought" in brought_words(hunt, brought, "DI")
    assert "changed nothing" in brought_words(hunt, 0.0, "DI")
    assert {share_words(one) for one in hunt.left} <= {"likely", "possible", "ruled out"}
    quiet = replace(hunt, first=Listen({track: (QUIET, QUIET)}))
    assert quiet.standing == ()
    assert "Nothing stands out" in hunted_words(quiet, {})
    assert family_of(quiet.first, {track: -100.0}) is None
    assert family_of(quiet.first, {track: -110.0}) == "hiss"
    assert family_of(hunt.first, {track: -110.0}) == "mains", "a buzz looks like hiss higher up"


def test_a_span_is_long_enough_to_claim_hum() -> None:
    from diaulos.signal.hum import LEAST_QUIET_S

    assert SPAN_S > LEAST_QUIET_S


@pytest.mark.parametrize("seed", [1, 4])
def test_a_drill_is_found(seed: int) -> None:
    graph = hybrid()
    tracks = tuple(courses_of(graph))
    found = drill_of(graph, seed, tracks)
    assert found is not None
    wrong, strays = found
    studio = Studio(graph, BenchFaults(strays=strays))
    room = planted.Room(studio, "mains", wrong, tracks, {}, "")
    told, count, _ = planted.hunted(room, seed)
    assert told is not None
    assert (told.kind, told.at) == (wrong.kind, wrong.at)
    assert count <= 6
    assert drill_of(graph, seed, tracks) == found


def test_nothing_is_concluded_of_a_rig_where_nothing_can_hum() -> None:
    hunt, _ = straight_hunt()
    empty = replace(hunt, graph=RigGraph(hunt.graph.rig.model_copy(update={"cables": ()})))
    assert empty.left == ()
    assert empty.verdict is None
    assert verdict_words(empty) == ""
