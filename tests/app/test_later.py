"""A cabinet later, a part of a take, tones in a row: by keyboard in the window."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hands import choose_target
from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox, QWidget
from pytestqt.qtbot import QtBot

from diaulos.app.cabinets import subjects_of
from diaulos.app.desk import Desk
from diaulos.app.views.reamp.queue_panel import MiniWave
from diaulos.app.widgets.cabinet_panel import NONE
from diaulos.rig.course import can_reamp
from diaulos.rig.states import in_state
from diaulos.rig.templates import TEMPLATES, build
from diaulos.session import edits, take_edits
from diaulos.session.model import CabinetChoice
from diaulos.work.listening.cabinets import with_cabinet
from support import RATE

Settle = Callable[[Desk], None]
WAYS = [
    name
    for name in (str(getattr(one, "id", one)) for one in TEMPLATES)
    if can_reamp(in_state(build(name, "r"), "reamp"))
]
VERSE, CHORUS = "Slack water, verse", "Slack water, chorus"


def press(qtbot: QtBot, desk: Desk, key: Qt.Key) -> None:
    desk.window.activateWindow()
    qtbot.keyClick(desk.window, key)


def step(qtbot: QtBot, widget, key: Qt.Key, desk: Desk, settled: Settle) -> None:  # type: ignore[no-untyped-def]
    qtbot.keyClick(widget, key)
    qtbot.wait(100)  # the step's own delay
    settled(desk)


@pytest.fixture
def amp_only(opened: Desk, qtbot: QtBot, settled: Settle) -> Desk:
    """A pass of an amplifier without cabinet."""
    rig = build("reamp-box", "bare").with_setting("load_box", "cabinet", "none")
    opened.document.apply(
        edits.Edit("rig", lambda now: now.model_copy(update={"rigs": (*now.rigs, rig)}))
    )
    opened.document.apply(edits.choose_reamp_rig("bare"))
    settled(opened)
    press(qtbot, opened, Qt.Key.Key_R)
    settled(opened)
    assert opened.document.session.takes[0].passes, opened.window._status.text()
    return opened


class _Windows(QObject):
    """Notes what is shown as a window of its own."""

    def __init__(self) -> None:
        super().__init__()
        self.shown: list[str] = []

    def eventFilter(self, seen: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and isinstance(seen, QWidget) and seen.isWindow():
            self.shown.append(type(seen).__name__)
        return False


def test_two_changes_at_once_open_no_windows(opened: Desk, settled: Settle) -> None:
    """Seen: controls that were replaced before they were on screen came up as windows and took
    the keyboard."""
    windows = _Windows()
    QApplication.instance().installEventFilter(windows)
    rig = build("reamp-box", "bare")
    opened.document.apply(
        edits.Edit("rig", lambda now: now.model_copy(update={"rigs": (*now.rigs, rig)}))
    )
    opened.document.apply(edits.choose_reamp_rig("bare"))
    settled(opened)
    QApplication.instance().removeEventFilter(windows)
    assert windows.shown == []
    assert opened.window.isActiveWindow()


# --- a cabinet later ---


def test_a_pair_gets_one_cabinet_and_its_sides_one_each_when_they_are_apart(opened: Desk) -> None:
    session = opened.document.session
    take = session.takes[0]
    wet = take.tracks[-1]
    sides = tuple(
        wet.model_copy(
            update={"file": f"audio/{side}.wav", "name": f"Wide {side}", "pair": "Wide",
                    "side": side, "tap": "amp"}
        )
        for side in ("left", "right")
    )  # fmt: skip
    tracks = (*take.tracks, *sides)
    take = take.model_copy(update={"tracks": tracks})
    session = session.model_copy(update={"takes": (take, *session.takes[1:])})
    files = tuple(one.file for one in sides)

    whole = subjects_of(session, take)
    apart = take_edits.pairs_apart(take.id, True)(session)
    two = subjects_of(apart, apart.takes[0])

    assert [one.name for one in whole if set(one.files) & set(files)] == ["Wide"]
    assert [one.files for one in whole if set(one.files) & set(files)] == [files]
    assert [one.files for one in two if set(one.files) & set(files)] == [(f,) for f in files]
    assert [one.name for one in two if one.files[0] in files] == ["Wide left", "Wide right"]


def test_cabinets_are_stepped_through_and_put_in_place(
    amp_only: Desk, qtbot: QtBot, settled: Settle
) -> None:
    view = amp_only.views["reamp"]
    made = amp_only.document.session.takes[0].passes[0]
    file = made.main.file
    press(qtbot, amp_only, Qt.Key.Key_Z)
    assert view.pages.currentWidget() is view.cabinets
    assert view.cabinets.chosen_subject.files == (file,)
    assert view.cabinets.chosen_subject.before == ""
    raw = view.player.channels[-1].read(RATE, 4_096)
    step(qtbot, view.cabinets.table, Qt.Key.Key_Down, amp_only, settled)
    heard = view.player.channels[-1].read(RATE, 4_096)
    assert np.abs(heard - raw).max() > 0.01, "heard at once"
    assert amp_only.document.session.cabinets == {}, "and not in place yet"
    step(qtbot, view.cabinets.table, Qt.Key.Key_Return, amp_only, settled)
    later = amp_only.document.session.cabinets[file]
    assert later.used == "open-one"
    assert "Gain" in view.cabinets.table.horizontalHeaderItem(5).text()
    step(qtbot, view.cabinets.table, Qt.Key.Key_Down, amp_only, settled)
    step(qtbot, view.cabinets.table, Qt.Key.Key_Return, amp_only, settled)
    later = amp_only.document.session.cabinets[file]
    assert [one.cabinet for one in later.choices] == ["open-one", "closed-two"]
    press(qtbot, amp_only, Qt.Key.Key_2)
    assert view.cabinets.table.chosen() == "closed-two"
    qtbot.keyClick(view.cabinets.table, Qt.Key.Key_0)
    settled(amp_only)
    np.testing.assert_allclose(view.player.channels[-1].read(RATE, 4_096), raw, atol=1e-7)
    press(qtbot, amp_only, Qt.Key.Key_1)
    settled(amp_only)
    assert "Open back" in view.cabinets.words.text()
    press(qtbot, amp_only, Qt.Key.Key_Z)
    assert view.pages.currentWidget() is not view.cabinets
    amp_only.undo()
    assert [one.cabinet for one in amp_only.document.session.cabinets[file].choices] == ["open-one"]
    amp_only.undo()
    assert amp_only.document.session.cabinets == {}


def test_a_folder_is_stepped_through_from_dark_to_bright(
    amp_only: Desk, qtbot: QtBot, settled: Settle, tmp_path: Path
) -> None:
    folder = tmp_path / "responses"
    folder.mkdir()
    for hz in (3_000, 400):
        tone = np.hanning(4_000) * np.sin(2.0 * np.pi * hz / RATE * np.arange(4_000))
        both = np.stack([tone, 0.5 * tone], axis=1) if hz == 400 else tone
        soundfile.write(folder / f"{hz}.wav", both, RATE)
    (folder / "broken.wav").write_text("nothing")
    view = amp_only.views["reamp"]
    press(qtbot, amp_only, Qt.Key.Key_Z)
    view.cabinet_desk.open_folder(folder)
    settled(amp_only)
    qtbot.wait(100)
    settled(amp_only)
    panel = view.cabinets
    names = [panel.table.item(row, 1).text() for row in range(panel.table.rowCount())]
    assert names[1:3] == ["400, stereo", "3000"]
    assert "broken.wav" in amp_only.window._status.text()
    assert [one.key for one in view.player.channels].count("pass") == 2, "a stereo one is heard so"
    step(qtbot, panel.table, Qt.Key.Key_Return, amp_only, settled)
    session = amp_only.document.session
    (impulse,) = session.impulses
    assert (impulse.name, impulse.channels) == ("400", 2)
    assert session.cabinets[session.takes[0].passes[0].main.file].used == impulse.file
    qtbot.mouseClick(panel.remove, Qt.MouseButton.LeftButton)
    assert amp_only.document.session.cabinets == {}


def test_takes_hears_what_reamp_put_in_place(amp_only: Desk, qtbot: QtBot, settled: Settle) -> None:
    """One truth: and a second cabinet in a row is told in its place."""
    amp_only.show("takes")
    settled(amp_only)
    view = amp_only.views["takes"]
    view.takes.choose(amp_only.document.session.takes[0].id)
    settled(amp_only)
    press(qtbot, amp_only, Qt.Key.Key_Z)
    panel = view.cabinets
    assert panel.isVisible()
    file = panel.chosen_subject.files[0]
    assert panel.chosen_subject.name == "Tideline drive 5, box", "the first without a cabinet"
    assert view.mix.soloed == {file}, "heard by itself"
    step(qtbot, panel.table, Qt.Key.Key_Down, amp_only, settled)
    step(qtbot, panel.table, Qt.Key.Key_Return, amp_only, settled)
    assert amp_only.document.session.cabinets[file].used == "open-one"
    press(qtbot, amp_only, Qt.Key.Key_0)
    assert panel.table.chosen() == NONE
    panel.subject.setCurrentIndex(0)
    panel.subject.activated.emit(0)
    assert "second one would sound dull" in panel.words.text()
    press(qtbot, amp_only, Qt.Key.Key_Z)
    assert view.mix.soloed == frozenset()
    heard = {one.key: one for one in view.player.sound.channels}
    raw = amp_only.document.store.open_audio(file)
    assert raw.frames
    assert type(heard[file].read).__name__ == "CabinetReader"


# --- a part ---


def test_a_part_is_marked_sent_and_joined(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    view = opened.views["reamp"]
    press(qtbot, opened, Qt.Key.Key_R)
    settled(opened)
    whole = opened.document.session.takes[0].passes[0]
    view.wave.set_position(2 * RATE)
    view.mark_in_exactly()
    view.wave.set_position(4 * RATE)
    view.mark_out_exactly()
    assert view.tone.part_words.text().startswith("Only 2.00\N{EN DASH}4.00 s")
    choice = view.tone.join_with
    choice.setCurrentIndex(choice.findData(f"t0001/{whole.id}"))
    press(qtbot, opened, Qt.Key.Key_R)
    settled(opened)
    made = opened.document.session.takes[0].passes[-1]
    assert (made.part.first, made.part.last) == (2 * RATE, 4 * RATE)
    assert made.part.joined.startswith(whole.name)
    choice.setCurrentIndex(0)
    press(qtbot, opened, Qt.Key.Key_R)
    settled(opened)
    made = opened.document.session.takes[0].passes[-1]
    assert made.part.joined == ""
    assert "2.00\N{EN DASH}4.00 s" in made.name
    press(qtbot, opened, Qt.Key.Key_Backspace)
    assert view.tone.part_words.isHidden()
    assert view.stretch is None


# --- tones in a row ---


def queue_up(desk: Desk, takes: list[str], tones: list[str]) -> None:
    view = desk.views["reamp"]
    view.queue.tick(takes, tones)
    view.queue.add.click()


def test_tones_in_a_row_side_by_side(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    view = opened.views["reamp"]
    for take in opened.document.session.takes[:2]:
        opened.document.apply(edits.Edit("part", lambda now, one=take: _cut(now, one.id)))
    choose_target(view.tone, "track", "k02")
    press(qtbot, opened, Qt.Key.Key_Q)
    assert view.queue.isVisible()
    names = [view.queue.tones.item(row).text() for row in range(view.queue.tones.count())]
    assert "Combo by box" in names
    assert "Foghorn" in names
    queue_up(opened, [VERSE, CHORUS], ["Combo by box", "Foghorn"])
    assert view.queue.words.text() == "0 of 4 made"
    press(qtbot, opened, Qt.Key.Key_R)
    assert opened.jobs.busy
    assert opened.jobs.title.startswith("1 of 4")
    qtbot.waitUntil(lambda: not view._running, timeout=120_000)
    settled(opened)
    session = opened.document.session
    assert view.queue.words.text() == "4 of 4 made"
    assert [len(take.passes) for take in session.takes[:2]] == [2, 2]
    for take in session.takes[:2]:
        for made in take.passes:
            match = made.main.match
            assert match.after_lufs - match.pair_offset_db == pytest.approx(
                match.reference_lufs, abs=0.1
            )
    table = view.queue.table
    assert table.rowCount() == 4
    assert isinstance(table.cellWidget(0, 3), MiniWave)
    assert "Foghorn" in table.item(1, 8).text()
    table.setCurrentCell(1, 0)
    settled(opened)
    assert view.chosen_pass.id == session.queue[1].pass_id
    table.selectAll()
    press(qtbot, opened, Qt.Key.Key_K)
    passes = [made for take in opened.document.session.takes for made in take.passes]
    assert all(made.keeper for made in passes)
    opened.undo()
    table.selectAll()
    press(qtbot, opened, Qt.Key.Key_Delete)
    assert len(opened.document.session.bin) == 4
    assert table.item(0, 2).text() == "discarded"
    opened.undo()
    assert opened.document.session.bin == ()
    press(qtbot, opened, Qt.Key.Key_Q)
    assert view.take_list.isVisible()


def _cut(session, take_id: str):  # type: ignore[no-untyped-def]
    from diaulos.session.take_edits import cut_to_bars

    return cut_to_bars(take_id, 0, 1)(session)


def test_a_queue_is_stopped_and_gone_on_with(
    opened: Desk, qtbot: QtBot, settled: Settle, tmp_path: Path
) -> None:
    view = opened.views["reamp"]
    file = tmp_path / "queue.json"
    tones = [{"name": "Soft", "settings": {"amp.drive": 2.0}}, {"name": "Hard"}]
    file.write_text(json.dumps({"takes": [VERSE], "tones": tones, "range": "1-1"}))
    press(qtbot, opened, Qt.Key.Key_Q)
    view.open_queue(file)
    press(qtbot, opened, Qt.Key.Key_R)
    press(qtbot, opened, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not view._running, timeout=60_000)
    settled(opened)
    made = len(opened.document.session.takes[0].passes)
    press(qtbot, opened, Qt.Key.Key_R)
    press(qtbot, opened, Qt.Key.Key_R)  # pause behind this one
    qtbot.waitUntil(lambda: not opened.jobs.busy, timeout=60_000)
    settled(opened)
    assert len(opened.document.session.takes[0].passes) == made + 1
    press(qtbot, opened, Qt.Key.Key_R)
    qtbot.waitUntil(lambda: not view._running and not opened.jobs.busy, timeout=60_000)
    settled(opened)
    session = opened.document.session
    assert len(session.takes[0].passes) == 2
    assert view.queue.words.text() == "2 of 2 made"
    view.queue.clear.click()
    assert opened.document.session.queue == ()
    (tmp_path / "queue.json").write_text("no")
    view.open_queue(file)
    assert opened.document.session.queue == ()


def test_on_a_real_device_nothing_is_sent_before_a_key(
    opened: Desk, qtbot: QtBot, settled: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What to set is said, with a word on heat; what the person says is kept with the pass."""
    view = opened.views["reamp"]
    # The simulated loop under another device's name.
    view._services = replace(view._services, device=lambda: "A box")
    opened.document.apply(edits.Edit("part", lambda now: _cut(now, now.takes[0].id)))
    press(qtbot, opened, Qt.Key.Key_Q)
    queue_up(opened, [VERSE], ["Foghorn"])
    asked: list[str] = []

    def answer(text: str) -> Callable[[QMessageBox], int]:
        def exec_(box: QMessageBox) -> int:
            asked.append(f"{box.text()} {box.informativeText()}")
            button = next(one for one in box.buttons() if one.text() == text)
            button.click()
            return 0

        return exec_

    monkeypatch.setattr(QMessageBox, "exec", answer("Stop"))
    press(qtbot, opened, Qt.Key.Key_R)
    assert not opened.jobs.busy
    assert opened.document.session.takes[0].passes == ()
    assert "Foghorn" in asked[0]
    assert "get hot" in asked[0]
    monkeypatch.setattr(QMessageBox, "exec", answer("Not looked at"))
    press(qtbot, opened, Qt.Key.Key_R)
    qtbot.waitUntil(lambda: not view._running and not opened.jobs.busy, timeout=60_000)
    settled(opened)
    assert opened.document.session.takes[0].passes[0].settings_said == "assumed"


# --- how it is set up ---


def test_the_way_is_told_step_by_step(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    view = opened.views["reamp"]
    press(qtbot, opened, Qt.Key.Key_W)
    assert view.guide.isVisible()
    text = view.guide.steps.text()
    assert text.startswith("1. Make it safe")
    assert "Reamp box" in text
    assert "5. Send: R" in text
    press(qtbot, opened, Qt.Key.Key_R)
    settled(opened)
    made = opened.document.session.takes[0].passes[0]
    assert made.name in view.guide.steps.text()
    press(qtbot, opened, Qt.Key.Key_W)
    assert not view.guide.isVisible()


# --- exports, and the whole of what is cut ---


def test_an_export_asks_whether_through_the_cabinet(
    amp_only: Desk, qtbot: QtBot, settled: Settle, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch, answers: dict[str, object],
) -> None:  # fmt: skip
    view, session = amp_only.views["reamp"], amp_only.document.session
    made = session.takes[0].passes[0]
    choice = CabinetChoice(cabinet="open-one", gain_db=-3.0, true_peak_dbtp=-10.0)
    amp_only.document.apply(with_cabinet(session, made.files, choice))
    settled(amp_only)
    for answer, name in (("With the cabinet", "with.wav"), ("Without", "without.wav")):
        path = str(tmp_path / name)
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, path=path: (path, ""))
        answers["button"] = answer
        view.ask_export()
        settled(amp_only)
    heard, _ = soundfile.read(tmp_path / "with.wav")
    raw, _ = soundfile.read(tmp_path / "without.wav")
    assert heard.shape == raw.shape
    assert np.abs(heard - raw).max() > 0.01
    amp_only.show("takes")
    settled(amp_only)
    takes = amp_only.views["takes"]
    takes.takes.choose(session.takes[0].id)
    settled(amp_only)
    path = str(tmp_path / "track.wav")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a: (path, ""))
    takes.ask_export_track()
    settled(amp_only)
    assert soundfile.info(path).frames == session.takes[0].tracks[0].frames


def test_all_of_a_take_that_is_cut_can_be_sent(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    view = opened.views["reamp"]
    opened.document.apply(edits.Edit("part", lambda now: _cut(now, now.takes[0].id)))
    settled(opened)
    assert "as it is cut" in view.tone.part_words.text()
    press(qtbot, opened, Qt.Key.Key_Backspace)
    assert view.tone.part_words.isHidden()
    press(qtbot, opened, Qt.Key.Key_R)
    settled(opened)
    assert opened.document.session.takes[0].passes[0].part is None
    press(qtbot, opened, Qt.Key.Key_Backspace)
    assert "as it is cut" in view.tone.part_words.text()


# --- every way ---


@pytest.mark.parametrize("template", WAYS)
def test_every_way_is_walked_by_keyboard(
    opened: Desk, qtbot: QtBot, settled: Settle, template: str
) -> None:
    """How it is set up, the loop checked, the take sent: W, C, R."""
    rig = build(template, "way")

    def change(now):  # type: ignore[no-untyped-def]
        return _cut(now.model_copy(update={"rigs": (*now.rigs, rig)}), now.takes[0].id)

    opened.document.apply(edits.Edit("way", change))
    opened.document.apply(edits.choose_reamp_rig("way"))
    settled(opened)
    view = opened.views["reamp"]
    press(qtbot, opened, Qt.Key.Key_W)
    assert view.guide.steps.text().startswith("1. Make it safe")
    press(qtbot, opened, Qt.Key.Key_W)
    press(qtbot, opened, Qt.Key.Key_C)
    settled(opened)
    assert opened.document.session.loop_checks, opened.window._status.text()
    press(qtbot, opened, Qt.Key.Key_R)
    settled(opened)
    (made,) = opened.document.session.takes[0].passes
    assert made.rig_name == rig.name
    assert made.main.alignment is not None
    assert not made.main.merely_di


def test_what_is_queued_is_ticked_by_keys(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    """Space ticks where a list of ticks has the keys; everywhere else it plays."""
    opened.show("reamp")
    settled(opened)
    view = opened.views["reamp"]
    press(qtbot, opened, Qt.Key.Key_Q)
    tones = view.queue.tones
    opened.window.activateWindow()
    tones.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.waitUntil(tones.hasFocus)
    tones.setCurrentRow(1)
    qtbot.keyClick(tones, Qt.Key.Key_Space)
    assert tones.item(1).checkState() == Qt.CheckState.Checked
    assert not view.player.playing
    assert view.queue.add.text() == "Queue 1 pass"
