"""Which socket of a real device is which: ties that cannot hold."""

from __future__ import annotations

from collections.abc import Iterator

from diaulos.rig.checks.registry import Context, Finding, Mend, Severity, check
from diaulos.rig.graph import RECORDER
from diaulos.rig.model import SOFTWARE, DeviceMap, Direction, PortRef, Rig, Tie


@check(
    "socket-tied-twice",
    Severity.FAULT,
    looks_for="two tracks, or two sends, that are tied to one channel of a real device",
    why="both record the same sound, and what belongs to one of them is not recorded",
)
def socket_tied_twice(context: Context) -> Iterator[Finding]:
    for tied in context.rig.maps:
        taken: dict[tuple[bool, int], Tie] = {}
        for tie in _standing(context.rig, tied):
            hears = _hears(context.rig, tie.port)
            first = taken.setdefault((hears, tie.channel), tie)
            if first is tie or _sides_of_one(context.rig, tied, first, tie):
                continue
            way = "input" if hears else "output"
            yield Finding(
                "socket-tied-twice",
                Severity.FAULT,
                f"{tied.device}, {way} {tie.channel}",
                f"{_name(context.rig, first.port)} and {_name(context.rig, tie.port)} are tied to "
                f"{way} {tie.channel} of {tied.device}.",
                "Both are the same sound." if hears else "Both go out of one socket.",
                "Tie one of them to another channel (Rig > Which socket is which).",
                port=tie.port,
                mend=_untie(tied, tie),
            )


@check(
    "socket-not-there",
    Severity.FAULT,
    looks_for="a track or a send that is tied to a channel that the real device does not have",
    why="nothing can be recorded or sent by a socket that is not there",
)
def socket_not_there(context: Context) -> Iterator[Finding]:
    for tied in context.rig.maps:
        for tie in _standing(context.rig, tied):
            hears = _hears(context.rig, tie.port)
            has = tied.inputs if hears else tied.outputs
            if not has or tie.channel <= has:
                continue
            way = "input" if hears else "output"
            yield Finding(
                "socket-not-there",
                Severity.FAULT,
                f"{tied.device}, {way} {tie.channel}",
                f"{_name(context.rig, tie.port)} is tied to {way} {tie.channel}; {tied.device} "
                f"had {has} when it was last looked at.",
                "The device refuses the take.",
                "Tie it to a channel that is there (Rig > Which socket is which).",
                port=tie.port,
                mend=_untie(tied, tie),
            )


def _sides_of_one(rig: Rig, tied: DeviceMap, one: Tie, other: Tie) -> bool:
    """Whether two ties are the sides of a program that has a single output."""
    same = one.port.device == other.port.device
    return same and rig.device(one.port.device).kind == SOFTWARE and tied.inputs == 1


def _standing(rig: Rig, tied: DeviceMap) -> Iterator[Tie]:
    """The ties whose port is still there."""
    ports = {
        PortRef(device=device.id, port=port.id) for device in rig.devices for port in device.ports
    }
    return (tie for tie in tied.ties if tie.port in ports)


def _hears(rig: Rig, port: PortRef) -> bool:
    """Whether the computer hears by this port: its own inputs, and what a program puts out."""
    own = rig.device(port.device).kind == RECORDER
    return rig.port(port).direction is (Direction.IN if own else Direction.OUT)


def _name(rig: Rig, port: PortRef) -> str:
    named = {track.port: track.name for track in rig.tracks}
    return named.get(port) or f"{rig.device(port.device).name}, {rig.port(port).name}"


def _untie(tied: DeviceMap, tie: Tie) -> Mend:
    left = tied.model_copy(update={"ties": tuple(one for one in tied.ties if one is not tie)})
    return Mend("Untie it", lambda rig: rig.with_map(left))
