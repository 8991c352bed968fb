"""Cable by cable: does what comes out suit what it goes into?"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import numpy as np

from diaulos.circuit.loading import Load, curves_db
from diaulos.rig.checks.ohms import clip_dbu, input_ohm
from diaulos.rig.checks.registry import (
    Context,
    Finding,
    Mend,
    Severity,
    at_cable,
    check,
    set_mend,
    unplug_mend,
)
from diaulos.rig.course import source_of
from diaulos.rig.graph import Plug, RigGraph
from diaulos.rig.mending import insert
from diaulos.rig.model import (
    AUDIO_CLASSES,
    IN_THE_COMPUTER,
    Balance,
    Cable,
    CableKind,
    Choice,
    Connector,
    Device,
    Direction,
    PassiveStage,
    PortRef,
    SignalClass,
)
from diaulos.rig.modes import mode_sum
from diaulos.rig.sources import INSTRUMENT

INSTRUMENT_CLASS, MIC, LINE = AUDIO_CLASSES
USUAL_LINE_DBU = 8.0
"""Peaks that a line input is made for; representative, from memory."""
OPEN_LOAD_OHM = 1e6
LONG_M = 8.0
"""From where an unbalanced run is long (common practice, no source)."""

SAME_PLUGS: dict[Connector, tuple[Connector, ...]] = {
    Connector.TS: (Connector.TS, Connector.TRS, Connector.COMBO),
    Connector.TRS: (Connector.TS, Connector.TRS, Connector.COMBO, Connector.XLR),
    Connector.XLR: (Connector.XLR, Connector.COMBO, Connector.TRS),
    Connector.SPEAKER: (Connector.SPEAKER,),
    Connector.COAXIAL: (Connector.COAXIAL,),
    Connector.OPTICAL: (Connector.OPTICAL,),
    Connector.USB: (Connector.USB,),
    Connector.DC: (Connector.DC,),
    Connector.AIR: (Connector.AIR,),
}
"""What a cable joins; XLR and balanced jacks by a cable with one plug of each."""


def fits(source: Connector, target: Connector) -> bool:
    """Whether a usual cable joins these two connectors."""
    return target in SAME_PLUGS.get(source, ())


@check(
    "does-not-fit",
    Severity.FAULT,
    looks_for="two connectors that no usual cable joins",
    why="only an adapter would join them, and adapters hide what is wrong electrically",
)
def does_not_fit(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if not fits(source.port.connector, target.port.connector):
            yield Finding(
                "does-not-fit",
                Severity.FAULT,
                at_cable(context.graph, cable),
                f"{source.port.connector.value} does not go into {target.port.connector.value}.",
                "There is no such cable.",
                "Choose a port that fits, or a box that converts.",
                cable=cable.id,
                port=target.ref,
                mend=unplug_mend(cable, "it"),
            )


# --- signal classes ---


def class_switch(plug: Plug, wanted: SignalClass) -> tuple[str, str] | None:
    """The switch and position that make a port what is wanted, if one does."""
    base = next(port for port in plug.device.ports if port.id == plug.port.id)
    names = {
        setting: mode.when
        for mode in base.modes
        if mode.signal_class is not None
        for setting, _ in mode.when
    }
    for name in names:
        setting = plug.device.setting(name)
        if not isinstance(setting, Choice):
            continue
        for value, _ in setting.options:
            trial = plug.device.with_setting(name, value)
            if trial.port(base.id).signal_class is wanted:
                return name, value
    return None


MISMATCHES: dict[tuple[SignalClass, SignalClass], tuple[str, Severity]] = {
    (LINE, MIC): ("line-into-mic", Severity.FAULT),
    (MIC, LINE): ("mic-into-line", Severity.FAULT),
    (INSTRUMENT_CLASS, MIC): ("instrument-into-mic", Severity.FAULT),
    (INSTRUMENT_CLASS, LINE): ("instrument-into-line", Severity.CAUTION),
    (LINE, INSTRUMENT_CLASS): ("line-into-instrument", Severity.CAUTION),
    (MIC, INSTRUMENT_CLASS): ("mic-into-instrument", Severity.CAUTION),
}


def _mismatched(context: Context, ident: str) -> Iterator[tuple[Cable, Plug, Plug, Severity]]:
    for cable, source, target in context.graph.cables():
        pair = (source.port.signal_class, target.port.signal_class)
        entry = MISMATCHES.get(pair)
        if entry is None or entry[0] != ident:
            continue
        if class_switch(source, target.port.signal_class) is not None:
            continue  # that output is switched wrongly: another check says so
        if (
            ident == "instrument-into-line"
            and target.device.kind == "isolator"
            and source.device.kind != INSTRUMENT
        ):
            continue  # a transformer passes either; a coil it would load like any line input
        if _di_takes(context, source, target):
            continue
        yield cable, source, target, entry[1]


def _is_line_into_di(source: Plug, target: Plug) -> bool:
    pair = (source.port.signal_class, target.port.signal_class)
    return target.device.kind == "di" and pair == (LINE, INSTRUMENT_CLASS)


def _di_takes(context: Context, source: Plug, target: Plug) -> bool:
    """Whether a DI box takes this line output as it is: it is judged by its ceiling alone."""
    if not _is_line_into_di(source, target):
        return False
    peak = context.peak_at(source)
    most = clip_dbu(target.device, target.port.id, target.port.max_dbu)
    return peak is None or most is None or peak - most <= CLIPS_DB


def _class_mend(source: Plug, target: Plug) -> Mend | None:
    found = class_switch(target, source.port.signal_class)
    return None if found is None else set_mend(target, *found)


def _mismatch(context: Context, ident: str) -> Iterator[Finding]:
    for cable, source, target, severity in _mismatched(context, ident):
        consequence, remedy = _effect(context, ident, source, target)
        consequence = f"{consequence} {_wrong_mode(context, source, target)}".strip()
        if ident == "line-into-mic" and "clip by" not in consequence:
            severity = Severity.CAUTION
        mend = _class_mend(source, target)
        if _is_line_into_di(source, target):
            mend = set_mend(target, "pad", "on") if target.device.has_setting("pad") else None
            remedy = "Turn the output down by as much."
        elif mend is None and ident == "line-into-instrument":
            mend = Mend(
                "Put a reamp box into this cable",
                partial(insert, cable_id=cable.id, type_id="passive_reamp", stem="reamp_box"),
            )
        yield Finding(
            ident,
            severity,
            at_cable(context.graph, cable),
            f"{_capital(source.port.signal_class.words)} output goes into an input made for "
            f"{target.port.signal_class.label}.",
            consequence,
            f"{mend.label}." if mend else remedy,
            cable=cable.id,
            port=target.ref,
            mend=mend,
        )


def _wrong_mode(context: Context, source: Plug, target: Plug) -> str:
    """What the input's switch costs against the position made for this source; "" where it has
    none, or where it is no loss."""
    found = class_switch(target, source.port.signal_class)
    told = "" if found is None else mode_sum(context.graph, target.ref, str(found[1]))
    return told if "quieter" in told else ""


def _effect(context: Context, ident: str, source: Plug, target: Plug) -> tuple[str, str]:
    peak = context.peak_at(source)
    most = clip_dbu(target.device, target.port.id, target.port.max_dbu)
    if ident in ("line-into-mic", "line-into-instrument"):
        remedy = (
            "Use a line input, or a pad."
            if ident == "line-into-mic"
            else "Put a reamp box between: it brings line down to instrument level."
        )
        return _clip_words(peak, most), remedy
    if ident in ("mic-into-line", "mic-into-instrument"):
        low = "far" if peak is None else f"about {USUAL_LINE_DBU - peak:.0f} dB"
        return (
            f"It is {low} too quiet: gain and hiss have to make up for it.",
            "Use a microphone input or a preamp.",
        )
    ohm = abs(input_ohm(context.graph, target.ref))
    return (
        f"It loads the instrument with {_ohms(ohm)} and expects another level.",
        "Use an instrument input or a DI box.",
    )


CLIPS_DB = 0.5


def _clip_words(peak: float | None, most: float | None) -> str:
    """What an input makes of these peaks; without them nothing is claimed."""
    if most is None:
        return ""
    if peak is None:
        return f"How loud it is is unknown; the input clips at {most:.0f} dBu."
    if peak - most > CLIPS_DB:
        return f"Its peaks of {peak:.0f} dBu clip by {peak - most:.0f} dB."
    return f"Its peaks of {peak:.0f} dBu leave {most - peak:.0f} dB as its gain stands."


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _ohms(ohm: float) -> str:
    return f"{ohm / 1e6:.2g} MΩ" if ohm >= 1e6 else f"{ohm / 1e3:.3g} kΩ"


def _register(ident: str, severities: tuple[Severity, ...], looks_for: str, why: str) -> None:
    """One check for each pair of signal classes that do not suit each other."""

    def run(context: Context) -> Iterator[Finding]:
        return _mismatch(context, ident)

    check(ident, *severities, looks_for=looks_for, why=why)(run)


for _ident, _severities, _looks_for, _why in (
    (
        "line-into-mic", (Severity.CAUTION, Severity.FAULT),
        "a line output in a microphone input",
        "the preamp clips; by how many dB is worked out from the course",
    ),
    (
        "mic-into-line", (Severity.FAULT,),
        "a microphone level in a line input",
        "it is far too quiet and drowns in the input's noise",
    ),
    (
        "instrument-into-mic", (Severity.FAULT,),
        "an instrument level in a microphone input",
        "a few kilohm take level and treble, and a microphone input expects less",
    ),
    (
        "instrument-into-line", (Severity.CAUTION,),
        "an instrument level in a line input",
        "it is quieter than line, and a passive pickup is loaded",
    ),
    (
        "line-into-instrument", (Severity.CAUTION,),
        "a line output in an instrument or amplifier input",
        "it drives the input far harder than a pickup, from the wrong impedance",
    ),
    (
        "mic-into-instrument", (Severity.CAUTION,),
        "a microphone level in an instrument input",
        "it is too quiet there",
    ),
):  # fmt: skip
    _register(_ident, _severities, _looks_for, _why)


@check(
    "switch-unlike",
    Severity.CAUTION,
    looks_for="an output whose mic, line or instrument switch is unlike what the next device "
    "expects",
    why="the level is wrong by what the switch is worth",
)
def switch_unlike(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if source.port.signal_class not in AUDIO_CLASSES:
            continue
        if target.port.signal_class not in AUDIO_CLASSES:
            continue
        if source.port.signal_class is target.port.signal_class:
            continue
        found = class_switch(source, target.port.signal_class)
        if found is None or _di_takes(context, source, target):
            continue
        mend = set_mend(source, *found)
        peak = context.peak_at(source)
        most = clip_dbu(target.device, target.port.id, target.port.max_dbu)
        words = "Its level is unknown" if peak is None else f"Its peaks are {peak:.0f} dBu"
        if most is not None:
            words += f"; the input clips at {most:.0f} dBu"
        yield Finding(
            "switch-unlike",
            Severity.CAUTION,
            at_cable(context.graph, cable),
            f"The output is switched to {source.port.signal_class.label}, the input is made for "
            f"{target.port.signal_class.label}.",
            words + ".",
            f"{mend.label}." if mend else "Switch the output.",
            cable=cable.id,
            port=source.ref,
            mend=mend,
        )


@check(
    "ask-mic-or-line",
    Severity.NOTE,
    looks_for="an output with a microphone and a line position, plugged into somebody's desk",
    why="the engineer there knows which of the two the desk is set for",
)
def ask_mic_or_line(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if target.device.kind != "desk" or source.port.signal_class not in AUDIO_CLASSES:
            continue
        given = _each_gives(context, source)
        if len(given) < 2:
            continue
        told = ", ".join(f"{word.lower()} {peak:.0f} dBu" for word, peak in given)
        yield Finding(
            "ask-mic-or-line",
            Severity.NOTE,
            at_cable(context.graph, cable),
            f"Ask the engineer: mic or line? {source.port.name} can give either.",
            f"Its peaks are, by its switch: {told}.",
            "Set both ends alike.",
            cable=cable.id,
            port=source.ref,
        )


def _each_gives(context: Context, source: Plug) -> list[tuple[str, float]]:
    """What an output gives in its microphone and its line position: words and peak in dBu."""
    found = []
    for wanted in (MIC, LINE):
        switch = class_switch(source, wanted)
        if switch is None:
            continue
        setting = source.device.setting(switch[0])
        rig = context.rig.with_setting(source.device.id, *switch)
        peak = Context(context.graph.of(rig)).peak_at(Plug(rig.device(source.device.id),
                                                           source.port))  # fmt: skip
        if peak is not None and isinstance(setting, Choice):
            found.append((dict(setting.options).get(switch[1], switch[1]), peak))
    return found


# --- what an instrument is loaded with ---


def node_load(graph: RigGraph, output: PortRef) -> tuple[float, float, list[Cable]]:
    """All that hangs at an output: ohms, farad, and the cables of the node.

    Wires and links belong to the node; a transformer shows its ratio squared times what is
    behind it.
    """
    siemens, farad, cables = 1e-12, 0.0, []
    waiting = [(c, 1.0) for c in graph.out_of.get((output.device, output.port), ())]
    seen: set[str] = set()
    while waiting:
        cable, ratio = waiting.pop()
        if cable.id in seen:
            continue
        seen.add(cable.id)
        farad += cable.capacitance_f / ratio**2
        if ratio == 1.0:
            cables.append(cable)
        plug = graph.target(cable)
        paths = graph.paths_from(plug.device.id, plug.port.id)
        through = [p for p in paths if all(isinstance(s, PassiveStage) for s in p.stages)]
        if len(through) < len(paths) or not through:
            siemens += 1.0 / plug.port.impedance_ohm / ratio**2
            farad += plug.port.capacitance_pf * 1e-12 / ratio**2
        for path in through:
            turns = ratio
            for stage in path.stages:
                assert isinstance(stage, PassiveStage)
                turns *= stage.turns_ratio
            waiting += [(c, turns) for c in graph.out_of.get((plug.device.id, path.target), ())]
    return 1.0 / siemens, farad, cables


def passive_instruments(context: Context) -> Iterator[tuple[Device, PortRef]]:
    """The instruments that a load changes, each with its jack."""
    for device in context.graph.of_kind(INSTRUMENT):
        source = source_of(context.graph, device)
        if source is not None and not source.active:
            for port in device.ports:
                if port.direction is Direction.OUT and context.graph.out_of.get(
                    (device.id, port.id)
                ):
                    yield device, PortRef(device=device.id, port=port.id)


FREQS = np.array([1_000.0, 4_000.0])


def losses(context: Context, device: Device, ohm: float, farad: float) -> tuple[float, float]:
    """dB lost at 1 kHz and at 4 kHz against an open input with the same cables."""
    source = source_of(context.graph, device)
    assert source is not None
    loads = [Load(OPEN_LOAD_OHM, farad), Load(ohm, farad)]
    plain, loaded = curves_db(source.circuit, loads, FREQS)
    return float(plain[0] - loaded[0]), float(plain[1] - loaded[1])


@check(
    "instrument-loaded",
    Severity.NOTE,
    Severity.CAUTION,
    Severity.FAULT,
    looks_for="a passive pickup or piezo that works into too few ohms; a note from 2 dB at 4 kHz, "
    "a caution from 4 dB, a fault from 9 dB",
    why="level and treble are lost before anything is recorded; how much is worked out from the "
    "instrument's circuit",
)
def instrument_loaded(context: Context) -> Iterator[Finding]:
    for device, ref in passive_instruments(context):
        ohm, farad, cables = node_load(context.graph, ref)
        level, treble = losses(context, device, ohm, farad)
        worst = max(level, treble)
        if worst < 2.0:
            continue
        severity = (
            Severity.FAULT if worst > 9.0 else Severity.CAUTION if worst > 4.0 else Severity.NOTE
        )
        lowest = min(
            (context.graph.target(c) for c in cables),
            key=lambda plug: abs(input_ohm(context.graph, plug.ref)),
        )
        yield Finding(
            "instrument-loaded",
            severity,
            context.graph.plug(ref).words,
            f"It works into {_ohms(ohm)} in all, most of it from {lowest.words}.",
            f"Against 1 MΩ it loses {level:.1f} dB at 1 kHz and {treble:.1f} dB at 4 kHz.",
            "Put an active DI or a buffer first, or choose an input of 1 MΩ.",
            port=ref,
            mend=_impedance_mend(lowest),
        )


def _impedance_mend(plug: Plug) -> Mend | None:
    """The switch position with the most ohms, where the port has such a switch."""
    base = next(port for port in plug.device.ports if port.id == plug.port.id)
    best: tuple[float, str, str] | None = None
    for mode in base.modes:
        if mode.impedance_ohm is None and mode.signal_class is not SignalClass.INSTRUMENT:
            continue
        for name, _ in mode.when:
            setting = plug.device.setting(name)
            if not isinstance(setting, Choice):
                continue
            for value, _ in setting.options:
                ohm = plug.device.with_setting(name, value).port(base.id).impedance_ohm
                if ohm > plug.port.impedance_ohm and (best is None or ohm > best[0]):
                    best = (ohm, name, value)
    return None if best is None else set_mend(plug, best[1], best[2])


@check(
    "long-unbalanced",
    Severity.CAUTION,
    looks_for="more than 8 m of unbalanced cable, links added up",
    why="its capacitance takes treble off a passive pickup, and it picks up hum and radio",
)
def long_unbalanced(context: Context) -> Iterator[Finding]:
    graph = context.graph
    told: set[str] = set()
    for device, ref in passive_instruments(context):
        ohm, farad, cables = node_load(graph, ref)
        length = sum(c.length_m for c in cables)
        if length <= 1.5 * LONG_M:
            continue
        source = source_of(graph, device)
        assert source is not None
        short = farad - sum(c.capacitance_f for c in cables) + 600e-12
        plain, long = curves_db(source.circuit, [Load(ohm, short), Load(ohm, farad)], FREQS)
        told |= {c.id for c in cables}
        yield Finding(
            "long-unbalanced",
            Severity.CAUTION,
            graph.plug(ref).words,
            f"{length:g} m of cable hang at a passive pickup: {farad * 1e12:.0f} pF.",
            f"{plain[1] - long[1]:+.1f} dB less at 4 kHz than with 6 m, and more hum.",
            "Buffer it close to the instrument, or use shorter cables.",
            port=ref,
            cable=cables[0].id,
        )
    for cable, source_plug, target in graph.cables():
        if cable.id in told or cable.length_m <= LONG_M:
            continue
        if source_plug.port.signal_class not in AUDIO_CLASSES or cable.kind is CableKind.AIR:
            continue
        balanced = (
            source_plug.port.balance is not Balance.NONE
            and target.port.balance is not Balance.NONE
            and cable.kind is not CableKind.INSTRUMENT
        )
        if balanced:
            continue
        yield Finding(
            "long-unbalanced",
            Severity.CAUTION,
            at_cable(graph, cable),
            f"{cable.length_m:g} m of this cable are unbalanced.",
            "It picks up hum and radio in proportion to its length.",
            "Use a balanced connection, a DI box or a line isolator.",
            cable=cable.id,
            port=source_plug.ref,
        )


# --- one port, several cables ---


@check(
    "outputs-joined",
    Severity.FAULT,
    looks_for="two outputs plugged into one input",
    why="each output works into the other; only a mixer joins signals",
)
def outputs_joined(context: Context) -> Iterator[Finding]:
    for key, cables in context.graph.into.items():
        if len(cables) < 2 or all(c.kind is CableKind.AIR for c in cables):
            continue
        plug = context.graph.plug(PortRef(device=key[0], port=key[1]))
        if plug.port.signal_class is SignalClass.SOUND:
            continue
        sources = [context.graph.source(c).device.kind for c in cables]
        if plug.port.signal_class is SignalClass.STREAM and set(sources) <= set(IN_THE_COMPUTER):
            continue  # a sound server adds them up
        names = ", ".join(context.graph.source(c).words for c in cables)
        yield Finding(
            "outputs-joined",
            Severity.FAULT,
            plug.words,
            f"{len(cables)} outputs end here: {names}.",
            "They work into each other: level is lost, and an output can be overloaded.",
            "Unplug all but one, or use a mixer.",
            port=plug.ref,
            cable=cables[-1].id,
            mend=unplug_mend(cables[-1], context.graph.source(cables[-1]).words),
        )


@check(
    "port-used-twice",
    Severity.CAUTION,
    looks_for="an analog output with two cables",
    why="one jack holds one plug; a Y cable makes each load the other",
)
def port_used_twice(context: Context) -> Iterator[Finding]:
    for key, cables in context.graph.out_of.items():
        if len(cables) < 2:
            continue
        plug = context.graph.plug(PortRef(device=key[0], port=key[1]))
        if plug.port.signal_class in (SignalClass.STREAM, SignalClass.SOUND):
            continue
        digital = plug.port.signal_class is SignalClass.DIGITAL
        yield Finding(
            "port-used-twice",
            Severity.CAUTION,
            plug.words,
            f"{len(cables)} cables start here.",
            "A digital output split by a Y cable is too weak for both."
            if digital
            else "Both inputs hang at one output: each loads the other.",
            "Use a splitter, a link-through or another output.",
            port=plug.ref,
            cable=cables[-1].id,
            mend=unplug_mend(cables[-1], context.graph.target(cables[-1]).words),
        )


@check(
    "one-leg",
    Severity.NOTE,
    looks_for="a symmetrical output into an unbalanced input",
    why="one of its two legs is used: 6 dB less",
)
def one_leg(context: Context) -> Iterator[Finding]:
    for cable, source, target in context.graph.cables():
        if source.port.balance is not Balance.SYMMETRICAL:
            continue
        if source.port.signal_class not in AUDIO_CLASSES:
            continue
        if target.port.balance is not Balance.NONE and cable.kind is not CableKind.INSTRUMENT:
            continue
        yield Finding(
            "one-leg",
            Severity.NOTE,
            at_cable(context.graph, cable),
            "A symmetrical output is used with one leg.",
            "6 dB less than with both.",
            "Use a balanced input and cable, or reckon with it.",
            cable=cable.id,
            port=source.ref,
        )


@check(
    "passive-di-loss",
    Severity.NOTE,
    Severity.CAUTION,
    looks_for="a passive DI on a passive pickup or piezo; a caution from 3 dB at 4 kHz",
    why="its transformer shows the microphone input's ohms times the ratio squared",
)
def passive_di_loss(context: Context) -> Iterator[Finding]:
    graph = context.graph
    for device, ref in passive_instruments(context):
        ohm, farad, cables = node_load(graph, ref)
        boxes = [
            graph.target(c)
            for c in cables
            if graph.target(c).device.kind == "di"
            and any(
                isinstance(s, PassiveStage) and s.turns_ratio > 1.0
                for p in graph.paths_from(graph.target(c).device.id, graph.target(c).port.id)
                for s in p.stages
            )
        ]
        for box in boxes:
            level, treble = losses(context, device, ohm, farad)
            source = source_of(graph, device)
            assert source is not None
            what = "a piezo" if source.piezo else "a passive pickup"
            severity = Severity.CAUTION if max(level, treble) > 3.0 else Severity.NOTE
            yield Finding(
                "passive-di-loss",
                severity,
                box.words,
                f"A passive DI loads {what}: {_ohms(ohm)} in all.",
                f"{level:.1f} dB at 1 kHz and {treble:.1f} dB at 4 kHz are lost against 1 MΩ.",
                "Use an active DI of 1 MΩ or more; keep passive ones for active instruments.",
                port=box.ref,
            )
