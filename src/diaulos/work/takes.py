"""Use cases around stored takes: import a DI or a cabinet, export a pass, recover."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import EditError, InputError
from diaulos.rig.model import Rig
from diaulos.session.edits import Edit, add_impulse, add_instrument, add_pass, add_take
from diaulos.session.model import (
    Family,
    Impulse,
    Pass,
    Session,
    Take,
    Track,
    rig_hash,
)
from diaulos.session.representative import representative
from diaulos.work.aligned import pass_blocks
from diaulos.work.files import one_channel, write_all
from diaulos.work.loop import LoopResult, mono_blocks, part_of
from diaulos.work.measuring import finite_or_none, measure_blocks, read_mono
from diaulos.work.ports import (
    AudioSink,
    AudioSource,
    CancelToken,
    Clock,
    ExternalFiles,
    FileNotes,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.reamp import Returned, alignment_record, measure_return
from diaulos.work.unload import undo_for, unloaded

RATES_HZ = (44_100, 192_000)
MAX_IMPULSE_S = 2.0

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
    blocks = _told(mono_blocks(source.blocks(), channel), source.frames, progress, cancel)
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
        clipped_samples=levels.clipped_samples,
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
    if levels.clipped_samples:
        note += f" {levels.clipped_samples} samples are at full scale: the recording clipped."
    return ImportOutcome(take, Edit(f"Import {request.name}", change), note.strip())


def _instrument(request: ImportRequest, session: Session) -> tuple[str, Edit | None]:
    if not request.new_instrument:
        return request.instrument_id, None
    base = re.sub(r"[^a-z0-9]+", "_", request.new_instrument.lower()).strip("_") or "instrument"
    base = base if base[0].isalpha() else f"i_{base}"
    ident, number = base[:36], 2
    while any(i.id == ident for i in session.instruments):
        ident, number = f"{base[:32]}_{number}", number + 1
    made = representative(ident, request.new_instrument, request.family)
    return ident, add_instrument(made)


def next_take_number(session: Session, store: SessionStore) -> int:
    """The first number that neither a take nor a file has."""
    takes = (*session.takes, *session.take_bin)
    numbers = [int(take.id[1:]) for take in takes if take.id[1:].isdigit()]
    number = max(numbers, default=0) + 1
    while store.has_file(f"audio/t{number:04d}_k01.wav"):
        number += 1
    return number


def _told(
    blocks: Iterator[NDArray[np.float32]], frames: int, progress: Progress, cancel: CancelToken
) -> Iterator[NDArray[np.float32]]:
    done = 0
    for block in blocks:
        cancel.check()
        yield block
        done += block.shape[0]
        progress(min(1.0, done / max(frames, 1)), "Reading")


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
    file, number = f"impulses/{stem}.wav", 2
    while store.has_file(file):
        file, number = f"impulses/{stem}-{number}.wav", number + 1
    notes = FileNotes(f"Cabinet impulse response {path.name}", clock())
    sink = store.create_audio(file, rate, 1, "float", notes)
    write_all(sink, iter([taps.astype(np.float32)[:, None]]))
    impulse = Impulse(name=path.stem[:200] or "Cabinet", file=file)
    return ImpulseOutcome(impulse, add_impulse(impulse), note)


def load_impulses(session: Session, store: SessionStore) -> dict[str, NDArray[np.float64]]:
    """The session's own cabinets by the name that a rig uses for them: their file."""
    return {
        impulse.file: read_mono(store.open_audio(impulse.file)).astype(np.float64)
        for impulse in session.impulses
        if store.has_file(impulse.file)
    }


def export_pass(
    session: Session,
    take: Take,
    one: Pass,
    source: AudioSource,
    create: Callable[[FileNotes], AudioSink],
    clock: Clock,
) -> None:
    """Write a pass as Broadcast Wave: aligned to the DI's start, at its matched level."""
    frames = take.track(one.track_id).frames
    gain = one.match.total_db if one.match else 0.0
    lag = one.alignment.delay_samples if one.alignment else 0.0
    notes = FileNotes(
        description=f"{session.name}; {take.name}; {one.name}; aligned to the DI",
        made_at=clock(),
        time_reference=take.time_reference,
        history=f"reamp; moved {-lag:.2f} samples; gain {gain:+.2f} dB",
    )
    write_all(create(notes), pass_blocks(source, one, frames))


_PASS_FILE = re.compile(r"audio/(t\d{4})_(p\d{2,})_k\d{2}\.wav")


def recoverable(session: Session, orphans: list[str]) -> list[str]:
    """Those files without an entry that are returns of a take that is still there."""
    found = []
    for file in orphans:
        name = _PASS_FILE.fullmatch(file)
        take = next((t for t in session.takes if name and t.id == name[1]), None)
        if name and take and take.di and all(p.id != name[2] for p in take.passes):
            found.append(file)
    return found


def recover_passes(
    session: Session,
    store: SessionStore,
    files: list[str],
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> list[Edit]:
    """Edits that bring files of passes back which a dead process left in the folder.

    Delay, polarity and level are measured from the audio; with which gain it was sent
    nobody knows any more. Files that cannot be read are left where they are.
    """
    cancel = cancel or CancelToken()
    edits = []
    for number, file in enumerate(recoverable(session, files)):
        name = _PASS_FILE.fullmatch(file)
        assert name is not None
        take = session.take(name[1])
        assert take.di is not None
        part = part_of(progress, number / len(files), (number + 1) / len(files))
        try:
            back, di = store.open_audio(file), store.open_audio(take.di.file)
            returned = measure_return(di, 0, back, LoopResult(back.frames, 0), part, cancel)
        except InputError:
            continue
        edits.append(_recovered(session, take, take.di, name[2], file, returned))
    return edits


def _recovered(
    session: Session, take: Take, di: Track, pass_id: str, file: str, returned: Returned
) -> Edit:
    levels, rig = returned.levels, session.rig()
    made = Pass(
        id=pass_id,
        name=f"Recovered {pass_id}",
        track_id=di.id,
        file=file,
        frames=returned.loop.frames,
        rig_hash=rig_hash(rig),
        rig_name=rig.name,
        made_at=take.recorded_at,
        send_gain_db=0.0,
        amp_peak_dbu=0.0,
        return_gain_db=0.0,
        alignment=alignment_record(returned.alignment),
        alignment_refused=returned.refused,
        peak_dbfs=max(levels.peak_dbfs, -200.0),
        true_peak_dbtp=max(levels.true_peak_dbtp, -200.0),
        clipped_samples=levels.clipped_samples,
        loudness_lufs=finite_or_none(levels.loudness.lufs),
        match=None,
        notes="Recovered after Diaulos ended early; its tone is not known for sure.",
    )
    return add_pass(take.id, made, rig)


@dataclass(frozen=True)
class UnloadedTake:
    """A corrected DI as a take of its own, and the edit that adds it."""

    take: Take
    edit: Edit
    words: str


def store_unloaded(
    session: Session,
    take: Take,
    rig: Rig,
    *,
    store: SessionStore,
    clock: Clock,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> UnloadedTake:
    """Write a take's DI with its load undone as a new take; the first one stays as it is."""
    cancel = cancel or CancelToken()
    if take.di is None:
        raise EditError(f"{take.name} has no dry DI.", remedy="Choose a take with one.")
    undo = undo_for(session, take, take.di, rig)
    source = unloaded(store.open_audio(take.di.file), undo)
    number = next_take_number(session, store)
    name, file = f"{take.name}, load undone"[:200], f"audio/t{number:04d}_k01.wav"
    now = clock()
    notes = FileNotes(
        description=f"{session.name}; {name}; {undo.words}",
        made_at=now,
        time_reference=take.time_reference,
        history=f"load undone: {undo.words}",
    )
    sink = store.create_audio(file, source.rate_hz, 1, "float", notes)

    def told() -> Iterator[NDArray[np.float32]]:
        done = 0
        for block in source.blocks():
            cancel.check()
            yield block[:, :1]
            done += block.shape[0]
            progress(min(1.0, done / source.frames), "Undoing the load")

    write_all(sink, told())
    levels = measure_blocks(store.open_audio(file).blocks(), source.rate_hz, 1)
    track = take.di.model_copy(
        update={
            "file": file,
            "load_ohm": undo.wanted.ohm,
            "load_pf": undo.wanted.farad * 1e12,
            "peak_dbfs": max(levels.peak_dbfs, -200.0),
            "loudness_lufs": finite_or_none(levels.loudness.lufs),
        }
    )
    made = take.model_copy(
        update={
            "id": f"t{number:04d}", "name": name, "tracks": (track,), "passes": (),
            "notes": f"Load undone: {undo.words}",
        }
    )  # fmt: skip
    edit = add_take(made)
    return UnloadedTake(made, Edit(f"Undo the load of {take.name}", edit), undo.words)
