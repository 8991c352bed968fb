"""What a reamp will do at every station, worked out before it is sent."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from diaulos.records import dataclass
from diaulos.rig.bench import Impulses, Probe, probe
from diaulos.rig.course import Course
from diaulos.rig.model import Control, Device, Rig
from diaulos.rig.plan import SendPlan, Station, return_control, solve_send, stations
from diaulos.rig.returns import PlannedReturn, planned_returns
from diaulos.units import db_to_gain
from diaulos.work.loudest import Loudest
from diaulos.work.ports import (
    CancelToken,
)


@dataclass(frozen=True)
class ReturnPlan:
    """What will come back by one return; `probes` are the levels at every station of its course
    for the loudest part of the take."""

    back: PlannedReturn
    gain_db: float
    probes: tuple[Probe, ...]


@dataclass(frozen=True)
class ReampPlan:
    """What a reamp of a track through a rig will do.

    `rig` is the rig as it will be played, its return gains set; the first of `returns` is the one
    that the send was worked out for.
    """

    rig: Rig
    send: SendPlan
    returns: tuple[ReturnPlan, ...]
    as_recorded: bool = False
    """Whether a modeled amplifier gets what it had when the take was recorded."""

    @property
    def courses(self) -> tuple[Course, ...]:
        """Of all returns, through the rig as it will be played."""
        return tuple(one.back.course for one in self.returns)

    @property
    def return_gain_db(self) -> float:
        """Of the first return."""
        return self.returns[0].gain_db

    @property
    def probes(self) -> tuple[Probe, ...]:
        """Of the first return's course."""
        return self.returns[0].probes

    @property
    def stations(self) -> tuple[tuple[str, Probe], ...]:
        """Every station once, and the return that it is met by first; those of the way out with the
        first return."""
        found: dict[tuple[str, str], tuple[str, Probe]] = {}
        for one in self.returns:
            for shown in one.probes:
                point = shown.station.point
                place = (one.back.course.legs[point.leg].device.id, point.port.id)
                found.setdefault(place, (one.back.name, shown))
        return tuple(found.values())


def plan_reamp(
    rig: Rig,
    excerpt: Loudest,
    rate_hz: int,
    full_scale_dbu: float | None,
    target_peak_dbfs: float,
    *,
    auto_return: bool = True,
    wanted: Sequence[str] = (),
    ahead_db: float | None = None,
    impulses: Impulses | None = None,
    cancel: CancelToken | None = None,
) -> ReampPlan:
    """Solve the send, set the return gains in their own steps, and work out every station.

    The gains of returns that belong together go up and down as one, so that the balance between
    them is the rig's. `wanted` names the returns; none is all of them. `ahead_db`: see
    `solve_send`.
    """
    check = (cancel or CancelToken()).check
    backs = planned_returns(rig, wanted)
    send = solve_send(backs[0].course, excerpt.peak_dbfs, full_scale_dbu, ahead_db)
    played = excerpt.samples.astype(np.float64) * db_to_gain(send.gain_db)

    def probed(back: PlannedReturn) -> tuple[Probe, ...]:
        return probe(back.course, played, float(rate_hz), impulses, check)

    found = [ReturnPlan(one, _gain_of(one), probed(one)) for one in backs]
    if auto_return:
        gains = _target_gains(found, target_peak_dbfs)
        for (device, knob), gain in gains.items():
            rig = rig.with_setting(device, knob, gain)
        found = [
            _at_gain(old, back, probed)
            for old, back in zip(found, planned_returns(rig, wanted), strict=True)
        ]
    # Of a DI whose calibration is assumed nobody knows what the tone stage had.
    told = ahead_db is not None and not send.assumed and not send.limited_db
    return ReampPlan(rig, send, tuple(found), told)


def _gain_of(back: PlannedReturn) -> float:
    control = return_control(back.course)
    return control[1].value if control else 0.0


def _target_gains(
    found: Sequence[ReturnPlan], target_peak_dbfs: float
) -> dict[tuple[str, str], float]:
    """Where the gain knobs bring the loudest of what belongs together to the target, by device and
    knob. The peak is to reach the target, not to pass it: the step below."""
    parts: dict[str, list[tuple[ReturnPlan, Device, Control]]] = {}
    for number, one in enumerate(found):
        control = return_control(one.back.course)
        if control is not None:
            parts.setdefault(one.back.group or str(number), []).append((one, *control))
    gains: dict[tuple[str, str], float] = {}
    for part in parts.values():
        by = min(target_peak_dbfs - one.probes[-1].peak for one, _, _ in part)
        for _, device, knob in part:
            steps = float(np.floor((knob.value + by - knob.minimum) / knob.step))
            gain = knob.nearest(steps * knob.step + knob.minimum)
            key = (device.id, knob.id)
            gains[key] = min(gain, gains.get(key, gain))
    return gains


def _at_gain(
    old: ReturnPlan, back: PlannedReturn, probed: Callable[[PlannedReturn], tuple[Probe, ...]]
) -> ReturnPlan:
    """A return after its gain was set: worked out anew only where it clipped before."""
    moved = _gain_of(back) - old.gain_db
    if not moved:
        return replace(old, back=back)
    if any((one.headroom_db or 1.0) <= 0.0 for one in old.probes[-2:]):
        return ReturnPlan(back, _gain_of(back), probed(back))
    changed = stations(back.course)
    return ReturnPlan(back, _gain_of(back), _with_gain(old.probes, changed, moved))


def _with_gain(
    probes: tuple[Probe, ...], changed: tuple[Station, ...], gain_db: float
) -> tuple[Probe, ...]:
    """Probes after the converter's gain alone was moved: the track's levels move with it,
    its noise too (which is counted ahead of the gain), and so does the input's ceiling."""
    moved = []
    for old, station in zip(probes, changed, strict=True):
        by = gain_db if old is probes[-1] else 0.0
        moved.append(Probe(station, old.peak + by, old.typical + by, old.floor + by))
    return tuple(moved)
