"""Use cases of levels: the diagrams of a rig, its gains solved, a verdict in three lines."""

from __future__ import annotations

from diaulos.circuit.loading import level_db
from diaulos.errors import DiaulosError, EditError
from diaulos.records import dataclass
from diaulos.rig import changes
from diaulos.rig.course import Course, source_of, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.diagram import LevelDiagram, level_diagram
from diaulos.rig.levels.solve import Aim
from diaulos.rig.model import PlayedLevel, PortRef, Rig, SettingRef
from diaulos.rig.sources import USUAL_CREST_DB
from diaulos.session.edits import Edit, change_rig
from diaulos.session.model import Session
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.stored import NOTHING_STORED, Stored

TARGET_BAND_DB = 1.0


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


def target_band(aim: Aim) -> tuple[float, float]:
    """What counts as at the target, in dBFS: the bracket of every level window."""
    return aim.target_dbfs - TARGET_BAND_DB, aim.target_dbfs + TARGET_BAND_DB


def traced_courses(
    session: Session, rig_id: str = "", stored: Stored = NOTHING_STORED
) -> dict[PortRef, Course]:
    """The courses of a rig by track, those that have one."""
    graph = rig_graph(session, session.rig(rig_id), stored)
    return {one.track: one.course for one in trace_all(graph) if one.course is not None}


def levels_of(
    session: Session, rig_id: str = "", stored: Stored = NOTHING_STORED, *, tone: bool = False
) -> tuple[CourseLevels, ...]:
    """The diagram of every recorded track, in the order of the plan; `tone`: of a sine at 1 kHz,
    to compare with a meter."""
    rig = session.rig(rig_id)
    graph = rig_graph(session, rig, stored, tone=tone)
    found = []
    for traced in trace_all(graph):
        name = course_name(rig, graph, traced.track)
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


def course_name(rig: Rig, graph: RigGraph, track: PortRef) -> str:
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


# --- how loud it is really played ---


def typed_played(session: Session, rig_id: str, device_id: str, jack_peak_dbu: float,
                 crest_db: float = USUAL_CREST_DB) -> PlayedLevel:  # fmt: skip
    """A typed loudest peak (dBu of a sine, at the jack, into 1 MΩ) as the EMF behind it."""
    graph = rig_graph(session, session.rig(rig_id))
    device = graph.rig.device(device_id)
    source = source_of(graph, device)
    if source is None:
        raise EditError(f"{device.name} is no instrument.", remedy="Choose an instrument.")
    emf = jack_peak_dbu - level_db(source.circuit, source.jack_load, 1000.0)
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
    return source.jack_peak_dbu


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
