"""What is heard of takes and passes: tracks, passes, gains, alignment, for every view."""

from __future__ import annotations

from functools import partial

from diaulos.session.model import MatchTarget, Pass, Take
from diaulos.work.listening.aligned import pass_in_time
from diaulos.work.listening.player import Channel, ReadBlock
from diaulos.work.measuring import read_span
from diaulos.work.ports import SessionStore


def track_reader(file: str, store: SessionStore) -> ReadBlock:
    """A track as it was recorded, in the take's time."""
    return partial(read_span, store.open_audio(file))


def pass_reader(one: Pass, store: SessionStore) -> ReadBlock:
    """A pass in the take's time: its delay and polarity taken out."""
    return partial(pass_in_time, store.open_audio(one.file), one)


def pass_gain_db(one: Pass) -> float:
    """What brings a pass to its reference, 0 where it was not matched."""
    return one.match.total_db if one.match else 0.0


def compared_channels(
    take: Take, one: Pass | None, target: MatchTarget, store: SessionStore
) -> tuple[Channel, ...]:
    """ "di", "reference" and "pass" of a take, at matched level: what a person compares after a
    reamp. Where the pair had to come down to stay under the ceiling, the reference does too."""
    if take.di is None:
        return ()
    channels = [Channel("di", track_reader(take.di.file, store))]
    offset = one.match.pair_offset_db if one and one.match else 0.0
    if target.kind == "track":
        file = take.track(target.ident).file
        channels.append(Channel("reference", track_reader(file, store), offset))
    elif target.kind == "pass":
        other = take.pass_(target.ident)
        gain = pass_gain_db(other) + offset
        channels.append(Channel("reference", pass_reader(other, store), gain))
    if one is not None:
        channels.append(Channel("pass", pass_reader(one, store), pass_gain_db(one)))
    return tuple(channels)
