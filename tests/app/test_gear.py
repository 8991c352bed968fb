"""Own gear in the window: kept from one session, taken into another, newer ones offered."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from diaulos.app.desk import Desk
from diaulos.app.dialogs.gear import GearDialog, keepable
from diaulos.app.widgets.photographs import Large, picture_of
from diaulos.session import edits
from diaulos.session.library import OwnCable
from diaulos.session.model import Session
from diaulos.wiring import LibraryFolder
from diaulos.work.library.keeping import keep


@pytest.fixture
def dialog(
    opened: Desk, settled: Callable[[Desk], None], monkeypatch: pytest.MonkeyPatch
) -> Iterator[GearDialog]:
    """Own gear as it is opened; it stays for the length of the test."""
    monkeypatch.setattr(GearDialog, "exec", lambda self: self.show())
    gear = opened.gear
    gear.ask_gear()
    # exec() came back at once here: the room holds its dialog until the test is done.
    made = opened.window.findChild(GearDialog)
    assert made is not None
    gear.dialog = made
    gear._look()
    settled(opened)
    yield made
    made.close()
    made.deleteLater()


def session_of(desk: Desk) -> Session:
    assert desk.document is not None
    return desk.document.session


def test_it_opens_from_the_menu_and_says_what_to_do(opened: Desk, dialog: GearDialog) -> None:
    assert opened.window.action("gear").shortcut().toString() == "Ctrl+L"
    assert dialog.title.text() == "Nothing is kept yet"
    assert "below" in dialog.state.text()
    assert not dialog.take.isEnabled()
    assert dialog.keep.isEnabled()
    kinds = {kind for kind, _, _ in keepable(session_of(opened))}
    assert {"instrument", "tone", "arrangement", "device", "cable"} <= kinds


def test_kept_taken_and_undone(
    opened: Desk, dialog: GearDialog, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    before = session_of(opened)
    name = before.instruments[0].name
    at = dialog.what.findText(f"Instrument: {name}")
    dialog.what.setCurrentIndex(at)
    qtbot.mouseClick(dialog.keep, Qt.MouseButton.LeftButton)
    settled(opened)
    assert dialog.list.count() == 1
    assert dialog.title.text() == name
    assert "as in the library" in dialog.state.text()
    assert session_of(opened).origins
    dialog.tags.setText("stage, own")
    dialog.tags.editingFinished.emit()
    settled(opened)
    entry = dialog.entry
    assert entry is not None
    assert entry.tags == ("stage", "own")
    dialog.search.setText("nothing like it")
    assert dialog.list.count() == 0
    assert dialog.title.text() == "Nothing found"
    dialog.search.setText("stage")
    assert dialog.list.count() == 1
    qtbot.mouseClick(dialog.take, Qt.MouseButton.LeftButton)
    settled(opened)
    assert len(session_of(opened).instruments) == len(before.instruments) + 1
    opened.undo()
    assert len(session_of(opened).instruments) == len(before.instruments)


def test_a_newer_one_is_offered_with_what_changes(
    opened: Desk, dialog: GearDialog, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    library = opened.services.library
    one = session_of(opened).instruments[0]
    opened.gear.keep_thing("instrument", one.id)
    settled(opened)
    assert opened.folder is not None
    turned = edits.change_instrument(one.id, "x", cable_m=9.0)(session_of(opened))
    keep(turned, "instrument", one.id, library, opened.folder, "2026-07-01T10:00:00")
    opened.gear._look()
    settled(opened)
    assert "the library has a newer one" in dialog.state.text()
    assert f"cable (m): {one.cable_m:g} \N{RIGHTWARDS ARROW} 9" in dialog.lines.text()
    assert dialog.over.isVisible()
    qtbot.mouseClick(dialog.over, Qt.MouseButton.LeftButton)
    settled(opened)
    assert session_of(opened).instruments[0].cable_m == 9.0
    assert not dialog.over.isVisible()


def test_out_to_a_file_and_in_again_and_two_made_one(
    opened: Desk, dialog: GearDialog, settled: Callable[[Desk], None], qtbot: QtBot,
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    one = session_of(opened).instruments[0]
    opened.gear.keep_thing("instrument", one.id)
    settled(opened)
    out = tmp_path / "mine.diaulosgear"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(out), ""))
    qtbot.mouseClick(dialog.export, Qt.MouseButton.LeftButton)
    settled(opened)
    assert out.is_file()
    qtbot.mouseClick(dialog.remove, Qt.MouseButton.LeftButton)
    settled(opened)
    assert dialog.list.count() == 0
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(out), ""))
    qtbot.mouseClick(dialog.import_, Qt.MouseButton.LeftButton)
    settled(opened)
    assert dialog.list.count() == 1
    assert "comes from there" in dialog.said.text()
    other = LibraryFolder(tmp_path / "laptop")
    entry = opened.services.library.read(dialog.entry_id)
    data = {k.file: opened.services.library.data(entry, k.file) for k in entry.files}
    other.write(entry.revised(one.model_copy(update={"cable_m": 1.0}), entry.files, "x"), data)
    mine = entry.revised(one.model_copy(update={"cable_m": 2.0}), entry.files, "x")
    opened.services.library.write(mine)
    folder = str(other.path)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: folder)
    qtbot.mouseClick(dialog.merge, Qt.MouseButton.LeftButton)
    settled(opened)
    assert dialog.list.count() == 2
    assert "both are kept" in dialog.said.text()
    # What is wrong is said in the dialog, and nothing is changed.
    out.write_bytes(b"PK spoiled")
    qtbot.mouseClick(dialog.import_, Qt.MouseButton.LeftButton)
    settled(opened)
    assert "damaged" in dialog.said.text()
    assert dialog.list.count() == 2


def test_a_cable_goes_to_the_instrument_in_hand(
    opened: Desk, dialog: GearDialog, settled: Callable[[Desk], None]
) -> None:
    one = session_of(opened).instruments[0]
    opened.gear.keep_thing("cable", one.id)
    settled(opened)
    library = opened.services.library
    entry = library.read(dialog.entry_id)
    library.write(entry.revised(OwnCable(length_m=4.5, pf_per_m=88.0), (), "x"))
    opened.gear.take_entry(entry.id, "")
    settled(opened)
    lengths = [i.cable_m for i in session_of(opened).instruments]
    assert 4.5 in lengths


def test_a_photograph_lies_beside_the_entry_and_stays_through_its_changes(
    opened: Desk, dialog: GearDialog, settled: Callable[[Desk], None], qtbot: QtBot,
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    one = session_of(opened).instruments[0]
    opened.gear.keep_thing("instrument", one.id)
    settled(opened)
    assert not dialog.photographs.isVisible()
    picture = QImage(1_400, 700, QImage.Format.Format_RGB32)
    picture.fill(0x804020)
    path = tmp_path / "knobs.jpeg"
    assert picture.save(str(path))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(path), ""))
    for _ in range(2):
        qtbot.mouseClick(dialog.photograph, Qt.MouseButton.LeftButton)
        settled(opened)
    assert dialog.photographs.count() == 1, "the same one twice is one"
    assert dialog.photographs.isVisible()
    library = opened.services.library
    (kept,) = [k for k in library.read(dialog.entry_id).files if k.file.endswith(".jpg")]
    assert library.data(library.read(dialog.entry_id), kept.file) == path.read_bytes()
    # Kept anew after a change: it is still there.
    assert opened.document is not None
    opened.document.apply(edits.change_instrument(one.id, "Longer", cable_m=8.0))
    opened.gear.keep_thing("instrument", one.id)
    settled(opened)
    assert dialog.photographs.count() == 1
    shown: list[tuple[int, int]] = []
    monkeypatch.setattr(
        Large, "exec", lambda self: shown.append(
            (self.picture.pixmap().width(), self.picture.pixmap().height())
        ),
    )  # fmt: skip
    dialog.photographs.setCurrentRow(0)
    qtbot.keyClick(dialog.photographs, Qt.Key.Key_Return)
    assert shown == [(960, 480)]
    # One that was spoiled from outside is a blank frame, or left out; the others stay.
    assert picture_of(b"no picture").isNull()
    dialog.photographs.show_pictures([("a.jpg", picture_of(b"")), ("b.png", picture)])
    assert dialog.photographs.item(0).toolTip() == "a.jpg cannot be shown"
    dialog.photographs.show_large(0)
    assert len(shown) == 1
    opened.gear._look()
    settled(opened)
    # What is no picture is refused in words.
    path.write_bytes(b"no picture at all")
    qtbot.mouseClick(dialog.photograph, Qt.MouseButton.LeftButton)
    settled(opened)
    assert "it is no picture" in dialog.said.text()
    dialog.photographs.setCurrentRow(0)
    qtbot.keyClick(dialog.photographs, Qt.Key.Key_Delete)
    settled(opened)
    assert dialog.photographs.count() == 0
    assert not dialog.photographs.isVisible()
