"""Impedances and clip points by plain arithmetic at 1 kHz: what the checks go by.

Impedances are dividers of complex magnitudes; the plan has its own circuits.
"""

from __future__ import annotations

import math

from diaulos.rig.graph import RigGraph
from diaulos.rig.model import AdcStage, DacStage, Device, Offset, PassiveStage, Port, PortRef

HZ = 1000.0
OPEN_OHM = 1e12


def load_ohm(graph: RigGraph, output: PortRef, but: str = "") -> complex:
    """The impedance that all cables of an output present together, at 1 kHz."""
    total: complex = 1.0 / OPEN_OHM
    for cable in graph.out_of.get((output.device, output.port), ()):
        if cable.id != but:
            total += 2j * math.pi * HZ * cable.capacitance_f
            total += 1.0 / input_ohm(graph, cable.target, frozenset({cable.id}))
    return 1.0 / total


def input_ohm(graph: RigGraph, ref: PortRef, seen: frozenset[str] = frozenset()) -> complex:
    """The impedance of an input, with what hangs behind it by wires and transformers."""
    plug = graph.plug(ref)
    paths = graph.paths_from(ref.device, ref.port)
    through = [p for p in paths if all(isinstance(s, PassiveStage) for s in p.stages)]
    total: complex = 1.0 / OPEN_OHM
    if len(through) < len(paths) or not through:
        total += 1.0 / own_ohm(plug.port)
        total += 2j * math.pi * HZ * plug.port.capacitance_pf * 1e-12
    for path in through:
        behind: complex = 1.0 / OPEN_OHM
        for cable in graph.out_of.get((ref.device, path.target), ()):
            if cable.id in seen:
                continue
            behind += 2j * math.pi * HZ * cable.capacitance_f
            behind += 1.0 / input_ohm(graph, cable.target, seen | {cable.id})
        load = 1.0 / behind
        for stage in reversed(path.stages):
            if isinstance(stage, PassiveStage):
                load = _seen_into(stage, plug.device, load)
        total += 1.0 / load
    return 1.0 / total


def own_ohm(port: Port) -> complex:
    """An input by itself, at 1 kHz: its ohms, or its loudspeaker's coil and moving parts."""
    if port.speaker is None:
        return port.impedance_ohm
    one = port.speaker
    detune = one.resonance_q * (HZ / one.resonance_hz - one.resonance_hz / HZ)
    moving = one.resonance_ohm * (1.0 - 1j * detune) / (1.0 + detune**2)
    return one.coil_ohm + 2j * math.pi * HZ * one.coil_h + moving


def _seen_into(stage: PassiveStage, device: Device, load: complex) -> complex:
    load = load + stage.series_out_ohm
    if stage.trim_ohm is not None:
        ratio = 10.0 ** (-abs(device.number(stage.control)) / 20.0)
        load = beside(load, ratio * stage.trim_ohm) + (1.0 - ratio) * stage.trim_ohm
    load = load * stage.turns_ratio**2
    if stage.magnetising_h is not None:
        load = beside(load, 2j * math.pi * HZ * stage.magnetising_h)
    if stage.shunt_ohm is not None:
        load = beside(load, stage.shunt_ohm)
    return load + stage.series_in_ohm


def beside(one: complex, other: complex) -> complex:
    return one * other / (one + other)


def clip_dbu(device: Device, port_id: str, limit: float | None) -> float | None:
    """Where an input clips as its knobs stand: its own limit, or its converter's."""
    for path in device.paths:
        if path.source != port_id or not device.holds(path.when):
            continue
        for stage in path.stages:
            if isinstance(stage, AdcStage):
                full = full_scale(stage, device, -1.0)
                limit = full if limit is None else min(limit, full)
    return limit


def full_scale(stage: AdcStage | DacStage, device: Device, way: float) -> float:
    """dBu at 0 dBFS as it is printed, moved by what a calibration found. `way` is what a dB of
    gain does to it."""
    acts = isinstance(stage, AdcStage) or device.acts(stage)
    gain = knob(device, stage.control) if acts else 0.0
    printed = stage.full_scale_dbu + switched(stage.offsets, device)
    known: dict[float, float] = {}
    for one in stage.measured:
        if all(device.word(setting) == value for setting, value in one.when):
            known[one.gain_db] = one.full_scale_dbu - printed - way * one.gain_db
    full = printed + way * gain
    if not known:
        return full
    below = max((at for at in known if at <= gain), default=min(known))
    above = min((at for at in known if at >= gain), default=max(known))
    share = 0.0 if above == below else (gain - below) / (above - below)
    return full + known[below] + share * (known[above] - known[below])


def knob(device: Device, control: str | None) -> float:
    if control is None or not device.has_setting(control):
        return 0.0
    return device.number(control)


def switched(offsets: tuple[Offset, ...], device: Device) -> float:
    return sum(
        offset.db
        for offset in offsets
        if all(device.word(setting) == value for setting, value in offset.when)
    )
