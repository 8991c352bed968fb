"""The questions at the right of Compare, by keyboard: into time, played twice, places, two ways."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot
from scipy import signal as ss

from diaulos.app.desk import Desk
from diaulos.app.views.compare.view import CompareView
from diaulos.demo.rigs import two_ways_rig
from diaulos.session.compared import MicPlace
from diaulos.session.model import Session, Take, Track, rig_hash
from diaulos.signal.allpass import allpass_section
from diaulos.signal.fir import shift
from diaulos.storage.folder import SessionFolder
from diaulos.units import metres_to_ms, ms_to_samples
from diaulos.work.compare.placed import place_figures
from diaulos.work.ports import FileNotes
from support import NOON, RATE, performance

SECONDS = 6.0
NEAR_M, FAR_M = 0.05, 0.75


def _track(folder: SessionFolder, number: int, name: str, tap: str, samples: np.ndarray) -> Track:
    file = f"audio/t0001_k{number:02d}.wav"
    sink = folder.create_audio(file, RATE, 1, "float", FileNotes(name, NOON))
    sink.write(samples.astype(np.float32)[:, None])
    sink.close()
    return Track(id=f"k{number:02d}", name=name, tap=tap, file=file, frames=samples.size,
                 peak_dbfs=float(20 * np.log10(np.max(np.abs(samples)))))  # type: ignore[arg-type]  # fmt: skip


@pytest.fixture
def placed(
    tmp_path: Path, desk: Desk, qtbot: QtBot, settled: Callable[[Desk], None]
) -> tuple[Desk, CompareView]:
    """A near microphone, and a far one behind an all-pass, both over a loop of 31 samples; the same
    part once more, 10 ms later."""
    played = 0.4 * performance(seconds=SECONDS)
    wide = ss.butter(1, [100.0, 3_000.0], "band", fs=RATE, output="sos")
    hiss = ss.sosfilt(wide, np.random.default_rng(1).standard_normal(played.size))
    played = played + 0.2 * hiss
    air = [ms_to_samples(metres_to_ms(metres), float(RATE)) for metres in (NEAR_M, FAR_M)]
    near = shift(played, 31.0 + air[0], played.size)
    turned = ss.sosfilt(allpass_section(250.0, float(RATE)), played)
    far = 0.5 * shift(turned, 31.0 + air[1], played.size)
    again = 0.4 * shift(performance(seconds=SECONDS, seed=9), 480.0, played.size)
    rig = two_ways_rig("guitar")
    session = Session(id="s", name="S", sample_rate_hz=RATE, tempo_bpm=96.0,
                      snapshots={rig_hash(rig): rig})  # fmt: skip
    folder = SessionFolder.create(tmp_path / "s.diaulos", session)
    tracks = (
        _track(folder, 1, "Near", "mic", near),
        _track(folder, 2, "Far", "mic", far),
        _track(folder, 3, "Again", "amp", again),
    )
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tracks,
                rig_hash=rig_hash(rig))  # fmt: skip
    folder.save(session.model_copy(update={"takes": (take,)}))
    folder.close()
    assert desk.open_path(tmp_path / "s.diaulos")
    qtbot.waitUntil(lambda: desk.document is not None, timeout=30_000)
    desk.show("compare")
    settled(desk)
    view = desk.views["compare"]
    assert isinstance(view, CompareView)
    return desk, view


def press(view: CompareView, key: Qt.Key, qtbot: QtBot) -> None:
    qtbot.keyClick(view.list, key)


def session_of(desk: Desk) -> Session:
    assert desk.document is not None
    return desk.document.session


def cells(table: object) -> list[list[str]]:
    return [
        [table.item(row, column).text() for column in range(table.columnCount())]  # type: ignore[attr-defined]
        for row in range(table.rowCount())  # type: ignore[attr-defined]
    ]


def figure(text: str) -> float:
    plain = text.replace("\N{MINUS SIGN}", "-").replace("\N{PLUS-MINUS SIGN}", "")
    return float(plain.split()[0])


def test_places_are_noted_and_the_loop_is_taken_out(
    placed: tuple[Desk, CompareView], qtbot: QtBot, settled: Callable[[Desk], None]
) -> None:
    desk, view = placed
    page = view.judge.timing
    press(view, Qt.Key.Key_Q, qtbot)
    settled(desk)
    assert view.judge.page == "timing"
    assert not page.buttons["latency"].isEnabled()
    assert "distance is not known" in page.about.text()
    # Where they stood is noted under the question after next.
    press(view, Qt.Key.Key_Q, qtbot)
    press(view, Qt.Key.Key_Q, qtbot)
    assert view.judge.page == "places"
    for row, metres in ((0, NEAR_M), (1, FAR_M)):
        view.list.setCurrentIndex(view.model.index(row))
        assert view.judge.places.distance.text() == "unknown"
        view.judge.places.distance.setValue(100.0 * metres)
        view.judge.places.across.setValue(100.0 * row)
    assert session_of(desk).mic_places["audio/t0001_k02.wav"] == MicPlace(
        across=1.0, distance_m=FAR_M
    )
    settled(desk)
    pair = view.pair(0, 1)
    assert pair is not None
    told = place_figures(pair)
    assert told is not None
    assert told.farther_m is not None
    assert view.judge.places.sentence.text().startswith("Centre, at 5 cm to edge, at 75 cm: ")
    octaves = dict(cells(view.judge.places.table))
    assert figure(octaves["1 kHz"]) == pytest.approx(
        next(one.db for one in told.octaves if one.hz == 1_000.0), abs=0.051
    )
    view.judge.show_page("timing")
    settled(desk)
    late, _ms, air, loop = (figure(text) for text in cells(page.table)[0][1:])
    assert late == pytest.approx(air + loop, abs=0.11)
    assert air == pytest.approx(ms_to_samples(metres_to_ms(FAR_M - NEAR_M), float(RATE)), abs=0.06)
    page.buttons["latency"].click()
    settled(desk)
    assert session_of(desk).moves["audio/t0001_k02.wav"].delay_samples == pytest.approx(
        loop, abs=0.06
    )
    assert figure(cells(page.table)[0][1]) == pytest.approx(late, abs=0.11), "as its file lies"
    page.buttons["all"].click()
    settled(desk)
    assert session_of(desk).moves["audio/t0001_k02.wav"].delay_samples == pytest.approx(
        late, abs=0.06
    )
    assert page.buttons["as found"].isEnabled()
    for _ in range(6):
        desk.undo()
    settled(desk)
    assert not session_of(desk).moves
    assert not session_of(desk).mic_places


def test_an_all_pass_does_what_the_table_says(
    placed: tuple[Desk, CompareView], settled: Callable[[Desk], None]
) -> None:
    desk, view = placed
    page = view.judge.timing
    view.judge.show_page("timing")
    page.buttons["all"].click()
    settled(desk)
    page.advanced.setChecked(True)
    settled(desk)
    rows = {row[0]: [figure(text) for text in row[1:]] for row in cells(page.bands)}
    with_one = next(values for name, values in rows.items() if " on " in name)
    assert min(with_one) > max(min(rows["In time"]), min(rows["In time, turned"])) + 1.0
    assert page.pass_button.text() == "Put the all-pass in"
    page.pass_button.click()
    settled(desk)
    moved = session_of(desk).moves
    assert any(one.allpass_hz is not None for one in moved.values())
    assert page.pass_button.text() == "Take it out"
    now = {row[0]: [figure(text) for text in row[1:]] for row in cells(page.bands)}
    assert now["As found"] == pytest.approx(with_one, abs=0.3)
    assert "all-pass" in view.model.item(1).edited + view.model.item(0).edited
    page.pass_button.click()
    settled(desk)
    assert all(one.allpass_hz is None for one in session_of(desk).moves.values())


def test_two_performances_are_told_and_panned(
    placed: tuple[Desk, CompareView], qtbot: QtBot, settled: Callable[[Desk], None]
) -> None:
    desk, view = placed
    view.list.setCurrentIndex(view.model.index(2))
    settled(desk)
    assert "no common time: the two" in view.answer.sentence.text()
    assert "Judge (Q)" in view.plot._empty
    view.judge.show_page("doubled")
    settled(desk)
    page = view.judge.doubled
    assert page.sentence.text().startswith("B begins ")
    assert page.table.rowCount() >= 3
    farthest = [abs(figure(row[1])) for row in cells(page.table)]
    assert farthest == sorted(farthest, reverse=True)
    page.table.setCurrentCell(1, 0)
    at = page.table.chosen()
    page.table.cellActivated.emit(1, 0)
    assert view.player.playing
    assert view.player.position >= (at - 0.51) * RATE
    view.toggle_play()
    press(view, Qt.Key.Key_G, qtbot)
    assert view.together.isChecked()
    pans = {channel.key: channel.pan for channel in view.player.channels if channel.pan}
    assert pans == {view.candidates[0].key: -1.0, view.candidates[2].key: 1.0}
    assert view.player.heard == set(pans)
    press(view, Qt.Key.Key_2, qtbot)
    assert not view.together.isChecked()
    assert view.player.heard == {view.candidates[1].key}
    press(view, Qt.Key.Key_W, qtbot)
    mix = session_of(desk).mix
    assert (mix["audio/t0001_k01.wav"].pan, mix["audio/t0001_k03.wav"].pan) == (-1.0, 1.0)
    desk.undo()
    assert not session_of(desk).mix
    page.against.setCurrentIndex(1)
    page.against.activated.emit(1)
    settled(desk)
    assert page.tempo.value() == 96.0
    assert "within 3 ms" in page.beside.text() or "too little" in page.sentence.text()


def test_together_is_heard_as_the_tracks_lie(
    placed: tuple[Desk, CompareView], qtbot: QtBot, settled: Callable[[Desk], None]
) -> None:
    """One at a time they are brought into A's time; together each is where it lies, and so much
    lower that two cannot clip."""
    _, view = placed
    alone = {one.key: one for one in view.player.channels}
    press(view, Qt.Key.Key_G, qtbot)
    both = {one.key: one for one in view.player.channels}
    a, b = view.candidates[0].key, view.candidates[1].key
    assert view.player.heard == {a, b}
    assert both[a].gain_db == pytest.approx(alone[a].gain_db - 20 * np.log10(2.0))
    lies = np.asarray(both[b].read(RATE, RATE), np.float64)
    brought = np.asarray(alone[b].read(RATE, RATE), np.float64)
    late = int(np.argmax(np.abs(np.correlate(lies, brought[4_000:-4_000], "valid")))) - 4_000
    pair = view.pair(0, 1)
    assert pair is not None
    assert pair.found is not None
    assert late == pytest.approx(pair.found.delay_samples, abs=1.0)
    press(view, Qt.Key.Key_G, qtbot)
    assert view.player.heard == {a}


def test_two_ways_are_gone_through_and_noted(
    placed: tuple[Desk, CompareView], qtbot: QtBot, settled: Callable[[Desk], None]
) -> None:
    desk, view = placed
    view.judge.show_page("ways")
    settled(desk)
    page = view.judge.ways
    words = [label.text() for _, label in page.steps]
    assert words[0] == "Yes: they have a common time."
    assert words[1].startswith("Not known")
    assert words[3] == view.answer.sentence.text()
    assert page.steps[4][0].text().startswith("Next: 5")
    press(view, Qt.Key.Key_N, qtbot)
    notes = session_of(desk).take("One").notes
    assert notes == view.verdict()
    assert notes.startswith("Far against Near: ")
    assert view.answer.sentence.text() in notes
    press(view, Qt.Key.Key_N, qtbot)
    assert session_of(desk).take("One").notes == notes, "once"
    page.blind_button.click()
    assert view.pages.currentIndex() == 1
    press(view, Qt.Key.Key_Q, qtbot)
    assert view.judge.page == "ways"
    view.escape()


def test_a_band_can_be_matched(
    placed: tuple[Desk, CompareView], settled: Callable[[Desk], None]
) -> None:
    desk, view = placed
    whole = view._matched()
    assert whole is not None
    for band in ("lows", "highs"):
        view.match.setCurrentIndex(view.match.findData(band))
        view.match.activated.emit(view.match.currentIndex())
        settled(desk)
        matched = view._matched()
        assert matched is not None
        gains = [matched.gains_db[one.key] for one in view.candidates]
        # The far one is half of the near one in every band.
        assert gains[1] - gains[0] == pytest.approx(20 * np.log10(2.0), abs=0.3)
        assert view.model.item(1).gain_db == gains[1]
