"""Which track is which channel of a real device: told, tied in the rig by hand, or proposed as the
rig numbers it."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence

from diaulos.errors import InputError
from diaulos.records import dataclass
from diaulos.rig.course import Course, trace_all
from diaulos.rig.graph import RECORDER, RigGraph
from diaulos.rig.model import SOFTWARE, Device, Direction, Port, PortRef, Rig, SignalClass
from diaulos.work.ports import Wire


def read_map(words: Sequence[str]) -> dict[str, int]:
    """ "TRACK=CHANNEL" as track and channel, channels counted from 1.

    Examples
    --------
    >>> read_map(["DI=1", "Amp = left=3"])
    {'DI': 1, 'Amp = left': 3}
    """
    found: dict[str, int] = {}
    for word in words:
        name, _, channel = word.rpartition("=")
        if not name.strip() or not channel.strip().isdigit() or int(channel) < 1:
            raise InputError(
                f"{word!r} ties no track to a channel.",
                where="--map",
                remedy="Write TRACK=CHANNEL, channels counted from 1: --map DI=1.",
            )
        found[name.strip()] = int(channel)
    return found


def proposed_channels(courses: Sequence[Course | None], inputs: int) -> tuple[int, ...]:
    """The channels (from 0) by which a computer sees these courses' last converters, as the rig
    numbers them; in order where the device has too few, or the rig has two interfaces."""
    found = tuple(_heard(course) for course in courses)
    if len(set(found)) < len(found) or any(one is None or one >= inputs for one in found):
        return tuple(range(len(courses)))
    return tuple(one for one in found if one is not None)


@dataclass(frozen=True)
class Socket:
    """A place where the computer hears or plays: its port, what for, where that is in the rig, and
    the channel (from 1) that it has without a tie. One of another program's has no proposal."""

    port: PortRef
    name: str
    place: str
    hears: bool
    proposed: int
    program: bool = False


def sockets_of(graph: RigGraph, inputs: int) -> tuple[Socket, ...]:
    """All of a rig: its tracks in order, then what is played into it."""
    traced = [one for one in trace_all(graph) if one.course is not None]
    courses = [one.course for one in traced if one.course is not None]
    names = {track.port: track.name for track in graph.rig.tracks}
    found = []
    for one, channel in zip(traced, proposed_channels(courses, inputs), strict=True):
        if one.course is not None and by_program(one.course):
            continue
        leg = one.course.legs[-2] if one.course and len(one.course.legs) > 1 else None
        entry = f", {leg.entry.name}" if leg and leg.entry else ""
        place = f"{leg.device.name}{entry}" if leg else ""
        comes_back = one.course is not None and one.course.source is None
        name = names.get(one.track) or ("Return" if comes_back else str(one.track))
        found.append(Socket(one.track, name, place, True, channel + 1))
    played: dict[PortRef, Socket] = {}
    for course in courses:
        if course.source is not None or len(course.legs) < 2 or into_program(course):
            continue
        leg = course.legs[1]
        place = f"{leg.device.name}, {leg.exit.name}" if leg.exit else leg.device.name
        port = start_port(course)
        played[port] = Socket(port, "Send", place, False, played_channel(course) + 1)
    return (*found, *played.values(), *_program_sockets(graph.rig))


def _program_sockets(rig: Rig) -> tuple[Socket, ...]:
    """Of the programs of a rig, those that something is plugged into in it."""
    used = {end for cable in rig.cables for end in (cable.source, cable.target)}
    return tuple(
        Socket(ref, port.name, device.name, port.direction is Direction.OUT, 0, program=True)
        for device in rig.devices
        if device.kind == SOFTWARE
        for port in device.ports
        if (ref := PortRef(device=device.id, port=port.id)) in used
    )


# --- other programs ---


def by_program(course: Course) -> bool:
    """Whether what the computer records of a course comes out of another program."""
    return len(course.legs) > 1 and course.legs[-2].device.kind == SOFTWARE


def into_program(course: Course) -> bool:
    """Whether what the computer plays into a course goes into another program."""
    return len(course.legs) > 1 and course.legs[1].device.kind == SOFTWARE


def program_tie(rig: Rig, port: PortRef) -> tuple[str, int]:
    """The program that a port of a software amplifier is tied to, by its name at the sound server,
    and the channel (from 0). InputError where nobody tied it."""
    found = tied_program(rig, port)
    if found is None:
        name = rig.device(port.device).name
        raise InputError(
            f"{name} is tied to no program.",
            where=f"{name}, {rig.port(port).name}",
            remedy="Start the program, and say which it is: Rig > Which socket is which (Ctrl+K).",
        )
    return found


def tied_program(rig: Rig, port: PortRef) -> tuple[str, int] | None:
    """The same; None where nobody tied it."""
    for one in rig.maps:
        for tie in one.ties:
            if tie.port == port:
                return one.device, tie.channel - 1
    return None


def heard_from(course: Course) -> tuple[str, int]:
    """The program that a course's track is heard from, and its channel (from 0)."""
    leg = course.legs[-2]
    assert leg.exit is not None
    return program_tie(course.rig, PortRef(device=leg.device.id, port=leg.exit.id))


def through_program(course: Course) -> tuple[str, int, int] | None:
    """Where a loop goes into another program and straight back: the program, its input and its
    output (from 0). None for any other loop, and where the program is tied to nothing: then the
    device that is asked for is the program."""
    if not (by_program(course) and into_program(course)):
        return None
    into, last = course.legs[1], course.legs[-2]
    assert into.entry is not None
    assert last.exit is not None
    there = tied_program(course.rig, PortRef(device=into.device.id, port=into.entry.id))
    back = tied_program(course.rig, PortRef(device=last.device.id, port=last.exit.id))
    if there is None or back is None or there[0] != back[0]:
        return None
    return there[0], there[1], back[1]


def programs_told(
    rig: Rig, words: Sequence[str], sizes: Mapping[str, tuple[int, int]]
) -> list[tuple[PortRef, tuple[str, int]]]:
    """ "DEVICE=PROGRAM" as ties: the ports of the software amplifier of this name or id in order to
    the channels (from 1) of the program; a side that it does not have is its last one. `sizes` are
    inputs and outputs of what is there. InputError for what is not there."""
    found: list[tuple[PortRef, tuple[str, int]]] = []
    for word in words:
        name, _, program = (part.strip() for part in word.partition("="))
        device = next(
            (d for d in rig.devices if d.kind == SOFTWARE and name in (d.id, d.name)), None
        )
        if device is None:
            known = ", ".join(d.name for d in rig.devices if d.kind == SOFTWARE) or "none"
            raise InputError(
                f"{rig.name} has no software amplifier {name!r}.", where="--program",
                remedy=f"Write DEVICE=PROGRAM. It has: {known}.",
            )  # fmt: skip
        if program not in sizes:
            raise InputError(
                f"no program is called {program!r} at the sound server.", where="--program",
                remedy=f"Start it. There are: {', '.join(sizes) or 'none'} (diaulos devices).",
            )  # fmt: skip
        heard, taken = sizes[program]
        for way, there in ((Direction.IN, taken), (Direction.OUT, heard)):
            ports = [one for one in device.ports if one.direction is way]
            for number, one in enumerate(ports, start=1):
                channel = max(1, min(number, there))
                found.append((PortRef(device=device.id, port=one.id), (program, channel)))
    return found


def wires_of(courses: Sequence[Course | None], device: str) -> tuple[Wire, ...]:
    """What goes from inputs of a real device into other programs, for these courses."""
    found: dict[Wire, None] = {}
    for course in courses:
        legs = course.legs if course is not None else ()
        for before, leg in itertools.pairwise(legs):
            if leg.device.kind != SOFTWARE or before.exit is None or leg.entry is None:
                continue
            if before.device.kind in (SOFTWARE, RECORDER):
                continue
            assert course is not None
            source = PortRef(device=before.device.id, port=before.exit.id)
            channel = _channel_into(course.rig, source, device, before.channel)
            into = PortRef(device=leg.device.id, port=leg.entry.id)
            found[Wire(device, channel, *program_tie(course.rig, into))] = None
    return tuple(found)


def _channel_into(rig: Rig, source: PortRef, device: str, channel: int) -> int:
    """The channel of a real device whose sound goes into a program: as a track of the same socket
    is tied, else as the rig numbers it."""
    tied = rig.tied(device)
    for cable in rig.cables:
        if cable.source == source and cable.target in tied:
            return tied[cable.target] - 1
    return stream_channel(rig, source, device, channel)


def start_port(course: Course) -> PortRef:
    """The port by which the computer plays into a course."""
    start = course.start
    return PortRef(device=start.device.id, port=start.exit.id if start.exit else "")


def told_over(tied: Mapping[str, int], wanted: Mapping[str, int]) -> dict[str, int]:
    """What a rig ties, and what is told now over it: a channel that is told away is free."""
    taken = set(wanted.values())
    return {**{k: v for k, v in tied.items() if v not in taken}, **wanted}


def played_channel(course: Course) -> int:
    """The channel (from 0) by which a computer plays into a course: its first interface's."""
    if len(course.legs) < 2:
        return 0
    into = course.legs[1]
    return _place(into.device, into.entry, Direction.IN) or 0


def heard_channel(course: Course) -> int:
    """The channel (from 0) by which a computer hears a course."""
    return _heard(course) or 0


def _heard(course: Course | None) -> int | None:
    if course is None or len(course.legs) < 2:
        return None
    last = course.legs[-2]
    place = _place(last.device, last.exit, Direction.OUT)
    return None if place is None else place + last.channel


def _place(device: Device, port: Port | None, way: Direction) -> int | None:
    """How many stream channels of a device lie ahead of a port."""
    at = 0
    for one in device.ports:
        if one.direction is way and one.signal_class is SignalClass.STREAM:
            if port is not None and one.id == port.id:
                return at
            at += one.channels
    return None


def channels_of(
    names: Sequence[str], wanted: Mapping[str, int], proposed: Sequence[int] = ()
) -> tuple[int, ...]:
    """The channel (from 0) of each track: as wanted, else as proposed; where that is taken, the
    next one that is left."""
    unknown = [name for name in wanted if name not in names]
    if unknown:
        raise InputError(
            f"no armed track is called {unknown[0]!r}.",
            where="--map",
            remedy=f"Armed are: {', '.join(names)}.",
        )
    twice = [name for name in wanted if list(wanted.values()).count(wanted[name]) > 1]
    if twice:
        raise InputError(
            f"channel {wanted[twice[0]]} is tied twice: {' and '.join(twice)}.",
            where="--map",
            remedy="Give each track a channel of its own.",
        )
    taken = {channel - 1 for channel in wanted.values()}
    hopes = list(proposed) or list(range(len(names)))
    rest = {hope for name, hope in zip(names, hopes, strict=True) if name not in wanted} - taken
    room = range(len(names) + len(taken | rest))
    free = (channel for channel in room if channel not in taken | rest)
    found = []
    for name, hope in zip(names, hopes, strict=True):
        if name in wanted:
            found.append(wanted[name] - 1)
        elif hope in rest:
            found.append(hope)
        else:
            found.append(next(free))
    return tuple(found)


def stream_channel(rig: Rig, port: PortRef, device: str, channel: int = 0) -> int:
    """The channel (from 0) of a real device that a stream port of the rig's interface is: as its
    end at the computer is tied, else as the rig numbers it."""
    tied = rig.tied(device)
    for cable in rig.cables:
        for here, there in ((cable.source, cable.target), (cable.target, cable.source)):
            if here == port and there in tied:
                return tied[there] - 1
    unit = rig.device(port.device)
    one = unit.port(port.port)
    return (_place(unit, one, one.direction) or 0) + channel
