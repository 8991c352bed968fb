"""A compressor: above a threshold, what comes in is held back by a ratio, with an attack and a
release.

Conventions
- Volts in, volts out; levels are peaks in dBu. The make-up gain is not part of it.
- The level is the largest sample of a millisecond; the gain moves in straight lines in dB from
  one millisecond to the next, one behind what was heard. So nothing depends on how sound is cut
  into blocks, and nothing is delayed.

Source: D. Giannoulis, M. Massberg, J. D. Reiss, "Digital Dynamic Range Compressor Design: A
Tutorial and Analysis", J. Audio Eng. Soc. 60 (6), 2012: gain computer with a soft knee, eq. (4),
and smooth branching peak detector behind it, eq. (16) (from memory). Figures of devices are
representative.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.records import dataclass
from diaulos.units import LOWEST_DB, peak_volt_to_dbu

Real = NDArray[np.float64]

FRAME_S = 0.001
KNEE_DB = 6.0
"""Width of the soft knee, half of it below the threshold."""


@dataclass(frozen=True)
class CompressorSettings:
    """Positions of the controls: threshold as the peak of a sine in dBu, ratio 1 and above,
    times in ms for 63 % of the way."""

    threshold_dbu: float = 0.0
    ratio: float = 4.0
    attack_ms: float = 10.0
    release_ms: float = 150.0

    def __post_init__(self) -> None:
        if not self.ratio >= 1.0:
            raise InputError(f"ratio is {self.ratio:g}; it is 1 and above.")
        for name in ("attack_ms", "release_ms"):
            if not getattr(self, name) > 0.0:
                raise InputError(f"{name} is {getattr(self, name):g}; it is above 0.")

    @property
    def after_db(self) -> float:
        """Plain gain behind what is not linear: none, the make-up is a stage of its own."""
        return 0.0

    def without_after(self) -> CompressorSettings:
        """These, without the gain behind."""
        return self

    def played(self, volts: Real, rate_hz: float) -> Real:
        """A whole signal through it."""
        box = Compressor(self, rate_hz)
        return box.process(volts, box.initial_state())[0]


def held_back_db(settings: CompressorSettings, peak_dbu: float) -> float:
    """How much a steady level is held back.

    Parameters
    ----------
    settings
        Positions of the compressor's controls.
    peak_dbu
        Peak of a sine at its input, in dBu.

    Returns
    -------
    dB, 0 and above.
    """
    over = peak_dbu - settings.threshold_dbu
    slope = 1.0 - 1.0 / settings.ratio
    if 2.0 * over <= -KNEE_DB:
        return 0.0
    if 2.0 * over < KNEE_DB:
        return slope * (over + KNEE_DB / 2.0) ** 2 / (2.0 * KNEE_DB)
    return slope * over


@dataclass(frozen=True)
class _State:
    """Where in a frame a block began, the largest sample of that frame so far, and what is held
    back at the frame's start and end."""

    position: int = 0
    peak: float = 0.0
    last_db: float = 0.0
    next_db: float = 0.0


class Compressor:
    """The compressor as a block processor."""

    latency_samples = 0.0

    def __init__(self, settings: CompressorSettings, rate_hz: float) -> None:
        self.settings = settings
        self._frame = max(1, round(rate_hz * FRAME_S))
        ms = 1_000.0 * self._frame / rate_hz
        self._attack = math.exp(-ms / settings.attack_ms)
        self._release = math.exp(-ms / settings.release_ms)

    def initial_state(self) -> _State:
        """Silence, at frame 0."""
        return _State()

    def process(self, block: Real, state: _State) -> tuple[Real, _State]:
        """One block of volts in, one block of volts out."""
        size, begun = self._frame, state.position
        whole, position = divmod(begun + block.size, size)
        heard = np.zeros((whole + 1) * size)
        heard[begun : begun + block.size] = np.abs(block)
        peaks = heard.reshape(whole + 1, size).max(axis=1)
        peaks[0] = max(peaks[0], state.peak)
        held = [state.last_db, state.next_db]
        for peak in peaks[:whole]:
            held.append(self._smoothed(held[-1], float(peak)))
        at = (begun + np.arange(block.size)) / size
        gain = 10.0 ** (-np.interp(at, np.arange(len(held)), held) / 20.0)
        return block * gain, _State(position, float(peaks[whole]), held[-2], held[-1])

    def _smoothed(self, before_db: float, peak: float) -> float:
        level = peak_volt_to_dbu(peak) if peak > 0.0 else LOWEST_DB
        wanted = held_back_db(self.settings, level)
        keep = self._attack if wanted > before_db else self._release
        return keep * before_db + (1.0 - keep) * wanted
