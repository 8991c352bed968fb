"""House practices in the window: followed, told beside the device, copied, changed, undone."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.dialogs.practices import PracticesDialog


@pytest.fixture
def dialog(
    opened: Desk, settled: Callable[[Desk], None], monkeypatch: pytest.MonkeyPatch
) -> Iterator[PracticesDialog]:
    """As the menu opens it; it stays for the length of the test."""
    monkeypatch.setattr(PracticesDialog, "exec", lambda self: self.show())
    opened.window.action("practices").trigger()
    made = opened.window.findChild(PracticesDialog)
    assert made is not None
    opened.practices.dialog = made
    settled(opened)
    yield made
    made.close()
    made.deleteLater()


def follow(dialog: PracticesDialog, at: int) -> None:
    dialog.which.setCurrentIndex(at)
    dialog.which.activated.emit(at)


def test_a_practice_is_followed_told_and_left_again(
    dialog: PracticesDialog, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    house = opened.window.house
    assert house.isHidden()
    assert not dialog.form.isVisible()
    follow(dialog, 2)
    settled(opened)
    assert opened.document is not None
    assert opened.document.session.practice == "typical_level"
    assert dialog.about.text().startswith("Gains by the typical level")
    assert not dialog.form.isEnabled(), "a shipped one is copied, not changed"
    assert dialog.notes.count() == len(opened.practices.found) > 0
    assert not house.isHidden()
    assert house.text().startswith("House: ")
    assert "Practice: Typical level" in house.toolTip()
    follow(dialog, 0)
    settled(opened)
    assert house.isHidden()
    opened.undo()
    settled(opened)
    assert opened.document.session.practice == "typical_level"
    assert not house.isHidden()


def test_an_own_one_is_a_copy_that_can_be_changed(
    dialog: PracticesDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    follow(dialog, 1)
    settled(opened)
    qtbot.mouseClick(dialog.copy, Qt.MouseButton.LeftButton)
    settled(opened)
    assert opened.document is not None
    session = opened.document.session
    (own,) = session.own_practices
    assert session.practice == own.id
    assert dialog.form.isEnabled()
    assert not dialog.remove.isHidden()
    dialog.name.setText("At the Boathouse")
    dialog.name.editingFinished.emit()
    dialog.target.setValue(-16.0)
    dialog.target.editingFinished.emit()
    box = dialog.fields["trims"]
    box.setCurrentIndex(box.findData("none"))
    box.activated.emit(box.currentIndex())
    settled(opened)
    (own,) = opened.document.session.own_practices
    assert (own.name, own.target_dbfs, own.trims) == ("At the Boathouse", -16.0, "none")
    assert any("16 dBFS" in one.words for one in opened.practices.found)
    qtbot.mouseClick(dialog.remove, Qt.MouseButton.LeftButton)
    settled(opened)
    assert opened.document.session.own_practices == ()
    assert dialog.chosen is None


def test_notes_follow_what_is_edited(
    dialog: PracticesDialog, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    from diaulos.session import edits

    follow(dialog, 1)
    settled(opened)
    before = {one.id for one in opened.practices.found}
    assert "target" not in before
    assert opened.document is not None
    opened.document.apply(edits.set_target(target_peak_dbfs=-20.0))
    settled(opened)
    assert "target" in {one.id for one in opened.practices.found}


def test_each_view_says_at_its_foot_what_departs_there(
    dialog: PracticesDialog, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    """With the price under it; a view in which nothing departs has no line."""
    follow(dialog, 4)
    settled(opened)
    line = opened.window.house_line
    by_view: dict[str, list[tuple[str, str]]] = {}
    for one in opened.practices.found:
        by_view.setdefault(one.place.casefold(), []).append((one.words, one.price))
    assert by_view["takes"]
    for ident in ("instruments", "rig", "levels", "takes", "reamp"):
        opened.show(ident)
        settled(opened)
        notes = by_view.get(ident, [])
        assert line.isHidden() == (not notes), ident
        for at, (words, price) in enumerate(notes):
            assert line.words.text() == f"House practice: {words}"
            assert line.price.text() == price
            assert price in line.words.toolTip()
            assert line.next.isHidden() == (len(notes) == 1)
            if len(notes) > 1:
                assert line.next.text() == f"{at + 1} of {len(notes)}"
                qtbot.mouseClick(line.next, Qt.MouseButton.LeftButton)
    follow(dialog, 0)
    settled(opened)
    opened.show("takes")
    assert line.isHidden()
