"""The two sides of a stereo output that are the same: one track is enough."""

from __future__ import annotations

import numpy as np

from diaulos.rig.course import trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.trackplan import stereo_pairs
from diaulos.signal.peaks import rms_dbfs
from diaulos.work.measuring import read_mono
from diaulos.work.ports import SessionStore
from diaulos.work.takes.proving import PROVED_S, Proving

SAME_DB = -60.0
"""What is left of one side without the other, re it: two converters hiss each their own way."""
SILENT_DBFS = -60.0


def same_sides(proving: Proving, store: SessionStore) -> tuple[tuple[str, str], ...]:
    """Names (left, right) of tracks that are the two sides of one output and hold the same, by the
    first ten seconds of a take."""
    traced = trace_all(RigGraph(proving.rig))
    courses = [
        one.course for one in traced if one.course is not None and one.track in proving.files
    ]
    count = round(PROVED_S * proving.session.sample_rate_hz)
    found = []
    for left, right in stereo_pairs(courses):
        one, other = (
            read_mono(store.open_audio(proving.files[side]), count=count).astype(np.float64)
            for side in (left, right)
        )
        size = min(one.size, other.size)
        loud = rms_dbfs(one[:size])
        if loud > SILENT_DBFS and rms_dbfs(one[:size] - other[:size]) - loud < SAME_DB:
            found.append((proving.names[left], proving.names[right]))
    return tuple(found)


def same_words(pairs: tuple[tuple[str, str], ...]) -> str:
    """What to say of them; "" for none."""
    return " ".join(
        f"{left} and {right} are the same: one of them is enough. Switch {right} off in its row."
        for left, right in pairs
    )
