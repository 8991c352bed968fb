"""What the frame asks of the session behind it. The frame knows no more than this."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from diaulos.app.services import Services


class Commands(Protocol):
    """The desk, as the window sees it."""

    services: Services

    def state(self) -> set[str]:
        """Words that the table of actions asks for."""

    def history_labels(self) -> tuple[str, str]:
        """What undo and redo would do."""

    def call(self, name: str) -> None:
        """Carry out a command of the table of actions."""

    def call_view(self, name: str) -> None:
        """Carry out a command of the view on screen."""

    def device_changed(self) -> None:
        """Another device, or other outputs to listen by, were chosen."""

    def show(self, ident: str) -> None:
        """Show a view."""

    def open_path(self, path: str | Path) -> Any:
        """Open a session."""

    def dropped(self, paths: list[Path]) -> None:
        """A session folder or audio files were dropped onto the window."""

    def closing(self) -> bool:
        """The window wants to close: whether it may now. Otherwise it is closed later, when
        what runs has come to its end, or not at all."""

    def end_unasked(self) -> None:
        """The system ends the program: keep everything, ask nothing, close the window."""

    def shut_down(self) -> None:
        """The window closes."""
