"""Where the demo session lies, and how it is made: by the bench, while it can be looked at."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # asked for the place before the window is painted
    from diaulos.session.edits import Edit
    from diaulos.session.model import Session
    from diaulos.wiring import SessionFolder
    from diaulos.work.ports import CancelToken, Progress

BUILDING = "Building the demo session"


def demo_path() -> Path:
    """Where the demo session of this version lies."""
    from diaulos import __version__

    base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return Path(base) / "diaulos" / f"demo-{__version__}" / "Saltmarsh.diaulos"


def begun_demo(path: Path) -> tuple[SessionFolder, Session]:
    """A demo that nobody has played yet, ready to be shown."""
    from diaulos.demo.saltmarsh import begin_demo

    return begin_demo(path)


def is_unfinished(folder: SessionFolder, session: Session) -> bool:
    """Whether takes of the demo are still to be played."""
    if not folder.path.joinpath("unfinished").exists():
        return False
    from diaulos.demo.saltmarsh import unfinished

    return unfinished(folder, session)


def build_demo(
    folder: SessionFolder,
    session: Session,
    made: Callable[[Edit], None],
    progress: Progress,
    cancel: CancelToken,
) -> None:
    """Play what is missing, and hand over each part as it is there. A demo whose building is
    cancelled stays as far as it got, and is gone on with when it is opened again."""
    from diaulos.demo.saltmarsh import demo_steps

    for fraction, text, step in demo_steps(folder):
        cancel.check()
        progress(fraction, f"{BUILDING}: {text[0].lower()}{text[1:]}")
        change = step(session)
        session = change(session)
        made(change)


def finish(folder: SessionFolder) -> None:
    """All of it is there, and saved."""
    from diaulos.demo.saltmarsh import finish_demo

    finish_demo(folder)
