"""Tunings: one table for instruments, tuner and shell. Note names after equal temperament, the
lowest string first."""

from __future__ import annotations

from diaulos.records import dataclass


@dataclass(frozen=True)
class Tuning:
    """Open strings, their name for scripts and for a person."""

    id: str
    words: str
    strings: tuple[str, ...]


def _tuning(ident: str, words: str, strings: str) -> Tuning:
    return Tuning(ident, words, tuple(strings.split()))


_ALL = (
    _tuning("standard", "Guitar, standard", "E2 A2 D3 G3 B3 E4"),
    _tuning("drop-d", "Guitar, drop D", "D2 A2 D3 G3 B3 E4"),
    _tuning("dadgad", "Guitar, D A D G A D", "D2 A2 D3 G3 A3 D4"),
    _tuning("open-g", "Guitar, open G", "D2 G2 D3 G3 B3 D4"),
    _tuning("half-down", "Guitar, a semitone down", "D#2 G#2 C#3 F#3 A#3 D#4"),
    _tuning("guitar7", "Guitar, seven strings", "B1 E2 A2 D3 G3 B3 E4"),
    _tuning("guitar7-a", "Guitar, seven strings, low A", "A1 E2 A2 D3 G3 B3 E4"),
    _tuning("guitar8", "Guitar, eight strings", "F#1 B1 E2 A2 D3 G3 B3 E4"),
    _tuning("baritone-b", "Baritone, B standard", "B1 E2 A2 D3 F#3 B3"),
    _tuning("baritone-a", "Baritone, drop A", "A1 E2 A2 D3 F#3 B3"),
    _tuning("bass", "Bass, four strings", "E1 A1 D2 G2"),
    _tuning("bass-d", "Bass, low D", "D1 A1 D2 G2"),
    _tuning("bass5", "Bass, five strings", "B0 E1 A1 D2 G2"),
    _tuning("bass5-dropped", "Bass, five strings, dropped", "A0 E1 A1 D2 G2"),
    _tuning("bass5-c", "Bass, five strings, high C", "E1 A1 D2 G2 C3"),
    _tuning("bass6", "Bass, six strings", "B0 E1 A1 D2 G2 C3"),
)
TUNINGS: dict[str, Tuning] = {one.id: one for one in _ALL}
"""Tunings by id, in the order in which they are shown."""


def tuning_called(name: str) -> Tuning | None:
    """A tuning by its id or its words; None where there is none."""
    return TUNINGS.get(name) or next((one for one in _ALL if one.words == name), None)
