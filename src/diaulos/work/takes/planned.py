"""A take held against what was planned for it: what came, and the likely culprit."""

from __future__ import annotations

from diaulos.errors import DiaulosError, EditError
from diaulos.records import dataclass
from diaulos.rig.course import trace_all
from diaulos.rig.levels.causes import Cause, likely_causes
from diaulos.rig.model import Control, PortRef, Rig
from diaulos.rig.trackplan import gain_for, plan_tracks
from diaulos.session.edits import Edit, change_rig
from diaulos.session.model import Session, Take, Track
from diaulos.session.roles import recording_rig
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.stored import NOTHING_STORED, Stored

TOLD_DB = 2.0
"""A track that is further from its plan is told."""
NOISE_BELOW_DB, NOISE_SPAN_DB = 30.0, 20.0
"""What stays so far below its plan, and never rises further over its own quietest 0.3 s, is the
noise of the way: a played string does both only behind a closed volume or an open lead. The peak
of Gaussian noise over a minute is some 15 dB over its RMS, that of hum less."""
NOBODY = "Only noise is on it: nobody played, or the volume is closed or the lead is out."


@dataclass(frozen=True)
class PlannedTrackLevel:
    """A recorded track beside its plan, in dBFS; `planned` is unclipped and may exceed 0."""

    name: str
    planned_dbfs: float
    got_dbfs: float
    difference_db: float

    @property
    def told(self) -> bool:
        """Whether it is far enough from the plan to be told."""
        return abs(self.difference_db) > TOLD_DB


@dataclass(frozen=True)
class TakeCheck:
    """What a take became of its plan. `culprit` is the likeliest cause over all its courses,
    None where playing alone explains it."""

    tracks: tuple[PlannedTrackLevel, ...]
    culprit: Cause | None = None
    silent: bool = False
    """Whether nothing but noise came: no gain is to be set by it."""

    @property
    def words(self) -> str:
        """In a line, "" where all is as planned."""
        off = [one for one in self.tracks if one.told]
        if not off:
            return ""
        worst = max(off, key=lambda one: abs(one.difference_db))
        way = "louder" if worst.difference_db > 0.0 else "quieter"
        words = f"{worst.name} is {abs(worst.difference_db):.1f} dB {way} than planned."
        if self.silent:
            return f"{words} {NOBODY}"
        return f"{words} {self.culprit.words}" if self.culprit is not None else words


def check_take(session: Session, take: Take, stored: Stored = NOTHING_STORED) -> TakeCheck:
    """A take's tracks against the plan that was stored with them."""
    rows = []
    for track in take.tracks:
        difference = track.difference_db
        if difference is not None and track.planned_dbfs is not None:
            rows.append(
                PlannedTrackLevel(track.name, track.planned_dbfs, track.peak_dbfs, difference)
            )
    found = TakeCheck(tuple(rows))
    if not any(one.told for one in rows):
        return found
    if only_noise(take):
        return TakeCheck(tuple(rows), silent=True)
    return TakeCheck(tuple(rows), _culprit(session, take, stored))


def only_noise(take: Take) -> bool:
    """Whether no planned track of a take rises over its own noise, and the one furthest from its
    plan lies where nobody can have played it."""
    planned = [track for track in take.tracks if track.difference_db is not None]
    if not planned or min(track.difference_db or 0.0 for track in planned) > -NOISE_BELOW_DB:
        return False
    return all(
        track.quietest_dbfs is not None and track.peak_dbfs - track.quietest_dbfs < NOISE_SPAN_DB
        for track in planned
    )


def _culprit(session: Session, take: Take, stored: Stored) -> Cause | None:
    rig = session.snapshots.get(take.rig_hash)
    if rig is None:
        return None
    by_port = _by_port(session, take, rig)
    try:
        courses = {one.track: one.course for one in trace_all(rig_graph(session, rig, stored))}
        causes = likely_causes(
            {ref: course for ref, course in courses.items() if course and ref in by_port},
            {ref: min(0.0, track.peak_dbfs) for ref, track in by_port.items()},
            {ref: track.planned_dbfs or 0.0 for ref, track in by_port.items()},
            most=1,
            exact=False,
        )
    except DiaulosError:
        return None
    return next((cause for cause in causes if cause.explains), None)


def _by_port(session: Session, take: Take, rig: Rig) -> dict[PortRef, Track]:
    """The take's planned tracks by where the rig records them."""
    graph = rig_graph(session, rig)
    ports = {one.name: one.port for one in rig.tracks if graph.has(one.port)}
    return {
        ports[track.name]: track
        for track in take.tracks
        if track.name in ports and track.planned_dbfs is not None
    }


def heard_gain_edit(
    session: Session, take: Take, rig_id: str = "", stored: Stored = NOTHING_STORED
) -> Edit:
    """The gains of the rig set for what was heard in a take: as high as the target lets them
    be, had it been played like that. EditError where no gain is to be turned."""
    rig = recording_rig(session, rig_id)
    graph = rig_graph(session, rig, stored)
    plans = {plan.track: plan for plan in plan_tracks(graph)}
    by_port = _by_port(session, take, rig)
    if only_noise(take):
        raise EditError(
            "Nothing was played by which a gain could be set.",
            where=take.name,
            remedy=f"{NOBODY} Play, and record again.",
        )
    turned: list[tuple[str, Control, float]] = []
    for ref, track in by_port.items():
        plan = plans.get(ref)
        off = track.difference_db
        if plan is None or plan.converter_dbfs is None or off is None:
            continue
        if track.clipped_samples:
            off = max(off, 0.0)  # how much more there was, a clipped track does not tell
        found = gain_for(plan, session.target_peak_dbfs - off)
        if found is not None and found[2] != found[1].value:
            turned.append((found[0].id, found[1], found[2]))
    if not turned:
        raise EditError(
            "No gain is to be turned for what was heard.",
            where=take.name,
            remedy="It came as planned, or what it is recorded through has no gain.",
        )

    def change(rig: Rig) -> Rig:
        for device, control, value in turned:
            rig = rig.with_setting(device, control.id, value)
        return rig

    return change_rig(rig.id, "Set gain for what was heard", change)
