"""A sheet made: what is asked for, of a session."""

from __future__ import annotations

from diaulos.errors import InputError
from diaulos.session.model import Session
from diaulos.session.roles import recording_rig
from diaulos.work.ports import CancelToken, SessionStore
from diaulos.work.rigs.stored import NOTHING_STORED, Stored
from diaulos.work.sheets.levelling import level_parts
from diaulos.work.sheets.model import KINDS, Kind, Notices, Part, Rows, Sheet, Wanted
from diaulos.work.sheets.patching import patch_parts
from diaulos.work.sheets.recalling import recall_parts, recalled_take, tone_parts
from diaulos.work.sheets.tracking import session_parts, track_parts

NO_TIME = "2000-01-01T00:00:00"
"""What a session without takes is dated by: nobody's clock gets into a sheet."""


def make_sheet(
    session: Session, wanted: Wanted, store: SessionStore | None = None,
    stored: Stored = NOTHING_STORED, cancel: CancelToken | None = None,
) -> Sheet:  # fmt: skip
    """The sheet. `store` is asked for the sound of what is compared. InputError for a kind that
    there is not, EditError for a take, pass, rig or tone that there is not."""
    if wanted.kind not in KINDS:
        raise InputError(
            f"there is no sheet {wanted.kind!r}.", where="kind",
            remedy=f"Kinds: {', '.join(KINDS)}.",
        )  # fmt: skip
    parts = _parts(session, wanted, store, stored, cancel or CancelToken())
    kept = tuple(
        part.by(wanted.sort) if isinstance(part, Rows) else part
        for part in parts
        # Cautions are acknowledged, never off.
        if isinstance(part, Notices) or part.title not in wanted.without
    )
    return Sheet(
        kind=wanted.kind,
        title=KINDS[wanted.kind],
        under=_under(session, wanted),
        made_at=session_time(session),
        parts=kept,
        note=wanted.note,
    )


def part_titles(sheet: Sheet) -> tuple[str, ...]:
    """What can be left out: all but the cautions."""
    return tuple(dict.fromkeys(part.title for part in sheet.parts if not isinstance(part, Notices)))


def session_time(session: Session) -> str:
    """When something was last recorded or reamped."""
    times = [take.recorded_at for take in session.takes]
    times += [made.made_at for take in session.takes for made in take.passes]
    times += [one.made_at for one in session.blind_tests]
    return max((one for one in times if one), default=NO_TIME)


def _rig_of(session: Session, wanted: Wanted) -> str:
    if wanted.rig:
        return session.rig(wanted.rig).id
    return recording_rig(session).id


def _parts(
    session: Session, wanted: Wanted, store: SessionStore | None, stored: Stored,
    cancel: CancelToken,
) -> tuple[Part, ...]:  # fmt: skip
    kind: Kind = wanted.kind
    if kind == "patch":
        return patch_parts(session, _rig_of(session, wanted), stored)
    if kind == "levels":
        return level_parts(session, _rig_of(session, wanted), stored)
    if kind == "tracks":
        rig = _rig_of(session, wanted) if not session.takes else ""
        return track_parts(session, wanted.take, rig, stored)
    if kind == "recall":
        return recall_parts(session, wanted.take, wanted.made)
    if kind == "tone":
        return tone_parts(session, wanted.tone)
    if kind == "session":
        return session_parts(session)
    from diaulos.work.sheets.comparing import compare_parts

    return compare_parts(session, wanted.take, store, cancel)


def _under(session: Session, wanted: Wanted) -> str:
    words = [session.name]
    if wanted.kind in ("patch", "levels"):
        words.append(session.rig(_rig_of(session, wanted)).name)
    if wanted.kind == "recall":
        take = recalled_take(session, wanted.take)
        words += [take.name] if take is not None else []
        words += [take.pass_(wanted.made).name] if take is not None and wanted.made else []
    return ", ".join(words)
