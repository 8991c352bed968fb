"""A return held against what was recorded of the same tap: how deep the two null.

A modeler that gets its own dry stream back is to give the very sound again; an amplifier that
stands as it stood comes near. How near is a figure.
"""

from __future__ import annotations

from diaulos.errors import RefusedError
from diaulos.session.model import Recorded, Return, SentPart, Take, Track
from diaulos.signal.delay import find_alignment
from diaulos.signal.null import DEEPEST_DB, null_depth
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import read_mono
from diaulos.work.ports import CancelToken, SessionStore
from diaulos.work.reamp.parts import whole_or_part

HELD_S = 6.0
"""Around the loudest part of the recorded track."""
REACH_S = 1.0
MOST_TRACKS = 4


def null_with_recorded(
    take: Take, back: Return, store: SessionStore, cancel: CancelToken,
    part: SentPart | None = None,
) -> Recorded | None:  # fmt: skip
    """The recorded track of the return's own tap that is nulled deepest; None where the take has
    none of it, or where none is the same performance."""
    there = [track for track in take.tracks if track.tap == back.tap and track.channels == 1]
    found = []
    for track in there[:MOST_TRACKS]:
        cancel.check()
        one = _null(track, back, store, part)
        if one is not None:
            found.append(one)
    return min(found, key=lambda one: one.null_db, default=None)


def _null(
    track: Track, back: Return, store: SessionStore, part: SentPart | None
) -> Recorded | None:
    source = whole_or_part(store.open_audio(track.file), part)
    returned = store.open_audio(back.file)
    rate = source.rate_hz
    count = min(source.frames, round(HELD_S * rate))
    first = max(0, min(read_loudest(source).first - count // 4, source.frames - count))
    reach = round(REACH_S * rate)
    here = read_mono(source, first=first, count=count)
    heard = read_mono(returned, first=first, count=count + reach)
    try:
        late = find_alignment(here, heard, float(rate), within=(0.0, float(reach)))
    except RefusedError:
        return None
    null = null_depth(here, heard, float(rate), late.delay_samples)
    return Recorded(
        track_id=track.id,
        name=track.name,
        null_db=max(DEEPEST_DB, round(null.depth_db, 1)),
        gain_db=round(null.gain_db, 3),
    )
