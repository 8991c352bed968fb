"""A click: short tones on the beats, the first of a bar higher."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Real = NDArray[np.float64]

CLICK_S = 0.03
FIRST_HZ, OTHER_HZ = 1_568.0, 1_046.5
"""A fifth apart, above what a guitar's fundamentals mask."""
PEAK = 0.25


def click_block(
    first: int, count: int, rate_hz: float, beat_frames: float, beats_per_bar: int
) -> Real:
    """Samples `first` to `first + count` of a click that starts with a bar at frame 0; silence
    before it. The same at any block size.

    Parameters
    ----------
    first
        First frame, from 0 on.
    count
        Frames wanted.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    beat_frames
        Frames of a beat, not rounded.
    beats_per_bar
        Beats of a bar, 1 and above.

    Returns
    -------
    Samples, shape (count,), peak 0.25.
    """
    out = np.zeros(count)
    length = int(CLICK_S * rate_hz)
    beat = max(0, int(np.floor((first - length) / beat_frames)))
    while (at := round(beat * beat_frames)) < first + count:
        here = np.arange(max(first, at), min(first + count, at + length))
        if here.size:
            hz = FIRST_HZ if beat % beats_per_bar == 0 else OTHER_HZ
            time = (here - at) / rate_hz
            fade = np.cos(0.5 * np.pi * (here - at) / length) ** 2
            out[here - first] += PEAK * fade * np.sin(2.0 * np.pi * hz * time)
        beat += 1
    return out
