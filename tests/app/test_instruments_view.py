"""The Instruments view driven as a person would, and held against the core's figures."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hands import type_in
from PySide6.QtCore import Qt
from PySide6.QtTest import QAbstractItemModelTester
from PySide6.QtWidgets import QApplication, QInputDialog, QWidget
from pytestqt.qtbot import QtBot
from test_window import names_missing

from diaulos.__main__ import main
from diaulos.app.desk import Desk
from diaulos.app.dialogs.measure import MeasureDialog
from diaulos.app.views.instruments.view import InstrumentsView
from diaulos.app.widgets.labels import ElidedLabel
from diaulos.circuit.loading import Load, analyse, curves_db
from diaulos.session import edits
from diaulos.work.instruments.drive import drive_change, roll_volume
from diaulos.work.instruments.inputs import AMP_LOAD, compare_inputs
from diaulos.work.instruments.trims import solve_trims, trim_rows
from support import RATE, performance

Settle = Callable[[Desk], None]


@pytest.fixture
def shown(opened: Desk, qtbot: QtBot) -> InstrumentsView:
    opened.window.activateWindow()
    qtbot.keyClick(opened.window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    view = opened.views["instruments"]
    assert view is not None
    assert opened.current is view
    qtbot.waitUntil(lambda: view.settled, timeout=20_000)
    return view


def wait(view: InstrumentsView, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: view.settled and view._jobs.quiet, timeout=60_000)


def press(qtbot: QtBot, view: InstrumentsView, key: Qt.Key) -> None:
    view.window().activateWindow()
    view.list.setFocus()
    qtbot.keyClick(view.window(), key)


def held(view: InstrumentsView):
    return view._document.session


def test_what_is_on_screen_is_what_the_core_says(shown: InstrumentsView) -> None:
    session, instrument = held(shown), shown.instrument
    rows = compare_inputs(session, instrument)
    table = shown.loading.table
    assert table.rowCount() == 2 * len(rows)
    for index, row in enumerate(rows):
        assert table.item(2 * index, 0).text() == row.name
        assert f"{abs(row.figures.level_1khz_db):.1f} dB" in table.item(2 * index, 1).text()
        assert row.words in table.item(2 * index + 1, 0).text()
    for curve, compared in zip(shown.plot.curves, session.compared_inputs, strict=True):
        load = Load.together(instrument.cable, compared.load)
        np.testing.assert_allclose(
            curve.db, curves_db(instrument.circuit(), [load], shown.plot._freqs)[0]
        )
        assert curve.mark_hz == analyse(instrument.circuit(), load).resonance_hz
    for index, row in enumerate(trim_rows(session)):
        words = shown.model.index(index).data(Qt.ItemDataRole.AccessibleTextRole)
        shown_peak = row.reason if row.peak_dbfs is None else f"{abs(row.peak_dbfs):.1f} dBFS"
        assert shown_peak in words


def test_window_shell_and_core_agree_on_the_trims(
    shown: InstrumentsView, opened: Desk, settled: Settle, qtbot: QtBot,
    capsys: pytest.CaptureFixture[str],
) -> None:  # fmt: skip
    press(qtbot, shown, Qt.Key.Key_T)
    solved = solve_trims(held(shown))
    spins = {key: spin.value() for key, spin in shown.trims.spins.items()}
    assert {key: spins[key] for key in solved} == solved
    assert "left over" in opened.window._status.text()
    opened.saving.save()
    settled(opened)
    capsys.readouterr()
    assert main(["trims", str(opened.folder.path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["trims"]
    for row, mine in zip(trim_rows(held(shown)), told, strict=True):
        assert mine["trim_db"] == row.trim_db
        assert mine["left_over_db"] == row.left_over_db
    opened.undo()
    assert held(shown).instrument("baritone").trim_db == -4.0


def test_a_knob_redraws_at_once_and_is_one_step_of_undo(
    shown: InstrumentsView, opened: Desk
) -> None:
    before, session = shown.plot.curves[3].db.copy(), held(shown)
    for value in (90, 80, 70):
        shown.form.volume.setValue(value)
    assert held(shown).instrument("baritone").controls.volume_knob == 7.0
    assert np.max(shown.plot.curves[3].db - before) < -1.0
    opened.undo()
    assert held(shown) == session
    assert shown.form.volume.value() == 100


@pytest.mark.parametrize(
    ("key", "text", "words"),
    [
        ("inductance_h", "5oo", "letter o"),
        ("winding_pf", "-3 pF", "not negative"),
        ("inductance_h", "1e9 H", "not plausible"),
        ("resistance_ohm", "", "not a resistance"),
        ("cable_m", "far", "not a length"),
    ],
)
def test_a_wrong_value_is_told_at_its_field(
    shown: InstrumentsView, key: str, text: str, words: str
) -> None:
    before = held(shown)
    others = {k: f.line.text() for k, f in shown.form.fields.items() if k != key}
    field = shown.form.fields[key]
    good = field.line.text()
    type_in(field, text)
    assert field.reason.isVisibleTo(shown.form)
    assert words in field.reason.text()
    assert field.line.text() == text
    assert held(shown) is before
    assert others == {k: f.line.text() for k, f in shown.form.fields.items() if k != key}
    type_in(field, good)
    assert not field.reason.isVisibleTo(shown.form)


def test_values_are_edited_and_light_up(shown: InstrumentsView, qtbot: QtBot) -> None:
    field = shown.form.fields["inductance_h"]
    field.line.setFocus()
    assert shown.form.schematic.lit == "inductance_h"
    type_in(field, "4.8 H")
    values = held(shown).instrument("baritone").pickup("bridge").values
    assert values.inductance_h == pytest.approx(4.8)
    type_in(shown.form.fields["winding_pf"], "0.2 nF")
    assert held(shown).instrument("baritone").pickup("bridge").values.winding_pf == pytest.approx(
        200
    )
    type_in(shown.form.fields["eddy_ohm"], "none")
    assert held(shown).instrument("baritone").pickup("bridge").values.eddy_ohm is None
    type_in(shown.form.fields["cable_m"], "20 ft")
    assert held(shown).instrument("baritone").cable_m == pytest.approx(6.096)
    type_in(shown.form.fields["volume_ohm"], "1M")
    assert held(shown).instrument("baritone").controls.volume_ohm == 1e6
    wait(shown, qtbot)
    assert shown.form.fields["volume_ohm"].line.text() == "1 MΩ"


def test_positions_types_and_pickups(shown: InstrumentsView, qtbot: QtBot) -> None:
    form = shown.form
    shown.choose("offset")
    form.position.setCurrentIndex(form.position.findData("series"))
    form.position.activated.emit(form.position.currentIndex())
    assert held(shown).instrument("offset").position_id == "series"
    assert "two" in form.schematic.accessibleDescription() or form.schematic._words == "series"
    assert form.which.count() == 2
    form.add_position.click()
    changed = held(shown).instrument("offset")
    assert len(changed.pickups) == 3
    assert changed.position.name == "Pickup 3"
    form.type.setCurrentIndex(form.type.findData("active"))
    form.type.activated.emit(form.type.currentIndex())
    changed = held(shown).instrument("offset")
    third = changed.pickups[-1]
    assert third.values.kind == "active"
    assert all(len(p.pickups) == 1 for p in changed.positions if third.id in p.pickups)
    assert set(form.fields) >= {"output_ohm", "max_dbu"}
    wait(shown, qtbot)


def test_name_strings_and_notes(shown: InstrumentsView, opened: Desk) -> None:
    form = shown.form
    form.name.setText("Long scale")
    form.name.editingFinished.emit()
    assert held(shown).instrument("baritone").name == "Long scale"
    form.name.setText("  ")
    form.name.editingFinished.emit()
    assert form.name.text() == "Long scale"
    form.tuning.setEditText("A1 E2 A2 D3 F#3 B3")
    form.tuning.lineEdit().editingFinished.emit()
    assert held(shown).instrument("baritone").strings[0] == "A1"
    form.tuning.setEditText("A1 H9")
    form.tuning.lineEdit().editingFinished.emit()
    assert "is not a note" in opened.window._status.text()
    assert held(shown).instrument("baritone").strings[0] == "A1"
    form.notes.setText("new frets")
    form.notes.editingFinished.emit()
    assert held(shown).instrument("baritone").notes == "new frets"


def test_add_duplicate_remove_by_key(shown: InstrumentsView, opened: Desk, qtbot: QtBot) -> None:
    control = Qt.KeyboardModifier.ControlModifier
    before = held(shown)
    qtbot.keyClick(opened.window, Qt.Key.Key_A, control | Qt.KeyboardModifier.ShiftModifier)
    assert shown.instrument.name == "New instrument"
    assert not shown.instrument.measured
    assert shown.form.name.hasFocus()
    shown.choose("offset")
    shown.list.setFocus()
    qtbot.keyClick(opened.window, Qt.Key.Key_D, control)
    assert shown.instrument.name.endswith("(copy)")
    assert shown.instrument.strength == ()
    qtbot.keyClick(opened.window, Qt.Key.Key_Delete, control)
    assert len(held(shown).instruments) == 5
    for _ in range(3):
        opened.undo()
    assert held(shown) == before
    wait(shown, qtbot)


def test_arrows_change_the_instrument(shown: InstrumentsView, qtbot: QtBot) -> None:
    shown.list.setFocus()
    qtbot.keyClick(shown.list, Qt.Key.Key_Down)
    assert shown.instrument.id == "offset"
    wait(shown, qtbot)
    assert shown.form.name.text() == "Offset guitar, single coils, standard"
    press(qtbot, shown, Qt.Key.Key_2)
    assert shown._page() is shown.trims
    press(qtbot, shown, Qt.Key.Key_3)
    assert shown._page() is shown.drive
    press(qtbot, shown, Qt.Key.Key_1)
    assert shown._page() is shown.loading


def test_inputs_are_compared_six_at_most(shown: InstrumentsView, qtbot: QtBot) -> None:
    shown.form._change_input(0, ohm=22e3)
    assert held(shown).compared_inputs[0].ohm == 22e3
    shown.form._add_pair()
    assert len(held(shown).compared_inputs) == 6
    assert held(shown).compared_inputs[5].beside_ohm is not None
    wait(shown, qtbot)
    assert len(shown.plot.curves) == 6
    shown._apply(edits.set_compared_inputs((*held(shown).compared_inputs,) * 2))
    assert len(held(shown).compared_inputs) == 6
    shown.form._remove_input(5)
    from_rig = [a.text() for a in shown.form._input_menu(held(shown)).actions()]
    assert "18 W combo: Input, 1 MΩ" in from_rig
    assert "Active DI: Input, 10 MΩ" in from_rig  # of the rig that records
    shown.form._input_menu(held(shown)).actions()[0].trigger()
    assert held(shown).compared_inputs[5].name == "Typed input"


def test_more_than_six_is_told(shown: InstrumentsView, answers: dict) -> None:
    shown._apply(edits.set_compared_inputs((*held(shown).compared_inputs,) * 2))
    assert "Six inputs" in answers["asked"][0][0]


def test_the_impedance_is_chosen_for_the_reference(shown: InstrumentsView, qtbot: QtBot) -> None:
    page = shown.loading
    assert "1 MΩ" in page.choice.text()
    page.reference.setCurrentIndex(page.reference.findData("low"))
    assert "47 kΩ" in page.use.text()
    page.use.click()
    assert held(shown).tone_stage.impedance_ohm == 47e3
    wait(shown, qtbot)
    assert not page.use.isEnabled()
    page.reference.setCurrentIndex(page.reference.findData("amp"))
    page.table.setCurrentCell(2, 0)
    assert "Low instrument input is" in page.mend.text()
    assert "active DI" in page.mend.text()
    wait(shown, qtbot)


def test_the_inverse_and_its_limits(shown: InstrumentsView, qtbot: QtBot) -> None:
    page = shown.loading
    type_in(page.wanted, "2.4 kHz")
    wait(shown, qtbot)
    assert "of this cable" in page.inverse.text()
    type_in(page.wanted, "9 kHz")
    wait(shown, qtbot)
    assert "No capacitance gives 9 kHz with this pickup: the highest is" in page.inverse.text()
    type_in(page.wanted, "many")
    assert page.wanted.reason.isVisibleTo(page)


def test_a_strum_on_the_bench_is_measured(
    shown: InstrumentsView, opened: Desk, qtbot: QtBot, settled: Settle
) -> None:
    shown.choose("semi")
    press(qtbot, shown, Qt.Key.Key_B)
    settled(opened)
    reading = held(shown).instrument("semi").strength[-1]
    assert reading.label == "Bench strum 2"
    assert reading.full_scale_dbu == 12.0
    assert reading.strums == 5
    row = next(r for r in trim_rows(held(shown)) if r.instrument_id == "semi")
    assert row.peak_dbfs is not None
    assert "Bench strum 2: peak" in opened.window._status.text()


def test_measuring_a_file_and_a_take(
    shown: InstrumentsView, opened: Desk, qtbot: QtBot, settled: Settle, tmp_path: Path
) -> None:
    path = tmp_path / "hard.wav"
    soundfile.write(str(path), 0.5 * performance(seconds=3.0), RATE)
    dialog = MeasureDialog(held(shown), shown.instrument, shown)
    assert names_missing(dialog) == []
    assert dialog.source.currentText() == "The DI of Slack water, verse"
    assert dialog.request().full_scale_dbu == 14.0
    dialog.source.setCurrentIndex(0)
    ok = dialog._buttons.button(dialog._buttons.StandardButton.Ok)
    assert not ok.isEnabled()
    dialog.choose_file(path)
    dialog.calibration.unknown.setChecked(False)
    dialog.calibration.level.setValue(9.0)
    shown.measure(dialog.request())
    settled(opened)
    reading = held(shown).instrument("baritone").strength[-1]
    assert (reading.label, reading.full_scale_dbu) == ("hard", 9.0)
    assert reading.peak_dbfs == pytest.approx(-6.02, abs=0.01)
    count = len(held(shown).instrument("baritone").strength)
    shown.trims.readings.setCurrentRow(count - 1)
    shown.trims.remove.click()
    assert len(held(shown).instrument("baritone").strength) == count - 1
    dialog.deleteLater()


def test_a_silent_file_is_told_and_changes_nothing(
    shown: InstrumentsView, opened: Desk, settled: Settle, tmp_path: Path, answers: dict
) -> None:
    path = tmp_path / "silent.wav"
    soundfile.write(str(path), np.zeros(RATE), RATE)
    before = held(shown)
    dialog = MeasureDialog(held(shown), shown.instrument, shown)
    dialog.choose_file(path)
    shown.measure(dialog.request())
    settled(opened)
    assert "silent" in answers["asked"][0][0]
    assert held(shown) is before
    dialog.deleteLater()


def test_trims_by_hand_and_kept_hot(shown: InstrumentsView, opened: Desk) -> None:
    shown.show_trims()
    shown.trims.spins["fretless"].setValue(-3.0)
    assert held(shown).instrument("fretless").trim_db == -3.0
    window, told, hot = shown.trims._windows["fretless"]
    row = next(r for r in trim_rows(held(shown)) if r.instrument_id == "fretless")
    assert window.figures.peak == pytest.approx(row.peak_dbfs)
    assert f"{abs(row.drive_db):.1f} dB" in told.text()
    hot.click()
    assert held(shown).instrument("fretless").keep_hot
    assert "fretless" not in solve_trims(held(shown))
    shown.trims.target.setValue(-10.0)
    assert held(shown).target_peak_dbfs == -10.0
    shown.trims.pad.click()
    assert held(shown).tone_stage.pad_on
    assert "strum evenly" not in shown.trims.warnings.text()
    shown.choose("fretless")
    assert "strums differ" in shown.trims.warnings.text()


def test_profiles_go_to_the_sheet(shown: InstrumentsView, opened: Desk, settled: Settle) -> None:
    shown.show_trims()
    shown.trims.send.click()
    settled(opened)
    text = (opened.folder.path / "sheets" / "trims.csv").read_text("utf-8")
    assert "Offset guitar" in text
    assert "sheets/trims.csv" in opened.window._status.text()


def test_the_pad_question(
    shown: InstrumentsView, opened: Desk, qtbot: QtBot, settled: Settle
) -> None:
    shown.choose("offset")
    press(qtbot, shown, Qt.Key.Key_3)
    page, session = shown.drive, held(shown)
    change = drive_change(session, page.chosen, session.instrument("offset"))
    assert f"{abs(change.drive_db):.1f} dB" in page.drive.text()
    assert change.made_with in page.made.text()
    press(qtbot, shown, Qt.Key.Key_U)
    settled(opened)
    assert page.make_up.text().startswith("Make-up: ")
    assert "measured with Slack water, chorus" in page.make_up.text()
    page.pad.click()
    assert "more gently" in page.drive.text()
    assert "not measured yet" in page.make_up.text()
    page.set_trim.click()
    trimmed = held(shown).instrument("offset").trim_db
    assert trimmed > 5.0
    shown.choose("semi")
    assert "without a calibration" in page.same.text()


def test_a_tone_is_kept_and_remembered_in_reamp(
    shown: InstrumentsView, opened: Desk, qtbot: QtBot, settled: Settle,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    shown.choose("fretless")
    shown.show_drive()
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Low tide", True))
    opened.document.apply(edits.set_device_setting("rig01", "amp", "drive", 6.5))
    shown.drive.keep.click()
    (tone,) = (t for t in held(shown).tones if t.name == "Low tide")
    assert (tone.instrument_id, tone.drive) == ("fretless", 6.5)
    assert shown.drive.chosen == tone
    assert "driven as it was made" in shown.drive.drive.text()
    opened.show("reamp")
    settled(opened)
    assert opened.views["reamp"].take.instrument_id == "baritone"
    assert "Low tide was made with Five-string fretless" in opened.views["reamp"]._send_text.text()
    assert "more gently" in opened.views["reamp"]._send_text.text()
    opened.show("instruments")
    shown.drive.remove.click()
    assert tone not in held(shown).tones


def test_the_load_of_a_di_is_undone_in_reamp(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    view = opened.views["reamp"]
    view.take_list.setCurrentIndex(view.takes.index(3))
    settled(opened)
    before = view._plan.send.amp_peak_dbu
    assert "up to" in view.tone.load_text.toolTip()
    view.tone._undo.click()
    settled(opened)
    assert view._plan.send.amp_peak_dbu > before + 1.0
    view.reamp()
    settled(opened)
    made = opened.document.session.take("Marram, intro").passes[0]
    assert "100 kΩ to 1 MΩ" in made.unloaded
    view.store_unloaded()
    settled(opened)
    assert view.take.name == "Marram, intro, load undone"
    view.take_list.setCurrentIndex(view.takes.index(3))
    settled(opened)
    index = view.tone.load.findData(10e3)
    view.tone.load.setCurrentIndex(index)
    view.tone.load.activated.emit(index)
    settled(opened)
    assert opened.document.session.take("Marram, intro").di.load_ohm == 10e3
    assert "would be needed" in view.tone.load_text.toolTip()
    assert not view.tone._undo.isEnabled()


def test_plot_reading_and_copies(shown: InstrumentsView, opened: Desk, qtbot: QtBot) -> None:
    plot = shown.plot
    plot.setFocus()
    qtbot.keyClick(plot, Qt.Key.Key_Right)
    assert plot._cursor_hz == pytest.approx(1020.0)
    names = [name for name, _ in plot.read(1000.0)]
    assert names == [c.name for c in held(shown).compared_inputs]
    opened.copy_csv()
    lines = QApplication.clipboard().text().splitlines()
    assert len(lines) == 1001
    assert lines[0].startswith("Hz,Line input")
    opened.copy_image()
    assert not QApplication.clipboard().pixmap().isNull()


def test_every_control_has_a_name_and_can_be_reached(shown: InstrumentsView, qtbot: QtBot) -> None:
    for page in (shown.show_loading, shown.show_trims, shown.show_drive):
        page()
        assert names_missing(shown) == []
        wanted = {
            w for w in shown.findChildren(QWidget)
            if w.isVisible() and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus
            and w.focusProxy() is None and not w.objectName().startswith("qt_")
            and type(w.parent()).__name__ not in ("QDoubleSpinBox", "QComboBox")
        }  # fmt: skip
        shown.list.setFocus()
        seen: set[QWidget] = set()
        for _ in range(160):
            focus = QApplication.focusWidget()
            if focus is not None:
                seen.add(focus)
            qtbot.keyClick(focus or shown, Qt.Key.Key_Tab)
        missed = {f"{type(w).__name__} {w.accessibleName()}" for w in wanted - seen}
        assert not missed


def test_the_view_fits_1280_by_800(shown: InstrumentsView, opened: Desk) -> None:
    opened.window.resize(1280, 800)
    assert opened.window.minimumSizeHint().width() <= 1280
    assert opened.window.minimumSizeHint().height() <= 800


def test_the_model_holds_to_qts_rules(shown: InstrumentsView) -> None:
    tester = QAbstractItemModelTester(
        shown.model, QAbstractItemModelTester.FailureReportingMode.Fatal
    )
    shown.solve_trims()
    shown.add_instrument()
    assert tester


def test_an_empty_session_says_what_to_do(desk: Desk, tmp_path: Path, settled: Settle) -> None:
    from diaulos.wiring import new_session

    folder, session = new_session(tmp_path / "Empty")
    desk.attach(folder, session)
    desk.show("instruments")
    settled(desk)
    view = desk.views["instruments"]
    assert view._empty.isVisible()
    for call in (view.solve_trims, view.duplicate_instrument, view.remove_instrument,
                 view.measure_on_bench, view.measure_make_up, view.ask_measure):  # fmt: skip
        call()
    assert desk.document.session == session
    assert not view.form.isEnabled()


def test_keys_belong_to_the_view_that_is_shown(
    shown: InstrumentsView, opened: Desk, qtbot: QtBot
) -> None:
    press(qtbot, shown, Qt.Key.Key_R)
    assert not opened.jobs.busy
    assert opened.window.preferences.view == "instruments"
    qtbot.keyClick(opened.window, Qt.Key.Key_5, Qt.KeyboardModifier.ControlModifier)
    assert opened.current is opened.views["reamp"]
    assert not opened.window.action("solve_trims").isEnabled()
    assert opened.window.action("reamp").isEnabled()


# --- the tone stage is the rig's device ---


def with_modeler(opened: Desk) -> None:
    """The interface that records is a modeler with an input trim."""
    from diaulos.rig.templates import build

    document = opened.document
    document.apply(edits.add_rig(build("modeler-usb", "rigx")))
    document.apply(edits.choose_recording_rig("rigx"))


def modeler_trim(opened: Desk) -> float:
    return opened.document.session.rig("rigx").device("modeler").number("input_trim")


def test_the_instrument_in_hand_sets_the_devices_trim(shown: InstrumentsView, opened: Desk) -> None:
    with_modeler(opened)
    hand = shown.hand
    hand.box.setCurrentIndex(hand.box.findData("baritone"))
    hand.box.activated.emit(hand.box.currentIndex())
    assert modeler_trim(opened) == held(shown).instrument("baritone").trim_db == -4.0
    assert "Set trim \N{MINUS SIGN}4 dB" in hand.task.text()
    opened.show("takes")
    assert opened.views["takes"].hand.box.currentData() == "baritone", "one list in both views"
    opened.show("instruments")
    shown.show_trims()
    shown.trims.spins["baritone"].setValue(-7.0)
    assert modeler_trim(opened) == -7.0
    opened.document.undo()
    assert modeler_trim(opened) == -4.0
    shown.trims.stage_name.setText("Blue box")
    shown.trims.stage_name.editingFinished.emit()
    assert opened.document.session.rig("rigx").device("modeler").name == "Blue box"
    assert "Blue box" in hand.task.text()
    hand.done.click()
    assert "Blue box: set" in hand.task.text()
    hand.undone.click()
    assert "NOT SET" in hand.task.text()


def test_a_renamed_instrument_is_renamed_everywhere(shown: InstrumentsView, opened: Desk) -> None:
    shown.show_trims()
    shown._apply(edits.change_instrument("offset", "Rename", name="Jangler"))
    names = [label.text() for label in shown.trims.findChildren(ElidedLabel)]
    assert any("Jangler" in name for name in names)
    assert any("Jangler" in shown.hand.box.itemText(i) for i in range(shown.hand.box.count()))


def test_a_tone_goes_to_a_file_and_comes_back(
    shown: InstrumentsView, opened: Desk, settled: Settle, tmp_path: Path
) -> None:
    shown.choose("offset")
    shown.show_drive()
    settled(opened)
    count = len(held(shown).tones)
    path = tmp_path / "grit.json"
    shown.export_tone(path)
    settled(opened)
    shown.read_tone(path)
    settled(opened)
    assert len(held(shown).tones) == count + 1
    assert "hotter here" in opened.window._status.text() or "weaker here" in (
        opened.window._status.text()
    )
    path.write_text("{}", "utf-8")
    shown.read_tone(path)
    settled(opened)
    assert len(held(shown).tones) == count + 1


def test_the_volume_knob_shows_a_curve(shown: InstrumentsView, opened: Desk) -> None:
    shown.choose("offset")
    shown._apply(edits.set_trims({"offset": 6.0}, "Trim"))
    shown.show_drive()
    (line,) = shown.drive.curve.curves
    rolled = roll_volume(held(shown).instrument("offset"), AMP_LOAD, shown.drive.change.drive_db)
    assert tuple(line.db) == rolled.curve_db
    assert f"{abs(rolled.treble_db):.1f} dB" in shown.drive.roll.text()
    assert "2 to 6 kHz" in shown.drive.roll.text()


def test_the_page_says_whose_figures_the_stage_has(shown: InstrumentsView, opened: Desk) -> None:
    shown.show_trims()
    assert "typed here" in shown.trims.stage_note.text()
    with_modeler(opened)
    assert opened.document.session.rig("rigx").name in shown.trims.stage_note.text()
