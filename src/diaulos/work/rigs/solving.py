"""Gains and switches solved for the courses of a rig, as edits of the session."""

from __future__ import annotations

from dataclasses import replace

from diaulos.errors import DiaulosError, EditError
from diaulos.records import dataclass
from diaulos.rig.course import Course, trace, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.freeing import Freeing, Obstacle, freeings, obstacle
from diaulos.rig.levels.solve import Aim, Setup, Solution, solve
from diaulos.rig.levels.spread import loud_moments_db
from diaulos.rig.levels.whatif import DI_TYPES, swap_device
from diaulos.rig.model import PortRef, Rig, SettingRef
from diaulos.session.edits import Edit, change_rig
from diaulos.session.model import Session
from diaulos.work.rigs.levels import aim_of, course_name
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.stored import NOTHING_STORED, Stored


@dataclass(frozen=True)
class Solved:
    """A course with its gains solved, or why not; what is in the way, and what frees it."""

    track: PortRef
    name: str
    solution: Solution | None
    problem: DiaulosError | None = None
    obstacle: Obstacle | None = None
    freeings: tuple[Freeing, ...] = ()
    swapped: tuple[str, str] | None = None
    """(device, type) of a DI box that is to stand in place of the one that is there."""


# --- solving ---


def solve_rig(
    session: Session,
    rig_id: str = "",
    tracks: tuple[PortRef, ...] | None = None,
    stored: Stored = NOTHING_STORED,
    *,
    free_tone: bool = False,
    other_di: bool = False,
    with_freeings: bool = True,
) -> tuple[Solved, ...]:
    """The gains of a rig's courses (all, or those named), one after the other in the order of
    the plan. What two courses share is set for the first of them; the second is solved around
    it. With `other_di` a DI box may be replaced by one of another kind, which counts as one
    change."""
    rig = session.rig(rig_id)
    order = {track.port: index for index, track in enumerate(rig.tracks)}
    graph = rig_graph(session, rig, stored)
    wanted = sorted(trace_all(graph), key=lambda one: order.get(one.track, len(order)))
    decided: list[SettingRef] = []
    found: list[Solved] = []
    for traced in wanted:
        if tracks is not None and traced.track not in tracks:
            continue
        name = course_name(rig, graph, traced.track)
        if traced.course is None:
            found.append(Solved(traced.track, name, None, traced.problem))
            continue
        aim = replace(aim_of(session, free_tone=free_tone), decided=tuple(decided))
        try:
            course = _moved(traced.course, graph, rig)
            if session.loud_moments and aim.statistic == "peak":
                aim = replace(aim, target_dbfs=aim.target_dbfs - loud_moments_db(course))
            one = _solved(traced.track, name, course, aim, with_freeings)
            if other_di:
                one = _with_other_di(one, course, aim)
        except DiaulosError as error:
            found.append(Solved(traced.track, name, None, error))
            continue
        found.append(one)
        assert one.solution is not None
        decided += one.solution.best.values
        if one.solution.changes or one.swapped is not None:
            rig = with_setup(_swapped(rig, one.swapped), one.solution)
            graph = graph.of(rig)
    return tuple(found)


def _moved(course: Course, graph: RigGraph, rig: Rig) -> Course:
    """The course in a rig whose settings have changed since."""
    if course.rig is rig:
        return course
    return trace(graph, course.track)


def _solved(track: PortRef, name: str, course: Course, aim: Aim, with_freeings: bool) -> Solved:
    solution = solve(course, aim)
    found = obstacle(solution)
    free = freeings(solution) if found is not None and with_freeings else ()
    return Solved(track, name, solution, None, found, free)


def _with_other_di(solved: Solved, course: Course, aim: Aim) -> Solved:
    """The better of a course as it is and with each DI box of another kind: by the solver's
    own order, the box one change more."""
    assert solved.solution is not None
    best, best_key = solved, solved.solution.best.key
    for leg in course.legs:
        if leg.device.kind != "di":
            continue
        for kind in DI_TYPES:
            if kind == leg.device.type:
                continue
            try:
                rig = swap_device(course.rig, leg.device.id, kind)
                other = trace(course.graph.of(rig), course.track)
                solution = solve(replace(other, source=course.source), aim)
            except DiaulosError:
                continue
            key = solution.best.key
            counted = (*key[:5], key[5] + 1, *key[6:])
            if counted[:7] < best_key[:7]:
                best_key = counted
                best = Solved(
                    solved.track, solved.name, solution, None, obstacle(solution), (),
                    (leg.device.id, kind),
                )  # fmt: skip
    return best


def _swapped(rig: Rig, swap: tuple[str, str] | None) -> Rig:
    return rig if swap is None else swap_device(rig, *swap)


def with_setup(rig: Rig, solution: Solution, setup: Setup | None = None) -> Rig:
    """The rig with the settings of a setup, the best by default."""
    chosen = setup or solution.best
    for one in solution.settings:
        if one.ref in chosen.values:
            rig = rig.with_setting(one.ref.device, one.ref.setting, chosen.values[one.ref])
    return rig


def solve_edit(rig_id: str, solved: tuple[Solved, ...]) -> Edit:
    """The solved settings as one undoable step. Settings that have gone meanwhile, or were
    locked, raise and change nothing."""

    def change(rig: Rig) -> Rig:
        for one in solved:
            if one.solution is None:
                continue
            rig = _swapped(rig, one.swapped)
            for setting, value in one.solution.changes:
                if setting.ref in rig.locked:
                    raise EditError(
                        f"{setting.words} was locked meanwhile.", remedy="Solve once more."
                    )
                rig = rig.with_setting(setting.ref.device, setting.ref.setting, value)
        return rig

    return change_rig(rig_id, "Set gains", change)


def second_edit(rig_id: str, solved: Solved) -> Edit:
    """The second best of a course as one undoable step."""
    solution = solved.solution
    if solution is None or solution.second is None:
        raise EditError(f"{solved.name} has no second best.")
    second = solution.second
    return change_rig(rig_id, "Set second best", lambda rig: with_setup(rig, solution, second))
