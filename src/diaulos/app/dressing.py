"""Who wears the style sheet: the parts of a page, one after the other.

Qt works a style sheet out widget by widget, a tenth of a millisecond for a label and one or two
for a drop-down. A page of hundreds in one call would be felt. So a page does not wear the sheet
itself where it can be taken apart; its parts do, what is seen at once, what is not later. What
merely holds others is passed through: it may not be a widget that the sheet has rules for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from weakref import WeakSet

from PySide6.QtCore import QChildEvent, QEvent, QObject
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import (
    QDialogButtonBox,
    QScrollArea,
    QSplitter,
    QStackedWidget,
    QTabWidget,
    QWidget,
)
from shiboken6 import isValid

PART = 40
"""What has more widgets is taken apart,"""
LEAST = 20
"""where one of those in it has as many: a sheet is read anew for every part."""
HOLDERS = (QWidget, QScrollArea, QSplitter, QStackedWidget, QTabWidget)
"""The classes of Qt that the style sheet has no rules for: what is in them is dressed."""
LOOKED_AT = 60
"""So many parts are looked at in one step: all of seven pages would take as long as a picture."""
WORN = "worn"
OPEN = "taken apart"


def _inside(widget: QWidget) -> list[QWidget]:
    return [child for child in widget.children() if isinstance(child, QWidget)]


def _size(widget: QWidget) -> int:
    return 1 + len(widget.findChildren(QWidget))


def _holder(widget: QWidget) -> bool:
    """Whether it may go without the sheet: it has no name of its own there, and the class of Qt
    that it is made from has no rule."""
    if widget.objectName() and not widget.objectName().startswith("qt_"):
        return False
    made_from = next(one for one in type(widget).__mro__ if one.__module__.startswith("PySide6"))
    return made_from in HOLDERS


def _taken_apart(widget: QWidget) -> bool:
    """Whether its parts wear the sheet in its place. Decided once: what wears a sheet and lies
    in another that does would be worked out twice."""
    known = widget.property(OPEN)
    if known is None:
        large = _holder(widget) and _size(widget) > PART
        known = large and any(_size(one) >= LEAST for one in _inside(widget))
        widget.setProperty(OPEN, known)
    return bool(known)


def parts(root: QWidget) -> Iterator[QWidget]:
    """What wears the sheet, of a widget and all that is in it."""
    if not _taken_apart(root):
        yield root
        return
    for one in _inside(root):
        if isValid(one):  # between two parts a page may go
            yield from parts(one)


class Wardrobe(QObject):
    """The sheet of the look, and who is to wear it."""

    def __init__(self) -> None:
        super().__init__()
        self._sheet, self._count = "", 0
        self._roots: WeakSet[QWidget] = WeakSet()
        self._walk: Iterator[QWidget] | None = None
        """The parts of all pages, on the way through them; None at the end of it."""
        self._found = False
        """Whether one of this walk was dressed: there is another one then."""

    def change(self, sheet: str, between: Callable[[], None]) -> None:
        """Another sheet: what is on screen wears it at once, the rest when it is shown or when
        its turn comes. `between` is called between two parts."""
        self._sheet = sheet
        self._count += 1
        self._walk = None
        for root in self._known():
            if isValid(root) and (root.isVisible() or root.isWindow()):
                self.dress(root, between)

    def dress(self, root: QWidget, between: Callable[[], None] = lambda: None) -> None:
        """A widget and all that is in it wears the sheet, from now on."""
        self._roots.add(root)
        self._walk = None
        for part in list(parts(root)):
            if not isValid(root):
                return  # between two parts a page may go
            if not isValid(part) or self._wears(part):
                continue
            if part is not root and not part.isVisibleTo(root):
                part.installEventFilter(self)  # dressed before it is seen
                continue
            self._put_on(part)
            between()
            if isValid(root) and isValid(part) and not root.isVisible():
                _polish(part)  # else all of it at the moment when the page is shown
                between()
        if not isValid(root):
            return
        for holder in _holders(root):
            holder.installEventFilter(self)  # what comes later is dressed, too

    def dress_next(self) -> bool:
        """One step of the walk through what is not seen: dress a part, or look at some. Whether
        there may be more."""
        for _ in range(LOOKED_AT):
            if self._walk is None:
                self._walk, self._found = self._all(), False
            part = next(self._walk, None)
            if part is None:
                self._walk = None
                if not self._found:
                    return False
            elif isValid(part) and not self._wears(part):
                self._found = True
                self._put_on(part)
                break
        return True

    def _all(self) -> Iterator[QWidget]:
        for root in self._known():
            if isValid(root):
                yield from parts(root)

    def behind(self, root: QWidget) -> bool:
        """Whether a part of it wears the sheet of before, or none."""
        return any(not self._wears(part) for part in parts(root))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and isinstance(watched, QWidget):
            if watched.property(OPEN) is False and not self._wears(watched):
                self._put_on(watched)
        elif event.type() == QEvent.Type.ChildPolished and isinstance(event, QChildEvent):
            child = event.child()
            if isinstance(child, QWidget) and child.property(OPEN) is None:
                child.setProperty(OPEN, False)
                self._put_on(child)
        return False

    def _known(self) -> list[QWidget]:
        for root in list(self._roots):
            if not isValid(root):
                self._roots.discard(root)
        return list(self._roots)

    def _wears(self, part: QWidget) -> bool:
        return bool(part.property(WORN) == self._count)

    def _put_on(self, part: QWidget) -> None:
        part.removeEventFilter(self)
        part.setProperty(WORN, self._count)
        part.setStyleSheet(self._sheet)
        # A desktop's own icons come with the button, before any style sheet says no.
        for box in part.findChildren(QDialogButtonBox):
            for button in box.buttons():
                button.setIcon(QIcon())


def _polish(part: QWidget) -> None:
    for widget in (part, *part.findChildren(QWidget)):
        widget.ensurePolished()


def _holders(root: QWidget) -> Iterator[QWidget]:
    """What was taken apart."""
    if _taken_apart(root):
        yield root
        for one in _inside(root):
            yield from _holders(one)
