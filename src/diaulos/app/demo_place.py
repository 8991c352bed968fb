"""Where the demo session lies, and how it is made: by the bench, where it is asked for."""

from __future__ import annotations

import os
from pathlib import Path

from diaulos.work.ports import CancelToken, Progress


def demo_path() -> Path:
    """Where the demo session of this version lies."""
    from diaulos import __version__

    base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return Path(base) / "diaulos" / f"demo-{__version__}" / "Saltmarsh.diaulos"


def write_demo_to(path: Path, progress: Progress, cancel: CancelToken) -> object:
    """Play the demo's takes and write its session; nothing stays when it is cancelled."""
    from diaulos.demo.saltmarsh import write_demo

    def told(fraction: float, _text: str) -> None:
        cancel.check()
        progress(fraction, "Building the demo session")

    return write_demo(path, told)
