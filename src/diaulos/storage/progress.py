"""What was trained: a plain list on the person's computer, newest last."""

from __future__ import annotations

import functools
from pathlib import Path

from pydantic import Field, TypeAdapter, ValidationError

from diaulos.errors import DiaulosError, StorageError
from diaulos.rig.model import Frozen, Word
from diaulos.storage.beside import read_regular, write_failed, write_whole

MOST_BYTES = 8 * 1024 * 1024
MOST = 5_000


class Trained(Frozen):
    """One exercise that was finished: when, which, by which seed, and what came of it."""

    at: Word
    exercise: Word
    seed: int = Field(ge=0, le=2**53)
    figure: float | None = None
    unit: Word = ""
    words: Word = ""


@functools.cache
def _list() -> TypeAdapter[tuple[Trained, ...]]:
    return TypeAdapter(tuple[Trained, ...])


class ProgressFile:
    """The list. A file that cannot be read is left as it is: nothing is added to it."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def all(self) -> tuple[Trained, ...]:
        """What is in it; nothing where there is none, or it cannot be read."""
        try:
            return _list().validate_json(read_regular(self.path, MOST_BYTES))
        except (OSError, DiaulosError, ValidationError):
            return ()

    def add(self, one: Trained) -> None:
        """One more. StorageError where it cannot be kept, or what is there cannot be read."""
        known = self.all()
        if not known and self.path.exists() and self.path.stat().st_size > len("[]\n"):
            raise StorageError(
                "what was trained so far cannot be read; nothing was added.", where=str(self.path),
                remedy="Move the file away: a new one is begun.",
            )  # fmt: skip
        kept = (*known, one)[-MOST:]
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise write_failed(self.path, error) from error
        write_whole(self.path, _list().dump_json(kept, indent=1))
