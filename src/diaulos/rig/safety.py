"""Safety notices: always in sight where the danger is, acknowledged, never off.

They are no findings and are not counted. They give the usual cautions and defer to local
code and licensed technicians.
"""

from __future__ import annotations

from diaulos.records import dataclass
from diaulos.rig.model import Device, Rig


@dataclass(frozen=True)
class Notice:
    """A notice at a device (or at none: for the whole rig)."""

    id: str
    title: str
    text: str
    devices: tuple[str, ...]


AT_AMP = (
    "A speaker output goes through speaker cable to a speaker or a load of the right impedance "
    "and power: never to an instrument, line or microphone input, a DI box not made for it, or "
    "headphones. A valve amplifier never runs without its load; a transistor amplifier has a "
    "least impedance. On a bridged output the minus is live. Power off before changing speaker "
    "cables. Amplifiers hold lethal voltages after they are switched off: inside work is for a "
    "licensed technician."
)
AT_LOAD = (
    "Load boxes and attenuators run hot: rated at twice the amplifier's power when it is driven "
    "hard (common practice, no source), with air around them."
)
AT_EARTH = (
    "Never lift a safety earth to cure hum: isolate the signal. Mains wiring follows local code; "
    "a residual-current device protects the outlet."
)
AT_SOUND = (
    "Watch sound level and time at a cranked amplifier and in headphones. Sends start low and "
    "are raised. Mute the monitors before re-plugging; phantom power off before plugging."
)


def notices(rig: Rig) -> tuple[Notice, ...]:
    """The notices that this rig has to show, in a fixed order."""
    amps = tuple(d.id for d in rig.devices if d.kind == "amp")
    loads = tuple(d.id for d in rig.devices if d.kind in ("load_box", "attenuator"))
    earthed = tuple(d.id for d in rig.devices if d.earthed)
    heard = tuple(d.id for d in rig.devices if d.kind in ("headphones", "monitor", "cabinet"))
    found = []
    if amps:
        found.append(Notice("amp", "Amplifier and speaker output", AT_AMP, amps))
    if loads:
        found.append(Notice("load", "Load and attenuator", AT_LOAD, loads))
    if earthed:
        found.append(Notice("earth", "Mains and earth", AT_EARTH, earthed))
    if amps or heard or _has_phantom(rig):
        found.append(Notice("sound", "Sound level and plugging", AT_SOUND, heard or amps))
    return tuple(found)


def _has_phantom(rig: Rig) -> bool:
    return any(s.id.startswith("phantom") for d in rig.devices for s in d.settings)


def devices_noted(rig: Rig) -> dict[str, bool]:
    """The devices at which a word of safety stands in the drawing: whether it was not read yet."""
    return {
        device: notice.id not in rig.acknowledged
        for notice in notices(rig)
        if notice.id in ("amp", "load")
        for device in notice.devices
    }


def at_device(rig: Rig, device: Device) -> tuple[Notice, ...]:
    """The notices that stand at a device."""
    return tuple(n for n in notices(rig) if device.id in n.devices)
