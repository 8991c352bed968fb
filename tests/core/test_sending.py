"""What goes out to an amplifier: it rises to its level, and not into a howl or somebody's ears."""

from __future__ import annotations

import time

import numpy as np
import pytest
from contract import right_or_told
from jack_server import JackServer
from test_jack import running, server  # noqa: F401 - fixtures
from test_overdubs import Loopback
from test_reamp import GUITAR_TAKE, desk, reamped  # noqa: F401 - fixture

from diaulos import wiring
from diaulos.audio.port_output import PortOutput
from diaulos.errors import AudioDeviceError, RefusedError
from diaulos.rig.course import reamp_course
from diaulos.rig.model import DeviceMap, PortRef, Tie
from diaulos.rig.templates import build
from diaulos.session.model import Session
from diaulos.storage.folder import SessionFolder
from diaulos.units import db_to_gain
from diaulos.work.capture.loop import RAMP_S, run_loop
from diaulos.work.capture.stream import Capture
from diaulos.work.listening.player import Player
from diaulos.work.ports import CancelToken, StreamInfo, StreamSpec, no_progress
from diaulos.work.reamp.howl import LOUD_DBFS, require_quiet_return
from diaulos.work.reamp.slate import Memory
from support import RATE

DELAY = 2_000


class Sent(Loopback):
    """A loop that keeps what goes out."""

    def open(self, spec, callback):
        self.played: list[np.ndarray] = []

        def kept(inputs, outputs, count, time, status):
            go_on = callback(inputs, outputs, count, time, status)
            self.played.append(outputs[:, 0].copy())
            return go_on

        return super().open(spec, kept)


class Heard:
    """A return that is loud by itself."""

    def __init__(self, rms_dbfs: float) -> None:
        self.amplitude = 10.0 ** (rms_dbfs / 20.0)
        self.sent = 0.0

    def open(self, spec: StreamSpec, callback):
        self.spec, self.callback = spec, callback
        self.info = StreamInfo(spec.rate_hz, 0.0, 0.0, "heard", realtime=False)
        self.xruns = 0
        return self

    def run(self) -> None:
        from diaulos.work.ports import BlockStatus, BlockTime

        at, count = 0, self.spec.block_frames
        while True:
            wave = self.amplitude * np.sin(2.0 * np.pi * 500.0 * (at + np.arange(count)) / RATE)
            outputs = np.zeros((count, self.spec.output_channels), np.float32)
            inputs = wave[:, None].astype(np.float32)
            if not self.callback(inputs, outputs, count, BlockTime(at), BlockStatus()):
                return
            self.sent = max(self.sent, float(np.abs(outputs).max()))
            at += count

    def stop(self) -> None:
        pass


def sent_and_back(ramp_s: float, frames: int = RATE, block: int = 512):
    """What goes out of a track that begins in the middle of a loud note, and what comes back."""
    track = (0.5 * np.cos(2.0 * np.pi * 80.0 * np.arange(frames) / RATE)).astype(np.float32)
    loop, back = Sent(DELAY), Memory()
    run_loop(
        loop, iter(np.array_split(track, 7)), frames, RATE, -6.0, [back], no_progress,
        CancelToken(), block, ramp_s=ramp_s,
    )  # fmt: skip
    return track, np.concatenate(loop.played), back.samples()[DELAY:]


@pytest.mark.parametrize("block", [64, 512, 1000])
def test_a_send_rises_to_exactly_its_level_ahead_of_the_first_sample(block: int) -> None:
    track, out, back = sent_and_back(RAMP_S, block=block)
    ramp = int(RAMP_S * RATE)
    gain = np.float32(db_to_gain(-6.0))
    np.testing.assert_array_equal(out[ramp : ramp + track.size], gain * track)
    lead = out[:ramp]
    assert abs(lead[0]) < 1e-6
    loudest = np.array([np.abs(part).max() for part in np.split(lead[: 12 * (ramp // 12)], 12)])
    assert (np.diff(loudest) > 0.0).all(), "it rises, and never falls"
    whole = out[: ramp + track.size]
    steepest = 2.0 * np.pi * 80.0 / RATE * 0.5 * gain
    assert np.abs(np.diff(whole)).max() < 1.2 * steepest, "nothing jumps"
    np.testing.assert_array_equal(back[: track.size], (gain * track).astype(np.float64))


def test_a_track_that_is_shorter_than_the_ramp_is_sent_whole() -> None:
    track, out, back = sent_and_back(RAMP_S, frames=1_000)
    gain = np.float32(db_to_gain(-6.0))
    np.testing.assert_array_equal(back[:1_000], (gain * track).astype(np.float64))
    assert np.abs(out[: int(RAMP_S * RATE) - 1_000]).max() == 0.0


def test_without_a_ramp_nothing_is_put_ahead() -> None:
    track, out, _ = sent_and_back(0.0)
    np.testing.assert_array_equal(out[: track.size], np.float32(db_to_gain(-6.0)) * track)


def test_a_return_that_is_loud_by_itself_stops_a_reamp(
    desk: tuple[SessionFolder, Session],  # noqa: F811
) -> None:
    """AES17: a sine of peak A reads A."""
    for level, howls in ((LOUD_DBFS - 1.0, False), (LOUD_DBFS + 1.0, True)):
        heard = Heard(level)
        if not howls:
            require_quiet_return(heard, RATE, CancelToken())
            continue
        with pytest.raises(RefusedError) as caught:
            reamped(desk, GUITAR_TAKE, device="box", backend_for=lambda _course, one=heard: one)
        assert caught.value.reason == "return_howls"
        assert "Turn the amplifier down first" in caught.value.remedy
        assert heard.sent == 0.0, "not a sample goes out"
    assert "p01" not in {path.name[6:9] for path in (desk[0].path / "audio").iterdir()}


def test_a_send_never_goes_to_what_somebody_listens_by() -> None:
    rig = build("reamp-box", "r")
    course = reamp_course(rig)
    with pytest.raises(RefusedError) as caught:
        wiring.loop_on("box", listening=(3, 4))((course,))
    assert caught.value.reason == "feeds_monitors"
    assert "output 3 of box" in caught.value.what
    assert wiring.loop_on("box", listening=(1, 2))((course,)).channels[1] == (2,)
    out = PortRef(device=course.start.device.id, port=course.start.exit.id)
    tied = rig.with_map(DeviceMap(device="box", ties=(Tie(port=out, channel=2),)))
    with pytest.raises(RefusedError, match="output 2"):
        wiring.loop_on("box", listening=(1, 2))((reamp_course(tied),))


def test_listening_by_a_device_begins_quietly_and_a_server_that_ends_is_told(
    running: JackServer,  # noqa: F811
) -> None:
    running.amp("box", channels=4, gain=1.0)
    player = Player(wiring.listen_on("box", 3), RATE)
    from diaulos.work.listening.player import Channel

    player.set_channels((Channel("a", lambda first, count: np.full(count, 0.5)),), 60 * RATE)
    player.hear({"a"})
    player.set_level(0.0)
    player.play()
    assert player.level_db == -20.0, "on a device that is new"
    spec = StreamSpec(RATE, 256, 4, 0)

    def attempt() -> bool:
        kept: list[np.ndarray] = []
        capture = Capture(wiring.OnDevice("box", (0, 1, 2, 3)), spec, frames=RATE // 2)
        error = capture.run(lambda taken: kept.append(taken.samples))
        if error is not None:
            raise error
        heard = np.median(np.concatenate(kept)[-RATE // 8 :], axis=0)
        if heard[3] < 0.01:
            return False  # opening takes a moment
        np.testing.assert_allclose(heard, [0.0, 0.0, 0.05, 0.05], atol=1e-4)
        return True

    right_or_told(attempt, turns=20)
    running.stop()
    end = time.monotonic() + 30.0
    error = None
    while error is None and time.monotonic() < end:
        error = player.taken_error()
        time.sleep(0.02)
    assert isinstance(error, AudioDeviceError)
    assert not player.playing
    player.close()


def test_a_device_at_another_rate_is_not_listened_by(
    running: JackServer,  # noqa: F811
) -> None:
    output = PortOutput(wiring.OnDevice("system", (), (0, 1)), "system", 44_100,
                        lambda frames: np.zeros((frames, 2), np.float32))  # fmt: skip
    output.start()
    end = time.monotonic() + 30.0
    while output.error is None and time.monotonic() < end:
        time.sleep(0.02)
    assert "48000 Hz, the session at 44100" in str(output.error)
    output.stop()
