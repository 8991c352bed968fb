"""Microphone places held against a reference place: octaves, the top, and the way in air."""

from __future__ import annotations

import math

import numpy as np

from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.session.compared import MicPlace
from diaulos.units import metres_to_ms
from diaulos.work.compare.intotime import distance_of_samples
from diaulos.work.compare.pairs import Pair, Spectrum

OCTAVES_HZ = tuple(62.5 * 2.0**step for step in range(9))
TOP_HZ = 3_000.0
"""Centre and edge of a cone part above it (common practice, no source)."""
HIGHEST_HZ = 12_000.0
PLAYED_DB = -50.0
"""Re the loudest octave of the reference: where there is less, noise would be compared."""
EDGE, CENTRE = 0.8, 0.2
ANGLE_DEG = 5.0
NEAR_M = 0.01
LOWS_HZ = 250.0


@dataclass(frozen=True)
class OctaveStep:
    """How much more B has in an octave than A, at equal loudness; None where A has nothing."""

    hz: float
    db: float | None


@dataclass(frozen=True)
class PlaceFigures:
    """One place against the reference: by octave, above 3 kHz, and how much farther away it is by
    its delay (None without a common time)."""

    octaves: tuple[OctaveStep, ...]
    top_db: float | None
    farther_m: float | None


def octave_steps(spectrum: Spectrum) -> tuple[OctaveStep, ...]:
    """B re A by octave, at equal loudness."""
    cuts = [
        (spectrum.hz >= hz / 2.0**0.5) & (spectrum.hz < hz * 2.0**0.5) for hz in OCTAVES_HZ
    ]  # fmt: skip
    mine = [_power(spectrum.a_db[cut]) for cut in cuts]
    loudest = max(mine)
    return tuple(
        OctaveStep(hz, 10.0 * float(np.log10(_power(spectrum.b_db[cut]) / own)))
        if own > loudest * 10.0 ** (PLAYED_DB / 10.0)
        else OctaveStep(hz, None)
        for hz, cut, own in zip(OCTAVES_HZ, cuts, mine, strict=True)
    )


def octave_name(hz: float) -> str:
    """An octave by its nominal centre: 62.5 Hz is called 63."""
    return f"{hz / 1000.0:g} kHz" if hz >= 1000.0 else f"{math.floor(hz + 0.5)} Hz"


def place_figures(pair: Pair) -> PlaceFigures | None:
    """What another place does; None where one of the two is silent."""
    spectrum = pair.spectrum
    if spectrum is None:
        return None
    top = (spectrum.hz >= TOP_HZ) & (spectrum.hz < HIGHEST_HZ)
    farther = None
    if pair.found is not None:
        farther = distance_of_samples(pair.found.delay_samples, float(pair.rate_hz))
    mine, its = _power(spectrum.a_db[top]), _power(spectrum.b_db[top])
    there = mine > 0.0 and its > 0.0
    return PlaceFigures(
        octave_steps(spectrum), 10.0 * float(np.log10(its / mine)) if there else None, farther
    )


def own_lag_m(found: PlaceFigures) -> float:
    """How far a place seems to be moved by its own tone: what takes the highs away holds the rest
    back by some hundredths of a millisecond (as a first-order corner does)."""
    if found.top_db is None:
        return 0.0
    lows = next((one.db for one in found.octaves if one.hz == LOWS_HZ), None) or 0.0
    times = math.sqrt(max(0.0, 10.0 ** (abs(found.top_db - lows) / 10.0) - 1.0))
    lag_ms = 1000.0 * times / (2.0 * math.pi * math.sqrt(2.0) * TOP_HZ)
    return lag_ms / metres_to_ms(1.0)


def _power(levels_db: np.ndarray) -> float:
    return float(np.sum(10.0 ** (levels_db / 10.0)))


def place_words(place: MicPlace) -> str:
    """A place as people say it; "" where nothing is known."""
    words = []
    if place.across is not None:
        if place.across <= CENTRE:
            words.append("centre")
        elif place.across >= EDGE:
            words.append("edge")
        else:
            words.append(f"{number(100.0 * place.across, 0)} % out")
    if place.angle_deg is not None and place.angle_deg >= ANGLE_DEG:
        words.append(f"{number(place.angle_deg, 0)}\N{DEGREE SIGN} off axis")
    if place.distance_m is not None:
        words.append(f"at {metres_words(place.distance_m)}")
    return ", ".join(words)


def metres_words(metres: float) -> str:
    """A distance: in cm below a metre."""
    if abs(metres) < 1.0:
        return f"{number(100.0 * metres, 0)} cm"
    return f"{number(metres, 0 if metres == round(metres) else 2)} m"


def two_places(a: MicPlace, b: MicPlace) -> tuple[str, str]:
    """Two places told apart: what both have in common is left out where something else is left."""
    words = place_words(a), place_words(b)
    if a.distance_m == b.distance_m:
        near = [place_words(one.model_copy(update={"distance_m": None})) for one in (a, b)]
        if all(near) and near[0] != near[1]:
            return near[0], near[1]
    return words


def figures_words(a: str, b: str, found: PlaceFigures) -> str:
    """In a sentence: "Centre to edge: -4.2 dB above 3 kHz; 29 cm farther." """
    told = []
    if found.top_db is not None:
        told.append(f"{number(found.top_db, 1, sign=True)} dB above 3 kHz")
    if found.farther_m is None:
        told.append("no common time")
    elif abs(found.farther_m) >= NEAR_M + own_lag_m(found):
        side = "farther" if found.farther_m > 0.0 else "nearer"
        told.append(f"{metres_words(abs(found.farther_m))} {side} by its delay")
    text = f"{a} to {b}: {'; '.join(told)}."
    return text[:1].upper() + text[1:]
