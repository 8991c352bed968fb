"""A course as a row of elements: gains, knobs, noise, places where a level is read, and the
curve of an amplifier.

Conventions
- Levels are in dBu in the analog part and dBFS in the digital part; a converter is a gain of
  plus or minus its full scale. RMS in dBFS follows AES17, so that one number serves peak and
  noise alike.
- A `shape` is a power gain over `GRID_HZ`; `db` is its value at 1 kHz. Noise densities are
  powers per hertz, 1 being 0 dBu (or 0 dBFS) over one hertz.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cached_property, lru_cache, partial

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.course import Course
from diaulos.rig.flow import Active, Point, Segment, cut
from diaulos.rig.ground import ground_noises
from diaulos.rig.kept import Kept
from diaulos.rig.likeness import segment_key
from diaulos.rig.model import (
    DIGITAL_CLASSES,
    AdcStage,
    AmpStage,
    CabinetStage,
    CompressorStage,
    DacStage,
    DelayStage,
    Device,
    FilterStage,
    GainStage,
    PassiveStage,
    SignalClass,
)
from diaulos.rig.noise import StageNoise, hears_thermal, input_noise
from diaulos.rig.plan import (
    PLAN_HZ,
    amp_settings,
    compressor_settings,
    corner_response,
    corners_hz,
    dac_full_scale_dbu,
    full_scale_dbu,
    offset_db,
    stage_response,
)
from diaulos.rig.stages import StageReader
from diaulos.signal.amp import HUM_PARTS, VOICES, AmpSettings, idle_response, peak_output
from diaulos.signal.cabinet import CABINETS, magnitude
from diaulos.signal.compressor import CompressorSettings, held_back_db
from diaulos.signal.weighting import a_weighting_gain
from diaulos.units import (
    BOLTZMANN_J_PER_K,
    LOWEST_DB,
    ROOM_TEMPERATURE_K,
    ZERO_DBU_V,
    dbu_to_peak_volt,
    gain_to_db,
    peak_volt_to_dbu,
)

Real = NDArray[np.float64]

GRID_HZ: Real = np.sort(np.append(np.geomspace(20.0, 20_000.0, 96), PLAN_HZ))
"""The band of every noise figure; 1 kHz is one of its points."""
AT_1KHZ = int(np.searchsorted(GRID_HZ, PLAN_HZ))
BAND_HZ: Real = np.zeros(GRID_HZ.size)
"""Bandwidth that each point stands for (trapezoids)."""
BAND_HZ[:-1] += np.diff(GRID_HZ) / 2.0
BAND_HZ[1:] += np.diff(GRID_HZ) / 2.0
BAND_A: Real = BAND_HZ * a_weighting_gain(GRID_HZ) ** 2
FLAT: Real = np.ones(GRID_HZ.size)
WIDTH_HZ = float(BAND_HZ.sum())
MAINS_HZ = 50.0
"""Of planned hum, while nobody measured it."""
AMP_RATE_HZ = 48_000.0
FLAT_WITHIN_DB = 0.02
LOWEST_PLAYED_HZ = 15.0
"""Below it a circuit's response is held, as the bench holds it."""
_HEARD = (GRID_HZ >= 40.0) & (GRID_HZ <= 9_000.0)
"""What is flat here changes no peak of playing."""


@dataclass(frozen=True)
class Place:
    """Where a level is read: a port of a device, a converter, a modeled amplifier's end."""

    key: str
    name: str
    device: str
    device_name: str
    leg: int
    unit: str
    ceiling: float | None
    full_scale_dbu: float | None = None
    """At a converter: what 0 dBFS is in dBu."""
    port: str = ""
    before_converter: bool = True
    """Ahead of the last converter of its course."""


@dataclass(frozen=True, eq=False)
class NoiseSource:
    """Something that adds noise: what it is in words, and how much."""

    words: str
    kind: str
    device: str
    density: Real


@dataclass(frozen=True, eq=False)
class Gain:
    """A linear gain. `db` is its value at 1 kHz."""

    db: float
    shape: Real | None = None
    """Power over frequency, None where it is flat."""
    inverts: bool = False
    exact: Callable[[Real], Real] | None = None
    """Power at any frequency in Hz, for playing; None: the shape's own line between its points."""

    @property
    def power(self) -> Real:
        """Power gain over the grid."""
        return 10.0 ** (self.db / 10.0) * FLAT if self.shape is None else self.shape

    @cached_property
    def key(self) -> int:
        """Tells its shape from others, whatever its level: to a thousandth of a dB."""
        assert self.shape is not None
        return hash(np.rint(self._relative_db * 1_000.0).astype(np.int32).tobytes())

    @cached_property
    def flat(self) -> bool:
        """Whether playing does not tell it from a plain gain."""
        if self.shape is None:
            return True
        heard = self._relative_db[_HEARD]
        return float(heard.max() - heard.min()) < FLAT_WITHIN_DB

    def decibels(self, freqs_hz: Real) -> Real:
        """Its power gain in dB at any frequencies, as it is played."""
        if self.exact is not None:
            return np.asarray(10.0 * np.log10(np.maximum(self.exact(freqs_hz), 1e-18)))
        at = np.log(np.maximum(freqs_hz, LOWEST_PLAYED_HZ))
        grid, db = np.log(GRID_HZ), 10.0 * np.log10(np.maximum(self.power, 1e-18))
        found = np.interp(at, grid, db)
        for end, inner in ((0, 1), (-1, -2)):  # its slope goes on beyond the band
            slope = (db[end] - db[inner]) / (grid[end] - grid[inner])
            beyond = at < grid[0] if end == 0 else at > grid[-1]
            found = np.where(beyond, db[end] + slope * (at - grid[end]), found)
        return np.asarray(found)

    @cached_property
    def _relative_db(self) -> Real:
        assert self.shape is not None
        relative = np.maximum(self.shape, 1e-30) / max(float(self.shape[AT_1KHZ]), 1e-30)
        return np.asarray(10.0 * np.log10(np.maximum(relative, 1e-20)))


@dataclass(frozen=True)
class Knob:
    """A gain that a person turns; `db` is what it gives as it stands."""

    device: str
    setting: str
    db: float
    effect: Callable[[float], float]
    """dB that it gives at a value."""


@dataclass(frozen=True, eq=False)
class Curve:
    """An amplifier or a compressor: its settings, a sine's peak behind it for one at its input,
    and the gain of what is too small to drive it."""

    settings: AmpSettings | CompressorSettings
    peak: Callable[[float], float]
    idle: Real


@dataclass(frozen=True)
class Read:
    """A place where a level is read. `point` is its port, None inside a device; `shown` is
    False for what a diagram leaves out: sound in the air, both ends of a digital cable."""

    place: Place
    point: Point | None = None
    shown: bool = True

    @property
    def converter(self) -> bool:
        """Whether numbers begin here."""
        return self.place.key.endswith(".converter")


Element = Gain | Knob | Curve | NoiseSource | Read


def flat_density(level: float) -> Real:
    """Density of white noise of a level over 20 Hz to 20 kHz.

    Parameters
    ----------
    level
        Level in dBu of the whole band.

    Returns
    -------
    V^2/Hz over the grid.
    """
    return np.asarray(10.0 ** (level / 10.0) / WIDTH_HZ * FLAT)


def tones_density(lines: tuple[tuple[float, float], ...]) -> Real:
    """Tones, as (Hz, power), shared out to the two points of the grid beside each: what comes
    behind then weighs them by its gain at their frequency.

    Parameters
    ----------
    lines
        (Hz, power) of each.

    Returns
    -------
    Power over the grid.
    """
    found = np.zeros(GRID_HZ.size)
    for hz, power in lines:
        above = int(np.clip(np.searchsorted(GRID_HZ, hz), 1, GRID_HZ.size - 1))
        low, high = GRID_HZ[above - 1], GRID_HZ[above]
        share = float(np.clip((hz - low) / (high - low), 0.0, 1.0))
        found[above - 1] += (1.0 - share) * power / BAND_HZ[above - 1]
        found[above] += share * power / BAND_HZ[above]
    return found


def elements_of(course: Course, *, noises: bool = True) -> tuple[Element, ...]:
    """A whole course, from the instrument's EMF or the played track.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    noises
        False where only what is played counts: noise is most of the work.

    Returns
    -------
    In the order of the course.
    """
    found: list[Element] = []
    for step in cut(course):
        found += step_elements(course, step, noises=noises)
    return tuple(found)


def last_that_bends(row: Sequence[Element]) -> int:
    """Where the last amplifier or converter stands in a row: what is cut off behind it changes
    nothing but itself.

    Parameters
    ----------
    row
        Elements of a course.

    Returns
    -------
    Index in the row, -1 where there is none.
    """
    found = -1
    for index, element in enumerate(row):
        if isinstance(element, Curve) or (isinstance(element, Read) and element.converter):
            found = index
    return found


def step_elements(course: Course, step: Segment | Active, *, noises: bool = True) -> list[Element]:
    """One segment, or the inside of one device.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    step
        A segment or a device of the course.
    noises
        False where only what is played counts.

    Returns
    -------
    In order.
    """
    if isinstance(step, Segment):
        return _segment_elements(course, step, noises)
    return _active_elements(course, step, noises)


# --- between two devices ---


def _segment_elements(course: Course, segment: Segment, noises: bool) -> list[Element]:
    load = segment.load
    ends = (segment.source, load)
    if segment.source.port.signal_class in DIGITAL_CLASSES:
        return [Read(_place(course, end, "dBFS", 0.0), end, shown=end is load) for end in ends]
    if segment.digital:  # through the air: a level in dBu says nothing to a person there
        here, there = (
            Read(_place(course, end, "dBu", end.port.max_dbu), end, shown=False) for end in ends
        )
        return [here, Gain(gain_to_db(segment.air_gain)), there]
    found: list[Element] = []
    source = course.source
    if segment.circuit is not None and source is not None and source.noise_dbu is not None:
        device = course.legs[0].device
        density = flat_density(source.noise_dbu)
        found.append(NoiseSource(f"electronics of {source.name}", "source", device.id, density))
    first = len(found)
    gains = segment_gains(segment)
    for point, gain in gains:
        found.append(gain)
        found.append(Read(_place(course, point, "dBu", point.port.max_dbu), point))
    if not noises:
        return found
    # Noise of the network is worked out where it arrives, and put where it begins.
    back = FLAT
    for _, gain in gains[1:]:
        back = np.maximum(back * gain.power, 1e-300)
    for noise in (*_thermal(course, segment), *_loop_hum(course, segment)):
        found.insert(first + 1, replace(noise, density=noise.density / back))
    return found


_GAINS: Kept[tuple[Gain, ...]] = Kept(2_000)


def forget_gains() -> None:
    """Forget what was worked out of segments, as at the start of the program: for measuring."""
    _GAINS.clear()


def segment_gains(segment: Segment) -> tuple[tuple[Point, Gain], ...]:
    """From each point of an analog segment to the next, the first from the source's EMF. Kept by
    content: most of a rig stays as it was when a person turns something.

    Parameters
    ----------
    segment
        From the output of one isolating device to the input of the next.

    Returns
    -------
    Points with the gain that leads to them.
    """
    points = [p for p in (segment.source, *(link.behind for link in segment.links)) if p]
    if segment.source.port.signal_class is SignalClass.SPEAKER:
        gains = _gains_of(segment)  # they look at the segment again when they are played
    else:
        gains = _GAINS.get(segment_key(segment), lambda: _gains_of(segment))
    return tuple(zip(points, gains, strict=True))


def _gains_of(segment: Segment) -> tuple[Gain, ...]:
    found: list[Gain] = []
    before: Real | None = None
    last: Point | None = None
    for point, response in segment.responses(GRID_HZ).items():
        power = np.square(np.abs(response))
        ratio = power if before is None else power / np.maximum(before, 1e-300)
        inverts = segment.inverts and before is None
        exact = _between(segment, point, last)
        found.append(Gain(_db(ratio[AT_1KHZ]), ratio, inverts=inverts, exact=exact))
        before, last = power, point
    return tuple(found)


def _between(segment: Segment, point: Point, before: Point | None) -> Callable[[Real], Real] | None:
    """From one point of a loudspeaker's segment to the next, at any frequency: its resonance is
    narrower than the grid. Others are smooth."""
    if segment.source.port.signal_class is not SignalClass.SPEAKER:
        return None

    def power(freqs_hz: Real) -> Real:
        found = segment.responses(np.maximum(freqs_hz, LOWEST_PLAYED_HZ))
        here = np.square(np.abs(found[point]))
        if before is None:
            return np.asarray(here)
        return np.asarray(here / np.maximum(np.square(np.abs(found[before])), 1e-300))

    return power


def _thermal(course: Course, segment: Segment) -> list[NoiseSource]:
    if not hears_thermal(course, segment):
        return []
    ohm = np.maximum(segment.load_impedance(GRID_HZ).real, 0.0)
    density = 4.0 * BOLTZMANN_J_PER_K * ROOM_TEMPERATURE_K * ohm / ZERO_DBU_V**2
    device = course.legs[segment.source.leg].device
    name = course.source.name if segment.circuit is not None and course.source else device.name
    return [NoiseSource(f"thermal noise of {name}", "thermal", device.id, density)]


def _loop_hum(course: Course, segment: Segment) -> list[NoiseSource]:
    graph = course.graph
    found: list[NoiseSource] = []
    for leg in course.legs[segment.source.leg : segment.load.leg]:
        if leg.cable is None:
            continue
        for noise in ground_noises(graph, leg.cable, MAINS_HZ):
            total = sum(part**2 for _, part in noise.lines)
            power = (noise.rms_v / ZERO_DBU_V) ** 2
            lines = tuple((hz, power * part**2 / total) for hz, part in noise.lines)
            found.append(NoiseSource(noise.words, noise.kind, leg.device.id, tones_density(lines)))
    return found


def _place(course: Course, point: Point, unit: str, ceiling: float | None) -> Place:
    device = course.legs[point.leg].device
    last = point.leg == len(course.legs) - 1
    name = point.port.name if last else f"{device.name}: {point.port.name}"
    return Place(
        key=f"{point.leg}.{point.port.id}",
        name=name,
        device=device.id,
        device_name=device.name,
        leg=point.leg,
        unit=unit,
        ceiling=ceiling,
        port=point.port.id,
    )


# --- inside a device ---


def _active_elements(course: Course, active: Active, noises: bool) -> list[Element]:
    leg = active.leg
    assert leg.path is not None
    found: list[Element] = []
    for number, stage in enumerate(leg.path.stages):
        found += _Elements(course, active, number, noises).read(stage)
    return found


@dataclass(frozen=True)
class _Elements(StageReader[list[Element]]):
    """What a stage is in the arithmetic of levels."""

    course: Course
    active: Active
    number: int
    noises: bool

    def adc(self, stage: AdcStage) -> list[Element]:
        return _adc_elements(self.course, self.active, stage, self.noises)

    def dac(self, stage: DacStage) -> list[Element]:
        return _dac_elements(self.active, stage, self.number)

    def amp(self, stage: AmpStage) -> list[Element]:
        return _amp_elements(self.active, stage, self.noises)

    def compressor(self, stage: CompressorStage) -> list[Element]:
        settings = compressor_settings(self.active.leg.device)
        return [Curve(settings, lambda level: level - held_back_db(settings, level), FLAT)]

    def gain(self, stage: GainStage) -> list[Element]:
        device = self.active.leg.device
        noise = input_noise(stage.input_noise, stage.offsets, device) if self.noises else None
        found = _stage_noise(self.course, self.active, noise)
        found.append(Gain(stage.gain_db + offset_db(stage.offsets, device), inverts=stage.inverts))
        if stage.control is not None:
            value = device.number(stage.control)
            found.append(Knob(device.id, stage.control, value, lambda db: db))
        if stage.noise_dbu is not None:
            words = f"output stage of {device.name}"
            found.append(NoiseSource(words, "output", device.id, flat_density(stage.noise_dbu)))
        return found

    def cabinet(self, stage: CabinetStage) -> list[Element]:
        name = self.active.leg.device.word(stage.setting)
        if name == "none":
            return []
        brought = self.course.graph.cabinets.get(name)
        if brought is not None:
            power = np.maximum(brought.power(GRID_HZ), 1e-18)
            return [Gain(_db(power[AT_1KHZ]), power, exact=brought.power)]
        if name.endswith(".wav"):
            return []  # nobody read it: taken as flat
        return [_cabinet_gain(stage, name)]

    def filter(self, stage: FilterStage) -> list[Element]:
        return [_corner_gain(*corners_hz(stage, self.active.leg.device))]

    def passive(self, stage: PassiveStage) -> list[Element]:
        power = np.square(np.abs(stage_response(stage, self.active.leg.device, GRID_HZ)))
        return [Gain(_db(power[AT_1KHZ]), power)]

    def delay(self, stage: DelayStage) -> list[Element]:
        return []


@lru_cache(maxsize=256)
def _corner_gain(low_hz: float | None, high_hz: float | None) -> Gain:
    def exact(freqs_hz: Real) -> Real:
        response = corner_response(low_hz, high_hz, np.maximum(freqs_hz, 5.0))
        return np.asarray(np.square(np.abs(response)))

    power = exact(GRID_HZ)
    return Gain(_db(power[AT_1KHZ]), power, exact=exact)


def _cabinet_at(name: str, freqs_hz: Real) -> Real:
    return np.asarray(np.square(magnitude(CABINETS[name], freqs_hz)))


@lru_cache(maxsize=64)
def _cabinet_gain(stage: CabinetStage, name: str) -> Gain:
    """A stand-in cabinet: some thousand taps, the same every time."""
    from diaulos.rig.catalogue.parts import cabinet_choice

    words = Device(
        id="c", kind="cabinet", name="c", ports=(), settings=(cabinet_choice(name, stage.setting),)
    )
    power = np.asarray(np.square(np.abs(stage_response(stage, words, GRID_HZ))))
    return Gain(_db(power[AT_1KHZ]), power, exact=partial(_cabinet_at, name))


def _adc_elements(course: Course, active: Active, stage: AdcStage, noises: bool) -> list[Element]:
    device = active.leg.device
    full = full_scale_dbu(stage, device)
    noise = input_noise(stage.input_noise, stage.offsets, device) if noises else None
    found = _stage_noise(course, active, noise)
    if stage.control is None:
        found.append(Gain(-full))
    else:
        control = stage.control
        if not stage.measured:
            value = device.number(control)
            found += [Gain(-full - value), Knob(device.id, control, value, lambda db: db)]
            return [*found, *_adc_end(active, stage, full)]
        at_zero = full_scale_dbu(stage, _set_to(device, control, 0.0))

        def effect(value: float) -> float:
            return at_zero - full_scale_dbu(stage, _set_to(device, control, value))

        found += [Gain(-at_zero), Knob(device.id, control, at_zero - full, effect)]
    return [*found, *_adc_end(active, stage, full)]


def _adc_end(active: Active, stage: AdcStage, full: float) -> list[Element]:
    """The converter itself: its floor, and the station."""
    device = active.leg.device
    words = f"converter of {device.name}"
    return [
        NoiseSource(words, "converter", device.id, flat_density(stage.floor_dbfs)),
        Read(_inner(active, "converter", f"{device.name}: converter", full)),
    ]


def _set_to(device: Device, control: str, value: float) -> Device:
    """A device with a control anywhere, its range aside: what gain 0 would give."""
    settings = tuple(
        s.model_copy(update={"value": value}) if s.id == control else s for s in device.settings
    )
    return device.model_copy(update={"settings": settings})


def _dac_elements(active: Active, stage: DacStage, number: int) -> list[Element]:
    device = active.leg.device
    found: list[Element] = []
    full = dac_full_scale_dbu(stage, device)
    if number:
        found.append(Read(_inner(active, "output", f"{device.name}: output converter", full)))
    if stage.control is None or not device.acts(stage):
        found.append(Gain(full))
    else:
        control = stage.control
        at_zero = dac_full_scale_dbu(stage, _set_to(device, control, 0.0))

        def effect(value: float) -> float:
            return dac_full_scale_dbu(stage, _set_to(device, control, value)) - at_zero

        found += [Gain(at_zero), Knob(device.id, control, full - at_zero, effect)]
    words = f"output converter of {device.name}"
    found.append(NoiseSource(words, "output", device.id, flat_density(stage.noise_dbu)))
    return found


def _amp_elements(active: Active, stage: AmpStage, noises: bool) -> list[Element]:
    device = active.leg.device
    settings = amp_settings(device)
    voice = VOICES[settings.voice]
    modeled = stage.full_scale_dbu is not None
    before = stage.full_scale_dbu or 0.0
    after = stage.full_out_dbu if modeled else 0.0

    def peak(level: float) -> float:
        return peak_volt_to_dbu(peak_output(settings, dbu_to_peak_volt(level)))

    name = device.name
    end: list[Element] = [Gain(-after)]
    if modeled:
        end.append(Read(_inner(active, "model", f"{device.name}: amplifier model", None)))
    if not noises:
        return [Gain(before), Curve(settings, peak, FLAT), *end]
    idle = np.square(idle_response(settings, GRID_HZ, AMP_RATE_HZ))
    if modeled:  # numbers neither hiss nor hum by themselves
        return [Gain(before), Curve(settings, peak, idle), *end]
    hum = tuple(
        (MAINS_HZ * order, 10.0 ** (voice.hum_dbu / 10.0) * part**2) for order, part in HUM_PARTS
    )
    return [
        Gain(before),
        NoiseSource(f"input of {name}", "amp", device.id, flat_density(voice.noise_dbu)),
        NoiseSource(f"hum of {name}", "hum", device.id, tones_density(hum)),
        Curve(settings, peak, idle),
        *end,
    ]


def _stage_noise(course: Course, active: Active, noise: StageNoise | None) -> list[Element]:
    """Voltage noise, and current noise across what the input looks into."""
    if noise is None:
        return []
    device = active.leg.device
    entry = active.leg.entry
    assert entry is not None
    found: list[Element] = []
    if noise.voltage_dbu > LOWEST_DB:
        words = f"voltage noise of {device.name}, {entry.name}"
        density = flat_density(noise.voltage_dbu)
        found.append(NoiseSource(words, "voltage", device.id, density))
    if noise.current_a > 0.0:
        segment = next(
            step for step in cut(course) if isinstance(step, Segment) and step.load == active.entry
        )
        volts = noise.current_a * np.abs(segment.load_impedance(GRID_HZ)) / ZERO_DBU_V
        words = f"current noise of {device.name}, {entry.name}"
        found.append(NoiseSource(words, "current", device.id, np.square(volts)))
    return found


def _inner(active: Active, what: str, name: str, full: float | None) -> Place:
    device = active.leg.device
    return Place(
        key=f"{active.index}.{what}",
        name=name,
        device=device.id,
        device_name=device.name,
        leg=active.index,
        unit="dBFS",
        ceiling=0.0,
        full_scale_dbu=full,
    )


def _db(power: float) -> float:
    return float(10.0 * np.log10(power)) if power > 0.0 else LOWEST_DB
