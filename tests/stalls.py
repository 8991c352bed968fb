"""How long the window stalls in a large session: 300 takes, 40 devices.

Run by the benchmark: `python stalls.py DEMO` makes the large session from a copy of the demo,
opens it, shows every view twice, switches the look, chooses courses in Levels, and prints the
longest gap of a 5 ms timer for each as JSON, in ms; ahead of it for nothing at all. The disk is a
slow one.
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtWidgets import QApplication

from diaulos.app import theme
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.app.start import Starter
from diaulos.rig.templates import Patch
from diaulos.session import edits
from diaulos.storage.settings import SettingsFile
from diaulos.wiring import SessionFolder
from heartbeat import Beat

TAKES, DEVICES = 300, 40
DISK_S = 0.2
"""What the disk takes to confirm a file: a window that waits for it stands still as long."""


def slow_disk() -> None:
    real = os.fsync

    def fsync(handle: int) -> None:
        time.sleep(DISK_S)
        real(handle)

    os.fsync = fsync


def forty():  # type: ignore[no-untyped-def]
    """Nineteen guitars by boxes of their own into one interface or another: forty devices."""
    patch = Patch("Forty")
    patch.add("computer", "computer")
    for g in range(3):
        patch.add("interface8", f"interface{g}", **{f"mode{n}": "mic" for n in range(1, 9)})
    for n in range((DEVICES - 4) // 2):
        g, port = divmod(n, 8)
        patch.add("guitar", f"guitar{n}").add("active_di", f"di{n}")
        patch.join(f"guitar{n}.out", f"di{n}.in")
        patch.join(f"di{n}.out", f"interface{g}.in{port + 1}")
        patch.record(f"interface{g}.rec{port + 1}", n + 1, f"Track {n + 1}")
    return patch.rig("forty")


def enlarge(path: Path) -> None:
    """Takes over and over, with their audio, and a rig of forty devices."""
    folder = SessionFolder.open(path)
    session = folder.load()
    stored = session.takes
    more = tuple(
        stored[n % len(stored)].model_copy(update={"id": f"t{n + 1000:04d}", "name": f"Take {n}"})
        for n in range(TAKES - len(stored))
    )
    session = session.model_copy(update={"takes": (*stored, *more)})
    session = edits.add_rig(forty())(session)
    session = edits.choose_recording_rig("forty")(session)
    folder.save(session)
    folder.close()


def main() -> None:
    path = Path(sys.argv[1])
    enlarge(path)
    slow_disk()
    app = QApplication([])
    theme.load_fonts()
    theme.apply(app, theme.DAY)

    def until(condition: Callable[[], bool], seconds: float = 120.0) -> None:
        end = time.monotonic() + seconds
        while not condition() and time.monotonic() < end:
            app.processEvents()
            time.sleep(0.001)

    settings = SettingsFile(Path(tempfile.mkdtemp()) / "s.json")
    window = MainWindow(Preferences(settings))
    window.resize(1280, 800)  # as on a usual screen; the one that is not there is smaller
    window.show()
    starter = Starter(window, None, False, Services.of_this_machine())
    starter.begin()
    until(lambda: window.desk is not None)
    desk = window.desk
    until(lambda: False, 3.0)  # what is warmed behind the first paint
    beat, gaps = Beat(), {}

    def timed(name: str, act: Callable[[], object]) -> None:
        beat.start()
        act()
        until(lambda: False, 0.1)
        until(lambda: desk.jobs.quiet and all(v.settled for v in desk.views.values()))
        until(lambda: False, 0.1)
        gaps[name] = round(beat.stop(), 1)

    timed("nothing", lambda: until(lambda: False, 3.0))
    timed("open", lambda: desk.open_path(path))
    for turn in ("first", "again"):
        for row in window.views:
            timed(f"{row.ident} {turn}", lambda ident=row.ident: desk.show(ident))
    timed("look", window.toggle_look)
    timed("look back", window.toggle_look)
    timed("zoom", lambda: window.zoom_text(1))
    timed("zoom back", lambda: window.zoom_text(0))
    desk.show("levels")
    for name in ("Track 2", "Track 9", "Track 17"):
        timed(f"course {name}", lambda key=name: desk.views["levels"].choose_course(key))
    print(json.dumps(gaps, indent=1))
    desk.document.mark_saved(desk.document.session)
    window.close()
    until(lambda: not window.isVisible(), 20.0)


if __name__ == "__main__":
    main()
