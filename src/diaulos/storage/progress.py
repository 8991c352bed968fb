"""What was trained: a plain list on the person's computer, newest last."""

from __future__ import annotations

from pathlib import Path

from pydantic import Field, TypeAdapter, ValidationError

from diaulos.errors import DiaulosError
from diaulos.rig.model import Frozen, Word
from diaulos.storage.beside import read_regular, write_whole

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


_LIST = TypeAdapter(tuple[Trained, ...])


class ProgressFile:
    """The list. A file that cannot be read is left as it is, and nothing is added to it."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def all(self) -> tuple[Trained, ...]:
        """What is in it; nothing where there is none, or it cannot be read."""
        try:
            return _LIST.validate_json(read_regular(self.path, MOST_BYTES))
        except (OSError, DiaulosError, ValidationError):
            return ()

    def add(self, one: Trained) -> None:
        """One more. StorageError where it cannot be kept."""
        if self.path.exists() and not self.all() and self.path.stat().st_size > 4:
            return
        kept = (*self.all(), one)[-MOST:]
        self.path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(self.path, _LIST.dump_json(kept, indent=1))
