"""A course cut into processors, in order, each with a key that says what it is.

Two courses of a rig that begin with the same keys share what is played up to there.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable, Mapping
from dataclasses import field

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.network import Complex
from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.bench.processors import ColouredHiss, Filter, Hiss, Limit, Processor, Slip, Tones
from diaulos.rig.course import Course
from diaulos.rig.flow import Active, Point, Segment, cut
from diaulos.rig.graph import RigGraph
from diaulos.rig.ground import ground_noises
from diaulos.rig.model import (
    DIGITAL_CLASSES,
    AdcStage,
    AmpStage,
    CabinetStage,
    Cable,
    CompressorStage,
    DacStage,
    DelayStage,
    Device,
    FilterStage,
    GainStage,
    InputNoise,
    Offset,
    PassiveStage,
    Path,
    Port,
    SignalClass,
    Stage,
)
from diaulos.rig.noise import hears_thermal, input_noise
from diaulos.rig.plan import amp_settings, compressor_settings, filter_response, stage_gain
from diaulos.rig.stages import StageReader
from diaulos.rig.strays import Stray, StrayPlace
from diaulos.signal.amp import AmpFaults, Amplifier
from diaulos.signal.cabinet import cabinet_taps
from diaulos.signal.compressor import Compressor
from diaulos.signal.fir import minimum_phase
from diaulos.units import (
    BOLTZMANN_J_PER_K,
    ROOM_TEMPERATURE_K,
    db_to_gain,
    dbu_to_peak_volt,
    dbu_to_volt,
    gain_to_db,
    ms_to_samples,
    volt_to_dbu,
)

Real = NDArray[np.float64]
Impulses = Mapping[str, Real]
"""Impulse responses of the session's own cabinets by name, at the session's rate."""

NOISE_BAND_HZ = 20_000.0
FLAT_DB = 1e-4
MOST_LOAD_GAIN = 10.0 ** (24.0 / 20.0)
"""What undoing a stored DI's load may raise; above it is noise."""
CRYSTAL_PPM = 50.0
"""How far two free-running clocks are apart; representative."""


@dataclass(frozen=True)
class BenchFaults:
    """What a real loop adds. The ideal loop has none of it."""

    noise: bool = True
    latency: bool = True
    mains_hz: float = 50.0
    seed: int = 0
    strays: tuple[Stray, ...] = ()
    """Noise that comes in from outside the plan."""
    earth_gain: float = 1.0
    """Of the voltage between two outlets: less where all hangs at one."""
    isolated: frozenset[str] = frozenset()
    """Ids of cables with a transformer between their two grounds."""

    @staticmethod
    def none() -> BenchFaults:
        """No noise, no hum, no latency."""
        return BenchFaults(noise=False, latency=False)


@dataclass
class Step:
    """One processor, what it is, and the points that can be read behind it."""

    processor: Processor
    key: Hashable
    reads: list[tuple[Point, Filter | None]] = field(default_factory=list)


class StepMaker:
    """Makes the steps of a course. `seed_of` gives the seed of a noise by its key."""

    def __init__(
        self,
        course: Course,
        rate_hz: float,
        faults: BenchFaults,
        impulses: Impulses | None,
        seed_of: Callable[[Hashable], int],
        recorded: Callable[[Real], Real] | None = None,
    ) -> None:
        """`recorded` is the gain over frequency from the instrument's EMF to what is fed in,
        where a stored DI stands for the instrument; None where EMF volts are fed."""
        self._recorded = recorded
        self._course = course
        self._rate_hz = rate_hz
        self._faults = faults
        self._impulses = impulses or {}
        self._segment: Segment | None = None
        self._seed_of = seed_of
        self.steps: list[Step] = []
        self.delay_samples = ms_to_samples(course.delay_ms(rate_hz), rate_hz)
        """Of converters, processing and air."""
        parts = cut(course)
        assert isinstance(parts[0], Segment)
        self.first_point = parts[0].source
        for part in parts:
            if isinstance(part, Segment):
                self._add_segment(part)
            else:
                self._add_active(part)

    def _add(self, processor: Processor, *key: Hashable) -> Step:
        step = Step(processor, key)
        self.steps.append(step)
        return step

    # --- between two devices ---

    def _add_segment(self, segment: Segment) -> None:
        here = self._course.legs[segment.source.leg].device.id
        there = self._course.legs[segment.load.leg].device.id
        key = (here, segment.source.port.id, there, segment.load.port.id)
        if segment.digital:
            step = self._add(Filter(np.array([segment.air_gain])), "link", *key)
            if segment.source != self.first_point:
                step.reads.append((segment.source, Filter(np.ones(1))))
            for link in segment.links[:-1]:
                if link.behind is not None:  # a device that passes the numbers on as they are
                    step.reads.append((link.behind, Filter(np.ones(1))))
            step.reads.append((segment.load, None))
            if segment.source.port.signal_class in DIGITAL_CLASSES:
                self._add(Limit(1.0), "full", *key)  # whole numbers: there is nothing above full
            self._add_digital_faults(segment, key)
            return
        self._segment = segment
        source = self._course.source
        if segment.circuit is not None and source is not None:
            self._add_hiss(source.noise_dbu, ("source", here))
        step = self._add(self._segment_filter(segment, segment.load), "segment", *key)
        for point in (segment.source, *(link.behind for link in segment.links[:-1])):
            if point is not None:
                step.reads.append((point, self._segment_filter(segment, point)))
        step.reads.append((segment.load, None))
        if self._faults.noise and hears_thermal(self._course, segment):
            self._add_thermal(segment, key)
        self._add_hum(segment, key)
        if segment.circuit is not None:
            self._add_field(segment, here, key)
        # An amplifier's input has its own way of clipping; others clip at their limit.
        limit = segment.load.port.max_dbu
        if limit is not None and not self._is_amp(segment.load):
            self._add(Limit(dbu_to_peak_volt(limit)), "limit", *key)

    def _is_amp(self, point: Point) -> bool:
        path = self._course.legs[point.leg].path
        return path is not None and any(isinstance(stage, AmpStage) for stage in path.stages)

    def _segment_filter(self, segment: Segment, point: Point) -> Filter:
        def response(freqs: Real) -> Complex:
            # Held below 15 Hz: a corner far under the audio band is a response of seconds
            # that nobody hears and every block would pay for.
            found = segment.responses(np.maximum(freqs, 15.0))[point]
            if segment.circuit is None or self._recorded is None:
                return found
            # What was fed in is already loaded: the difference of the two loads is left.
            ratio = np.abs(found) / np.maximum(self._recorded(np.maximum(freqs, 15.0)), 1e-9)
            return np.asarray(np.clip(ratio, 1e-6, MOST_LOAD_GAIN), complex)

        probe_hz = np.geomspace(15.0, 0.499 * self._rate_hz, 64)
        gains = np.abs(response(probe_hz))
        sign = -1.0 if segment.inverts else 1.0
        if 20.0 * np.log10(gains.max() / gains.min()) < FLAT_DB:
            return Filter(np.array([sign * float(gains[32])]))
        taps = minimum_phase(lambda f: np.abs(response(f)), self._rate_hz, max_taps=4096)
        return Filter(sign * taps)

    def _add_thermal(self, segment: Segment, key: tuple[str, ...]) -> None:
        """The noise that no gain knob avoids: 4 k T of the resistance that the input sees
        (Nyquist), shaped by the network."""

        def gain(freqs: Real) -> Real:
            ohm = segment.load_impedance(np.maximum(freqs, 15.0)).real
            density = 4.0 * BOLTZMANN_J_PER_K * ROOM_TEMPERATURE_K * np.maximum(ohm, 0.0)
            return np.asarray(np.sqrt(density * self._rate_hz / 2.0))

        self._add_shaped(gain, ("thermal", *key))

    def _add_hum(self, segment: Segment, key: tuple[str, ...]) -> None:
        if not self._faults.noise:
            return
        graph = self._course.graph
        for leg in self._course.legs[segment.source.leg : segment.load.leg]:
            if leg.cable is None:
                continue
            self._add_strays("cable", leg.cable.id, *key)
            if leg.cable.id in self._faults.isolated:
                continue
            for noise in ground_noises(graph, leg.cable, self._faults.mains_hz):
                # The bus's share of a loop is the computer's, not the outlets'.
                part = self._faults.earth_gain if leg.cable.id in graph.loop_cables else 1.0
                part = part if noise.kind == "hum" else 1.0
                tones = Tones(part * noise.rms_v, noise.lines, self._rate_hz)
                self._add(tones, noise.words, *key, leg.cable.id)

    def _add_strays(self, place: StrayPlace, at: str, *key: Hashable) -> None:
        """What comes in here from outside the plan."""
        for number, one in enumerate(self._faults.strays):
            if (one.place, one.at) != (place, at) or not self._faults.noise:
                continue
            named = ("stray", number, *key)
            if one.kind == "hiss":
                density = math.sqrt(self._rate_hz / 2.0 / NOISE_BAND_HZ)
                self._add(Hiss(one.rms_v * density, self._seed_of(named)), *named)
            else:
                lines = self._below_half(one.lines(self._faults.mains_hz))
                self._add(Tones(one.rms_v, lines, self._rate_hz), *named)

    def _add_field(self, segment: Segment, here: str, key: tuple[str, ...]) -> None:
        """What the pickup catches, behind its circuit as the input loads it: line by line, since
        what is played may be a stored DI that is loaded already."""
        for number, one in enumerate(self._faults.strays):
            if (one.place, one.at) != ("pickup", here) or not self._faults.noise:
                continue
            if one.kind == "hiss":
                self._add_electronics(segment, one, ("stray", number, *key))
                continue
            lines = self._below_half(one.lines(self._faults.mains_hz))
            gains = np.abs(segment.responses(np.array([hz for hz, _ in lines]))[segment.load])
            heard = tuple((hz, part * float(gain)) for (hz, part), gain in zip(
                lines, gains, strict=True))  # fmt: skip
            power = sum(part**2 for _, part in heard) / sum(part**2 for _, part in lines)
            if power > 0.0:
                tones = Tones(one.rms_v * math.sqrt(power), heard, self._rate_hz)
                self._add(tones, "stray", number, *key)

    def _add_electronics(self, segment: Segment, one: Stray, key: tuple[Hashable, ...]) -> None:
        """Hiss ahead of an instrument's output, as the input loads it."""
        density = one.rms_v * math.sqrt(self._rate_hz / 2.0 / NOISE_BAND_HZ)

        def gain(freqs: Real) -> Real:
            found = segment.responses(np.maximum(freqs, 15.0))[segment.load]
            return np.asarray(density * np.abs(found))

        self._add_shaped(gain, key)

    def _below_half(
        self, lines: tuple[tuple[float, float], ...]
    ) -> tuple[tuple[float, float], ...]:
        return tuple((hz, part) for hz, part in lines if hz < 0.45 * self._rate_hz)

    def _add_digital_faults(self, segment: Segment, key: tuple[str, ...]) -> None:
        cable = self._course.legs[segment.source.leg].cable
        if cable is None or segment.source.port.signal_class not in DIGITAL_CLASSES:
            return
        if not speaks(self._course.graph, cable):
            self._add(Filter(np.zeros(1)), "silence", *key)
            return
        ratio = clock_ratio(self._course.graph, cable)
        if ratio != 1.0:
            self._add(Slip(ratio), "slip", *key)

    # --- inside a device ---

    def _add_active(self, active: Active) -> None:
        path, device = active.leg.path, active.leg.device
        assert path is not None
        assert active.leg.exit is not None
        if active.leg.entry is not None and active.leg.entry.signal_class not in DIGITAL_CLASSES:
            self._add_strays("device", device.id, device.id, path.source)
        for index, stage in enumerate(path.stages):
            self._add_stage(stage, device, (device.id, path.source, path.stages[: index + 1]))
        self._add_port_limit(active.leg.exit, device, path)

    def _add_stage(self, stage: Stage, device: Device, key: tuple[Hashable, ...]) -> None:
        _StageSteps(self, device, key).read(stage)

    def _add_amp(self, stage: AmpStage, device: Device, key: tuple[Hashable, ...]) -> None:
        seed = self._seed_of(key)
        # A model neither hisses nor hums by itself: the same numbers give the same numbers.
        noisy = self._faults.noise and stage.full_scale_dbu is None
        faults = AmpFaults(noisy, self._faults.mains_hz, seed)
        amp = Amplifier(amp_settings(device), self._rate_hz, faults)
        if stage.full_scale_dbu is None:
            self._add(amp, "amp", *key)
            return
        # A model inside a digital device: what 0 dBFS stands for at its input and output.
        before = np.array([dbu_to_peak_volt(stage.full_scale_dbu)])
        after = np.array([1.0 / dbu_to_peak_volt(stage.full_out_dbu)])
        self._add(Filter(before), "volts", *key)
        self._add(amp, "amp", *key)
        self._add(Filter(after), "numbers", *key)
        self._add(Limit(1.0), "full", *key)

    def _add_hiss(self, noise_dbu: float | None, key: tuple[Hashable, ...]) -> None:
        if noise_dbu is not None and self._faults.noise:
            density = math.sqrt(self._rate_hz / 2.0 / NOISE_BAND_HZ)
            hiss = Hiss(dbu_to_volt(noise_dbu) * density, self._seed_of(key))
            self._add(hiss, "hiss", *key)

    def _add_input_noise(
        self,
        noises: tuple[InputNoise, ...],
        offsets: tuple[Offset, ...],
        device: Device,
        key: tuple[Hashable, ...],
    ) -> None:
        """Voltage noise of the input stage, and its current noise across what it looks into."""
        noise = input_noise(noises, offsets, device)
        segment = self._segment
        if noise is None or segment is None or not self._faults.noise:
            return
        self._add_hiss(noise.voltage_dbu, (*key, "voltage"))
        if noise.current_a <= 0.0:
            return

        def gain(freqs: Real) -> Real:
            ohm = np.abs(segment.load_impedance(np.maximum(freqs, 15.0)))
            return np.asarray(noise.current_a * ohm * math.sqrt(self._rate_hz / 2.0))

        self._add_shaped(gain, (*key, "current"))

    def _add_shaped(self, gain: Callable[[Real], Real], key: tuple[Hashable, ...]) -> None:
        """Noise of a density over frequency. Scaled up for the filter's sake: its floor is
        meant for gains near 1."""
        most = float(np.max(gain(np.array([20.0, 200.0, 2_000.0, 20_000.0]))))
        if most <= 0.0:
            return
        taps = minimum_phase(lambda f: gain(f) / most, self._rate_hz, max_taps=2048) * most
        self._add(ColouredHiss(taps, self._seed_of(key)), *key)

    def _add_port_limit(self, port: Port, device: Device, path: Path) -> None:
        if port.max_dbu is not None:
            key = (device.id, path.source, path.stages, port.max_dbu)
            self._add(Limit(dbu_to_peak_volt(port.max_dbu + _rated_db(port))), "limit", *key)

    def _cabinet(self, stage: CabinetStage, device: Device) -> Real:
        name = device.word(stage.setting)
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


def _rated_db(port: Port) -> float:
    """How much higher than at its rated load a speaker output lies with nothing plugged in: its
    clip point is meant into that load."""
    if port.rated_ohm is None or port.signal_class is not SignalClass.SPEAKER:
        return 0.0
    return gain_to_db(1.0 + port.impedance_ohm / port.rated_ohm)


def speaks(graph: RigGraph, cable: Cable) -> bool:
    """Whether both ends of a digital cable speak the same format."""
    source, target = graph.source(cable).port, graph.target(cable).port
    return source.signal_class is target.signal_class and source.format == target.format


def clock_ratio(graph: RigGraph, cable: Cable) -> float:
    """How many samples come for each that is taken: other than 1 where the rates differ, or
    where sender and receiver each run on their own clock."""
    source, target = graph.source(cable), graph.target(cable)
    one, other = source.device, target.device
    if one.has_setting("rate") and other.has_setting("rate"):
        ratio = float(one.word("rate")) / float(other.word("rate"))
        if ratio != 1.0:
            return ratio
    free = all(d.has_setting("clock") and d.word("clock") == "internal" for d in (one, other))
    return 1.0 + CRYSTAL_PPM * 1e-6 if free else 1.0


@dataclass(frozen=True)
class _StageSteps(StageReader[None]):
    """The processors that play a stage, added to a maker's steps."""

    maker: StepMaker
    device: Device
    key: tuple[Hashable, ...]

    def dac(self, stage: DacStage) -> None:
        self.maker._add(Limit(1.0), "full", *self.key)
        self._add_gain(stage, "dac")
        self.maker._add_hiss(stage.noise_dbu, self.key)

    def adc(self, stage: AdcStage) -> None:
        self.maker._add_input_noise(stage.input_noise, stage.offsets, self.device, self.key)
        self._add_gain(stage, "adc")
        floor_rms = db_to_gain(stage.floor_dbfs) / math.sqrt(2.0)  # AES17
        self.maker._add_hiss(volt_to_dbu(floor_rms), (*self.key, "floor"))
        self.maker._add(Limit(1.0), "full", *self.key)

    def amp(self, stage: AmpStage) -> None:
        self.maker._add_amp(stage, self.device, self.key)

    def compressor(self, stage: CompressorStage) -> None:
        settings = compressor_settings(self.device)
        self.maker._add(Compressor(settings, self.maker._rate_hz), "compressor", *self.key)

    def cabinet(self, stage: CabinetStage) -> None:
        self.maker._add(Filter(self.maker._cabinet(stage, self.device)), "cabinet", *self.key)

    def gain(self, stage: GainStage) -> None:
        self.maker._add_input_noise(stage.input_noise, stage.offsets, self.device, self.key)
        self._add_gain(stage, "gain")
        self.maker._add_hiss(stage.noise_dbu, self.key)

    def filter(self, stage: FilterStage) -> None:
        taps = minimum_phase(
            lambda f: np.abs(filter_response(stage, self.device, np.maximum(f, 5.0))),
            self.maker._rate_hz,
            max_taps=4096,
        )
        self.maker._add(Filter(taps), "filter", *self.key)

    def delay(self, stage: DelayStage) -> None:
        """Played with all other delays of the course, as one."""

    def passive(self, stage: PassiveStage) -> None:
        raise RigError("A passive network must stand alone in its path.", where=self.device.name)

    def _add_gain(self, stage: DacStage | AdcStage | GainStage, name: str) -> None:
        self.maker._add(Filter(np.array([stage_gain(stage, self.device)])), name, *self.key)
