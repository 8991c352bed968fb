"""The tracks of a take proved from its files: its first ten seconds, and its last.

The first ten seconds can be proved while the take is still recorded: what was written can be read.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import DiaulosError
from diaulos.records import dataclass
from diaulos.rig.bench import Impulses
from diaulos.rig.model import PortRef, Rig
from diaulos.session.edits import Edit
from diaulos.session.model import Doubt, Session, Take
from diaulos.session.take_edits import change_take
from diaulos.work.measuring import read_mono
from diaulos.work.ports import SessionStore
from diaulos.work.rigs.stored import NOTHING_STORED, Stored
from diaulos.work.takes.proof import prove
from diaulos.work.takes.recording import Recording

PROVED_S = 10.0
APART_S = 2.0
"""By so much more than one stretch a take has to be longer for its end to be proved as well."""


@dataclass(frozen=True)
class Proving:
    """What is to be proved: the rig as it was, and the file and name of every track."""

    session: Session
    rig: Rig
    files: Mapping[PortRef, str]
    names: Mapping[PortRef, str]
    stored: Stored = NOTHING_STORED
    impulses: Impulses | None = None

    def written(self, store: SessionStore, frames: int) -> bool:
        """Whether so many frames of every track can be read yet."""
        return all(store.open_audio(file).frames >= frames for file in self.files.values())

    def stretch(
        self, store: SessionStore, first: int, count: int, look: Callable[[], None]
    ) -> tuple[Doubt, ...]:
        """What is doubtful of some frames; nothing where the rig cannot say what to expect."""
        heard: dict[PortRef, NDArray[np.float32]] = {}
        for track, file in self.files.items():
            look()
            samples = read_mono(store.open_audio(file), first=first, count=count)
            heard[track] = np.asarray(samples, np.float32)
        try:
            return prove(
                self.session, self.rig, heard, self.names, self.stored, self.impulses, look
            )
        except DiaulosError:
            return ()  # the rig's own findings say what is wrong with it


def opening_of(
    recording: Recording, stored: Stored = NOTHING_STORED, impulses: Impulses | None = None
) -> Proving | None:
    """The tracks of a take that is being recorded; None where its beginning is not new."""
    over = recording.request.over
    if (over is not None and over.way == "punch") or recording.round_frames is not None:
        return None
    return Proving(
        recording.request.session,
        recording.rig,
        {one.port: recording.files.name(0, number) for number, one in enumerate(recording.armed)},
        {one.port: one.name for one in recording.armed},
        stored,
        impulses,
    )


def proving_of(
    session: Session,
    take: Take,
    stored: Stored = NOTHING_STORED,
    impulses: Impulses | None = None,
) -> Proving | None:
    """The tracks of a take; None where nobody knows its rig."""
    rig = session.snapshots.get(take.rig_hash)
    if rig is None:
        return None
    ports = {one.name: one.port for one in rig.tracks}
    files = {ports[one.name]: one.file for one in take.tracks if one.name in ports}
    names = {ports[one.name]: one.name for one in take.tracks if one.name in ports}
    return Proving(_as_it_was(session, take), rig, files, names, stored, impulses)


def _as_it_was(session: Session, take: Take) -> Session:
    """The session with the take's instruments as they were then."""
    then = {
        one.id: one
        for key in take.instruments.values()
        if (one := session.instrument_snapshots.get(key)) is not None
    }
    instruments = tuple(then.get(one.id, one) for one in session.instruments)
    return session.model_copy(update={"instruments": instruments})


def prove_take(
    proving: Proving,
    take: Take,
    store: SessionStore,
    look: Callable[[], None] = lambda: None,
) -> tuple[Doubt, ...]:
    """What is doubtful of a take, at its beginning and at its end.

    Parameters
    ----------
    proving
        From `proving_of`.
    take
        With its files in the store.
    store
        Of the session.
    look
        Called between the steps; raises to cancel.

    Returns
    -------
    The doubts; `at_end` where the beginning had no such.
    """
    rate = proving.session.sample_rate_hz
    count = round(PROVED_S * rate)
    frames = min(track.frames for track in take.tracks)
    found = proving.stretch(store, 0, min(count, frames), look)
    if frames < count + APART_S * rate:
        return found
    last = proving.stretch(store, frames - count, count, look)
    return (*found, *later(found, last))


def later(first: Sequence[Doubt], last: Sequence[Doubt]) -> tuple[Doubt, ...]:
    """Those of the end that the beginning did not have."""
    known = {(one.kind, one.track) for one in first}
    new = [one for one in last if (one.kind, one.track) not in known]
    return tuple(one.model_copy(update={"at_end": True}) for one in new)


def doubts_edit(take: Take, doubts: Sequence[Doubt]) -> Edit:
    """The take with what was found doubtful of it."""
    return change_take(take.id, f"Record {take.name}", doubts=tuple(doubts))


def doubt_words(doubts: Sequence[Doubt]) -> str:
    """All of them in a line."""
    return " ".join(f"At the end: {one.words}" if one.at_end else one.words for one in doubts)
