"""Ways into an input: what a source can go through, and what comes of each.

A jack straight in, a DI box, an isolator, a reamp box or a pad, at every position of the input's
switch: each is plugged into a rig of its own, the gain is set for the target there, and the plan
tells level, room, noise. So a row is the rig that it says, and plays as it says.
"""

from __future__ import annotations

from collections.abc import Iterator

from diaulos.errors import DiaulosError, RigError
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.rig.catalogue.types import make
from diaulos.rig.checks import Severity, cabling
from diaulos.rig.course import Course, trace_all
from diaulos.rig.fits import joined, misfit_of
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.diagram import LevelDiagram, level_diagram
from diaulos.rig.model import (
    Cable,
    Choice,
    Control,
    Device,
    Direction,
    PortRef,
    Rig,
    SignalClass,
)
from diaulos.rig.modes import passes, treble_db
from diaulos.rig.printed import converter_of, mode_switch
from diaulos.rig.trackplan import TARGET_PEAK_DBFS, TrackPlan, gain_for, plan_traced

BOXES = (
    "passive_di", "active_di", "di_isolator", "line_isolator", "passive_reamp", "inline_pad",
)  # fmt: skip
"""Catalogue types that stand between a source and an input."""
SHORT_DB = 1.0
"""A target that is missed by more is said to be."""


@dataclass(frozen=True)
class Way:
    """One way of a source into an input.

    `rig` is the rig that is plugged so, its gain set for the target. `arrives_dbu` is the
    loudest peak at the input itself; `room_db` what is left to the tightest clip point on the
    way with the gain at its least (negative: it clips), `tightest` names that place. `gain_db`
    is the gain that brings the peak up to the target or as near below as it goes, `left_db`
    what the gain has above it, `short_db` what is missing to the target at most gain.
    `peak_dbfs` and `noise_dbfs` are the track's at that gain (unclipped peak; RMS after AES17,
    20 Hz to 20 kHz). `treble_db` is the level at 4 kHz less that at 1 kHz, from the source's
    EMF on.
    """

    box: str
    box_name: str
    mode: str
    rig: Rig
    track: PortRef
    arrives_dbu: float
    room_db: float
    tightest: str
    gain_db: float | None
    left_db: float | None
    short_db: float
    peak_dbfs: float
    noise_dbfs: float
    level_dbfs: float
    """The unclipped peak with the gain at its least."""
    treble_db: float
    severity: Severity | None
    misfit: str
    unplugs: tuple[str, ...]
    """What has to be unplugged for it, in words."""

    @property
    def snr_db(self) -> float:
        """Peak over noise at that gain."""
        return self.peak_dbfs - self.noise_dbfs

    @property
    def words(self) -> str:
        """What is plugged, in words."""
        through = self.box_name or "straight in"
        return f"{through}, {self.mode.lower()}" if self.mode else through

    @property
    def clips(self) -> bool:
        """Whether it clips with the gain at its least."""
        return self.room_db < -0.05

    @property
    def verdict(self) -> str:
        """In a few words."""
        if self.severity is not None and self.severity >= Severity.DANGER:
            return "DANGER"
        if self.clips:
            return f"CLIPS by {-self.room_db:.1f} dB"
        if self.short_db > SHORT_DB:
            return f"{self.short_db:.1f} dB short"
        if self.severity is not None and self.severity >= Severity.CAUTION:
            return "works, not made for it"
        return "good"

    @property
    def rank(self) -> tuple[object, ...]:
        """Best first: sound, not clipping, reaching the target, then least noise."""
        order = ("good", "works, not made for it")
        verdict = self.verdict
        grade = order.index(verdict) if verdict in order else 2 + self.clips
        return grade, bool(self.unplugs), -round(self.snr_db), bool(self.box), self.words


def ways_into(
    graph: RigGraph, source: PortRef, target: PortRef, target_peak_dbfs: float = TARGET_PEAK_DBFS
) -> tuple[Way, ...]:
    """Every way of a source into an input, best first.

    Parameters
    ----------
    graph
        The rig with its instruments.
    source
        An output: an instrument's jack, or one of a device.
    target
        An input with a converter of its own.
    target_peak_dbfs
        What the loudest peak is to reach.

    Returns
    -------
    Ways whose plugs fit; empty where none does.

    Raises
    ------
    RigError
        For ports that are not an output and an input with a converter.
    """
    here, there = graph.plug(source), graph.plug(target)
    if here.port.direction is not Direction.OUT or there.port.direction is not Direction.IN:
        raise RigError("A way leads from an output to an input.", where=f"{source}, {target}")
    if converter_of(there.device, target.port) is None:
        raise RigError(
            f"{there.words} has no converter of its own.",
            where=str(target),
            remedy="Choose an input that is recorded.",
        )
    found = []
    for box in ("", *BOXES):
        for plugged in _plugged(graph, source, target, box):
            for word, mode in _modes(there.device, target):
                way = _way(graph, plugged, source, target, word, mode, target_peak_dbfs)
                if way is not None:
                    found.append(way)
    return tuple(sorted(found, key=lambda way: way.rank))


@dataclass(frozen=True)
class _Plugged:
    rig: Rig
    box: str
    box_name: str
    into: PortRef
    """The output that goes into the input."""
    unplugs: tuple[str, ...]


def _plugged(graph: RigGraph, source: PortRef, target: PortRef, box: str) -> Iterator[_Plugged]:
    """The rig with a box (none) between the two; what the source went to goes on by the box's
    link, where it has one."""
    rig = graph.rig
    rest, gone = [], []
    kept: Cable | None = None
    for cable in rig.cables:
        if cable.target == target and cable.source != source:
            gone.append(f"{graph.source(cable).words} into {graph.target(cable).words}")
        elif cable.source == source and cable.target != target:
            kept = cable
        elif cable.source != source or cable.target != target:
            rest.append(cable)
    bare = rig.model_copy(update={"cables": tuple(rest)})
    if not box:
        if not _fits(graph, source, target):
            return
        left = (_loss(graph, kept),) if kept is not None else ()
        yield _Plugged(joined(bare, source, target), "", "", source, (*gone, *left))
        return
    made = make(box, free_id({d.id for d in rig.devices}, "way_box"))
    for device, words in _settings_of(made):
        entry = next(p for p in device.ports if p.direction is Direction.IN)
        exit_ = _exit(device)
        one = bare.model_copy(update={"devices": (*bare.devices, device)})
        ends = PortRef(device=device.id, port=entry.id), PortRef(device=device.id, port=exit_)
        wider = graph.of(one)
        if not _fits(wider, source, ends[0]) or not _fits(wider, ends[1], target):
            continue
        one = joined(joined(one, source, ends[0]), ends[1], target)
        left = ()
        if kept is not None:
            link = next((p.id for p in device.ports if p.id == "thru"), "")
            if link and _fits(wider, PortRef(device=device.id, port=link), kept.target):
                on = kept.model_copy(update={"source": PortRef(device=device.id, port=link)})
                one = one.model_copy(update={"cables": (*one.cables, on)})
            else:
                left = (_loss(graph, kept),)
        yield _Plugged(one, box, made.name + words, ends[1], (*gone, *left))


def _settings_of(device: Device) -> Iterator[tuple[Device, str]]:
    """A box at every position of its switches, with words for the position."""
    choices = [s for s in device.settings if isinstance(s, Choice)]
    if not choices:
        yield device, ""
        return
    for word, told in choices[0].options:
        plain = told if told.isupper() else told.lower()
        name = choices[0].name.split(",")[0].lower()
        stands = f"as {plain}" if name == "switch" else f"{name} {plain}"
        yield device.with_setting(choices[0].id, word), f" ({stands})"


def _exit(device: Device) -> str:
    """The output that is meant for the desk: not a link."""
    outs = [p for p in device.ports if p.direction is Direction.OUT]
    return next((p.id for p in outs if p.id == "out"), outs[-1].id)


def _fits(graph: RigGraph, source: PortRef, target: PortRef) -> bool:
    return cabling.fits(graph.plug(source).port.connector, graph.plug(target).port.connector)


def _loss(graph: RigGraph, cable: Cable) -> str:
    return f"{graph.source(cable).words} into {graph.target(cable).words}"


def _modes(device: Device, target: PortRef) -> Iterator[tuple[str, str]]:
    """(position, words) of the input's switch; one empty pair where it has none."""
    switch = mode_switch(device, target.port)
    if switch is None:
        yield "", ""
        return
    yield from switch.options


def _way(
    graph: RigGraph,
    plugged: _Plugged,
    source: PortRef,
    target: PortRef,
    word: str,
    mode: str,
    aim_dbfs: float,
) -> Way | None:
    rig = plugged.rig
    device = rig.device(target.device)
    switch = mode_switch(device, target.port)
    if switch is not None:
        device = device.with_setting(switch.id, word)
    converter = converter_of(device, target.port)
    assert converter is not None
    if converter.control is not None:
        control = device.setting(converter.control)
        assert isinstance(control, Control)
        device = device.with_setting(control.id, control.minimum)
    device = _with_phantom(graph.of(rig), plugged.into, device, target)
    rig = _recorded(rig.with_device(device), target)
    planned = _plan(graph, rig, target)
    if planned is None:
        return None
    severity, misfit = _misfit(graph.of(rig), plugged, source, target)
    least = level_diagram(_course(planned), held=False)
    room, tightest = _tightest(least)
    gain = gain_for(planned, aim_dbfs)
    gain_db = left = None
    if gain is not None:
        owner, setting, value = gain
        rig = rig.with_setting(owner.id, setting.id, value)
        gain_db, left = value, setting.maximum - value
        planned = _plan(graph, rig, target) or planned
    at = level_diagram(_course(planned), held=False)
    peak = at.track.peak
    return Way(
        box=plugged.box, box_name=plugged.box_name, mode=mode, rig=rig, track=planned.track,
        arrives_dbu=_arrives(at, target), room_db=room, tightest=tightest, gain_db=gain_db,
        left_db=left, short_db=max(0.0, aim_dbfs - peak), peak_dbfs=peak,
        noise_dbfs=at.track.noise, level_dbfs=least.track.peak,
        treble_db=treble_db(_course(planned)), severity=severity, misfit=misfit,
        unplugs=plugged.unplugs,
    )  # fmt: skip


def _misfit(
    graph: RigGraph, plugged: _Plugged, source: PortRef, target: PortRef
) -> tuple[Severity | None, str]:
    """The worst that the cable checks say of the links of this way."""
    links = [(graph.plug(plugged.into), graph.plug(target))]
    if plugged.into != source:
        entry = next(
            graph.target(cable)
            for cable in graph.rig.cables
            if cable.source == source and cable.target.device == plugged.into.device
        )
        links.insert(0, (graph.plug(source), entry))
    told = [misfit_of(graph, one, other) for one, other in links]
    return max(told, key=lambda one: (one[0] is not None, one[0] or 0))


def _with_phantom(graph: RigGraph, into: PortRef, device: Device, target: PortRef) -> Device:
    """The input with its phantom power on where the box runs on it, and off elsewhere."""
    wanted = "on" if graph.plug(into).port.needs_phantom else "off"
    port = next(p for p in device.ports if p.id == target.port)
    for mode in port.modes:
        if mode.phantom:
            for name, word in mode.when:
                if word == "on":
                    device = device.with_setting(name, wanted)
    return device


def _recorded(rig: Rig, target: PortRef) -> Rig:
    """The rig with the input recorded: by its own track, else by a free one."""
    graph = RigGraph(rig)
    if any(passes(t.course, target) for t in trace_all(graph)):
        return rig
    outs = [
        path.target for path in rig.device(target.device).live_paths if path.source == target.port
    ]
    streams = [
        port for port in outs if graph.plug(PortRef(device=target.device, port=port)).port
        .signal_class in (SignalClass.STREAM, SignalClass.DIGITAL)
    ]  # fmt: skip
    if not streams:
        return rig
    recorder = next((d for d in rig.devices if d.kind == "recorder"), None)
    if recorder is None:
        recorder = make("computer", free_id({d.id for d in rig.devices}, "computer"))
        rig = rig.model_copy(update={"devices": (*rig.devices, recorder)})
    used = {str(cable.target) for cable in rig.cables}
    for port in recorder.ports:
        end = PortRef(device=recorder.id, port=port.id)
        if port.id.startswith("track") and str(end) not in used:
            return joined(rig, PortRef(device=target.device, port=streams[0]), end)
    return rig


def _plan(graph: RigGraph, rig: Rig, target: PortRef) -> TrackPlan | None:
    traced = tuple(t for t in trace_all(graph.of(rig)) if passes(t.course, target))
    try:
        planned = next((p for p in plan_traced(traced) if p.levels), None)
    except DiaulosError:
        return None
    return planned


def _course(planned: TrackPlan) -> Course:
    assert planned.course is not None
    return planned.course


def _arrives(diagram: LevelDiagram, target: PortRef) -> float:
    for station in diagram.stations:
        place = station.place
        if (place.device, place.port) == (target.device, target.port):
            return station.peak
    return diagram.track.peak


def _tightest(diagram: LevelDiagram) -> tuple[float, str]:
    """What is left to the nearest clip point on the way, and where that is."""
    rooms = [
        (station.place.ceiling - station.peak, station.place.name)
        for station in diagram.stations
        if station.place.ceiling is not None
    ]
    return min(rooms, default=(200.0, ""))


# --- for the engineer at the desk ---


def sentence(way: Way, graph: RigGraph, source: PortRef, target: PortRef) -> str:
    """One sentence for the engineer at the desk: what comes, and what to set.

    Parameters
    ----------
    way
        One of the ways.
    graph
        The rig that it was found in.
    source, target
        Its two ends.

    Returns
    -------
    Words.
    """
    comes = graph.of(way.rig)
    plug = next(
        graph_plug.port
        for cable in way.rig.cables
        if cable.target == target
        for graph_plug in (comes.source(cable),)
    )
    name = comes.plug(target).port.name
    parts = [f"{name}: {way.mode.lower()}" if way.mode else name]
    if way.gain_db is not None:
        parts.append(f"gain {way.gain_db:g} dB")
    if plug.signal_class is SignalClass.MIC:
        parts.append("phantom power on" if plug.needs_phantom else "phantom power off")
    sender = graph.plug(source).device.name
    by = f" through {way.box_name}" if way.box_name else ""
    return (
        f"{', '.join(parts)}. You get {plug.signal_class.label} level from {sender}{by}, "
        f"peaks of {way.arrives_dbu:.0f} dBu."
    )
