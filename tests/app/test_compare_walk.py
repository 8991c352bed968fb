"""Compare on the demo by the keyboard alone: places, two ways in, two microphones, a part played
twice, two amps that come out inverted; then a low cut, a blind test, and the whole undone."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from hands import CTRL, PLAIN, press, through
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog
from pytestqt.qtbot import QtBot

from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.dialogs.candidates import CandidatesDialog
from diaulos.app.dialogs.low_cut import LowCutDialog
from diaulos.app.views.compare.judging import PAGES
from diaulos.app.views.compare.view import CompareView
from diaulos.demo.saltmarsh import write_demo
from diaulos.session.model import Session

Settle = Callable[[Desk], None]


class Walk:
    """Somebody at the keys."""

    def __init__(
        self, desk: Desk, settled: Settle, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot
    ) -> None:
        self.desk, self._settled, self._monkeypatch = desk, settled, monkeypatch
        desk.window.activateWindow()
        qtbot.waitUntil(desk.window.isActiveWindow, timeout=10_000)
        self._qtbot = qtbot

    def key(self, key: Qt.Key, modifier: Qt.KeyboardModifier = PLAIN) -> None:
        self.desk.window.activateWindow()
        self._qtbot.waitUntil(self.desk.window.isActiveWindow, timeout=10_000)
        press(key, modifier)
        self._settled(self.desk)

    @property
    def view(self) -> CompareView:
        shown = self.desk.views["compare"]
        assert isinstance(shown, CompareView)
        return shown

    @property
    def session(self) -> Session:
        assert self.desk.document is not None
        return self.desk.document.session

    def page(self, wanted: str) -> None:
        """Q until the question is this one."""
        for _ in PAGES:
            if self.view.judge.page == wanted:
                return
            self.key(Qt.Key.Key_Q)
        pytest.fail(f"no page {wanted}")

    def compare(self, *wanted: str) -> None:
        """Take everything out, add what these words find."""
        view = self.view
        while view.candidates:
            self.key(Qt.Key.Key_Delete)
        for words in wanted:

            def choose(dialog: CandidatesDialog, words: str = words) -> None:
                assert dialog.filter.hasFocus() or dialog.list.hasFocus()
                dialog.filter.setFocus()
                QTest.keyClicks(dialog.filter, words)
                press(Qt.Key.Key_Tab)
                press(Qt.Key.Key_A, CTRL)
                press(Qt.Key.Key_Return)

            through(self._monkeypatch, CandidatesDialog, choose)
            self.key(Qt.Key.Key_A)


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo as it ships, with what it compares."""
    path = tmp_path_factory.mktemp("whole") / "Saltmarsh.diaulos"
    folder, _ = write_demo(path)
    folder.close()
    return path


@pytest.fixture
def opened(whole: Path, desk: Desk, settled: Settle, tmp_path: Path) -> Desk:
    """A copy of it, open."""
    copy = tmp_path / "Saltmarsh.diaulos"
    shutil.copytree(whole, copy)
    assert desk.open_path(copy)
    settled(desk)
    return desk


def test_the_demo_is_compared_by_keys(
    opened: Desk, settled: Settle, qtbot: QtBot, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.apply(app, theme.NIGHT)  # the other tests of this view are by day
    walk = Walk(opened, settled, monkeypatch, qtbot)
    walk.key(Qt.Key.Key_6, CTRL)
    view = walk.view

    # Places: what was put into the demo last is there at once.
    assert [one.name for one in view.candidates] == ["Centre", "Edge", "Off axis", "Farther"]
    assert "less at" in view.answer.sentence.text()
    walk.key(Qt.Key.Key_3)
    assert view.player.heard == {view.candidates[2].key}
    walk.key(Qt.Key.Key_Space)
    assert view.player.playing
    walk.key(Qt.Key.Key_2)
    assert view.player.playing
    assert view.player.heard == {view.candidates[1].key}
    walk.key(Qt.Key.Key_Space)
    walk.page("places")
    assert view.judge.places.isVisible()

    # Two ways in of one performance.
    walk.compare("Modeled")
    assert [one.name for one in view.candidates] == ["Modeled, digital", "Modeled, analog"]
    walk.page("ways")
    assert "1 conversion" in " ".join(
        label.text() for label in view.judge.ways.findChildren(type(view.answer.sentence))
    )

    # Two microphones on a bass cabinet: into time, and back.
    walk.compare("Low tide")
    names = [one.name for one in view.candidates]
    assert names == ["DI", "Microphone, lows", "Microphone, highs"]
    walk.page("timing")
    walk.key(Qt.Key.Key_M)
    assert walk.session.moves
    walk.key(Qt.Key.Key_Z, CTRL)
    assert not walk.session.moves

    # A part played twice.
    walk.compare("Combo Chorus, two", "Combo Chorus, again")
    assert [one.take_name for one in view.candidates] == ["Chorus, two ways in", "Chorus, again"]
    walk.page("doubled")
    told = " ".join(
        label.text() for label in view.judge.doubled.findChildren(type(view.answer.sentence))
    )
    assert "ms" in told
    walk.key(Qt.Key.Key_W)
    pans = sorted(one.pan for one in walk.session.mix.values() if one.pan)
    assert pans == [-1.0, 1.0]
    walk.key(Qt.Key.Key_Z, CTRL)

    # Two amps of which one comes out inverted.
    walk.compare("Combo Chorus, two", "Stack")
    walk.page("stack")
    advice = view.judge.stack.verdict.text()
    assert advice.startswith("Turn one and move it into time first")
    walk.key(Qt.Key.Key_P)
    walk.key(Qt.Key.Key_M)
    # The advice works when it is followed.
    assert view.judge.stack.verdict.text().startswith("Stack (+2.9 of 3.0")
    walk.key(Qt.Key.Key_Z, CTRL)
    walk.key(Qt.Key.Key_Z, CTRL)
    assert view.judge.stack.verdict.text() == advice
    walk.key(Qt.Key.Key_T)
    walk.key(Qt.Key.Key_U)
    assert "in an order that nobody knows" in opened.window._status.text()
    walk.key(Qt.Key.Key_U)

    # A low cut, as proposed.
    through(monkeypatch, LowCutDialog, lambda _dialog: press(Qt.Key.Key_Return))
    walk.key(Qt.Key.Key_C)
    assert len(walk.session.low_cuts) == 1
    walk.key(Qt.Key.Key_Z, CTRL)

    # A blind test, stopped early, kept and exported.
    out = tmp_path / "blind.csv"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(out), ""))
    walk.key(Qt.Key.Key_B)
    walk.key(Qt.Key.Key_Return)
    for _ in range(3):
        walk.key(Qt.Key.Key_3)
        walk.key(Qt.Key.Key_Left)
    walk.key(Qt.Key.Key_Escape)
    (kept,) = [one for one in walk.session.blind_tests if len(one.trials) == 3]
    assert kept.a.file == view.candidates[0].key
    walk.key(Qt.Key.Key_E)
    assert out.is_file()
    walk.key(Qt.Key.Key_Escape)
    assert view.pages.currentIndex() == 0
