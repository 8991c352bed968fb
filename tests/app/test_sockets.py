"""Tracks and sends tied to a real device's channels, by keys; what is tapped is what is tied."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot
from test_audio_choice import Listed

from diaulos.app import theme
from diaulos.app.dialogs.sockets import SocketsDialog
from diaulos.app.document import Document
from diaulos.app.main_window import MainWindow
from diaulos.app.services import Services
from diaulos.errors import AudioDeviceError
from diaulos.rig.model import PortRef
from diaulos.rig.templates import build
from diaulos.session.edits import Edit, tie_program
from diaulos.session.roles import reamp_rig, recording_rig
from diaulos.work.capture.mapping import tied_program
from diaulos.work.capture.movers import Movement
from diaulos.work.capture.roundtrip import RoundTrip
from diaulos.work.ports import DeviceInfo, Found
from support import RATE

DEVICE = "Eight-input interface"


class Tapped:
    """A device whose inputs are told by the test."""

    def __init__(self) -> None:
        self.tell: Callable[[Movement], None] | None = None
        self.ended = threading.Event()
        self.error: Exception | None = None

    def hear(
        self, device: str, count: int, tell: object, stopped: Callable[[], bool], block: int
    ) -> None:
        if self.error is not None:
            raise self.error
        self.tell = tell  # type: ignore[assignment]
        while not stopped():
            threading.Event().wait(0.005)
        self.ended.set()

    def tap(self, channel: int, inputs: int = 8) -> None:
        quiet = tuple(-70.0 for _ in range(inputs))
        peak = tuple(-9.0 if n == channel else -70.0 for n in range(inputs))
        assert self.tell is not None
        self.tell(Movement(peak, peak, quiet, channel))


class Named(Listed):
    """With the names of its channels."""

    def look(self) -> Found:
        found = super().look()
        names = tuple(f"capture_{n}" for n in range(1, 9))
        return Found(
            tuple(
                DeviceInfo(**{**one.__dict__, "input_names": names}) if one.name == DEVICE else one
                for one in found.devices
            ),
            found.missing,
        )


@pytest.fixture
def tapped() -> Tapped:
    return Tapped()


def shown(opened, qtbot: QtBot, tapped: Tapped, devices: Listed) -> SocketsDialog:
    """The dialog, once it has found the device."""
    document: Document = opened.document
    services = Services(
        **{**opened.services.__dict__, "devices": devices, "hear_inputs": tapped.hear}
    )
    session = document.session
    rigs = tuple(dict.fromkeys((recording_rig(session).id, reamp_rig(session).id)))
    made = SocketsDialog(DEVICE, lambda: document.session, rigs, services, opened.window)
    made.tied.connect(document.apply)
    theme.dress(made)
    made.show()
    qtbot.waitUntil(lambda: "8 inputs" in made.about.text(), timeout=5_000)
    return made


@pytest.fixture
def dialog(opened, tapped: Tapped, qtbot: QtBot) -> SocketsDialog:
    return shown(opened, qtbot, tapped, Named())


def test_a_channel_is_chosen_and_undone(dialog: SocketsDialog, opened) -> None:
    session = opened.document.session
    rig = recording_rig(session)
    assert dialog.table.item(0, 0).text() == rig.tracks[0].name
    assert dialog.table.item(0, 3).text() == "proposed"
    assert "capture_1" in dialog.table.item(0, 2).text()
    dialog.channel.setCurrentIndex(dialog.channel.findData(5))
    dialog.channel.activated.emit(dialog.channel.currentIndex())
    port = rig.tracks[0].port
    assert recording_rig(opened.document.session).tied(DEVICE) == {port: 5}
    assert dialog.table.item(0, 3).text() == "tied"
    assert "input 5 (capture_5)" in dialog.table.item(0, 2).text()
    dialog.channel.setCurrentIndex(0)
    dialog.channel.activated.emit(0)
    assert recording_rig(opened.document.session).tied(DEVICE) == {}
    opened.document.undo()
    assert recording_rig(opened.document.session).tied(DEVICE) == {port: 5}
    assert "Tie sockets" in opened.document.undo_label


def test_what_is_tapped_is_marked_and_tied_by_enter(
    dialog: SocketsDialog,
    tapped: Tapped,
    opened,
    qtbot: QtBot,
) -> None:
    assert not dialog.tie.isEnabled()
    qtbot.keyClick(dialog, Qt.Key.Key_P)
    qtbot.waitUntil(lambda: tapped.tell is not None, timeout=5_000)
    tapped.tap(4)
    qtbot.waitUntil(dialog.tie.isEnabled, timeout=5_000)
    assert "input 5" in dialog.tie.text()
    assert dialog._names[4].text().endswith("moves")
    assert dialog._windows[4].figures.peak == -9.0
    qtbot.keyClick(dialog, Qt.Key.Key_Return)
    rig = recording_rig(opened.document.session)
    assert rig.tied(DEVICE) == {rig.tracks[0].port: 5}
    assert not dialog.tie.isEnabled(), "tapped once, tied once"
    dialog.table.setCurrentCell(1, 0)
    tapped.tap(4)
    qtbot.waitUntil(dialog.tie.isEnabled, timeout=5_000)
    dialog.tie.click()
    assert "tied to input 5, too" in dialog.problem.text()
    dialog.reject()
    assert tapped.ended.wait(5.0), "the ear ends with the page"


def test_a_device_that_goes_while_it_is_heard_is_told(
    dialog: SocketsDialog, tapped: Tapped, qtbot: QtBot
) -> None:
    tapped.error = AudioDeviceError("the JACK server ended.", remedy="Start it again.")
    dialog.listen.click()
    qtbot.waitUntil(lambda: "server ended" in dialog.problem.text(), timeout=5_000)
    assert not dialog.listen.isChecked()


def test_the_simulated_studio_has_no_sockets(opened, window: MainWindow) -> None:
    window.action("sockets").trigger()
    assert "has no sockets to tie" in window._status.text()


class Slower(Named):
    """A server that runs at another rate than the session."""

    def look(self) -> Found:
        found = super().look()
        return Found(
            tuple(DeviceInfo(**{**one.__dict__, "rates_hz": (44_100,)}) for one in found.devices),
            found.missing,
        )


def test_another_rate_is_said_with_both_ways_out(opened, tapped: Tapped, qtbot: QtBot) -> None:
    """A session with takes keeps its rate: the device follows, or a new session."""
    made = shown(opened, qtbot, tapped, Slower())
    assert made.rate.isVisible()
    assert "runs at 44100 Hz, the session at 48000 Hz" in made.rate.text()
    assert "-r 48000" in made.rate.text()
    assert "new session at 44100 Hz" in made.rate.text()
    assert not made.follow.isVisible()
    made.reject()


def test_an_empty_session_takes_the_devices_rate(opened, tapped: Tapped, qtbot: QtBot) -> None:
    """One press, one step of undo; the rig's devices follow."""
    document: Document = opened.document
    document.apply(
        Edit("Empty", lambda session: session.model_copy(
            update={"takes": (), "bin": (), "impulses": ()}
        ))
    )  # fmt: skip
    made = shown(opened, qtbot, tapped, Slower())
    assert made.follow.text() == "Session at 44100 Hz"
    qtbot.mouseClick(made.follow, Qt.MouseButton.LeftButton)
    assert document.session.sample_rate_hz == 44_100
    assert not made.rate.isVisible()
    rates = {
        device.word("rate")
        for rig in document.session.rigs
        for device in rig.devices
        if device.has_setting("rate")
    }
    assert rates == {"44100"}
    document.undo()
    assert document.session.sample_rate_hz == RATE
    made.reject()


class WithProgram(Named):
    """Another program with an amplifier beside the device."""

    def look(self) -> Found:
        found = super().look()
        combo = DeviceInfo("jack", "combo", 1, 1, (RATE,), (256,), True)
        return Found((*found.devices, combo), found.missing)


def test_a_program_is_tied_to_a_software_amplifier_and_its_latency_measured(
    opened, tapped: Tapped, qtbot: QtBot
) -> None:
    """By the same dialog: which program, which channel, how late it is."""
    document: Document = opened.document
    rig = build("software-amp", "soft")
    other = rig.model_copy(update={"id": "also", "name": "Also"})
    document.apply(
        Edit("Two rigs", lambda session: session.model_copy(
            update={"rigs": (*session.rigs, rig, other), "recording_rig": "soft"}
        ))
    )  # fmt: skip
    document.apply(
        tie_program("also", PortRef(device="software", port="in"), ("combo", 1), {"combo": (1, 1)})
    )
    made = shown(opened, qtbot, tapped, WithProgram())
    asked: list[tuple[object, ...]] = []

    def measure(*words: object) -> RoundTrip:
        asked.append(words)
        return RoundTrip(293.247, 0.004, 256.0, -1, RATE, -40.0, 0, 256)

    made._services = replace(made._services, measure_trip=measure)
    places = {made.table.item(n, 0).text(): n for n in range(made.table.rowCount())}
    for name, channel in (("Input", ("combo", 1)), ("Output left", ("combo", 1))):
        made.table.selectRow(places[name])
        assert made.measure.isVisible()
        assert not made.measure.isEnabled()
        assert made.table.item(places[name], 3).text() == "to be tied"
        assert not made.tie.isVisible(), "no input moves in another program"
        at = next(n for n in range(made.channel.count()) if made.channel.itemData(n) == channel)
        made.channel.setCurrentIndex(at)
        made.channel.activated.emit(at)
        assert made.table.item(places[name], 3).text() == "tied"
        assert "combo" in made.table.item(places[name], 2).text()
    soft = document.session.rig("soft")
    assert tied_program(soft, PortRef(device="software", port="out_l")) == ("combo", 0)
    qtbot.mouseClick(made.measure, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not made._measuring, timeout=10_000)
    assert asked[0][:3] == ("combo", 1, 1)
    assert "37.25 samples" in made.told.text()
    assert "turns the polarity over" in made.told.text()
    for one in ("soft", "also"):
        assert document.session.rig(one).device("software").number("latency") == 37.25
    document.undo()
    assert document.session.rig("soft").device("software").number("latency") == 0.0
    made.table.selectRow(places["Input"])
    made.channel.setCurrentIndex(0)
    made.channel.activated.emit(0)
    assert tied_program(document.session.rig("soft"), PortRef(device="software", port="in")) is None
    made.reject()
