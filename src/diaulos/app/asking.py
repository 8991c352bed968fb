"""Questions: one button for each answer, and files, whose folder is remembered by the question;
the first time it is the person's own."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from diaulos.app.preferences import Preferences


def ask(parent: QWidget, title: str, text: str, *answers: str, no: str = "Cancel") -> int:
    """Ask; which answer was pressed, -1 for `no` and Esc."""
    box = QMessageBox(parent)
    box.setWindowTitle("Diaulos")
    # What it quotes may come from a stranger's file: it is text, not markup.
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setText(title)
    box.setInformativeText(text)
    role = QMessageBox.ButtonRole
    buttons = [box.addButton(answer, role.AcceptRole) for answer in answers]
    stay = box.addButton(no, role.RejectRole)
    box.setEscapeButton(stay)
    box.exec()
    return next((i for i, one in enumerate(buttons) if one is box.clickedButton()), -1)


def ask_file(parent: QWidget, title: str, kinds: str) -> str:
    """Ask for a file, beginning where one of this kind was last; "" for none."""
    path, _ = QFileDialog.getOpenFileName(parent, title, _place(parent, title), kinds)
    return _kept(parent, title, path)


def ask_files(parent: QWidget, title: str, kinds: str) -> list[str]:
    """Ask for several files; empty for none."""
    paths, _ = QFileDialog.getOpenFileNames(parent, title, _place(parent, title), kinds)
    for path in paths[:1]:
        _kept(parent, title, path)
    return list(paths)


def ask_to_save(parent: QWidget, title: str, name: str, kinds: str) -> str:
    """Ask where to write, `name` proposed; "" for nowhere."""
    place = _place(parent, title)
    start = str(Path(place) / name)
    path, _ = QFileDialog.getSaveFileName(parent, title, start, kinds)
    return _kept(parent, title, path)


def ask_folder(parent: QWidget, title: str) -> str:
    """Ask for a folder; "" for none."""
    path = QFileDialog.getExistingDirectory(parent, title, _place(parent, title))
    return _kept(parent, title, path)


def _place(parent: QWidget, title: str) -> str:
    remembered = _remembered(parent)
    place = remembered.folders.get(title, "") if remembered is not None else ""
    return place if place and Path(place).is_dir() else str(Path.home())


def _kept(parent: QWidget, title: str, path: str) -> str:
    remembered = _remembered(parent)
    if path and remembered is not None:
        remembered.remember_folder(title, str(Path(path).parent))
    return path


def _remembered(parent: QWidget) -> Preferences | None:
    """Those of the window that a question belongs to, or of the one that its dialog is over."""
    at: QWidget | None = parent
    while at is not None:
        found = getattr(at, "preferences", None)
        if found is not None:
            return found  # type: ignore[no-any-return]  # getattr knows no types
        at = at.parentWidget()
    return None
