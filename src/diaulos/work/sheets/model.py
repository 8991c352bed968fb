"""A sheet before it is laid out: its parts in order. PDF, HTML and CSV are made of the same parts,
so that a figure is the same everywhere."""

from __future__ import annotations

import re
from dataclasses import field, replace
from typing import Literal

from diaulos.figures import LevelFigures
from diaulos.records import dataclass

Kind = Literal["patch", "tracks", "levels", "recall", "tone", "compare", "session"]
KINDS: dict[Kind, str] = {
    "patch": "Patch sheet",
    "tracks": "Track sheet",
    "levels": "Level sheet",
    "recall": "Recall sheet",
    "tone": "Tone card",
    "compare": "What was compared",
    "session": "Session",
}


@dataclass(frozen=True)
class Rows:
    """A table. `right` are the columns of figures, `wide` the share of the width of each column
    (empty: all alike), `tick` whether each row has a box to tick; `empty` is said in its place
    where it has no rows."""

    title: str
    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    right: frozenset[int] = frozenset()
    wide: tuple[float, ...] = ()
    tick: bool = False
    empty: str = ""

    def by(self, head: str) -> Rows:
        """Sorted by a column, figures by their size; as it is where it has no such column."""
        if head not in self.head or not head:
            return self
        at = self.head.index(head)
        return replace(self, rows=tuple(sorted(self.rows, key=lambda row: _rank(row[at]))))


@dataclass(frozen=True)
class Notices:
    """Cautions, each with its title; they stand first."""

    title: str
    lines: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Words:
    """Lines of text under a title."""

    title: str
    lines: tuple[str, ...]


@dataclass(frozen=True)
class DrawnColumn:
    """A station of a course on a common axis in dBu; what it has no figure for is None. `peak` and
    `ceiling` are written in the station's own unit."""

    device: str
    place: str
    peak_dbu: float
    typical_dbu: float
    noise_dbu: float | None
    ceiling_dbu: float | None
    peak: str
    room: str
    clips: bool


@dataclass(frozen=True)
class Levels:
    """A level diagram: the stations of a course, and the target band of its converter. `tap` gives
    the line its colour and pattern; `words` tell the drawing to those who do not see it."""

    title: str
    tap: str
    columns: tuple[DrawnColumn, ...]
    target_dbu: float | None
    words: str


@dataclass(frozen=True)
class Window:
    """A level window: the figures of one place, under its name, in the tap's colour and mark."""

    name: str
    tap: str
    figures: LevelFigures


@dataclass(frozen=True)
class Windows:
    """Level windows beneath each other."""

    title: str
    windows: tuple[Window, ...]

    @property
    def words(self) -> str:
        """The same for those who do not see them."""
        return "; ".join(f"{one.name}: {one.figures.words()}" for one in self.windows)


def _rank(text: str) -> tuple[int, float, str]:
    """Figures by size ahead of words by their letters, what is empty at the end."""
    plain = text.replace("\N{MINUS SIGN}", "-").replace("\N{PLUS-MINUS SIGN}", "")
    found = re.match(r"[+-]?\d+(\.\d+)?", plain)
    if found is not None:
        return 0, float(found[0]), ""
    return (1, 0.0, text.casefold()) if text.strip("\N{EN DASH} ") else (2, 0.0, "")


Drawn = Levels | Windows
Part = Rows | Notices | Words | Levels | Windows


@dataclass(frozen=True)
class Sheet:
    """A sheet: what it is called, what it is of, when that was (an ISO date, so that the same
    session gives the same bytes), and its parts."""

    kind: Kind
    title: str
    under: str
    made_at: str
    parts: tuple[Part, ...]
    note: str = ""
    """What somebody wrote on it."""


@dataclass(frozen=True)
class Wanted:
    """What goes into a sheet. Names or ids, "" for what is usual; `parts` are titles of parts that
    are left out."""

    kind: Kind
    take: str = ""
    made: str = ""
    rig: str = ""
    tone: str = ""
    note: str = ""
    sort: str = ""
    """A head by which tables are sorted that have it."""
    without: frozenset[str] = field(default_factory=frozenset)
