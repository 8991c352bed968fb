"""The manual: the shipped pages, read inside, with a word to look for."""

from __future__ import annotations

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QKeySequence, QShortcut, QTextCursor
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from diaulos.app.dialogs.texts import SAFETY, manual_page
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import most_width

PAGES = (
    ("A tour, view by view", "tour"),
    ("Words and units", "glossary"),
    ("What is checked in a rig", "checks"),
    ("From a shell", "cli"),
)


class ManualDialog(QDialog):
    """Pages at the left, the text at the right. It stays open beside the work."""

    def __init__(self, keys: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Manual")
        self.resize(880, 600)
        self._texts: list[tuple[str, str, bool]] = [
            *((title, manual_page(page), True) for title, page in PAGES),
            ("Keys", keys, False),
            ("Safety notices", SAFETY, False),
        ]
        self._files = {f"{page}.md": index for index, (_, page) in enumerate(PAGES)}
        self.pages = QListWidget()
        self.pages.setAccessibleName("Pages of the manual")
        most_width(self.pages, 210)
        for title, _, _ in self._texts:
            self.pages.addItem(title)
        self.text = QTextBrowser()
        self.text.setAccessibleName("The page")
        self.text.setOpenLinks(False)
        self.text.anchorClicked.connect(self._on_link)
        self.wanted = QLineEdit()
        self.wanted.setProperty("field", "true")
        self.wanted.setPlaceholderText("Find on all pages (Ctrl+F, Enter finds the next)")
        self.wanted.setAccessibleName("Find in the manual")
        self.wanted.returnPressed.connect(self.find_next)
        self.told = TextLabel()
        self.told.setProperty("role", "muted")
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        # Enter belongs to the search.
        buttons.button(QDialogButtonBox.StandardButton.Close).setAutoDefault(False)
        QShortcut(QKeySequence("Ctrl+F"), self, self.wanted.setFocus)
        middle = QHBoxLayout()
        middle.addWidget(self.pages)
        middle.addWidget(self.text, 1)
        foot = QHBoxLayout()
        foot.addWidget(self.wanted, 1)
        foot.addWidget(self.told)
        foot.addWidget(buttons)
        whole = QVBoxLayout(self)
        whole.addLayout(middle, 1)
        whole.addLayout(foot)
        self.pages.currentRowChanged.connect(self._show)
        self.pages.setCurrentRow(0)

    def _show(self, row: int) -> None:
        _, words, markdown = self._texts[row]
        if markdown:
            self.text.setMarkdown(words)
        else:
            self.text.setHtml(words)

    def _on_link(self, link: QUrl) -> None:
        # Pages lead to one another; nothing leads outside.
        row = self._files.get(link.fileName())
        if row is not None:
            self.pages.setCurrentRow(row)
        elif link.hasFragment():
            self.text.scrollToAnchor(link.fragment())
        else:
            self.told.setText(f"{link.toString()}: beside the program, in its docs.")

    def find_next(self) -> None:
        """The next place of the word, on this page or on one behind it."""
        word = self.wanted.text().strip()
        if not word:
            return
        first = self.pages.currentRow()
        for step in range(len(self._texts) + 1):
            if step:
                self.pages.setCurrentRow((first + step) % len(self._texts))
                self.text.moveCursor(QTextCursor.MoveOperation.Start)
            if self.text.find(word):
                self.told.setText("")
                return
        self.pages.setCurrentRow(first)
        self.told.setText(f"{word}: not in the manual.")

    def open_page(self, title: str) -> None:
        """Show a page by its title."""
        for item in self.pages.findItems(title, Qt.MatchFlag.MatchExactly):
            self.pages.setCurrentItem(item)
