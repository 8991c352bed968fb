"""The Reamp view driven as a person would: take, tone, R, listen, keep, undo, export."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hands import choose_target
from PySide6.QtCore import QPoint, QRectF, Qt
from PySide6.QtGui import QFontMetrics, QImage, QPainter
from PySide6.QtWidgets import (
    QApplication,
    QDoubleSpinBox,
    QFileDialog,
    QInputDialog,
    QLabel,
    QScrollArea,
)
from pytestqt.qtbot import QtBot

from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.jobs import Job
from diaulos.app.views.reamp.loop_diagram import _place_of
from diaulos.app.widgets import rows
from diaulos.audio.bench_backend import BUFFERS_EACH_WAY
from diaulos.figures import LevelFigures
from diaulos.rig.course import reamp_course
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.model import MatchTarget
from diaulos.session.roles import reamp_rig
from diaulos.signal.delay import find_alignment
from diaulos.storage.audiofile import audio_info
from diaulos.work.capture.loop import BLOCK_FRAMES
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import read_mono
from diaulos.work.reamp.planning import plan_reamp
from support import RATE, read_channel

Settle = Callable[[Desk], None]


def press(qtbot: QtBot, desk: Desk, key: Qt.Key) -> None:
    desk.window.activateWindow()
    qtbot.keyClick(desk.window, key)


@pytest.fixture
def with_pass(opened: Desk, qtbot: QtBot, settled: Settle) -> Desk:
    press(qtbot, opened, Qt.Key.Key_R)
    assert opened.jobs.busy
    settled(opened)
    return opened


def test_takes_are_listed_with_what_is_wrong(opened: Desk) -> None:
    view = opened.views["reamp"]
    words = [view.takes.index(i).data(Qt.ItemDataRole.AccessibleTextRole) for i in range(4)]
    assert "Slack water, verse" in words[0]
    assert "DI clips" in words[1]
    assert "calibration unknown" in words[3]


def test_the_loop_shows_the_cores_figures(opened: Desk) -> None:
    """What the cards say is what the plan of the core says."""
    view, session = opened.views["reamp"], opened.document.session
    take = session.takes[0]
    source = opened.document.store.open_audio(take.di.file)
    plan = plan_reamp(
        session.rig(), read_loudest(source), RATE, take.di.full_scale_dbu,
        session.target_peak_dbfs,
    )  # fmt: skip
    cards = view.loop.cards
    assert len(cards) == len(plan.probes)
    assert len(reamp_course(session.rig()).legs) == 7
    for card, shown in zip(cards, plan.probes, strict=True):
        figures = card._window.figures
        assert isinstance(figures, LevelFigures)
        assert figures.peak == pytest.approx(shown.peak)
        assert figures.ceiling == shown.station.ceiling
        assert f"{abs(shown.peak):.1f}" in card.accessibleDescription()
        assert card.toolTip()
    assert f"{plan.send.gain_db:+.1f}" in view._send_text.text()
    assert "Send gain =" in view._send_text.toolTip()


def test_r_makes_a_pass_with_everything_measured(with_pass: Desk) -> None:
    view = with_pass.views["reamp"]
    (made,) = with_pass.document.session.takes[0].passes
    assert view.chosen_pass == made
    words = view.passes.index(0).data(Qt.ItemDataRole.AccessibleTextRole)
    assert f"{made.main.alignment.delay_samples:.2f} samples" in words
    assert "inverted" in words
    assert "headroom" in words
    assert f"{made.main.match.after_lufs:.2f}".lstrip("-") in words
    assert view._waves.back is not None
    assert len(view.wave._traces) == 2
    # In time: what is drawn of the return lies on the DI.
    di, back = (trace.read(0, 10 * RATE) for trace in view.wave._traces)
    assert abs(find_alignment(di, back, RATE).delay_samples) < 0.5
    assert "late" in with_pass.window._status.text()


def test_undo_takes_the_pass_away_and_redo_brings_it_back(with_pass: Desk) -> None:
    made = with_pass.document.session.takes[0].passes
    with_pass.undo()
    assert with_pass.document.session.takes[0].passes == ()
    assert with_pass.views["reamp"].passes.rowCount() == 0
    with_pass.redo()
    assert with_pass.document.session.takes[0].passes == made


def test_another_tone_makes_another_pass_at_the_same_loudness(
    with_pass: Desk, qtbot: QtBot, settled: Settle
) -> None:
    view = with_pass.views["reamp"]
    drive = view.tone.control("amp", "drive")
    assert isinstance(drive, QDoubleSpinBox)
    drive.setValue(8.0)
    voice = view.tone.control("amp", "voice")
    voice.setCurrentIndex(voice.findData("foghorn"))
    voice.activated.emit(voice.currentIndex())
    cabinet = view.tone.control("load_box", "cabinet")
    cabinet.setCurrentIndex(cabinet.findData("closed-four"))
    cabinet.activated.emit(cabinet.currentIndex())
    settled(with_pass)
    choose_target(view.tone, "pass", "p01")
    press(qtbot, with_pass, Qt.Key.Key_R)
    settled(with_pass)
    session = with_pass.document.session
    one, two = session.takes[0].passes
    assert two.main.match.label == one.name == "Tideline drive 5, box"
    assert two.name == "Foghorn drive 8, box"
    assert two.main.match.after_lufs == pytest.approx(one.main.match.after_lufs, abs=0.1)
    assert "Foghorn (hard driven), drive 8" in view.passes.tone(view.passes.item(1))
    assert "Tideline" in view.passes.tone(view.passes.item(0))  # as it was when it was made


def test_a_pair_is_one_thing_to_match_to(opened: Desk) -> None:
    view = opened.views["reamp"]
    take = opened.document.session.takes[0]
    sides = tuple(
        take.tracks[-1].model_copy(update={
            "id": f"k{side[0]}", "name": f"Wide {side}", "file": f"audio/{side}.wav",
            "side": side, "pair": "Wide",
        })
        for side in ("left", "right")
    )  # fmt: skip
    view.tone.show_targets(take.model_copy(update={"tracks": (*take.tracks, *sides)}))
    choose_target(view.tone, "track", "Wide")
    assert view.tone.target == MatchTarget(kind="track", ident="Wide")


def test_match_again_to_a_figure(with_pass: Desk, qtbot: QtBot, settled: Settle) -> None:
    view = with_pass.views["reamp"]
    choose_target(view.tone, "lufs", "")
    view.tone._lufs.setValue(-25.0)
    press(qtbot, with_pass, Qt.Key.Key_M)
    settled(with_pass)
    made = with_pass.document.session.takes[0].passes[0]
    assert made.main.match.after_lufs == pytest.approx(-25.0, abs=0.01)
    choose_target(view.tone, "pass", "p01")
    press(qtbot, with_pass, Qt.Key.Key_M)
    assert "its own reference" in with_pass.window._status.text()


def test_cancel_leaves_everything_as_it_was(opened: Desk, qtbot: QtBot, settled: Settle) -> None:
    before = opened.document.session
    files = sorted(p.name for p in (opened.folder.path / "audio").iterdir())
    press(qtbot, opened, Qt.Key.Key_R)
    qtbot.waitUntil(lambda: opened.working.bar.value() > 100, timeout=30_000)
    assert opened.working.bar.isVisible()
    press(qtbot, opened, Qt.Key.Key_Escape)
    settled(opened)
    assert opened.document.session is before
    assert sorted(p.name for p in (opened.folder.path / "audio").iterdir()) == files
    assert not opened.working.bar.isVisible()
    assert "Nothing was changed" in opened.window._status.text()


def test_the_session_may_change_while_a_pass_is_made(
    opened: Desk, qtbot: QtBot, settled: Settle
) -> None:
    press(qtbot, opened, Qt.Key.Key_R)
    opened.views["reamp"].tone.control("amp", "drive").setValue(1.0)
    settled(opened)
    session = opened.document.session
    assert session.rig().device("amp").number("drive") == 1.0
    (made,) = session.takes[0].passes
    assert session.snapshots[made.rig_hash].device("amp").number("drive") == 5.0


def test_keep_discard_restore(
    with_pass: Desk, qtbot: QtBot, answers: dict, settled: Settle
) -> None:
    press(qtbot, with_pass, Qt.Key.Key_K)
    assert with_pass.document.session.takes[0].passes[0].keeper
    press(qtbot, with_pass, Qt.Key.Key_Delete)
    assert with_pass.document.session.takes[0].passes == ()
    assert len(with_pass.document.session.bin) == 1
    with_pass.restore()
    (made,) = with_pass.document.session.takes[0].passes
    with_pass.views["reamp"].discard()
    path = with_pass.folder.path / made.main.file
    assert path.is_file()
    answers["button"] = "Delete"
    with_pass.saving.empty_bin()
    settled(with_pass)
    assert "cannot be undone" in answers["asked"][0][1]
    assert "Discard pass" in answers["asked"][0][1]
    assert not path.exists()
    assert with_pass.document.undo_label == ""
    assert with_pass.folder.load() == with_pass.document.session


def test_rename(with_pass: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Warm one", True))
    with_pass.views["reamp"].rename()
    assert with_pass.document.session.takes[0].passes[0].name == "Warm one"


def test_export_by_key(
    with_pass: Desk, qtbot: QtBot, tmp_path: Path, settled: Settle,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    out = tmp_path / "out.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(out), ""))
    press(qtbot, with_pass, Qt.Key.Key_E)
    settled(with_pass)
    info = audio_info(out)
    take = with_pass.document.session.takes[0]
    assert info.frames == take.di.frames
    di = read_mono(with_pass.document.store.open_audio(take.di.file))
    assert abs(find_alignment(di, read_channel(info), RATE).delay_samples) < 0.05


def test_an_own_cabinet(opened: Desk, tmp_path: Path, answers: dict, settled: Settle) -> None:
    path = tmp_path / "Dark.wav"
    soundfile.write(str(path), np.exp(-np.arange(800) / 40.0), RATE)
    opened.views["reamp"].load_cabinet(str(path))
    settled(opened)
    session = opened.document.session
    assert session.rig().device("load_box").word("cabinet") == "impulses/Dark.wav"
    box = opened.views["reamp"].tone.control("load_box", "cabinet")
    assert box.currentText() == "Dark (own)"
    soundfile.write(str(path), np.zeros(800), RATE)
    opened.views["reamp"].load_cabinet(str(path))
    assert "silent" in answers["asked"][0][0]


def test_playing_by_key_is_quiet_and_in_time(with_pass: Desk, qtbot: QtBot) -> None:
    view, output = with_pass.views["reamp"], with_pass.services.output
    assert not output.running
    press(qtbot, with_pass, Qt.Key.Key_1)
    press(qtbot, with_pass, Qt.Key.Key_Space)
    assert output.running
    assert view.player.level_db == -20.0
    qtbot.waitUntil(view._sound._player._queue.full, timeout=10_000)
    heard = output.pull(4096)[:, 0]
    take = with_pass.document.session.takes[0]
    wanted = read_mono(with_pass.document.store.open_audio(take.di.file), count=4096)
    np.testing.assert_allclose(heard, wanted * 0.1, atol=1e-6)
    press(qtbot, with_pass, Qt.Key.Key_3)
    assert view.bar.heard == {"pass"}
    press(qtbot, with_pass, Qt.Key.Key_L)
    assert view.player.loop == (0, take.di.frames)
    press(qtbot, with_pass, Qt.Key.Key_Space)
    assert not view.player.playing


def test_reference_and_pass_are_heard_at_matched_level(with_pass: Desk) -> None:
    view = with_pass.views["reamp"]
    (made,) = with_pass.document.session.takes[0].passes
    gains = {c.key: c.gain_db for c in view.player.channels}
    assert gains["pass"] == pytest.approx(made.main.match.total_db)
    assert gains["reference"] == pytest.approx(made.main.match.pair_offset_db)


def test_a_missing_cable_is_said_at_its_place(opened: Desk, settled: Settle) -> None:
    session = opened.document.session
    rig = session.rig("rig01")
    broken = rig.model_copy(update={"cables": rig.cables[:-1]})
    from diaulos.session.edits import Edit

    def change(current):
        rigs = tuple(broken if r.id == "rig01" else r for r in current.rigs)
        return current.model_copy(update={"rigs": rigs})

    opened.document.apply(Edit("Unplug", change))
    settled(opened)
    assert opened.views["reamp"]._problem.isVisible()
    assert "has no reamp path" in opened.views["reamp"]._problem.text()
    opened.undo()
    settled(opened)
    assert not opened.views["reamp"]._problem.isVisible()


def test_the_strip_chooses_the_course_everywhere(opened: Desk, settled: Settle) -> None:
    opened.window.strip.chosen.emit("rig03")
    settled(opened)
    assert opened.document.session.reamp_rig == "rig03"
    assert "Bass" in opened.window.strip.accessibleDescription() or opened.views["reamp"].tone._rig
    assert opened.views["reamp"].tone._rig.currentText() == "Bass by box"


def test_waveform_keys_and_copies(with_pass: Desk, qtbot: QtBot) -> None:
    wave = with_pass.views["reamp"].wave
    whole = wave.view
    qtbot.keyClick(wave, Qt.Key.Key_Plus)
    assert wave.view[1] - wave.view[0] == pytest.approx((whole[1] - whole[0]) / 2.0)
    qtbot.keyClick(wave, Qt.Key.Key_Right)
    qtbot.keyClick(wave, Qt.Key.Key_0)
    assert wave.view == whole
    qtbot.mouseClick(wave, Qt.MouseButton.LeftButton, pos=QPoint(wave.width() // 2, 40))
    assert with_pass.views["reamp"].player.position > 0
    for _ in range(12):
        wave.zoom(0.5)
    wave.grab()  # close up, the samples themselves are drawn
    with_pass.copy_csv()
    text = QApplication.clipboard().text()
    assert (
        text.splitlines()[0]
        == 'seconds,DI low,DI high,"Tideline drive 5, box low","Tideline drive 5, box high"'
    )
    assert len(text.splitlines()) == 1001
    with_pass.copy_image()
    assert not QApplication.clipboard().pixmap().isNull()


def test_the_clipped_take_and_the_unknown_one_say_so(opened: Desk, settled: Settle) -> None:
    view = opened.views["reamp"]
    view.take_list.setCurrentIndex(view.takes.index(3))
    settled(opened)
    assert "+12 dBu is assumed" in view._send_text.text()
    view.take_list.setCurrentIndex(view.takes.index(1))
    settled(opened)
    assert view.take.name == "Slack water, chorus"


def test_nothing_fails_without_a_take(desk: Desk, tmp_path: Path, settled: Settle) -> None:
    from diaulos.wiring import new_session

    folder, session = new_session(tmp_path / "Empty")
    desk.attach(folder, session)
    settled(desk)
    view = desk.views["reamp"]
    for call in (view.reamp, view.keep, view.discard, view.match_again, view.ask_export,
                 view.toggle_play, view.rename):  # fmt: skip
        call()
    assert "Import" in desk.window._status.text()
    assert view._empty_takes.isVisible()


def test_a_rig_by_usb_is_reamped_and_shown_as_modeled(
    opened: Desk, settled: Settle, qtbot: QtBot
) -> None:
    """Digital all the way: the modeler's tone controls, four courses in the strip, and the
    window as high as before."""
    height = opened.window.height()
    opened.document.apply(edits.add_rig(build("reamp-usb", "usb")))
    settled(opened)
    assert opened.window.height() == height == 800
    view = opened.views["reamp"]
    assert view.tone.control("modeler", "voice").currentData() == "tideline"
    with pytest.raises(KeyError):
        view.tone.control("modeler", "clock")
    assert opened.window.strip._rows[-1].tap == "modeled"
    view.reamp()
    settled(opened)
    (made,) = opened.document.session.takes[0].passes
    assert made.send_gain_db == pytest.approx(2.0)
    assert made.main.alignment is not None
    shown = {trace.name: trace.tap for trace in view.wave._traces}
    assert shown == {"DI": "di", f"{made.name}, Reamp left": "modeled"}


def test_a_rig_without_a_loop_says_so(opened: Desk, settled: Settle) -> None:
    opened.document.apply(edits.choose_reamp_rig("rig04"))
    settled(opened)
    assert "has no reamp path" in opened.views["reamp"]._problem.text()
    assert opened.views["reamp"].loop.cards == []
    assert "rig04" not in [row.key for row in opened.window.strip._rows]
    opened.document.apply(edits.choose_reamp_rig("rig01"))
    settled(opened)
    assert opened.views["reamp"]._problem.isHidden()
    assert opened.views["reamp"].loop.cards


def test_choosing_a_reamp_rig_leaves_takes_armed(
    opened: Desk, qtbot: QtBot, settled: Settle
) -> None:
    """What is sent out is chosen here; what records is not touched."""
    session = opened.document.session
    opened.document.apply(edits.choose_rig("rig04"))
    settled(opened)
    view = opened.views["reamp"]
    view.choose_rig("rig02")
    settled(opened)
    after = opened.document.session
    assert after.reamp_rig == "rig02"
    assert (after.recording_rig, after.current_rig) == ("rig04", "rig04")
    assert after.rigs == session.rigs
    opened.show("takes")
    takes = opened.views["takes"]
    qtbot.waitUntil(lambda: takes.ready is not None and takes.settled)
    assert [one.name for one in takes.ready.armed]
    assert after.rig("rig04").name in takes.sentence.toolTip()


def test_the_slate_tells_the_loops_delay(with_pass: Desk, qtbot: QtBot, settled: Settle) -> None:
    view = with_pass.views["reamp"]
    made = view.chosen_pass
    buffers = 2 * BUFFERS_EACH_WAY * BLOCK_FRAMES
    assert made.main.loop_delay_samples == pytest.approx(buffers + 95.0, abs=20.0)
    words = view.passes.index(0).data(Qt.ItemDataRole.ToolTipRole)
    assert "loop delay" in words
    view.tone._slate.setChecked(False)
    press(qtbot, with_pass, Qt.Key.Key_R)
    settled(with_pass)
    assert view.chosen_pass.main.slate is None


def test_a_slate_far_from_plan_is_asked_about(
    opened: Desk, settled: Settle, answers: dict[str, object], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The hardware does not stand as the rig says: stop and look, or go on knowingly."""
    view = opened.views["reamp"]
    rig = reamp_rig(opened.document.session)
    bench = view._services.bench_for

    def turned(impulses: object) -> object:
        return lambda courses: bench(impulses)(
            (reamp_course(courses[0].rig.with_setting("amp", "master", -40.0)),)
        )

    monkeypatch.setattr(view, "_services", replace(view._services, bench_for=turned))
    take = opened.document.session.takes[0].id
    before = len(opened.document.session.take(take).passes)
    answers["button"] = "Stop"
    view.reamp()
    settled(opened)
    asked = answers["asked"][-1]
    assert "34 dB lower than planned" in asked[0]
    assert "the amplifier's volume" in asked[1]
    assert len(opened.document.session.take(take).passes) == before
    assert "lower than planned" in opened.window._status.text()
    answers["button"] = "Go on"
    view.reamp()
    settled(opened)
    assert len(opened.document.session.take(take).passes) == before + 1
    assert rig == reamp_rig(opened.document.session)


def test_a_take_is_in_time_with_one_of_its_tracks(
    with_pass: Desk, settled: Settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    view, take = with_pass.views["reamp"], with_pass.document.session.takes[0]
    other = next(track for track in take.tracks if track.id != take.di.id)
    asked = []

    def ask(*words: object) -> tuple[str, bool]:
        asked.append(words[3])
        return other.name, True

    monkeypatch.setattr(QInputDialog, "getItem", ask)
    view.ask_reference()
    settled(with_pass)
    now = with_pass.document.session.take(take.id)
    assert now.reference == other.id
    assert asked == [[track.name for track in take.tracks]]
    assert all(one.main.against is not None for one in now.passes)
    assert other.name in with_pass.window._status.text()
    with_pass.document.undo()
    assert with_pass.document.session.take(take.id).reference == ""


def test_what_stands_in_the_way_is_still_told_after_other_work(
    opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    """It vanished when any job began, and the view waited for a plan for ever."""
    view = opened.views["reamp"]
    opened.document.apply(edits.add_rig(build("straight", "plain")))
    opened.document.apply(edits.choose_reamp_rig("plain"))
    settled(opened)
    assert "no reamp path" in view._problem.text()
    assert not view._problem.isHidden()
    opened.jobs.start(Job("Other work", lambda _p, _c: None, lambda _r: None))
    qtbot.waitUntil(lambda: opened.jobs.quiet, timeout=10_000)
    assert not view._problem.isHidden()
    assert view.settled


def test_a_rig_that_records_and_reamps_says_what_is_thrown(opened: Desk, settled: Settle) -> None:
    """One rig for both: its state Reamp is shown, sent through and edited, Record stays."""
    view, document = opened.views["reamp"], opened.document
    rig = build("modeler-usb", "both")
    document.apply(edits.Edit("Add", lambda s: s.model_copy(update={"rigs": (*s.rigs, rig)})))
    view.choose_rig("both")
    settled(opened)
    assert view._state.text() == "State Reamp: Desktop modeler: Plays at USB return"
    view.reamp()
    settled(opened)
    (made,) = document.session.takes[0].passes
    assert len(made.returns) == 2
    assert document.session.snapshots[made.rig_hash].state == "reamp"
    assert view.passes.rowCount() == 1
    loud, left, right = view.passes.lines(view.passes.item(0))
    assert left.startswith("Left  ")
    assert right.startswith("Right  ")
    assert "LUFS" in loud
    view._on_setting("modeler", "drive", 7.0)
    settled(opened)
    now = document.session.rig("both")
    assert now.device("modeler").number("drive") == 7.0
    assert now.device("modeler").word("feed") == "jack"
    assert len(view.loop.cards) == 6
    assert view.loop.out_words == "Out: the DI goes to Desktop modeler"


@pytest.mark.parametrize("template", ["reamp-box", "reamp-both", "reamp-loop", "amp-in-loop"])
def test_the_page_of_a_loop_is_as_wide_as_its_place(
    opened: Desk, settled: Settle, template: str
) -> None:
    """Else its keys and half of its controls are out of sight. Of two devices with a Drive each
    has lines of its own, under its name."""
    rig = build(template, "wide")
    document, view = opened.document, opened.views["reamp"]
    document.apply(edits.Edit("Add", lambda s: s.model_copy(update={"rigs": (*s.rigs, rig)})))
    view.window().resize(1024, 700)
    view.choose_rig("wide")
    settled(opened)
    (page,) = (one for one in view.findChildren(QScrollArea) if one.accessibleName() == "Loop and "
               "tone")  # fmt: skip
    assert page.widget().width() == page.viewport().width()
    headings = [one.text() for one in view.tone.findChildren(QLabel)
                if one.property("role") == "small-bold"]  # fmt: skip
    shown = [d.name for d in rig.devices if d.kind in ("amp", "load_box", "reamp_box", "modeler",
                                                       "impulse_loader")]  # fmt: skip
    assert headings == ([] if template == "reamp-box" else shown)


def test_the_loop_is_checked_with_a_key(
    opened: Desk, qtbot: QtBot, settled: Settle, answers: dict[str, object],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    """First known, then as it was, then not: kept only when a person says so."""
    view, document = opened.views["reamp"], opened.document
    opened.show("reamp")
    settled(opened)
    press(qtbot, opened, Qt.Key.Key_C)
    settled(opened)
    assert "The loop is known now" in opened.window._status.text()
    assert len(document.session.loop_checks) == 1
    press(qtbot, opened, Qt.Key.Key_C)
    settled(opened)
    assert opened.window._status.text().startswith("As on ")
    bench = view._services.bench_for

    def turned(impulses: object) -> object:
        return lambda courses: bench(impulses)(
            (reamp_course(courses[0].rig.with_setting("amp", "treble", 0.0)),)
        )

    monkeypatch.setattr(view, "_services", replace(view._services, bench_for=turned))
    for answer, kept in (("Leave it", True), ("Keep as it is now", False)):
        answers["button"] = answer
        before = document.session.loop_checks
        press(qtbot, opened, Qt.Key.Key_C)
        settled(opened)
        assert (document.session.loop_checks == before) is kept


def test_a_pass_is_recalled_and_told_from_another(
    with_pass: Desk, settled: Settle, answers: dict[str, object], monkeypatch: pytest.MonkeyPatch
) -> None:
    view, document = with_pass.views["reamp"], with_pass.document
    rig = reamp_rig(document.session).id
    view.ask_differs()
    assert "no other pass" in with_pass.window._status.text()
    document.apply(edits.set_device_setting(rig, "amp", "drive", 9.0))
    settled(with_pass)
    view.reamp()
    settled(with_pass)
    first, second = document.session.takes[0].passes
    said: list[str] = []
    monkeypatch.setattr(
        "diaulos.app.views.reamp.work.ask", lambda _parent, *words, **_more: said.extend(words)
    )
    monkeypatch.setattr(QInputDialog, "getItem", lambda *_words: (first.name, True))
    view.ask_differs()
    assert said[0] == f"{second.name} against {first.name}"
    assert "Drive: 5.0 → 9.0" in said[1]
    view.pass_list.setCurrentIndex(view.passes.index(0))
    view.recall_pass()
    settled(with_pass)
    assert document.session.rig(rig).device("amp").number("drive") == 5.0
    document.undo()
    assert document.session.rig(rig).device("amp").number("drive") == 9.0
    assert ", box" in view.passes.tone(view.passes.item(0))


def test_the_amplifiers_name_stays_between_its_cables(opened: Desk, settled: Settle) -> None:
    opened.show("reamp")
    settled(opened)
    loop = opened.views["reamp"].loop

    def drawn(name: str) -> np.ndarray:
        loop._amp_name = name
        loop.update()
        image = loop.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
        whole = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), -1, 4)
        return whole[:, : image.width(), :3].copy()

    bare, named = drawn(""), drawn("60 W transistor amplifier with a name that does not end")
    rows = np.flatnonzero((bare != named).any(axis=(1, 2)))
    out, back = (_place_of(cards[at]) for cards, at in ((loop._out, -1), (loop._backs[0], 0)))
    assert rows.size
    assert out.center().y() + 2 < rows[0] < rows[-1] < back.center().y() - 2


def test_at_the_least_size_no_figure_of_a_take_is_cut(opened: Desk, settled: Settle) -> None:
    """ "-14...." stood there: a figure that is cut reads as another one. The page of the loop
    does not scroll sideways for it."""
    opened.show("reamp")
    opened.window.resize(1024, 700)
    settled(opened)
    view = opened.views["reamp"]
    room = view.take_list.viewport().width() - 20
    metrics = QFontMetrics(theme.figure_font(9))
    assert room >= metrics.horizontalAdvance("0:24.0  −12.0")
    assert all(one.horizontalScrollBar().maximum() == 0 for one in view.findChildren(QScrollArea))


@pytest.mark.parametrize(
    ("width", "shown"), [(200, "0:24.0  -12.0 dBFS"), (90, "0:24.0  -12.0"), (50, "0:24.0")]
)
def test_the_longest_line_of_figures_that_fits_is_painted(
    width: int, shown: str, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot
) -> None:
    told: list[str] = []
    monkeypatch.setattr(rows, "paint_line", lambda _p, _r, _t, text: told.append(text))
    image = QImage(240, 20, QImage.Format.Format_ARGB32)
    painter = QPainter(image)
    painter.setFont(theme.figure_font(9))
    lines = ("0:24.0  -12.0 dBFS", "0:24.0  -12.0", "0:24.0")
    rows.paint_figures(painter, QRectF(0, 0, width, 20), 0, *lines)
    painter.end()
    assert told == [shown]
