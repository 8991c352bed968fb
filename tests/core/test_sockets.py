"""Which socket is which: proposed, tied in the rig, told over it; and found by tapping."""

from __future__ import annotations

import threading
from pathlib import Path

import numpy as np
import pytest
from contract import answered, right_or_told
from fake_driver import FakeDriver
from jack_server import JackServer
from test_cli import run_json
from test_jack import running, server  # noqa: F401 - fixtures

from diaulos import wiring
from diaulos.errors import EditError
from diaulos.rig.course import reamp_course
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import DeviceMap, PortRef, Tie
from diaulos.rig.templates import build
from diaulos.session.edits import set_sample_rate, tie_sockets
from diaulos.storage.folder import SessionFolder
from diaulos.work.capture.mapping import sockets_of, told_over
from diaulos.work.capture.movers import LOWEST_DBFS, Movement, Movers, listen_for_movement
from diaulos.work.capture.rates import rate_words
from diaulos.work.ports import DeviceInfo
from support import RATE


def noise(frames: int, channels: int, dbfs: float, seed: int = 1) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return (10.0 ** (dbfs / 20.0) * rng.standard_normal((frames, channels))).astype(np.float32)


def test_the_sockets_of_a_rig() -> None:
    rows = sockets_of(RigGraph(build("hybrid", "r")), 8)
    assert [one.proposed for one in rows if one.hears] == [1, 3, 4]
    assert all(one.hears for one in rows), "nothing is sent in a rig that records"
    assert rows[0].place == "Four-input interface, Input 1"
    (back, out) = sockets_of(RigGraph(build("reamp-box", "r")), 8)
    assert (back.hears, back.proposed) == (True, 4)
    assert (out.hears, out.proposed, out.name) == (False, 3, "Send")


def test_ties_are_kept_for_each_device_and_told_over() -> None:
    rig = build("hybrid", "r")
    port = rig.tracks[0].port
    tied = rig.with_map(DeviceMap(device="a", ties=(Tie(port=port, channel=5),)))
    both = tied.with_map(DeviceMap(device="b", ties=(Tie(port=port, channel=2),)))
    assert (both.tied("a")[port], both.tied("b")[port], both.tied("c")) == (5, 2, {})
    assert both.with_map(DeviceMap(device="a")).tied("a") == {}
    assert told_over({"DI": 3, "Amp": 4}, {"Room": 3}) == {"Amp": 4, "Room": 3}


def test_a_loop_goes_by_its_ties() -> None:
    rig = build("reamp-box", "r")
    course = reamp_course(rig)
    out = PortRef(device=course.start.device.id, port=course.start.exit.id)
    ties = (Tie(port=out, channel=2), Tie(port=course.track, channel=7))
    tied = reamp_course(rig.with_map(DeviceMap(device="box", ties=ties)))
    assert wiring.loop_on("box")((tied,)).channels == ((6,), (1,))
    assert wiring.loop_on("box", 1, 1)((tied,)).channels == ((0,), (0,))
    assert wiring.loop_on("other")((tied,)).channels == ((3,), (2,))


def test_a_take_goes_by_its_ties(
    running: JackServer,  # noqa: F811
    capsys: pytest.CaptureFixture[str],
    tmp_path,
) -> None:
    """Four inputs of different level; the one that the rig ties is the one that is recorded."""
    running.amp("box", channels=4, gain=0.0, step_db=-10.0, noise_dbfs=-20.0)
    path = tmp_path / "Mine.diaulos"
    run_json(capsys, "new", path, "--plays", "guitar", "--inputs", 4, "--tone", "none")
    folder = SessionFolder.open(path)
    session = folder.load()
    rig = session.rigs[0]
    tie = DeviceMap(device="box", ties=(Tie(port=rig.tracks[0].port, channel=3),), inputs=4)
    folder.save(tie_sockets(rig.id, tie)(session))
    folder.close()

    def attempt(words: tuple[str, ...], expected_dbfs: float) -> bool:
        asked = ("record", path, "--seconds", 1, "--device", "box", *words)
        data = answered(run_json(capsys, *asked))
        # RMS of white noise after AES17 and loudness differ: the peak tells the channel.
        assert data["tracks"][0]["peak_dbfs"] == pytest.approx(expected_dbfs + 13.0, abs=2.5)
        return True

    right_or_told(lambda: attempt((), -40.0))
    right_or_told(lambda: attempt(("--map", f"{rig.tracks[0].name}=2"), -30.0))


@pytest.mark.parametrize(
    ("tapped", "gain_db", "leak_db", "moves"),
    [
        (2, 0.0, -30.0, True),
        (0, -10.0, -20.0, True),
        (1, 0.0, -3.0, False),
        (3, -50.0, -90.0, False),
    ],
)  # fmt: skip
def test_the_input_that_is_tapped_moves(
    tapped: int, gain_db: float, leak_db: float, moves: bool
) -> None:
    """Over hiss at -60 dBFS; a neighbour that hears it nearly as loud leaves it open, and so does
    a tap that drowns in the hiss."""
    movers = Movers(4, RATE)
    quiet = noise(RATE, 4, -60.0)
    told: list[Movement] = []
    for block in np.split(quiet, 100):
        movement = movers.add(block)
        if movement is not None:
            assert movement.moves is None
    tap = noise(RATE // 10, 4, -60.0, 2)
    burst = np.sin(np.arange(RATE // 10) * 0.1) * 10.0 ** ((gain_db - 20.0) / 20.0)
    tap[:, tapped] += burst
    tap[:, (tapped + 1) % 4] += burst * 10.0 ** (leak_db / 20.0)
    for block in np.split(tap, 10):
        movement = movers.add(block.astype(np.float32))
        if movement is not None:
            told.append(movement)
    found = {one.moves for one in told} - {None}
    assert found == ({tapped} if moves else set())


def test_hum_that_was_there_all_along_moves_nothing() -> None:
    movers = Movers(2, RATE)
    hum = np.zeros((5 * RATE, 2), np.float32)
    hum[:, 0] = 0.1 * np.sin(2.0 * np.pi * 50.0 * np.arange(5 * RATE) / RATE)
    told = [movers.add(block) for block in np.split(hum, 500)]
    assert {one.moves for one in told if one is not None} == {None}
    last = [one for one in told if one is not None][-1]
    assert last.held_dbfs[0] == pytest.approx(-20.0, abs=0.1)
    assert last.held_dbfs[1] == LOWEST_DBFS


def test_listening_ends_when_it_is_stopped() -> None:
    stop, told = threading.Event(), []

    def tell(movement: Movement) -> None:
        told.append(movement)
        stop.set()

    listen_for_movement(FakeDriver(realtime=True), RATE, 3, tell, stop.is_set)
    assert len(told[0].peak_dbfs) == 3


def test_a_session_with_audio_keeps_its_rate(demo_copy: Path) -> None:
    """Audio never changes: the way out is named."""
    folder = SessionFolder.open(demo_copy)
    try:
        session = folder.load()
    finally:
        folder.close()
    with pytest.raises(EditError, match="holds audio at 48000 Hz"):
        set_sample_rate(44_100)(session)
    there = DeviceInfo("pipewire", "Box", 2, 2, (44_100,), (256,), True)
    assert "clock.force-rate 48000" in rate_words(session, there)
    several = DeviceInfo("alsa", "Card", 2, 2, (44_100, 48_000), (256,), True)
    assert rate_words(session, several) == ""
