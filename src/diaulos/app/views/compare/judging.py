"""The right-hand panel: by which question a pair is judged, one page a question."""

from __future__ import annotations

from typing import Literal

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from diaulos.app.views.compare.doubled import DoubledPage
from diaulos.app.views.compare.places import PlacesPage
from diaulos.app.views.compare.stacking import StackPanel
from diaulos.app.views.compare.timing import TimingPage
from diaulos.app.views.compare.ways import WaysPage
from diaulos.app.widgets.controls import choose, combo
from diaulos.app.widgets.wrapping import WrappingRow

Page = Literal["stack", "timing", "doubled", "places", "ways"]
PAGES: dict[Page, str] = {
    "stack": "Stack or pan?",
    "timing": "Into time",
    "doubled": "Played twice?",
    "places": "Microphone places",
    "ways": "Two ways in",
}


class JudgePanel(QWidget):
    """The chooser and its pages."""

    turned = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.which = combo("Judge", {str(key): words for key, words in PAGES.items()}, least=18)
        self.which.setToolTip("Q shows the next one")
        self.stack, self.timing, self.doubled = StackPanel(), TimingPage(), DoubledPage()
        self.places, self.ways = PlacesPage(), WaysPage()
        self.pages = QStackedWidget()
        for page in (self.stack, self.timing, self.doubled, self.places, self.ways):
            self.pages.addWidget(page)
        row = WrappingRow()
        row.add_pair("Judge (Q)", self.which)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 0, 0)
        column.addLayout(row)
        column.addWidget(self.pages, 1)
        self.which.activated.connect(lambda _i: self._on_which())

    @property
    def page(self) -> Page:
        """The page that is shown."""
        return list(PAGES)[self.pages.currentIndex()]

    def show_page(self, page: Page) -> None:
        """Show a page."""
        choose(self.which, page)
        self._on_which()

    def next_page(self) -> None:
        """The next one."""
        keys = list(PAGES)
        self.show_page(keys[(keys.index(self.page) + 1) % len(keys)])

    def _on_which(self) -> None:
        self.pages.setCurrentIndex(self.which.currentIndex())
        self.turned.emit()
