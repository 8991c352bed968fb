"""A unit as it was really built: a stand-in for the interface on the desk.

Nominal figures are printed on the box; the unit is some tenths of a dB off, its gain steps
are not quite even. Which way is drawn from a seed and the unit's name, so that the same unit
is the same at every start.
"""

from __future__ import annotations

import zlib

import numpy as np

from diaulos.rig.model import AdcStage, DacStage, Device, Measured, PassiveStage, Path, Rig, Stage
from diaulos.rig.plan import dac_full_scale_dbu, full_scale_dbu

SPREAD_DB = 0.5
STEP_SPREAD_DB = 0.12


def as_built(rig: Rig, seed: int) -> Rig:
    """The rig with every converter and transformer box as the unit on the desk has it."""
    return rig.model_copy(
        update={"devices": tuple(_device_as_built(device, seed) for device in rig.devices)}
    )


def _device_as_built(device: Device, seed: int) -> Device:
    return device.model_copy(
        update={"paths": tuple(_path_as_built(device, path, seed) for path in device.paths)}
    )


def _path_as_built(device: Device, path: Path, seed: int) -> Path:
    stages = []
    for stage in path.stages:
        end = path.source if isinstance(stage, AdcStage) else path.target
        key = f"{device.type}/{device.name}/{end}/{stage.kind}"
        draw = np.random.default_rng((seed, zlib.crc32(key.encode())))
        stages.append(_stage_as_built(device, stage, draw))
    return path.model_copy(update={"stages": tuple(stages)})


def _stage_as_built(device: Device, stage: Stage, draw: np.random.Generator) -> Stage:
    off = float(draw.uniform(-SPREAD_DB, SPREAD_DB))
    if isinstance(stage, PassiveStage):
        return stage.model_copy(update={"measured_db": off})
    if not isinstance(stage, (AdcStage, DacStage)):
        return stage
    plain = stage.model_copy(update={"measured": ()})
    if stage.control is None:
        return plain.model_copy(update={"full_scale_dbu": plain.full_scale_dbu + off})
    # Uneven steps: the true unit as a table at the gain that it stands at.
    gain = device.number(stage.control)
    uneven = float(np.random.default_rng((int(draw.integers(2**31)), int(gain * 10) + 10_000))
                   .uniform(-STEP_SPREAD_DB, STEP_SPREAD_DB))  # fmt: skip
    if isinstance(plain, AdcStage):
        true = full_scale_dbu(plain, device) + off + uneven
    else:
        true = dac_full_scale_dbu(plain, device) + off + uneven
    return plain.model_copy(update={"measured": (Measured(gain_db=gain, full_scale_dbu=true),)})
