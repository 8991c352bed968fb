"""Which track is which channel of a real device."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from diaulos.errors import InputError


def read_map(words: Sequence[str]) -> dict[str, int]:
    """ "TRACK=CHANNEL" as track and channel, channels counted from 1.

    Examples
    --------
    >>> read_map(["DI=1", "Amp = left=3"])
    {'DI': 1, 'Amp = left': 3}
    """
    found: dict[str, int] = {}
    for word in words:
        name, _, channel = word.rpartition("=")
        if not name.strip() or not channel.strip().isdigit() or int(channel) < 1:
            raise InputError(
                f"{word!r} ties no track to a channel.",
                where="--map",
                remedy="Write TRACK=CHANNEL, channels counted from 1: --map DI=1.",
            )
        found[name.strip()] = int(channel)
    return found


def channels_of(names: Sequence[str], wanted: Mapping[str, int]) -> tuple[int, ...]:
    """The channel (from 0) of each track: as wanted, the others in order on what is left."""
    unknown = [name for name in wanted if name not in names]
    if unknown:
        raise InputError(
            f"no armed track is called {unknown[0]!r}.",
            where="--map",
            remedy=f"Armed are: {', '.join(names)}.",
        )
    twice = [name for name in wanted if list(wanted.values()).count(wanted[name]) > 1]
    if twice:
        raise InputError(
            f"channel {wanted[twice[0]]} is tied twice: {' and '.join(twice)}.",
            where="--map",
            remedy="Give each track a channel of its own.",
        )
    taken = set(wanted.values())
    free = (channel for channel in range(1, len(names) + len(taken) + 1) if channel not in taken)
    return tuple((wanted[name] if name in wanted else next(free)) - 1 for name in names)
