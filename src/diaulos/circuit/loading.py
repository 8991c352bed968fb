"""What an input does to an instrument: curves, resonance, corner, noise; and the inverse.

Quantities
- Level in dB re the EMF over frequency, at the input.
- Resonance: frequency of the highest level from 100 Hz to 20 kHz; None when it is less
  than 0.1 dB above the level at 100 Hz. Its peak is in dB re that level.
- -3 dB point: the highest frequency at which the level is 10 log10(2) dB under that at
  100 Hz; it may lie above the audio band.
- Noise: thermal, of all resistors (300.15 K), at the input, 20 Hz to 20 kHz, unweighted.
- Closeness of two loadings: RMS of the dB difference, 80 Hz to 6 kHz, log-spaced.

Held against ngspice in tests/core/test_circuit.py.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import lru_cache
from itertools import pairwise

import numpy as np

from diaulos.circuit.network import Complex, Real, Source
from diaulos.circuit.pickup import InstrumentCircuit, Piezo
from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.units import (
    BOLTZMANN_J_PER_K,
    NOISE_BANDWIDTH_HZ,
    ROOM_TEMPERATURE_K,
    gain_to_db,
    volt_to_dbu,
)

BAND_HZ = (20.0, 20_000.0)
CLOSENESS_HZ = (80.0, 6000.0)
LEAST_PEAK_DB = 0.1
HALF_POWER_DB = 10.0 * math.log10(2.0)
_FAR_HZ = 2e7
_GRIDS: dict[str, tuple[float, float, int]] = {
    "resonance": (100.0, 20_000.0, 1200),
    "corner": (100.0, _FAR_HZ, 3000),
    "noise": (*NOISE_BANDWIDTH_HZ, 4000),
    "closeness": (*CLOSENESS_HZ, 200),
}


@dataclass(frozen=True)
class Load:
    """A resistance and a capacitance from the signal to ground: a cable and an input.

    Several in parallel are `Load.together`.
    """

    ohm: float = math.inf
    farad: float = 0.0

    @staticmethod
    def together(*loads: Load) -> Load:
        """All of them at one node."""
        conductance = sum(1.0 / load.ohm for load in loads)
        ohm = 1.0 / conductance if conductance > 0.0 else math.inf
        return Load(ohm, sum(load.farad for load in loads))

    def admittance(self, freqs_hz: Real) -> Complex:
        """Current per volt."""
        return np.asarray(1.0 / self.ohm + 2j * np.pi * freqs_hz * self.farad)


def log_grid(low_hz: float, high_hz: float, count: int) -> Real:
    """Frequencies with equal ratios.

    Parameters
    ----------
    low_hz
        First frequency in Hz, above 0.
    high_hz
        Last frequency in Hz.
    count
        How many frequencies, 2 and above.

    Returns
    -------
    Hz, shape (count,).
    """
    return np.geomspace(low_hz, high_hz, count)


def loaded(source: Source, load: Load, freqs_hz: Real) -> Complex:
    """Voltage at the input re the EMF.

    Parameters
    ----------
    source
        The EMF with its impedance and what shunts it.
    load
        What hangs on the output: ohm, farad.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Complex ratio to the EMF, shape (n,).
    """
    return np.asarray(source.emf / (1.0 + source.impedance * load.admittance(freqs_hz)))


@lru_cache(maxsize=8)
def _grid(name: str) -> Real:
    freqs = log_grid(*_GRIDS[name])
    freqs.setflags(write=False)
    return freqs


@lru_cache(maxsize=64)
def _source_on(circuit: InstrumentCircuit, grid: str) -> Source:
    """An instrument over one of the grids: the same for every load that it meets."""
    return circuit.source(_grid(grid))


def _curves_on(circuit: InstrumentCircuit, loads: Sequence[Load], grid: str) -> Real:
    return _levels_db(_source_on(circuit, grid), loads, _grid(grid))


def curves_db(circuit: InstrumentCircuit, loads: Sequence[Load], freqs_hz: Real) -> Real:
    """Level over frequency, one row per load, dB re EMF.

    The instrument is worked out once, all loads together: fast enough to follow the hand.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    loads
        One load for each row of the result.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    dB re EMF, shape (loads, n).
    """
    return _levels_db(circuit.source(freqs_hz), loads, freqs_hz)


def _levels_db(source: Source, loads: Sequence[Load], freqs_hz: Real) -> Real:
    conductance = np.array([1.0 / load.ohm for load in loads])[:, None]
    farad = np.array([load.farad for load in loads])[:, None]
    admittance = conductance + 2j * np.pi * freqs_hz[None, :] * farad
    level = source.emf / (1.0 + source.impedance * admittance)
    # |z|^2 instead of |z|: no square root over the whole plane.
    power = np.square(level.real) + np.square(level.imag)
    return np.asarray(10.0 * np.log10(np.maximum(power, 1e-30)))


@dataclass(frozen=True)
class Loading:
    """An instrument at an input, in figures. None where there is no such frequency."""

    level_100hz_db: float
    level_1khz_db: float
    resonance_hz: float | None
    peak_db: float | None
    corner_hz: float | None
    low_corner_hz: float | None
    noise_dbu: float


def level_db(circuit: InstrumentCircuit, load: Load, hz: float) -> float:
    """Level at one frequency, dB re EMF.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    load
        What hangs on the output: ohm, farad.
    hz
        Frequency in Hz, above 0.

    Returns
    -------
    dB re EMF.
    """
    freqs = np.array([hz])
    return gain_to_db(abs(complex(loaded(circuit.source(freqs), load, freqs)[0])))


def analyse(circuit: InstrumentCircuit, load: Load) -> Loading:
    """All figures of an instrument at an input.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    load
        What hangs on the output: ohm, farad.

    Returns
    -------
    Resonance, corners, losses and noise.
    """
    found = resonance(circuit, load)
    return Loading(
        level_100hz_db=level_db(circuit, load, 100.0),
        level_1khz_db=level_db(circuit, load, 1000.0),
        resonance_hz=found[0] if found else None,
        peak_db=found[1] if found else None,
        corner_hz=corner(circuit, load),
        low_corner_hz=low_corner(circuit, load),
        noise_dbu=volt_to_dbu(noise_v(circuit, load)),
    )


def resonance(circuit: InstrumentCircuit, load: Load) -> tuple[float, float] | None:
    """(Hz, dB re 100 Hz) of the highest level, or None when there is hardly a peak.

    More capacitance lowers it, but for peaks under 1.25 dB (damping ratio over 1/2), which
    may move up: |1 + (R + sL)(G + sC)| is least at w^2 = (1 + RG)/LC - (R/L + G/C)^2 / 2.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    load
        What hangs on the output: ohm, farad.

    Returns
    -------
    (Hz, dB re 100 Hz), or None.
    """
    freqs = _grid("resonance")
    level = _curves_on(circuit, [load], "resonance")[0]
    at = int(np.argmax(level))
    if at in (0, freqs.size - 1):
        return None
    # A parabola through the top three on the logarithmic axis.
    left, top, right = level[at - 1 : at + 2]
    curvature = left - 2.0 * top + right
    shift = 0.5 * (left - right) / curvature if curvature < 0.0 else 0.0
    ratio = freqs[at + 1] / freqs[at]
    peak = top - 0.25 * (left - right) * shift - level[0]
    if peak < LEAST_PEAK_DB:
        return None
    return float(freqs[at] * ratio**shift), float(peak)


def corner(circuit: InstrumentCircuit, load: Load) -> float | None:
    """Highest frequency at 3.01 dB under the level at 100 Hz; None below 20 MHz.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    load
        What hangs on the output: ohm, farad.

    Returns
    -------
    Hz, or None.
    """
    freqs = _grid("corner")
    level = _curves_on(circuit, [load], "corner")[0]
    under = level - (level[0] - HALF_POWER_DB)
    above = np.nonzero(under >= 0.0)[0]
    at = int(above[-1])
    if at == freqs.size - 1:
        return None
    share = under[at] / (under[at] - under[at + 1])
    return float(freqs[at] * (freqs[at + 1] / freqs[at]) ** share)


def low_corner(circuit: InstrumentCircuit, load: Load) -> float | None:
    """Where a piezo element falls 3.01 dB under its midband towards the bass: with its cable
    and input one pole, 1 / (2 pi R (Cs + C)). None for other sources.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    load
        What hangs on the output: ohm, farad.

    Returns
    -------
    Hz, or None.
    """
    if not isinstance(circuit, Piezo) or math.isinf(load.ohm):
        return None
    return 1.0 / (2.0 * math.pi * load.ohm * (circuit.capacitance_f + load.farad))


def noise_density_v2(
    circuit: InstrumentCircuit,
    load: Load,
    freqs_hz: Real,
    *,
    count_load: bool = True,
    temperature_k: float = ROOM_TEMPERATURE_K,
) -> Real:
    """Thermal noise at the input in V^2/Hz: 4 k T Re(Z), with or without the input's own.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    load
        What hangs on the output: ohm, farad.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.
    count_load
        Whether the load's own resistance makes noise, too.
    temperature_k
        Temperature in kelvin, 0 and above.

    Returns
    -------
    V^2/Hz, shape (n,).
    """
    return _density(circuit.source(freqs_hz), load, freqs_hz, count_load, temperature_k)


def _density(
    source: Source, load: Load, freqs_hz: Real, count_load: bool, temperature_k: float
) -> Real:
    capacitance = Load(farad=load.farad)
    own = 1.0 / (1.0 / source.impedance + capacitance.admittance(freqs_hz))
    scale = 4.0 * BOLTZMANN_J_PER_K * temperature_k
    if math.isinf(load.ohm):
        return np.asarray(scale * own.real)
    if count_load:
        return np.asarray(scale * (own * load.ohm / (own + load.ohm)).real)
    divided = np.abs(load.ohm / (own + load.ohm)) ** 2
    return np.asarray(scale * own.real * divided)


def noise_v(circuit: InstrumentCircuit, load: Load, *, count_load: bool = True) -> float:
    """Thermal noise at the input in V RMS, 20 Hz to 20 kHz.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    load
        What hangs on the output: ohm, farad.
    count_load
        Whether the load's own resistance makes noise, too.

    Returns
    -------
    V RMS.
    """
    freqs, source = _grid("noise"), _source_on(circuit, "noise")
    density = _density(source, load, freqs, count_load, ROOM_TEMPERATURE_K)
    return float(np.sqrt(np.trapezoid(density, freqs)))


def closeness_db(circuit: InstrumentCircuit, one: Load, other: Load) -> float:
    """RMS of the dB difference of two loadings, 80 Hz to 6 kHz, level included.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    one
        A load.
    other
        Another load.

    Returns
    -------
    dB, 0 for equal loadings.
    """
    a, b = _curves_on(circuit, [one, other], "closeness")
    return float(np.sqrt(np.mean(np.square(a - b))))


# --- the inverse ---------------------------------------------------------------------


def capacitance_for(circuit: InstrumentCircuit, ohm: float, wanted_hz: float) -> float:
    """Capacitance (cable and input together, F) that puts the resonance at a frequency.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    ohm
        Resistance in ohm, above 0.
    wanted_hz
        The frequency that is wanted, in Hz.

    Returns
    -------
    F.

    Raises
    ------
    RefusedError
        ("impossible")  with the range that can be reached.
    """

    def at(farad: float) -> float | None:
        found = resonance(circuit, Load(ohm, farad))
        return found[0] if found else None

    return _solve(at, 1e-13, 2e-8, wanted_hz, "capacitance")


def resistance_for(circuit: InstrumentCircuit, farad: float, wanted_hz: float) -> float:
    """Load resistance (ohm) that puts the resonance at a frequency with this capacitance.

    Parameters
    ----------
    circuit
        The instrument: pickups, controls and cable.
    farad
        Capacitance in F, 0 and above.
    wanted_hz
        The frequency that is wanted, in Hz.

    Returns
    -------
    Ohm.

    Raises
    ------
    RefusedError
        ("impossible")  with the range that can be reached.
    """

    def at(ohm: float) -> float | None:
        found = resonance(circuit, Load(ohm, farad))
        return found[0] if found else None

    return _solve(at, 1e3, 1e8, wanted_hz, "load")


def _solve(
    at: Callable[[float], float | None], low: float, high: float, wanted_hz: float, what: str
) -> float:
    """Bisection on a logarithmic axis between the ends at which there is a resonance."""
    grid = [float(value) for value in log_grid(low, high, 120)]
    reached = [(value, hz) for value in grid if (hz := at(value)) is not None]
    if not reached:
        raise RefusedError(
            "impossible", f"No {what} gives this pickup a resonance.",
            remedy="Turn volume and tone up first, or use a higher input impedance.",
        )  # fmt: skip
    lowest, highest = min(hz for _, hz in reached), max(hz for _, hz in reached)
    if not lowest <= wanted_hz <= highest:
        side = (
            f"the highest is {highest / 1000.0:.1f} kHz"
            if wanted_hz > highest
            else f"the lowest is {lowest / 1000.0:.1f} kHz"
        )
        raise RefusedError(
            "impossible", f"No {what} gives {wanted_hz / 1000.0:g} kHz with this pickup: {side}.",
            remedy="Choose a frequency in between, or another pickup.",
        )  # fmt: skip
    for (a, hz_a), (b, hz_b) in pairwise(reached):
        if min(hz_a, hz_b) <= wanted_hz <= max(hz_a, hz_b):
            for _ in range(50):
                middle = math.sqrt(a * b)
                hz = at(middle)
                if hz is None:
                    break
                if (hz >= wanted_hz) == (hz_a >= wanted_hz):
                    a, hz_a = middle, hz
                else:
                    b = middle
            return math.sqrt(a * b)
    return reached[0][0]
