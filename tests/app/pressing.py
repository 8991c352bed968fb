"""Keys from the X server: sent at once, whatever the window is doing. Run as a program by a test:
`python pressing.py SESSION SETTINGS` opens the session in Instruments, sends Ctrl+4 and Space in
one breath, and prints which view was shown, and whether a recording began there, as JSON."""

from __future__ import annotations

import ctypes
import json
import sys
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QApplication

from diaulos.app import theme
from diaulos.app.main_window import MainWindow
from diaulos.app.preferences import Preferences
from diaulos.app.services import Services
from diaulos.app.start import Starter
from diaulos.storage.settings import SettingsFile

CONTROL, PRESSED, RELEASED = 4, 2, 3


class KeyEvent(ctypes.Structure):
    """XKeyEvent of Xlib.h, with room for the largest event."""

    _fields_ = (
        ("type", ctypes.c_int),
        ("serial", ctypes.c_ulong),
        ("send_event", ctypes.c_int),
        ("display", ctypes.c_void_p),
        ("window", ctypes.c_ulong),
        ("root", ctypes.c_ulong),
        ("subwindow", ctypes.c_ulong),
        ("time", ctypes.c_ulong),
        ("x", ctypes.c_int),
        ("y", ctypes.c_int),
        ("x_root", ctypes.c_int),
        ("y_root", ctypes.c_int),
        ("state", ctypes.c_uint),
        ("keycode", ctypes.c_uint),
        ("same_screen", ctypes.c_int),
        ("room", ctypes.c_long * 24),
    )


class Keyboard:
    """A second client of the X server, who types."""

    def __init__(self, window: int) -> None:
        self._x = ctypes.CDLL("libX11.so.6")
        self._x.XOpenDisplay.restype = ctypes.c_void_p
        self._x.XKeysymToKeycode.argtypes = (ctypes.c_void_p, ctypes.c_ulong)
        self._x.XDefaultRootWindow.argtypes = (ctypes.c_void_p,)
        self._x.XDefaultRootWindow.restype = ctypes.c_ulong
        self._x.XSendEvent.argtypes = (
            ctypes.c_void_p, ctypes.c_ulong, ctypes.c_int, ctypes.c_long, ctypes.c_void_p,
        )  # fmt: skip
        self._x.XFlush.argtypes = (ctypes.c_void_p,)
        self._display = self._x.XOpenDisplay(None)
        self._window = window

    def press(self, *keys: tuple[int, int]) -> None:
        """Keysyms with what is held down, without waiting for anything."""
        for keysym, held in keys:
            code = self._x.XKeysymToKeycode(self._display, keysym)
            assert code, keysym
            for kind in (PRESSED, RELEASED):
                event = KeyEvent(
                    type=kind, send_event=1, display=self._display, window=self._window,
                    root=self._x.XDefaultRootWindow(self._display), state=held, keycode=code,
                    same_screen=1,
                )  # fmt: skip
                self._x.XSendEvent(self._display, self._window, 0, 3, ctypes.byref(event))
        self._x.XFlush(self._display)


def main() -> None:
    """See above."""
    app = QApplication([])
    theme.load_fonts()
    theme.apply(app, theme.DAY)

    def until(condition: Callable[[], bool], seconds: float = 60.0) -> None:
        end = time.monotonic() + seconds
        while not condition() and time.monotonic() < end:
            app.processEvents()
            time.sleep(0.001)

    preferences = Preferences(SettingsFile(Path(sys.argv[2])))
    preferences.view = "instruments"
    window = MainWindow(preferences)
    window.show()
    starter = Starter(window, None, False, Services.of_this_machine())
    starter.begin()
    until(lambda: window.desk is not None)
    desk = window.desk
    assert desk is not None
    desk.open_path(Path(sys.argv[1]))
    until(lambda: desk.jobs.quiet and all(view.settled for view in desk.views.values()))
    first = desk.current.ident
    window.activateWindow()  # no window manager gives the focus here
    until(window.isActiveWindow)
    Keyboard(int(window.winId())).press((ord("4"), CONTROL), (ord(" "), 0))
    until(lambda: "takes" in desk.views and desk.views["takes"].under_way, 60.0)
    view = desk.views.get("takes")
    print(json.dumps({
        "first": first, "shown": desk.current.ident, "made": len(desk.views),
        "began": view is not None and view.under_way, "platform": app.platformName(),
    }))  # fmt: skip
    if view is not None and view.under_way:
        view.stop()
        until(lambda: not view.under_way and desk.jobs.quiet)
    desk.document.mark_saved(desk.document.session)
    window.close()
    until(lambda: not window.isVisible(), 20.0)


if __name__ == "__main__":
    main()
