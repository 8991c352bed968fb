"""Low cut by part and tuning: where it may lie, and what it costs every open string."""

from __future__ import annotations

from dataclasses import dataclass

from diaulos.errors import InputError
from diaulos.session.instrument import note_to_midi
from diaulos.session.tunings import TUNINGS, Tuning, tuning_called
from diaulos.signal.lowcut import low_cut_db, proposed_corner_hz
from diaulos.signal.pitch import midi_hz

PARTS: dict[str, int] = {"rhythm": 0, "low": 0, "lead": 2, "high": 3}
"""How many of the lowest strings a part leaves alone; representative."""


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
    strings = [(note, midi_hz(note_to_midi(note), a4_hz)) for note in tuning.strings]
    left = min(PARTS.get(part, 0), len(strings) - 1)
    lowest = sorted(strings, key=lambda one: one[1])[left]
    corner = proposed_corner_hz(lowest[1]) if corner_hz is None else corner_hz
    costs = tuple(StringCost(note, hz, -low_cut_db(hz, corner)) for note, hz in strings)
    return Proposed(tuning, part, lowest[0], corner, costs)
