"""What a file is like: levels, faults, how its two channels go together; its pitch; its noise."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from diaulos.errors import EditError, RefusedError
from diaulos.session.instrument import Instrument, note_to_midi
from diaulos.signal.delay import find_alignment
from diaulos.signal.faults import ChannelFaults, FaultFinder
from diaulos.signal.hum import Noise, NoiseChange
from diaulos.signal.loudness import LoudnessMeter
from diaulos.signal.peaks import TruePeakMeter
from diaulos.signal.pitch import Pitch, find_pitch, nearest_note, nearest_string
from diaulos.units import gain_to_db
from diaulos.work.measuring import finite_or_none
from diaulos.work.ports import AudioSource

TUNINGS: dict[str, tuple[str, ...]] = {
    "standard": ("E2", "A2", "D3", "G3", "B3", "E4"),
    "drop-d": ("D2", "A2", "D3", "G3", "B3", "E4"),
    "dadgad": ("D2", "A2", "D3", "G3", "A3", "D4"),
    "open-g": ("D2", "G2", "D3", "G3", "B3", "D4"),
    "half-down": ("D#2", "G#2", "C#3", "F#3", "A#3", "D#4"),
    "baritone-b": ("B1", "E2", "A2", "D3", "F#3", "B3"),
    "bass": ("E1", "A1", "D2", "G2"),
    "bass5": ("B0", "E1", "A1", "D2", "G2"),
    "bass5-dropped": ("A0", "E1", "A1", "D2", "G2"),
}
"""Tunings by name; note names after equal temperament."""


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


SAME_SAMPLES = 0.05
PAIR_S = 60.0


def measure_file(source: AudioSource) -> FileMeasure:
    """Measure every channel in one pass, and a pair against each other."""
    count = source.channels
    loudness = [LoudnessMeter(float(source.rate_hz), 1) for _ in range(count)]
    peaks = [TruePeakMeter() for _ in range(count)]
    faults = [FaultFinder() for _ in range(count)]
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
    pair, delay = _pair(source) if count == 2 else (None, None)
    return FileMeasure(frames, tuple(measures), pair, delay)


def _pair(source: AudioSource) -> tuple[str, float | None]:
    blocks = list(source.blocks(count=min(source.frames, int(PAIR_S * source.rate_hz))))
    both = np.concatenate(blocks)
    a, b = np.ascontiguousarray(both[:, 0]), np.ascontiguousarray(both[:, 1])
    if np.array_equal(a, b):
        return "same", 0.0
    if np.array_equal(a, -b):
        return "inverted", 0.0
    try:
        found = find_alignment(a, b, float(source.rate_hz))
    except RefusedError:
        return "different", None
    if abs(found.delay_samples) > SAME_SAMPLES:
        return "late", found.delay_samples
    return ("inverted" if found.polarity < 0 else "same"), found.delay_samples


def measure_data(found: FileMeasure, rate_hz: int) -> dict[str, Any]:
    """For JSON."""
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
    }


# --- pitch ---


@dataclass(frozen=True)
class Tuned:
    """A note against the closest note, or the closest string of a tuning."""

    pitch: Pitch
    note: str
    wanted_hz: float
    cents: float


def tune(samples: np.ndarray, rate_hz: float, strings: tuple[str, ...] = (),
         a4_hz: float = 440.0) -> Tuned:  # fmt: skip
    """The pitch of a recorded note; RefusedError where none is heard."""
    pitch = find_pitch(samples, rate_hz)
    if strings:
        near = nearest_string(pitch.hz, tuple(note_to_midi(name) for name in strings), a4_hz)
    else:
        near = nearest_note(pitch.hz, a4_hz)
    return Tuned(pitch, near.note, near.wanted_hz, near.cents)


def tuning_named(name: str, instruments: tuple[Instrument, ...] = ()) -> tuple[str, ...]:
    """The strings of a tuning or of an instrument; EditError when there is none."""
    if name in TUNINGS:
        return TUNINGS[name]
    for one in instruments:
        if name in (one.id, one.name) and one.strings:
            return one.strings
    raise EditError(f"There is no tuning {name!r}.", remedy=f"Known: {', '.join(TUNINGS)}.")


def intonation_cents(open_hz: float, fretted_hz: float) -> float:
    """How sharp the twelfth fret is of the open string's octave."""
    return float(1200.0 * np.log2(fretted_hz / (2.0 * open_hz)))


# --- noise ---


def noise_data(found: Noise) -> dict[str, Any]:
    """For JSON."""
    return {
        "mains_hz": None if found.mains_hz is None else round(found.mains_hz, 4),
        "reason": found.reason or None,
        "hum": [{"hz": round(t.hz, 3), "dbfs": round(t.dbfs, 2)} for t in found.hum],
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
