"""A recorded string tuned: the shell's view of the tuner."""

from __future__ import annotations

import numpy as np

from diaulos.errors import EditError
from diaulos.records import dataclass
from diaulos.session.instrument import Instrument, note_to_midi
from diaulos.session.tunings import TUNINGS, tuning_called
from diaulos.signal.pitch import Pitch, find_pitch, nearest_note, nearest_string

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
    known = tuning_called(name)
    if known is not None:
        return known.strings
    for one in instruments:
        if name in (one.id, one.name) and one.strings:
            return one.strings
    raise EditError(f"There is no tuning {name!r}.", remedy=f"Known: {', '.join(TUNINGS)}.")
