"""Undo and redo: a list of sessions."""

from __future__ import annotations

from dataclasses import field

from diaulos.records import dataclass
from diaulos.session.edits import Edit
from diaulos.session.model import Session

MOST_STEPS = 500


@dataclass
class History:
    """The current session, and the ones before and after it.

    Sessions share everything that an edit did not touch, so that a step costs little.
    """

    current: Session
    _past: list[tuple[str, Session]] = field(default_factory=list)
    _future: list[tuple[str, Session]] = field(default_factory=list)
    _merging: str = ""

    def apply(self, edit: Edit, merge: str = "") -> Session:
        """Apply an edit; nothing changes when it raises.

        Edits of one `merge` key in a row are one step of undo: a knob that is being turned.
        """
        after = edit(self.current)
        if after == self.current:
            return self.current
        if not (merge and merge == self._merging and self._past):
            self._past.append((edit.label, self.current))
        self._merging = merge
        del self._past[:-MOST_STEPS]
        self._future.clear()
        self.current = after
        return after

    def replace(self, session: Session) -> None:
        """Another session in its place, with nothing to undo."""
        self.current = session
        self._past.clear()
        self._future.clear()

    def undo(self) -> Session:
        """One step back; stays when there is none."""
        self._merging = ""
        if self._past:
            label, before = self._past.pop()
            self._future.append((label, self.current))
            self.current = before
        return self.current

    def redo(self) -> Session:
        """One step forward again."""
        self._merging = ""
        if self._future:
            label, after = self._future.pop()
            self._past.append((label, self.current))
            self.current = after
        return self.current

    @property
    def undo_label(self) -> str:
        """What undo would undo, or ""."""
        return self._past[-1][0] if self._past else ""

    @property
    def redo_label(self) -> str:
        """What redo would do again, or ""."""
        return self._future[-1][0] if self._future else ""

    def steps_needing(self, files: set[str]) -> list[str]:
        """Undo and redo steps that would bring back one of these files."""
        return [
            label for label, session in (*self._past, *self._future) if session.used_files() & files
        ]

    def forget_steps(self) -> None:
        """Drop every step: what they would bring back is gone."""
        self._merging = ""
        self._past.clear()
        self._future.clear()
