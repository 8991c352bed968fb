"""Changes of a rig that remedies make: a box put into a cable."""

from __future__ import annotations

from diaulos.errors import RigError
from diaulos.ids import free_id
from diaulos.rig.catalogue.types import make
from diaulos.rig.model import Cable, CableKind, PortRef, Rig


def insert_isolator(rig: Rig, cable_id: str) -> Rig:
    """A line isolator in the middle of a cable."""
    return insert(rig, cable_id, "line_isolator", "isolator")


def insert(rig: Rig, cable_id: str, type_id: str, stem: str) -> Rig:
    """A box with ports "in" and "out" in the middle of a cable; RigError when the cable is
    gone."""
    return insert_between(rig, cable_id, type_id, stem, "in", "out")


def insert_between(rig: Rig, cable_id: str, type_id: str, stem: str, entry: str, exit_: str) -> Rig:
    """A box in the middle of a cable, by these of its ports."""
    old = next((cable for cable in rig.cables if cable.id == cable_id), None)
    if old is None:
        raise RigError("That cable is no longer in the rig.")
    device = make(type_id, free_id({d.id for d in rig.devices}, stem))
    ids = {cable.id for cable in rig.cables}
    half = old.length_m / 2.0
    first = old.model_copy(
        update={"target": PortRef(device=device.id, port=entry), "length_m": half}
    )
    second = Cable(
        id=free_id(ids, f"{cable_id}b"),
        source=PortRef(device=device.id, port=exit_),
        target=old.target,
        length_m=half,
        pf_per_m=old.pf_per_m,
        kind=CableKind.USUAL if old.kind is CableKind.SPEAKER else old.kind,
    )
    cables = [first if cable.id == cable_id else cable for cable in rig.cables]
    return rig.model_copy(update={"devices": (*rig.devices, device), "cables": (*cables, second)})
