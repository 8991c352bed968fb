"""What a passive pickup is made of, from what it gives into two or more known loads.

Conventions
- A response is a level in dB over Hz, of one instrument into one load (an input, a resistor across
  the jack), all knobs on 10. What the responses have in common besides the circuit is unknown, and
  no part of the answer: see `Common`.
- The circuit is that of `diaulos.circuit.pickup`: EMF, resistance, inductance with its eddy loss
  parallel, and across the jack the capacitance (winding and cable: only their sum can be told),
  the volume pot, the tone pot with its capacitor, and the load.
- Values are found by weighted least squares in their logarithms, with wide assumptions of what
  pickups are like (`USUAL`: representative, from memory), and with the noise that the responses
  themselves show. An error is half of a 95 % interval. A value that the responses do not tell, or
  tell no better than the assumption did, is None, with the reason.

Levenberg and Marquardt's method is SciPy's; the error is that of the linearised fit (Bates and
Watts, Nonlinear Regression Analysis, 1988, chapter 2, from memory).
"""

from __future__ import annotations

import math
from dataclasses import field
from typing import Literal

import numpy as np

from diaulos.circuit.network import Real
from diaulos.errors import InputError
from diaulos.records import dataclass

Common = Literal["level", "slope", "curve", "each"]
"""What all responses share besides the circuit: one `level`; a level and the 6 dB per octave of a
coil that drives the pickup (`slope`); any `curve`, so that only ratios between loads count; or a
curve, and a level of its own for `each` (plucks)."""
COMMONS: tuple[Common, ...] = ("level", "slope", "curve", "each")

NAMES = (
    "inductance_h", "resistance_ohm", "capacitance_f", "eddy_ohm", "volume_pot_ohm",
    "tone_pot_ohm",
)  # fmt: skip
"""What is asked for."""
_TONE_F = "tone_f"
_ALL = (*NAMES, _TONE_F)
USUAL = {
    "inductance_h": (4.0, 0.9), "resistance_ohm": (8e3, 0.8), "capacitance_f": (500e-12, 1.0),
    "eddy_ohm": (600e3, 1.5), "volume_pot_ohm": (350e3, 0.8), "tone_pot_ohm": (350e3, 0.8),
    _TONE_F: (25e-9, 0.6),
}  # fmt: skip
"""Middle and spread (of the natural logarithm) of what pickups and controls are like:
representative, from memory. Wide, so that they say nothing where the responses do."""
METER = 0.01
"""Spread of a resistance typed from a meter."""
TOLD = 0.30
"""A value is told when its 95 % error is no more than this part of it."""
BETTER = 0.5
"""And when its spread is no more than this part of what was assumed."""
LEAST_PART = 0.005
"""No error is stated smaller than this part of the value: resistors are no better known."""
WIDER: dict[Common, float] = {"level": 1.0, "slope": 1.0, "curve": 1.1, "each": 1.25}
"""How much wider an error is than the linearised fit has it: where fewer things are told, what is
hardly told drags the rest along. Set by made cases, so that 95 % hold the truth."""
LEAST_DB = 0.002
"""No response is taken for steadier than that."""
Z95 = 1.96
FEWEST, MOST_POINTS, MOST_LOADS = 12, 20_000, 12
LEAST_SNR_DB = 14.0
"""What lies closer to the noise than that is not fitted: there the level is the noise's."""


@dataclass(frozen=True)
class Response:
    """One instrument into one load.

    `hz` and `db` have shape (n,), Hz rising; `load_ohm` is infinite where nothing loads."""

    load_ohm: float
    load_f: float
    hz: Real
    db: Real
    name: str = ""


@dataclass(frozen=True)
class Told:
    """A value and its 95 % error, both in the value's unit."""

    value: float
    error: float


@dataclass(frozen=True)
class Identified:
    """What was found. A value that could not be told is not in `told`, and `untold` says why.

    `fitted` are the levels of the found circuit at the points of each response, shape as given,
    brought to them by what was common; `fit_db` is the RMS of what is left. `resonance_hz` has
    the peak of the found circuit into each load, None where it has none."""

    told: dict[str, Told]
    untold: dict[str, str]
    fit_db: float
    fitted: tuple[Real, ...]
    resonance_hz: tuple[Told | None, ...]
    best: dict[str, float] = field(default_factory=dict)
    """The most likely value of everything, told or not: what the fit is drawn with."""

    @property
    def reason(self) -> str | None:
        """Why something could not be told, in one text; None where all was."""
        words = dict.fromkeys(self.untold.values())
        return " ".join(words) or None


def identify(
    responses: tuple[Response, ...], common: Common = "level", resistance_ohm: float | None = None
) -> Identified:
    """The circuit that explains the responses.

    Parameters
    ----------
    responses
        The same instrument into each load, at least one; two or more of clearly different loads
        tell what it is made of, one only where it resonates.
    common
        What they share besides the circuit.
    resistance_ohm
        As read from a meter, where it was.

    Returns
    -------
    Values in H, ohm and F with their errors, the fit.

    Raises
    ------
    InputError
        Where a response has too few points, or is no response.
    """
    check_responses(responses, common)
    data = _Data(responses, common)
    prior = _prior(resistance_ohm)
    fit = _Fit(data, prior)
    theta, weights = fit.solve()
    covariance = fit.covariance(theta, weights)
    spread = np.sqrt(np.diag(covariance))
    told, untold = _tell(theta, spread, prior, data, resistance_ohm is not None)
    pots = [name for name in ("volume_pot_ohm", "tone_pot_ohm") if name in untold]
    if pots:
        ohm = 1.0 / float(np.sum(np.exp(-theta[4:6])))
        untold.update(dict.fromkeys(pots, _POTS.format(about=f"{ohm / 1e3:.0f}")))
    left = data.centred(data.db - data.model(theta), weights)
    best = {name: math.exp(value) for name, value in zip(_ALL, theta, strict=True)}
    fitted = data.db - left
    return Identified(
        told=told,
        untold=untold,
        fit_db=float(np.sqrt(np.mean(left[data.used] ** 2))),
        fitted=tuple(fitted[part] for part in data.parts),
        resonance_hz=tuple(_peak(theta, covariance, one) for one in responses),
        best=best,
    )


def check_responses(responses: tuple[Response, ...], common: Common) -> None:
    """Whether these can be fitted at all.

    Parameters
    ----------
    responses
        As `identify` takes them.
    common
        What they share.

    Raises
    ------
    InputError
        With the load that is wrong.
    """
    if common not in COMMONS:
        raise InputError(
            f"there is no common {common!r}.", where="common",
            remedy=f"One of {', '.join(COMMONS)}.",
        )  # fmt: skip
    if not 1 <= len(responses) <= MOST_LOADS:
        raise InputError(
            f"{len(responses)} responses.", where="loads",
            remedy=f"Give one to {MOST_LOADS}, two at least to tell what a pickup is made of.",
        )  # fmt: skip
    for at, one in enumerate(responses):
        where = f"loads[{at}]"
        _check_response(one, where)
        if common in ("curve", "each") and (
            one.hz.size != responses[0].hz.size
            or not np.allclose(one.hz, responses[0].hz, rtol=1e-6)
        ):
            raise InputError(
                "its frequencies are not those of the first load.", where=f"{where}.hz",
                remedy="Ratios between loads need the same frequencies for all.",
            )  # fmt: skip


def _check_response(one: Response, where: str) -> None:
    if one.hz.shape != one.db.shape or one.hz.ndim != 1:
        raise InputError(
            f"{one.hz.size} frequencies and {one.db.size} levels.", where=where,
            remedy="hz and db need one number each per point.",
        )  # fmt: skip
    if not FEWEST <= one.hz.size <= MOST_POINTS:
        raise InputError(
            f"{one.hz.size} points.", where=where,
            remedy=f"Give {FEWEST} to {MOST_POINTS}, best 20 Hz to 20 kHz in equal ratios.",
        )  # fmt: skip
    if not (np.all(np.isfinite(one.hz)) and np.all(np.isfinite(one.db))):
        raise InputError("a number is missing or not finite.", where=where)
    if one.hz[0] <= 0.0 or np.any(np.diff(one.hz) <= 0.0):
        raise InputError("the frequencies do not rise from above 0.", where=f"{where}.hz")
    if not (one.load_ohm > 0.0 and 0.0 <= one.load_f < 1e-3):
        raise InputError(
            f"a load of {one.load_ohm:g} ohm and {one.load_f:g} F.", where=where,
            remedy="load_ohm is above 0, load_pf 0 or more.",
        )  # fmt: skip


# --- the circuit, as a level of its values ---


def _level_db(theta: Real, omega: Real, load_s: Real, load_f: Real) -> Real:
    inductance, resistance, farad, eddy, volume, tone, tone_f = np.exp(theta)
    coil = 1j * omega * inductance
    coil = coil * eddy / (coil + eddy)
    across = 1.0 / volume + load_s + 1j * omega * (farad + load_f)
    across = across + 1.0 / (tone + 1.0 / (1j * omega * tone_f))
    below = 1.0 + (resistance + coil) * across
    return np.asarray(-10.0 * np.log10(below.real**2 + below.imag**2))


def _peak(theta: Real, covariance: Real, one: Response) -> Told | None:
    """Where the circuit peaks into a load, its error by how it moves with each value."""
    hz = _peak_hz(theta, one)
    if hz is None:
        return None
    step = 0.01
    slopes = []
    for at in range(theta.size):
        moved = theta.copy()
        moved[at] += step
        other = _peak_hz(moved, one)
        slopes.append(0.0 if other is None else math.log(other / hz) / step)
    spread = math.sqrt(max(0.0, float(np.array(slopes) @ covariance @ np.array(slopes))))
    return Told(hz, max(LEAST_PART, math.expm1(Z95 * spread)) * hz)


def _peak_hz(theta: Real, one: Response) -> float | None:
    from diaulos.circuit.loading import Load, resonance
    from diaulos.circuit.pickup import Coil, Controls, Magnetic

    inductance, ohm, farad, eddy, volume, tone, tone_f = (float(v) for v in np.exp(theta))
    circuit = Magnetic(
        (Coil(inductance, ohm, farad, eddy),),
        Controls(volume_ohm=volume, tone_ohm=tone, tone_f=tone_f),
    )
    found = resonance(circuit, Load(one.load_ohm, one.load_f))
    return found[0] if found is not None else None


class _Data:
    """All responses in one row of numbers, and what they share taken out of it."""

    def __init__(self, responses: tuple[Response, ...], common: Common) -> None:
        sizes = [one.hz.size for one in responses]
        ends = np.cumsum(sizes)
        self.responses, self.common = responses, common
        self.parts = [
            slice(int(end) - size, int(end)) for end, size in zip(ends, sizes, strict=True)
        ]
        self.count = len(responses)
        self.db = np.concatenate([one.db for one in responses]).astype(np.float64)
        self.omega = 2.0 * np.pi * np.concatenate([one.hz for one in responses])
        self.load_s = np.repeat([1.0 / one.load_ohm for one in responses], sizes)
        self.load_f = np.repeat([one.load_f for one in responses], sizes)
        self.measured = self.db
        self.used = np.ones(self.db.size, dtype=bool)
        if common == "slope":
            self.db = self.db - 20.0 * np.log10(self.omega / self.omega[0])

    def model(self, theta: Real) -> Real:
        """Levels of a circuit, re its EMF."""
        return _level_db(theta, self.omega, self.load_s, self.load_f)

    def centred(self, rows: Real, weights: Real) -> Real:
        """Without what is common, by weighted means; rows of shape (..., points)."""
        if self.common in ("level", "slope"):
            return np.asarray(rows - _mean(rows, weights)[..., None])
        shape = (*rows.shape[:-1], self.count, -1)
        grid, weight = rows.reshape(shape), weights.reshape(self.count, -1)
        over = np.maximum(np.sum(weight, axis=0), 1e-30)
        for _ in range(1 if self.common == "curve" else 12):
            grid = grid - (np.sum(grid * weight, axis=-2) / over)[..., None, :]
            if self.common == "each":
                along = np.maximum(np.sum(weight, axis=-1), 1e-30)
                grid = grid - (np.sum(grid * weight, axis=-1) / along)[..., None]
        return np.asarray(grid.reshape(rows.shape))

    def log_weight(self, weights: Real) -> float:
        """Logarithm of the determinant of what was taken out, weighted."""
        if self.common in ("level", "slope"):
            return math.log(float(np.sum(weights)))
        over = np.sum(weights.reshape(self.count, -1), axis=0)
        return float(np.sum(np.log(over[over > 1e-9])))


def _mean(rows: Real, weights: Real) -> Real:
    return np.asarray(np.sum(rows * weights, axis=-1) / np.sum(weights))


# --- the fit ---


def _prior(resistance_ohm: float | None) -> tuple[Real, Real]:
    usual = dict(USUAL)
    if resistance_ohm is not None:
        if not (math.isfinite(resistance_ohm) and resistance_ohm > 0.0):
            raise InputError(f"a resistance of {resistance_ohm:g} ohm.", where="resistance_ohm")
        usual["resistance_ohm"] = (resistance_ohm, METER)
    middle = np.log([usual[name][0] for name in _ALL])
    return middle, np.array([usual[name][1] for name in _ALL])


class _Fit:
    """Values, then the noise that they leave, then values again, until both stand still."""

    ROUNDS = 4
    STARTS = 4

    def __init__(self, data: _Data, prior: tuple[Real, Real]) -> None:
        self.data = data
        self.middle, self.wide = prior
        self._noise = (0.05, 0.0)

    def solve(self) -> tuple[Real, Real]:
        """Logarithms of the values, and the weight of each point (one over its variance)."""
        data = self.data
        weights = np.full(data.db.size, 1.0 / 0.3**2)
        found = [self._improve(start, weights) for start in self._starts(weights)]
        theta = min(found, key=lambda one: one[1])[0]
        for _ in range(self.ROUNDS):
            weights = self._weights(theta, weights)
            theta = self._improve(theta, weights)[0]
        return theta, self._weights(theta, weights)

    def _starts(self, weights: Real) -> list[Real]:
        grid = []
        for inductance in (1.5, 3.0, 6.0, 12.0):
            for farad in (150e-12, 400e-12, 1e-9, 2.5e-9):
                theta = self.middle.copy()
                theta[0], theta[2] = math.log(inductance), math.log(farad)
                grid.append((float(np.sum(self._rows(theta, weights) ** 2)), theta))
        grid.sort(key=lambda one: one[0])
        return [theta for _, theta in grid[: self.STARTS]]

    def _rows(self, theta: Real, weights: Real) -> Real:
        left = self.data.centred(self.data.db - self.data.model(theta), weights)
        return np.concatenate([left * np.sqrt(weights), (theta - self.middle) / self.wide])

    def _improve(self, start: Real, weights: Real) -> tuple[Real, float]:
        from scipy.optimize import least_squares

        far = 12.0
        inside = np.clip(start, self.middle - far + 0.1, self.middle + far - 0.1)
        done = least_squares(
            lambda theta: self._rows(theta, weights), inside,
            jac=lambda theta: self._slopes(theta, weights),
            bounds=(self.middle - far, self.middle + far), x_scale="jac", max_nfev=60,
            xtol=1e-10, ftol=1e-10, gtol=1e-10,
        )  # fmt: skip
        return np.asarray(done.x), float(done.cost)

    def _slopes(self, theta: Real, weights: Real) -> Real:
        """By central differences: the level is smooth in the logarithms."""
        data, step = self.data, 1e-4
        columns = []
        for at in range(theta.size):
            up, down = theta.copy(), theta.copy()
            up[at] += step
            down[at] -= step
            columns.append((data.model(down) - data.model(up)) / (2.0 * step))
        left = data.centred(np.array(columns), weights) * np.sqrt(weights)
        return np.concatenate([left.T, np.diag(1.0 / self.wide)])

    def _weights(self, theta: Real, weights: Real) -> Real:
        """One over the variance of each point: a steady part, and a part that grows as the level
        falls, as noise of one strength does. Both by restricted maximum likelihood: what is
        common took its share of the scatter out (Patterson and Thompson, Biometrika 58, 1971)."""
        from scipy.optimize import minimize

        data = self.data
        model = data.model(theta)
        raw = data.db - model
        left = data.centred(raw, weights)
        # By the fitted level: by the measured one, what noise lifted would weigh more. Where more
        # than a level is common, nobody knows whether the noise came ahead of it or behind.
        falls = [10.0 ** (-0.1 * (data.measured - left))]
        if data.common != "level":
            falls.append(10.0 ** (-0.1 * model))
        falls = [fall / float(np.median(fall)) for fall in falls]
        used = data.used

        def parts(logs: Real) -> tuple[Real, Real]:
            falling = np.sum(
                [math.exp(v) * f for v, f in zip(logs[1:], falls, strict=True)], axis=0
            )
            return LEAST_DB**2 + math.exp(logs[0]) + falling, falling

        def cost(logs: Real) -> float:
            variance, _ = parts(logs)
            weight = np.where(used, 1.0 / variance, 1e-12)
            apart = data.centred(raw, weight)
            told = np.sum(apart[used] ** 2 / variance[used] + np.log(variance[used]))
            return float(told + data.log_weight(weight))

        typical = max(float(np.median(left[used] ** 2)), LEAST_DB**2)
        shares = [(0.5, *(0.1 for _ in falls))]
        shares += [
            (0.02, *(0.5 if at == main else 0.02 for at in range(len(falls))))
            for main in range(len(falls))
        ]
        tries = [
            minimize(cost, np.log(typical * np.array(share)), method="Nelder-Mead",
                     bounds=[(-30.0, 10.0)] * len(share),
                     options={"xatol": 0.02, "fatol": 0.01, "maxiter": 300})
            for share in shares
        ]  # fmt: skip
        variance, falling = parts(min(tries, key=lambda one: one.fun).x)
        # 20 log10 of one part in r is 8.7 / r dB: where that is large, the level is the noise's.
        limit = (8.686 * 10.0 ** (-LEAST_SNR_DB / 20.0)) ** 2 / 2.0
        data.used = falling < limit
        if np.count_nonzero(data.used) < FEWEST:
            data.used = np.ones(data.db.size, dtype=bool)
        return np.asarray(np.where(data.used, 1.0 / variance, 1e-12))

    def covariance(self, theta: Real, weights: Real) -> Real:
        """Of the logarithms, shape (values, values)."""
        slopes = self._slopes(theta, weights)
        return np.asarray(np.linalg.inv(slopes.T @ slopes))


# --- what is told ---


def _tell(
    theta: Real, spread: Real, prior: tuple[Real, Real], data: _Data, metered: bool
) -> tuple[dict[str, Told], dict[str, str]]:
    told: dict[str, Told] = {}
    untold: dict[str, str] = {}
    for at, name in enumerate(NAMES):
        value = math.exp(theta[at])
        part = max(LEAST_PART, math.expm1(Z95 * WIDER[data.common] * spread[at]))
        known = name == "resistance_ohm" and metered
        if part <= TOLD and (known or spread[at] <= BETTER * prior[1][at]):
            told[name] = Told(value, part * value)
        else:
            untold[name] = _why(name, data)
    return told, untold


_POTS = (
    "Volume and tone pot on 10 damp as one (about {about} kohm together): their values cannot be "
    "told apart."
)


def _why(name: str, data: _Data) -> str:
    """What would have to be measured for a value."""
    if name in ("inductance_h", "capacitance_f"):
        if data.count == 1:
            return (
                "One load tells where the pickup resonates, not what it is made of: record it "
                "into a second, clearly different load."
            )
        ends = [max(one.hz[-1] for one in data.responses), min(one.hz[0] for one in data.responses)]
        if ends[0] < 6_000.0:
            return (
                f"The responses end at {ends[0]:g} Hz, below or in the resonance: they have to "
                "reach 10 kHz."
            )
        return (
            "The loads are too much alike, or the noise is too high, to tell inductance and "
            "capacitance apart: take loads that differ more (a resistor of 47 kohm across the "
            "jack, or a cable of known capacitance)."
        )
    if name == "resistance_ohm":
        return (
            "The resistance does not show in these loads: read it from a meter at the jack, or "
            "add a load of 47 kohm or less."
        )
    if name == "eddy_ohm":
        return "The eddy loss is too small to be told from these responses."
    return _POTS
