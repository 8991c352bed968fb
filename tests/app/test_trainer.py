"""The trainer in the window: heard by keys, answered, told, kept."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QToolButton
from pytestqt.qtbot import QtBot

from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.dialogs.trainer import TrainerDialog
from diaulos.work.training.faults import FaultHunt
from diaulos.work.training.hearing import SKILLS, Hearing
from diaulos.work.training.setting import Gaining, Matching


@pytest.fixture
def dialog(opened: Desk, monkeypatch: pytest.MonkeyPatch) -> Iterator[TrainerDialog]:
    """As the rail's foot opens it; it stays for the length of the test."""
    monkeypatch.setattr(TrainerDialog, "exec", lambda self: self.show())
    foot = opened.window.rail.trainer
    assert isinstance(foot, QToolButton)
    foot.click()
    made = opened.window.findChild(TrainerDialog)
    assert made is not None
    opened.training.dialog = made
    yield made
    made.close()
    made.deleteLater()


def begin(dialog: TrainerDialog, row: int, desk: Desk, settled: Callable[[Desk], None]) -> None:
    dialog.exercises.setCurrentRow(row)
    dialog.seed.setValue(5)
    dialog.start()
    settled(desk)


@pytest.mark.parametrize("zoom", [1.0, 1.25])
def test_every_exercise_is_read_whole(
    opened: Desk, monkeypatch: pytest.MonkeyPatch, zoom: float
) -> None:
    opened.window.dress(theme.NIGHT, zoom)
    monkeypatch.setattr(TrainerDialog, "exec", lambda self: self.show())
    opened.training.ask_trainer()
    made = opened.window.findChild(TrainerDialog)
    assert made.exercises.horizontalScrollBar().maximum() == 0
    made.close()
    made.deleteLater()


def test_it_lists_every_exercise_and_what_can_be_played(
    dialog: TrainerDialog, opened: Desk
) -> None:
    assert opened.window.action("trainer").shortcut().toString() == "Ctrl+T"
    assert dialog.exercises.count() == len(SKILLS) + 3
    names = [dialog.material.itemText(at) for at in range(dialog.material.count())]
    assert any(name.startswith("Strums, ") for name in names)
    assert any(", DI" in name for name in names)
    assert "Start quietly" in dialog.idle.text()


def test_three_are_heard_answered_and_told(
    dialog: TrainerDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    begin(dialog, 0, opened, settled)
    run = dialog._run
    assert isinstance(run, Hearing)
    assert dialog.hearing.question.text() == SKILLS[0].question
    assert dialog._place.heard == {"1"}
    qtbot.keyClick(dialog, Qt.Key.Key_3)
    assert dialog._place.heard == {"3"}
    assert dialog.hearing.sounds[2].isChecked()
    odd = run.trial.odd
    qtbot.keyClick(dialog, str(odd + 1))
    qtbot.keyClick(dialog, Qt.Key.Key_Return)
    settled(opened)
    assert dialog.told.text().startswith(f"Right: {odd + 1}, 3.0 dB")
    # The one that was answered is heard again, told what it was, beside one of the others.
    names = [one.text() for one in dialog.after.sounds]
    assert names[odd] == f"3.0 dB ({odd + 1})"
    assert all("Without it" in name for at, name in enumerate(names) if at != odd)
    plain = (odd + 1) % 3
    assert dialog._place.heard == {str(plain + 1)}
    assert dialog._place.playing
    qtbot.waitUntil(lambda: dialog._place.heard == {str(odd + 1)}, timeout=20_000)
    qtbot.keyClick(dialog, str(plain + 1))
    assert dialog._place.heard == {str(plain + 1)}
    assert not dialog._turns.isActive(), "who asks for one hears that one"
    assert not dialog.hearing.answers[0].isEnabled()
    qtbot.keyClick(dialog, Qt.Key.Key_Return)
    assert not dialog.after.there
    assert len(run.stairs.trials) == 1, "going on is no answer"
    assert "Trial 2" in dialog.hearing.count.text()
    dialog.at_once.setChecked(True)
    wrong = (run.trial.odd + 1) % 3
    qtbot.mouseClick(dialog.hearing.answers[wrong], Qt.MouseButton.LeftButton)
    settled(opened)
    assert dialog.told.text().startswith("It was another one")
    assert not dialog.after.there
    assert "Trial 3" in dialog.hearing.count.text()
    qtbot.mouseClick(dialog.hearing.enough, Qt.MouseButton.LeftButton)
    assert "After 2 trials" in dialog.told.text()
    assert not dialog.hearing.answers[0].isEnabled()
    (kept,) = opened.services.training.all()
    assert (kept.exercise, kept.seed) == ("level", 5)
    assert kept.at.startswith("20")
    dialog.exercises.setCurrentRow(1)
    dialog.exercises.setCurrentRow(0)
    assert "After 2 trials" in dialog.before.text()


@pytest.mark.parametrize("row", range(1, len(SKILLS)))
def test_every_skill_begins_with_a_take_of_ones_own(
    row: int, dialog: TrainerDialog, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    own = next(at for at in range(dialog.material.count())
               if ", DI" in dialog.material.itemText(at))  # fmt: skip
    dialog.material.setCurrentIndex(own)
    begin(dialog, row, opened, settled)
    assert isinstance(dialog._run, Hearing), dialog.told.text()
    assert len(dialog._place.channels) == 3
    dialog.end()


def test_matching_by_ear_tells_the_figure_at_the_end(
    dialog: TrainerDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    begin(dialog, len(SKILLS), opened, settled)
    run = dialog._run
    assert isinstance(run, Matching)
    qtbot.keyClick(dialog, Qt.Key.Key_2)
    assert dialog._place.heard == {"2"}
    before = run.gain_db
    qtbot.keyClick(dialog, Qt.Key.Key_Up)
    qtbot.keyClick(dialog, Qt.Key.Key_Up)
    qtbot.keyClick(dialog, Qt.Key.Key_Down)
    assert run.gain_db == pytest.approx(before + 0.1)
    assert "dB" not in dialog.told.text()
    qtbot.mouseClick(dialog.matching.done, Qt.MouseButton.LeftButton)
    assert "BS.1770" in dialog.told.text()
    assert [one.text() for one in dialog.after.sounds] == ["A (1)", "B, as loud as A (2)"]
    gains = {one.key: one.gain_db for one in dialog._place.channels}
    assert gains["2"] - gains["1"] == pytest.approx(run.equal_db)
    assert dialog._place.playing
    assert opened.services.training.all()[-1].exercise == "match"


def test_a_gain_is_set_by_few_looks(
    dialog: TrainerDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    begin(dialog, len(SKILLS) + 1, opened, settled)
    run = dialog._run
    assert isinstance(run, Gaining)
    for _ in range(4):
        qtbot.mouseClick(dialog.gaining.look, Qt.MouseButton.LeftButton)
    assert not dialog.gaining.look.isEnabled()
    assert "0 looks are left" in dialog.gaining.seen.text()
    dialog.gaining.gain.setValue(12.0)
    qtbot.mouseClick(dialog.gaining.record, Qt.MouseButton.LeftButton)
    assert run.gain_db == 12.0
    assert "would have met the target" in dialog.told.text()
    assert not dialog.gaining.record.isEnabled()
    settled(opened)
    assert dialog.after.sounds[0].text() == "The take, 12 dB (1)"
    assert run.best_db is not None
    assert dialog.after.sounds[1].text() == f"With {run.best_db:.0f} dB (2)"
    assert dialog._place.playing
    qtbot.keyClick(dialog, Qt.Key.Key_2)
    assert dialog._place.heard == {"2"}
    assert opened.services.training.all()[-1].exercise == "gain"


def test_faults_are_looked_for_heard_and_told(
    dialog: TrainerDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    begin(dialog, len(SKILLS) + 2, opened, settled)
    run = dialog._run
    assert isinstance(run, FaultHunt), dialog.told.text()
    assert dialog.faults.looks.topLevelItemCount() == 4
    if dialog.faults.sounds:
        qtbot.keyClick(dialog, Qt.Key.Key_1)
        assert dialog._place.heard == {"1"}
        assert dialog._place.playing
    for ident in run.ids:
        dialog.faults.choices[ident].setChecked(True)
    qtbot.mouseClick(dialog.faults.done, Qt.MouseButton.LeftButton)
    assert dialog.told.text().count("Found: ") == len(run.ids)
    assert not dialog._place.playing
    assert opened.services.training.all()[-1].figure == 1.0
    settled(opened)
    names = [one.text() for one in dialog.after.sounds]
    was = [name for name in names if "as it was" in name]
    # What nothing arrived at is heard as it should be, too.
    assert len(was) == len(dialog.faults.sounds)
    assert len(names) >= 2 * len(was)
    assert len(names) > 1
    qtbot.keyClick(dialog, str(len(names)))
    assert dialog._place.heard == {str(len(names))}
    before = opened.document
    assert before is not None
    assert all(rig.id != "training" for rig in before.session.rigs), "the session is untouched"


def test_one_answer_counts_however_often_it_is_given(
    dialog: TrainerDialog, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    begin(dialog, 0, opened, settled)
    run = dialog._run
    assert isinstance(run, Hearing)
    for _ in range(3):
        dialog.answer(0)
    settled(opened)
    assert len(run.stairs.trials) == 1


@pytest.mark.parametrize("row", [0, len(SKILLS), len(SKILLS) + 1])
def test_what_is_still_worked_out_when_it_closes_is_not_played(
    row: int, dialog: TrainerDialog, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    """An answer, a beginning, a take: its sound comes from a job, and the dialog may be gone."""
    begin(dialog, row, opened, settled)
    run = dialog._run
    if isinstance(run, Hearing):
        dialog.answer(0)
    elif isinstance(run, Gaining):
        dialog._take(12.0)
    else:
        dialog.start()
    dialog.reject()
    settled(opened)
    assert not dialog._place.playing
    assert not dialog._turns.isActive()


def test_closing_is_silent(
    dialog: TrainerDialog, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    begin(dialog, 0, opened, settled)
    assert dialog._place.playing
    dialog.reject()
    assert not dialog._place.playing
