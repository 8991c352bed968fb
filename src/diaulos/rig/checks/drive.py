"""How hard an amplifier is driven, against the instrument plugged straight into it."""

from __future__ import annotations

from collections.abc import Iterator

from diaulos.errors import DiaulosError
from diaulos.rig.checks.registry import Context, Finding, Severity, check, set_mend
from diaulos.rig.course import Course, Leg, trace
from diaulos.rig.elements import segment_gains
from diaulos.rig.flow import Link, Point, Segment
from diaulos.rig.graph import Plug
from diaulos.rig.model import (
    AmpStage,
    Cable,
    CableKind,
    Choice,
    CompressorStage,
    Control,
    PortRef,
)
from diaulos.rig.plan import compressor_settings
from diaulos.rig.playing import start_of
from diaulos.rig.tone_place import TRIM
from diaulos.rig.trackplan import PlannedLevel, course_levels
from diaulos.signal.compressor import held_back_db

STRAIGHT_M = 3.0
"""The cable that a person would plug in instead."""
TOLD_DB = 2.0
"""From so much less drive on it is told."""
TRUE_DB = 0.3
SWITCH_DB = 2.0
"""What a switch has come near to."""
MOST_TRIES = 40
HOLDS_FROM_DB = 6.0
"""How far below the loudest playing a threshold is proposed."""


@check(
    "less-drive",
    Severity.NOTE,
    looks_for=f"an amplifier that what stands ahead of it drives {TOLD_DB:g} dB less, or lower "
    "still, than the instrument plugged straight in",
    why="the same tone comes out cleaner, and nobody has turned anything",
)
def less_drive(context: Context) -> Iterator[Finding]:
    told: set[str] = set()
    for plan in context.plans:
        course = plan.course
        leg = _real_amp(course) if course is not None else None
        if course is None or course.source is None or leg is None or leg.device.id in told:
            continue
        if len(course.legs[: course.legs.index(leg)]) < 2:
            continue  # it is plugged straight in
        there = _at(course, leg, plan.levels)
        straight = _straight(course, leg)
        if there is None or straight - there < TOLD_DB:
            continue
        told.add(leg.device.id)
        less = straight - there
        found = _unity(context, course, leg, there, less)
        words = "Nothing ahead of it can make up for that: turn the amplifier itself up."
        mend = None
        if found is not None:
            plug, setting, value, more = found
            words = f"Set {setting.name} of {plug.device.name} to {_told(setting, value)}"
            whole = more >= less - TOLD_DB
            words += "." if whole else f": {more:.1f} dB of it. The rest at the amplifier itself."
            mend = set_mend(plug, setting.id, value)
        assert leg.entry is not None
        yield Finding(
            "less-drive",
            Severity.NOTE,
            leg.device.name,
            f"It gets {less:.1f} dB less than from {course.start.device.name} plugged straight in.",
            "It is driven less: cleaner and quieter than it is known.",
            words,
            port=PortRef(device=leg.device.id, port=leg.entry.id),
            track=course.track,
            mend=mend,
        )


@check(
    "compressor-idle",
    Severity.NOTE,
    looks_for="a compressor whose threshold lies above the loudest playing, or whose ratio is 1",
    why="it holds nothing back: level and dynamics are as without it",
)
def compressor_idle(context: Context) -> Iterator[Finding]:
    told: set[str] = set()
    for plan in context.plans:
        if plan.course is None or plan.course.source is None:
            continue
        for leg in plan.course.legs:
            stages = leg.path.stages if leg.path else ()
            if leg.device.id in told or not any(isinstance(s, CompressorStage) for s in stages):
                continue
            there = _at(plan.course, leg, plan.levels)
            settings = compressor_settings(leg.device)
            if there is None or held_back_db(settings, there) > 0.0:
                continue
            told.add(leg.device.id)
            assert leg.entry is not None
            at = PortRef(device=leg.device.id, port=leg.entry.id)
            threshold = leg.device.setting("threshold")
            assert isinstance(threshold, Control)
            value = threshold.at_most(there - HOLDS_FROM_DB)
            above = settings.threshold_dbu - there
            cause = f"Its threshold lies {above:.1f} dB above the loudest playing."
            remedy, mend = "Give it more level, or leave it out.", None
            if settings.ratio == 1.0:
                cause, remedy = "Its ratio is 1 : 1.", "Turn the ratio up, or leave it out."
            elif value < there:
                remedy = f"Set {threshold.name} to {value:g} {threshold.unit}, or leave it out."
                mend = set_mend(context.graph.plug(at), "threshold", value)
            yield Finding(
                "compressor-idle",
                Severity.NOTE,
                leg.device.name,
                cause,
                "It holds nothing back.",
                remedy,
                port=at,
                track=plan.course.track,
                mend=mend,
            )


def _told(setting: Control | Choice, value: float | str) -> str:
    if isinstance(setting, Control):
        return f"{value:g} {setting.unit}"
    return dict(setting.options).get(str(value), str(value)).lower()


def _real_amp(course: Course) -> Leg | None:
    """The first amplifier on a course that is one, not a model."""
    for leg in course.legs:
        for stage in leg.path.stages if leg.path else ():
            if isinstance(stage, AmpStage):
                return leg if stage.full_scale_dbu is None and leg.entry is not None else None
    return None


def _at(course: Course, leg: Leg, levels: tuple[PlannedLevel, ...]) -> float | None:
    """The planned peak at an amplifier's input, in dBu."""
    assert leg.entry is not None
    at = course.legs.index(leg)
    for level in levels:
        if level.point.leg == at and level.point.port.id == leg.entry.id:
            return level.peak
    return None


def _straight(course: Course, leg: Leg) -> float:
    """What the instrument would give there by a cable of its own."""
    start = course.start
    assert start.exit is not None
    assert leg.entry is not None
    cable = Cable(
        id="straight",
        source=PortRef(device=start.device.id, port=start.exit.id),
        target=PortRef(device=leg.device.id, port=leg.entry.id),
        length_m=STRAIGHT_M,
        kind=CableKind.INSTRUMENT,
    )
    assert course.source is not None
    link = Link(cable, Point(1, leg.entry))
    line = start_of(course)
    for _, gain in segment_gains(Segment(Point(0, start.exit), (link,), course.source.circuit)):
        line = line.through(gain)
    return line.peak


def _unity(
    context: Context, course: Course, leg: Leg, before: float, less: float
) -> tuple[Plug, Control | Choice, float | str, float] | None:
    """A knob or switch ahead of the amplifier that brings back what is missing, or most of it,
    and how much: tried in the plan, a knob first, for it changes nothing else."""
    best: tuple[Plug, Control | Choice, float | str, float] | None = None
    for plug, setting, value, step in sorted(_ways(course, leg, less), key=lambda way: way[3]):
        rig = context.rig.with_setting(plug.device.id, setting.id, value)
        try:
            new = trace(context.graph.of(rig), course.track)
            amp = next(one for one in new.legs if one.device.id == leg.device.id)
            now = _at(new, amp, course_levels(new))
        except (DiaulosError, StopIteration):
            continue
        more = now - before if now is not None else 0.0
        if abs(more - less) <= step / 2.0 + TRUE_DB:
            return plug, setting, value, more
        if TOLD_DB <= more <= less and (best is None or more > best[3]):
            best = (plug, setting, value, more)
    return best


def _ways(
    course: Course, leg: Leg, less: float
) -> Iterator[tuple[Plug, Control | Choice, float | str, float]]:
    """(device, setting, value, step in dB) of what could be turned, a handful of each."""
    for ahead in course.legs[1 : course.legs.index(leg)]:
        plug = Plug(ahead.device, ahead.device.ports[0])
        for setting in ahead.device.settings[:MOST_TRIES]:
            if isinstance(setting, Control) and setting.unit == "dB" and setting.id != TRIM:
                value = setting.nearest(setting.value + less)
                if value > setting.value:
                    yield plug, setting, value, setting.step
        for choice in ahead.device.settings:
            if isinstance(choice, Choice) and choice.id.endswith("level"):
                for word, _ in choice.options:
                    if word != choice.value:
                        yield plug, choice, word, SWITCH_DB
