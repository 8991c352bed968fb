"""What is remembered of round trips: by device, rate and block, in a file that may be damaged."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from fake_driver import FakeDriver, Faults

from diaulos.errors import AudioDeviceError, CancelledError, StorageError
from diaulos.storage.trips import MOST_TRIPS, TripFile, trips_path
from diaulos.work.capture.smallest import try_blocks
from diaulos.work.capture.trips import NOTHING_ROUND, Trip, WayRound
from diaulos.work.ports import CancelToken, StreamInfo

INFO = StreamInfo(48_000, 0.004, 0.008, "jack", realtime=True, block_frames=256)


def trip(block: int = 256, samples: float = 293.25, device: str = "box") -> Trip:
    return Trip(device, 48_000, block, samples, 0.005, 1, 2)


def test_a_way_round_is_told_measured_or_claimed() -> None:
    assert NOTHING_ROUND.samples(INFO) == 0.0
    assert NOTHING_ROUND.unmeasured(INFO) == ""
    known = WayRound("box", (trip(), trip(512, 805.0)))
    assert known.samples(INFO) == 293.25
    assert known.frames(INFO) == 293
    assert known.unmeasured(INFO) == ""
    claimed = WayRound("box", (trip(512, 805.0), trip(device="other")))
    assert claimed.samples(INFO) == pytest.approx(576.0)
    assert "48000 Hz and 256 frames" in claimed.unmeasured(INFO)
    assert "576 samples" in claimed.unmeasured(INFO)
    told = WayRound("box", (trip(),), told_samples=10.4)
    assert (told.frames(INFO), told.unmeasured(INFO)) == (10, "")


def test_what_was_measured_is_kept_one_for_each_rate_and_block(tmp_path: Path) -> None:
    store = TripFile(tmp_path / "deep" / "round_trips.json")
    assert store.known() == ()
    store.keep(trip())
    store.keep(trip(512, 805.0))
    store.keep(trip(256, 294.0))
    assert store.known() == (trip(256, 294.0), trip(512, 805.0))
    for block in range(MOST_TRIPS + 5):
        store.keep(trip(block))
    assert len(store.known()) == MOST_TRIPS
    assert store.known()[0] == trip(MOST_TRIPS + 4)


@pytest.mark.parametrize(
    "text",
    ["", "[]", "{", '{"trips": 3}', "[" * 5_000, '{"trips": [1, {"device": "x"}, null]}',
     '{"trips": [{"device": "box", "rate_hz": 1e400, "block_frames": 1}]}'],
)  # fmt: skip
def test_a_damaged_file_holds_nothing_and_is_written_anew(tmp_path: Path, text: str) -> None:
    path = tmp_path / "round_trips.json"
    path.write_text(text, "utf-8")
    store = TripFile(path)
    assert store.known() == ()
    store.keep(trip())
    assert store.known() == (trip(),)
    assert json.loads(path.read_text("utf-8"))["version"] == 1


def test_where_it_lies(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    assert trips_path() == tmp_path / "Diaulos" / "round_trips.json"
    (tmp_path / "Diaulos").write_text("a file", "utf-8")
    with pytest.raises(StorageError):
        TripFile(trips_path()).keep(trip())


def test_the_shortest_block_that_loses_nothing_is_found() -> None:
    """Blocks under 256 lose some; nothing is tried behind the one that does not."""
    opened: list[int] = []

    def at(block: int) -> FakeDriver:
        opened.append(block)
        if block == 64:
            return FakeDriver(Faults(skip_at=2_000, skip_frames=128))
        return FakeDriver(Faults(overflow_at=3_000 if block < 256 else None))

    trials = try_blocks(at, 48_000, seconds=0.2)
    assert opened == [64, 128, 256]
    assert [(one.block_frames, one.clean) for one in trials] == [
        (64, False), (128, False), (256, True),
    ]  # fmt: skip
    assert trials[0].lost_frames == 128
    token = CancelToken()
    token.cancel()
    with pytest.raises(CancelledError):
        try_blocks(at, 48_000, seconds=0.2, cancel=token)
    with pytest.raises(AudioDeviceError):
        try_blocks(lambda _b: FakeDriver(Faults(unplug_at=1_000)), 48_000, seconds=0.2)
