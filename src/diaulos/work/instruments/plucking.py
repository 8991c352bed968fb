"""A simulated player with a tuner: one string after another, a little out of tune."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.rig.course import source_of
from diaulos.rig.model import Rig
from diaulos.session.instrument import note_to_midi
from diaulos.session.model import Session
from diaulos.signal.strings import Note, StringCharacter, render_notes
from diaulos.units import dbu_to_peak_volt
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.rendering import PLAYER_LOAD, recorded_gain

Real = NDArray[np.float64]


GUITAR = ("E2", "A2", "D3", "G3", "B3", "E4")


BASS = ("E1", "A1", "D2", "G2")
"""Where nobody said which instrument it is."""


PLUCK_S = 1.6


PLUCK_DBU = -8.0


DETUNED_CENTS = 7.0
"""How far a simulated player's strings are off before tuning (standard deviation)."""


FRETTED_CENTS = 4.0


def plucked_volts(
    session: Session, rig: Rig, source: str, frets: tuple[int, ...], seed: int
) -> tuple[Real, Callable[[Real], Real]]:
    """The same player who plucks one string after another, from the lowest, each at every one
    of the frets: a little out of tune, as strings are."""
    device = rig.device(source)
    ident = device.word("instrument") if device.has_setting("instrument") else ""
    chosen = next((one for one in session.instruments if one.id == ident), None)
    played = source_of(rig_graph(session, rig), device)
    assert played is not None
    usual = BASS if played.family == "bass" else GUITAR
    names = chosen.strings if chosen is not None and chosen.strings else usual
    rng = np.random.default_rng(seed)
    notes: list[Note] = []
    for name in names:
        off = rng.normal(0.0, DETUNED_CENTS)
        for fret in frets:
            cents = off + (rng.normal(0.0, FRETTED_CENTS) if fret else 0.0)
            start = 0.2 + PLUCK_S * len(notes)
            midi = note_to_midi(name) + fret + cents / 100.0
            notes.append(Note(start, PLUCK_S - 0.15, midi, 0.8))
    rate = float(session.sample_rate_hz)
    emf = render_notes(notes, rate, 0.2 + PLUCK_S * len(notes), StringCharacter(), seed)
    return emf * dbu_to_peak_volt(PLUCK_DBU), recorded_gain(played, PLAYER_LOAD)
