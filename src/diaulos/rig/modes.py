"""One sum for a wrong mode: what an input's switch costs in level and treble."""

from __future__ import annotations

import numpy as np

from diaulos.errors import DiaulosError
from diaulos.rig.course import Course, trace_all
from diaulos.rig.elements import Gain, Knob, elements_of
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef
from diaulos.rig.printed import mode_switch

TREBLE_HZ = 4_000.0


def treble_db(course: Course) -> float:
    """What a course gives at 4 kHz less what it gives at 1 kHz, from the source's EMF to the
    track, amplifiers left out.

    Parameters
    ----------
    course
        From an instrument to a recorded track.

    Returns
    -------
    dB; negative where treble is lost.
    """
    freqs = np.array([1_000.0, TREBLE_HZ])
    lost = 0.0
    for element in elements_of(course, noises=False):
        if isinstance(element, Gain) and element.shape is not None:
            at = element.decibels(freqs)
            lost += float(at[1] - at[0])
    return lost


def mode_sum(graph: RigGraph, target: PortRef, mode: str) -> str:
    """What the mode of an input costs against another one, in one sentence: the level at 1 kHz
    and the treble, with the gain as it stands.

    Parameters
    ----------
    graph
        The rig with its instruments.
    target
        An input whose switch has that mode.
    mode
        The position that is compared with the one that stands.

    Returns
    -------
    Words, or "" where nothing comes into the input or it has no such switch.
    """
    device = graph.rig.device(target.device)
    switch = mode_switch(device, target.port)
    if switch is None or mode not in dict(switch.options) or mode == switch.value:
        return ""
    other = graph.rig.with_device(device.with_setting(switch.id, mode))
    sums = []
    for rig in (graph.rig, other):
        course = next(
            (t.course for t in trace_all(graph.of(rig)) if passes(t.course, target)), None
        )
        if course is None:
            return ""
        try:
            sums.append((_gain_db(course), treble_db(course)))
        except DiaulosError:
            return ""
    (level, treble), (better, brighter) = sums
    words = dict(switch.options)
    quieter, duller = better - level, brighter - treble
    told = f"{abs(quieter):.1f} dB {'quieter' if quieter >= 0.0 else 'louder'}"
    less = f"{abs(duller):.1f} dB {'less' if duller >= 0.0 else 'more'} at 4 kHz"
    return f"{words[switch.value]} instead of {words[mode].lower()}: {told} and {less}."


def _gain_db(course: Course) -> float:
    """The gain at 1 kHz from the source to the track, amplifiers left out."""
    level = 0.0
    for element in elements_of(course, noises=False):
        if isinstance(element, (Gain, Knob)):
            level += element.db
    return level


def passes(course: Course | None, target: PortRef) -> bool:
    """Whether a course goes through an input.

    Parameters
    ----------
    course
        Any course, or None.
    target
        The input.

    Returns
    -------
    True where it does.
    """
    return course is not None and any(
        leg.device.id == target.device and leg.entry is not None and leg.entry.id == target.port
        for leg in course.legs
    )
