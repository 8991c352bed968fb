"""A DI with its input's load undone, as a take of its own."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import EditError
from diaulos.records import dataclass
from diaulos.rig.model import Rig
from diaulos.session.edits import Edit, add_take
from diaulos.session.model import (
    Session,
    Take,
)
from diaulos.work.blocks import write_all
from diaulos.work.measuring import finite_or_none, measure_blocks
from diaulos.work.ports import (
    CancelToken,
    Clock,
    FileNotes,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.takes.importing import next_take_number
from diaulos.work.takes.unload import undo_for, unloaded


@dataclass(frozen=True)
class UnloadedTake:
    """A corrected DI as a take of its own, and the edit that adds it."""

    take: Take
    edit: Edit
    words: str


def store_unloaded(
    session: Session,
    take: Take,
    rig: Rig,
    *,
    store: SessionStore,
    clock: Clock,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> UnloadedTake:
    """Write a take's DI with its load undone as a new take; the first one stays as it is."""
    cancel = cancel or CancelToken()
    if take.di is None:
        raise EditError(f"{take.name} has no dry DI.", remedy="Choose a take with one.")
    undo = undo_for(session, take, take.di, rig)
    source = unloaded(store.open_audio(take.di.file), undo)
    number = next_take_number(session, store)
    name, file = f"{take.name}, load undone"[:200], f"audio/t{number:04d}_k01.wav"
    now = clock()
    notes = FileNotes(
        description=f"{session.name}; {name}; {undo.words}",
        made_at=now,
        time_reference=take.time_reference,
        history=f"load undone: {undo.words}",
    )
    sink = store.create_audio(file, source.rate_hz, 1, "float", notes)

    def told() -> Iterator[NDArray[np.float32]]:
        done = 0
        for block in source.blocks():
            cancel.check()
            yield block[:, :1]
            done += block.shape[0]
            progress(min(1.0, done / source.frames), "Undoing the load")

    write_all(sink, told())
    levels = measure_blocks(store.open_audio(file).blocks(), source.rate_hz, 1)
    track = take.di.model_copy(
        update={
            "file": file,
            "load_ohm": undo.wanted.ohm,
            "load_pf": undo.wanted.farad * 1e12,
            "peak_dbfs": max(levels.peak_dbfs, -200.0),
            "loudness_lufs": finite_or_none(levels.loudness.lufs),
        }
    )
    made = take.model_copy(
        update={
            "id": f"t{number:04d}", "name": name, "tracks": (track,), "passes": (),
            "notes": f"Load undone: {undo.words}",
        }
    )  # fmt: skip
    edit = add_take(made)
    return UnloadedTake(made, Edit(f"Undo the load of {take.name}", edit), undo.words)
