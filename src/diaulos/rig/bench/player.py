"""A simulated player: strums an instrument as hard as in a take, volts at the input."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.rig.bench.instrument import through_input
from diaulos.signal.strings import Note, StringCharacter, render_notes
from diaulos.units import dbu_to_peak_volt

Real = NDArray[np.float64]

STRUMS = 5
APART_S = 1.05
REST_S = 2.8
"""Around all strums but the last: a breath before, the ring after."""


def strum_volts(
    circuit: InstrumentCircuit,
    load: Load,
    pitches: Sequence[int],
    rate_hz: float,
    *,
    open_peak_dbu: float,
    seed: int,
    spread: float = 0.06,
    strings: StringCharacter | None = None,
    strums: int = STRUMS,
) -> Real:
    """Hard strums of these strings (midi), as the input receives them, in volts: five in
    seven seconds, eight in ten.

    `open_peak_dbu` is the peak that the instrument puts out into an open input; the load
    then takes what it takes. `spread` is how far the player's force varies (0 to 1).
    """
    rng = np.random.default_rng(seed)
    notes = []
    for index in range(strums):
        force = float(np.clip(1.0 - spread * rng.random(), 0.3, 1.0))
        ring = 1.0 if index < strums - 1 else 2.2
        for rank, midi in enumerate(pitches):
            notes.append(Note(0.4 + APART_S * index + 0.008 * rank, ring, midi, force))
    emf = render_notes(
        notes, rate_hz, REST_S + APART_S * (strums - 1), strings or StringCharacter(), seed
    )
    unloaded = through_input(emf, circuit, Load(10e6, 10e-12), rate_hz)
    scale = dbu_to_peak_volt(open_peak_dbu) / float(np.max(np.abs(unloaded)))
    return through_input(emf * scale, circuit, load, rate_hz)
