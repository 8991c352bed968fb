"""Playback: quiet at first, in time, looped, at the level that was asked for."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from diaulos.audio.output import SilentOutput, SystemOutput
from diaulos.units import db_to_gain
from diaulos.work.listening.player import MIX_FRAMES, Channel, Player, start_level_db
from support import RATE, RecordingOutput

FRAMES = 20 * MIX_FRAMES
RAMP = np.arange(FRAMES) / FRAMES


def read_ramp(first: int, count: int) -> np.ndarray:
    return RAMP[first : first + count]


def read_half(first: int, count: int) -> np.ndarray:
    return np.full(count, 0.5)


def until(condition: Callable[[], bool]) -> None:
    end = time.monotonic() + 20.0
    while not condition():
        assert time.monotonic() < end, "it did not happen in time"
        time.sleep(0.001)


@pytest.fixture
def player() -> Player:
    made = Player(RecordingOutput(), RATE)
    made.set_channels((Channel("di", read_ramp), Channel("pass", read_half, -6.0)), FRAMES)
    made.hear({"di"})
    yield made
    made.close()


def output(player: Player) -> RecordingOutput:
    assert isinstance(player._stream, RecordingOutput)
    return player._stream


def pull(player: Player, frames: int) -> np.ndarray:
    until(lambda: not player._queue.empty() or player._rest.size > 0 or not player.playing)
    return output(player).pull(frames)[:, 0]


def collect(player: Player, frames: int) -> np.ndarray:
    parts: list[np.ndarray] = []
    while sum(part.size for part in parts) < frames:
        parts.append(pull(player, 512))
    return np.concatenate(parts)


def test_it_plays_what_is_stored_at_minus_20(player: Player) -> None:
    assert player.device == ""  # nothing is opened before the first use
    player.play()
    heard = collect(player, 4096)
    np.testing.assert_allclose(heard, RAMP[: heard.size] * db_to_gain(-20.0), atol=1e-6)
    assert player.level_db == -20.0


def test_match_gain_and_mix(player: Player) -> None:
    player.hear({"di", "pass"})
    player.set_level(0.0)
    player.play()
    player.set_level(0.0)
    heard = collect(player, 1024)
    wanted = np.clip(RAMP[: heard.size] + 0.5 * db_to_gain(-6.0), -1.0, 1.0)
    np.testing.assert_allclose(heard, wanted, atol=1e-6)


def test_never_louder_than_the_last_level_on_another_device() -> None:
    assert start_level_db("new", {}) == -20.0
    assert start_level_db("new", {"other": -32.0}) == -32.0
    assert start_level_db("new", {"other": -3.0}) == -20.0
    assert start_level_db("same", {"same": -40.0, "other": -10.0}) == -20.0
    player = Player(RecordingOutput("headphones"), RATE, {"monitors": -35.0})
    player.set_channels((Channel("di", read_half),), FRAMES)
    player.hear({"di"})
    player.play()
    assert player.level_db == -35.0
    assert player.last_levels_db == {"monitors": -35.0, "headphones": -35.0}
    player.close()


def test_level_has_a_ceiling(player: Player) -> None:
    player.set_level(40.0)
    assert player.level_db == 0.0


def test_seek_and_pause(player: Player) -> None:
    player.seek(5 * MIX_FRAMES)
    player.play()
    heard = collect(player, 512)
    assert heard[0] == pytest.approx(RAMP[5 * MIX_FRAMES] * 0.1, abs=1e-5)
    player.pause()
    place = player.position
    until(lambda: not pull(player, 512).any())
    assert player.position == place
    player.seek(10**9)
    assert player.position == FRAMES


def test_a_loop_repeats(player: Player) -> None:
    first, last = 2 * MIX_FRAMES, 4 * MIX_FRAMES
    player.set_loop((first, last))
    player.seek(first)
    player.set_level(0.0)
    player.play()
    player.set_level(0.0)
    heard = collect(player, 5 * MIX_FRAMES)
    wanted = np.tile(RAMP[first:last], 3)[: heard.size]
    np.testing.assert_allclose(
        heard[: wanted.size], wanted * db_to_gain(player.level_db), atol=1e-6
    )


def test_it_stops_at_the_end_and_begins_again(player: Player) -> None:
    player.seek(FRAMES - 100)
    player.play()
    until(lambda: (pull(player, 512), not player.playing)[1])
    assert player.position == FRAMES
    player.play()
    assert collect(player, 512)[0] == pytest.approx(0.0, abs=1e-6)


def test_switching_keeps_the_place(player: Player) -> None:
    player.set_level(0.0)
    player.play()
    collect(player, 2048)
    place = player.position
    player.hear({"pass"})
    until(lambda: pull(player, 64)[-1] != 0.0)
    assert abs(player.position - place) < 4 * MIX_FRAMES


def test_a_file_that_fails_stops_and_tells(player: Player) -> None:
    def broken(first: int, count: int) -> np.ndarray:
        raise OSError("disk gone")

    player.set_channels((Channel("di", broken),), FRAMES)
    player.play()
    until(lambda: player.error is not None)
    assert not player.playing


def test_the_silent_stand_in_runs_in_real_time() -> None:
    asked = []

    def fill(frames: int) -> np.ndarray:
        asked.append(frames)
        return np.zeros((frames, 2), np.float32)

    silent = SilentOutput(RATE, fill)
    silent.start()
    until(lambda: len(asked) >= 3)
    silent.stop()
    count = len(asked)
    time.sleep(0.05)
    assert len(asked) == count
    assert silent.silent


def test_without_a_device_the_stand_in_is_opened(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """Asked for in a thread; no driver is opened in this process."""
    (tmp_path / "none.conf").write_text("", "utf-8")
    monkeypatch.setenv("ALSA_CONFIG_PATH", str(tmp_path / "none.conf"))
    asked: list[int] = []

    def fill(frames: int) -> np.ndarray:
        asked.append(frames)
        return np.zeros((frames, 2), np.float32)

    stream = SystemOutput().open(RATE, fill)
    assert not asked
    stream.start()
    until(lambda: stream.silent and len(asked) > 2)
    assert stream.error is None
    stream.stop()
    assert "sounddevice" not in sys.modules
