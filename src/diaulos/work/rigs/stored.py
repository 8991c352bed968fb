"""What an instrument's levels are planned by where it was recorded: a stored strum, or else the
newest dry DI take made with it.

A take that the simulated player made tells no more than the simulated player himself.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import field, replace
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, curves_db
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.errors import DiaulosError, RigError
from diaulos.records import dataclass
from diaulos.rig.as_recorded import ahead_when_recorded
from diaulos.rig.course import reamp_course
from diaulos.rig.excerpt import EXCERPT_S, RATE_HZ, Excerpt, Sent, excerpt_of
from diaulos.rig.graph import Brought
from diaulos.rig.model import Rig
from diaulos.rig.plan import solve_send
from diaulos.rig.states import reamps
from diaulos.session.instrument import Instrument, StrengthReading
from diaulos.session.model import SIMULATED, Session, Take, Track
from diaulos.signal.convolve import convolve_long
from diaulos.signal.fir import minimum_phase
from diaulos.units import gain_to_db
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import read_span
from diaulos.work.ports import AudioSource, SessionStore

Real = NDArray[np.float64]

MOST_RAISED = 10.0 ** (12.0 / 20.0)
"""What undoing a load may raise; above it is noise."""
SILENT = 1e-4
KEPT = 32


@dataclass(frozen=True)
class StoredDi:
    """A dry DI that Reamp would send: the excerpt that Reamp plans by, its peak and the whole
    take's, and the dBu that reached 0 dBFS."""

    excerpt: Excerpt
    excerpt_peak_dbfs: float
    peak_dbfs: float
    full_scale_dbu: float | None
    recorded_with: Rig | None = None
    """The rig as it was then."""

    def through(self, rig: Rig) -> Sent | None:
        """As a rig sends it, so that the amplifier sees the instrument's volts; None where the
        rig sends to none."""
        try:
            ahead = ahead_when_recorded(self.recorded_with, rig)
            send = solve_send(reamp_course(rig), self.peak_dbfs, self.full_scale_dbu, ahead)
        except RigError:
            return None
        return Sent(self.excerpt, self.excerpt_peak_dbfs + send.gain_db)


@dataclass(frozen=True)
class Stored:
    """Excerpts by the id of their instrument, the cabinets that a person brought by the name
    that rigs have for them, and the DI that a rig which reamps is planned by."""

    excerpts: Mapping[str, Excerpt] = field(default_factory=dict)
    cabinets: Mapping[str, Brought] = field(default_factory=dict)
    sent: StoredDi | None = None


NOTHING_STORED = Stored()


T = TypeVar("T")


class _Read(Generic[T]):
    """What was read: audio files never change."""

    def __init__(self) -> None:
        self._held: OrderedDict[tuple[object, ...], T | None] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: tuple[object, ...]) -> tuple[bool, T | None]:
        with self._lock:
            return key in self._held, self._held.get(key)

    def put(self, key: tuple[object, ...], found: T | None) -> None:
        with self._lock:
            self._held[key] = found
            while len(self._held) > KEPT:
                self._held.popitem(last=False)


_READ = _Read[Excerpt]()


def stored_of(session: Session, store: SessionStore | None) -> Stored:
    """The excerpts of a session's instruments. What cannot be read is left out: the simulated
    player stands in for it."""
    if store is None:
        return NOTHING_STORED
    found = {}
    for one in session.instruments:
        if one.position is None:
            continue
        reading = one.reading
        if reading is not None and reading.file:
            excerpt = _strum(session, store, one, reading)
        else:
            excerpt = _newest_take(session, store, one)
        if excerpt is not None:
            found[one.id] = excerpt
    return Stored(found, _cabinets(session, store), _newest_di(session, store))


MOST_IMPULSE_S = 4.0
_CABINETS: OrderedDict[tuple[object, ...], Brought] = OrderedDict()
_CABINETS_LOCK = threading.Lock()


def _cabinets(session: Session, store: SessionStore) -> dict[str, Brought]:
    """The session's own cabinets, read once. One that cannot be read is left out: playing says
    so, and the plan takes it as flat."""
    found: dict[str, Brought] = {}
    for impulse in session.impulses:
        try:
            source = store.open_audio(impulse.file)
            key = (session.id, impulse.file, source.frames, source.rate_hz)
            with _CABINETS_LOCK:
                known = _CABINETS.get(key)
            if known is None:
                count = min(source.frames, int(MOST_IMPULSE_S * source.rate_hz))
                taps = read_span(source, 0, count).astype(np.float64)
                known = Brought(taps, float(source.rate_hz))
                with _CABINETS_LOCK:
                    _CABINETS[key] = known
                    while len(_CABINETS) > KEPT:
                        _CABINETS.popitem(last=False)
        except DiaulosError:
            continue
        found[impulse.file] = known
    return found


def _strum(
    session: Session, store: SessionStore, one: Instrument, reading: StrengthReading
) -> Excerpt | None:
    load = Load.together(one.cable, Load(1e6, 50e-12))
    words = f"{reading.label} of {one.name}"
    told = (reading.made_at, reading.peak_dbfs)
    return _read(session, store, str(reading.file), one.circuit_at(reading), load, words, told)


def _newest_take(session: Session, store: SessionStore, one: Instrument) -> Excerpt | None:
    for take in reversed(session.takes):
        di = take.di
        if di is None or take.played_by == SIMULATED or take.instrument_id != one.id:
            continue
        if di.clipped_samples or di.flat_tops:
            continue  # what clipped is no measure of what was played
        load = Load.together(Load(di.load_ohm or 1e6, di.load_pf * 1e-12), one.cable)
        told = (di.frames, di.peak_dbfs)
        circuit = _as_recorded(session, take, one).circuit()
        excerpt = _read(session, store, di.file, circuit, load, f"DI of {take.name}", told)
        if excerpt is not None:
            return excerpt
    return None


_SENT = _Read[StoredDi]()


def _newest_di(session: Session, store: SessionStore) -> StoredDi | None:
    """The dry DI of the newest take that has one."""
    for take in reversed(session.takes):
        di = take.di
        if di is None:
            continue
        key = (session.id, take.name, di)
        known, found = _SENT.get(key)
        if not known:
            if not any(reamps(one) for one in session.rigs):
                return None
            try:
                found = _as_sent(store.open_audio(di.file), take, di)
            except DiaulosError:
                found = None
            _SENT.put(key, found)
        if found is not None:
            return replace(found, recorded_with=session.snapshots.get(take.rig_hash))
    return None


def _as_sent(source: AudioSource, take: Take, di: Track) -> StoredDi | None:
    loud = read_loudest(source)
    samples = loud.samples.astype(np.float64)
    peak = float(np.max(np.abs(samples), initial=0.0))
    if peak <= SILENT:
        return None
    words = f"DI of {take.name}, as Reamp sends it"
    excerpt = excerpt_of(_at_rate(samples, source.rate_hz), words)
    return StoredDi(excerpt, gain_to_db(peak), loud.peak_dbfs, di.full_scale_dbu)


def _as_recorded(session: Session, take: Take, one: Instrument) -> Instrument:
    """An instrument with its knobs as they stood in a take."""
    for kept in take.instruments.values():
        then = session.instrument_snapshots.get(kept)
        if then is not None and then.id == one.id and then.position is not None:
            return then
    return one


def _read(
    session: Session, store: SessionStore, file: str, circuit: InstrumentCircuit, load: Load,
    words: str, told: tuple[object, ...],
) -> Excerpt | None:  # fmt: skip
    """`told` tells this audio from another file of its name."""
    key = (session.id, file, circuit, load, words, told)
    known, found = _READ.get(key)
    if known:
        return found
    try:
        source = store.open_audio(file)
        samples = _around_loudest(source)
        excerpt = None
        if float(np.max(np.abs(samples), initial=0.0)) > SILENT:
            excerpt = excerpt_of(_unloaded(_at_rate(samples, source.rate_hz), circuit, load), words)
    except DiaulosError:
        excerpt = None
    _READ.put(key, excerpt)
    return excerpt


def _around_loudest(source: AudioSource) -> Real:
    """The excerpt's length around the loudest sample of a file's first channel."""
    top, at, first = 0.0, 0, 0
    for block in source.blocks():
        column = np.abs(block[:, 0])
        here = int(np.argmax(column)) if column.size else 0
        if column.size and float(column[here]) > top:
            top, at = float(column[here]), first + here
        first += column.size
    count = round((EXCERPT_S + 0.2) * source.rate_hz)
    return read_span(source, max(0, at - count // 2), min(count, source.frames)).astype(np.float64)


def _at_rate(samples: Real, rate_hz: int) -> Real:
    if rate_hz == int(RATE_HZ):
        return samples
    from math import gcd

    from scipy.signal import resample_poly

    common = gcd(rate_hz, int(RATE_HZ))
    return np.asarray(resample_poly(samples, int(RATE_HZ) // common, rate_hz // common))


def _unloaded(samples: Real, circuit: InstrumentCircuit, load: Load) -> Real:
    """The EMF behind what a load received, as a minimum-phase filter."""

    def gain(freqs: Real) -> Real:
        db = curves_db(circuit, [load], np.maximum(freqs, 15.0))[0]
        return np.asarray(np.minimum(10.0 ** (-db / 20.0), MOST_RAISED))

    taps = minimum_phase(gain, RATE_HZ, max_taps=4096)
    return np.asarray(convolve_long(samples, taps)[: samples.size])
