"""Hearing it live: how late it is stands on the switch before it is pressed."""

from __future__ import annotations

import threading
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot
from test_audio_choice import Listed

from diaulos.app.desk import Desk
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.app.views.takes.view import TakesView
from diaulos.ids import BENCH
from diaulos.session.edits import set_device_setting
from diaulos.session.roles import recording_rig
from diaulos.storage.settings import SettingsFile
from diaulos.wiring import HeardLive, new_session
from diaulos.work.capture.trips import Trip, WayRound
from diaulos.work.rigs.building import start_of
from support import RATE

DEVICE = "Eight-input interface"


class Ear:
    """What was asked to be heard, and until when."""

    def __init__(self) -> None:
        self.asked: list[HeardLive] = []
        self.ended = 0

    def hear(self, session: object, rig: object, heard: HeardLive, stopped) -> None:  # type: ignore[no-untyped-def]
        self.asked.append(heard)
        while not stopped():
            threading.Event().wait(0.005)
        self.ended += 1


@pytest.fixture
def ear() -> Ear:
    return Ear()


@pytest.fixture
def desk(qtbot: QtBot, tmp_path: Path, ear: Ear):  # type: ignore[no-untyped-def]
    preferences = Preferences(SettingsFile(tmp_path / "p.json"))
    preferences.device = DEVICE
    window = MainWindow(preferences)
    known = (Trip(DEVICE, RATE, 256, 293.25, 0.01, 1, 1),)
    services = replace(
        Services.of_this_machine(preferences), devices=Listed(), hear_live=ear.hear,
        way_round=lambda: WayRound(DEVICE, known),
    )  # fmt: skip
    made = Desk(window, services)
    window.show()
    folder, session = new_session(tmp_path / "Mine.diaulos", start=start_of("guitar", 4, "load"))
    made.attach(folder, session)
    made.show("takes")
    yield made
    made.document.mark_saved(made.document.session)
    window.close()
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=30_000)
    window.deleteLater()


def takes_of(desk: Desk, qtbot: QtBot) -> TakesView:
    view = desk.views["takes"]
    assert isinstance(view, TakesView)
    qtbot.waitUntil(
        lambda: view.ready is not None and view.settled and view.live_row.isVisible(),
        timeout=30_000,
    )  # fmt: skip
    return view


def test_its_latency_is_told_before_it_is_heard(desk: Desk, qtbot: QtBot, ear: Ear) -> None:
    view = takes_of(desk, qtbot)
    row = view.live_row
    qtbot.waitUntil(lambda: "6.1 ms" in row.switch.text(), timeout=10_000)
    assert row.isVisible()
    assert row.switch.text() == "Hear live, 6.1 ms (Y)"
    assert row.level.value() == -20.0, "a new device begins quietly"
    assert ear.asked == []
    said: list[str] = []
    view.said.connect(said.append)
    qtbot.keyClick(view.board, Qt.Key.Key_Y)
    qtbot.waitUntil(lambda: len(ear.asked) == 1, timeout=10_000)
    heard = ear.asked[0]
    assert heard.tracks == (view.ready.armed[0].port,)
    assert (heard.outputs, heard.gain_db, heard.taps) == ((0, 1), -20.0, ())
    assert row.switch.isChecked()
    assert "Heard live" in row.switch.text()
    assert any("6.1 ms late" in words for words in said)
    qtbot.keyClick(view.board, Qt.Key.Key_Y)
    qtbot.waitUntil(lambda: ear.ended == 1 and not view.live.on, timeout=10_000)
    assert not row.switch.isChecked()


def test_an_amplifier_without_cabinet_through_one_and_another_level(
    desk: Desk, qtbot: QtBot, ear: Ear
) -> None:
    """What is heard changes with the choice; the level is remembered for the device."""
    rig = recording_rig(desk.document.session)
    box = next(one for one in rig.devices if one.has_setting("cabinet"))
    desk.document.apply(set_device_setting(rig.id, box.id, "cabinet", "none"))
    view = takes_of(desk, qtbot)
    row = view.live_row
    view.hear_live()
    qtbot.waitUntil(lambda: len(ear.asked) == 1, timeout=10_000)
    at = next((n for n in range(row.what.count()) if "through" in row.what.itemText(n)), None)
    assert at is not None
    row.what.setCurrentIndex(at)
    row.what.activated.emit(at)
    qtbot.waitUntil(lambda: len(ear.asked) == 2 and ear.ended == 1, timeout=10_000)
    assert len(ear.asked[1].taps) > 100
    row.level.setValue(-32.0)
    qtbot.waitUntil(lambda: len(ear.asked) == 3 and ear.ended == 2, timeout=10_000)
    assert ear.asked[2].gain_db == -32.0
    assert desk.window.preferences.live_level(DEVICE) == -32.0
    assert view.live.on
    view.close_down()
    qtbot.waitUntil(lambda: ear.ended == 3, timeout=10_000)


def test_another_device_ends_it(desk: Desk, qtbot: QtBot, ear: Ear) -> None:
    """Chosen in the preferences while it is heard: the row is that of the device now."""
    view = takes_of(desk, qtbot)
    view.hear_live()
    qtbot.waitUntil(lambda: len(ear.asked) == 1, timeout=10_000)
    preferences = desk.window.preferences
    preferences.device = BENCH
    desk.device_changed()
    qtbot.waitUntil(lambda: ear.ended == 1, timeout=10_000)
    assert not view.live.on
    assert not view.live_row.isVisible()
    preferences.device = DEVICE
    desk.device_changed()
    assert view.live_row.isVisible()
    assert not view.live_row.switch.isChecked()
    assert len(ear.asked) == 1, "nothing sounds that nobody asked for"


def test_the_simulated_studio_is_heard_by_nobody(desk: Desk, qtbot: QtBot, ear: Ear) -> None:
    view = takes_of(desk, qtbot)
    desk.window.preferences.device = BENCH
    said: list[str] = []
    view.said.connect(said.append)
    view.hear_live()
    assert ear.asked == []
    assert "heard by nobody" in said[-1]
    desk.window.preferences.device = DEVICE
    desk.window.preferences.listen_by(DEVICE, 0)
    view.hear_live()
    assert ear.asked == []
    assert "outputs to listen by" in said[-1]
    assert not view.live_row.switch.isChecked()
