"""Which rig records and which reamps: named by the session, or found."""

from __future__ import annotations

from collections.abc import Callable

from diaulos.rig.model import Rig, RigState
from diaulos.rig.states import in_state, reamps
from diaulos.session.model import Session


def records(rig: Rig) -> bool:
    """Whether a rig is there to record: a planned track begins at an instrument, or it has one
    and nothing is planned yet."""
    instruments = {device.id for device in rig.devices if device.kind == "instrument"}
    if not rig.tracks:
        return bool(instruments)
    return any(track.source in instruments for track in rig.tracks)


def recording_rig(session: Session, wanted: str = "") -> Rig:
    """The rig that takes are recorded with: the one that is asked for by id or name, else the
    session's recording rig, else the current one where it records, else the first that does."""
    return _chosen(session, wanted or session.recording_rig, records)


def reamp_rig(session: Session, wanted: str = "", state: RigState = "reamp") -> Rig:
    """The rig that stored takes are sent through: the one that is asked for by id or name, else
    the session's reamp rig, else the current one unless it is there to record, else the first
    that reamps. One that a cable is missing in stays the chosen one: what is wrong is told. It
    stands as in its state Reamp."""
    current = session.rig(wanted or session.reamp_rig)
    if not (wanted or session.reamp_rig or not records(current)):
        current = _chosen(session, "", reamps)
    return in_state(current, state)


def _chosen(session: Session, named: str, plays: Callable[[Rig], bool]) -> Rig:
    if named:
        return session.rig(named)
    current = session.rig()
    return next((rig for rig in (current, *session.rigs) if plays(rig)), current)
