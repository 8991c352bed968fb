"""Instruments as data: pickups, selector positions, controls, cable, strength, trim.

Values are representative (from memory) until a person replaces them by measured ones.
`circuit` turns an instrument into the source that `diaulos.circuit` works with.
"""

import math
import re
from typing import Annotated, Literal, Self

from pydantic import Field, StringConstraints, model_validator

from diaulos.circuit.loading import Load, level_db
from diaulos.circuit.pickup import Active, Coil, Controls, InstrumentCircuit, Magnetic, Piezo
from diaulos.errors import EditError
from diaulos.rig.model import Frozen, Prose, Word


def one_line(text: str, most: int = 200) -> str:
    """Foreign words (a file's name) as a name can hold them: control characters are spaces."""
    return "".join(c if c.isprintable() else " " for c in text)[:most].strip()


InsideFile = Annotated[
    str, StringConstraints(pattern=r"^(audio|impulses)/[A-Za-z0-9_][A-Za-z0-9._-]{0,120}$")
]
"""A file of the session: one level down, no way out of the folder."""
Ident = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9_]{0,40}$")]
Name = Annotated[
    str,
    StringConstraints(
        min_length=1, max_length=200, strip_whitespace=True, pattern=r"^[^\p{Cc}\p{Zl}\p{Zp}]*$"
    ),
]
Family = Literal["guitar", "baritone", "bass", "other", "piezo"]
Taper = Literal["linear", "audio"]
Wiring = Literal["single", "parallel", "series"]

FAMILY_WORDS: dict[str, str] = {
    "guitar": "Guitar",
    "baritone": "Baritone",
    "bass": "Bass",
    "other": "Other magnetic pickup",
    "piezo": "Piezo",
}
AUDIO_MIDDLE = 0.15
"""Electrical ratio of an audio taper with the knob in the middle (common practice, no source)."""


class CoilValues(Frozen):
    """A magnetic pickup."""

    kind: Literal["coil"] = "coil"
    inductance_h: float = Field(gt=0.0, le=100.0)
    resistance_ohm: float = Field(gt=0.0, le=1e6)
    winding_pf: float = Field(ge=0.0, le=1e5)
    eddy_ohm: float | None = Field(default=None, gt=0.0, le=1e9)


class ActiveValues(Frozen):
    """A pickup or preamp with a buffer."""

    kind: Literal["active"] = "active"
    output_ohm: float = Field(gt=0.0, le=1e6)
    max_dbu: float = Field(default=8.0, ge=-40.0, le=40.0)
    noise_dbu: float = Field(default=-98.0, ge=-160.0, le=0.0)


class PiezoValues(Frozen):
    """A piezo element without a buffer."""

    kind: Literal["piezo"] = "piezo"
    capacitance_pf: float = Field(gt=0.0, le=1e6)
    max_dbu: float = Field(default=10.0, ge=-40.0, le=40.0)
    noise_dbu: float = Field(default=-110.0, ge=-160.0, le=0.0)


PickupValues = Annotated[CoilValues | ActiveValues | PiezoValues, Field(discriminator="kind")]


class Pickup(Frozen):
    """One pickup. `measured` is False while its values are representative."""

    id: Ident
    name: Name
    type: Word = ""
    values: PickupValues
    measured: bool = False


class Position(Frozen):
    """A position of the selector: which pickups, wired how."""

    id: Ident
    name: Name
    pickups: tuple[Ident, ...] = Field(min_length=1, max_length=2)
    wiring: Wiring = "single"


class ControlValues(Frozen):
    """Volume and tone pots with their knobs (0 to 10). An ohm of None: no such pot."""

    volume_ohm: float | None = Field(default=500e3, gt=0.0, le=1e8)
    volume_taper: Taper = "audio"
    volume_knob: float = Field(default=10.0, ge=0.0, le=10.0)
    tone_ohm: float | None = Field(default=500e3, gt=0.0, le=1e8)
    tone_taper: Taper = "audio"
    tone_knob: float = Field(default=10.0, ge=0.0, le=10.0)
    tone_nf: float = Field(default=22.0, ge=0.0, le=1e4)
    tone_at: Literal["hot", "wiper"] = "hot"
    bleed_pf: float = Field(default=0.0, ge=0.0, le=1e6)
    bleed_ohm: float | None = Field(default=None, gt=0.0, le=1e8)
    bleed_topology: Literal["parallel", "series"] = "parallel"

    def circuit(self) -> Controls:
        """The knobs as electrical ratios."""
        return Controls(
            volume_ohm=self.volume_ohm,
            volume_ratio=wiper_ratio(self.volume_knob, self.volume_taper),
            tone_ohm=self.tone_ohm,
            tone_f=self.tone_nf * 1e-9,
            tone_fraction=wiper_ratio(self.tone_knob, self.tone_taper),
            tone_at=self.tone_at,
            bleed_f=self.bleed_pf * 1e-12,
            bleed_ohm=self.bleed_ohm,
            bleed_topology=self.bleed_topology,
        )


def wiper_ratio(knob: float, taper: Taper) -> float:
    """Electrical ratio of a knob at 0 to 10: linear, or an audio taper in two straight lines."""
    turn = min(1.0, max(0.0, knob / 10.0))
    if taper == "linear":
        return turn
    if turn <= 0.5:
        return turn / 0.5 * AUDIO_MIDDLE
    return AUDIO_MIDDLE + (turn - 0.5) / 0.5 * (1.0 - AUDIO_MIDDLE)


class StrengthReading(Frozen):
    """How hard an instrument hits an input, from one recording of hard playing.

    `spread_db` is between the strongest and the weakest of the hard strums in it. Levels in
    dBu follow from `full_scale_dbu`; None when nobody knows it.
    """

    position_id: Ident
    label: Word
    made_at: Word
    peak_dbfs: float
    true_peak_dbtp: float
    loudest_400ms_dbfs: float
    decay_s: float | None = None
    spread_db: float | None = None
    strums: int = Field(default=0, ge=0)
    clipped_samples: int = Field(default=0, ge=0)
    flat_tops: int = Field(default=0, ge=0)
    full_scale_dbu: float | None = None
    file: InsideFile | None = None
    """Its loudest seconds: what levels are planned by."""
    volume_knob: float | None = Field(default=None, ge=0.0, le=10.0)
    tone_knob: float | None = Field(default=None, ge=0.0, le=10.0)
    """Where the knobs stood; None where nobody noted it: as they stand now."""

    @property
    def peak_dbu(self) -> float | None:
        """Peak in dBu of a sine, None without a calibration."""
        return None if self.full_scale_dbu is None else self.peak_dbfs + self.full_scale_dbu


class IntonationReading(Frozen):
    """One string: the open note against the one at the twelfth fret, its octave."""

    string: int = Field(ge=1, le=18)
    """Counted from the highest, as players do."""
    note: Word
    open_hz: float = Field(gt=0.0, le=20_000.0)
    fretted_hz: float = Field(gt=0.0, le=40_000.0)
    made_at: Word

    @property
    def cents(self) -> float:
        """How sharp the twelfth fret is of the open string's octave:
        1200 log2(fretted / (2 open))."""
        return 1200.0 * math.log2(self.fretted_hz / (2.0 * self.open_hz))


NOTE = re.compile(r"^([A-G])([#b]?)(-?\d)$")
_SEMITONES = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}


def note_to_midi(name: str) -> int:
    """MIDI number of a note such as E2 or F#3; ValueError for what is none."""
    found = NOTE.match(name)
    if found is None:
        raise ValueError(f"{name!r} is not a note; write it like E2, F#3 or Bb1")
    sharp = {"": 0, "#": 1, "b": -1}[found[2]]
    return 12 * (int(found[3]) + 1) + _SEMITONES[found[1]] + sharp


class Instrument(Frozen):
    """A guitar or bass with its circuit, its usual cable, its strength and its trim."""

    id: Ident
    name: Name
    family: Family = "guitar"
    notes: Prose = ""
    strings: tuple[str, ...] = Field(default=(), max_length=18)
    pickups: tuple[Pickup, ...] = Field(default=(), max_length=6)
    positions: tuple[Position, ...] = Field(default=(), max_length=12)
    position_id: Word = ""
    controls: ControlValues = ControlValues()
    cable_m: float = Field(default=3.0, ge=0.0, le=1000.0)
    cable_pf_per_m: float = Field(default=100.0, ge=0.0, le=10_000.0)
    strength: tuple[StrengthReading, ...] = ()
    trim_db: float = Field(default=0.0, ge=-60.0, le=60.0)
    keep_hot: bool = False
    intonation: tuple[IntonationReading, ...] = Field(default=(), max_length=18)
    """The newest check of each string; no later stage repairs what it shows."""

    @model_validator(mode="after")
    def _whole(self) -> Self:
        pickups = {pickup.id for pickup in self.pickups}
        if len(pickups) != len(self.pickups):
            raise ValueError("two pickups have the same id")
        for position in self.positions:
            missing = set(position.pickups) - pickups
            if missing:
                raise ValueError(f"position {position.name} names no pickup of this instrument")
            coils = [p.values.kind for p in self.pickups if p.id in position.pickups]
            if len(position.pickups) > 1 and set(coils) != {"coil"}:
                raise ValueError(f"position {position.name}: only coils can be wired together")
        if self.positions and self.position_id not in {p.id for p in self.positions}:
            raise ValueError(f"position_id {self.position_id!r} is not one of the positions")
        for name in self.strings:
            note_to_midi(name)
        return self

    @property
    def position(self) -> Position | None:
        """The selector's position."""
        return next((p for p in self.positions if p.id == self.position_id), None)

    def pickup(self, pickup_id: str) -> Pickup:
        """The pickup of this id; EditError when there is none."""
        for pickup in self.pickups:
            if pickup.id == pickup_id:
                return pickup
        raise EditError(f"{self.name} has no pickup {pickup_id!r}.")

    @property
    def active(self) -> bool:
        """Whether the chosen position is buffered."""
        position = self.position
        if position is None:
            return False
        return self.pickup(position.pickups[0]).values.kind == "active"

    @property
    def measured(self) -> bool:
        """Whether every pickup of the chosen position has measured values."""
        position = self.position
        return position is not None and all(self.pickup(p).measured for p in position.pickups)

    @property
    def cable(self) -> Load:
        """The usual cable as a load."""
        return Load(farad=self.cable_m * self.cable_pf_per_m * 1e-12)

    def circuit(self, controls: ControlValues | None = None) -> InstrumentCircuit:
        """The chosen position as a source; EditError while it has no pickup."""
        position = self.position
        if position is None:
            raise EditError(
                f"{self.name} has no pickup yet.", remedy="Choose a pickup type for it."
            )
        values = [self.pickup(ident).values for ident in position.pickups]
        knobs = (controls or self.controls).circuit()
        first = values[0]
        if isinstance(first, ActiveValues):
            return Active(first.output_ohm, knobs)
        if isinstance(first, PiezoValues):
            return Piezo(first.capacitance_pf * 1e-12)
        coils = tuple(
            Coil(v.inductance_h, v.resistance_ohm, v.winding_pf * 1e-12, v.eddy_ohm)
            for v in values
            if isinstance(v, CoilValues)
        )
        return Magnetic(coils, knobs, position.wiring)

    @property
    def reading(self) -> StrengthReading | None:
        """The strongest reading at the chosen position; calibrated ones come first."""
        here = [r for r in self.strength if r.position_id == self.position_id]
        known = [r for r in here if r.full_scale_dbu is not None] or here
        return max(
            known, key=lambda r: r.peak_dbfs if r.peak_dbu is None else r.peak_dbu, default=None
        )

    def circuit_at(self, reading: StrengthReading) -> InstrumentCircuit:
        """The chosen position with the knobs as they stood for a reading."""
        noted = {
            name: knob
            for name in ("volume_knob", "tone_knob")
            if (knob := getattr(reading, name)) is not None
        }
        return self.circuit(self.controls.model_copy(update=noted))

    @property
    def turned_db(self) -> float:
        """How much louder at 1 kHz it is, through its cable into a tone stage's 1 M, than its
        reading says: its knobs were turned since."""
        reading = self.reading
        if reading is None or self.position is None:
            return 0.0
        load = Load.together(self.cable, Load(1e6, 50e-12))
        now, then = self.circuit(), self.circuit_at(reading)
        return level_db(now, load, 1000.0) - level_db(then, load, 1000.0) if now != then else 0.0

    @property
    def max_dbu(self) -> float | None:
        """The most that an active or piezo source puts out, None for a coil."""
        position = self.position
        values = self.pickup(position.pickups[0]).values if position else None
        return values.max_dbu if isinstance(values, (ActiveValues, PiezoValues)) else None

    @property
    def noise_dbu(self) -> float | None:
        """What a buffered or piezo source adds of its own, None for a coil."""
        position = self.position
        values = self.pickup(position.pickups[0]).values if position else None
        return values.noise_dbu if isinstance(values, (ActiveValues, PiezoValues)) else None


class ComparedInput(Frozen):
    """An input that an instrument is looked at into; `beside` is a second one in parallel."""

    name: Name
    ohm: float = Field(gt=0.0, le=1e9)
    pf: float = Field(default=0.0, ge=0.0, le=1e6)
    beside_ohm: float | None = Field(default=None, gt=0.0, le=1e9)
    beside_pf: float = Field(default=0.0, ge=0.0, le=1e6)

    @property
    def load(self) -> Load:
        """Both inputs as one load, without the cable."""
        own = Load(self.ohm, self.pf * 1e-12)
        if self.beside_ohm is None:
            return own
        return Load.together(own, Load(self.beside_ohm, self.beside_pf * 1e-12))


class ToneStage(Frozen):
    """The device that all instruments are to drive alike: its input trim, pad, impedances.

    `full_scale_dbu` is the sine that reaches 0 dBFS in it with trim 0 and the pad off.
    """

    name: Name = "Floor modeler"
    trim_minimum_db: float = Field(default=-18.0, ge=-60.0, le=0.0)
    trim_maximum_db: float = Field(default=18.0, ge=0.0, le=60.0)
    trim_step_db: float = Field(default=1.0, gt=0.0, le=12.0)
    full_scale_dbu: float = Field(default=12.0, ge=-40.0, le=60.0)
    pad_db: float = Field(default=10.0, ge=0.0, le=60.0)
    pad_on: bool = False
    impedances_ohm: tuple[float, ...] = (10e3, 47e3, 100e3, 220e3, 470e3, 1e6, 2.2e6, 10e6)
    impedance_ohm: float = Field(default=1e6, gt=0.0, le=1e9)
    input_pf: float = Field(default=50.0, ge=0.0, le=1e6)

    def nearest_trim(self, wanted_db: float) -> float:
        """The trim in the device's own steps that is closest, inside its range."""
        inside = min(self.trim_maximum_db, max(self.trim_minimum_db, wanted_db))
        steps = round((inside - self.trim_minimum_db) / self.trim_step_db)
        stepped = self.trim_minimum_db + steps * self.trim_step_db
        return round(min(self.trim_maximum_db, stepped), 6)


class Tone(Frozen):
    """Settings of the tone stage or amplifier, and with what they were made."""

    id: Ident
    name: Name
    voice: Word
    drive: float
    bass: float
    mid: float
    treble: float
    master_db: float
    cabinet: Word
    instrument_id: Word = ""
    trim_db: float = 0.0
    pad_on: bool = False
    pad_db: float | None = Field(default=None, ge=0.0, le=60.0)
    """What that pad takes off; None: as the stage's does now."""
    instrument_name: Word = ""
    peak_dbu: float | None = Field(default=None, ge=-80.0, le=60.0)
    """The instrument's loudest peak then; None: as it is measured now."""
    pickup: Word = ""
    input_ohm: float | None = Field(default=None, gt=0.0, le=1e9)
    """Input impedance that it was made with."""
