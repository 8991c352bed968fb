"""What every measurement asks of its input, and the array types used throughout."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError

Audio = NDArray[np.floating[Any]]
"""Samples with full scale at 1.0: (frames,) for mono, (frames, channels) otherwise."""


def require_finite(samples: Audio, what: str) -> None:
    """Refuse NaN and infinity, naming the first bad frame.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    what
        Words for the error.

    Raises
    ------
    InputError
        Naming the first frame that is NaN or infinite.
    """
    # A sum is finite only if every sample is: one pass without a temporary.
    with np.errstate(invalid="ignore", over="ignore"):
        total = np.sum(samples, dtype=np.float64)
    if np.isfinite(total):
        return
    bad = ~np.isfinite(samples)
    if not bad.any():  # finite samples whose sum overflows
        return
    frame = int(np.argwhere(bad)[0][0])
    raise InputError(
        f"sample {frame} is not a number or is infinite.",
        where=what,
        remedy="The file is damaged or came from a faulty export: export it again.",
    )


def require_mono(samples: Audio, what: str) -> Audio:
    """A one-dimensional view of mono audio; refuses several channels.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    what
        Words for the error.

    Returns
    -------
    Samples, shape (frames,).

    Raises
    ------
    InputError
        For several channels.
    """
    if samples.ndim == 1:
        return samples
    if samples.ndim == 2 and samples.shape[1] == 1:
        return samples[:, 0]
    raise InputError(
        f"one channel is needed here, found {samples.shape[-1]}.",
        where=what,
        remedy="Choose one channel of it.",
    )


def require_rate(rate_hz: float) -> None:
    """Refuse a sample rate that cannot be one.

    Parameters
    ----------
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.

    Raises
    ------
    InputError
        For a rate that cannot be one.
    """
    if not np.isfinite(rate_hz) or rate_hz < 8000.0 or rate_hz > 768_000.0:
        raise InputError(
            f"{rate_hz:g} Hz is not a usable sample rate.",
            remedy="Rates from 8000 to 768000 Hz can be measured (kHz instead of Hz?).",
        )
