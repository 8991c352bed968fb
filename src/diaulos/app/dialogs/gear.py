"""Own gear: what the library has, and how this session stands to it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QImage
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from diaulos.app import theme
from diaulos.app.widgets.holders import Split
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.photographs import Photographs
from diaulos.figures import typeset
from diaulos.session.library import KINDS, EntryKind, things_of
from diaulos.session.model import Session
from diaulos.wiring import Listed, searched
from diaulos.work.library.keeping import STATES, Standing

KEPT_KINDS: tuple[EntryKind, ...] = ("instrument", "tone", "arrangement", "device", "impulse")
MOST_LINES = 12
LINE = tuple[str, str, str]


def keepable(session: Session) -> tuple[tuple[EntryKind, str, str], ...]:
    """What a session has to keep: kind, id, what it is called."""
    found: list[tuple[EntryKind, str, str]] = []
    for kind in KEPT_KINDS:
        for key, thing in things_of(session, kind).items():
            name = str(getattr(thing, "name", ""))
            found.append((kind, key.partition(":")[2], name))
        if kind == "device":
            own = {one.name for one in session.own_types}
            devices = [device for rig in session.rigs for device in rig.devices]
            for name in dict.fromkeys(one.name for one in devices):
                if name not in own:
                    found.append((kind, name, name))
    found += [("cable", one.id, f"Cable of {one.name}") for one in session.instruments]
    return tuple(found)


class GearDialog(QDialog):
    """The list, what is chosen of it, and what can be done with that. Whoever opens it does it."""

    taken = Signal(str, str)
    """(entry, key): the entry becomes a part of the session, in the place of the key's if given."""
    kept = Signal(str, str)
    """(kind, id): of the session, into the library."""
    tagged = Signal(str, object)
    exported = Signal(str)
    imported = Signal()
    merged = Signal()
    removed = Signal(str)
    photograph_asked = Signal(str)
    photograph_removed = Signal(str, str)
    chosen = Signal(str)
    """An entry is shown: its details are wanted."""

    def __init__(self, session: Session | None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Own gear")
        self._session = session
        self._listed: tuple[Listed, ...] = ()
        self._standings: dict[str, Standing] = {}
        self._pictured = ""
        """The entry whose photographs are shown."""
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search by name, kind or tag")
        self.search.setAccessibleName("Search")
        self.search.setClearButtonEnabled(True)
        self.list = QListWidget()
        self.list.setAccessibleName("What the library has")
        self.list.setSpacing(3)
        self.title = TextLabel()
        self.title.setProperty("role", "title")
        self.title.setWordWrap(True)
        self.state = TextLabel()
        self.state.setWordWrap(True)
        self.lines = TextLabel()
        self.lines.setWordWrap(True)
        self.tags = QLineEdit()
        self.tags.setPlaceholderText("Tags, with commas between")
        self.tags.setAccessibleName("Tags")
        self.photographs = Photographs()
        self.photograph = QPushButton("&Photograph\N{HORIZONTAL ELLIPSIS}")
        self.photograph.setToolTip(
            "A picture beside the entry: how its knobs stand, what is written on it"
        )
        self.take = QPushButton("&Take into the session")
        self.over = QPushButton("Take the &newer one over")
        self.over.setToolTip("In the place of the one that came from this entry; Ctrl+Z undoes it")
        self.export = QPushButton("&Export\N{HORIZONTAL ELLIPSIS}")
        self.export.setToolTip("This entry as one file, with what belongs to it")
        self.remove = QPushButton("&Remove")
        self.remove.setToolTip("Its file goes to the folder earlier of the library")
        self.what = QComboBox()
        self.what.setAccessibleName("What of this session is kept")
        self.keep = QPushButton("&Keep it in the library")
        self.import_ = QPushButton("&Import\N{HORIZONTAL ELLIPSIS}")
        self.import_.setToolTip("An entry from a file (.diaulosgear)")
        self.merge = QPushButton("&Merge a library\N{HORIZONTAL ELLIPSIS}")
        self.merge.setToolTip(
            "Another machine's copy: what was changed in both is there twice afterwards"
        )
        self.said = TextLabel()
        self.said.setWordWrap(True)
        self.close_ = QPushButton("Close")
        self._lay()
        self._wire()
        self.resize(760, 520)
        theme.dress(self)
        self._show_chosen()

    def _lay(self) -> None:
        detail = QWidget()
        right = QVBoxLayout(detail)
        right.setContentsMargins(8, 0, 0, 0)
        for part in (self.title, self.state, self.lines, self.tags, self.photographs):
            right.addWidget(part)
        for row in ((self.take, self.over), (self.photograph, self.export, self.remove)):
            line = QHBoxLayout()
            for button in row:
                line.addWidget(button)
            line.addStretch(1)
            right.addLayout(line)
        right.addStretch(1)
        split = Split(Qt.Orientation.Horizontal)
        split.addWidget(self.list)
        split.addWidget(detail)
        split.setStretchFactor(1, 1)
        split.setSizes([320, 420])
        from_here = QHBoxLayout()
        from_here.addWidget(TextLabel("Of this session:"))
        from_here.addWidget(self.what, 1)
        from_here.addWidget(self.keep)
        foot = QHBoxLayout()
        for button in (self.import_, self.merge):
            foot.addWidget(button)
        foot.addStretch(1)
        foot.addWidget(self.close_)
        column = QVBoxLayout(self)
        column.addWidget(self.search)
        column.addWidget(split, 1)
        column.addLayout(from_here)
        column.addWidget(self.said)
        column.addLayout(foot)
        for button in self.findChildren(QPushButton):
            button.setAutoDefault(False)

    def _wire(self) -> None:
        self.search.textChanged.connect(lambda _words: self._show_list())
        self.search.returnPressed.connect(self._take_first)
        self.list.currentItemChanged.connect(lambda _now, _before: self._show_chosen())
        self.list.itemActivated.connect(lambda _item: self._on_take())
        self.take.clicked.connect(self._on_take)
        self.over.clicked.connect(self._on_over)
        self.export.clicked.connect(lambda: self.exported.emit(self.entry_id))
        self.remove.clicked.connect(lambda: self.removed.emit(self.entry_id))
        self.tags.editingFinished.connect(self._on_tags)
        self.photograph.clicked.connect(lambda: self.photograph_asked.emit(self.entry_id))
        self.photographs.removed.connect(
            lambda name: self.photograph_removed.emit(self.entry_id, name)
        )
        self.keep.clicked.connect(self._on_keep)
        self.import_.clicked.connect(self.imported.emit)
        self.merge.clicked.connect(self.merged.emit)
        self.close_.clicked.connect(self.reject)

    # --- what is shown ---

    def show_gear(
        self, session: Session | None, listed: tuple[Listed, ...],
        standings: tuple[Standing, ...], problems: tuple[str, ...],
    ) -> None:  # fmt: skip
        """The library as it is now, and the session beside it."""
        self._session, self._listed = session, listed
        self._standings = {one.entry_id: one for one in standings}
        kept = self.what.currentData()
        self.what.clear()
        for kind, ident, name in keepable(session) if session is not None else ():
            self.what.addItem(f"{KINDS[kind]}: {name}", (kind, ident))
        at = self.what.findData(kept)
        self.what.setCurrentIndex(max(0, at))
        self.keep.setEnabled(self.what.count() > 0)
        if problems:
            self.said.setText("Cannot be read: " + "; ".join(problems[:3]))
        self._show_list()

    def say(self, words: str) -> None:
        """What was done."""
        self.said.setText(words)

    def _show_list(self) -> None:
        chosen = self.entry_id
        self.list.clear()
        for one in searched(self._listed, self.search.text()):
            standing = self._standings.get(one.id)
            mark = ""
            if standing is not None:
                mark = f"  \N{MIDDLE DOT}  {STATES[standing.state]}"
            item = QListWidgetItem(f"{one.name}\n{KINDS[one.kind]}{mark}")
            item.setData(Qt.ItemDataRole.UserRole, one.id)
            self.list.addItem(item)
            if one.id == chosen:
                self.list.setCurrentItem(item)
        if self.list.currentRow() < 0 and self.list.count():
            self.list.setCurrentRow(0)
        self._show_chosen()

    @property
    def entry_id(self) -> str:
        """The entry that is chosen, "" for none."""
        item = self.list.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else ""

    @property
    def entry(self) -> Listed | None:
        """What the list knows of it."""
        return next((one for one in self._listed if one.id == self.entry_id), None)

    def _show_chosen(self) -> None:
        one = self.entry
        for part in (self.take, self.export, self.remove, self.tags, self.photograph):
            part.setEnabled(one is not None)
        if one is None or one.id != self._pictured:
            self._pictured = ""
            self.photographs.show_pictures(())
        standing = self._standings.get(one.id) if one is not None else None
        self.over.setVisible(standing is not None and standing.state in ("newer", "both"))
        self.lines.setText("")
        if one is None:
            self.title.setText("Nothing is kept yet" if not self._listed else "Nothing found")
            self.state.setText(
                "Keep an instrument, a tone or a device of this session below: it is there in "
                "every session from then on."
                if not self._listed
                else "Search for less."
            )
            self.tags.setText("")
            return
        self.take.setEnabled(self._session is not None)
        self.title.setText(one.name)
        words = KINDS[one.kind]
        if one.changed_at:
            words += f", as of {one.changed_at.replace('T', ' ')[:16]}"
        if standing is not None:
            words += f". {standing.name} of this session: {STATES[standing.state]}"
        self.state.setText(f"{words}.")
        self.tags.setText(", ".join(one.tags))
        self.chosen.emit(one.id)

    def show_photographs(self, entry_id: str, found: Sequence[tuple[str, QImage]]) -> None:
        """Those of the entry that is chosen."""
        if entry_id == self.entry_id:
            self._pictured = entry_id
            self.photographs.show_pictures(found)

    def show_lines(self, entry_id: str, lines: tuple[LINE, ...]) -> None:
        """What taking the entry over would change here."""
        if entry_id != self.entry_id:
            return
        told = [
            typeset(f"{where}: {here} \N{RIGHTWARDS ARROW} {there}")
            for where, here, there in lines[:MOST_LINES]
        ]
        if len(lines) > MOST_LINES:
            told.append(f"and {len(lines) - MOST_LINES} more")
        self.lines.setText("\n".join(told))

    # --- what is done ---

    def _take_first(self) -> None:
        if self.list.count():
            self.list.setFocus()

    def _on_take(self) -> None:
        if self.entry is not None and self._session is not None:
            self.taken.emit(self.entry_id, "")

    def _on_over(self) -> None:
        standing = self._standings.get(self.entry_id)
        if standing is not None:
            self.taken.emit(self.entry_id, standing.key)

    def _on_keep(self) -> None:
        kept = self.what.currentData()
        if kept is not None:
            self.kept.emit(*kept)

    def _on_tags(self) -> None:
        one = self.entry
        if one is None:
            return
        tags = tuple(dict.fromkeys(t.strip() for t in self.tags.text().split(",") if t.strip()))
        if tags != one.tags:
            self.tagged.emit(one.id, tags)
