"""Where the tone begins in a rig: the device whose input has a trim for the instrument.

It is found by its control, so that a device type of one's own can be one too.
"""

from __future__ import annotations

from dataclasses import replace

from diaulos.records import dataclass
from diaulos.rig.model import AdcStage, Control, Device, Offset, Port, Rig, SignalClass
from diaulos.rig.sources import INSTRUMENT

TRIM = "input_trim"
"""Id of the control that trims the instrument ahead of the tone."""


@dataclass(frozen=True)
class TonePlace:
    """The tone stage of a rig.

    `entry` is the input that the instrument goes into, `source` the rig's device that stands
    for that instrument (None while nothing is plugged in).
    """

    device: Device
    entry: Port
    trim: Control
    source: Device | None

    @property
    def instrument_id(self) -> str:
        """The session's instrument that is plugged in, by id; empty for none."""
        source = self.source
        if source is None or not source.has_setting(INSTRUMENT):
            return ""
        return source.word(INSTRUMENT)

    @property
    def converter(self) -> AdcStage | None:
        """The converter behind the input."""
        for path in self.device.paths:
            if path.source == self.entry.id:
                for stage in path.stages:
                    if isinstance(stage, AdcStage):
                        return stage
        return None

    @property
    def pad(self) -> tuple[str, str, Offset] | None:
        """The switch of its pad: (setting, the position that is in, what it takes off)."""
        converter = self.converter
        for offset in converter.offsets if converter else ():
            if offset.pad and len(offset.when) == 1:
                name, word = offset.when[0]
                return name, word, offset
        return None

    @property
    def pad_on(self) -> bool:
        """Whether its pad is in."""
        pad = self.pad
        return pad is not None and self.device.word(pad[0]) == pad[1]


def tone_place(rig: Rig) -> TonePlace | None:
    """The tone stage of a rig: the first device with an input trim, one that an instrument is
    plugged into before one that none is. None where no device has one.

    Parameters
    ----------
    rig
        Any rig.

    Returns
    -------
    Device, input, trim and what is plugged in.
    """
    places = [place for device in rig.devices if (place := _place(rig, device)) is not None]
    places.sort(key=lambda place: place.source is None)
    return places[0] if places else None


def _place(rig: Rig, device: Device) -> TonePlace | None:
    place = place_at(device)
    if place is None:
        return None
    return replace(place, source=_plugged(rig, device.id, place.entry.id))


def place_at(device: Device) -> TonePlace | None:
    """A device as a tone stage, whatever is plugged in; None for one without an input trim."""
    if not device.has_setting(TRIM):
        return None
    trim = device.setting(TRIM)
    entry = next(
        (
            port
            for port in device.ports
            if port.direction.value == "in" and port.signal_class is SignalClass.INSTRUMENT
        ),
        None,
    )
    if not isinstance(trim, Control) or entry is None:
        return None
    return TonePlace(device, device.port(entry.id), trim, None)


def _plugged(rig: Rig, device_id: str, port_id: str) -> Device | None:
    """The instrument whose signal reaches an input, through whatever stands between."""
    devices = {device.id: device for device in rig.devices}
    waiting, seen = [(device_id, port_id)], set()
    while waiting:
        place = waiting.pop(0)
        if place in seen:
            continue
        seen.add(place)
        for cable in rig.cables:
            if (cable.target.device, cable.target.port) != place:
                continue
            source = devices[cable.source.device]
            if source.kind == INSTRUMENT:
                return source
            waiting += [
                (source.id, path.source)
                for path in source.live_paths
                if path.target == cable.source.port
            ]
    return None
