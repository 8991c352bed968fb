"""What a rig's levels rest on and no knob shows: what reaches 0 dBFS at each converter, and the
figures of devices that the catalogue does not have."""

from __future__ import annotations

from diaulos.figures import level, number
from diaulos.quantities import CAPACITANCE, INDUCTANCE, RESISTANCE, show
from diaulos.rig.catalogue.types import TYPES
from diaulos.rig.model import (
    DIGITAL_CLASSES,
    AdcStage,
    AmpStage,
    Cable,
    CableKind,
    DacStage,
    DelayStage,
    Device,
    FilterStage,
    GainStage,
    PassiveStage,
    Port,
    Rig,
    Setting,
    Stage,
)
from diaulos.rig.plan import dac_full_scale_dbu, full_scale_dbu
from diaulos.rig.states import setting_words
from diaulos.session.model import Session
from diaulos.work.sheets.model import Rows


def stands(session: Session, setting: Setting) -> str:
    """How a knob or switch stands, an instrument by its name."""
    if setting.id == "instrument" and isinstance(setting.value, str):
        return session.instrument_name(setting.value) or setting.value
    return setting_words(setting)


def pf_per_m(cable: Cable) -> str:
    """Of a cable of copper."""
    return "" if cable.kind in (CableKind.AIR, CableKind.OPTICAL) else f"{cable.pf_per_m:g}"


def converters(rig: Rig) -> Rows:
    """The dBu of a sine at 0 dBFS, as switches and gains stand, of every converter that is
    plugged."""
    plugged = _plugged(rig)
    rows: dict[tuple[str, str], tuple[str, ...]] = {}
    for device in rig.devices:
        for path in device.live_paths:
            for stage in path.stages:
                if isinstance(stage, AdcStage):
                    port, dbu = path.source, full_scale_dbu(stage, device)
                elif isinstance(stage, DacStage):
                    port, dbu = path.target, dac_full_scale_dbu(stage, device)
                else:
                    continue
                if (device.id, port) not in plugged:
                    continue
                rows.setdefault(
                    (device.id, port),
                    (device.name, device.port(port).name, level(dbu, "dBu", 2), _source(stage)),
                )
    return Rows("0 dBFS is", ("Device", "Port", "Sine of", "From"), tuple(rows.values()),
                frozenset({2}), (3.0, 2.6, 1.4, 3.0), empty="No converter is plugged.")  # fmt: skip


def _source(stage: AdcStage | DacStage) -> str:
    if not stage.measured:
        return "as its type has it"
    made = stage.measured[-1].made_at.replace("T", " ")
    return f"measured {made}".strip()


def of_no_type(rig: Rig) -> Rows | None:
    """Devices that nobody can add from the catalogue, by their figures; None where there are
    none."""
    plugged = _plugged(rig)
    rows = []
    for device in rig.devices:
        if device.type in TYPES:
            continue
        for port in device.ports:
            if (device.id, port.id) in plugged and port.signal_class not in DIGITAL_CLASSES:
                told = _port_words(device, port)
                if told:
                    rows.append((device.name, port.name, told))
        for path in device.live_paths:
            ends = {(device.id, path.source), (device.id, path.target)}
            words = ", ".join(filter(None, (_stage_words(one) for one in path.stages)))
            if ends <= plugged and words:
                between = f"{device.port(path.source).name} to {device.port(path.target).name}"
                rows.append((device.name, between, words))
    if not rows:
        return None
    return Rows("Of no type in the catalogue", ("Device", "Where", "Figures"), tuple(rows),
                frozenset(), (2.4, 3.2, 4.4))  # fmt: skip


def _plugged(rig: Rig) -> set[tuple[str, str]]:
    ends = [ref for cable in rig.cables for ref in (cable.source, cable.target)]
    return {(ref.device, ref.port) for ref in ends}


def _port_words(device: Device, port: Port) -> str:
    mode = device.as_switched(port)
    words = []
    if mode.impedance_ohm:
        words.append(show(mode.impedance_ohm, RESISTANCE))
    if mode.capacitance_pf:
        words.append(show(mode.capacitance_pf * 1e-12, CAPACITANCE))
    if mode.max_dbu is not None:
        words.append(f"at most {level(mode.max_dbu, 'dBu')}")
    return ", ".join(words)


def _stage_words(stage: Stage) -> str:
    """A stage in a few words; "" where nothing but its name is to say."""
    match stage:
        case GainStage():
            turned = ", inverts" if stage.inverts else ""
            return f"gain {number(stage.gain_db, sign=True)} dB{turned}" if (
                stage.gain_db or stage.inverts
            ) else ""  # fmt: skip
        case AdcStage() | DacStage():
            return f"converter, 0 dBFS is {level(stage.full_scale_dbu, 'dBu')}"
        case PassiveStage():
            words = []
            if stage.turns_ratio != 1.0:
                words.append(f"transformer {stage.turns_ratio:g}:1")
            if stage.magnetising_h is not None:
                words.append(show(stage.magnetising_h, INDUCTANCE))
            for name, ohm in (
                ("in series ahead", stage.series_in_ohm), ("across", stage.shunt_ohm),
                ("trim", stage.trim_ohm), ("in series behind", stage.series_out_ohm),
            ):  # fmt: skip
                if ohm:
                    words.append(f"{show(ohm, RESISTANCE)} {name}")
            return ", ".join(words)
        case AmpStage():
            return "amplifier, by its knobs"
        case FilterStage():
            corners = (("low cut", stage.low_cut_hz), ("high cut", stage.high_cut_hz))
            return ", ".join(f"{name} {hz:g} Hz" for name, hz in corners if hz is not None)
        case DelayStage():
            return f"{stage.ms:g} ms" if stage.ms else ""
        case _:
            return ""
