"""Changes of a rig: devices and cables added, taken away, set; tracks planned.

Each takes a rig and gives a rig, checked as a whole; RigError names what cannot be done.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from diaulos.errors import RigError
from diaulos.ids import free_id
from diaulos.rig.catalogue.types import make
from diaulos.rig.course import trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.inputs import free_inputs
from diaulos.rig.model import (
    Cable,
    Device,
    PlannedTrack,
    PlayedLevel,
    Port,
    PortRef,
    Rig,
    SettingRef,
)

MOST_DEVICES = 1_000


def checked(rig: Rig, **values: object) -> Rig:
    """The rig with other parts, validated as a whole."""
    try:
        return Rig.model_validate({**dict(rig), **values})
    except ValidationError as error:
        first = error.errors()[0]
        raise RigError(f"{first['msg']}.", where=rig.name) from error


def add_device(rig: Rig, type_id: str) -> tuple[Rig, str]:
    """One more device of a catalogue type, and the id that it got."""
    return add_made(rig, make(type_id, "x"), type_id)


def add_made(rig: Rig, device: Device, stem: str) -> tuple[Rig, str]:
    """A device that is already described; its name gets a number if it is taken."""
    if len(rig.devices) >= MOST_DEVICES:
        raise RigError(f"A rig holds {MOST_DEVICES} devices at most.", where=rig.name)
    ident = free_id({d.id for d in rig.devices}, stem)
    name = free_id({d.name for d in rig.devices}, device.name, between=" ")
    new = device.model_copy(update={"id": ident, "name": name})
    return checked(rig, devices=(*rig.devices, new)), ident


def duplicate_device(rig: Rig, device_id: str) -> tuple[Rig, str]:
    """The same device once more, with its settings, without its cables."""
    device = rig.device(device_id)
    return add_made(rig, device, device.type or device.kind)


def remove_device(rig: Rig, device_id: str) -> Rig:
    """A device less, and the cables and planned tracks that ended at it."""
    rig.device(device_id)
    return checked(
        rig,
        devices=tuple(d for d in rig.devices if d.id != device_id),
        cables=tuple(c for c in rig.cables if device_id not in (c.source.device, c.target.device)),
        tracks=tuple(t for t in rig.tracks if t.port.device != device_id),
        locked=tuple(one for one in rig.locked if one.device != device_id),
        reamp_switches=tuple(one for one in rig.reamp_switches if one.device != device_id),
        played=tuple(one for one in rig.played if one.device != device_id),
    )


def set_lock(rig: Rig, ref: SettingRef, locked: bool) -> Rig:
    """A control or switch that the gain solver leaves alone, or no longer."""
    rig.device(ref.device).setting(ref.setting)
    others = tuple(one for one in rig.locked if one != ref)
    return checked(rig, locked=(*others, ref) if locked else others)


def set_played(rig: Rig, level: PlayedLevel) -> Rig:
    """How loud an instrument of the rig is really played."""
    rig.device(level.device)
    others = tuple(one for one in rig.played if one.device != level.device)
    return checked(rig, played=(*others, level))


def forget_played(rig: Rig, device_id: str) -> Rig:
    """The instrument's own strength counts again."""
    return checked(rig, played=tuple(one for one in rig.played if one.device != device_id))


def rename_device(rig: Rig, device_id: str, name: str) -> Rig:
    """Another name for a device."""
    return rig.with_device(named(rig.device(device_id), name))


def named(device: Device, name: str) -> Device:
    """A device under another name."""
    name = name.strip()
    if not name or len(name) > 120:
        raise RigError("A device's name has 1 to 120 letters.", where=device.name)
    return device.model_copy(update={"name": name})


PORT_FIGURES = ("impedance_ohm", "capacitance_pf", "max_dbu", "power_w", "rated_ohm")


def set_port(rig: Rig, ref: PortRef, **values: float | None) -> Rig:
    """Other figures of a port as its switches stand: those of the catalogue are
    representative. What a switch sets is changed for that position, the rest for all."""
    unknown = set(values) - set(PORT_FIGURES)
    if unknown:
        raise RigError(f"{', '.join(sorted(unknown))} cannot be edited.", where=str(ref))
    device = rig.device(ref.device)
    ports = []
    for port in device.ports:
        if port.id != ref.port:
            ports.append(port)
            continue
        data = port.model_dump()
        for name, value in values.items():
            _set_figure(device, data, name, value)
        try:
            ports.append(Port.model_validate(data))
        except ValidationError as error:
            first = error.errors()[0]
            field = ".".join(str(place) for place in first["loc"])
            raise RigError(
                f"{field}: {first['msg']}.", where=f"{device.name}, {port.name}"
            ) from error
    return rig.with_device(device.model_copy(update={"ports": tuple(ports)}))


def _set_figure(device: Device, data: dict[str, Any], name: str, value: float | None) -> None:
    """A figure in a port's data: in the mode that sets it now, else in the port itself."""
    holding = [m for m in data["modes"] if device.holds(tuple(tuple(w) for w in m["when"]))]
    if name == "max_dbu" and value is not None:
        value -= sum(mode["max_add_db"] for mode in holding)
    for mode in reversed(holding):
        if mode.get(name) is not None:
            mode[name] = value
            return
    data[name] = value


def unplug(rig: Rig, cable_id: str) -> Rig:
    """A cable less; RigError when it is gone."""
    rest = tuple(c for c in rig.cables if c.id != cable_id)
    if len(rest) == len(rig.cables):
        raise RigError("That cable is no longer in the rig.", where=rig.name)
    return rig.model_copy(update={"cables": rest})


def set_cable(rig: Rig, cable_id: str, **values: object) -> Rig:
    """Length, kind, capacitance or label of a cable."""
    old = next((c for c in rig.cables if c.id == cable_id), None)
    if old is None:
        raise RigError("That cable is no longer in the rig.", where=rig.name)
    try:
        new = Cable.model_validate({**old.model_dump(), **values})
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(place) for place in first["loc"])
        raise RigError(f"{field}: {first['msg']}.", where=f"cable {old.label or old.id}") from error
    return rig.model_copy(
        update={"cables": tuple(new if c.id == cable_id else c for c in rig.cables)}
    )


# --- tracks ---


def plan_tracks_as_plugged(rig: Rig, group: str = "One performance") -> Rig:
    """Every recorded track planned as it is plugged; names and groups that exist are kept."""
    graph = RigGraph(rig)
    old = {track.port: track for track in rig.tracks}
    names = {track.name for track in rig.tracks}
    found = []
    for traced in trace_all(graph):
        if traced.course is None:
            if traced.track in old:
                found.append(old[traced.track])
            continue
        course = traced.course
        known = old.get(traced.track)
        name = known.name if known else free_id(names, TAP_NAMES[course.tap], between=" ")
        names.add(name)
        found.append(
            PlannedTrack(
                port=traced.track,
                name=name,
                tap=course.tap,
                source=course.start.device.id,
                group=known.group if known else group,
                input_number=stream_number(graph, traced.track),
            )
        )
    return rig.model_copy(update={"tracks": tuple(found)})


TAP_NAMES: Mapping[str, str] = {
    "di": "DI", "printed": "Printed", "amp": "Amp", "cabinet": "Amp and cabinet",
    "modeled": "Modeled", "mic": "Microphone",
}  # fmt: skip


def stream_number(graph: RigGraph, track: PortRef) -> int | None:
    """The number of the stream that a track is recorded from."""
    cables = graph.into.get((track.device, track.port), [])
    digits = "".join(c for c in cables[0].source.port if c.isdigit()) if cables else ""
    return int(digits) if digits else None


def set_track(rig: Rig, port: PortRef, **values: object) -> Rig:
    """Name or group of a planned track."""
    tracks = []
    for track in rig.tracks:
        if track.port == port:
            track = PlannedTrack.model_validate({**track.model_dump(), **values})
        tracks.append(track)
    return rig.model_copy(update={"tracks": tuple(tracks)})


def move_track(rig: Rig, port: PortRef, by: int) -> Rig:
    """A planned track up (-1) or down (+1) in the order."""
    tracks = list(rig.tracks)
    index = next((i for i, t in enumerate(tracks) if t.port == port), -1)
    if index < 0 or not 0 <= index + by < len(tracks):
        return rig
    tracks[index], tracks[index + by] = tracks[index + by], tracks[index]
    return rig.model_copy(update={"tracks": tuple(tracks)})


def acknowledge(rig: Rig, notice_id: str, read: bool = True) -> Rig:
    """A safety notice marked as read; it stays in sight."""
    rest = tuple(n for n in rig.acknowledged if n != notice_id)
    return rig.model_copy(update={"acknowledged": (*rest, notice_id) if read else rest})


def inputs_left(rig: Rig) -> tuple[int, tuple[PortRef, ...]]:
    """How many tracks are recorded at once, and the inputs that can still take something."""
    graph = RigGraph(rig)
    return len(graph.tracks), tuple(plug.ref for plug in free_inputs(graph))
