"""How strong an instrument is: read from a recording or a stream of hard strumming."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.session.instrument import ControlValues, Instrument, StrengthReading
from diaulos.signal.strength import Strength, measure_strength
from diaulos.work.blocks import write_all
from diaulos.work.capture.stream import Capture
from diaulos.work.measuring import read_mono
from diaulos.work.ports import (
    AudioBackend,
    AudioSource,
    CancelToken,
    FileNotes,
    Progress,
    SessionStore,
    StreamSpec,
    no_progress,
)

# --- strength ------------------------------------------------------------------------

BLOCK_FRAMES = 1_024
KEPT_S = 3.2
"""Of a strum; an excerpt is a little shorter."""


@dataclass(frozen=True, eq=False)
class Strum:
    """What was measured, and the sound that it was measured from."""

    strength: Strength
    samples: NDArray[np.float32]
    rate_hz: int


def read_strum(source: AudioSource, channel: int = 0, seconds: float = 120.0) -> Strum:
    """Strength of a file's channel (its first two minutes)."""
    samples = read_mono(source, channel=channel, count=int(seconds * source.rate_hz))
    found = measure_strength(samples, float(source.rate_hz), source.bits)
    return Strum(found, samples, source.rate_hz)


def read_strength(source: AudioSource, channel: int = 0, seconds: float = 120.0) -> Strength:
    """Strength of a file's channel (its first two minutes)."""
    return read_strum(source, channel, seconds).strength


def store_strum(store: SessionStore, strum: Strum, notes: FileNotes) -> str | None:
    """The loudest seconds of a strum as a file of the session, for levels to be planned by; None
    where it clips: that is no measure of what was played."""
    if strum.strength.clipped_samples or strum.strength.flat_tops:
        return None
    loudest = int(np.argmax(np.abs(strum.samples)))
    count = min(strum.samples.size, round(KEPT_S * strum.rate_hz))
    first = min(max(0, loudest - count // 2), strum.samples.size - count)
    number = 1
    while store.has_file(f"audio/s{number:04d}.wav"):
        number += 1
    sink = store.create_audio(f"audio/s{number:04d}.wav", strum.rate_hz, 1, "float", notes)
    write_all(sink, iter([strum.samples[first : first + count, None]]))
    return f"audio/s{number:04d}.wav"


def record_strength(
    backend: AudioBackend,
    rate_hz: int,
    seconds: float,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> Strum:
    """Record some seconds of strumming through a stream's first input and measure them."""
    cancel = cancel or CancelToken()
    total = int(seconds * rate_hz)
    capture = Capture(backend, StreamSpec(rate_hz, BLOCK_FRAMES), frames=total)
    kept: list[NDArray[np.float32]] = []

    def look() -> None:
        cancel.check()
        progress(min(1.0, capture.captured / total), "Recording the strums")

    failure = capture.run(lambda taken: kept.append(taken.samples[:, 0]), look)
    if failure is not None:
        raise failure
    samples = np.concatenate(kept)[:total]
    return Strum(measure_strength(samples, float(rate_hz)), samples, rate_hz)


def strength_reading(
    found: Strength,
    position_id: str,
    label: str,
    made_at: str,
    full_scale_dbu: float | None,
    file: str | None = None,
    controls: ControlValues | None = None,
) -> StrengthReading:
    """A measured strength as it is kept with an instrument, with its knobs as they stood."""
    return StrengthReading(
        position_id=position_id,
        label=label,
        made_at=made_at,
        peak_dbfs=found.peak_dbfs,
        true_peak_dbtp=found.true_peak_dbtp,
        loudest_400ms_dbfs=found.loudest_400ms_dbfs,
        decay_s=found.decay_s,
        spread_db=found.spread_db,
        strums=found.strums,
        clipped_samples=found.clipped_samples,
        flat_tops=found.flat_tops,
        full_scale_dbu=full_scale_dbu,
        file=file,
        volume_knob=controls.volume_knob if controls else None,
        tone_knob=controls.tone_knob if controls else None,
    )


def strength_warnings(instrument: Instrument) -> list[str]:
    """What is wrong with the readings of the chosen position."""
    here = [r for r in instrument.strength if r.position_id == instrument.position_id]
    words = []
    for reading in here:
        if reading.clipped_samples:
            words.append(
                f"{reading.label}: {reading.clipped_samples} samples clip; turn the input down "
                "and strum again"
            )
        elif reading.flat_tops:
            words.append(
                f"{reading.label}: {reading.flat_tops} flat tops; it clips ahead of the "
                "converter: lower the gain there and strum again"
            )
        if reading.spread_db is not None and reading.spread_db > 3.0:
            words.append(
                f"{reading.label}: the strums differ by {reading.spread_db:.1f} dB; strum evenly"
            )
    levels = [
        r.peak_dbu
        for r in here
        if r.peak_dbu is not None and not (r.clipped_samples or r.flat_tops)
    ]
    if len(levels) > 1 and max(levels) - min(levels) > 3.0:
        words.append(f"the readings differ by {max(levels) - min(levels):.1f} dB; repeat them")
    return words
