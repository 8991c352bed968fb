"""What stood ahead of a modeler's tone stage when a take was recorded: its pad and its trim.

A stream that goes back into the same modeler is to give the tone stage what it had then, however
pad and trim stand now.
"""

from __future__ import annotations

from diaulos.errors import RigError
from diaulos.rig.course import Course, reamp_course, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import AmpStage, Device, Rig
from diaulos.rig.plan import ahead_of_tone_db


def ahead_when_recorded(then: Rig | None, now: Rig) -> float | None:
    """Trim less pad in dB as they stood in the rig that a take was recorded with, where its tone
    was made by the same type of modeler that the reamp goes through; None where nobody knows."""
    if then is None:
        return None
    try:
        modeler = _modeler(reamp_course(now))
    except RigError:
        return None
    if modeler is None:
        return None
    for traced in trace_all(RigGraph(then)):
        course = traced.course
        if course is None or course.source is None:
            continue
        there = _modeler(course)
        if there is not None and there.type == modeler.type:
            return ahead_of_tone_db(course)
    return None


def _modeler(course: Course) -> Device | None:
    """The device whose amplifier is a model, on the course's first amplifier."""
    for leg in course.legs:
        for stage in leg.path.stages if leg.path else ():
            if isinstance(stage, AmpStage):
                return leg.device if stage.full_scale_dbu is not None else None
    return None
