"""A rig looked at: its courses, tracks and findings with the levels that are really played."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from diaulos.circuit.loading import Load, level_db
from diaulos.records import dataclass
from diaulos.rig.changes import inputs_left
from diaulos.rig.checks import Context, Finding, run_checks
from diaulos.rig.checks.cabling import node_load
from diaulos.rig.excerpt import GUITAR_STRINGS, USUAL_STRINGS
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.monitoring import MonitorPlan
from diaulos.rig.polarity import is_inverted
from diaulos.rig.sources import (
    INSTRUMENT,
    USUAL_CREST_DB,
    PlayedSource,
    representative_of,
)
from diaulos.rig.states import folded, in_state, switched
from diaulos.rig.trackplan import TrackPlan, plan_tracks, stereo_sides
from diaulos.session.instrument import Instrument, note_to_midi
from diaulos.session.model import Session
from diaulos.session.representative import HARD_PEAK_DBU
from diaulos.units import ms_to_samples
from diaulos.work.rigs.stored import NOTHING_STORED, Stored


@dataclass(frozen=True, eq=False)
class RigReport:
    """A rig as it stands: what is found, what is recorded, what is heard."""

    graph: RigGraph
    findings: tuple[Finding, ...]
    tracks: tuple[TrackPlan, ...]
    monitoring: MonitorPlan
    inputs_used: int
    inputs_free: tuple[PortRef, ...]
    """Analog and digital inputs of recording devices with nothing in them."""

    @property
    def rig(self) -> Rig:
        """The rig."""
        return self.graph.rig


def played_sources(
    session: Session, rig: Rig, stored: Stored = NOTHING_STORED
) -> dict[str, PlayedSource]:
    """The session's instruments that a rig's instrument devices name, by device id."""
    instruments = {one.id: one for one in session.instruments}
    found = {}
    for device in rig.devices:
        if device.kind != INSTRUMENT or not device.has_setting("instrument"):
            continue
        one = instruments.get(device.word("instrument"))
        if one is not None and one.position is not None:
            source = instrument_source(one)
            found[device.id] = replace(source, excerpt=stored.excerpts.get(one.id))
    return with_played_levels(rig, found)


def with_played_levels(rig: Rig, sources: Mapping[str, PlayedSource]) -> dict[str, PlayedSource]:
    """Sources as loud as somebody typed or measured them in this rig."""
    found = dict(sources)
    devices = {device.id: device for device in rig.devices}
    for level in rig.played:
        device = devices.get(level.device)
        if device is None or device.kind != INSTRUMENT:
            continue
        source = found.get(device.id) or representative_of(device)
        peak = level.emf_peak_dbu
        if source.max_dbu is not None:
            peak = min(peak, source.max_dbu)
        found[device.id] = replace(
            source, emf_peak_dbu=peak, crest_db=level.crest_db, known=True, crest_known=True
        )
    return found


def instrument_source(one: Instrument, jack_peak_dbu: float | None = None) -> PlayedSource:
    """An instrument as a source, as strong as its reading (made through its cable into a tone
    stage), as its pickup's type is usual without one, or as it is said to be."""
    circuit = one.circuit()
    reading, position = one.reading, one.position
    assert position is not None
    known = reading is not None and reading.peak_dbu is not None
    peak = jack_peak_dbu
    if peak is None and reading is not None:
        peak = reading.peak_dbu
    if peak is None:
        peak = HARD_PEAK_DBU.get(one.pickup(position.pickups[0]).type, 0.0)
    load = Load.together(one.cable, Load(1e6, 50e-12))
    # The reading was made with the knobs as they stood then, and is undone with those.
    heard = jack_peak_dbu is None and reading is not None
    lost = level_db(one.circuit_at(reading) if heard and reading else circuit, load, 1000.0)
    if one.max_dbu is not None:
        peak = min(peak, one.max_dbu)
    family = "bass" if one.family == "bass" else "guitar"
    crest = USUAL_CREST_DB
    if reading is not None:
        crest = max(0.0, reading.peak_dbfs - reading.loudest_400ms_dbfs)
    usual = USUAL_STRINGS.get(family, GUITAR_STRINGS)
    return PlayedSource(
        one.name, circuit, peak - lost, family, known, crest, one.max_dbu, one.noise_dbu,
        strings=tuple(sorted(note_to_midi(name) for name in one.strings)) or usual,
        jack_load=load,
        crest_known=reading is not None,
    )  # fmt: skip


def rig_graph(
    session: Session, rig: Rig, stored: Stored = NOTHING_STORED, *, tone: bool = False
) -> RigGraph:
    """A rig with the session's instruments in it, and what is stored of their playing; `tone`: a
    sine at 1 kHz in its place."""
    sent = stored.sent.through if stored.sent is not None else None
    sources = played_sources(session, rig, stored)
    return RigGraph(rig, sources, sent, tone=tone, cabinets=stored.cabinets)


def look_at(
    session: Session,
    rig_id: str = "",
    stored: Stored = NOTHING_STORED,
    *,
    both: bool = False,
) -> RigReport:
    """Everything about a rig of the session, the current one by default, as it records; with
    `both` also what is found in its state Reamp alone."""
    rig = session.rig(rig_id)
    graph = rig_graph(session, rig, stored)
    rate = float(session.sample_rate_hz)
    context = Context(graph, rate, session.target_peak_dbfs)
    used, free = inputs_left(graph.rig)
    findings = run_checks(context)
    if both and rig.reamp_switches:
        sent = Context(
            rig_graph(session, in_state(rig, "reamp"), stored), rate, session.target_peak_dbfs
        )
        findings = in_both(findings, run_checks(sent))
    return RigReport(
        graph,
        findings,
        plan_tracks(graph),
        context.monitoring,
        used,
        free,
    )


def in_both(record: tuple[Finding, ...], reamp: tuple[Finding, ...]) -> tuple[Finding, ...]:
    """What is found in state Record, and what in state Reamp alone; the worst first."""
    known = {(one.key, one.track) for one in record}
    more = [_of_reamp(one) for one in reamp if (one.key, one.track) not in known]
    return tuple(sorted((*record, *more), key=lambda one: -one.severity))


def _of_reamp(one: Finding) -> Finding:
    mend = one.mend
    if mend is not None:
        change = mend.change
        mend = replace(mend, change=lambda rig: folded(rig, change(in_state(rig, "reamp"))))
    return replace(one, where=f"In state Reamp, {one.where}", mend=mend, state="reamp")


# --- for scripts ---


def findings_data(findings: tuple[Finding, ...]) -> list[dict[str, Any]]:
    """Findings for JSON."""
    return [
        {
            "id": one.id,
            "severity": one.severity.word,
            "where": one.where,
            "cause": one.cause,
            "consequence": one.consequence,
            "remedy": one.remedy,
            "can_be_applied": one.mend is not None,
            "state": one.state or None,
        }
        for one in findings
    ]


def switches_data(rig: Rig) -> list[dict[str, str]]:
    """What stands otherwise in state Reamp, for JSON."""
    return [
        {"device": one.device, "setting": one.setting, "record": one.record, "reamp": one.reamp}
        for one in switched(rig)
    ]


def courses_data(report: RigReport, rate_hz: float) -> list[dict[str, Any]]:
    """Every recorded track for JSON: stations with their peaks, tap, conversions, delay."""
    planned = {track.port: track for track in report.rig.tracks}
    order = {track.port: index for index, track in enumerate(report.rig.tracks)}
    layouts = stereo_sides(report.tracks)
    rows = []
    for plan in sorted(report.tracks, key=lambda p: order.get(p.track, len(order))):
        meant = planned.get(plan.track)
        course = plan.course
        rows.append(
            {
                "track": str(plan.track),
                "name": meant.name if meant else plan.track.port,
                "group": meant.group or None if meant else None,
                "input_number": meant.input_number if meant else None,
                "source": plan.source or None,
                "tap": plan.tap,
                "layout": layouts.get(plan.track, "mono"),
                "polarity": (-1 if is_inverted(course) else 1) if course else None,
                "conversions": course.conversions if course else None,
                "digital_links": len(course.digital_links) if course else None,
                "delay_ms": plan.delay_ms(rate_hz) if course else None,
                "delay_samples": ms_to_samples(plan.delay_ms(rate_hz), rate_hz) if course else None,
                "peak_dbfs": plan.peak_dbfs,
                "planned_peak_dbfs": plan.unclipped_dbfs,
                "reason": str(plan.problem) if plan.problem else None,
                "stations": _stations_data(plan),
            }
        )
    return rows


def planned_data(report: RigReport) -> list[dict[str, Any]]:
    """The planned peak of every recorded track for JSON, unclipped."""
    names = {track.port: track.name for track in report.rig.tracks}
    return [
        {
            "track": str(plan.track),
            "name": names.get(plan.track, plan.track.port),
            "planned_peak_dbfs": plan.unclipped_dbfs,
        }
        for plan in report.tracks
    ]


def _stations_data(plan: TrackPlan) -> list[dict[str, Any]]:
    return [
        {
            "device": level.device,
            "port": level.point.port.name,
            "signal_class": level.point.port.signal_class.value,
            "peak": level.peak,
            "unit": level.unit,
            "clips_at": level.ceiling,
            "clips_by_db": level.clips_db,
        }
        for level in plan.levels
    ]


def node_load_of(graph: RigGraph, output: PortRef) -> float:
    """Ohm of everything that hangs at an output."""
    return node_load(graph, output)[0]


def monitoring_data(report: RigReport) -> list[dict[str, Any]]:
    """Who hears what by which way."""
    return [
        {
            "listener": one.listener,
            "source": way.source,
            "by": way.kind,
            "tap": way.tap,
            "delay_ms": way.delay_ms,
            "fader": way.strip_name or None,
            "sides": [{-1: "left", 1: "right"}[side] for side in way.sides],
            "through": list(way.through),
        }
        for one in report.monitoring.listeners
        for way in one.ways
    ]
