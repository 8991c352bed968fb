"""The program as a process of its own, in a real window on a virtual screen.

Offscreen tests stay green where the X11 plugin cannot load; these do not. What is imported
before the first paint is checked here too: a gate without noise.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from diaulos.__main__ import main
from support import program

DRIVE = """
import json, os, sys, threading
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from diaulos.app import start, theme
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.storage.settings import SettingsFile
app = QApplication(["diaulos"])
theme.load_fonts()
settings = SettingsFile(Path(sys.argv[2]))
window = MainWindow(Preferences(settings))
starter = start.Starter(window, Path(sys.argv[1]), demo=False)
seen = {}
def painted():
    seen["heavy"] = sorted(set(sys.modules) & {
        "numpy", "scipy", "scipy.signal", "pydantic", "pyqtgraph", "networkx", "soundfile"})
    starter.begin()
window.painted.connect(lambda: QTimer.singleShot(0, painted))
def ready():
    desk = window.desk
    def look():
        view = desk.views["reamp"]
        if view is None or not desk.jobs.quiet or not view.settled:
            return
        timer.stop()
        seen["platform"] = app.platformName()
        seen["title"] = window.windowTitle()
        seen["cards"] = len(view.loop.cards)
        seen["size"] = [window.width(), window.height()]
        picture = window.screen().grabWindow(window.winId())
        seen["picture"] = [picture.width(), picture.height()]
        image = picture.toImage()
        seen["colours"] = len({image.pixel(x, y) for x in range(0, image.width(), 7)
                               for y in range(0, image.height(), 7)})
        window.resize(1300, 810)
        QTimer.singleShot(200, window.close)
    timer = QTimer(window)
    timer.timeout.connect(look)
    timer.start(50)
starter.wires.ready.connect(ready)
QTimer.singleShot(60000, lambda: (print("timed out"), app.exit(3)))
window.show()
code = app.exec()
# What is remembered is written behind; the program's end waits for it, and so does this.
for one in threading.enumerate():
    if one.name == "settings":
        one.join(60)
again = MainWindow(Preferences(settings))
seen["again"] = [again.width(), again.height()]
print(json.dumps(seen))
sys.exit(code)
"""


def environment(tmp_path: Path) -> dict[str, str]:
    kept = {k: v for k, v in os.environ.items() if k not in ("QT_QPA_PLATFORM", "DISPLAY")}
    return {**kept, "XDG_CONFIG_HOME": str(tmp_path / "c"), "XDG_DATA_HOME": str(tmp_path / "d")}


def test_a_real_window_opens_paints_and_is_remembered(demo_copy: Path, tmp_path: Path) -> None:
    xvfb = program("xvfb-run")
    run = subprocess.run(
        [xvfb, "-a", "-s", "-screen 0 1400x900x24", sys.executable, "-c", DRIVE, str(demo_copy),
         str(tmp_path / "settings.json")],
        env=environment(tmp_path), capture_output=True, text=True, timeout=120, check=False,
    )  # fmt: skip
    assert run.returncode == 0, run.stdout + run.stderr
    seen = json.loads(run.stdout.splitlines()[-1])
    assert seen["platform"] == "xcb"
    assert seen["heavy"] == []  # Qt alone before the first paint
    assert seen["title"].startswith("Saltmarsh")
    assert seen["cards"] == 8
    assert seen["size"] == [1280, 800]
    assert seen["picture"] == [1280, 800]
    assert seen["colours"] > 20
    assert seen["again"] == [1300, 810]
    assert not (demo_copy / "lock").exists()


def test_a_newcomer_finds_the_way_in_a_real_window(tmp_path: Path) -> None:
    """The stranger's way once more, where focus is given by the X server and not by Qt."""
    if os.environ.get("DIAULOS_IN_XVFB"):
        pytest.skip("this is the inner run")
    xvfb = program("xvfb-run")
    here = Path(__file__).parent
    run = subprocess.run(
        [xvfb, "-a", "-s", "-screen 0 1400x900x24", sys.executable, "-m", "pytest", "-q",
         "-p", "no:xdist", "-p", "no:cacheprovider", "-o", "addopts=", "-o", "qt_api=pyside6",
         "--basetemp", str(tmp_path / "inner"), str(here / "test_newcomer.py")],
        env={**environment(tmp_path), "QT_QPA_PLATFORM": "xcb", "DIAULOS_IN_XVFB": "1"},
        cwd=here.parent.parent, capture_output=True, text=True, timeout=600, check=False,
    )  # fmt: skip
    assert run.returncode == 0, run.stdout[-3000:] + run.stderr[-1000:]
    assert "2 passed" in run.stdout


def test_keys_wait_in_line_while_a_view_is_made(demo_copy: Path, tmp_path: Path) -> None:
    """Ctrl+4 and Space at once: Takes is made, and records. The window breathes while a view is
    made; a key that was let through then would have gone to the view of before."""
    xvfb = program("xvfb-run")
    run = subprocess.run(
        [xvfb, "-a", "-s", "-screen 0 1400x900x24", sys.executable,
         str(Path(__file__).parent / "pressing.py"), str(demo_copy),
         str(tmp_path / "settings.json")],
        env=environment(tmp_path), capture_output=True, text=True, timeout=240, check=False,
    )  # fmt: skip
    assert run.returncode == 0, run.stdout + run.stderr
    seen = json.loads(run.stdout.splitlines()[-1])
    assert seen == {
        "first": "instruments", "shown": "takes", "made": 2, "began": True, "platform": "xcb",
    }  # fmt: skip


def test_without_a_screen_it_says_so(tmp_path: Path) -> None:
    kept = {k: v for k, v in environment(tmp_path).items() if k != "WAYLAND_DISPLAY"}
    run = subprocess.run(
        [sys.executable, "-m", "diaulos", "demo"], env=kept, capture_output=True, text=True,
        timeout=60, check=False,
    )  # fmt: skip
    assert run.returncode == 1
    assert "no screen here" in run.stderr
    assert "Traceback" not in run.stderr


@pytest.mark.parametrize(
    ("words", "code", "text"),
    [
        (["demo", "--colour"], 2, "does not know"),
        (["a.diaulos", "b.diaulos"], 2, "give one session"),
        (["nowhere.diaulos"], 1, "no such session"),
    ],
)
def test_wrong_words_for_the_window(
    words: list[str], code: int, text: str, capsys: pytest.CaptureFixture[str]
) -> None:
    assert main(words) == code
    assert text in capsys.readouterr().err


READ = """
import linecache, sys
from PySide6.QtCore import QObject, Signal
from diaulos.app import start
if sys.argv[1] == "left alone":
    start.leave_sources_alone()
import numpy, diaulos.signal.checks
class Told(QObject):
    told = Signal(int)
got, told = [], Told()
told.told.connect(got.append)
told.told.emit(7)
assert got == [7]
print(sum("site-packages/numpy" in name for name in linecache.cache))
"""


def test_sources_of_what_is_imported_are_not_read() -> None:
    def read(how: str) -> int:
        run = subprocess.run(
            [sys.executable, "-c", READ, how],
            capture_output=True, text=True, timeout=120, check=True,
        )  # fmt: skip
        return int(run.stdout)

    assert read("left alone") == 0
    assert read("as it comes") > 20, "PySide no longer reads them: take leave_sources_alone out"
