"""What is heard of takes and passes: tracks, passes, gains, alignment, for every view."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import partial

from diaulos.session.model import MatchTarget, Pass, Return, Take
from diaulos.work.listening.aligned import return_in_time
from diaulos.work.listening.player import Channel, ReadBlock
from diaulos.work.measuring import read_span
from diaulos.work.ports import SessionStore

SIDE_DB = 10.0 * math.log10(2.0)
"""What a channel gains where it is heard on one side alone."""


def track_reader(file: str, store: SessionStore) -> ReadBlock:
    """A track as it was recorded, in the take's time."""
    return partial(read_span, store.open_audio(file))


def return_reader(made: Pass, one: Return, store: SessionStore) -> ReadBlock:
    """A return in the take's time: its delay and polarity taken out."""
    return partial(return_in_time, store.open_audio(one.file), made.placed(one))


def return_gain_db(one: Return) -> float:
    """What brings a return to its reference, 0 where it was not matched. A side of a stereo pair is
    heard on that side alone, which the player's law of panning makes louder by as much."""
    return (one.match.total_db if one.match else 0.0) - (SIDE_DB if one.side else 0.0)


def side_pan(one: Return) -> float:
    """Where a return is heard as long as nobody moves it."""
    return {"left": -1.0, "right": 1.0}.get(one.side, 0.0)


def part_channels(
    key: str, made: Pass, part: Sequence[Return], store: SessionStore, offset_db: float = 0.0
) -> list[Channel]:
    """What belongs together, as one thing to hear."""
    return [
        Channel(key, return_reader(made, one, store), return_gain_db(one) + offset_db,
                side_pan(one))
        for one in part
    ]  # fmt: skip


def compared_channels(
    take: Take,
    made: Pass | None,
    target: MatchTarget,
    store: SessionStore,
    part: Sequence[Return] = (),
) -> tuple[Channel, ...]:
    """ "di", "reference" and "pass" of a take, at matched level: what a person compares after a
    reamp; of the pass what belongs together as `part` (its first by default). Where the pair had to
    come down to stay under the ceiling, the reference does too."""
    if take.di is None:
        return ()
    channels = [Channel("di", track_reader(take.di.file, store))]
    heard = part or (made.parts[0] if made is not None else ())
    match = heard[0].match if heard else None
    offset = match.pair_offset_db if match else 0.0
    if target.kind == "track":
        file = take.track(target.ident).file
        channels.append(Channel("reference", track_reader(file, store), offset))
    elif target.kind == "pass":
        other = take.pass_(target.ident)
        channels += part_channels("reference", other, other.parts[0], store, offset)
    if made is not None:
        channels += part_channels("pass", made, heard, store)
    return tuple(channels)
