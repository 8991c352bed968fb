"""What a reamp will do at every station, worked out before it is sent."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.rig.bench import Impulses, Probe, probe
from diaulos.rig.course import reamp_course
from diaulos.rig.model import Rig
from diaulos.rig.plan import SendPlan, Station, return_control, solve_send, stations
from diaulos.signal.peaks import loudest_span
from diaulos.units import db_to_gain
from diaulos.work.measuring import read_mono
from diaulos.work.ports import (
    AudioSource,
    CancelToken,
)

EXCERPT_S = 3.0
"""The loudest stretch of a take that the plan is worked out for."""


@dataclass(frozen=True)
class Excerpt:
    """The loudest part of a DI, and its peak over the whole."""

    samples: NDArray[np.float32]
    first: int
    peak_dbfs: float


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


def read_excerpt(source: AudioSource, channel: int = 0) -> Excerpt:
    """The loudest stretch of a DI, found in one streaming read."""
    rate = source.rate_hz
    keep = int(EXCERPT_S * rate)
    best: tuple[float, int] = (-1.0, 0)
    peak, at = 0.0, 0
    for block in source.blocks(block=keep):
        mono = block[:, channel]
        peak = max(peak, float(np.max(np.abs(mono), initial=0.0)))
        energy = float(np.dot(mono, mono))
        if energy > best[0]:
            best = (energy, at)
        at += mono.size
    # The loudest stretch may lie across a boundary: look again around the best piece.
    first = max(0, best[1] - keep)
    around = read_mono(source, channel=channel, first=first, count=3 * keep)
    span = loudest_span(around, rate, EXCERPT_S)
    excerpt = around[span.first : span.first + span.count]
    level = 20.0 * float(np.log10(peak)) if peak > 0.0 else -200.0
    return Excerpt(np.ascontiguousarray(excerpt), first + span.first, level)


def plan_reamp(
    rig: Rig,
    excerpt: Excerpt,
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
