"""Compare by keyboard: candidates, the answer, moves, listening, blind tests."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.dialogs.candidates import CandidatesDialog
from diaulos.app.dialogs.low_cut import LowCutDialog
from diaulos.app.views.compare.view import CompareView
from diaulos.session.compare_edits import set_low_cut
from diaulos.session.model import Session, Take, Track
from diaulos.signal.blind import judge
from diaulos.signal.fir import shift
from diaulos.storage.folder import SessionFolder
from diaulos.work.compare.answers import answer_words
from diaulos.work.compare.choices import outside_file
from diaulos.work.compare.cutting import LowCutFor
from diaulos.work.compare.data import pair_data
from diaulos.work.ports import FileNotes
from support import NOON, RATE, performance

SECONDS = 7.0


def _track(folder: SessionFolder, number: int, name: str, tap: str, samples: np.ndarray) -> Track:
    file = f"audio/t0001_k{number:02d}.wav"
    sink = folder.create_audio(file, RATE, 1, "float", FileNotes(name, NOON))
    sink.write(samples.astype(np.float32)[:, None])
    sink.close()
    return Track(id=f"k{number:02d}", name=name, tap=tap, file=file, frames=samples.size,
                 peak_dbfs=float(20 * np.log10(np.max(np.abs(samples)))))  # fmt: skip


@pytest.fixture
def compared(
    tmp_path: Path, desk: Desk, qtbot: QtBot, settled: Callable[[Desk], None]
) -> tuple[Desk, CompareView]:
    """A take of three tracks: the second 40 samples late and 6 dB lower, the third turned over."""
    played = 0.5 * performance(seconds=SECONDS)
    late = 0.5 * shift(played, 40.0, played.size)
    session = Session(id="s", name="S", sample_rate_hz=RATE)
    folder = SessionFolder.create(tmp_path / "s.diaulos", session)
    tracks = (
        _track(folder, 1, "Straight", "modeled", played),
        _track(folder, 2, "Round", "amp", late),
        _track(folder, 3, "Over", "mic", -played),
    )
    take = Take(id="t0001", name="One", recorded_at="2026-05-09T12:00:00", tracks=tracks)
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


def test_it_answers_at_once_and_agrees_with_the_core(
    compared: tuple[Desk, CompareView],
) -> None:
    _, view = compared
    assert [one.name for one in view.candidates] == ["Straight", "Round", "Over"]
    assert view.answer.sentence.text().startswith("6.02 dB quieter, 40 samples late")
    pair = view.pair(0, 1)
    assert pair is not None
    told = pair_data(pair)
    assert told["delay_samples"] == pytest.approx(40.0, abs=0.01)
    assert view.stack.verdict.text()[1:] == told["verdict_words"][1:]
    figure = view.stack.figures["found_db"].text().replace("\N{MINUS SIGN}", "-")
    assert float(figure.split()[0]) == pytest.approx(told["mono_sum_db"], abs=0.051)
    level = view.answer.shares["level_share_db"].text().replace("\N{MINUS SIGN}", "-")
    assert float(level.split()[0]) == pytest.approx(told["split"]["level_share_db"], abs=0.051)
    assert view.answer.shares["tone_share_db"].text() == "none"
    cells = [view.stack.matrix.item(0, at).text() for at in (2, 3)]
    assert cells[0].startswith("move")
    assert cells[1].startswith("turn")


def test_a_track_is_moved_and_turned_and_undone(
    compared: tuple[Desk, CompareView], qtbot: QtBot, settled: Callable[[Desk], None]
) -> None:
    desk, view = compared
    press(view, Qt.Key.Key_M, qtbot)
    settled(desk)
    session = desk.document.session  # type: ignore[union-attr]
    moved = session.moves["audio/t0001_k02.wav"]
    assert moved.delay_samples == pytest.approx(40.0, abs=0.01)
    pair = view.pair(0, 1)
    assert pair is not None
    assert pair.found is not None
    assert abs(pair.found.delay_samples) < 0.02
    assert view.stack.verdict.text().startswith("Stack (+3.0")
    view.list.setCurrentIndex(view.model.index(2))
    settled(desk)
    assert "turned over" in view.answer.sentence.text().casefold()
    press(view, Qt.Key.Key_P, qtbot)
    settled(desk)
    assert desk.document.session.moves["audio/t0001_k03.wav"].polarity == -1  # type: ignore[union-attr]
    assert view.stack.verdict.text().startswith("Stack")
    desk.undo()
    desk.undo()
    settled(desk)
    assert not desk.document.session.moves  # type: ignore[union-attr]


def test_what_is_moved_here_is_heard_so_in_takes_and_back_again(
    compared: tuple[Desk, CompareView], qtbot: QtBot, settled: Callable[[Desk], None]
) -> None:
    """Takes keeps its readers as long as nothing of them changed."""
    desk, view = compared
    desk.show("takes")
    desk.views["takes"].takes.choose("t0001")
    settled(desk)

    def heard() -> np.ndarray:
        place = desk.views["takes"].player.sound
        channel = next(one for one in place.channels if one.key == "audio/t0001_k02.wav")
        return np.asarray(channel.read(RATE, 2000))

    plain = heard()
    desk.show("compare")
    settled(desk)
    press(view, Qt.Key.Key_M, qtbot)
    press(view, Qt.Key.Key_P, qtbot)
    settled(desk)
    moved = heard()
    # Forty samples earlier, and turned over.
    assert np.max(np.abs(moved[:1900] + plain[40:1940])) < 1e-4
    desk.undo()
    desk.undo()
    settled(desk)
    assert np.array_equal(heard(), plain)


def test_candidates_come_and_go(
    compared: tuple[Desk, CompareView], qtbot: QtBot, settled: Callable[[Desk], None],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    desk, view = compared
    view.list.setCurrentIndex(view.model.index(1))
    press(view, Qt.Key.Key_R, qtbot)
    settled(desk)
    assert [one.name for one in view.candidates] == ["Round", "Straight", "Over"]
    assert view.answer.sentence.text().startswith("6.02 dB louder, 40 samples early")
    press(view, Qt.Key.Key_Delete, qtbot)
    settled(desk)
    assert [one.name for one in view.candidates] == ["Round", "Over"]
    asked: list[CandidatesDialog] = []

    def accept(dialog: CandidatesDialog) -> int:
        asked.append(dialog)
        return int(CandidatesDialog.DialogCode.Accepted)

    monkeypatch.setattr(CandidatesDialog, "exec", accept)
    press(view, Qt.Key.Key_A, qtbot)
    settled(desk)
    assert [one.name for one in asked[0].chosen] == ["Straight"]
    assert [one.name for one in view.candidates] == ["Round", "Over", "Straight"]
    press(view, Qt.Key.Key_Delete, qtbot)
    press(view, Qt.Key.Key_Delete, qtbot)
    settled(desk)
    assert "Add one more" in view.answer.sentence.text()
    press(view, Qt.Key.Key_Delete, qtbot)
    settled(desk)
    assert "Add two things" in view.answer.sentence.text()
    assert not view.blind_button.isEnabled()


def test_a_file_of_another_rate_is_brought_in_or_told_at_its_row(
    compared: tuple[Desk, CompareView], tmp_path: Path, settled: Callable[[Desk], None],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    import soundfile

    from diaulos.work.compare import choices

    desk, view = compared
    path = tmp_path / "other.wav"
    soundfile.write(str(path), 0.3 * performance(seconds=SECONDS), 44_100)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(path), ""))
    monkeypatch.setattr(choices, "MOST_RESAMPLED_S", 0)
    view._ask_file()
    settled(desk)
    row = view.model.item(3)
    assert "44100 Hz" in row.problem
    assert "longer than 0 min" in row.problem
    assert view.pair(0, 1) is not None, "the rest keeps working"
    monkeypatch.undo()
    good = tmp_path / "good.wav"
    soundfile.write(str(good), 0.3 * performance(seconds=SECONDS), 44_100, subtype="FLOAT")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(good), ""))
    view._ask_file()
    settled(desk)
    assert view.model.item(4).problem == ""
    assert view.pair(0, 4) is not None


def test_candidates_are_heard_by_one_key_at_one_loudness(
    compared: tuple[Desk, CompareView], qtbot: QtBot
) -> None:
    _, view = compared
    assert view.player.heard == {view.candidates[0].key}
    press(view, Qt.Key.Key_2, qtbot)
    assert view.player.heard == {view.candidates[1].key}
    heard = {}
    for channel in view.player.channels:
        part = channel.read(RATE, RATE) * 10 ** (channel.gain_db / 20)
        heard[channel.key] = np.asarray(part, np.float64)
    a, b, c = (heard[one.key] for one in view.candidates)
    assert np.max(np.abs(a - b)) < 1e-3 * np.max(np.abs(a)), "in time and as loud"
    assert np.max(np.abs(a - c)) < 1e-3 * np.max(np.abs(a)), "and not turned over"
    view.draw = lambda n: n - 1
    press(view, Qt.Key.Key_U, qtbot)
    press(view, Qt.Key.Key_1, qtbot)
    assert view.player.heard == {view.candidates[2].key}
    press(view, Qt.Key.Key_U, qtbot)
    assert view.hear_buttons[0].text() == "A (1)"


@pytest.mark.parametrize("kind", ["abx", "preference"])
def test_a_blind_test_is_kept_with_its_answers(
    compared: tuple[Desk, CompareView], qtbot: QtBot, tmp_path: Path, kind: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    desk, view = compared
    drawn = iter([1, 0, 1, 1, 0, 0, 1, 0, 1, 1, 0] * 3)
    view.draw = lambda _n: next(drawn)
    press(view, Qt.Key.Key_B, qtbot)
    page = view.blind
    assert view.pages.currentIndex() == 1
    page.kind.setCurrentIndex(page.kind.findData(kind))
    page.length.setCurrentIndex(page.length.findData(10))
    qtbot.keyClick(page, Qt.Key.Key_Return)
    assert view.player.playing
    text = " ".join(
        label.text() for label in page.sheets.currentWidget().findChildren(type(page.trial))
    )
    assert "Straight" not in text
    assert "Round" not in text
    assert "Trial 1 of 10" in text
    a, b = (one.key for one in view.candidates[:2])
    if kind == "abx":
        qtbot.keyClick(page, Qt.Key.Key_1)
        assert view.player.heard == {a}
        qtbot.keyClick(page, Qt.Key.Key_3)
        assert view.player.heard == {b}, "X was drawn to be B"
    for number in range(10):
        wanted = page.run.heard("x") if page.run is not None else "a"
        right = number < 9
        if kind == "preference":
            first_is_a = wanted == "a"
            left = first_is_a == right
        else:
            left = (wanted == "a") == right
        qtbot.keyClick(page, Qt.Key.Key_Left if left else Qt.Key.Key_Right)
        if number == 4:
            qtbot.keyClick(page, Qt.Key.Key_Backspace)
            assert "Trial 5" in page.trial.text()
            again = page.run.heard("x") if page.run is not None else "a"
            qtbot.keyClick(page, Qt.Key.Key_Left if again == "a" else Qt.Key.Key_Right)
    assert page.sheets.currentIndex() == 2
    (kept,) = desk.document.session.blind_tests  # type: ignore[union-attr]
    assert len(kept.trials) == 10
    assert kept.right == 9
    assert (kept.a.file, kept.b.file) == (a, b)
    names = (kept.a.name, kept.b.name)
    words = answer_words(judge(10, 9, kept.kind), *names)
    assert page.result.text() == words
    path = tmp_path / "test.csv"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(path), ""))
    qtbot.keyClick(page, Qt.Key.Key_E)
    lines = path.read_text("utf-8").splitlines()
    assert lines[0] == "trial,was,answer,right"
    assert len([line for line in lines if line[:1].isdigit()]) == 10
    qtbot.keyClick(page, Qt.Key.Key_Escape)
    assert view.pages.currentIndex() == 0
    press(view, Qt.Key.Key_B, qtbot)
    assert "9 of 10" in page.earlier.text()
    qtbot.keyClick(page, Qt.Key.Key_Escape)
    desk.undo()
    assert not desk.document.session.blind_tests  # type: ignore[union-attr]


def test_a_test_stopped_early_says_only_what_holds(
    compared: tuple[Desk, CompareView], qtbot: QtBot
) -> None:
    desk, view = compared
    view.draw = lambda _n: 0
    view.blind_test()
    view._begin_blind("abx", 16)
    before = (view.candidates, desk.document.session, view.player.heard)  # type: ignore[union-attr]
    for key in (Qt.Key.Key_M, Qt.Key.Key_P, Qt.Key.Key_Delete, Qt.Key.Key_R, Qt.Key.Key_U,
                Qt.Key.Key_A, Qt.Key.Key_C, Qt.Key.Key_T):  # fmt: skip
        qtbot.keyClick(view.blind, key)
    now = (view.candidates, desk.document.session, view.player.heard)  # type: ignore[union-attr]
    assert now == before, "what lies behind the blind page is out of reach"
    for _ in range(3):
        qtbot.keyClick(view.blind, Qt.Key.Key_Left)
    ending = view.ending()
    assert ending is not None
    assert "3 answers" in ending.text
    qtbot.keyClick(view.blind, Qt.Key.Key_Escape)
    assert "Stopped early" in view.blind.result.text()
    assert "not shown yet" in view.blind.result.text()
    assert len(desk.document.session.blind_tests) == 1  # type: ignore[union-attr]
    assert view.ending() is None
    view._leave_blind()
    view.blind_test()
    view._begin_blind("abx", 0)
    qtbot.keyClick(view.blind, Qt.Key.Key_Escape)
    assert len(desk.document.session.blind_tests) == 1, "nothing answered, nothing kept"  # type: ignore[union-attr]


def test_curves_go_round_by_key(compared: tuple[Desk, CompareView], qtbot: QtBot) -> None:
    _, view = compared
    names = []
    for _ in range(4):
        names.append([curve.name for curve in view.plot.curves])
        press(view, Qt.Key.Key_T, qtbot)
    assert names[0] == ["B re A"]
    assert names[1] == ["A Straight", "B Round"]
    assert names[2] == ["Best gain", "Best filter"]
    assert names[3] == ["As found", "In time", "Turned"]
    assert "Hz" in view.plot.as_csv()


def test_a_low_cut_is_proposed_kept_and_heard(
    compared: tuple[Desk, CompareView], qtbot: QtBot, settled: Callable[[Desk], None],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    desk, view = compared
    asked: list[LowCutDialog] = []
    wanted: list[float | None] = [60.0, None]

    def accept(dialog: LowCutDialog) -> int:
        asked.append(dialog)
        dialog._take(wanted[len(asked) - 1])
        return int(LowCutDialog.DialogCode.Accepted)

    monkeypatch.setattr(LowCutDialog, "exec", accept)
    press(view, Qt.Key.Key_C, qtbot)
    settled(desk)
    assert "usual for a guitar" in asked[0].about.text(), "nobody said which instrument it is"
    assert desk.document.session.low_cuts == {"audio/t0001_k02.wav": 60.0}  # type: ignore[union-attr]
    assert "low cut 60 Hz" in view.model.item(1).under()
    press(view, Qt.Key.Key_C, qtbot)
    settled(desk)
    assert asked[1].none.isEnabled()
    assert not desk.document.session.low_cuts  # type: ignore[union-attr]


def test_the_dialog_tells_what_a_corner_costs(qtbot: QtBot) -> None:
    known = LowCutFor(("B1", "E2"), 440.0, 60.0, "60 Hz proposed")
    dialog = LowCutDialog("Amp", known, None)
    qtbot.addWidget(dialog)
    assert dialog.corner.value() == 60.0
    first = dialog.costs.item(0, 2).text()
    dialog.corner.setValue(80.0)
    assert float(dialog.costs.item(0, 2).text()) > float(first)
    assert float(dialog.costs.item(0, 2).text()) == pytest.approx(5.82, abs=0.01)
    assert not dialog.none.isEnabled()


def test_the_mix_says_quietly_what_thins_out(
    compared: tuple[Desk, CompareView], settled: Callable[[Desk], None]
) -> None:
    """Two tracks turned over against each other in the middle; panned apart nothing is said."""
    desk, _ = compared
    desk.show("takes")
    takes = desk.views["takes"]
    takes.takes.choose("t0001")
    settled(desk)
    takes.toggle_mix()
    settled(desk)
    assert takes.mix.thin.isVisible()
    assert "Straight and Over thin out together" in takes.mix.thin.text()
    for number, file in enumerate(("audio/t0001_k01.wav", "audio/t0001_k03.wav")):
        takes.mix.strip(file).pan.setValue(-80 if number == 0 else 80)
    settled(desk)
    assert not takes.mix.thin.isVisible()
    desk.undo()
    settled(desk)
    assert "Straight" not in takes.mix.thin.text() or takes.mix.thin.isVisible()


def test_what_is_compared_is_read_apart_from_what_plays(
    compared: tuple[Desk, CompareView], settled: Callable[[Desk], None],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    """A low cut remembers what it read last: two threads must not share one."""
    from diaulos.app.views.compare import work

    desk, view = compared
    seen: list[object] = []
    plain = work.side_of

    def watched(one, rate, cancel):  # type: ignore[no-untyped-def]
        seen.extend(channel.read for channel in one.heard.channels)
        return plain(one, rate, cancel)

    monkeypatch.setattr(work, "side_of", watched)
    desk.document.apply(set_low_cut(("audio/t0001_k02.wav",), 60.0))  # type: ignore[union-attr]
    settled(desk)
    kept = [channel.read for one in view._levels.values() for channel in one.heard.channels]
    assert seen
    assert not [one for one in seen if any(one is other for other in kept)]


def test_what_is_compared_is_there_again_after_a_start(
    compared: tuple[Desk, CompareView], settled: Callable[[Desk], None], qtbot: QtBot,
    tmp_path: Path,
) -> None:  # fmt: skip
    """The same candidates in the same order, a file from outside too; what is gone is left out,
    and less than two are no comparison."""
    desk, view = compared
    folder = tmp_path / "s.diaulos"
    played = 0.5 * performance(seconds=2.0)
    outside = tmp_path / "outside.wav"
    soundfile.write(outside, played, RATE)
    view._add((outside_file(str(outside)),))
    straight, round_, over, file = view.candidates
    view.set_candidates((over, straight, file))
    settled(desk)

    def again() -> list[str]:
        assert desk.document is not None
        desk.document.mark_saved(desk.document.session)
        before = desk.views["compare"]
        desk.detach()
        assert desk.open_path(folder)
        qtbot.waitUntil(lambda: desk.document is not None, timeout=30_000)
        settled(desk)
        desk.show("compare")
        settled(desk)
        shown = desk.views["compare"]
        assert isinstance(shown, CompareView)
        assert shown is not before
        return [one.name for one in shown.candidates]

    assert again() == ["Over", "Straight", "outside.wav"]
    outside.unlink()
    assert again() == ["Over", "Straight"]
    shown = desk.views["compare"]
    assert isinstance(shown, CompareView)
    shown.set_candidates((round_,))
    settled(desk)
    assert again() == ["Straight", "Round", "Over"]
