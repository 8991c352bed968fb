"""The monitor mixer of a device that has one: a level, a pan and a mute for each of its inputs,
digital ones and playback too.

It is found by its names: a strip is called after the port that it mixes (`strip_of`), and its
three settings by that. What it does never reaches a recording.
"""

from __future__ import annotations

from diaulos.records import dataclass
from diaulos.rig.model import Choice, Control, Device, GainStage, Path

LEVEL, PAN, MUTE = "mix_", "pan_", "mute_"
LEAST_DB, MOST_DB = -60.0, 6.0
OFF = ("off", "on")


@dataclass(frozen=True)
class Strip:
    """One input of a monitor mixer as it stands. `pan` runs from -100 (left) to 100 (right)."""

    ident: str
    name: str
    level_db: float
    pan: float
    muted: bool

    @property
    def heard(self) -> bool:
        """Whether it is heard at all: at its least a fader is closed."""
        return not self.muted and self.level_db > LEAST_DB

    def reaches(self, side: int) -> bool:
        """Whether it is heard on the left (-1) or the right (1)."""
        return self.heard and self.pan * side > -100.0


def strip_id(port: str, channel: int = 0, channels: int = 1) -> str:
    """How a strip is called: after its port, and the channel where that has several."""
    return port if channels == 1 else f"{port}_{channel + 1}"


def strip_settings(ident: str, name: str, level_db: float) -> tuple[Control | Choice, ...]:
    """The three settings of a strip."""
    return (
        Control(id=f"{LEVEL}{ident}", name=f"Monitor level, {name}", value=level_db,
                minimum=LEAST_DB, maximum=MOST_DB, step=1.0),
        Control(id=f"{PAN}{ident}", name=f"Monitor pan, {name}", value=0.0, minimum=-100.0,
                maximum=100.0, step=10.0, unit=""),
        Choice(id=f"{MUTE}{ident}", name=f"Monitor mute, {name}", value="off",
               options=(("off", "Heard"), ("on", "Muted"))),
    )  # fmt: skip


def strip_of(device: Device, path: Path) -> Strip | None:
    """The strip that a path of a device goes through; None for one that no strip is on."""
    for stage in path.stages:
        control = stage.control if isinstance(stage, GainStage) else None
        if control is not None and control.startswith(LEVEL):
            return strip(device, control.removeprefix(LEVEL))
    return None


def strip(device: Device, ident: str) -> Strip:
    """A strip as it stands."""
    level = device.setting(f"{LEVEL}{ident}")
    return Strip(
        ident=ident,
        name=level.name.partition(", ")[2],
        level_db=device.number(f"{LEVEL}{ident}"),
        pan=device.number(f"{PAN}{ident}"),
        muted=device.word(f"{MUTE}{ident}") == "on",
    )


def is_strip_setting(setting_id: str) -> bool:
    """Whether a setting belongs to a monitor mixer."""
    return setting_id.startswith((LEVEL, PAN, MUTE))
