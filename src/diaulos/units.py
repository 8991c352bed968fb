"""Level, impedance and time arithmetic, and the constants with their source.

Conventions
- 0 dBu is sqrt(0.6) V RMS: 1 mW in 600 ohm (ITU-R V.574 gives 0.775 V; from memory).
- A full-scale sine peaks at 0 dBFS. RMS in dBFS follows AES17, so that the same sine
  reads 0 dBFS in RMS too (from memory).
- `peak_dbu` is the dBu of a sine with that peak. Then dBu = dBFS + full_scale_dbu holds
  for peak and for RMS alike.
- A gain in dB is of amplitude; minus infinity dB is a gain of zero.

Functions take and return floats; `*_db` quantities are in dB, `*_v` in volt RMS,
`*_ohm` in ohm, `*_hz` in hertz, `*_s` in seconds.
"""

from __future__ import annotations

import math

ZERO_DBU_V = math.sqrt(0.6)
"""Volt RMS of 0 dBu: sqrt(1 mW x 600 ohm)."""

BOLTZMANN_J_PER_K = 1.380649e-23
"""Exact in the SI since 2019."""

ROOM_TEMPERATURE_K = 300.15
"""27 degrees Celsius, the default of circuit simulators; stated wherever noise is shown."""

NOISE_BANDWIDTH_HZ = (20.0, 20_000.0)
"""The band of every unweighted noise figure."""

LOWEST_DB = -300.0
"""Stands for silence where a figure must be finite."""


def db_to_gain(db: float) -> float:
    """Amplitude ratio of a level difference in dB."""
    return float(10.0 ** (db / 20.0))


def gain_to_db(gain: float) -> float:
    """Level difference in dB of an amplitude ratio; minus infinity for zero."""
    magnitude = abs(gain)
    return 20.0 * math.log10(magnitude) if magnitude > 0.0 else -math.inf


def volt_to_dbu(volt: float) -> float:
    """dBu of a voltage in V RMS."""
    return gain_to_db(volt / ZERO_DBU_V)


def dbu_to_volt(dbu: float) -> float:
    """Volt RMS of a level in dBu."""
    return ZERO_DBU_V * db_to_gain(dbu)


def dbv_to_dbu(dbv: float) -> float:
    """dBu of a level in dBV."""
    return dbv + volt_to_dbu(1.0)


def dbu_to_dbv(dbu: float) -> float:
    """dBV of a level in dBu."""
    return dbu - volt_to_dbu(1.0)


def peak_volt_to_dbu(peak_volt: float) -> float:
    """`peak_dbu` of a peak voltage: the dBu of the sine that has this peak."""
    return volt_to_dbu(peak_volt / math.sqrt(2.0))


def dbu_to_peak_volt(peak_dbu: float) -> float:
    """Peak voltage of a sine of this level in dBu."""
    return dbu_to_volt(peak_dbu) * math.sqrt(2.0)


def dbfs_to_dbu(dbfs: float, full_scale_dbu: float) -> float:
    """dBu of a converter level, `full_scale_dbu` being the sine that reaches 0 dBFS."""
    return dbfs + full_scale_dbu


def dbu_to_dbfs(dbu: float, full_scale_dbu: float) -> float:
    """Converter level in dBFS of a level in dBu."""
    return dbu - full_scale_dbu


def power_to_volt(watt: float, load_ohm: float) -> float:
    """Volt RMS across a resistive load that takes this power."""
    return math.sqrt(watt * load_ohm)


def parallel_ohm(*ohms: float) -> float:
    """Resistance of several in parallel; an infinite one takes no current."""
    conductance = sum(1.0 / ohm for ohm in ohms)
    return 1.0 / conductance if conductance > 0.0 else math.inf


def divider_db(source_ohm: float, load_ohm: float) -> float:
    """Level lost when a source of this impedance is loaded, in dB (0 or negative)."""
    return gain_to_db(load_ohm / (source_ohm + load_ohm))


def power_sum_db(*levels_db: float) -> float:
    """Level of the sum of uncorrelated signals of these levels."""
    total = sum(10.0 ** (level / 10.0) for level in levels_db)
    return 10.0 * math.log10(total) if total > 0.0 else -math.inf


def thermal_noise_v(
    resistance_ohm: float,
    *,
    bandwidth_hz: float = NOISE_BANDWIDTH_HZ[1] - NOISE_BANDWIDTH_HZ[0],
    temperature_k: float = ROOM_TEMPERATURE_K,
) -> float:
    """Open-circuit noise voltage of a resistance in V RMS: sqrt(4 k T R B)."""
    return math.sqrt(4.0 * BOLTZMANN_J_PER_K * temperature_k * resistance_ohm * bandwidth_hz)


def samples_to_ms(samples: float, rate_hz: float) -> float:
    """Milliseconds of a number of samples."""
    return 1000.0 * samples / rate_hz


def ms_to_samples(milliseconds: float, rate_hz: float) -> float:
    """Number of samples (not rounded) of a time in milliseconds."""
    return milliseconds * rate_hz / 1000.0


def speed_of_sound_m_per_s(temperature_c: float = 20.0) -> float:
    """Speed of sound in dry air: 331.3 sqrt(1 + T / 273.15) m/s (from memory)."""
    return 331.3 * math.sqrt(1.0 + temperature_c / 273.15)


def metres_to_ms(metres: float, temperature_c: float = 20.0) -> float:
    """Time that sound takes over a distance in air, in ms."""
    return 1000.0 * metres / speed_of_sound_m_per_s(temperature_c)
