"""Cabinets that a person brings: impulse responses copied into the session."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.ids import free_id
from diaulos.session.edits import Edit, add_impulse
from diaulos.session.instrument import one_line
from diaulos.session.model import (
    Impulse,
    Session,
)
from diaulos.work.blocks import mono_blocks, write_all
from diaulos.work.measuring import read_mono
from diaulos.work.ports import (
    Clock,
    ExternalFiles,
    FileNotes,
    SessionStore,
)
from diaulos.work.takes.importing import Resampler

MAX_IMPULSE_S = 2.0


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
    """Copy an impulse response into the session, at its rate, peak-normalised to its sum."""
    source = files.open(path)
    if source.frames > MAX_IMPULSE_S * source.rate_hz:
        raise InputError(
            f"it lasts {source.frames / source.rate_hz:.1f} s; a cabinet's impulse response "
            f"has at most {MAX_IMPULSE_S:g} s.",
            where=str(path),
            remedy="Is this a recording instead of an impulse response?",
        )
    mono = mono_blocks(source.blocks(), 0)
    rate = session.sample_rate_hz
    note = ""
    if source.rate_hz != rate:
        mono = resample(mono, source.rate_hz, rate)
        note = f"Resampled from {source.rate_hz} to {rate} Hz."
    taps = np.concatenate(list(mono)).astype(np.float64)
    if float(np.max(np.abs(taps))) < 1e-6:
        raise InputError("it is silent.", where=str(path), remedy="Choose another file.")
    # Unity near the loudest band, as the stand-in cabinets are near 500 Hz.
    spectrum = np.abs(np.fft.rfft(taps, max(16_384, taps.size)))
    taps = taps / float(np.max(spectrum)) * 2.0
    stem = re.sub(r"[^A-Za-z0-9_-]+", "-", path.stem)[:60].strip("-_") or "cabinet"
    name = free_id(lambda name: store.has_file(f"impulses/{name}.wav"), stem, between="-")
    file = f"impulses/{name}.wav"
    notes = FileNotes(f"Cabinet impulse response {path.name}", clock())
    sink = store.create_audio(file, rate, 1, "float", notes)
    write_all(sink, iter([taps.astype(np.float32)[:, None]]))
    impulse = Impulse(name=one_line(path.stem) or "Cabinet", file=file)
    return ImpulseOutcome(impulse, add_impulse(impulse), note)


def load_impulses(session: Session, store: SessionStore) -> dict[str, NDArray[np.float64]]:
    """The session's own cabinets by the name that a rig uses for them: their file."""
    return {
        impulse.file: read_mono(store.open_audio(impulse.file)).astype(np.float64)
        for impulse in session.impulses
        if store.has_file(impulse.file)
    }
