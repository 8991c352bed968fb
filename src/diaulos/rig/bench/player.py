"""A simulated player: strums an instrument as hard as in a take, volts at the input."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load
from diaulos.rig.bench.instrument import through_input
from diaulos.rig.excerpt import (
    APART_S,
    FORCE_SPREAD,
    PLANNED_CHORDS,
    PLANNED_SEED,
    RATE_HZ,
    REST_S,
    STRUMS,
    Excerpt,
    strummed,
)
from diaulos.rig.sources import PlayedSource
from diaulos.signal.strings import StringCharacter
from diaulos.units import dbu_to_peak_volt

Real = NDArray[np.float64]


def strum_volts(
    source: PlayedSource,
    load: Load,
    rate_hz: float,
    *,
    seed: int = PLANNED_SEED,
    chords: str = PLANNED_CHORDS,
    spread: float = FORCE_SPREAD,
    strings: StringCharacter | None = None,
    strums: int = STRUMS,
) -> Real:
    """Hard strums of an instrument, as an input of this load receives them, in volts: five in
    seven seconds, eight in ten.

    They are as strong as its loudest peak at the jack says; the load then takes what it takes.
    `chords`: one of `excerpt.CHORDS`. `spread` is how far
    the player's force varies (0 to 1). An instrument with a stored excerpt plays that, again and
    again.
    """
    if source.excerpt is not None:
        emf = _over_and_over(source.excerpt, rate_hz, REST_S + APART_S * (strums - 1))
    else:
        emf = strummed(source.strings, chords, seed, rate_hz, strums, spread, strings)
    jack = through_input(emf, source.circuit, source.jack_load, rate_hz)
    scale = dbu_to_peak_volt(source.jack_peak_dbu) / float(np.max(np.abs(jack)))
    return through_input(emf * scale, source.circuit, load, rate_hz)


FADE_S = 0.02


def _over_and_over(excerpt: Excerpt, rate_hz: float, length_s: float) -> Real:
    """A stored excerpt at another rate, repeated, each time with a short fade at both ends."""
    sound = excerpt.samples.astype(np.float64)
    if rate_hz != RATE_HZ:
        import scipy.signal

        common = math.gcd(round(rate_hz), round(RATE_HZ))
        sound = np.asarray(
            scipy.signal.resample_poly(sound, round(rate_hz) // common, round(RATE_HZ) // common)
        )
    fade = round(FADE_S * rate_hz)
    sound[:fade] *= np.linspace(0.0, 1.0, fade)
    sound[-fade:] *= np.linspace(1.0, 0.0, fade)
    lead = np.zeros(round(0.3 * rate_hz))
    once = np.concatenate([lead, sound])
    return np.resize(once, max(once.size, round(length_s * rate_hz)))
