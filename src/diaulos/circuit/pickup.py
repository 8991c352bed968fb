"""A magnetic pickup with its controls as a source.

EMF -> Rdc -> L (eddy loss parallel to L) -> hot node with the winding capacitance, the
volume pot with its wiper as the output, the tone branch from hot to ground. A cable and
an input are added by the caller as loads (`diaulos.circuit.network.shunt`).
"""

from __future__ import annotations

from dataclasses import dataclass

from diaulos.circuit.network import (
    Complex,
    Real,
    Source,
    capacitor,
    inductor,
    parallel,
    resistor,
    series,
    shunt,
)


@dataclass(frozen=True)
class PickupCircuit:
    """Component values of one pickup and its controls.

    `volume_ratio` is the electrical wiper ratio (1 = full up), `tone_fraction` the part of
    the tone pot left in series with its capacitor. `eddy_ohm` is None where eddy currents
    are neglected. Values from memory unless measured: mark them "representative".
    """

    inductance_h: float
    resistance_ohm: float
    winding_f: float
    volume_ohm: float = 500e3
    tone_ohm: float = 500e3
    tone_f: float = 22e-9
    volume_ratio: float = 1.0
    tone_fraction: float = 1.0
    eddy_ohm: float | None = None

    def source(self, freqs_hz: Real) -> Source:
        """The Thevenin equivalent at the output jack for an EMF of 1 V."""
        coil = inductor(self.inductance_h, freqs_hz)
        if self.eddy_ohm is not None:
            coil = parallel(coil, resistor(self.eddy_ohm, freqs_hz))
        hot = Source(
            emf=resistor(1.0, freqs_hz), impedance=resistor(self.resistance_ohm, freqs_hz) + coil
        ).through(shunt(capacitor(self.winding_f, freqs_hz)))
        return (
            hot.through(shunt(self._tone_branch(freqs_hz)))
            .through(
                series(resistor(max((1.0 - self.volume_ratio) * self.volume_ohm, 1e-3), freqs_hz))
            )
            .through(shunt(resistor(max(self.volume_ratio * self.volume_ohm, 1e-3), freqs_hz)))
        )

    def _tone_branch(self, freqs_hz: Real) -> Complex:
        pot = resistor(self.tone_fraction * self.tone_ohm, freqs_hz)
        return pot + capacitor(self.tone_f, freqs_hz)


def loaded_level(
    pickup: PickupCircuit, freqs_hz: Real, *, cable_f: float, load_ohm: float, load_f: float = 0.0
) -> Complex:
    """Voltage at the input re the pickup's EMF, over frequency.

    `cable_f` is the whole cable's capacitance and `load_f` the input's, in farad.
    """
    load = parallel(resistor(load_ohm, freqs_hz), capacitor(cable_f + load_f, freqs_hz))
    return pickup.source(freqs_hz).through(shunt(load)).emf
