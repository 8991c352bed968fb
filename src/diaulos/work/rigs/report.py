"""All that the Levels view shows of a rig at one moment."""

from __future__ import annotations

from diaulos.records import dataclass
from diaulos.rig.course import Course
from diaulos.rig.levels.diagram import LevelDiagram, level_diagram
from diaulos.rig.levels.settings import CourseSetting, Role, settings_on, with_values
from diaulos.rig.levels.whatif import scenario, scenarios
from diaulos.rig.model import PortRef, Rig
from diaulos.session.model import Session
from diaulos.work.rigs.levels import CourseLevels, aim_of, levels_of, word_bits
from diaulos.work.rigs.solving import Solved, solve_rig
from diaulos.work.rigs.stored import NOTHING_STORED, Stored
from diaulos.work.rigs.verdicts import Verdict, verdict


@dataclass(frozen=True)
class GainWorth:
    """What a step of gain would buy: signal to noise now and with `more_db` more."""

    setting: CourseSetting
    more_db: float
    snr_db: float
    bought_db: float


def gain_worth(
    course: Course, bits: int | None = None, more_db: float = 6.0
) -> tuple[GainWorth, ...]:
    """What turning each gain up would do to the noise re the same playing."""
    now = _relative_noise(level_diagram(course, bits))
    found = []
    for one in settings_on(course):
        if one.role is not Role.GAIN or one.setting.kind != "control":
            continue
        value = one.setting.nearest(one.setting.value + more_db)
        moved = value - one.setting.value
        if abs(moved) < one.setting.step / 2.0:
            continue
        then = _relative_noise(level_diagram(with_values(course, {one.ref: value}), bits))
        found.append(GainWorth(one, moved, -then, now - then))
    return tuple(found)


def _relative_noise(diagram: LevelDiagram) -> float:
    return diagram.track.noise - diagram.track.peak


def asked(course: Course, question: str, bits: int | None = None) -> LevelDiagram:
    """The diagram of a course under a what-if question."""
    return level_diagram(scenario(course, question).change(course), bits)


# --- for the window ---


@dataclass(frozen=True)
class LevelsReport:
    """Everything that the view shows of a rig and of its chosen course."""

    rig: Rig
    courses: tuple[CourseLevels, ...]
    chosen: CourseLevels | None
    solved: Solved | None
    verdict: Verdict | None
    asked: LevelDiagram | None
    """The chosen course under a what-if question."""
    worth: tuple[GainWorth, ...]


def look_at_levels(
    session: Session,
    track: PortRef | None = None,
    question: str = "",
    stored: Stored = NOTHING_STORED,
    *,
    free_tone: bool = False,
    other_di: bool = False,
) -> LevelsReport:
    """The current rig's diagrams, and the chosen course (the first by default) solved."""
    rig = session.rig()
    bits = word_bits(session)
    courses = levels_of(session, "", stored)
    chosen = next((one for one in courses if one.track == track), None)
    chosen = chosen or next((one for one in courses if one.diagram is not None), None)
    if chosen is None or chosen.diagram is None:
        return LevelsReport(rig, courses, chosen, None, None, None, ())
    found = solve_rig(
        session, rig.id, (chosen.track,), stored, free_tone=free_tone, other_di=other_di
    )
    solved = next(iter(found), None)
    said = verdict(chosen.diagram, solved, aim_of(session))
    course = chosen.diagram.course
    asked_ = asked(course, question, bits) if question in _questions(course) else None
    return LevelsReport(rig, courses, chosen, solved, said, asked_, gain_worth(course, bits))


def _questions(course: Course) -> set[str]:
    return {one.id for one in scenarios(course)}
