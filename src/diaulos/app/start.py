"""Starting the window: Qt first, everything else after the first paint."""

from __future__ import annotations

import builtins
import contextlib
import os
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PySide6.QtGui import QGuiApplication

    from diaulos.app.collecting import Keeper
    from diaulos.app.main_window import MainWindow
    from diaulos.app.services import Services
    from diaulos.app.view_table import ViewRow

HEAVY = (
    "numpy",
    "pydantic",
    "diaulos.session.model",
    "diaulos.work.reamp.passes",
    "diaulos.wiring",
    "diaulos.app.desk",
)
"""Imported in a thread after the first paint, smallest first."""
WARM = ("scipy.fft", "scipy.signal", "soundfile", "soxr")
"""Needed by the first job; imported when the session is on screen."""


DEMO = "diaulos.demo.saltmarsh"


def has_display() -> bool:
    """Whether a window can be shown: Qt would abort with a misleading message."""
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    if platform.split(":")[0] in ("offscreen", "minimal", "vnc"):
        return True
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def run_window(args: list[str]) -> int:
    """Open the window on a session, on the demo, or on nothing."""
    if not has_display():
        print(
            "diaulos: there is no screen here (neither DISPLAY nor WAYLAND_DISPLAY is set). "
            "Start it from a desktop, or use the shell commands: diaulos --help.",
            file=sys.stderr,
        )
        return 1
    demo, path, fresh = False, None, False
    rest = list(args)
    if rest and rest[0] == "demo":
        demo = True
        rest.pop(0)
        while rest:
            word = rest.pop(0)
            if word == "--at" and rest:
                path = Path(rest.pop(0)).absolute()
                if path.suffix != ".diaulos":
                    path = path.with_name(path.name + ".diaulos")
            elif word == "--fresh":
                fresh = True
            else:
                print(f"diaulos: demo does not know {word!r}. See diaulos --help.", file=sys.stderr)
                return 2
        from diaulos.app.demo_place import demo_path

        path = path or demo_path()
    elif rest:
        path = Path(rest.pop(0)).absolute()
        if rest:
            print("diaulos: give one session. See diaulos --help.", file=sys.stderr)
            return 2
        if not path.exists():
            print(f"diaulos: {path}: there is no such session. Check the name.", file=sys.stderr)
            return 1
    if demo and fresh and path is not None and os.path.lexists(path):
        from diaulos.demo.saltmarsh import remove_demo
        from diaulos.errors import DiaulosError

        try:
            remove_demo(path)
        except DiaulosError as error:
            print(f"diaulos: {error}", file=sys.stderr)
            return 1
    return _run(path, demo)


def _run(path: Path | None, demo: bool) -> int:
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    leave_sources_alone()
    from diaulos.app import theme
    from diaulos.app.main_window import MainWindow
    from diaulos.app.preferences import Preferences

    app = QApplication.instance() or QApplication(["diaulos"])
    assert isinstance(app, QApplication)
    app.setApplicationName("Diaulos")
    app.setDesktopFileName("org.diaulos.Diaulos")
    theme.load_fonts()
    preferences = Preferences()
    theme.apply(app, theme.LOOKS[preferences.look], preferences.zoom)
    window = MainWindow(preferences)
    starter = Starter(window, path, demo)
    endings = Endings(app, window.end_unasked)
    window.painted.connect(lambda: QTimer.singleShot(0, starter.begin))
    window.show()
    mark = os.environ.get("DIAULOS_TIMING")
    if mark:  # read by the benchmark: at which of the two moments its clock stops
        moment = window.painted if mark == "paint" else starter.wires.ready
        moment.connect(lambda *_: QTimer.singleShot(0, lambda: os._exit(0)))
    code = app.exec()
    endings.close()
    return code


def leave_sources_alone() -> None:
    """PySide puts a hook of its own in the place of `import`: it reads and keeps the source of
    every module that is imported after it, looking for its own name (only such a module may turn
    one of its features on), and makes every import that is met again twelve times as long. We
    turn none on; it was a tenth of a start. Where another version of it works otherwise, nothing
    changes."""
    plain = getattr(builtins, "__orig_import__", None)
    if callable(plain):
        setattr(builtins, "__import__", plain)  # noqa: B010


class Endings:
    """The ways in which the system ends the program: SIGINT, SIGTERM, SIGHUP, a logout. Work
    goes into the journal, a recording is ended and kept, then the window closes."""

    def __init__(self, app: QGuiApplication, end: Callable[[], None]) -> None:
        import signal
        import socket

        from PySide6.QtCore import QSocketNotifier, Qt

        self._end = end
        # Python's handlers run between its own steps only, and an idle event loop takes none:
        # a byte on this socket wakes it.
        self._near, self._far = socket.socketpair()
        for one in (self._near, self._far):
            one.setblocking(False)
        signal.set_wakeup_fd(self._far.fileno(), warn_on_full_buffer=False)
        self._notifier = QSocketNotifier(self._near.fileno(), QSocketNotifier.Type.Read)
        self._notifier.activated.connect(self._on_signal)
        self._before = {
            number: signal.signal(number, lambda *_: None)
            for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
        }
        # The session manager waits while this runs; what it starts goes on behind it.
        app.commitDataRequest.connect(lambda _manager: end(), Qt.ConnectionType.DirectConnection)

    def _on_signal(self) -> None:
        with contextlib.suppress(BlockingIOError):
            self._near.recv(64)
        self._end()

    def close(self) -> None:
        """Put back what was there."""
        import signal

        self._notifier.setEnabled(False)
        signal.set_wakeup_fd(-1)
        for number, handler in self._before.items():
            signal.signal(number, handler)
        self._near.close()
        self._far.close()


class Starter:
    """Imports the rest in a thread, then opens what was asked for."""

    def __init__(
        self,
        window: MainWindow,
        path: Path | None,
        demo: bool,
        services: Services | None = None,
    ) -> None:
        from PySide6.QtCore import QObject, Qt, Signal

        class Wires(QObject):
            imported = Signal(object)
            ready = Signal()

        self.window, self.path, self.demo, self.services = window, path, demo, services
        self.wires = Wires()
        self.wires.imported.connect(self._open, Qt.ConnectionType.QueuedConnection)

    def begin(self) -> None:
        """Called once after the first paint."""
        threading.Thread(target=self._import, name="imports", daemon=True).start()

    def _import(self) -> None:
        import importlib

        from diaulos.app.collecting import held_back

        try:
            with held_back():
                for name in HEAVY:
                    importlib.import_module(name)
                # The largest enumeration there: made when it is first asked for, which would be
                # while the first plot is painted.
                _ = importlib.import_module("PySide6.QtGui").QGradient.Preset
                if self.demo:
                    importlib.import_module(DEMO)
                self._first().load()
        except BaseException as error:
            self.wires.imported.emit(error)
            return
        self.wires.imported.emit(None)

    def _first(self) -> ViewRow:
        """The view that will be shown first."""
        from diaulos.app.view_table import BARE

        made = self.path is not None and (self.path / "session.json").is_file()
        if self.demo and not made:
            return next(row for row in self.window.views if row.ident == BARE)
        return self.window.first_view()

    def _open(self, error: BaseException | None) -> None:
        if error is not None:
            from html import escape

            self.window.say_empty(f"<h2>Diaulos cannot start</h2><p>{escape(str(error))}</p>")
            return
        from diaulos.app.desk import Desk
        from diaulos.app.services import Services

        desk = Desk(self.window, self.services or Services.of_this_machine(self.window.preferences))
        desk.keeper.active = True
        desk.keeper.keep()
        if self.demo and self.path is not None:
            desk.opening.open_demo(self.path)
        elif self.path is not None:
            desk.open_path(self.path)
        threading.Thread(target=_warm, args=(desk.keeper,), name="warm", daemon=True).start()
        self.wires.ready.emit()


def _warm(keeper: Keeper) -> None:
    import importlib

    from diaulos.app.collecting import held_back
    from diaulos.app.view_table import VIEWS
    from diaulos.records import make_ahead

    with held_back():
        for name in (*WARM, DEMO):
            importlib.import_module(name)
        for row in VIEWS:  # so that showing one for the first time is not felt
            row.load()
        for _ in make_ahead():
            time.sleep(0.001)  # the window comes first
        keeper.keep(views_too=True)
