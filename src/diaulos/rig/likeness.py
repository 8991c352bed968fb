"""What a segment's response depends on, as a key: segments with the same key respond alike,
whichever rig they are in. So what was worked out for one is kept for all.

It follows `flow.py` part by part: what is added to a response there is added to its key here.
"""

from __future__ import annotations

from collections.abc import Hashable

from diaulos.rig.flow import Part, Segment, SideLoad
from diaulos.rig.graph import RigGraph, passive_paths
from diaulos.rig.model import Cable, Device, PassiveStage, Path, Port, PortRef


def segment_key(segment: Segment) -> Hashable:
    """All that the response of an analog segment depends on.

    Parameters
    ----------
    segment
        From the output of one isolating device to the input of the next.

    Returns
    -------
    Equal for segments that respond alike.
    """
    circuit = segment.circuit
    return (
        segment.source.port.impedance_ohm if circuit is None else circuit,
        segment.leg_db,
        tuple((_part(link.two_port), link.behind is not None) for link in segment.links),
        _port(segment.load.port),
    )


def _part(part: Part) -> Hashable:
    if isinstance(part, Cable):
        return part.capacitance_f
    if isinstance(part, SideLoad):
        seen: frozenset[str] = frozenset()
        return (
            tuple(_cable(part.graph, cable, seen) for cable in part.cables),
            tuple(
                _way(part.graph, part.device, path, seen)
                for path in part.paths
                if part.device is not None
            ),
            _port(part.port) if part.port is not None else None,
        )
    return _inside(*part)


def _port(port: Port) -> Hashable:
    return port.impedance_ohm, port.capacitance_pf, port.speaker


def _inside(device: Device, path: Path) -> Hashable:
    return tuple(
        (stage, device.number(stage.control)) if isinstance(stage, PassiveStage) else stage
        for stage in path.stages
    )


def _way(graph: RigGraph, device: Device, path: Path, seen: frozenset[str]) -> Hashable:
    behind = graph.out_of.get((device.id, path.target), ())
    return _inside(device, path), tuple(_cable(graph, cable, seen) for cable in behind)


def _cable(graph: RigGraph, cable: Cable, seen: frozenset[str]) -> Hashable:
    if cable.id in seen:
        return None
    return cable.capacitance_f, _input(graph, cable.target, seen | {cable.id})


def _input(graph: RigGraph, ref: PortRef, seen: frozenset[str]) -> Hashable:
    plug = graph.plug(ref)
    paths = graph.paths_from(ref.device, ref.port)
    passive = passive_paths(paths)
    own = _port(plug.port) if len(passive) < len(paths) or not passive else None
    return own, tuple(_way(graph, plug.device, path, seen) for path in passive)
