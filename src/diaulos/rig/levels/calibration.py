"""Calibration: what reaches 0 dBFS, found with a tone of known voltage or by loop-back.

Conventions
- A known voltage is measured where it arrives, with the cable plugged and the input loading
  it: then full scale = known dBu - reading in dBFS.
- A line output's full scale is kept open circuit: what its load takes is put back.
- A figure belongs to a unit: the device of that name and type in every rig of the session.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from typing import TypeVar

from diaulos.errors import InputError, RigError
from diaulos.records import dataclass
from diaulos.rig.model import (
    AdcStage,
    DacStage,
    Device,
    Direction,
    Measured,
    PassiveStage,
    Path,
    Rig,
    When,
)
from diaulos.rig.plan import dac_full_scale_dbu, full_scale_dbu
from diaulos.units import divider_db, volt_to_dbu

AnyStage = TypeVar("AnyStage", AdcStage, DacStage)

TONE_HZ = 200.0
"""Cheap meters read RMS rightly there and wrongly at 1 kHz (common practice, no source)."""
CONFIRM_HZ = 1_000.0
ODD_DB = 3.0
"""A figure this far from nominal is more likely a slip than the unit."""


def known_dbu(text: str) -> float:
    """dBu of a typed level: "1.23 V", "500 mV" (RMS), "+4 dBu", "-10 dBV".

    Parameters
    ----------
    text
        As a person types it.

    Returns
    -------
    dBu.

    Raises
    ------
    InputError
        Where it is no level.
    """
    found = re.fullmatch(r"\s*([+\-−]?\d+(?:[.,]\d+)?)\s*(mV|V|dBu|dBV)\s*", text)
    if found is None:
        raise InputError(
            f"{text.strip()!r} is no level.",
            remedy="Write it with its unit: 1.23 V, 500 mV, +4 dBu or -10 dBV.",
        )
    value = float(found[1].replace(",", ".").replace("−", "-"))
    unit = found[2]
    if unit == "dBu":
        return value
    if unit == "dBV":
        return value + volt_to_dbu(1.0)
    volt = value / 1000.0 if unit == "mV" else value
    if volt <= 0.0:
        raise InputError("A voltage must be above 0.", remedy="Type what the meter shows.")
    return volt_to_dbu(volt)


@dataclass(frozen=True)
class CalibrationPoint:
    """One measurement: gain, what was known at the port, what was read, and what follows."""

    gain_db: float
    known_dbu: float
    read_dbfs: float
    nominal_dbu: float

    @property
    def full_scale_dbu(self) -> float:
        """dBu of a sine at 0 dBFS."""
        return self.known_dbu - self.read_dbfs

    @property
    def error_db(self) -> float:
        """Measured minus nominal."""
        return self.full_scale_dbu - self.nominal_dbu

    @property
    def odd(self) -> bool:
        """So far off that a wrong switch or unit is likelier than the device."""
        return abs(self.error_db) > ODD_DB


@dataclass(frozen=True)
class Linearity:
    """Levels as sent and as read, in dB re the first; the deviation is from a straight line
    of slope 1."""

    sent_db: tuple[float, ...]
    read_db: tuple[float, ...]

    @property
    def deviations_db(self) -> tuple[float, ...]:
        """Read minus sent, re the mean of both."""
        off = [b - a for a, b in zip(self.sent_db, self.read_db, strict=True)]
        mean = sum(off) / len(off) if off else 0.0
        return tuple(one - mean for one in off)

    @property
    def worst_db(self) -> float:
        """The largest deviation, without sign."""
        return max((abs(one) for one in self.deviations_db), default=0.0)


def input_stage(device: Device, port_id: str) -> tuple[Path, AdcStage]:
    """The converter behind an input; RigError when there is none.

    Parameters
    ----------
    device
        The device, as its knobs and switches stand.
    port_id
        Id of its port.

    Returns
    -------
    The path and its converter.

    Raises
    ------
    RigError
        When there is none.
    """
    behind = (path for path in device.live_paths if path.source == port_id)
    found = _first_stage(behind, AdcStage)
    if found is None:
        raise RigError(
            f"{device.name} has no converter behind {_name(device, port_id)}.",
            where=device.id,
            remedy="Choose an input that is recorded.",
        )
    return found


def output_stage(device: Device, port_id: str) -> tuple[Path, DacStage]:
    """The converter ahead of an output; RigError when there is none.

    Parameters
    ----------
    device
        The device, as its knobs and switches stand.
    port_id
        Id of its port.

    Returns
    -------
    The path and its converter.

    Raises
    ------
    RigError
        When there is none.
    """
    ahead = (path for path in device.live_paths if path.target == port_id)
    found = _first_stage(ahead, DacStage)
    if found is None:
        raise RigError(
            f"{device.name} has no converter ahead of {_name(device, port_id)}.",
            where=device.id,
            remedy="Choose an output that is played.",
        )
    return found


def _first_stage(paths: Iterable[Path], kind: type[AnyStage]) -> tuple[Path, AnyStage] | None:
    return next(
        ((path, stage) for path in paths for stage in path.stages if isinstance(stage, kind)), None
    )


def calibrated_inputs(device: Device) -> tuple[str, ...]:
    """The ports with a converter behind them: what can be calibrated.

    Parameters
    ----------
    device
        The device, as its knobs and switches stand.

    Returns
    -------
    Port ids.
    """
    found = [
        path.source
        for path in device.live_paths
        if any(isinstance(stage, AdcStage) for stage in path.stages)
    ]
    return tuple(dict.fromkeys(found))


def nominal_input_dbu(device: Device, port_id: str) -> float:
    """Full scale of an input as its switches and gain stand, calibrations left out.

    Parameters
    ----------
    device
        The device, as its knobs and switches stand.
    port_id
        Id of its port.

    Returns
    -------
    dBu at 0 dBFS.

    Raises
    ------
    RigError
        When there is no converter.
    """
    _, stage = input_stage(device, port_id)
    return full_scale_dbu(stage.model_copy(update={"measured": ()}), device)


def nominal_output_dbu(device: Device, port_id: str) -> float:
    """Full scale of an output, open circuit, calibrations left out.

    Parameters
    ----------
    device
        The device, as its knobs and switches stand.
    port_id
        Id of its port.

    Returns
    -------
    dBu at 0 dBFS.

    Raises
    ------
    RigError
        When there is no converter.
    """
    _, stage = output_stage(device, port_id)
    return dac_full_scale_dbu(stage.model_copy(update={"measured": ()}), device)


def open_circuit_dbu(device: Device, port_id: str, loaded_dbu: float, load_ohm: float) -> float:
    """What an output would give without its load.

    Parameters
    ----------
    device
        The device, as its knobs and switches stand.
    port_id
        Id of its port.
    loaded_dbu
        Level under load, in dBu.
    load_ohm
        The load in ohm, above 0.

    Returns
    -------
    dBu.

    Raises
    ------
    InputError
        For a load that is a short circuit.
    """
    if load_ohm <= 0.0:
        raise InputError(
            f"The load is {load_ohm:g} Ω: a short circuit.",
            remedy="Type the impedance of what is plugged in.",
        )
    if math.isinf(load_ohm):
        return loaded_dbu
    return loaded_dbu - divider_db(device.port(port_id).impedance_ohm, load_ohm)


def with_input_calibration(
    rig: Rig, device: Device, port_id: str, points: tuple[CalibrationPoint, ...],
    made_at: str, how: str,
) -> Rig:  # fmt: skip
    """The rig with a measured input: the unit of this name and type, if it is there.

    Parameters
    ----------
    rig
        The rig.
    device
        The device, as its knobs and switches stand.
    port_id
        Id of its port.
    points
        Measured points, one a gain.
    made_at
        When, as ISO 8601.
    how
        How it was measured, in words.

    Returns
    -------
    The rig.
    """
    _, stage = input_stage(device, port_id)
    when = _switches(stage, device)
    return _with_stage(rig, device, port_id, Direction.IN, AdcStage, when, points, made_at, how)


def with_output_calibration(
    rig: Rig, device: Device, port_id: str, points: tuple[CalibrationPoint, ...],
    made_at: str, how: str,
) -> Rig:  # fmt: skip
    """The rig with a measured output.

    Parameters
    ----------
    rig
        The rig.
    device
        The device, as its knobs and switches stand.
    port_id
        Id of its port.
    points
        Measured points, one a gain.
    made_at
        When, as ISO 8601.
    how
        How it was measured, in words.

    Returns
    -------
    The rig.
    """
    _, stage = output_stage(device, port_id)
    when = _switches(stage, device)
    return _with_stage(rig, device, port_id, Direction.OUT, DacStage, when, points, made_at, how)


def with_box_calibration(rig: Rig, device: Device, more_db: float, made_at: str) -> Rig:
    """The rig with a measured passive box: `more_db` is what stood behind it above what was
    computed, added to what an earlier calibration found.

    Parameters
    ----------
    rig
        The rig.
    device
        The device, as its knobs and switches stand.
    more_db
        Measured above computed, in dB.
    made_at
        When, as ISO 8601.

    Returns
    -------
    The rig.
    """
    found = _unit(rig, device)
    if found is None:
        return rig
    paths = []
    for path in found.paths:
        stages = tuple(
            stage.model_copy(
                update={"measured_db": stage.measured_db + more_db, "measured_at": made_at}
            )
            if isinstance(stage, PassiveStage)
            else stage
            for stage in path.stages
        )
        paths.append(path.model_copy(update={"stages": stages}))
    return rig.with_device(_checked(found, tuple(paths)))


def _with_stage(
    rig: Rig, device: Device, port_id: str, way: Direction, kind: type, when: When,
    points: tuple[CalibrationPoint, ...], made_at: str, how: str,
) -> Rig:  # fmt: skip
    found = _unit(rig, device)
    if found is None:
        return rig
    new = tuple(
        Measured(
            when=when,
            gain_db=point.gain_db,
            full_scale_dbu=round(point.full_scale_dbu, 4),
            made_at=made_at,
            how=how,
        )
        for point in points
    )
    paths = []
    for path in found.paths:
        end = path.source if way is Direction.IN else path.target
        if end == port_id:
            stages = tuple(
                stage.model_copy(update={"measured": _kept(stage.measured, new)})
                if isinstance(stage, kind) and isinstance(stage, (AdcStage, DacStage))
                else stage
                for stage in path.stages
            )
            path = path.model_copy(update={"stages": stages})
        paths.append(path)
    return rig.with_device(_checked(found, tuple(paths)))


def _kept(old: tuple[Measured, ...], new: tuple[Measured, ...]) -> tuple[Measured, ...]:
    """Old figures of other switches and gains, and the new ones."""
    made = {(one.when, one.gain_db) for one in new}
    return (*(one for one in old if (one.when, one.gain_db) not in made), *new)


def _unit(rig: Rig, device: Device) -> Device | None:
    """The same unit in a rig: its name and its type."""
    for one in rig.devices:
        if one.name == device.name and one.type == device.type:
            return one
    return None


def _checked(device: Device, paths: tuple[Path, ...]) -> Device:
    return Device.model_validate({**dict(device), "paths": paths})


def _switches(stage: AdcStage | DacStage, device: Device) -> When:
    """How the switches stand that the full scale depends on."""
    names = sorted({name for offset in stage.offsets for name, _ in offset.when})
    return tuple((name, device.word(name)) for name in names)


def _name(device: Device, port_id: str) -> str:
    return next((port.name for port in device.ports if port.id == port_id), port_id)
