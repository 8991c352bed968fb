"""What starts a course: an instrument's circuit and how hard it is played.

A session's instruments are handed in by whoever asks (`RigGraph(rig, sources)`); a rig by
itself has representative ones.
"""

from __future__ import annotations

from dataclasses import dataclass

from diaulos.circuit.pickup import Active, Coil, InstrumentCircuit, Magnetic, Piezo

INSTRUMENT = "instrument"
"""The kind of device that stands for an instrument of the session."""


@dataclass(frozen=True)
class PlayedSource:
    """An instrument as a rig sees it. `emf_peak_dbu` is the loudest peak of its EMF, in dBu
    of a sine; `known` is False while that is representative."""

    name: str
    circuit: InstrumentCircuit
    emf_peak_dbu: float
    family: str = "guitar"
    known: bool = False

    @property
    def active(self) -> bool:
        """Buffered: its output drives a low impedance."""
        return isinstance(self.circuit, Active)

    @property
    def piezo(self) -> bool:
        """A capacitor as a source."""
        return isinstance(self.circuit, Piezo)


REPRESENTATIVE: dict[str, PlayedSource] = {
    "guitar": PlayedSource("Guitar", Magnetic((Coil(2.4, 6_000.0, 110e-12),)), 2.0),
    "bass": PlayedSource("Bass", Active(1_000.0), 4.0, "bass"),
    "piezo": PlayedSource("Piezo", Piezo(1e-9), 2.0, "piezo"),
}
"""Representative, from memory."""
