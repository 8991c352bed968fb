"""The Takes view: one key records, everything is told in words, everything comes back."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QInputDialog
from pytestqt.qtbot import QtBot
from test_window import names_missing

from diaulos import wiring
from diaulos.__main__ import main
from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.views.takes.view import TakesView
from diaulos.errors import InputError
from diaulos.figures import MINUS, counted, number, typeset
from diaulos.ids import BENCH
from diaulos.rig.model import Rig
from diaulos.session import edits, take_edits
from diaulos.work.ports import BlockStatus, BlockTime, StreamInfo
from diaulos.work.rigs.levels import levels_of
from diaulos.work.rigs.stored import stored_of
from diaulos.work.takes.noisecheck import check_noise
from support import RATE


@pytest.fixture
def shown(opened: Desk, qtbot: QtBot) -> TakesView:
    """The live room, recorded as fast as it goes."""
    opened.services = replace(opened.services, record_from=wiring.rig_backend(paced=False, seed=3))
    opened.document.apply(edits.choose_rig("rig04"))
    opened.window.activateWindow()
    qtbot.keyClick(opened.window, Qt.Key.Key_4, Qt.KeyboardModifier.ControlModifier)
    view = opened.views["takes"]
    assert view is not None
    assert opened.current is view
    settle(view, qtbot)
    return view


def settle(view: TakesView, qtbot: QtBot) -> None:
    qtbot.waitUntil(
        lambda: view.settled and view._jobs.quiet and not view.under_way, timeout=60_000
    )


def press(qtbot: QtBot, view: TakesView, key: Qt.Key, wait: bool = True) -> None:
    view.window().activateWindow()
    view.board.setFocus()
    qtbot.keyClick(view.window(), key)
    if wait:
        settle(view, qtbot)


def held(view: TakesView):  # type: ignore[no-untyped-def]
    return view._document.session


def recorded(view: TakesView, qtbot: QtBot, bars: int = 1):  # type: ignore[no-untyped-def]
    view.setup.bars.setValue(bars)
    view.setup.count_in.setValue(0)
    press(qtbot, view, Qt.Key.Key_Space)
    return held(view).takes[-1]


class Slow:
    """A back end that goes on until it is told to stop."""

    def open(self, spec, callback):  # type: ignore[no-untyped-def]
        self.spec, self.callback, self.xruns, self.stopped = spec, callback, 0, False
        self.info = StreamInfo(spec.rate_hz, 0.01, 0.01, "slow", True)
        return self

    def run(self) -> None:
        import time

        at, count = 0, self.spec.block_frames
        outputs = np.zeros((count, self.spec.output_channels))
        rng = np.random.default_rng(2)
        while True:
            time.sleep(0.002)
            inputs = 0.1 * rng.standard_normal((count, self.spec.input_channels))
            go_on = self.callback(inputs, outputs, count, BlockTime(at), BlockStatus())
            if self.stopped or not go_on:
                return
            at += count

    def stop(self) -> None:
        self.stopped = True


def slowly(view: TakesView) -> None:
    view._services = replace(view._services, record_from=lambda *_: Slow())
    view.setup.bars.setValue(0)
    view.setup.count_in.setValue(0)


def begun(view: TakesView, qtbot: QtBot) -> None:
    press(qtbot, view, Qt.Key.Key_Space, wait=False)
    # The sentence may say so one tick before the first meters are on the board.
    qtbot.waitUntil(
        lambda: view.recording is not None and all(row.live for row in view.board.rows),
        timeout=20_000,
    )


# --- ready ---


def test_it_says_what_is_armed_and_which_key_comes_next(shown: TakesView, opened: Desk) -> None:
    assert [row.name for row in shown.board.rows] == ["DI", "Amp", "Amp and cabinet"]
    assert shown.sentence.text() == "Ready, 1 warning, 3 tracks armed. Space records."
    assert shown.conditions.text().startswith("The rig has 2 faults.") or (
        "fault" in shown.conditions.text()
    )
    assert "NOT YET" in shown.conditions.toolTip()
    assert "A dry DI is armed" in shown.conditions.toolTip()
    assert "dry DI, planned peak" in shown.board.accessibleDescription()
    strip = opened.window.strip._rows
    assert [row.finding for row in strip] == ["armed"] * 3
    for row, board in zip(strip, shown.board.rows, strict=True):
        assert number(board.held_dbfs) in row.peak


def test_a_rig_that_cannot_be_recorded_says_so(shown: TakesView, qtbot: QtBot, answers) -> None:  # type: ignore[no-untyped-def]
    shown._document.apply(edits.add_rig(Rig(id="none", name="None", devices=(), cables=())))
    shown._document.apply(edits.choose_recording_rig("none"))
    settle(shown, qtbot)
    assert shown.sentence.text() == "Not ready: see above."
    assert "Nothing is armed. Plan tracks in Rig" in shown.conditions.text()
    assert not shown.record_button.isEnabled()
    shown.record()
    settle(shown, qtbot)
    assert "Nothing is armed" in answers["asked"][-1][0]
    shown.board.grab()


# --- recording ---


def test_space_records_all_tracks_and_the_take_is_there(
    shown: TakesView, opened: Desk, qtbot: QtBot
) -> None:
    before = len(held(shown).takes)
    take = recorded(shown, qtbot)
    assert len(held(shown).takes) == before + 1
    assert [t.name for t in take.tracks] == ["DI", "Amp", "Amp and cabinet"]
    assert {t.frames for t in take.tracks} == {round(2.5 * RATE)}  # a bar at 96
    assert shown.takes.chosen() == take.id
    assert "CLIPS" in shown.takes.item(0, 3).text()
    assert "Amp and cabinet 1 clip" in shown.book.about.text()
    assert shown.player.wave._frames == take.tracks[0].frames
    for track in take.tracks:
        samples, _ = soundfile.read(str(opened.folder.path / track.file))
        assert samples.size == track.frames
    # Kept at once: a journal holds it; until it is saved the note on it stays.
    path = opened.folder.path / "journal.json"
    qtbot.waitUntil(lambda: path.is_file() and take.id in path.read_text("utf-8"), timeout=10_000)
    assert json.loads(path.read_text("utf-8"))["takes"][-1]["id"] == take.id
    assert set(opened.folder.recordings()) == {take.id}
    opened.saving.save()
    qtbot.waitUntil(lambda: opened.jobs.quiet, timeout=10_000)
    assert opened.folder.recordings() == {}


def test_window_and_shell_record_the_same(
    shown: TakesView, opened: Desk, qtbot: QtBot, capsys: pytest.CaptureFixture[str]
) -> None:
    take = recorded(shown, qtbot)
    opened.folder.save(held(shown))
    path = opened.folder.path
    opened.detach()
    args = ["record", str(path), "--rig", "rig04", "--bars", "1", "--fast", "--seed", "3", "--json"]
    assert main(args) == 0
    data = json.loads(capsys.readouterr().out)
    for one, other in zip(take.tracks, data["tracks"], strict=True):
        assert one.peak_dbfs == pytest.approx(other["peak_dbfs"], abs=0.001)
        a, _ = soundfile.read(str(path / one.file))
        b, _ = soundfile.read(str(path / other["file"]))
        assert np.array_equal(a, b)


def test_while_it_records_everything_is_told(shown: TakesView, qtbot: QtBot) -> None:
    slowly(shown)
    begun(shown, qtbot)
    qtbot.waitUntil(lambda: "Recording" in shown.sentence.text(), timeout=5_000)
    assert "Space stops, M marks, A again." in shown.sentence.text()
    assert "disk space for" in shown.sentence.text()
    assert shown.record_button.text() == "Stop (Space)"
    assert all(row.live for row in shown.board.rows)
    shown.board.grab()
    press(qtbot, shown, Qt.Key.Key_M, wait=False)
    press(qtbot, shown, Qt.Key.Key_Space)
    take = held(shown).takes[-1]
    assert len(take.marks) == 1
    assert "1 mark" in shown.book.about.text()
    assert shown.record_button.text() == "Record (Space)"
    assert not shown.board.rows[0].live


def test_nothing_is_undone_under_a_recording(shown: TakesView, opened: Desk, qtbot: QtBot) -> None:
    """Ctrl+Z took an earlier take away while the next one was recorded."""
    slowly(shown)
    opened.document.apply(edits.set_info(tempo_bpm=101.0))
    assert opened.window.action("undo").isEnabled()
    begun(shown, qtbot)
    assert not opened.window.action("undo").isEnabled()
    before = held(shown)
    opened.undo()
    opened.redo()
    assert held(shown) is before
    assert "while a take is recorded" in opened.window._status.text()
    told: list[str] = []
    shown.capture.told.connect(told.append)
    press(qtbot, shown, Qt.Key.Key_Space, wait=False)
    assert told[0].startswith("Saving the take")
    qtbot.waitUntil(lambda: opened.jobs.quiet and not shown.under_way, timeout=20_000)
    qtbot.waitUntil(opened.window.action("undo").isEnabled, timeout=5_000)


def test_again_bins_this_one_and_begins_anew(shown: TakesView, qtbot: QtBot) -> None:
    slowly(shown)
    before = len(held(shown).takes)
    begun(shown, qtbot)
    first = shown.recording
    press(qtbot, shown, Qt.Key.Key_A, wait=False)
    qtbot.waitUntil(
        lambda: shown.recording is not None and shown.recording is not first
        and shown.recording.recorder.captured_frames > 0,
        timeout=20_000,
    )  # fmt: skip
    assert [take.id for take in held(shown).take_bin] == [first.take_id]
    press(qtbot, shown, Qt.Key.Key_Space)
    assert len(held(shown).takes) == before + 1


def test_cancel_ends_it_and_keeps_it(shown: TakesView, qtbot: QtBot) -> None:
    slowly(shown)
    begun(shown, qtbot)
    press(qtbot, shown, Qt.Key.Key_Escape)
    assert held(shown).takes[-1].name.startswith("Take")


def test_closing_while_it_records_loses_nothing(
    shown: TakesView, opened: Desk, qtbot: QtBot
) -> None:
    slowly(shown)
    begun(shown, qtbot)
    assert shown.recording is not None
    take_id = shown.recording.take_id
    folder = opened.folder
    shown.close_down()
    qtbot.waitUntil(lambda: opened.jobs.quiet, timeout=20_000)
    known = {take.id for take in held(shown).takes} | set(folder.recordings())
    assert take_id in known


def test_a_device_that_fails_is_told(shown: TakesView, qtbot: QtBot, answers: dict) -> None:
    class Broken(Slow):
        def run(self) -> None:
            raise InputError("the device went away.", remedy="Plug it in again.")

    before = held(shown)
    shown._services = replace(shown._services, record_from=lambda *_: Broken())
    press(qtbot, shown, Qt.Key.Key_Space)
    assert "The device went away." in answers["asked"][-1][0]
    assert held(shown) is before
    assert "Space records" in shown.sentence.text()


def test_an_overdub_plays_the_chosen_take_along(shown: TakesView, qtbot: QtBot) -> None:
    recorded(shown, qtbot)
    shown.setup.way.setCurrentIndex(1)
    request = shown._request(held(shown))
    assert request.over is not None
    assert request.over.take is shown.take
    assert request.over.way == "along"


def test_stopping_before_it_began_is_no_fault(shown: TakesView, qtbot: QtBot, answers) -> None:  # type: ignore[no-untyped-def]
    slowly(shown)
    before = held(shown)
    shown.record()
    assert shown.under_way
    shown.stop()
    settle(shown, qtbot)
    assert len(held(shown).takes) - len(before.takes) in (0, 1)
    assert answers["asked"] == []
    assert "Space records" in shown.sentence.text()


# --- keeping ---


def test_takes_are_kept_rated_named_and_binned_by_key(
    shown: TakesView, opened: Desk, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    take = recorded(shown, qtbot)
    press(qtbot, shown, Qt.Key.Key_K)
    for _ in range(3):
        press(qtbot, shown, Qt.Key.Key_R)
    assert held(shown).take(take.id).keeper
    assert held(shown).take(take.id).rating == 3
    assert shown.takes.item(0, 0).text() == "keep ***"
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Verse two, loud", True))
    press(qtbot, shown, Qt.Key.Key_F2)
    assert held(shown).take(take.id).name == "Verse two, loud"
    press(qtbot, shown, Qt.Key.Key_G)
    assert held(shown).take(take.id).tags == ("Verse two", "loud")
    monkeypatch.setattr(QInputDialog, "getMultiLineText", lambda *_, **__: ("Buzz.", True))
    press(qtbot, shown, Qt.Key.Key_N)
    assert "Buzz." in shown.book.about.text()
    press(qtbot, shown, Qt.Key.Key_Delete)
    assert all(one.id != take.id for one in held(shown).takes)
    opened.undo()
    settle(shown, qtbot)
    assert held(shown).take(take.id).notes == "Buzz."


def test_the_bin_gives_takes_back_and_is_emptied(
    shown: TakesView, opened: Desk, qtbot: QtBot, answers: dict
) -> None:
    take = recorded(shown, qtbot)
    files = [opened.folder.path / track.file for track in take.tracks]
    press(qtbot, shown, Qt.Key.Key_Delete)
    opened.restore()
    settle(shown, qtbot)
    assert held(shown).take(take.id) == take
    shown.takes.choose(take.id)
    press(qtbot, shown, Qt.Key.Key_Delete)
    assert all(path.is_file() for path in files)
    answers["button"] = "Delete"
    opened.saving.empty_bin()
    qtbot.waitUntil(lambda: opened.jobs.quiet, timeout=20_000)
    assert "3 file(s) are deleted" in answers["asked"][-1][1]
    assert not any(path.exists() for path in files)
    assert held(shown).take_bin == ()
    opened.restore()
    assert held(shown).take_bin == ()


def test_a_take_is_cut_to_bars_and_given_back_whole(
    shown: TakesView, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, answers: dict
) -> None:
    take = recorded(shown, qtbot, bars=3)
    typed = ["2-3", "0-9", "two"]
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: (typed.pop(0), True))
    press(qtbot, shown, Qt.Key.Key_B)
    bar = 2.5 * RATE
    assert held(shown).take(take.id).cut == (round(bar), round(3 * bar))
    assert "cut to 0:02.5-0:07.5" in shown.book.about.text()
    assert shown.player.sound.loop == (round(bar), round(3 * bar))
    press(qtbot, shown, Qt.Key.Key_B)
    assert held(shown).take(take.id) == take
    press(qtbot, shown, Qt.Key.Key_B)
    assert "are not all in" in answers["asked"][-1][0]
    press(qtbot, shown, Qt.Key.Key_B)
    assert "are no bars" in answers["asked"][-1][0]


def test_recall_lists_what_differs_and_puts_it_back(shown: TakesView, qtbot: QtBot) -> None:
    take = recorded(shown, qtbot)
    before = held(shown).rig("rig04")
    shown._document.apply(edits.set_device_setting("rig04", "interface", "gain1", 33.0))
    settle(shown, qtbot)
    shown._on_take()
    assert "Differs now: Four-input interface: Gain 1" in shown.book.about.text()
    press(qtbot, shown, Qt.Key.Key_C)
    assert held(shown).rig("rig04") == before
    assert held(shown).take(take.id) == take
    shown._document.apply(edits.remove_rig("rig04"))
    settle(shown, qtbot)
    shown.takes.choose(take.id)
    shown._on_take()
    assert shown.book.about.text().endswith(f"Differs now: The rig {before.name} is gone.")


def test_any_track_is_heard_and_seen(shown: TakesView, qtbot: QtBot) -> None:
    recorded(shown, qtbot)
    di, amp, cabinet = (track.file for track in held(shown).takes[-1].tracks)
    assert shown.player.sound.heard == {amp, cabinet}  # the dry DI is muted as is usual
    press(qtbot, shown, Qt.Key.Key_2)
    assert shown.player.track.currentText() == "Amp"
    assert shown.player.sound.heard == {amp}
    press(qtbot, shown, Qt.Key.Key_1)
    assert shown.player.sound.heard == {di}
    press(qtbot, shown, Qt.Key.Key_1)
    assert shown.player.sound.heard == {amp, cabinet}
    press(qtbot, shown, Qt.Key.Key_P)
    qtbot.waitUntil(lambda: shown.player.sound.playing, timeout=5_000)
    press(qtbot, shown, Qt.Key.Key_P)
    assert not shown.player.sound.playing
    shown.choose_course("DI")
    assert shown.player.track.currentText() == "DI"


# --- the noise check ---


def test_the_noise_check_opens_listens_and_closes_by_key(shown: TakesView, qtbot: QtBot) -> None:
    silent = wiring.rig_backend(paced=False, silent=True)
    shown._services = replace(shown._services, silence_from=silent)
    press(qtbot, shown, Qt.Key.Key_S)
    assert shown.noise.isVisible()
    assert "Hold the strings" in shown.noise.words.text()
    press(qtbot, shown, Qt.Key.Key_H)
    assert shown.noise.table.rowCount() == 3
    assert shown.noise.tried.item(0, 0).text() == "1. As it is"
    core = check_noise(held(shown), silent)
    (kept,) = held(shown).noise_checks
    assert kept.label == "As it is"
    assert [one.floor_dbfs for one in kept.tracks] == [row.noise.floor_dbfs for row in core.rows]
    assert kept.rig_hash in held(shown).snapshots
    for line, row in enumerate(core.rows):
        assert shown.noise.table.item(line, 0).text() == row.name
        assert shown.noise.table.item(line, 1).text() == number(row.noise.floor_dbfs)
    shown.noise.label.setCurrentText("Another outlet")
    press(qtbot, shown, Qt.Key.Key_H)
    assert shown.noise.tried.rowCount() == 2
    assert "Against the first, DI: no change." in shown.noise.words.text()
    # The same silence twice is a tie, whatever the second was called.
    assert not any("(best)" in shown.noise.tried.item(n, 0).text() for n in range(2))
    assert "None is best" in shown.noise.words.text()
    assert names_missing(shown) == []
    press(qtbot, shown, Qt.Key.Key_S)
    assert not shown.noise.isVisible()
    assert shown.board.isVisible()


# --- the noise hunt ---


def hunted(shown: TakesView, qtbot: QtBot, results: int) -> None:
    """H, and what comes of it."""
    shown.listen()
    qtbot.waitUntil(
        lambda: shown.hunt is not None and len(shown.hunt.results) >= results
        and not shown.hunt_ear.listening,
        timeout=60_000,
    )  # fmt: skip


def test_a_hunt_goes_from_the_noise_to_its_cause_and_what_the_remedy_brought(
    shown: TakesView, qtbot: QtBot
) -> None:
    """A drill in the simulated studio, by the proposals alone."""
    shown._services = replace(
        shown._services, hunt_from=wiring.hunt_backend(paced=False), device=lambda: BENCH
    )
    press(qtbot, shown, Qt.Key.Key_S)
    shown.noise.hunt.click()
    panel = shown.hunting
    qtbot.waitUntil(lambda: panel.isVisible() and shown.hunt_ear.watching, timeout=20_000)
    assert "Hold the strings" in panel.step.text()
    qtbot.waitUntil(lambda: panel.live["hiss"].text().startswith(MINUS), timeout=60_000)
    assert panel.practise.isVisible()
    panel.practise.click()
    assert "Something hums" in panel.step.text()
    qtbot.waitUntil(lambda: shown.hunt_ear.watching, timeout=20_000)
    hunted(shown, qtbot, 0)
    assert shown.hunt.standing
    assert panel.chosen_track == shown.hunt.standing[0]
    assert panel.step.text() == typeset(shown.hunt.next_trial.words)
    first = shown.hunt.next_trial
    panel.cannot.click()
    assert shown.hunt.next_trial != first
    for turn in range(1, 9):
        hunted(shown, qtbot, turn)
        if shown.hunt.verdict is not None:
            break
    verdict = shown.hunt.verdict
    assert (verdict.kind, verdict.at) == (shown._planted.kind, shown._planted.at)
    assert "Found" in panel.said.text()
    assert verdict.remedy in panel.said.text()
    assert panel.causes.item(0, 0).text() == verdict.words
    assert panel.tests.rowCount() == len(shown.hunt.results)
    count = len(shown.hunt.results)
    panel.undo.click()
    assert len(shown.hunt.results) == count - 1
    hunted(shown, qtbot, count)
    assert shown.hunt.verdict == verdict
    shown.listen()
    qtbot.waitUntil(lambda: shown.brought is not None, timeout=60_000)
    assert shown.brought > 6.0
    assert f"{number(shown.brought)} dB less hum" in panel.step.text()
    assert names_missing(shown) == []
    panel.again.click()
    assert shown.hunt is None
    assert "Hold the strings" in panel.step.text()
    press(qtbot, shown, Qt.Key.Key_Q)
    qtbot.waitUntil(lambda: not shown.hunt_ear.watching, timeout=20_000)
    assert shown.board.isVisible()


def test_a_hunt_of_a_quiet_room_and_one_that_is_cancelled(
    shown: TakesView, opened: Desk, qtbot: QtBot
) -> None:
    """The demo's rig has nothing to hunt; Esc stops listening, Space records from the page."""
    shown._services = replace(
        shown._services, hunt_from=wiring.hunt_backend(paced=False), device=lambda: BENCH
    )
    qtbot.keyClick(shown.board, Qt.Key.Key_Q)  # it never settles while it listens
    qtbot.waitUntil(lambda: shown.hunt_ear.watching, timeout=20_000)
    opened.jobs.cancel()
    qtbot.waitUntil(lambda: not shown.hunt_ear.watching, timeout=20_000)
    assert shown.hunting.isVisible()
    hunted(shown, qtbot, 0)
    assert shown.hunting.step.text() == "Nothing to hunt."
    assert "Nothing stands out" in shown.hunting.said.text()
    assert not shown.hunting.listen.isVisible()
    qtbot.waitUntil(lambda: shown.hunt_ear.watching, timeout=20_000)
    opened.document.apply(edits.set_device_setting("rig04", "interface", "gain1", 3.0))
    assert shown.hunt is None, "another rig is another hunt"
    opened.document.undo()
    shown.close_down()
    qtbot.waitUntil(lambda: not shown.hunt_ear.watching, timeout=20_000)


# --- what a dead process left ---


def test_a_cut_off_recording_is_offered(
    desk: Desk,
    demo_copy: Path,
    qtbot: QtBot,
    settled,
    answers: dict,  # type: ignore[no-untyped-def]
) -> None:
    from diaulos.storage.folder import SessionFolder
    from diaulos.work.takes.recording import RecordRequest, prepare
    from support import NOON

    folder = SessionFolder.open(demo_copy)
    request = RecordRequest(folder.load(), "rig04", seconds=1.0)
    lost = prepare(request, folder, wiring.rig_backend(paced=False), lambda: NOON).run()
    folder.close()
    answers["button"] = "Bring it back"
    assert desk.open_path(demo_copy)
    settled(desk)
    assert any("recording is not in the session" in text for text, _ in answers["asked"])
    names = [take.name for take in desk.document.session.takes]
    assert f"{lost.take.name} (recovered)" in names


# --- the rest ---


def test_every_control_has_a_name(shown: TakesView) -> None:
    assert names_missing(shown) == []


@pytest.mark.parametrize("look", [theme.DAY, theme.NIGHT])
def test_it_paints_in_both_looks(shown: TakesView, look: theme.Look) -> None:
    theme.apply(QApplication.instance(), look)
    assert not shown.grab().toImage().isNull()
    theme.apply(QApplication.instance(), theme.DAY)


def test_read_only_says_so(
    desk: Desk,
    demo_copy: Path,
    qtbot: QtBot,
    settled,  # type: ignore[no-untyped-def]
) -> None:
    assert desk.open_path(demo_copy, read_only=True)
    settled(desk)
    desk.show("takes")
    settle(desk.views["takes"], qtbot)
    assert desk.views["takes"].sentence.text().startswith("Read-only")
    assert not desk.views["takes"].record_button.isEnabled()
    assert counted(1, "clip") == "1 clip"
    assert take_edits.keep_take("x", True).label == "Keep take"


def test_the_board_shows_the_planned_figure_clipping_or_not(shown: TakesView, qtbot: QtBot) -> None:
    """Takes said 0.0 where Levels said 18.6: one figure stands on both."""
    session, store = held(shown), shown._document.store
    diagrams = {
        str(one.track): one.diagram for one in levels_of(session, "", stored_of(session, store))
    }
    assert shown.ready is not None
    peaks = {row.key: row.held_dbfs for row in shown.ready.rows}
    assert peaks
    for key, peak in peaks.items():
        diagram = diagrams[key]
        assert diagram is not None
        assert peak == pytest.approx(diagram.track.peak, abs=1e-6)


def test_e_sets_the_gain_for_what_was_heard(shown: TakesView, qtbot: QtBot) -> None:
    """What came stands beside what was planned; the gain goes to where the target wants it."""
    take = recorded(shown, qtbot)
    di = next(track for track in take.tracks if track.tap == "di")
    assert di.planned_dbfs is not None
    assert di.difference_db == pytest.approx(0.0, abs=0.5)
    assert "planned" in shown.book.about.toolTip()
    before = held(shown).rig().device("interface").number("gain1")
    press(qtbot, shown, Qt.Key.Key_E)
    after = held(shown).rig().device("interface").number("gain1")
    assert di.peak_dbfs + after - before == pytest.approx(-12.5, abs=0.6)
    shown._document.undo()
    assert held(shown).rig().device("interface").number("gain1") == before


def test_j_goes_back_and_forth_between_two_takes_at_one_place(
    shown: TakesView, opened: Desk
) -> None:
    first, second = (take.id for take in held(shown).takes[:2])
    shown.other_take()
    assert "Choose two takes" in opened.window._status.text()
    shown.takes.choose(first)
    shown.takes.choose(second)
    shown.player.go_on(48_000, False)
    shown.other_take()
    assert shown.take.id == first
    assert shown.player.sound.position == 48_000
    shown.other_take()
    assert shown.take.id == second


def test_a_file_is_another_attempt_of_the_noise_check(
    shown: TakesView, qtbot: QtBot, tmp_path: Path
) -> None:
    path = tmp_path / "quiet.wav"
    noise = 1e-4 * np.random.default_rng(2).normal(size=3 * RATE)
    soundfile.write(path, noise, RATE, subtype="PCM_24")
    shown.toggle_noise()
    shown.check_noise_file(path, "From a file")
    settle(shown, qtbot)
    assert "From a file" in shown.noise.tried.item(0, 0).text()
    assert shown.noise.table.item(0, 0).text() == "quiet.wav"
    shown.check_noise_file(path, "The same again")
    settle(shown, qtbot)
    assert "None is best" in shown.noise.words.text()
    assert not any("(best)" in shown.noise.tried.item(n, 0).text() for n in range(2))


def test_exchanged_leads_are_told_and_kept_with_the_take(
    shown: TakesView, opened: Desk, qtbot: QtBot
) -> None:
    """Each track holds another's sound: said, listed beside the take, one step of undo with it."""
    plugged = wiring.rig_backend(paced=False, seed=3)

    def exchanged(session, rig, tracks, stored):  # type: ignore[no-untyped-def]
        return plugged(session, rig, (tracks[1], tracks[0], *tracks[2:]), stored)

    shown._services = replace(shown._services, record_from=exchanged)
    before = [take.id for take in held(shown).takes]
    take = recorded(shown, qtbot, bars=3)
    (doubt,) = held(shown).take(take.id).doubts
    assert doubt.kind == "swapped"
    assert {doubt.track, doubt.other} == {one.name for one in take.tracks[:2]}
    assert "hold each other's sound" in shown.book.off_plan.text()
    assert "sockets" in shown.book.off_plan.toolTip()
    opened.document.undo()
    settle(shown, qtbot)
    assert [one.id for one in held(shown).takes] == before


def test_the_first_ten_seconds_are_proved_while_it_goes_on(shown: TakesView, qtbot: QtBot) -> None:
    """What is doubtful is told before anybody plays a whole take in vain; nothing ends it."""
    plugged = wiring.rig_backend(paced=True, seed=3)
    waiting = []

    def exchanged(session, rig, tracks, stored):  # type: ignore[no-untyped-def]
        return plugged(session, rig, (tracks[1], tracks[0], *tracks[2:]), stored)

    shown._services = replace(shown._services, record_from=exchanged)
    shown.capture.doubted.connect(waiting.append)
    press(qtbot, shown, Qt.Key.Key_Space, wait=False)
    qtbot.waitUntil(lambda: bool(waiting), timeout=120_000)
    assert shown.under_way
    assert [one.kind for one in waiting[0]] == ["swapped"]
    qtbot.waitUntil(lambda: "each other's sound" in shown.sentence.text(), timeout=10_000)
    press(qtbot, shown, Qt.Key.Key_Space)
    assert [one.kind for one in held(shown).takes[-1].doubts] == ["swapped"]


def test_a_take_right_behind_another_takes_no_proof_away(shown: TakesView, qtbot: QtBot) -> None:
    """Each is proved, however soon the next one is recorded."""
    plugged = wiring.rig_backend(paced=False, seed=3)

    def exchanged(session, rig, tracks, stored):  # type: ignore[no-untyped-def]
        return plugged(session, rig, (tracks[1], tracks[0], *tracks[2:]), stored)

    shown._services = replace(shown._services, record_from=exchanged)
    shown.setup.bars.setValue(3)
    shown.setup.count_in.setValue(0)
    before = len(held(shown).takes)
    for count in (1, 2):
        press(qtbot, shown, Qt.Key.Key_Space, wait=False)
        qtbot.waitUntil(
            lambda wanted=before + count: (
                len(held(shown).takes) == wanted and not shown.under_way and shown.settled
            ),
            timeout=60_000,
        )
    settle(shown, qtbot)
    for take in held(shown).takes[before:]:
        assert [one.kind for one in take.doubts] == ["swapped"], take.name


def test_tracks_are_armed_by_their_switches(shown: TakesView, qtbot: QtBot) -> None:
    """By keyboard on the board, by a click, and all at once; the strip and the take agree."""
    board = shown.board
    names = [row.name for row in board.rows]
    board.setFocus()
    qtbot.keyClick(board, Qt.Key.Key_Down)
    qtbot.keyClick(board, Qt.Key.Key_Return)
    settle(shown, qtbot)
    assert [row.armed for row in board.rows] == [True, False, *[True] * (len(names) - 2)]
    assert "not armed" in board.accessibleDescription()
    assert shown.course_rows[0][1].finding == "not armed"
    count = len(names) - 1
    assert f"{count} tracks armed" in shown.sentence.text()
    take = recorded(shown, qtbot)
    assert [track.name for track in take.tracks] == [names[0], *names[2:]]
    switch = board._switch(board._area(1)).center()
    qtbot.mouseClick(board, Qt.MouseButton.LeftButton, pos=(switch * theme.zoom()).toPoint())
    settle(shown, qtbot)
    assert all(row.armed for row in board.rows)
    shown.arm_none()
    settle(shown, qtbot)
    assert not any(row.armed for row in board.rows)
    press(qtbot, shown, Qt.Key.Key_Space)
    assert not shown.under_way
    assert "its switch is at the left" in shown.conditions.text()
    shown.arm_all()
    settle(shown, qtbot)
    assert held(shown).disarmed == {}


@pytest.fixture
def early(opened: Desk, qtbot: QtBot) -> TakesView:
    """Takes, shown at this moment: the rig is looked at still."""
    opened.services = replace(opened.services, record_from=wiring.rig_backend(paced=False, seed=3))
    opened.window.activateWindow()
    opened.show("takes")
    view = opened.views["takes"]
    assert isinstance(view, TakesView)
    assert view.ready is None
    view.setup.bars.setValue(1)
    view.setup.count_in.setValue(0)
    return view


def test_a_key_that_is_pressed_early_holds(early: TakesView, qtbot: QtBot) -> None:
    before = len(held(early).takes)
    press(qtbot, early, Qt.Key.Key_Space, wait=False)
    assert not early.under_way

    qtbot.waitUntil(lambda: len(held(early).takes) == before + 1, timeout=60_000)
    settle(early, qtbot)


@pytest.mark.parametrize("taken_back", ["escape", "space", "another view"])
def test_what_was_pressed_early_is_taken_back(
    taken_back: str, early: TakesView, opened: Desk, qtbot: QtBot
) -> None:
    before = len(held(early).takes)
    press(qtbot, early, Qt.Key.Key_Space, wait=False)
    if taken_back == "another view":
        opened.show("instruments")
    else:
        key = Qt.Key.Key_Escape if taken_back == "escape" else Qt.Key.Key_Space
        press(qtbot, early, key, wait=False)

    qtbot.waitUntil(lambda: early.ready is not None and early.settled, timeout=60_000)
    settle(early, qtbot)

    assert len(held(early).takes) == before


def test_no_gain_is_offered_by_a_take_that_nobody_played(shown: TakesView) -> None:
    book = shown.book
    book.show_check("DI is 62.0 dB quieter than planned.", settable=False)
    assert "E sets" not in book.off_plan.text()
    book.show_check("DI is 6.2 dB quieter than planned.")
    assert "E sets the gain" in book.off_plan.text()
