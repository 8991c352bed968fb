"""Real ports by JACK: a server without a sound card, and another program's amplifier on it."""

from __future__ import annotations

import itertools
import os
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from contract import (
    LostError,
    keeps_all,
    right_or_told,
    sent_round,
)
from foreign_amp import RAMP
from jack_server import JackServer, environment
from test_backends import Kept

from diaulos.audio.child_stream import ChildStream
from diaulos.audio.jack_backend import JackBackend, JackDevices
from diaulos.audio.port_ring import GAPS, RING_FRAMES, Count, PortRing, PortSide, spans
from diaulos.errors import AudioDeviceError
from diaulos.signal.delay import find_alignment
from diaulos.wiring import blocks_of
from diaulos.work.capture.recorder import Recorder
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import CancelToken, StreamSpec
from support import RATE

SECONDS = 4


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[JackServer]:
    if shutil.which("jackd") is None:
        if os.environ.get("CI"):
            pytest.fail("jackd is not installed")
        pytest.skip("jackd is not installed")
    name = f"diaulos-{os.environ.get('PYTEST_XDIST_WORKER', 'main')}"
    made = JackServer(name, tmp_path_factory.mktemp("jack") / "jackd.log")
    before = {key: os.environ.get(key) for key in environment(name)}
    os.environ.update(environment(name))
    made.start()
    yield made
    made.stop()
    for key, value in before.items():
        if value is None:
            os.environ.pop(key, None)
        else:
            os.environ[key] = value


@pytest.fixture
def running(server: JackServer) -> Iterator[JackServer]:
    """The server, started again where the test before ended it."""
    if server.process is None or server.process.poll() is not None:
        server.start()
    yield server
    server.end_amps()
    assert _children() == [], "a process was left behind"


@pytest.fixture
def alone(server: JackServer) -> Iterator[JackServer]:
    """A server that goes on without a client that has gone: what people have."""
    server.stop()
    server.sync = False
    server.start()
    yield server
    server.stop()
    server.sync = True
    assert _children() == [], "a process was left behind"


def _children(module: str = "jack_child", *, wait: bool = True) -> list[str]:
    """Processes of ours that hold ports; with `wait`, those that are left after a while: a busy
    computer takes long to end one."""
    end = time.monotonic() + (20.0 if wait else 0.0)
    while True:
        done = subprocess.run(
            ["pgrep", "-P", str(os.getpid()), "-f", module], capture_output=True, text=True,
            check=False,
        )  # fmt: skip
        found = done.stdout.split()
        if not found or time.monotonic() > end:
            return found
        time.sleep(0.05)


class On:
    """JACK as a back end on one device, and the stream that was opened last."""

    def __init__(self, device: str) -> None:
        self.device = device
        self.stream: ChildStream | None = None

    def open(self, spec: StreamSpec, callback) -> ChildStream:  # type: ignore[no-untyped-def]
        self.stream = JackBackend().open(replace(spec, device=self.device), callback)
        return self.stream


def _noise(seconds: float, seed: int = 1) -> np.ndarray:
    """Up to 12 kHz: the foreign fraction of a sample is a short filter."""
    rng = np.random.default_rng(seed)
    spectrum = np.fft.rfft(rng.standard_normal(int(seconds * RATE)))
    spectrum[int(12_000 * seconds) :] = 0.0
    wave = np.fft.irfft(spectrum)
    return (0.9 * wave / np.max(np.abs(wave))).astype(np.float32)


# --- the ring ---


def test_a_stretch_that_goes_over_the_end_is_in_two() -> None:
    assert spans(5, 10) == ((5, 10, 0),)
    assert spans(RING_FRAMES - 3, 8) == ((RING_FRAMES - 3, 3, 0), (0, 5, 3))
    assert spans(3 * RING_FRAMES, 4) == ((0, 4, 0),)


def test_both_sides_see_the_same_memory() -> None:
    import mmap

    memory = mmap.mmap(-1, PortRing.size(2, 3))
    one, two = PortRing(memory, 2, 3), PortRing(memory, 2, 3)
    one.set(Count.WRITTEN, 7)
    one.heard[5, 1] = 0.25
    one.played[RING_FRAMES - 1, 2] = -0.5
    one.gaps[GAPS - 1] = (11, 12)
    assert two.get(Count.WRITTEN) == 7
    assert (two.heard[5, 1], two.played[RING_FRAMES - 1, 2]) == (0.25, -0.5)
    assert tuple(two.gaps[GAPS - 1]) == (11, 12)
    assert len(set(Count)) == len(Count)


class Driver:
    """The side of the ports, called as a driver would: a sample tells the frame that it is of."""

    def __init__(self, frames: int = 4) -> None:
        import mmap

        self.ring = PortRing(mmap.mmap(-1, PortRing.size(2, 1)), 2, 1)
        self.ring.set(Count.GO, 1)
        self.ring.set(Count.QUEUED, 1 << 14)
        self.ring.played[:, 0] = np.arange(RING_FRAMES)
        self.side, self.frames = PortSide(self.ring), frames
        self.side.running = True

    def cycle(
        self, now: int, *, of: int | None = None, then: int | None = None, waits: bool = False
    ) -> list[float]:
        """A callback at a time: what was in the buffers `of` another cycle, and what the clock
        tells at the end; no clock of a driver that waits. What was put out."""
        first = now if of is None else of
        heard = [np.arange(first, first + self.frames, dtype=np.float32) for _ in range(2)]
        out = np.full(self.frames, -1.0, np.float32)
        clock = None if waits else (lambda: now if then is None else then)
        self.side.cycle(self.frames, now, heard, [out], clock)
        return [float(value) for value in out]

    def kept(self) -> dict[int, float]:
        """Place and sample of all that is told and no gap."""
        ring = self.ring
        lost = {
            first + n
            for first, frames in ring.gaps[: ring.get(Count.GAPS)].tolist()
            for n in range(frames)
        }
        told = [n for n in range(ring.get(Count.WRITTEN)) if n not in lost]
        assert np.array_equal(ring.heard[told, 0], ring.heard[told, 1])
        return {n: float(ring.heard[n, 0]) for n in told}


def test_a_cycle_that_is_called_twice_moves_nothing() -> None:
    """Late for one cycle, a program is called twice in the next: all that follows stays in its
    place, and the driver is given the same samples again."""
    driver = Driver()
    for now in (0, 4):
        driver.cycle(now)
    first, again = driver.cycle(12, of=8), driver.cycle(12)
    assert first == again == [12.0, 13.0, 14.0, 15.0]
    for now in (16, 20):
        driver.cycle(now)
    kept = driver.kept()
    assert driver.ring.get(Count.WRITTEN) == 24
    assert all(place == sample for place, sample in kept.items())
    assert 24 - len(kept) == driver.ring.get(Count.SKIPPED) == 8


def test_what_a_driver_wrote_over_is_silence_in_its_place() -> None:
    """The driver went on while a cycle was copied: nobody knows which samples are whose."""
    driver = Driver()
    driver.cycle(0)
    driver.cycle(4, of=6, then=8)
    for now in (8, 12):
        driver.cycle(now)
    kept = driver.kept()
    assert sorted(kept) == [0, 1, 2, 3, *range(8, 16)]
    assert all(place == sample for place, sample in kept.items())
    assert driver.ring.get(Count.SKIPPED) == 4


def test_behind_a_gap_of_a_driver_that_hands_on_its_own_input_nothing_is_in_doubt() -> None:
    """ALSA: no other program stands between, so that only what was dropped is lost."""
    driver = Driver()
    for now in (0, 12, 16):
        driver.cycle(now, waits=True)
    kept = driver.kept()
    assert sorted(kept) == [0, 1, 2, 3, *range(12, 20)]
    assert all(place == sample for place, sample in kept.items())
    assert driver.ring.get(Count.SKIPPED) == 8


def test_a_clock_that_goes_back_far_ends_no_stream() -> None:
    driver = Driver()
    for now in (1_000, 1_004, 8, 12):
        driver.cycle(now)
    assert driver.ring.get(Count.WRITTEN) == 16


# --- what is there ---


def test_every_client_with_ports_is_a_device(running: JackServer) -> None:
    running.amp(channels=2)
    found = {one.name: one for one in JackDevices().look().devices}
    assert (found["system"].inputs, found["system"].outputs) == (8, 8)
    assert (found["foreign amp"].inputs, found["foreign amp"].outputs) == (2, 2)
    assert all(one.backend == "jack" and one.rates_hz == (RATE,) for one in found.values())
    assert found["system"].block_frames == (256,)
    assert not any(name.startswith("diaulos") for name in found)


def test_no_server_no_device_no_channel_are_told_with_the_mend(
    running: JackServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    spec = StreamSpec(RATE, 256, device="system")
    with pytest.raises(AudioDeviceError) as caught:
        JackBackend().open(replace(spec, device="nowhere"), lambda *_: True)
    assert "system" in caught.value.remedy
    with pytest.raises(AudioDeviceError, match="no input 9"):
        JackBackend().open(replace(spec, input_map=(8,)), lambda *_: True)
    with pytest.raises(AudioDeviceError, match="48000 Hz, the session at 44100"):
        Capture(On("system"), StreamSpec(44_100, 256), frames=100).run(lambda _t: None)
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "no-such-server")
    assert JackDevices().look().devices == ()
    with pytest.raises(AudioDeviceError, match="no JACK server") as caught:
        JackBackend().open(spec, lambda *_: True)
    assert "jackd" in caught.value.remedy


def test_the_process_that_holds_the_ports_imports_little() -> None:
    """What it loads is loaded at every opening, and in every callback's way."""
    words = (
        "import sys; import diaulos.audio.jack_child; "
        "print(sorted({m.split('.')[0] for m in sys.modules} & "
        "{'PySide6', 'scipy', 'pydantic', 'networkx', 'soundfile', 'sounddevice', 'typer'}))"
    )
    done = subprocess.run([sys.executable, "-c", words], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


# --- the contract, on a live server ---


def test_it_keeps_the_contract_of_every_back_end(running: JackServer) -> None:
    """The server's cycle is the block, whatever is asked for; a computer that is held up may lose
    some, each told."""
    running.amp()

    right_or_told(lambda: keeps_all(lambda: On("foreign amp")))


def test_a_pickup_is_identified_through_a_foreign_circuit(
    running: JackServer, tmp_path: Path
) -> None:
    """Another program applies the response of a coil, a pickup and a load: as at home, by ports."""
    from diaulos.audio.filter_backend import coil_response, response_taps
    from diaulos.circuit.identify import identify
    from diaulos.circuit.loading import Load
    from diaulos.circuit.pickup import Coil, Controls, Magnetic
    from diaulos.work.instruments.sweeping import into_load, swept_response

    circuit = Magnetic((Coil(3.4, 7_100.0, 130e-12, 480e3),), Controls(500e3, 1.0, 500e3))
    cable = Load(farad=420e-12)
    responses = []
    for at, load in enumerate((Load(1e6, 30e-12), Load(45e3, 30e-12))):
        response = coil_response(circuit, Load.together(load, cable), 0.0)
        taps = response_taps(response, RATE)[:2_400]
        file = tmp_path / f"load{at}.npy"
        np.save(file, 40.0 * taps)
        running.amp(response=str(file), noise_dbfs=-100.0)

        def swept(load: Load = load) -> bool:
            found = swept_response(On("foreign amp"), RATE, -20.0)
            responses.append(into_load(found, load.ohm, load.farad))
            return True

        # A computer that is held up may lose a block in every sweep; then it says so.
        right_or_told(swept)
        running.end_amps()
    if len(responses) < 2:
        pytest.skip("no sweep came through whole on this computer, and that was told")
    found = identify(tuple(responses), "slope")
    assert found.told["inductance_h"].value == pytest.approx(3.4, rel=0.02)
    assert found.told["capacitance_f"].value == pytest.approx(550e-12, rel=0.03)
    assert found.told["resistance_ohm"].value == pytest.approx(7_100.0, rel=0.05)


def test_blocks_follow_one_another_and_stop_ends_it(running: JackServer) -> None:
    running.amp()
    seen: list[tuple[int, int]] = []

    def callback(inputs, outputs, count, at, status) -> bool:  # type: ignore[no-untyped-def]
        assert inputs.shape == outputs.shape == (count, 1)
        assert inputs.dtype == outputs.dtype == np.float32
        assert not outputs.any()
        seen.append((at.frame, count))
        return True

    stream = On("foreign amp").open(StreamSpec(RATE, 256), callback)
    assert stream.info.rate_hz == RATE
    assert stream.info.realtime
    assert stream.info.lead_frames == stream.lead_frames >= 0.08 * RATE
    threading.Timer(0.5, stream.stop).start()
    stream.run()
    assert seen[0][0] == 0
    lost = 0
    for (at, count), (following, _) in itertools.pairwise(seen):
        lost += following - (at + count)
    assert lost <= sum(stream.counts[name] for name in ("lost", "skipped"))
    assert sum(count for _, count in seen) > 0.2 * RATE


# --- loops through another program ---


def test_a_clean_foreign_loop_is_measured_to_a_fiftieth_of_a_sample(running: JackServer) -> None:
    sent = _noise(SECONDS)
    found = {}

    def attempt() -> bool:
        back, lost = sent_round(On(name), sent, RATE)
        if lost:
            raise LostError
        found[name] = (find_alignment(sent, back, RATE), back)
        return True

    for name, order in (("straight", {}), ("amp", {"gain": -0.5, "delay_frames": 37.25})):
        running.amp(name, **order)
        right_or_told(attempt)
        running.end_amps()
    if len(found) < 2:
        return  # told each time
    straight, amp = found["straight"][0], found["amp"][0]
    assert straight.delay_samples == pytest.approx(256.0, abs=0.02)
    assert amp.delay_samples - straight.delay_samples == pytest.approx(37.25, abs=0.02)
    assert (straight.polarity, amp.polarity) == (1, -1)
    at = round(straight.delay_samples)
    assert np.array_equal(found["straight"][1][at : at + sent.size], sent), "bit for bit"
    power = float(np.mean(np.square(found["amp"][1][at + 500 : at + sent.size])))
    level = 10.0 * np.log10(power / float(np.mean(np.square(sent[500:]))))
    assert level == pytest.approx(-6.0206, abs=0.05)


def test_eight_channels_lie_in_time_and_every_lost_frame_is_in_its_place(
    running: JackServer,
) -> None:
    """A ramp of whole numbers tells of each sample where it belongs."""
    running.amp("eight", channels=8)
    frames = 3 * RATE
    heard: list[np.ndarray] = []

    def callback(inputs, outputs, count, at, status) -> bool:  # type: ignore[no-untyped-def]
        while at.frame > sum(block.shape[0] for block in heard):
            missing = at.frame - sum(block.shape[0] for block in heard)
            heard.append(np.full((missing, 8), np.nan, np.float32))
        heard.append(inputs.copy())
        ramp = (at.frame + np.arange(count) + 1).astype(np.float32)
        for channel in range(8):
            outputs[:, channel] = ramp + 2**20 * channel
        return bool(at.frame < frames)

    on = On("eight")
    stream = on.open(StreamSpec(RATE, 256, 8, 8), callback)
    stream.run()
    taken = np.concatenate(heard)
    trip = stream.lead_frames + 256
    place = np.arange(taken.shape[0]) - trip + 1
    good = place >= 1
    for channel in range(8):
        values = taken[:, channel]
        there = good & np.isfinite(values) & (values != 0.0)
        assert np.array_equal(values[there], (place[there] + 2**20 * channel).astype(np.float32))
    holes = int(np.count_nonzero(good & (~np.isfinite(taken[:, 0]) | (taken[:, 0] == 0.0))))
    told = sum(stream.counts[name] for name in ("lost", "skipped", "late"))
    assert holes <= 2 * told + 512 * (stream.counts["xruns"] > 0)
    if not any(stream.counts.values()):
        assert holes == 0


# --- when it goes wrong ---


def _recording(on: On, seconds: float = 20.0):  # type: ignore[no-untyped-def]
    sink = Kept()
    recorder = Recorder(on, [sink], RATE, frames=int(seconds * RATE))
    done = []
    thread = threading.Thread(target=lambda: done.append(recorder.run()))
    thread.start()
    end = time.monotonic() + 10.0
    while recorder.captured_frames < RATE // 2 and time.monotonic() < end:
        time.sleep(0.02)
    assert recorder.captured_frames >= RATE // 2
    return sink, thread, done


@pytest.mark.parametrize("turn", [1, 2])
@pytest.mark.parametrize("what", ["server killed", "server stopped", "child killed"])
def test_a_device_that_goes_ends_the_take_and_keeps_it(
    alone: JackServer, what: str, turn: int
) -> None:
    alone.amp()
    on = On("foreign amp")
    sink, thread, done = _recording(on)
    begun = time.monotonic()
    if what == "child killed":
        assert on.stream is not None
        on.stream._child.kill()
    else:
        alone.signal(signal.SIGKILL if what == "server killed" else signal.SIGSTOP)
    thread.join(5.0)
    took = time.monotonic() - begun
    if what == "server stopped":
        alone.signal(signal.SIGCONT)
    assert not thread.is_alive()
    assert took < 2.0
    (result,) = done
    assert isinstance(result.stopped_by, AudioDeviceError)
    assert result.stopped_by.remedy
    assert sink.closed
    assert result.frames == sink.frames >= RATE // 2


def test_a_period_that_changes_ends_nothing(running: JackServer) -> None:
    running.amp("ramp", ramp=1)

    def attempt() -> bool:
        on = On("ramp")
        sink, thread, done = _recording(on, 2.0)
        running.set_block(512)
        thread.join(10.0)
        running.set_block(256)
        assert not thread.is_alive()
        (result,) = done
        if result.stopped_by is not None:
            raise result.stopped_by
        assert result.frames == sink.frames == 2 * RATE
        assert on.stream is not None
        assert on.stream._ring.get(Count.BLOCK) == 512
        assert wrong_samples(sink.samples, result.dropouts) == 0
        return True

    right_or_told(attempt)


def wrong_samples(samples: np.ndarray, dropouts, late: int = 0) -> int:  # type: ignore[no-untyped-def]
    """Of a ramp by the server's own time: samples that are neither in their place nor in a gap.

    A server that does not wait for its clients lets another program's sound come a cycle or two
    late after an xrun; `late` is such a cycle in frames, 0 where the server waits.
    """
    count = np.round(samples.astype(np.float64) * RAMP).astype(np.int64)
    good = np.ones(count.size, bool)
    for gap in dropouts:
        good[gap.frame : gap.frame + gap.frames] = False
    places = np.flatnonzero(good)
    offset = (count[places] - places) % RAMP
    values, times = np.unique(offset, return_counts=True)
    if not values.size:
        return 0
    apart = (offset - values[np.argmax(times)] + RAMP // 2) % RAMP - RAMP // 2
    if late:
        apart = np.where(np.abs(apart) <= 2 * late, apart % late, apart)
    return int(np.count_nonzero(apart))


def test_blocks_are_tried_on_the_server_which_gets_its_own_back(running: JackServer) -> None:
    running.amp()
    trials = blocks_of("foreign amp", CancelToken(), seconds=0.5)
    assert [one.block_frames for one in trials] == [64, 128, 256, 512, 1_024][: len(trials)]
    (amp,) = [one for one in JackDevices().look().devices if one.name == "foreign amp"]
    assert amp.block_frames == (256,)


def test_it_ends_with_the_process_that_started_it(running: JackServer, tmp_path: Path) -> None:
    """A window that is killed leaves no client behind."""
    words = f"""
import json, os, sys
from diaulos.audio.jack_backend import JackBackend
from diaulos.work.ports import StreamSpec
stream = JackBackend().open(StreamSpec({RATE}, 256, device="system"), lambda *_: True)
print(stream._child.pid, flush=True)
sys.stdin.read()
"""
    outer = subprocess.Popen([sys.executable, "-c", words], stdin=subprocess.PIPE,
                             stdout=subprocess.PIPE, text=True)  # fmt: skip
    assert outer.stdout is not None
    child = int(outer.stdout.readline())
    outer.kill()
    outer.wait()
    outer.stdout.close()
    assert outer.stdin is not None
    outer.stdin.close()
    end = time.monotonic() + 5.0
    while Path(f"/proc/{child}").exists() and time.monotonic() < end:
        if "Z" in Path(f"/proc/{child}/stat").read_text().rsplit(")", 1)[1].split()[0]:
            break
        time.sleep(0.05)
    else:
        assert not Path(f"/proc/{child}").exists()
