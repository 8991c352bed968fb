"""A response measured by a sweep: level over frequency of what lies between an output and an input.

Conventions
- The sweep rises exponentially, a constant time per octave. Harmonics of what distorts land ahead
  of the response in time and are cut off with it (Farina, AES 108th Convention, 2000, from memory);
  behind it stands what the room adds.
- Levels are in dB of what came in re what was sent, at the same full scale.
- The delay may be anything up to the tail: only levels are read.
"""

from __future__ import annotations

import numpy as np

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio
from diaulos.units import db_to_gain, gain_to_db

LEAD_S, SWEEP_S, TAIL_S = 0.2, 8.0, 1.0
LOW_HZ, HIGH_HZ = 15.0, 21_500.0
FADE_S = 0.05
AHEAD_S, BEHIND_S = 0.004, 0.12
"""How much of the impulse response counts, around its peak."""
POINTS = 120
NOISE_PARTS = 5
READ_HZ = (30.0, 15_000.0)
LEAST_SNR_DB = 12.0
HEARD = 0.6
"""Part of the points that must stand clear of the noise."""


@dataclass(frozen=True)
class Sweep:
    """What is sent: samples of shape (frames,), at most at its peak level."""

    samples: Audio
    rate_hz: float
    lead: int
    peak_dbfs: float


@dataclass(frozen=True)
class SweptResponse:
    """`db` at `hz`, shape (n,); `snr_db` how far each stands above the noise; `peak_dbfs` of what
    came in."""

    hz: Audio
    db: Audio
    snr_db: Audio
    peak_dbfs: float
    clipped: bool
    delay_samples: int


def make_sweep(rate_hz: float, peak_dbfs: float, seconds: float = SWEEP_S) -> Sweep:
    """A sweep with silence ahead and behind.

    Parameters
    ----------
    rate_hz
        Sample rate, Hz.
    peak_dbfs
        Its peak, dBFS, at most 0.
    seconds
        How long it rises.

    Returns
    -------
    The sweep.
    """
    count = round(seconds * rate_hz)
    time = np.arange(count) / rate_hz
    high = min(HIGH_HZ, 0.48 * rate_hz)
    rise = seconds / np.log(high / LOW_HZ)
    sine = np.sin(2.0 * np.pi * LOW_HZ * rise * (np.exp(time / rise) - 1.0))
    fade = round(FADE_S * rate_hz)
    window = np.ones(count)
    window[:fade] = 0.5 - 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / fade)
    window[-fade:] = window[:fade][::-1]
    lead, tail = round(LEAD_S * rate_hz), round(TAIL_S * rate_hz)
    sound = db_to_gain(peak_dbfs) * sine * window
    samples = np.concatenate([np.zeros(lead), sound, np.zeros(tail)])
    return Sweep(samples, rate_hz, lead, peak_dbfs)


def read_response(sweep: Sweep, heard: Audio) -> SweptResponse:
    """Level over frequency of what came back.

    Parameters
    ----------
    sweep
        What was sent.
    heard
        What came in, shape (frames,), from the same moment on.

    Returns
    -------
    The response at 120 frequencies in equal ratios, 30 Hz to 15 kHz.

    Raises
    ------
    RefusedError
        Where it is lost in the noise, clips, or nothing came.
    """
    import scipy.fft

    y = np.asarray(heard, dtype=np.float64)[: sweep.samples.size]
    peak = float(np.max(np.abs(y), initial=0.0))
    if peak <= 0.0:
        raise RefusedError(
            "not_heard", "nothing came in.",
            remedy="Check which output and input are chosen, and the cable between.",
        )  # fmt: skip
    size = scipy.fft.next_fast_len(2 * sweep.samples.size, real=True)
    sent = scipy.fft.rfft(sweep.samples, size)
    power = np.abs(sent) ** 2
    weak = 1e-6 * float(np.max(power))
    inverse = np.conj(sent) / (power + weak)
    impulse = scipy.fft.irfft(scipy.fft.rfft(y, size) * inverse, size)
    span = round((TAIL_S - BEHIND_S) * sweep.rate_hz)
    at = int(np.argmax(np.abs(impulse[:span])))
    hz = np.geomspace(READ_HZ[0], min(READ_HZ[1], 0.45 * sweep.rate_hz), POINTS)
    level = _levels(impulse, at, sweep.rate_hz, hz)
    noise = _noise(impulse, at, sweep.rate_hz, hz)
    snr = level - noise
    if np.mean(snr > LEAST_SNR_DB) < HEARD:
        raise RefusedError(
            "not_heard", f"only {100.0 * np.mean(snr > LEAST_SNR_DB):.0f} % of the response stands "
            "clear of the noise.",
            remedy="Raise the output or the input's gain, bring the coil nearer, and keep away "
            "from transformers.",
        )  # fmt: skip
    clipped = bool(np.count_nonzero(np.abs(y) >= 0.9999) > 2)
    if clipped:
        raise RefusedError(
            "clipped", "what came in clips.", remedy="Lower the input's gain or the output."
        )
    return SweptResponse(hz, level, snr, gain_to_db(peak), clipped, at)


def _levels(impulse: Audio, at: int, rate_hz: float, hz: Audio) -> Audio:
    """Of the impulse response around a place, dB."""
    import scipy.fft

    ahead, behind = round(AHEAD_S * rate_hz), round(BEHIND_S * rate_hz)
    part = np.roll(impulse, ahead - at)[: ahead + behind].copy()
    rise, fall = ahead // 2, behind // 2
    part[:rise] *= 0.5 - 0.5 * np.cos(np.pi * (np.arange(rise) + 0.5) / rise)
    part[-fall:] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(fall) + 0.5) / fall)
    size = 1 << 17
    found = np.abs(scipy.fft.rfft(part, size)) ** 2
    grid = np.arange(found.size) * rate_hz / size
    return np.asarray(10.0 * np.log10(np.interp(hz, grid, found) + 1e-30))


def _noise(impulse: Audio, at: int, rate_hz: float, hz: Audio) -> Audio:
    """What stands in parts of the same length behind the response, where nothing rings any more:
    noise and hum, as they stand in the response, too. dB."""
    step = AHEAD_S + BEHIND_S
    places = [at + round(step * (at_ + 1.5) * rate_hz) for at_ in range(NOISE_PARTS)]
    levels = [_levels(impulse, place, rate_hz, hz) for place in places]
    return np.asarray(10.0 * np.log10(np.mean(10.0 ** (np.array(levels) / 10.0), axis=0)))
