"""The session as data. Audio is named, never held; files lie inside the session folder."""

import hashlib
import json
from collections.abc import Sequence
from typing import Annotated, Literal, Self

from pydantic import Field, StringConstraints, model_validator

from diaulos.errors import EditError
from diaulos.ids import BENCH
from diaulos.rig.model import Device, Frozen, PortRef, Prose, Rig, Tap, Word
from diaulos.session.compared import BlindTest, Corner, Gate, MicPlace, Moved
from diaulos.session.instrument import (
    ComparedInput,
    Family,
    Ident,
    InsideFile,
    Instrument,
    Name,
    Tone,
    ToneStage,
)
from diaulos.session.noise_check import NoiseCheck
from diaulos.session.practices import Practice
from diaulos.signal.loudness import Layout, Method

SCHEMA_VERSION = 18

SIMULATED = BENCH
"""What played a take of the simulated studio."""
WordLength = Literal["24", "float"]
TargetStatistic = Literal["peak", "rms"]

__all__ = ["Family", "Ident", "Instrument", "Name"]

USUAL_INPUTS = (
    ComparedInput(name="Line input", ohm=10e3, pf=22.0),
    ComparedInput(name="Low instrument input", ohm=47e3, pf=50.0),
    ComparedInput(name="Passive DI with amp", ohm=220e3, pf=150.0, beside_ohm=1e6, beside_pf=400.0),
    ComparedInput(name="Amplifier", ohm=1e6, pf=100.0),
    ComparedInput(name="Active DI", ohm=10e6, pf=10.0),
)
"""Representative, from memory."""

SAMPLE_RATES_HZ = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)


class Track(Frozen):
    """One recorded track of a take.

    `full_scale_dbu` is the dBu of a sine that reached 0 dBFS, `load_ohm` what the input
    presented to the instrument; None when nobody knows. `load_pf` is the input's own.
    """

    id: Ident
    name: Name
    tap: Tap
    file: InsideFile
    frames: int = Field(gt=0)
    channels: int = Field(default=1, ge=1, le=64)
    full_scale_dbu: float | None = None
    load_ohm: float | None = Field(default=None, gt=0.0, le=1e9)
    load_pf: float = Field(default=0.0, ge=0.0, le=1e6)
    peak_dbfs: float
    loudness_lufs: float | None = None
    clipped_samples: int = Field(default=0, ge=0)
    flat_tops: int = Field(default=0, ge=0)
    """Runs that lie flat below full scale: clipped ahead of the converter. On a dry track a
    fault; on a driven one the tone."""
    clips: tuple[int, ...] = Field(default=(), max_length=1_000)
    """Frames at which it began to clip."""
    input_number: int | None = Field(default=None, ge=1, le=256)
    quietest_dbfs: float | None = None
    """RMS of its quietest 0.3 s: its noise is no louder. None where nobody measured it."""
    planned_dbfs: float | None = None
    """The loudest peak that the level plan promised, unclipped; None where there was none."""
    side: Literal["", "left", "right"] = ""
    """Of a stereo pair."""
    pair: Word = ""
    """What both sides are called as one track."""

    @property
    def difference_db(self) -> float | None:
        """What came re what was planned; a planned clip counts as full scale."""
        if self.planned_dbfs is None:
            return None
        return self.peak_dbfs - min(0.0, self.planned_dbfs)

    @property
    def clips_ahead(self) -> bool:
        """Whether a dry track was clipped ahead of its converter. Flat tops of a driven amp or
        a modeler are the tone."""
        return self.tap == "di" and self.flat_tops > 0


class Dropped(Frozen):
    """Frames that were lost while recording; silence stands in their place."""

    frame: int = Field(ge=0)
    frames: int = Field(gt=0)


MERELY_DI_DB = -25.0
"""So little left of a return without the DI that it is the DI."""

DoubtKind = Literal["silent", "copy", "swapped", "inverted", "leak", "instrument"]


class Doubt(Frozen):
    """Something recorded that is not what the rig says it is. `track` and `other` are names of
    tracks; told, and never a reason to end a recording."""

    kind: DoubtKind
    track: Name
    other: Word = ""
    words: Prose
    remedy: Prose = ""
    at_end: bool = False
    """Only the last seconds of the take have it."""


class MatchTarget(Frozen):
    """What a pass is to be as loud as: a track of the take, an earlier pass, a figure, or
    nothing."""

    kind: Literal["track", "pass", "lufs", "none"] = "track"
    ident: Word = ""
    lufs: float = Field(default=-18.0, ge=-60.0, le=0.0)


class MatchRecord(Frozen):
    """How a pass was matched. Gains are applied when it is heard or exported."""

    target: MatchTarget
    label: Word
    reference_lufs: float
    before_lufs: float
    gain_db: float
    pair_offset_db: float
    after_lufs: float
    true_peak_dbtp: float
    method: Method
    layout: Layout

    @property
    def total_db(self) -> float:
        """Gain on the pass, the pair's offset included."""
        return self.gain_db + self.pair_offset_db


class AlignmentRecord(Frozen):
    """Where the return lies against the DI, as measured."""

    delay_samples: float
    delay_error_samples: float
    polarity: Literal[-1, 1]
    confidence: float
    drift_ppm: float | None = None
    drift_error_ppm: float | None = None

    @property
    def told_drift_ppm(self) -> float:
        """The drift, 0 where it cannot be told from none."""
        if self.drift_ppm is None or self.drift_error_ppm is None:
            return 0.0
        return self.drift_ppm if abs(self.drift_ppm) > 2.5 * self.drift_error_ppm else 0.0


class SlateRecord(Frozen):
    """What the sweep ahead of a pass told of the loop: latency and polarity (None where its
    levels did not agree, and `reason` why), gain over frequency, orders two to five re the
    linear one, and the RMS noise of the loop by itself."""

    delay_samples: float | None
    polarity: Literal[-1, 1] | None
    level_dbfs: float
    noise_dbfs: float
    hum_dbfs: float | None = None
    """RMS of the mains' lines in it; None where nobody measured it."""
    harmonics_db: float
    response: tuple[tuple[float, float], ...] = Field(default=(), max_length=200)
    reason: Word = ""


class LoopReturn(Frozen):
    """What a check of the loop told of one return."""

    name: Name
    port: PortRef
    slate: SlateRecord


class LoopCheck(Frozen):
    """A loop as it was when it was last found good: what later checks are held against."""

    rig_name: Word
    rig_hash: Word
    played_by: Word
    made_at: Word
    returns: tuple[LoopReturn, ...] = Field(min_length=1, max_length=64)


class Against(Frozen):
    """A pass against another track of its take than the DI that was sent."""

    track_id: Ident
    alignment: AlignmentRecord | None = None
    refused: Word = ""


class Recorded(Frozen):
    """A return against what the take holds of its own tap: what is left of the return when that
    track is taken out of it at the best gain and delay, and how much louder the return is."""

    track_id: Ident
    name: Name
    null_db: float
    gain_db: float


class Return(Frozen):
    """One of the tracks that came back in a pass. The file is the return as it came, from the
    first sample sent on; delay, polarity and gain are applied when it is heard or exported."""

    name: Name
    port: PortRef | None = None
    """The recorder's input that it came by; None where nobody knows."""
    tap: Tap = "amp"
    group: Word = ""
    """What it belongs together with: the returns of one group have one move in time, one
    polarity and one gain, so that balance and phase between them stay. "": by itself."""
    side: Literal["", "left", "right"] = ""
    """Of a stereo pair."""
    file: InsideFile
    frames: int = Field(gt=0)
    return_gain_db: float
    alignment: AlignmentRecord | None
    """Against the DI that was sent."""
    alignment_refused: Word = ""
    against: Against | None = None
    """Against the take's reference, where that is another track; None: the DI is."""
    slate: SlateRecord | None = None
    """Of the loop itself; None where none was sent."""
    peak_dbfs: float
    true_peak_dbtp: float
    clipped_samples: int = 0
    loudness_lufs: float | None
    match: MatchRecord | None
    """Of its whole group, where it belongs to one."""
    null_db: float | None = None
    """What the best gain and delay leave of the return when the DI is taken out of it, in dB re the
    return; None where nobody knows. Little is left of a return that is merely the DI."""

    recorded: Recorded | None = None
    """Against the recorded track of its tap that is most like it; None where there is none."""

    @property
    def found(self) -> AlignmentRecord | None:
        """Where it was found in the take, and how it was turned: against the take's reference, or
        against the DI that was sent where that could not be told."""
        if self.against is None or self.against.alignment is None:
            return self.alignment
        return self.against.alignment

    @property
    def merely_di(self) -> bool:
        """Whether what came back is the DI itself: no amplifier was on the way."""
        return self.null_db is not None and self.null_db < MERELY_DI_DB

    @property
    def headroom_db(self) -> float:
        """From the loudest peak to the converter's clip point."""
        return -self.peak_dbfs

    @property
    def loop_delay_samples(self) -> float | None:
        """The loop's latency as the slate told it; None where that is not known."""
        return self.slate.delay_samples if self.slate is not None else None


class SentPart(Frozen):
    """A stretch of a take that was sent alone. Frames of the take."""

    first: int = Field(ge=0)
    last: int = Field(gt=0)
    """The end is not included. What rings on behind it came back too."""
    start: int = Field(ge=0)
    """Where the sending began: ahead of it, so that the amplifier has settled. The returns' files
    begin there."""
    joined: Word = ""
    """In words: the pass whose rest it was joined with; "" where it stands alone."""

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if not self.start <= self.first < self.last:
            raise ValueError("the part's frames are not in order")
        return self


class Pass(Frozen):
    """One reamp of a stored take: what was sent, and all that came back, on one sample."""

    id: Ident
    name: Name
    track_id: Ident
    returns: tuple[Return, ...] = Field(min_length=1, max_length=64)
    """The first is the one that the send was worked out for."""
    rig_hash: Word
    rig_name: Word
    made_at: Word
    send_gain_db: float
    send_limited_db: float = 0.0
    assumed_calibration: bool = False
    amp_peak_dbu: float
    xruns: int = 0
    played_by: Word = ""
    """`SIMULATED`, or the real device that it went through; "" where nobody knows."""
    keeper: bool = False
    notes: Prose = ""
    unloaded: Word = ""
    """In words: that the DI's load was undone on the way out, and with what."""
    part: SentPart | None = None
    """Of a take that was sent in part; None: all of it."""
    settings_said: Literal["", "confirmed", "assumed"] = ""
    """Whether somebody said that real devices stood as the rig says; "" where nobody was asked."""

    @model_validator(mode="after")
    def _told_apart(self) -> Self:
        for what in ("name", "file"):
            if len({getattr(one, what) for one in self.returns}) != len(self.returns):
                raise ValueError(f"two returns of {self.name} have the same {what}")
        return self

    @property
    def main(self) -> Return:
        """The return that the send was worked out for."""
        return self.returns[0]

    @property
    def files(self) -> tuple[str, ...]:
        """The audio of all returns."""
        return tuple(one.file for one in self.returns)

    @property
    def parts(self) -> tuple[tuple[Return, ...], ...]:
        """The returns, those that belong together as one, in the order of their first."""
        found: dict[str, list[Return]] = {}
        for one in self.returns:
            found.setdefault(one.group or f"/{one.name}", []).append(one)
        return tuple(tuple(part) for part in found.values())

    def part_of(self, back: Return) -> tuple[Return, ...]:
        """What a return belongs together with, itself among it."""
        return next(part for part in self.parts if any(one.file == back.file for one in part))

    def placed(self, back: Return) -> AlignmentRecord | None:
        """The move in time and the polarity by which a return lies in the take: those of the first
        of its group that could be found."""
        found = next((one.found for one in self.part_of(back) if one.found is not None), None)
        start = self.part.start if self.part is not None else 0
        if not start:
            return found
        if found is None:
            # Nobody knows where it lies but for what it was sent from.
            return AlignmentRecord(delay_samples=-float(start), delay_error_samples=0.0,
                                   polarity=1, confidence=0.0)  # fmt: skip
        moved = found.delay_samples - start * (1.0 + 1e-6 * found.told_drift_ppm)
        return found.model_copy(update={"delay_samples": moved})

    def returned(self, name: str) -> Return:
        """The return of this name; EditError when there is none."""
        for one in self.returns:
            if one.name == name:
                return one
        known = ", ".join(one.name for one in self.returns)
        raise EditError(f"{self.name} has no return {name!r}.", remedy=f"Its returns: {known}.")

    @property
    def peak_dbfs(self) -> float:
        """Of the loudest return."""
        return max(one.peak_dbfs for one in self.returns)

    @property
    def clipped_samples(self) -> int:
        """Of all returns."""
        return sum(one.clipped_samples for one in self.returns)


class Take(Frozen):
    """One recording of all armed tracks at once, and its passes."""

    id: Ident
    name: Name
    recorded_at: Word
    time_reference: int = Field(default=0, ge=0)
    instrument_id: Word = ""
    tracks: tuple[Track, ...] = Field(min_length=1)
    passes: tuple[Pass, ...] = ()
    notes: Prose = ""
    rating: int = Field(default=0, ge=0, le=5)
    keeper: bool = False
    tags: tuple[Name, ...] = Field(default=(), max_length=50)
    marks: tuple[int, ...] = Field(default=(), max_length=1_000)
    """Frames that somebody marked."""
    dropouts: tuple[Dropped, ...] = Field(default=(), max_length=10_000)
    xruns: int = Field(default=0, ge=0)
    cut: tuple[int, int] | None = None
    """First frame and the one behind the last, where it is cut to whole bars; the files stay."""
    tempo_bpm: float | None = Field(default=None, ge=20.0, le=400.0)
    metre: Word = ""
    rig_hash: Word = ""
    """The rig as it was, in the session's snapshots; "" where nobody knows."""
    rig_name: Word = ""
    played_by: Word = ""
    """`SIMULATED`, or "" for a person."""
    reference: Word = ""
    """Id of the track whose time and polarity the take's passes keep; "": its dry DI, else the one
    behind pedals."""
    sends: Word = ""
    """Id of the track that a reamp sends; "": its dry DI, else the one behind pedals."""
    trim_state: Literal["", "confirmed", "not set", "assumed"] = ""
    """Whether somebody said that the tone stage stood as the rig says; "" where it has no trim."""
    instruments: dict[str, str] = Field(default_factory=dict)
    """Content hash of each instrument as it was, by the id of its device in the rig."""
    over: Word = ""
    """Id of the take that played along; "" where none did."""
    over_frame: int = Field(default=0, ge=0)
    """The frame of that take that this one's first frame belongs to."""
    over_round: int = Field(default=0, ge=0)
    """Frames after which that take came round again under this one, whole bars of it; 0: it was
    heard once."""
    pairs_apart: bool = False
    """Whether the sides of its stereo pairs are tracks of their own, panned hard; else a pair is
    one track."""
    punched: tuple[int, int] | None = None
    """The frames that are new; what lies around them is the take it was recorded over."""
    doubts: tuple[Doubt, ...] = Field(default=(), max_length=200)
    """Tracks that are not what the rig says, by their own sound."""

    @model_validator(mode="after")
    def _cut_inside(self) -> Self:
        if self.cut is not None:
            first, last = self.cut
            if not 0 <= first < last <= max(track.frames for track in self.tracks):
                raise ValueError("the cut lies outside the take")
        return self

    def track(self, track_id: str) -> Track:
        """The track of this id or name; EditError when there is none."""
        for track in self.tracks:
            if track_id in (track.id, track.name):
                return track
        raise EditError(
            f"{self.name} has no track {track_id!r}.",
            remedy=f"Its tracks: {', '.join(t.name for t in self.tracks)}.",
        )

    @property
    def parts(self) -> tuple[tuple[Track, ...], ...]:
        """The tracks in order, a stereo pair that is one track as (left, right), at the place of
        whichever comes first."""
        sides = {(one.pair, one.side): one for one in self.tracks if one.side and one.pair}
        if self.pairs_apart or not sides:
            return tuple((track,) for track in self.tracks)
        found: list[tuple[Track, ...]] = []
        done: set[str] = set()
        for track in self.tracks:
            left, right = (sides.get((track.pair, side)) for side in ("left", "right"))
            if left is None or right is None or track not in (left, right):
                found.append((track,))
            elif track.pair not in done:
                done.add(track.pair)
                found.append((left, right))
        return tuple(found)

    def part(self, name: str) -> tuple[Track, ...]:
        """The track of this id or name, both sides of a pair by the pair's name; EditError when
        there is none."""
        for part in self.parts:
            if len(part) == 2 and part[0].pair == name:
                return part
        return (self.track(name),)

    def pass_(self, pass_id: str) -> Pass:
        """The pass of this id or name; EditError when there is none."""
        for one in self.passes:
            if pass_id in (one.id, one.name):
                return one
        raise EditError(f"{self.name} has no pass {pass_id!r}.")

    @property
    def reference_track(self) -> Track | None:
        """The track that its passes are lined up with; None for a take without a dry DI where
        nobody chose one."""
        known = {track.id: track for track in self.tracks}
        return known.get(self.reference, self.di or self.printed)

    @property
    def di(self) -> Track | None:
        """The dry track, if the take has one."""
        return next((track for track in self.tracks if track.tap == "di"), None)

    @property
    def printed(self) -> Track | None:
        """The DI behind pedals that belong to the performance, if the take has one."""
        return next((track for track in self.tracks if track.tap == "printed"), None)

    @property
    def sent(self) -> Track | None:
        """The track that a reamp sends: the one that was chosen, else the dry DI, else the one
        behind pedals."""
        known = {track.id: track for track in self.sendable}
        return known.get(self.sends, self.di or self.printed)

    @property
    def sendable(self) -> tuple[Track, ...]:
        """Tracks that can be sent to an amplifier."""
        return tuple(one for one in self.tracks if one.tap in ("di", "printed"))


class Heard(Frozen):
    """How a stored file is heard in the monitor mix. `muted` None: as is usual, dry tracks
    muted and the others not. `pan` from -1 (left) to 1 (right)."""

    level_db: float = Field(default=0.0, ge=-60.0, le=12.0)
    pan: float = Field(default=0.0, ge=-1.0, le=1.0)
    muted: bool | None = None


class BinItem(Frozen):
    """A discarded pass. Its file stays until the bin is emptied."""

    take_id: Ident
    item: Pass


class Impulse(Frozen):
    """A cabinet impulse response that the person brought."""

    name: Name
    file: InsideFile
    channels: int = Field(default=1, ge=1, le=2)


class CabinetChoice(Frozen):
    """A cabinet that a track can be heard through. `gain_db` makes it as loud as the track is
    without one."""

    cabinet: Word
    """Id of a stand-in, or the file of an impulse response of the session."""
    gain_db: float = Field(ge=-120.0, le=120.0)
    true_peak_dbtp: float | None = None
    """Of the whole track through it at that gain; None for silence."""


class CabinetLater(Frozen):
    """Cabinets that were put to a track recorded without one. Its file stays as it is; the
    cabinet is applied when it is heard or exported."""

    choices: tuple[CabinetChoice, ...] = Field(min_length=1, max_length=9)
    used: Word = ""
    """The one of them that is heard; "": none."""

    @model_validator(mode="after")
    def _one_of_them(self) -> Self:
        names = [one.cabinet for one in self.choices]
        if len(set(names)) != len(names):
            raise ValueError("a cabinet stands there twice")
        if self.used and self.used not in names:
            raise ValueError(f"the cabinet {self.used!r} is none of the choices")
        return self

    @property
    def choice(self) -> CabinetChoice | None:
        """What is heard."""
        return next((one for one in self.choices if one.cabinet == self.used), None)


class QueuedSetting(Frozen):
    """How one control or choice of a device stands for a tone."""

    device: Ident
    setting: Word
    value: float | Word


class QueuedTone(Frozen):
    """A tone that takes are sent through: a rig, what stands otherwise in it, and a cabinet that is
    put to what comes back."""

    name: Name
    rig_id: Ident
    settings: tuple[QueuedSetting, ...] = Field(default=(), max_length=100)
    impulse: Word = ""


class QueuedPass(Frozen):
    """A pass that is to be made, or was: one take through one tone."""

    id: Ident
    take_id: Ident
    tone: QueuedTone
    target: MatchTarget = MatchTarget(kind="none")
    stretch: tuple[int, int] | None = None
    pass_id: Word = ""
    """Of the pass that it became."""
    refused: Word = ""
    """Why it could not be made; "" where it was not tried, or was made."""

    @property
    def waits(self) -> bool:
        """Whether it is still to be made."""
        return not self.pass_id and not self.refused


class TrimSaid(Frozen):
    """What somebody said of trim and pad of a real device: that they stand so, or do not."""

    device: PortRef
    trim_db: float = Field(ge=-60.0, le=60.0)
    pad: Word = ""
    done: bool


class SheetChoice(Frozen):
    """What goes into a sheet of one kind: of which rig, take or tone ("": the usual one), of which
    pass; titles of parts that are left out; by which column its tables are sorted; a note."""

    of: Word = ""
    made: Word = ""
    without: tuple[Word, ...] = Field(default=(), max_length=100)
    sort: Word = ""
    note: Prose = Field(default="", max_length=5_000)


class Origin(Frozen):
    """Where something of a session was taken from: the entry of the library, and the content hash
    that it had then."""

    entry: Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9_]{0,60}$")]
    hash: Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{16}$")]


class Session(Frozen):
    """The whole document."""

    schema_version: Literal[18] = 18
    id: Word
    name: Name
    sample_rate_hz: int = Field(ge=8000, le=192_000)
    word_length: WordLength = "24"
    tempo_bpm: float = Field(default=120.0, ge=20.0, le=400.0)
    metre: Annotated[str, StringConstraints(pattern=r"^[1-9]\d?/(1|2|4|8|16|32)$")] = "4/4"
    target_peak_dbfs: float = Field(default=-12.0, ge=-60.0, le=0.0)
    target_statistic: TargetStatistic = "peak"
    target_rms_dbfs: float = Field(default=-18.0, ge=-60.0, le=0.0)
    """Counts in place of the peak while the statistic is "rms"."""
    least_headroom_db: float = Field(default=6.0, ge=0.0, le=40.0)
    """Wanted at every station ahead of the converter."""
    loud_moments: bool = False
    """Whether gains leave room for louder playing than the planned excerpt."""
    instruments: tuple[Instrument, ...] = ()
    rigs: tuple[Rig, ...] = ()
    current_rig: Word = ""
    """The one that Rig and Levels show."""
    recording_rig: Word = ""
    """The one that Takes records with; empty: found by `roles.recording_rig`."""
    reamp_rig: Word = ""
    """The one that Reamp sends through; empty: found by `roles.reamp_rig`."""
    disarmed: dict[Word, tuple[PortRef, ...]] = Field(default_factory=dict)
    """By the id of a rig: planned tracks that are not recorded. All others are."""
    takes: tuple[Take, ...] = ()
    bin: tuple[BinItem, ...] = ()
    impulses: tuple[Impulse, ...] = ()
    take_bin: tuple[Take, ...] = ()
    """Discarded takes; their files stay until the bin is emptied."""
    snapshots: dict[str, Rig] = Field(default_factory=dict)
    instrument_snapshots: dict[str, Instrument] = Field(default_factory=dict)
    tone_stage: ToneStage = ToneStage()
    """Stands in where the recording rig has no device with an input trim."""
    trim_said: TrimSaid | None = None
    compared_inputs: tuple[ComparedInput, ...] = Field(default=USUAL_INPUTS, max_length=6)
    reference_instrument: Word = ""
    tones: tuple[Tone, ...] = ()
    own_types: tuple[Device, ...] = Field(default=(), max_length=200)
    """Device types of one's own."""
    a4_hz: float = Field(default=440.0, ge=380.0, le=500.0)
    """What everybody tunes to."""
    loop_checks: tuple[LoopCheck, ...] = Field(default=(), max_length=500)
    """The last good one of every loop and device."""
    noise_checks: tuple[NoiseCheck, ...] = Field(default=(), max_length=500)
    """Every one on the tracks of a rig, the oldest first."""
    queue: tuple[QueuedPass, ...] = Field(default=(), max_length=500)
    """Tones in a row: passes that are to be made one after the other, and those that were."""
    mix: dict[InsideFile, Heard] = Field(default_factory=dict)
    """The monitor mix, by audio file; what is not in it is heard as is usual."""
    cabinets: dict[InsideFile, CabinetLater] = Field(default_factory=dict)
    """Cabinets added later, by audio file; all returns that belong together have the same."""
    moves: dict[InsideFile, Moved] = Field(default_factory=dict)
    """Tracks and returns that were moved into another one's time, by audio file."""
    low_cuts: dict[InsideFile, Corner] = Field(default_factory=dict)
    """Corners in Hz of the low cuts that tracks and returns are heard through, by audio file."""
    gates: dict[InsideFile, Gate] = Field(default_factory=dict)
    """Gates that tracks and returns are heard through, by audio file."""
    mic_places: dict[InsideFile, MicPlace] = Field(default_factory=dict)
    """Where the microphones of tracks and returns stood, as somebody noted it, by audio file."""
    sheets: dict[Word, SheetChoice] = Field(default_factory=dict, max_length=20)
    """What goes into the sheets, by kind."""
    practice: Word = ""
    """Id of the house practice that it follows; empty: none."""
    own_practices: tuple[Practice, ...] = Field(default=(), max_length=50)
    origins: dict[Word, Origin] = Field(default_factory=dict, max_length=5_000)
    """What came from the library, by its kind and id: instrument:baritone."""
    blind_tests: tuple[BlindTest, ...] = Field(default=(), max_length=1_000)
    """Every blind test that was answered, the oldest first."""

    @model_validator(mode="after")
    def _whole(self) -> Self:
        for what, ids in (
            ("take", [take.id for take in self.takes]),
            ("rig", [rig.id for rig in self.rigs]),
            ("instrument", [instrument.id for instrument in self.instruments]),
            ("tone", [tone.id for tone in self.tones]),
        ):
            if len(set(ids)) != len(ids):
                raise ValueError(f"two of the {what}s have the same id")
        if self.rigs and self.current_rig not in {rig.id for rig in self.rigs}:
            raise ValueError(f"current_rig {self.current_rig!r} is not one of the rigs")
        for role in ("recording_rig", "reamp_rig"):
            named = getattr(self, role)
            if named and named not in {rig.id for rig in self.rigs}:
                raise ValueError(f"{role} {named!r} is not one of the rigs")
        return self

    def take(self, take_id: str) -> Take:
        """The take of this id or name; EditError when there is none."""
        for take in self.takes:
            if take_id in (take.id, take.name):
                return take
        known = ", ".join(take.name for take in self.takes) or "none yet"
        raise EditError(f"There is no take {take_id!r}.", remedy=f"Takes here: {known}.")

    def rig(self, rig_id: str = "") -> Rig:
        """The rig of this id or name, the current one by default."""
        wanted = rig_id or self.current_rig
        for rig in self.rigs:
            if wanted in (rig.id, rig.name):
                return rig
        known = ", ".join(rig.name for rig in self.rigs) or "none"
        raise EditError(f"There is no rig {wanted!r}.", remedy=f"Rigs here: {known}.")

    def instrument(self, instrument_id: str) -> Instrument:
        """The instrument of this id or name; EditError when there is none."""
        for instrument in self.instruments:
            if instrument_id in (instrument.id, instrument.name):
                return instrument
        known = ", ".join(i.name for i in self.instruments) or "none yet"
        raise EditError(
            f"There is no instrument {instrument_id!r}.", remedy=f"Instruments here: {known}."
        )

    def instrument_name(self, instrument_id: str) -> str:
        """Name of an instrument, or "" when the take has none."""
        return next((i.name for i in self.instruments if i.id == instrument_id), "")

    @property
    def holds_audio(self) -> bool:
        """Whether it has takes or impulse responses, which are of its sample rate."""
        return bool(self.takes or self.take_bin or self.bin or self.impulses)

    def binned_files(self) -> set[str]:
        """Files that only the bin needs: passes and whole takes."""
        files = {file for item in self.bin for file in item.item.files}
        for take in self.take_bin:
            files |= {track.file for track in take.tracks}
            files |= _of_passes(take)
        # A punched take shares the tracks that were not recorded anew.
        return files - self._live_files()

    def _live_files(self) -> set[str]:
        files = {track.file for take in self.takes for track in take.tracks}
        return files.union(*(_of_passes(take) for take in self.takes))

    def used_files(self) -> set[str]:
        """Every file that the session or its bin names."""
        takes = (*self.takes, *self.take_bin)
        files = {track.file for take in takes for track in take.tracks}
        files = files.union(*(_of_passes(take) for take in takes))
        files |= {file for item in self.bin for file in item.item.files}
        known = (*self.instruments, *self.instrument_snapshots.values())
        files |= {reading.file for one in known for reading in one.strength if reading.file}
        return files | {impulse.file for impulse in self.impulses}


def part_name(part: Sequence[Track]) -> str:
    """What one of a take's parts is called."""
    return part[0].pair if len(part) == 2 else part[0].name


def part_ident(part: Sequence[Track]) -> str:
    """What `Take.part` finds it by: a pair has no id of its own."""
    return part[0].pair if len(part) == 2 else part[0].id


def _of_passes(take: Take) -> set[str]:
    return {file for one in take.passes for file in one.files}


def content_hash(part: Frozen) -> str:
    """Content hash under which settings are stored once."""
    text = json.dumps(part.model_dump(mode="json"), sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def rig_hash(rig: Rig) -> str:
    """Content hash under which a rig's settings are stored once."""
    return content_hash(rig)


def tone_words(rig: Rig) -> str:
    """The tone of a rig in a few words: voice, drive, cabinet."""
    words = []
    for device in rig.devices:
        for setting in device.settings:
            if setting.id == "voice" and setting.kind == "choice":
                words.append(dict(setting.options).get(setting.value, setting.value))
            elif setting.id == "drive" and setting.kind == "control":
                words.append(f"drive {setting.value:g}")
            elif setting.id == "cabinet" and setting.kind == "choice":
                words.append(dict(setting.options).get(setting.value, setting.value))
    return ", ".join(words)
