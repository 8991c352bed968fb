"""The returns of a reamp: which tracks come back, what they are called, and which of them belong
together.

The two sides of one stereo output and the microphones before one cabinet are one sound: whatever
moves, turns or matches one of them does so to all.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.course import Course, reamp_courses
from diaulos.rig.model import SOFTWARE, AmpStage, Rig
from diaulos.rig.trackplan import stereo_pairs

DRY = ("di", "printed")

Side = Literal["", "left", "right"]


@dataclass(frozen=True)
class PlannedReturn:
    """A track that comes back. `group` names what it belongs together with, "" for nothing; `side`
    is its place in a stereo pair."""

    course: Course
    name: str
    group: str = ""
    side: Side = ""


def planned_returns(rig: Rig, wanted: Sequence[str] = ()) -> tuple[PlannedReturn, ...]:
    """The returns of a rig, the one that the send is worked out for first; those that are `wanted`
    by name, else all that are not merely the dry track come back. RigError where the rig has none,
    or none of that name."""
    courses = reamp_courses(rig)
    names = _names(rig, courses)
    unknown = [name for name in wanted if name not in names]
    if unknown:
        raise RigError(
            f"{rig.name} has no return {unknown[0]!r}.",
            remedy=f"Its returns: {', '.join(names)}.",
        )
    dry = all(course.tap in DRY for course in courses)
    kept = [
        (course, name)
        for course, name in zip(courses, names, strict=True)
        if name in wanted or (not wanted and (dry or course.tap not in DRY))
    ]
    groups, sides = _groups([course for course, _ in kept])
    return tuple(
        PlannedReturn(course, name, groups.get(at, ""), sides.get(at, ""))
        for at, (course, name) in enumerate(kept)
    )


def way_words(course: Course) -> str:
    """How what is sent gets into the amplifier: by a box, a stream, a modeler's loop, a program, or
    straight in."""
    ahead: list[str] = []
    for leg in course.legs[1:]:
        ahead.append(leg.device.kind)
        stages = leg.path.stages if leg.path else ()
        amp = next((one for one in stages if isinstance(one, AmpStage)), None)
        if amp is None:
            continue
        if leg.device.kind == SOFTWARE:
            return "another program"
        if amp.full_scale_dbu is not None:
            return "stream"
        break
    if "modeler" in ahead:
        return "modeler's loop"
    return "box" if "reamp_box" in ahead else "line straight in"


def _names(rig: Rig, courses: Sequence[Course]) -> list[str]:
    """As the rig calls its tracks, each once."""
    planned = {track.port: track.name for track in rig.tracks}
    found: list[str] = []
    for course in courses:
        name = planned.get(course.track, "") or ("Return" if len(courses) == 1 else "")
        name = wanted = name or rig.port(course.track).name
        number = 2
        while name in found:
            name, number = f"{wanted} {number}", number + 1
        found.append(name)
    return found


def _groups(courses: Sequence[Course]) -> tuple[dict[int, str], dict[int, Side]]:
    """By the courses' places: what each belongs together with, and its side."""
    at = {course.track: number for number, course in enumerate(courses)}
    groups: dict[int, str] = {}
    sides: dict[int, Side] = {}
    for left, right in stereo_pairs(courses):
        if at[left] in sides or at[right] in sides:
            continue
        device = _parting(courses[at[left]], courses[at[right]])
        groups |= {at[left]: device, at[right]: device}
        sides |= {at[left]: "left", at[right]: "right"}
    cabinets: dict[str, list[int]] = {}
    for number, course in enumerate(courses):
        cabinet = _before_microphone(course)
        if cabinet and number not in groups:
            cabinets.setdefault(cabinet, []).append(number)
    for cabinet, members in cabinets.items():
        if len(members) > 1:
            name = courses[0].rig.device(cabinet).name
            groups |= dict.fromkeys(members, name)
    return groups, sides


def _parting(one: Course, other: Course) -> str:
    """The device behind which two courses part."""
    name = one.start.device.name
    for here, there in zip(one.legs, other.legs, strict=False):
        if here.device.id != there.device.id:
            break
        name = here.device.name
        if here.exit != there.exit or here.channel != there.channel:
            break
    return name


def _before_microphone(course: Course) -> str:
    """The loudspeaker that a microphone on the course hears; "" without one."""
    for number, leg in enumerate(course.legs):
        if leg.device.kind == "microphone" and number:
            return course.legs[number - 1].device.id
    return ""
