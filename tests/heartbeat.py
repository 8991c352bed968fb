"""How long the window stalls: a timer that should beat every 5 ms, and the longest gap.

Run by the benchmark: `python heartbeat.py SESSION` records sixteen tracks in real time from
a cheap source with the Takes view on screen, then walks through the Levels view, and prints
the longest gap of each in ms.
"""

from __future__ import annotations

import os
import sys
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from known_source import KnownBackend
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from diaulos.app import theme
from diaulos.app.desk import Desk
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.rig.templates import Patch
from diaulos.session.edits import add_rig, choose_rig
from diaulos.storage.settings import SettingsFile


def sixteen():  # type: ignore[no-untyped-def]
    """Sixteen guitars into two interfaces."""
    patch = Patch("Sixteen")
    for g in range(2):
        patch.add("interface8", f"interface{g}", **{f"mode{n}": "mic" for n in range(1, 9)})
    patch.add("computer", "computer")
    for n in range(16):
        g, port = divmod(n, 8)
        patch.add("guitar", f"guitar{n}").add("active_di", f"di{n}")
        patch.join(f"guitar{n}.out", f"di{n}.in")
        patch.join(f"di{n}.out", f"interface{g}.in{port + 1}")
        patch.record(f"interface{g}.rec{port + 1}", n + 1, f"Track {n + 1}")
    return patch.rig("sixteen")


class Beat:
    """Beats, and remembers the longest gap."""

    def __init__(self) -> None:
        self.last, self.longest = time.perf_counter(), 0.0
        self.timer = QTimer()
        self.timer.setInterval(5)
        self.timer.timeout.connect(self._on)

    def start(self) -> None:
        self.last, self.longest = time.perf_counter(), 0.0
        self.timer.start()

    def stop(self) -> float:
        self.timer.stop()
        return self.longest * 1000.0

    def _on(self) -> None:
        now = time.perf_counter()
        self.longest = max(self.longest, now - self.last)
        self.last = now


def main() -> None:
    app = QApplication([])
    theme.load_fonts()
    theme.apply(app, theme.DAY)

    def until(condition: Callable[[], bool], seconds: float = 60.0) -> None:
        end = time.monotonic() + seconds
        while not condition() and time.monotonic() < end:
            app.processEvents()
            time.sleep(0.001)

    settings = SettingsFile(Path(tempfile.mkdtemp()) / "s.json")
    window = MainWindow(Preferences(settings))
    window.resize(1280, 800)  # as on a usual screen; the one that is not there is smaller
    services = replace(
        Services.of_this_machine(), record_from=lambda *_: KnownBackend(realtime=True)
    )
    desk = Desk(window, services)
    window.show()
    desk.open_path(sys.argv[1])
    until(lambda: desk.jobs.quiet)
    assert desk.document is not None
    desk.document.apply(add_rig(sixteen()))
    desk.show("takes")
    takes = desk.views["takes"]
    assert takes is not None
    until(lambda: takes.settled and desk.jobs.quiet)
    assert takes.ready is not None
    assert len(takes.ready.armed) == 16
    takes.setup.count_in.setValue(0)
    beat = Beat()
    takes.record()
    until(lambda: takes.recording is not None and takes.recording.recorder.captured_frames > 0)
    beat.start()
    until(lambda: False, 5.0)
    recording = beat.stop()
    lost = takes.recording.recorder.capture.ring.lost if takes.recording else -1
    takes.stop()
    until(lambda: not takes.under_way and desk.jobs.quiet)
    desk.document.apply(choose_rig("rig04"))
    desk.show("levels")
    levels = desk.views["levels"]
    assert levels is not None
    until(lambda: levels.settled and desk.jobs.quiet)
    beat.start()
    for name in ("Amp", "Amp and cabinet", "DI"):
        levels.choose_course(name)
        until(lambda: levels.settled and desk.jobs.quiet)
        until(lambda: False, 0.05)
    walking = beat.stop()
    field = levels.controls.fields["interface.gain1"]
    beat.start()
    for _ in range(5):
        field.value.stepUp()  # type: ignore[union-attr]
        until(lambda: levels.settled and desk.jobs.quiet)
        until(lambda: False, 0.05)
    turning = beat.stop()
    print(f"{recording:.1f} {lost} {walking:.1f} {turning:.1f}")
    desk.document.mark_saved(desk.document.session)
    window.close()


if __name__ == "__main__":
    main()
