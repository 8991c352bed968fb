"""A stored DI played through a whole rig becomes a take."""

from __future__ import annotations

from dataclasses import replace

from diaulos.errors import EditError
from diaulos.figures import counted
from diaulos.records import dataclass
from diaulos.rig.bench import Impulses
from diaulos.rig.model import PortRef
from diaulos.rig.trackplan import TrackPlan, jack_full_scale_dbu, plan_tracks
from diaulos.session.edits import Edit, add_take
from diaulos.session.model import SIMULATED, Session, Take, Track, rig_hash
from diaulos.session.roles import recording_rig
from diaulos.work.ports import (
    AudioSink,
    CancelToken,
    Clock,
    FileNotes,
    Progress,
    SessionStore,
    no_progress,
)
from diaulos.work.rigs.audio import RigAudio
from diaulos.work.rigs.look import node_load_of, rig_graph
from diaulos.work.rigs.rendering import RenderedTrack, RenderRequest, player_request, render
from diaulos.work.rigs.stored import stored_of
from diaulos.work.takes.importing import next_take_number


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
    audio: RigAudio,
    impulses: Impulses | None = None,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
    rig_id: str = "",
) -> PlayedTake:
    """A take's stored DI through a rig of the session: a new take with a track for what every
    recorder input received. Without a take a simulated player strums."""
    rig, stored = recording_rig(session, rig_id), stored_of(session, store)
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
        request = player_request(session, rig, stored=stored)
        request = replace(request, seed=number)
    result = render(request, sink_for, audio, impulses, progress, cancel)
    plans = {plan.track: plan for plan in plan_tracks(rig_graph(session, rig, stored))}
    order = {track.port: index for index, track in enumerate(rig.tracks)}
    tracks = tuple(
        _recorded(one, files[one.track], result.frames, plans[one.track], index, take is None)
        for index, one in enumerate(
            sorted(result.tracks, key=lambda t: order.get(t.track, len(order))), start=1
        )
    )
    made = Take(
        id=f"t{number:04d}",
        name=f"{name}, {rig.name}"[:200],
        recorded_at=now.isoformat(timespec="seconds"),
        instrument_id=take.instrument_id if take is not None else "",
        played_by=take.played_by if take is not None else SIMULATED,
        tracks=tracks,
        notes=f"Played by the bench: {name}.",
    )
    clipped = [one.name for one in tracks if one.clipped_samples]
    words = f"{made.name}: {counted(len(tracks), 'track')}."
    if clipped:
        words += f" Clipped: {', '.join(clipped)}."
    if result.assumed:
        words += " Calibration assumed: +12 dBu at 0 dBFS."
    keep = {rig_hash(rig): rig}

    def change(current: Session) -> Session:
        current = add_take(made)(current)
        return current.model_copy(update={"snapshots": {**current.snapshots, **keep}})

    return PlayedTake(made, Edit(f"Play {rig.name}", change), words)


def _recorded(
    one: RenderedTrack, file: str, frames: int, plan: TrackPlan, index: int, simulated: bool
) -> Track:
    """A track as the session keeps it; a dry one with its calibration at the jack."""
    full_scale = load = None
    # A stored take is as loud as it is; the plan is the instrument's hardest playing.
    planned = plan.unclipped_dbfs if simulated else None
    if one.course.tap == "di" and plan.levels and one.course.source is not None:
        full_scale = jack_full_scale_dbu(one.course)
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
        planned_dbfs=planned,
    )
