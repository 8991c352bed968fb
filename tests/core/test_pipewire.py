"""Real ports by PipeWire's JACK server: its own library, found without being told."""

from __future__ import annotations

import os
import shutil
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile
from contract import (
    LostError,
    keeps_all,
    right_or_told,
    sent_round,
)
from pipewire_server import PipeWireServer
from test_cli import run_json
from test_jack import On, _children, _noise

from diaulos.audio.jack_backend import JackDevices, environment, pipewire_library
from diaulos.signal.delay import find_alignment
from diaulos.wiring import round_trip_of
from support import RATE

BLOCK = 1_024
"""Its null devices are driven by a timer, which waits for nobody: with short blocks and without
real-time rights a busy computer loses every tenth."""


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[PipeWireServer]:
    lacking = [name for name in ("pipewire", "wireplumber", "pw-jack", "dbus-daemon")
               if shutil.which(name) is None]  # fmt: skip
    if lacking:
        if os.environ.get("CI"):
            pytest.fail(f"not installed: {', '.join(lacking)}")
        pytest.skip(f"not installed: {', '.join(lacking)}")
    made = PipeWireServer(tmp_path_factory.mktemp("pw"), block=BLOCK)
    before = {key: os.environ.get(key) for key in made.names}
    made.start()
    os.environ.update({key: made.names[key] for key in made.names if key != "XDG_CONFIG_HOME"})
    yield made
    made.stop()
    for key, value in before.items():
        if value is None:
            os.environ.pop(key, None)
        else:
            os.environ[key] = value


@pytest.fixture
def running(server: PipeWireServer) -> Iterator[PipeWireServer]:
    yield server
    server.end_amps()
    assert _children() == [], "a process was left behind"


def test_its_devices_are_listed_by_name(running: PipeWireServer) -> None:
    assert pipewire_library()
    found = {one.name: one for one in JackDevices().look().devices}
    assert {"Box out", "Box in"} <= set(found)
    assert found["Box in"].backend == "pipewire"
    assert found["Box in"].rates_hz == (RATE,)
    assert found["Box in"].block_frames == (BLOCK,)
    assert found["Box in"].input_names == ("capture_FL", "capture_FR")
    assert found["Box out"].output_names == ("playback_FL", "playback_FR")


def test_its_library_goes_ahead_of_what_was_there(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("LD_LIBRARY_PATH", "/somewhere")
    assert environment("/there")["LD_LIBRARY_PATH"] == "/there:/somewhere"
    assert environment("")["LD_LIBRARY_PATH"] == "/somewhere"
    monkeypatch.delenv("XDG_RUNTIME_DIR", raising=False)
    monkeypatch.delenv("PIPEWIRE_RUNTIME_DIR", raising=False)
    assert pipewire_library() == ""


def test_it_keeps_the_contract_of_every_back_end(running: PipeWireServer) -> None:
    running.amp()

    right_or_told(lambda: keeps_all(lambda: On("foreign amp")))


@pytest.mark.parametrize(
    ("device", "gain", "delay"), [("foreign amp", -0.5, 37.25), ("Box out", 1.0, 0.0)]
)
def test_the_way_round_is_measured_to_a_fiftieth_of_a_sample(
    running: PipeWireServer, device: str, gain: float, delay: float
) -> None:
    """Through another program, whose delay and sign are known; a loop in the graph costs one
    period."""
    running.amp(gain=gain, delay_frames=delay)

    def attempt() -> bool:
        found = round_trip_of(device, 1, 1)
        assert found.samples == pytest.approx(BLOCK + delay, abs=0.02)
        assert (found.polarity, found.block_frames) == (1 if gain > 0.0 else -1, BLOCK)
        return True

    right_or_told(attempt)


def test_a_loop_through_another_program_is_level_and_in_place(running: PipeWireServer) -> None:
    """Every sample of it, or the loss is told."""
    running.amp(gain=0.5, delay_frames=100.0)
    sent = _noise(2.0)

    def attempt() -> bool:
        back, lost = sent_round(On("foreign amp"), sent, RATE)
        if lost:
            raise LostError
        at = BLOCK + 100
        assert np.abs(back[at : at + sent.size] - 0.5 * sent).max() < 1e-6
        found = find_alignment(sent.astype(np.float64), back, float(RATE))
        assert found.delay_samples == pytest.approx(at, abs=0.02)
        assert found.polarity == 1
        return True

    right_or_told(attempt)


def test_a_take_is_recorded_from_it_and_a_server_that_dies_keeps_it(
    running: PipeWireServer, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    running.amp("hiss", noise_dbfs=-30.0)
    path = tmp_path / "Mine.diaulos"
    code, _ = run_json(capsys, "new", path, "--plays", "guitar", "--inputs", 4, "--tone", "none")
    assert code == 0

    def attempt() -> bool:
        code, data = run_json(capsys, "record", path, "--seconds", 2, "--device", "hiss")
        if code != 0 or data["reason"]:
            assert data["error"] if code else data["reason"]
            raise LostError
        samples, _ = soundfile.read(str(path / data["tracks"][0]["file"]))
        assert samples.size == 2 * RATE
        kept = samples[samples != 0.0]
        assert 20.0 * np.log10(np.sqrt(np.mean(kept**2))) == pytest.approx(-30.0, abs=0.2)
        return True

    right_or_told(attempt)

    # No callback tells that this server is dead: the watch decides.
    def kill_while_it_records() -> None:
        before = set((path / "audio").iterdir())
        end = time.monotonic() + 30.0
        while time.monotonic() < end:
            new = [one for one in (path / "audio").glob("*.wav") if one not in before]
            if new and new[0].stat().st_size > 3 * RATE:  # a second of 24 bits
                break
            time.sleep(0.05)
        running.kill()

    killer = threading.Thread(target=kill_while_it_records)
    killer.start()
    begun = time.monotonic()
    code, data = run_json(capsys, "record", path, "--seconds", 90, "--device", "hiss")
    killer.join()
    assert time.monotonic() - begun < 80.0, "it did not wait for the whole length"
    if code == 0:
        assert data["reason"]
        assert data["frames"] > RATE // 4
    else:  # it could not even begin, which is told
        assert data["error"]
    running.end_amps()
    running.stop()
    running.start()
