"""Reamp: a stored DI goes out, through an amplifier, and comes back measured.

`plan_reamp` says what will happen at every station, `make_pass` does it. Delay, polarity
and level of the return are found from its audio, never taken from whatever played it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from diaulos.errors import EditError, RefusedError
from diaulos.ids import free_id
from diaulos.rig.bench import Impulses
from diaulos.rig.course import reamp_course
from diaulos.rig.model import Rig
from diaulos.session.edits import Edit, add_pass
from diaulos.session.model import (
    SIMULATED,
    MatchRecord,
    MatchTarget,
    Pass,
    Session,
    Take,
    Track,
    rig_hash,
    tone_words,
)
from diaulos.session.roles import reamp_rig
from diaulos.signal.loudness import Layout, Loudness
from diaulos.work.blocks import mono_blocks, part_of
from diaulos.work.capture.loop import RAMP_S, run_loop
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import finite_or_none
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
from diaulos.work.reamp.howl import require_quiet_return
from diaulos.work.reamp.matching import match_to, reference_loudness
from diaulos.work.reamp.planning import ReampPlan, plan_reamp
from diaulos.work.reamp.reference import measure_against
from diaulos.work.reamp.returns import Returned, alignment_record, last_delay, measure_return
from diaulos.work.reamp.slate import LoopBackendFor, known_slate, send_slate
from diaulos.work.takes.unload import Undo, undo_for, unloaded


def play_and_measure(
    plan: ReampPlan,
    di: AudioSource,
    channel: int,
    backend_for: LoopBackendFor,
    sink: AudioSink,
    reopen: Callable[[], AudioSource],
    progress: Progress,
    cancel: CancelToken,
    before_samples: float | None = None,
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
        ramp_s=RAMP_S,
    )
    sink.close()
    part = part_of(progress, 0.8, 1.0)
    return measure_return(di, channel, reopen(), loop, part, cancel, before_samples)


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
    slate: bool = True
    """Whether a quiet sweep goes ahead, where the loop is not known yet."""
    go_on: bool = False
    """Whether the take is sent although the sweep came back far from plan, or not at all."""
    device: str = SIMULATED
    """What it goes through: the simulated studio, or a real device's name."""


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
    backend_for: LoopBackendFor,
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
    rig = reamp_rig(session, request.rig_id)
    di, undo = open_di(session, take, track, rig, store, request.undo_load)
    progress(0.0, "Reading the take")
    reference = reference_loudness(take, request.target, store)
    excerpt = read_loudest(di)
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
        slate = None
        if request.device != SIMULATED:
            require_quiet_return(backend_for(reamp_course(plan.rig)), di.rate_hz, cancel)
        if request.slate:
            if request.device == SIMULATED:
                slate = known_slate(session, rig_hash(plan.rig))
            if slate is None:
                sent = excerpt.peak_dbfs + plan.send.gain_db
                slate = send_slate(
                    reamp_course(plan.rig), sent, di.rate_hz, backend_for, impulses, progress,
                    cancel, go_on=request.go_on,
                )  # fmt: skip
        before = slate.delay_samples if slate is not None else None
        if before is None:
            before = last_delay(session, rig.name, request.device)
        returned = play_and_measure(
            plan, di, 0, backend_for, sink, lambda: store.open_audio(file), progress, cancel, before
        )
        match = _match_or_none(reference, request.target, returned)
    except BaseException:
        sink.abandon()
        raise
    made = _record(request, session, track, plan, returned, match, pass_id, file, notes)
    made = made.model_copy(update={"slate": slate})
    reference_track = take.reference_track
    if take.reference and reference_track is not None:
        against = measure_against(take, reference_track, made, store, cancel)
        made = made.model_copy(update={"against": against})
    if undo is not None:
        made = made.model_copy(update={"unloaded": undo.words})
    progress(1.0, "Finishing")
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

    def file_of(pass_id: str) -> str:
        return f"audio/{take.id}_{pass_id}_k01.wav"

    pass_id = free_id(lambda one: one in taken or store.has_file(file_of(one)), "p", digits=2)
    return pass_id, file_of(pass_id)


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
        rig_name=reamp_rig(session, request.rig_id).name,
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
        played_by=request.device,
        null_db=returned.null_db,
    )
