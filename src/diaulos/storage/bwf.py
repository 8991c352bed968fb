"""Broadcast Wave: the bext chunk, and a writer whose files survive the process.

Layout after EBU Tech 3285 (bext), EBU Tech 3306 (RF64) and EBU R 98 (coding history), all
from memory; held against files of known content and two other readers in tests.

The writer keeps the header true while it writes: sizes are refreshed every half second of
audio, so that a file whose process died is whole up to there. A JUNK chunk keeps the
place of a ds64, into which it turns when the file outgrows 4 GiB.
"""

from __future__ import annotations

import contextlib
import os
import struct
from dataclasses import replace
from pathlib import Path
from typing import Any, BinaryIO, Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioFileError, StorageError
from diaulos.records import dataclass
from diaulos.storage.beside import NEW, write_failed

RIFF_LIMIT = 0xFFFFFFFF
BEXT_FIXED = 602
WordLength = Literal["24", "float"]


@dataclass(frozen=True)
class Bext:
    """What a Broadcast Wave file says of itself. Texts are cut to what fits (ASCII)."""

    description: str = ""
    originator: str = "Diaulos"
    originator_reference: str = ""
    origination_date: str = ""
    """yyyy-mm-dd"""
    origination_time: str = ""
    """hh:mm:ss"""
    time_reference: int = 0
    """First sample since midnight, in samples of the file."""
    coding_history: str = ""

    def pack(self) -> bytes:
        """The chunk's data, version 1 (no loudness), padded to an even length."""
        history = _ascii(self.coding_history, 65_536).encode()
        data = b"".join(
            (
                _fixed(self.description, 256),
                _fixed(self.originator, 32),
                _fixed(self.originator_reference, 32),
                _fixed(self.origination_date, 10),
                _fixed(self.origination_time, 8),
                struct.pack("<Q", self.time_reference),
                struct.pack("<H", 1),
                bytes(64 + 190),
                history,
            )
        )
        return data + b"\0" * (len(data) % 2)

    @staticmethod
    def unpack(data: bytes) -> Bext:
        """Read a chunk of any version; bytes that are not ASCII become "?"."""
        if len(data) < BEXT_FIXED:
            data = data + bytes(BEXT_FIXED - len(data))

        def text(first: int, count: int) -> str:
            raw = data[first : first + count].split(b"\0")[0]
            return raw.decode("ascii", "replace").strip()

        return Bext(
            description=text(0, 256),
            originator=text(256, 32),
            originator_reference=text(288, 32),
            origination_date=text(320, 10),
            origination_time=text(330, 8),
            time_reference=struct.unpack_from("<Q", data, 338)[0],
            coding_history=text(602, len(data) - 602),
        )


def coding_history_line(rate_hz: int, word: WordLength, channels: int, text: str) -> str:
    """One line of coding history after EBU R 98."""
    mode = {1: "mono", 2: "stereo"}.get(channels, "multi")
    bits = 24 if word == "24" else 32
    return f"A=PCM,F={rate_hz},W={bits},M={mode},T={_ascii(text, 200)}\r\n"


def _even(data: bytes) -> bytes:
    return data + b" " * (len(data) % 2)


def _ascii(text: str, limit: int) -> str:
    return text.encode("ascii", "replace").decode("ascii")[:limit]


def _fixed(text: str, length: int) -> bytes:
    return _ascii(text, length).encode().ljust(length, b"\0")


class WavWriter:
    """Writes one Broadcast Wave file, in 24-bit or float. Never overwrites a file.

    Samples are floats with full scale at 1.0, (frames,) or (frames, channels). In 24 bit
    what is beyond full scale is clipped and counted (`clipped_samples`), never silently.
    """

    def __init__(
        self,
        path: Path,
        rate_hz: int,
        channels: int,
        word: WordLength,
        bext: Bext,
        *,
        riff_limit: int = RIFF_LIMIT,
        ixml: str = "",
    ) -> None:
        self.path = path
        self.frames = 0
        self.clipped_samples = 0
        self._rate_hz, self._channels, self._word = rate_hz, channels, word
        self._riff_limit = riff_limit
        self._frame_bytes = channels * (3 if word == "24" else 4)
        self._refreshed = 0
        try:
            # Neither a file that is there nor a link to one is ever written to.
            handle = os.open(path, NEW, 0o666)
            self._file: BinaryIO = open(handle, "wb")  # noqa: SIM115 - closed by close()
        except FileExistsError as error:
            raise StorageError(
                "the file exists already; audio is never overwritten.",
                where=path.name,
                remedy="Choose another name.",
            ) from error
        except OSError as error:
            raise write_failed(path, error) from error
        try:
            self._file.write(self._header(bext, ixml))
        except OSError as error:
            self.abandon()
            raise write_failed(path, error) from error

    def _header(self, bext: Bext, ixml: str) -> bytes:
        bits = 24 if self._word == "24" else 32
        tag = 1 if self._word == "24" else 3
        fmt = struct.pack(
            "<HHIIHH",
            tag,
            self._channels,
            self._rate_hz,
            self._rate_hz * self._frame_bytes,
            self._frame_bytes,
            bits,
        )
        if tag == 3:
            fmt += struct.pack("<H", 0)
        packed = bext.pack()
        chunks = (
            _chunk(b"JUNK", bytes(28))
            + _chunk(b"bext", packed)
            + _chunk(b"fmt ", fmt)
            + (_chunk(b"iXML", _even(ixml.encode("utf-8"))) if ixml else b"")
            + (_chunk(b"fact", struct.pack("<I", 0)) if tag == 3 else b"")
        )
        self._fact_at = 12 + len(chunks) - 4 if tag == 3 else None
        head = b"RIFF" + struct.pack("<I", 4 + len(chunks) + 8) + b"WAVE" + chunks
        self._data_at = len(head) + 8
        return head + b"data" + struct.pack("<I", 0)

    def write(self, samples: NDArray[np.floating[Any]]) -> None:
        """Append samples; StorageError when the disk is full or the file cannot grow."""
        block = samples if samples.ndim == 2 else samples[:, None]
        if block.shape[1] != self._channels:
            raise ValueError(f"{self._channels} channels expected, {block.shape[1]} given")
        try:
            self._file.write(self._encode(block))
            self.frames += block.shape[0]
            if self.frames - self._refreshed >= self._rate_hz // 2:
                self.refresh()
        except OSError as error:
            raise write_failed(self.path, error) from error

    def _encode(self, block: NDArray[np.floating[Any]]) -> bytes:
        if self._word == "float":
            return block.astype("<f4").tobytes()
        scaled = np.rint(block.astype(np.float64) * 8_388_608.0)
        over = (scaled > 8_388_607.0) | (scaled < -8_388_608.0)
        self.clipped_samples += int(np.count_nonzero(over))
        whole = np.clip(scaled, -8_388_608.0, 8_388_607.0).astype("<i4")
        return np.ascontiguousarray(whole).view(np.uint8).reshape(-1, 4)[:, :3].tobytes()

    def refresh(self) -> None:
        """Write the sizes of what is there into the header."""
        data_bytes = self.frames * self._frame_bytes
        riff_bytes = self._data_at - 8 + data_bytes + data_bytes % 2
        file = self._file
        file.flush()
        if riff_bytes > self._riff_limit:
            file.seek(0)
            file.write(b"RF64" + struct.pack("<I", RIFF_LIMIT))
            file.seek(12)
            ds64 = struct.pack("<QQQI", riff_bytes, data_bytes, self.frames, 0)
            file.write(b"ds64" + struct.pack("<I", 28) + ds64)
            file.seek(self._data_at - 4)
            file.write(struct.pack("<I", RIFF_LIMIT))
        else:
            file.seek(4)
            file.write(struct.pack("<I", riff_bytes))
            file.seek(self._data_at - 4)
            file.write(struct.pack("<I", data_bytes))
        if self._fact_at is not None:
            file.seek(self._fact_at)
            file.write(struct.pack("<I", min(self.frames, RIFF_LIMIT)))
        file.flush()
        file.seek(0, os.SEEK_END)
        self._refreshed = self.frames

    def close(self) -> None:
        """Finish the file and bring it to the disk."""
        if self._file.closed:
            return
        try:
            if (self.frames * self._frame_bytes) % 2:
                self._file.write(b"\0")
            self.refresh()
            os.fsync(self._file.fileno())
            self._file.close()
        except OSError as error:
            raise write_failed(self.path, error) from error

    def abandon(self) -> None:
        """Close and delete the file: the pass was cancelled or failed."""
        with contextlib.suppress(OSError):  # what was not flushed is being deleted anyway
            self._file.close()
        self.path.unlink(missing_ok=True)


def _chunk(name: bytes, data: bytes) -> bytes:
    return name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2)


@dataclass(frozen=True)
class RiffFacts:
    """What the chunks of a WAV file say, whether or not it is whole."""

    bext: Bext | None
    data_bytes_promised: int
    data_bytes_there: int

    @property
    def cut_off(self) -> bool:
        """True where the file ends before its audio does."""
        return self.data_bytes_there < self.data_bytes_promised


def inspect_riff(path: Path) -> RiffFacts | None:
    """Walk the chunks of a RIFF or RF64 file; None for other files. Reads no audio."""
    size = path.stat().st_size
    with open(path, "rb") as file:
        head = file.read(12)
        if len(head) < 12 or head[:4] not in (b"RIFF", b"RF64") or head[8:] != b"WAVE":
            return None
        facts = RiffFacts(None, 0, 0)
        long_data: int | None = None
        for _ in range(1000):
            header = file.read(8)
            if len(header) < 8:
                return facts
            name, length = header[:4], struct.unpack("<I", header[4:])[0]
            at = file.tell()
            if name == b"ds64":
                data = file.read(24)
                if len(data) == 24:
                    long_data = struct.unpack("<QQQ", data)[1]
            elif name == b"bext" and length <= 1_000_000:
                facts = replace(facts, bext=Bext.unpack(file.read(length)))
            elif name == b"data":
                if length == RIFF_LIMIT and long_data is not None:
                    length = long_data
                facts = replace(
                    facts, data_bytes_promised=length, data_bytes_there=min(length, size - at)
                )
            following = at + length + length % 2
            if following > size:  # also what no file can be long enough for
                return facts
            file.seek(following)
    raise AudioFileError("it has too many chunks.", where=str(path), remedy="It is damaged.")
