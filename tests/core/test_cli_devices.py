"""The shell on real ports: devices, roundtrip, and the verbs that take a device."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from contract import answered, right_or_told
from jack_server import JackServer
from test_cli import documented, run, run_json
from test_jack import _noise, running, server  # noqa: F401 - fixtures

from diaulos import wiring
from diaulos.errors import AudioDeviceError, InputError, RefusedError
from diaulos.rig.course import reamp_course, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.templates import build
from diaulos.session.model import SIMULATED
from diaulos.wiring import OnDevice, SessionFolder, trip_store
from diaulos.work.capture.mapping import (
    channels_of,
    heard_channel,
    played_channel,
    proposed_channels,
    read_map,
)
from diaulos.work.capture.roundtrip import measure_round_trip
from diaulos.work.ports import DeviceInfo, StreamSpec
from support import RATE


def test_tracks_are_tied_by_name_and_the_rest_in_order() -> None:
    assert read_map(["DI=2", "Amp = loud=1"]) == {"DI": 2, "Amp = loud": 1}
    assert channels_of(["DI", "Amp", "Room"], {"Amp": 1}) == (1, 0, 2)
    assert channels_of(["DI", "Amp"], {}) == (0, 1)
    assert channels_of(["DI", "Amp"], {"DI": 8, "Amp": 3}) == (7, 2)
    assert channels_of(["DI", "Amp", "Room"], {}, (0, 2, 3)) == (0, 2, 3)
    assert channels_of(["DI", "Amp", "Room"], {"DI": 3}, (0, 2, 3)) == (2, 0, 3)
    for wrong in ("DI", "=3", "DI=0", "DI=x"):
        with pytest.raises(InputError, match="ties no track"):
            read_map([wrong])
    with pytest.raises(InputError, match="tied twice"):
        channels_of(["DI", "Amp"], {"DI": 1, "Amp": 1})
    with pytest.raises(InputError) as caught:
        channels_of(["DI", "Amp"], {"Bass": 1})
    assert "DI, Amp" in caught.value.remedy


def test_channels_are_proposed_as_the_rig_numbers_them() -> None:
    """An interface's third input is the third channel that a computer sees."""
    graph = RigGraph(build("hybrid", "r"))
    courses = [one.course for one in trace_all(graph)]
    assert proposed_channels(courses, 8) == (0, 2, 3)
    assert proposed_channels(courses, 3) == (0, 1, 2), "too few: in order"
    assert proposed_channels([*courses, courses[0]], 8) == (0, 1, 2, 3), "twice: in order"
    assert proposed_channels([None, courses[0]], 8) == (0, 1)
    loop = reamp_course(build("reamp-box", "r"))
    assert (played_channel(loop), heard_channel(loop)) == (2, 3)
    usb = [one.course for one in trace_all(RigGraph(build("modeler-usb", "r")))]
    assert proposed_channels(usb, 8) == (0, 1, 2)


def test_devices(running: JackServer, capsys: pytest.CaptureFixture[str]) -> None:  # noqa: F811
    running.amp(channels=2)
    code, data = run_json(capsys, "devices")
    assert code == 0
    assert set(data) == documented("devices")
    text = (Path(__file__).parents[2] / "docs" / "cli.md").read_text("utf-8")
    section = text.split("## `diaulos devices")[1].split("\n## ")[0]
    row = next(one for one in section.splitlines() if one.startswith("| `devices`"))
    keys = set(re.findall(r"`([a-z_]+)`", row.split("list of")[1]))
    found = {one["device"]: one for one in data["devices"]}
    assert all(set(one) == keys for one in found.values())
    assert {"bench", "system", "foreign amp"} <= set(found)
    assert (found["system"]["inputs"], found["foreign amp"]["outputs"]) == (8, 2)
    assert found["system"]["rate_hz"] == RATE
    assert found["bench"]["rate_hz"] is None
    assert any("real-time" in one for one in data["missing"])  # the test's server has no rights


def test_without_a_server_it_says_how_to_start_one(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "no-such-server")
    code, data = run_json(capsys, "devices")
    assert code == 0
    assert [one["device"] for one in data["devices"]] == ["bench"]
    assert "jackd" in data["missing"][0]
    code, _, err = run(capsys, "roundtrip", "--device", "system")
    assert code == 1
    assert "Plug it in or start it; no other is there." in err


def test_roundtrip(running: JackServer, capsys: pytest.CaptureFixture[str]) -> None:  # noqa: F811
    running.amp(gain=-0.5, delay_frames=37.25)
    words = ("roundtrip", "--device", "foreign amp", "--out", 1, "--in", 1)

    def attempt() -> bool:
        data = answered(run_json(capsys, *words))
        assert set(data) == documented("roundtrip")
        assert data["round_trip_samples"] == pytest.approx(256 + 37.25, abs=0.02)
        assert data["error_samples"] <= 0.02
        assert data["polarity"] == -1
        assert data["level_dbfs"] == -40.0
        (kept,) = trip_store().known()
        assert (kept.device, kept.rate_hz, kept.block_frames) == ("foreign amp", RATE, 256)
        assert kept.samples == pytest.approx(data["round_trip_samples"], abs=1e-4)
        return True

    right_or_told(attempt)
    code, data = run_json(capsys, "roundtrip", "--device", "system")
    assert (code, data["reason"]) == (3, "not_heard")


def test_a_round_trip_that_is_not_heard_is_refused(running: JackServer) -> None:  # noqa: F811
    running.amp("deaf", gain=0.0)
    with pytest.raises(RefusedError) as caught:
        measure_round_trip(OnDevice("deaf"), RATE)
    assert caught.value.reason == "not_heard"


def test_a_file_is_reamped_through_another_program(
    running: JackServer,  # noqa: F811
    capsys: pytest.CaptureFixture[str],
    tmp_path: Path,
) -> None:
    running.amp(gain=0.5, delay_frames=410.5)
    di = tmp_path / "di.wav"
    soundfile.write(str(di), 0.3 * _noise(6.0), RATE, subtype="FLOAT")
    out = tmp_path / "out.wav"

    def attempt() -> bool:
        data = answered(
            run_json(
                capsys, "reamp-file", di, out, "--device", "foreign amp",
                "--out-channel", 1, "--in-channel", 1, "--replace",
            )
        )  # fmt: skip
        assert data["delay_samples"] == pytest.approx(256 + 410.5, abs=0.02)
        assert data["loop_delay_samples"] == pytest.approx(256 + 410.5, abs=0.05)
        assert data["polarity"] == 1
        back, _ = soundfile.read(str(out))
        assert back.size > 5 * RATE
        return True

    right_or_told(attempt)


def test_a_file_is_not_sent_into_a_howl(
    running: JackServer,  # noqa: F811
    capsys: pytest.CaptureFixture[str],
    tmp_path: Path,
) -> None:
    running.amp("loud", gain=1.0, noise_dbfs=-12.0)
    di = tmp_path / "di.wav"
    soundfile.write(str(di), 0.3 * _noise(3.0), RATE, subtype="FLOAT")
    code, data = run_json(
        capsys, "reamp-file", di, tmp_path / "out.wav", "--device", "loud",
        "--out-channel", 1, "--in-channel", 1,
    )  # fmt: skip
    assert (code, data["reason"]) == (3, "return_howls")
    assert not (tmp_path / "out.wav").exists()


def test_a_take_is_recorded_from_a_device(
    running: JackServer,  # noqa: F811
    capsys: pytest.CaptureFixture[str],
    tmp_path: Path,
) -> None:
    """What the other program plays is what the take holds; a channel that is not there is told."""
    running.amp("box", channels=4, gain=0.0)
    running.amp("hiss", channels=1, noise_dbfs=-30.0)
    path = tmp_path / "Mine.diaulos"
    code, _ = run_json(capsys, "new", path, "--plays", "guitar", "--inputs", 4, "--tone", "none")
    assert code == 0
    words = ("record", path, "--device", "hiss", "--seconds", 2, "--name", "Real")

    def attempt() -> bool:
        data = answered(run_json(capsys, *words))
        (track,) = data["tracks"]
        samples, _ = soundfile.read(str(path / track["file"]))
        assert samples.size == data["frames"] == 2 * RATE
        level = 20.0 * np.log10(np.sqrt(np.mean(samples**2)))
        assert level == pytest.approx(-30.0, abs=0.2)
        return True

    right_or_told(attempt)
    folder = SessionFolder.open(path)
    session = folder.load()
    assert session.takes[-1].played_by != SIMULATED
    folder.close()
    name = session.rigs[0].tracks[0].name
    code, data = run_json(
        capsys, "record", path, "--seconds", 1, "--device", "box", "--map", f"{name}=9"
    )
    assert code == 1
    assert "no input 9" in data["error"]


def test_what_a_device_hears_is_tuned_and_measured(
    running: JackServer,  # noqa: F811
    capsys: pytest.CaptureFixture[str],
) -> None:
    running.amp("hiss", channels=2, noise_dbfs=-40.0)
    heard = ("noise", "--listen", "--device", "hiss", "--channel", 2, "--seconds", 3)
    # AES17 reads 3.01 dB more; 20 Hz to 20 kHz is 20 of 24 kHz.
    expected = -40.0 + 3.01 + 10.0 * np.log10(20.0 / 24.0)

    def attempt() -> bool:
        data = answered(run_json(capsys, *heard))
        assert data["floor_dbfs"] == pytest.approx(expected, abs=0.2)
        return True

    right_or_told(attempt)
    code, _ = run_json(capsys, "tune", "--listen", "--device", "hiss", "--seconds", 2)
    assert code != 0, "hiss has no pitch"
    for words, told in (
        (("noise",), "give a file"),
        (("noise", "a.wav", "--listen", "--device", "hiss"), "exclude each other"),
        (("strength", "--listen"), "plays rigs"),
        (("tune", "--listen", "--device", "nowhere"), "no device"),
    ):
        code, _, err = run(capsys, *words)
        assert code == 1
        assert told in err


def test_a_block_is_asked_of_the_device(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    """`--block` reaches what opens the stream, in each verb that has it."""
    asked: list[int] = []
    card = DeviceInfo("alsa", "Card", 8, 8, (RATE,), (64, 128, 256, 512, 1024), False)

    def gone(spec: StreamSpec, callback: object, block: int = 0, **_: object) -> None:
        asked.append(block)
        raise AudioDeviceError("it is gone.", where=spec.device, remedy="Plug it in.")

    monkeypatch.setattr(wiring.real, "find", lambda name: card)
    monkeypatch.setattr(wiring.real, "open_stream", gone)
    path = tmp_path / "s.diaulos"
    run(capsys, "new", path, "--plays", "guitar", "--tone", "modeler")
    di = tmp_path / "di.wav"
    soundfile.write(str(di), 0.3 * _noise(1.0), RATE, subtype="FLOAT")
    for verb in (
        ("record", path, "--seconds", 2, "--device", "Card", "--block", 128),
        ("reamp-file", di, tmp_path / "out.wav", "--device", "Card", "--block", 512),
        ("roundtrip", "--device", "Card", "--block", 64),
    ):
        code, _, err = run(capsys, *verb)
        assert code == 1, err
        assert "it is gone" in err.lower()
    assert asked == [128, 512, 64]
