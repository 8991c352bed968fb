"""Something wrong in the simulated studio, to practise the hunt on."""

from __future__ import annotations

import random
from collections.abc import Iterable

from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef
from diaulos.rig.strays import Stray, StrayKind, StrayPlace
from diaulos.work.hunting.causes import Cause, causes_of

FIELD_V, DEVICE_V = 1e-3, 3e-4
"""RMS volts that a field induces, and that a device makes at its input; representative, loud
enough to stand out anywhere."""
PLACES: dict[str, StrayPlace] = {"pickup": "pickup", "lead": "cable", "device": "device"}


def drill_of(
    graph: RigGraph, seed: int, tracks: Iterable[PortRef] = ()
) -> tuple[Cause, tuple[Stray, ...]] | None:
    """What is wrong in one drill, and what the bench has to play for it; None where nothing in the
    rig can hum.

    Parameters
    ----------
    graph
        The rig with its instruments.
    seed
        Another drill for every number.
    tracks
        The tracks that are listened to; none is all.

    Returns
    -------
    The cause of a mains noise, and its strays.
    """
    draw = random.Random(seed)
    causes = [one for one in causes_of(graph, "mains", tracks) if one.kind in PLACES]
    if not causes:
        return None
    cause = draw.choice(causes)
    kinds: tuple[StrayKind, ...] = ("hum", "buzz")
    volts = FIELD_V
    if cause.kind == "device":
        kinds, volts = ("hum", "ripple"), DEVICE_V
    return cause, (Stray(draw.choice(kinds), PLACES[cause.kind], cause.at[0], volts),)
