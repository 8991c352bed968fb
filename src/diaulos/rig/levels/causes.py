"""A sound check against the plan: where they differ, which station is the likely cause.

One turned switch or knob moves every course that runs through it and no other. So each
hypothesis is worked out for all courses that were heard, and the one that explains all of
them best is named first.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from diaulos.records import dataclass
from diaulos.rig.course import Course
from diaulos.rig.flow import ONE_LEG_DB
from diaulos.rig.levels.diagram import level_diagram
from diaulos.rig.levels.settings import CourseSetting, Role, settings_on, with_values
from diaulos.rig.model import AmpStage, Balance, CabinetStage, PortRef, SettingRef

DIFFERS_DB = 1.0
"""More than this needs a cause, where the excerpt's own notes were played."""
OTHER_NOTES_DB = 2.0
"""The same where somebody played something else."""
OTHER_NOTES_DRIVEN_DB = 3.0
"""And where an amplifier or a cabinet makes of it what the notes are (all of hundreds of
performances lie within)."""
EXPLAINS_DB = 1.0
"""What a cause may leave over."""
RANKS = ("switch", "leg", "knob", "player")


@dataclass(frozen=True)
class Difference:
    """One course: peak as planned and as heard, in dBFS."""

    track: PortRef
    planned_dbfs: float
    heard_dbfs: float
    within_db: float = DIFFERS_DB
    """What playing alone may make of it."""

    @property
    def db(self) -> float:
        """Heard minus planned."""
        return self.heard_dbfs - self.planned_dbfs

    @property
    def agrees(self) -> bool:
        """Whether no cause is needed."""
        return abs(self.db) <= self.within_db


@dataclass(frozen=True)
class Cause:
    """A hypothesis: what would then be different from the plan, and what it leaves over at
    the worst course."""

    words: str
    kind: str
    left_db: float
    ref: SettingRef | None = None
    value: float | str | None = None

    @property
    def explains(self) -> bool:
        """Whether every course agrees with it."""
        return self.left_db <= EXPLAINS_DB


def planned_peak(course: Course) -> float:
    """Peak of the track in dBFS as planned, not above full scale.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    dBFS, 0 at most.
    """
    return min(0.0, level_diagram(course).track.peak)


def within_db(course: Course, exact: bool) -> float:
    """How far a track may be from its plan before a cause is looked for.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    exact
        Whether the excerpt's own notes were played.

    Returns
    -------
    dB.
    """
    if exact:
        return DIFFERS_DB
    shapes = (AmpStage, CabinetStage)
    stages = [stage for leg in course.legs if leg.path for stage in leg.path.stages]
    shaped = any(isinstance(stage, shapes) for stage in stages)
    return OTHER_NOTES_DRIVEN_DB if shaped else OTHER_NOTES_DB


def differences(
    courses: Mapping[PortRef, Course],
    heard: Mapping[PortRef, float],
    planned: Mapping[PortRef, float] | None = None,
    *,
    exact: bool = True,
) -> tuple[Difference, ...]:
    """Every course that was heard. `planned` are the peaks that were promised when it was
    recorded; without, the plan's of now.

    Parameters
    ----------
    courses
        Courses by their tracks.
    heard
        Peaks in dBFS by track.
    planned
        Peaks in dBFS as they were planned.
    exact
        Whether the excerpt's own notes were played.

    Returns
    -------
    Heard, planned and their difference in dB, by track.
    """
    return tuple(
        Difference(
            track,
            min(0.0, planned[track]) if planned is not None else planned_peak(course),
            heard[track],
            within_db(course, exact),
        )
        for track, course in courses.items()
        if track in heard and (planned is None or track in planned)
    )


def likely_causes(
    courses: Mapping[PortRef, Course],
    heard: Mapping[PortRef, float],
    planned: Mapping[PortRef, float] | None = None,
    most: int = 3,
    *,
    exact: bool = True,
) -> tuple[Cause, ...]:
    """What would explain what was heard, the likeliest first; nothing while it agrees. What
    playing alone may do accuses nothing.

    Parameters
    ----------
    courses
        Courses by their tracks.
    heard
        Peaks in dBFS by track.
    planned
        Peaks in dBFS as they were planned.
    most
        How many at most.
    exact
        Whether the excerpt's own notes were played.

    Returns
    -------
    The likeliest first.
    """
    found = differences(courses, heard, planned, exact=exact)
    if all(one.agrees for one in found):
        return ()
    off = {one.track: one.db for one in found}
    here = {track: courses[track] for track in off}
    slack = {one.track: one.within_db - DIFFERS_DB for one in found}
    causes = [
        *_settings(here, off, slack), *_legs(here, off, slack), *_players(here, off, slack)
    ]  # fmt: skip
    causes.sort(key=lambda cause: (round(cause.left_db / 0.5), RANKS.index(cause.kind)))
    good = [cause for cause in causes if cause.explains]
    return tuple((good or causes[:1])[:most])


def _left(
    off: Mapping[PortRef, float], moved: Mapping[PortRef, float], slack: Mapping[PortRef, float]
) -> float:
    """What is left unexplained at the worst course, beyond what playing may do."""
    rests = (abs(db - moved.get(track, 0.0)) - slack[track] for track, db in off.items())
    return max(0.0, *rests)


def _settings(
    courses: dict[PortRef, Course], off: dict[PortRef, float], slack: dict[PortRef, float]
) -> Iterator[Cause]:
    """A switch or a knob that stands otherwise than the session says."""
    known: dict[SettingRef, CourseSetting] = {}
    on: dict[SettingRef, list[PortRef]] = {}
    for track, course in courses.items():
        for one in settings_on(course, free_tone=True, locked=()):
            known[one.ref] = one
            on.setdefault(one.ref, []).append(track)
    now = {track: planned_peak(course) for track, course in courses.items()}
    for ref, one in known.items():
        for value in _tries(one, max((off[t] for t in on[ref]), key=abs)):
            moved = {
                track: planned_peak(with_values(courses[track], {ref: value})) - now[track]
                for track in on[ref]
            }
            kind = "switch" if one.role is Role.SWITCH else "knob"
            words = (
                f"{one.words} stands at {one.value_words(value)}, "
                f"not at {one.value_words(one.value)}."
            )
            yield Cause(words, kind, _left(off, moved, slack), ref, value)


def _tries(one: CourseSetting, off_db: float) -> Iterator[float | str]:
    if one.role is Role.SWITCH:
        yield from (value for value in one.steps if value != one.value)
        return
    setting = one.setting
    assert setting.kind == "control"
    for wanted in (setting.value + off_db, setting.value - off_db):
        value = setting.nearest(wanted)
        if abs(value - setting.value) > setting.step / 2.0:
            yield value


def _legs(
    courses: dict[PortRef, Course], off: dict[PortRef, float], slack: dict[PortRef, float]
) -> Iterator[Cause]:
    """One leg of a symmetrical output: half the voltage on the courses of that cable."""
    cables: dict[str, tuple[str, list[PortRef]]] = {}
    for track, course in courses.items():
        for leg in course.legs[:-1]:
            if leg.cable is None or leg.exit is None:
                continue
            if leg.exit.balance is Balance.SYMMETRICAL:
                name = f"{leg.device.name}, {leg.exit.name}"
                cables.setdefault(leg.cable.id, (name, []))[1].append(track)
    for name, tracks in cables.values():
        words = f"Only one leg of {name} arrives: an unbalanced plug or a broken cable, 6 dB."
        moved = {track: float(ONE_LEG_DB) for track in tracks}
        yield Cause(words, "leg", _left(off, moved, slack))


def _players(
    courses: dict[PortRef, Course], off: dict[PortRef, float], slack: dict[PortRef, float]
) -> Iterator[Cause]:
    """The volume knob, or how hard it was played."""
    sources: dict[str, tuple[str, list[PortRef]]] = {}
    for track, course in courses.items():
        if course.source is not None:
            start = course.start.device.id
            sources.setdefault(start, (course.source.name, []))[1].append(track)
    for name, tracks in sources.values():
        # A dry track tells it best: nothing makes another level of it on its way.
        dry = [track for track in tracks if slack[track] <= OTHER_NOTES_DB - DIFFERS_DB]
        shifts = sorted(off[track] for track in dry or tracks)
        shift = shifts[len(shifts) // 2]
        moved = {track: _played_by(courses[track], shift) for track in tracks}
        if shift < 0.0:
            words = f"The volume knob of {name} is down, or it was played softer, {-shift:.1f} dB."
        else:
            words = f"{name} was played harder than its strength says, by {shift:.1f} dB."
        yield Cause(words, "player", _left(off, moved, slack))


def _played_by(course: Course, shift: float) -> float:
    """What harder playing makes of a track, in dB."""
    source = course.source
    assert source is not None
    other = replace(course, source=replace(source, emf_peak_dbu=source.emf_peak_dbu + shift))
    return planned_peak(other) - planned_peak(course)
