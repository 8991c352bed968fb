"""Courses: the ordered run of stations from where a signal starts to a recorded track.

A course is found backwards from the track: the cable into a port, the output it comes
from, the path inside that device, the input before it, and so on. It ends where an output
has no path behind it: at an instrument, or at a track that is played.
"""

from __future__ import annotations

from dataclasses import dataclass

from diaulos.errors import RigError
from diaulos.rig.model import Cable, Device, Path, Port, PortRef, Rig

PLAY_KIND = "recorder"
"""The kind of device whose outputs play tracks and whose inputs are tracks."""


@dataclass(frozen=True)
class Leg:
    """One device on a course: where the signal comes in, what happens, where it goes out.

    `entry` is None at the start, `exit` and `path` are None at the track; `cable` leads on.
    """

    device: Device
    entry: Port | None
    path: Path | None
    exit: Port | None
    cable: Cable | None


@dataclass(frozen=True)
class Course:
    """The legs from the start to the track."""

    rig: Rig
    track: PortRef
    legs: tuple[Leg, ...]

    @property
    def start(self) -> Leg:
        """Where the signal begins."""
        return self.legs[0]

    def has_stage(self, kind: str) -> bool:
        """Whether some device on the course has a stage of this kind."""
        return any(stage.kind == kind for leg in self.legs if leg.path for stage in leg.path.stages)


def trace(rig: Rig, track: PortRef) -> Course:
    """The course that ends at this input.

    Raises RigError where the way back is missing, divides, or runs in a circle.
    """
    device = rig.device(track.device)
    legs = [Leg(device, device.port(track.port), None, None, None)]
    here = track
    seen: set[str] = {str(track)}
    while True:
        cable = _cable_into(rig, here)
        if str(cable.source) in seen:
            raise RigError(
                "The rig feeds back into itself here.",
                where=str(cable.source),
                remedy="Unplug one of the cables of the circle: it would howl.",
            )
        seen.add(str(cable.source))
        device = rig.device(cable.source.device)
        exit_port = device.port(cable.source.port)
        path = next((p for p in device.paths if p.target == exit_port.id), None)
        if path is None:
            legs.append(Leg(device, None, None, exit_port, cable))
            return Course(rig, track, tuple(reversed(legs)))
        entry = device.port(path.source)
        legs.append(Leg(device, entry, path, exit_port, cable))
        here = PortRef(device=device.id, port=entry.id)


def _cable_into(rig: Rig, ref: PortRef) -> Cable:
    cables = [cable for cable in rig.cables if cable.target == ref]
    port = rig.port(ref)
    where = f"{rig.device(ref.device).name}, {port.name}"
    if not cables:
        raise RigError("Nothing is plugged in here.", where=where, remedy="Plug in a cable.")
    if len(cables) > 1:
        raise RigError(
            f"{len(cables)} cables end in one input.", where=where, remedy="Unplug all but one."
        )
    return cables[0]


def tracks(rig: Rig) -> tuple[PortRef, ...]:
    """The inputs of recorders that something is plugged into, in the rig's order."""
    plugged = {cable.target for cable in rig.cables}
    return tuple(
        ref
        for device in rig.devices
        if device.kind == PLAY_KIND
        for port in device.ports
        if (ref := PortRef(device=device.id, port=port.id)) in plugged
    )


def reamp_course(rig: Rig) -> Course:
    """The course of a reamp: it starts at a played track and ends at a recorded one.

    The first track whose course begins at a recorder; RigError when there is none.
    """
    for track in tracks(rig):
        course = trace(rig, track)
        if course.start.device.kind == PLAY_KIND:
            return course
    raise RigError(
        f"The rig {rig.name} has no way from a played track back to a recorded one.",
        remedy="Choose a rig with a reamp box and an amplifier, or plug one.",
    )
