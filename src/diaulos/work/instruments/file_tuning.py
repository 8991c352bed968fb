"""A recorded string tuned: the shell's view of the tuner."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from diaulos.errors import EditError
from diaulos.session.instrument import Instrument, note_to_midi
from diaulos.signal.pitch import Pitch, find_pitch, nearest_note, nearest_string

TUNINGS: dict[str, tuple[str, ...]] = {
    "standard": ("E2", "A2", "D3", "G3", "B3", "E4"),
    "drop-d": ("D2", "A2", "D3", "G3", "B3", "E4"),
    "dadgad": ("D2", "A2", "D3", "G3", "A3", "D4"),
    "open-g": ("D2", "G2", "D3", "G3", "B3", "D4"),
    "half-down": ("D#2", "G#2", "C#3", "F#3", "A#3", "D#4"),
    "baritone-b": ("B1", "E2", "A2", "D3", "F#3", "B3"),
    "guitar7": ("B1", "E2", "A2", "D3", "G3", "B3", "E4"),
    "guitar7-a": ("A1", "E2", "A2", "D3", "G3", "B3", "E4"),
    "guitar8": ("F#1", "B1", "E2", "A2", "D3", "G3", "B3", "E4"),
    "bass": ("E1", "A1", "D2", "G2"),
    "bass-d": ("D1", "A1", "D2", "G2"),
    "bass5": ("B0", "E1", "A1", "D2", "G2"),
    "bass5-dropped": ("A0", "E1", "A1", "D2", "G2"),
    "bass5-c": ("E1", "A1", "D2", "G2", "C3"),
    "bass6": ("B0", "E1", "A1", "D2", "G2", "C3"),
}
"""Tunings by name; note names after equal temperament."""


# --- pitch ---


@dataclass(frozen=True)
class Tuned:
    """A note against the closest note, or the closest string of a tuning."""

    pitch: Pitch
    note: str
    wanted_hz: float
    cents: float


def tune(samples: np.ndarray, rate_hz: float, strings: tuple[str, ...] = (),
         a4_hz: float = 440.0) -> Tuned:  # fmt: skip
    """The pitch of a recorded note; RefusedError where none is heard."""
    pitch = find_pitch(samples, rate_hz)
    if strings:
        near = nearest_string(pitch.hz, tuple(note_to_midi(name) for name in strings), a4_hz)
    else:
        near = nearest_note(pitch.hz, a4_hz)
    return Tuned(pitch, near.note, near.wanted_hz, near.cents)


def tuning_named(name: str, instruments: tuple[Instrument, ...] = ()) -> tuple[str, ...]:
    """The strings of a tuning or of an instrument; EditError when there is none."""
    if name in TUNINGS:
        return TUNINGS[name]
    for one in instruments:
        if name in (one.id, one.name) and one.strings:
            return one.strings
    raise EditError(f"There is no tuning {name!r}.", remedy=f"Known: {', '.join(TUNINGS)}.")
