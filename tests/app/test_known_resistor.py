"""A cable, an input and an output measured at the window by a known resistor."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.dialogs.known_resistor import KnownResistorDialog
from diaulos.app.views.instruments.view import InstrumentsView


@pytest.fixture
def dialog(
    opened: Desk, settled: Callable[[Desk], None], monkeypatch: pytest.MonkeyPatch
) -> Iterator[KnownResistorDialog]:
    """As Shift+I opens it; it stays for the length of the test."""
    monkeypatch.setattr(KnownResistorDialog, "exec", lambda self: self.show())
    opened.show("instruments")
    settled(opened)
    opened.window.action("by_resistor").trigger()
    made = opened.views["instruments"].findChild(KnownResistorDialog)
    assert made is not None
    yield made
    made.close()
    made.deleteLater()


def measure(
    dialog: KnownResistorDialog, at: int, desk: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> str:
    dialog.what.setCurrentIndex(at)
    dialog.what.activated.emit(at)
    for button in dialog.sweeps:
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
        settled(desk)
    return dialog.found.text()


def test_a_cable_is_measured_and_taken_over(
    dialog: KnownResistorDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    dialog.input_pf.line.setText("55 p")
    dialog.input_pf.line.editingFinished.emit()
    told = measure(dialog, 0, opened, settled, qtbot)
    one = dialog.instrument
    assert f"{one.cable_pf_per_m:.0f} pF/m" in told
    assert "Fit within" in told
    assert dialog.take.isEnabled()
    dialog.length.setValue(2.0 * one.cable_m)
    assert dialog.edit is not None
    view = opened.views["instruments"]
    assert isinstance(view, InstrumentsView)
    view._apply(dialog.edit)
    assert view.instrument is not None
    assert view.instrument.cable_m == 2.0 * one.cable_m
    assert view.instrument.cable_pf_per_m == pytest.approx(one.cable_pf_per_m / 2.0, rel=0.02)
    opened.undo()
    assert view.instrument == one


def test_an_input_and_an_output(
    dialog: KnownResistorDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    told = measure(dialog, 1, opened, settled, qtbot)
    assert "impedance is 1.000 ± 0.005 MΩ" in told, told
    assert not dialog.take.isVisible()
    told = measure(dialog, 2, opened, settled, qtbot)
    assert "150.00 ± 0.7" in told, told
    assert "speaker output" in dialog.steps.text()
    # Another resistor than the one that was in tells another figure, and says so where it cannot.
    dialog.resistor.line.setText("1 M")
    dialog.resistor.line.editingFinished.emit()
    assert dialog.found.text() != told
