"""Transformer DI boxes between an instrument and a microphone input.

All primary elements on the primary side: Cp across it, Rp and leakage Lk in series, the
magnetising Lm to ground, an ideal ratio, Rs in series with the secondary.
"""

from __future__ import annotations

from dataclasses import dataclass

from diaulos.circuit.network import (
    Complex,
    Real,
    TwoPort,
    capacitor,
    chain,
    inductor,
    resistor,
    series,
    shunt,
    transformer,
)


@dataclass(frozen=True)
class Transformer:
    """A transformer with `turns_ratio` : 1 turns; the parasitics are 0 or None if ideal."""

    turns_ratio: float
    primary_ohm: float = 0.0
    secondary_ohm: float = 0.0
    leakage_h: float = 0.0
    magnetising_h: float | None = None
    primary_f: float = 0.0

    def two_port(self, freqs_hz: Real) -> TwoPort:
        """Its chain matrix, primary to secondary."""
        parts: list[TwoPort] = []
        if self.primary_f > 0.0:
            parts.append(shunt(capacitor(self.primary_f, freqs_hz)))
        if self.primary_ohm > 0.0 or self.leakage_h > 0.0:
            copper = resistor(self.primary_ohm, freqs_hz)
            parts.append(series(copper + inductor(self.leakage_h, freqs_hz)))
        if self.magnetising_h is not None:
            parts.append(shunt(inductor(self.magnetising_h, freqs_hz)))
        parts.append(transformer(self.turns_ratio, freqs_hz))
        if self.secondary_ohm > 0.0:
            parts.append(series(resistor(self.secondary_ohm, freqs_hz)))
        return chain(parts, freqs_hz)

    def input_impedance(self, load: Complex, freqs_hz: Real) -> Complex:
        """What the primary presents when the secondary is loaded."""
        port = self.two_port(freqs_hz)
        return (port.a * load + port.b) / (port.c * load + port.d)

    def reflected_ohm(self, load_ohm: float) -> float:
        """The load as an ideal primary shows it: ratio squared times the load."""
        return self.turns_ratio**2 * load_ohm
