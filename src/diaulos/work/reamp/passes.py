"""Reamp: a stored DI goes out, through an amplifier, and comes back measured.

`plan_reamp` says what will happen at every station, `make_pass` does it. Delay, polarity
and level of the return are found from its audio, never taken from whatever played it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from diaulos.errors import EditError
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.rig.as_recorded import ahead_when_recorded
from diaulos.rig.bench import Impulses
from diaulos.rig.model import Rig, RigState
from diaulos.session.edits import Edit, add_pass
from diaulos.session.model import (
    SIMULATED,
    MatchTarget,
    Pass,
    Return,
    SentPart,
    Session,
    SlateRecord,
    Take,
    Track,
    rig_hash,
    tone_words,
)
from diaulos.session.roles import reamp_rig
from diaulos.work.blocks import mono_blocks, part_of
from diaulos.work.capture.loop import RAMP_S, run_loop
from diaulos.work.loudest import Loudest, read_loudest
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
from diaulos.work.reamp.matching import References, match_pass, references_of
from diaulos.work.reamp.naming import pass_name
from diaulos.work.reamp.nulls import null_with_recorded
from diaulos.work.reamp.parts import (
    MemorySink,
    Rest,
    join_rest,
    part_of_take,
    rest_of,
    whole_or_part,
)
from diaulos.work.reamp.planning import ReampPlan, ReturnPlan, plan_reamp
from diaulos.work.reamp.reference import measure_against
from diaulos.work.reamp.returns import Returned, alignment_record, last_delay, measure_return
from diaulos.work.reamp.slate import LoopBackendFor, known_slates, send_slates
from diaulos.work.takes.unload import Undo, undo_for, unloaded


def play_and_measure(
    plan: ReampPlan,
    di: AudioSource,
    channel: int,
    backend_for: LoopBackendFor,
    sinks: Sequence[AudioSink],
    reopen: Callable[[int], AudioSource],
    progress: Progress,
    cancel: CancelToken,
    before_samples: Sequence[float | None],
    skip: int = 0,
) -> tuple[Returned, ...]:
    """Run the loop into `sinks` (closed here), a return each, and measure what was recorded, levels
    behind the first `skip` frames; `reopen` gives the audio of a return by its place."""
    loop = run_loop(
        backend_for(plan.courses),
        mono_blocks(di.blocks(), channel),
        di.frames,
        di.rate_hz,
        plan.send.gain_db,
        sinks,
        part_of(progress, 0.05, 0.8),
        cancel,
        ramp_s=RAMP_S,
    )
    for sink in sinks:
        sink.close()
    found = []
    for number, before in enumerate(before_samples):
        share = 0.2 / len(sinks)
        part = part_of(progress, 0.8 + number * share, 0.8 + (number + 1) * share)
        back = reopen(number)
        found.append(measure_return(di, channel, back, loop, part, cancel, before, skip))
    return tuple(found)


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
    returns: tuple[str, ...] = ()
    """Names of the returns that are recorded; none is all of the rig's."""
    state: RigState = "reamp"
    """How the rig's switches stand."""
    device: str = SIMULATED
    """What it goes through: the simulated studio, or a real device's name."""
    stretch: tuple[int, int] | None = None
    """Frames of the take that are sent; what it is cut to by default, else all of it."""
    join: str = ""
    """Id or name of a pass whose rest the stretch is joined with; "": it stands alone."""


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

    The session is not touched: the outcome's edit adds the pass. On any error the files of
    the returns are thrown away.
    """
    cancel = cancel or CancelToken()
    session = request.session
    take = session.take(request.take_id)
    track = _dry_track(take, request.track_id)
    rig = reamp_rig(session, request.rig_id, request.state)
    whole, undo = open_di(session, take, track, rig, store, request.undo_load)
    part = part_of_take(take, request.stretch, whole.rate_hz)
    rest = _rest(request, take, part)
    di = whole_or_part(whole, part)
    progress(0.0, "Reading the take")
    # By the whole take, so that a part comes back at the level that it has in the whole.
    excerpt = read_loudest(whole)
    cancel.check()
    plan = plan_reamp(
        rig,
        excerpt,
        di.rate_hz,
        track.full_scale_dbu,
        session.target_peak_dbfs,
        auto_return=request.auto_return,
        wanted=request.returns,
        # With its load undone it is not what the tone stage had, and is not called so.
        ahead_db=None if undo else ahead_when_recorded(session.snapshots.get(take.rig_hash), rig),
        impulses=impulses,
        cancel=cancel,
    )
    widths = {2 if one.back.side else 1 for one in plan.returns}
    references = references_of(take, request.target, store, widths, part)
    pass_id, files = _free_names(session, take, store, len(plan.returns))
    notes = FileNotes(
        description=f"{session.name}; {take.name}; reamp {pass_id}; {tone_words(plan.rig)}",
        made_at=clock(),
        time_reference=take.time_reference + (part.start if part is not None and not rest else 0),
        history=f"reamp of {track.file.split('/')[-1]}",
    )
    sinks: list[AudioSink] = []

    def reopen(number: int) -> AudioSource:
        sink = sinks[number]
        if isinstance(sink, MemorySink):
            return sink.source(di.rate_hz)
        return store.open_audio(files[number])

    try:
        for file, planned in zip(files, plan.returns, strict=True):
            several = f"; {planned.back.name}" if len(files) > 1 else ""
            own = replace(notes, description=notes.description + several)
            if rest is not None:
                sinks.append(MemorySink())
            else:
                sinks.append(store.create_audio(file, di.rate_hz, 1, session.word_length, own))
        slates = _slates(
            request, plan, excerpt, di.rate_hz, backend_for, impulses, progress, cancel
        )
        returned = play_and_measure(
            plan, di, 0, backend_for, sinks, reopen, progress, cancel,
            _expected(request, rig, plan, slates), part.first - part.start if part else 0,
        )  # fmt: skip
        made = _record(request, rig, track, plan, returned, slates, pass_id, files, notes, part)
        if rest is not None:
            made = join_rest(session, made, plan.rig, rest, reopen, store, notes)
        else:
            made = _finished(take, made, request.target, returned, references, store, cancel)
    except BaseException:
        for sink in sinks:
            sink.abandon()
        raise
    if undo is not None:
        made = made.model_copy(update={"unloaded": undo.words})
    progress(1.0, "Finishing")
    return ReampOutcome(take.id, made, plan.rig, plan, add_pass(take.id, made, plan.rig))


def _rest(request: ReampRequest, take: Take, part: SentPart | None) -> Rest | None:
    """The pass that a part is joined with, if any; EditError where there is no part."""
    if not request.join:
        return None
    if part is None:
        raise EditError(
            "The whole take is sent: there is nothing to join.", remedy="Mark a range first."
        )
    return rest_of(request.session, take, request.join)


def _slates(
    request: ReampRequest,
    plan: ReampPlan,
    excerpt: Loudest,
    rate_hz: int,
    backend_for: LoopBackendFor,
    impulses: Impulses | None,
    progress: Progress,
    cancel: CancelToken,
) -> tuple[SlateRecord, ...] | None:
    """What a quiet sweep tells of every return; on a real device behind a look at whether one of
    them howls already."""
    backs = [one.back for one in plan.returns]
    if request.device != SIMULATED:
        names = [one.name for one in backs] if len(backs) > 1 else ["the return"]
        require_quiet_return(backend_for(plan.courses), rate_hz, cancel, names)
    if not request.slate:
        return None
    if request.device == SIMULATED:
        ports = [one.course.track for one in backs]
        known = known_slates(request.session, rig_hash(plan.rig), ports)
        if known is not None:
            return known
    sent = excerpt.peak_dbfs + plan.send.gain_db
    return send_slates(
        backs, sent, rate_hz, backend_for, impulses, progress, cancel, go_on=request.go_on
    )


def _expected(
    request: ReampRequest, rig: Rig, plan: ReampPlan, slates: tuple[SlateRecord, ...] | None
) -> list[float | None]:
    """Where each return is looked for first: by its slate, else where it lay last time."""
    found = []
    for number, one in enumerate(plan.returns):
        told = slates[number].delay_samples if slates else None
        port = one.back.course.track
        found.append(told or last_delay(request.session, rig.name, request.device, port))
    return found


def _finished(
    take: Take,
    made: Pass,
    target: MatchTarget,
    returned: Sequence[Returned],
    references: References,
    store: SessionStore,
    cancel: CancelToken,
) -> Pass:
    """A pass in the time of its take's reference, and matched."""
    track, returns = take.reference_track, made.returns
    if track is not None and (take.reference or track.id != made.track_id):
        returns = tuple(
            one.model_copy(
                update={
                    "against": measure_against(
                        take, track, one, store, cancel, made.part, take.track(made.track_id)
                    )
                }
            )
            for one in returns
        )
        made = made.model_copy(update={"returns": returns})
    returns = tuple(
        one.model_copy(update={"recorded": null_with_recorded(take, one, store, cancel, made.part)})
        for one in returns
    )
    made = made.model_copy(update={"returns": returns})
    known = {one.file: found.levels for one, found in zip(returns, returned, strict=True)}
    matches = match_pass(take, made, target, store, known, references)
    returns = tuple(one.model_copy(update={"match": matches[one.file]}) for one in returns)
    return made.model_copy(update={"returns": returns})


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
    if take.sent is None:
        raise EditError(
            f"{take.name} has no dry DI track to send.",
            remedy="Choose a take with a DI, or name the track.",
        )
    return take.sent


def _free_names(
    session: Session, take: Take, store: SessionStore, count: int
) -> tuple[str, tuple[str, ...]]:
    """The next free pass id of a take, and its files."""
    taken = {p.id for p in take.passes}
    taken |= {b.item.id for b in session.bin if b.take_id == take.id}

    def files_of(pass_id: str) -> tuple[str, ...]:
        return tuple(f"audio/{take.id}_{pass_id}_k{n:02}.wav" for n in range(1, count + 1))

    def is_taken(pass_id: str) -> bool:
        return pass_id in taken or any(store.has_file(file) for file in files_of(pass_id))

    pass_id = free_id(is_taken, "p", digits=2)
    return pass_id, files_of(pass_id)


def _record(
    request: ReampRequest,
    rig: Rig,
    track: Track,
    plan: ReampPlan,
    returned: Sequence[Returned],
    slates: Sequence[SlateRecord] | None,
    pass_id: str,
    files: Sequence[str],
    notes: FileNotes,
    part: SentPart | None,
) -> Pass:
    return Pass(
        id=pass_id,
        name=pass_name(
            request.session,
            request.session.take(request.take_id),
            plan.rig,
            part,
            behind_pedals=track.tap == "printed",
        ),
        track_id=track.id,
        returns=tuple(
            return_record(planned, found, file, slates[number] if slates else None)
            for number, (planned, found, file) in enumerate(
                zip(plan.returns, returned, files, strict=True)
            )
        ),
        rig_hash=rig_hash(plan.rig),
        rig_name=rig.name,
        made_at=notes.made_at.isoformat(timespec="seconds"),
        send_gain_db=plan.send.gain_db,
        send_limited_db=plan.send.limited_db,
        assumed_calibration=plan.send.assumed,
        amp_peak_dbu=plan.send.amp_peak_dbu,
        xruns=returned[0].loop.xruns,
        played_by=request.device,
        part=part,
    )


def return_record(
    planned: ReturnPlan, found: Returned, file: str, slate: SlateRecord | None = None
) -> Return:
    """A return as it is stored, before it is matched."""
    levels, back = found.levels, planned.back
    return Return(
        name=back.name,
        port=back.course.track,
        tap=back.course.tap,
        group=back.group,
        side=back.side,
        file=file,
        frames=found.loop.frames,
        return_gain_db=planned.gain_db,
        alignment=alignment_record(found.alignment),
        alignment_refused=found.refused,
        slate=slate,
        peak_dbfs=max(levels.peak_dbfs, -200.0),
        true_peak_dbtp=max(levels.true_peak_dbtp, -200.0),
        clipped_samples=levels.clipped_samples,
        loudness_lufs=finite_or_none(levels.loudness.lufs),
        match=None,
        null_db=found.null_db,
    )
