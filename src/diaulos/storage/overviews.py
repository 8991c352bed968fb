"""Overviews beside the audio, in files of plain arrays.

An overview's name holds its audio file's size and time of change: an audio file that changed
no longer finds it. What is damaged or does not fit is not used; nothing in it is executed.
"""

from __future__ import annotations

import contextlib
import io
from pathlib import Path

import numpy as np

from diaulos.errors import SessionFileError
from diaulos.signal.overview import BASE, Overview, pyramid
from diaulos.storage.beside import read_regular, write_whole

HEADER_BYTES = 128
"""Of a NumPy array file of version 1 with two dimensions."""


def _name(audio: Path) -> str:
    there = audio.stat()
    return f"{audio.stem}.{there.st_size:x}-{there.st_mtime_ns:x}.npy"


def load_overview(folder: Path, audio: Path, frames: int) -> Overview | None:
    """What an earlier look left in a folder, None when there is nothing that fits."""
    stretches = -(-frames // BASE)
    try:
        raw = read_regular(folder / _name(audio), HEADER_BYTES + 8 * stretches)
        if len(raw) != HEADER_BYTES + 8 * stretches:
            return None
        both = np.load(io.BytesIO(raw), allow_pickle=False)
    except (OSError, ValueError, EOFError, SessionFileError):
        return None
    if both.dtype != np.float32 or both.shape != (2, stretches) or not np.isfinite(both).all():
        return None
    return pyramid(frames, both[0], both[1])


def save_overview(folder: Path, audio: Path, overview: Overview) -> None:
    """Leave an overview, in place of older ones of the same audio. OSError or StorageError
    where it cannot be written."""
    folder.mkdir(exist_ok=True)
    name = _name(audio)
    raw = io.BytesIO()
    np.save(raw, np.stack([overview.low[0], overview.high[0]]), allow_pickle=False)
    write_whole(folder / name, raw.getvalue())
    forget_overviews(folder, audio, but=name)


def forget_overviews(folder: Path, audio: Path, but: str = "") -> None:
    """Delete the overviews of an audio file."""
    for old in folder.glob(f"{audio.stem}.*.npy"):
        if old.name != but:
            with contextlib.suppress(OSError):
                old.unlink()
