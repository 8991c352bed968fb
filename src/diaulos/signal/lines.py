"""Steady sines in blocks: what mains leave behind, line by line.

A sine at a later time is the same sine turned: sin(a + b) = sin a cos b + cos a sin b. So the
sines of one piece are worked out once, and every further piece is a small matrix product.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError

Real = NDArray[np.float64]
PIECE = 4096


class SteadyLines:
    """Sines of fixed frequency, height and phase, summed; any sample can be asked for.

    Parameters
    ----------
    lines
        (frequency in Hz, amplitude, phase in radians at sample 0), frequencies from 0 to half the
        rate; InputError above it.
    rate_hz
        Sample rate in Hz, above 0.
    """

    def __init__(self, lines: Sequence[tuple[float, float, float]], rate_hz: float) -> None:
        hz, parts, self._phases = np.array(list(lines), dtype=np.float64).reshape(-1, 3).T
        if np.any(hz > rate_hz / 2.0) or np.any(hz < 0.0):
            raise InputError(
                f"a line at {hz.max():g} Hz cannot be played at {rate_hz:g} samples a second.",
                remedy="Leave out what lies above half the rate.",
            )
        self._cycles = hz / rate_hz
        turned = 2.0 * np.pi * np.outer(self._cycles, np.arange(PIECE))
        self._table = np.vstack([np.cos(turned), np.sin(turned)]) * np.tile(parts, 2)[:, None]

    def block(self, first: int, count: int) -> Real:
        """Samples `first` to `first + count - 1`.

        Parameters
        ----------
        first
            Number of the first sample, 0 and above.
        count
            How many, 0 and above.

        Returns
        -------
        The sum of the lines, shape (count,), in the unit of their amplitudes.
        """
        out = np.empty(count)
        for at in range(0, count, PIECE):
            size = min(PIECE, count - at)
            # Whole turns are left out before they cost digits.
            turns = np.modf(self._cycles * (first + at))[0]
            angles = 2.0 * np.pi * turns + self._phases
            turned = np.concatenate([np.sin(angles), np.cos(angles)])
            out[at : at + size] = turned @ self._table[:, :size]
        return out
