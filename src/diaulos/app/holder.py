"""The desk as its rooms see it: what is open, and how to ask and tell a person."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from diaulos.app.collecting import Keeper
from diaulos.app.document import Document
from diaulos.app.jobs import Jobs
from diaulos.app.main_window import MainWindow
from diaulos.app.services import Services
from diaulos.app.view import View
from diaulos.session.model import Session
from diaulos.wiring import SessionFolder
from diaulos.work.reamp.words import Loops


class Holder(Protocol):
    """Who holds the session that is open."""

    window: MainWindow
    services: Services
    jobs: Jobs
    document: Document | None
    folder: SessionFolder | None
    views: dict[str, View]
    keeper: Keeper
    ended: bool

    def save(self, then: Callable[[], None] | None = None) -> None:
        """Save; `then` is called when it is on the disk."""

    def attach(
        self,
        folder: SessionFolder,
        session: Session,
        *,
        unsaved: bool = False,
        loops: Loops | None = None,
        view: str = "",
    ) -> None:
        """Show this session in place of the one before, in this view or in that of the last
        time; `loops` knows its rigs already."""

    def show(self, ident: str) -> None:
        """Show a view."""

    def detach(self) -> None:
        """Let go of the session that is open."""

    def ask(self, title: str, text: str, *answers: str, no: str = "Cancel") -> int:
        """Ask; which answer was given, -1 for `no` and Esc."""

    def hush(self) -> None:
        """Playback pauses, wherever it comes from."""

    def show_problem(self, error: Exception) -> None:
        """Say what went wrong and what to do."""

    def may_leave(self, then: Callable[[], Any]) -> bool:
        """Whether the open session may be left now. When something runs that ends first,
        `then` is called when it has ended."""
