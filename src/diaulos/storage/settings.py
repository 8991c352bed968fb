"""What the window remembers between starts, in a file of its own: words by name."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path

from diaulos.errors import SessionFileError, StorageError
from diaulos.storage.beside import read_regular, write_failed, write_whole

MOST_BYTES = 4 * 1024 * 1024
VERSION = 1


def settings_path() -> Path:
    """Where it is kept: `Diaulos/settings.json` below XDG_CONFIG_HOME, ~/.config without."""
    config = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(config) / "Diaulos" / "settings.json"


class SettingsFile:
    """The file; one that is damaged or not there holds nothing."""

    def __init__(self, path: Path | None = None) -> None:
        self.path = path or settings_path()

    def known(self) -> dict[str, str]:
        """Everything that can be read of it."""
        try:
            data = json.loads(read_regular(self.path, MOST_BYTES))
        except (SessionFileError, OSError, ValueError, RecursionError):
            return {}
        rows = data.get("settings") if isinstance(data, dict) else None
        if not isinstance(rows, dict):
            return {}
        return {name: words for name, words in rows.items() if isinstance(words, str)}

    def keep(self, changes: Mapping[str, str | None]) -> None:
        """Words for some names, None to forget one. What another window kept meanwhile stays.

        StorageError where it cannot be written; what was there is whole then.
        """
        merged = {**self.known(), **changes}
        kept = {name: words for name, words in sorted(merged.items()) if words is not None}
        text = json.dumps({"version": VERSION, "settings": kept}, indent=1, ensure_ascii=False)
        data = (text + "\n").encode("utf-8", "surrogatepass")
        if len(data) > MOST_BYTES:
            raise StorageError(
                "there is too much to remember.", where=str(self.path),
                remedy="Forget the recent sessions in the preferences.",
            )  # fmt: skip
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise write_failed(self.path, error) from error
        write_whole(self.path, data)
