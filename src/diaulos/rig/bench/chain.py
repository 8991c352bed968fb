"""A course as a chain of processors, and what it shows at every station."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.network import Complex
from diaulos.errors import RigError
from diaulos.rig.bench.processors import Delay, Filter, Hiss, Limit, Processor
from diaulos.rig.course import Course
from diaulos.rig.flow import Active, Point, Segment, cut
from diaulos.rig.model import AdcStage, AmpStage, CabinetStage, DacStage, Device, GainStage, Port
from diaulos.rig.plan import Station, stage_gain, stations
from diaulos.signal.amp import AmpFaults, Amplifier, AmpSettings
from diaulos.signal.cabinet import cabinet_taps
from diaulos.signal.fir import FRACTION_TAPS, minimum_phase
from diaulos.units import LOWEST_DB, dbu_to_peak_volt, dbu_to_volt, gain_to_db, peak_volt_to_dbu

Real = NDArray[np.float64]
Impulses = Mapping[str, Real]
"""Impulse responses of the session's own cabinets by name, at the session's rate."""

NOISE_BAND_HZ = 20_000.0
FLAT_DB = 1e-4


@dataclass(frozen=True)
class BenchFaults:
    """What a real loop adds. The ideal loop has none of it."""

    noise: bool = True
    latency: bool = True
    mains_hz: float = 50.0
    seed: int = 0

    @staticmethod
    def none() -> BenchFaults:
        """No noise, no hum, no latency."""
        return BenchFaults(noise=False, latency=False)


@dataclass
class _Step:
    """One processor, and the points that can be read behind it."""

    processor: Processor
    reads: list[tuple[Point, Filter | None]] = field(default_factory=list)


class Bench:
    """A course that plays: samples of the played track in, samples of the track out."""

    def __init__(
        self,
        course: Course,
        rate_hz: float,
        faults: BenchFaults,
        impulses: Impulses | None = None,
    ) -> None:
        self._rate_hz = rate_hz
        self._faults = faults
        self._impulses = impulses or {}
        self._start = cut(course)[0]
        self._steps: list[_Step] = []
        self._seed = faults.seed * 1000
        self._delay_wanted = 0.0
        for step in cut(course):
            if isinstance(step, Segment):
                self._add_segment(step)
            else:
                self._add_active(step)
        self._settle_latency()
        self._states = [step.processor.initial_state() for step in self._steps]

    @property
    def latency_samples(self) -> float:
        """The delay of the converters, which is that of the whole loop but for buffers and
        the lag of the amplifier's and the cabinet's own filters."""
        return self._delay_wanted if self._faults.latency else 0.0

    def process(self, block: Real, taps: dict[Point, list[Real]] | None = None) -> Real:
        """The next block through the loop; `taps` collects what every point carries."""
        signal = np.asarray(block, dtype=np.float64)
        if taps is not None:
            taps.setdefault(self._first_point(), []).append(signal)
        for index, step in enumerate(self._steps):
            entering = signal
            signal, self._states[index] = step.processor.process(signal, self._states[index])
            if taps is not None:
                for point, inner in step.reads:
                    # Inside a segment the reading filter starts from the segment's source.
                    value = signal if inner is None else _convolved(entering, inner)
                    taps.setdefault(point, []).append(value)
        return signal

    def _first_point(self) -> Point:
        assert isinstance(self._start, Segment)
        return self._start.source

    # --- building ---

    def _next_seed(self) -> int:
        self._seed += 1
        return self._seed

    def _add(self, processor: Processor) -> _Step:
        step = _Step(processor)
        self._steps.append(step)
        return step

    def _add_segment(self, segment: Segment) -> None:
        if segment.digital:
            self._add(Filter(np.ones(1))).reads.append((segment.load, None))
            return
        step = self._add(self._segment_filter(segment, segment.load))
        for point in (segment.source, *(link.behind for link in segment.links[:-1])):
            if point is not None:
                step.reads.append((point, self._segment_filter(segment, point)))
        step.reads.append((segment.load, None))
        # An amplifier's input has its own way of clipping; others clip at their limit.
        limit = segment.load.port.max_dbu
        if limit is not None and segment.load.port.signal_class.value != "instrument":
            self._add(Limit(dbu_to_peak_volt(limit)))

    def _segment_filter(self, segment: Segment, point: Point) -> Filter:
        def response(freqs: Real) -> Complex:
            # Held below 15 Hz: a corner far under the audio band is a response of seconds
            # that nobody hears and every block would pay for.
            return segment.responses(np.maximum(freqs, 15.0))[point]

        probe_hz = np.geomspace(15.0, 0.499 * self._rate_hz, 64)
        gains = np.abs(response(probe_hz))
        sign = -1.0 if segment.inverts else 1.0
        if 20.0 * np.log10(gains.max() / gains.min()) < FLAT_DB:
            return Filter(np.array([sign * float(gains[32])]))
        taps = minimum_phase(lambda f: np.abs(response(f)), self._rate_hz, max_taps=4096)
        return Filter(sign * taps)

    def _add_active(self, active: Active) -> None:
        assert active.leg.path is not None
        assert active.leg.exit is not None
        device = active.leg.device
        for stage in active.leg.path.stages:
            if isinstance(stage, DacStage):
                self._add_dac(stage, device)
            elif isinstance(stage, AdcStage):
                self._add_adc(stage, device)
            elif isinstance(stage, AmpStage):
                settings = amp_settings(device)
                faults = AmpFaults(self._faults.noise, self._faults.mains_hz, self._next_seed())
                self._add(Amplifier(settings, self._rate_hz, faults))
            elif isinstance(stage, CabinetStage):
                self._add(Filter(self._cabinet(device)))
            elif isinstance(stage, GainStage):
                self._add(Filter(np.array([stage_gain(stage, device)])))
                self._add_hiss(stage.noise_dbu)
        self._add_port_limit(active.leg.exit)

    def _add_dac(self, stage: DacStage, device: Device) -> None:
        self._delay_wanted += stage.latency_samples
        self._add(Limit(1.0))
        self._add(Filter(np.array([stage_gain(stage, device)])))
        self._add_hiss(stage.noise_dbu)

    def _add_adc(self, stage: AdcStage, device: Device) -> None:
        self._delay_wanted += stage.latency_samples
        self._add_hiss(stage.noise_dbu)
        self._add(Filter(np.array([stage_gain(stage, device)])))
        self._add(Limit(1.0))

    def _add_hiss(self, noise_dbu: float | None) -> None:
        if noise_dbu is not None and self._faults.noise:
            density = math.sqrt(self._rate_hz / 2.0 / NOISE_BAND_HZ)
            self._add(Hiss(dbu_to_volt(noise_dbu) * density, self._next_seed()))

    def _add_port_limit(self, port: Port) -> None:
        if port.max_dbu is not None:
            self._add(Limit(dbu_to_peak_volt(port.max_dbu)))

    def _cabinet(self, device: Device) -> Real:
        name = device.word("cabinet")
        if name == "none":
            return np.ones(1)
        if name in self._impulses:
            return self._impulses[name]
        if name.endswith(".wav"):
            raise RigError(
                f"The impulse response {name} is not in the session.",
                where=device.name,
                remedy="Load it again, or choose another cabinet.",
            )
        return cabinet_taps(name, self._rate_hz)

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
        self._steps.insert(0, _Step(Delay(rest)))


def _convolved(block: Real, reading: Filter) -> Real:
    if reading.taps.size == 1:
        return np.asarray(block * reading.taps[0])
    from diaulos.signal.convolve import convolve_long

    return np.asarray(convolve_long(block, reading.taps)[: block.size])


def amp_settings(device: Device) -> AmpSettings:
    """The positions of an amplifier's controls as its model wants them."""
    return AmpSettings(
        voice=device.word("voice"),
        drive=device.number("drive"),
        bass=device.number("bass"),
        mid=device.number("mid"),
        treble=device.number("treble"),
        master_db=device.number("master"),
    )


@dataclass(frozen=True)
class Probe:
    """What the bench shows at one station: dBu in the analog part, dBFS in the digital.

    `peak` is of the loudest part of the signal, `typical` its RMS, `floor` the noise (20 Hz
    to half the rate, unweighted) with nothing played; `headroom_db` is None without a
    ceiling.
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
        peak = float(np.max(np.abs(signal), initial=0.0))
        rms = math.sqrt(float(np.mean(np.square(signal)))) if signal.size else 0.0
        floor = math.sqrt(float(np.mean(np.square(noise))))
        found.append(
            Probe(
                station=station,
                peak=_level(peak, station),
                typical=_level(rms * math.sqrt(2.0), station),
                floor=_level(floor * math.sqrt(2.0), station),
            )
        )
    return tuple(found)


def _level(peak: float, station: Station) -> float:
    if peak <= 0.0:
        return LOWEST_DB
    level = gain_to_db(peak) if station.unit == "dBFS" else peak_volt_to_dbu(peak)
    return max(LOWEST_DB, level)
