"""Reading audio files of any kind, in blocks, with a clear answer for what is unusable."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import AudioFileError
from diaulos.records import dataclass
from diaulos.signal.checks import require_finite
from diaulos.storage.bwf import Bext, inspect_riff

Audio32 = NDArray[np.float32]
BLOCK_FRAMES = 65_536
RATES_HZ = (8_000, 768_000)
"""Of files that can be read at all; what a session takes is narrower."""
MOST_CHANNELS = 256


@dataclass(frozen=True)
class AudioInfo:
    """What an audio file holds."""

    path: Path
    rate_hz: int
    frames: int
    channels: int
    subtype: str
    bext: Bext | None

    @property
    def is_float(self) -> bool:
        """True where samples may lie beyond full scale."""
        return self.subtype in ("FLOAT", "DOUBLE")

    @property
    def bits(self) -> int | None:
        """Bits of a sample of a file of whole numbers, None for floats and coded audio."""
        return {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32}.get(
            self.subtype
        )

    @property
    def seconds(self) -> float:
        """Length in seconds."""
        return self.frames / self.rate_hz


def audio_info(path: Path) -> AudioInfo:
    """Look at a file; AudioFileError where it is missing, no audio, cut off or empty."""
    import soundfile

    if not path.is_file():  # neither a folder nor a pipe that would be waited for
        raise AudioFileError("there is no such file.", where=str(path), remedy="Check the name.")
    try:
        riff = inspect_riff(path)
        info = soundfile.info(str(path))
    except soundfile.LibsndfileError as error:
        raise AudioFileError(
            "this is not audio that can be read.",
            where=str(path),
            remedy="WAV, RF64 and FLAC files can be used. Export it again as one of them.",
        ) from error
    except OSError as error:
        raise AudioFileError(
            f"it cannot be opened ({error.strerror}).", where=str(path), remedy="Check its rights."
        ) from error
    if riff is not None and riff.cut_off:
        share = riff.data_bytes_there / max(riff.data_bytes_promised, 1)
        raise AudioFileError(
            f"it is cut off: {share:.0%} of the audio that its header promises is there.",
            where=str(path),
            remedy="Copy or export it again.",
        )
    if info.frames <= 0:
        raise AudioFileError(
            "it holds no audio (zero frames).", where=str(path), remedy="Choose another file."
        )
    if not RATES_HZ[0] <= info.samplerate <= RATES_HZ[1]:
        raise AudioFileError(
            f"its header says {info.samplerate} Hz.",
            where=str(path),
            remedy=f"Rates from {RATES_HZ[0]} to {RATES_HZ[1]} Hz can be read. Is it damaged?",
        )
    if info.channels > MOST_CHANNELS:
        raise AudioFileError(
            f"its header says {info.channels} channels.",
            where=str(path),
            remedy=f"Up to {MOST_CHANNELS} channels can be read. Is it damaged?",
        )
    return AudioInfo(
        path=path,
        rate_hz=int(info.samplerate),
        frames=int(info.frames),
        channels=int(info.channels),
        subtype=str(info.subtype),
        bext=riff.bext if riff else None,
    )


def read_blocks(
    info: AudioInfo, *, first: int = 0, count: int | None = None, block: int = BLOCK_FRAMES
) -> Iterator[Audio32]:
    """Blocks of (frames, channels) from `first` on; refuses NaN and infinity by frame."""
    import soundfile

    rest = info.frames - first if count is None else min(count, info.frames - first)
    try:
        with soundfile.SoundFile(str(info.path)) as file:
            file.seek(first)
            at = first
            while rest > 0:
                samples = file.read(min(block, rest), dtype="float32", always_2d=True)
                if samples.shape[0] == 0:
                    raise AudioFileError(
                        f"it ends at frame {at} of {info.frames}.",
                        where=str(info.path),
                        remedy="It is damaged: copy or export it again.",
                    )
                require_finite(samples, f"{info.path.name}, from frame {at}")
                yield samples
                at += samples.shape[0]
                rest -= samples.shape[0]
    except soundfile.LibsndfileError as error:
        raise AudioFileError(
            "it cannot be read to its end.",
            where=str(info.path),
            remedy="It is damaged: copy or export it again.",
        ) from error


def resampled(blocks: Iterator[Audio32], from_hz: int, to_hz: int) -> Iterator[NDArray[Any]]:
    """Mono blocks (frames,) at another rate, streaming."""
    import soxr

    stream = soxr.ResampleStream(from_hz, to_hz, 1, dtype="float32", quality="VHQ")
    for samples in blocks:
        out = stream.resample_chunk(np.ascontiguousarray(samples))
        if out.size:
            yield out
    tail = stream.resample_chunk(np.zeros(0, dtype=np.float32), last=True)
    if tail.size:
        yield tail


def resample_whole(samples: Audio32, from_hz: int, to_hz: int) -> Audio32:
    """A whole mono signal at another rate."""
    if from_hz == to_hz:
        return samples
    import soxr

    return np.asarray(soxr.resample(samples, from_hz, to_hz, quality="VHQ"), dtype=np.float32)
