"""What starts a course: an instrument's circuit and how hard it is played.

A session's instruments are handed in by whoever asks (`RigGraph(rig, sources)`); a rig by
itself has representative ones.
"""

from __future__ import annotations

from diaulos.circuit.loading import Load, level_db
from diaulos.circuit.pickup import Active, Coil, InstrumentCircuit, Magnetic, Piezo
from diaulos.records import dataclass
from diaulos.rig.excerpt import GUITAR_STRINGS, USUAL_STRINGS, Excerpt
from diaulos.rig.model import Device

USUAL_CREST_DB = 12.0
"""From the loudest peak of hard playing to its RMS; representative, from memory."""

JACK_LOAD = Load(1e6, 350e-12)
"""An input of 1 MΩ behind three metres of cable: what a loudest peak is meant into."""
INSTRUMENT = "instrument"
"""The kind of device that stands for an instrument of the session."""


@dataclass(frozen=True)
class PlayedSource:
    """An instrument as a rig sees it. `emf_peak_dbu` is the loudest peak of its EMF, in dBu
    of a sine, by the peak at the jack and the load's gain at 1 kHz; `known` is False while that
    is representative. `crest_db` is how far the RMS of its loud playing lies below that peak,
    `crest_known` whether somebody measured it; `max_dbu` and `noise_dbu` are those of a
    buffered source, None for a coil."""

    name: str
    circuit: InstrumentCircuit
    emf_peak_dbu: float
    family: str = "guitar"
    known: bool = False
    crest_db: float = USUAL_CREST_DB
    max_dbu: float | None = None
    noise_dbu: float | None = None
    strings: tuple[int, ...] = GUITAR_STRINGS
    """Open strings as midi numbers, for the simulated player."""
    jack_load: Load = JACK_LOAD
    """What its loudest peak was measured into."""
    tone: bool = False
    """A generator: a steady sine stands for its playing."""
    crest_known: bool = False
    excerpt: Excerpt | None = None
    """A stored strum or take of it; None: the simulated player's."""

    @property
    def jack_peak_dbu(self) -> float:
        """Its loudest peak at the jack, into `jack_load`."""
        return self.emf_peak_dbu + level_db(self.circuit, self.jack_load, 1_000.0)

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
    "bass": PlayedSource(
        "Bass",
        Active(1_000.0),
        4.0,
        "bass",
        max_dbu=8.0,
        noise_dbu=-98.0,
        strings=USUAL_STRINGS["bass"],
    ),
    # What sounds in the air: 0 dBu stands for 1 Pa at 1 m, so a peak of 100 dB there is 6 dB.
    "voice": PlayedSource("Voice", Active(1.0), 6.0, "voice", strings=(45, 50, 55, 57)),
    "acoustic": PlayedSource("Acoustic guitar", Active(1.0), 2.0, "acoustic"),
    "piezo": PlayedSource("Piezo", Piezo(1e-9), 2.0, "piezo", max_dbu=10.0, noise_dbu=-110.0),
}
"""Representative, from memory."""


def representative_of(device: Device) -> PlayedSource:
    """What a device stands for that names no instrument of the session."""
    family = device.word("family") if device.has_setting("family") else "guitar"
    return REPRESENTATIVE.get(family, REPRESENTATIVE["guitar"])
