"""Reamp: a stored DI goes out, through an amplifier, and comes back measured.

`plan_reamp` says what will happen at every station, `make_pass` does it. Delay, polarity
and level of the return are found from its audio, never taken from whatever played it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import EditError, RefusedError
from diaulos.rig.bench import Impulses, Probe, probe
from diaulos.rig.course import Course, reamp_course
from diaulos.rig.model import Rig
from diaulos.rig.plan import SendPlan, Station, return_control, solve_send, stations
from diaulos.session.edits import Edit, add_pass
from diaulos.session.model import (
    AlignmentRecord,
    MatchRecord,
    MatchTarget,
    Pass,
    Session,
    Take,
    Track,
    rig_hash,
    tone_words,
)
from diaulos.signal.delay import Alignment, find_alignment
from diaulos.signal.loudness import Layout, Loudness, common_layouts, solve_match
from diaulos.signal.peaks import loudest_span
from diaulos.units import db_to_gain
from diaulos.work.loop import LoopResult, mono_blocks, part_of, run_loop
from diaulos.work.measuring import Levels, finite_or_none, measure_blocks, measure_source, read_mono
from diaulos.work.ports import (
    AudioBackend,
    AudioSink,
    AudioSource,
    CancelToken,
    Clock,
    FileNotes,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.unload import Undo, undo_for, unloaded

EXCERPT_S = 3.0
"""The loudest stretch of a take that the plan is worked out for."""
MAX_LOOP_DELAY_S = 1.0
MEASURED_S = 600.0
"""Longer takes are measured on this much around their loudest part."""

BackendFor = Callable[[Course], AudioBackend]
"""The audio that plays a course: the bench today, real ports later."""


@dataclass(frozen=True)
class Excerpt:
    """The loudest part of a DI, and its peak over the whole."""

    samples: NDArray[np.float32]
    first: int
    peak_dbfs: float


@dataclass(frozen=True)
class ReampPlan:
    """What a reamp of a track through a rig will do.

    `rig` is the rig as it will be played, its return gain set; `probes` are the levels at
    every station for the loudest part of the take.
    """

    rig: Rig
    send: SendPlan
    return_gain_db: float
    probes: tuple[Probe, ...]


def read_excerpt(source: AudioSource, channel: int = 0) -> Excerpt:
    """The loudest stretch of a DI, found in one streaming read."""
    rate = source.rate_hz
    keep = int(EXCERPT_S * rate)
    best: tuple[float, int] = (-1.0, 0)
    peak, at = 0.0, 0
    for block in source.blocks(block=keep):
        mono = block[:, channel]
        peak = max(peak, float(np.max(np.abs(mono), initial=0.0)))
        energy = float(np.dot(mono, mono))
        if energy > best[0]:
            best = (energy, at)
        at += mono.size
    # The loudest stretch may lie across a boundary: look again around the best piece.
    first = max(0, best[1] - keep)
    around = read_mono(source, channel=channel, first=first, count=3 * keep)
    span = loudest_span(around, rate, EXCERPT_S)
    excerpt = around[span.first : span.first + span.count]
    level = 20.0 * float(np.log10(peak)) if peak > 0.0 else -200.0
    return Excerpt(np.ascontiguousarray(excerpt), first + span.first, level)


def plan_reamp(
    rig: Rig,
    excerpt: Excerpt,
    rate_hz: int,
    full_scale_dbu: float | None,
    target_peak_dbfs: float,
    *,
    auto_return: bool = True,
    impulses: Impulses | None = None,
    cancel: CancelToken | None = None,
) -> ReampPlan:
    """Solve the send, set the return gain in its own steps, and work out every station."""
    check = (cancel or CancelToken()).check
    course = reamp_course(rig)
    send = solve_send(course, excerpt.peak_dbfs, full_scale_dbu)
    played = excerpt.samples.astype(np.float64) * db_to_gain(send.gain_db)
    probes = probe(course, played, float(rate_hz), impulses, check)
    control = return_control(course)
    gain = control[1].value if control else 0.0
    if auto_return and control is not None:
        device, knob = control
        wanted = knob.value + target_peak_dbfs - probes[-1].peak
        # The peak is to reach the target, not to pass it: the step below.
        gain = knob.nearest(float(np.floor((wanted - knob.minimum) / knob.step)) * knob.step
                            + knob.minimum)  # fmt: skip
        if gain != knob.value:
            rig = rig.with_setting(device.id, knob.id, gain)
            clipped = any((p.headroom_db or 1.0) <= 0.0 for p in probes[-2:])
            if clipped:
                probes = probe(reamp_course(rig), played, float(rate_hz), impulses, check)
            else:
                probes = _with_gain(probes, stations(reamp_course(rig)), gain - knob.value)
    return ReampPlan(rig, send, gain, probes)


def _with_gain(
    probes: tuple[Probe, ...], changed: tuple[Station, ...], gain_db: float
) -> tuple[Probe, ...]:
    """Probes after the converter's gain alone was moved: the track's levels move with it,
    its noise too (which is counted ahead of the gain), and so does the input's ceiling."""
    moved = []
    for old, station in zip(probes, changed, strict=True):
        by = gain_db if old is probes[-1] else 0.0
        moved.append(Probe(station, old.peak + by, old.typical + by, old.floor + by))
    return tuple(moved)


@dataclass(frozen=True)
class Returned:
    """The return as measured against what was sent."""

    loop: LoopResult
    alignment: Alignment | None
    refused: str
    levels: Levels


def play_and_measure(
    plan: ReampPlan,
    di: AudioSource,
    channel: int,
    backend_for: BackendFor,
    sink: AudioSink,
    reopen: Callable[[], AudioSource],
    progress: Progress,
    cancel: CancelToken,
) -> Returned:
    """Run the loop into `sink` (closed here) and measure what was recorded."""
    course = reamp_course(plan.rig)
    loop = run_loop(
        backend_for(course),
        mono_blocks(di.blocks(), channel),
        di.frames,
        di.rate_hz,
        plan.send.gain_db,
        sink,
        part_of(progress, 0.05, 0.8),
        cancel,
    )
    sink.close()
    return measure_return(di, channel, reopen(), loop, part_of(progress, 0.8, 1.0), cancel)


def measure_return(
    di: AudioSource,
    channel: int,
    back: AudioSource,
    loop: LoopResult,
    progress: Progress,
    cancel: CancelToken,
) -> Returned:
    """Delay, polarity and level of a recorded return against the DI that was sent."""
    progress(0.1, "Measuring delay and polarity")
    cancel.check()
    first, count = _measured_part(di, channel)
    sent = read_mono(di, channel=channel, first=first, count=count)
    heard = read_mono(back, first=first, count=count + int(MAX_LOOP_DELAY_S * di.rate_hz))
    alignment, refused = None, ""
    try:
        alignment = find_alignment(
            sent,
            heard,
            float(di.rate_hz),
            max_delay_samples=int(MAX_LOOP_DELAY_S * di.rate_hz),
        )
        if alignment.drift_ppm is not None and first > 0:
            # Measured from `first` on; the delay is told at A's first sample.
            at_zero = alignment.at(-float(first))
            alignment = replace(alignment, delay_samples=at_zero)
    except RefusedError as error:
        refused = error.what
    cancel.check()
    progress(0.6, "Measuring level")
    lead = round(alignment.delay_samples) if alignment else 0
    part = back.blocks(first=max(0, lead), count=di.frames)
    levels = measure_blocks(part, di.rate_hz, 1)
    cancel.check()
    return Returned(loop, alignment, refused, levels)


def _measured_part(di: AudioSource, channel: int) -> tuple[int, int]:
    limit = int(MEASURED_S * di.rate_hz)
    if di.frames <= int(1.5 * limit):
        return 0, di.frames
    middle = read_excerpt(di, channel).first
    first = min(max(0, middle - limit // 2), di.frames - limit)
    return first, limit


# --- matching ------------------------------------------------------------------------


def reference_loudness(
    take: Take, target: MatchTarget, store: SessionStore, channels: int = 1
) -> tuple[Loudness, Layout, str] | None:
    """Loudness of what a pass is to match, the layout the pass is heard in, and its name."""
    if target.kind == "none":
        return None
    if target.kind == "lufs":
        layout: Layout = "mono" if channels == 1 else "stereo"
        return Loudness(target.lufs, "integrated", layout, 60.0), layout, f"{target.lufs:g} LUFS"
    if target.kind == "track":
        track = take.track(target.ident) if target.ident else take.tracks[0]
        own, other = common_layouts(channels, track.channels)
        levels = measure_source(store.open_audio(track.file), other)
        return levels.loudness, own, track.name
    earlier = take.pass_(target.ident)
    own, other = common_layouts(channels, 1)
    source = store.open_audio(earlier.file)
    lead = max(0, round(earlier.alignment.delay_samples)) if earlier.alignment else 0
    frames = take.track(earlier.track_id).frames
    levels = measure_blocks(source.blocks(first=lead, count=frames), source.rate_hz, 1, other)
    gain = earlier.match.total_db if earlier.match else 0.0
    heard = levels.loudness
    matched = Loudness(heard.lufs + gain, heard.method, heard.layout, heard.seconds)
    return matched, own, earlier.name


def match_to(
    reference: tuple[Loudness, Layout, str] | None,
    target: MatchTarget,
    loudness: Loudness,
    true_peak_dbtp: float,
) -> MatchRecord | None:
    """The record of a match; RefusedError when one of the two is silent."""
    if reference is None:
        return None
    heard, layout, label = reference
    if layout == "dual_mono" and loudness.layout == "mono":
        two = 10.0 * float(np.log10(2.0))
        loudness = Loudness(loudness.lufs + two, loudness.method, layout, loudness.seconds)
    solved = solve_match(heard, loudness, true_peak_dbtp)
    return MatchRecord(
        target=target,
        label=label,
        reference_lufs=solved.reference_lufs,
        before_lufs=solved.before_lufs,
        gain_db=solved.gain_db,
        pair_offset_db=solved.pair_offset_db,
        after_lufs=solved.after_lufs,
        true_peak_dbtp=solved.true_peak_dbtp,
        method=solved.method,
        layout=layout,
    )


def rematch(take: Take, one: Pass, target: MatchTarget, store: SessionStore) -> MatchRecord | None:
    """Another match of a pass that was made before."""
    source = store.open_audio(one.file)
    lead = max(0, round(one.alignment.delay_samples)) if one.alignment else 0
    frames = take.track(one.track_id).frames
    levels = measure_blocks(source.blocks(first=lead, count=frames), source.rate_hz, 1)
    reference = reference_loudness(take, target, store)
    return match_to(reference, target, levels.loudness, levels.true_peak_dbtp)


# --- the use case --------------------------------------------------------------------


NO_TARGET = MatchTarget(kind="none")


@dataclass(frozen=True)
class ReampRequest:
    """All that a reamp needs, captured when it was asked for."""

    session: Session
    take_id: str
    track_id: str = ""
    rig_id: str = ""
    target: MatchTarget = NO_TARGET
    auto_return: bool = True
    undo_load: bool = False


@dataclass(frozen=True)
class ReampOutcome:
    """A finished pass and the edit that brings it into a session."""

    take_id: str
    made: Pass
    rig: Rig
    plan: ReampPlan
    edit: Edit


def make_pass(
    request: ReampRequest,
    *,
    store: SessionStore,
    backend_for: BackendFor,
    clock: Clock,
    impulses: Impulses | None = None,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> ReampOutcome:
    """Send a stored DI out and bring it back as a new pass.

    The session is not touched: the outcome's edit adds the pass. On any error the file of
    the return is thrown away.
    """
    cancel = cancel or CancelToken()
    session = request.session
    take = session.take(request.take_id)
    track = _dry_track(take, request.track_id)
    rig = session.rig(request.rig_id)
    di, undo = open_di(session, take, track, rig, store, request.undo_load)
    progress(0.0, "Reading the take")
    reference = reference_loudness(take, request.target, store)
    excerpt = read_excerpt(di)
    cancel.check()
    plan = plan_reamp(
        rig,
        excerpt,
        di.rate_hz,
        track.full_scale_dbu,
        session.target_peak_dbfs,
        auto_return=request.auto_return,
        impulses=impulses,
        cancel=cancel,
    )
    pass_id, file = _free_name(session, take, store)
    notes = FileNotes(
        description=f"{session.name}; {take.name}; reamp {pass_id}; {tone_words(plan.rig)}",
        made_at=clock(),
        time_reference=take.time_reference,
        history=f"reamp of {track.file.split('/')[-1]}",
    )
    sink = store.create_audio(file, di.rate_hz, 1, session.word_length, notes)
    try:
        returned = play_and_measure(
            plan, di, 0, backend_for, sink, lambda: store.open_audio(file), progress, cancel
        )
        match = _match_or_none(reference, request.target, returned)
    except BaseException:
        sink.abandon()
        raise
    made = _record(request, session, track, plan, returned, match, pass_id, file, notes)
    if undo is not None:
        made = made.model_copy(update={"unloaded": undo.words})
    progress(1.0, "Done")
    return ReampOutcome(take.id, made, plan.rig, plan, add_pass(take.id, made, plan.rig))


def open_di(
    session: Session, take: Take, track: Track, rig: Rig, store: SessionStore, undo_load: bool
) -> tuple[AudioSource, Undo | None]:
    """The DI as it is to be sent: as it was recorded, or with its load undone."""
    source = store.open_audio(track.file)
    if not undo_load:
        return source, None
    undo = undo_for(session, take, track, rig)
    return unloaded(source, undo), undo


def _dry_track(take: Take, track_id: str) -> Track:
    if track_id:
        return take.track(track_id)
    if take.di is None:
        raise EditError(
            f"{take.name} has no dry DI track to send.",
            remedy="Choose a take with a DI, or name the track.",
        )
    return take.di


def _free_name(session: Session, take: Take, store: SessionStore) -> tuple[str, str]:
    """The next free pass id of a take, and its file."""
    taken = {p.id for p in take.passes}
    taken |= {b.item.id for b in session.bin if b.take_id == take.id}
    number = 1
    while True:
        pass_id = f"p{number:02d}"
        file = f"audio/{take.id}_{pass_id}_k01.wav"
        if pass_id not in taken and not store.has_file(file):
            return pass_id, file
        number += 1


def _match_or_none(
    reference: tuple[Loudness, Layout, str] | None, target: MatchTarget, returned: Returned
) -> MatchRecord | None:
    try:
        return match_to(reference, target, returned.levels.loudness, returned.levels.true_peak_dbtp)
    except RefusedError:
        return None  # silence cannot be matched; the pass says so by its level


def _record(
    request: ReampRequest,
    session: Session,
    track: Track,
    plan: ReampPlan,
    returned: Returned,
    match: MatchRecord | None,
    pass_id: str,
    file: str,
    notes: FileNotes,
) -> Pass:
    levels = returned.levels
    return Pass(
        id=pass_id,
        name=f"Pass {int(pass_id[1:])}",
        track_id=track.id,
        file=file,
        frames=returned.loop.frames,
        rig_hash=rig_hash(plan.rig),
        rig_name=session.rig(request.rig_id).name,
        made_at=notes.made_at.isoformat(timespec="seconds"),
        send_gain_db=plan.send.gain_db,
        send_limited_db=plan.send.limited_db,
        assumed_calibration=plan.send.assumed,
        amp_peak_dbu=plan.send.amp_peak_dbu,
        return_gain_db=plan.return_gain_db,
        alignment=alignment_record(returned.alignment),
        alignment_refused=returned.refused,
        peak_dbfs=max(levels.peak_dbfs, -200.0),
        true_peak_dbtp=max(levels.true_peak_dbtp, -200.0),
        clipped_samples=levels.clipped_samples,
        loudness_lufs=finite_or_none(levels.loudness.lufs),
        match=match,
        xruns=returned.loop.xruns,
    )


def alignment_record(alignment: Alignment | None) -> AlignmentRecord | None:
    """An alignment as it is stored."""
    if alignment is None:
        return None
    return AlignmentRecord(
        delay_samples=alignment.delay_samples,
        delay_error_samples=alignment.delay_error_samples,
        polarity=1 if alignment.polarity > 0 else -1,
        confidence=alignment.confidence,
        drift_ppm=alignment.drift_ppm,
        drift_error_ppm=alignment.drift_error_ppm,
    )
