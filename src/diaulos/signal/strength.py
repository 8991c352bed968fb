"""How hard an instrument plays, from some seconds of the hardest strumming.

Quantities
- Peak and true peak in dBFS and dBTP.
- Loudest 400 ms: RMS in dBFS after AES17 (a full-scale sine reads 0).
- Decay: from the end of the last strum's attack until the level has come within 3 dB of
  the noise floor; None when it does not get there.
- Strums: peaks of the level at least 0.25 s apart that come within 12 dB of the strongest;
  their spread is the difference of the strongest and the weakest in dB.
- Clipped samples: at full scale of the word length; flat tops: see `clipping`.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.checks import Audio, require_finite, require_mono, require_rate
from diaulos.signal.clipping import FlatTops, full_scale
from diaulos.signal.peaks import TruePeakMeter
from diaulos.units import gain_to_db

Real = NDArray[np.float64]

FRAME_S = 0.01
LOUD_S = 0.4
APART_S = 0.25
HARD_DB = 12.0
ABOVE_FLOOR_DB = 3.0
SILENT_DBFS = -70.0
LARGE_SPREAD_DB = 3.0


@dataclass(frozen=True)
class Strength:
    """What hard playing measures. Levels in dBFS."""

    peak_dbfs: float
    true_peak_dbtp: float
    loudest_400ms_dbfs: float
    decay_s: float | None
    clipped_samples: int
    strums: int
    spread_db: float | None
    flat_tops: int = 0

    @property
    def uneven(self) -> bool:
        """True where the strums differ by more than 3 dB."""
        return self.spread_db is not None and self.spread_db > LARGE_SPREAD_DB


def measure_strength(samples: Audio, rate_hz: float, bits: int | None = None) -> Strength:
    """Strength of a mono recording of so many bits (None for floats); RefusedError ("silent",
    "too_short").

    Parameters
    ----------
    samples
        Audio with full scale at 1, shape (frames,), mono.
    rate_hz
        Sample rate in Hz, 8 000 to 768 000.
    bits
        Bits of the file's samples, 8 to 32; None for floats.

    Returns
    -------
    Peak, true peak, loudest 400 ms, decay, clipping, strums.

    Raises
    ------
    InputError
        For NaN and several channels.
    RefusedError
        ("silent", "too_short").
    """
    require_rate(rate_hz)
    samples = require_mono(samples, "the strumming")
    require_finite(samples, "the strumming")
    if samples.size < LOUD_S * rate_hz:
        raise RefusedError(
            "too_short",
            f"it lasts {samples.size / rate_hz:.2f} s; some seconds of strumming are needed.",
        )
    meter = TruePeakMeter()
    meter.add(samples)
    meter.finish()
    peak = gain_to_db(meter.sample_peak)
    if peak < SILENT_DBFS:
        raise RefusedError(
            "silent",
            "it is silent.",
            remedy="Check the cable and the input, then strum as hard as in the take.",
        )
    frame = max(1, round(FRAME_S * rate_hz))
    whole = samples.size // frame
    squares = np.square(samples[: whole * frame], dtype=np.float64).reshape(whole, frame)
    power = squares.mean(axis=1)
    peaks = np.sqrt(squares.max(axis=1))
    strums = _strums(power)
    # The peak of a strum lies within some hundredths of a second of its loudest moment.
    tops = [float(peaks[max(0, at - 5) : at + 6].max()) for at in strums]
    levels = [20.0 * math.log10(top) for top in tops]
    return Strength(
        peak_dbfs=peak,
        true_peak_dbtp=gain_to_db(meter.true_peak),
        loudest_400ms_dbfs=_loudest(power),
        decay_s=_decay(power, strums[-1]) if strums else None,
        clipped_samples=int(np.count_nonzero(np.abs(samples) >= full_scale(bits))),
        strums=len(strums),
        spread_db=max(levels) - min(levels) if len(levels) > 1 else None,
        flat_tops=_flat_tops(samples, bits),
    )


def _loudest(power: Real) -> float:
    count = min(power.size, round(LOUD_S / FRAME_S))
    total = np.concatenate([[0.0], np.cumsum(power)])
    best = float(np.max(total[count:] - total[:-count])) / count
    return 10.0 * math.log10(2.0 * best) if best > 0.0 else -math.inf


def _strums(power: Real) -> list[int]:
    """Frames of the hard strums, in time: highest within APART_S on both sides, come within
    HARD_DB of the strongest, and risen by 3 dB out of what still rang before."""
    smooth = np.convolve(power, np.full(3, 1.0 / 3.0), mode="same")
    least = float(smooth.max()) * 10.0 ** (-HARD_DB / 10.0)
    apart = round(APART_S / FRAME_S)
    found: list[int] = []
    for at in np.flatnonzero(smooth >= least):
        around = smooth[max(0, at - apart) : at + apart + 1]
        before = smooth[max(0, at - 15) : at]
        risen = before.size == 0 or float(before.min()) < 0.5 * smooth[at]
        if smooth[at] >= around.max() and risen and (not found or at - found[-1] >= apart):
            found.append(int(at))
    return found


def _decay(power: Real, start: int) -> float | None:
    """Seconds from a frame until the level has fallen to the floor."""
    floor = float(np.percentile(power, 5.0))
    limit = max(floor, 1e-20) * 10.0 ** (ABOVE_FLOOR_DB / 10.0)
    tail = power[start:]
    smooth = np.convolve(tail, np.full(5, 0.2), mode="valid") if tail.size >= 5 else tail
    under = np.nonzero(smooth <= limit)[0]
    if under.size == 0 or smooth[0] <= limit:
        return None
    return float(under[0] + 2) * FRAME_S


def _flat_tops(samples: Audio, bits: int | None) -> int:
    flat = FlatTops(bits)
    flat.add(samples)
    return flat.runs
