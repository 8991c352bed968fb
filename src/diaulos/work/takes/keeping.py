"""A session saved, and its bin emptied, so that no moment of it can lose a take."""

from __future__ import annotations

from typing import Protocol

from diaulos.errors import StorageError
from diaulos.session.model import Session
from diaulos.work.takes.notes import RecordingStore


class KeepingStore(RecordingStore, Protocol):
    """A session's folder that can be saved to."""

    def save(self, session: Session) -> None:
        """Save atomically."""

    def delete_files(self, files: set[str]) -> None:
        """Delete audio for good."""

    def free_space(self) -> None:
        """Give up what can be worked out anew."""


def save_session(store: KeepingStore, session: Session) -> None:
    """Save. A note on a recording has done its work only when its take is in what was saved:
    those of recordings that were cut off and are not in it stay, and are offered again."""
    store.save(session)
    known = {take.id for take in (*session.takes, *session.take_bin)}
    for ident in store.recordings():
        if ident in known:
            store.forget_recording(ident)


def delete_binned(store: KeepingStore, session: Session, files: set[str]) -> Session:
    """Delete the files of an emptied bin: `session` names none of them. It is saved first, so
    that no saved session ever names a file that is gone; where the disk is too full for that,
    what can be worked out anew makes room. StorageError, and nothing is deleted, when it cannot
    be saved."""
    try:
        save_session(store, session)
    except StorageError:
        store.free_space()
        save_session(store, session)
    store.delete_files(files)
    return session
