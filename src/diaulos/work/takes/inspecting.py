"""What a file is like: levels, faults, how its two channels go together; its pitch; its noise."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.signal.crosstalk import NoiseLeak, noise_leaks
from diaulos.signal.delay import find_alignment
from diaulos.signal.faults import ChannelFaults, FaultFinder
from diaulos.signal.hum import Noise, NoiseChange
from diaulos.signal.loudness import LoudnessMeter
from diaulos.signal.peaks import TruePeakMeter
from diaulos.units import gain_to_db
from diaulos.work.measuring import finite_or_none
from diaulos.work.ports import AudioSource

TAKE_REACH_S = 0.05
"""Tracks of one take lie no farther apart: a microphone 15 m away would."""


@dataclass(frozen=True)
class ChannelMeasure:
    """One channel of a file. Levels are minus infinity for silence; RMS after AES17."""

    peak_dbfs: float
    true_peak_dbtp: float
    rms_dbfs: float
    lufs: float
    faults: ChannelFaults


@dataclass(frozen=True)
class FileMeasure:
    """A whole file. `pair` says how two channels go together: same, inverted, late (with
    `pair_delay_samples`, positive when the second is late), or different."""

    frames: int
    channels: tuple[ChannelMeasure, ...]
    pair: str | None = None
    pair_delay_samples: float | None = None
    leaks: tuple[NoiseLeak | None, ...] = ()
    """Of two channels, by their noise: of the first in the second, of the second in the first;
    None where too little noise tells it."""


SAME_SAMPLES = 0.05


PAIR_S = 60.0
ONE_SOUND = "both channels are the same"
NO_NOISE = "too little noise while nobody plays, or what both share is no leak"


def measure_file(source: AudioSource) -> FileMeasure:
    """Measure every channel in one pass, and a pair against each other."""
    count = source.channels
    loudness = [LoudnessMeter(float(source.rate_hz), 1) for _ in range(count)]
    peaks = [TruePeakMeter() for _ in range(count)]
    faults = [FaultFinder(source.bits) for _ in range(count)]
    square = np.zeros(count)
    frames = 0
    for block in source.blocks():
        for channel in range(count):
            column = np.ascontiguousarray(block[:, channel])
            loudness[channel].add(column[:, None])
            peaks[channel].add(column)
            faults[channel].add(column)
            square[channel] += float(np.dot(column.astype(np.float64), column))
        frames += block.shape[0]
    measures = []
    for channel in range(count):
        peaks[channel].finish()
        measures.append(
            ChannelMeasure(
                gain_to_db(peaks[channel].sample_peak),
                gain_to_db(peaks[channel].true_peak),
                gain_to_db(float(np.sqrt(2.0 * square[channel] / max(1, frames)))),
                loudness[channel].reading().lufs,
                faults[channel].finish(),
            )
        )
    if count != 2:
        return FileMeasure(frames, tuple(measures))
    blocks = list(source.blocks(count=min(source.frames, int(PAIR_S * source.rate_hz))))
    both = np.concatenate(blocks)
    pair, delay = _pair(source, both)
    rate_hz = float(source.rate_hz)
    # Of what is the same on both sides nobody can tell what leaks.
    same = pair in ("same", "inverted")
    leaks = (None, None) if same else noise_leaks(both[:, 0], both[:, 1], rate_hz)
    return FileMeasure(frames, tuple(measures), pair, delay, leaks)


def _pair(source: AudioSource, both: NDArray[np.float32]) -> tuple[str, float | None]:
    a, b = np.ascontiguousarray(both[:, 0]), np.ascontiguousarray(both[:, 1])
    if np.array_equal(a, b):
        return "same", 0.0
    if np.array_equal(a, -b):
        return "inverted", 0.0
    try:
        reach = TAKE_REACH_S * source.rate_hz
        found = find_alignment(a, b, float(source.rate_hz), within=(-reach, reach))
    except RefusedError:
        return "different", None
    if abs(found.delay_samples) > SAME_SAMPLES:
        return "late", found.delay_samples
    return ("inverted" if found.polarity < 0 else "same"), found.delay_samples


def measure_data(found: FileMeasure, rate_hz: int) -> dict[str, Any]:
    """For JSON."""
    why = ONE_SOUND if found.pair in ("same", "inverted") else NO_NOISE
    return {
        "frames": found.frames,
        "rate_hz": rate_hz,
        "channels": [
            {
                "peak_dbfs": finite_or_none(one.peak_dbfs),
                "true_peak_dbtp": finite_or_none(one.true_peak_dbtp),
                "rms_dbfs": finite_or_none(one.rms_dbfs),
                "lufs": finite_or_none(one.lufs),
                "dc_offset": one.faults.dc,
                "full_scale_samples": one.faults.full_scale_samples,
                "full_scale_runs": one.faults.run_count,
                "flat_tops": one.faults.flat_tops,
                "dropouts": one.faults.dropout_count,
                "runs": [{"frame": s.frame, "frames": s.frames} for s in one.faults.runs[:100]],
                "dropout_places": [
                    {"frame": s.frame, "frames": s.frames} for s in one.faults.dropouts[:100]
                ],
            }
            for one in found.channels
        ],
        "pair": found.pair,
        "pair_delay_samples": found.pair_delay_samples,
        "leaks": [
            {
                "of": of,
                "into": into,
                "leak_db": round(leak.db, 2) if leak is not None and leak.sure else None,
                "at_most_db": round(gain_to_db(abs(leak.gain) + leak.error), 2)
                if leak is not None
                else None,
                "polarity": (-1 if leak.gain < 0.0 else 1)
                if leak is not None and leak.sure
                else None,
                "reason": None if leak is not None else why,
            }
            for (of, into), leak in zip(((1, 2), (2, 1)), found.leaks, strict=False)
        ],
    }


# --- noise ---


def noise_data(found: Noise) -> dict[str, Any]:
    """For JSON."""
    return {
        "mains_hz": None if found.mains_hz is None else round(found.mains_hz, 4),
        "reason": found.reason or None,
        "hum": [{"hz": round(t.hz, 3), "dbfs": round(t.dbfs, 2)} for t in found.hum],
        "processor": found.processor or None,
        "bus_tones": [{"hz": round(t.hz, 3), "dbfs": round(t.dbfs, 2)} for t in found.bus_tones],
        "floor_dbfs": round(found.floor_dbfs, 2),
        "floor_a_dbfs": round(found.floor_a_dbfs, 2),
        "hiss_dbfs": round(found.hiss_dbfs, 2),
        "quiet_s": round(found.quiet_s, 2),
    }


def change_data(change: NoiseChange) -> dict[str, Any]:
    """For JSON: dB, negative is quieter."""

    def figure(value: float | None) -> float | None:
        return None if value is None else round(value, 2)

    return {
        "hum_db": figure(change.hum_db),
        "bus_db": figure(change.bus_db),
        "hiss_db": figure(change.hiss_db),
        "floor_a_db": figure(change.floor_a_db),
    }
