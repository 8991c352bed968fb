"""Sample rates, clocks, formats, conversions."""

from __future__ import annotations

from collections.abc import Iterator

from diaulos.rig.checks.registry import (
    Context,
    Finding,
    Severity,
    at_cable,
    check,
    set_mend,
    unplug_mend,
)
from diaulos.rig.graph import RECORDER, RigGraph
from diaulos.rig.model import (
    DIGITAL_CLASSES,
    AdcStage,
    DacStage,
    Device,
    Direction,
    SignalClass,
)


@check(
    "format-mismatch",
    Severity.FAULT,
    looks_for="two digital ports that speak different formats, or digital into analog",
    why="the receiver finds no signal, or noise at full level",
)
def format_mismatch(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        a, b = source.port, target.port
        digital = (a.signal_class in DIGITAL_CLASSES, b.signal_class in DIGITAL_CLASSES)
        if not any(digital):
            continue
        if all(digital) and a.format == b.format and a.signal_class is b.signal_class:
            continue
        if all(digital):
            cause = f"{_spoken(a.format)} goes into {_spoken(b.format)}."
            effect = "The receiver does not lock: silence, or clicks."
        else:
            way = "A digital output goes into an analog input" if digital[0] else (
                "An analog output goes into a digital input"
            )  # fmt: skip
            cause, effect = f"{way}; the plugs are the same.", "Noise at full level, or nothing."
        yield Finding(
            "format-mismatch",
            Severity.FAULT,
            at_cable(context.graph, cable),
            cause,
            effect,
            "Use two ports of one format, or a converter between.",
            cable=cable.id,
            port=target.ref,
            mend=unplug_mend(cable, "it"),
        )


def _spoken(spoken: object) -> str:
    return getattr(spoken, "value", None) or "USB"


def domains(graph: RigGraph) -> list[list[Device]]:
    """Groups of devices that are joined by numbers, the recorder among them."""
    parent: dict[str, str] = {}

    def root(one: str) -> str:
        while parent.setdefault(one, one) != one:
            parent[one] = parent[parent[one]]
            one = parent[one]
        return one

    for cable, source, target in graph.cables():
        classes = (source.port.signal_class, target.port.signal_class)
        if all(c in DIGITAL_CLASSES for c in classes):
            parent[root(cable.source.device)] = root(cable.target.device)
    groups: dict[str, list[Device]] = {}
    for device in graph.rig.devices:
        if device.id in parent:
            groups.setdefault(root(device.id), []).append(device)
    return list(groups.values())


def _words(device: Device, setting: str) -> str:
    entry = device.setting(setting)
    options = dict(getattr(entry, "options", ()))
    return str(options.get(entry.value, entry.value))


@check(
    "rates-differ",
    Severity.FAULT,
    looks_for="devices joined by numbers that run at different sample rates",
    why="pitch and length are wrong, or nothing locks",
)
def rates_differ(context: Context) -> Iterator[Finding]:
    for group in domains(context.graph):
        rated = [d for d in group if d.has_setting("rate")]
        if len({d.word("rate") for d in rated}) < 2:
            continue
        recorders = [d for d in rated if d.kind == RECORDER]
        counts: dict[str, int] = {}
        for device in rated:
            counts[device.word("rate")] = counts.get(device.word("rate"), 0) + 1
        wanted = recorders[0].word("rate") if recorders else max(
            sorted(counts), key=lambda rate: counts[rate]
        )  # fmt: skip
        for device in rated:
            rate = device.word("rate")
            if rate == wanted:
                continue
            plug = next(p for p in context.graph.plugs() if p.device.id == device.id)
            ratio = float(wanted) / float(rate)
            yield Finding(
                "rates-differ",
                Severity.FAULT,
                device.name,
                f"It runs at {_words(device, 'rate')}; the recorder wants "
                f"{float(wanted) / 1000:g} kHz.",
                f"What it sends would play {ratio:.3g} times as fast, or not lock at all.",
                f"Set {device.name} to {float(wanted) / 1000:g} kHz.",
                device=device.id,
                mend=set_mend(plug, "rate", wanted),
            )


@check(
    "clock-masters",
    Severity.FAULT,
    looks_for="no clock master, or more than one, among devices joined by numbers",
    why="two clocks drift apart: a click every few seconds; none at all does not run",
)
def clock_masters(context: Context) -> Iterator[Finding]:
    graph = context.graph
    for group in domains(graph):
        clocked = [d for d in group if d.has_setting("clock")]
        masters = [d for d in clocked if d.word("clock") == "internal"]
        if not clocked or len(masters) == 1:
            continue
        if masters:
            follower = next((d for d in masters if _clock_input(graph, d)), masters[-1])
            way = _clock_input(graph, follower)
            plug = next(p for p in graph.plugs() if p.device.id == follower.id)
            names = " and ".join(d.name for d in masters)
            yield Finding(
                "clock-masters",
                Severity.FAULT,
                follower.name,
                f"{names} each run on their own clock.",
                "Two crystals 50 ppm apart slip a sample every 0.4 s at 48 kHz: clicks.",
                f"Let {follower.name} follow its digital input."
                if way
                else "Join them by a digital cable and let one follow, or use one of them only.",
                device=follower.id,
                mend=set_mend(plug, "clock", way) if way else None,
            )
        else:
            plug = next(p for p in graph.plugs() if p.device.id == clocked[0].id)
            yield Finding(
                "clock-masters",
                Severity.FAULT,
                clocked[0].name,
                "Every device follows another: nobody leads.",
                "Nothing locks.",
                f"Let {clocked[0].name} run on its own clock.",
                device=clocked[0].id,
                mend=set_mend(plug, "clock", "internal"),
            )


def _clock_input(graph: RigGraph, device: Device) -> str:
    """A digital input of the device that something is plugged into and that it can follow."""
    options = dict(getattr(device.setting("clock"), "options", ()))
    for port in device.ports:
        if port.id in options and graph.into.get((device.id, port.id)):
            return port.id
    return ""


@check(
    "clock-from-nothing",
    Severity.FAULT,
    looks_for="a device that follows a digital input with nothing in it",
    why="it does not lock",
)
def clock_from_nothing(context: Context) -> Iterator[Finding]:
    for device in context.rig.devices:
        if not device.has_setting("clock"):
            continue
        follows = device.word("clock")
        if follows == "internal" or context.graph.into.get((device.id, follows)):
            continue
        plug = next(p for p in context.graph.plugs() if p.device.id == device.id)
        yield Finding(
            "clock-from-nothing",
            Severity.FAULT,
            device.name,
            f"It follows {_words(device, 'clock')}, where nothing is plugged in.",
            "It does not run, or drifts.",
            f"Plug in the digital cable, or let {device.name} run on its own clock.",
            device=device.id,
            mend=set_mend(plug, "clock", "internal"),
        )


@check(
    "more-conversions",
    Severity.NOTE,
    looks_for="a device that goes out analog and in again where both ends have a free digital "
    "port of one format",
    why="a pair of conversions could be left out; with good converters it is hard to hear",
)
def more_conversions(context: Context) -> Iterator[Finding]:
    graph = context.graph
    told: set[tuple[str, str]] = set()
    for course in context.courses:
        for one, other in zip(course.legs, course.legs[1:], strict=False):
            if one.path is None or other.path is None or one.cable is None:
                continue
            if not one.path.stages or not isinstance(one.path.stages[-1], DacStage):
                continue
            if not any(isinstance(stage, AdcStage) for stage in other.path.stages):
                continue
            if any(isinstance(stage, DacStage) for stage in other.path.stages):
                continue
            if (one.device.id, other.device.id) in told:
                continue
            spoken = {
                p.format
                for p in one.device.ports
                if p.signal_class is SignalClass.DIGITAL and p.direction is Direction.OUT
                and not graph.out_of.get((one.device.id, p.id))
            } & {
                p.format
                for p in other.device.ports
                if p.signal_class is SignalClass.DIGITAL and p.direction is Direction.IN
                and not graph.into.get((other.device.id, p.id))
            }  # fmt: skip
            if not spoken or course.tap == "di":
                continue
            told.add((one.device.id, other.device.id))
            yield Finding(
                "more-conversions",
                Severity.NOTE,
                at_cable(graph, one.cable),
                f"{context.track_name(course.track)} is converted {course.conversions} times; "
                "a digital link would save two.",
                "Some samples of delay and a little noise; hard to hear with good converters.",
                f"Join them by {_spoken(next(iter(spoken)))}, if the clocks can agree.",
                cable=one.cable.id,
                track=course.track,
            )
