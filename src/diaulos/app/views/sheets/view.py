"""Sheets: how was this made, and how is it set up again?

The kinds stand at the left with what goes into them, the page at the right. It is what the file
will say: the same parts, the same figures.
"""

from __future__ import annotations

from pathlib import Path
from unicodedata import category

from PySide6.QtCore import QSignalBlocker, Qt, QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from diaulos import wiring
from diaulos.app.asking import ask_folder, ask_to_save
from diaulos.app.dialogs.handing import HandingDialog
from diaulos.app.dialogs.stems import StemsDialog
from diaulos.app.jobs import Job
from diaulos.app.view import View, ViewContext
from diaulos.app.views.sheets.page import SheetPage, fill_document, print_margins
from diaulos.app.widgets.controls import TICKS, choose, combo
from diaulos.app.widgets.holders import Split
from diaulos.app.widgets.labels import TextLabel
from diaulos.app.widgets.painted import fix_height
from diaulos.app.widgets.wrapping import WrappingRow, scrolled, unfilled
from diaulos.errors import CancelledError, DiaulosError
from diaulos.figures import counted, number
from diaulos.records import dataclass
from diaulos.session import edits
from diaulos.session.model import Session, SheetChoice
from diaulos.work.ports import CancelToken, Progress
from diaulos.work.rigs.stored import NOTHING_STORED, stored_of
from diaulos.work.sheets.making import make_sheet, part_titles
from diaulos.work.sheets.model import KINDS, Kind, Rows, Sheet, Wanted

TOLD: dict[Kind, str] = {
    "patch": "Every cable in the order to plug",
    "tracks": "What was recorded, and what was decided",
    "levels": "Every course drawn, planned and got",
    "recall": "Every knob as it stood",
    "tone": "A tone on half a page",
    "compare": "What differs, and the blind tests",
    "session": "Takes, keepers, notes",
}
OF_RIG, OF_TAKE = ("patch", "levels"), ("tracks", "recall", "compare")
PLANNED = ("patch", "levels", "tracks")
PAPERS = {"A4": "A4", "Letter": "Letter"}
MOST_NOTE = 5_000
NOTE_MS = 400
"""After the last letter of a note the page follows."""


@dataclass(frozen=True, eq=False)
class _Of:
    """What a page is made of. Sessions are immutable: the same object says the same."""

    wanted: Wanted
    session: Session

    def __eq__(self, other: object) -> bool:
        return (
            isinstance(other, _Of) and self.session is other.session and self.wanted == other.wanted
        )

    __hash__ = None  # type: ignore[assignment]  # compared, never keyed


class SheetsView(View):
    """Kinds, what goes in, the page, and the ways out of it."""

    ident = "sheets"

    def __init__(self, context: ViewContext) -> None:
        super().__init__(context)
        self.kind: Kind = "patch"
        self._shown = False
        self._made: _Of | None = None
        """What the page was made of."""
        self._asked: _Of | None = None
        self._titles: tuple[str, ...] = ()
        self._heads: tuple[str, ...] = ()
        self._noted: tuple[str, str] = ("", "")
        """Of which sheet a note is shown, and what of it is kept."""
        self._filling = False
        self._build()
        self._wire()
        self._document.changed.connect(self._on_change)

    # --- layout ---

    def _build(self) -> None:
        self.kinds = QListWidget()
        self.kinds.setAccessibleName("Sheets")
        for kind, name in KINDS.items():
            item = QListWidgetItem(name)
            item.setData(Qt.ItemDataRole.UserRole, kind)
            item.setToolTip(TOLD[kind])
            self.kinds.addItem(item)
        self.kinds.setCurrentRow(0)
        fix_height(self.kinds, 142)
        self.of = combo("Of what", least=16)
        self.made = combo("Pass", least=16)
        self.parts = QListWidget()
        self.parts.setProperty(TICKS, True)
        self.parts.setAccessibleName("What goes in")
        self.parts.setToolTip("Space takes a part out or puts it back")
        self.sort = combo("Sorted by", least=14)
        self.sort.setToolTip("Tables that have this column are sorted by it")
        self.paper = combo("Paper", PAPERS, least=6)
        self.note = QPlainTextEdit()
        self.note.setAccessibleName("Note on the sheet")
        self.note.setPlaceholderText("A note that stands on it")
        self.note.setTabChangesFocus(True)
        fix_height(self.note, 52)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 8, 0)
        title = TextLabel("Sheets")
        title.setProperty("role", "title")
        column.addWidget(title)
        column.addWidget(self.kinds)
        row = WrappingRow()
        row.add_pair("Of", self.of)
        row.addWidget(self.made)
        column.addLayout(row)
        caption = TextLabel("What goes in")
        caption.setProperty("role", "muted")
        column.addWidget(caption)
        column.addWidget(self.parts, 1)
        row = WrappingRow()
        row.add_pair("Sorted by", self.sort)
        column.addLayout(row)
        column.addWidget(self.note)
        self.page = SheetPage(wiring.drawing_svg)
        self.plot = self
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self.page)
        unfilled(area)
        area.setAccessibleName("Page")
        self.area = area
        split = Split(Qt.Orientation.Horizontal)
        split.setChildrenCollapsible(False)
        split.addWidget(scrolled(left, "Sheets and what goes in"))
        split.addWidget(area)
        split.setStretchFactor(1, 1)
        split.setSizes([300, 820])
        self.export = QPushButton("Export\N{HORIZONTAL ELLIPSIS} (E)")
        self.export.setToolTip("As PDF, as one HTML file, or as CSV")
        self.print = QPushButton("Print\N{HORIZONTAL ELLIPSIS} (Ctrl+P)")
        self.stems = QPushButton("Stems\N{HORIZONTAL ELLIPSIS} (S)")
        self.stems.setToolTip("Tracks and passes as files that lie in time in any recorder")
        self.hand = QPushButton("Hand over\N{HORIZONTAL ELLIPSIS} (H)")
        self.hand.setToolTip("The session in one file")
        row = WrappingRow()
        row.addWidget(self.export)
        row.addWidget(self.print)
        row.add_pair("Paper", self.paper)
        row.add_stretch()
        row.addWidget(self.stems)
        row.addWidget(self.hand)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(12, 10, 12, 10)
        whole.addWidget(split, 1)
        whole.addLayout(row)
        self._typing = QTimer(self)
        self._typing.setSingleShot(True)
        self._typing.setInterval(NOTE_MS)

    def _wire(self) -> None:
        self.kinds.currentRowChanged.connect(lambda _row: self._on_kind())
        self.of.activated.connect(lambda _i: self._choose(of=str(self.of.currentData()), made=""))
        self.made.activated.connect(lambda _i: self._choose(made=str(self.made.currentData())))
        self.sort.activated.connect(lambda _i: self._choose(sort=str(self.sort.currentData())))
        self.parts.itemChanged.connect(lambda _item: self._on_parts())
        self.note.textChanged.connect(self._on_typing)
        self._typing.timeout.connect(self._on_note)
        self.export.clicked.connect(self.ask_export)
        self.print.clicked.connect(self.ask_print)
        self.stems.clicked.connect(self.ask_stems)
        self.hand.clicked.connect(self.ask_hand_over)

    # --- the frame's calls ---

    @property
    def settled(self) -> bool:
        """Whether the page is that of the session as it is now."""
        made = self._made == self._signature() and not self._typing.isActive()
        return not self._shown or (made and self.page.laid)

    def take_focus(self) -> None:
        """The view is shown."""
        self._tell_loops(self._document.session)
        self.said.emit("Up and Down choose a sheet, E exports it, Ctrl+P prints it.")
        self._shown = True
        self._show_choices()
        self._make()
        self.kinds.setFocus()

    def leave(self) -> None:
        """Another view is shown."""
        self._on_note()
        self._shown = False

    def close_down(self) -> None:
        """The session goes."""
        self._typing.stop()

    def _on_change(self, before: Session, after: Session) -> None:
        if before is after or not self._shown:
            return
        self._tell_loops(after)
        self._show_choices()
        self._make()

    # --- what is wanted ---

    @property
    def choice(self) -> SheetChoice:
        """What goes into the sheet of this kind."""
        return self._document.session.sheets.get(self.kind, SheetChoice())

    def wanted(self) -> Wanted:
        """The sheet that is asked for; what is gone since is left to what is usual."""
        session, choice = self._document.session, self.choice
        takes = {take.id: take for take in session.takes}
        of = choice.of
        take = takes.get(of) if self.kind in OF_TAKE else None
        made = choice.made if take and any(one.id == choice.made for one in take.passes) else ""
        rigs = {rig.id for rig in session.rigs}
        tones = {tone.id for tone in session.tones}
        return Wanted(
            self.kind,
            take=take.id if take is not None else "",
            made=made if self.kind == "recall" else "",
            rig=of if self.kind in OF_RIG and of in rigs else "",
            tone=of if self.kind == "tone" and of in tones else "",
            note=choice.note,
            sort=choice.sort,
            without=frozenset(choice.without),
        )

    def _signature(self) -> _Of:
        return _Of(self.wanted(), self._document.session)

    def _choose(self, **values: object) -> None:
        # Checked like a file: what is kept can be opened again.
        choice = SheetChoice.model_validate({**self.choice.model_dump(), **values})
        if choice != self.choice:
            self._document.apply(edits.choose_sheet(self.kind, choice), merge=f"sheet {self.kind}")

    def _on_kind(self) -> None:
        self._on_note()
        if self.kinds.currentRow() < 0:
            return
        self.kind = self.kinds.currentItem().data(Qt.ItemDataRole.UserRole)
        self._show_choices()
        self._make()

    def _on_parts(self) -> None:
        if self._filling:
            return
        without = [
            self.parts.item(row).text()
            for row in range(self.parts.count())
            if self.parts.item(row).checkState() is Qt.CheckState.Unchecked
        ]
        gone = [title for title in self.choice.without if title not in self._titles]
        self._choose(without=(*without, *gone))

    def _on_typing(self) -> None:
        if not self._filling:
            self._typing.start()

    def _on_note(self) -> None:
        self._typing.stop()
        text = "".join(
            sign for sign in self.note.toPlainText() if sign in "\n\t" or category(sign) != "Cc"
        )
        if not self._filling and text != self._noted[1]:
            self._noted = (self.kind, text[:MOST_NOTE])
            self._choose(note=text[:MOST_NOTE])

    # --- on screen ---

    def _show_choices(self) -> None:
        self._filling = True
        session, choice = self._document.session, self.choice
        self.of.clear()
        usual = "Keepers, else the latest" if self.kind == "tracks" else "The usual one"
        entries: list[tuple[str, str]] = []
        if self.kind in OF_RIG:
            entries = [(rig.id, rig.name) for rig in session.rigs]
            usual = "The rig that records"
        elif self.kind in OF_TAKE:
            entries = [(take.id, take.name) for take in session.takes]
            usual = usual if self.kind == "tracks" else "The latest"
        elif self.kind == "tone":
            entries = [(tone.id, tone.name) for tone in session.tones]
            usual = "Every tone"
        self.of.addItem(usual, "")
        for ident, name in entries:
            self.of.addItem(name, ident)
        choose(self.of, choice.of)
        self.of.setEnabled(bool(entries))
        take = next((one for one in session.takes if one.id == choice.of), None)
        self.made.clear()
        self.made.addItem("The take itself", "")
        for made in take.passes if take is not None else ():
            self.made.addItem(made.name, made.id)
        choose(self.made, choice.made)
        self.made.setVisible(self.kind == "recall")
        self.made.setEnabled(self.made.count() > 1)
        # What is being typed stays; what was kept is shown as it is kept now.
        if self._noted[0] != self.kind or self.note.toPlainText() == self._noted[1]:
            self._noted = (self.kind, choice.note)
            if self.note.toPlainText() != choice.note:
                self.note.setPlainText(choice.note)
        writable = not self._document.read_only
        for widget in (self.parts, self.note, self.sort):
            widget.setEnabled(writable)
        self._filling = False

    def _make(self) -> None:
        """The page anew, where what it is made of changed."""
        if not self._shown:
            return
        signature = self._signature()
        if self._asked == signature:
            return
        self._asked = signature
        session, store, wanted = self._document.session, self._document.store, self.wanted()

        def work(_progress: Progress, cancel: CancelToken) -> tuple[Sheet, Sheet]:
            stored = stored_of(session, store) if wanted.kind in PLANNED else NOTHING_STORED
            sheet = make_sheet(session, wanted, store, stored, cancel)
            if not wanted.without:
                return sheet, sheet
            # What can be put back is listed, too.
            bare = Wanted(wanted.kind, wanted.take, wanted.made, wanted.rig, wanted.tone)
            if wanted.kind == "compare":
                return sheet, sheet
            return sheet, make_sheet(session, bare, store, stored, cancel)

        def done(found: tuple[Sheet, Sheet]) -> None:
            sheet, whole = found
            self._made = signature
            titles = part_titles(whole)
            if wanted.kind == "compare":
                titles = tuple(dict.fromkeys((*titles, *sorted(wanted.without))))
            self._list_parts(titles, wanted.without)
            self._list_heads(whole, wanted.sort)
            self.page.show_sheet(sheet)
            self._can(on=True)
            self._again()

        def failed(error: Exception) -> None:
            if isinstance(error, CancelledError):
                self._asked = None
                return
            self._made = signature
            self.page.show_words(str(error) if isinstance(error, DiaulosError) else repr(error))
            self._can(on=False)
            self._again()

        if self.page.sheet is None or self.page.sheet.kind != wanted.kind:
            self.page.show_words("Making the sheet\N{HORIZONTAL ELLIPSIS}")
            self._can(on=False)
        self._jobs.start(Job("sheet", work, done, failed, background=True))

    def _again(self) -> None:
        if self._made != self._signature():
            self._asked = None
            self._make()

    def _can(self, *, on: bool) -> None:
        self.export.setEnabled(on)
        self.print.setEnabled(on)

    def _list_parts(self, titles: tuple[str, ...], without: frozenset[str]) -> None:
        if titles == self._titles and self.parts.count() == len(titles):
            return
        self._filling, self._titles = True, titles
        self.parts.clear()
        for title in titles:
            item = QListWidgetItem(title)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            state = Qt.CheckState.Unchecked if title in without else Qt.CheckState.Checked
            item.setCheckState(state)
            self.parts.addItem(item)
        self._filling = False

    def _list_heads(self, sheet: Sheet, sort: str) -> None:
        heads = tuple(
            dict.fromkeys(
                head for part in sheet.parts if isinstance(part, Rows) for head in part.head if head
            )
        )
        blocker = QSignalBlocker(self.sort)
        if heads != self._heads or self.sort.count() == 0:
            self._heads = heads
            self.sort.clear()
            self.sort.addItem("as it comes", "")
            for head in heads:
                self.sort.addItem(head, head)
        choose(self.sort, sort if sort in heads else "")
        del blocker

    # --- ways out ---

    def ask_export(self) -> None:
        """The sheet as a file; its kind by how the name ends."""
        sheet = self.page.sheet
        if sheet is None or not self.settled:
            self.said.emit("The sheet is not made yet.")
            return
        name = f"{sheet.title}, {sheet.under}".replace("/", "-")[:80]
        path = ask_to_save(
            self.window(), "Export sheet", f"{name}.pdf", "PDF (*.pdf);;HTML (*.html);;CSV (*.csv)"
        )
        if not path:
            return
        target = Path(path)
        if not target.suffix:
            target = target.with_name(f"{target.name}.pdf")
        paper = str(self.paper.currentData())

        def work(_progress: Progress, _cancel: CancelToken) -> None:
            # The dialog has asked whether a file may go.
            wiring.write_sheet_file(sheet, target, paper, replace=True)

        self._jobs.start(
            Job("Exporting the sheet", work, lambda _none: self.said.emit(f"Exported: {target}"))
        )

    def ask_print(self) -> None:
        """The sheet on a printer."""
        sheet = self.page.sheet
        if sheet is None or not self.settled:
            self.said.emit("The sheet is not made yet.")
            return
        from PySide6.QtPrintSupport import QPrintDialog, QPrinter

        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        printer.setDocName(f"{sheet.title}, {sheet.under}")
        dialog = QPrintDialog(printer, self.window())
        if dialog.exec() == QPrintDialog.DialogCode.Accepted:
            self.print_on(printer, sheet)
            self.said.emit("Printed.")

    def print_on(self, printer: object, sheet: Sheet) -> None:
        """Print it, black and white as well as in colour."""
        from PySide6.QtGui import QTextDocument
        from PySide6.QtPrintSupport import QPrinter

        assert isinstance(printer, QPrinter)
        printer.setPageMargins(print_margins())
        document = QTextDocument()
        fill_document(document, sheet, "", wiring.drawing_svg)
        document.print_(printer)

    def ask_stems(self) -> None:
        """Tracks and passes as files for another recorder."""
        session, store = self._document.session, self._document.store
        if not session.takes:
            self.said.emit("There is no take to make stems of.")
            return
        dialog = StemsDialog(session, self.window())
        if dialog.exec() != StemsDialog.DialogCode.Accepted or not dialog.stems:
            return
        folder = ask_folder(self.window(), "Folder for the stems")
        if not folder:
            return
        stems, choice, clock = dialog.stems, dialog.choice, self._services.clock
        out = Path(folder)

        def work(progress: Progress, cancel: CancelToken) -> dict[str, int]:
            clipped, _ = wiring.write_stem_files(
                session, stems, choice, store, out, progress=progress, cancel=cancel, clock=clock
            )
            return clipped

        def done(clipped: dict[str, int]) -> None:
            loud = [file for file, count in clipped.items() if count]
            words = f"{counted(len(stems), 'stem')} written: {out}"
            self.said.emit(f"{words}. Clipped: {', '.join(loud)}" if loud else words)

        self._jobs.start(Job("Writing stems", work, done))

    def ask_hand_over(self) -> None:
        """The session in one file."""
        session, store = self._document.session, self._document.store
        dialog = HandingDialog(session, store.has_file, self.window())
        if dialog.exec() != HandingDialog.DialogCode.Accepted:
            return
        name = session.name.replace("/", "-")
        kinds = f"Packed session (*{wiring.PACKED})"
        path = ask_to_save(self.window(), "Hand over", f"{name}{wiring.PACKED}", kinds)
        if not path:
            return
        target = Path(path)
        if target.suffix != wiring.PACKED:
            target = target.with_name(target.name + wiring.PACKED)
        packing = dialog.packing
        assert isinstance(store, wiring.SessionFolder)

        def work(progress: Progress, cancel: CancelToken) -> int:
            return wiring.pack(
                store, packing, target, replace=True, progress=progress, cancel=cancel
            )

        self._jobs.start(
            Job("Packing", work, lambda size: self.said.emit(
                f"Packed: {target}, {number(size / 1e6)} MB"))
        )  # fmt: skip

    def copy_image(self) -> None:
        """The page into the clipboard."""
        self.page.copy_image()

    def copy_csv(self) -> None:
        """The sheet's figures into the clipboard."""
        if self.page.sheet is not None:
            QGuiApplication.clipboard().setText(
                wiring.sheet_bytes(self.page.sheet, ".csv").decode()
            )
