"""What a reamp will do at every station, worked out before it is sent."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from diaulos.rig.bench import Impulses, Probe, probe
from diaulos.rig.course import reamp_course
from diaulos.rig.model import Rig
from diaulos.rig.plan import SendPlan, Station, return_control, solve_send, stations
from diaulos.units import db_to_gain
from diaulos.work.loudest import Loudest
from diaulos.work.ports import (
    CancelToken,
)


@dataclass(frozen=True)
class ReampPlan:
    """What a reamp of a track through a rig will do.

    `rig` is the rig as it will be played, its return gain set; `probes` are the levels at
    every station for the loudest part of the take.
    """

    rig: Rig
    send: SendPlan
    return_gain_db: float
    probes: tuple[Probe, ...]


def plan_reamp(
    rig: Rig,
    excerpt: Loudest,
    rate_hz: int,
    full_scale_dbu: float | None,
    target_peak_dbfs: float,
    *,
    auto_return: bool = True,
    impulses: Impulses | None = None,
    cancel: CancelToken | None = None,
) -> ReampPlan:
    """Solve the send, set the return gain in its own steps, and work out every station."""
    check = (cancel or CancelToken()).check
    course = reamp_course(rig)
    send = solve_send(course, excerpt.peak_dbfs, full_scale_dbu)
    played = excerpt.samples.astype(np.float64) * db_to_gain(send.gain_db)
    probes = probe(course, played, float(rate_hz), impulses, check)
    control = return_control(course)
    gain = control[1].value if control else 0.0
    if auto_return and control is not None:
        device, knob = control
        wanted = knob.value + target_peak_dbfs - probes[-1].peak
        # The peak is to reach the target, not to pass it: the step below.
        gain = knob.nearest(float(np.floor((wanted - knob.minimum) / knob.step)) * knob.step
                            + knob.minimum)  # fmt: skip
        if gain != knob.value:
            rig = rig.with_setting(device.id, knob.id, gain)
            clipped = any((p.headroom_db or 1.0) <= 0.0 for p in probes[-2:])
            if clipped:
                probes = probe(reamp_course(rig), played, float(rate_hz), impulses, check)
            else:
                probes = _with_gain(probes, stations(reamp_course(rig)), gain - knob.value)
    return ReampPlan(rig, send, gain, probes)


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
