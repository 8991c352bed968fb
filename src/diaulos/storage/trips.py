"""Measured round trips in a file of their own, beside the person's settings."""

from __future__ import annotations

import json
import math
import os
from dataclasses import asdict
from pathlib import Path

from diaulos.errors import SessionFileError
from diaulos.storage.beside import read_regular, write_failed, write_whole
from diaulos.work.capture.trips import Trip

MOST_TRIPS = 200
VERSION = 1


def trips_path() -> Path:
    """Where they are kept: `Diaulos/round_trips.json` below XDG_CONFIG_HOME, ~/.config without."""
    config = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(config) / "Diaulos" / "round_trips.json"


class TripFile:
    """The file; one that is damaged or not there holds nothing."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def known(self) -> tuple[Trip, ...]:
        """Everything that can be read of it."""
        try:
            data = json.loads(read_regular(self._path))
        except (SessionFileError, OSError, ValueError, RecursionError):
            return ()
        rows = data.get("trips", ()) if isinstance(data, dict) else ()
        if not isinstance(rows, list):
            return ()
        read = (_trip(row) for row in rows[:MOST_TRIPS])
        return tuple(one for one in read if one is not None)

    def keep(self, trip: Trip) -> None:
        """The newest comes first."""
        key = (trip.device, trip.rate_hz, trip.block_frames)
        others = [one for one in self.known() if (one.device, one.rate_hz, one.block_frames) != key]
        rows = [asdict(one) for one in (trip, *others)][:MOST_TRIPS]
        text = json.dumps({"version": VERSION, "trips": rows}, indent=1, ensure_ascii=False) + "\n"
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise write_failed(self._path, error) from error
        write_whole(self._path, text.encode("utf-8"))


def _trip(row: object) -> Trip | None:
    if not isinstance(row, dict):
        return None
    try:
        found = Trip(
            str(row["device"]), int(row["rate_hz"]), int(row["block_frames"]),
            float(row["samples"]), float(row["error_samples"]),
            int(row["out_channel"]), int(row["in_channel"]),
        )  # fmt: skip
    except (KeyError, TypeError, ValueError, OverflowError):
        return None
    return found if math.isfinite(found.samples) and abs(found.samples) < 1e7 else None
