"""Import of a file's channel as a take with a dry DI."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.session.edits import Edit, add_instrument, add_take
from diaulos.session.model import (
    Family,
    Session,
    Take,
    Track,
)
from diaulos.session.representative import representative
from diaulos.signal.clipping import ClipCounter
from diaulos.work.blocks import mono_blocks, one_channel, write_all
from diaulos.work.measuring import finite_or_none, measure_blocks
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

RATES_HZ = (44_100, 192_000)
AHEAD = "it clipped ahead of the converter"


Resampler = Callable[[Iterator[NDArray[np.float32]], int, int], Iterator[NDArray[Any]]]


@dataclass(frozen=True)
class ImportRequest:
    """What an import needs to know. `full_scale_dbu` is None for "unknown"."""

    path: Path
    name: str
    channel: int | None = None
    instrument_id: str = ""
    new_instrument: str = ""
    family: Family = "guitar"
    full_scale_dbu: float | None = None
    load_ohm: float | None = None


@dataclass(frozen=True)
class ImportOutcome:
    """The imported take, the edits that add it, and what a person should know."""

    take: Take
    edit: Edit
    note: str


def importable_channel(source: AudioSource, channel: int | None, path: Path) -> int:
    """The channel to take (from 0); an error says what cannot be imported."""
    if not RATES_HZ[0] <= source.rate_hz <= RATES_HZ[1]:
        raise InputError(
            f"its sample rate is {source.rate_hz} Hz.",
            where=str(path),
            remedy="Rates from 44100 to 192000 Hz can be imported.",
        )
    return one_channel(source, channel, str(path))


def import_di(
    request: ImportRequest,
    session: Session,
    *,
    store: SessionStore,
    files: ExternalFiles,
    resample: Resampler,
    clock: Clock,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> ImportOutcome:
    """Copy one channel of a file into the session as a take with a dry DI track."""
    cancel = cancel or CancelToken()
    source = files.open(request.path)
    channel = importable_channel(source, request.channel, request.path)
    if request.full_scale_dbu is not None and not -40.0 <= request.full_scale_dbu <= 60.0:
        raise InputError(
            f"{request.full_scale_dbu:g} dBu at 0 dBFS is not plausible.",
            where="dBu at 0 dBFS",
            remedy="Inputs reach full scale between -40 and +60 dBu; or choose unknown.",
        )
    number = next_take_number(session, store)
    take_id, file = f"t{number:04d}", f"audio/t{number:04d}_k01.wav"
    rate = session.sample_rate_hz
    now = clock()
    word = "float" if source.is_float else session.word_length
    notes = FileNotes(
        description=f"{session.name}; {request.name}; DI imported from {request.path.name}",
        made_at=now,
        history=f"import of {request.path.name} at {source.rate_hz} Hz",
    )
    sink = store.create_audio(file, rate, 1, word, notes)
    # Where the file clipped depends on its own word length, before it becomes the session's.
    clips = ClipCounter(source.bits)
    blocks = _told(mono_blocks(source.blocks(), channel), source.frames, clips, progress, cancel)
    if source.rate_hz != rate:
        blocks = resample(blocks, source.rate_hz, rate)
    write_all(sink, (block[:, None] for block in blocks))
    stored = store.open_audio(file)
    levels = measure_blocks(stored.blocks(), rate, 1)
    track = Track(
        id="k01",
        name="DI",
        tap="di",
        file=file,
        frames=stored.frames,
        full_scale_dbu=request.full_scale_dbu,
        load_ohm=request.load_ohm,
        peak_dbfs=max(levels.peak_dbfs, -200.0),
        loudness_lufs=finite_or_none(levels.loudness.lufs),
        quietest_dbfs=levels.quietest_dbfs,
        clipped_samples=clips.samples,
        flat_tops=clips.flat_tops,
    )
    instrument_id, extra = _instrument(request, session)
    take = Take(
        id=take_id,
        name=request.name,
        recorded_at=now.isoformat(timespec="seconds"),
        instrument_id=instrument_id,
        tracks=(track,),
    )
    add = add_take(take)

    def change(current: Session) -> Session:
        return add(extra(current) if extra else current)

    note = ""
    if source.rate_hz != rate:
        note = f"Resampled from {source.rate_hz} to {rate} Hz, the session's rate."
    if clips.samples:
        note += f" {clips.samples} samples are at full scale: the recording clipped."
    elif clips.flat_tops:
        note += f" {clips.flat_tops} flat tops below full scale: {AHEAD}."
    return ImportOutcome(take, Edit(f"Import {request.name}", change), note.strip())


def _instrument(request: ImportRequest, session: Session) -> tuple[str, Edit | None]:
    if not request.new_instrument:
        return request.instrument_id, None
    base = re.sub(r"[^a-z0-9]+", "_", request.new_instrument.lower()).strip("_") or "instrument"
    base = base if base[0].isalpha() else f"i_{base}"
    ident = free_id({i.id for i in session.instruments}, base[:32], between="_")
    made = representative(ident, request.new_instrument, request.family)
    return ident, add_instrument(made)


def next_take_number(session: Session, store: SessionStore) -> int:
    """The first number that neither a take nor a file has."""
    takes = (*session.takes, *session.take_bin)
    numbers = [int(take.id[1:]) for take in takes if take.id[1:].isdigit()]
    first = max(numbers, default=0) + 1
    return int(free_id(lambda ident: has_take_file(store, ident), "t", digits=4, first=first)[1:])


def has_take_file(store: SessionStore, take_id: str) -> bool:
    """Whether audio of a take of this id lies in the folder."""
    return store.has_file(f"audio/{take_id}_k01.wav")


def _told(
    blocks: Iterator[NDArray[np.float32]], frames: int, clips: ClipCounter, progress: Progress,
    cancel: CancelToken,
) -> Iterator[NDArray[np.float32]]:  # fmt: skip
    done = 0
    for block in blocks:
        cancel.check()
        clips.add(block)
        yield block
        done += block.shape[0]
        progress(min(1.0, done / max(frames, 1)), "Reading")
