"""Cabinets that a person brings: impulse responses copied into the session, or looked through in a
folder first."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import DiaulosError, InputError
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.session.edits import Edit, add_impulse
from diaulos.session.instrument import one_line
from diaulos.session.model import (
    Impulse,
    Session,
)
from diaulos.work.blocks import mono_blocks, write_all
from diaulos.work.measuring import read_mono
from diaulos.work.ports import (
    AudioSource,
    CancelToken,
    Clock,
    ExternalFiles,
    FileNotes,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.takes.importing import Resampler

Real = NDArray[np.float64]

MAX_IMPULSE_S = 2.0
MAX_FILE_S = 10.0
"""A file may be longer: what is silent of it is left out."""
SILENT = 1e-6
QUIET = 1e-3
"""Re its peak: what lies ahead of it, and is quieter, is silence."""
TAIL_DB = -90.0
"""What is left of its energy where it may end."""
AHEAD_S = 0.0005
MOST_FILES = 2_000
AUDIO = (".wav", ".flac")

BRIGHT_HZ = (80.0, 12_000.0)
"""Where brightness is told from: what a guitar's loudspeaker gives."""


@dataclass(frozen=True)
class ReadImpulse:
    """A response as it is used: at the session's rate, trimmed, shape (samples, 1 or 2)."""

    taps: Real
    note: str


def read_impulse(
    path: Path, files: ExternalFiles, resample: Resampler, rate_hz: int
) -> ReadImpulse:
    """An impulse response from a file of any rate, mono or stereo (of more channels the first two):
    silence ahead and behind is left out, both sides alike. Scaled so that the loudest band of the
    stronger side is twice as loud as what goes in, as the stand-in cabinets are.

    Raises InputError for a file that is silent or too long to be one.
    """
    source = files.open(path)
    if source.frames > MAX_FILE_S * source.rate_hz:
        raise _too_long(path, source.frames / source.rate_hz)
    taps = _trimmed(np.stack(_columns(source, resample, rate_hz), axis=1), rate_hz, path)
    if taps.shape[0] > MAX_IMPULSE_S * rate_hz:
        raise _too_long(path, taps.shape[0] / rate_hz)
    notes = []
    if source.rate_hz != rate_hz:
        notes.append(f"Resampled from {source.rate_hz} to {rate_hz} Hz.")
    if source.channels > 2:
        notes.append(f"The first two of its {source.channels} channels are used.")
    spectrum = np.abs(np.fft.rfft(taps, max(16_384, taps.shape[0]), axis=0))
    return ReadImpulse(taps / float(np.max(spectrum)) * 2.0, " ".join(notes))


def _columns(source: AudioSource, resample: Resampler, rate_hz: int) -> list[Real]:
    columns = []
    for channel in range(min(2, source.channels)):
        mono: Iterator[NDArray[Any]] = mono_blocks(source.blocks(), channel)
        if source.rate_hz != rate_hz:
            mono = resample(mono, source.rate_hz, rate_hz)
        columns.append(np.concatenate(list(mono)).astype(np.float64))
    return columns


def _too_long(path: Path, seconds: float) -> InputError:
    return InputError(
        f"it lasts {seconds:.1f} s; a cabinet's impulse response has at most {MAX_IMPULSE_S:g} s.",
        where=str(path),
        remedy="Is this a recording instead of an impulse response?",
    )


def _trimmed(taps: Real, rate_hz: int, path: Path) -> Real:
    """Without the silence ahead, and without what nobody hears at the end."""
    loudest = np.max(np.abs(taps), axis=1, initial=0.0)
    peak = float(np.max(loudest, initial=0.0))
    if peak < SILENT:
        raise InputError("it is silent.", where=str(path), remedy="Choose another file.")
    first = max(0, int(np.argmax(loudest > QUIET * peak)) - round(AHEAD_S * rate_hz))
    left = np.cumsum(np.sum(taps[::-1] ** 2, axis=1))[::-1]
    last = int(np.searchsorted(-left, -left[0] * 10.0 ** (TAIL_DB / 10.0)))
    return taps[first : max(first + 1, last)]


@dataclass(frozen=True)
class ImpulseOutcome:
    """A brought cabinet: its name in the rig's choice is the impulse's file."""

    impulse: Impulse
    edit: Edit
    note: str


def import_impulse(
    path: Path,
    session: Session,
    *,
    store: SessionStore,
    files: ExternalFiles,
    resample: Resampler,
    clock: Clock,
) -> ImpulseOutcome:
    """Copy an impulse response into the session, as `read_impulse` gives it. One that is there
    already, by its sound, is used and not copied again."""
    rate = session.sample_rate_hz
    found = read_impulse(path, files, resample, rate)
    taps = found.taps.astype(np.float32)
    known = _known(session, store, taps)
    if known is not None:
        return ImpulseOutcome(known, Edit("Cabinet", lambda now: now), found.note)
    stem = re.sub(r"[^A-Za-z0-9_-]+", "-", path.stem)[:60].strip("-_") or "cabinet"
    name = free_id(lambda name: store.has_file(f"impulses/{name}.wav"), stem, between="-")
    file = f"impulses/{name}.wav"
    notes = FileNotes(f"Cabinet impulse response {path.name}", clock())
    channels = taps.shape[1]
    sink = store.create_audio(file, rate, channels, "float", notes)
    write_all(sink, iter([taps]))
    impulse = Impulse(name=one_line(path.stem) or "Cabinet", file=file, channels=channels)
    return ImpulseOutcome(impulse, add_impulse(impulse), found.note)


def _known(session: Session, store: SessionStore, taps: NDArray[np.float32]) -> Impulse | None:
    for impulse in session.impulses:
        if not store.has_file(impulse.file):
            continue
        source = store.open_audio(impulse.file)
        if (source.frames, source.channels) == taps.shape:
            old = np.concatenate(list(source.blocks()))
            if np.array_equal(old, taps):
                return impulse
    return None


# --- a folder of them ---


@dataclass(frozen=True)
class FoundImpulse:
    """A file of a folder that can be used as a cabinet."""

    path: Path
    name: str
    """Its path inside the folder, without the suffix."""
    channels: int
    rate_hz: int
    seconds: float
    bright_hz: float


@dataclass(frozen=True)
class ImpulseFolder:
    """What a folder holds: the usable files from dark to bright, and why others are left out."""

    found: tuple[FoundImpulse, ...]
    refused: tuple[str, ...]


def list_impulses(
    folder: Path,
    files: ExternalFiles,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> ImpulseFolder:
    """The impulse responses of a folder and of those inside it, from dark to bright.

    Links are not followed. At most 2,000 files are looked at.
    """
    check = (cancel or CancelToken()).check
    paths = []
    for path in sorted(folder.rglob("*")):
        check()
        if path.suffix.lower() in AUDIO and path.is_file() and not path.is_symlink():
            paths.append(path)
    refused = []
    if len(paths) > MOST_FILES:
        refused.append(f"{len(paths) - MOST_FILES} files beyond the first {MOST_FILES}")
    found = []
    for number, path in enumerate(paths[:MOST_FILES]):
        check()
        progress(number / len(paths), path.name)
        try:
            found.append(_looked_at(folder, path, files))
        except DiaulosError as error:
            refused.append(str(error))
    found.sort(key=lambda one: (one.bright_hz, one.name))
    return ImpulseFolder(tuple(found), tuple(refused))


def _looked_at(folder: Path, path: Path, files: ExternalFiles) -> FoundImpulse:
    source = files.open(path)
    if source.frames > MAX_FILE_S * source.rate_hz:
        raise _too_long(path, source.frames / source.rate_hz)
    block = np.concatenate(list(source.blocks()))[:, :2].astype(np.float64)
    taps = _trimmed(block, source.rate_hz, path)
    name = path.relative_to(folder).with_suffix("").as_posix()
    return FoundImpulse(
        path, one_line(name) or path.name, taps.shape[1], source.rate_hz,
        taps.shape[0] / source.rate_hz, brightness_hz(taps, float(source.rate_hz)),
    )  # fmt: skip


def brightness_hz(taps: Real, rate_hz: float) -> float:
    """Where the middle of a response's power lies, octave by octave, from 80 Hz to 12 kHz: the
    mean of the logarithm of frequency, weighted with the power per octave of a signal that has the
    same in each."""
    size = max(8_192, 1 << int(taps.shape[0] - 1).bit_length())
    power = np.sum(np.abs(np.fft.rfft(taps, size, axis=0)) ** 2, axis=1)
    freqs = np.fft.rfftfreq(size, 1.0 / rate_hz)
    band = (freqs >= BRIGHT_HZ[0]) & (freqs <= min(BRIGHT_HZ[1], rate_hz / 2.0))
    weight = power[band] / freqs[band]
    return float(np.exp(np.sum(weight * np.log(freqs[band])) / np.sum(weight)))


def load_impulses(session: Session, store: SessionStore) -> dict[str, NDArray[np.float64]]:
    """The session's own cabinets by the name that a rig uses for them: their file. A device has one
    loudspeaker: of a stereo response it gets the left side."""
    return {
        impulse.file: read_mono(store.open_audio(impulse.file)).astype(np.float64)
        for impulse in session.impulses
        if store.has_file(impulse.file)
    }
