"""A simulated player: strums an instrument as hard as in a take, volts at the input."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load
from diaulos.rig.bench.instrument import through_input
from diaulos.rig.excerpt import FORCE_SPREAD, PLANNED_CHORDS, PLANNED_SEED, STRUMS, strummed
from diaulos.rig.sources import PlayedSource
from diaulos.signal.strings import StringCharacter
from diaulos.units import dbu_to_peak_volt

Real = NDArray[np.float64]


def strum_volts(
    source: PlayedSource,
    load: Load,
    rate_hz: float,
    *,
    seed: int = PLANNED_SEED,
    chords: str = PLANNED_CHORDS,
    spread: float = FORCE_SPREAD,
    strings: StringCharacter | None = None,
    strums: int = STRUMS,
) -> Real:
    """Hard strums of an instrument, as an input of this load receives them, in volts: five in
    seven seconds, eight in ten.

    They are as strong as its loudest peak at the jack says; the load then takes what it takes.
    `chords`: one of `excerpt.CHORDS`. `spread` is how far
    the player's force varies (0 to 1).
    """
    emf = strummed(source.strings, chords, seed, rate_hz, strums, spread, strings)
    jack = through_input(emf, source.circuit, source.jack_load, rate_hz)
    scale = dbu_to_peak_volt(source.jack_peak_dbu) / float(np.max(np.abs(jack)))
    return through_input(emf * scale, source.circuit, load, rate_hz)
