"""The monitor mix of a take: what is heard of its tracks and passes, how loud and where.

Dry tracks are muted as long as nobody asks for them: pulling the DI down in the monitor mix
does not change what is recorded. A solo is of the moment and is not kept.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.session.model import Heard, Pass, Return, Session, Take
from diaulos.units import db_to_gain
from diaulos.work.blocks import ReadStereo
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
    offset: int = 0
    """Its frame at the take's first frame."""


def mix_rows(session: Session, take: Take) -> tuple[MixRow, ...]:
    """The take's tracks in order, the returns of its passes, then those of the takes it was
    recorded over: a doubled part is heard with the first one.

    A dry track is muted unless it is alone or somebody asked for it; so are all passes but the
    keeper, since each repeats the take, and of a pass all that does not belong together with its
    first return.
    """
    rows = _own_rows(session, take, 0, "")
    known = {row.key for row in rows}
    seen, at, here = {take.id}, 0, take
    # A punched take holds all of the one it was recorded over.
    while here.over and here.punched is None:
        below = next((one for one in session.takes if one.id == here.over), None)
        if below is None or below.id in seen:
            break
        at, here = at + here.over_frame, below
        seen.add(below.id)
        for row in _own_rows(session, below, at, f", {below.name}"):
            if row.key not in known:
                known.add(row.key)
                rows.append(row)
    return tuple(rows)


def _own_rows(session: Session, take: Take, offset: int, suffix: str) -> list[MixRow]:
    rows = []
    alone = len(take.tracks) + len(take.passes) == 1
    for track in take.tracks:
        heard = session.mix.get(track.file, Heard())
        usual = track.tap == "di" and not alone
        muted = usual if heard.muted is None else heard.muted
        rows.append(MixRow(track.file, track.name + suffix, track.tap, heard, muted, None, offset))
    only = len(take.passes) == 1
    for one in take.passes:
        for back in one.returns:
            heard = session.mix.get(back.file, Heard())
            aside = len(one.parts) > 1 and back not in one.parts[0]
            usual = aside or not (one.keeper or only)
            muted = usual if heard.muted is None else heard.muted
            name = return_name(one, back) + suffix
            rows.append(MixRow(back.file, name, "pass", heard, muted, (one, back), offset))
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
    if row.passed is None:
        read = track_reader(row.key, store, session)
    else:
        read = return_reader(*row.passed, store, session)
    if not row.offset:
        return read
    return lambda first, count: read(first + row.offset, count)


def level_of(row: MixRow) -> float:
    """What is asked for, and a pass's match on top. A side of a pair stands at that side by its
    pan, whose law makes it louder there; it comes down by as much."""
    if row.passed is None:
        return row.heard.level_db
    back = row.passed[1]
    return row.heard.level_db + return_gain_db(back) - (SIDE_DB if back.side else 0.0)


def channels_of(
    rows: Iterable[MixRow], session: Session, store: SessionStore, tried: Tried | None = None
) -> tuple[Channel, ...]:
    """The rows for a player, each through its cabinet."""
    found: list[Channel] = []
    for row in rows:
        side = row.passed[1].side if row.passed else ""
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
