"""Sessions below some folders, read as they lie there: none is opened, locked or changed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path

import numpy as np

from diaulos.errors import DiaulosError
from diaulos.session.model import Session
from diaulos.storage.audiofile import audio_info
from diaulos.storage.session_file import read_session
from diaulos.storage.sources import FileSource
from diaulos.work.months.timeline import Bright

MOST_SESSIONS, DEEPEST = 2_000, 4
STRUM_S = 15.0
"""Of a stored strum that is read at most."""


def sessions_below(
    folders: Sequence[Path], *, sound: bool = True
) -> tuple[list[tuple[Session, Bright]], list[tuple[str, str]]]:
    """Every session, with what tells how bright a file of it is; and those that cannot be read,
    with why."""
    found: list[tuple[Session, Bright]] = []
    unread: list[tuple[str, str]] = []
    for path in _session_folders(folders):
        try:
            session = read_session(path / "session.json")
        except DiaulosError as error:
            unread.append((str(path), str(error)))
            continue
        found.append((session, partial(_bright, path) if sound else _no_sound))
    return found, unread


def _session_folders(folders: Sequence[Path]) -> Iterator[Path]:
    """Folders that hold a session, not through links, in order."""
    count = 0
    waiting = [(one, 0) for one in reversed([*folders])]
    while waiting and count < MOST_SESSIONS:
        folder, depth = waiting.pop()
        if (folder / "session.json").is_file():
            count += 1
            yield folder
            continue
        if depth >= DEEPEST:
            continue
        try:
            below = sorted(
                (
                    one
                    for one in folder.iterdir()
                    if one.is_dir() and not one.is_symlink() and not one.name.startswith(".")
                ),
                reverse=True,
            )
        except OSError:
            continue
        waiting += [(one, depth + 1) for one in below]


def _no_sound(_file: str) -> None:
    return None


def _bright(path: Path, file: str) -> float | None:
    """How bright a stored strum is; None where it is missing or cannot be read."""
    from diaulos.signal.brightness import brightness_db

    place = path / file
    if not place.is_file() or not place.resolve().is_relative_to(path.resolve()):
        return None
    try:
        source = FileSource(audio_info(place))
        count = min(int(STRUM_S * source.rate_hz), source.frames)
        blocks = [block[:, 0] for block in source.blocks(count=count)]
    except DiaulosError:
        return None
    samples = np.concatenate(blocks) if blocks else np.zeros(0, np.float32)
    return brightness_db(samples, float(source.rate_hz))
