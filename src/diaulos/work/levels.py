"""Use cases of levels: the diagrams of a rig, its gains solved, a verdict in three lines."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from diaulos.circuit.loading import Load, level_db
from diaulos.errors import DiaulosError, EditError
from diaulos.rig import changes
from diaulos.rig.catalogue.types import TYPES
from diaulos.rig.course import Course, source_of, trace, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.diagram import LevelDiagram, Station, level_diagram
from diaulos.rig.levels.freeing import Freeing, Obstacle, freeings, obstacle
from diaulos.rig.levels.settings import CourseSetting, Role, settings_on, with_values
from diaulos.rig.levels.solve import Aim, Setup, Solution, solve
from diaulos.rig.levels.whatif import DI_TYPES, scenario, scenarios, swap_device
from diaulos.rig.model import PlayedLevel, PortRef, Rig, SettingRef
from diaulos.rig.sources import USUAL_CREST_DB
from diaulos.session.edits import Edit, change_rig
from diaulos.session.model import Session
from diaulos.units import LOWEST_DB
from diaulos.work.rig import rig_graph

TYPED_LOAD = Load(1e6, 300e-12)
"""What a typed loudest peak is meant into: 1 MΩ behind three metres of cable."""


@dataclass(frozen=True)
class TargetChoice:
    """A target that is usual, and the reason for it."""

    words: str
    statistic: str
    value: float
    reason: str


TARGET_CHOICES = (
    TargetChoice(
        "Peak −12 dBFS", "peak", -12.0,
        "The loudest playing stays 12 dB under the clip point: room for the take in which "
        "somebody plays harder than at the sound check.",
    ),
    TargetChoice(
        "Peak −18 dBFS", "peak", -18.0,
        "For players whose loudest is a surprise; with 24 bits the noise of the converter is "
        "still far below that of the instrument.",
    ),
    TargetChoice(
        "Peak −6 dBFS", "peak", -6.0,
        "Where the converter's own noise counts, and the part is even (a bass through a "
        "compressor).",
    ),
    TargetChoice(
        "RMS −18 dBFS", "rms", -18.0,
        "The alignment level of EBU R 68, borrowed for recording (common practice): what comes "
        "behind is then met at the level that it was made for. Peaks fall where they may.",
    ),
)  # fmt: skip


@dataclass(frozen=True)
class CourseLevels:
    """A recorded track with its diagram, or why there is none."""

    track: PortRef
    name: str
    diagram: LevelDiagram | None
    problem: DiaulosError | None = None


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


@dataclass(frozen=True)
class Verdict:
    """A course in three lines, and what to do at two metres' distance."""

    clips_first: str
    noise_set_by: str
    change: str
    figure: str
    instruction: str
    good: bool


def word_bits(session: Session) -> int | None:
    """Bits of the session's files, None for float."""
    return 24 if session.word_length == "24" else None


def aim_of(session: Session, *, free_tone: bool = False) -> Aim:
    """What the session wants of its gains."""
    rms = session.target_statistic == "rms"
    return Aim(
        target_dbfs=session.target_rms_dbfs if rms else session.target_peak_dbfs,
        statistic=session.target_statistic,
        least_headroom_db=session.least_headroom_db,
        free_tone=free_tone,
    )


def traced_courses(session: Session, rig_id: str = "") -> dict[PortRef, Course]:
    """The courses of a rig by track, those that have one."""
    graph = rig_graph(session, session.rig(rig_id))
    return {one.track: one.course for one in trace_all(graph) if one.course is not None}


def levels_of(session: Session, rig_id: str = "") -> tuple[CourseLevels, ...]:
    """The diagram of every recorded track, in the order of the plan."""
    rig = session.rig(rig_id)
    graph = rig_graph(session, rig)
    found = []
    for traced in trace_all(graph):
        name = _name(rig, graph, traced.track)
        if traced.course is None:
            found.append(CourseLevels(traced.track, name, None, traced.problem))
            continue
        try:
            diagram = level_diagram(traced.course, word_bits(session))
        except DiaulosError as error:
            found.append(CourseLevels(traced.track, name, None, error))
        else:
            found.append(CourseLevels(traced.track, name, diagram))
    order = {track.port: index for index, track in enumerate(rig.tracks)}
    return tuple(sorted(found, key=lambda one: order.get(one.track, len(order))))


def _name(rig: Rig, graph: RigGraph, track: PortRef) -> str:
    """As it is planned, or else as its port is called."""
    planned = next((one.name for one in rig.tracks if one.port == track), "")
    return planned or graph.plug(track).port.name


def course_named(courses: tuple[CourseLevels, ...], wanted: str) -> CourseLevels:
    """The course of this name or port; EditError when there is none."""
    for one in courses:
        if wanted in (one.name, str(one.track), one.track.port):
            return one
    known = ", ".join(one.name for one in courses) or "none"
    raise EditError(f"There is no course {wanted!r}.", remedy=f"Courses here: {known}.")


# --- solving ---


def solve_rig(
    session: Session,
    rig_id: str = "",
    tracks: tuple[PortRef, ...] | None = None,
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
    graph = rig_graph(session, rig)
    wanted = sorted(trace_all(graph), key=lambda one: order.get(one.track, len(order)))
    decided: list[SettingRef] = []
    found: list[Solved] = []
    for traced in wanted:
        if tracks is not None and traced.track not in tracks:
            continue
        name = _name(rig, graph, traced.track)
        if traced.course is None:
            found.append(Solved(traced.track, name, None, traced.problem))
            continue
        aim = replace(aim_of(session, free_tone=free_tone), decided=tuple(decided))
        try:
            course = _moved(traced.course, graph, rig)
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
            graph = RigGraph(rig, graph.sources)
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
                other = trace(RigGraph(rig, course.graph.sources), course.track)
                solution = solve(replace(other, source=course.source), aim)
            except DiaulosError:
                continue
            key = solution.best.key
            counted = (*key[:4], key[4] + 1, *key[5:])
            if counted[:6] < best_key[:6]:
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


# --- how loud it is really played ---


def typed_played(session: Session, rig_id: str, device_id: str, jack_peak_dbu: float,
                 crest_db: float = USUAL_CREST_DB) -> PlayedLevel:  # fmt: skip
    """A typed loudest peak (dBu of a sine, at the jack, into 1 MΩ) as the EMF behind it."""
    graph = rig_graph(session, session.rig(rig_id))
    device = graph.rig.device(device_id)
    source = source_of(graph, device)
    if source is None:
        raise EditError(f"{device.name} is no instrument.", remedy="Choose an instrument.")
    emf = jack_peak_dbu - level_db(source.circuit, TYPED_LOAD, 1000.0)
    if source.max_dbu is not None and emf > source.max_dbu + 1e-9:
        raise EditError(
            f"{source.name} puts out {source.max_dbu:g} dBu at most.",
            remedy="Check the figure, or the instrument's maximum.",
        )
    return PlayedLevel(device=device_id, emf_peak_dbu=emf, crest_db=crest_db, origin="typed")


def jack_peak_dbu(course: Course) -> float | None:
    """The loudest peak at an instrument's jack into 1 MΩ; None for a played track."""
    source = course.source
    if source is None:
        return None
    return source.emf_peak_dbu + level_db(source.circuit, TYPED_LOAD, 1000.0)


def set_played_edit(rig_id: str, level: PlayedLevel) -> Edit:
    """A typed or measured loudest peak."""
    return change_rig(rig_id, "Set loudest playing", lambda rig: changes.set_played(rig, level))


def forget_played_edit(rig_id: str, device_id: str) -> Edit:
    """The instrument's own strength counts again."""
    return change_rig(
        rig_id, "Use measured strength", lambda rig: changes.forget_played(rig, device_id)
    )


def lock_edit(rig_id: str, ref: SettingRef, locked: bool) -> Edit:
    """A control that the solver leaves alone, or no longer."""
    label = "Lock control" if locked else "Unlock control"
    return change_rig(rig_id, label, lambda rig: changes.set_lock(rig, ref, locked))


# --- in words ---


def verdict(diagram: LevelDiagram, solved: Solved | None, aim: Aim) -> Verdict:
    """A course in three lines: clips first, noise set by, change to make."""
    first = diagram.first_clip
    noise = diagram.noise_set_by
    clips = "Nothing on this course has a clip point."
    if first is not None and first.headroom_db is not None:
        clips = f"{first.place.name}, {_room_words(first.headroom_db)}"
    quiet = "Nothing that is known."
    if noise is not None:
        quiet = (
            f"{noise.words}: {db(diagram.snr_db)} under the loudest peak ({db(diagram.snr_a_db)} A)"
        )
    figure, away = _figure(diagram, aim)
    change, instruction, good = _change_words(diagram, solved, away)
    return Verdict(clips, quiet, change, figure, instruction, good)


def db(value: float) -> str:
    """A difference with its unit, the minus sign as such."""
    return f"{value:.1f} dB".replace("-", "−")


def _room_words(headroom_db: float) -> str:
    if headroom_db < 0.0:
        return f"clips by {db(-headroom_db)}"
    return f"{db(headroom_db)} of headroom"


def _figure(diagram: LevelDiagram, aim: Aim) -> tuple[str, float | None]:
    try:
        station = diagram.converter
    except DiaulosError:
        return "no converter", None
    level = station.peak if aim.statistic == "peak" else station.typical
    return f"{level:.1f} dBFS".replace("-", "−"), level - aim.target_dbfs


def _change_words(
    diagram: LevelDiagram, solved: Solved | None, away: float | None
) -> tuple[str, str, bool]:
    if away is None or (solved is not None and solved.problem is not None):
        problem = solved.problem if solved is not None else None
        words = str(problem) if problem is not None else "This course has no converter."
        return words, "no level to set", False
    if solved is None or solved.solution is None:
        return f"{db(abs(away))} {'above' if away > 0 else 'below'} the target.", "", False
    solution = solved.solution
    changes_ = solution.changes
    if solved.swapped is not None:
        box = TYPES[solved.swapped[1]].name
        old = next(leg.device.name for leg in diagram.course.legs
                   if leg.device.id == solved.swapped[0])  # fmt: skip
        rest = "".join(f"\n{one.words} to {one.value_words(v)}" for one, v in changes_[:3])
        return f"{box} in place of {old}{rest}", f"use the {box}", False
    if not changes_:
        if solved.obstacle is not None:
            return _freed_words(solved), "change the rig", False
        return "None: this is the best that its steps allow.", "leave it", True
    words = "\n".join(
        f"{one.words} from {one.value_words(one.value)} to {one.value_words(value)}"
        for one, value in changes_[:3]
    )
    if len(changes_) > 3:
        words += f"\n{len(changes_) - 3} more"
    if solved.obstacle is not None:
        words += f"\nStill: {solved.obstacle.words}"
    return words, _instruction(changes_), False


def _freed_words(solved: Solved) -> str:
    assert solved.obstacle is not None
    if solved.freeings:
        return f"{solved.obstacle.words} {solved.freeings[0].words}"
    return solved.obstacle.words


def _instruction(changes_: tuple[tuple[CourseSetting, float | str], ...]) -> str:
    """One thing to do, as it is called across a room."""
    gains = [
        (one, float(value) - float(one.value))
        for one, value in changes_
        if one.setting.kind == "control"
    ]
    switches = [(one, value) for one, value in changes_ if one.setting.kind == "choice"]
    if switches:
        one, value = switches[0]
        return f"{one.setting.name}: {one.value_words(value)}"
    one, step = gains[-1]
    return f"{one.setting.name} {'up' if step > 0 else 'down'} {abs(step):g} dB"


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


# --- for scripts ---


def station_data(station: Station) -> dict[str, Any]:
    """A station for JSON: figures in its own unit."""
    tail = "dbfs" if station.unit == "dBFS" else "dbu"
    data: dict[str, Any] = {
        "name": station.place.name,
        f"peak_{tail}": round(station.peak, 3),
        f"typical_{tail}": round(station.typical, 3),
        f"ceiling_{tail}": station.ceiling,
        f"noise_{tail}": _noise_figure(station.noise),
        f"noise_a_{tail}": _noise_figure(station.noise_a),
        "headroom_db": None if station.headroom_db is None else round(station.headroom_db, 3),
        "full_scale_dbu": station.place.full_scale_dbu,
        "controls": [
            {
                "device": one.device_name,
                "control": one.setting.name,
                "id": str(one.ref),
                "value": one.value,
                "locked": one.kept == "locked",
                "kept": one.kept or None,
            }
            for one in station.controls
        ],
    }
    return data


def _noise_figure(level: float) -> float | None:
    return round(level, 2) if level > LOWEST_DB else None


def levels_data(
    courses: tuple[CourseLevels, ...], solved: Mapping[PortRef, Solved] | None = None
) -> list[dict[str, Any]]:
    """Every course for JSON."""
    rows = []
    for one in courses:
        row: dict[str, Any] = {"name": one.name, "track": str(one.track)}
        if one.diagram is None:
            row |= {"stations": [], "first_clip": None, "noise_set_by": None, "snr_db": None,
                    "snr_a_db": None, "noise_budget": [], "reason": str(one.problem)}  # fmt: skip
        else:
            row |= _diagram_data(one.diagram)
        if solved is not None:
            row["solved"] = _solved_data(solved.get(one.track))
        rows.append(row)
    return rows


def _diagram_data(diagram: LevelDiagram) -> dict[str, Any]:
    first, noise = diagram.first_clip, diagram.noise_set_by
    return {
        "stations": [station_data(station) for station in diagram.stations],
        "first_clip": None
        if first is None
        else {"name": first.place.name, "headroom_db": round(first.headroom_db or 0.0, 3)},
        "noise_set_by": None
        if noise is None
        else {"name": noise.words, "dbfs": round(noise.dbfs, 2)},
        "snr_db": round(diagram.snr_db, 2),
        "snr_a_db": round(diagram.snr_a_db, 2),
        "noise_budget": [
            {
                "name": s.words,
                "kind": s.kind,
                "dbfs": round(s.dbfs, 2),
                "dbfs_a": round(s.dbfs_a, 2),
            }
            for s in diagram.budget
        ],
        "reason": None,
    }


def _solved_data(solved: Solved | None) -> dict[str, Any] | None:
    if solved is None:
        return None
    solution = solved.solution
    if solution is None:
        return {"settings": [], "second_best": None, "left_over_db": None, "works": False,
                "in_the_way": None, "frees": [], "reason": str(solved.problem)}  # fmt: skip
    return {
        "other_di": None
        if solved.swapped is None
        else {"device": solved.swapped[0], "type": solved.swapped[1]},
        "settings": _settings_data(solution, solution.best),
        "peak_dbfs": round(solution.best.peak_dbfs, 3),
        "second_best": None
        if solution.second is None
        else {
            "settings": _settings_data(solution, solution.second),
            "peak_dbfs": round(solution.second.peak_dbfs, 3),
        },
        "left_over_db": round(solution.left_db, 3),
        "headroom_missing_db": round(solution.best.short_db, 1),
        "works": solution.works,
        "in_the_way": solved.obstacle.words if solved.obstacle else None,
        "frees": [one.words for one in solved.freeings],
        "reason": None,
    }


def _settings_data(solution: Solution, setup: Setup) -> list[dict[str, Any]]:
    return [
        {
            "device": one.device_name,
            "control": one.setting.name,
            "id": str(one.ref),
            "value": setup.values.get(one.ref, one.value),
            "before": one.value,
            "kept": one.kept or None,
        }
        for one in solution.settings
    ]


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
    *,
    free_tone: bool = False,
    other_di: bool = False,
) -> LevelsReport:
    """The current rig's diagrams, and the chosen course (the first by default) solved."""
    rig = session.rig()
    bits = word_bits(session)
    courses = levels_of(session)
    chosen = next((one for one in courses if one.track == track), None)
    chosen = chosen or next((one for one in courses if one.diagram is not None), None)
    if chosen is None or chosen.diagram is None:
        return LevelsReport(rig, courses, chosen, None, None, None, ())
    found = solve_rig(session, rig.id, (chosen.track,), free_tone=free_tone, other_di=other_di)
    solved = next(iter(found), None)
    said = verdict(chosen.diagram, solved, aim_of(session))
    course = chosen.diagram.course
    asked_ = asked(course, question, bits) if question in _questions(course) else None
    return LevelsReport(rig, courses, chosen, solved, said, asked_, gain_worth(course, bits))


def _questions(course: Course) -> set[str]:
    return {one.id for one in scenarios(course)}
