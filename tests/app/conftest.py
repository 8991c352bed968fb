"""A window with services of its own: the bench, a recording output, a fixed clock."""

from __future__ import annotations

import os
import threading
import traceback
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtWidgets import QApplication, QMessageBox
from pytestqt.qtbot import QtBot

from diaulos import wiring
from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.storage.settings import SettingsFile
from support import NOON, RecordingOutput


@pytest.fixture
def services(tmp_path: Path) -> Services:
    return Services(
        bench_for=wiring.bench_for,
        output=RecordingOutput(),
        files=wiring.ExternalAudio(),
        resample=wiring.resampled,
        clock=lambda: NOON,
        library=wiring.library_at(tmp_path / "library"),
        training=wiring.training_record(tmp_path / "training.json"),
    )


@pytest.fixture
def preferences(tmp_path: Path) -> Preferences:
    return Preferences(SettingsFile(tmp_path / "settings.json"))


@pytest.fixture
def window(qtbot: QtBot, preferences: Preferences, services: Services) -> Iterator[MainWindow]:
    """A window on nothing, with its desk; closed at the end without a question."""
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.load_fonts()
    theme.apply(app, theme.DAY)
    made = MainWindow(preferences)
    Desk(made, services)
    made.show()
    yield made
    made.preferences.sync()
    assert made.desk is not None
    document = made.desk.document
    if document is not None:
        document.mark_saved(document.session)
    made.close()
    qtbot.waitUntil(lambda: not made.isVisible(), timeout=30_000)
    left = [t.name for t in threading.enumerate() if t.name.startswith(("job", "player"))]
    made.desk.jobs.shut_down()  # what a failed test left running must not reach the next one
    theme.apply(app, theme.DAY, 1.0)  # nor the look and the size of text that it chose
    made.deleteLater()
    app.processEvents()
    assert left == [], left


@pytest.fixture
def desk(window: MainWindow) -> Desk:
    assert window.desk is not None
    return window.desk


@pytest.fixture
def settled(qtbot: QtBot) -> Callable[[Desk], None]:
    """Wait until nothing runs and what is chosen is on screen."""

    def wait(desk: Desk) -> None:
        def still() -> bool:
            return desk.jobs.quiet and all(view.settled for view in desk.views.values())

        qtbot.waitUntil(still, timeout=60_000)

    return wait


@pytest.fixture
def opened(desk: Desk, demo_copy: Path, settled: Callable[[Desk], None]) -> Desk:
    """The demo session, open and settled."""
    assert desk.open_path(demo_copy)
    settled(desk)
    return desk


@pytest.fixture(autouse=True)
def disk_waits(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[str]]:
    """Where the window's own thread waited until a disk had confirmed: nowhere. (A disk may take
    a second for it, and the window stands still as long.)"""
    waits: list[str] = []
    real = os.fsync

    def fsync(handle: int) -> None:
        if threading.current_thread() is threading.main_thread():
            stack = [one for one in traceback.extract_stack() if "/diaulos/" in one.filename]
            if any("/diaulos/app/" in one.filename for one in stack):
                waits.append(" > ".join(f"{Path(one.filename).name}:{one.name}" for one in stack))
        real(handle)

    monkeypatch.setattr(os, "fsync", fsync)
    yield waits
    assert waits == [], waits


@pytest.fixture(autouse=True)
def answers(monkeypatch: pytest.MonkeyPatch) -> dict[str, object]:
    """Questions are answered by the test; an unexpected one fails instead of hanging."""
    given: dict[str, object] = {"asked": [], "button": None}

    def ask(box: QMessageBox) -> int:
        given["asked"].append((box.text(), box.informativeText()))
        wanted = given["button"]
        if wanted is None:
            pytest.fail(f"unexpected question: {box.text()} {box.informativeText()}")
        for button in box.buttons():
            if button.text().replace("&", "") == wanted:
                button.click()
                return 0
        pytest.fail(f"no button {wanted!r} in {[b.text() for b in box.buttons()]}")

    def told(box: QMessageBox) -> None:
        given["asked"].append((box.text(), box.informativeText()))
        box.deleteLater()

    monkeypatch.setattr(QMessageBox, "exec", ask)
    monkeypatch.setattr(QMessageBox, "open", told)
    return given
