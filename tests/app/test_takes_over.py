"""Takes: recording over takes, what opens over the body, the mix, the bin, files from outside."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog
from pytestqt.qtbot import QtBot
from test_takes_view import begun, held, press, recorded, settle, shown, slowly
from test_window import names_missing

from diaulos import wiring
from diaulos.app import theme
from diaulos.app.actions import keys_html
from diaulos.app.desk import Desk
from diaulos.app.dialogs.import_take import ImportTakeDialog
from diaulos.app.views.takes.mix import pan_words
from diaulos.app.views.takes.view import TakesView
from diaulos.figures import number
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.model import Heard, Pass, Return, rig_hash
from diaulos.signal.pitch import Pitch
from diaulos.work.capture.trips import WayRound
from diaulos.work.instruments import tuning
from diaulos.work.listening.mixing import mix_rows
from support import RATE

__all__ = ["shown"]
BAR = round(2.5 * RATE)
"""4/4 at 96."""


def at(view: TakesView, frame: int) -> None:
    view.player._seek(frame)


def way(view: TakesView, name: str) -> None:
    view.setup.way.setCurrentIndex(view.setup.way.findData(name))


def marked(view: TakesView, qtbot: QtBot, first: int, last: int) -> None:
    at(view, first)
    press(qtbot, view, Qt.Key.Key_I)
    at(view, last)
    press(qtbot, view, Qt.Key.Key_O)


# --- the range ---


def test_a_range_is_marked_by_key_to_whole_bars(shown: TakesView, qtbot: QtBot) -> None:
    recorded(shown, qtbot, bars=4)
    assert shown.player.range_words.text() == "I, O: a range"
    marked(shown, qtbot, BAR + 3_000, 3 * BAR - 9_000)
    assert shown.stretch == (BAR, 3 * BAR)
    assert shown.player.range_words.text().startswith("bars 2–3, 0:02.5–0:07.5")
    assert shown.player.wave._loop == (BAR, 3 * BAR)
    assert shown.player.sound.loop == (BAR, 3 * BAR)
    # Exactly there, and on the wrong side of what was marked before.
    at(shown, 12_345)
    shown.mark_out_exactly()
    assert shown.stretch == (0, 12_345)
    at(shown, 20_000)
    shown.mark_in_exactly()
    assert shown.stretch == (20_000, 4 * BAR)
    press(qtbot, shown, Qt.Key.Key_Backspace)
    assert shown.stretch is None
    press(qtbot, shown, Qt.Key.Key_L)
    assert shown.player.sound.loop is None
    press(qtbot, shown, Qt.Key.Key_L)
    assert shown.player.sound.loop == (0, 4 * BAR)


def test_a_range_belongs_to_its_take(shown: TakesView, qtbot: QtBot) -> None:
    recorded(shown, qtbot, bars=2)
    marked(shown, qtbot, BAR, 2 * BAR)
    shown.takes.choose(held(shown).takes[0].id)
    settle(shown, qtbot)
    assert shown.stretch is None
    shown.takes.choose(held(shown).takes[-1].id)
    settle(shown, qtbot)
    assert shown.stretch == (BAR, 2 * BAR)


# --- ways to record ---


def test_the_ways_say_what_they_need(shown: TakesView, opened: Desk, qtbot: QtBot) -> None:
    recorded(shown, qtbot)
    words = []
    for _ in range(4):
        press(qtbot, shown, Qt.Key.Key_W)
        words.append(shown.setup.chosen)
    assert words == ["along", "loop", "punch", "new"]
    way(shown, "punch")
    assert shown.sentence.text() == "Mark a range: I at its beginning, O at its end."
    assert not shown.record_button.isEnabled()
    assert shown.setup.pre_roll.isVisible()
    assert not shown.setup.bars.isVisible()
    count = len(held(shown).takes)
    press(qtbot, shown, Qt.Key.Key_Space)
    assert len(held(shown).takes) == count
    marked(shown, qtbot, 0, BAR)
    assert shown.record_button.isEnabled()
    shown.takes.clearSelection()
    shown.takes.setCurrentCell(-1, -1)
    shown._say()
    assert shown.sentence.text() == "Choose a take to record over."


def test_tempo_and_metre_are_at_hand(shown: TakesView, opened: Desk, qtbot: QtBot) -> None:
    assert shown.setup.tempo.value() == held(shown).tempo_bpm == 96.0
    assert shown.setup.metre.currentData() == "4/4"
    shown.setup.tempo.setValue(120.0)
    shown.setup.metre.setCurrentIndex(shown.setup.metre.findData("3/4"))
    shown.setup.metre.activated.emit(shown.setup.metre.currentIndex())
    settle(shown, qtbot)
    take = recorded(shown, qtbot)
    assert (take.tempo_bpm, take.metre) == (120.0, "3/4")
    assert take.tracks[0].frames == round(1.5 * RATE)
    for _ in range(3):
        opened.undo()
    settle(shown, qtbot)
    assert shown.setup.tempo.value() == 96.0
    shown._document.apply(edits.set_info(metre="11/8"))
    assert shown.setup.metre.currentText() == "11/8"


def test_rounds_over_a_range_become_takes(shown: TakesView, opened: Desk, qtbot: QtBot) -> None:
    base = recorded(shown, qtbot, bars=3)
    marked(shown, qtbot, BAR, 2 * BAR)
    way(shown, "loop")
    shown.setup.bars.setValue(2)
    press(qtbot, shown, Qt.Key.Key_Space)
    rounds = held(shown).takes[-2:]
    assert [one.name for one in rounds] == ["Take 6, round 1", "Take 6, round 2"]
    assert {one.over for one in rounds} == {base.id}
    assert {one.over_frame for one in rounds} == {BAR}
    assert {t.frames for one in rounds for t in one.tracks} == {BAR}
    assert shown.take.id == base.id  # the next round goes over the same take
    shown.takes.choose(rounds[0].id)
    settle(shown, qtbot)
    assert "recorded over Take 5 from 0:02.5 on" in shown.book.about.text()
    opened.undo()
    settle(shown, qtbot)
    assert [one.id for one in held(shown).takes][-1] == base.id


def test_a_round_trip_that_was_never_measured_is_told(shown: TakesView, qtbot: QtBot) -> None:
    """Only where something plays along: a first take has nothing to be in time with."""
    told: list[str] = []
    shown.said.connect(told.append)
    shown._services = replace(shown._services, way_round=lambda: WayRound("Box"))
    base = recorded(shown, qtbot, bars=2)
    assert not any("never measured" in one for one in told)
    way(shown, "along")
    press(qtbot, shown, Qt.Key.Key_Space)
    assert any("round trip of Box was never measured" in one for one in told)
    assert held(shown).takes[-1].over == base.id


def test_a_punch_keeps_the_old_take(shown: TakesView, opened: Desk, qtbot: QtBot) -> None:
    base = recorded(shown, qtbot, bars=3)
    marked(shown, qtbot, BAR, 2 * BAR)
    way(shown, "punch")
    other_player = wiring.rig_backend(paced=False, seed=8)
    shown._services = replace(shown._services, record_from=other_player)
    press(qtbot, shown, Qt.Key.Key_Space)
    new = held(shown).takes[-1]
    assert new.punched == (BAR, 2 * BAR)
    assert held(shown).take(base.id) == base
    folder = opened.folder.path
    for one, other in zip(base.tracks, new.tracks, strict=True):
        a, _ = soundfile.read(str(folder / one.file))
        b, _ = soundfile.read(str(folder / other.file))
        assert np.array_equal(a[:BAR], b[:BAR])
        assert np.array_equal(a[2 * BAR :], b[2 * BAR :])
        assert not np.array_equal(a[BAR : 2 * BAR], b[BAR : 2 * BAR])
    shown.takes.choose(new.id)
    settle(shown, qtbot)
    assert "Take 5 with 0:02.5-0:05.0 played anew" in shown.book.about.text()


def test_again_bins_every_round(shown: TakesView, qtbot: QtBot) -> None:
    slowly(shown)
    shown.setup.loop.setValue(1)
    before = len(held(shown).takes)
    begun(shown, qtbot)
    first = shown.recording
    qtbot.waitUntil(lambda: "round 2" in shown.sentence.text(), timeout=30_000)
    press(qtbot, shown, Qt.Key.Key_A, wait=False)
    qtbot.waitUntil(
        lambda: shown.recording is not None and shown.recording is not first, timeout=20_000
    )
    assert len(held(shown).take_bin) >= 2
    assert len(held(shown).takes) == before
    press(qtbot, shown, Qt.Key.Key_Space)


# --- the mix ---


def test_the_mix_is_shown_changed_and_undone(shown: TakesView, opened: Desk, qtbot: QtBot) -> None:
    take = recorded(shown, qtbot)
    press(qtbot, shown, Qt.Key.Key_X)
    assert shown.mix.isVisible()
    di, amp, cabinet = (track.file for track in take.tracks)
    assert shown.mix.strip(di).state.text() == "not heard"
    shown.mix.strip(di).mute.click()
    shown.mix.strip(amp).level.setValue(-6)
    shown.mix.strip(amp).level.setValue(-9)
    shown.mix.strip(amp).pan.setValue(-100)
    session = held(shown)
    assert session.mix == {di: Heard(muted=False), amp: Heard(level_db=-9.0, pan=-1.0)}
    assert shown.mix.strip(amp).pan_words.text() == "left 100"
    assert shown.mix.strip(amp).level_words.text() == f"{number(-9.0, 0, sign=True)} dB"
    assert shown.player.sound.heard == {di, amp, cabinet}
    channel = next(one for one in shown.player.sound.channels if one.key == amp)
    assert (channel.gain_db, channel.pan) == (-9.0, -1.0)
    # What is heard is what the session says: one truth.
    assert [row.heard for row in mix_rows(session, take)][1] == Heard(level_db=-9.0, pan=-1.0)
    shown.mix.strip(cabinet).level.setValue(3)
    qtbot.keyClick(shown.mix.strip(cabinet).level, Qt.Key.Key_Home)
    assert cabinet not in held(shown).mix  # what is usual is not written down
    shown.mix.strip(cabinet).solo.click()
    assert shown.player.sound.heard == {cabinet}
    assert shown._request(session).over is None
    way(shown, "along")
    assert shown._request(session).over.solo == frozenset({cabinet})
    opened.undo()  # the cabinet's level, there and back
    opened.undo()  # the place
    opened.undo()  # both steps of the level are one
    settle(shown, qtbot)
    assert held(shown).mix == {di: Heard(muted=False)}
    assert shown.mix.strip(amp).level.value() == 0
    assert names_missing(shown) == []
    press(qtbot, shown, Qt.Key.Key_X)
    assert shown.board.isVisible()


def test_passes_are_in_the_mix(shown: TakesView, qtbot: QtBot) -> None:
    take = recorded(shown, qtbot)
    rig = held(shown).rig()
    made = Pass(
        id="p01", name="Louder", track_id="k01", rig_hash=rig_hash(rig), rig_name=rig.name,
        made_at=take.recorded_at, send_gain_db=0.0, amp_peak_dbu=0.0,
        returns=(Return(
            name="Return", file=take.tracks[1].file.replace("k02", "p01_k01"), frames=100,
            return_gain_db=0.0, alignment=None, peak_dbfs=-3.0, true_peak_dbtp=-2.9,
            loudness_lufs=None, match=None,
        ),),
    )  # fmt: skip
    folder = Path(shown._document.store.path)  # type: ignore[attr-defined]
    (folder / made.main.file).write_bytes((folder / take.tracks[1].file).read_bytes())
    shown._document.apply(edits.add_pass(take.id, made, rig))
    settle(shown, qtbot)
    keys = [channel.key for channel in shown.player.sound.channels]
    assert keys == [track.file for track in take.tracks] + [made.main.file]
    press(qtbot, shown, Qt.Key.Key_4)
    assert shown.player.sound.heard == {made.main.file}
    press(qtbot, shown, Qt.Key.Key_0)
    assert made.main.file in shown.player.sound.heard  # an only pass is heard
    press(qtbot, shown, Qt.Key.Key_5)  # there is none
    assert len(shown.player.sound.heard) == 3


def test_places_in_words() -> None:
    assert [pan_words(pan) for pan in (0.0, -0.4, 1.0)] == ["middle", "left 40", "right 100"]


# --- the tuner ---


@pytest.fixture
def tuner(shown: TakesView, qtbot: QtBot) -> Iterator[TakesView]:
    shown._services = replace(
        shown._services, pluck_from=lambda frets: wiring.pluck_backend(frets, paced=False)
    )
    press(qtbot, shown, Qt.Key.Key_T, wait=False)
    qtbot.waitUntil(lambda: shown.tuner.face.shown is not None, timeout=20_000)
    yield shown
    if shown.ear.listening:
        press(qtbot, shown, Qt.Key.Key_T, wait=False)
    settle(shown, qtbot)


def test_the_tuner_hears_the_instrument_in_hand(tuner: TakesView, qtbot: QtBot) -> None:
    panel = tuner.tuner
    assert panel.isVisible()
    assert not tuner.player.isVisible()
    one = panel.instrument
    assert one is not None
    assert panel.input.currentText() == f"DI, {one.name}"
    assert panel.input.count() == 3  # any armed track can be listened to
    assert tuple(panel.typed.text().split()) == one.strings
    assert [button.text().splitlines()[0] for button in panel._buttons] == [
        f"{len(one.strings) - n}: {name}" for n, name in enumerate(one.strings)
    ]
    assert "cents" in panel.face.accessibleDescription()
    panel.face.grab()
    assert names_missing(tuner) == []
    assert "T closes" in tuner.sentence.text()
    press(qtbot, tuner, Qt.Key.Key_T)
    assert not panel.isVisible()
    assert not tuner.ear.listening


def test_a_string_is_chosen_by_its_number(tuner: TakesView, qtbot: QtBot) -> None:
    panel = tuner.tuner
    press(qtbot, tuner, Qt.Key.Key_3, wait=False)
    assert panel.chosen == 3
    panel.show_heard(tuning.Heard("note", -20.0, 99, 0.5, Pitch(100.0, 0.99, 1)))
    assert panel.face.shown.string == 3
    press(qtbot, tuner, Qt.Key.Key_0, wait=False)
    assert panel.chosen == 0
    assert [button.isChecked() for button in panel._buttons] == [False] * 6


def test_figures_are_the_cores_and_do_not_jump(tuner: TakesView, qtbot: QtBot) -> None:
    panel = tuner.tuner
    tuner.ear.stop()
    settle_ear(tuner, qtbot)
    hz = panel.strings.wanted_hz(2)
    for pitch in (hz, hz * 1.03, hz):  # one answer is off: the median is not
        panel.show_heard(tuning.Heard("note", -20.0, 500, 0.5, Pitch(pitch, 0.99, 1)))
    assert panel.face.shown == tuning.tuned(hz, panel.strings)
    assert panel.face._words == "in tune"
    panel.show_heard(tuning.Heard("quiet", -90.0, 500))
    assert panel.face.shown == tuning.tuned(hz, panel.strings)  # it stays, and says so
    assert panel.face._words == "last: in tune"
    assert not panel.face._fresh
    for look in (theme.NIGHT, theme.DAY):
        theme.apply(QApplication.instance(), look)
        panel.face.grab()


def settle_ear(view: TakesView, qtbot: QtBot) -> None:
    """Out of the tuner, so that nothing starts it again."""
    view._stack.setCurrentWidget(view.board)
    qtbot.waitUntil(lambda: not view.ear.listening, timeout=20_000)


def test_another_track_can_be_listened_to(tuner: TakesView, qtbot: QtBot) -> None:
    panel = tuner.tuner
    panel.input.setCurrentIndex(1)
    panel.input.activated.emit(1)
    assert panel.input.currentText().startswith("Amp, ")
    port = panel.input.currentData()
    qtbot.waitUntil(lambda: tuner.ear.listening and tuner.ear.port == port, timeout=20_000)
    assert tuner._track_to_tune().tap == "amp"


def test_the_check_asks_and_keeps_its_result_with_the_instrument(
    tuner: TakesView, opened: Desk, qtbot: QtBot
) -> None:
    panel = tuner.tuner
    ident = panel.instrument.id
    press(qtbot, tuner, Qt.Key.Key_F, wait=False)
    assert panel.face._asked.startswith("Play string 6 (B1) open")
    qtbot.waitUntil(lambda: bool(held(tuner).instrument(ident).intonation), timeout=60_000)
    kept = held(tuner).instrument(ident).intonation
    assert [one.string for one in kept] == [6, 5, 4, 3, 2, 1]
    assert panel.table.rowCount() == 6
    for line, one in enumerate(kept):
        assert panel.table.item(line, 4).text() == number(one.cents, 1, sign=True)
    press(qtbot, tuner, Qt.Key.Key_T)
    opened.undo()
    settle(tuner, qtbot)
    assert held(tuner).instrument(ident).intonation == ()


def test_plucks_are_counted_on_when_the_ear_begins_anew(tuner: TakesView, qtbot: QtBot) -> None:
    """The check begins a new ear: its first pluck must not look like one that was taken."""
    plucks: list[int] = []
    tuner.ear.heard.connect(lambda heard: plucks.append(heard.pluck))
    qtbot.waitUntil(lambda: bool(plucks) and plucks[-1] >= 2, timeout=20_000)
    first = tuner.ear._before
    press(qtbot, tuner, Qt.Key.Key_F, wait=False)
    qtbot.waitUntil(lambda: tuner.ear._before > first, timeout=20_000)
    count = len(plucks)
    qtbot.waitUntil(lambda: len(plucks) > count + 20, timeout=20_000)
    assert plucks == sorted(plucks)
    press(qtbot, tuner, Qt.Key.Key_F, wait=False)


def test_other_tunings_and_another_a4(
    tuner: TakesView, opened: Desk, qtbot: QtBot, answers: dict
) -> None:
    panel = tuner.tuner
    ident = panel.instrument.id
    panel.a4.setValue(432.0)
    assert held(tuner).a4_hz == 432.0
    assert panel.strings.a4_hz == 432.0
    panel.tuning.setCurrentIndex(panel.tuning.findData("drop-d"))
    panel.tuning.activated.emit(panel.tuning.currentIndex())
    assert panel.typed.text() == "D2 A2 D3 G3 B3 E4"
    panel.typed.setText("C2 G2 C3 F3 A3 D4")
    panel.typed.editingFinished.emit()
    assert panel.tuning.currentData() == "typed"
    assert panel.strings.midi == (36, 43, 48, 53, 57, 62)
    panel.typed.setText("C2 H2")
    panel.typed.editingFinished.emit()
    assert "is not a note" in answers["asked"][-1][0]
    assert panel.typed.text() == "C2 G2 C3 F3 A3 D4"
    assert panel.own.isVisible()
    panel.own.click()
    assert held(tuner).instrument(ident).strings == ("C2", "G2", "C3", "F3", "A3", "D4")
    assert not panel.own.isVisible()
    opened.undo()
    assert held(tuner).instrument(ident).strings[0] == "B1"


def test_space_records_from_the_tuner(tuner: TakesView, qtbot: QtBot) -> None:
    count = len(held(tuner).takes)
    tuner.setup.bars.setValue(1)
    tuner.setup.count_in.setValue(0)
    press(qtbot, tuner, Qt.Key.Key_Space, wait=False)
    qtbot.waitUntil(lambda: len(held(tuner).takes) == count + 1, timeout=60_000)
    settle(tuner, qtbot)
    assert tuner.board.isVisible()


def test_another_view_and_closing_end_the_listening(
    tuner: TakesView, opened: Desk, qtbot: QtBot
) -> None:
    ending = tuner.ending()
    assert ending is not None
    assert not ending.question  # nobody would miss it
    ending.stop()
    qtbot.waitUntil(lambda: not tuner.ear.listening or tuner._page is tuner.tuner, timeout=10_000)
    opened.show("rig")
    qtbot.waitUntil(lambda: not tuner.ear.listening, timeout=20_000)
    assert not opened.jobs.busy


def test_a_rig_without_an_instrument_has_nothing_to_tune(
    shown: TakesView, qtbot: QtBot, answers: dict
) -> None:
    from diaulos.rig.model import Rig

    shown._document.apply(edits.add_rig(Rig(id="none", name="None", devices=(), cables=())))
    shown._document.apply(edits.choose_recording_rig("none"))
    settle(shown, qtbot)
    press(qtbot, shown, Qt.Key.Key_T)
    assert "No instrument reaches a recorder input" in answers["asked"][-1][0]
    press(qtbot, shown, Qt.Key.Key_T)
    assert shown.board.isVisible()


# --- the bin ---


def test_the_bin_is_listed_and_gives_back(
    shown: TakesView, opened: Desk, qtbot: QtBot, answers: dict
) -> None:
    one, two = recorded(shown, qtbot), recorded(shown, qtbot)
    press(qtbot, shown, Qt.Key.Key_U)  # nothing to restore: nothing happens
    for _ in range(2):
        press(qtbot, shown, Qt.Key.Key_Delete)
        shown.takes.choose(one.id)
    assert shown.book.bin.text() == "Bin: 2 (D)"
    press(qtbot, shown, Qt.Key.Key_D)
    assert shown.book.in_bin
    names = [shown.book.binned.item(row, 0).text() for row in range(2)]
    assert names == [one.name, two.name]
    shown.book.binned.choose(two.id)
    assert shown.heard_take.id == two.id  # it is seen and heard before it is brought back
    before = held(shown)
    for key in (Qt.Key.Key_Delete, Qt.Key.Key_K, Qt.Key.Key_R):
        press(qtbot, shown, key)
    assert held(shown) is before  # no key changes what is hidden
    assert "U brings the chosen one back" in shown.book.about.text()
    press(qtbot, shown, Qt.Key.Key_U)
    assert not shown.book.in_bin
    assert shown.take.id == two.id
    press(qtbot, shown, Qt.Key.Key_D)
    answers["button"] = "Delete"
    shown.book.empty.click()
    qtbot.waitUntil(lambda: opened.jobs.quiet, timeout=20_000)
    assert held(shown).take_bin == ()
    assert shown.book.binned.rowCount() == 0
    assert not shown.book.empty.isEnabled()
    assert "The bin is empty" in shown.book.about.text()


# --- two metres ---


def test_space_presses_a_button_that_was_reached_by_tab(shown: TakesView, qtbot: QtBot) -> None:
    take = recorded(shown, qtbot)
    press(qtbot, shown, Qt.Key.Key_X)
    mute = shown.mix.strip(take.tracks[1].file).mute
    mute.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.keyClick(mute, Qt.Key.Key_Space)
    settle(shown, qtbot)
    assert held(shown).takes[-1].id == take.id  # it did not record
    assert held(shown).mix == {take.tracks[1].file: Heard(muted=True)}


def test_big_figures_for_two_metres(shown: TakesView, qtbot: QtBot) -> None:
    slowly(shown)
    press(qtbot, shown, Qt.Key.Key_V)
    assert shown.board.far
    assert not shown.book.isVisible()
    assert not shown.player.isVisible()
    shown.board.grab()
    begun(shown, qtbot)
    qtbot.waitUntil(lambda: "Recording" in shown.sentence.text(), timeout=5_000)
    assert shown.board.far  # one key records, at two metres too
    shown.board.grab()
    press(qtbot, shown, Qt.Key.Key_Space)
    press(qtbot, shown, Qt.Key.Key_V)
    assert not shown.board.far
    assert shown.book.isVisible()
    assert shown.player.isVisible()


def test_it_fits_the_window(shown: TakesView, qtbot: QtBot) -> None:
    """At 1280 x 800 nothing pushes the window wider or higher, whatever is open."""
    window = shown.window()
    for key in (None, Qt.Key.Key_X, Qt.Key.Key_S, Qt.Key.Key_V, Qt.Key.Key_D):
        if key is not None:
            press(qtbot, shown, key)
        least = window.minimumSizeHint()
        assert least.width() <= 1280, key
        assert least.height() <= 800, key
        if key is not None:
            press(qtbot, shown, key)


def test_every_key_is_in_the_key_help() -> None:
    text = keys_html()
    for words in (
        "Tuner",
        "Intonation",
        "Monitor mi",
        "Range",
        "bin",
        "Large display",
        "Recording mode",
    ):
        assert words in text.replace("&", ""), words


# --- files from outside ---


def test_files_become_a_take(
    shown: TakesView, opened: Desk, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = np.random.default_rng(3)
    paths = []
    for name, channels in (("verse di", 1), ("verse cab", 2)):
        path = tmp_path / f"{name}.wav"
        shape = RATE if channels == 1 else (RATE, channels)
        soundfile.write(str(path), 0.1 * rng.standard_normal(shape), RATE, subtype="PCM_24")
        paths.append(path)
    monkeypatch.setattr(
        QFileDialog, "getOpenFileNames", lambda *_, **__: ([str(p) for p in paths], "")
    )

    def answer(dialog: ImportTakeDialog) -> int:
        assert [row[3].currentData() for row in dialog.rows] == ["di", "cabinet", "cabinet"]
        dialog.name.setText("")
        assert not dialog._buttons.buttons()[0].isEnabled()
        dialog.name.setText("Verse, from the truck")
        dialog.rows[2][1].setChecked(False)
        dialog.rows[1][2].setText("Cabinet left")
        assert [one.isHidden() for one in dialog.calibrations] == [False, True, True]
        dialog.calibrations[0].show_value(14.5)
        assert names_missing(dialog) == []
        return 1

    monkeypatch.setattr(ImportTakeDialog, "exec", answer)
    qtbot.keyClick(
        shown.window(), Qt.Key.Key_I,
        Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
    )  # fmt: skip
    settle(shown, qtbot)
    take = held(shown).takes[-1]
    assert take.name == "Verse, from the truck"
    assert [(t.name, t.tap) for t in take.tracks] == [
        ("verse di", "di"), ("Cabinet left", "cabinet"),
    ]  # fmt: skip
    assert [track.full_scale_dbu for track in take.tracks] == [14.5, None]
    assert shown.take.id == take.id
    assert not shown.book.recall.isEnabled()  # nobody knows its rig
    wanted, _ = soundfile.read(str(paths[1]), dtype="float32")
    got, _ = soundfile.read(str(opened.folder.path / take.tracks[1].file), dtype="float32")
    assert np.array_equal(got, wanted[:, 0])


# --- copies, and stereo pairs ---


def test_the_chosen_take_comes_round_for_as_long_as_it_is_recorded_over(
    shown: TakesView, qtbot: QtBot
) -> None:
    first = recorded(shown, qtbot, bars=2)
    assert not shown.setup.copies.isVisible()
    way(shown, "along")
    assert shown.setup.copies.isVisible()
    shown.setup.copies.setChecked(True)
    second = recorded(shown, qtbot, bars=5)
    assert (second.over, second.over_round) == (first.id, 2 * BAR)
    assert "came round every 0:05.0" in shown.book.about.text()
    rows = [row for row in mix_rows(held(shown), second) if row.places]
    assert {row.places[0].round_frames for row in rows} == {2 * BAR}
    shown.setup.copies.setChecked(False)
    assert recorded(shown, qtbot, bars=1).over_round == 0


def test_a_stereo_pair_is_one_row_of_the_mix_or_two(
    shown: TakesView, opened: Desk, qtbot: QtBot
) -> None:
    rig = build("modeler-usb", "wide").with_setting("modeler", "stereo", "on")
    opened.document.apply(edits.add_rig(rig))
    opened.document.apply(edits.choose_recording_rig("wide"))
    settle(shown, qtbot)
    assert shown.setup.apart.isVisible()
    take = recorded(shown, qtbot)
    assert [len(part) for part in take.parts] == [2, 1]
    press(qtbot, shown, Qt.Key.Key_X)
    mix = shown.mix
    assert [strip.name.text() for strip in mix._strips.values()] == ["Modeled", "DI"]
    strip = next(iter(mix._strips.values()))
    assert strip.pan_words.text() == "wide"
    assert mix.apart.text() == "Stereo as two tracks"
    press(qtbot, shown, Qt.Key.Key_X)
    press(qtbot, shown, Qt.Key.Key_2)
    assert shown.player.track.currentText() == "DI", "the second row is the third track"
    press(qtbot, shown, Qt.Key.Key_1)
    assert shown.player.track.currentText() == "Modeled"
    qtbot.waitUntil(lambda: len(shown.player.wave._traces) == 2)
    names = [trace.name for trace in shown.player.wave._traces]
    assert names == ["Modeled left", "Modeled right"], "a pair is drawn with both its sides"
    shown.choose_course("Modeled right")
    assert shown.player.track.currentText() == "Modeled"
    press(qtbot, shown, Qt.Key.Key_0)
    press(qtbot, shown, Qt.Key.Key_X)
    strip = next(iter(mix._strips.values()))
    strip.level.setFocus()
    mix.apart.click()
    settle(shown, qtbot)
    names = {strip.name.text(): strip.pan_words.text() for strip in mix._strips.values()}
    assert names == {"Modeled left": "left 100", "Modeled right": "right 100", "DI": "middle"}
    assert mix.isAncestorOf(QApplication.focusWidget()), "the keyboard stays in the mix"
    listed = [shown.player.track.itemText(at) for at in range(shown.player.track.count())]
    assert listed == ["Modeled left", "Modeled right", "DI"]
    assert mix.apart.text() == "Stereo as one track"
    opened.undo()
    settle(shown, qtbot)
    assert len(mix._strips) == 2
    shown.setup.apart.setChecked(True)
    press(qtbot, shown, Qt.Key.Key_X)
    take = recorded(shown, qtbot)
    assert take.pairs_apart
    opened.document.apply(edits.choose_recording_rig("rig04"))
    settle(shown, qtbot)
    assert not shown.setup.apart.isVisible()
