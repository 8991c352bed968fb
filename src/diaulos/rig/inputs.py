"""Inputs of a rig that can still take something and record it."""

from __future__ import annotations

from diaulos.rig.graph import RECORDER, Plug, RigGraph
from diaulos.rig.model import AUDIO_CLASSES, AdcStage, Direction, SignalClass


def free_inputs(graph: RigGraph) -> tuple[Plug, ...]:
    """The physical inputs that can take an instrument, a microphone or a line now: nothing is
    plugged in, a converter stands behind, and what comes out of it has a track or a link to go
    to that carries nothing else.

    The return of an effects loop is none, nor are digital inputs and streams: what is played
    into a modeler leaves it by several of those, and is one source.

    Parameters
    ----------
    graph
        The rig.

    Returns
    -------
    In the order of the rig's devices and ports.
    """
    return tuple(plug for plug in graph.plugs(Direction.IN) if _is_free(graph, plug))


def takes_a_new_track(graph: RigGraph, plug: Plug) -> bool:
    """Whether a free input comes by a stream that no track records yet.

    Parameters
    ----------
    graph
        The rig.
    plug
        One of its free inputs.

    Returns
    -------
    False where its stream is plugged into a track already, which then records nothing.
    """
    return not any(graph.out_of.get((plug.device.id, port)) for port in _streams(plug))


def _is_free(graph: RigGraph, plug: Plug) -> bool:
    device, port = plug.device, plug.port
    if port.signal_class not in AUDIO_CLASSES or device.kind == RECORDER:
        return False
    if graph.into.get((device.id, port.id)):
        return False
    return bool(_streams(plug)) or any(
        graph.out_of.get((device.id, target)) for target in _links(plug)
    )


def _streams(plug: Plug) -> tuple[str, ...]:
    """The streams that carry what comes in here and nothing else."""
    return tuple(
        target
        for target in _converted(plug, SignalClass.STREAM)
        if {path.source for path in plug.device.paths if path.target == target} == {plug.port.id}
    )


def _links(plug: Plug) -> tuple[str, ...]:
    """The digital links with a channel of their own for it."""
    links = _converted(plug, SignalClass.DIGITAL)
    paths = plug.device.paths

    def alone(target: str) -> bool:
        channels = {
            p.target_channel for p in paths if (p.source, p.target) == (plug.port.id, target)
        }
        return not any(
            p.target == target and p.source != plug.port.id and p.target_channel in channels
            for p in paths
        )

    return tuple(target for target in links if alone(target))


def _converted(plug: Plug, kind: SignalClass) -> tuple[str, ...]:
    """The outputs of a kind that a converter behind this input feeds, as the switches stand."""
    outs = {port.id for port in plug.device.ports if port.signal_class is kind}
    return tuple(
        dict.fromkeys(
            path.target
            for path in plug.device.live_paths
            if path.source == plug.port.id
            and path.target in outs
            and any(isinstance(stage, AdcStage) for stage in path.stages)
        )
    )
