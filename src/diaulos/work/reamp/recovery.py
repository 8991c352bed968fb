"""What a dead process left: recordings become takes again, returns become passes.

Each is brought back by itself: one that is damaged stays where it is, is named, and stops none
of the others.
"""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Protocol

from diaulos.errors import CancelledError, DiaulosError, InputError, RefusedError
from diaulos.figures import counted
from diaulos.records import dataclass
from diaulos.session.edits import Edit, add_pass
from diaulos.session.model import (
    Pass,
    Return,
    Session,
    Take,
    rig_hash,
)
from diaulos.session.roles import reamp_rig
from diaulos.signal.delay import Alignment, find_alignment
from diaulos.work.blocks import part_of
from diaulos.work.capture.loop import LoopResult
from diaulos.work.measuring import finite_or_none, read_mono
from diaulos.work.ports import (
    AudioSource,
    CancelToken,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.reamp.returns import alignment_record, measure_return
from diaulos.work.takes.notes import RecordingStore
from diaulos.work.takes.recovery import recover_take, recoverable_takes

_PASS_FILE = re.compile(r"audio/(t\d{4})_(p\d{2,})_k(\d{2})\.wav")


def recoverable(session: Session, orphans: list[str]) -> list[str]:
    """Those files without an entry that are returns of a take that is still there."""
    found = []
    for file in orphans:
        name = _PASS_FILE.fullmatch(file)
        take = next((t for t in session.takes if name and t.id == name[1]), None)
        if name and take and take.sent and all(p.id != name[2] for p in take.passes):
            found.append(file)
    return found


def recover_return(
    session: Session,
    store: SessionStore,
    file: str,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> Return:
    """What is in a file of a pass that a dead process left in the folder.

    Delay, polarity and level are measured from the audio; with which gain it was sent nobody
    knows any more. InputError where the file cannot be read or belongs to nothing.
    """
    name = _PASS_FILE.fullmatch(file)
    take = next((t for t in session.takes if name and t.id == name[1]), None)
    if name is None or take is None or take.sent is None:
        raise InputError("it belongs to no take of this session.", where=file)
    back, di = store.open_audio(file), store.open_audio(take.sent.file)
    found = measure_return(
        di, 0, back, LoopResult(back.frames, 0), progress, cancel or CancelToken()
    )
    if found.alignment is None and back.frames < di.frames:
        found = replace(found, alignment=_anywhere(di, back))
    levels = found.levels
    return Return(
        name=f"Return {int(name[3])}",
        file=file,
        frames=back.frames,
        return_gain_db=0.0,
        alignment=alignment_record(found.alignment),
        alignment_refused="" if found.alignment is not None else found.refused,
        peak_dbfs=max(levels.peak_dbfs, -200.0),
        true_peak_dbtp=max(levels.true_peak_dbtp, -200.0),
        clipped_samples=levels.clipped_samples,
        loudness_lufs=finite_or_none(levels.loudness.lufs),
        match=None,
    )


def _anywhere(di: AudioSource, back: AudioSource) -> Alignment | None:
    """Where a return lies that is shorter than the take: a part of it was sent."""
    try:
        return find_alignment(read_mono(di), read_mono(back), float(di.rate_hz))
    except RefusedError:
        return None


class RecoveryStore(RecordingStore, Protocol):
    """A session's folder that can say what lies in it without an entry."""

    def orphans(self, session: Session) -> list[str]:
        """Audio files that the session does not name."""


@dataclass(frozen=True)
class Remains:
    """What lies in the folder and is not in the session: takes by the id in their note, files
    of passes, and audio that nothing is known of."""

    takes: tuple[str, ...]
    passes: tuple[str, ...]
    others: tuple[str, ...]


@dataclass(frozen=True)
class Recovery:
    """What was brought back, by edits, and what could not be."""

    edits: tuple[Edit, ...]
    told: tuple[str, ...]
    failed: tuple[DiaulosError, ...]

    @property
    def words(self) -> str:
        """What to say."""
        parts = list(self.told)
        if self.failed:
            parts.append(f"{len(self.failed)} could not be brought back.")
        return " ".join(parts)

    @property
    def problem(self) -> DiaulosError:
        """What could not be brought back, each by its name, as one error."""
        return InputError(
            "not everything could be brought back:\n" + "\n".join(str(one) for one in self.failed),
            remedy="Those files stay in the session's folder. File > Import files as a take reads "
            "what is whole.",
        )


def remains_of(session: Session, store: RecoveryStore) -> Remains:
    """What lies in the folder and is not in the session."""
    takes = recoverable_takes(session, store)
    orphans = store.orphans(session)
    passes = recoverable(session, orphans)
    noted = {file for file in orphans if file.removeprefix("audio/").partition("_")[0] in takes}
    others = [file for file in orphans if file not in noted and file not in passes]
    return Remains(takes, tuple(passes), tuple(others))


def bring_back(
    session: Session,
    store: RecoveryStore,
    wanted: Remains,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> Recovery:
    """Each of these by itself. Raises CancelledError; all else is in the result."""
    cancel = cancel or CancelToken()
    total = len(wanted.takes) + len(wanted.passes)
    edits: list[Edit] = []
    told: list[str] = []
    failed: list[DiaulosError] = []
    for number, ident in enumerate(wanted.takes):
        cancel.check()
        progress(number / total, "Bringing recordings back")
        try:
            taken = recover_take(session, store, ident)
        except CancelledError:
            raise
        except DiaulosError as error:
            failed.append(error)
        else:
            edits.append(taken.edit)
            told.append(taken.words)
    back: dict[tuple[str, str], list[Return]] = {}
    for number, file in enumerate(wanted.passes, start=len(wanted.takes)):
        part = part_of(progress, number / total, (number + 1) / total)
        try:
            found = recover_return(session, store, file, part, cancel)
        except CancelledError:
            raise
        except DiaulosError as error:
            failed.append(error)
        else:
            take_id, pass_id, _ = file.removeprefix("audio/").split("_")
            back.setdefault((take_id, pass_id), []).append(found)
    for (take_id, pass_id), returns in back.items():
        edits.append(_recovered(session, session.take(take_id), pass_id, tuple(returns)))
    if wanted.passes:
        count = sum(len(returns) for returns in back.values())
        told.append(f"{count} of {counted(len(wanted.passes), 'return')} are back in the session.")
    return Recovery(tuple(edits), tuple(told), tuple(failed))


def _recovered(session: Session, take: Take, pass_id: str, returns: tuple[Return, ...]) -> Edit:
    rig = reamp_rig(session)
    assert take.sent is not None
    made = Pass(
        id=pass_id,
        name=f"Recovered {pass_id}",
        track_id=take.sent.id,
        returns=returns,
        rig_hash=rig_hash(rig),
        rig_name=rig.name,
        made_at=take.recorded_at,
        send_gain_db=0.0,
        amp_peak_dbu=0.0,
        notes="Recovered after Diaulos ended early; its tone is not known for sure.",
    )
    return add_pass(take.id, made, rig)
