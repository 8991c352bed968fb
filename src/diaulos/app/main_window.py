"""The frame: rail, course strip, views, status line, menus.

It imports Qt only, so that it paints at once; the session and the views come after the
first paint (`attach`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import QChildEvent, QEvent, QObject, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QAction,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QKeySequence,
    QPaintEvent,
)
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QCheckBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)
from shiboken6 import isValid

from diaulos.app import theme
from diaulos.app.actions import ACTIONS, ActionSpec, with_views
from diaulos.app.breathing import breathe
from diaulos.app.commands import Commands
from diaulos.app.preferences import STUDIO, Preferences
from diaulos.app.view_table import FIRST, VIEWS, ViewRow
from diaulos.app.widgets.course_strip import CourseStrip
from diaulos.app.widgets.house_line import HouseLine, Note
from diaulos.app.widgets.labels import ElidedLabel, RichLabel, TextLabel
from diaulos.app.widgets.painted import rescale_all
from diaulos.app.widgets.rail import Rail
from diaulos.app.widgets.welcome import Welcome
from diaulos.app.widgets.wrapping import PageArea, Pages
from diaulos.ids import BENCH

BETWEEN_MS = 20
"""Between two parts that are dressed without being seen: keys and clicks go first."""
FILES_SIZE = QSize(760, 500)
"""Of a question for files, where the desktop has none of its own."""
TURNED = {"backButton": 90, "toParentButton": 180, "forwardButton": 270}
"""The arrows there, in degrees from one that points down."""
USUAL_SIZE, LEAST_SIZE = QSize(1280, 800), QSize(1024, 700)
GUARDED = "guarded"
"""A button that Space presses when it has the keys."""


def first_size(room: QSize) -> QSize:
    """How large the window is at first, on a screen with this room: not larger than it, but never
    smaller than it works."""
    return USUAL_SIZE.boundedTo(room).expandedTo(LEAST_SIZE)


class MainWindow(QMainWindow):
    """The window. What it does is asked of the desk, which comes with the session."""

    painted = Signal()

    def __init__(self, preferences: Preferences, views: tuple[ViewRow, ...] = VIEWS) -> None:
        super().__init__()
        self.preferences, self.views = preferences, views
        self.desk: Commands | None = None
        self._specs = with_views(ACTIONS, views)
        self._actions: dict[str, QAction] = {}
        self._painted = False
        self._resting = QTimer(self)
        self._resting.setInterval(BETWEEN_MS)
        self._resting.timeout.connect(self._dress_next)
        self._manual: QDialog | None = None
        self.setWindowTitle("Diaulos")
        self.setAcceptDrops(True)
        self.resize(first_size(self.screen().availableGeometry().size()))
        self.strip = CourseStrip()
        self.rail = Rail([(row.ident, row.title, row.key) for row in views])
        self.rail.chosen.connect(self._show)
        self.rail.trainer_asked.connect(self._ask_trainer)
        self.stack = Pages()
        self._empty = RichLabel()
        self._empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._empty.setWordWrap(True)
        self.stack.addWidget(self._empty)
        self.welcome = Welcome(lambda: list(preferences.recent))
        self.welcome.asked.connect(self._on_welcome)
        self.welcome.recent_asked.connect(self._on_recent)
        self.stack.addWidget(self.welcome)
        self.say_empty("Opening\N{HORIZONTAL ELLIPSIS}")
        body = QWidget()
        row = QHBoxLayout(body)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self.rail)
        beside = QWidget()
        column = QVBoxLayout(beside)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.strip)
        self.area = PageArea(self.stack, "View")
        column.addWidget(self.area, 1)
        self.house_line = HouseLine()
        self._house_notes: dict[str, list[Note]] = {}
        column.addWidget(self.house_line)
        row.addWidget(beside, 1)
        self.setCentralWidget(body)
        self._status = ElidedLabel("")
        self._status.setAccessibleName("Status")
        self.statusBar().addWidget(self._status, 1)
        self._work = QHBoxLayout()
        self._work.setContentsMargins(0, 0, 0, 0)
        place = QWidget()
        place.setLayout(self._work)
        self.statusBar().addPermanentWidget(place)
        self._where = TextLabel("")
        self.statusBar().addPermanentWidget(self._where)
        self.device = QPushButton(STUDIO)
        self.device.setFlat(True)
        self.device.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.device.setAccessibleName("What is recorded from and reamped through")
        self.device.setToolTip("What is recorded from and reamped through; opens the preferences")
        self.device.clicked.connect(self.show_preferences)
        self.statusBar().addPermanentWidget(self.device)
        self.house = QPushButton("")
        self.house.setFlat(True)
        self.house.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.house.setAccessibleName("What departs from the house's practice")
        self.house.clicked.connect(self._ask_practices)
        self.house.hide()
        self.statusBar().addPermanentWidget(self.house)
        bars = (self.area.verticalScrollBar(), self.area.horizontalScrollBar())
        line = self.house_line
        for part in (self.menuBar(), self.rail, self.strip, self.statusBar(), line, *bars):
            theme.dress(part)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.focusChanged.connect(self._on_focus)
        self.stack.currentChanged.connect(self._on_page)
        self._on_page(self.stack.currentIndex())
        self._recent = QMenu("Open &recent", self)
        self._build_menus()
        self.update_actions()
        geometry = preferences.geometry
        if geometry is not None:
            self.restoreGeometry(geometry)

    def show_practice(
        self, words: str, more: str, notes: Mapping[str, Sequence[Note]] | None = None
    ) -> None:
        """What the house's practice says of this session, and the whole of it in the tooltip;
        nothing without one. `notes` stand at the foot of their views, by the view's id."""
        self._house_notes = {ident: list(some) for ident, some in (notes or {}).items()}
        self._show_house_line()
        self.house.setVisible(bool(words))
        self.house.setText(words)
        self.house.setToolTip(more)

    def _show_house_line(self) -> None:
        shown = getattr(self.stack.currentWidget(), "ident", "")
        self.house_line.show_notes(self._house_notes.get(shown, []))

    def _ask_practices(self) -> None:
        self._actions["practices"].trigger()

    def _ask_trainer(self) -> None:
        self._actions["trainer"].trigger()

    # --- menus ---

    def _build_menus(self) -> None:
        menus: dict[str, QMenu] = {}
        for spec in self._specs:
            menu = self._menu(spec.menu, menus)
            if spec.separator:
                menu.addSeparator()
            action = QAction(spec.title, self)
            if spec.key:
                action.setShortcuts([QKeySequence(key) for key in (spec.key, spec.also) if key])
            action.triggered.connect(lambda _=False, which=spec: self._call(which))
            menu.addAction(action)
            self._actions[spec.ident] = action
            if spec.ident == "open":
                menu.addMenu(self._recent)
        self._recent.aboutToShow.connect(self._fill_recent)

    def _menu(self, path: str, menus: dict[str, QMenu]) -> QMenu:
        """A menu by its name; "Recording > Range" is one in another."""
        if path not in menus:
            above, _, name = path.rpartition(" > ")
            parent = self._menu(above, menus) if above else self.menuBar()
            menus[path] = parent.addMenu(f"&{name}")
            menus[path].setToolTipsVisible(True)
        return menus[path]

    def action(self, ident: str) -> QAction:
        """An action by its id."""
        return self._actions[ident]

    def own_commands(self) -> dict[str, Callable[[], Any]]:
        """What the window does itself, whether a session is open or not."""
        return {
            "close": self.close,
            "toggle_look": self.toggle_look,
            "larger_text": lambda: self.zoom_text(1),
            "smaller_text": lambda: self.zoom_text(-1),
            "usual_text": lambda: self.zoom_text(0),
            "show_preferences": self.show_preferences,
            "show_manual": self.show_manual,
            "show_keys": self.show_keys,
            "show_glossary": self.show_glossary,
            "show_safety": self.show_safety,
            "show_about": self.show_about,
        }

    def _call(self, spec: ActionSpec) -> None:
        own = self.own_commands().get(spec.call)
        if own is not None:
            own()
        elif self.desk is None:
            return
        elif spec.show:
            self.desk.show(spec.show)
        elif spec.view:
            self.desk.call_view(spec.call)
        else:
            self.desk.call(spec.call)

    def _on_welcome(self, command: str) -> None:
        if self.desk is not None:
            self.desk.call(command)

    def _on_recent(self, path: str) -> None:
        if self.desk is not None:
            self.desk.open_path(path)

    def _show(self, ident: str) -> None:
        if self.desk is not None:
            self.desk.show(ident)
        if self.stack.currentWidget() is self.welcome:
            self.rail.show_chosen("")

    def _fill_recent(self) -> None:
        self._recent.clear()
        for path in self.preferences.recent:
            self._recent.addAction(path).triggered.connect(
                lambda _=False, p=path: self.desk and self.desk.open_path(p)
            )
        if not self.preferences.recent:
            self._recent.addAction("None yet").setEnabled(False)

    def update_actions(self) -> None:
        """Enable what can be done now."""
        state = self.desk.state() if self.desk is not None else set()
        own = self.own_commands()
        for spec in self._specs:
            ready = self.desk is not None or spec.call in own
            enabled = ready and (not spec.when or spec.when in state)
            enabled = enabled and (not spec.view or f"view {spec.view}" in state)
            self._actions[spec.ident].setEnabled(enabled)
            self._tell_why(spec.ident, "" if enabled else self._why_not(spec, state))
        undo, redo = self.desk.history_labels() if self.desk is not None else ("", "")
        for ident, word, label in (("undo", "&Undo", undo), ("redo", "&Redo", redo)):
            self._actions[ident].setText(f"{word} {label}".rstrip())
            self._actions[ident].setEnabled(bool(label) and "write" in state)
            why = self._tell_no_step(word.strip("&").lower(), state)
            self._tell_why(ident, "" if self._actions[ident].isEnabled() else why)

    def _tell_why(self, ident: str, why: str) -> None:
        # Qt tells the status tip of an entry to whoever chooses it, and a disabled one is never
        # chosen: the tooltip reaches the pointer.
        action = self._actions[ident]
        if action.statusTip() != why:  # each of the two is heard by every menu it stands in
            action.setStatusTip(why)
            action.setToolTip(why)

    @staticmethod
    def _tell_no_step(step: str, state: set[str]) -> str:
        if "open" not in state:
            return "Open a session first (Ctrl+O)."
        if "write" not in state:
            return "The session is open read-only."
        if "idle" not in state:
            return f"Nothing to {step}, or a take is recorded."
        return f"There is nothing to {step}."

    def _why_not(self, spec: ActionSpec, state: set[str]) -> str:
        """Why an entry cannot be chosen now, and what makes it possible."""
        if spec.when and "open" not in state:
            return "Open a session first (Ctrl+O)."
        if spec.when in ("write", "idle") and "write" not in state:
            return "The session is open read-only."
        if spec.when == "idle" and "idle" not in state:
            return "Something runs. It ends by itself, or with Esc."
        if spec.view and f"view {spec.view}" not in state:
            view = next(row for row in self.views if row.ident == spec.view)
            return f"It belongs to the view {view.title} ({view.key})."
        return ""

    # --- what it says ---

    def say(self, text: str) -> None:
        """The status line."""
        self._status.setText(text)

    def say_where(self, text: str) -> None:
        """What is open, and by which device it sounds."""
        self._where.setText(text)
        device = self.preferences.device
        self.device.setText(STUDIO if device == BENCH else device)

    def show_work(self, work: QWidget) -> None:
        """What tells how far a job is, in its place in the status line."""
        self._work.addWidget(work)

    def say_empty(self, text: str) -> None:
        """The middle, while there is no session."""
        self._empty.setText(text)
        self.stack.setCurrentWidget(self._empty)

    def show_welcome(self) -> None:
        """The ways to begin, while there is no session; nothing speaks of one any more."""
        self.setWindowTitle("Diaulos")
        self.strip.set_rows((), "")
        self.rail.show_chosen("")
        self.say("")
        self.say_where("")
        self.show_practice("", "")
        self.welcome.refresh()
        self.stack.setCurrentWidget(self.welcome)
        next(iter(self.welcome.buttons.values())).setFocus()

    def first_view(self) -> ViewRow:
        """The view that is shown when a session is opened: that of the last time."""
        rows = {row.ident: row for row in self.views}
        return rows.get(self.preferences.view) or rows[FIRST]

    def toggle_look(self) -> None:
        """Day or night."""
        look = theme.DAY if theme.current() is theme.NIGHT else theme.NIGHT
        self.dress(look, theme.zoom())

    def zoom_text(self, step: int) -> None:
        """Text one step larger (+1), smaller (-1), or as designed (0)."""
        self.dress(theme.current(), theme.next_zoom(step))
        self.say(f"Text at {theme.zoom():.0%}.")

    def dress(self, look: theme.Look, zoom: float) -> None:
        """This look, and text of this size; both are remembered."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        grown = zoom != theme.zoom()
        theme.apply(app, look, zoom, breathe)
        self.dress_rest()
        self.preferences.look, self.preferences.zoom = look.name, zoom
        if grown:
            rescale_all()

    def dress_rest(self) -> None:
        """Dress what is not seen, part by part, so that no step is felt."""
        self._resting.start()

    def _dress_next(self) -> None:
        if not theme.dress_next():
            self._resting.stop()

    def _on_page(self, index: int) -> None:
        page = self.stack.widget(index)
        if page is not None:
            theme.dress(page)
        self._show_house_line()

    def childEvent(self, event: QChildEvent) -> None:
        # Dialogs and menus come and go; they are dressed before they are painted. What else is
        # added, every entry of a menu, is not asked for: that takes a part of a millisecond each.
        if event.type() == QEvent.Type.ChildPolished:
            self._dress_child(event.child())
        super().childEvent(event)

    def _dress_child(self, child: QObject) -> None:
        if isinstance(child, QWidget):
            if child.isWindow():
                theme.dress(child)
            if isinstance(child, QFileDialog):
                # Dressed, its list asks for more than a small screen has, and is given it.
                most = child.maximumSize()
                child.setMaximumSize(FILES_SIZE)
                QTimer.singleShot(0, child, lambda: child.setMaximumSize(most))
                for button in child.findChildren(QToolButton):
                    if button.objectName() in TURNED:  # Qt's own are black on any paper
                        button.setIcon(theme.arrow(TURNED[button.objectName()]))

    def show_preferences(self) -> None:
        """The look, the size of text, folders, what is remembered."""
        from diaulos.app.dialogs.preferences import PreferencesDialog

        services = self.desk.services if self.desk is not None else None
        before = self.preferences.sounding
        PreferencesDialog(self.preferences, self.dress, self, services).exec()
        if self.desk is not None and self.preferences.sounding != before:
            self.desk.device_changed()

    def show_manual(self) -> None:
        """The shipped pages; they stay open beside the work."""
        from diaulos.app.actions import keys_html
        from diaulos.app.dialogs.manual import ManualDialog

        if self._manual is None:
            self._manual = ManualDialog(keys_html(self._specs), self)
        self._manual.show()
        self._manual.activateWindow()

    def show_keys(self) -> None:
        """Every key."""
        from diaulos.app.actions import keys_html
        from diaulos.app.dialogs.texts import TextDialog

        TextDialog("Keys", keys_html(self._specs), self).exec()

    def show_safety(self) -> None:
        """The notices, always at hand."""
        from diaulos.app.dialogs.texts import SAFETY, TextDialog

        TextDialog("Safety notices", SAFETY, self).exec()
        self.preferences.acknowledged = True

    def show_glossary(self) -> None:
        """The words of the program."""
        from diaulos.app.dialogs.texts import TextDialog, manual_page

        TextDialog("Words and units", manual_page("glossary"), self, markdown=True).exec()

    def show_about(self) -> None:
        """Version and licences."""
        from diaulos.app.dialogs.texts import TextDialog, about

        TextDialog("About Diaulos", about(), self).exec()

    # --- events ---

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if self.desk is not None and event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [url.toLocalFile() for url in event.mimeData().urls() if url.isLocalFile()]
        if self.desk is not None and paths:
            event.acceptProposedAction()
            self.desk.dropped([Path(path) for path in paths])

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if not self._painted:
            self._painted = True
            self.painted.emit()

    def guard_space(self, widget: QWidget) -> None:
        """Let Space press this button when it was reached by Tab, before it plays; Enter, too. In
        a list of ticks it ticks."""
        widget.setProperty(GUARDED, True)

    def _on_focus(self, before: QWidget | None, now: QWidget | None) -> None:
        # On the one button that has the keys: a filter in Python on all of them is asked at
        # everything that happens to each, and felt whenever a view is dressed.
        if before is not None and isValid(before):
            before.removeEventFilter(self)
        if now is not None and now.property(GUARDED):
            now.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent):
            if event.key() == Qt.Key.Key_Space:
                event.accept()
                return True
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            entered = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            own = not event.isAutoRepeat() and not isinstance(watched, QCheckBox)
            if entered and own and isinstance(watched, QAbstractButton):
                watched.click()  # outside of dialogs Qt has it do nothing
                return True
        return super().eventFilter(watched, event)

    def end_unasked(self) -> None:
        """The system ends the program: keep everything, ask nothing, close."""
        if self.desk is not None:
            self.desk.end_unasked()
        else:
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.desk is not None and not self.desk.closing():
            event.ignore()
            return
        if self.desk is not None:
            self.desk.shut_down()
        self.preferences.geometry = self.saveGeometry()
        event.accept()
