"""The running loop by keyboard in the window: figures follow what is turned."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDoubleSpinBox
from pytestqt.qtbot import QtBot
from test_reamp_view import press

from diaulos.app.desk import Desk
from diaulos.app.views.reamp.running_panel import RunningPanel
from diaulos.session.take_edits import cut_to_bars
from diaulos.work.reamp.running import Told

Settle = Callable[[Desk], None]


def level_of(desk: Desk) -> str:
    return desk.views["reamp"].running.level.text()


def figure(desk: Desk) -> float:
    text = level_of(desk).replace("\N{MINUS SIGN}", "-").replace("\N{PLUS-MINUS SIGN}", "")
    return float(text.split()[1])


def test_what_is_turned_is_told_and_printed(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    take = opened.document.session.takes[0]
    opened.document.apply(cut_to_bars(take.id, 0, 2))
    settled(opened)
    view = opened.views["reamp"]
    press(qtbot, opened, Qt.Key.Key_G)
    assert view.on_round
    assert view.running.words.text().startswith("5.0 s of ")
    press(qtbot, opened, Qt.Key.Key_R)
    qtbot.waitUntil(lambda: "round 2" in view.running.now.text(), timeout=60_000)
    assert level_of(opened) == "Level \N{EN DASH}"
    press(qtbot, opened, Qt.Key.Key_H)
    qtbot.waitUntil(lambda: level_of(opened) != "Level \N{EN DASH}", timeout=30_000)
    assert abs(figure(opened)) <= 0.1
    volume = view.tone.control("amp", "master")
    assert isinstance(volume, QDoubleSpinBox)
    volume.setValue(volume.value() + 4.0)
    qtbot.waitUntil(
        lambda: "\N{EN DASH}" not in level_of(opened) and abs(figure(opened) - 4.0) < 0.5,
        timeout=60_000,
    )
    assert len(view.running.plot.curves) == 1
    press(qtbot, opened, Qt.Key.Key_P)
    qtbot.waitUntil(
        lambda: len(opened.document.session.takes[0].passes) == 1 and not opened.jobs.busy,
        timeout=60_000,
    )
    made = opened.document.session.takes[0].passes[0]
    assert (made.part.first, made.part.last) == opened.document.session.takes[0].cut
    settled(opened)
    # Against the pass, by choosing it: the master stands as it was printed.
    view._show_round()
    choice = view.running.reference
    press(qtbot, opened, Qt.Key.Key_R)
    qtbot.waitUntil(lambda: "round 1" in view.running.now.text(), timeout=60_000)
    press(qtbot, opened, Qt.Key.Key_J)
    assert "H holds" in opened.window._status.text()
    assert choice.count() >= 2
    track = choice.findText("Amp and cabinet")
    choice.setCurrentIndex(track)
    choice.activated.emit(track)
    qtbot.waitUntil(lambda: "\N{EN DASH}" not in level_of(opened), timeout=60_000)
    press(qtbot, opened, Qt.Key.Key_J)
    qtbot.waitUntil(lambda: not opened.jobs.busy and view.player.playing, timeout=30_000)
    assert view.bar.heard == {"pass"}
    press(qtbot, opened, Qt.Key.Key_J)
    assert view.bar.heard == {"reference"}
    press(qtbot, opened, Qt.Key.Key_G)
    assert not view.on_round
    view.player.pause()
    press(qtbot, opened, Qt.Key.Key_G)
    press(qtbot, opened, Qt.Key.Key_R)
    qtbot.waitUntil(lambda: view._going is not None, timeout=60_000)
    press(qtbot, opened, Qt.Key.Key_G)
    assert opened.jobs.busy, "it goes on while controls are turned"
    press(qtbot, opened, Qt.Key.Key_R)
    assert opened.jobs.title == "The loop goes round"
    press(qtbot, opened, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not view._rounding, timeout=30_000)
    settled(opened)


def test_what_cannot_go_round_is_told(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    view = opened.views["reamp"]
    press(qtbot, opened, Qt.Key.Key_G)
    view._range, view._range_of = (0, 4_800), view.take.id
    press(qtbot, opened, Qt.Key.Key_R)
    assert not opened.jobs.busy
    assert "0.1 s cannot go round" in view.running.words.text()
    press(qtbot, opened, Qt.Key.Key_H)
    assert "R sends the range" in opened.window._status.text()


@pytest.mark.parametrize("key", [Qt.Key.Key_Escape, Qt.Key.Key_Q])
def test_it_ends_when_it_is_left(opened: Desk, qtbot: QtBot, settled: Settle, key: Qt.Key) -> None:
    view = opened.views["reamp"]
    press(qtbot, opened, Qt.Key.Key_G)
    press(qtbot, opened, Qt.Key.Key_R)
    qtbot.waitUntil(lambda: view._going is not None, timeout=60_000)
    press(qtbot, opened, key)
    qtbot.waitUntil(lambda: not opened.jobs.busy and not view._rounding, timeout=30_000)
    settled(opened)


def test_it_says_for_what_it_waits(qtbot: QtBot) -> None:
    panel = RunningPanel()
    qtbot.addWidget(panel)
    panel.show_told(None)
    assert panel.now.text() == "Nothing has come back yet."
    assert "H holds what is heard" in panel.plot._empty
    panel.show_told(Told(None, -200.0, -200.0, 1.5, 5_300, "lost"))
    assert panel.now.text() == "Round 2, 5300 frames lost so far"
    assert "longer blocks" in panel.plot._empty
    panel.show_told(Told(None, -23.3, -12.7, 1.6, 0, "not held"))
    assert panel.now.text().endswith("dBFS peak, round 2")
    assert "does not have this part" in panel.plot._empty
