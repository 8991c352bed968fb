"""The instruments of the demo, with their circuits and what their strums measure.

Values are representative, from memory. Not all is well: one strum clips, one is uneven, one
was measured through an input that nobody calibrated.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load
from diaulos.records import dataclass
from diaulos.rig.bench import strum_volts
from diaulos.session.instrument import (
    CoilValues,
    ControlValues,
    Instrument,
    Position,
    StrengthReading,
)
from diaulos.session.representative import pickup
from diaulos.session.tunings import TUNINGS
from diaulos.signal.strength import measure_strength
from diaulos.signal.strings import StringCharacter
from diaulos.units import dbu_to_peak_volt
from diaulos.work.instruments.strength import strength_reading
from diaulos.work.rigs.look import instrument_source

INSTRUMENT_INPUT = Load(1e6, 50e-12)

BARITONE = Instrument(
    id="baritone",
    name="Baritone, humbuckers, B standard",
    family="baritone",
    strings=TUNINGS["baritone-b"].strings,
    pickups=(
        pickup("humbucker", "bridge", "Bridge humbucker").model_copy(
            update={
                "values": CoilValues(
                    inductance_h=5.1, resistance_ohm=9800.0, winding_pf=165.0, eddy_ohm=420e3
                ),
                "measured": True,
            }
        ),
        pickup("humbucker", "neck", "Neck humbucker"),
    ),
    positions=(
        Position(id="bridge", name="Bridge", pickups=("bridge",)),
        Position(id="both", name="Both", pickups=("bridge", "neck"), wiring="parallel"),
        Position(id="neck", name="Neck", pickups=("neck",)),
    ),
    position_id="bridge",
    cable_m=6.0,
    trim_db=-4.0,
)
OFFSET = Instrument(
    id="offset",
    name="Offset guitar, single coils, standard",
    family="guitar",
    strings=TUNINGS["standard"].strings,
    pickups=(
        pickup("single", "bridge", "Bridge coil"),
        pickup("single", "neck", "Neck coil"),
    ),
    positions=(
        Position(id="bridge", name="Bridge", pickups=("bridge",)),
        Position(id="both", name="Both, parallel", pickups=("bridge", "neck"), wiring="parallel"),
        Position(id="series", name="Both, series", pickups=("bridge", "neck"), wiring="series"),
        Position(id="neck", name="Neck", pickups=("neck",)),
    ),
    position_id="bridge",
    controls=ControlValues(volume_ohm=250e3, tone_ohm=250e3, bleed_pf=1000.0, bleed_ohm=150e3),
    cable_m=4.5,
)
FRETLESS = Instrument(
    id="fretless",
    name="Five-string fretless bass, active",
    family="bass",
    strings=TUNINGS["bass5"].strings,
    pickups=(pickup("active", "preamp", "Active preamp"),),
    positions=(Position(id="preamp", name="Preamp", pickups=("preamp",)),),
    position_id="preamp",
    controls=ControlValues(volume_ohm=None, tone_ohm=None),
    cable_m=6.0,
    notes="9 V battery; new in spring",
)
SEMI = Instrument(
    id="semi",
    name="Semi-hollow, wide single coils, drop D",
    family="guitar",
    strings=TUNINGS["drop-d"].strings,
    pickups=(
        pickup("wide", "neck", "Neck wide coil"),
        pickup("wide", "bridge", "Bridge wide coil"),
    ),
    positions=(
        Position(id="neck", name="Neck", pickups=("neck",)),
        Position(id="both", name="Both", pickups=("neck", "bridge"), wiring="parallel"),
        Position(id="bridge", name="Bridge", pickups=("bridge",)),
    ),
    position_id="neck",
    cable_m=3.0,
)


@dataclass(frozen=True)
class Strums:
    """Some seconds of hard strumming, and the input that they were recorded through."""

    label: str
    peak_dbu: float
    full_scale_dbu: float
    known: bool = True
    spread: float = 0.06


STRUMS: dict[str, tuple[Strums, ...]] = {
    "baritone": (Strums("Strum 1", 4.1, 14.0), Strums("Strum 2", 4.6, 14.0)),
    "offset": (Strums("Strum 1, too hot", -0.4, -2.0), Strums("Strum 2", -0.6, 10.0)),
    "fretless": (Strums("Thumb, hard", 6.3, 16.0, spread=0.45),),
    "semi": (Strums("Strum 1", -1.8, 12.0, known=False),),
}
CHORDS = {"baritone": "open", "offset": "major", "fretless": "low", "semi": "open"}


def strum(
    instrument: Instrument, strings: StringCharacter, rate_hz: float, strums: Strums, seed: int
) -> NDArray[np.float64]:
    """A recording of hard strums, digital, clipped where the input clips."""
    rng = np.random.default_rng(seed)
    volts = strum_volts(
        instrument_source(instrument, strums.peak_dbu),
        Load.together(instrument.cable, INSTRUMENT_INPUT),
        rate_hz,
        seed=seed,
        chords=CHORDS[instrument.id],
        spread=strums.spread,
        strings=strings,
    )
    digital = volts / dbu_to_peak_volt(strums.full_scale_dbu)
    digital = digital + rng.standard_normal(digital.size) * 10.0 ** (-100.0 / 20.0)
    return np.asarray(np.clip(digital, -1.0, 1.0 - 2.0**-23))


def with_strength(
    instrument: Instrument, strings: StringCharacter, rate_hz: float, made_at: str, seed: int
) -> Instrument:
    """The instrument with its strums measured."""
    readings: list[StrengthReading] = []
    for number, strums in enumerate(STRUMS[instrument.id]):
        samples = strum(instrument, strings, rate_hz, strums, seed + number)
        readings.append(
            strength_reading(
                measure_strength(samples, rate_hz),
                instrument.position_id,
                strums.label,
                made_at,
                strums.full_scale_dbu if strums.known else None,
                controls=instrument.controls,
            )
        )
    return instrument.model_copy(update={"strength": tuple(readings)})
