"""Audio files as the use cases read and write them, inside a session and outside."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import StorageError
from diaulos.records import dataclass
from diaulos.storage.audiofile import AudioInfo, audio_info, read_blocks
from diaulos.storage.beside import place_for, replace, write_failed
from diaulos.storage.bwf import Bext, WavWriter, WordLength, coding_history_line
from diaulos.work.ports import AudioSink, ExternalSource, FileNotes


@dataclass(frozen=True)
class FileSource:
    """An audio file as the use cases read it."""

    info: AudioInfo

    @property
    def rate_hz(self) -> int:
        return self.info.rate_hz

    @property
    def frames(self) -> int:
        return self.info.frames

    @property
    def channels(self) -> int:
        return self.info.channels

    @property
    def is_float(self) -> bool:
        return self.info.is_float

    @property
    def bits(self) -> int | None:
        return self.info.bits

    @property
    def time_reference(self) -> int | None:
        return self.info.bext.time_reference if self.info.bext is not None else None

    @property
    def description(self) -> str:
        return self.info.bext.description if self.info.bext is not None else ""

    @property
    def history(self) -> str:
        return self.info.bext.coding_history if self.info.bext is not None else ""

    def blocks(
        self, *, first: int = 0, count: int | None = None, block: int = 65_536
    ) -> Iterator[NDArray[np.float32]]:
        return read_blocks(self.info, first=first, count=count, block=block)


def make_bext(notes: FileNotes, rate_hz: int, channels: int, word: str) -> Bext:
    """The bext chunk for a new file."""
    return Bext(
        description=notes.description,
        origination_date=notes.made_at.strftime("%Y-%m-%d"),
        origination_time=notes.made_at.strftime("%H:%M:%S"),
        time_reference=notes.time_reference,
        coding_history=coding_history_line(
            rate_hz,
            "24" if word == "24" else "float",
            channels,
            f"Diaulos; {notes.history}" if notes.history else "Diaulos",
        ),
    )


def new_wav(
    path: Path, rate_hz: int, channels: int, word: str, notes: FileNotes
) -> WavWriter:  # fmt: skip
    """A writer for a new file."""
    kind: WordLength = "24" if word == "24" else "float"
    return WavWriter(
        path, rate_hz, channels, kind, make_bext(notes, rate_hz, channels, word), ixml=notes.ixml
    )


class ExternalAudio:
    """Audio files outside the session, by path."""

    def open(self, path: Path) -> ExternalSource:
        return FileSource(audio_info(path))

    def create(
        self, path: Path, rate_hz: int, channels: int, word: str, notes: FileNotes, replace: bool
    ) -> AudioSink:
        if path.exists() and not replace:
            raise StorageError(
                "the file exists already.",
                where=str(path),
                remedy="Choose another name, or allow it to be replaced.",
            )
        beside = path.with_name(f".{path.name}.part")
        try:
            place_for(beside)
        except OSError as error:
            raise write_failed(path, error) from error
        return _RenamedOnClose(new_wav(beside, rate_hz, channels, word, notes), path)


class _RenamedOnClose:
    """A file that appears under its name only when it is whole."""

    def __init__(self, writer: WavWriter, path: Path) -> None:
        self._writer, self._path = writer, path

    @property
    def frames(self) -> int:
        return self._writer.frames

    @property
    def clipped_samples(self) -> int:
        return self._writer.clipped_samples

    def write(self, samples: NDArray[Any]) -> None:
        self._writer.write(samples)

    def close(self) -> None:
        try:
            self._writer.close()
        except StorageError:
            with contextlib.suppress(OSError):
                self._writer.path.unlink(missing_ok=True)
            raise
        replace(self._writer.path, self._path)

    def abandon(self) -> None:
        self._writer.abandon()
