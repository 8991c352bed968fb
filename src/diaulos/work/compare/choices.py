"""What of a session can be compared: tracks and what belongs together of passes, each as heard."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import EditError
from diaulos.records import dataclass
from diaulos.session.model import AlignmentRecord, Pass, Return, Session, Take, Track
from diaulos.signal.delay import Alignment
from diaulos.signal.loudness import Layout, LoudnessMeter
from diaulos.units import db_to_gain
from diaulos.work.compare.pairs import MOST_S, Side
from diaulos.work.listening.aligned import read_aligned, record_of
from diaulos.work.listening.heard import (
    cabinet_of,
    channels_through,
    return_reader,
    track_reader,
)
from diaulos.work.listening.mixing import return_name
from diaulos.work.listening.player import SIDE_DB, Channel, ReadBlock
from diaulos.work.measuring import finite_or_none, measure_blocks
from diaulos.work.ports import AudioSource, CancelToken, ExternalFiles, SessionStore
from diaulos.work.takes.importing import Resampler

BLOCK = 65_536
CEILING_DBTP = -1.0
MATCH_BANDS_HZ = {"lows": (50.0, 250.0), "mids": (250.0, 2_000.0), "highs": (2_000.0, 8_000.0)}
"""Bands by which candidates can be matched in place of the whole."""
BAND_ORDER = 4
MOST_RESAMPLED_S = 20 * 60
"""A file from outside at another rate is held whole: up to so long."""
MOST = 9
"""Candidates at once: one key each."""


@dataclass(frozen=True)
class Candidate:
    """Something that can be compared. `key` names it for good: take and audio file, or the path of
    a file; `files` are what an edit of it is put to."""

    key: str
    name: str
    take_name: str
    tap: str
    files: tuple[str, ...] = ()
    outside: str = ""
    """Path of a file that is not the session's."""


def candidates_of(session: Session) -> tuple[Candidate, ...]:
    """All that the session holds, take by take: tracks, then passes."""
    return tuple(one for take in session.takes for one in _of_take(take))


def _of_take(take: Take) -> list[Candidate]:
    found = [_of_track(take, part) for part in take.parts]
    return found + [_of_part(take, made, part) for made in take.passes for part in made.parts]


def usual_candidates(session: Session) -> tuple[Candidate, ...]:
    """What is worth a look at first: of the latest take with two things besides its dry DI these,
    else those of the latest with any two."""
    for least in (("di", "printed"), ()):
        for take in reversed(session.takes):
            heard = [one for one in _of_take(take) if one.tap not in least]
            if len(heard) >= 2:
                return tuple(heard[:4])
    return ()


def candidate_named(session: Session, key: str) -> Candidate | None:
    """The candidate of a key, as it is called now; None where it is gone."""
    take_id = key.partition(":")[0]
    take = next((one for one in session.takes if one.id == take_id), None)
    here = _of_take(take) if take is not None else ()
    return next((one for one in here if one.key == key), None)


def remembered(session: Session, keys: Sequence[str]) -> tuple[Candidate, ...]:
    """What was compared before, as far as it is still there; nothing where that is less than two
    things."""
    found = []
    for key in dict.fromkeys(keys):
        known = candidate_named(session, key)
        if known is not None:
            found.append(known)
        elif key.startswith("/") and Path(key).is_file():
            found.append(outside_file(key))
    return tuple(found[:MOST]) if len(found) > 1 else ()


def outside_file(path: str) -> Candidate:
    """A file that is compared without being the session's."""
    name = path.rsplit("/", 1)[-1]
    return Candidate(path, name, "file", "file", (), path)


def _of_track(take: Take, part: tuple[Track, ...]) -> Candidate:
    first = part[0]
    name = first.name if len(part) == 1 else first.pair
    files = tuple(one.file for one in part)
    return Candidate(f"{take.id}:{first.file}", name, take.name, first.tap, files)


def _of_part(take: Take, made: Pass, part: tuple[Return, ...]) -> Candidate:
    first = part[0]
    name = made.name if len(made.parts) == 1 else return_name(made, first)
    files = tuple(one.file for one in part)
    return Candidate(f"{take.id}:{first.file}", name, take.name, first.tap, files)


@dataclass(frozen=True)
class Heard:
    """A candidate ready to be read: its channels in its own time, at no gain, and how long."""

    candidate: Candidate
    channels: tuple[Channel, ...]
    frames: int

    def mono(self, first: int, count: int) -> NDArray[np.floating]:
        """What is compared: of a pair its mean."""
        parts = [one.read(first, count) * db_to_gain(one.gain_db) for one in self.channels]
        return parts[0] if len(parts) == 1 else np.mean(parts, axis=0)

    def blocks(self, cancel: CancelToken) -> Iterator[NDArray[np.float32]]:
        """All of it, (frames, channels)."""
        for first in range(0, self.frames, BLOCK):
            cancel.check()
            count = min(BLOCK, self.frames - first)
            columns = [one.read(first, count) * db_to_gain(one.gain_db) for one in self.channels]
            yield np.stack(columns, axis=1).astype(np.float32)


def open_candidate(
    session: Session, one: Candidate, store: SessionStore, files: ExternalFiles | None = None,
    resample: Resampler | None = None,
) -> Heard:  # fmt: skip
    """A candidate as the session has it heard: moved, through its filters and its cabinet, a pass
    in time. The match of a pass is left out, for here everything is matched anew. A file from
    outside is brought to the session's rate."""
    if one.outside:
        return _open_file(one, session.sample_rate_hz, files, resample)
    take_id, _, file = one.key.partition(":")
    take = session.take(take_id)
    for tracks in take.parts:
        if tracks[0].file == file:
            heard: list[Channel] = []
            for track in tracks:
                side = track.side if len(tracks) == 2 else ""
                channel = Channel(one.key, track_reader(track.file, store, session), side=side)
                heard += channels_through(channel, cabinet_of(session, track.file, store), side)
            return Heard(one, tuple(heard), max(track.frames for track in tracks))
    for made in take.passes:
        for part in made.parts:
            if part[0].file == file:
                found: list[Channel] = []
                for back in part:
                    read = return_reader(made, back, store, session)
                    channel = Channel(one.key, read, side=back.side)
                    cabinet = cabinet_of(session, back.file, store)
                    found += channels_through(channel, cabinet, back.side)
                return Heard(one, tuple(found), take.track(made.track_id).frames)
    raise EditError(f"{one.name} is no longer in {take.name}.", remedy="Choose something else.")


class _Resampled:
    """The channels of a file at another rate, worked out when they are first read."""

    def __init__(self, source: AudioSource, rate_hz: int, resample: Resampler) -> None:
        self._source, self._rate_hz, self._resample = source, rate_hz, resample
        self._whole: dict[int, NDArray[np.float32]] = {}

    def read(self, channel: int, first: int, count: int) -> NDArray[np.float32]:
        """Frames of a channel, silence beyond its ends."""
        if channel not in self._whole:
            blocks = (block[:, channel] for block in self._source.blocks())
            parts = list(self._resample(blocks, self._source.rate_hz, self._rate_hz))
            self._whole[channel] = np.concatenate([np.zeros(0, np.float32), *parts])
        whole, out = self._whole[channel], np.zeros(count, np.float32)
        start, stop = max(0, first), min(whole.size, first + count)
        if start < stop:
            out[start - first : stop - first] = whole[start:stop]
        return out


def _open_file(
    one: Candidate, rate_hz: int, files: ExternalFiles | None, resample: Resampler | None
) -> Heard:
    if files is None:
        raise EditError("Files from outside cannot be read here.")
    source = files.open(Path(one.outside))
    channels = min(2, source.channels)
    sides = ("",) if channels == 1 else ("left", "right")
    if source.rate_hz != rate_hz:
        if resample is None or source.frames > MOST_RESAMPLED_S * source.rate_hz:
            raise EditError(
                f"{one.name} has {source.rate_hz} Hz, the session {rate_hz} Hz"
                + (f", and is longer than {MOST_RESAMPLED_S // 60} min." if resample else "."),
                remedy="Import it as a take: that resamples it.",
            )
        again = _Resampled(source, rate_hz, resample)
        found = tuple(
            Channel(one.key, partial(again.read, number), side=side)  # type: ignore[arg-type]
            for number, side in enumerate(sides)
        )
        return Heard(one, found, math.ceil(source.frames * rate_hz / source.rate_hz))

    def reader(channel: int) -> ReadBlock:
        def read(first: int, count: int) -> NDArray[np.float32]:
            out = np.zeros(count, np.float32)
            start, stop = max(0, first), min(source.frames, first + count)
            at = start
            for block in source.blocks(first=start, count=max(0, stop - start)):
                out[at - first : at - first + block.shape[0]] = block[:, channel]
                at += block.shape[0]
            return out

        return read

    made = tuple(
        Channel(one.key, reader(number), side=side)  # type: ignore[arg-type]
        for number, side in enumerate(sides)
    )
    return Heard(one, made, source.frames)


@dataclass(frozen=True)
class Measured:
    """A candidate's levels as it is heard; None where it is silent."""

    heard: Heard
    lufs: float | None
    true_peak_dbtp: float | None
    peak_dbfs: float | None
    quietest_dbfs: float | None
    monitored_lu: float = 0.0
    """What it gains from being heard by more speakers than it was measured for; `lufs` has it."""

    @property
    def key(self) -> str:
        """Of the candidate."""
        return self.heard.candidate.key


def measure_candidate(heard: Heard, rate_hz: int, cancel: CancelToken) -> Measured:
    """Levels of all of it."""
    channels = len(heard.channels)
    layout: Layout = "mono" if channels == 1 else "stereo"
    levels = measure_blocks(heard.blocks(cancel), rate_hz, channels, layout)
    return Measured(
        heard, finite_or_none(levels.loudness.lufs), finite_or_none(levels.true_peak_dbtp),
        finite_or_none(levels.peak_dbfs), levels.quietest_dbfs,
    )  # fmt: skip


def band_loudness(heard: Heard, rate_hz: int, band: str, cancel: CancelToken) -> float | None:
    """BS.1770 loudness of what a band (`MATCH_BANDS_HZ`) leaves of a candidate; None for none."""
    from scipy.signal import butter, sosfilt

    low, high = MATCH_BANDS_HZ[band]
    sections = butter(
        BAND_ORDER, (low, min(high, 0.45 * rate_hz)), "band", fs=rate_hz, output="sos"
    )
    channels = len(heard.channels)
    state = np.zeros((sections.shape[0], 2, channels))
    meter = LoudnessMeter(float(rate_hz), channels, "mono" if channels == 1 else "stereo")
    for block in heard.blocks(cancel):
        kept, state = sosfilt(sections, block.astype(np.float64), axis=0, zi=state)
        meter.add(kept)
    return finite_or_none(meter.reading().lufs)


def side_of(one: Measured, rate_hz: int, cancel: CancelToken) -> Side:
    """The samples (up to ten minutes) that are compared."""
    most = min(one.heard.frames, round(MOST_S * rate_hz))
    kept = []
    for first in range(0, most, BLOCK):
        cancel.check()
        samples = one.heard.mono(first, min(BLOCK, most - first))
        kept.append(np.asarray(samples, np.float32))
    samples = np.concatenate(kept) if kept else np.zeros(0, np.float32)
    lufs = -math.inf if one.lufs is None else one.lufs
    return Side(one.heard.candidate.name, samples, rate_hz, "mono", lufs)


def as_monitored(measured: Sequence[Measured]) -> list[Measured]:
    """A mono one beside a stereo one is heard from both speakers: 3.01 LU louder."""
    if all(len(one.heard.channels) == 1 for one in measured):
        return list(measured)
    return [
        one
        if len(one.heard.channels) > 1 or one.lufs is None
        else replace(one, lufs=one.lufs + SIDE_DB, monitored_lu=SIDE_DB)
        for one in measured
    ]


@dataclass(frozen=True)
class Matched:
    """Gains in dB that bring every candidate to the loudness of the first, by key; all of them came
    down by `lowered_db` (0 or less) so that none passes -1 dBTP."""

    gains_db: dict[str, float]
    lowered_db: float


def match_all(
    measured: Sequence[Measured],
    by: str = "loudness",
    bands: Mapping[str, float | None] | None = None,
) -> Matched:
    """Match by "loudness", by "peak" (true peak), or by the loudness in a band, given by key in
    `bands` for each; what is silent stays as it is."""

    def level(one: Measured) -> float | None:
        if by == "peak":
            return one.true_peak_dbtp
        if bands is None:
            return one.lufs
        # A mono one beside a stereo one is heard from both speakers in every band alike.
        found = bands.get(one.key)
        return None if found is None else found + one.monitored_lu

    gains = {}
    for one in measured:
        mine, its = level(measured[0]), level(one)
        gains[one.key] = 0.0 if mine is None or its is None else mine - its
    peaks = [
        one.true_peak_dbtp + gains[one.key] for one in measured if one.true_peak_dbtp is not None
    ]
    lowered = min(0.0, CEILING_DBTP - max(peaks, default=CEILING_DBTP))
    return Matched({key: gain + lowered for key, gain in gains.items()}, lowered)


class _Source:
    """A reader as an audio source, so that it can be read in another one's time."""

    channels = 1
    bits: int | None = None

    def __init__(self, read: ReadBlock, frames: int, rate_hz: int) -> None:
        self._read, self.frames, self.rate_hz = read, frames, rate_hz

    def blocks(
        self, *, first: int = 0, count: int | None = None, block: int = BLOCK
    ) -> Iterator[NDArray[np.float32]]:
        """As every source."""
        stop = self.frames if count is None else min(self.frames, first + count)
        for at in range(first, stop, block):
            samples = self._read(at, min(block, stop - at))
            yield np.asarray(samples, np.float32)[:, None]


def matched_channels(
    heard: Heard, gain_db: float, rate_hz: int, found: Alignment | None
) -> tuple[Channel, ...]:
    """A candidate as it is listened to: at its matched gain and in the time and polarity of the
    reference, where a common time was found."""
    made = []
    for one in heard.channels:
        read = one.read
        if found is not None:
            read = partial(_read_in_time, _Source(read, heard.frames, rate_hz), record_of(found))
        made.append(replace(one, read=read, gain_db=one.gain_db + gain_db))
    return tuple(made)


def _read_in_time(
    source: _Source, record: AlignmentRecord, first: int, count: int
) -> NDArray[np.floating]:
    late, drift = record.delay_samples, record.told_drift_ppm
    return record.polarity * read_aligned(source, first, count, late, drift)
