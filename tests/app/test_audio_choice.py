"""The device of the preferences: listed, waited for, measured, recorded from and reamped by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from jack_server import JackServer
from pytestqt.qtbot import QtBot
from test_jack import running, server  # noqa: F401 - fixtures

from diaulos import wiring
from diaulos.app.desk import Desk
from diaulos.app.dialogs.audio_choice import AudioChoice
from diaulos.app.dialogs.preferences import PreferencesDialog
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.errors import AudioDeviceError, RefusedError
from diaulos.ids import BENCH
from diaulos.session.model import SIMULATED
from diaulos.storage.settings import SettingsFile
from diaulos.wiring import new_session
from diaulos.work.capture.roundtrip import RoundTrip
from diaulos.work.capture.smallest import BlockTrial
from diaulos.work.capture.trips import Trip
from diaulos.work.ports import CancelToken, DeviceInfo, Found
from diaulos.work.rigs.building import start_of
from support import NOON, RecordingOutput

RATE = 48_000


class Listed:
    """Devices that come and go."""

    def __init__(self) -> None:
        self.names = ["Eight-input interface"]
        self.lack: tuple[str, ...] = ()
        self.block = 256

    def look(self) -> Found:
        bench = DeviceInfo(BENCH, "Simulated studio", 32, 32, (48_000, 96_000), (256,), False)
        real = (
            DeviceInfo("jack", name, 8, 6, (RATE,), (self.block,), True, 0.012)
            for name in self.names
        )
        return Found((bench, *real), self.lack)


def _services(listed: Listed, measure: Callable[..., RoundTrip]) -> Services:
    plain = Services(
        bench_for=wiring.bench_for, output=RecordingOutput(), files=wiring.ExternalAudio(),
        resample=wiring.resampled, clock=lambda: NOON,
    )  # fmt: skip
    return replace(plain, devices=listed, measure_trip=measure)


def test_a_device_is_chosen_measured_and_waited_for(qtbot: QtBot, preferences: Preferences) -> None:
    listed, asked = Listed(), []

    def measure(
        device: str, out: int, back: int, cancel: CancelToken, rate: int, block: int
    ) -> RoundTrip:
        asked.append((device, out, back))
        wiring.trip_store().keep(Trip(device, RATE, 256, 293.247, 0.005, out, back))
        return RoundTrip(293.247, 0.005, 576.0, -1, RATE, -40.0, 0, 256)

    page = AudioChoice(preferences, _services(listed, measure))
    qtbot.addWidget(page)
    qtbot.waitUntil(lambda: page.device.count() == 2, timeout=5_000)
    assert preferences.device == BENCH
    assert not page.measure.isEnabled(), "nothing is played on a device that nobody chose"
    assert asked == []
    page.device.setCurrentIndex(1)
    page.device.activated.emit(1)
    assert preferences.device == "Eight-input interface"
    assert "never measured" in page.trip.text()
    assert "576 samples" in page.trip.text()
    page.out.setValue(3)
    page.back.setValue(5)
    page.measure.click()
    qtbot.waitUntil(lambda: not page.busy, timeout=5_000)
    assert asked == [("Eight-input interface", 3, 5)]
    assert "293.25 samples" in page.trip.text()
    assert "turned" in page.trip.text()
    listed.block = 512
    page.look()
    qtbot.waitUntil(lambda: "512 frames" in page.trip.text(), timeout=5_000)
    assert "never measured" in page.trip.text(), "another block is another way round"
    listed.block = 256
    page.look()
    qtbot.waitUntil(lambda: "256 frames" in page.trip.text(), timeout=5_000)
    assert "293.25 samples, measured" in page.trip.text()
    listed.names, listed.lack = [], ("No JACK server runs.",)
    page.look()
    qtbot.waitUntil(lambda: "not there now" in page.device.currentText(), timeout=5_000)
    assert preferences.device == "Eight-input interface", "it is waited for"
    assert page.told.text() == "No JACK server runs."
    assert not page.measure.isEnabled()
    page.device.setCurrentIndex(0)
    page.device.activated.emit(0)
    assert preferences.device == BENCH


def test_what_cannot_be_measured_says_why_and_cancel_ends_it(
    qtbot: QtBot, preferences: Preferences
) -> None:
    listed = Listed()
    preferences.device = "Eight-input interface"

    def deaf(*_: object) -> RoundTrip:
        raise RefusedError("not_heard", "nothing came back at the input.", remedy="Plug a cable.")

    page = AudioChoice(preferences, _services(listed, deaf))
    qtbot.addWidget(page)
    qtbot.waitUntil(page.measure.isEnabled, timeout=5_000)
    page.measure.click()
    qtbot.waitUntil(lambda: not page.busy, timeout=5_000)
    assert "Plug a cable" in page.trip.text()

    def long(
        device: str, out: int, back: int, cancel: CancelToken, rate: int, block: int
    ) -> RoundTrip:
        while True:
            cancel.check()

    page = AudioChoice(preferences, _services(listed, long))
    qtbot.addWidget(page)
    qtbot.waitUntil(page.measure.isEnabled, timeout=5_000)
    page.measure.click()
    assert page.measure.text() == "Cancel"
    page.measure.click()
    qtbot.waitUntil(lambda: not page.busy, timeout=5_000)
    assert page.measure.text() == "Measure round trip"


def test_the_shortest_block_is_a_figure(qtbot: QtBot, preferences: Preferences) -> None:
    preferences.device = "Eight-input interface"
    asked: list[str] = []

    def attempt(
        device: str, cancel: CancelToken, progress: Callable[[float, str], None]
    ) -> tuple[BlockTrial, ...]:
        asked.append(device)
        progress(0.1, "64 frames")
        return BlockTrial(64, 30.0, 128, 2), BlockTrial(128, 30.0, 0, 0)

    services = replace(_services(Listed(), lambda *_: None), try_blocks=attempt)
    page = AudioChoice(preferences, services)
    qtbot.addWidget(page)
    qtbot.waitUntil(page.shortest.isEnabled, timeout=5_000)
    page.shortest.click()
    qtbot.waitUntil(lambda: not page.busy, timeout=5_000)
    assert asked == ["Eight-input interface"]
    assert "lost nothing in 30 s is 128 frames" in page.trip.text()
    assert "64 frames: lost 2 times" in page.trip.text()

    def endless(device: str, cancel: CancelToken, progress: object) -> tuple[BlockTrial, ...]:
        while True:
            cancel.check()

    page = AudioChoice(preferences, replace(services, try_blocks=endless))
    qtbot.addWidget(page)
    qtbot.waitUntil(page.shortest.isEnabled, timeout=5_000)
    page.shortest.click()
    assert not page.measure.isEnabled()
    page.shortest.click()
    qtbot.waitUntil(lambda: not page.busy, timeout=5_000)
    assert page.measure.isEnabled()


def test_takes_go_by_the_chosen_device(
    running: JackServer,  # noqa: F811
    qtbot: QtBot,
    tmp_path: Path,
) -> None:
    """A guitar session on another program's ports; one that is gone is told, nothing is lost."""
    running.amp("box", channels=4, gain=0.5, delay_frames=100.0, noise_dbfs=-30.0)
    preferences = Preferences(SettingsFile(tmp_path / "p.json"))
    preferences.device = "box"
    window = MainWindow(preferences)
    desk = Desk(window, Services.of_this_machine(preferences))
    desk.services = Services(
        **{**desk.services.__dict__, "output": RecordingOutput()},
    )
    window.show()
    folder, session = new_session(tmp_path / "Mine.diaulos", start=start_of("guitar", 4, "none"))
    desk.attach(folder, session)
    desk.show("takes")
    takes = desk.views["takes"]
    qtbot.waitUntil(lambda: takes.ready is not None and takes.settled, timeout=30_000)
    assert window.device.text() == "box"
    for _ in range(5):
        takes.record()
        qtbot.waitUntil(
            lambda: not takes.under_way
            or (
                takes.recording is not None
                and takes.recording.recorder.captured_frames > 2 * RATE
            ),
            timeout=120_000,
        )  # fmt: skip
        if takes.under_way:
            break  # else a busy computer was held up for so long that the device was given up
        qtbot.waitUntil(lambda: desk.jobs.quiet, timeout=60_000)
    takes.stop()
    qtbot.waitUntil(lambda: not takes.under_way, timeout=60_000)
    qtbot.waitUntil(lambda: desk.jobs.quiet, timeout=60_000)
    take = desk.document.session.takes[-1]
    assert take.played_by != SIMULATED
    assert take.tracks[0].frames > 2 * RATE
    count = len(desk.document.session.takes)
    samples, _ = soundfile.read(str(folder.path / take.tracks[0].file))
    level = 20.0 * np.log10(np.sqrt(np.mean(samples[samples != 0.0] ** 2)))
    assert level == pytest.approx(-30.0, abs=0.3), "what the other program plays"
    preferences.device = "gone"
    told: list[object] = []
    takes.problem.connect(told.append)
    takes.record()
    qtbot.waitUntil(lambda: not takes.under_way, timeout=60_000)
    qtbot.waitUntil(lambda: desk.jobs.quiet, timeout=60_000)
    (error,) = told
    assert isinstance(error, AudioDeviceError)
    assert "box" in error.remedy, "what is there is named"
    assert len(desk.document.session.takes) == count
    desk.document.mark_saved(desk.document.session)
    window.close()
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=30_000)
    window.deleteLater()


def test_the_preferences_show_it(window: MainWindow, qtbot: QtBot) -> None:
    listed = Listed()
    services = _services(listed, lambda *_: RoundTrip(1.0, 0.1, 0.0, 1, RATE, -40.0, 0))
    dialog = PreferencesDialog(window.preferences, window.dress, window, services)
    qtbot.addWidget(dialog)
    assert dialog.audio is not None
    qtbot.waitUntil(lambda: dialog.audio.device.count() == 2, timeout=5_000)
    dialog.reject()
