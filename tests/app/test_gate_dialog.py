"""A gate put to a track in Compare: proposed, drawn, heard, exported, undone."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.dialogs.gate import GateDialog, GateFor
from diaulos.app.views.compare.view import CompareView
from diaulos.session.compared import Gate
from diaulos.signal.gate import propose_gate, step_peaks
from diaulos.work.listening.heard import track_reader

RATE = 48_000


def known() -> GateFor:
    draws = np.random.default_rng(4)
    samples = 3e-4 * draws.uniform(-1.0, 1.0, 3 * RATE)
    time = np.arange(RATE // 2) / RATE
    for first in (0.5, 1.6):
        at = round(first * RATE)
        samples[at : at + time.size] += 0.1 * np.sin(2.0 * np.pi * 220.0 * time)
    peaks = step_peaks(iter([samples]), RATE)
    found = propose_gate(peaks)
    return GateFor(peaks, found, "", found.floor_dbfs)


def test_the_dialog_says_what_it_does(qtbot: QtBot) -> None:
    dialog = GateDialog("Amp", known(), None)
    qtbot.addWidget(dialog)
    dialog.show()
    assert "opens 2 times" in dialog.said.text()
    assert "become" in dialog.said.text()
    assert not dialog.none.isEnabled()
    rows = dialog.plot.as_csv().splitlines()
    assert len(rows) == 3_001
    assert {row.rpartition(",")[2] for row in rows[1:]} == {"yes", "no"}
    dialog.opens.setValue(-10.0)
    assert "never open it" in dialog.said.text()
    dialog.closes.setValue(-5.0)
    assert not dialog.ok.isEnabled()
    assert "at or below" in dialog.problem.text()
    dialog.closes.setValue(-60.0)
    dialog.ok.click()
    assert dialog.answer is not None
    assert dialog.answer.gate == Gate(
        open_dbfs=-10.0, close_dbfs=-60.0, hold_ms=60.0, release_ms=150.0
    )
    grabbed = GateDialog("Amp", known(), Gate(open_dbfs=-40.0, close_dbfs=-50.0))
    qtbot.addWidget(grabbed)
    grabbed.none.click()
    assert grabbed.answer is not None
    assert grabbed.answer.gate is None


def test_without_a_pause_it_says_why_and_can_be_set_all_the_same(qtbot: QtBot) -> None:
    peaks = np.full(2_000, 0.1)
    dialog = GateDialog("Amp", GateFor(peaks, None, "there is no pause in it.", -120.0), None)
    qtbot.addWidget(dialog)
    dialog.show()
    assert dialog.ok.isEnabled()
    assert dialog.plot.grab().width() > 100


def test_put_to_a_track_heard_and_undone(
    opened: Desk, settled: Callable[[Desk], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    opened.show("compare")
    settled(opened)
    view = opened.views["compare"]
    assert isinstance(view, CompareView)
    assert opened.document is not None
    one = view.marked
    assert one is not None

    def answered(self: GateDialog) -> int:
        self.opens.setValue(-20.0)
        self.closes.setValue(-30.0)
        self.ok.click()
        return int(GateDialog.DialogCode.Accepted)

    monkeypatch.setattr(GateDialog, "exec", answered)
    assert opened.window.action("gate").shortcut().toString() == "D"
    opened.window.action("gate").trigger()
    settled(opened)
    session = opened.document.session
    gate = session.gates[one.files[0]]
    assert (gate.open_dbfs, gate.close_dbfs) == (-20.0, -30.0)
    store = opened.document.store
    frames = store.open_audio(one.files[0]).frames
    plain = track_reader(one.files[0], store)(0, frames)
    gated = track_reader(one.files[0], store, session)(0, frames)
    assert np.max(np.abs(gated)) <= np.max(np.abs(plain)) + 1e-6
    assert np.sum(gated**2) < np.sum(plain**2)
    opened.undo()
    assert not opened.document.session.gates
