"""The Rig view driven as a person would, and held against the core and the shell."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QDoubleSpinBox, QInputDialog, QMenu, QWidget
from pytestqt.qtbot import QtBot
from test_window import names_missing

from diaulos.__main__ import main
from diaulos.app.desk import Desk
from diaulos.app.dialogs.arrangement import ArrangementDialog
from diaulos.app.views.rig.view import RigView
from diaulos.app.widgets.labels import TextLabel
from diaulos.rig.catalogue.types import TYPES
from diaulos.rig.checks import Severity
from diaulos.rig.layout import PORT_H
from diaulos.rig.model import PortRef
from diaulos.rig.states import in_state
from diaulos.rig.templates import TEMPLATES, build
from diaulos.rig.ways import ways_into
from diaulos.session import edits
from diaulos.work.rigs.look import look_at, rig_graph
from support import big_rig

Settle = Callable[[Desk], None]


def port(text: str) -> PortRef:
    device, name = text.split(".")
    return PortRef(device=device, port=name)


@pytest.fixture
def shown(opened: Desk, qtbot: QtBot) -> RigView:
    """The live room with its wrong patches."""
    opened.document.apply(edits.choose_rig("rig04"))
    opened.window.activateWindow()
    qtbot.keyClick(opened.window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    view = opened.views["rig"]
    assert view is not None
    assert opened.current is view
    settle(view, qtbot)
    return view


def settle(view: RigView, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: view.settled and view._jobs.quiet, timeout=60_000)


def press(qtbot: QtBot, view: RigView, key: Qt.Key) -> None:
    view.window().activateWindow()
    view.diagram.setFocus()
    qtbot.keyClick(view.window(), key)
    settle(view, qtbot)


def undo(view: RigView, qtbot: QtBot) -> None:
    view.window().activateWindow()
    view.diagram.setFocus()
    qtbot.keyClick(view.window(), Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle(view, qtbot)


def held(view: RigView):
    return view._document.session


def test_window_shell_and_core_agree(
    shown: RigView, opened: Desk, capsys: pytest.CaptureFixture[str]
) -> None:
    report = look_at(held(shown))
    table = shown.findings.table
    assert table.rowCount() == len(report.findings) > 5
    for row, one in enumerate(report.findings):
        assert table.item(row, 0).text() == one.severity.word
        assert table.item(row, 1).text() == one.where
    opened.folder.save(held(shown))
    assert main(["check", str(opened.folder.path), "--json"]) == 11
    found = json.loads(capsys.readouterr().out)["findings"]
    assert [f["id"] for f in found] == [one.id for one in report.findings]
    main(["courses", str(opened.folder.path), "--json"])
    courses = json.loads(capsys.readouterr().out)["courses"]
    tracks = shown.tracks.table
    assert tracks.rowCount() == len(courses) == 3
    for row, course in enumerate(courses):
        assert tracks.item(row, 1).text() == course["name"]
        assert f"{abs(course['planned_peak_dbfs']):.1f} dBFS" in tracks.item(row, 7).text()
        assert f"{course['delay_ms']:.2f} ms" == tracks.item(row, 6).text()
        assert (tracks.item(row, 8).text() == "yes") == any(
            at["clips_by_db"] for at in course["stations"]
        )


def test_the_strip_keeps_the_courses_in_sight(shown: RigView, opened: Desk) -> None:
    strip = opened.window.strip
    assert [row.name for row in strip._rows] == ["DI", "Amp", "Amp and cabinet"]
    assert strip._rows[2].serious
    assert "dry DI" in strip.accessibleDescription()
    strip.chosen.emit("DI")
    boxes = {box.device for box in shown.diagram._layout.boxes}
    assert boxes == {"guitar", "di", "interface", "computer"}
    strip.chosen.emit("DI")
    assert len(shown.diagram._layout.boxes) == len(shown.rig.devices)
    opened.show("reamp")
    names = [row.name.split(":")[0] for row in strip._rows]
    assert names == ["Combo by box", "Tall stack by box", "Bass by box"]


def test_show_and_apply_a_remedy_by_key(shown: RigView, qtbot: QtBot) -> None:
    before = shown.rig
    index = next(n for n, one in enumerate(shown.report.findings) if one.id == "line-into-mic")
    shown.findings.table.setCurrentCell(index, 0)
    press(qtbot, shown, Qt.Key.Key_S)
    assert shown.diagram.port == port("interface.in4")
    assert shown.panel.question.text() == "What goes into Input 4?"
    press(qtbot, shown, Qt.Key.Key_A)
    assert shown.rig.device("interface").word("mode4") == "line"
    assert "line-into-mic" not in {one.id for one in shown.report.findings}
    undo(shown, qtbot)
    assert shown.rig == before


def test_a_planned_track_whose_port_has_gone_can_be_shown(shown: RigView, qtbot: QtBot) -> None:
    def gone(rig):
        track = rig.tracks[0].model_copy(update={"port": port("computer.track99")})
        return rig.model_copy(update={"tracks": (track, *rig.tracks[1:])})

    shown._change("Lose a port", gone)
    settle(shown, qtbot)
    found = next(one for one in shown.report.findings if one.id == "no-course")
    shown.show_finding(found)
    assert "track99" in found.remedy
    assert shown.diagram.port is None


def test_every_remedy_in_turn_leaves_no_caution(shown: RigView, qtbot: QtBot) -> None:
    """What a person does who trusts the list: apply the worst that can be, again and again."""
    for _ in range(12):
        mendable = [
            n for n, one in enumerate(shown.report.findings)
            if one.mend is not None and one.severity >= Severity.CAUTION
        ]  # fmt: skip
        if not mendable:
            break
        shown.findings.table.setCurrentCell(mendable[0], 0)
        press(qtbot, shown, Qt.Key.Key_A)
    left = [one.id for one in shown.report.findings if one.severity >= Severity.CAUTION]
    assert left == ["long-unbalanced"]  # a shorter cable is not a switch


def test_plugging_by_choosing(shown: RigView, qtbot: QtBot) -> None:
    before = shown.rig
    shown._on_port(port("interface.in2"))
    words = [shown.panel.partner.itemText(i) for i in range(shown.panel.partner.count())]
    assert any(text.startswith("danger: 18 W combo, Speaker output") for text in words)
    assert not words[0].startswith(("caution", "fault", "danger"))
    shown.panel.partner.setCurrentIndex(len(words) - 1)
    assert "Speaker output" in words[-1]
    assert "speaker output" in shown.panel.why.text()
    index = next(i for i, text in enumerate(words) if "Line output without cabinet" in text)
    shown.panel.partner.setCurrentIndex(index)
    qtbot.mouseClick(shown.panel.plug, Qt.MouseButton.LeftButton)
    settle(shown, qtbot)
    cables = shown.report.graph.into["interface", "in2"]
    assert [str(c.source) for c in cables] == ["load_box.plain"]
    assert "port-used-twice" in {one.id for one in shown.report.findings}
    qtbot.mouseClick(shown.panel.unplug, Qt.MouseButton.LeftButton)
    settle(shown, qtbot)
    assert {c.id for c in shown.rig.cables} == {c.id for c in before.cables}
    undo(shown, qtbot)
    undo(shown, qtbot)
    assert shown.rig == before


def test_plugging_instead_moves_the_cable(shown: RigView, qtbot: QtBot) -> None:
    shown._on_port(port("interface.in4"))
    assert shown.panel.partner.currentText().startswith("fault: Impulse loader, Output")
    assert not shown.panel.plug.isEnabled()
    index = next(
        i for i in range(shown.panel.partner.count())
        if "Active DI, Microphone-level" in shown.panel.partner.itemText(i)
    )  # fmt: skip
    shown.panel.partner.setCurrentIndex(index)
    assert shown.panel.plug.text() == "Plug in instead"
    shown.panel._ask_plug()
    settle(shown, qtbot)
    cables = shown.report.graph.into["interface", "in4"]
    assert [str(c.source) for c in cables] == ["di.out"]


def test_the_diagram_by_keyboard(shown: RigView, qtbot: QtBot) -> None:
    shown.window().activateWindow()
    diagram = shown.diagram
    diagram.setFocus()
    shown._on_device("guitar")
    qtbot.keyClick(diagram, Qt.Key.Key_Down)
    assert diagram.port == port("guitar.out")
    qtbot.keyClick(diagram, Qt.Key.Key_Right)
    assert diagram.port == port("di.in")  # along the cable
    qtbot.keyClick(diagram, Qt.Key.Key_Left)
    assert diagram.port == port("guitar.out")
    assert "Jack" in diagram.accessibleDescription()
    for _ in range(40):
        qtbot.keyClick(diagram, Qt.Key.Key_Down)
    order = [place.ref for box in diagram._in_order() for place in box.ports]
    assert diagram.port == order[-1]
    qtbot.keyClick(diagram, Qt.Key.Key_Return)
    assert QApplication.focusWidget() is shown.panel.partner
    shown._on_device("amp")
    diagram.setFocus()
    qtbot.keyClick(diagram, Qt.Key.Key_Right)
    assert diagram.device == "load_box"


def test_the_diagram_by_mouse(shown: RigView, qtbot: QtBot) -> None:
    place = shown.diagram._layout.place(port("amp.speaker"))
    zoom = shown.diagram.zoom
    at = QPoint(int((place.x + 20) * zoom), int((place.y + PORT_H / 2) * zoom))
    qtbot.mouseClick(shown.diagram, Qt.MouseButton.LeftButton, pos=at)
    assert shown.diagram.port == port("amp.speaker")
    assert shown.panel.device_box.currentText() == "18 W combo"
    assert "made for 8 Ω" in shown.panel.facts.text()
    box = shown.diagram._layout.box("di")
    top = QPoint(int((box.x + 10) * zoom), int((box.y + 6) * zoom))
    qtbot.mouseClick(shown.diagram, Qt.MouseButton.LeftButton, pos=top)
    assert shown.diagram.device == "di"
    QTest.mouseDClick(shown.diagram, Qt.MouseButton.LeftButton, pos=top)


def test_zoom_keeps_between_its_ends(shown: RigView) -> None:
    shown.zoom_fit()
    fitted = shown.diagram.zoom
    assert 0.85 <= fitted <= 1.15
    for _ in range(20):
        shown.zoom_in()
    assert shown.diagram.zoom == 2.0
    for _ in range(40):
        shown.zoom_out()
    assert shown.diagram.zoom == 0.5
    shown.zoom_fit()
    assert shown.diagram.zoom == pytest.approx(fitted)


def test_settings_are_one_undo_step_while_a_knob_turns(shown: RigView, qtbot: QtBot) -> None:
    before = shown.rig
    shown._on_port(port("interface.in4"))
    shown.panel.pages.setCurrentIndex(1)
    spins = {s.accessibleName(): s for s in shown.panel.settings_area.findChildren(QDoubleSpinBox)}
    name = "Gain 4 of Four-input interface"
    assert next(iter(spins)) == name  # the port's own controls come first
    for value in (20.0, 12.0, 6.0):
        spins[name].setValue(value)  # the same field all the time: it keeps the keyboard
    settle(shown, qtbot)
    assert shown.rig.device("interface").number("gain4") == 6.0
    undo(shown, qtbot)
    assert shown.rig == before
    assert spins[name].value() == before.device("interface").number("gain4")


def test_an_instrument_of_the_session_is_chosen_and_named(shown: RigView, qtbot: QtBot) -> None:
    shown._on_device("guitar")
    shown.panel.pages.setCurrentIndex(1)
    boxes = {b.accessibleName(): b for b in shown.panel.settings_area.findChildren(QComboBox)}
    box = next(b for name, b in boxes.items() if name.startswith("Instrument of"))
    index = box.findData("semi")
    assert index > 0
    box.setCurrentIndex(index)
    box.activated.emit(index)
    settle(shown, qtbot)
    assert shown.rig.device("guitar").name == held(shown).instrument("semi").name
    assert shown.report.graph.sources["guitar"].name == held(shown).instrument("semi").name


def test_names_and_figures_are_edited_and_bad_ones_told(
    shown: RigView, qtbot: QtBot, answers: dict
) -> None:
    shown._on_port(port("load_box.speaker"))
    shown.panel.name.setText("Quiet room")
    shown.panel.name.editingFinished.emit()
    assert shown.rig.device("load_box").name == "Quiet room"
    shown.panel.ohm.line.setText("4 ohm")
    shown.panel.ohm.line.editingFinished.emit()
    settle(shown, qtbot)
    assert shown.rig.port(port("load_box.speaker")).impedance_ohm == 4.0
    assert "load-impedance" in {one.id for one in shown.report.findings}
    shown._on_port(port("amp.speaker"))
    shown.panel.kind.setCurrentIndex(shown.panel.kind.findData("instrument"))
    shown.panel.kind.activated.emit(shown.panel.kind.currentIndex())
    settle(shown, qtbot)
    assert shown.report.findings[0].id == "speaker-over-thin-cable"
    shown._on_length("c01", "far")
    assert answers["asked"]
    assert "m" in str(answers["asked"][-1])
    shown._on_length("c01", "2.5 m")
    assert next(c for c in shown.rig.cables if c.id == "c01").length_m == 2.5


def test_tracks_are_renamed_grouped_and_planned(shown: RigView, qtbot: QtBot) -> None:
    shown.show_tracks_page()
    table = shown.tracks.table
    table.item(1, 1).setText("Dirty")
    settle(shown, qtbot)
    assert [t.name for t in shown.rig.tracks] == ["DI", "Dirty", "Amp and cabinet"]
    table.item(0, 2).setText("Verse")
    settle(shown, qtbot)
    assert shown.rig.tracks[0].group == "Verse"
    table.setCurrentCell(0, 1)
    qtbot.mouseClick(shown.tracks.down, Qt.MouseButton.LeftButton)
    settle(shown, qtbot)
    assert [t.name for t in shown.rig.tracks][:2] == ["Dirty", "DI"]
    press(qtbot, shown, Qt.Key.Key_T)
    assert len(shown.rig.tracks) == 3
    assert "3 inputs used, 1 left" in shown.tracks.summary.text()


def test_the_patch_list_sorts_and_copies(shown: RigView, qtbot: QtBot) -> None:
    shown.show_patch_page()
    table = shown.patch.table
    assert table.rowCount() == len(shown.rig.cables)
    table.sortByColumn(3, Qt.SortOrder.DescendingOrder)
    lengths = [table.item(row, 3).text() for row in range(table.rowCount())]
    assert lengths[0] == "9 m"
    assert [float(t.split()[0]) for t in lengths] == sorted(
        (c.length_m for c in shown.rig.cables), reverse=True
    )
    qtbot.mouseClick(shown.patch.copy, Qt.MouseButton.LeftButton)
    rows = list(csv.reader(io.StringIO(QGuiApplication.clipboard().text())))
    assert rows[0] == ["From", "To", "Cable", "Length", "Level", "Label"]
    assert len(rows) == table.rowCount() + 1
    assert rows[1][5] == "stage snake"
    table.setCurrentCell(0, 0)
    assert shown.diagram.port == port("guitar.out")
    table.item(0, 5).setText("short one")
    settle(shown, qtbot)
    assert any(c.label == "short one" for c in shown.rig.cables)


def test_monitoring_shows_what_the_core_plans(shown: RigView) -> None:
    shown.show_monitor_page()
    plan = shown.report.monitoring
    table = shown.monitor.table
    assert table.rowCount() == sum(len(one.ways) for one in plan.listeners)
    assert f"{plan.listeners[0].ways[0].delay_ms:.1f} ms" == table.item(0, 5).text()
    words = shown.monitor.words.text()
    assert "twice" in words
    assert "do not change what is recorded" in words


@pytest.mark.parametrize("name", sorted(TEMPLATES))
def test_an_arrangement_in_one_step(shown: RigView, qtbot: QtBot, name: str) -> None:
    before = held(shown)
    dialog = ArrangementDialog(shown)
    rows = [dialog.list.model().index(n, 0) for n in range(len(TEMPLATES))]
    index = next(r for r in rows if r.data() == TEMPLATES[name].name)
    assert TEMPLATES[name].sentence in index.data(Qt.ItemDataRole.AccessibleTextRole)
    dialog.list.setCurrentIndex(index)
    dialog.grab()
    shown.add_template(dialog.chosen)
    settle(shown, qtbot)
    assert held(shown).current_rig == shown.rig.id != "rig04"
    assert all(one.severity <= Severity.NOTE for one in shown.report.findings)
    assert len(shown.diagram._layout.boxes) == len(shown.rig.devices)
    undo(shown, qtbot)
    assert held(shown) == before


def test_arrangements_and_devices_are_asked_for_by_key(
    shown: RigView, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[ArrangementDialog] = []
    monkeypatch.setattr(ArrangementDialog, "exec", lambda dialog: asked.append(dialog) or 1)
    press(qtbot, shown, Qt.Key.Key_N)
    assert len(asked) == 1
    assert shown.rig.name == next(iter(TEMPLATES.values())).name
    # The menu itself grabs the keyboard, which the offscreen platform complains about.
    opened: list[QMenu] = []
    monkeypatch.setattr(shown.add, "showMenu", lambda: opened.append(shown.add.menu()))
    press(qtbot, shown, Qt.Key.Key_D)
    assert opened == [shown.catalogue]


def test_devices_come_and_go(shown: RigView, qtbot: QtBot) -> None:
    before = shown.rig
    shown._fill_catalogue()
    groups = [action.text() for action in shown.catalogue.actions()]
    assert groups == list(dict.fromkeys(one.group for one in TYPES.values()))
    shown.add_device("ribbon")
    settle(shown, qtbot)
    assert shown.diagram.device == "ribbon"
    shown.duplicate_device()
    settle(shown, qtbot)
    assert shown.rig.devices[-1].name == "Ribbon microphone 2"
    press(qtbot, shown, Qt.Key.Key_Delete)
    undo(shown, qtbot)
    undo(shown, qtbot)
    undo(shown, qtbot)
    assert shown.rig == before
    shown._on_device("amp")
    press(qtbot, shown, Qt.Key.Key_Delete)
    assert all("amp" not in (c.source.device, c.target.device) for c in shown.rig.cables)
    undo(shown, qtbot)
    assert shown.rig == before


def test_own_types_by_session_and_by_file(
    shown: RigView, qtbot: QtBot, tmp_path: Path, answers: dict
) -> None:
    shown._on_device("di")
    shown.keep_type()
    assert [d.name for d in held(shown).own_types] == ["Active DI"]
    path = tmp_path / "box.json"
    shown._on_device("load_box")
    shown.save_type(path)
    shown.load_type(path)
    settle(shown, qtbot)
    assert shown.rig.devices[-1].name == "8-ohm load box 2"
    assert len(held(shown).own_types) == 2
    shown._fill_catalogue()
    assert shown.catalogue.actions()[-1].text() == "Own types"
    path.write_text("{}", "utf-8")
    shown.load_type(path)
    assert "not a device type" in str(answers["asked"][-1])
    shown.save_type(tmp_path / "no" / "where.json")
    assert "cannot be written" in str(answers["asked"][-1])


def test_rigs_are_chosen_renamed_copied_removed(
    shown: RigView, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("Evening", True))
    shown.rename_rig()
    settle(shown, qtbot)
    assert shown.rig.name == "Evening"
    assert shown.rigs.currentText() == "Evening"
    shown.duplicate_rig()
    settle(shown, qtbot)
    assert shown.rig.name == "Evening 2"
    shown.remove_rig()
    settle(shown, qtbot)
    assert "Evening 2" not in [rig.name for rig in held(shown).rigs]
    shown.choose_rig("rig04")
    settle(shown, qtbot)
    assert shown.rig.name == "Evening"


def test_notices_stand_at_the_amp_and_can_be_read(shown: RigView, qtbot: QtBot) -> None:
    shown._on_device("amp")
    shown.panel.pages.setCurrentIndex(2)
    assert shown.panel.pages.tabText(2) == "Safety 2"
    assert shown.panel.pages.tabToolTip(2) == "2 not read yet"
    shown.panel.notice_asked.emit("amp", True)
    settle(shown, qtbot)
    assert shown.panel.pages.tabText(2) == "Safety 1"
    words = [w.text() for w in shown.panel.notices.findChildren(QWidget) if hasattr(w, "text")]
    assert any("never runs without its load" in text for text in words)
    assert "Load and attenuator (not read yet)" in shown.safety.text()
    assert "Amplifier and speaker output (not" not in shown.safety.text()
    assert "Amplifier and speaker output" in shown.safety.text()  # read, and still in sight
    shown.safety.linkActivated.emit("load")
    assert shown.diagram.device == "load_box"
    assert shown.panel.pages.currentIndex() == 2


def test_playing_the_rig_makes_a_take(
    shown: RigView, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    takes = len(held(shown).takes)
    monkeypatch.setattr(QInputDialog, "getItem", lambda *a, **k: (a[3][0], True))
    press(qtbot, shown, Qt.Key.Key_R)
    qtbot.waitUntil(lambda: len(held(shown).takes) == takes + 1, timeout=120_000)
    settle(shown, qtbot)
    made = held(shown).takes[-1]
    assert [track.name for track in made.tracks] == ["DI", "Amp", "Amp and cabinet"]
    assert made.tracks[2].clipped_samples > 0
    undo(shown, qtbot)
    assert len(held(shown).takes) == takes


def test_forty_devices_stay_usable(shown: RigView, qtbot: QtBot) -> None:
    def grown(rig):
        from diaulos.rig import changes

        for n in range(30):
            rig, _ = changes.add_device(rig, sorted(TYPES)[n])
        return rig

    height = shown.window().height()
    shown._change("Grow", grown)
    settle(shown, qtbot)
    assert shown.window().height() == height
    assert len(shown.rig.devices) > 40
    assert shown.diagram.height() > shown.area.viewport().height()
    # What is seen of it is drawn by itself, and is the same as in the whole.
    whole, room = shown.diagram.grab().toImage(), shown.area.viewport()
    bar = shown.area.verticalScrollBar()
    for top in (0, bar.maximum() // 3, bar.maximum()):
        bar.setValue(top)
        shown.diagram.update()
        at = shown.diagram.mapFromParent(QPoint(0, 0))
        part = room.rect().translated(at).intersected(shown.diagram.rect())
        seen = room.grab(part.translated(-at)).toImage()
        inner = seen.rect().adjusted(4, 4, -4, -4)  # a smoothed edge differs where it is cut
        assert seen.copy(inner) == whole.copy(inner.translated(part.topLeft()))
    last = shown.diagram._in_order()[-1]
    shown._on_device(last.device)
    rect = shown.diagram.chosen_rect()
    top = shown.area.verticalScrollBar().value()
    left = shown.area.horizontalScrollBar().value()
    assert left <= rect.center().x() <= left + shown.area.viewport().width()
    assert top <= rect.center().y() <= top + shown.area.viewport().height()
    shown.choose_course("DI")
    assert len(shown.diagram._layout.boxes) == 4


def test_many_courses_scroll_in_the_strip(shown: RigView, opened: Desk, qtbot: QtBot) -> None:
    strip, height = opened.window.strip, opened.window.height()
    rig = big_rig(2).model_copy(update={"id": "large"})
    opened.document.apply(edits.add_rig(rig))
    settle(shown, qtbot)
    assert len(strip._rows) == 36
    assert len(strip.shown) == 4
    assert opened.window.height() == height
    strip.setFocus()
    shown.choose_course(strip._rows[0].key)
    for _ in range(12):
        qtbot.keyClick(strip, Qt.Key.Key_Down)
    assert strip._rows[12] in strip.shown
    # The strip grows by a row in an event of its own.
    qtbot.waitUntil(lambda: strip.height() >= strip.sizeHint().height(), timeout=10_000)
    bottom = QPoint(60, strip.height() - 8)
    last = strip.shown[-1]
    with qtbot.waitSignal(strip.chosen) as chosen:
        qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=bottom)
    assert chosen.args == [last.key]


def test_a_session_read_only_can_be_looked_at(
    desk: Desk, demo_copy: Path, settled: Settle, qtbot: QtBot
) -> None:
    assert desk.open_path(demo_copy, read_only=True)
    settled(desk)
    desk.show("rig")
    settle(desk.views["rig"], qtbot)
    assert not desk.views["rig"].panel.plug.isEnabled()
    assert not desk.views["rig"].findings.mend_button.isEnabled()
    assert not desk.window.action("mend").isEnabled()
    assert not desk.window.action("device").isEnabled()


def test_every_control_has_a_name(shown: RigView, opened: Desk) -> None:
    for page in range(4):
        shown.pages.setCurrentIndex(page)
        for tab in range(3):
            shown.panel.pages.setCurrentIndex(tab)
            assert names_missing(shown) == []


def test_everything_is_reached_by_tab(shown: RigView, qtbot: QtBot) -> None:
    shown.window().activateWindow()
    shown.diagram.setFocus()
    wanted = {
        w for w in shown.findChildren(QWidget)
        if w.isVisible() and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus
        and w.focusProxy() is None and type(w.parent()).__name__ not in ("QDoubleSpinBox",)
        and not w.objectName().startswith("qt_")
    }  # fmt: skip
    assert len(wanted) > 12
    seen: set[QWidget] = set()
    for _ in range(120):
        focus = QApplication.focusWidget()
        if focus is not None:
            seen.add(focus)
        qtbot.keyClick(focus or shown.window(), Qt.Key.Key_Tab)
    missed = {f"{type(w).__name__} {w.accessibleName()}" for w in wanted - seen}
    assert not missed


def test_a_data_sheets_figure_moves_the_planned_peak(shown: RigView, opened: Desk) -> None:
    """Seen: a typed "Clips at" changed nothing in the track."""
    document = opened.document
    document.apply(edits.choose_rig("rig04"))
    ref = PortRef(device="interface", port="in1")

    def peak() -> float:
        look = look_at(document.session, "rig04")
        return next(t.unclipped_dbfs for t in look.tracks if t.track.port == "track1")

    before = peak()
    shown.panel.printed_asked.emit(ref, "maximum_dbu", 4.0)
    assert peak() == pytest.approx(before + 4.0, abs=0.05), "full at 8 dBu as it was"
    document.undo()
    assert peak() == pytest.approx(before)
    shown.panel.printed_asked.emit(ref, "gain_maximum_db", 30.0)
    assert document.session.rig("rig04").device("interface").setting("gain1").maximum == 30.0


def test_ways_into_an_input_are_shown_and_plugged_in(
    shown: RigView, opened: Desk, settled: Settle
) -> None:
    document = opened.document
    document.apply(edits.add_rig(build("modeler-analog", "rigw")))
    document.apply(edits.choose_rig("rigw"))
    settled(opened)
    source, target = (
        PortRef(device="guitar", port="out"), PortRef(device="interface", port="in1"),
    )  # fmt: skip
    shown.find_ways(source, target)
    settled(opened)
    dialog = shown.ways_dialog
    assert dialog is not None
    ways = ways_into(
        rig_graph(document.session, document.session.rig("rigw")), source, target,
        document.session.target_peak_dbfs,
    )  # fmt: skip
    assert dialog.table.rowCount() == len(ways)
    assert dialog.words.text().startswith("For the engineer: Input 1")
    box = next(i for i, way in enumerate(ways) if way.words == "Passive DI, microphone")
    dialog.table.choose(box)
    assert "Passive DI" in dialog.words.text()
    dialog.plug.click()
    assert any(d.type == "passive_di" for d in document.session.rig("rigw").devices)
    document.undo()
    assert not any(d.type == "passive_di" for d in document.session.rig("rigw").devices)
    shown.ask_ways()


def test_a_switch_of_state_reamp_is_set_by_hand(shown: RigView, opened: Desk, qtbot: QtBot) -> None:
    """What stands otherwise when the same rig reamps: set for that state alone, told under its
    name, and gone where it stands as in Record again."""
    opened.document.apply(edits.add_rig(build("modeler-usb", "both")))
    shown.choose_rig("both")
    settle(shown, qtbot)
    shown._on_device("modeler")
    shown.panel.pages.setCurrentWidget(shown.panel.settings_area)
    settle(shown, qtbot)

    def boxes() -> dict[str, QComboBox]:
        found = shown.panel.settings_area.findChildren(QComboBox)
        return {box.accessibleName(): box for box in found}

    def labels() -> list[str]:
        return [one.text() for one in shown.panel.settings_area.findChildren(TextLabel)]

    def choose(name: str, value: str) -> None:
        box = next(box for words, box in boxes().items() if words.startswith(name))
        box.setCurrentIndex(box.findData(value))
        box.activated.emit(box.currentIndex())
        settle(shown, qtbot)

    assert "Plays\nReamp: USB return" in labels()
    rig = shown.rig
    choose("State that is set", "reamp")
    plays = next(box for words, box in boxes().items() if words.startswith("Plays"))
    assert plays.currentData() == "usb", "as it stands in that state"
    choose("Input pad", "on")
    assert shown.rig.device("modeler").word("pad") == "off"
    assert in_state(shown.rig, "reamp").device("modeler").word("pad") == "on"
    assert any(words.startswith("Input pad") and "Reamp: On" in words for words in labels())
    qtbot.wait(50)
    for label in shown.panel.settings_area.widget().findChildren(TextLabel):
        assert label.height() >= label.heightForWidth(label.width()), label.text()
    assert "Record stays" in opened.window._status.text()
    choose("Input pad", "off")
    assert shown.rig.reamp_switches == rig.reamp_switches
    choose("State that is set", "record")
    choose("Input pad", "on")
    assert shown.rig.device("modeler").word("pad") == "on"
    undo(shown, qtbot)
    assert shown.rig.device("modeler").word("pad") == "off"
