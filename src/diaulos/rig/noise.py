"""Noise of input stages: a published figure turned into what the stage itself adds.

Makers publish the equivalent input noise (EIN) with 150 ohm at the input, so that the
resistor's own thermal noise is in it. What is left after taking that power out is the
stage's voltage noise; its current noise works on whatever impedance is plugged in. A pad
ahead of the stage raises the noise re the input by what it takes away.
"""

from __future__ import annotations

import numpy as np

from diaulos.records import dataclass
from diaulos.rig.course import Course
from diaulos.rig.flow import Segment
from diaulos.rig.model import AdcStage, AmpStage, Device, GainStage, InputNoise, Offset, SignalClass
from diaulos.units import LOWEST_DB, ROOM_TEMPERATURE_K, thermal_noise_v, volt_to_dbu

EIN_SOURCE_OHM = 150.0
"""What an input is closed with where its noise is published (common practice)."""


@dataclass(frozen=True)
class StageNoise:
    """What an input stage adds re the port: voltage noise in dBu over 20 Hz to 20 kHz, and
    current noise in ampere per root hertz."""

    voltage_dbu: float
    current_a: float


def voltage_noise_dbu(ein_dbu: float, temperature_k: float = ROOM_TEMPERATURE_K) -> float:
    """Voltage noise of an input stage from its EIN at 150 ohm, both 20 Hz to 20 kHz.

    10 log10(10^(EIN/10) - 10^(thermal/10)); an EIN at or below the resistor's own noise
    leaves nothing and gives `LOWEST_DB`.
    """
    thermal = volt_to_dbu(thermal_noise_v(EIN_SOURCE_OHM, temperature_k=temperature_k))
    left = 10.0 ** (ein_dbu / 10.0) - 10.0 ** (thermal / 10.0)
    return float(10.0 * np.log10(left)) if left > 0.0 else LOWEST_DB


def input_noise(
    noises: tuple[InputNoise, ...], offsets: tuple[Offset, ...], device: Device
) -> StageNoise | None:
    """The noise of a stage as the switches stand; None where none is given."""
    for noise in noises:
        if device.holds(noise.when):
            pad = sum(one.db for one in offsets if one.pad and device.holds(one.when))
            # Behind a pad the current flows through the pad, not through the source.
            current = noise.current_pa * 1e-12 if pad <= 0.0 else 0.0
            return StageNoise(voltage_noise_dbu(noise.ein_dbu) + pad, current)
    return None


def hears_thermal(course: Course, segment: Segment) -> bool:
    """Whether the thermal noise of what stands ahead of an input counts: an instrument's
    always, another source's where the input behind is quiet enough to have a noise figure, as
    an amplifier's is."""
    if segment.digital or segment.load.port.signal_class is SignalClass.SPEAKER:
        return False
    if segment.circuit is not None:
        return True
    path = course.legs[segment.load.leg].path
    return path is not None and any(
        (isinstance(stage, (GainStage, AdcStage)) and stage.input_noise)
        or (isinstance(stage, AmpStage) and stage.full_scale_dbu is None)
        for stage in path.stages
    )
