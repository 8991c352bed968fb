"""Own gear by the keyboard alone: a guitar identified, kept, carried to another machine with a home
of its own, and used there in a new session; then each exercise of the trainer."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from hands import ALT, CTRL, press, tab_to, through
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog
from pytestqt.qtbot import QtBot

from diaulos import wiring
from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.dialogs.gear import GearDialog
from diaulos.app.dialogs.identify import IdentifyDialog
from diaulos.app.dialogs.trainer import TrainerDialog
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.session.instrument import CoilValues, Instrument
from diaulos.storage.settings import SettingsFile
from diaulos.work.training.faults import FaultHunt
from diaulos.work.training.hearing import SKILLS, Hearing
from diaulos.work.training.setting import Gaining, Matching

Settle = Callable[[Desk], None]


@pytest.fixture
def elsewhere(qtbot: QtBot, tmp_path: Path, services: Services) -> Iterator[Desk]:
    """Another machine: another home, so another library, other settings."""
    home = tmp_path / "other-home"
    made = MainWindow(Preferences(SettingsFile(home / "s.json")))
    desk = Desk(made, replace(
        services, library=wiring.library_at(home / "library"),
        training=wiring.training_record(home / "training.json"),
    ))  # fmt: skip
    made.show()
    yield desk
    if desk.document is not None:
        desk.document.mark_saved(desk.document.session)
    made.close()
    qtbot.waitUntil(lambda: not made.isVisible(), timeout=30_000)
    desk.jobs.shut_down()
    made.deleteLater()


def coil_of(one: Instrument) -> CoilValues:
    assert one.position is not None
    values = one.pickup(one.position.pickups[0]).values
    assert isinstance(values, CoilValues)
    return values


@pytest.mark.parametrize("look", [theme.DAY, theme.NIGHT], ids=["day", "night"])
def test_a_guitar_is_identified_here_and_used_there(
    look: theme.Look, opened: Desk, elsewhere: Desk, settled: Settle, qtbot: QtBot,
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.apply(app, look)
    carried = tmp_path / "guitar.diaulosgear"

    def identify(dialog: IdentifyDialog) -> None:
        for button, key in zip(dialog.sweeps, (Qt.Key.Key_1, Qt.Key.Key_2), strict=False):
            assert button.isEnabled()
            press(key, ALT)
            settled(opened)
        assert dialog.take.isEnabled(), dialog.said.text()
        press(Qt.Key.Key_T, ALT)
        assert not dialog.isVisible()

    through(monkeypatch, IdentifyDialog, identify)
    window = opened.window
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow, timeout=10_000)
    press(Qt.Key.Key_1, CTRL)
    settled(opened)
    assert opened.document is not None
    before = opened.document.session.instruments[0]
    press(Qt.Key.Key_I)
    settled(opened)
    here = opened.document.session.instruments[0]
    assert here.measured
    assert coil_of(here) != coil_of(before)

    def keep(dialog: GearDialog) -> None:
        settled(opened)
        assert here.name in dialog.what.currentText()
        press(Qt.Key.Key_K, ALT)
        settled(opened)
        assert dialog.list.count() == 1
        press(Qt.Key.Key_E, ALT)
        settled(opened)
        press(Qt.Key.Key_Escape)
        assert not dialog.isVisible()

    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(carried), ""))
    through(monkeypatch, GearDialog, keep)
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow, timeout=10_000)
    press(Qt.Key.Key_L, CTRL)
    settled(opened)
    assert carried.is_file()

    # The other machine, a session of its own.
    folder = tmp_path / "elsewhere.diaulos"
    wiring.new_session(folder, name="Elsewhere")[0].close()
    assert elsewhere.open_path(folder)
    settled(elsewhere)

    def take(dialog: GearDialog) -> None:
        settled(elsewhere)
        assert dialog.list.count() == 0
        press(Qt.Key.Key_I, ALT)
        settled(elsewhere)
        assert dialog.list.count() == 1, dialog.said.text()
        press(Qt.Key.Key_T, ALT)
        settled(elsewhere)
        press(Qt.Key.Key_Escape)

    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(carried), ""))
    through(monkeypatch, GearDialog, take)
    elsewhere.window.activateWindow()
    qtbot.waitUntil(elsewhere.window.isActiveWindow, timeout=10_000)
    press(Qt.Key.Key_L, CTRL)
    settled(elsewhere)
    assert elsewhere.document is not None
    (there,) = elsewhere.document.session.instruments
    assert coil_of(there) == coil_of(here)
    assert there.measured
    elsewhere.window.activateWindow()
    qtbot.waitUntil(elsewhere.window.isActiveWindow, timeout=10_000)
    press(Qt.Key.Key_Z, CTRL)
    assert elsewhere.document.session.instruments == ()


def test_every_exercise_is_played_by_keys(
    opened: Desk, settled: Settle, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    played: list[str] = []

    def walk(dialog: TrainerDialog) -> None:
        dialog.exercises.setFocus()
        for row in range(dialog.exercises.count()):
            if row:
                tab_to(dialog.exercises)
                press(Qt.Key.Key_Down)
            assert dialog.exercises.currentRow() == row
            press(Qt.Key.Key_Return)
            settled(opened)
            run = dialog._run
            if isinstance(run, Hearing):
                press(Qt.Key(Qt.Key.Key_1.value + run.trial.odd))
                press(Qt.Key.Key_Return)
                settled(opened)
                assert dialog.told.text().startswith("Right: ")
                assert dialog.after.there
                press(Qt.Key.Key_Return)
                assert not dialog.after.there
                press(Qt.Key.Key_E, ALT)
                assert "After 1 trials" in dialog.told.text()
            elif isinstance(run, Matching):
                press(Qt.Key.Key_2)
                press(Qt.Key.Key_Up)
                press(Qt.Key.Key_T, ALT)
                assert "BS.1770" in dialog.told.text()
            elif isinstance(run, Gaining):
                press(Qt.Key.Key_L, ALT)
                press(Qt.Key.Key_R, ALT)
                settled(opened)
                assert "loudest peak" in dialog.told.text() or "clips" in dialog.told.text()
                assert dialog.after.there
            else:
                assert isinstance(run, FaultHunt)
                press(Qt.Key.Key_1)
                tab_to(dialog.faults.choices[run.ids[0]])
                press(Qt.Key.Key_Space)
                press(Qt.Key.Key_T, ALT)
                settled(opened)
                assert "Found: " in dialog.told.text()
            played.append(dialog.exercise)
        press(Qt.Key.Key_Escape)
        assert not dialog.isVisible()

    through(monkeypatch, TrainerDialog, walk)
    opened.window.activateWindow()
    qtbot.waitUntil(opened.window.isActiveWindow, timeout=10_000)
    press(Qt.Key.Key_T, CTRL)
    settled(opened)
    assert len(played) == len(set(played)) == len(SKILLS) + 3
    assert len(opened.services.training.all()) == len(played)
