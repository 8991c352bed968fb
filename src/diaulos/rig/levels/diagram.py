"""The level diagram of a course: every station with floor, signal and ceiling, what clips
first, what sets the noise, and how far the two are apart.

Peaks and typical levels are those of the instrument's excerpt as it is played. The noise is
over 20 Hz to 20 kHz while nobody plays.
"""

from __future__ import annotations

import math
from dataclasses import replace

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.course import Course
from diaulos.rig.elements import (
    BAND_A,
    BAND_HZ,
    FLAT,
    Curve,
    Element,
    Gain,
    Knob,
    NoiseSource,
    Place,
    Read,
    Real,
    elements_of,
    flat_density,
    last_that_bends,
)
from diaulos.rig.levels.settings import CourseSetting, settings_on
from diaulos.rig.playing import Line, playing_words, start_of
from diaulos.units import LOWEST_DB


@dataclass(frozen=True)
class Station:
    """One column of the diagram. `peak` is the loudest, `typical` the RMS of the loudest 400 ms;
    levels are in `unit` (dBu, or dBFS in the digital part)."""

    place: Place
    peak: float
    typical: float
    noise: float
    noise_a: float
    controls: tuple[CourseSetting, ...] = ()

    @property
    def unit(self) -> str:
        """dBu or dBFS."""
        return self.place.unit

    @property
    def ceiling(self) -> float | None:
        """Where it clips, in `unit`."""
        return self.place.ceiling

    @property
    def headroom_db(self) -> float | None:
        """From the loudest peak to the ceiling, negative where it clips; None without one."""
        return None if self.ceiling is None else self.ceiling - self.peak


@dataclass(frozen=True)
class NoiseShare:
    """What one source of noise amounts to in the recorded track, in dBFS."""

    words: str
    kind: str
    device: str
    dbfs: float
    dbfs_a: float


@dataclass(frozen=True)
class LevelDiagram:
    """A course from end to end. What a station cuts off is not met behind it; the last
    converter and what comes behind show what would arrive."""

    course: Course
    stations: tuple[Station, ...]
    budget: tuple[NoiseShare, ...]
    """The loudest first."""
    source_peak: float
    known: bool
    """False while the loudness of the instrument is representative."""

    @property
    def playing(self) -> str:
        """What is played in the plan, in words."""
        return playing_words(self.course)

    @property
    def track(self) -> Station:
        """The last station."""
        return self.stations[-1]

    @property
    def converter(self) -> Station:
        """The last converter on the way; RigError without one."""
        for station in reversed(self.stations):
            if station.place.key.endswith(".converter"):
                return station
        raise no_converter(self.course)

    @property
    def first_clip(self) -> Station | None:
        """The station with the least headroom; None where nothing has a ceiling. A played
        track's own numbers are what its send makes of them."""
        known = [s for s in self.stations[self._sent :] if s.headroom_db is not None]
        # The digital stations behind a converter only repeat what it says.
        return min(known, key=lambda s: round(s.headroom_db or 0.0, 6), default=None)

    @property
    def _sent(self) -> int:
        """How many stations at the start are a played track still in numbers."""
        if self.course.source is not None:
            return 0
        return next((i for i, s in enumerate(self.stations) if s.unit == "dBu"), 0)

    @property
    def noise_set_by(self) -> NoiseShare | None:
        """The loudest noise in the track."""
        return self.budget[0] if self.budget else None

    @property
    def snr_db(self) -> float:
        """From the noise to the loudest peak (not above full scale) in the track."""
        return min(0.0, self.track.peak) - self.track.noise

    @property
    def snr_a_db(self) -> float:
        """The same with the noise A-weighted."""
        return min(0.0, self.track.peak) - self.track.noise_a

    def station(self, key: str) -> Station | None:
        """The station of a place."""
        return next((s for s in self.stations if s.place.key == key), None)


def no_converter(course: Course) -> RigError:
    """The error of a course on which nothing becomes numbers.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    The error.
    """
    return RigError(
        "There is no converter on this course: nothing turns the signal into numbers.",
        where=str(course.track),
        remedy="Record through an interface, or plug the course's digital source into one.",
    )


def dither_dbfs(bits: int) -> float:
    """Noise of a fixed-point file with TPDF dither: 3/12 LSB squared, re a full-scale sine.

    Parameters
    ----------
    bits
        Bits of the file's samples, 8 to 32; None for floats.

    Returns
    -------
    dBFS RMS after AES17.
    """
    return -20.0 * math.log10(2.0 ** (bits - 1) / math.sqrt(2.0) / math.sqrt(3.0 / 12.0))


def level_diagram(course: Course, bits: int | None = None, *, held: bool = True) -> LevelDiagram:
    """The diagram of a course; `bits` is the word length of the file, None for float.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    bits
        Bits of the file's samples, 8 to 32; None for floats.
    held
        False: as if nothing clipped, which is how the solver adds gains up.

    Returns
    -------
    Stations with floor, ceiling, peak, typical level and noise.

    Raises
    ------
    RigError
        Where nothing becomes numbers.
    """
    row = list(elements_of(course))
    if bits is not None:
        words = f"dither of {bits} bits"
        dither = NoiseSource(words, "dither", course.track.device, flat_density(dither_dbfs(bits)))
        row.insert(len(row) - 1, dither)
    line = start_of(course)
    stations, noises = _run(row, line, held)
    stations = _with_controls(_with_start(course, stations), settings_on(course))
    budget = tuple(sorted(_shares(noises), key=lambda share: -share.dbfs))
    known = course.source is None or course.source.known
    return LevelDiagram(course, stations, budget, line.peak, known)


def _run(row: list[Element], line: Line, held: bool) -> tuple[tuple[Station, ...], list[_Heard]]:
    noises: list[_Heard] = []
    stations: list[Station] = []
    last = max((i for i, e in enumerate(row) if _is_converter(e)), default=-1)
    free = last_that_bends(row)
    for index, element in enumerate(row):
        if isinstance(element, Gain):
            line = line.through(element)
            for noise in noises:
                noise.through(element.power)
        elif isinstance(element, Knob):
            line = line.raised(element.db)
            for noise in noises:
                noise.through(10.0 ** (element.db / 10.0) * FLAT)
        elif isinstance(element, Curve):
            line = line.driven(element)
            for noise in noises:
                noise.through(element.idle)
        elif isinstance(element, NoiseSource):
            noises.append(_Heard(element))
        else:
            place = element.place
            if element.shown:
                if index > last:
                    place = replace(place, before_converter=False)
                flat = _level(sum(noise.power(BAND_HZ) for noise in noises))
                weighted = _level(sum(noise.power(BAND_A) for noise in noises))
                stations.append(Station(place, line.peak, line.typical, flat, weighted))
            if held and index < free:
                line = line.held(place.ceiling)
    return tuple(stations), noises


def _is_converter(element: Element) -> bool:
    return isinstance(element, Read) and element.converter


class _Heard:
    """A noise on its way: its density so far."""

    def __init__(self, source: NoiseSource) -> None:
        self.source = source
        self.density: Real = source.density

    def through(self, power: Real) -> None:
        self.density = self.density * power

    def power(self, band: Real) -> float:
        """All of it in a band."""
        return float(self.density @ band)


def _shares(noises: list[_Heard]) -> list[NoiseShare]:
    found = []
    for noise in noises:
        level = _level(noise.power(BAND_HZ))
        if level > LOWEST_DB:
            weighted = _level(noise.power(BAND_A))
            one = noise.source
            found.append(NoiseShare(one.words, one.kind, one.device, level, weighted))
    return found


def _level(power: float) -> float:
    return float(10.0 * math.log10(power)) if power > 1e-30 else LOWEST_DB


def _with_start(course: Course, stations: tuple[Station, ...]) -> tuple[Station, ...]:
    """An instrument clips at its own most; a played track stands at the start."""
    source, start = course.source, course.legs[0]
    assert start.exit is not None
    if source is None:
        line = start_of(course)
        place = Place(
            key=f"0.{start.exit.id}",
            name=f"{start.device.name}: {start.exit.name}",
            device=start.device.id,
            device_name=start.device.name,
            leg=0,
            unit="dBFS",
            ceiling=0.0,
            port=start.exit.id,
        )
        return (Station(place, line.peak, line.typical, LOWEST_DB, LOWEST_DB), *stations)
    first = stations[0]
    named = replace(first.place, name=source.name)
    return (replace(first, place=named), *stations[1:])


def _with_controls(
    stations: tuple[Station, ...], settings: tuple[CourseSetting, ...]
) -> tuple[Station, ...]:
    """Every control at the station that it moves: a gain behind the input, a switch at the
    port that it changes."""
    found = list(stations)
    for setting in settings:
        legs = [i for i, s in enumerate(found) if s.place.leg == setting.leg]
        if not legs:
            continue
        at = legs[0] if setting.at_entry else legs[-1]
        found[at] = replace(found[at], controls=(*found[at].controls, setting))
    return tuple(found)
