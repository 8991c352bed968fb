"""A pickup identified at the window: swept into two loads, drawn, taken over, undone."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.dialogs.identify import IdentifyDialog
from diaulos.app.views.instruments.view import InstrumentsView
from diaulos.session.instrument import CoilValues, Instrument


@pytest.fixture
def view(opened: Desk, settled: Callable[[Desk], None]) -> InstrumentsView:
    opened.show("instruments")
    settled(opened)
    shown = opened.views["instruments"]
    assert isinstance(shown, InstrumentsView)
    return shown


@pytest.fixture
def dialog(
    view: InstrumentsView, opened: Desk, monkeypatch: pytest.MonkeyPatch
) -> Iterator[IdentifyDialog]:
    """As the key I opens it; it stays for the length of the test."""
    monkeypatch.setattr(IdentifyDialog, "exec", lambda self: self.show())
    opened.window.action("identify").trigger()
    made = view.findChild(IdentifyDialog)
    assert made is not None
    yield made
    made.close()
    made.deleteLater()


def coil_of(one: Instrument) -> CoilValues:
    assert one.position is not None
    values = one.pickup(one.position.pickups[0]).values
    assert isinstance(values, CoilValues)
    return values


def test_two_sweeps_tell_what_it_is_made_of(
    dialog: IdentifyDialog, opened: Desk, view: InstrumentsView,
    settled: Callable[[Desk], None], qtbot: QtBot,
) -> None:  # fmt: skip
    assert opened.window.action("identify").shortcut().toString() == "I"
    assert not dialog.take.isEnabled()
    assert not dialog.output.isEnabled(), "the simulated studio has one"
    qtbot.mouseClick(dialog.sweeps[0], Qt.MouseButton.LeftButton)
    settled(opened)
    assert dialog.told[0].text().startswith("measured, peak")
    assert "second, clearly different load" in dialog.reason.text()
    assert not dialog.take.isEnabled()
    qtbot.mouseClick(dialog.sweeps[1], Qt.MouseButton.LeftButton)
    settled(opened)
    assert dialog.found is not None
    values = coil_of(dialog.instrument)
    assert dialog.found.told["inductance_h"].value == pytest.approx(values.inductance_h, rel=0.01)
    assert "\N{PLUS-MINUS SIGN}" in dialog.values["inductance_h"].text()
    assert "as a sum" in dialog.reason.text()
    assert [curve.name for curve in dialog.plot.curves] == [
        "the input alone", "load 2", "fit, the input alone", "fit, load 2"
    ]  # fmt: skip
    assert dialog.take.isEnabled()
    qtbot.mouseClick(dialog.take, Qt.MouseButton.LeftButton)
    assert dialog.edit is not None
    before = dialog.instrument
    view._apply(dialog.edit)
    after = view.instrument
    assert after is not None
    assert after.measured
    assert coil_of(after) != values
    opened.undo()
    assert view.instrument == before


def test_another_resistor_wants_another_sweep(
    dialog: IdentifyDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    for button in dialog.sweeps[:2]:
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
        settled(opened)
    before = dialog.found
    dialog.resistors[1].line.setText("100 k")
    dialog.resistors[1].line.editingFinished.emit()
    settled(opened)
    assert dialog.told[1].text() == "changed: sweep again"
    assert not dialog.take.isEnabled()
    # What the input has is a matter of arithmetic, not of another sweep.
    dialog.input_ohm.line.setText("500 k")
    dialog.input_ohm.line.editingFinished.emit()
    settled(opened)
    assert dialog.responses[0] is not None
    assert dialog.found is not before


def test_what_cannot_be_identified_is_said(
    view: InstrumentsView, opened: Desk, settled: Callable[[Desk], None],
    monkeypatch: pytest.MonkeyPatch, qtbot: QtBot,
) -> None:  # fmt: skip
    said: list[str] = []
    view.said.connect(said.append)
    assert opened.document is not None
    bass = next(one for one in opened.document.session.instruments if one.active)
    view.choose(bass.id)
    settled(opened)
    view.ask_identify()
    assert "one magnetic pickup" in said[-1]


def test_a_silent_input_is_named(
    dialog: IdentifyDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    dialog.level.setValue(-60.0)
    qtbot.mouseClick(dialog.sweeps[2], Qt.MouseButton.LeftButton)
    settled(opened)
    assert "clear of the noise" in dialog.said.text()
    assert dialog.told[2].text() == "not measured yet"


def test_closing_ends_the_sweep(
    dialog: IdentifyDialog, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    dialog.sweep(0)
    assert opened.jobs.busy
    dialog.reject()
    settled(opened)
    assert dialog.responses[0] is None


def test_plucks_do_without_a_coil(
    dialog: IdentifyDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    qtbot.mouseClick(dialog.sweeps[0], Qt.MouseButton.LeftButton)
    settled(opened)
    dialog.common.setCurrentIndex(dialog.common.findData("each"))
    settled(opened)
    assert dialog.responses[0] is None, "a sweep is not held against plucks"
    assert dialog.told[0].text() == "measured otherwise: again"
    assert "pluck every open string" in dialog.steps.text()
    assert not dialog.level.isEnabled()
    values = coil_of(dialog.instrument)
    dialog.meter.line.setText(f"{values.resistance_ohm:.0f}")
    dialog.meter.line.editingFinished.emit()
    for button in dialog.sweeps:
        assert "Pluck" in button.text()
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
        settled(opened)
    assert dialog.found is not None
    told = dialog.found.told["inductance_h"]
    assert abs(told.value - values.inductance_h) <= told.error
    assert "Hz" in dialog.values["resonance_hz"].text()
    assert len(dialog.plot.curves) == 6
    dialog.common.setCurrentIndex(0)
    assert dialog.responses[0] is None
    assert "Sweep" in dialog.sweeps[0].text()
