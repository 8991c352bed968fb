"""Generic device types with representative figures (from memory, of no real product)."""

from diaulos.rig.catalogue.parts import cable
from diaulos.rig.catalogue.reamping import (
    combo_amp,
    interface,
    load_box,
    reamp_box,
    reamp_rig,
    recorder,
)

__all__ = ["cable", "combo_amp", "interface", "load_box", "reamp_box", "reamp_rig", "recorder"]
