"""Use cases of the rig: checks, courses, own types, and a stored DI played through it."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, curves_db, level_db
from diaulos.errors import EditError, InputError, RigError
from diaulos.rig.bench import BenchFaults, Impulses, RigBench, strum_volts
from diaulos.rig.changes import inputs_left
from diaulos.rig.checks import Context, Finding, run_checks
from diaulos.rig.checks.wiring import node_load
from diaulos.rig.course import Course, source_of
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import Device, PortRef, Rig
from diaulos.rig.monitoring import MonitorPlan
from diaulos.rig.plan import ASSUMED_FULL_SCALE_DBU
from diaulos.rig.sources import (
    INSTRUMENT,
    USUAL_CREST_DB,
    PlayedSource,
    representative_of,
)
from diaulos.rig.trackplan import TrackPlan, plan_tracks, stereo_sides
from diaulos.session.edits import Edit, add_take
from diaulos.session.instrument import Instrument
from diaulos.session.model import Session, Take, Track, rig_hash
from diaulos.session.representative import HARD_PEAK_DBU
from diaulos.units import dbu_to_peak_volt, gain_to_db, ms_to_samples
from diaulos.work.files import ArraySource
from diaulos.work.measuring import FULL_SCALE
from diaulos.work.ports import (
    AudioSink,
    AudioSource,
    CancelToken,
    Clock,
    FileNotes,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.takes import next_take_number

Real = NDArray[np.float64]


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


def played_sources(session: Session, rig: Rig) -> dict[str, PlayedSource]:
    """The session's instruments that a rig's instrument devices name, by device id."""
    instruments = {one.id: one for one in session.instruments}
    found = {}
    for device in rig.devices:
        if device.kind != INSTRUMENT or not device.has_setting("instrument"):
            continue
        one = instruments.get(device.word("instrument"))
        if one is not None and one.position is not None:
            found[device.id] = _played(one)
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
        found[device.id] = replace(source, emf_peak_dbu=peak, crest_db=level.crest_db, known=True)
    return found


def _played(one: Instrument) -> PlayedSource:
    """An instrument as a source. A reading was made through its cable into a tone stage: the
    EMF's peak is what the load took at 1 kHz higher."""
    circuit = one.circuit()
    reading = one.reading
    position = one.position
    assert position is not None
    known = reading is not None and reading.peak_dbu is not None
    if reading is not None and reading.peak_dbu is not None:
        peak = reading.peak_dbu
    else:
        peak = HARD_PEAK_DBU.get(one.pickup(position.pickups[0]).type, 0.0)
    lost = level_db(circuit, Load.together(one.cable, Load(1e6, 50e-12)), 1000.0)
    if one.max_dbu is not None:
        peak = min(peak, one.max_dbu)
    family = "bass" if one.family == "bass" else "guitar"
    crest = USUAL_CREST_DB
    if reading is not None:
        crest = max(0.0, reading.peak_dbfs - reading.loudest_400ms_dbfs)
    return PlayedSource(
        one.name, circuit, peak - lost, family, known, crest, one.max_dbu, one.noise_dbu
    )


def rig_graph(session: Session, rig: Rig) -> RigGraph:
    """A rig with the session's instruments in it."""
    return RigGraph(rig, played_sources(session, rig))


def look_at(session: Session, rig_id: str = "") -> RigReport:
    """Everything about a rig of the session, the current one by default."""
    graph = rig_graph(session, session.rig(rig_id))
    rate = float(session.sample_rate_hz)
    context = Context(graph, rate, session.target_peak_dbfs)
    used, free = inputs_left(graph.rig)
    return RigReport(
        graph,
        run_checks(context),
        plan_tracks(graph),
        context.monitoring,
        used,
        free,
    )


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
        }
        for one in findings
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
                "conversions": course.conversions if course else None,
                "digital_links": len(course.digital_links) if course else None,
                "delay_ms": plan.delay_ms(rate_hz) if course else None,
                "delay_samples": ms_to_samples(plan.delay_ms(rate_hz), rate_hz) if course else None,
                "peak_dbfs": plan.peak_dbfs,
                "reason": str(plan.problem) if plan.problem else None,
                "stations": _stations_data(plan),
            }
        )
    return rows


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


# --- own types ---

MOST_TYPE_BYTES = 1_000_000


def type_text(device: Device) -> str:
    """A device as a type in an open file: JSON, stable key order, without its place in a rig."""
    data = device.model_dump(mode="json", exclude_none=True)
    data["id"] = "own"
    return json.dumps({"diaulos_device_type": 1, "device": data}, indent=1, ensure_ascii=False)


def read_type(path: Path) -> Device:
    """A device type from a file; InputError says where it is wrong."""
    from pydantic import ValidationError

    try:
        if path.stat().st_size > MOST_TYPE_BYTES:
            raise InputError("it is larger than a device type can be.", where=str(path))
        data = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise InputError(f"it cannot be read ({error.strerror}).", where=str(path)) from error
    except (UnicodeDecodeError, ValueError) as error:
        raise InputError(
            f"it is no JSON ({error}).", where=str(path), remedy="Choose a saved device type."
        ) from error
    if not isinstance(data, dict) or data.get("diaulos_device_type") != 1:
        raise InputError(
            "it is not a device type.", where=str(path), remedy="Choose a saved device type."
        )
    try:
        return Device.model_validate(data.get("device"))
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(place) for place in first["loc"])
        raise InputError(f"device.{field}: {first['msg']}.", where=str(path)) from error


# --- playing ---


@dataclass(frozen=True)
class RenderRequest:
    """A stored DI (or a track to send) to play through a rig.

    `full_scale_dbu` is the dBu of a sine that reached 0 dBFS in it, None when nobody knows;
    `load_ohm` and `load_pf` what it was recorded into, its cable included (by default an
    input of 1 MΩ and three metres).
    """

    session: Session
    rig_id: str
    di: AudioSource
    channel: int = 0
    source: str = ""
    full_scale_dbu: float | None = None
    load_ohm: float = 1e6
    load_pf: float = 350.0
    seed: int = 1
    mains_hz: float = 50.0


PLAYER_FULL_SCALE_DBU = 20.0
PLAYER_LOAD = Load(1e6, 660e-12)


def player_request(session: Session, rig: Rig, seed: int = 1, mains_hz: float = 50.0,
                   source: str = "", strums: int = 5) -> RenderRequest:  # fmt: skip
    """A simulated player who strums the rig's instrument as hard as it goes."""
    graph = rig_graph(session, rig)
    device = render_source(graph, source)
    played = source_of(graph, device)
    if played is None:
        raise RigError(
            f"{device.name} is no instrument: nobody can strum it.",
            where=rig.name,
            remedy="Give a stored DI.",
        )
    volts = strum_volts(
        played.circuit,
        PLAYER_LOAD,
        (28,) if played.family == "bass" else (40, 47, 52),
        float(session.sample_rate_hz),
        open_peak_dbu=played.emf_peak_dbu,
        seed=seed,
        strums=strums,
    )
    samples = (volts / dbu_to_peak_volt(PLAYER_FULL_SCALE_DBU)).astype(np.float32)
    return RenderRequest(
        session,
        rig.id,
        ArraySource(samples, session.sample_rate_hz),
        source=device.id,
        full_scale_dbu=PLAYER_FULL_SCALE_DBU,
        load_ohm=PLAYER_LOAD.ohm,
        load_pf=PLAYER_LOAD.farad * 1e12,
        seed=seed,
        mains_hz=mains_hz,
    )


def played_volts(
    session: Session, rig: Rig, source: str, seed: int
) -> tuple[Real, Callable[[Real], Real]]:
    """What a simulated player plays on an instrument of the rig, in volts as a DI holds them,
    and the gain from the EMF to that."""
    request = player_request(session, rig, seed, source=source)
    blocks = [block[:, 0] for block in request.di.blocks()]
    volts = np.concatenate(blocks).astype(np.float64) * dbu_to_peak_volt(PLAYER_FULL_SCALE_DBU)
    played = source_of(rig_graph(session, rig), rig.device(source))
    assert played is not None
    return volts, recorded_gain(played, PLAYER_LOAD)


@dataclass(frozen=True)
class RenderedTrack:
    """What one recorder input received."""

    track: PortRef
    name: str
    course: Course
    peak_dbfs: float
    clipped_samples: int


@dataclass(frozen=True)
class Rendered:
    """Every track that was played, and why others were not."""

    source: str
    assumed: bool
    tracks: tuple[RenderedTrack, ...]
    left_out: dict[PortRef, str]
    frames: int


@dataclass
class _Heard:
    peak: float = 0.0
    clipped: int = 0

    def add(self, block: Real) -> None:
        loud = np.abs(block)
        self.peak = max(self.peak, float(loud.max(initial=0.0)))
        self.clipped += int(np.count_nonzero(loud >= FULL_SCALE))


SinkFor = Callable[[PortRef, str], AudioSink]
BLOCK = 16_384


def render_source(graph: RigGraph, wanted: str = "") -> Device:
    """The device that a stored DI stands for: the wanted one, the instrument of the first
    planned track, or the recorder that plays; RigError when there is none."""
    starts = [plan.source for plan in plan_tracks(graph) if plan.source]
    if wanted:
        for device in graph.rig.devices:
            if wanted in (device.id, device.name):
                return device
        raise RigError(f"The rig has no device {wanted!r}.", where=graph.rig.name)
    if not starts:
        raise RigError(
            "Nothing that is recorded has a course.",
            where=graph.rig.name,
            remedy="Look at the findings of the rig.",
        )
    return graph.devices[starts[0]]


def render(
    request: RenderRequest,
    sink_for: SinkFor,
    impulses: Impulses | None = None,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> Rendered:
    """Play a stored DI through the rig: one file for every recorder input, all at once.

    The files start together and are as long as the DI and a second of tail.
    """
    cancel = cancel or CancelToken()
    session = request.session
    if request.di.rate_hz != session.sample_rate_hz:
        raise InputError(
            f"the DI has {request.di.rate_hz} Hz, the session {session.sample_rate_hz} Hz.",
            remedy="Import it as a take: that resamples it.",
        )
    graph = rig_graph(session, session.rig(request.rig_id))
    start = render_source(graph, request.source)
    rate = float(session.sample_rate_hz)
    played = source_of(graph, start)
    full = request.full_scale_dbu
    scale, recorded = 1.0, None
    if played is not None:
        scale = dbu_to_peak_volt(ASSUMED_FULL_SCALE_DBU if full is None else full)
        recorded = recorded_gain(played, Load(request.load_ohm, request.load_pf * 1e-12))
    faults = BenchFaults(seed=request.seed, mains_hz=request.mains_hz)
    bench = RigBench(graph, start.id, rate, faults, impulses, recorded)
    names = {track.port: track.name for track in graph.rig.tracks}
    sinks = {track: sink_for(track, names.get(track, track.port)) for track in bench.courses}
    heard = {track: _Heard() for track in sinks}
    try:
        frames = _play(request, bench, scale, sinks, heard, progress, cancel)
        for sink in sinks.values():
            sink.close()
    except BaseException:
        for sink in sinks.values():
            sink.abandon()
        raise
    progress(1.0, "Done")
    tracks = tuple(
        RenderedTrack(
            track,
            names.get(track, track.port),
            course,
            gain_to_db(heard[track].peak),
            heard[track].clipped,
        )
        for track, course in bench.courses.items()
    )
    return Rendered(start.id, played is not None and full is None, tracks, bench.left_out, frames)


def recorded_gain(played: PlayedSource, load: Load) -> Callable[[Real], Real]:
    """Gain from the EMF to what a DI of this load holds, over frequency."""

    def gain(freqs: Real) -> Real:
        return np.asarray(10.0 ** (curves_db(played.circuit, [load], freqs)[0] / 20.0))

    return gain


def _play(
    request: RenderRequest,
    bench: RigBench,
    scale: float,
    sinks: Mapping[PortRef, AudioSink],
    heard: Mapping[PortRef, _Heard],
    progress: Progress,
    cancel: CancelToken,
) -> int:
    rate = request.session.sample_rate_hz
    total = request.di.frames + rate
    skip, written = bench.lead_samples, 0
    for block in _with_tail(request, total + bench.lead_samples):
        cancel.check()
        outs = bench.process(block * scale)
        first = min(skip, block.size)
        skip -= first
        for track, out in outs.items():
            heard[track].add(out[first:])
            sinks[track].write(out[first:, None].astype(np.float32))
        written += block.size - first
        progress(min(0.99, written / total), f"Playing {len(sinks)} tracks")
    return written


def _with_tail(request: RenderRequest, total: int) -> Iterator[Real]:
    done = 0
    for block in request.di.blocks(block=BLOCK):
        yield block[:, request.channel].astype(np.float64)
        done += block.shape[0]
    while done < total:
        count = min(BLOCK, total - done)
        yield np.zeros(count)
        done += count


def cable_pf(session: Session, instrument_id: str) -> float:
    """The usual cable of an instrument; three metres where nobody knows."""
    one = next((i for i in session.instruments if i.id == instrument_id), None)
    return 300.0 if one is None else one.cable.farad * 1e12


@dataclass(frozen=True, eq=False)
class PlayedTake:
    """What became of playing a stored DI through a rig."""

    take: Take
    edit: Edit
    words: str


def play_take(
    session: Session,
    take_id: str,
    store: SessionStore,
    clock: Clock,
    impulses: Impulses | None = None,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
    rig_id: str = "",
) -> PlayedTake:
    """A take's stored DI through a rig of the session: a new take with a track for what every
    recorder input received. Without a take a simulated player strums."""
    rig = session.rig(rig_id)
    take = session.take(take_id) if take_id else None
    if take is not None and take.di is None:
        raise EditError(f"{take.name} has no dry DI.", remedy="Choose another take.")
    name = take.name if take is not None else "Simulated player"
    number, now = next_take_number(session, store), clock()
    files: dict[PortRef, str] = {}

    def sink_for(track: PortRef, track_name: str) -> AudioSink:
        files[track] = f"audio/t{number:04d}_k{len(files) + 1:02d}.wav"
        notes = FileNotes(
            description=f"{session.name}; {name} through {rig.name}; {track_name}",
            made_at=now,
            history=f"bench; {name}; rig {rig.name}",
        )
        return store.create_audio(
            files[track], session.sample_rate_hz, 1, session.word_length, notes
        )

    if take is not None and take.di is not None:
        di = take.di
        request = RenderRequest(
            session, rig.id, store.open_audio(di.file), full_scale_dbu=di.full_scale_dbu,
            load_ohm=di.load_ohm or 1e6, load_pf=di.load_pf, seed=number,
        )  # fmt: skip
    else:
        request = player_request(session, rig, seed=number)
    result = render(request, sink_for, impulses, progress, cancel)
    plans = {plan.track: plan for plan in plan_tracks(rig_graph(session, rig))}
    order = {track.port: index for index, track in enumerate(rig.tracks)}
    tracks = tuple(
        _recorded(one, files[one.track], result.frames, plans[one.track], index)
        for index, one in enumerate(
            sorted(result.tracks, key=lambda t: order.get(t.track, len(order))), start=1
        )
    )
    made = Take(
        id=f"t{number:04d}",
        name=f"{name}, {rig.name}"[:200],
        recorded_at=now.isoformat(timespec="seconds"),
        instrument_id=take.instrument_id if take is not None else "",
        tracks=tracks,
        notes=f"Played by the bench: {name}.",
    )
    clipped = [one.name for one in tracks if one.clipped_samples]
    words = f"{made.name}: {len(tracks)} tracks."
    if clipped:
        words += f" Clipped: {', '.join(clipped)}."
    if result.assumed:
        words += " Calibration assumed: +12 dBu at 0 dBFS."
    keep = {rig_hash(rig): rig}

    def change(current: Session) -> Session:
        current = add_take(made)(current)
        return current.model_copy(update={"snapshots": {**current.snapshots, **keep}})

    return PlayedTake(made, Edit(f"Play {rig.name}", change), words)


def node_load_of(graph: RigGraph, output: PortRef) -> float:
    """Ohm of everything that hangs at an output."""
    return node_load(graph, output)[0]


def _recorded(one: RenderedTrack, file: str, frames: int, plan: TrackPlan, index: int) -> Track:
    """A track as the session keeps it; a dry one with its calibration at the jack."""
    full_scale = load = None
    if one.course.tap == "di" and plan.levels and one.course.source is not None:
        full_scale = plan.levels[0].peak - plan.levels[-1].peak
        start = one.course.start
        assert start.exit is not None
        output = PortRef(device=start.device.id, port=start.exit.id)
        load = min(1e9, node_load_of(one.course.graph, output))
    return Track(
        id=f"k{index:02d}",
        name=one.name,
        tap=one.course.tap,
        file=file,
        frames=frames,
        full_scale_dbu=full_scale,
        load_ohm=load,
        peak_dbfs=max(one.peak_dbfs, -200.0),
        clipped_samples=one.clipped_samples,
    )
