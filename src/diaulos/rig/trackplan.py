"""The level plan of a whole rig: for every recorded track its source, tap and channel, how
late it is, how loud its loudest peak gets at every port, and what clips.

Levels are at 1 kHz. An instrument is played as hard as its reading says, a stored track
peaks at `PLAYED_PEAK_DBFS`. Through an amplifier the peak follows its curve without its
filters (the bench knows better).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from diaulos.circuit.network import Real
from diaulos.errors import DiaulosError
from diaulos.rig.course import Course, trace_all
from diaulos.rig.flow import Active, Point, Segment, cut
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    CabinetStage,
    Control,
    DacStage,
    Device,
    PortRef,
    Rig,
    SignalClass,
    Stage,
    Tap,
)
from diaulos.rig.plan import PLAN_HZ, amp_settings, full_scale_dbu, stage_response
from diaulos.rig.stages import StageReader
from diaulos.signal.amp import peak_output
from diaulos.units import dbu_to_peak_volt, gain_to_db, peak_volt_to_dbu

PLAYED_PEAK_DBFS = -12.0
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
    found = []
    for traced in trace_all(graph):
        if traced.course is None:
            found.append(TrackPlan(traced.track, None, traced.problem))
            continue
        try:
            levels = course_levels(traced.course)
        except DiaulosError as error:
            found.append(TrackPlan(traced.track, traced.course, error))
            continue
        found.append(TrackPlan(traced.track, traced.course, None, levels, rates_of(traced.course)))
    return tuple(found)


def stereo_sides(plans: tuple[TrackPlan, ...]) -> dict[PortRef, str]:
    """The tracks that are the left and right of one stereo output: of two outputs that are
    made for a pair, or of two channels of one digital connection."""
    pairs: dict[tuple[str, str], dict[PortRef, tuple[int, str]]] = {}
    for plan in plans:
        if plan.course is None:
            continue
        for leg in plan.course.legs:
            if leg.exit is None or leg.path is None:
                continue
            if leg.exit.stereo:
                kind = leg.exit.signal_class.value + leg.exit.connector.value
                side = (0, leg.exit.id)
            elif leg.exit.signal_class is SignalClass.DIGITAL and leg.exit.channels > 1:
                kind, side = leg.exit.id + str(leg.channel // 2), (leg.channel % 2, leg.exit.id)
            else:
                continue
            pairs.setdefault((leg.device.id, kind + str(plan.tap)), {})[plan.track] = side
    found: dict[PortRef, str] = {}
    for sides in pairs.values():
        if len(sides) == 2 and len(set(sides.values())) == 2:
            order = sorted(sides, key=lambda track: sides[track])
            found.update({order[0]: "left", order[1]: "right"})
    return found


def rates_of(course: Course) -> tuple[str, ...]:
    """The sample rates that the devices of a course are set to."""
    rates = [leg.device.word("rate") for leg in course.legs if leg.device.has_setting("rate")]
    return tuple(dict.fromkeys(rates))


def course_levels(course: Course) -> tuple[PlannedLevel, ...]:
    """The loudest peak at every port of a course, clipped where a port clips."""
    hz = np.array([PLAN_HZ])
    source = course.source
    level = source.emf_peak_dbu if source else PLAYED_PEAK_DBFS
    found: list[PlannedLevel] = []
    for step in cut(course):
        if isinstance(step, Segment):
            base = level
            for point, response in step.responses(hz).items():
                peak = base + gain_to_db(float(abs(response[0])))
                found.append(_at(course, point, peak, step.digital))
                level = _held(found[-1])
                base -= peak - level  # what an output cuts off does not reach the input
        else:
            level = _through(step, level, hz, found)
    return tuple(found)


def _held(at: PlannedLevel) -> float:
    return at.peak if at.ceiling is None else min(at.peak, at.ceiling)


def _at(course: Course, point: Point, level: float, digital: bool) -> PlannedLevel:
    device = course.legs[point.leg].device
    numbers = digital and point.port.signal_class.value in ("digital", "stream")
    ceiling = 0.0 if numbers else point.port.max_dbu
    return PlannedLevel(point, device.name, level, "dBFS" if numbers else "dBu", ceiling)


def _through(active: Active, level: float, hz: Real, found: list[PlannedLevel]) -> float:
    assert active.leg.path is not None
    for stage in active.leg.path.stages:
        level = _Through(active, level, hz, found).read(stage)
    return level


@dataclass(frozen=True)
class _Through(StageReader[float]):
    """The peak behind a stage for one at its input."""

    active: Active
    level: float
    hz: Real
    found: list[PlannedLevel]

    def amp(self, stage: AmpStage) -> float:
        return driven_output(stage, self.active.leg.device, self.active.exit, self.level)

    def dac(self, stage: DacStage) -> float:
        return min(self.level, 0.0) + peak_volt_to_dbu(self._volts(stage))

    def adc(self, stage: AdcStage) -> float:
        device = self.active.leg.device
        level = self.level - full_scale_dbu(stage, device)
        if level > CLIP_MARGIN_DB:
            self.found.append(PlannedLevel(self.active.exit, device.name, level, "dBFS", 0.0))
        return min(level, 0.0)

    def cabinet(self, stage: CabinetStage) -> float:
        if self.active.leg.device.word(stage.setting).endswith(".wav"):
            return self.level  # a brought response is levelled at 1 kHz when it is loaded
        return self._linear(stage)

    def _linear(self, stage: Stage) -> float:
        return self.level + gain_to_db(self._volts(stage))

    gain = passive = filter = delay = _linear

    def _volts(self, stage: Stage) -> float:
        return float(abs(stage_response(stage, self.active.leg.device, self.hz)[0]))


def driven_output(stage: AmpStage, device: Device, exit_: Point, level: float) -> float:
    """Peak behind an amplifier for a peak at its input: dBu at a real one, dBFS both ways at
    a modeled one."""
    into = level if stage.full_scale_dbu is None else level + stage.full_scale_dbu
    most = peak_volt_to_dbu(peak_output(amp_settings(device), dbu_to_peak_volt(into)))
    if stage.full_scale_dbu is not None:
        return most - stage.full_out_dbu
    limit = exit_.port.max_dbu
    return most if limit is None else min(most, limit)


def with_planned_gains(rig: Rig, target_peak_dbfs: float = TARGET_PEAK_DBFS,
                       graph: RigGraph | None = None) -> Rig:  # fmt: skip
    """The rig with every recording input's gain at the step nearest to the target peak."""
    for planned in plan_tracks(graph or RigGraph(rig)):
        gain = gain_for(planned, target_peak_dbfs)
        if gain is not None:
            rig = rig.with_setting(gain[0].id, gain[1].id, gain[2])
    return rig


def gain_for(planned: TrackPlan, target_peak_dbfs: float) -> tuple[Device, Control, float] | None:
    """The gain control of the last converter on a course and the step that is nearest to
    the target; None where there is no such control or level."""
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
            # What would arrive without the converter's own limit in the way.
            before = next(
                level.peak for level in reversed(planned.levels)
                if level.unit == "dBu" and level.device == leg.device.name
            )  # fmt: skip
            at_zero = before - full_scale_dbu(stage, leg.device) - setting.value
            wanted = target_peak_dbfs - at_zero
            return leg.device, setting, setting.nearest(wanted)
    return None
