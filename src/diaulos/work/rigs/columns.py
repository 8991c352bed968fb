"""Which stations of a course become columns, and where their levels lie on one axis in dBu."""

from __future__ import annotations

from collections.abc import Iterator

from diaulos.records import dataclass
from diaulos.rig.levels.diagram import LevelDiagram, Station

MOVED_DB = 1.0


@dataclass(frozen=True)
class Column:
    """A station on the common axis: a level in its own unit plus `offset_db` is in dBu."""

    station: Station
    offset_db: float

    def height(self, level: float) -> float:
        """A level of the station on the axis."""
        return level + self.offset_db

    @property
    def title(self) -> tuple[str, str]:
        """Device and place, in two lines."""
        name = self.station.place.name
        device, _, place = name.partition(": " if ": " in name else ", ")
        return device, place


def columns_of(diagram: LevelDiagram, *, everything: bool = False) -> tuple[Column, ...]:
    """The stations worth a column: those that move the level, can clip before the one ahead of
    them does, or have a control; all of them when asked."""
    found: list[Column] = []
    for column in _placed(diagram):
        if everything or not found or _tells(column, found[-1]):
            found.append(column)
    return tuple(found)


def _placed(diagram: LevelDiagram) -> Iterator[Column]:
    """In the digital part the converter's full scale joins the two scales."""
    stations = diagram.stations
    scales = [station.place.full_scale_dbu for station in stations]
    known = next((scale for scale in scales if scale is not None), 0.0)
    for station, scale in zip(stations, scales, strict=True):
        known = scale if scale is not None else known
        yield Column(station, known if station.unit == "dBFS" else 0.0)


def _tells(column: Column, before: Column) -> bool:
    one, other = column.station, before.station
    if one.controls or one.unit != other.unit or one.place.key.endswith(".converter"):
        return True
    moved = abs(column.height(one.peak) - before.height(other.peak)) > MOVED_DB
    tighter = one.headroom_db is not None and (
        other.headroom_db is None or one.headroom_db < other.headroom_db - MOVED_DB
    )
    return moved or tighter
