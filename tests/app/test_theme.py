"""The looks: contrast, fonts, and no colour outside the theme."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from PySide6.QtGui import QFontDatabase, QFontInfo
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QStyle
from pytestqt.qtbot import QtBot

from diaulos.app import theme

APP = Path(theme.__file__).parent
INKS = ("ink", "muted", "di", "amp", "modeled", "mic", "cabinet", "danger", "good")


def luminance(colour: str) -> float:
    """Relative luminance after WCAG 2 (from memory)."""
    parts = [int(colour[i : i + 2], 16) / 255.0 for i in (1, 3, 5)]
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize("look", theme.LOOKS.values(), ids=lambda look: look.name)
@pytest.mark.parametrize("ink", INKS)
@pytest.mark.parametrize("ground", ["paper", "raised"])
def test_every_colour_reaches_4_5_on_its_paper(look: theme.Look, ink: str, ground: str) -> None:
    assert contrast(getattr(look, ink), getattr(look, ground)) >= 4.5


@pytest.mark.parametrize("look", theme.LOOKS.values(), ids=lambda look: look.name)
def test_filled_words_can_be_read(look: theme.Look) -> None:
    assert contrast(look.danger_ink, look.danger) >= 4.5
    assert contrast(look.raised, look.amp) >= 4.5  # the main button
    assert contrast(look.ink, look.line) >= 4.5  # the same, disabled


def test_known_contrasts() -> None:
    assert contrast("#000000", "#FFFFFF") == pytest.approx(21.0)
    assert contrast("#777777", "#FFFFFF") == pytest.approx(4.48, abs=0.01)


def test_the_shipped_fonts_are_used(qtbot: QtBot) -> None:
    theme.load_fonts()
    assert theme.FAMILY in QFontDatabase.families()
    assert QFontInfo(theme.text_font(10)).family() == theme.FAMILY


def test_no_widget_names_a_colour() -> None:
    for path in APP.rglob("*.py"):
        if path.name == "theme.py":
            continue
        found = re.findall(r"#[0-9A-Fa-f]{6}\b|Qt\.GlobalColor|QColor\(", path.read_text("utf-8"))
        assert not found, f"{path.name}: {found}"


def test_the_binding_keeps_its_references(qtbot: QtBot) -> None:
    """One release of the binding dropped a reference to None in every void call: on a Python
    whose None can die the process died after some minutes of painting."""
    import sys

    from PySide6.QtWidgets import QWidget

    widget = QWidget()
    qtbot.addWidget(widget)
    widget.show()
    before = sys.getrefcount(None)
    for _ in range(500):
        widget.repaint()
    assert sys.getrefcount(None) > before - 100


def test_dialog_buttons_carry_no_icon_of_the_desktop(qtbot: QtBot) -> None:
    """On a desktop that gives them some, whatever the style sheet says."""
    dialog = QDialog()
    qtbot.addWidget(dialog)
    box = QDialogButtonBox(QDialogButtonBox.StandardButton.Close, dialog)
    icon = dialog.style().standardIcon(QStyle.StandardPixmap.SP_DialogCloseButton)
    for button in box.buttons():
        button.setIcon(icon)
        assert not button.icon().isNull()
    theme.dress(dialog)
    assert all(button.icon().isNull() for button in box.buttons())
