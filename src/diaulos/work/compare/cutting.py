"""Low cut by part and tuning: where it may lie, and what it costs every open string."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.session.instrument import note_to_midi
from diaulos.session.model import Session
from diaulos.session.tunings import TUNINGS, Tuning, tuning_called
from diaulos.signal.lowcut import low_cut_db, proposed_corner_hz, share_below_db
from diaulos.signal.pitch import midi_hz

PARTS: dict[str, int] = {
    "rhythm": 0, "chords": 0, "riff": 0, "low": 0, "bass": 0, "lead": 2, "melody": 2, "solo": 2,
    "high": 3,
}  # fmt: skip
"""How many of the lowest strings a part leaves alone; representative."""
BELOW = 1.06
"""A semitone below a note nothing of it is left."""


@dataclass(frozen=True)
class StringCost:
    """An open string and what the low cut takes of its fundamental, in dB (positive)."""

    note: str
    hz: float
    loss_db: float


@dataclass(frozen=True)
class Proposed:
    """A corner for a tuning and a part, and what it costs."""

    tuning: Tuning
    part: str
    lowest: str
    corner_hz: float
    strings: tuple[StringCost, ...]


def propose_low_cut(
    tuning_name: str, part: str = "", a4_hz: float = 440.0, corner_hz: float | None = None
) -> Proposed:
    """The low cut for a tuning: below its lowest string, or below the lowest that a part plays."""
    tuning = tuning_called(tuning_name)
    if tuning is None:
        raise InputError(
            f"there is no tuning {tuning_name!r}.",
            where="tuning",
            remedy=f"Tunings: {', '.join(TUNINGS)}.",
        )
    if part and part not in PARTS:
        raise InputError(
            f"there is no part {part!r}.", where="part", remedy=f"Parts: {', '.join(PARTS)}."
        )
    lowest = _lowest(tuning.strings, a4_hz, PARTS.get(part, 0))
    corner = proposed_corner_hz(lowest[1]) if corner_hz is None else corner_hz
    return Proposed(tuning, part, lowest[0], corner, costs_of(tuning.strings, corner, a4_hz))


def costs_of(strings: Sequence[str], corner_hz: float, a4_hz: float) -> tuple[StringCost, ...]:
    """What a low cut takes of every open string."""
    found = []
    for note in strings:
        hz = midi_hz(note_to_midi(note), a4_hz)
        found.append(StringCost(note, hz, -low_cut_db(hz, corner_hz)))
    return tuple(found)


def _lowest(strings: Sequence[str], a4_hz: float, left_alone: int) -> tuple[str, float]:
    known = sorted(
        ((note, midi_hz(note_to_midi(note), a4_hz)) for note in strings), key=lambda one: one[1]
    )
    return known[min(left_alone, len(known) - 1)]


@dataclass(frozen=True)
class LowCutFor:
    """What is known ahead of a low cut of a recording: a proposal, and why."""

    strings: tuple[str, ...]
    a4_hz: float
    corner_hz: float
    words: str

    def costs(self, corner_hz: float) -> tuple[StringCost, ...]:
        """What a corner costs every open string; nothing where the strings are not known."""
        return costs_of(self.strings, corner_hz, self.a4_hz)


USUAL_HZ = 80.0


def low_cut_for(
    session: Session, take_id: str, samples: NDArray[np.floating], rate_hz: float
) -> LowCutFor:
    """A proposal by the strings of the instrument that a take was played on, and how much of the
    recording lies below its lowest note."""
    take = next((one for one in session.takes if one.id == take_id), None)
    known = next(
        (one for one in session.instruments if take is not None and one.id == take.instrument_id),
        None,
    )
    if known is None or not known.strings:
        below = share_below_db(samples, USUAL_HZ, rate_hz)
        return LowCutFor(
            (), session.a4_hz, USUAL_HZ,
            f"The instrument's strings are not known. {number(USUAL_HZ, 0)} to 90 Hz are usual for "
            "a guitar in standard tuning, less for baritone and bass (common practice); "
            f"{number(below, 0)} dB of the power lie below {number(USUAL_HZ, 0)} Hz.",
        )  # fmt: skip
    note, hz = _lowest(known.strings, session.a4_hz, 0)
    corner = proposed_corner_hz(hz)
    below = share_below_db(samples, hz / BELOW, rate_hz)
    return LowCutFor(
        known.strings, session.a4_hz, corner,
        f"{number(corner, 0)} Hz proposed: below {note} ({number(hz, 1)} Hz), the lowest string of "
        f"{known.name}. {number(below, 0)} dB of the power lie below that note.",
    )  # fmt: skip
