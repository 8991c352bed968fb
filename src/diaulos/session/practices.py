"""How a house works: a named set of habits. A departure from one is a note, never a fault: every
school has its reasons, and its price."""

from typing import Literal

from pydantic import Field

from diaulos.rig.model import Frozen
from diaulos.session.instrument import Ident, Name

Trims = Literal["whole", "fine", "none"]
PadUse = Literal["hot", "always", "never"]
DryDi = Literal["always", "printed"]
WayIn = Literal["digital", "analog", "any"]
Heard = Literal["direct", "software", "any"]
Tones = Literal["stack", "pan", "any"]


class Practice(Frozen):
    """A set of habits. A target of the statistic "rms" is of the typical level, else of the loudest
    peak, dBFS."""

    id: Ident
    name: Name
    about: str = Field(default="", max_length=500)
    statistic: Literal["peak", "rms"] = "peak"
    target_dbfs: float = Field(default=-12.0, ge=-60.0, le=0.0)
    trims: Trims = "fine"
    pad: PadUse = "hot"
    dry_di: DryDi = "always"
    way_in: WayIn = "any"
    heard: Heard = "any"
    low_cut: bool = False
    """Whether every track has one below its lowest note."""
    tags: bool = False
    """Whether keepers are tagged."""
    noise_check: bool = False
    """Whether the silence is listened to before the first take of a day."""
    tones: Tones = "any"
    """Whether the tones of one part are heard in one place, or apart."""


SHIPPED: tuple[Practice, ...] = (
    Practice(
        id="loudest_peak", name="Loudest peak", trims="whole", pad="hot", heard="direct",
        noise_check=True,
        about="Gains by the loudest peak, twelve dB below full scale; trims in whole dB; the pad "
        "for hot instruments; a dry DI with everything; heard ahead of the computer; the silence "
        "is listened to before the first take.",
    ),
    Practice(
        id="typical_level", name="Typical level", statistic="rms", target_dbfs=-18.0, trims="fine",
        pad="never", way_in="digital", heard="software", tones="stack",
        about="Gains by the typical level; every instrument drives the modeler or amplifier "
        "alike to the tenth; no pad; digital where there is a way; heard through the computer; the "
        "tones of a part stacked in one place.",
    ),
    Practice(
        id="as_it_plays", name="As it plays", trims="none", pad="never", dry_di="printed",
        heard="direct", tones="pan",
        about="A hot guitar stays hot: no trims, no pad; pedals of the performance may be printed "
        "on the DI; two tones of a part are panned apart.",
    ),
    Practice(
        id="by_the_book", name="By the book", trims="whole", pad="hot", heard="direct",
        low_cut=True, tags=True, noise_check=True,
        about="A low cut below the lowest note of every track, keepers tagged, a noise check of "
        "each day: for sessions that somebody else goes on with.",
    ),
)  # fmt: skip
"""The main schools, as far as they differ in what a session can tell (common practice, no
source)."""
