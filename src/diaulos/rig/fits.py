"""What goes into this port? Partners that fit mechanically, the best first, and what is
wrong electrically with the others that fit."""

from __future__ import annotations

from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.rig.checks import REGISTRY, Context, Severity, cabling
from diaulos.rig.graph import Plug, RigGraph
from diaulos.rig.model import Cable, CableKind, Direction, PortRef, Rig, SignalClass

CABLE_CHECKS = (
    "speaker-into-input", "not-a-speaker-signal", "bridged-tap", "format-mismatch",
    "line-into-mic", "mic-into-line", "instrument-into-mic", "instrument-into-line",
    "line-into-instrument", "mic-into-instrument", "switch-unlike", "phantom-harms",
    "phantom-missing",
)  # fmt: skip
"""The checks that look at one cable."""


@dataclass(frozen=True)
class Fit:
    """A partner for a port. `misfit` says in a sentence what is wrong, "" when nothing is."""

    plug: Plug
    used: bool
    misfit: str
    severity: Severity | None

    @property
    def words(self) -> str:
        """For a person."""
        return self.plug.words + (" (in use)" if self.used else "")


def partners(graph: RigGraph, ref: PortRef) -> tuple[Fit, ...]:
    """The ports that a cable could join to this one, best first: sound ones, free ones, those
    of the same class, then in the rig's order. Its own device is left out."""
    here = graph.plug(ref)
    outward = here.port.direction is Direction.OUT
    wanted = Direction.IN if outward else Direction.OUT
    found = []
    peaks = Context(graph).peaks
    order = {device: index for index, device in enumerate(graph.devices)}
    for plug in graph.plugs(wanted):
        if plug.device.id == here.device.id:
            continue
        source, target = (here, plug) if outward else (plug, here)
        if not cabling.fits(source.port.connector, target.port.connector):
            continue
        severity, misfit = misfit_of(graph, source, target, peaks)
        found.append(Fit(plug, graph.used(plug), misfit, severity))

    def rank(fit: Fit) -> tuple[int, bool, bool, int]:
        same = fit.plug.port.signal_class is here.port.signal_class
        return (
            fit.severity or 0,
            fit.used,
            not same,
            abs(order[fit.plug.device.id] - order[here.device.id]),
        )

    return tuple(sorted(found, key=rank))


def misfit_of(
    graph: RigGraph,
    source: Plug,
    target: Plug,
    peaks: dict[tuple[str, str], float] | None = None,
) -> tuple[Severity | None, str]:
    """What the cable checks would say of a cable between two ports alone; `peaks` are those
    that the rig's courses bring to its ports."""
    cable = Cable(
        id="try",
        source=source.ref,
        target=target.ref,
        kind=usual_kind(source.port.signal_class),
    )
    pair = Rig(
        id="try",
        name="try",
        devices=(source.device, target.device),
        cables=(cable,),
    )
    context = Context(graph.of(pair))
    if peaks is not None:
        context.peaks = dict(peaks)
    worst: tuple[Severity | None, str] = (None, "")
    for ident in CABLE_CHECKS:
        for finding in REGISTRY[ident].run(context):
            if worst[0] is None or finding.severity > worst[0]:
                worst = (finding.severity, f"{finding.cause} {finding.consequence}")
    return worst


def usual_kind(signal_class: SignalClass) -> CableKind:
    """The kind that a signal wants where it matters."""
    if signal_class is SignalClass.SPEAKER:
        return CableKind.SPEAKER
    return CableKind.AIR if signal_class is SignalClass.SOUND else CableKind.USUAL


def usual_length_m(source: Plug, target: Plug) -> float:
    """How long such a cable usually is."""
    if source.port.signal_class is SignalClass.SOUND:
        return 0.05
    if source.port.signal_class in (SignalClass.STREAM, SignalClass.SPEAKER):
        return 1.5
    return 0.5 if SignalClass.POWER in (source.port.signal_class, target.port.signal_class) else 3.0


def joined(rig: Rig, one: PortRef, other: PortRef) -> Rig:
    """A cable between two ports, from the output to the input, of the usual kind and length."""
    graph = RigGraph(rig)
    a, b = graph.plug(one), graph.plug(other)
    source, target = (a, b) if a.port.direction is Direction.OUT else (b, a)
    new = Cable(
        id=free_id({c.id for c in rig.cables}, f"c{len(rig.cables) + 1:02}"),
        source=source.ref,
        target=target.ref,
        kind=usual_kind(source.port.signal_class),
        length_m=usual_length_m(source, target),
    )
    return Rig.model_validate({**dict(rig), "cables": (*rig.cables, new)})
