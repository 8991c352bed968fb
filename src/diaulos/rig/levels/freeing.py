"""What is in the way where no setting works, and which change of the rig would free it.

Every proposal is worked out: the rig is changed, the course solved again, and only what then
works is named.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import replace

from diaulos.errors import DiaulosError
from diaulos.records import dataclass
from diaulos.rig.course import Course, trace
from diaulos.rig.levels.diagram import LevelDiagram, Station, level_diagram
from diaulos.rig.levels.solve import Aim, Solution, solve, unlocked
from diaulos.rig.mending import insert_between
from diaulos.rig.model import Cable, Control, Rig, SignalClass

ANALOG = (SignalClass.INSTRUMENT, SignalClass.MIC, SignalClass.LINE)


MOST = 3
"""Ways out that are worked out: each is a rig solved anew."""


@dataclass(frozen=True)
class Obstacle:
    """The station that keeps a course from its target, and in what way."""

    station: Station
    words: str
    too_loud: bool


@dataclass(frozen=True)
class Freeing:
    """A change that frees a course, and what it then reaches."""

    words: str
    rig: Rig
    solution: Solution


def obstacle(solution: Solution) -> Obstacle | None:
    """What stands in the way of a course; None where its setup works.

    Parameters
    ----------
    solution
        What the solver found.

    Returns
    -------
    What it is, or None.
    """
    if solution.works:
        return None
    diagram = level_diagram(solution.solved())
    if solution.best.key[0] > 0:
        station = _tightest(diagram)
        room = station.headroom_db or 0.0
        state = f"clips by {-room:.1f} dB" if room < 0.0 else f"has {room:.1f} dB of headroom"
        return Obstacle(
            station,
            f"{station.place.name} {state} with every gain that may be turned at its least.",
            True,
        )
    converter = diagram.converter
    loud = solution.left_db > 0.0
    side = "above" if loud else "below"
    ends = [
        f"{one.words} is at its {'least' if loud else 'most'}"
        for one in solution.settings
        if not one.kept and _at_end(one.setting, solution.best.values.get(one.ref), loud)
    ]
    kept = [f"{one.words} stays ({one.kept})" for one in solution.settings if one.kept]
    reason = "; ".join(ends or kept or ["nothing on this course can be turned"])
    words = f"{converter.place.name} stays {abs(solution.left_db):.1f} dB {side} the target: "
    return Obstacle(converter, f"{words}{reason}.", loud)


def _at_end(setting: object, value: float | str | None, least: bool) -> bool:
    if not isinstance(setting, Control) or value is None:
        return False
    end = setting.minimum if least else setting.maximum
    return abs(float(value) - end) < setting.step / 2.0


def _tightest(diagram: LevelDiagram) -> Station:
    ahead = [
        station
        for station in diagram.stations
        if station.headroom_db is not None and station.place.before_converter
    ]
    return min(ahead, key=lambda station: station.headroom_db or 0.0)


def freeings(solution: Solution) -> tuple[Freeing, ...]:
    """The changes that make a course work, those that only turn something first.

    Parameters
    ----------
    solution
        What the solver found.

    Returns
    -------
    Changes that work, the smallest first.
    """
    found = obstacle(solution)
    if found is None:
        return ()
    course = solution.course
    works = []
    for words, rig, other, softer_db in _proposals(solution, found):
        source = course.source
        if softer_db and source is not None:
            source = replace(source, emf_peak_dbu=source.emf_peak_dbu - softer_db)
        try:
            new = trace(course.graph.of(rig), course.track)
            solved = solve(replace(new, source=source), other)
        except DiaulosError:
            continue
        if solved.works or _better(solved, solution):
            works.append(Freeing(_told(words, solved), rig, solved))
        if len(works) == MOST:
            break
    return tuple(works)


def _better(one: Solution, than: Solution) -> bool:
    """Whether a change is no answer yet but removes clipping ahead of the converter."""
    return than.best.key[0] > 0 and one.best.key[0] == 0 and abs(one.left_db) <= 3.0


def _told(words: str, solved: Solution) -> str:
    turned = ", ".join(f"{one.words} {one.value_words(value)}" for one, value in solved.changes[:3])
    reached = f"peak {solved.best.peak_dbfs:.1f} dBFS"
    return f"{words} Then {turned + ': ' if turned else ''}{reached}."


def _proposals(solution: Solution, found: Obstacle) -> Iterator[tuple[str, Rig, Aim, float]]:
    """(words, rig, aim, how much softer the instrument is then)."""
    course, aim = solution.course, solution.aim
    rig = course.rig
    locked = [one for one in solution.settings if one.kept == "locked"]
    if locked:
        names = ", ".join(one.words for one in locked)
        yield f"Take the lock off {names}.", rig, unlocked(aim), 0.0
    for words, change in _boxes(course, found):
        try:
            yield words, change(rig), aim, 0.0
        except DiaulosError:
            continue
    short = solution.best.short_db
    if short > 0.0 and course.source is not None:
        softer = float(math.ceil(short))
        yield (
            f"Turn the volume of {course.source.name} down by {softer:g} dB, or play softer.",
            rig,
            aim,
            softer,
        )
    # The slowest to work out, and the last that one would want.
    tone = [one for one in solution.settings if one.kept.startswith("ahead of the amplifier")]
    if tone and not aim.free_tone:
        names = ", ".join(one.words for one in tone)
        words = f"Turn what stands ahead of the amplifier ({names}): it changes the drive."
        yield words, rig, replace(aim, free_tone=True), 0.0


def _boxes(course: Course, found: Obstacle) -> Iterator[tuple[str, Callable[[Rig], Rig]]]:
    """Boxes in the last analog cable ahead of the station in the way."""
    cable, source, target = _cable_ahead(course, found.station)
    if cable is None:
        return
    place = found.station.place.device_name
    ident = cable.id
    if found.too_loud:
        if source is SignalClass.SPEAKER:
            yield (
                f"Put an attenuator between the amplifier and {place}, on speaker cable.",
                lambda rig: insert_between(rig, ident, "attenuator", "attenuator",
                                           "speaker", "line"),
            )  # fmt: skip
        elif source is SignalClass.INSTRUMENT and target is not SignalClass.INSTRUMENT:
            yield (
                f"Put a DI box ahead of {place}.",
                lambda rig: insert_between(rig, ident, "passive_di", "di", "in", "out"),
            )
        if source in ANALOG and target is not SignalClass.INSTRUMENT:
            # A pad would load a pickup and starve a pedal: only into line and microphone.
            yield (
                f"Put a 20 dB pad ahead of {place}.",
                lambda rig: insert_between(rig, ident, "inline_pad", "pad", "in", "out"),
            )
    elif source in ANALOG:
        yield (
            f"Put a microphone preamp ahead of {place}.",
            lambda rig: insert_between(rig, ident, "mic_preamp", "preamp", "in", "out"),
        )


def _cable_ahead(
    course: Course, station: Station
) -> tuple[Cable | None, SignalClass | None, SignalClass | None]:
    for index in range(min(station.place.leg, len(course.legs) - 1), 0, -1):
        leg, entry = course.legs[index - 1], course.legs[index].entry
        if leg.cable is None or leg.exit is None or entry is None:
            continue
        if leg.exit.signal_class in (*ANALOG, SignalClass.SPEAKER):
            return leg.cable, leg.exit.signal_class, entry.signal_class
    return None, None, None
