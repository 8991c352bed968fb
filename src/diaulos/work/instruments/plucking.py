"""A simulated player with a tuner: one string after another, a little out of tune."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load
from diaulos.rig.bench import through_input
from diaulos.rig.course import source_of
from diaulos.rig.model import Rig
from diaulos.session.instrument import Instrument, note_to_midi
from diaulos.session.model import Session
from diaulos.signal.strings import Note, StringCharacter, render_notes, ring_notes
from diaulos.units import dbu_to_peak_volt
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.rendering import PLAYER_LOAD, recorded_gain

Real = NDArray[np.float64]


GUITAR = ("E2", "A2", "D3", "G3", "B3", "E4")


BASS = ("E1", "A1", "D2", "G2")
"""Where nobody said which instrument it is."""


PLUCK_S = 1.6


PLUCK_DBU = -8.0


OPEN_S, REST_S = 1.2, 0.5
"""Between two plucks of open strings; ahead of the first."""


DETUNED_CENTS = 7.0
"""How far a simulated player's strings are off before tuning (standard deviation)."""


FRETTED_CENTS = 4.0


def plucks_of(
    instrument: Instrument, load: Load, rate_hz: float, seconds: float, seed: int
) -> Real:
    """Every open string again and again, plucked by hand, as an input of this load receives it, in
    volts: no pluck at the place, with the force or as bright as the one before."""
    rng = np.random.default_rng(seed)
    names = instrument.strings or (BASS if instrument.family == "bass" else GUITAR)
    frames, step = round(seconds * rate_hz), round(OPEN_S * rate_hz)
    emf = np.zeros(frames)
    usual = StringCharacter()
    for at, first in enumerate(range(round(REST_S * rate_hz), frames - step, step)):
        if at % (len(names) + 1) == len(names):
            continue  # a rest between two rounds
        character = StringCharacter(
            pluck_at=float(np.clip(rng.normal(usual.pluck_at, 0.02), 0.08, 0.3)),
            brightness_hz=usual.brightness_hz * float(np.exp(rng.normal(0.0, 0.15))),
        )
        force = float(np.clip(rng.normal(0.7, 0.1), 0.3, 1.0))
        midi = note_to_midi(names[at % (len(names) + 1)]) + rng.normal(0.0, DETUNED_CENTS) / 100.0
        note = Note(0.0, OPEN_S - 0.05, midi, force)
        emf[first : first + step] += ring_notes(
            [note], rate_hz, step / rate_hz, character, int(rng.integers(1 << 31))
        )[:step]
    up = instrument.controls.model_copy(update={"volume_knob": 10.0, "tone_knob": 10.0})
    whole = Load.together(instrument.cable, load)
    volts = through_input(emf, instrument.circuit(up), whole, rate_hz)
    alone = Load.together(instrument.cable, PLAYER_LOAD)
    jack = through_input(emf[: 8 * step], instrument.circuit(up), alone, rate_hz)
    return volts * (dbu_to_peak_volt(PLUCK_DBU) / float(np.max(np.abs(jack))))


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
