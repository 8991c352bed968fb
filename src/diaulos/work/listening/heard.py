"""What is heard of takes and passes: tracks, passes, gains, alignment, cabinets, for every view."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial

from diaulos.session.model import AlignmentRecord, MatchTarget, Pass, Return, Session, Take
from diaulos.work.listening.aligned import return_in_time
from diaulos.work.listening.cabinets import CabinetReader, InPlace, Side, in_place
from diaulos.work.listening.placing import moved_record, through_filters
from diaulos.work.listening.player import Channel, ReadBlock
from diaulos.work.measuring import read_span
from diaulos.work.ports import AudioSource, SessionStore

Tried = Mapping[str, InPlace | None]
"""Cabinets that are tried on audio files and not kept yet."""


def track_reader(file: str, store: SessionStore, session: Session | None = None) -> ReadBlock:
    """A track in the take's time: as it was recorded, or as the session has it heard, moved and
    through its filters."""
    source = store.open_audio(file)
    if session is None:
        return partial(read_span, source)
    placed = moved_record(None, session.moves.get(file))
    read = partial(return_in_time, source, placed)
    return through_filters(session, file, read, heard_frames(source, placed))


def return_reader(
    made: Pass, one: Return, store: SessionStore, session: Session | None = None
) -> ReadBlock:
    """A return in the take's time: its delay and polarity taken out; with a session moved and
    through its filters on top."""
    source = store.open_audio(one.file)
    placed = made.placed(one)
    if session is None:
        return partial(return_in_time, source, placed, part=made.part)
    placed = moved_record(placed, session.moves.get(one.file))
    read = partial(return_in_time, source, placed, part=made.part)
    return through_filters(session, one.file, read, heard_frames(source, placed))


def heard_frames(source: AudioSource, placed: AlignmentRecord | None) -> int:
    """How long a recording is heard from the take's beginning on: what lies late ends later."""
    if placed is None:
        return source.frames
    stretched = source.frames * (1.0 + abs(placed.told_drift_ppm) * 1e-6)
    return max(0, math.ceil(stretched - min(0.0, placed.delay_samples))) + 1


def return_gain_db(one: Return) -> float:
    """What brings a return to its reference, 0 where it was not matched."""
    return one.match.total_db if one.match else 0.0


def cabinet_of(
    session: Session, file: str, store: SessionStore, tried: Tried | None = None
) -> InPlace | None:
    """What a stored file is heard through: what is tried, else what is in place."""
    if tried and file in tried:
        return tried[file]
    return in_place(session, file, store)


def channels_through(channel: Channel, cabinet: InPlace | None, column: Side = "") -> list[Channel]:
    """What is heard of a channel behind a cabinet: a stereo one makes a pair of it, unless the
    channel is one side (`column`) of a pair itself."""
    if cabinet is None:
        return [channel]

    def through(side: Side) -> CabinetReader:
        return CabinetReader(channel.read, cabinet.column(side), cabinet.gain_db)

    if column or cabinet.taps.shape[1] == 1:
        return [replace(channel, read=through(column))]
    sides: tuple[Side, ...] = ("left", "right")
    return [replace(channel, read=through(side), side=side) for side in sides]


def part_channels(
    key: str, session: Session, made: Pass, part: Sequence[Return], store: SessionStore,
    offset_db: float = 0.0, tried: Tried | None = None,
) -> list[Channel]:  # fmt: skip
    """What belongs together, as one thing to hear."""
    found = []
    for one in part:
        gain = return_gain_db(one) + offset_db
        channel = Channel(key, return_reader(made, one, store, session), gain, side=one.side)
        cabinet = cabinet_of(session, one.file, store, tried)
        found += channels_through(channel, cabinet, one.side)
    return found


def compared_channels(
    session: Session,
    take: Take,
    made: Pass | None,
    target: MatchTarget,
    store: SessionStore,
    part: Sequence[Return] = (),
    tried: Tried | None = None,
) -> tuple[Channel, ...]:
    """ "di", "reference" and "pass" of a take, at matched level: what a person compares after a
    reamp; of the pass what belongs together as `part` (its first by default). Where the pair had to
    come down to stay under the ceiling, the reference does too."""
    if take.sent is None:
        return ()
    channels = [Channel("di", track_reader(take.sent.file, store, session))]
    heard = part or (made.parts[0] if made is not None else ())
    match = heard[0].match if heard else None
    offset = match.pair_offset_db if match else 0.0
    if target.kind == "track":
        tracks = take.part(target.ident)
        for track in tracks:
            side: Side = track.side if len(tracks) == 2 else ""
            read = track_reader(track.file, store, session)
            reference = Channel("reference", read, offset, side=side)
            cabinet = cabinet_of(session, track.file, store, tried)
            channels += channels_through(reference, cabinet, side)
    elif target.kind == "pass":
        other = take.pass_(target.ident)
        first = other.parts[0]
        channels += part_channels("reference", session, other, first, store, offset, tried)
    if made is not None:
        channels += part_channels("pass", session, made, heard, store, tried=tried)
    return tuple(channels)


def heard_through(session: Session, file: str) -> tuple[object, ...]:
    """What a session does to a file on its way to the ear; who keeps a reader keeps this too."""
    return (
        session.cabinets.get(file), session.moves.get(file), session.low_cuts.get(file),
        session.gates.get(file),
    )  # fmt: skip


def heard_otherwise(before: Session, after: Session) -> bool:
    """Whether the mix, or what anything is heard through, is another one."""
    return any(
        getattr(before, part) is not getattr(after, part)
        for part in ("mix", "cabinets", "moves", "low_cuts", "gates")
    )
