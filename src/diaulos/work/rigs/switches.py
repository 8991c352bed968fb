"""What is thrown on the hardware between recording and reamping with one rig, and whether it still
stands the other way by what was done last."""

from __future__ import annotations

from diaulos.rig.model import Rig, RigState
from diaulos.rig.states import STATE_WORDS, switched
from diaulos.session.model import SIMULATED, Session


def state_words(rig: Rig, state: RigState) -> str:
    """How the switches stand in a state, in a line; "" for a rig that has none."""
    stand = "; ".join(one.words(state) for one in switched(rig))
    return f"State {STATE_WORDS[state]}: {stand}" if stand else ""


def stands_otherwise(session: Session, rig: Rig, state: RigState) -> bool:
    """Whether the hardware was last used in the other state. The simulated studio throws its own
    switches."""
    if not rig.reamp_switches:
        return False
    last: list[tuple[str, str, RigState]] = []
    for take in session.takes:
        if take.rig_name == rig.name:
            last.append((take.recorded_at, take.played_by, "record"))
        last += [
            (one.made_at, one.played_by, "reamp") for one in take.passes if one.rig_name == rig.name
        ]
    if not last:
        return False
    _, played_by, was = max(last)
    return played_by != SIMULATED and was != state
