"""Export of passes and tracks as Broadcast Wave, in time with the take, as they are heard."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from diaulos.session.model import (
    Pass,
    Return,
    Session,
    Take,
    Track,
)
from diaulos.units import db_to_gain
from diaulos.work.blocks import write_all
from diaulos.work.listening.aligned import BLOCK
from diaulos.work.listening.cabinets import (
    InPlace,
    Real,
    cabinet_title,
    in_place,
    through_blocks,
)
from diaulos.work.listening.heard import return_gain_db, return_reader, track_reader
from diaulos.work.listening.placing import moved_record
from diaulos.work.listening.player import ReadBlock
from diaulos.work.ports import (
    AudioSink,
    Clock,
    FileNotes,
    SessionStore,
)

CreateFile = Callable[[str, int, FileNotes], AudioSink]
"""Makes a file: what is added to its name, its channels, what is noted in it."""

CEILING_DBTP = -1.0
"""What comes through a cabinet stays under it, in files that could clip."""


def export_pass(
    session: Session,
    take: Take,
    made: Pass,
    store: SessionStore,
    create: CreateFile,
    clock: Clock,
    returns: Sequence[Return] = (),
    *,
    cabinets: bool = True,
) -> None:
    """Write a pass as Broadcast Wave: in the time and polarity of the take's reference (its dry
    DI unless another track is chosen), at its matched level, through the cabinets that are in place
    unless `cabinets` is off. A stereo pair is one file; of what else there are several, each is
    one. `returns` are those that are written, all by default.
    """
    frames = take.track(made.track_id).frames
    for added, part in _files(made, returns or made.returns):
        first = part[0]
        gain = first.match.total_db if first.match else 0.0
        placed = moved_record(made.placed(first), session.moves.get(first.file))
        lag = placed.delay_samples if placed else 0.0
        reference = take.reference_track
        against = next((one.against for one in part if one.against is not None), None)
        by_the_di = against is None or against.alignment is None or reference is None
        with_ = "the DI" if by_the_di or reference is None else reference.name
        called = f"{made.name}, {added}" if added else made.name
        through = _through(session, part, store) if cabinets else [None] * len(part)
        lower = _lower_db(session, part[0].file, gain) if through[0] is not None else 0.0
        notes = FileNotes(
            description=f"{session.name}; {take.name}; {called}; aligned to {with_}",
            made_at=clock(),
            time_reference=take.time_reference,
            history=f"reamp; moved {-lag:.2f} samples; gain {gain + lower:+.2f} dB"
            + _allpass_note(session, first.file)
            + _cabinet_note(session, through[0])
            + _cut_note(session, first.file),
        )
        columns = [
            _behind(
                _blocks(return_reader(made, one, store, session), frames, return_gain_db(one)),
                cabinet,
                one.side,
                lower,
            )
            for one, cabinet in zip(part, through, strict=True)
        ]
        channels = sum(_channels(one, cabinet) for one, cabinet in zip(part, through, strict=True))
        sink = create(added, channels, notes)
        write_all(sink, _beside(columns))


def export_track(
    session: Session,
    take: Take,
    track: Track,
    store: SessionStore,
    create: CreateFile,
    clock: Clock,
    *,
    cabinets: bool = True,
    beside: Track | None = None,
) -> None:
    """Write a track of a take, through the cabinet that is in place unless `cabinets` is off; with
    the track `beside` it, its pair's other side, both as one stereo file (left, right)."""
    if beside is not None:
        _export_pair(session, take, (track, beside), store, create, clock, cabinets=cabinets)
        return
    cabinet = in_place(session, track.file, store) if cabinets else None
    lower = _lower_db(session, track.file, 0.0) if cabinet is not None else 0.0
    notes = FileNotes(
        description=f"{session.name}; {take.name}; {track.name}",
        made_at=clock(),
        time_reference=take.time_reference,
        history=f"track; gain {lower:+.2f} dB"
        + _moved_note(session, track.file)
        + _cabinet_note(session, cabinet)
        + _cut_note(session, track.file),
    )
    heard = _blocks(track_reader(track.file, store, session), track.frames)
    sink = create("", 2 if cabinet is not None and cabinet.taps.shape[1] == 2 else 1, notes)
    write_all(sink, _behind(heard, cabinet, "", lower))


def _export_pair(
    session: Session, take: Take, sides: tuple[Track, Track], store: SessionStore,
    create: CreateFile, clock: Clock, *, cabinets: bool,
) -> None:  # fmt: skip
    left = sides[0]
    through = [in_place(session, one.file, store) if cabinets else None for one in sides]
    # One gain for both: the balance stays.
    lower = min(
        _lower_db(session, one.file, 0.0) if cabinet is not None else 0.0
        for one, cabinet in zip(sides, through, strict=True)
    )
    notes = FileNotes(
        description=f"{session.name}; {take.name}; {left.pair}",
        made_at=clock(),
        time_reference=take.time_reference,
        history=f"stereo pair; gain {lower:+.2f} dB"
        + _moved_note(session, left.file)
        + _cabinet_note(session, through[0])
        + _cut_note(session, left.file),
    )
    frames = max(one.frames for one in sides)
    columns = []
    for one, cabinet in zip(sides, through, strict=True):
        gain = lower if cabinet is None else 0.0
        blocks = _blocks(track_reader(one.file, store, session), frames, gain)
        columns.append(_behind(blocks, cabinet, one.side, lower))
    write_all(create("", 2, notes), _beside(columns))


def _blocks(read: ReadBlock, frames: int, gain_db: float = 0.0) -> Iterator[NDArray[np.float32]]:
    """What is heard, block by block, as (frames, 1)."""
    gain = np.float64(db_to_gain(gain_db))
    for first in range(0, frames, BLOCK):
        block = read(first, min(BLOCK, frames - first))
        yield (gain * block).astype(np.float32)[:, None]


def _moved_note(session: Session, file: str) -> str:
    moved = session.moves.get(file)
    if moved is None:
        return ""
    turned = "; turned over" if moved.polarity < 0 else ""
    return f"; moved {-moved.delay_samples:.2f} samples{turned}{_allpass_note(session, file)}"


def _allpass_note(session: Session, file: str) -> str:
    moved = session.moves.get(file)
    if moved is None or moved.allpass_hz is None:
        return ""
    return f"; all-pass {moved.allpass_hz:.0f} Hz"


def _cut_note(session: Session, file: str) -> str:
    corner = session.low_cuts.get(file)
    told = "" if corner is None else f"; low cut {corner:g} Hz"
    gate = session.gates.get(file)
    return told if gate is None else f"{told}; gate {gate.open_dbfs:g} dBFS"


def _through(session: Session, part: Sequence[Return], store: SessionStore) -> list[InPlace | None]:
    return [in_place(session, one.file, store) for one in part]


def _lower_db(session: Session, file: str, gain_db: float) -> float:
    """By how much it comes down where it would pass the ceiling; 0 or below."""
    later = session.cabinets.get(file)
    choice = later.choice if later is not None else None
    if choice is None or choice.true_peak_dbtp is None:
        return 0.0
    return min(0.0, CEILING_DBTP - (choice.true_peak_dbtp + gain_db))


def _cabinet_note(session: Session, cabinet: InPlace | None) -> str:
    return f"; cabinet {cabinet_title(session, cabinet.name)}" if cabinet is not None else ""


def _channels(one: Return, cabinet: InPlace | None) -> int:
    return 2 if cabinet is not None and not one.side and cabinet.taps.shape[1] == 2 else 1


def _behind(
    blocks: Iterator[NDArray[np.float32]], cabinet: InPlace | None, side: str, lower_db: float
) -> Iterator[NDArray[np.float32]]:
    """Mono blocks behind a cabinet: two columns where a stereo one makes a pair of them."""
    if cabinet is None:
        return blocks
    gain = db_to_gain(cabinet.gain_db + lower_db)
    columns: list[Real] = [
        cabinet.taps[:, number] * gain for number in range(cabinet.taps.shape[1])
    ]
    if side and len(columns) == 2:
        columns = [columns[1 if side == "right" else 0]]
    return through_blocks(blocks, columns)


def _beside(columns: Sequence[Iterator[NDArray[np.float32]]]) -> Iterator[NDArray[np.float32]]:
    for blocks in zip(*columns, strict=True):
        yield np.concatenate(blocks, axis=1)


def export_names(made: Pass, returns: Sequence[Return] = ()) -> tuple[str, ...]:
    """What `export_pass` adds to the name of each file, "" where there is one only."""
    return tuple(added for added, _ in _files(made, returns or made.returns))


def named_beside(path: Path, added: str) -> Path:
    """A file's path with more in its name."""
    more = "".join(one if one.isalnum() or one in " -_" else "-" for one in added)
    return path.with_name(f"{path.stem} - {more}{path.suffix}") if more else path


def _files(made: Pass, wanted: Sequence[Return]) -> list[tuple[str, tuple[Return, ...]]]:
    """What is written into one file each: what its name gets, and its returns by channel."""
    found: list[tuple[str, tuple[Return, ...]]] = []
    for part in made.parts:
        here = [one for one in part if one in wanted]
        if len(here) == 2 and all(one.side for one in here):
            pair = tuple(sorted(here, key=lambda one: one.side))
            found.append((part[0].group, pair))
        else:
            found += [(one.name, (one,)) for one in here]
    return [("", found[0][1])] if len(found) == 1 else found
