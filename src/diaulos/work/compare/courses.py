"""By which course a candidate was recorded: its conversions, and where its microphone stood."""

from __future__ import annotations

from diaulos.errors import DiaulosError
from diaulos.rig.course import Course, trace
from diaulos.rig.model import Device, PortRef, Rig
from diaulos.session.compared import MicPlace
from diaulos.session.model import Session
from diaulos.work.compare.choices import Candidate
from diaulos.work.rigs.look import rig_graph

RIG_PLACES = {"centre": (0.0, 0.0), "edge": (1.0, 0.0)}
"""What a microphone's switch of the rig says: across the cone, degrees off axis. "Off axis" says
neither: by how many degrees nobody knows until it is noted."""


def course_of(session: Session, one: Candidate) -> Course | None:
    """The course by the rig as it was; None where nobody knows."""
    take_id, _, file = one.key.partition(":")
    take = next((take for take in session.takes if take.id == take_id), None)
    if one.outside or take is None:
        return None
    for track in take.tracks:
        if track.file == file:
            rig = session.snapshots.get(take.rig_hash)
            planned = rig.tracks if rig is not None else ()
            ports = [plan.port for plan in planned if plan.name == track.name]
            return _traced(session, rig, ports[0] if len(ports) == 1 else None)
    for made in take.passes:
        for back in made.returns:
            if back.file == file:
                return _traced(session, session.snapshots.get(made.rig_hash), back.port)
    return None


def _traced(session: Session, rig: Rig | None, port: PortRef | None) -> Course | None:
    if rig is None or port is None:
        return None
    try:
        return trace(rig_graph(session, rig), port)
    except DiaulosError:
        return None


def place_of(session: Session, one: Candidate, course: Course | None = None) -> MicPlace:
    """Where its microphone stood: as it was noted, else as the rig said when it was recorded."""
    noted = next(
        (session.mic_places[file] for file in one.files if file in session.mic_places), None
    )
    if noted is not None:
        return noted
    course = course_of(session, one) if course is None else course
    for leg in course.legs if course is not None else ():
        if leg.device.kind == "microphone":
            across, angle = RIG_PLACES.get(_place_word(leg.device), (None, None))
            return MicPlace(across=across, angle_deg=angle, distance_m=_air_m(course))
    return MicPlace()


def _place_word(device: Device) -> str:
    return device.word("place") if any(one.id == "place" for one in device.settings) else ""


def _air_m(course: Course | None) -> float | None:
    """Length of the last stretch through the air."""
    legs = course.legs if course is not None else ()
    air = [
        leg.cable.length_m
        for leg in legs
        if leg.cable is not None and leg.exit is not None and leg.exit.signal_class.value == "sound"
    ]
    return air[-1] if air else None
