"""The views that exist, in working order. Adding one is its folder and its row here.

Read before the first paint: a view's module is imported when the view is first shown.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from diaulos.records import dataclass

if TYPE_CHECKING:
    from diaulos.app.view import View


@dataclass(frozen=True)
class ViewRow:
    """One view: its id, its title on the rail, its key, and how its class is found."""

    ident: str
    title: str
    key: str
    load: Callable[[], type[View]]


def _instruments() -> type[View]:
    from diaulos.app.views.instruments.view import InstrumentsView

    return InstrumentsView


def _rig() -> type[View]:
    from diaulos.app.views.rig.view import RigView

    return RigView


def _levels() -> type[View]:
    from diaulos.app.views.levels.view import LevelsView

    return LevelsView


def _takes() -> type[View]:
    from diaulos.app.views.takes.view import TakesView

    return TakesView


def _reamp() -> type[View]:
    from diaulos.app.views.reamp.view import ReampView

    return ReampView


def _compare() -> type[View]:
    from diaulos.app.views.compare.view import CompareView

    return CompareView


def _sheets() -> type[View]:
    from diaulos.app.views.sheets.view import SheetsView

    return SheetsView


VIEWS: tuple[ViewRow, ...] = (
    ViewRow("instruments", "Instruments", "Ctrl+1", _instruments),
    ViewRow("rig", "Rig", "Ctrl+2", _rig),
    ViewRow("levels", "Levels", "Ctrl+3", _levels),
    ViewRow("takes", "Takes", "Ctrl+4", _takes),
    ViewRow("reamp", "Reamp", "Ctrl+5", _reamp),
    ViewRow("compare", "Compare", "Ctrl+6", _compare),
    ViewRow("sheets", "Sheets", "Ctrl+7", _sheets),
)
FIRST = "reamp"
"""Shown when nothing is remembered."""
BARE = "instruments"
"""Shown while a session has no take yet: work begins there, whatever was on screen last."""
