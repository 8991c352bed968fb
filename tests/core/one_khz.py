"""Peaks of a sine at 1 kHz along a course by plain arithmetic: an independent check.

It shares no code with the level plan (`rig/elements.py`, `rig/playing.py`), so that each can
be held against the other. Impedances are dividers of magnitudes.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from diaulos.rig.checks.ohms import (
    HZ,
    beside,
    full_scale,
    knob,
    load_ohm,
    switched,
)
from diaulos.rig.course import Course, Leg
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    Balance,
    CabinetStage,
    Cable,
    CableKind,
    CompressorStage,
    DacStage,
    DelayStage,
    Device,
    FilterStage,
    GainStage,
    PassiveStage,
    Path,
    PortRef,
    SignalClass,
    Stage,
)
from diaulos.rig.stages import StageReader
from diaulos.signal.amp import AmpSettings, peak_output
from diaulos.signal.cabinet import CABINETS, magnitude

PLAYED_DBFS = -12.0
ANALOG = ("instrument", "mic", "line", "speaker")


@dataclass(frozen=True)
class PortPeak:
    """The loudest peak at a port, before the port clips it. `limit` is where it clips."""

    device: str
    port: str
    peak: float
    unit: str
    limit: float | None
    entering: bool

    @property
    def over_db(self) -> float:
        """How far above the limit; 0 when it is not."""
        return 0.0 if self.limit is None else max(0.0, self.peak - self.limit)


@dataclass(frozen=True)
class Gain:
    """The last converter's gain knob on a course, and how far the track is off the target
    at its present step."""

    device: str
    control: str


@dataclass(frozen=True)
class Estimate:
    """Peaks at the ports in order, and the track's own."""

    ports: tuple[PortPeak, ...]
    track_dbfs: float
    gain: Gain | None


def estimate(course: Course) -> Estimate:
    """Follow a course from its start."""
    graph = course.graph
    if course.source is not None:
        emf = course.source.emf_peak_dbu
        source = course.source.circuit.source(np.array([HZ]))
        level = emf + _db(float(abs(source.emf[0])))
        ohm: complex = complex(source.impedance[0])
        unit = "dBu"
    else:
        level, ohm, unit = PLAYED_DBFS, 0.0, "dBFS"
    found: list[PortPeak] = []
    gain: Gain | None = None
    last = len(course.legs) - 1
    for index, leg in enumerate(course.legs):
        if leg.entry is not None:
            limit = 0.0 if unit == "dBFS" else leg.entry.max_dbu
            found.append(PortPeak(leg.device.id, leg.entry.id, level, unit, limit, True))
            if limit is not None:
                level = min(level, limit)
        if index == last or leg.exit is None:
            break
        passive = False
        if leg.path is not None and leg.entry is not None:
            passive = bool(leg.path.stages) and all(
                isinstance(stage, PassiveStage) for stage in leg.path.stages
            )
            wire = not leg.path.stages
            for stage in leg.path.stages:
                if isinstance(stage, AdcStage) and stage.control:
                    gain = Gain(leg.device.id, stage.control)
                level, unit, clipped = _stage(stage, leg, level, unit)
                if clipped:
                    found.append(PortPeak(leg.device.id, leg.entry.id, clipped, "dBFS", 0.0, True))
            if passive:
                ref = PortRef(device=leg.device.id, port=leg.exit.id)
                level += _db(abs(_through(leg.path, leg.device, load_ohm(graph, ref))))
            elif not wire:
                ohm = leg.exit.impedance_ohm
        limit = 0.0 if unit == "dBFS" else leg.exit.max_dbu
        if leg.path is not None and not passive:
            found.append(PortPeak(leg.device.id, leg.exit.id, level, unit, limit, False))
            if limit is not None:
                level = min(level, limit)
        level += _air(leg)
        if leg.exit.signal_class.value in ANALOG and leg.cable is not None:
            # A wire or passive network is part of the load that its source has met already.
            if not passive and not _is_wire(leg.path):
                level += _leg_loss(graph, leg.cable)
                level += _divider(graph, leg, ohm)
    return Estimate(tuple(found), min(0.0, level), gain)


def _air(leg: Leg) -> float:
    """From a cone to a microphone, re the sound at 1 m."""
    if leg.exit is None or leg.exit.cone_m is None or leg.cable is None:
        return 0.0
    a, r = leg.exit.cone_m, leg.cable.length_m
    return _db((math.sqrt(r * r + a * a) - r) / (math.sqrt(1.0 + a * a) - 1.0))


def _is_wire(path: Path | None) -> bool:
    return path is not None and not path.stages


def _divider(graph: RigGraph, leg: Leg, ohm: complex) -> float:
    """What a source loses into everything that hangs at its output."""
    assert leg.exit is not None
    load = load_ohm(graph, PortRef(device=leg.device.id, port=leg.exit.id))
    return _db(abs(load / (load + ohm))) if math.isfinite(abs(load)) else 0.0


def _through(path: Path, device: Device, load: complex) -> complex:
    """From the voltage at a passive network's input to that at its loaded output."""
    ratio: complex = 1.0
    for stage in reversed(path.stages):
        if not isinstance(stage, PassiveStage):
            continue
        behind = load + stage.series_out_ohm
        ratio *= load / behind
        if stage.pad_ohm is not None and device.number(stage.control):
            part = 10.0 ** (-abs(device.number(stage.control)) / 20.0)
            ratio *= part
        if stage.trim_ohm is not None:
            part = 10.0 ** (-abs(device.number(stage.control)) / 20.0)
            lower = beside(behind, part * stage.trim_ohm)
            behind = lower + (1.0 - part) * stage.trim_ohm
            ratio *= lower / behind
        ratio /= stage.turns_ratio
        behind = behind * stage.turns_ratio**2
        if stage.magnetising_h is not None:
            behind = beside(behind, 2j * math.pi * HZ * stage.magnetising_h)
        if stage.shunt_ohm is not None:
            behind = beside(behind, stage.shunt_ohm)
        load = behind + stage.series_in_ohm
        ratio *= behind / load
        ratio *= 10.0 ** (stage.measured_db / 20.0)
    return ratio


Behind = tuple[float, str, float | None]
"""Level and unit behind a stage, and the dBFS before a converter clipped it."""


def _stage(stage: Stage, leg: Leg, level: float, unit: str) -> Behind:
    return _Behind(leg.device, level, unit).read(stage)


@dataclass(frozen=True)
class _Behind(StageReader[Behind]):
    device: Device
    level: float
    unit: str

    def gain(self, stage: GainStage) -> Behind:
        added = knob(self.device, stage.control) + switched(stage.offsets, self.device)
        return self.level + stage.gain_db + added, self.unit, None

    def dac(self, stage: DacStage) -> Behind:
        return min(0.0, self.level) + full_scale(stage, self.device, 1.0), "dBu", None

    def adc(self, stage: AdcStage) -> Behind:
        level = self.level - full_scale(stage, self.device, -1.0)
        return min(0.0, level), "dBFS", level if level > 0.0 else None

    def amp(self, stage: AmpStage) -> Behind:
        model = stage.full_scale_dbu is not None
        into = self.level + (stage.full_scale_dbu or 0.0)
        peak = _amp_peak(self.device, math.sqrt(1.2) * 10.0 ** (into / 20.0))
        most = _db(peak / math.sqrt(1.2))
        return (most - stage.full_out_dbu, "dBFS", None) if model else (most, "dBu", None)

    def compressor(self, stage: CompressorStage) -> Behind:
        over = self.level - self.device.number("threshold")
        slope = 1.0 - 1.0 / self.device.number("ratio")
        back = over if over > 3.0 else max(0.0, over + 3.0) ** 2 / 12.0  # a knee of 6 dB
        return self.level - slope * back, self.unit, None

    def cabinet(self, stage: CabinetStage) -> Behind:
        name = self.device.word(stage.setting)
        added = 0.0
        if name in CABINETS:
            added = _db(float(magnitude(CABINETS[name], np.array([HZ]))[0]))
        return self.level + added, self.unit, None

    def filter(self, stage: FilterStage) -> Behind:
        return self.level + _corners(stage, self.device), self.unit, None

    def _same(self, stage: PassiveStage | DelayStage) -> Behind:
        return self.level, self.unit, None

    passive = delay = _same


def _amp_peak(device: Device, volts: float) -> float:
    settings = AmpSettings(
        voice=device.word("voice"),
        drive=device.number("drive"),
        master_db=device.number("master"),
    )
    return peak_output(settings, volts)


def _corners(stage: FilterStage, device: Device) -> float:
    total = 0.0
    if stage.low_cut_hz is not None:
        total -= 10.0 * math.log10(1.0 + (stage.low_cut_hz / HZ) ** 2)
    high = stage.high_cut_hz
    for setting, value, hz in stage.high_cut_by:
        if device.word(setting) == value:
            high = hz
            break
    if high is not None:
        total -= 10.0 * math.log10(1.0 + (HZ / high) ** 2)
    return total


def _leg_loss(graph: RigGraph, cable: Cable) -> float:
    """6 dB where one leg of a symmetrical output is used."""
    source, target = graph.source(cable).port, graph.target(cable).port
    if source.balance is not Balance.SYMMETRICAL:
        return 0.0
    if source.signal_class in (SignalClass.SPEAKER, SignalClass.DIGITAL, SignalClass.STREAM):
        return 0.0
    one = target.balance is Balance.NONE or cable.kind is CableKind.INSTRUMENT
    return -6.02 if one else 0.0


def _db(ratio: float) -> float:
    return 20.0 * math.log10(max(ratio, 1e-15))
