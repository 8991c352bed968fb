"""Several recordings of one performance brought into one time: the loop's latency, the distance of
a microphone, and where a delay alone makes one band worse an all-pass on top."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np

from diaulos.records import dataclass
from diaulos.session.compared import Moved
from diaulos.session.model import Session
from diaulos.signal.allpass import SPLIT_HZ, ByBand, sum_by_band
from diaulos.signal.delay import Alignment
from diaulos.signal.peaks import loudest_span
from diaulos.units import db_to_gain, metres_to_ms, ms_to_samples, samples_to_ms
from diaulos.units import speed_of_sound_m_per_s as speed
from diaulos.work.compare.choices import Candidate
from diaulos.work.compare.courses import place_of
from diaulos.work.compare.pairs import Side, both_in_time, loudness_of
from diaulos.work.listening.aligned import record_of
from diaulos.work.listening.placing import moved_record

Nudge = Literal["as found", "latency", "all"]

IN_TIME_SAMPLES = 0.005
"""Less than a delay can be told."""
JUDGED_S = 20.0


@dataclass(frozen=True)
class Timing:
    """How late a candidate is against the reference as its file lies, and how much of that is the
    way of the sound through the air (None where a distance is not known)."""

    candidate: Candidate
    late_samples: float
    drift_ppm: float
    air_samples: float | None
    now: Moved | None
    """How it is moved already."""

    @property
    def latency_samples(self) -> float | None:
        """What is left without the air: the loop, the converters, the amplifier."""
        return None if self.air_samples is None else self.late_samples - self.air_samples

    def moved(self, nudge: Nudge, against: str) -> Moved | None:
        """The move that brings it there; polarity and all-pass stay as they are."""
        kept = {
            "polarity": self.now.polarity if self.now else 1,
            "allpass_hz": self.now.allpass_hz if self.now else None,
        }
        late = {"as found": 0.0, "latency": self.latency_samples, "all": self.late_samples}[nudge]
        if late is None:
            return self.now
        drift = self.drift_ppm if nudge == "all" else 0.0
        made = Moved.model_validate({"delay_samples": late, "drift_ppm": drift, **kept})
        return None if made.nothing else made.model_copy(update={"against": against})


def timing_of(session: Session, a: Candidate, b: Candidate, found: Alignment) -> Timing:
    """What is known of B against A; `found` holds for both as they are heard now."""
    known = session.moves.get(b.files[0]) if b.files else None
    record = record_of(found)
    # What was found comes on top of an earlier move.
    on_top = Moved(delay_samples=record.delay_samples, drift_ppm=record.told_drift_ppm)
    both = moved_record(moved_record(None, known), on_top)
    late = both.delay_samples if both is not None else 0.0
    drift = both.told_drift_ppm if both is not None else 0.0
    return Timing(b, late, drift, _air(session, a, b), known)


def _air(session: Session, a: Candidate, b: Candidate) -> float | None:
    """Samples that the sound needs to B's microphone more than to A's; what has no microphone is
    at no distance. None where a microphone's distance is not known."""
    metres = []
    for one in (a, b):
        distance = place_of(session, one).distance_m
        if distance is None and one.tap in ("mic", "cabinet"):
            return None
        metres.append(distance or 0.0)
    return ms_to_samples(metres_to_ms(metres[1] - metres[0]), float(session.sample_rate_hz))


def distance_of_samples(samples: float, rate_hz: float) -> float:
    """The way in air of a delay, in m."""
    return samples_to_ms(samples, rate_hz) * speed() / 1000.0


def nudges(
    timings: Sequence[Timing], nudge: Nudge, against: str
) -> Mapping[tuple[str, ...], Moved | None]:
    """The moves of several, by what belongs together."""
    return {one.candidate.files: one.moved(nudge, against) for one in timings}


def by_band(a: Side, b: Side, found: Alignment, split_hz: float = SPLIT_HZ) -> ByBand | None:
    """What both sum to below and above a split, over the loudest 20 s of what they have in common;
    None where one of them is silent there."""
    rate = float(a.rate_hz)
    first, count, moved = both_in_time(a.samples, b.samples, found)
    if count < 2:
        return None
    here = np.asarray(a.samples[first : first + count], np.float64)
    there = np.zeros(count)
    raw = np.asarray(b.samples[first : first + count], np.float64)
    there[: raw.size] = raw
    at = loudest_span(here, rate, min(JUDGED_S, count / rate))
    cut = slice(at.first, at.first + at.count)
    gain = db_to_gain(loudness_of(a) - loudness_of(b))
    # In time, not turned over: whether that is wanted is a part of the answer.
    return sum_by_band(
        here[cut], gain * there[cut], gain * found.polarity * moved[cut], rate, split_hz
    )


def passed(known: Moved | None, found: ByBand, on: Literal["a", "b"]) -> Moved:
    """A move with the all-pass that was found on top, and B's polarity as it wants it."""
    base = known or Moved()
    corner = found.corner_hz if found.on == on else base.allpass_hz
    turned = found.polarity < 0 and on == "b"
    return base.model_copy(
        update={
            "allpass_hz": None if corner is None else round(corner, 1),
            "polarity": -base.polarity if turned else base.polarity,
        }
    )
