"""Real ports by ALSA alone: PipeWire's ALSA plugin stands for a sound card, with a cable."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from contract import LostError, blocks_follow, lengths_hold, right_or_told, sent_round, stop_ends_it
from pipewire_server import PipeWireServer
from test_jack import _children, _noise
from test_pipewire import BLOCK, server  # noqa: F401 - fixture

from diaulos.audio import devices
from diaulos.audio.alsa_backend import BLOCKS, AlsaDevices
from diaulos.audio.output import SystemOutput
from diaulos.errors import AudioDeviceError
from diaulos.signal.delay import find_alignment
from diaulos.wiring import OnDevice
from diaulos.work.capture.ring import Taken
from diaulos.work.capture.stream import Capture
from diaulos.work.ports import StreamSpec
from support import RATE

CARD = """
pcm.card { type pipewire  playback_node "Box out"  capture_node "Box in"
  hint { show on  description "Card" } }
"""
ALSA = Path("/usr/share/alsa/alsa.conf")


@pytest.fixture
def card(
    server: PipeWireServer,  # noqa: F811
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> Iterator[str]:
    """A card by name, with a cable from its first output to its first input."""
    plugin = list(Path("/usr/lib").glob("*/alsa-lib/libasound_module_pcm_pipewire.so"))
    if not plugin or not ALSA.exists():
        if os.environ.get("CI"):
            pytest.fail("pipewire-alsa is not installed")
        pytest.skip("pipewire-alsa is not installed")
    (tmp_path / "asound.conf").write_text(ALSA.read_text("utf-8") + CARD, "utf-8")
    monkeypatch.setenv("ALSA_CONFIG_PATH", str(tmp_path / "asound.conf"))
    server.link("Box out:monitor_FL", "Box in:input_FL")
    yield "card"
    assert _children("alsa_child") == [], "a process was left behind"


def test_a_card_is_listed_behind_the_servers_devices(card: str) -> None:
    found = AlsaDevices().look().device(card)
    assert found is not None
    assert (found.backend, found.block_frames) == ("alsa", BLOCKS)
    assert found.inputs > 1
    assert found.outputs > 1
    names = [one.name for one in devices.look().devices]
    assert names.index("Box in") < names.index(card)
    assert devices.find(card).name == card
    with pytest.raises(AudioDeviceError) as caught:
        devices.find("nowhere")
    assert card in caught.value.remedy


def test_it_keeps_the_contract_of_every_back_end(card: str) -> None:
    def attempt() -> bool:
        blocks_follow(OnDevice(card, block_frames=BLOCK), may_lose=True)
        stop_ends_it(OnDevice(card, block_frames=BLOCK))
        for block in (256, 1_024):
            lengths_hold(OnDevice(card, block_frames=block), block)
        return True

    right_or_told(attempt)
    with pytest.raises(AudioDeviceError, match="no input 1000"):
        OnDevice(card, (999,)).open(StreamSpec(RATE, 256), lambda *_: True)
    with pytest.raises(AudioDeviceError) as caught:
        OnDevice(card).open(StreamSpec(1_000_000, 256), lambda *_: True)
    assert caught.value.remedy


def test_what_goes_out_comes_back_at_its_level(card: str) -> None:
    """Every sample of it, or the loss is told. Behind a timer the way round differs from opening
    to opening, and what a plugin drops at its start it tells nobody: it is looked for by ear."""
    sent = _noise(2.0)

    def attempt() -> bool:
        back, lost = sent_round(OnDevice(card, block_frames=BLOCK), sent, RATE)
        found = find_alignment(sent.astype(np.float64), back, float(RATE))
        at = round(found.delay_samples)
        kept = back[at : at + sent.size]
        whole = kept.size == sent.size and np.abs(kept - sent).max() < 1e-6
        if lost:
            raise LostError
        if not whole:
            return False
        assert found.polarity == 1
        assert found.delay_samples == pytest.approx(at, abs=0.02)
        return True

    right_or_told(attempt)


def test_the_systems_output_is_played_by_in_a_process_of_its_own(card: str, tmp_path: Path) -> None:
    conf = tmp_path / "asound.conf"
    default = 'pcm.!default { type pipewire  playback_node "Box out"  hint.show on }'
    conf.write_text(conf.read_text("utf-8") + default, "utf-8")
    asked: list[int] = []

    def fill(frames: int) -> np.ndarray:
        asked.append(frames)
        return np.full((frames, 2), 0.25, np.float32)

    def attempt() -> bool:
        stream = SystemOutput().open(RATE, fill)
        stream.start()
        end = time.monotonic() + 20.0
        while sum(asked) < RATE and time.monotonic() < end:
            time.sleep(0.05)
        kept: list[np.ndarray] = []
        capture = Capture(OnDevice("Box in"), StreamSpec(RATE, 256, 1, 0), frames=RATE)
        try:
            failed = capture.run(lambda taken: kept.append(taken.samples))
            if stream.error or failed or capture.xruns:
                raise LostError
            return abs(float(np.median(np.concatenate(kept))) - 0.25) < 1e-3
        finally:
            stream.stop()

    right_or_told(attempt)
    assert sum(asked) > 0


def test_a_process_that_dies_is_an_unplugged_card(card: str) -> None:
    """What came until then is kept."""
    kept: list[np.ndarray] = []
    capture = Capture(OnDevice(card, (0, 1), block_frames=BLOCK), StreamSpec(RATE, 256, 2, 0))

    def end() -> None:
        for child in _children("alsa_child", wait=False):
            os.kill(int(child), signal.SIGKILL)

    def consume(taken: Taken) -> None:
        kept.append(taken.samples)
        if not ending and sum(one.shape[0] for one in kept) > RATE // 2:
            ending.append(time.monotonic())
            threading.Thread(target=end).start()

    ending: list[float] = []
    failed = capture.run(consume)
    assert isinstance(failed, AudioDeviceError)
    if ending:  # else it went by itself, on a computer that is held up
        assert time.monotonic() - ending[0] < 20.0
        assert sum(one.shape[0] for one in kept) > RATE // 4


def test_without_anything_there_is_nothing(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    (tmp_path / "none.conf").write_text("", "utf-8")
    monkeypatch.setenv("ALSA_CONFIG_PATH", str(tmp_path / "none.conf"))
    assert AlsaDevices().look().devices == ()
    with pytest.raises(AudioDeviceError) as told:
        devices.open_stream(StreamSpec(RATE, 256, 1, 1, device="gone"), lambda *_: False)
    # The window says it, too: no word of the shell.
    assert str(told.value).startswith("there is no device 'gone'. Plug it in or start it")
    assert "--" not in str(told.value)


def test_the_process_that_holds_the_ports_imports_little() -> None:
    words = (
        "import sys; import diaulos.audio.alsa_child; "
        "print(sorted({m.split('.')[0] for m in sys.modules} & "
        "{'PySide6', 'scipy', 'pydantic', 'networkx', 'soundfile', 'jack', 'typer'}))"
    )
    done = subprocess.run([sys.executable, "-c", words], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
