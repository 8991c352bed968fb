"""Long work on the window's thread: the window lives meanwhile; what stays is left alone."""

from __future__ import annotations

import gc
import threading
import weakref
from collections.abc import Callable, Iterator
from functools import partial

import pytest
from PySide6.QtCore import QObject, QPoint, QTimer
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from diaulos.app import desk as desk_module
from diaulos.app.breathing import InTurn, beside, breathe
from diaulos.app.collecting import Keeper, held_back
from diaulos.app.desk import Desk
from diaulos.app.views.takes.layout import TakesLayout
from diaulos.app.views.takes.setup import SetupBar
from diaulos.wiring import SessionFolder


@pytest.fixture(autouse=True)
def nothing_kept() -> Iterator[None]:
    yield
    gc.unfreeze()
    gc.enable()


class Circle:
    """What refers to itself, as a view does."""

    def __init__(self) -> None:
        self.me = self


def test_the_window_lives_while_work_is_done_beside(qtbot) -> None:
    beaten = threading.Event()
    QTimer.singleShot(0, beaten.set)

    # Would wait for ever if no timer of the window could beat meanwhile.
    assert beside(lambda: beaten.wait(60.0)) is True


def test_what_fails_beside_is_raised_where_it_was_asked_for(qtbot) -> None:
    def work() -> None:
        raise LookupError("not there")

    with pytest.raises(LookupError, match="not there"):
        beside(work)


def test_a_breath_lets_timers_beat(qtbot) -> None:
    beaten: list[int] = []
    QTimer.singleShot(0, lambda: beaten.append(1))

    breathe()

    assert beaten == [1]


def test_nothing_is_looked_through_while_it_is_held_back_by_anybody() -> None:
    with held_back():
        with held_back():
            assert not gc.isenabled()
        assert not gc.isenabled()
    assert gc.isenabled()


def test_what_is_there_to_stay_is_kept_once_the_program_runs() -> None:
    keeper = Keeper()
    keeper.keep()
    assert gc.get_freeze_count() == 0  # in a test, say: not active

    keeper.active = True
    keeper.keep()
    assert gc.get_freeze_count() > 0


def test_views_are_not_kept() -> None:
    keeper = Keeper()
    keeper.active = True
    keeper.view_made()

    keeper.keep()

    assert gc.get_freeze_count() == 0


def test_views_that_were_caught_go_when_the_session_is_closed() -> None:
    keeper = Keeper()
    keeper.active = True
    view = Circle()
    left = weakref.ref(view)
    keeper.view_made()
    keeper.keep(views_too=True)
    del view
    gc.collect()
    assert left() is not None  # caught

    keeper.closed()

    assert left() is None
    assert gc.get_freeze_count() > 0


def test_a_session_that_goes_while_its_view_is_made_leaves_nothing(opened: Desk) -> None:
    QTimer.singleShot(0, opened.detach)

    opened.show("sheets")

    assert opened.views == {}
    assert opened.document is None


def test_the_program_may_end_while_a_session_is_read(opened: Desk) -> None:
    assert opened.folder is not None
    path = opened.folder.path
    opened.detach()
    QTimer.singleShot(0, opened.shut_down)

    assert not opened.open_path(path)

    assert opened.document is None
    folder = SessionFolder.open(path)  # nobody holds it
    assert not folder.read_only
    folder.close()


def test_the_program_may_end_while_the_first_view_is_made(
    opened: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert opened.folder is not None
    path = opened.folder.path
    opened.detach()
    monkeypatch.setattr(desk_module, "breathe", opened.shut_down)

    opened.open_path(path)

    assert opened.document is None
    assert opened.views == {}


def test_a_session_that_goes_between_two_parts_of_a_view_leaves_nothing(
    opened: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    made: list[str] = []
    real = SetupBar.__init__

    def init(self: SetupBar) -> None:
        made.append("first part")
        real(self)
        QTimer.singleShot(0, opened.detach)

    monkeypatch.setattr(SetupBar, "__init__", init)
    monkeypatch.setattr(TakesLayout, "_place", lambda _self: made.append("placed"))

    opened.show("takes")

    assert made == ["first part"]
    assert opened.views == {}


def test_a_view_is_made_once_however_often_it_is_asked_for(
    opened: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    made: list[str] = []
    real = TakesLayout._place

    def place(self: TakesLayout) -> None:
        made.append("placed")
        real(self)

    monkeypatch.setattr(TakesLayout, "_place", place)
    QTimer.singleShot(0, lambda: opened.show("takes"))

    opened.show("takes")

    assert made == ["placed"]
    assert opened.current is opened.views["takes"]


def test_steps_in_turn_leave_the_window_its_own(qtbot: QtBot) -> None:
    seen: list[str] = []
    owner = QObject()
    steps = InTurn(owner)

    def step(name: str) -> None:
        seen.append(name)
        QTimer.singleShot(0, lambda: seen.append("the window"))

    steps.begin([partial(step, "old")])
    steps.begin([partial(step, "one"), partial(step, "two")])
    assert not steps.done
    assert seen == []

    qtbot.waitUntil(lambda: len(seen) == 4)

    assert steps.done
    assert seen == ["one", "the window", "two", "the window"]
    steps.begin([partial(step, "never")])
    steps.stop()
    qtbot.wait(20)
    assert len(seen) == 4


@pytest.mark.parametrize("turn", ["first", "again"])
def test_what_was_there_stays_on_screen_until_a_view_is_ready(
    opened: Desk,
    monkeypatch: pytest.MonkeyPatch,
    settled: Callable[[Desk], None],
    qtbot: QtBot,
    turn: str,
) -> None:
    window = opened.window
    if turn == "again":
        opened.show("instruments")
        settled(opened)
    opened.show("sheets")
    settled(opened)
    qtbot.wait(50)

    def seen() -> QImage:
        whole = window.screen().grabWindow(window.winId()).toImage()
        return whole.copy(window.stack.rect().translated(window.stack.mapTo(window, QPoint())))

    before, during = seen(), []

    def watched() -> None:
        breathe()
        during.append(seen())

    monkeypatch.setattr(desk_module, "breathe", watched)
    opened.show("instruments")
    monkeypatch.undo()
    settled(opened)
    qtbot.wait(50)

    assert len(during) >= 3
    assert during[-1] != before
    # One after the other: nothing of both, nothing of neither.
    first = next(at for at, one in enumerate(during) if one != before)
    assert all(one == before for one in during[:first])
    assert first >= 2
    plain = {during[first].pixel(x, y) for x in range(300, 700, 7) for y in range(120, 500, 7)}
    assert len(plain) > 3
    for widget in opened.views["instruments"].findChildren(QWidget):
        assert widget.updatesEnabled(), widget
