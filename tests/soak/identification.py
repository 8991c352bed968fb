"""Pickups of known values behind two or three loads, with noise: how near they are found, and how
often the truth lies inside the stated error."""

from __future__ import annotations

import math

import numpy as np

from diaulos.circuit.identify import Common, Identified, Response, identify
from diaulos.circuit.loading import Load, loaded, log_grid, resonance
from diaulos.circuit.pickup import Coil, Controls, Magnetic

CASES = 200
LOADS = (
    ((1e6, 30.0), (47e3, 30.0)), ((1e6, 30.0), (220e3, 30.0)), ((1e6, 30.0), (1e6, 500.0)),
    ((1e6, 30.0), (100e3, 50.0), (10e3, 100.0)), ((1e6, 30.0), (10e3, 30.0)),
)  # fmt: skip
"""Ohm and pF: an instrument input, and a resistor or a cable more."""
COVERED = 0.93


def made_case(
    draws: np.random.Generator, common: Common
) -> tuple[tuple[Response, ...], dict[str, float | None], list[float | None]]:
    """Responses, the truth, and where it resonates into each load. Values are representative."""
    coil = Coil(
        draws.uniform(2.0, 9.0), draws.uniform(5e3, 15e3), draws.uniform(60.0, 220.0) * 1e-12,
        None if draws.random() < 0.2 else math.exp(draws.uniform(math.log(150e3), math.log(2e6))),
    )  # fmt: skip
    pots = [250e3, 500e3, 1e6]
    controls = Controls(
        volume_ohm=float(draws.choice(pots)), tone_ohm=float(draws.choice(pots)),
        tone_f=float(draws.choice([10e-9, 22e-9, 47e-9])),
    )  # fmt: skip
    circuit, cable_f = Magnetic((coil,), controls), draws.uniform(200.0, 900.0) * 1e-12
    loads = LOADS[int(draws.integers(len(LOADS)))]
    snr_db, steady = float(draws.choice([40.0, 60.0])), bool(draws.integers(2))
    behind = bool(draws.integers(2))
    hz = log_grid(20.0, 20_000.0, 200)
    source = circuit.source(hz)
    whole = [Load(ohm, pf * 1e-12 + cable_f) for ohm, pf in loads]
    volts = [loaded(source, one, hz) for one in whole]
    level = math.sqrt(float(np.mean(np.abs(volts[0]) ** 2)))
    responses = []
    for (ohm, pf), volt in zip(loads, volts, strict=True):
        noise = draws.standard_normal(hz.size) + 1j * draws.standard_normal(hz.size)
        noise = noise * 10.0 ** (-snr_db / 20.0) / math.sqrt(2.0)
        shape = np.zeros(hz.size)
        if common == "slope":
            shape = 20.0 * np.log10(hz / 1_000.0)
        elif common in ("curve", "each"):
            shape = 10.0 * np.sin(np.log(hz)) - 0.002 * hz**0.8
        # Noise of one strength as of a recording, behind what is common or ahead of it; or in
        # proportion as of a wobbling sweep.
        gain = 10.0 ** (shape / 20.0) if behind else 1.0
        strength = np.abs(volt) * gain if steady else level
        heard = volt * gain + noise * strength
        db = 20.0 * np.log10(np.abs(heard)) - 3.3 + (0.0 if behind else shape)
        if common == "each":
            db = db + draws.normal(0.0, 3.0)
        responses.append(Response(ohm, pf * 1e-12, hz, db))
    truth = {
        "inductance_h": coil.inductance_h, "resistance_ohm": coil.resistance_ohm,
        "capacitance_f": coil.winding_f + cable_f, "eddy_ohm": coil.eddy_ohm,
        "volume_pot_ohm": controls.volume_ohm, "tone_pot_ohm": controls.tone_ohm,
    }  # fmt: skip
    peaks = [resonance(circuit, one) for one in whole]
    return tuple(responses), truth, [peak[0] if peak else None for peak in peaks]


class Tally:
    """What was found of many."""

    def __init__(self) -> None:
        self.told = self.inside = self.untold = 0
        self.far: dict[str, list[float]] = {}

    def add(self, found: Identified, truth: dict[str, float | None]) -> None:
        """One case."""
        for name, true in truth.items():
            told = found.told.get(name)
            if told is None or true is None:
                self.untold += told is None
                continue
            self.told += 1
            self.inside += abs(told.value - true) <= told.error
            self.far.setdefault(name, []).append(abs(told.value / true - 1.0))

    @property
    def covered(self) -> float:
        """Part of the stated errors that held the truth."""
        return self.inside / max(1, self.told)


def run(cases: int, seed: int = 1) -> tuple[str, int]:
    """Words, and how many figures of `Held to` were missed."""
    draws = np.random.default_rng(seed)
    lines, wrong = [], 0
    for common in ("level", "slope", "curve", "each"):
        tally, off = Tally(), []
        for _ in range(cases if common == "level" else max(5, cases // 4)):
            responses, truth, peaks = made_case(draws, common)  # type: ignore[arg-type]
            found = identify(responses, common)  # type: ignore[arg-type]
            tally.add(found, truth)
            off += [
                abs(got.value / true - 1.0)
                for got, true in zip(found.resonance_hz, peaks, strict=True)
                if got is not None and true is not None
            ]
        worst = {name: max(far) for name, far in tally.far.items()}
        if common == "level":
            wrong += worst["inductance_h"] > 0.03
            wrong += worst["capacitance_f"] > 0.05
            wrong += float(np.quantile(off, 0.99)) > 0.01
        wrong += tally.covered < COVERED
        told = ", ".join(f"{name} {100.0 * far:.2f} %" for name, far in worst.items())
        lines.append(
            f"identify, {common}: {100.0 * tally.covered:.1f} % of {tally.told} errors hold the "
            f"truth; worst {told}; resonance 99 % within {100.0 * np.quantile(off, 0.99):.2f} %"
        )
    return "\n".join(lines), wrong
