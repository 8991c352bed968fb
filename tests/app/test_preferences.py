"""What is remembered between starts: known at once, written behind."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from pathlib import Path

from PySide6.QtCore import QByteArray, QSettings
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.errors import StorageError
from diaulos.storage.settings import SettingsFile


class Disk(SettingsFile):
    """A file on a disk that answers when it is told to, and tells which thread waited."""

    def __init__(self, path: Path) -> None:
        super().__init__(path)
        self.answers, self.full = threading.Event(), False
        self.waited: set[str] = set()

    def keep(self, changes: Mapping[str, str | None]) -> None:
        self.waited.add(threading.current_thread().name)
        assert self.answers.wait(60.0)
        if self.full:
            raise StorageError("it could not be written.", where=str(self.path), remedy="Wait.")
        super().keep(changes)


def test_a_slow_disk_holds_no_view_up(
    qtbot: QtBot, services: Services, demo_copy: Path, tmp_path: Path
) -> None:
    disk = Disk(tmp_path / "slow.json")
    window = MainWindow(Preferences(disk))
    qtbot.addWidget(window)
    window.show()
    desk = Desk(window, services)
    assert desk.open_path(demo_copy)
    desk.show("levels")
    desk.show("compare")
    window.toggle_look()
    assert disk.waited
    assert not disk.answers.is_set()
    assert desk.views["compare"].isVisible()
    assert window.preferences.view == "compare"
    assert window.preferences.look == "night"
    window.close()
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=30_000)
    assert not disk.known()
    disk.answers.set()
    window.preferences.sync()
    kept = Preferences(SettingsFile(disk.path))
    assert (kept.view, kept.look, kept.recent) == ("compare", "night", [str(demo_copy)])
    assert kept.geometry is not None
    assert disk.waited == {"settings"}


def test_what_could_not_be_written_is_written_with_the_next(tmp_path: Path) -> None:
    disk = Disk(tmp_path / "full.json")
    disk.answers.set()
    disk.full = True
    preferences = Preferences(disk)
    preferences.look, preferences.zoom = "night", 1.25
    preferences.sync()
    assert preferences.look == "night"
    assert not disk.known()
    disk.full = False
    preferences.zoom = 1.5
    preferences.sync()
    assert disk.known() == {"look": "night", "zoom": "1.5"}


def test_two_windows_forget_nothing_of_one_another(tmp_path: Path) -> None:
    one, other = (Preferences(SettingsFile(tmp_path / "both.json")) for _ in range(2))
    one.look = "night"
    one.sync()
    other.device = "box"
    other.add_recent("/a")
    other.sync()
    other.forget("recent")
    other.sync()
    read = Preferences(SettingsFile(tmp_path / "both.json"))
    assert (read.look, read.device, read.recent) == ("night", "box", [])


def test_what_an_earlier_version_kept_is_taken_over_once(tmp_path: Path) -> None:
    kind, scope = QSettings.Format.NativeFormat, QSettings.Scope.UserScope
    QSettings.setPath(kind, scope, str(tmp_path / "before"))
    before = QSettings("Diaulos", "Diaulos")
    before.setValue("look", "night")
    before.setValue("recent", '["/sessions/a"]')
    before.setValue("geometry", QByteArray(b"\x01\x00wide"))
    before.sync()
    taken = Preferences()
    taken.sync()
    assert taken.geometry == QByteArray(b"\x01\x00wide")
    before.setValue("look", "day")
    before.sync()
    again = Preferences()
    assert (again.look, again.recent) == ("night", ["/sessions/a"])
    before.clear()
    before.sync()
