"""The time and polarity reference of a take: one of its tracks, its dry DI unless another is
chosen. Passes are lined up with it, and turned to its polarity; files never change.

A pass is found in the reference by itself, near where the way by the DI says that it lies: an
amplifier's sound and a modeler's are more alike than either is to the DI.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import DiaulosError, EditError, RefusedError
from diaulos.figures import counted
from diaulos.records import dataclass
from diaulos.session.edits import Edit, set_reference
from diaulos.session.model import Against, Return, SentPart, Take, Track
from diaulos.signal.delay import Alignment, find_alignment
from diaulos.work.blocks import part_of
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import read_mono
from diaulos.work.ports import CancelToken, Progress, SessionStore, no_progress
from diaulos.work.reamp.parts import whole_or_part
from diaulos.work.reamp.returns import MAX_LOOP_DELAY_S, SURE, alignment_record

Audio = NDArray[np.floating]

TRACK_REACH_S = 0.05
"""How far tracks of one take lie apart."""
NEAR_S = 0.003
"""How far a pass lies from where the way by the DI says: an amplifier's and a cabinet's lag."""
MEASURED_S = 60.0


@dataclass(frozen=True)
class ReferenceFound:
    """What a reference gives: the returns of the passes against it, by their files, and the edit
    that keeps it."""

    take_id: str
    track: Track
    returns: Mapping[str, Against]
    edit: Edit

    @property
    def words(self) -> str:
        """For a person."""
        refused = [one for one in self.returns.values() if one.alignment is None]
        told = f"Time and polarity of the take are those of {self.track.name}"
        if not self.returns:
            return f"{told}. Passes to come are lined up with it."
        good = len(self.returns) - len(refused)
        told += f"; {good} of {counted(len(self.returns), 'return')} are lined up with it"
        return f"{told}." + (f" {refused[0].refused}" if refused else "")


def find_reference(
    take: Take,
    track_id: str,
    store: SessionStore,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> ReferenceFound:
    """Another reference for a take, and every pass measured against it.

    Raises EditError where the take has no such track.
    """
    cancel = cancel or CancelToken()
    usual = take.di or take.printed
    track = take.track(track_id) if track_id else usual
    if track is None:
        raise EditError(f"{take.name} has no dry DI.", remedy="Choose one of its tracks.")
    found: dict[str, Against] = {}
    backs = [
        (made, one) for made in take.passes for one in made.returns if made.track_id != track.id
    ]
    if backs:
        for number, (made, one) in enumerate(backs):
            part = part_of(progress, number / len(backs), (number + 1) / len(backs))
            part(0.0, f"Lining up {made.name}")
            found[one.file] = measure_against(
                take, track, one, store, cancel, made.part, take.track(made.track_id)
            )
    kept = "" if usual is not None and track.id == usual.id else track.id
    return ReferenceFound(take.id, track, found, set_reference(take.id, kept, found))


def measure_against(
    take: Take, track: Track, one: Return, store: SessionStore, cancel: CancelToken | None = None,
    part: SentPart | None = None, sent: Track | None = None,
) -> Against:  # fmt: skip
    """A return against a track of its take, in the time of what was sent. What cannot be told is
    refused, with the reason."""
    cancel = cancel or CancelToken()
    try:
        source = whole_or_part(store.open_audio(track.file), part)
        back = store.open_audio(one.file)
        rate = float(source.rate_hz)
        first, count = 0, source.frames
        limit = int(MEASURED_S * rate)
        if count > int(1.5 * limit):
            middle = read_loudest(source).first
            first = min(max(0, middle - limit // 2), count - limit)
            count = limit
        here = read_mono(source, first=first, count=count)
        heard = read_mono(back, first=first, count=count + int(MAX_LOOP_DELAY_S * rate))
        cancel.check()
        expected = _by_the_di(sent or take.sent, track, one, store, first, count, part)
        cancel.check()
        alignment = _found(here, heard, rate, expected)
        if alignment.drift_ppm is not None and first > 0:
            alignment = replace(alignment, delay_samples=alignment.at(-float(first)))
    except RefusedError as error:
        return Against(track_id=track.id, refused=error.what)
    return Against(track_id=track.id, alignment=alignment_record(alignment))


def _found(here: Audio, heard: Audio, rate: float, expected: float | None) -> Alignment:
    most = MAX_LOOP_DELAY_S * rate
    if expected is None:
        return find_alignment(here, heard, rate, within=(-TRACK_REACH_S * rate, most))
    reach = NEAR_S * rate
    return find_alignment(
        here, heard, rate, within=(expected - reach, expected + reach), expected=expected
    )


def _by_the_di(
    di: Track | None, track: Track, one: Return, store: SessionStore, first: int, count: int,
    part: SentPart | None,
) -> float | None:  # fmt: skip
    """Where a return must lie in a track: its delay against the DI less the track's own; None
    where one of the two is not known for sure."""
    if di is None or one.alignment is None or one.alignment.confidence < SURE:
        return None
    try:
        sent = whole_or_part(store.open_audio(di.file), part)
        heard = whole_or_part(store.open_audio(track.file), part)
        rate = float(sent.rate_hz)
        reach = TRACK_REACH_S * rate
        found = find_alignment(
            read_mono(sent, first=first, count=count),
            read_mono(heard, first=first, count=count),
            rate,
            within=(-reach, reach),
        )
    except DiaulosError:
        return None
    if found.confidence < SURE:
        return None
    return one.alignment.delay_samples - found.delay_samples
