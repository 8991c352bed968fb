"""Filters made from a wanted response: minimum phase, and delay by part of a sample."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.signal.checks import Audio

Real = NDArray[np.float64]

FRACTION_TAPS = 64
"""Length of the windowed sinc that delays by part of a sample."""


def log_spectrum(log_magnitude: Real) -> NDArray[np.complex128]:
    """The complex logarithm of the minimum-phase response with a magnitude: its imaginary part is
    the phase. By folding the real cepstrum (Oppenheim and Schafer, Discrete-Time Signal
    Processing, from memory).

    Parameters
    ----------
    log_magnitude
        Natural logarithm of the gain from 0 Hz to half the rate, shape (n / 2 + 1,).

    Returns
    -------
    The same shape, in nepers and radians.
    """
    import scipy.fft

    size = 2 * (log_magnitude.size - 1)
    fold = np.zeros(size)
    fold[0] = 1.0
    fold[1 : size // 2] = 2.0
    fold[size // 2] = 1.0
    folded = scipy.fft.irfft(log_magnitude, size) * fold
    return np.asarray(scipy.fft.rfft(folded), np.complex128)


def minimum_phase(
    magnitude: Callable[[Real], Real],
    rate_hz: float,
    *,
    max_taps: int = 8192,
    floor_db: float = -110.0,
) -> Real:
    """The minimum-phase FIR with this magnitude response.

    `magnitude` gives linear gain over frequencies in Hz. The response is cut where what is
    left is below `floor_db` of the whole, at `max_taps` at most.

    Parameters
    ----------
    magnitude
        Linear gain over frequencies in Hz.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    max_taps
        The most taps.
    floor_db
        Where the response may be cut, in dB re the whole.

    Returns
    -------
    FIR, shape (taps,).
    """
    import scipy.fft

    size = 4 * max_taps
    freqs = np.asarray(np.fft.rfftfreq(size, 1.0 / rate_hz), dtype=np.float64)
    gain = np.maximum(magnitude(freqs), 1e-9)
    impulse = scipy.fft.irfft(np.exp(log_spectrum(np.log(gain))), size)
    energy = np.cumsum(impulse[::-1] ** 2)[::-1]
    keep = int(np.searchsorted(-energy, -energy[0] * 10.0 ** (floor_db / 10.0)))
    taps = impulse[: max(1, min(keep, max_taps))].copy()
    fade = min(64, taps.size // 8)
    if fade > 1 and keep > max_taps:
        taps[-fade:] *= 0.5 * (1.0 + np.cos(np.linspace(0.0, np.pi, fade)))
    return np.asarray(taps, dtype=np.float64)


def fractional_delay(fraction: float) -> Real:
    """FIR that delays by FRACTION_TAPS / 2 - 1 + `fraction` samples, 0 <= fraction < 1.

    A Kaiser-windowed sinc; flat within 0.01 dB to 0.42 of the rate.

    Parameters
    ----------
    fraction
        Part of a sample, 0 to under 1.

    Returns
    -------
    FIR, shape (FRACTION_TAPS,).
    """
    centre = FRACTION_TAPS // 2 - 1 + fraction
    at = np.arange(FRACTION_TAPS) - centre
    half = FRACTION_TAPS / 2
    window = np.i0(9.0 * np.sqrt(np.maximum(0.0, 1.0 - (at / half) ** 2))) / np.i0(9.0)
    taps = np.sinc(at) * window
    return np.asarray(taps / taps.sum())


def shift(samples: Audio, delay_samples: float, length: int | None = None) -> Audio:
    """A mono signal moved later by `delay_samples` (earlier when negative), band-limited.

    Returns `length` samples (the input's own length by default); what moves past either
    end is lost, what comes in is silence. Precision follows the input.

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    delay_samples
        Later by so many samples; earlier when negative.
    length
        Samples wanted; None for the input's own number.

    Returns
    -------
    Samples, shape (length,).
    """
    from diaulos.signal.convolve import convolve_long

    total = samples.size if length is None else length
    whole = int(np.floor(delay_samples))
    fraction = float(delay_samples - whole)
    if fraction < 1e-9:
        moved: Audio = samples
        lead = whole
    else:
        moved = convolve_long(samples, fractional_delay(fraction).astype(samples.dtype))
        lead = whole - (FRACTION_TAPS // 2 - 1)
    out = np.zeros(total, dtype=samples.dtype)
    start = max(0, lead)
    stop = min(total, lead + moved.size)
    if stop > start:
        out[start:stop] = moved[start - lead : stop - lead]
    return out
