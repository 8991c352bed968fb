"""What the Levels view says of a course: verdict, instruction, and the data for the shell."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from diaulos.errors import DiaulosError
from diaulos.records import dataclass
from diaulos.rig.catalogue.types import TYPES
from diaulos.rig.levels.diagram import LevelDiagram, Station
from diaulos.rig.levels.settings import CourseSetting
from diaulos.rig.levels.solve import Aim, Setup, Solution
from diaulos.rig.model import PortRef
from diaulos.tables import TextTable
from diaulos.units import LOWEST_DB
from diaulos.work.rigs.levels import CourseLevels
from diaulos.work.rigs.solving import Solved


@dataclass(frozen=True)
class Verdict:
    """A course in three lines, and what to do at two metres' distance."""

    clips_first: str
    noise_set_by: str
    change: str
    figure: str
    instruction: str
    good: bool


# --- in words ---


def verdict(diagram: LevelDiagram, solved: Solved | None, aim: Aim) -> Verdict:
    """A course in three lines: clips first, noise set by, change to make."""
    first = diagram.first_clip
    noise = diagram.noise_set_by
    clips = "Nothing on this course has a clip point."
    if first is not None and first.headroom_db is not None:
        clips = f"{first.place.name}, {_room_words(first.headroom_db)}"
    quiet = "Nothing that is known."
    if not diagram.course.conversions:
        quiet = "Nothing: it is numbers all the way."
    if noise is not None:
        quiet = (
            f"{noise.words}: {db(diagram.snr_db)} under the loudest peak ({db(diagram.snr_a_db)} A)"
        )
    figure, away = _figure(diagram, aim)
    change, instruction, good = _change_words(diagram, solved, away)
    return Verdict(clips, quiet, change, figure, instruction, good)


def db(value: float) -> str:
    """A difference with its unit, the minus sign as such."""
    return f"{value:.1f} dB".replace("-", "−")


def _room_words(headroom_db: float) -> str:
    if headroom_db < 0.0:
        return f"clips by {db(-headroom_db)}"
    return f"{db(headroom_db)} of headroom"


def _figure(diagram: LevelDiagram, aim: Aim) -> tuple[str, float | None]:
    try:
        station = diagram.converter
    except DiaulosError:
        return "no converter", None
    level = station.peak if aim.statistic == "peak" else station.typical
    return f"{level:.1f} dBFS".replace("-", "−"), level - aim.target_dbfs


def _change_words(
    diagram: LevelDiagram, solved: Solved | None, away: float | None
) -> tuple[str, str, bool]:
    if away is None or (solved is not None and solved.problem is not None):
        problem = solved.problem if solved is not None else None
        words = str(problem) if problem is not None else "This course has no converter."
        return words, "no level to set", False
    if solved is None or solved.solution is None:
        return f"{db(abs(away))} {'above' if away > 0 else 'below'} the target.", "", False
    solution = solved.solution
    changes_ = solution.changes
    if solved.swapped is not None:
        box = TYPES[solved.swapped[1]].name
        old = next(leg.device.name for leg in diagram.course.legs
                   if leg.device.id == solved.swapped[0])  # fmt: skip
        rest = "".join(f"\n{one.words} to {one.value_words(v)}" for one, v in changes_[:3])
        return f"{box} in place of {old}{rest}", f"use the {box}", False
    if not changes_:
        if solved.obstacle is not None:
            return _freed_words(solved), "change the rig", False
        return "None: this is the best that its steps allow.", "leave it", True
    words = "\n".join(
        f"{one.words} from {one.value_words(one.value)} to {one.value_words(value)}"
        for one, value in changes_[:3]
    )
    if len(changes_) > 3:
        words += f"\n{len(changes_) - 3} more"
    if solved.obstacle is not None:
        words += f"\nStill: {solved.obstacle.words}"
    return words, _instruction(changes_), False


def _freed_words(solved: Solved) -> str:
    assert solved.obstacle is not None
    if solved.freeings:
        return f"{solved.obstacle.words} {solved.freeings[0].words}"
    return solved.obstacle.words


def _instruction(changes_: tuple[tuple[CourseSetting, float | str], ...]) -> str:
    """One thing to do, as it is called across a room."""
    gains = [
        (one, float(value) - float(one.value))
        for one, value in changes_
        if one.setting.kind == "control"
    ]
    switches = [(one, value) for one, value in changes_ if one.setting.kind == "choice"]
    if switches:
        one, value = switches[0]
        return f"{one.setting.name}: {one.value_words(value)}"
    one, step = gains[-1]
    return f"{one.setting.name} {'up' if step > 0 else 'down'} {abs(step):g} dB"


# --- for scripts ---


STATION_HEAD = (
    "station", "unit", "peak", "typical", "ceiling", "headroom_db", "noise", "noise_a",
)  # fmt: skip


def stations_table(stations: Iterable[Station]) -> TextTable:
    """Every station of a course with its figures."""
    rows = []
    for one in stations:
        ceiling = "" if one.ceiling is None else f"{one.ceiling:.2f}"
        room = "" if one.headroom_db is None else f"{one.headroom_db:.2f}"
        rows.append(
            (one.place.name, one.unit, f"{one.peak:.2f}", f"{one.typical:.2f}", ceiling, room,
             f"{one.noise:.2f}", f"{one.noise_a:.2f}")
        )  # fmt: skip
    return TextTable(STATION_HEAD, tuple(rows))


def station_data(station: Station) -> dict[str, Any]:
    """A station for JSON: figures in its own unit."""
    tail = "dbfs" if station.unit == "dBFS" else "dbu"
    data: dict[str, Any] = {
        "name": station.place.name,
        f"peak_{tail}": round(station.peak, 3),
        f"typical_{tail}": round(station.typical, 3),
        f"ceiling_{tail}": station.ceiling,
        f"noise_{tail}": _noise_figure(station.noise),
        f"noise_a_{tail}": _noise_figure(station.noise_a),
        "headroom_db": None if station.headroom_db is None else round(station.headroom_db, 3),
        "full_scale_dbu": station.place.full_scale_dbu,
        "controls": [
            {
                "device": one.device_name,
                "control": one.setting.name,
                "id": str(one.ref),
                "value": one.value,
                "locked": one.kept == "locked",
                "kept": one.kept or None,
            }
            for one in station.controls
        ],
    }
    return data


def _noise_figure(level: float) -> float | None:
    return round(level, 2) if level > LOWEST_DB else None


def levels_data(
    courses: tuple[CourseLevels, ...], solved: Mapping[PortRef, Solved] | None = None
) -> list[dict[str, Any]]:
    """Every course for JSON."""
    rows = []
    for one in courses:
        row: dict[str, Any] = {"name": one.name, "track": str(one.track)}
        if one.diagram is None:
            row |= {"planned_peak_dbfs": None, "planned_typical_dbfs": None, "playing": None,
                    "stations": [], "first_clip": None, "noise_set_by": None, "snr_db": None,
                    "snr_a_db": None, "noise_budget": [], "reason": str(one.problem)}  # fmt: skip
        else:
            row |= _diagram_data(one.diagram)
        if solved is not None:
            row["solved"] = _solved_data(solved.get(one.track))
        rows.append(row)
    return rows


def _diagram_data(diagram: LevelDiagram) -> dict[str, Any]:
    first, noise = diagram.first_clip, diagram.noise_set_by
    return {
        "planned_peak_dbfs": diagram.track.peak,
        "planned_typical_dbfs": diagram.track.typical,
        "playing": diagram.playing,
        "stations": [station_data(station) for station in diagram.stations],
        "first_clip": None
        if first is None
        else {"name": first.place.name, "headroom_db": round(first.headroom_db or 0.0, 3)},
        "noise_set_by": None
        if noise is None
        else {"name": noise.words, "dbfs": round(noise.dbfs, 2)},
        "snr_db": round(diagram.snr_db, 2) if noise is not None else None,
        "snr_a_db": round(diagram.snr_a_db, 2) if noise is not None else None,
        "noise_budget": [
            {
                "name": s.words,
                "kind": s.kind,
                "dbfs": round(s.dbfs, 2),
                "dbfs_a": round(s.dbfs_a, 2),
            }
            for s in diagram.budget
        ],
        "reason": None,
    }


def _solved_data(solved: Solved | None) -> dict[str, Any] | None:
    if solved is None:
        return None
    solution = solved.solution
    if solution is None:
        return {"settings": [], "second_best": None, "left_over_db": None, "works": False,
                "in_the_way": None, "frees": [], "reason": str(solved.problem)}  # fmt: skip
    return {
        "other_di": None
        if solved.swapped is None
        else {"device": solved.swapped[0], "type": solved.swapped[1]},
        "settings": _settings_data(solution, solution.best),
        "peak_dbfs": round(solution.best.peak_dbfs, 3),
        "second_best": None
        if solution.second is None
        else {
            "settings": _settings_data(solution, solution.second),
            "peak_dbfs": round(solution.second.peak_dbfs, 3),
        },
        "left_over_db": round(solution.left_db, 3),
        "headroom_missing_db": round(solution.best.short_db, 1),
        "works": solution.works,
        "in_the_way": solved.obstacle.words if solved.obstacle else None,
        "frees": [one.words for one in solved.freeings],
        "reason": None,
    }


def _settings_data(solution: Solution, setup: Setup) -> list[dict[str, Any]]:
    return [
        {
            "device": one.device_name,
            "control": one.setting.name,
            "id": str(one.ref),
            "value": setup.values.get(one.ref, one.value),
            "before": one.value,
            "kept": one.kept or None,
        }
        for one in solution.settings
    ]
