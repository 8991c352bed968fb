"""Speaker outputs, loads, phantom power, pedal supplies: what breaks things."""

from __future__ import annotations

from collections.abc import Iterator

from diaulos.records import dataclass
from diaulos.rig.checks.cabling import class_switch
from diaulos.rig.checks.registry import (
    Change,
    Context,
    Finding,
    Mend,
    Severity,
    at_cable,
    check,
    set_mend,
    unplug_mend,
)
from diaulos.rig.flow import pad_ohms
from diaulos.rig.graph import Plug, RigGraph
from diaulos.rig.model import (
    Cable,
    CableKind,
    Connector,
    Device,
    Direction,
    PassiveStage,
    PortRef,
    Rig,
    SignalClass,
)

HARD_DRIVEN = 2.0
"""A load is rated at twice the power of an amp driven hard (common practice, no source)."""


@check(
    "speaker-into-input",
    Severity.DANGER,
    looks_for="a speaker output plugged into anything but a speaker or a load",
    why="volts and amperes of a power amplifier destroy an input, and the amp has no load",
)
def speaker_into_input(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if source.port.signal_class is not SignalClass.SPEAKER:
            continue
        if target.port.signal_class is SignalClass.SPEAKER:
            continue
        watts = f" of {source.port.power_w:g} W" if source.port.power_w else ""
        yield Finding(
            "speaker-into-input",
            Severity.DANGER,
            at_cable(context.graph, cable),
            f"The speaker output{watts} runs into {target.port.signal_class.words} port.",
            f"{target.device.name} can be destroyed"
            + (", and so can the amplifier: it has no load." if source.device.valve else "."),
            "Plug the speaker output into a speaker or a load box; take the line from there.",
            port=target.ref,
            cable=cable.id,
            mend=unplug_mend(cable, "it"),
        )


@check(
    "not-a-speaker-signal",
    Severity.FAULT,
    looks_for="a speaker or load fed by something that is no speaker output",
    why="there is no power in it: nothing is heard",
)
def not_a_speaker_signal(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if target.port.signal_class is not SignalClass.SPEAKER:
            continue
        if source.port.signal_class is SignalClass.SPEAKER:
            continue
        yield Finding(
            "not-a-speaker-signal",
            Severity.FAULT,
            at_cable(context.graph, cable),
            f"What comes out is at {source.port.signal_class.label} level; a speaker needs power.",
            "Next to nothing is heard; the output works into a few ohms.",
            "Put an amplifier between, or choose another input.",
            port=target.ref,
            cable=cable.id,
            mend=unplug_mend(cable, "it"),
        )


@check(
    "speaker-over-thin-cable",
    Severity.DANGER,
    looks_for="a speaker output over a cable that is not made for it",
    why="a shielded instrument cable gets hot and can short the amplifier",
)
def speaker_over_thin_cable(context: Context) -> Iterator[Finding]:
    for cable, source, _ in context.graph.cables():
        if source.port.signal_class is not SignalClass.SPEAKER:
            continue
        if cable.kind in (CableKind.SPEAKER, CableKind.USUAL):
            continue
        yield Finding(
            "speaker-over-thin-cable",
            Severity.DANGER,
            at_cable(context.graph, cable),
            f"The speaker runs over a cable of the kind “{cable.kind.value}”.",
            "Its thin conductor heats up; a shield that shorts takes the output stage with it.",
            "Switch the amplifier off and use a speaker cable.",
            cable=cable.id,
            port=source.ref,
            mend=Mend("Use a speaker cable", _with_kind(cable, CableKind.SPEAKER)),
        )


def _with_kind(cable: Cable, kind: CableKind) -> Change:
    def change(rig: Rig) -> Rig:
        cables = tuple(
            c.model_copy(update={"kind": kind}) if c.id == cable.id else c for c in rig.cables
        )
        return rig.model_copy(update={"cables": cables})

    return change


@check(
    "bridged-tap",
    Severity.DANGER,
    looks_for="a bridged speaker output with a tap whose ground is joined to earth",
    why="the minus of a bridged output is live: an earthed tap shorts half of the amplifier",
)
def bridged_tap(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if not source.port.bridged:
            continue
        earthed = _earthed_tap(context.graph, target)
        if earthed is None:
            continue
        yield Finding(
            "bridged-tap",
            Severity.DANGER,
            at_cable(context.graph, cable),
            f"The output is bridged, and {earthed} joins its minus to earth.",
            "Half of the output stage is shorted the moment it plays.",
            "Use a load or DI whose output is isolated by a transformer, or take the line from "
            "the amplifier's own DI output.",
            cable=cable.id,
            port=target.ref,
            mend=unplug_mend(cable, "the bridged output"),
        )


def _earthed_tap(graph: RigGraph, target: Plug) -> str | None:
    if target.device.earthed and target.port.ground == "chassis":
        return target.device.name
    for port in target.device.ports:
        if port.direction is Direction.OUT and port.ground and port.ground == target.port.ground:
            if port.signal_class in (SignalClass.SPEAKER, SignalClass.SOUND):
                continue
            if graph.out_of.get((target.device.id, port.id)):
                return f"{target.device.name}, {port.name},"
    return None


# --- loads ---


@dataclass(frozen=True)
class Load:
    """One speaker or load on an amplifier, with its share of the power."""

    plug: Plug
    ohm: float
    share: float


def speaker_loads(graph: RigGraph, output: PortRef) -> tuple[float, list[Load]]:
    """The ohms that a speaker output works into, and who takes what share of the power.

    Cabinets on one output or linked through are in parallel; behind a series link they are
    one behind the other. Infinite ohms: nothing is plugged in.
    """
    conductance, loads = 0.0, []
    for cable in graph.out_of.get((output.device, output.port), ()):
        ohm, taken = _behind(graph, cable, frozenset())
        conductance += 1.0 / ohm if ohm else 0.0
        loads += [Load(one.plug, one.ohm, one.share / ohm) for one in taken]
    if conductance <= 0.0:
        return float("inf"), []
    return 1.0 / conductance, [Load(o.plug, o.ohm, o.share / conductance) for o in loads]


def _behind(graph: RigGraph, cable: Cable, seen: frozenset[str]) -> tuple[float, list[Load]]:
    """Ohms behind a cable and the loads there; shares add up to 1."""
    if cable.id in seen:
        return float("inf"), []
    seen = seen | {cable.id}
    plug = graph.target(cable)
    parts: list[tuple[float, list[Load]]] = []
    outs = [
        graph.out_of.get((plug.device.id, port.id), [])
        for port in plug.device.ports
        if port.direction is Direction.OUT and port.signal_class is SignalClass.SPEAKER
    ]
    if plug.device.kind == "series_link":
        total, found = 0.0, []
        for cables in outs:
            ohm, loads = _together([_behind(graph, c, seen) for c in cables])
            total += ohm
            found += [Load(o.plug, o.ohm, o.share * ohm) for o in loads]
        if total in (0.0, float("inf")):
            return float("inf"), []
        return total, [Load(o.plug, o.ohm, o.share / total) for o in found]
    pad = _pad_of(plug)
    if pad is not None:
        there = _together([_behind(graph, c, seen) for cables in outs for c in cables])
        return _attenuated(plug, pad, there)
    own = plug.port.impedance_ohm
    parts.append((own, [Load(plug, own, 1.0)]))
    if plug.device.kind == "cabinet":
        parts += [_behind(graph, c, seen) for cables in outs for c in cables]
    return _together(parts)


def _pad_of(plug: Plug) -> PassiveStage | None:
    """The attenuator behind an input, where it is one of resistors."""
    for path in plug.device.live_paths:
        for stage in path.stages:
            if path.source == plug.port.id and isinstance(stage, PassiveStage) and stage.pad_ohm:
                return stage
    return None


def _attenuated(
    plug: Plug, pad: PassiveStage, behind: tuple[float, list[Load]]
) -> tuple[float, list[Load]]:
    """An attenuator and the speakers behind it: it takes what they do not get, and shows the
    amplifier their ohms. Without them its own resistors are left, unless it is a wire."""
    load, speakers = behind
    passed = 10.0 ** (-abs(plug.device.number(pad.control)) / 10.0)
    if load == float("inf"):
        through, across = pad_ohms(pad.pad_ohm or 8.0, plug.device.number(pad.control))
        if across == float("inf"):
            return float("inf"), []
        return through + across, [Load(plug, through + across, 1.0)]
    loads = [Load(one.plug, one.ohm, passed * one.share) for one in speakers]
    if passed < 1.0:
        loads.insert(0, Load(plug, load, 1.0 - passed))
    return load, loads


def _together(parts: list[tuple[float, list[Load]]]) -> tuple[float, list[Load]]:
    total = sum(1.0 / ohm for ohm, _ in parts if ohm not in (0.0, float("inf")))
    if total <= 0.0:
        return float("inf"), []
    return 1.0 / total, [
        Load(o.plug, o.ohm, o.share / ohm / total) for ohm, loads in parts for o in loads
    ]


def speaker_outputs(graph: RigGraph) -> Iterator[Plug]:
    """The speaker outputs of amplifiers."""
    for plug in graph.plugs(Direction.OUT):
        if plug.port.signal_class is SignalClass.SPEAKER and plug.port.power_w:
            yield plug


def _played(graph: RigGraph, device: Device) -> bool:
    return any(graph.into.get((device.id, port.id)) for port in device.ports)


@check(
    "valve-amp-without-load",
    Severity.DANGER,
    looks_for="a valve amplifier that is played with nothing at its speaker output",
    why="its output transformer and valves fail",
)
def valve_amp_without_load(context: Context) -> Iterator[Finding]:
    for plug in speaker_outputs(context.graph):
        if not plug.device.valve or not _played(context.graph, plug.device):
            continue
        ohm, _ = speaker_loads(context.graph, plug.ref)
        if ohm == float("inf"):
            yield Finding(
                "valve-amp-without-load",
                Severity.DANGER,
                plug.words,
                "A valve amplifier is played and has neither speaker nor load.",
                "The output transformer and the valves fail.",
                f"Switch it off. Plug in a speaker or load of {plug.port.rated_ohm or 8:g} ohm.",
                port=plug.ref,
            )


@check(
    "attenuator-without-speaker",
    Severity.CAUTION,
    looks_for="an attenuator that is fed and has nothing at its speaker output",
    why="it is made to work into a speaker, and closes the amplifier only as far as it is turned",
)
def attenuator_without_speaker(context: Context) -> Iterator[Finding]:
    graph = context.graph
    for device in graph.of_kind("attenuator"):
        for port in device.ports:
            if port.signal_class is not SignalClass.SPEAKER or port.direction is Direction.IN:
                continue
            fed = any(
                graph.into.get((device.id, path.source))
                for path in device.live_paths
                if path.target == port.id
            )
            if not fed or graph.out_of.get((device.id, port.id)):
                continue
            yield Finding(
                "attenuator-without-speaker",
                Severity.CAUTION,
                device.name,
                "Nothing is plugged into its speaker output.",
                "It takes the whole power itself, and turned to 0 dB it leaves the amplifier "
                "without a load.",
                f"Switch the amplifier off and plug in a speaker of {port.rated_ohm or 8:g} ohm, "
                "or use a load box.",
                port=PortRef(device=device.id, port=port.id),
            )


@check(
    "load-impedance",
    Severity.CAUTION,
    Severity.FAULT,
    looks_for="ohms at a speaker output that are not what it is made for, cabinets in parallel "
    "and in series worked out",
    why="too few ohms overload the output, others cost power or strain a valve output stage",
)
def load_impedance(context: Context) -> Iterator[Finding]:
    for plug in speaker_outputs(context.graph):
        ohm, loads = speaker_loads(context.graph, plug.ref)
        rated, least = plug.port.rated_ohm, plug.port.least_ohm
        if ohm == float("inf") or rated is None:
            continue
        words = " and ".join(f"{one.plug.device.name} {one.ohm:g} Ω" for one in loads)
        if least is not None and ohm < 0.98 * least:
            severity, effect = Severity.FAULT, (
                f"It asks for {least:g} Ω at least: {rated / ohm:.1f} times the current that it "
                "is made for."
            )  # fmt: skip
        elif plug.device.valve and not 0.7 < ohm / rated < 1.45:
            twice = 0.49 < ohm / rated < 2.05
            severity = Severity.CAUTION if twice else Severity.FAULT
            effect = (
                f"It is made for {rated:g} Ω; the output stage works at "
                f"{ohm / rated:.2g} times that."
            )
        elif ohm / rated > 4.1:
            severity, effect = (
                Severity.CAUTION,
                (f"It gives about {rated / ohm:.0%} of its {plug.port.power_w:g} W."),
            )
        else:
            continue
        yield Finding(
            "load-impedance",
            severity,
            plug.words,
            f"It works into {ohm:.3g} Ω ({words}).",
            effect,
            f"Switch it off and plug in {rated:g} Ω in all, or use another tap.",
            port=plug.ref,
        )


@check(
    "load-power",
    Severity.CAUTION,
    Severity.FAULT,
    looks_for="a speaker or load that takes less than its share of the amplifier's power, twice "
    "over when it is driven hard",
    why="it burns; an amp driven hard gives up to twice its rated power",
)
def load_power(context: Context) -> Iterator[Finding]:
    for plug in speaker_outputs(context.graph):
        ohm, loads = speaker_loads(context.graph, plug.ref)
        if ohm == float("inf") or not plug.port.power_w:
            continue
        for one in loads:
            takes = one.plug.port.power_w
            share = plug.port.power_w * one.share
            if takes is None or takes >= HARD_DRIVEN * share:
                continue
            short = takes < share
            yield Finding(
                "load-power",
                Severity.FAULT if short else Severity.CAUTION,
                one.plug.words,
                f"It takes {takes:g} W; its share of {plug.device.name} is {share:.3g} W.",
                "It burns."
                if short
                else f"Driven hard, the amp gives up to {2 * share:.3g} W here.",
                f"Use one for {HARD_DRIVEN * share:.3g} W or more, or turn the amp down.",
                port=one.plug.ref,
            )


# --- phantom power and supplies ---


@check(
    "phantom-harms",
    Severity.FAULT,
    looks_for="phantom power on an output that it can harm, or over an unbalanced plug",
    why="48 V reach what is not made for them",
)
def phantom_harms(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if not target.port.phantom or source.port.signal_class in (
            SignalClass.DIGITAL, SignalClass.STREAM, SignalClass.SOUND,
        ):  # fmt: skip
            continue
        unbalanced = source.port.connector is Connector.TS
        if not (source.port.phantom_harms or unbalanced):
            continue
        yield Finding(
            "phantom-harms",
            Severity.FAULT,
            at_cable(context.graph, cable),
            "Phantom power is on, and the output is "
            + ("unbalanced." if unbalanced else "not made for it."),
            "48 V behind some kilohm flow back into it.",
            f"Switch phantom power off at {target.device.name} before plugging.",
            port=target.ref,
            cable=cable.id,
            mend=_phantom(target, "off"),
        )


@check(
    "phantom-missing",
    Severity.FAULT,
    looks_for="a microphone or DI box that runs on phantom power at an input that gives none",
    why="it is silent, or distorts on a flat battery",
)
def phantom_missing(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if not source.port.needs_phantom or target.port.phantom:
            continue
        yield Finding(
            "phantom-missing",
            Severity.FAULT,
            at_cable(context.graph, cable),
            f"{source.device.name} runs on phantom power, which is off here.",
            "It stays silent.",
            "Mute the monitors, then switch phantom power on at this microphone input.",
            port=target.ref,
            cable=cable.id,
            mend=_phantom(target, "on"),
        )


def _phantom(target: Plug, value: str) -> Mend | None:
    """Switch phantom power; an input that gives it to microphones only is made for one."""
    number = "".join(c for c in target.port.id if c.isdigit())
    for setting in (f"phantom{number}", "phantom"):
        if not target.device.has_setting(setting):
            continue
        switched = target.device.with_setting(setting, value)
        there = Plug(switched, switched.port(target.port.id))
        if value == "off" or there.port.phantom:
            return set_mend(target, setting, value)
        made_for = class_switch(there, SignalClass.MIC)
        first = set_mend(target, setting, value)
        if made_for is None or first is None:
            return None
        second = set_mend(target, *made_for)
        assert second is not None
        return _both(first, second)
    return None


def _both(first: Mend, second: Mend) -> Mend:
    return Mend(f"{first.label}; {second.label}", lambda rig: second.change(first.change(rig)))


@check(
    "shared-supply",
    Severity.CAUTION,
    looks_for="several pedals on one supply whose outputs are joined",
    why="their grounds meet twice, by the supply and by the signal cable: hum and whine",
)
def shared_supply(context: Context) -> Iterator[Finding]:
    graph = context.graph
    for device in graph.of_kind("supply"):
        used = [
            (port, cable)
            for port in device.ports
            for cable in graph.out_of.get((device.id, port.id), ())
        ]
        grounds = {port.ground for port, _ in used}
        many = [cable for _, cable in used]
        per_output = any(
            len(graph.out_of.get((device.id, port.id), ())) > 1 for port in device.ports
        )
        if len(many) < 2 or (len(grounds) > 1 and not per_output):
            continue
        yield Finding(
            "shared-supply",
            Severity.CAUTION,
            device.name,
            f"{len(many)} devices share one supply without isolation.",
            "Their grounds meet twice: hum, and the whine of digital pedals.",
            "Give every device an isolated output of its own.",
            device=device.id,
        )


@check(
    "no-supply",
    Severity.NOTE,
    looks_for="a pedal in use with nothing at its supply jack",
    why="it runs on a battery, or not at all",
)
def no_supply(context: Context) -> Iterator[Finding]:
    graph = context.graph
    for plug in graph.plugs(Direction.IN):
        if plug.port.signal_class is not SignalClass.POWER or graph.used(plug):
            continue
        if _played(graph, plug.device):
            yield Finding(
                "no-supply",
                Severity.NOTE,
                plug.words,
                "Nothing is plugged into its supply jack.",
                "It runs on a battery, or not at all.",
                "Plug in a supply, or check the battery.",
                port=plug.ref,
            )
