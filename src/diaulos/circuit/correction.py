"""Undoing a wrong load: what has to be done to a DI so that it sounds as at another input.

The ratio of two loading curves, bounded: more than 12 dB between 80 Hz and 6 kHz is refused
(it would be noise more than guitar), above 6 kHz the boost is held at 12 dB, below 80 Hz
the correction stays what it is at 80 Hz.
"""

from __future__ import annotations

import numpy as np

from diaulos.circuit.loading import Load, curves_db, log_grid
from diaulos.circuit.network import Real
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.errors import RefusedError
from diaulos.records import dataclass

MOST_DB = 12.0
BAND_HZ = (80.0, 6000.0)


@dataclass(frozen=True)
class Correction:
    """Gain over frequency from one load to another.

    `most_db` at `most_hz` is the largest boost in the band; `noise_db` what white noise
    in the recording rises by, 20 Hz to 20 kHz; `level_db` the change at 1 kHz.
    """

    freqs_hz: Real
    gain_db: Real
    most_db: float
    most_hz: float
    noise_db: float
    level_db: float

    def gain_at(self, freqs_hz: Real) -> Real:
        """Linear gain at any frequencies; held at the ends of the band."""
        at = np.log(np.clip(freqs_hz, self.freqs_hz[0], self.freqs_hz[-1]))
        db = np.interp(at, np.log(self.freqs_hz), self.gain_db)
        return np.asarray(10.0 ** (db / 20.0))


def correction(circuit: InstrumentCircuit, recorded: Load, wanted: Load) -> Correction:
    """What turns a DI recorded into one load into one recorded into another.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    recorded
        The load that the DI was recorded into.
    wanted
        The load that it should have been recorded into.

    Returns
    -------
    The filter with its cost in dB and its noise.

    Raises
    ------
    RefusedError
        ("too_much")  where more than 12 dB would be needed in the band.
    """
    freqs = log_grid(20.0, 20_000.0, 1200)
    was, should = curves_db(circuit, [recorded, wanted], freqs)
    gain = should - was
    inside = (freqs >= BAND_HZ[0]) & (freqs <= BAND_HZ[1])
    at = int(np.argmax(np.where(inside, gain, -np.inf)))
    if gain[at] > MOST_DB:
        raise RefusedError(
            "too_much",
            f"{gain[at]:.1f} dB would be needed at {freqs[at] / 1000.0:.1f} kHz; more than "
            f"{MOST_DB:g} dB lifts the noise more than the guitar.",
            remedy="Record the DI again into a higher impedance, or use it as it is.",
        )
    gain = np.where(freqs < BAND_HZ[0], gain[np.argmax(inside)], gain)
    gain = np.where(freqs > BAND_HZ[1], np.minimum(gain, MOST_DB), gain)
    power = 10.0 ** (gain / 10.0)
    noise = 10.0 * np.log10(np.trapezoid(power, freqs) / (freqs[-1] - freqs[0]))
    return Correction(
        freqs_hz=freqs,
        gain_db=gain,
        most_db=float(gain[at]),
        most_hz=float(freqs[at]),
        noise_db=float(noise),
        level_db=float(np.interp(np.log(1000.0), np.log(freqs), gain)),
    )
