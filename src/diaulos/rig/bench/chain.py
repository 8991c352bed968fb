"""A course as a chain of processors, and what it shows at every station."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.bench.processors import Delay, Filter
from diaulos.rig.bench.steps import BenchFaults, Impulses, Step, StepMaker
from diaulos.rig.course import Course
from diaulos.rig.flow import Point
from diaulos.rig.plan import Station, stations
from diaulos.rig.playing import figures_of
from diaulos.signal.fir import FRACTION_TAPS
from diaulos.units import LOWEST_DB, db_to_gain, gain_to_db, peak_volt_to_dbu

Real = NDArray[np.float64]


class Bench:
    """A course that plays: samples of the played track in, samples of the track out."""

    def __init__(
        self,
        course: Course,
        rate_hz: float,
        faults: BenchFaults,
        impulses: Impulses | None = None,
    ) -> None:
        self._faults = faults
        self._seed = faults.seed * 1000
        maker = StepMaker(course, rate_hz, faults, impulses, self._next_seed)
        self._first = maker.first_point
        self._steps: list[Step] = maker.steps
        self._delay_wanted = maker.delay_samples
        self._settle_latency()
        self._states = [step.processor.initial_state() for step in self._steps]

    @property
    def latency_samples(self) -> float:
        """The delay of converters, processing and air, which is that of the whole loop but
        for buffers and the lag of the amplifier's and the cabinet's own filters."""
        return self._delay_wanted if self._faults.latency else 0.0

    def process(self, block: Real, taps: dict[Point, list[Real]] | None = None) -> Real:
        """The next block through the loop; `taps` collects what every point carries."""
        signal = np.asarray(block, dtype=np.float64)
        if taps is not None:
            taps.setdefault(self._first, []).append(signal)
        for index, step in enumerate(self._steps):
            entering = signal
            signal, self._states[index] = step.processor.process(signal, self._states[index])
            if taps is not None:
                for point, inner in step.reads:
                    # Inside a segment the reading filter starts from the segment's source.
                    value = signal if inner is None else _convolved(entering, inner)
                    taps.setdefault(point, []).append(value)
        return signal

    def _next_seed(self, key: object) -> int:
        self._seed += 1
        return self._seed

    def _settle_latency(self) -> None:
        """One delay for the whole loop, less what the processors already delay."""
        if not self._faults.latency:
            return
        own = sum(step.processor.latency_samples for step in self._steps)
        rest = self._delay_wanted - own
        if rest < FRACTION_TAPS / 2:
            # Converters quicker than the amplifier's oversampling: the loop is that slow.
            rest = FRACTION_TAPS / 2
            self._delay_wanted = rest + own
        # In front of everything: where it stands does not change what comes back, but for
        # the noise, which has no time.
        self._steps.insert(0, Step(Delay(rest), ()))


def _convolved(block: Real, reading: Filter) -> Real:
    if reading.taps.size == 1:
        return np.asarray(block * reading.taps[0])
    from diaulos.signal.convolve import convolve_long

    return np.asarray(convolve_long(block, reading.taps)[: block.size])


@dataclass(frozen=True)
class Probe:
    """What the bench shows at one station: dBu in the analog part, dBFS in the digital.

    `peak` is of the loudest part of the signal, `typical` the RMS of its loudest 400 ms (AES17),
    `floor` the noise (20 Hz to half the rate, unweighted) with nothing played; `headroom_db` is
    None without a ceiling.
    """

    station: Station
    peak: float
    typical: float
    floor: float

    @property
    def headroom_db(self) -> float | None:
        """From the loudest peak to the clip point."""
        return None if self.station.ceiling is None else self.station.ceiling - self.peak


def probe(
    course: Course,
    excerpt: Real,
    rate_hz: float,
    impulses: Impulses | None = None,
    check: Callable[[], None] = lambda: None,
) -> tuple[Probe, ...]:
    """Levels at every station while `excerpt` (digital, the send gain included) is played.

    The excerpt runs through the bench without noise, then silence with noise. `check` is
    called between the steps and may raise to cancel.
    """
    loud: dict[Point, list[Real]] = {}
    Bench(course, rate_hz, BenchFaults.none(), impulses).process(excerpt, loud)
    check()
    quiet: dict[Point, list[Real]] = {}
    silence = np.zeros(int(0.5 * rate_hz))
    Bench(course, rate_hz, BenchFaults(latency=False), impulses).process(silence, quiet)
    check()
    found = []
    skip = int(0.1 * rate_hz)
    for station in stations(course):
        signal = loud[station.point][0]
        noise = quiet[station.point][0][skip:]
        levels = figures_of(signal, rate_hz)
        floor = math.sqrt(float(np.mean(np.square(noise))))
        found.append(
            Probe(
                station=station,
                peak=_level(db_to_gain(levels.peak_db), station),
                typical=_level(db_to_gain(levels.loud_db), station),
                floor=_level(floor * math.sqrt(2.0), station),
            )
        )
    return tuple(found)


def _level(peak: float, station: Station) -> float:
    if peak <= 0.0:
        return LOWEST_DB
    level = gain_to_db(peak) if station.unit == "dBFS" else peak_volt_to_dbu(peak)
    return max(LOWEST_DB, level)
