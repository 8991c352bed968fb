"""What a known resistor tells: the impedance of an input, the capacitance of a cable, the
impedance of an output.

A level in dB is measured twice, once with the resistor and once without (or into two known loads);
only the difference counts, so that nothing has to be calibrated. A divider of two impedances is
all that there is behind it (Kirchhoff).
"""

from __future__ import annotations

import math

import numpy as np

from diaulos.circuit.network import Real
from diaulos.errors import InputError, RefusedError
from diaulos.records import dataclass

FEWEST = 4
Z95 = 1.96
LEAST_DB = 0.1
"""A difference below this tells nothing."""
RESISTOR_PART = 0.005
"""Nobody knows the resistor better than that."""


@dataclass(frozen=True)
class Shunted:
    """A resistance and a capacitance to ground, each with its 95 % error; None where the levels
    do not tell it, with the reason."""

    ohm: float | None
    ohm_error: float | None
    farad: float | None
    farad_error: float | None
    fit_db: float
    reason: str | None = None


@dataclass(frozen=True)
class Output:
    """An output's source impedance with its 95 % error."""

    ohm: float
    ohm_error: float


def behind_resistor(series_ohm: float, hz: Real, loss_db: Real, source_ohm: float = 0.0) -> Shunted:
    """An input (or a cable and its input) behind a known resistor, from what the resistor takes.

    Parameters
    ----------
    series_ohm
        The resistor, above 0.
    hz
        Frequencies in Hz, shape (n,), rising; n at least 4.
    loss_db
        Level without the resistor less that with it, dB, shape (n,).
    source_ohm
        Source impedance of the output that drives it, 0 and above: without the resistor it is
        loaded, too.

    Returns
    -------
    R and C by least squares of
    |1 + (Rs + Ro)(1/R + jwC)|^2 / |1 + Ro (1/R + jwC)|^2 = 10^(loss/10).

    Raises
    ------
    InputError
        Where there are too few points, or the resistor is none.
    """
    from scipy.optimize import least_squares

    _check(series_ohm, hz, loss_db)
    omega = 2.0 * np.pi * hz
    whole = series_ohm + source_ohm

    def loss(logs: Real) -> Real:
        across = math.exp(-logs[0]) + 1j * omega * math.exp(logs[1])
        return np.asarray(
            20.0 * np.log10(np.abs(1.0 + whole * across) / np.abs(1.0 + source_ohm * across))
        )

    starts = [np.log([ohm, farad]) for ohm in (10e3, 100e3, 1e6) for farad in (50e-12, 1e-9)]
    limits = (np.log([10.0, 1e-14]), np.log([1e9, 1e-6]))
    found = min(
        (least_squares(lambda v: loss(v) - loss_db, one, bounds=limits, x_scale=1.0)
         for one in starts),
        key=lambda one: one.cost,
    )  # fmt: skip
    left = found.fun
    fit = float(np.sqrt(np.mean(left**2)))
    sigma = max(1e-3, math.sqrt(float(np.sum(left**2)) / max(1, hz.size - 2)))
    spread = sigma * np.sqrt(np.diag(np.linalg.pinv(found.jac.T @ found.jac)))
    ohm, farad = (float(v) for v in np.exp(found.x))
    parts = np.sqrt(np.expm1(Z95 * np.minimum(spread, 5.0)) ** 2 + RESISTOR_PART**2)
    # What hardly moves the level could as well be nothing.
    flat = 20.0 * math.log10(1.0 + whole / ohm)
    bent = float(loss(found.x)[-1]) - flat
    ohm_told = parts[0] <= 0.3 and flat >= 0.02
    farad_told = parts[1] <= 0.3 and bent >= LEAST_DB
    words = []
    if not ohm_told:
        words.append("The resistor hardly lowers the level: take a larger one, near the impedance.")
    if not farad_told:
        words.append(
            f"No loss of treble shows up to {hz[-1]:g} Hz: take a larger resistor for the "
            "capacitance."
        )
    return Shunted(
        ohm if ohm_told else None,
        float(ohm * parts[0]) if ohm_told else None,
        farad if farad_told else None,
        float(farad * parts[1]) if farad_told else None,
        fit,
        " ".join(words) or None,
    )


def source_impedance(
    load_a_ohm: float, level_a_db: Real, load_b_ohm: float, level_b_db: Real
) -> Output:
    """An output's source impedance from its level into two known loads.

    Parameters
    ----------
    load_a_ohm
        The lighter load, above that of b; may be infinite.
    level_a_db
        Levels into it, dB, shape (n,): the same tones as into b.
    load_b_ohm
        The heavier load, above 0.
    level_b_db
        Levels into that, dB, shape (n,).

    Returns
    -------
    Zs of La / (La + Zs) : Lb / (Lb + Zs) = 10^((a - b) / 20).

    Raises
    ------
    InputError
        Where the loads are not two.
    RefusedError
        Where the level rises with the load, or nothing can be told.
    """
    if not 0.0 < load_b_ohm < load_a_ohm:
        raise InputError(
            f"loads of {load_a_ohm:g} and {load_b_ohm:g} ohm.", where="loads",
            remedy="Give the lighter load first: its ohms are the higher ones.",
        )  # fmt: skip
    apart = np.asarray(level_a_db, dtype=np.float64) - np.asarray(level_b_db, dtype=np.float64)
    if apart.size == 0 or not np.all(np.isfinite(apart)):
        raise InputError("a level is missing.", where="levels")
    mean = float(np.mean(apart))
    sigma = float(np.std(apart, ddof=1) / math.sqrt(apart.size)) if apart.size > 1 else 0.01

    def ohm_at(db: float) -> float:
        # r = (1 + Zs/Lb) / (1 + Zs/La)
        r = 10.0 ** (db / 20.0)
        return float((r - 1.0) / (1.0 / load_b_ohm - r / load_a_ohm))

    most = 20.0 * math.log10(load_a_ohm / load_b_ohm)
    if mean < LEAST_DB / 2.0 or mean >= most - LEAST_DB:
        raise RefusedError(
            "no_change" if mean < LEAST_DB else "too_much_change",
            f"The level changes by {mean:.2f} dB between the loads, which tells no impedance.",
            remedy="Take a heavier load (fewer ohms) for b, and check that both are plugged.",
        )
    ohm = ohm_at(mean)
    moved = abs(ohm_at(min(mean + max(Z95 * sigma, 1e-3), most - 1e-6)) - ohm)
    return Output(ohm, math.hypot(moved, RESISTOR_PART * ohm))


def _check(series_ohm: float, hz: Real, loss_db: Real) -> None:
    if not (math.isfinite(series_ohm) and series_ohm > 0.0):
        raise InputError(f"a resistor of {series_ohm:g} ohm.", where="series_ohm")
    if hz.shape != loss_db.shape or hz.ndim != 1 or hz.size < FEWEST:
        raise InputError(
            f"{hz.size} frequencies and {loss_db.size} levels.", where="hz",
            remedy=f"Give one level per frequency, at least {FEWEST}.",
        )  # fmt: skip
    if not (np.all(np.isfinite(hz)) and np.all(np.isfinite(loss_db)) and np.all(hz > 0.0)):
        raise InputError("a number is missing or not finite.", where="hz")
