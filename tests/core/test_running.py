"""The running loop: known changes are told within half a decibel after three seconds."""

from __future__ import annotations

import threading

import numpy as np
import pytest

from diaulos.audio.bench_backend import BenchBackend
from diaulos.errors import AudioDeviceError
from diaulos.rig.bench import BenchFaults, LoopBench
from diaulos.rig.course import reamp_course
from diaulos.rig.model import Rig
from diaulos.rig.plan import return_control, solve_send
from diaulos.rig.states import in_state
from diaulos.rig.templates import build
from diaulos.units import db_to_gain
from diaulos.work.ports import BlockStatus, BlockTime, StreamCallback, StreamInfo, StreamSpec
from diaulos.work.reamp.running import (
    TOLD_S,
    RunningLoop,
    Told,
    compare,
    unexplained_db,
)
from support import RATE, performance

CLOSE_DB = 0.5
DI = (0.3 * performance(seconds=5.0, seed=3)).astype(np.float32)


def loop_of(rig: Rig) -> BenchBackend:
    return BenchBackend((reamp_course(rig),), BenchFaults(seed=5))


def send_db(rig: Rig) -> float:
    return solve_send(reamp_course(rig), 20.0 * np.log10(np.abs(DI).max()), 12.0).gain_db


class Watched:
    """A loop in a thread of its own, looked at by the frames that came."""

    def __init__(self, rig: Rig) -> None:
        self.loop = RunningLoop(DI, RATE, send_db(rig))
        self.told: list[Told] = []
        self._may = threading.Semaphore(0)
        self._came = threading.Semaphore(0)
        self.error: BaseException | None = None
        self._thread = threading.Thread(target=self._run, args=(loop_of(rig),))
        self._thread.start()

    def _run(self, backend: BenchBackend) -> None:
        try:
            self.loop.run(backend, self._tell)
        except BaseException as error:
            self.error = error
            self._came.release()

    def _tell(self, told: Told) -> None:
        self.told.append(told)
        self._came.release()
        self._may.acquire()

    def seconds(self, count: float) -> Told:
        """Let it run for so long; the figures then."""
        for _ in range(round(count / TOLD_S)):
            self._came.acquire()
            if self.error is not None:
                raise self.error
            self._may.release()
        return self.told[-1]

    def end(self) -> None:
        self.loop.stop()
        for _ in range(1_000):
            self._may.release()
        self._thread.join(30.0)
        assert not self._thread.is_alive()


@pytest.fixture
def watched():  # type: ignore[no-untyped-def]
    made: list[Watched] = []

    def make(rig: Rig) -> Watched:
        made.append(Watched(rig))
        return made[-1]

    yield make
    for one in made:
        one.end()


def clean_rig() -> Rig:
    rig = in_state(build("reamp-box", "r"), "reamp")
    return rig.with_setting("amp", "voice", "lantern").with_setting("amp", "drive", 2.0)


def played(rig: Rig, seconds: float = 15.0) -> np.ndarray:
    """The same range round and round through a rig, as the bench plays it without noise."""
    bench = LoopBench((reamp_course(rig),), RATE, BenchFaults(noise=False))
    rounds = int(np.ceil(seconds * RATE / DI.size))
    sent = np.tile(DI.astype(float), rounds) * db_to_gain(send_db(rig))
    return bench.process(sent)[:, 0][-2 * DI.size : -DI.size]


def test_what_did_not_change_differs_by_nothing(watched) -> None:  # type: ignore[no-untyped-def]
    one = watched(clean_rig())
    one.seconds(6.0)
    assert one.loop.hold() > 0.9
    found = one.seconds(4.0).difference
    assert found is not None
    assert abs(found.level_db) < 0.05
    assert max(abs(db) for hz, db in found.bands if hz > 80.0) < 0.3
    assert abs(found.drive_db) < 0.5


@pytest.mark.parametrize(
    ("device", "setting", "value"),
    [("amp", "treble", 9.0), ("amp", "bass", 1.0), ("load_box", "cabinet", "closed-four")],
)
def test_a_known_change_is_told(watched, device: str, setting: str, value: object) -> None:  # type: ignore[no-untyped-def]
    """Against the two settings played by the bench by themselves, third octave by third octave."""
    rig = clean_rig()
    turned = rig.with_setting(device, setting, value)
    one = watched(rig)
    one.seconds(6.0)
    one.loop.hold()
    one.loop.change(loop_of(turned))
    one.seconds(1.0)
    found = one.seconds(3.5).difference
    assert found is not None
    truth = compare(played(turned), played(rig), None, float(RATE))
    assert found.level_db == pytest.approx(truth.level_db, abs=CLOSE_DB)
    wanted = dict(truth.bands)
    told = [(hz, db) for hz, db in found.bands if hz in wanted and 80.0 < hz < 6_000.0]
    assert len(told) > 12
    assert max(abs(wanted[hz]) for hz, _ in told) > 1.0, "there is something to tell"
    for hz, db in told:
        assert db == pytest.approx(wanted[hz], abs=CLOSE_DB), hz
    assert abs(found.drive_db) < 1.0, "a tone control is no drive"
    mean = np.mean([db - wanted[hz] for hz, db in told])
    assert abs(mean) < CLOSE_DB


def test_a_gain_is_level_and_no_tone(watched) -> None:  # type: ignore[no-untyped-def]
    rig = clean_rig()
    device, knob = return_control(reamp_course(rig))
    turned = rig.with_setting(device.id, knob.id, knob.value + 6.0)
    one = watched(rig)
    one.seconds(6.0)
    one.loop.hold()
    one.loop.change(loop_of(turned))
    one.seconds(1.0)
    found = one.seconds(3.5).difference
    assert found.level_db == pytest.approx(6.0, abs=0.1)
    for hz, db in found.bands:
        if hz > 80.0:
            assert db == pytest.approx(6.0, abs=CLOSE_DB)
    assert abs(found.drive_db) < 1.0


def test_more_drive_is_told_as_drive(watched) -> None:  # type: ignore[no-untyped-def]
    rig = clean_rig()
    one = watched(rig)
    one.seconds(6.0)
    one.loop.hold()
    one.loop.change(loop_of(rig.with_setting("amp", "drive", 9.0)))
    one.seconds(1.0)
    assert one.seconds(3.5).difference.drive_db > 1.5


def test_a_pass_is_a_reference_too(watched) -> None:  # type: ignore[no-untyped-def]
    rig = clean_rig()
    one = watched(rig)
    assert not one.loop.hold_this(np.zeros(DI.size)), "nobody knows how late it is yet"
    one.seconds(6.0)
    back = one.loop.last_round
    assert one.loop.hold_this(0.5 * back)
    found = one.seconds(3.0).difference
    assert found.level_db == pytest.approx(20.0 * np.log10(2.0), abs=0.1)
    assert np.abs(one.loop.reference - 0.5 * back).max() < 1e-6


def test_what_is_touched_is_not_compared_with_what_was(watched) -> None:  # type: ignore[no-untyped-def]
    one = watched(clean_rig())
    one.seconds(6.0)
    one.loop.hold()
    one.loop.touched()
    assert one.loop.figures().difference is None
    assert one.seconds(3.0).difference is not None


def test_a_device_that_fails_ends_it() -> None:
    class Broken:
        def open(self, spec: object, callback: object) -> None:
            raise AudioDeviceError("it is gone.", where="box", remedy="Plug it in.")

    with pytest.raises(AudioDeviceError, match="gone"):
        RunningLoop(DI, RATE, 0.0).run(Broken(), lambda _told: None)


def test_what_the_di_explains() -> None:
    rng = np.random.default_rng(1)
    di = rng.standard_normal(4 * RATE)
    linear = np.convolve(di, [0.5, 0.3, -0.2])[: di.size]
    clipped = np.clip(di, -0.5, 0.5)
    assert unexplained_db(di, linear, RATE) < -28.0
    driven = unexplained_db(di, clipped, RATE)
    assert driven > -12.0
    behind = np.convolve(clipped, [0.2, -0.6, 0.4])[: di.size]
    assert unexplained_db(di, behind, RATE) == pytest.approx(driven, abs=0.5), "a filter behind it"
    noise = rng.standard_normal(di.size)
    assert unexplained_db(di, noise, RATE) > -0.5


class Skipping:
    """A cable from the output to the input whose driver leaves cycles out: nothing goes out for
    them, and nothing comes in."""

    LATE = 2_048

    def __init__(self, skips: dict[int, int]) -> None:
        self.skips = skips

    def open(self, spec: StreamSpec, callback: StreamCallback) -> Skipping:
        self.info = StreamInfo(spec.rate_hz, 0.0, 0.0, "cable", False, block_frames=1_024)
        self.callback, self.xruns, self.ended = callback, 0, threading.Event()
        return self

    def run(self) -> None:
        at, sent = 0, np.zeros(120 * RATE, np.float32)
        due = dict(self.skips)
        while not self.ended.is_set():
            for frame in [one for one in due if one <= at]:
                at += due.pop(frame)
                self.xruns += 1
            back = sent[at : at + 1_024, None].copy()
            out = np.zeros((1_024, 1), np.float32)
            if not self.callback(back, out, 1_024, BlockTime(at), BlockStatus()):
                return
            sent[at + self.LATE : at + self.LATE + 1_024] = out[:, 0]
            at += 1_024

    def stop(self) -> None:
        self.ended.set()


def test_sound_that_was_lost_is_not_compared_and_shifts_nothing() -> None:
    """A cycle that never ran: its place has no sound, and all behind it stays in its place."""
    loop, told = RunningLoop(DI, RATE, 0.0), list[Told]()

    def look(now: Told) -> None:
        told.append(now)
        if len(told) == 14:  # 7 s: more than a round
            loop.hold()
        if len(told) == 30:
            loop.stop()

    loop.run(Skipping({8 * RATE: 5_000, 8 * RATE + 20_000: 300}), look)
    assert told[-1].lost == 5_300
    after = [one for one in told if one.lost]
    assert after[0].difference is None
    assert after[0].waits == "lost"
    for one in told[16:]:
        if one.difference is not None:
            assert abs(one.difference.level_db) < 0.05
            assert max(abs(db) for hz, db in one.difference.bands if hz > 80.0) < 0.3
    assert told[-1].difference is not None, "it is compared again"
    assert told[-1].waits == ""


def test_a_part_that_is_not_held_is_told() -> None:
    loop, told = RunningLoop(DI, RATE, 0.0), list[Told]()

    def look(now: Told) -> None:
        told.append(now)
        if len(told) == 5:  # half a round of 5 s
            loop.hold()
        if len(told) == 14:
            loop.stop()

    loop.run(Skipping({}), look)
    assert {one.waits for one in told[:4]} == {"change", "no reference"}
    assert "not held" in {one.waits for one in told[5:10]}
    assert any(one.difference for one in told[10:])
