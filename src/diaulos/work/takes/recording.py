"""Takes: the recording of all armed tracks at once, and what it becomes.

A recording works on a snapshot of the session taken at its start and adds its takes by one
edit at the end. Before the first sample a note beside the audio says what the take will be;
with it the files of a process that died become the take that was meant.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import field
from datetime import datetime
from functools import partial

from diaulos.errors import EditError, InputError
from diaulos.figures import counted
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.rig.model import PortRef, Rig
from diaulos.session.edits import Edit
from diaulos.session.instrument import Instrument
from diaulos.session.model import SIMULATED, Dropped, Session, Take, Track, content_hash, rig_hash
from diaulos.session.roles import recording_rig
from diaulos.session.take_edits import add_recorded
from diaulos.session.tone_stage import TrimState, trim_state
from diaulos.work.capture.ahead import Ahead
from diaulos.work.capture.recorder import BLOCK_FRAMES, Recorder, RecordResult
from diaulos.work.capture.stream import not_late
from diaulos.work.capture.trips import NOTHING_ROUND, WayRound
from diaulos.work.measuring import finite_or_none, measure_source
from diaulos.work.ports import AudioBackend, AudioSink, Clock, FileNotes
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.stored import Stored, stored_of
from diaulos.work.takes.importing import has_take_file, next_take_number
from diaulos.work.takes.notes import RecordingStore, TakeNote, recording_note
from diaulos.work.takes.over import (
    Over,
    Timeline,
    bars_in,
    monitor_of,
    old_track,
    reference_of,
    require_stretch,
    round_of,
    timeline,
)
from diaulos.work.takes.punch import FADE_S, PunchSink
from diaulos.work.takes.ready import (
    NO_SIDE,
    Armed,
    armed_tracks,
    calibration_of,
    checklist,
    recordable_tracks,
    sides_of,
)
from diaulos.work.takes.rounds import RoundSink

LONGEST_S = 4.0 * 3600.0


@dataclass(frozen=True)
class RecordRequest:
    """A take to record. Without `seconds` and `bars` it runs until it is stopped; a punch ends
    with its stretch."""

    session: Session
    rig_id: str = ""
    tracks: tuple[PortRef, ...] = ()
    """Those of the armed ones to take; all without."""
    seconds: float | None = None
    bars: int | None = None
    loop_bars: int | None = None
    """After so many bars the next take begins, without a gap."""
    count_in_bars: int = 0
    click: bool = False
    click_db: float = 0.0
    monitor_db: float = 0.0
    name: str = ""
    way_round: WayRound = NOTHING_ROUND
    """From what is heard to what comes back: taken out, so that an overdub lands in time."""
    over: Over | None = None
    block_frames: int = BLOCK_FRAMES
    pairs_apart: bool = False
    """The sides of a stereo output as tracks of their own, panned hard; else they are one."""


@dataclass(frozen=True, eq=False)
class Recorded:
    """What became of a recording: its takes (several where it went round), the edit that adds
    them, and what to say."""

    takes: tuple[Take, ...]
    edit: Edit
    words: str
    result: RecordResult

    @property
    def take(self) -> Take:
        """The take; of several rounds the last one that is whole."""
        whole = [
            one for one in self.takes if one.tracks[0].frames == self.takes[0].tracks[0].frames
        ]
        return whole[-1]


@dataclass(eq=False)
class Recording:
    """A take that is about to be recorded, or is. Made by `prepare`; `run` blocks."""

    request: RecordRequest
    armed: tuple[Armed, ...]
    files: _Files
    recorder: Recorder
    rig: Rig
    trim_state: TrimState
    instruments: dict[str, Instrument]
    store: RecordingStore
    times: Timeline
    frames: int | None
    round_frames: int | None
    _sinks: tuple[AudioSink, ...]
    _ahead: Ahead | None

    @property
    def take_id(self) -> str:
        """Id of the take, of the first one where it goes round."""
        return self.files.take_id(0)

    def run(self) -> Recorded:
        """Record until it ends; what was written is kept whatever ends it."""
        try:
            result = self.recorder.run()
        except BaseException:
            self.abandon_if_empty()
            raise
        if result.frames == 0:
            self.abandon_if_empty()
            raise result.stopped_by or EditError("Nothing was recorded.")
        takes = self._takes(result)
        words = _words(takes, result)
        if self._ahead is not None and (self._ahead.error or self._ahead.late_frames):
            words += " What played along was not all heard: it could not be read in time."
        words = f"{words} {self.unmeasured}".rstrip()
        return Recorded(takes, add_recorded(takes, self.rig, self.instruments), words, result)

    def abandon_if_empty(self) -> None:
        """Nothing came: no file and no note is left behind."""
        if self.recorder.captured_frames == 0:
            for sink in self._sinks:
                sink.abandon()
            self.store.forget_recording(self.files.take_id(0))

    @property
    def unmeasured(self) -> str:
        """What to say where the way round of what plays along is only claimed; "" else."""
        info = self.recorder.capture.info
        if info is None or self.request.over is None:
            return ""
        return self.request.way_round.unmeasured(info)

    @property
    def _simulated(self) -> bool:
        info = self.recorder.capture.info
        return info is not None and info.clock_id == SIMULATED

    # --- what it became ---

    def _takes(self, result: RecordResult) -> tuple[Take, ...]:
        each = self.round_frames or result.frames
        takes = []
        for turn in range(-(-result.frames // each)):
            takes.append(
                self._take(result, turn, turn * each, min(each, result.frames - turn * each))
            )
        return tuple(takes)

    def _take(self, result: RecordResult, turn: int, first: int, count: int) -> Take:
        """The take of one round: `count` frames of the recording from `first` on."""
        over = self.request.over
        punch = over is not None and over.way == "punch"
        ahead = over.first if over is not None and punch else 0

        def here(frames: Sequence[int]) -> tuple[int, ...]:
            return tuple(f - first + ahead for f in frames if first <= f < first + count)

        tracks = []
        sides = sides_of(self.armed)
        for number, one in enumerate(self.armed):
            pair, side = sides.get(one.port, NO_SIDE)
            file = self.files.name(turn, number)
            source = self.store.open_audio(file)
            levels = measure_source(source)
            full, load = calibration_of(one)
            clips = here(result.tracks[number].clips)
            old = old_track(over.take, one) if over is not None and punch else None
            if old is not None:
                pair, side = (pair, side) if side else (old.pair, old.side)
                inside = range(ahead, ahead + count)
                clips = tuple(sorted((*clips, *(f for f in old.clips if f not in inside))))
            tracks.append(
                Track(
                    id=f"k{number + 1:02d}",
                    name=one.name,
                    tap=one.tap,
                    file=file,
                    frames=source.frames if punch else min(count, source.frames),
                    full_scale_dbu=full,
                    load_ohm=load,
                    peak_dbfs=max(levels.peak_dbfs, -200.0),
                    loudness_lufs=finite_or_none(levels.loudness.lufs),
                    quietest_dbfs=levels.quietest_dbfs,
                    clipped_samples=levels.clipped_samples,
                    flat_tops=levels.flat_tops,
                    clips=clips[:1_000],
                    input_number=one.input_number,
                    planned_dbfs=one.plan.unclipped_dbfs,
                    pair=pair,
                    side=side,
                )
            )
        # All tracks of a take are of one length, whatever a full disk did to the last block.
        least = min(track.frames for track in tracks)
        tracks = [track.model_copy(update={"frames": least}) for track in tracks]
        marks = here(result.marks)
        if punch:
            assert over is not None
            tracks += _kept_tracks(over.take, self.armed)
            marks = tuple(sorted({*over.take.marks, *marks}))
        gaps = [
            Dropped(frame=max(gap.frame, first) - first + ahead,
                    frames=min(gap.frame + gap.frames, first + count) - max(gap.frame, first))
            for gap in result.dropouts
            if gap.frame < first + count and gap.frame + gap.frames > first
        ]  # fmt: skip
        note = self.files.note(turn)
        return Take(
            id=note.take_id,
            name=note.name,
            recorded_at=note.made_at,
            time_reference=note.time_reference,
            instrument_id=first_instrument(self.instruments),
            tracks=tuple(tracks),
            marks=marks[:1_000],
            dropouts=tuple(gaps),
            xruns=result.xruns,
            tempo_bpm=note.tempo_bpm,
            metre=note.metre,
            rig_hash=rig_hash(self.rig),
            rig_name=self.rig.name,
            played_by=SIMULATED if self._simulated else "",
            trim_state=self.trim_state,
            instruments={key: content_hash(one) for key, one in self.instruments.items()},
            notes=f"Ended early: {result.stopped_by}" if result.stopped_by else "",
            over=note.over,
            over_frame=note.over_frame,
            over_round=note.over_round,
            pairs_apart=note.pairs_apart,
            punched=(ahead, ahead + count) if punch else None,
        )


def _kept_tracks(take: Take, armed: Sequence[Armed]) -> list[Track]:
    """Tracks of an old take that were not recorded anew: the new take shares their files."""
    replaced = {old.id for one in armed if (old := old_track(take, one)) is not None}
    kept = [track for track in take.tracks if track.id not in replaced]
    return [
        track.model_copy(update={"id": f"k{number:02d}"})
        for number, track in enumerate(kept, start=len(armed) + 1)
    ]


def first_instrument(instruments: dict[str, Instrument]) -> str:
    """The instrument that a take is listed under; "" where nobody knows."""
    return next((one.id for one in instruments.values()), "")


def _words(takes: tuple[Take, ...], result: RecordResult) -> str:
    take = takes[0]
    parts = [f"{take.name}: {counted(len(take.tracks), 'track')}."]
    if len(takes) > 1:
        parts = [f"{len(takes)} rounds, {takes[0].name} to {takes[-1].name}."]
    names = [t.name for one in takes for t in one.tracks if t.clipped_samples]
    if names:
        parts.append(f"Clipped: {', '.join(dict.fromkeys(names))}.")
    if result.dropouts:
        lost = sum(one.frames for one in result.dropouts)
        parts.append(f"{len(result.dropouts)} gaps, {lost} frames lost; they are marked.")
    elif result.xruns:
        parts.append(f"{result.xruns} xruns.")
    if result.stopped_by is not None:
        parts.append(f"Ended early: {result.stopped_by} What was written is kept.")
    return " ".join(parts)


RecordBackendFor = Callable[[Session, Rig, tuple[PortRef, ...], Stored], AudioBackend]
"""(session, rig, armed tracks, what is stored of their playing) -> where the sound comes from."""


@dataclass
class _Files:
    """The files of a recording and the note on each of its takes."""

    request: RecordRequest
    rig: Rig
    armed: tuple[Armed, ...]
    instruments: dict[str, Instrument]
    store: RecordingStore
    made_at: datetime
    round_frames: int | None
    _ids: list[str] = field(default_factory=list)

    def take_id(self, turn: int) -> str:
        """Id of the take of a round: the next that neither a take nor a file has."""
        while len(self._ids) <= turn:
            if not self._ids:
                first = next_take_number(self.request.session, self.store)
            else:
                first = int(self._ids[-1][1:]) + 1
            self._ids.append(
                free_id(partial(has_take_file, self.store), "t", digits=4, first=first)
            )
        return self._ids[turn]

    def name(self, turn: int, track: int) -> str:
        """The file of a track (from 0) in a round."""
        return f"audio/{self.take_id(turn)}_k{track + 1:02d}.wav"

    def note(self, turn: int) -> TakeNote:
        """What the take of a round is."""
        session, over = self.request.session, self.request.over
        rate = session.sample_rate_hz
        take_id, now = self.take_id(turn), self.made_at
        name = self.request.name or f"Take {int(self.take_id(0)[1:])}"
        if self.round_frames is not None:
            name = f"{name}, round {turn + 1}"
        # Samples since midnight, as the bext chunk wants it; what is recorded over a take
        # lies on that take's line.
        reference = (now.hour * 3600 + now.minute * 60 + now.second) * rate
        at = 0
        if over is not None:
            at = 0 if over.way == "punch" else over.first
            reference = reference_of(over.take, rate) + at
        elif self.round_frames is not None:
            reference += turn * self.round_frames
        return TakeNote(
            take_id, name, now.isoformat(timespec="seconds"), reference,
            (over.take.tempo_bpm if over else None) or session.tempo_bpm,
            (over.take.metre if over else "") or session.metre,
            over.take.id if over else "", at, round_of(session, over),
            over.take.pairs_apart if over and over.way == "punch" else self.request.pairs_apart,
        )  # fmt: skip

    def open(self, turn: int, track: int) -> AudioSink:
        """Make the file of a track; with a round's first one its note."""
        session, one, note = self.request.session, self.armed[track], self.note(turn)
        if track == 0 and turn > 0:
            self.write_note(turn)
        return self.store.create_audio(
            self.name(turn, track),
            session.sample_rate_hz,
            1,
            session.word_length,
            FileNotes(
                description=f"{session.name}; {note.name}; {one.name}; {one.tap}",
                made_at=self.made_at,
                time_reference=note.time_reference,
                history=f"recorded; rig {self.rig.name}; input {one.input_number}",
            ),
        )

    def write_note(self, turn: int) -> None:
        """The note beside the audio, before the first sample."""
        files = tuple(self.name(turn, number) for number in range(len(self.armed)))
        trim = trim_state(self.request.session, self.rig)
        text = recording_note(self.note(turn), self.rig, self.armed, files, self.instruments, trim)
        self.store.note_recording(self.take_id(turn), text)


def prepare(
    request: RecordRequest, store: RecordingStore, backend_for: RecordBackendFor, clock: Clock
) -> Recording:
    """Everything ready up to the first sample: files made, the note written."""
    session, over = request.session, request.over
    rig = recording_rig(session, request.rig_id)
    stored = stored_of(session, store)
    report = look_at(session, rig.id, stored)
    armed = armed_tracks(session, report)
    if request.tracks:
        armed = tuple(one for one in recordable_tracks(report) if one.port in request.tracks)
    for condition in checklist(session, rig.id, store.free_bytes(), 0.5, stored):
        if condition.must and not condition.holds and not (armed and condition.id == "armed"):
            raise EditError(f"{condition.otherwise}.", where=rig.name, remedy=condition.remedy)
    if not armed:
        raise EditError("No track is armed.", where=rig.name, remedy="Arm one.")
    rate = session.sample_rate_hz
    times = timeline(session, over, request.count_in_bars)
    if over is not None:
        require_stretch(over, times.bar)
    frames, each = _frames(request, times.bar)
    instruments = _instruments(session, rig, armed)
    files = _Files(request, rig, armed, instruments, store, clock(), each)
    sinks: list[AudioSink] = []
    try:
        for number, one in enumerate(armed):
            sinks.append(_sink(files, number, one, rate))
        files.write_note(0)
        monitor = monitor_of(
            session, over, times, store, armed, level_db=request.monitor_db,
            click=request.click, click_db=request.click_db,
        )  # fmt: skip
        heard = over is not None or request.click or times.count_in
        ahead = Ahead(monitor, monitor.channels, rate) if heard else None
        recorder = Recorder(
            backend_for(session, rig, tuple(one.port for one in armed), stored),
            sinks,
            rate,
            frames=frames,
            start_frame=times.lead,
            late=request.way_round.frames if heard else not_late,
            ahead=ahead,
            block_frames=request.block_frames,
        )
    except BaseException:
        for sink in sinks:
            sink.abandon()
        if sinks:
            store.forget_recording(files.take_id(0))
        raise
    return Recording(
        request, armed, files, recorder, rig, trim_state(session, rig), instruments, store,
        times, frames, each, tuple(sinks), ahead,
    )  # fmt: skip


def _sink(files: _Files, number: int, one: Armed, rate: int) -> AudioSink:
    """Where a track goes: a file, a file for every round, or a stretch inside the old one."""
    over = files.request.over
    if files.round_frames is not None:
        return RoundSink(files.open, number, files.round_frames)
    sink = files.open(0, number)
    if over is None or over.way != "punch":
        return sink
    old = old_track(over.take, one)
    source = files.store.open_audio(old.file) if old is not None else None
    punch = PunchSink(sink, source, over.first, over.frames, round(FADE_S * rate))
    try:
        punch.begin()
    except BaseException:
        sink.abandon()
        raise
    return punch


def _frames(request: RecordRequest, bar: float) -> tuple[int | None, int | None]:
    """(frames of the whole recording, of a round), None for "until it is stopped" and "no
    rounds"."""
    rate, over = request.session.sample_rate_hz, request.over
    each = None if request.loop_bars is None else round(request.loop_bars * bar)
    if over is not None and over.last is not None:
        if over.way == "punch":
            return over.last - over.first, None
        if over.way == "loop":
            each = over.last - over.first
            bars_in(over.first, over.last, bar)
    if each is not None and each < 1:
        raise InputError("A loop has at least one bar.", remedy="Give its length in bars.")
    if request.bars is not None:
        seconds = request.bars * bar / rate
    elif request.seconds is not None:
        seconds = request.seconds
    else:
        return None, each
    if not 0.0 < seconds <= LONGEST_S:
        raise InputError(
            f"{seconds:g} s is no length of a take.",
            remedy=f"Record up to {LONGEST_S / 3600.0:g} hours.",
        )
    return round(seconds * rate), each


def _instruments(session: Session, rig: Rig, armed: tuple[Armed, ...]) -> dict[str, Instrument]:
    known = {one.id: one for one in session.instruments}
    found = {}
    for source in dict.fromkeys(one.source for one in armed):
        device = rig.device(source)
        one = known.get(device.word("instrument")) if device.has_setting("instrument") else None
        if one is not None:
            found[source] = one
    return found
