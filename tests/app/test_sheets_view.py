"""Sheets by keyboard: the page is what the file says, choices are remembered, ways out work."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QTextDocument, QTextTable
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from diaulos import wiring
from diaulos.app.desk import Desk
from diaulos.app.dialogs.handing import HandingDialog
from diaulos.app.dialogs.stems import StemsDialog
from diaulos.app.views.sheets import page as page_module
from diaulos.app.views.sheets.page import SheetPage
from diaulos.app.views.sheets.view import SheetsView
from diaulos.session import edits
from diaulos.session.model import Session
from diaulos.work.rigs.stored import stored_of
from diaulos.work.sheets.making import make_sheet
from diaulos.work.sheets.model import KINDS, Levels, Rows, Sheet, Words


@pytest.fixture
def view(opened: Desk, settled: Callable[[Desk], None]) -> SheetsView:
    opened.show("sheets")
    settled(opened)
    shown = opened.views["sheets"]
    assert isinstance(shown, SheetsView)
    return shown


def session_of(desk: Desk) -> Session:
    assert desk.document is not None
    return desk.document.session


def choose(view: SheetsView, kind: str) -> None:
    view.kinds.setCurrentRow(list(KINDS).index(kind))  # type: ignore[arg-type]


def test_every_sheet_is_shown_with_the_figures_of_the_file(
    view: SheetsView, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    assert opened.document is not None
    store = opened.document.store
    for kind in KINDS:
        choose(view, kind)
        settled(opened)
        session = session_of(opened)
        sheet = make_sheet(session, view.wanted(), store, stored_of(session, store))
        assert view.page.sheet == sheet, kind
        text = view.page.text
        for part in sheet.parts:
            if isinstance(part, Rows):
                for row in part.rows:
                    for cell in row:
                        assert cell in text, (kind, cell)
            elif isinstance(part, Words):
                assert all(line in text for line in part.lines)
            elif isinstance(part, Levels):
                assert part.title in text
        assert view.export.isEnabled()
        assert view.parts.count() >= 1
    picture = view.page.grab().toImage()
    assert picture.height() > 200


def test_choices_are_kept_with_the_session_and_undone(
    view: SheetsView, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot
) -> None:
    mute = next(
        view.parts.item(row)
        for row in range(view.parts.count())
        if view.parts.item(row).text() == "Mute first"
    )
    mute.setCheckState(Qt.CheckState.Unchecked)
    settled(opened)
    assert session_of(opened).sheets["patch"].without == ("Mute first",)
    assert view.page.sheet is not None
    assert all(part.title != "Mute first" for part in view.page.sheet.parts)
    titles = [view.parts.item(row).text() for row in range(view.parts.count())]
    assert "Mute first" in titles, "it can be put back"
    assert "Before plugging" not in titles, "cautions are never off"
    view.note.setFocus()
    view.note.setPlainText("Long cable, please. <b>")
    settled(opened)
    assert session_of(opened).sheets["patch"].note == "Long cable, please. <b>"
    assert "Long cable, please. <b>" in view.page.text
    view.sort.setCurrentIndex(view.sort.findData("Cable"))
    view.sort.activated.emit(view.sort.currentIndex())
    settled(opened)
    table = next(p for p in view.page.sheet.parts if p.title.startswith("Cables"))
    assert isinstance(table, Rows)
    kinds = [row[3] for row in table.rows]
    assert kinds == sorted(kinds, key=str.casefold)
    # Another sheet has choices of its own.
    choose(view, "session")
    settled(opened)
    assert view.note.toPlainText() == ""
    choose(view, "patch")
    settled(opened)
    assert view.note.toPlainText() == "Long cable, please. <b>"
    view.kinds.setFocus()
    opened.undo()
    settled(opened)
    while session_of(opened).sheets:
        opened.undo()
    settled(opened)
    assert view.note.toPlainText() == ""
    assert any(part.title == "Mute first" for part in view.page.sheet.parts)
    opened.redo()
    settled(opened)
    assert session_of(opened).sheets
    saved = Session.model_validate_json(session_of(opened).model_dump_json())
    assert saved == session_of(opened)


def test_the_page_follows_an_edit(
    view: SheetsView, opened: Desk, settled: Callable[[Desk], None]
) -> None:
    session = session_of(opened)
    rig = session.rigs[0]
    view._choose(of=rig.id)
    settled(opened)
    assert opened.document is not None
    opened.document.apply(
        edits.change_rig(
            rig.id, "Name", lambda one: one.model_copy(update={"name": "Another name"})
        )
    )
    settled(opened)
    assert view.page.sheet is not None
    assert view.page.sheet.under.endswith("Another name")
    # A rig that is gone leaves the usual one.
    opened.document.apply(edits.choose_sheet("patch", view.choice.model_copy(update={"of": "x"})))
    settled(opened)
    assert view.page.sheet is not None
    assert view.of.currentIndex() == 0


@pytest.mark.parametrize("suffix", ["pdf", "html", "csv", ""])
def test_a_sheet_is_exported_by_one_key(
    view: SheetsView, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot, tmp_path: Path,
    suffix: str, monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    path = tmp_path / (f"a sheet.{suffix}" if suffix else "a sheet")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(path), ""))
    qtbot.keyClick(view.kinds, Qt.Key.Key_E)
    settled(opened)
    target = path if suffix else path.with_suffix(".pdf")
    qtbot.waitUntil(target.exists, timeout=30_000)
    settled(opened)
    assert view.page.sheet is not None
    assert target.read_bytes() == wiring.sheet_bytes(view.page.sheet, target.suffix)


def test_a_sheet_is_printed_and_copied(
    view: SheetsView, opened: Desk, settled: Callable[[Desk], None], tmp_path: Path
) -> None:
    assert view.page.sheet is not None
    printer = QPrinter(QPrinter.PrinterMode.HighResolution)
    printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
    printer.setOutputFileName(str(tmp_path / "printed.pdf"))
    view.print_on(printer, view.page.sheet)
    assert (tmp_path / "printed.pdf").read_bytes().startswith(b"%PDF")
    view.copy_csv()
    assert (
        QGuiApplication.clipboard().text() == wiring.sheet_bytes(view.page.sheet, ".csv").decode()
    )
    view.copy_image()
    assert not QGuiApplication.clipboard().image().isNull()


# --- handing over ---


def test_stems_are_planned_and_written_by_one_key(
    view: SheetsView, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    out = tmp_path / "stems"
    out.mkdir()
    dialogs: list[StemsDialog] = []

    def accept(dialog: StemsDialog) -> int:
        dialogs.append(dialog)
        dialog.pattern.setText("{other}")
        assert not dialog.write.isEnabled()
        assert "cannot be used" in dialog.said.text()
        dialog.pattern.setText("{tap} {name}")
        for row in range(dialog.takes.count()):
            dialog.takes.item(row).setCheckState(Qt.CheckState.Unchecked)
        assert "Choose a take" in dialog.said.text()
        dialog.takes.item(0).setCheckState(Qt.CheckState.Checked)
        dialog.made_for.unknown.setChecked(False)
        dialog.made_for.level.setValue(18.0)
        assert dialog.write.isEnabled()
        return int(StemsDialog.DialogCode.Accepted)

    monkeypatch.setattr(StemsDialog, "exec", accept)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(out))
    qtbot.keyClick(view.kinds, Qt.Key.Key_S)
    settled(opened)
    dialog = dialogs[0]
    shown = [dialog.preview.item(row, 0).text() for row in range(dialog.preview.rowCount())]
    assert [one.file for one in dialog.stems] == shown
    assert "set" in dialog.preview.item(0, 2).text()
    assert {path.name for path in out.iterdir()} == {*shown, "stems.txt", "track sheet.html"}


def test_a_session_is_handed_over_and_opened_again(
    view: SheetsView, opened: Desk, settled: Callable[[Desk], None], qtbot: QtBot, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    path = tmp_path / "handed"

    def accept(dialog: HandingDialog) -> int:
        dialog.dis.setChecked(False)
        assert "stay at home" in dialog.said.text()
        dialog.dis.setChecked(True)
        assert "stay at home" not in dialog.said.text()
        return int(HandingDialog.DialogCode.Accepted)

    monkeypatch.setattr(HandingDialog, "exec", accept)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(path), ""))
    qtbot.keyClick(view.kinds, Qt.Key.Key_H)
    settled(opened)
    packed = tmp_path / f"handed{wiring.PACKED}"
    assert packed.is_file()
    handed = session_of(opened)
    target = tmp_path / "again"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(packed), ""))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(target), ""))
    opened.opening.ask_unpack()
    qtbot.waitUntil(
        lambda: opened.folder is not None and opened.folder.path.stem == "again", timeout=60_000
    )
    settled(opened)
    assert session_of(opened) == handed


def test_a_long_list_is_laid_out_in_pieces_that_line_up(
    qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each turn lays out one piece, so that the window goes on; nothing is left out, and the
    columns stand under one another from the first piece to the last."""
    monkeypatch.setattr(page_module, "TURN_S", 0.0)
    rows = tuple((f"Take {n}", "a longer word" * (1 + n % 3), f"{n}.5 dB") for n in range(300))
    listed = Rows("Takes", ("Take", "What", "Level"), rows, frozenset({2}), (1.0, 3.0, 1.0))
    sheet = Sheet("takes", "Takes", "Saltmarsh", "2026-03-12T10:00", (listed,))
    page = SheetPage(wiring.drawing_svg)
    qtbot.addWidget(page)
    page.resize(700, 400)
    page.show()

    page.show_sheet(sheet)

    assert not page.laid
    qtbot.waitUntil(lambda: page.laid)
    for row in rows:
        assert row[0] in page.text
        assert row[2] in page.text
    places = [column_places(piece) for piece in page.pieces]
    listed_places = [one for one in places if one]
    assert len(listed_places) > 30
    assert all(one == pytest.approx(listed_places[0], abs=1.0) for one in listed_places)
    high = page.height()

    page.resize(500, 400)  # narrower: laid out once more, and higher
    qtbot.waitUntil(lambda: page.laid)
    assert page.height() > high
    page.show_words("Nothing to show.")
    assert page.text == "Nothing to show."
    assert page.height() < high


def column_places(document: QTextDocument) -> list[float]:
    """Where the columns of its table stand."""
    for frame in document.rootFrame().childFrames():
        if isinstance(frame, QTextTable):
            blocks = [frame.cellAt(0, at).firstCursorPosition().block() for at in range(3)]
            layout = document.documentLayout()
            return [layout.blockBoundingRect(block).x() for block in blocks]
    return []
