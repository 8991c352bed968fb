"""Which way up a course arrives: what turns the polarity on its way, counted.

Transformers, stages and whole amplifiers may invert. A course is inverted where the number of
those is odd. What a cabinet's or an amplifier's filters do to the phase is not polarity.
"""

from __future__ import annotations

from diaulos.rig.course import Course
from diaulos.rig.flow import Active, Segment, cut
from diaulos.rig.model import AmpStage, GainStage
from diaulos.signal.amp import VOICES


def inverting(course: Course) -> tuple[str, ...]:
    """The ids of the devices that turn a course over, in its order; twice where a device does
    so twice.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    Device ids.
    """
    found: list[str] = []
    for step in cut(course):
        if isinstance(step, Segment):
            found += step.inverting
        else:
            found += _inside(step)
    return tuple(found)


def is_inverted(course: Course) -> bool:
    """Whether a course arrives upside down re its source.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    True for an odd number of inversions.
    """
    return len(inverting(course)) % 2 == 1


def _inside(active: Active) -> list[str]:
    device, path = active.leg.device, active.leg.path
    assert path is not None
    turns = sum(
        (isinstance(stage, GainStage) and stage.inverts)
        or (isinstance(stage, AmpStage) and _voice_inverts(device.word("voice")))
        for stage in path.stages
    )
    return [device.id] * turns


def _voice_inverts(voice: str) -> bool:
    """An unknown one is the plan's fault to tell."""
    return voice in VOICES and VOICES[voice].inverts
