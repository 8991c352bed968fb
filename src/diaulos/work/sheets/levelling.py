"""The level sheet: every course drawn, its gains as they are, its figures planned and got."""

from __future__ import annotations

from diaulos.figures import LevelFigures, level, number
from diaulos.rig.levels.diagram import LevelDiagram
from diaulos.rig.levels.settings import CourseSetting
from diaulos.rig.states import setting_words
from diaulos.session.model import Session
from diaulos.units import LOWEST_DB
from diaulos.work.rigs.columns import Column, columns_of
from diaulos.work.rigs.levels import CourseLevels, aim_of, levels_of, target_band
from diaulos.work.rigs.stored import Stored
from diaulos.work.rigs.verdicts import verdict
from diaulos.work.sheets.model import DrawnColumn, Levels, Part, Rows, Window, Windows, Words


def level_parts(session: Session, rig_id: str, stored: Stored) -> tuple[Part, ...]:
    """For every course its diagram, its verdict, its gains and its stations."""
    got = _got(session, rig_id)
    found = levels_of(session, rig_id, stored)
    parts: list[Part] = [_summary(session, found, got)]
    played = dict.fromkeys(
        f"{one.name}: {one.diagram.playing}." for one in found if one.diagram is not None
    )
    if played:
        parts.append(Words("Played", tuple(played)))
    windows = _windows(session, found)
    if windows.windows:
        parts.append(windows)
    for one in found:
        if one.diagram is None:
            parts.append(Words(one.name, (str(one.problem),)))
            continue
        parts.append(drawn(session, one.name, one.diagram))
        parts.append(_gains(one.name, one.diagram))
        parts.append(_stations(one.name, one.diagram))
    return tuple(parts)


def _got(session: Session, rig_id: str) -> dict[str, float]:
    """Peaks of the latest take of this rig, by the name of its tracks."""
    rig = session.rig(rig_id)
    for take in reversed(session.takes):
        then = session.snapshots.get(take.rig_hash)
        if then is not None and then.id == rig.id:
            return {track.name: track.peak_dbfs for track in take.tracks}
    return {}


def _summary(session: Session, found: tuple[CourseLevels, ...], got: dict[str, float]) -> Rows:
    aim = aim_of(session)
    target = level(aim.target_dbfs, "dBFS")
    rows = []
    for one in found:
        if one.diagram is None:
            rows.append((one.name, target, "\N{EN DASH}", "\N{EN DASH}", str(one.problem), ""))
            continue
        told = verdict(one.diagram, None, aim)
        peak = got.get(one.name)
        rows.append(
            (
                one.name, target, told.figure,
                level(peak, "dBFS") if peak is not None else "\N{EN DASH}",
                told.clips_first, told.noise_set_by,
            )
        )  # fmt: skip
    statistic = "RMS" if aim.statistic == "rms" else "Peak"
    return Rows(
        "Courses", ("Course", f"{statistic} wanted", "Planned", "Got", "Clips first", "Noise"),
        tuple(rows), frozenset({1, 2, 3}), (2.2, 1.6, 1.6, 1.6, 2.8, 3.4),
        empty="The rig records nothing.",
    )  # fmt: skip


def _windows(session: Session, found: tuple[CourseLevels, ...]) -> Windows:
    """Every converter as the view Levels shows it."""
    band = target_band(aim_of(session))
    return Windows(
        "At the converters",
        tuple(
            Window(
                one.name, one.diagram.course.tap,
                LevelFigures("dBFS", one.diagram.track.noise, 0.0, one.diagram.track.peak,
                             one.diagram.track.typical, band),
            )
            for one in found
            if one.diagram is not None
        ),
    )  # fmt: skip


def _stations(name: str, diagram: LevelDiagram) -> Rows:
    rows = []
    for one in diagram.stations:
        ceiling, room = one.ceiling, one.headroom_db
        rows.append(
            (
                one.place.name, one.unit, number(one.peak), number(one.typical),
                "" if ceiling is None else number(ceiling), "" if room is None else number(room),
                number(one.noise) if one.noise > LOWEST_DB else "",
                number(one.noise_a) if one.noise_a > LOWEST_DB else "",
            )
        )  # fmt: skip
    return Rows(
        f"Stations of {name}",
        ("Station", "Unit", "Peak", "Typical", "Clips at", "Left, dB", "Noise", "Noise (A)"),
        tuple(rows), frozenset(range(2, 8)), (4.0, *[1.1] * 7),
    )  # fmt: skip


def _gains(name: str, diagram: LevelDiagram) -> Rows:
    settings: dict[tuple[str, str], CourseSetting] = {}
    for station in diagram.stations:
        for one in station.controls:
            settings.setdefault((one.ref.device, one.ref.setting), one)
    rows = tuple(
        (one.device_name, one.setting.name, setting_words(one.setting), one.kept)
        for one in settings.values()
    )
    return Rows(
        f"Gains of {name}", ("Device", "Control", "Stands at", "Left alone because"), rows,
        frozenset(), (3.0, 3.0, 1.6, 2.4), tick=True,
        empty="Nothing on this course has a gain.",
    )  # fmt: skip


def drawn(session: Session, name: str, diagram: LevelDiagram) -> Levels:
    """The diagram as it is on screen: the same stations on the same axis."""
    columns = columns_of(diagram)
    aim = aim_of(session)
    target = next(
        (
            column.height(aim.target_dbfs)
            for column in reversed(columns)
            if column.station.unit == "dBFS"
        ),
        None,
    )
    told = [f"{' '.join(one.title)}: {_figure(one)}, {_room(one)}" for one in columns]
    return Levels(
        f"Levels of {name}", diagram.course.tap, tuple(_drawn(one) for one in columns), target,
        "; ".join(told),
    )  # fmt: skip


def _drawn(column: Column) -> DrawnColumn:
    station = column.station
    device, place = column.title
    room = station.headroom_db
    return DrawnColumn(
        device,
        place,
        column.height(station.peak),
        column.height(station.typical),
        column.height(station.noise) if station.noise > LOWEST_DB else None,
        column.height(station.ceiling) if station.ceiling is not None else None,
        _figure(column),
        _room(column),
        room is not None and room < 0.0,
    )


def _figure(column: Column) -> str:
    return level(column.station.peak, column.station.unit)


def _room(column: Column) -> str:
    room = column.station.headroom_db
    if room is None:
        return "no clip point"
    return f"clips by {number(-room)} dB" if room < 0.0 else f"{number(room)} dB left"
