"""The monitor mix of a take: what is heard of its tracks and passes, how loud and where.

Dry tracks are muted as long as nobody asks for them: pulling the DI down in the monitor mix
does not change what is recorded. A solo is of the moment and is not kept.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.session.model import Heard, Pass, Return, Session, Take
from diaulos.units import db_to_gain
from diaulos.work.blocks import ReadStereo
from diaulos.work.listening.cabinets import Side
from diaulos.work.listening.copies import Laid, laid
from diaulos.work.listening.heard import (
    Tried,
    cabinet_of,
    channels_through,
    return_gain_db,
    return_reader,
    track_reader,
)
from diaulos.work.listening.player import SIDE_DB, Channel, ReadBlock
from diaulos.work.ports import SessionStore


@dataclass(frozen=True)
class MixRow:
    """One thing that can be heard: a track of the take, one of its passes, or the same of the
    takes it was recorded over."""

    key: str
    """Its audio file, under which the session keeps how it is heard."""
    name: str
    tap: str
    heard: Heard
    muted: bool
    passed: tuple[Pass, Return] | None = None
    places: tuple[Laid, ...] = ()
    """Where it lies in the take's time, the innermost first; () for what is the take's own."""
    beside: str = ""
    """The right side's audio file, where the row is a stereo pair; `key` is the left one's."""
    side: Side = ""
    """Of a pair whose sides are rows of their own."""

    @property
    def files(self) -> tuple[str, ...]:
        """The audio that it is made of."""
        return (self.key, self.beside) if self.beside else (self.key,)


def mix_rows(session: Session, take: Take) -> tuple[MixRow, ...]:
    """The take's tracks in order, the returns of its passes, then those of the takes it was
    recorded over: a doubled part is heard with the first one.

    A dry track is muted unless it is alone or somebody asked for it; so are all passes but the
    keeper, since each repeats the take, and of a pass all that does not belong together with its
    first return.
    """
    rows = _own_rows(session, take, (), "")
    known = {row.key for row in rows}
    seen, here = {take.id}, take
    places: tuple[Laid, ...] = ()
    # A punched take holds all of the one it was recorded over.
    while here.over and here.punched is None:
        below = next((one for one in session.takes if one.id == here.over), None)
        if below is None or below.id in seen:
            break
        frames = max(track.frames for track in below.tracks)
        places = (Laid(here.over_frame, here.over_round, frames), *places)
        here = below
        seen.add(below.id)
        for row in _own_rows(session, below, places, f", {below.name}"):
            if row.key not in known:
                known.add(row.key)
                rows.append(row)
    return tuple(rows)


def again(row: MixRow, round_frames: int, frames: int) -> MixRow:
    """A row of a take of so many frames that comes round."""
    return replace(row, places=(*row.places, Laid(0, round_frames, frames)))


def _own_rows(session: Session, take: Take, places: tuple[Laid, ...], suffix: str) -> list[MixRow]:
    rows = []
    alone = len(take.parts) + len(take.passes) == 1
    for part in take.parts:
        track = part[0]
        heard = session.mix.get(track.file, Heard())
        usual = track.tap == "di" and not alone
        muted = usual if heard.muted is None else heard.muted
        beside = part[1].file if len(part) == 2 else ""
        name = (track.pair if beside else track.name) + suffix
        side = "" if beside else track.side
        rows.append(MixRow(track.file, name, track.tap, heard, muted, None, places, beside, side))
    only = len(take.passes) == 1
    for one in take.passes:
        for back in one.returns:
            heard = session.mix.get(back.file, Heard())
            aside = len(one.parts) > 1 and back not in one.parts[0]
            usual = aside or not (one.keeper or only)
            muted = usual if heard.muted is None else heard.muted
            name = return_name(one, back) + suffix
            rows.append(MixRow(back.file, name, "pass", heard, muted, (one, back), places))
    return rows


def return_name(made: Pass, back: Return) -> str:
    """What a return is called beside those of other passes: the pass, and which of its returns
    where it has several."""
    return made.name if len(made.returns) == 1 else f"{made.name}, {back.name}"


def audible(rows: Iterable[MixRow], solo: frozenset[str] = frozenset()) -> frozenset[str]:
    """Keys of what is heard: the soloed ones if there are any, else what is not muted."""
    rows = tuple(rows)
    soloed = solo & {row.key for row in rows}
    return soloed or frozenset(row.key for row in rows if not row.muted)


def reader_of(row: MixRow, store: SessionStore, session: Session) -> ReadBlock:
    """Samples of a row in the take's time: a pass with its delay and polarity taken out, and
    whatever was moved as it was moved."""
    return _reader(row, row.key, store, session)


def _reader(row: MixRow, file: str, store: SessionStore, session: Session) -> ReadBlock:
    if row.passed is None:
        read = track_reader(file, store, session)
    else:
        read = return_reader(*row.passed, store, session)
    return laid(read, row.places)


def level_of(row: MixRow) -> float:
    """What is asked for, and a pass's match on top. A side of a pair stands at that side by its
    pan, whose law makes it louder there; it comes down by as much."""
    if row.passed is None:
        return row.heard.level_db - (SIDE_DB if row.side else 0.0)
    back = row.passed[1]
    return row.heard.level_db + return_gain_db(back) - (SIDE_DB if back.side else 0.0)


def channels_of(
    rows: Iterable[MixRow], session: Session, store: SessionStore, tried: Tried | None = None
) -> tuple[Channel, ...]:
    """The rows for a player, each through its cabinet."""
    found: list[Channel] = []
    for row in rows:
        if row.beside:
            sides: tuple[tuple[str, Side], ...] = ((row.key, "left"), (row.beside, "right"))
            for file, side in sides:
                read = _reader(row, file, store, session)
                channel = Channel(row.key, read, level_of(row), row.heard.pan, side)
                found += channels_through(channel, cabinet_of(session, file, store, tried), side)
            continue
        side = row.passed[1].side if row.passed else row.side
        channel = Channel(row.key, reader_of(row, store, session), level_of(row), row.heard.pan)
        found += channels_through(channel, cabinet_of(session, row.key, store, tried), side)
    return tuple(found)


def stereo_of(
    channels: Iterable[Channel],
    level_db: float = 0.0,
    silenced: dict[str, tuple[int, int]] | None = None,
) -> ReadStereo:
    """Everything together, for whoever plays while the next part is recorded. `silenced` holds
    stretches of channels that are not heard: those that are being replaced."""
    heard = tuple(channels)
    gain = db_to_gain(level_db)

    def read(first: int, count: int) -> NDArray[np.float32]:
        out = np.zeros((count, 2))
        for channel in heard:
            samples = np.array(channel.read(first, count), dtype=np.float64)
            start, stop = (silenced or {}).get(channel.key, (0, 0))
            samples[max(0, start - first) : max(0, stop - first)] = 0.0
            left, right = channel.gains
            samples *= gain
            out[:, 0] += left * samples
            out[:, 1] += right * samples
        return out.astype(np.float32)

    return read
