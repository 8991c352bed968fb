"""Asking beside the window which devices there are: a server may take its time."""

from __future__ import annotations

import threading

from PySide6.QtCore import QObject, Qt, Signal

from diaulos.work.ports import DeviceList, Found


class DeviceLook(QObject):
    """One question at a time; `found` tells what was found where it is not what was there."""

    found = Signal(object)
    _answered = Signal(object)

    def __init__(self, devices: DeviceList, parent: QObject) -> None:
        super().__init__(parent)
        self._devices = devices
        self._last: Found | None = None
        self._looking = False
        self._answered.connect(self._on_answer, Qt.ConnectionType.QueuedConnection)

    def look(self) -> None:
        """Ask in a thread."""
        if self._looking:
            return
        self._looking = True
        devices, answered = self._devices, self._answered

        def ask() -> None:
            try:
                found = devices.look()
            except Exception as error:
                found = Found((), (f"The devices could not be listed ({error}).",))
            try:
                answered.emit(found)
            except RuntimeError:
                return  # whoever asked is gone

        threading.Thread(target=ask, name="devices", daemon=True).start()

    def _on_answer(self, found: Found) -> None:
        self._looking = False
        if found != self._last:
            self._last = found
            self.found.emit(found)
