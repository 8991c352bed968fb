"""Where a recording is heard: as it was found, moved into another one's time, through a low cut."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod

import numpy as np
from numpy.typing import NDArray

from diaulos.session.compared import Gate, Moved
from diaulos.session.model import AlignmentRecord, Session
from diaulos.signal.gate import GateSetting
from diaulos.work.listening.player import ReadBlock

LOOK = 1 << 18
"""Frames that a gate looks at at a time."""
SETTLED_PERIODS = 3.2
"""Of the corner: by then a low cut has forgotten 120 dB of what was before."""


def moved_record(found: AlignmentRecord | None, moved: Moved | None) -> AlignmentRecord | None:
    """Where a recording lies that was found there and then moved by hand on top: what is asked of
    the moved one is asked of the found one a little later."""
    if moved is None or moved.nothing:
        return found
    delay, drift, polarity = moved.delay_samples, moved.drift_ppm * 1e-6, moved.polarity
    error = 0.0
    confidence = 1.0
    if found is not None:
        own = found.told_drift_ppm * 1e-6
        delay = delay * (1.0 + own) + found.delay_samples
        drift = (1.0 + drift) * (1.0 + own) - 1.0
        polarity = 1 if polarity * found.polarity > 0 else -1
        error, confidence = found.delay_error_samples, found.confidence
    return AlignmentRecord(
        delay_samples=delay,
        delay_error_samples=error,
        polarity=polarity,
        confidence=confidence,
        drift_ppm=drift * 1e6 if drift else None,
        drift_error_ppm=0.0 if drift else None,
    )


class _FilteredReader(ABC):
    """What another reader gives, through a filter. From anywhere the same: where it does not go on
    from what was read last, it begins early enough."""

    def __init__(self, read: ReadBlock, corner_hz: float, rate_hz: float) -> None:
        self._read, self._corner_hz, self._rate_hz = read, corner_hz, rate_hz
        self._ahead = math.ceil(SETTLED_PERIODS * rate_hz / corner_hz)
        self._sections: NDArray[np.float64] | None = None
        self._state: NDArray[np.float64] | None = None
        self._next = -1

    @abstractmethod
    def _made(self) -> NDArray[np.float64]:
        """The filter's second-order sections."""

    def __call__(self, first: int, count: int) -> NDArray[np.floating]:
        from scipy.signal import sosfilt

        if self._sections is None:
            self._sections = self._made()
        if self._state is None or first != self._next:
            self._state = np.zeros((self._sections.shape[0], 2))
            before = np.asarray(self._read(first - self._ahead, self._ahead), np.float64)
            _, self._state = sosfilt(self._sections, before, zi=self._state)
        samples = np.asarray(self._read(first, count), np.float64)
        out, self._state = sosfilt(self._sections, samples, zi=self._state)
        self._next = first + count
        return np.asarray(out)


class LowCutReader(_FilteredReader):
    """Through a low cut."""

    def _made(self) -> NDArray[np.float64]:
        from diaulos.signal.lowcut import low_cut_sections

        return low_cut_sections(self._corner_hz, self._rate_hz)


class AllpassReader(_FilteredReader):
    """Through a first-order all-pass."""

    def _made(self) -> NDArray[np.float64]:
        from diaulos.signal.allpass import allpass_section

        return allpass_section(self._corner_hz, self._rate_hz)


class GateReader:
    """Through a gate, which looks at the whole recording once before it first gives something: from
    anywhere the same."""

    def __init__(self, read: ReadBlock, gate: Gate, rate_hz: float, frames: int) -> None:
        self._read, self._rate_hz, self._frames = read, rate_hz, frames
        self._setting = gate_setting(gate)
        self._gain_db: NDArray[np.floating] | None = None

    def __call__(self, first: int, count: int) -> NDArray[np.floating]:
        from diaulos.signal.gate import gain_at, gate_gain_db

        if self._gain_db is None:
            peaks = peaks_of(self._read, self._frames, self._rate_hz)
            self._gain_db = gate_gain_db(peaks, self._setting)
        samples = np.asarray(self._read(first, count), np.float64)
        return samples * gain_at(self._gain_db, first, count, self._rate_hz)


def gate_setting(gate: Gate) -> GateSetting:
    """A session's gate as the arithmetic has it."""
    return GateSetting(
        gate.open_dbfs, gate.close_dbfs, gate.hold_ms, gate.release_ms, gate.depth_db
    )


def peaks_of(read: ReadBlock, frames: int, rate_hz: float) -> NDArray[np.floating]:
    """Peaks of the milliseconds of a recording, as a gate looks at them."""
    from diaulos.signal.gate import step_peaks

    blocks = (
        np.asarray(read(first, min(LOOK, frames - first)), np.float64)
        for first in range(0, frames, LOOK)
    )
    return step_peaks(blocks, rate_hz)


def through_filters(session: Session, file: str, read: ReadBlock, frames: int) -> ReadBlock:
    """A reader of so many frames behind the all-pass, the low cut and the gate that a file is heard
    through, where there are any."""
    rate = float(session.sample_rate_hz)
    moved, corner = session.moves.get(file), session.low_cuts.get(file)
    if moved is not None and moved.allpass_hz is not None:
        read = AllpassReader(read, moved.allpass_hz, rate)
    if corner is not None:
        read = LowCutReader(read, corner, rate)
    gate = session.gates.get(file)
    return read if gate is None else GateReader(read, gate, rate, frames)
