"""Waveform overviews that are worked out once: the second look reads what the first one left."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from diaulos.signal.overview import Overview, build_overview
from diaulos.work.ports import CancelToken, SessionStore


def overview_of(file: str, store: SessionStore, cancel: CancelToken | None = None) -> Overview:
    """The overview of a mono file of the session."""
    kept = store.kept_overview(file)
    if kept is not None:
        return kept
    token = cancel or CancelToken()

    def told() -> Iterator[NDArray[np.float32]]:
        for block in store.open_audio(file).blocks():
            token.check()
            yield block[:, 0]

    made = build_overview(told())
    store.keep_overview(file, made)
    return made
