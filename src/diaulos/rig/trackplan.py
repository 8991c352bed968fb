"""The level plan of a whole rig: for every recorded track its source, tap and channel, how
late it is, how loud its loudest peak gets at every port, and what clips.

An instrument is played as hard as its reading says: levels are what its excerpt gives when it
is played through the course (`playing`). A stored track that nobody named peaks at
`playing.PLAYED_PEAK_DBFS`, as a sine.
"""

from __future__ import annotations

from collections.abc import Sequence

from diaulos.errors import DiaulosError, RigError
from diaulos.records import dataclass
from diaulos.rig.course import Course, TracedTrack, trace_all
from diaulos.rig.elements import Curve, Gain, Knob, Place, Read, elements_of, last_that_bends
from diaulos.rig.flow import Point
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import AdcStage, Control, Device, PortRef, Rig, SignalClass, Tap
from diaulos.rig.playing import start_of

TARGET_PEAK_DBFS = -12.0
CLIP_MARGIN_DB = 0.05


@dataclass(frozen=True)
class PlannedLevel:
    """The loudest peak at a port: dBu, or dBFS in the digital part. `ceiling` is the port's
    clip point in the same unit, None where nothing clips."""

    point: Point
    device: str
    peak: float
    unit: str
    ceiling: float | None

    @property
    def clips_db(self) -> float:
        """How far the peak is above the clip point; 0 when it is not."""
        if self.ceiling is None:
            return 0.0
        over = self.peak - self.ceiling
        return over if over > CLIP_MARGIN_DB else 0.0


@dataclass(frozen=True)
class TrackPlan:
    """What the rig does for one recorded track. `problem` says why there is no course."""

    track: PortRef
    course: Course | None
    problem: DiaulosError | None
    levels: tuple[PlannedLevel, ...] = ()
    rates: tuple[str, ...] = ()
    """Sample rates of the devices on the way, each once, in order."""
    converter_dbfs: float | None = None
    """The loudest peak at the last converter, unclipped: what a target is for."""
    unclipped_dbfs: float | None = None
    """The loudest peak as it would be recorded if nothing were full there: may exceed 0."""

    @property
    def source(self) -> str:
        """Id of the device that it starts at; "" without a course."""
        return self.course.start.device.id if self.course else ""

    @property
    def tap(self) -> Tap | None:
        """Where it leaves the shared path."""
        return self.course.tap if self.course else None

    @property
    def peak_dbfs(self) -> float | None:
        """The loudest peak as recorded, not above 0."""
        return min(0.0, self.levels[-1].peak) if self.levels else None

    @property
    def clipped(self) -> tuple[PlannedLevel, ...]:
        """The ports that clip, in order."""
        return tuple(level for level in self.levels if level.clips_db > 0.0)

    def delay_ms(self, rate_hz: float) -> float:
        """From the source to the track."""
        return self.course.delay_ms(rate_hz) if self.course else 0.0


def plan_tracks(graph: RigGraph) -> tuple[TrackPlan, ...]:
    """The plan of every recorded track, in the recorder's order."""
    return plan_traced(trace_all(graph))


def plan_traced(tracks: tuple[TracedTrack, ...]) -> tuple[TrackPlan, ...]:
    """The plan of tracks whose courses are known."""
    found = []
    for traced in tracks:
        if traced.course is None:
            found.append(TrackPlan(traced.track, None, traced.problem))
            continue
        try:
            walk = _walked(traced.course)
        except DiaulosError as error:
            found.append(TrackPlan(traced.track, traced.course, error))
            continue
        rates = rates_of(traced.course)
        found.append(
            TrackPlan(
                traced.track, traced.course, None, walk.levels, rates, walk.converter, walk.track
            )
        )
    return tuple(found)


def stereo_sides(plans: tuple[TrackPlan, ...]) -> dict[PortRef, str]:
    """The tracks that are the left and right of one stereo output."""
    found: dict[PortRef, str] = {}
    for left, right in stereo_pairs([plan.course for plan in plans if plan.course is not None]):
        found.update({left: "left", right: "right"})
    return found


def stereo_pairs(courses: Sequence[Course]) -> tuple[tuple[PortRef, PortRef], ...]:
    """The tracks (left, right) of one stereo output: of two outputs that are made for a pair, or of
    two channels of one digital connection."""
    pairs: dict[tuple[str, str], dict[PortRef, tuple[int, str]]] = {}
    for course in courses:
        for leg in course.legs:
            if leg.exit is None or leg.path is None:
                continue
            if leg.exit.stereo:
                kind = leg.exit.signal_class.value + leg.exit.connector.value
                side = (0, leg.exit.id)
            elif leg.exit.signal_class is SignalClass.DIGITAL and leg.exit.channels > 1:
                kind, side = leg.exit.id + str(leg.channel // 2), (leg.channel % 2, leg.exit.id)
            else:
                continue
            pairs.setdefault((leg.device.id, kind + str(course.tap)), {})[course.track] = side
    found: dict[tuple[PortRef, PortRef], None] = {}
    for sides in pairs.values():
        if len(sides) == 2 and len(set(sides.values())) == 2:
            left, right = sorted(sides, key=lambda track: sides[track])
            found[left, right] = None
    return tuple(found)


def rates_of(course: Course) -> tuple[str, ...]:
    """The sample rates that the devices of a course are set to."""
    rates = [leg.device.word("rate") for leg in course.legs if leg.device.has_setting("rate")]
    return tuple(dict.fromkeys(rates))


def course_levels(course: Course) -> tuple[PlannedLevel, ...]:
    """The loudest peak at every port of a course, clipped where a port clips."""
    return _walked(course).levels


@dataclass(frozen=True)
class _Walk:
    levels: tuple[PlannedLevel, ...]
    converter: float | None
    track: float


def _walked(course: Course) -> _Walk:
    """The levels at the ports, the peak at the last converter, and what would arrive in the
    track if nothing were full from there on."""
    row = elements_of(course, noises=False)
    free = last_that_bends(row)
    line = start_of(course)
    found: list[PlannedLevel] = []
    converter: float | None = None
    full = False
    for index, element in enumerate(row):
        if isinstance(element, Gain):
            line = line.through(element)
        elif isinstance(element, Knob):
            line = line.raised(element.db)
        elif isinstance(element, Curve):
            line = line.driven(element)
        elif isinstance(element, Read):
            place = element.place
            # Numbers that are full stay full; where they became so is told once.
            peak = min(line.peak, 0.0) if full else line.peak
            exit_ = course.legs[place.leg].exit
            if element.point is not None:
                found.append(_planned(element.point, place, peak))
            elif place.unit == "dBFS" and place.ceiling is not None:
                if element.converter:
                    converter = line.peak
                if peak > CLIP_MARGIN_DB and exit_ is not None:
                    found.append(_planned(Point(place.leg, exit_), place, peak))
            if index < free:
                line = line.held(place.ceiling)
            elif place.unit == "dBFS":
                full = full or peak > CLIP_MARGIN_DB
    return _Walk(tuple(found), converter, line.peak)


def converter_peak(course: Course) -> float:
    """The loudest peak at the last converter in dBFS, unclipped; RigError without one."""
    found = _walked(course).converter
    if found is None:
        raise RigError(
            "There is no converter on this course: nothing turns the signal into numbers.",
            where=str(course.track),
            remedy="Record through an interface, or plug the course's digital source into one.",
        )
    return found


def jack_full_scale_dbu(course: Course) -> float:
    """The dBu of a sine at 1 kHz, at the source's own output, that reaches 0 dBFS in the track;
    for a course on which nothing is driven."""
    at_jack: float | None = None
    level = 0.0
    for element in elements_of(course, noises=False):
        if isinstance(element, (Gain, Knob)):
            level += element.db
        elif isinstance(element, Read) and at_jack is None:
            at_jack = level
    return (at_jack or 0.0) - level


def _planned(point: Point, place: Place, peak: float) -> PlannedLevel:
    return PlannedLevel(point, place.device_name, peak, place.unit, place.ceiling)


def with_planned_gains(rig: Rig, target_peak_dbfs: float = TARGET_PEAK_DBFS,
                       graph: RigGraph | None = None) -> Rig:  # fmt: skip
    """The rig with every recording input's gain as high as the target peak lets it be."""
    for planned in plan_tracks(graph or RigGraph(rig)):
        gain = gain_for(planned, target_peak_dbfs)
        if gain is not None:
            rig = rig.with_setting(gain[0].id, gain[1].id, gain[2])
    return rig


def gain_for(planned: TrackPlan, target_peak_dbfs: float) -> tuple[Device, Control, float] | None:
    """The gain control of the last converter on a course and the highest step at which its
    peak does not pass the target; None where there is no such control or level."""
    if planned.course is None or planned.problem is not None or not planned.levels:
        return None
    for leg in reversed(planned.course.legs):
        for stage in leg.path.stages if leg.path else ():
            if not isinstance(stage, AdcStage):
                continue
            if stage.control is None:
                return None
            setting = leg.device.setting(stage.control)
            assert isinstance(setting, Control)
            assert planned.converter_dbfs is not None
            at_zero = planned.converter_dbfs - setting.value
            return leg.device, setting, setting.at_most(target_peak_dbfs - at_zero)
    return None
