"""Where a recording is heard: as it was found, moved into another one's time, through a low cut."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod

import numpy as np
from numpy.typing import NDArray

from diaulos.session.compared import Moved
from diaulos.session.model import AlignmentRecord, Session
from diaulos.work.listening.player import ReadBlock

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


def through_filters(session: Session, file: str, read: ReadBlock) -> ReadBlock:
    """A reader behind the all-pass and the low cut that a file is heard through, where there are
    any."""
    rate = float(session.sample_rate_hz)
    moved, corner = session.moves.get(file), session.low_cuts.get(file)
    if moved is not None and moved.allpass_hz is not None:
        read = AllpassReader(read, moved.allpass_hz, rate)
    return read if corner is None else LowCutReader(read, corner, rate)
