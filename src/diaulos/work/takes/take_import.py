"""Files from elsewhere as one take: a track for every channel that is wanted, in time.

Broadcast Wave files say where they lie on the day's line (their time reference); where all
of them do, later ones get silence ahead, so that they lie as they were recorded.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import cast, get_args

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.records import dataclass
from diaulos.rig.model import Tap
from diaulos.session.edits import Edit, add_take
from diaulos.session.instrument import one_line
from diaulos.session.model import Session, Take, Track
from diaulos.signal.clipping import ClipCounter
from diaulos.work.blocks import mono_blocks, write_all
from diaulos.work.measuring import finite_or_none, measure_source
from diaulos.work.ports import (
    AudioSink,
    CancelToken,
    Clock,
    ExternalFiles,
    ExternalSource,
    FileNotes,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.takes.importing import (
    ImportOutcome,
    Resampler,
    importable_channel,
    next_take_number,
)
from diaulos.work.takes.ready import NO_SIDE, TrackSide, free_name, pair_name

MOST_TRACKS = 64
LEAST_DBU, MOST_DBU = -40.0, 60.0


LONGEST_GAP_S = 3_600.0
"""Files further apart than this are no one take."""


_HINTS: tuple[tuple[str, Tap], ...] = (
    (r"cab|speaker|impulse", "cabinet"),
    (r"mic|room|ribbon|condenser|dynamic", "mic"),
    (r"model|processed|wet", "modeled"),
    (r"\bdi\b|dry|direct|clean", "di"),
    (r"amp|head|load", "amp"),
)


@dataclass(frozen=True)
class WantedTrack:
    """One channel (from 1) of a file, and what it is. `full_scale_dbu` is the dBu of a sine that
    reached 0 dBFS in it, told of a DI; None where nobody knows."""

    path: Path
    name: str
    tap: Tap
    channel: int = 1
    full_scale_dbu: float | None = None

    def __post_init__(self) -> None:
        if self.full_scale_dbu is not None and not LEAST_DBU <= self.full_scale_dbu <= MOST_DBU:
            raise InputError(
                f"{self.full_scale_dbu:g} dBu at 0 dBFS is no plausible calibration.",
                where=self.name,
                remedy=f"Give {LEAST_DBU:g} to {MOST_DBU:g} dBu, or leave it out.",
            )


@dataclass(frozen=True)
class TakeImportRequest:
    """Which channels of which files make up the take."""

    name: str
    tracks: tuple[WantedTrack, ...]
    instrument_id: str = ""


def guess_tap(name: str) -> Tap:
    """What a file's name says of its tap; a dry DI where it says nothing."""
    words = re.sub(r"[^a-z0-9]+", " ", name.lower())
    return next((tap for pattern, tap in _HINTS if re.search(pattern, words)), "di")


def wanted_tracks(path: Path, channels: int) -> tuple[WantedTrack, ...]:
    """Every channel of a file, named after it."""
    stem = one_line(path.stem, 180)
    if channels == 1:
        return (WantedTrack(path, stem, guess_tap(stem)),)
    return tuple(
        WantedTrack(path, f"{stem}, channel {n}", guess_tap(stem), n)
        for n in range(1, channels + 1)
    )


def import_take(
    request: TakeImportRequest,
    session: Session,
    *,
    store: SessionStore,
    files: ExternalFiles,
    resample: Resampler,
    clock: Clock,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> ImportOutcome:
    """Copy the channels into the session as one take. What was written is removed again when
    one of them cannot be read, or somebody cancels."""
    cancel = cancel or CancelToken()
    if not 1 <= len(request.tracks) <= MOST_TRACKS:
        raise InputError(f"A take has 1 to {MOST_TRACKS} tracks.", remedy="Choose other files.")
    rate, now = session.sample_rate_hz, clock()
    sources = [files.open(one.path) for one in request.tracks]
    for one, source in zip(request.tracks, sources, strict=True):
        importable_channel(source, one.channel, one.path)
    ahead, reference, lined_up = _lines(sources, rate)
    sides = _sides(request.tracks, sources)
    take_id = f"t{next_take_number(session, store):04d}"
    total = sum(source.frames for source in sources)
    written: list[AudioSink] = []
    tracks: list[Track] = []
    done = 0
    try:
        for number, (one, source) in enumerate(zip(request.tracks, sources, strict=True)):
            file = f"audio/{take_id}_k{number + 1:02d}.wav"
            notes = FileNotes(
                description=f"{session.name}; {request.name}; {one.name}; {one.tap}",
                made_at=now,
                time_reference=reference,
                history=f"import of {one.path.name} at {source.rate_hz} Hz",
            )
            word = "float" if source.is_float else session.word_length
            sink = store.create_audio(file, rate, 1, word, notes)
            written.append(sink)
            clips = ClipCounter(source.bits)
            told = _told(mono_blocks(source.blocks(), one.channel - 1), done, total, clips,
                         progress, cancel)  # fmt: skip
            if source.rate_hz != rate:
                told = resample(told, source.rate_hz, rate)
            write_all(sink, (block[:, None] for block in _behind(told, ahead[number])))
            done += source.frames
            pair, side = sides.get(number, NO_SIDE)
            track = _track(number, one, file, store, clips)
            tracks.append(track.model_copy(update={"pair": pair, "side": side}))
    except BaseException:
        for sink in written:
            sink.abandon()
        raise
    take = Take(
        id=take_id,
        name=request.name,
        recorded_at=now.isoformat(timespec="seconds"),
        time_reference=reference,
        instrument_id=request.instrument_id,
        tracks=tuple(tracks),
    )
    return ImportOutcome(
        take, Edit(f"Import {request.name}", add_take(take).change), _note(sources, rate, lined_up,
                                                                          tracks),
    )  # fmt: skip


def _sides(
    wanted: Sequence[WantedTrack], sources: Sequence[ExternalSource]
) -> dict[int, tuple[str, TrackSide]]:
    """By their places: the channels of a file of two that are told to be the same, but for their
    sides. A dry DI has none: what else is in its file is something else."""
    found: dict[int, tuple[str, TrackSide]] = {}
    for at, (one, source) in enumerate(zip(wanted, sources, strict=True)):
        if source.channels != 2 or one.channel != 1 or one.tap in ("di", "printed"):
            continue
        for place, other in enumerate(wanted):
            if (other.path, other.channel, other.tap) == (one.path, 2, one.tap):
                taken = {name for name, _ in found.values()}
                name = free_name(pair_name(one.name, other.name), taken)
                found |= {at: (name, "left"), place: (name, "right")}
    return found


def _lines(sources: list[ExternalSource], rate: int) -> tuple[list[int], int, bool]:
    """(silence ahead of each in frames of the session, the take's time reference, whether they
    were lined up)."""
    seconds = [
        None if one.time_reference is None else one.time_reference / one.rate_hz for one in sources
    ]
    known = [one for one in seconds if one is not None]
    if len(known) != len(sources) or max(known) - min(known) > LONGEST_GAP_S:
        return [0] * len(sources), 0, False
    first = min(known)
    ahead = [round((one - first) * rate) for one in known]
    return ahead, round(first * rate), any(ahead)


def _behind(blocks: Iterator[NDArray[np.float32]], frames: int) -> Iterator[NDArray[np.float32]]:
    """Blocks with silence ahead of them."""
    while frames > 0:
        count = min(65_536, frames)
        yield np.zeros(count, np.float32)
        frames -= count
    yield from blocks


def _told(
    blocks: Iterator[NDArray[np.float32]], done: int, total: int, clips: ClipCounter,
    progress: Progress, cancel: CancelToken,
) -> Iterator[NDArray[np.float32]]:  # fmt: skip
    for block in blocks:
        cancel.check()
        clips.add(block)
        yield block
        done += block.shape[0]
        progress(done / max(1, total), "Importing")


def _track(
    number: int, one: WantedTrack, file: str, store: SessionStore, clips: ClipCounter
) -> Track:
    stored = store.open_audio(file)
    levels = measure_source(stored)
    return Track(
        id=f"k{number + 1:02d}",
        name=one.name,
        tap=one.tap,
        file=file,
        frames=stored.frames,
        full_scale_dbu=one.full_scale_dbu if one.tap in ("di", "printed") else None,
        peak_dbfs=max(levels.peak_dbfs, -200.0),
        loudness_lufs=finite_or_none(levels.loudness.lufs),
        quietest_dbfs=levels.quietest_dbfs,
        clipped_samples=clips.samples,
        flat_tops=clips.flat_tops,
    )


def _note(sources: list[ExternalSource], rate: int, lined_up: bool, tracks: list[Track]) -> str:
    words = []
    others = sorted({one.rate_hz for one in sources if one.rate_hz != rate})
    if others:
        told = ", ".join(str(one) for one in others)
        words.append(f"Resampled from {told} to {rate} Hz, the session's rate.")
    if lined_up:
        words.append("Lined up by their time references.")
    clipped = [one.name for one in tracks if one.clipped_samples]
    if clipped:
        words.append(f"At full scale, so it clipped: {', '.join(clipped)}.")
    return " ".join(words)


def told_tracks(wanted: tuple[WantedTrack, ...], words: Sequence[str]) -> tuple[WantedTrack, ...]:
    """Tracks with what a person says of them: "2=di:12" is the second, a dry DI of which a sine of
    12 dBu reached 0 dBFS. InputError for what cannot be read."""
    found = list(wanted)
    for one in words:
        place, equals, rest = one.partition("=")
        tap, _, level = rest.partition(":")
        taps = get_args(Tap)
        if not (equals and place.strip().isdecimal() and tap in taps):
            raise InputError(
                f"{one!r} says nothing of a track.", where="--as",
                remedy=f"Write 2=di:12 or 1=modeled. Taps: {', '.join(taps)}.",
            )  # fmt: skip
        index = int(place) - 1
        if not 0 <= index < len(found):
            raise InputError(
                f"there is no track {place}.", where="--as",
                remedy=f"They are counted from 1 to {len(found)}, file by file.",
            )  # fmt: skip
        try:
            full = float(level) if level else None
        except ValueError:
            raise InputError(
                f"{level!r} is no level.", where="--as", remedy="Write dBu, such as 12."
            ) from None
        found[index] = replace(found[index], tap=cast("Tap", tap), full_scale_dbu=full)
    return tuple(found)
