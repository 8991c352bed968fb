"""Cabinets added later: what a track sounds like through one, and how loud it then is.

A cabinet is named by the id of a stand-in or by the file of an impulse response of the session.
Its gain makes the track as loud as it is without one, so that alternatives are heard at equal
loudness, and a match made before still holds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import EditError, RigError
from diaulos.records import dataclass
from diaulos.rig.course import trace
from diaulos.rig.model import PortRef, Rig, Tap
from diaulos.session.edits import Edit, put_cabinets
from diaulos.session.model import CabinetChoice, CabinetLater, Session, Take
from diaulos.signal.cabinet import CABINETS, cabinet_taps
from diaulos.signal.convolve import PartitionedConvolver, convolve_long
from diaulos.signal.loudness import common_layouts
from diaulos.units import db_to_gain, gain_to_db
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import finite_or_none, measure_blocks, read_mono, read_span
from diaulos.work.ports import AudioSink, AudioSource, SessionStore

Real = NDArray[np.float64]
Side = Literal["", "left", "right"]

STREAM_PART = 1024
"""Partition of what is heard through a cabinet: a block of the player's."""
COARSE_BLOCK = 65_536
EXCERPT_S = 8.0
"""What a cabinet that is only tried is levelled by."""


@dataclass(frozen=True, eq=False)
class InPlace:
    """A cabinet as it stands behind a track: `taps` are (samples, 1 or 2)."""

    name: str
    taps: Real
    gain_db: float

    def column(self, side: Side) -> Real:
        """What one side of a stereo pair goes through."""
        return np.asarray(self.taps[:, -1 if side == "right" else 0])


def cabinet_title(session: Session, cabinet: str) -> str:
    """What a person calls it."""
    known = CABINETS.get(cabinet)
    if known is not None:
        return known.title
    return next((one.name for one in session.impulses if one.file == cabinet), cabinet)


def cabinet_names(session: Session) -> tuple[tuple[str, str], ...]:
    """(name, title) of every cabinet that a track can get: the session's own, the stand-ins."""
    own = tuple((one.file, one.name) for one in session.impulses)
    return (*own, *((name, one.title) for name, one in CABINETS.items()))


def taps_of(session: Session, cabinet: str, store: SessionStore) -> Real:
    """A cabinet's response at the session's rate, shape (samples, 1 or 2); EditError when there is
    none of this name."""
    if cabinet in CABINETS:
        return cabinet_taps(cabinet, float(session.sample_rate_hz))[:, None]
    if not any(one.file == cabinet for one in session.impulses):
        known = ", ".join(title for _, title in cabinet_names(session))
        raise EditError(f"There is no cabinet {cabinet!r}.", remedy=f"Cabinets here: {known}.")
    source = store.open_audio(cabinet)
    columns = [read_mono(source, channel=number) for number in range(min(2, source.channels))]
    return np.stack(columns, axis=1).astype(np.float64)


def in_place(session: Session, file: str, store: SessionStore) -> InPlace | None:
    """The cabinet that a stored file is heard through; None for none."""
    later = session.cabinets.get(file)
    choice = later.choice if later is not None else None
    if choice is None:
        return None
    return InPlace(choice.cabinet, taps_of(session, choice.cabinet, store), choice.gain_db)


class CabinetReader:
    """Reads a track through one column of a cabinet. What follows on is streamed; elsewhere it
    begins with what the cabinet still rings of."""

    def __init__(
        self, read: Callable[[int, int], NDArray[np.floating]], taps: Real, gain_db: float
    ) -> None:
        self._read, self._length = read, taps.size
        self._stream = PartitionedConvolver(taps * db_to_gain(gain_db), STREAM_PART)
        self._next: int | None = None

    def __call__(self, first: int, count: int) -> NDArray[np.float64]:
        if first != self._next:
            ahead = min(self._length - 1, max(0, first))
            self._stream.reset()
            if ahead:
                self._stream.process(self._read(first - ahead, ahead))
        self._next = first + count
        return self._stream.process(self._read(first, count))


def through_blocks(
    blocks: Iterator[NDArray[np.float32]], columns: Sequence[Real]
) -> Iterator[NDArray[np.float32]]:
    """Mono blocks of (frames, 1) through a cabinet, a column for each of its own. As long as what
    goes in."""
    lengths = [column.size - 1 for column in columns]
    tails: list[NDArray[np.floating]] = [np.zeros(length) for length in lengths]
    for block in blocks:
        samples, out = block[:, 0].astype(np.float64), []
        for number, column in enumerate(columns):
            full = convolve_long(samples, column)
            full[: lengths[number]] += tails[number]
            tails[number] = full[samples.size :].copy()
            out.append(full[: samples.size])
        yield np.stack(out, axis=1).astype(np.float32)


class CabinetSink:
    """A file that takes mono samples and holds them through a cabinet, a channel for each of its
    columns."""

    def __init__(self, sink: AudioSink, columns: Sequence[Real]) -> None:
        self._sink = sink
        self._streams = [PartitionedConvolver(column, STREAM_PART) for column in columns]
        self._peak = 0.0

    @property
    def peak_dbfs(self) -> float:
        """Of what was written."""
        return gain_to_db(self._peak)

    @property
    def frames(self) -> int:
        """Frames that were written."""
        return self._sink.frames

    @property
    def clipped_samples(self) -> int:
        """Samples that did not fit the word length."""
        return self._sink.clipped_samples

    def write(self, samples: NDArray[np.floating]) -> None:
        """Samples that follow, mono."""
        mono = np.asarray(samples, dtype=np.float64).reshape(-1)
        out = np.stack([stream.process(mono) for stream in self._streams], axis=1)
        self._peak = max(self._peak, float(np.max(np.abs(out), initial=0.0)))
        self._sink.write(out.astype(np.float32))

    def close(self) -> None:
        """Finish the file."""
        self._sink.close()

    def abandon(self) -> None:
        """Throw it away."""
        self._sink.abandon()


# --- how loud ---


@dataclass(frozen=True)
class Loud:
    """What a cabinet must be given so that the track is as loud as without it, and the true peak
    that it then has. None for silence."""

    gain_db: float
    true_peak_dbtp: float | None


def level_through(
    blocks: Callable[[], Iterator[NDArray[np.float32]]], rate_hz: int, taps: Real
) -> Loud:
    """By the loudness of all that `blocks` gives, (frames, 1), without the cabinet and through it;
    measured as monitored: a mono track counts twice beside a stereo one."""
    channels = taps.shape[1]
    plain, heard = common_layouts(1, channels)
    without = measure_blocks(blocks(), rate_hz, 1, plain)
    columns = [taps[:, number] for number in range(channels)]
    through = measure_blocks(through_blocks(blocks(), columns), rate_hz, channels, heard)
    difference = finite_or_none(without.loudness.lufs - through.loudness.lufs)
    gain = max(-120.0, min(120.0, difference or 0.0))
    return Loud(gain, finite_or_none(through.true_peak_dbtp + gain))


def file_blocks(
    source: AudioSource, first: int = 0, count: int | None = None
) -> Callable[[], Iterator[NDArray[np.float32]]]:
    """The first channel of a file, or of a stretch of it, as often as it is asked for."""
    length = source.frames if count is None else count

    def blocks() -> Iterator[NDArray[np.float32]]:
        for at in range(first, first + length, COARSE_BLOCK):
            yield read_span(source, at, min(COARSE_BLOCK, first + length - at))[:, None]

    return blocks


def excerpt_blocks(source: AudioSource) -> Callable[[], Iterator[NDArray[np.float32]]]:
    """Some seconds around the loudest part of a file."""
    count = min(source.frames, round(EXCERPT_S * source.rate_hz))
    first = max(0, min(read_loudest(source).first - count // 4, source.frames - count))
    return file_blocks(source, first, count)


def measured_choice(
    session: Session, cabinet: str, file: str, store: SessionStore
) -> CabinetChoice:
    """A cabinet for a stored file, its gain found from the whole of it."""
    source = store.open_audio(file)
    taps = taps_of(session, cabinet, store)
    loud = level_through(file_blocks(source), source.rate_hz, taps)
    return CabinetChoice(cabinet=cabinet, gain_db=loud.gain_db, true_peak_dbtp=loud.true_peak_dbtp)


def put_choice(session: Session, files: Sequence[str], cabinet: str, store: SessionStore) -> Edit:
    """A cabinet behind what belongs together, its gain found from the first of it."""
    return with_cabinet(session, files, measured_choice(session, cabinet, files[0], store))


def with_cabinet(session: Session, files: Sequence[str], choice: CabinetChoice) -> Edit:
    """What belongs together through this cabinet; those that it had stay beside it as
    alternatives, nine at most."""
    old = session.cabinets.get(files[0])
    others = [one for one in (old.choices if old else ()) if one.cabinet != choice.cabinet]
    later = CabinetLater(choices=(*others[-8:], choice), used=choice.cabinet)
    return put_cabinets(files, later)


def with_alternative(session: Session, files: Sequence[str], cabinet: str) -> Edit:
    """Another of the cabinets that were put to it; "" for none."""
    old = session.cabinets.get(files[0])
    if old is None or (cabinet and cabinet not in [one.cabinet for one in old.choices]):
        raise EditError(f"There is no cabinet {cabinet!r} in place.", remedy="Add it first.")
    return put_cabinets(files, old.model_copy(update={"used": cabinet}))


# --- two in a row ---


def cabinet_before(session: Session, take: Take, file: str) -> str:
    """The cabinet that a stored track or return has been through already, in words; "" for none,
    or where nobody knows."""
    for track in take.tracks:
        if track.file == file:
            rig = session.snapshots.get(take.rig_hash)
            planned = [one.port for one in rig.tracks if one.name == track.name] if rig else []
            return _before(rig, planned[0] if planned else None, track.name, track.tap)
    for made in take.passes:
        for back in made.returns:
            if back.file == file:
                rig = session.snapshots.get(made.rig_hash)
                return _before(rig, back.port, f"{made.name}, {back.name}", back.tap)
    return ""


def _before(rig: Rig | None, port: PortRef | None, name: str, tap: Tap) -> str:
    if rig is not None and port is not None:
        try:
            course = trace(rig, port)
        except RigError:
            course = None
        if course is not None:
            for leg in course.legs:
                if leg.has_cabinet:
                    return f"{name} went through {leg.device.name}, which has a cabinet"
            return ""
    return f"{name} was recorded with a cabinet" if tap in ("cabinet", "mic") else ""
