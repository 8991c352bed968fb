"""Takes: what is armed, what must be true first, the recording, and what a dead process left.

A recording works on a snapshot of the session taken at its start and adds its take by one
edit at the end. Before the first sample a note beside the audio says what the take will be;
with it the files of a process that died become the take that was meant.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

import numpy as np
from pydantic import ValidationError

from diaulos.errors import DiaulosError, EditError, InputError
from diaulos.rig.checks import Finding, Severity
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.trackplan import TrackPlan
from diaulos.session.edits import Edit
from diaulos.session.instrument import Instrument
from diaulos.session.model import Dropped, Session, Take, Track, content_hash, rig_hash
from diaulos.session.take_edits import add_recorded, bar_frames
from diaulos.signal.click import click_block
from diaulos.work.measuring import finite_or_none, measure_source
from diaulos.work.ports import (
    AudioBackend,
    AudioSink,
    Block,
    Clock,
    FileNotes,
    SessionStore,
)
from diaulos.work.recording.recorder import BLOCK_FRAMES, Recorder, RecordResult
from diaulos.work.rig import RigReport, look_at, node_load_of
from diaulos.work.takes import next_take_number

USUAL_MINUTES = 10.0
LONGEST_S = 4.0 * 3600.0


class RecordingStore(SessionStore, Protocol):
    """A session's folder that can hold a note on a recording in progress."""

    def note_recording(self, take_id: str, text: str) -> None:
        """What the take under way will be."""

    def recordings(self) -> dict[str, str]:
        """The notes that are there, by take id."""

    def forget_recording(self, take_id: str) -> None:
        """The take is in the session, or not wanted."""

    def free_bytes(self) -> int:
        """Room on the disk."""


@dataclass(frozen=True)
class Armed:
    """A track that is to be recorded: input channel of the stream by its place in the list."""

    port: PortRef
    name: str
    tap: str
    input_number: int | None
    source: str
    plan: TrackPlan


@dataclass(frozen=True)
class Condition:
    """Something that must be true before a take, worked out from the session."""

    id: str
    words: str
    """While it holds."""
    otherwise: str
    """While it does not."""
    holds: bool
    remedy: str = ""
    must: bool = False
    """Recording is refused while it does not hold."""


def armed_tracks(report: RigReport) -> tuple[Armed, ...]:
    """The planned tracks with a course that starts at an instrument, in the plan's order."""
    plans = {plan.track: plan for plan in report.tracks}
    found = []
    for number, planned in enumerate(report.rig.tracks, start=1):
        plan = plans.get(planned.port)
        if plan is None or plan.course is None or plan.course.source is None:
            continue
        found.append(
            Armed(
                planned.port,
                planned.name,
                plan.course.tap,
                planned.input_number or number,
                plan.course.start.device.id,
                plan,
            )
        )
    return tuple(found)


def bytes_needed(session: Session, tracks: int, minutes: float) -> int:
    """Room that a take of some minutes takes."""
    width = 3 if session.word_length == "24" else 4
    return int(tracks * minutes * 60.0 * session.sample_rate_hz * width)


def checklist(
    session: Session, rig_id: str, free_bytes: int, minutes: float = USUAL_MINUTES
) -> tuple[Condition, ...]:
    """What must be true now. Nothing is ticked by hand."""
    report = look_at(session, rig_id)
    armed = armed_tracks(report)
    worst = max((one.severity for one in report.findings), default=Severity.NOTE)
    dangers = [one for one in report.findings if one.severity is Severity.DANGER]
    faults = [one for one in report.findings if one.severity is Severity.FAULT]
    doubled = [one for one in report.findings if one.id == "double-monitoring"]
    need = bytes_needed(session, max(1, len(armed)), minutes)
    chosen = [
        device
        for device in report.rig.devices
        if device.kind == "instrument" and any(one.source == device.id for one in armed)
    ]
    unknown = [
        device.name
        for device in chosen
        if not any(one.id == device.word("instrument") for one in session.instruments)
    ]
    return (
        Condition("armed", f"{len(armed)} tracks are armed", "Nothing is armed", bool(armed),
                  "Plan tracks in Rig: nothing that is recorded starts at an instrument.", True),
        Condition("danger", "Nothing is dangerous", "The rig is dangerous", not dangers,
                  dangers[0].remedy if dangers else "", True),
        Condition("fault", "Nothing is wrong in the rig", f"The rig has {_count(faults, 'fault')}",
                  worst < Severity.FAULT,
                  faults[0].remedy if faults else ""),
        Condition("di", "A dry DI is armed", "No dry DI is armed",
                  any(one.tap == "di" for one in armed),
                  "Record a dry DI as well, muted: it is the way back."),
        Condition("monitoring", "Nobody hears it twice", "Somebody hears it twice", not doubled,
                  doubled[0].remedy if doubled else ""),
        Condition("disk", f"Room for {minutes:g} minutes ({need / 1e6:.0f} MB)",
                  f"No room for {minutes:g} minutes ({need / 1e6:.0f} MB)",
                  free_bytes > need, "Free some space on the disk.", free_bytes < need / 20),
        Condition("instrument", "The instrument in hand is chosen",
                  f"Nobody said which instrument {' and '.join(unknown)} is", not unknown,
                  "Choose it in Rig."),
    )  # fmt: skip


def _count(things: list[Finding], word: str) -> str:
    return f"{len(things)} {word}{'' if len(things) == 1 else 's'}"


# --- the recording ---


@dataclass(frozen=True)
class RecordRequest:
    """A take to record. Without `seconds` and `bars` it runs until it is stopped."""

    session: Session
    rig_id: str = ""
    tracks: tuple[PortRef, ...] = ()
    """Those of the armed ones to take; all without."""
    seconds: float | None = None
    bars: int | None = None
    count_in_bars: int = 0
    click: bool = False
    name: str = ""
    round_trip_frames: int = 0
    """From what is heard to what comes back: taken out, so that an overdub lands in time."""
    played: tuple[np.ndarray, ...] = ()
    """Kept tracks that play along, at the session's rate, from the first frame on."""
    block_frames: int = BLOCK_FRAMES


@dataclass(frozen=True, eq=False)
class Recorded:
    """What became of a recording: the take, the edit that adds it, and what to say."""

    take: Take
    edit: Edit
    words: str
    result: RecordResult


@dataclass(eq=False)
class Recording:
    """A take that is about to be recorded, or is. Made by `prepare`; `run` blocks."""

    request: RecordRequest
    armed: tuple[Armed, ...]
    take_id: str
    recorder: Recorder
    files: tuple[str, ...]
    rig: Rig
    instruments: dict[str, Instrument]
    made_at: str
    name: str
    store: RecordingStore
    count_in_frames: int
    frames: int | None
    _sinks: tuple[AudioSink, ...] = field(default=())

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
        take = self._take(result)
        return Recorded(
            take, add_recorded(take, self.rig, self.instruments), _words(take, result), result
        )

    def abandon_if_empty(self) -> None:
        """Nothing came: no file and no note is left behind."""
        if self.recorder.captured_frames == 0:
            for sink in self._sinks:
                sink.abandon()
            self.store.forget_recording(self.take_id)

    def _take(self, result: RecordResult) -> Take:
        lengths = [self.store.open_audio(file).frames for file in self.files]
        frames = min(result.frames, *lengths)
        tracks = []
        for one, file, got, number in zip(
            self.armed, self.files, result.tracks, range(1, len(self.files) + 1), strict=True
        ):
            levels = measure_source(self.store.open_audio(file))
            full, load = calibration_of(one)
            tracks.append(
                Track(
                    id=f"k{number:02d}",
                    name=one.name,
                    tap=one.tap,  # type: ignore[arg-type]
                    file=file,
                    frames=frames,
                    full_scale_dbu=full,
                    load_ohm=load,
                    peak_dbfs=max(got.peak_dbfs, -200.0),
                    loudness_lufs=finite_or_none(levels.loudness.lufs),
                    clipped_samples=got.clipped_samples,
                    clips=tuple(frame for frame in got.clips if frame < frames),
                    input_number=one.input_number,
                )
            )
        session = self.request.session
        return Take(
            id=self.take_id,
            name=self.name,
            recorded_at=self.made_at,
            instrument_id=_first_instrument(self.instruments),
            tracks=tuple(tracks),
            marks=result.marks,
            dropouts=tuple(Dropped(frame=one.frame, frames=one.frames) for one in result.dropouts),
            xruns=result.xruns,
            tempo_bpm=session.tempo_bpm,
            metre=session.metre,
            rig_hash=rig_hash(self.rig),
            rig_name=self.rig.name,
            instruments={key: content_hash(one) for key, one in self.instruments.items()},
            notes=f"Ended early: {result.stopped_by}" if result.stopped_by else "",
        )


def _first_instrument(instruments: dict[str, Instrument]) -> str:
    return next((one.id for one in instruments.values()), "")


def _words(take: Take, result: RecordResult) -> str:
    parts = [f"{take.name}: {len(take.tracks)} tracks."]
    clipped = [track.name for track in take.tracks if track.clipped_samples]
    if clipped:
        parts.append(f"Clipped: {', '.join(clipped)}.")
    if result.dropouts:
        lost = sum(one.frames for one in result.dropouts)
        parts.append(f"{len(result.dropouts)} gaps, {lost} frames lost; they are marked.")
    elif result.xruns:
        parts.append(f"{result.xruns} xruns.")
    if result.stopped_by is not None:
        parts.append(f"Ended early: {result.stopped_by} What was written is kept.")
    return " ".join(parts)


def calibration_of(one: Armed) -> tuple[float | None, float | None]:
    """dBu at 0 dBFS at the jack, and the load there, of a dry track; None for the others."""
    course = one.plan.course
    if one.tap != "di" or course is None or course.source is None or not one.plan.levels:
        return None, None
    full = one.plan.levels[0].peak - one.plan.levels[-1].peak
    start = course.start
    assert start.exit is not None
    output = PortRef(device=start.device.id, port=start.exit.id)
    return full, min(1e9, node_load_of(course.graph, output))


BackendFor = Callable[[Session, Rig, tuple[PortRef, ...]], AudioBackend]
"""(session, rig, armed tracks) -> where the sound comes from."""


def prepare(
    request: RecordRequest, store: RecordingStore, backend_for: BackendFor, clock: Clock
) -> Recording:
    """Everything ready up to the first sample: files made, the note written."""
    session = request.session
    rig = session.rig(request.rig_id)
    report = look_at(session, rig.id)
    armed = armed_tracks(report)
    if request.tracks:
        armed = tuple(one for one in armed if one.port in request.tracks)
    for condition in checklist(session, rig.id, store.free_bytes(), 0.5):
        if condition.must and not condition.holds:
            raise EditError(f"{condition.otherwise}.", where=rig.name, remedy=condition.remedy)
    if not armed:
        raise EditError("No track is armed.", where=rig.name, remedy="Arm one.")
    rate = session.sample_rate_hz
    bar = bar_frames(session.tempo_bpm, session.metre, rate)
    frames = _frames(request, bar)
    number, now = next_take_number(session, store), clock()
    take_id = f"t{number:04d}"
    name = request.name or f"Take {number}"
    files = tuple(f"audio/{take_id}_k{n:02d}.wav" for n in range(1, len(armed) + 1))
    instruments = _instruments(session, rig, armed)
    # Samples since midnight, as the bext chunk wants it.
    reference = int((now.hour * 3600 + now.minute * 60 + now.second) * rate)
    sinks = []
    try:
        for one, file in zip(armed, files, strict=True):
            notes = FileNotes(
                description=f"{session.name}; {name}; {one.name}; {one.tap}",
                made_at=now,
                time_reference=reference,
                history=f"recorded; rig {rig.name}; input {one.input_number}",
            )
            sinks.append(store.create_audio(file, rate, 1, session.word_length, notes))
        made = now.isoformat(timespec="seconds")
        note = _note(session, rig, armed, files, take_id, name, made, instruments)
        store.note_recording(take_id, note)
    except BaseException:
        for sink in sinks:
            sink.abandon()
        raise
    count_in = round(request.count_in_bars * bar)
    recorder = Recorder(
        backend_for(session, rig, tuple(one.port for one in armed)),
        sinks,
        rate,
        frames=frames,
        start_frame=count_in + request.round_trip_frames,
        fill=_fill(request, count_in, bar, rate),
        block_frames=request.block_frames,
    )
    return Recording(
        request, armed, take_id, recorder, files, rig, instruments,
        now.isoformat(timespec="seconds"), name, store, count_in, frames, tuple(sinks),
    )  # fmt: skip


def _frames(request: RecordRequest, bar: float) -> int | None:
    rate = request.session.sample_rate_hz
    if request.bars is not None:
        seconds = request.bars * bar / rate
    elif request.seconds is not None:
        seconds = request.seconds
    else:
        return None
    if not 0.0 < seconds <= LONGEST_S:
        raise InputError(
            f"{seconds:g} s is no length of a take.",
            remedy=f"Record up to {LONGEST_S / 3600.0:g} hours.",
        )
    return round(seconds * rate)


def _instruments(session: Session, rig: Rig, armed: tuple[Armed, ...]) -> dict[str, Instrument]:
    known = {one.id: one for one in session.instruments}
    found = {}
    for source in dict.fromkeys(one.source for one in armed):
        device = rig.device(source)
        one = known.get(device.word("instrument")) if device.has_setting("instrument") else None
        if one is not None:
            found[source] = one
    return found


def _fill(
    request: RecordRequest, count_in: int, bar: float, rate: int
) -> Callable[[int, Block], None] | None:
    """What is heard: the click (through the count-in at least) and what plays along."""
    if not count_in and not request.click and not request.played:
        return None
    beats = int(request.session.metre.partition("/")[0])
    beat = bar / beats

    def fill(frame: int, outputs: Block) -> None:
        count = outputs.shape[0]
        if request.click or frame < count_in:
            click = click_block(frame, count, rate, beat, beats)
            if not request.click:
                click[max(0, count_in - frame) :] = 0.0
            outputs += click[:, None]
        for samples in request.played:
            first = frame - count_in
            here = np.arange(max(0, first), min(samples.size, first + count))
            if here.size:
                outputs[here - first] += samples[here][:, None]

    return fill


# --- what a dead process left ---


def _note(
    session: Session, rig: Rig, armed: tuple[Armed, ...], files: tuple[str, ...], take_id: str,
    name: str, made_at: str, instruments: dict[str, Instrument],
) -> str:  # fmt: skip
    tracks = []
    for number, (one, file) in enumerate(zip(armed, files, strict=True), start=1):
        full, load = calibration_of(one)
        tracks.append(
            {"id": f"k{number:02d}", "name": one.name, "tap": one.tap, "file": file,
             "full_scale_dbu": full, "load_ohm": load, "input_number": one.input_number}
        )  # fmt: skip
    data = {
        "diaulos_recording": 1, "take": take_id, "name": name, "recorded_at": made_at,
        "tempo_bpm": session.tempo_bpm, "metre": session.metre,
        "rig": rig.model_dump(mode="json"),
        "instruments": {key: one.model_dump(mode="json") for key, one in instruments.items()},
        "tracks": tracks,
    }  # fmt: skip
    return json.dumps(data, indent=1)


_TAKE_ID = re.compile(r"^t\d{4,}$")


def recoverable_takes(session: Session, store: RecordingStore) -> tuple[str, ...]:
    """Takes that a dead process left: their notes are there, the session does not know them."""
    known = {take.id for take in (*session.takes, *session.take_bin)}
    return tuple(ident for ident in sorted(store.recordings()) if ident not in known)


def recover_take(session: Session, store: RecordingStore, take_id: str) -> Recorded:
    """The take that was under way, as long as its shortest file; InputError where nothing of
    it can be used."""
    text = store.recordings().get(take_id, "")
    try:
        data = json.loads(text)
        if not isinstance(data, dict) or data.get("diaulos_recording") != 1:
            raise InputError("the note of that recording is damaged.", where=take_id)
        if data.get("take") != take_id or not _TAKE_ID.match(take_id):
            raise InputError("the note names another take.", where=take_id)
        rig = Rig.model_validate(data["rig"])
        instruments = {
            str(key): Instrument.model_validate(one) for key, one in data["instruments"].items()
        }
        entries = list(data["tracks"])
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise InputError("the note of that recording is damaged.", where=take_id) from error
    found: list[tuple[dict[str, Any], int, Any]] = []
    for entry in entries:
        try:
            source = store.open_audio(str(entry["file"]))
            found.append((entry, source.frames, measure_source(source)))
        except DiaulosError:
            continue
        except (KeyError, TypeError) as error:
            raise InputError("the note of that recording is damaged.", where=take_id) from error
    if not found:
        raise InputError("none of its files holds audio.", where=take_id)
    frames = min(count for _, count, _ in found)
    try:
        tracks = tuple(
            Track.model_validate(
                {
                    **entry,
                    "frames": frames,
                    "peak_dbfs": max(levels.peak_dbfs, -200.0),
                    "loudness_lufs": finite_or_none(levels.loudness.lufs),
                    "clipped_samples": levels.clipped_samples,
                }
            )
            for entry, _, levels in found
        )
        take = Take(
            id=take_id,
            name=f"{data['name']} (recovered)"[:200],
            recorded_at=str(data["recorded_at"]),
            instrument_id=_first_instrument(instruments),
            tracks=tracks,
            tempo_bpm=data["tempo_bpm"],
            metre=data["metre"],
            rig_hash=rig_hash(rig),
            rig_name=rig.name,
            instruments={key: content_hash(one) for key, one in instruments.items()},
            notes="Recovered after Diaulos ended early.",
        )
    except (ValidationError, KeyError) as error:
        raise InputError("the note of that recording is damaged.", where=take_id) from error
    result = RecordResult(frames, (), (), 0, ())
    edit = replace(add_recorded(take, rig, instruments), label=f"Recover {take.name}")
    return Recorded(take, edit, f"{take.name} is back: {len(tracks)} tracks.", result)
