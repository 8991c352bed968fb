"""The contract that every back end keeps, and what reading through one survives.

The contract itself is `contract.py`; real ports keep it in test_jack, test_pipewire and test_alsa.
A driver that misbehaves stands beside them.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np
import pytest
from contract import blocks_follow, impossible_is_refused, lengths_hold, stop_ends_it
from fake_driver import PATIENCE_S, FakeDriver, Faults
from known_source import KnownBackend, known

from diaulos import wiring
from diaulos.audio.bench_backend import BenchBackend
from diaulos.audio.player_backend import PlayerBackend
from diaulos.audio.rig_backend import RigBackend, over_and_over
from diaulos.errors import AudioDeviceError, CancelledError, StorageError
from diaulos.rig.bench import BenchFaults
from diaulos.rig.catalogue import reamp_rig
from diaulos.rig.course import reamp_course
from diaulos.rig.graph import RigGraph
from diaulos.rig.templates import build
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.loop import run_loop
from diaulos.work.capture.recorder import Recorder
from diaulos.work.ports import AudioBackend, BlockStatus, BlockTime, CancelToken
from diaulos.work.rigs.audio import Played
from support import RATE


def _rig_backend(paced: bool) -> RigBackend:
    rig = build("hybrid", "rig01")
    graph = RigGraph(rig)
    (source,) = (d.id for d in rig.devices if d.kind == "instrument")
    volts = 0.1 * np.sin(np.arange(9_000) / 20.0)
    played = Played(source, over_and_over(volts))
    tracks = tuple(track.port for track in rig.tracks)[:1]
    return RigBackend(graph, tracks, (played,), BenchFaults(seed=1), paced=paced)


BACKENDS: dict[str, Callable[[], AudioBackend]] = {
    "bench loop": lambda: BenchBackend((reamp_course(reamp_rig()),), BenchFaults(seed=2)),
    "bench rig": lambda: _rig_backend(False),
    "bench rig, paced": lambda: _rig_backend(True),
    "bench player": lambda: PlayerBackend(0.1 * np.sin(np.arange(9_000) / 20.0), 12.0),
    "known": KnownBackend,
    "fake driver": FakeDriver,
    "fake driver, real time": lambda: FakeDriver(realtime=True),
}


@pytest.fixture(autouse=True)
def _nothing_left() -> Iterator[None]:
    yield
    end = time.monotonic() + 5.0
    names = ("audio stream", "take writer", "read ahead")
    while any(t.name in names for t in threading.enumerate()) and time.monotonic() < end:
        time.sleep(0.01)
    assert [t.name for t in threading.enumerate() if t.name in names] == []


# --- the contract ---


@pytest.mark.parametrize("name", BACKENDS)
def test_blocks_follow_one_another_until_the_callback_ends_it(name: str) -> None:
    blocks_follow(BACKENDS[name]())


@pytest.mark.parametrize("name", BACKENDS)
def test_stop_from_another_thread_ends_it(name: str) -> None:
    stop_ends_it(BACKENDS[name]())


@pytest.mark.parametrize("name", BACKENDS)
def test_what_is_read_is_the_same_at_any_block_size(name: str) -> None:
    heard = [lengths_hold(BACKENDS[name](), block) for block in (64, 1_000)]
    if name == "bench loop":  # its buffers are of a block: what comes back is later
        return
    np.testing.assert_allclose(heard[0], heard[1], atol=2e-6)


@pytest.mark.parametrize("name", BACKENDS)
def test_an_impossible_stream_is_refused_in_words(name: str) -> None:
    if name in ("known", "fake driver", "fake driver, real time"):
        pytest.skip("takes what it is given")
    impossible_is_refused(BACKENDS[name]())


def test_the_bench_is_a_device_in_the_list() -> None:
    (bench,) = wiring.device_list().look().devices
    assert bench.backend == "bench"
    assert RATE in bench.rates_hz
    assert FakeDriver().look().devices[0].name == "Fake driver"


# --- what reading survives ---


class Kept:
    """A file in memory."""

    def __init__(self) -> None:
        self.blocks: list[np.ndarray] = []
        self.clipped_samples = 0
        self.closed = False

    @property
    def frames(self) -> int:
        return sum(block.size for block in self.blocks)

    @property
    def samples(self) -> np.ndarray:
        return np.concatenate([block.reshape(-1) for block in self.blocks])

    def write(self, samples: np.ndarray) -> None:
        self.blocks.append(samples)

    def close(self) -> None:
        self.closed = True

    def abandon(self) -> None:
        self.blocks.clear()


def wanted(frames: int, channel: int = 0) -> np.ndarray:
    return known(np.arange(frames), channel).astype(np.float32)


@pytest.mark.parametrize("realtime", [False, True])
def test_a_cycle_that_never_ran_is_silence_in_its_place(realtime: bool) -> None:
    driver = FakeDriver(Faults(skip_at=10_000, skip_frames=1_536), realtime=realtime)
    sinks = [Kept(), Kept()]
    done = Recorder(driver, sinks, RATE, frames=24_000).run()
    (gap,) = done.dropouts
    assert gap.frames == 1_536
    assert done.frames == 24_000
    assert done.xruns == 1
    hole = slice(gap.frame, gap.frame + gap.frames)
    for channel, sink in enumerate(sinks):
        expected = wanted(24_000, channel)
        expected[hole] = 0.0
        assert np.array_equal(sink.samples, expected)


def test_other_block_sizes_change_nothing() -> None:
    sink = Kept()
    driver = FakeDriver(Faults(sizes=(1, 511, 64, 8_192, 300)))
    done = Recorder(driver, [sink], RATE, frames=50_000, start_frame=77).run()
    assert np.array_equal(sink.samples, known(77 + np.arange(50_000), 0).astype(np.float32))
    assert done.dropouts == ()


def test_a_driver_that_tells_of_an_overflow_is_counted_once() -> None:
    done = Recorder(FakeDriver(Faults(overflow_at=5_000)), [Kept()], RATE, frames=20_000).run()
    assert done.xruns == 1


@pytest.mark.parametrize(
    ("faults", "words"),
    [
        (Faults(unplug_at=20_000), "unplugged"),
        (Faults(rate_at=20_000), "44100 Hz"),
        (Faults(stall_at=20_000), "stopped answering"),
    ],
    ids=["unplugged", "other rate", "stalled"],
)
def test_a_device_that_goes_ends_it_and_what_came_is_kept(faults: Faults, words: str) -> None:
    driver = FakeDriver(faults, realtime=True)
    sink = Kept()
    try:
        done = Recorder(driver, [sink], RATE, frames=10 * RATE).run()
    finally:
        driver.gone.set()
    assert done.stopped_by is not None
    assert words in str(done.stopped_by)
    assert 19_000 <= done.frames <= 20_000
    assert np.array_equal(sink.samples, wanted(done.frames))
    assert sink.closed


def test_a_process_that_is_held_up_does_not_take_its_device_for_gone() -> None:
    """The device's own process gives signs of life."""
    done = Recorder(
        FakeDriver(Faults(hold_at=20_000), realtime=True), [Kept()], RATE, frames=40_000
    ).run()
    assert done.stopped_by is None
    assert done.frames == 40_000


def test_a_computer_that_stands_still_does_not_take_its_device_for_gone() -> None:
    """Nothing runs for a second, the device's own process no more than this one: as on a computer
    that is held up as a whole. Time in which nobody could look is no sign."""
    driver = FakeDriver(Faults(hold_at=20_000), realtime=True, signs=False)
    looks = 0

    def look() -> None:
        nonlocal looks
        looks += driver.held.is_set()
        if looks == 2:
            time.sleep(2.0 * PATIENCE_S)
        elif looks == 3:
            driver.gone.set()  # whatever held it up is over

    done = Recorder(driver, [Kept()], RATE, frames=30_000).run(look)
    assert looks >= 3
    assert done.stopped_by is None
    assert done.frames == 30_000


def test_a_device_at_another_rate_is_refused() -> None:
    with pytest.raises(AudioDeviceError, match="44100 Hz"):
        Recorder(FakeDriver(Faults(opens_at_hz=44_100)), [Kept()], RATE, frames=100).run()


@pytest.mark.parametrize("stalled", [False, True])
def test_cancel_answers_although_the_device_does_not(stalled: bool) -> None:
    """A stream that has stopped calling back cannot hold whoever asked."""
    driver = FakeDriver(Faults(stall_at=5_000 if stalled else None), realtime=True)
    token = CancelToken()
    threading.Timer(0.2, token.cancel).start()
    try:
        with pytest.raises(CancelledError):
            Recorder(driver, [Kept()], RATE).run(token.check)
    finally:
        driver.gone.set()


def test_a_writer_that_fails_ends_it() -> None:
    class Full(Kept):
        def write(self, samples: np.ndarray) -> None:
            raise StorageError("The disk is full.")

    done = Recorder(FakeDriver(), [Full()], RATE, frames=10 * RATE).run()
    assert "disk is full" in str(done.stopped_by)


# --- loops ---


class Mirror:
    """Gives back what it gets, 700 frames later; a cycle is lost on request."""

    def __init__(self, skip_at: int | None = None) -> None:
        self.skip_at = skip_at

    def open(self, spec, callback):  # type: ignore[no-untyped-def]
        self.spec, self.callback, self.xruns, self.stopped = spec, callback, 0, False
        self.info = FakeDriver().open(spec, callback).info
        return self

    def run(self) -> None:
        line = np.zeros((700, 1), np.float32)
        at, count = 0, self.spec.block_frames
        while not self.stopped:
            outputs = np.zeros((count, 1), np.float32)
            inputs, line = line[:count], line[count:]
            if self.skip_at is not None and at <= self.skip_at < at + count:
                at, self.skip_at = at + count, None  # its sound is lost, its time is not
                line = np.concatenate([line, outputs])
                continue
            if not self.callback(inputs, outputs, count, BlockTime(at), BlockStatus()):
                return
            line = np.concatenate([line, outputs])
            at += count

    def stop(self) -> None:
        self.stopped = True


@pytest.mark.parametrize("skip", [None, 9_000])
def test_a_lost_cycle_of_a_loop_moves_nothing_behind_it(skip: int | None) -> None:
    """What comes after a lost block stands where it would stand without the loss."""
    track = known(np.arange(20_000), 0).astype(np.float32)
    sink = Kept()
    result = run_loop(
        Mirror(skip), iter([track[:7_000], track[7_000:]]), track.size, RATE, -6.0206, [sink],
        lambda *_: None, CancelToken(), block_frames=500,
    )  # fmt: skip
    back = sink.samples
    assert back.size == result.frames
    assert result.lost_frames == (0 if skip is None else 500)
    half = track * np.float32(10.0 ** (-6.0206 / 20.0))
    heard = back[700 : 700 + track.size]
    if skip is not None:
        # Silence where the input was lost, and where what was sent then comes back.
        for first in (9_000 - 700, 9_000):
            assert not heard[first : first + 500].any()
            heard[first : first + 500] = half[first : first + 500]
    np.testing.assert_allclose(heard, half, atol=1e-7)
    assert not back[:700].any()


def test_what_is_sent_is_read_ahead_of_the_callback() -> None:
    """The callback never reads: the track's blocks are asked for in another thread."""
    asked: set[str] = set()

    def blocks() -> Iterator[np.ndarray]:
        for _ in range(10):
            asked.add(threading.current_thread().name)
            yield np.ones(5_000, np.float32)

    run_loop(
        Mirror(), blocks(), 50_000, RATE, 0.0, [Kept()], lambda *_: None, CancelToken(),
        block_frames=500,
    )  # fmt: skip
    assert asked == {"read ahead"}


def test_a_send_that_is_not_read_in_time_is_counted() -> None:
    """A hole in what is sent is a hole in the pass: it must not go untold."""
    ended = threading.Event()

    class Live(Mirror):
        def open(self, spec, callback):  # type: ignore[no-untyped-def]
            super().open(spec, callback)
            self.info = replace(self.info, realtime=True)
            return self

        def run(self) -> None:
            try:
                super().run()
            finally:
                ended.set()

    def blocks() -> Iterator[np.ndarray]:
        yield np.ones(5_000, np.float32)
        ended.wait(60.0)  # the disk comes too late
        yield np.ones(5_000, np.float32)

    result = run_loop(
        Live(), blocks(), 10_000, RATE, 0.0, [Kept()], lambda *_: None, CancelToken(),
        block_frames=500,
    )  # fmt: skip
    assert result.xruns >= 10


def test_a_track_that_cannot_be_read_ends_the_loop() -> None:
    def blocks() -> Iterator[np.ndarray]:
        yield np.ones(5_000, np.float32)
        raise StorageError("The file is gone.")

    with pytest.raises(StorageError, match="gone"):
        run_loop(Mirror(), blocks(), 50_000, RATE, 0.0, [Kept()], lambda *_: None, CancelToken(),
                 block_frames=500)  # fmt: skip


def test_ahead_is_silent_when_it_ends() -> None:
    ahead = Ahead(iter([np.ones((100, 1), np.float32)]), 1, RATE)
    ahead.start()
    out = np.zeros((300, 1), np.float32)
    ahead.fill(0, out, wait=True)
    ahead.close()
    assert out[:100].all()
    assert not out[100:].any()
    assert ahead.late_frames == 0
