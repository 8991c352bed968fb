"""What is painted can be read, and the focus is seen: from pixels, in both looks.

4.5:1 for text, highlighted rows and focus rings, 3:1 for what is disabled (WCAG 2, from memory).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QImage, QStandardItem, QStandardItemModel
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QListView,
    QMenu,
    QPlainTextEdit,
    QPushButton,
    QRadioButton,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)
from pytestqt.qtbot import QtBot
from test_frame import colours
from test_theme import contrast

from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.widgets.number_field import NumberField
from diaulos.app.widgets.tables import Cell, Table

READ, DISABLED = 4.5, 3.0


def _button(**properties: str) -> QPushButton:
    made = QPushButton("Calculate")
    for name, value in properties.items():
        made.setProperty(name, value)
    return made


def _checked(button: QPushButton) -> QPushButton:
    button.setCheckable(True)
    button.setChecked(True)
    return button


def _combo() -> QComboBox:
    made = QComboBox()
    made.addItems(["Floor modeler", "Reamp box"])
    return made


def _field() -> NumberField:
    made = NumberField()
    made.setSuffix(" dBFS")
    return made


def _line() -> QLineEdit:
    made = QLineEdit("180 pF")
    made.setProperty("field", "true")
    return made


def _tool() -> QToolButton:
    made = QToolButton()
    made.setText("Rig")
    made.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    return made


def _list() -> QListView:
    model = QStandardItemModel()
    for text in ("Pass 1", "Pass 2"):
        model.appendRow(QStandardItem(text))
    made = QListView()
    made.setModel(model)
    model.setParent(made)
    made.setCurrentIndex(model.index(0, 0))
    return made


def _table() -> Table:
    made = Table("Takes", ["Take", "Peak"], 0)
    made.show_rows([("a", (Cell("Marram, intro"), Cell("\N{MINUS SIGN}11.0", figure=True)))])
    return made


def _tabs() -> QTabWidget:
    made = QTabWidget()
    made.addTab(QWidget(), "Findings")
    made.addTab(QWidget(), "Tracks")
    return made


CONTROLS: dict[str, Callable[[], QWidget]] = {
    "button": _button,
    "main button": lambda: _button(main="true"),
    "choice": lambda: _button(choice="true"),
    "checked button": lambda: _checked(_button()),
    "tool button": _tool,
    "check box": lambda: QCheckBox("Pad on"),
    "radio button": lambda: QRadioButton("Night"),
    "combo box": _combo,
    "number field": _field,
    "line": _line,
    "text": lambda: QPlainTextEdit("Notes"),
    "list": _list,
    "table": _table,
}


@pytest.fixture(params=list(theme.LOOKS.values()), ids=lambda look: look.name)
def look(request: pytest.FixtureRequest) -> Iterator[theme.Look]:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.load_fonts()
    theme.apply(app, request.param)
    yield request.param
    theme.apply(app, theme.DAY)


@pytest.fixture
def placed(qtbot: QtBot, look: theme.Look) -> Callable[[QWidget], QWidget]:
    """A control in a window of its own, beside one that has the focus first."""

    alive = []

    def place(control: QWidget) -> QWidget:
        window = QWidget()
        alive.append(window)
        qtbot.addWidget(window)
        column = QVBoxLayout(window)
        first = QWidget()
        first.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        column.addWidget(first)
        column.addWidget(control)
        theme.dress(window)
        window.resize(260, 120)
        window.show()
        window.activateWindow()
        first.setFocus()
        qtbot.waitUntil(first.hasFocus)
        return first

    return place


def _image(widget: QWidget) -> QImage:
    QApplication.processEvents()
    return widget.window().grab(QRect(widget.mapTo(widget.window(), widget.rect().topLeft()),
                                      widget.size())).toImage()  # fmt: skip


@pytest.mark.parametrize("name", CONTROLS)
def test_text_is_read_and_disabled_text_too(
    name: str, placed: Callable[[QWidget], QWidget]
) -> None:
    control = CONTROLS[name]()
    placed(control)
    image = _image(control)
    assert contrast(*colours(image, image.rect())) >= READ
    control.setEnabled(False)
    image = _image(control)
    assert contrast(*colours(image, image.rect())) >= DISABLED, "disabled"


@pytest.mark.parametrize("name", CONTROLS)
def test_the_focus_is_seen(name: str, placed: Callable[[QWidget], QWidget], qtbot: QtBot) -> None:
    """What changes when it gets the focus stands out of the ground around it."""
    control = CONTROLS[name]()
    placed(control)
    before = _image(control)
    ground = theme.current().paper
    control.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.waitUntil(control.hasFocus)
    after = _image(control)
    changed: dict[str, int] = {}
    for x in range(before.width()):
        for y in range(before.height()):
            new = after.pixelColor(x, y).name()
            if new != before.pixelColor(x, y).name():
                changed[new] = changed.get(new, 0) + 1
    seen = sum(count for colour, count in changed.items() if contrast(colour, ground) >= READ)
    assert seen >= 20, changed


def test_a_chosen_tab_and_the_others_are_read(placed: Callable[[QWidget], QWidget]) -> None:
    tabs = _tabs()
    placed(tabs)
    image = _image(tabs.tabBar())
    for index in range(2):
        rect = tabs.tabBar().tabRect(index).intersected(image.rect()).adjusted(3, 3, -3, -3)
        assert contrast(*colours(image, rect)) >= READ, index


def test_menu_entries_are_read(qtbot: QtBot, look: theme.Look) -> None:
    menu = QMenu()
    qtbot.addWidget(menu)
    theme.dress(menu)
    plain, chosen, gone = (menu.addAction(text) for text in ("Undo", "Keep", "Discard"))
    gone.setEnabled(False)
    menu.setActiveAction(chosen)
    menu.adjustSize()
    image = menu.grab().toImage()
    for action, least in ((plain, READ), (chosen, READ), (gone, DISABLED)):
        rect = menu.actionGeometry(action).adjusted(2, 2, -2, -2)
        assert contrast(*colours(image, rect)) >= least, action.text()


@pytest.mark.parametrize("name", theme.LOOKS)
def test_every_word_of_every_view_is_read(
    opened: Desk, settled: Callable[[Desk], None], name: str
) -> None:
    """The labels on screen, as painted."""
    window = opened.window
    window.dress(theme.LOOKS[name], 1.0)
    window.resize(1280, 800)
    try:
        for row in window.views:
            opened.show(row.ident)
            settled(opened)
            QApplication.processEvents()
            image = window.grab().toImage()
            labels = [one for one in opened.views[row.ident].findChildren(QLabel) if one.text()]
            seen = 0
            for label in labels:
                place = QRect(label.mapTo(window, label.rect().topLeft()), label.size())
                whole = window.stack.visibleRegion().boundingRect()
                inside = QRect(window.stack.mapTo(window, whole.topLeft()), whole.size())
                if (
                    label.isVisible()
                    and inside.contains(place)
                    and not label.visibleRegion().isEmpty()
                ):
                    covered = label.visibleRegion().boundingRect() != label.rect()
                    if not covered:
                        seen += 1
                        found = contrast(*colours(image, place))
                        least = READ if label.isEnabled() else DISABLED
                        assert found >= least, (row.ident, label.text(), found)
            assert seen >= 3, row.ident
    finally:
        window.dress(theme.DAY, 1.0)
