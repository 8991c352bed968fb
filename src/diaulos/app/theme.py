"""The look: typed tokens for day and night, fonts, one style sheet made from them.

All colours reach 4.5:1 on their paper (tests/app/test_theme.py). No widget names a colour.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from string import Template

from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPalette, QTransform
from PySide6.QtWidgets import QApplication, QWidget

from diaulos.app.dressing import Wardrobe
from diaulos.records import dataclass

FONTS = Path(__file__).parent / "fonts"
ICONS = Path(__file__).parent / "icons"
FAMILY, MONO = "B612", "B612 Mono"


@dataclass(frozen=True)
class Look:
    """Colours of one look."""

    name: str
    paper: str
    raised: str
    line: str
    ink: str
    muted: str
    di: str
    amp: str
    modeled: str
    mic: str
    cabinet: str
    danger: str
    danger_ink: str
    good: str

    def colour(self, token: str) -> QColor:
        """A token as a colour."""
        return QColor(getattr(self, token))

    def faint(self, token: str, opacity: float) -> QColor:
        """A token that lets what is under it through."""
        colour = self.colour(token)
        colour.setAlphaF(opacity)
        return colour


DAY = Look(
    name="day",
    paper="#F6F1E7",
    raised="#FCF9F2",
    line="#CFC6B4",
    ink="#22303C",
    muted="#5B6670",
    di="#1B5E8C",
    amp="#A8471F",
    modeled="#5F6B14",
    mic="#7B3B6B",
    cabinet="#8A5A00",
    danger="#A3003A",
    danger_ink="#FFFFFF",
    good="#2E6B4F",
)
NIGHT = Look(
    name="night",
    paper="#1B2228",
    raised="#232C34",
    line="#42505B",
    ink="#ECE6DA",
    muted="#A3ADB5",
    di="#7DB8E3",
    amp="#E8926A",
    modeled="#B9C46A",
    mic="#D59BC6",
    cabinet="#E3B563",
    danger="#FF8A80",
    danger_ink="#1B2228",
    good="#7CC9A2",
)
PRINTED = replace(DAY, name="printed", paper="#FFFFFF")
"""What a page is drawn in, in either look: the day's ink on white paper."""
LOOKS = {look.name: look for look in (DAY, NIGHT)}

ZOOMS = (0.9, 1.0, 1.1, 1.25, 1.5, 1.75, 2.0)
"""Sizes of text; at 1 nothing is under 9 points."""

_current = DAY
_zoom = 1.0
_wardrobe = Wardrobe()
_LENGTH = re.compile(r"(\d+)(pt|px)")

_SHEET = Template("""
QToolTip { background: $raised; color: $ink; border: 1px solid $line; padding: 4px; }
QMenuBar, QMenu { background: $paper; color: $ink; }
QMenuBar::item:selected, QMenu::item:selected { background: $di; color: $paper; }
QMenu::item:disabled { color: $muted; }
QMenu { border: 1px solid $line; }
QMenu::separator { height: 1px; background: $line; margin: 4px 8px; }
QPushButton, QToolButton { background: $raised; border: 1px solid $line; border-radius: 3px;
  padding: 4px 10px; min-height: 18px; outline: none; }
QPushButton:hover, QToolButton:hover { border-color: $muted; }
QPushButton:focus, QToolButton:focus { border: 2px solid $di; padding: 3px 9px; }
QPushButton:checked, QToolButton:checked { background: $ink; color: $paper; }
QPushButton:disabled, QToolButton:disabled { color: $muted; background: $paper; }
QFileDialog QToolButton { padding: 2px; }
QFileDialog QToolButton:focus { padding: 1px; }
QPushButton[main="true"] { background: $amp; color: $raised; font-weight: bold;
  border: 1px solid $amp; padding: 6px 16px; }
QPushButton[main="true"]:focus { border: 2px solid $ink; padding: 5px 15px; }
QPushButton[main="true"]:disabled { background: $line; color: $ink; border-color: $line; }
QPushButton[choice="true"] { font-size: 13pt; padding: 12px 16px; }
QPushButton[choice="true"]:focus { padding: 11px 15px; }
QPushButton[tiny="true"] { padding: 2px 0; }
QPushButton[tight="true"] { padding: 4px 5px; }
QPushButton[tight="true"]:focus { padding: 3px 4px; }
QComboBox, QSpinBox, QDoubleSpinBox, QLineEdit { background: $raised; min-height: 24px; }
QComboBox { border: 1px solid $line; border-radius: 3px; padding: 0 2px 0 6px;
  combobox-popup: 0; }
QComboBox:hover { border-color: $muted; }
QComboBox:focus { border: 1px solid $di; }
QComboBox:disabled { color: $muted; background: $paper; }
QComboBox::drop-down { width: 18px; border: none; }
QComboBox::down-arrow { image: url($arrow); width: 9px; height: 9px; }
QComboBox QAbstractItemView { background: $raised; color: $ink; border: 1px solid $muted;
  outline: 0; selection-background-color: $di; selection-color: $paper; }
QComboBox QAbstractItemView::item { min-height: 22px; padding: 0 6px; color: $ink; }
QComboBox QAbstractItemView::item:selected { background: $di; color: $paper; }
QComboBox QAbstractItemView::item:disabled { color: $muted; }
QComboBox[compact="true"] { font-size: 9pt; padding: 0 0 0 1px; }
QComboBox[compact="true"]::drop-down { width: 3px; border: none; }
QComboBox[compact="true"]::down-arrow { image: none; }
QDialogButtonBox, QMessageBox { dialogbuttonbox-buttons-have-icons: 0; }
QLineEdit[field="true"] { border: 1px solid $line; border-radius: 3px; padding: 0 2px; }
QLineEdit[field="true"]:focus { border: 1px solid $di; }
QListView, QTableView, QPlainTextEdit, QTextBrowser { background: $raised;
  border: 1px solid $line; }
QListView:focus, QTableView:focus { border: 2px solid $di; }
QPlainTextEdit:focus, QTextBrowser:focus { border: 1px solid $di; }
QProgressBar { border: 1px solid $line; border-radius: 3px; background: $raised;
  text-align: center; min-height: 18px; }
QProgressBar::chunk { background: $line; }
QStatusBar { border-top: 1px solid $line; }
QStatusBar::item { border: none; }
QCheckBox { spacing: 6px; }
QCheckBox::indicator, QListView::indicator { width: 13px; height: 13px;
  border: 1px solid $muted; background: $raised; }
QCheckBox::indicator:checked, QListView::indicator:checked { background: $ink;
  border: 1px solid $ink; image: url($tick); }
QRadioButton::indicator { width: 11px; height: 11px; border: 1px solid $muted;
  border-radius: 6px; background: $raised; }
QRadioButton::indicator:checked { background: $ink; border: 1px solid $ink; }
QCheckBox:focus, QRadioButton:focus { color: $di; }
QScrollBar:vertical { background: $paper; width: 10px; margin: 0; }
QScrollBar:horizontal { background: $paper; height: 10px; margin: 0; }
QScrollBar::handle { background: $line; border-radius: 4px; min-height: 24px; min-width: 24px; }
QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; }
QTabWidget::pane { border: 1px solid $line; border-left: none; border-right: none;
  border-bottom: none; }
QHeaderView::section { background: $paper; color: $muted; border: none;
  border-bottom: 1px solid $line; padding: 2px 6px; }
QTableView::item:selected { background: $paper; color: $ink; }
QSplitter::handle { background: $line; }
QLabel[role="title"] { font-weight: bold; font-size: 11pt; }
QLabel[role="small"] { font-size: 9pt; }
QLabel[role="small-bold"] { font-size: 9pt; font-weight: bold; }
QTableView[dense="true"] { font-size: 9pt; }
QLabel[role="muted"] { color: $muted; }
QLabel[role="problem"] { color: $danger_text; font-weight: bold; }
QLabel[role="headline"] { font-size: 15pt; font-weight: bold; }
QLabel[role="far"] { font-size: 26pt; }
QLabel[role="farther"] { font-size: 72pt; font-weight: bold; }
QLabel[role="farthest"] { font-size: 44pt; font-weight: bold; }
QLabel[role="clips"] { background: $danger; color: $danger_ink; font-size: 26pt;
  font-weight: bold; padding: 2px 18px; }
QLabel[role="reason"] { color: $danger_text; font-size: 9pt; }
QLabel[role="notice"] { background: $raised; border: 1px solid $cabinet; padding: 4px; }
#rail { background: $raised; border-right: 1px solid $line; }
#rail QToolButton { border: none; border-left: 4px solid transparent; border-radius: 0;
  background: transparent; padding: 10px 2px; color: $ink; }
#rail QToolButton:checked { border-left: 4px solid $amp; background: $paper; color: $ink;
  font-weight: bold; }
#rail QToolButton:focus { border: 1px solid $di; border-left: 4px solid $amp; }
""")


def load_fonts() -> None:
    """Make the shipped fonts known to Qt."""
    for path in sorted(FONTS.glob("*.otf")):
        QFontDatabase.addApplicationFont(str(path))


def current() -> Look:
    """The look in use."""
    return _current


def zoom() -> float:
    """How large text is, 1 as designed."""
    return _zoom


def px(size: float) -> int:
    """A length at zoom 1, in pixels as they are now."""
    return round(size * _zoom)


def next_zoom(step: int) -> float:
    """The size of text that is one step larger (+1), smaller (-1), or 1 (0)."""
    if not step:
        return 1.0
    here = min(range(len(ZOOMS)), key=lambda index: abs(ZOOMS[index] - _zoom))
    return ZOOMS[min(len(ZOOMS) - 1, max(0, here + step))]


def _scaled(sheet: str) -> str:
    """A style sheet with its lengths as they are now; hairlines stay hairlines."""

    def length(found: re.Match[str]) -> str:
        number, unit = int(found[1]), found[2]
        if unit == "pt":
            return f"{number * _zoom:g}pt"
        return f"{number if number <= 2 else px(number)}px"

    return _LENGTH.sub(length, sheet)


def apply(
    app: QApplication,
    look: Look,
    zoom: float | None = None,
    between: Callable[[], None] = lambda: None,
) -> None:
    """Put a look on the whole application, with text of a size (as it is, when None). `between`
    is called between two parts of the window.

    What is on screen is dressed at once. The rest is dressed when it is shown, or by
    `dress_next`: nobody waits for what he does not see.
    """
    global _current, _zoom  # the application has one look
    _current = look
    if zoom is not None:
        _zoom = zoom
    if not app.property("dressed"):
        app.setStyle("Fusion")  # takes its colours from the palette, on every desktop alike
        app.setProperty("dressed", True)
    app.setPalette(_palette(look))
    font = QFont(FAMILY)
    font.setPointSizeF(10.0 * _zoom)
    app.setFont(font)
    values = {name: getattr(look, name) for name in look.__dataclass_fields__}
    icons = {name: (ICONS / f"{name}-{look.name}.svg").as_posix() for name in ("tick", "arrow")}
    sheet = Template(_scaled(_SHEET.template))
    _wardrobe.change(sheet.substitute(values, danger_text=look.danger, **icons), between)


def dress(root: QWidget, between: Callable[[], None] = lambda: None) -> None:
    """Give a widget and all that is in it the style sheet of the look, now and whenever the
    look changes while it is seen."""
    _wardrobe.dress(root, between)


def dress_next() -> bool:
    """Dress a part that is not seen, or look for one; whether there may be more."""
    return _wardrobe.dress_next()


def undressed(root: QWidget) -> bool:
    """Whether any of it wears the look of before."""
    return _wardrobe.behind(root)


def _palette(look: Look) -> QPalette:
    palette = QPalette()
    role = QPalette.ColorRole
    for one, token in (
        (role.Window, "paper"),
        (role.Base, "raised"),
        (role.AlternateBase, "paper"),
        (role.Text, "ink"),
        (role.WindowText, "ink"),
        (role.ButtonText, "ink"),
        (role.Button, "raised"),
        (role.Highlight, "di"),
        (role.HighlightedText, "paper"),
        (role.PlaceholderText, "muted"),
        (role.ToolTipBase, "raised"),
        (role.ToolTipText, "ink"),
        (role.Light, "raised"),
        (role.Mid, "line"),
        (role.Dark, "muted"),
        (role.Shadow, "line"),
        (role.Midlight, "paper"),
    ):
        palette.setColor(one, look.colour(token))
    for one in (role.Text, role.ButtonText, role.WindowText):
        palette.setColor(QPalette.ColorGroup.Disabled, one, look.colour("muted"))
    return palette


def arrow(degrees: int) -> QIcon:
    """The arrow of drop-downs, turned clockwise from where it points down."""
    down = QIcon(str(ICONS / f"arrow-{current().name}.svg")).pixmap(16)
    return QIcon(down.transformed(QTransform().rotate(degrees)))


def figure_font(points: int, *, bold: bool = False) -> QFont:
    """The face of figures in a drawing: its digits are all equally wide, so that they do not
    jump. The painter enlarges it with the rest."""
    font = QFont(FAMILY, points)
    font.setBold(bold)
    return font


def text_font(points: int, *, bold: bool = False) -> QFont:
    """The text face in a drawing."""
    font = QFont(FAMILY, points)
    font.setBold(bold)
    return font


def bold_font() -> QFont:
    """Bold, of the size that what carries it has anyway."""
    font = QFont()
    font.setBold(True)
    return font
