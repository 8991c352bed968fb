"""The slate: a short quiet sweep through a loop, and what it tells of the loop itself.

Conventions
- The sweep is exponential (Farina, Simultaneous measurement of impulse response and distortion
  with a swept-sine technique, 2000, from memory): of the recovered response the harmonic orders
  arrive ahead of the linear one, and are parted from it.
- The delay is the loop's latency: what is left of the phase when the phase that the magnitude
  itself asks for (minimum phase) has been taken out. An amplifier's and a cabinet's filters lag
  by themselves; that lag is no latency.
- Levels are peaks in dBFS, RMS after AES17.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import InputError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_finite, require_mono, require_rate
from diaulos.signal.fir import log_spectrum
from diaulos.units import gain_to_db

Real = NDArray[np.float64]
Complex = NDArray[np.complex128]

LOW_HZ, HIGH_HZ = 30.0, 18_000.0
HIGH_SHARE = 0.42
"""The sweep ends below half the rate in any case."""
SWEEP_S, LEAD_S, TAIL_S = 1.2, 0.3, 1.3
"""Sweep, the silence ahead of it (the loop's own noise), and that behind it: a loop of up to a
second comes back whole."""
FADE_S = 0.01
BEFORE_S, BEHIND_S = 0.004, 0.05
"""What is kept around the main peak: the second order arrives 0.13 s ahead."""
DELAY_HZ = (200.0, 8_000.0)
"""Where the latency is read: well inside what amplifiers and cabinets pass."""
HEARD_DB = 20.0
"""A response whose peak stands out by less has not come back: noise alone reaches 14 dB."""
CLIPPED = 0.999
SMOOTH_OCTAVES = 1.0 / 12.0
MOST_POLES = 1.0
"""Of a fall above half the rate: an analog one has some, a stand-in's filters need not."""
NO_ORDER_S = (0.50, 0.53, 0.56, 0.59)
"""So far ahead of the linear one orders that matter have passed: as many places as there are
orders."""
ORDERS_FACTOR = 2.0
HUM_S, HUM_LINES = 0.8, 6
NOISE_FACTOR = 2.5
"""A magnitude that stands out of the noise by so much is a response."""


@dataclass(frozen=True)
class Slate:
    """The sweep that is sent: samples at full scale 1, with silence around it."""

    samples: Real
    rate_hz: float
    peak_dbfs: float

    @property
    def frames(self) -> int:
        """Samples in all."""
        return int(self.samples.size)


@dataclass(frozen=True)
class SlateReading:
    """What came back of a slate.

    `delay_samples` and `polarity` are None where nothing did. `response_db` is the gain over
    `response_hz`; `harmonics_db` the higher orders re the linear one; `noise_dbfs` the RMS of
    what the loop gives by itself, `hum_dbfs` that of the mains' lines in it.
    """

    heard: bool
    delay_samples: float | None
    polarity: int | None
    peak_dbfs: float
    clipped: bool
    noise_dbfs: float
    hum_dbfs: float
    harmonics_db: float
    response_hz: tuple[float, ...]
    response_db: tuple[float, ...]


RESPONSE_HZ = tuple(float(f) for f in np.geomspace(50.0, 12_000.0, 25))


def make_slate(rate_hz: float, peak_dbfs: float) -> Slate:
    """The sweep of a slate.

    Parameters
    ----------
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    peak_dbfs
        Its peak in dBFS, -120 to 0.

    Returns
    -------
    Silence, an exponential sweep from 30 Hz up, silence.

    Raises
    ------
    InputError
        For an impossible rate or a level above full scale.
    """
    require_rate(rate_hz)
    if not -120.0 <= peak_dbfs <= 0.0:
        raise InputError(f"{peak_dbfs:g} dBFS is no level for a slate.", remedy="Give -120 to 0.")
    body = _sweep(rate_hz) * 10.0 ** (peak_dbfs / 20.0)
    lead, tail = round(LEAD_S * rate_hz), round(TAIL_S * rate_hz)
    return Slate(np.concatenate([np.zeros(lead), body, np.zeros(tail)]), rate_hz, peak_dbfs)


def _sweep(rate_hz: float) -> Real:
    high = min(HIGH_HZ, HIGH_SHARE * rate_hz)
    count = round(SWEEP_S * rate_hz)
    t = np.arange(count) / rate_hz
    pace = SWEEP_S / math.log(high / LOW_HZ)
    body = np.sin(2.0 * math.pi * LOW_HZ * pace * (np.exp(t / pace) - 1.0))
    fade = round(FADE_S * rate_hz)
    slope = 0.5 - 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / fade)
    body[:fade] *= slope
    body[-fade:] *= slope[::-1]
    return np.asarray(body)


def read_slate(slate: Slate, returned: Audio) -> SlateReading:
    """What a loop made of a slate.

    Parameters
    ----------
    slate
        What was sent, from its first sample on.
    returned
        What came back, shape (frames,), mono, from the moment that the first sample was sent.

    Returns
    -------
    Latency, polarity, response, harmonics, noise; whether anything came back at all.

    Raises
    ------
    InputError
        For NaN or several channels.
    """
    require_mono(returned, "the return")
    require_finite(returned, "the return")
    y = np.asarray(returned, np.float64)
    lead = round(LEAD_S * slate.rate_hz)
    peak = float(np.max(np.abs(y), initial=0.0))
    noise = math.sqrt(2.0 * float(np.mean(np.square(y[:lead])))) if lead and y.size else 0.0
    impulse = _impulse(slate, y)
    at = int(np.argmax(np.abs(impulse[: impulse.size // 2])))
    kept, spread = _kept(impulse, at, slate.rate_hz)
    top = float(np.abs(impulse[at]))
    heard = top > 0.0 and 20.0 * math.log10(top / max(spread, 1e-30)) > HEARD_DB
    reading = SlateReading(
        heard,
        None,
        None,
        gain_to_db(peak),
        peak >= CLIPPED,
        gain_to_db(noise),
        _hum_dbfs(y, slate.rate_hz),
        -200.0,
        (),
        (),
    )
    if not heard or reading.clipped:
        return reading
    freqs, response = kept
    whole = round((BEFORE_S + BEHIND_S) * slate.rate_hz)
    floor = NOISE_FACTOR * max(spread * math.sqrt(whole), 1e-5 * float(np.abs(response).max()))
    delay, polarity = _latency(freqs, response, slate.rate_hz, floor)
    magnitude = np.abs(response)
    shown = np.interp(RESPONSE_HZ, freqs, magnitude)
    return replace(
        reading,
        delay_samples=delay + at - round(BEFORE_S * slate.rate_hz),
        polarity=polarity,
        harmonics_db=_harmonics_db(impulse, at, slate.rate_hz),
        response_hz=RESPONSE_HZ,
        response_db=tuple(gain_to_db(float(value)) for value in shown),
    )


def _hum_dbfs(y: Real, rate_hz: float) -> float:
    """RMS of the mains' lines at the end of a return, when the sweep has died away: of 50 or 60 Hz,
    whichever has more."""
    quiet = y[-round(HUM_S * rate_hz) :]
    if quiet.size < round(HUM_S * rate_hz):
        return -200.0
    t = np.arange(quiet.size) / rate_hz
    best = 0.0
    for mains in (50.0, 60.0):
        turns = 2.0 * np.pi * mains * np.outer(t, np.arange(1, HUM_LINES + 1))
        lines = np.concatenate([np.cos(turns), np.sin(turns)], axis=1)
        fitted = lines @ np.linalg.lstsq(lines, quiet, rcond=None)[0]
        best = max(best, math.sqrt(2.0 * float(np.mean(np.square(fitted)))))
    return max(-200.0, gain_to_db(best))


def _impulse(slate: Slate, y: Real) -> Real:
    """The loop's response to a pulse, cyclic: time 0 first, higher orders at the end."""
    import scipy.fft

    size = scipy.fft.next_fast_len(slate.frames + y.size, real=True)
    sent = scipy.fft.rfft(slate.samples, size)
    power = np.square(np.abs(sent))
    hz = np.arange(power.size) * slate.rate_hz / size
    # Outside its band the sweep says nothing: there the inverse is held back.
    inside = (hz > LOW_HZ) & (hz < min(HIGH_HZ, HIGH_SHARE * slate.rate_hz))
    hold = np.where(inside, 1e-4, 1.0) * float(np.median(power[inside]))
    found = scipy.fft.rfft(y, size) * np.conj(sent) / (power + hold)
    return np.asarray(scipy.fft.irfft(found, size))


def _kept(impulse: Real, at: int, rate_hz: float) -> tuple[tuple[Real, Complex], float]:
    """The spectrum of what lies around the main peak, and the RMS of what lies elsewhere."""
    import scipy.fft

    before, behind = round(BEFORE_S * rate_hz), round(BEHIND_S * rate_hz)
    part = np.take(impulse, np.arange(at - before, at + behind), mode="wrap")
    window = np.ones(part.size)
    rise, fall = before // 2, behind // 2
    window[:rise] = 0.5 - 0.5 * np.cos(np.pi * (np.arange(rise) + 0.5) / rise)
    window[-fall:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(fall) + 0.5) / fall)
    size = scipy.fft.next_fast_len(4 * part.size, real=True)
    spectrum = scipy.fft.rfft(part * window, size)
    rest = np.delete(impulse[: impulse.size // 2], slice(max(0, at - before), at + behind))
    spread = float(np.sqrt(np.mean(np.square(rest)))) if rest.size else 0.0
    return (np.arange(spectrum.size) * rate_hz / size, spectrum), spread


def _latency(freqs: Real, response: Complex, rate_hz: float, floor: float) -> tuple[float, int]:
    """The slope of the phase that the magnitude does not ask for, in samples, and its sign."""
    low, high = DELAY_HZ[0], min(DELAY_HZ[1], 0.35 * rate_hz)
    phase_asked, fall = _minimum_phase(freqs, np.abs(response), rate_hz, floor)
    excess = response * np.exp(-1j * phase_asked)
    band = (freqs >= low) & (freqs <= high)
    omega = 2.0 * np.pi * freqs[band] / rate_hz
    weight = np.square(np.abs(excess[band]))
    # Levelled: the loudest partials of the response must not decide alone.
    weight = weight / (weight + 0.05 * float(weight.max()))
    unit = excess[band] / np.maximum(np.abs(excess[band]), 1e-30) * weight
    delay = _coarse(unit, omega)
    for _ in range(20):
        turned = unit * np.exp(1j * omega * delay)
        mean = complex(turned.sum())
        phase = np.angle(turned * np.conj(mean))
        centred = omega - float(np.average(omega, weights=weight))
        # Phase runs through 0 at 0 Hz but for a turn of half a circle: polarity.
        slope = float(np.sum(weight * centred * phase) / np.sum(weight * centred**2))
        delay -= slope
        if abs(slope) < 1e-6:
            break
    level = complex((unit * np.exp(1j * omega * delay)).sum())
    # (2 / pi) n / omega of n poles' fall from half the rate (pi per sample) on, which no
    # recording shows and which lags all the same.
    delay -= 2.0 / math.pi**2 * min(MOST_POLES, fall)
    return delay, 1 if level.real >= 0.0 else -1


def _coarse(unit: Complex, omega: Real) -> float:
    """The delay by which the phases agree best, to a quarter of a sample."""
    step = omega[1] - omega[0]
    size = 1 << math.ceil(math.log2(2.0 * np.pi / step * 4.0))
    full = np.zeros(size, complex)
    first = round(omega[0] / step)
    full[first : first + omega.size] = unit
    lag = np.abs(np.fft.fft(np.conj(full)))
    at = int(np.argmax(lag))
    at = at - size if at > size // 2 else at
    return float(at * (2.0 * np.pi / step) / size)


def _minimum_phase(
    freqs: Real, magnitude: Real, rate_hz: float, floor: float
) -> tuple[Real, float]:
    """The phase that goes with a magnitude (Hilbert transform of its logarithm), and by how many
    poles it falls at its upper end. Outside what the sweep and the noise (`floor`) let one see,
    the logarithm goes on falling as it does there."""
    smooth = np.maximum(_smooth(freqs, magnitude), 1e-30)
    log = np.log(smooth)
    inside = (freqs >= 1.3 * LOW_HZ) & (freqs <= 0.95 * min(HIGH_HZ, HIGH_SHARE * rate_hz))
    middle = int(np.argmax(np.where(inside, smooth, 0.0)))
    clear = inside & (smooth > floor)
    # From the loudest place outwards to where the noise begins.
    first = middle - int(np.argmin(clear[middle::-1])) + 1
    last = middle + int(np.argmin(clear[middle:])) - 1
    _carry_on(log, freqs, first, round(first * 2.0), slice(0, first))
    fall = _carry_on(log, freqs, last, round(last / 2.0**0.5), slice(last + 1, None))
    return log_spectrum(log).imag, fall


def _carry_on(log: Real, freqs: Real, edge: int, inner: int, where: slice) -> float:
    """Go on from an edge as it goes there from `inner` on, per octave; never upwards. By how many
    poles that is."""
    inner = int(np.clip(inner, 1, freqs.size - 1))
    if edge in (0, inner):
        return 0.0
    away = math.log(freqs[edge] / freqs[inner])
    slope = float(log[edge] - log[inner]) / away
    # Towards lower frequencies a fall is a positive slope, towards higher ones a negative one.
    slope = max(0.0, slope) if away < 0.0 else min(0.0, slope)
    log[where] = log[edge] + slope * np.log(np.maximum(freqs[where], freqs[1]) / freqs[edge])
    return abs(slope)


def _smooth(freqs: Real, magnitude: Real) -> Real:
    """Mean power over a twelfth of an octave around each frequency."""
    total = np.concatenate([[0.0], np.cumsum(np.square(magnitude))])
    half = 2.0 ** (SMOOTH_OCTAVES / 2.0)
    step = freqs[1] - freqs[0]
    low = np.clip(np.floor(freqs / half / step), 0, freqs.size - 1).astype(np.int64)
    high = np.clip(np.ceil(freqs * half / step) + 1, 1, freqs.size).astype(np.int64)
    return np.asarray(np.sqrt((total[high] - total[low]) / (high - low)))


def _harmonics_db(impulse: Real, at: int, rate_hz: float) -> float:
    """The orders two to five re the linear one, the noise there taken out; -200 where they do not
    stand out of it."""
    high = min(HIGH_HZ, HIGH_SHARE * rate_hz)
    pace = SWEEP_S / math.log(high / LOW_HZ)
    width = round(0.01 * rate_hz)

    def energy(centre: int) -> float:
        part = np.take(impulse, np.arange(centre - width, centre + width), mode="wrap")
        return float(np.sum(np.square(part)))

    orders = sum(energy(at - round(pace * math.log(n) * rate_hz)) for n in (2, 3, 4, 5))
    noise = sum(energy(at - round(ahead * rate_hz)) for ahead in NO_ORDER_S)
    if orders < ORDERS_FACTOR * noise or orders <= 0.0:
        return -200.0
    return max(-200.0, 10.0 * math.log10((orders - noise) / max(energy(at), 1e-30)))
