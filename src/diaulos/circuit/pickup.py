"""What an instrument is as a source: coils and controls, an active stage, a piezo element.

Magnetic: EMF -> Rdc -> L (eddy loss parallel to L) -> hot node with the winding capacitance,
the volume pot with its wiper as the output, the tone branch from hot (or wiper) to ground, a
treble bleed from hot to wiper. Two coils stand in parallel at the hot node, or the second
is stacked on the first, each with an EMF of 1 V. A cable and an input are added by the
caller as loads (`diaulos.circuit.loading`). Levels are re one coil's EMF.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, Protocol

import numpy as np

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
from diaulos.records import dataclass

Wiring = Literal["single", "parallel", "series"]
LEAST_OHM = 1e-3
"""Stands for a wire where a pot is fully up."""


class InstrumentCircuit(Protocol):
    """Anything that is a source over frequency."""

    def source(self, freqs_hz: Real) -> Source:
        """The Thevenin equivalent at the output jack for an EMF of 1 V."""

    def __hash__(self) -> int:
        """Equal circuits are one: what was worked out for them is kept."""


@dataclass(frozen=True)
class Coil:
    """One pickup coil. `eddy_ohm` is None where eddy currents are neglected."""

    inductance_h: float
    resistance_ohm: float
    winding_f: float
    eddy_ohm: float | None = None

    def open(self, freqs_hz: Real) -> Source:
        """The coil with its own winding capacitance across it."""
        coil = inductor(self.inductance_h, freqs_hz)
        if self.eddy_ohm is not None:
            coil = parallel(coil, resistor(self.eddy_ohm, freqs_hz))
        own = Source(resistor(1.0, freqs_hz), resistor(self.resistance_ohm, freqs_hz) + coil)
        return own.through(shunt(capacitor(self.winding_f, freqs_hz)))


@dataclass(frozen=True)
class Controls:
    """Volume and tone. A pot of None is not there.

    `volume_ratio` is the electrical wiper ratio (1 = full up), `tone_fraction` the part of
    the tone pot left in series with its capacitor.
    """

    volume_ohm: float | None = 500e3
    volume_ratio: float = 1.0
    tone_ohm: float | None = 500e3
    tone_f: float = 22e-9
    tone_fraction: float = 1.0
    tone_at: Literal["hot", "wiper"] = "hot"
    bleed_f: float = 0.0
    bleed_ohm: float | None = None
    bleed_topology: Literal["parallel", "series"] = "parallel"

    def after(self, hot: Source, freqs_hz: Real) -> Source:
        """The source at the output jack."""
        tone = self._tone_branch(freqs_hz)
        if tone is not None and self.tone_at == "hot":
            hot = hot.through(shunt(tone))
        if self.volume_ohm is not None:
            ratio = min(1.0, max(0.0, self.volume_ratio))
            upper = resistor(max((1.0 - ratio) * self.volume_ohm, LEAST_OHM), freqs_hz)
            bleed = self._bleed(freqs_hz)
            hot = hot.through(series(upper if bleed is None else parallel(upper, bleed)))
            lower = resistor(max(ratio * self.volume_ohm, LEAST_OHM), freqs_hz)
            hot = hot.through(shunt(lower))
        if tone is not None and self.tone_at == "wiper":
            hot = hot.through(shunt(tone))
        return hot

    def _tone_branch(self, freqs_hz: Real) -> Complex | None:
        if self.tone_ohm is None or self.tone_f <= 0.0:
            return None
        pot = resistor(max(self.tone_fraction * self.tone_ohm, LEAST_OHM), freqs_hz)
        return pot + capacitor(self.tone_f, freqs_hz)

    def _bleed(self, freqs_hz: Real) -> Complex | None:
        if self.bleed_f <= 0.0:
            return None
        through = capacitor(self.bleed_f, freqs_hz)
        if self.bleed_ohm is None:
            return through
        beside = resistor(self.bleed_ohm, freqs_hz)
        return parallel(through, beside) if self.bleed_topology == "parallel" else through + beside


@dataclass(frozen=True)
class Magnetic:
    """One coil or two, and the controls behind them."""

    coils: tuple[Coil, ...]
    controls: Controls = Controls()
    wiring: Wiring = "single"

    def source(self, freqs_hz: Real) -> Source:
        """The Thevenin equivalent at the output jack, re one coil's EMF of 1 V."""
        opened = [coil.open(freqs_hz) for coil in self.coils]
        hot = opened[0]
        if len(opened) > 1 and self.wiring == "series":
            emf, impedance = hot.emf, hot.impedance
            for coil in opened[1:]:
                emf, impedance = emf + coil.emf, impedance + coil.impedance
            hot = Source(emf, impedance)
        elif len(opened) > 1:
            # Norton: currents and admittances add.
            current = np.sum([coil.emf / coil.impedance for coil in opened], axis=0)
            impedance = parallel(*(coil.impedance for coil in opened))
            hot = Source(np.asarray(current * impedance), impedance)
        return self.controls.after(hot, freqs_hz)


@dataclass(frozen=True)
class Active:
    """A buffered instrument: a resistance, then perhaps a volume pot."""

    output_ohm: float
    controls: Controls = Controls(volume_ohm=None, tone_ohm=None)

    def source(self, freqs_hz: Real) -> Source:
        """The Thevenin equivalent at the output jack."""
        own = Source(resistor(1.0, freqs_hz), resistor(self.output_ohm, freqs_hz))
        return self.controls.after(own, freqs_hz)


@dataclass(frozen=True)
class Piezo:
    """A piezo element without a buffer: a capacitor."""

    capacitance_f: float

    def source(self, freqs_hz: Real) -> Source:
        """The Thevenin equivalent at the output jack."""
        return Source(resistor(1.0, freqs_hz), capacitor(self.capacitance_f, freqs_hz))


def turned_down(circuit: InstrumentCircuit) -> InstrumentCircuit | None:
    """An instrument with its volume at zero, every coil and knob else as it was.

    Parameters
    ----------
    circuit
        Any instrument.

    Returns
    -------
    The same with its wiper at ground; None where it has no volume pot.

    Examples
    --------
    >>> turned_down(Active(1_000.0)) is None
    True
    >>> turned_down(Magnetic((Coil(2.4, 6_000.0, 110e-12),))).controls.volume_ratio
    0.0
    """
    if not isinstance(circuit, (Magnetic, Active)) or circuit.controls.volume_ohm is None:
        return None
    return replace(circuit, controls=replace(circuit.controls, volume_ratio=0.0))
