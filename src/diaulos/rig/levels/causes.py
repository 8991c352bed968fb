"""A sound check against the plan: where they differ, which station is the likely cause.

One turned switch or knob moves every course that runs through it and no other. So each
hypothesis is worked out for all courses that were heard, and the one that explains all of
them best is named first.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

from diaulos.rig.course import Course
from diaulos.rig.flow import ONE_LEG_DB
from diaulos.rig.levels.diagram import level_diagram
from diaulos.rig.levels.settings import CourseSetting, Role, settings_on, with_values
from diaulos.rig.model import Balance, PortRef, SettingRef

DIFFERS_DB = 1.0
"""More than this needs a cause."""
EXPLAINS_DB = 1.0
"""What a cause may leave over."""
RANKS = ("switch", "leg", "knob", "player")


@dataclass(frozen=True)
class Difference:
    """One course: peak as planned and as heard, in dBFS."""

    track: PortRef
    planned_dbfs: float
    heard_dbfs: float

    @property
    def db(self) -> float:
        """Heard minus planned."""
        return self.heard_dbfs - self.planned_dbfs

    @property
    def agrees(self) -> bool:
        """Within a dB."""
        return abs(self.db) <= DIFFERS_DB


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


def differences(
    courses: Mapping[PortRef, Course],
    heard: Mapping[PortRef, float],
    planned: Mapping[PortRef, float] | None = None,
) -> tuple[Difference, ...]:
    """Every course that was heard. `planned` are the peaks of the very signal that was played,
    where it is known; without, the plan's own at 1 kHz.

    Parameters
    ----------
    courses
        Courses by their tracks.
    heard
        Peaks in dBFS by track.
    planned
        Peaks in dBFS of the very signal that was played.

    Returns
    -------
    Heard, planned and their difference in dB, by track.
    """
    return tuple(
        Difference(
            track, planned[track] if planned is not None else planned_peak(course), heard[track]
        )
        for track, course in courses.items()
        if track in heard
    )


def likely_causes(
    courses: Mapping[PortRef, Course],
    heard: Mapping[PortRef, float],
    planned: Mapping[PortRef, float] | None = None,
    most: int = 3,
) -> tuple[Cause, ...]:
    """What would explain a sound check, the likeliest first; nothing while it agrees.

    Parameters
    ----------
    courses
        Courses by their tracks.
    heard
        Peaks in dBFS by track.
    planned
        Peaks in dBFS of the very signal that was played.
    most
        How many at most.

    Returns
    -------
    The likeliest first.
    """
    found = differences(courses, heard, planned)
    if all(one.agrees for one in found):
        return ()
    off = {one.track: one.db for one in found}
    here = {track: courses[track] for track in off}
    causes = [*_settings(here, off), *_legs(here, off), *_players(here, off)]
    causes.sort(key=lambda cause: (round(cause.left_db / 0.5), RANKS.index(cause.kind)))
    good = [cause for cause in causes if cause.explains]
    return tuple((good or causes[:1])[:most])


def _settings(courses: dict[PortRef, Course], off: dict[PortRef, float]) -> Iterator[Cause]:
    """A switch or a knob that stands otherwise than the session says."""
    known: dict[SettingRef, CourseSetting] = {}
    on: dict[SettingRef, list[PortRef]] = {}
    for track, course in courses.items():
        for one in settings_on(course, free_tone=True, locked=()):
            known[one.ref] = one
            on.setdefault(one.ref, []).append(track)
    for ref, one in known.items():
        for value in _tries(one, max((off[t] for t in on[ref]), key=abs)):
            left = max(abs(db) for db in (*_others(off, on[ref]), 0.0))
            for track in on[ref]:
                moved = planned_peak(with_values(courses[track], {ref: value}))
                left = max(left, abs(off[track] - (moved - planned_peak(courses[track]))))
            kind = "switch" if one.role is Role.SWITCH else "knob"
            words = (
                f"{one.words} stands at {one.value_words(value)}, "
                f"not at {one.value_words(one.value)}."
            )
            yield Cause(words, kind, left, ref, value)


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


def _others(off: dict[PortRef, float], but: list[PortRef]) -> list[float]:
    return [db for track, db in off.items() if track not in but]


def _legs(courses: dict[PortRef, Course], off: dict[PortRef, float]) -> Iterator[Cause]:
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
        left = max(abs(db) for db in (*_others(off, tracks), 0.0))
        left = max(left, *(abs(off[track] - ONE_LEG_DB) for track in tracks))
        words = f"Only one leg of {name} arrives: an unbalanced plug or a broken cable, 6 dB."
        yield Cause(words, "leg", float(left))


def _players(courses: dict[PortRef, Course], off: dict[PortRef, float]) -> Iterator[Cause]:
    """The volume knob, or how hard it was played."""
    sources: dict[str, tuple[str, list[PortRef]]] = {}
    for track, course in courses.items():
        if course.source is not None:
            start = course.start.device.id
            sources.setdefault(start, (course.source.name, []))[1].append(track)
    for name, tracks in sources.values():
        shifts = sorted(off[track] for track in tracks)
        shift = shifts[len(shifts) // 2]
        left = max(abs(db) for db in (*_others(off, tracks), 0.0))
        left = max(left, _played_left(courses, off, tracks, shift))
        if shift < 0.0:
            words = f"The volume knob of {name} is down, or it was played softer, {-shift:.1f} dB."
        else:
            words = f"{name} was played harder than its strength says, by {shift:.1f} dB."
        yield Cause(words, "player", left)


def _played_left(
    courses: dict[PortRef, Course], off: dict[PortRef, float], tracks: list[PortRef], shift: float
) -> float:
    left = 0.0
    for track in tracks:
        course = courses[track]
        source = course.source
        assert source is not None
        other = replace(course, source=replace(source, emf_peak_dbu=source.emf_peak_dbu + shift))
        left = max(left, abs(off[track] - (planned_peak(other) - planned_peak(course))))
    return left
