"""A DI or a simulated player through a whole rig: what every recorder input receives."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, curves_db
from diaulos.errors import InputError, RigError
from diaulos.records import dataclass
from diaulos.rig.bench import BenchFaults, Impulses, courses_from, strum_volts
from diaulos.rig.course import Course, source_of
from diaulos.rig.excerpt import PLANNED_CHORDS, PLANNED_SEED, STRUMS
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import Device, PortRef, Rig
from diaulos.rig.plan import ASSUMED_FULL_SCALE_DBU, SendPlan, solve_send
from diaulos.rig.sources import (
    PlayedSource,
)
from diaulos.rig.trackplan import plan_tracks
from diaulos.session.model import Session
from diaulos.units import db_to_gain, dbu_to_peak_volt, gain_to_db
from diaulos.work.blocks import ArraySource
from diaulos.work.capture.recorder import Recorder
from diaulos.work.ports import (
    AudioSink,
    AudioSource,
    CancelToken,
    Progress,
    no_progress,
)
from diaulos.work.rigs.audio import Played, RigAudio
from diaulos.work.rigs.look import rig_graph
from diaulos.work.rigs.stored import NOTHING_STORED, Stored

Real = NDArray[np.float64]


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
    wanted: tuple[str, ...] = ()
    """Names of the tracks that are written; none is all."""


PLAYER_FULL_SCALE_DBU = 20.0


PLAYER_LOAD = Load(1e6, 660e-12)


def player_request(
    session: Session,
    rig: Rig,
    seed: int = PLANNED_SEED,
    mains_hz: float = 50.0,
    source: str = "",
    strums: int = STRUMS,
    chords: str = PLANNED_CHORDS,
    stored: Stored = NOTHING_STORED,
) -> RenderRequest:
    """A simulated player who strums the rig's instrument as hard as it goes; with the plan's own
    seed and chords what the plan goes by, which may be a stored excerpt."""
    graph = rig_graph(session, rig, stored)
    device = render_source(graph, source)
    played = source_of(graph, device)
    if played is None:
        raise RigError(
            f"{device.name} is no instrument: nobody can strum it.",
            where=rig.name,
            remedy="Give a stored DI.",
        )
    own = seed == PLANNED_SEED and chords == PLANNED_CHORDS
    volts = strum_volts(
        played if own else replace(played, excerpt=None),
        PLAYER_LOAD,
        float(session.sample_rate_hz),
        seed=seed,
        chords=chords,
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
    session: Session,
    rig: Rig,
    source: str,
    seed: int,
    chords: str = PLANNED_CHORDS,
    stored: Stored = NOTHING_STORED,
) -> tuple[Real, Callable[[Real], Real]]:
    """What a simulated player plays on an instrument of the rig, in volts as a DI holds them,
    and the gain from the EMF to that."""
    request = player_request(session, rig, seed, source=source, chords=chords, stored=stored)
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
    send_gain_db: float | None = None
    """Gain that a stored DI was sent with where the rig reamps; None where it stands for an
    instrument."""


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
    audio: RigAudio,
    impulses: Impulses | None = None,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> Rendered:
    """Play a stored DI through the rig: one file for every recorder input, all at once.

    The files start together and are as long as the DI and a second of tail.
    """
    cancel = cancel or CancelToken()
    session = request.session
    rate = session.sample_rate_hz
    if request.di.rate_hz != rate:
        raise InputError(
            f"the DI has {request.di.rate_hz} Hz, the session {rate} Hz.",
            remedy="Import it as a take: that resamples it.",
        )
    graph = rig_graph(session, session.rig(request.rig_id))
    start = render_source(graph, request.source)
    courses, left_out = courses_from(graph, start.id)
    names = {track.port: track.name for track in graph.rig.tracks}
    if request.wanted:
        there = {names.get(track, track.port): track for track in courses}
        unknown = [name for name in request.wanted if name not in there]
        if unknown:
            raise RigError(
                f"{graph.rig.name} has no track {unknown[0]!r} that this is played into.",
                remedy=f"Its tracks: {', '.join(there)}.",
            )
        courses = {there[name]: courses[there[name]] for name in request.wanted}
    source = source_of(graph, start)
    full = request.full_scale_dbu
    scale, recorded, send = 1.0, None, None
    if source is None:
        send = _send(request, courses.values())
        scale = db_to_gain(send.gain_db) if send is not None else 1.0
    else:
        scale = dbu_to_peak_volt(ASSUMED_FULL_SCALE_DBU if full is None else full)
        recorded = recorded_gain(source, Load(request.load_ohm, request.load_pf * 1e-12))
    played = Played(start.id, lambda: _volts(request, scale), recorded)
    faults = BenchFaults(seed=request.seed, mains_hz=request.mains_hz)
    backend = audio.play(graph, tuple(courses), played, faults, impulses)
    sinks = [sink_for(track, names.get(track, track.port)) for track in courses]
    total = request.di.frames + rate
    recorder = Recorder(backend, sinks, rate, frames=total, block_frames=BLOCK, keep_open=True)

    def look() -> None:
        cancel.check()
        done = recorder.captured_frames / total
        progress(min(0.99, done), f"Playing {len(sinks)} tracks")

    try:
        result = recorder.run(look)
        if result.stopped_by is not None:
            raise result.stopped_by
        for sink in sinks:
            sink.close()
    except BaseException:
        for sink in sinks:
            sink.abandon()
        raise
    progress(1.0, "Finishing")
    tracks = tuple(
        RenderedTrack(
            track, names.get(track, track.port), course, one.peak_dbfs, one.clipped_samples
        )
        for (track, course), one in zip(courses.items(), result.tracks, strict=True)
    )
    assumed = (source is not None or send is not None) and full is None
    gain = send.gain_db if send is not None else None
    return Rendered(start.id, assumed, tracks, left_out, result.frames, gain)


def _send(request: RenderRequest, courses: Iterable[Course]) -> SendPlan | None:
    """How a stored DI is sent where a rig reamps: as Reamp sends it, so that the amplifier sees
    the instrument's volts. None where no amplifier is on the way."""
    course = next((one for one in courses if one.has_stage("amp")), None)
    if course is None:
        return None
    peak = 0.0
    for block in request.di.blocks(block=BLOCK):
        peak = max(peak, float(np.max(np.abs(block[:, request.channel]), initial=0.0)))
    return solve_send(course, gain_to_db(peak), request.full_scale_dbu)


def _volts(request: RenderRequest, scale: float) -> Iterator[Real]:
    for block in request.di.blocks(block=BLOCK):
        yield block[:, request.channel].astype(np.float64) * scale


def recorded_gain(played: PlayedSource, load: Load) -> Callable[[Real], Real]:
    """Gain from the EMF to what a DI of this load holds, over frequency."""

    def gain(freqs: Real) -> Real:
        return np.asarray(10.0 ** (curves_db(played.circuit, [load], freqs)[0] / 20.0))

    return gain


def cable_pf(session: Session, instrument_id: str) -> float:
    """The usual cable of an instrument; three metres where nobody knows."""
    one = next((i for i in session.instruments if i.id == instrument_id), None)
    return 300.0 if one is None else one.cable.farad * 1e12
