"""Representative values per pickup type, from memory; none is of a real product."""

from __future__ import annotations

from diaulos.session.instrument import (
    ActiveValues,
    CoilValues,
    ControlValues,
    Family,
    Instrument,
    Pickup,
    PickupValues,
    PiezoValues,
    Position,
)
from diaulos.session.tunings import TUNINGS

PICKUP_TYPES: dict[str, tuple[str, PickupValues]] = {
    "single": (
        "Single coil",
        CoilValues(inductance_h=2.4, resistance_ohm=6000.0, winding_pf=110.0, eddy_ohm=600e3),
    ),
    "humbucker": (
        "Humbucker",
        CoilValues(inductance_h=4.4, resistance_ohm=8200.0, winding_pf=150.0, eddy_ohm=400e3),
    ),
    "wide": (
        "Wide single coil",
        CoilValues(inductance_h=5.6, resistance_ohm=9000.0, winding_pf=160.0, eddy_ohm=450e3),
    ),
    "split": (
        "Coil split",
        CoilValues(inductance_h=2.0, resistance_ohm=4100.0, winding_pf=120.0, eddy_ohm=500e3),
    ),
    "bass": (
        "Bass coil",
        CoilValues(inductance_h=5.0, resistance_ohm=10_500.0, winding_pf=130.0, eddy_ohm=350e3),
    ),
    "active": ("Active, buffered", ActiveValues(output_ohm=1000.0, max_dbu=8.0, noise_dbu=-98.0)),
    "piezo": (
        "Piezo element",
        PiezoValues(capacitance_pf=1500.0, max_dbu=10.0, noise_dbu=-110.0),
    ),
}
"""By type: words for a person, and values."""

HARD_PEAK_DBU: dict[str, float] = {
    "single": -0.5, "humbucker": 4.5, "wide": 2.0, "split": -1.5, "bass": 3.0, "active": 6.0,
    "piezo": 5.0,
}  # fmt: skip
"""Peak of hard strumming into an open input, by pickup type."""

USUAL_TYPE: dict[Family, str] = {
    "guitar": "single",
    "baritone": "humbucker",
    "bass": "bass",
    "other": "humbucker",
    "piezo": "piezo",
}
USUAL_STRINGS: dict[Family, tuple[str, ...]] = {
    "guitar": TUNINGS["standard"].strings,
    "baritone": TUNINGS["baritone-b"].strings,
    "bass": TUNINGS["bass"].strings,
    "other": (),
    "piezo": TUNINGS["standard"].strings,
}


def pickup(type_id: str, pickup_id: str = "pu1", name: str = "") -> Pickup:
    """A pickup of a type with representative values."""
    words, values = PICKUP_TYPES[type_id]
    return Pickup(id=pickup_id, name=name or words, type=type_id, values=values)


def usual_controls(type_id: str) -> ControlValues:
    """Pots that such pickups usually have."""
    if type_id == "single":
        return ControlValues(volume_ohm=250e3, tone_ohm=250e3)
    if type_id == "bass":
        return ControlValues(volume_ohm=250e3, tone_ohm=250e3, tone_nf=47.0)
    if type_id == "active":
        return ControlValues(volume_ohm=25e3, tone_ohm=None)
    if type_id == "piezo":
        return ControlValues(volume_ohm=None, tone_ohm=None)
    return ControlValues()


def representative(
    ident: str, name: str, family: Family = "guitar", type_id: str = ""
) -> Instrument:
    """A new instrument with one pickup of the family's usual type."""
    kind = type_id or USUAL_TYPE[family]
    return Instrument(
        id=ident,
        name=name,
        family=family,
        strings=USUAL_STRINGS[family],
        pickups=(pickup(kind),),
        positions=(Position(id="pos1", name="Pickup", pickups=("pu1",)),),
        position_id="pos1",
        controls=usual_controls(kind),
    )
