"""A stranger's first ten minutes, by keys and clicks only: a session of one's own from nothing to
an exported pass, and the demo to a finished pass."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QPushButton
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.dialogs.new_session import NewSessionDialog
from diaulos.storage.audiofile import audio_info

Settle = Callable[[Desk], None]
CTRL = Qt.KeyboardModifier.ControlModifier
PLAIN = Qt.KeyboardModifier.NoModifier


class Hand:
    """Keys and clicks, counted."""

    def __init__(self, desk: Desk, qtbot: QtBot, settled: Settle) -> None:
        self.desk, self.qtbot, self._settled = desk, qtbot, settled
        self.actions = 0

    def press(
        self, key: Qt.Key, modifier: Qt.KeyboardModifier = PLAIN, *, wait: bool = True
    ) -> None:
        self.actions += 1
        self.desk.window.activateWindow()
        self.qtbot.waitUntil(self.desk.window.isActiveWindow, timeout=10_000)
        self.qtbot.keyClick(self.desk.window, key, modifier)
        if wait:
            self._settled(self.desk)

    def click(self, button: QPushButton) -> None:
        self.actions += 1
        self.qtbot.waitUntil(button.isVisible, timeout=5_000)
        assert button.isEnabled()
        self.qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
        self._settled(self.desk)


def test_from_nothing_to_an_exported_pass(
    desk: Desk, qtbot: QtBot, settled: Settle, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hand = Hand(desk, qtbot, settled)
    out = tmp_path / "pass.wav"

    def answer(dialog: NewSessionDialog) -> int:
        """Three questions; name and folder as proposed, but for the place of this test."""
        dialog.folder.setText(str(tmp_path))
        for box, key in ((dialog.plays, "guitar"), (dialog.inputs, "4"), (dialog.tone, "load")):
            box.setCurrentIndex(box.findData(key))
            hand.actions += 1
        hand.actions += 1  # Create
        return 1

    monkeypatch.setattr(NewSessionDialog, "exec", answer)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(out), ""))
    hand.click(desk.window.welcome.buttons["new_session"])
    hand.press(Qt.Key.Key_1, CTRL)
    assert [one.name for one in desk.document.session.instruments] != []
    hand.press(Qt.Key.Key_3, CTRL)
    hand.press(Qt.Key.Key_G)  # the gain that the plan says
    levels = desk.views["levels"]
    assert "clips" not in levels.verdict.clips.text()
    hand.press(Qt.Key.Key_4, CTRL)
    takes = desk.views["takes"]
    qtbot.waitUntil(lambda: takes.ready is not None and takes.settled, timeout=30_000)
    assert takes.record_button.isEnabled(), takes.sentence.text()
    hand.press(Qt.Key.Key_Space, wait=False)
    qtbot.waitUntil(
        lambda: (
            takes.recording is not None and takes.recording.recorder.captured_frames > 2 * 48_000
        ),
        timeout=60_000,
    )
    hand.press(Qt.Key.Key_Space)
    (take,) = desk.document.session.takes
    assert [track.tap for track in take.tracks] == ["di", "cabinet"]
    assert all(abs(track.difference_db) < 2.0 for track in take.tracks)
    assert not any(track.clipped_samples for track in take.tracks)
    hand.press(Qt.Key.Key_5, CTRL)
    assert desk.views["reamp"].take is not None
    hand.press(Qt.Key.Key_R)
    (made,) = desk.document.session.takes[0].passes
    assert made.main.alignment is not None
    hand.press(Qt.Key.Key_E)
    assert audio_info(out).frames > 48_000
    hand.press(Qt.Key.Key_S, CTRL)
    assert not desk.document.dirty
    hand.press(Qt.Key.Key_W, CTRL)
    assert desk.document is None
    recent = [
        one for one in desk.window.welcome.findChildren(QPushButton)
        if one.text() == "New session"
    ]  # fmt: skip
    hand.click(recent[0])
    assert len(desk.document.session.takes[0].passes) == 1
    assert hand.actions <= 25


def test_from_the_demo_to_a_finished_pass(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    hand = Hand(opened, qtbot, settled)
    hand.press(Qt.Key.Key_4, CTRL)
    takes = opened.views["takes"]
    qtbot.waitUntil(lambda: takes.ready is not None and takes.settled, timeout=30_000)
    assert takes.record_button.isEnabled(), "Space records at once"
    hand.press(Qt.Key.Key_5, CTRL)
    before = sum(len(take.passes) for take in opened.document.session.takes)
    hand.press(Qt.Key.Key_R)
    assert sum(len(take.passes) for take in opened.document.session.takes) == before + 1
    assert hand.actions <= 6
