"""How much louder than planned playing gets: other chords, other moments, the same strength.

That spread belongs to playing. It is worked out by playing several performances of the
simulated player through the course, each scaled to the instrument's loudest peak.
"""

from __future__ import annotations

from dataclasses import replace

from diaulos.rig.course import Course
from diaulos.rig.excerpt import PLANNED_CHORDS, PLANNED_SEED, simulated_excerpt
from diaulos.rig.trackplan import converter_peak

PERFORMANCES = (
    ("power", 2), ("open", 3), ("minor", 4), ("octaves", 2), ("riff", 3), ("high", 4),
)  # fmt: skip
"""Chords and seeds; none is the plan's own."""


def loud_moments_db(course: Course) -> float:
    """How far the loudest of several performances comes above the planned one, at the last
    converter.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    dB, 0 and above; 0 for a stored track, which is what it is, and for a tone.

    Raises
    ------
    RigError
        Where nothing becomes numbers.
    """
    source = course.source
    if source is None or source.tone or course.graph.tone:
        return 0.0
    played = {}
    for chords, seed in ((PLANNED_CHORDS, PLANNED_SEED), *PERFORMANCES):
        excerpt = simulated_excerpt(source.strings, chords, seed)
        played[chords, seed] = converter_peak(
            replace(course, source=replace(source, excerpt=excerpt))
        )
    planned = played[PLANNED_CHORDS, PLANNED_SEED]
    return max(0.0, *(peak - planned for peak in played.values()))
