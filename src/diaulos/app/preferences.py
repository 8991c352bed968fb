"""What is remembered between starts: window, look, recent sessions, levels per device."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from PySide6.QtCore import QByteArray

from diaulos.errors import StorageError
from diaulos.ids import BENCH
from diaulos.storage.settings import SettingsFile

One = TypeVar("One")
STUDIO = "Simulated studio"
MOST_FOLDERS = 40
MOST_RECENT = 8


MOST_COMPARED, MOST_SESSIONS = 9, 30


def _words(value: Any) -> list[str]:
    """A list of words; ValueError for what is none."""
    if not isinstance(value, list) or not all(isinstance(one, str) for one in value):
        raise ValueError("no list of words")
    return value


def _of_version_0_2() -> dict[str, str]:
    """What versions up to 0.2 kept, in Qt's own file."""
    from PySide6.QtCore import QSettings

    settings, found = QSettings("Diaulos", "Diaulos"), dict[str, str]()
    for key in settings.allKeys():
        value = settings.value(key)
        if isinstance(value, QByteArray):
            found[key] = value.toBase64().toStdString()
        elif isinstance(value, str):
            found[key] = value
    return found


class Preferences:
    """Typed access to what is remembered; stored values are never trusted to have a type.

    A value is known at once and written behind: a disk may take a second to confirm, and the
    window waits for none. (Qt's own settings write on the thread that sets them.)
    """

    def __init__(self, file: SettingsFile | None = None) -> None:
        self._file = file or SettingsFile()
        self._values = self._file.known()
        self._changes: dict[str, str | None] = {}
        self._lock = threading.Lock()
        self._writer: threading.Thread | None = None
        if file is None and not self._file.path.exists():
            for key, words in _of_version_0_2().items():
                self._put(key, words)

    def _text(self, key: str, default: str = "") -> str:
        return self._values.get(key, default)

    def _put(self, key: str, words: str | None) -> None:
        """Remember words, None to forget them."""
        if self._values.get(key) == words:
            return
        if words is None:
            del self._values[key]
        else:
            self._values[key] = words
        with self._lock:
            self._changes[key] = words
            if self._writer is None:
                # No daemon: the program ends when what it was told is on the disk.
                self._writer = threading.Thread(target=self._write, name="settings")
                self._writer.start()

    def _write(self) -> None:
        while True:
            with self._lock:
                changes, self._changes = self._changes, {}
                if not changes:
                    self._writer = None
                    return
            try:
                self._file.keep(changes)
            except (StorageError, OSError):
                # It is remembered as long as the program runs, and tried again with the next.
                with self._lock:
                    self._changes = {**changes, **self._changes}
                    self._writer = None
                return

    def _mapping(self, key: str, kind: Callable[[Any], One]) -> dict[str, One]:
        """What is stored for each of some names; nothing where it is not what it should be."""
        try:
            value = json.loads(self._text(key, "{}"))
            return {str(name): kind(one) for name, one in value.items()}
        except (ValueError, AttributeError, TypeError, RecursionError):
            return {}

    @property
    def look(self) -> str:
        """ "day" or "night"."""
        return "night" if self._text("look", "day") == "night" else "day"

    @look.setter
    def look(self, name: str) -> None:
        self._put("look", name)

    @property
    def zoom(self) -> float:
        """How large text is, 1 as designed."""
        try:
            value = float(self._text("zoom", "1"))
        except ValueError:
            return 1.0
        return value if 0.5 <= value <= 3.0 else 1.0

    @zoom.setter
    def zoom(self, value: float) -> None:
        self._put("zoom", f"{value:g}")

    @property
    def view(self) -> str:
        """The view that was on screen last, or ""."""
        return self._text("view")

    @view.setter
    def view(self, ident: str) -> None:
        self._put("view", ident)

    @property
    def recent(self) -> list[str]:
        """Paths of recent sessions, newest first."""
        try:
            value = json.loads(self._text("recent", "[]"))
        except ValueError:
            return []
        return [item for item in value if isinstance(item, str)] if isinstance(value, list) else []

    def add_recent(self, path: str) -> None:
        """Put a session at the head of the list."""
        paths = [path, *(other for other in self.recent if other != path)][:MOST_RECENT]
        self._put("recent", json.dumps(paths))

    @property
    def folders(self) -> dict[str, str]:
        """Where the file of a question was last, by the question."""
        return self._mapping("folders", str)

    def remember_folder(self, question: str, folder: str) -> None:
        """The folder of a file that was chosen."""
        known = list({**self.folders, question: folder}.items())[-MOST_FOLDERS:]
        self._put("folders", json.dumps(dict(known)))

    @property
    def device(self) -> str:
        """What is recorded from and reamped through: "bench" is the simulated studio."""
        return self._text("device", BENCH) or BENCH

    @device.setter
    def device(self, name: str) -> None:
        self._put("device", name)

    def listens_by(self, device: str) -> int:
        """The first of the two outputs (from 1) of a device by which a person listens; 0: by the
        system's output."""
        return 0 if device == BENCH else max(0, self._mapping("listening", int).get(device, 1))

    def listen_by(self, device: str, first: int) -> None:
        """Remember it."""
        self._put("listening", json.dumps({**self._mapping("listening", int), device: first}))

    def block_of(self, device: str) -> int:
        """Frames per cycle of a device that leaves them to us; 0: the usual."""
        return self._mapping("blocks", int).get(device, 0)

    def keep_block(self, device: str, frames: int) -> None:
        """Remember it."""
        self._put("blocks", json.dumps({**self._mapping("blocks", int), device: frames}))

    def live_level(self, device: str) -> float:
        """dB at which a person hears live by a device; a new one begins quietly."""
        return min(0.0, self._mapping("live_levels", float).get(device, -20.0))

    def keep_live_level(self, device: str, level_db: float) -> None:
        """Remember it."""
        self._put(
            "live_levels", json.dumps({**self._mapping("live_levels", float), device: level_db})
        )

    @property
    def sounding(self) -> tuple[str, int, int]:
        """What sound goes by now (device, first output to listen by, block): where it changes,
        what is open is opened anew."""
        return self.device, self.listens_by(self.device), self.block_of(self.device)

    def compared(self, session_id: str) -> list[str]:
        """Keys of what was compared last in a session, the reference first."""
        kept = self._mapping("compared", _words).get(session_id, [])
        return kept[:MOST_COMPARED]

    def keep_compared(self, session_id: str, keys: list[str]) -> None:
        """Remember what is compared in a session; of the last sessions only."""
        kept = self._mapping("compared", _words)
        kept.pop(session_id, None)
        if keys:
            kept[session_id] = keys
        last = dict(list(kept.items())[-MOST_SESSIONS:])
        self._put("compared", json.dumps(last))

    @property
    def sessions_folder(self) -> Path:
        """Where new sessions are made; the home folder as long as nobody chose one that is."""
        chosen = Path(self._text("sessions_folder") or Path.home())
        return chosen if chosen.is_dir() else Path.home()

    @sessions_folder.setter
    def sessions_folder(self, folder: Path) -> None:
        self._put("sessions_folder", str(folder))

    def forget(self, what: str) -> None:
        """Remember nothing of: "recent" sessions, "folders", "levels", "safety"."""
        keys = {
            "recent": "recent",
            "folders": "folders",
            "levels": "levels_db",
            "safety": "acknowledged",
        }
        self._put(keys[what], None)

    @property
    def levels_db(self) -> dict[str, float]:
        """The last listening level per output device."""
        return self._mapping("levels_db", float)

    @levels_db.setter
    def levels_db(self, levels: dict[str, float]) -> None:
        self._put("levels_db", json.dumps(levels))

    @property
    def geometry(self) -> QByteArray | None:
        """The window's place and size."""
        value = QByteArray.fromBase64(self._text("geometry").encode("ascii", "ignore"))
        return None if value.isEmpty() else value

    @geometry.setter
    def geometry(self, value: QByteArray) -> None:
        self._put("geometry", value.toBase64().toStdString())

    @property
    def acknowledged(self) -> bool:
        """Whether the safety notices were read."""
        return self._text("acknowledged", "no") == "yes"

    @acknowledged.setter
    def acknowledged(self, value: bool) -> None:
        self._put("acknowledged", "yes" if value else "no")

    def sync(self) -> None:
        """Wait until everything is on the disk."""
        writer = self._writer
        if writer is not None:
            writer.join()
