"""The level plan: what stands at every station of a course, worked out without sound.

Conventions
- A course that starts at a played track is driven by a level in dBFS. Up to the first
  device that is not linear (the amplifier) the level at a station is that level plus the
  station's response; behind it only sound can tell (`bench.probe`).
- A single figure is "at 1 kHz".
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from diaulos.circuit.network import Complex, Real
from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.course import Course, Leg
from diaulos.rig.flow import Active, Point, Segment, cut
from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    CabinetStage,
    CompressorStage,
    Control,
    DacStage,
    Device,
    FilterStage,
    GainStage,
    Measured,
    Offset,
    SignalClass,
    Stage,
)
from diaulos.rig.stages import StageReader
from diaulos.rig.tone_place import TRIM, TonePlace, place_at
from diaulos.signal.amp import AmpSettings
from diaulos.signal.cabinet import CABINETS, cabinet_taps
from diaulos.signal.compressor import CompressorSettings
from diaulos.units import db_to_gain, dbu_to_peak_volt, gain_to_db, peak_volt_to_dbu

PLAN_HZ = 1000.0
DEVIATION_HZ = (80.0, 160.0, 315.0, 630.0, 1000.0, 2000.0, 4000.0, 8000.0)
"""Where the send's deviation from its level at 1 kHz is listed."""


@dataclass(frozen=True)
class Station:
    """A place on the course that a person wants to see."""

    point: Point
    name: str
    side: str
    """"out" up to the amplifier's input, "back" from its output on."""
    unit: str
    """"dBFS" in the digital part, "dBu" elsewhere."""
    ceiling: float | None


def stations(course: Course) -> tuple[Station, ...]:
    """The stations of a course in order: every output, the inputs that can clip, the track.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    In order.
    """
    found: list[Station] = []
    side = "out"
    last = len(course.legs) - 1
    for index, leg in enumerate(course.legs):
        kinds = {stage.kind for stage in leg.path.stages} if leg.path else set()
        if leg.entry is not None and (index == last or kinds & {"amp", "adc"}):
            found.append(_station(index, leg.device, leg.entry, side, index == last))
        if "amp" in kinds:
            side = "back"
        if leg.exit is not None and "adc" not in kinds:
            found.append(_station(index, leg.device, leg.exit, side, index == 0))
    return tuple(found)


def _station(index: int, device: Device, port: object, side: str, is_track: bool) -> Station:
    from diaulos.rig.model import Port

    assert isinstance(port, Port)
    if port.signal_class in (SignalClass.STREAM, SignalClass.DIGITAL):
        name = port.name if is_track else f"{device.name}: {port.name}"
        return Station(Point(index, port), name, side, "dBFS", 0.0)
    ceiling = port.max_dbu
    for path in device.live_paths:
        for stage in path.stages:
            if path.source == port.id and isinstance(stage, AdcStage):
                # The converter behind this input clips first when its gain is up.
                limit = full_scale_dbu(stage, device)
                ceiling = limit if ceiling is None else min(ceiling, limit)
    name = port.name if is_track else f"{device.name}: {port.name}"
    return Station(Point(index, port), name, side, "dBu", ceiling)


def linear_responses(course: Course, freqs_hz: Real) -> dict[Point, Complex]:
    """Response of every point up to the first nonlinear device.

    Digital points before the converter are re the played track (a plain ratio); analog
    points are peak volts per unit of digital amplitude; digital points behind the last
    converter are a plain ratio again. Points behind an amplifier or a compressor
    are absent.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Complex ratios by point, shape (n,).

    Raises
    ------
    RigError
        For a brought cabinet.
    """
    level: Complex = np.ones(freqs_hz.shape, complex)
    found: dict[Point, Complex] = {}
    for step in cut(course):
        if isinstance(step, Segment):
            responses = step.responses(freqs_hz)
            found.update({point: level * response for point, response in responses.items()})
            level = found[step.load]
        else:
            through = _active_response(step, freqs_hz)
            if through is None:
                return found
            level = level * through
    return found


def _active_response(active: Active, freqs_hz: Real) -> Complex | None:
    assert active.leg.path is not None
    total: Complex = np.ones(freqs_hz.shape, complex)
    for stage in active.leg.path.stages:
        if isinstance(stage, (AmpStage, CompressorStage)):
            return None
        total = total * stage_response(stage, active.leg.device, freqs_hz)
    return total


CABINET_RATE_HZ = 48_000.0


@dataclass(frozen=True)
class _Response(StageReader[Complex]):
    """Response of linear stages over frequency."""

    device: Device
    freqs_hz: Real

    def _flat(self, stage: Stage) -> Complex:
        return np.full(self.freqs_hz.shape, stage_gain(stage, self.device), complex)

    gain = dac = adc = passive = amp = compressor = delay = _flat

    def cabinet(self, stage: CabinetStage) -> Complex:
        name = self.device.word(stage.setting)
        if name == "none":
            return np.ones(self.freqs_hz.shape, complex)
        if name not in CABINETS:
            raise RigError("A brought cabinet's response is read from its impulse, by the bench.")
        taps = cabinet_taps(name, CABINET_RATE_HZ)
        turn = -2j * np.pi * np.outer(self.freqs_hz, np.arange(taps.size)) / CABINET_RATE_HZ
        return np.asarray(np.exp(turn) @ taps)

    def filter(self, stage: FilterStage) -> Complex:
        return filter_response(stage, self.device, self.freqs_hz)


def stage_response(stage: Stage, device: Device, freqs_hz: Real) -> Complex:
    """Response of a linear stage over frequency.

    Parameters
    ----------
    stage
        One stage of a path.
    device
        The device, as its knobs and switches stand.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Complex ratio, shape (n,).

    Raises
    ------
    RigError
        For a brought cabinet.
    """
    return _Response(device, freqs_hz).read(stage)


def filter_response(stage: FilterStage, device: Device, freqs_hz: Real) -> Complex:
    """First-order corners: j f/fc / (1 + j f/fc) below, 1 / (1 + j f/fc) above.

    Parameters
    ----------
    stage
        One stage of a path.
    device
        The device, as its knobs and switches stand.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Complex ratio, shape (n,).
    """
    return corner_response(*corners_hz(stage, device), freqs_hz)


def corners_hz(stage: FilterStage, device: Device) -> tuple[float | None, float | None]:
    """Where a filter's corners lie as the switches stand.

    Parameters
    ----------
    stage
        One stage of a path.
    device
        The device, as its knobs and switches stand.

    Returns
    -------
    Lower and upper corner in Hz, None where there is none.
    """
    high = next(
        (hz for setting, value, hz in stage.high_cut_by if device.word(setting) == value),
        stage.high_cut_hz,
    )
    return stage.low_cut_hz, high


def corner_response(low_hz: float | None, high_hz: float | None, freqs_hz: Real) -> Complex:
    """Response of first-order corners.

    Parameters
    ----------
    low_hz
        The lower corner in Hz; None for none.
    high_hz
        The upper one.
    freqs_hz
        Frequencies in Hz, shape (n,), 0 and above.

    Returns
    -------
    Complex ratio, shape (n,).
    """
    total: Complex = np.ones(freqs_hz.shape, complex)
    if low_hz is not None:
        ratio = 1j * np.maximum(freqs_hz, 1e-3) / low_hz
        total = total * ratio / (1.0 + ratio)
    if high_hz is not None:
        total = total / (1.0 + 1j * freqs_hz / high_hz)
    return total


def offset_db(offsets: tuple[Offset, ...], device: Device) -> float:
    """What the switches add.

    Parameters
    ----------
    offsets
        What switches add, in dB.
    device
        The device, as its knobs and switches stand.

    Returns
    -------
    dB.
    """
    return sum(offset.db for offset in offsets if device.holds(offset.when))


@dataclass(frozen=True)
class _PlainGain(StageReader[float]):
    """The gain of stages that have one at all frequencies."""

    device: Device

    def gain(self, stage: GainStage) -> float:
        added = self.device.number(stage.control) + offset_db(stage.offsets, self.device)
        gain = db_to_gain(stage.gain_db + added)
        return -gain if stage.inverts else gain

    def dac(self, stage: DacStage) -> float:
        return dbu_to_peak_volt(dac_full_scale_dbu(stage, self.device))

    def adc(self, stage: AdcStage) -> float:
        return 1.0 / dbu_to_peak_volt(full_scale_dbu(stage, self.device))

    def _unity(self, stage: Stage) -> float:
        """It has none of its own, or none that is the same at all frequencies and levels."""
        return 1.0

    passive = amp = compressor = cabinet = filter = delay = _unity


def stage_gain(stage: Stage, device: Device) -> float:
    """The plain gain of a linear stage: volts per volt, per unit of amplitude, or back.

    Parameters
    ----------
    stage
        One stage of a path.
    device
        The device, as its knobs and switches stand.

    Returns
    -------
    V/V, V per unit of amplitude, or the other way round.
    """
    return _PlainGain(device).read(stage)


def full_scale_dbu(stage: AdcStage, device: Device) -> float:
    """The dBu that reaches 0 dBFS as knob and switches stand: measured, or else nominal.

    Parameters
    ----------
    stage
        One stage of a path.
    device
        The device, as its knobs and switches stand.

    Returns
    -------
    dBu.
    """
    gain = device.number(stage.control)
    nominal = stage.full_scale_dbu + offset_db(stage.offsets, device)
    return nominal - gain + measured_error_db(stage.measured, device, gain, nominal, -1.0)


def dac_full_scale_dbu(stage: DacStage, device: Device) -> float:
    """The dBu, open circuit, of a sine at 0 dBFS as knob and switches stand.

    Parameters
    ----------
    stage
        One stage of a path.
    device
        The device, as its knobs and switches stand.

    Returns
    -------
    dBu.
    """
    gain = device.number(stage.control) if device.acts(stage) else 0.0
    nominal = stage.full_scale_dbu + offset_db(stage.offsets, device)
    return nominal + gain + measured_error_db(stage.measured, device, gain, nominal, 1.0)


def measured_error_db(
    measured: tuple[Measured, ...], device: Device, gain_db: float, nominal_dbu: float, sign: float
) -> float:
    """How far a calibrated full scale lies from nominal at a gain: between two measured gains
    on a straight line, beyond them as at the nearest; 0 without a calibration that fits the
    switches. `sign` is what the gain does to the full scale.

    Parameters
    ----------
    measured
        Calibrated points.
    device
        The device, as its knobs and switches stand.
    gain_db
        The gain in dB.
    nominal_dbu
        Full scale without a calibration, in dBu.
    sign
        -1 where gain lowers the full scale, 1 where it raises it.

    Returns
    -------
    dB.
    """
    newest: dict[float, Measured] = {}
    for one in measured:
        if device.holds(one.when):
            newest[one.gain_db] = one
    if not newest:
        return 0.0
    gains = sorted(newest)
    errors = [newest[gain].full_scale_dbu - (nominal_dbu + sign * gain) for gain in gains]
    return float(np.interp(gain_db, gains, errors))


def amp_settings(device: Device) -> AmpSettings:
    """The positions of an amplifier's controls as its model wants them.

    Parameters
    ----------
    device
        The device, as its knobs and switches stand.

    Returns
    -------
    Voice and positions from 0 to 10.
    """
    return AmpSettings(
        voice=device.word("voice"),
        drive=device.number("drive"),
        bass=device.number("bass"),
        mid=device.number("mid"),
        treble=device.number("treble"),
        master_db=device.number("master"),
    )


def compressor_settings(device: Device) -> CompressorSettings:
    """The positions of a compressor's controls as its model wants them.

    Parameters
    ----------
    device
        The device, as its knobs and switches stand.

    Returns
    -------
    Threshold in dBu, ratio, times in ms.
    """
    return CompressorSettings(
        threshold_dbu=device.number("threshold"),
        ratio=device.number("ratio"),
        attack_ms=device.number("attack"),
        release_ms=device.number("release"),
    )


def sine_level(course: Course, point: Point, peak_dbfs: float, hz: float = PLAN_HZ) -> float:
    """Level of a sine at a point: dBu in the analog part, dBFS in the digital part.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    point
        A station of the course.
    peak_dbfs
        Peak in dBFS.
    hz
        Frequency in Hz, above 0.

    Returns
    -------
    dBu or dBFS, peak of a sine.

    Raises
    ------
    RigError
        Behind a driven stage.
    """
    response = linear_responses(course, np.array([hz])).get(point)
    if response is None:
        raise RigError(
            "The level behind a driven amplifier cannot be planned.",
            where=str(point),
            remedy="Ask the bench.",
        )
    gain = abs(complex(response[0]))
    if point.port.signal_class in (SignalClass.STREAM, SignalClass.DIGITAL):
        return peak_dbfs + gain_to_db(gain)
    return peak_dbfs + peak_volt_to_dbu(gain)


@dataclass(frozen=True)
class SendPlan:
    """How a stored DI has to be sent.

    `gain_db` is the digital gain on the track. `deviation_db` lists (Hz, dB re 1 kHz) of
    what the amplifier's input sees against the stored volts. `limited_db` is how much gain
    is missing because the send would clip, 0 when none is.
    """

    gain_db: float
    wanted_db: float
    limited_db: float
    full_scale_dbu: float
    assumed: bool
    amp_peak_dbu: float
    deviation_db: tuple[tuple[float, float], ...]
    source_ohm: float
    """What the amplifier's input looks back into at 1 kHz."""


ASSUMED_FULL_SCALE_DBU = 12.0
"""For a DI of unknown calibration; representative, marked wherever it is used."""


SEND_ROOM_DB = 0.1
"""A send that is held back stays so far below what would clip."""


def solve_send(
    course: Course,
    di_peak_dbfs: float,
    di_full_scale_dbu: float | None,
    ahead_db: float | None = None,
) -> SendPlan:
    """The send gain at which the amplifier's input sees the volts of the DI input.

    `di_full_scale_dbu` is the dBu that reached 0 dBFS when the DI was recorded, None when
    nobody knows. Equal at 1 kHz; limited so that neither the converter nor the line output
    clips.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    di_peak_dbfs
        Loudest peak of the DI in dBFS.
    di_full_scale_dbu
        dBu that reached 0 dBFS when it was recorded; None for unknown.
    ahead_db
        What stood ahead of a modeled amplifier when the DI was recorded, trim less pad in dB: it
        gets what it had then. None: as an instrument would drive it as trim and pad stand now.

    Returns
    -------
    Send gain in dB, volts at the amplifier, deviation over frequency.

    Raises
    ------
    RigError
        When there is no amplifier.
    """
    target = amp_input(course)
    freqs = np.array([PLAN_HZ, *DEVIATION_HZ])
    responses = linear_responses(course, freqs)
    response = np.abs(responses[target])
    full_scale = ASSUMED_FULL_SCALE_DBU if di_full_scale_dbu is None else di_full_scale_dbu
    at_amp_dbu = _sent_dbu(course, float(response[0]), ahead_db)
    wanted = full_scale - at_amp_dbu
    room = -di_peak_dbfs - SEND_ROOM_DB
    for point, at in responses.items():
        if point.port.max_dbu is not None and point != target:
            there = di_peak_dbfs + peak_volt_to_dbu(abs(at[0]))
            room = min(room, point.port.max_dbu - there - SEND_ROOM_DB)
    gain = min(wanted, room)
    deviation = tuple(
        (hz, gain_to_db(float(value / response[0])))
        for hz, value in zip(DEVIATION_HZ, response[1:], strict=True)
    )
    return SendPlan(
        gain_db=gain,
        wanted_db=wanted,
        limited_db=max(0.0, wanted - gain),
        full_scale_dbu=full_scale,
        assumed=di_full_scale_dbu is None,
        amp_peak_dbu=di_peak_dbfs + gain + at_amp_dbu,
        deviation_db=deviation,
        source_ohm=_source_ohm(course, target),
    )


def _sent_dbu(course: Course, response: float, ahead_db: float | None) -> float:
    """What a 0 dBFS send is at the amplifier's input: volts at a jack; at a modeled one the
    volts of an instrument at its jack that would drive it alike, behind a trim and pad that make
    `ahead_db` of it."""
    for leg in course.legs:
        for stage in leg.path.stages if leg.path else ():
            if isinstance(stage, AmpStage) and stage.full_scale_dbu is not None:
                passed = _passed_by_db(leg)
                inside = 0.0
                if ahead_db is not None:
                    # What the stream meets of the two by itself stands as it stands now.
                    inside = gain_to_db(_inside(leg))
                    passed = ahead_db
                return stage.full_scale_dbu + gain_to_db(response) + inside - passed
            if isinstance(stage, (AmpStage, AdcStage)):
                return peak_volt_to_dbu(response)
    return peak_volt_to_dbu(response)


def _passed_by_db(leg: Leg) -> float:
    """What pad and trim would do to an instrument at the jack, where a stream that comes in
    behind the two passes them by."""
    assert leg.path is not None
    place = place_at(leg.device)
    if place is None or any(getattr(stage, "control", "") == TRIM for stage in leg.path.stages):
        return 0.0
    return _ahead_db(place)


def _ahead_db(place: TonePlace) -> float:
    return place.trim.value - (place.pad[2].db if place.pad and place.pad_on else 0.0)


def _inside(leg: Leg) -> float:
    """The gain of what stands ahead of the amplifier inside its device."""
    gain = 1.0
    for stage in leg.path.stages if leg.path else ():
        if isinstance(stage, AmpStage):
            break
        gain *= stage_gain(stage, leg.device)
    return gain


def ahead_of_tone_db(course: Course) -> float | None:
    """What trim and pad make of an instrument ahead of a modeled amplifier; None where there is
    none on the course.

    Parameters
    ----------
    course
        From an instrument to a recorded one.

    Returns
    -------
    Trim less pad in dB, or None.
    """
    for leg in course.legs:
        for stage in leg.path.stages if leg.path else ():
            if isinstance(stage, AmpStage):
                place = place_at(leg.device) if stage.full_scale_dbu is not None else None
                return None if place is None else _ahead_db(place)
    return None


def amp_input(course: Course) -> Point:
    """The input of the amplifier on a course; RigError when there is none.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    The station.

    Raises
    ------
    RigError
        When there is no amplifier.
    """
    for step in cut(course):
        if isinstance(step, Active) and step.leg.path is not None:
            if any(isinstance(stage, AmpStage) for stage in step.leg.path.stages):
                return step.entry
    raise RigError("There is no amplifier on this course.", remedy="Choose a rig that reamps.")


def _source_ohm(course: Course, target: Point) -> float:
    """Impedance that the amplifier's input sees: from how a small load would pull it."""
    freqs = np.array([PLAN_HZ])
    for step in cut(course):
        if isinstance(step, Segment) and step.load == target:
            open_port = target.port.model_copy(update={"impedance_ohm": 1e9, "capacitance_pf": 0.0})
            load_port = target.port.model_copy(update={"impedance_ohm": 1e4, "capacitance_pf": 0.0})
            ends = []
            for port in (open_port, load_port):
                link = step.links[-1]
                changed = type(link)(link.two_port, Point(target.leg, port))
                end = replace(step, links=(*step.links[:-1], changed))
                ends.append(end.responses(freqs)[end.load][0])
            return float(abs(1e4 * (ends[0] / ends[1] - 1.0)))
    return 0.0


def return_control(course: Course) -> tuple[Device, Control] | None:
    """The gain control of the input that records the return, if it has one.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    Device and control, or None.
    """
    for leg in reversed(course.legs):
        if leg.path is None:
            continue
        for stage in leg.path.stages:
            if isinstance(stage, AdcStage) and stage.control is not None:
                setting = leg.device.setting(stage.control)
                if isinstance(setting, Control):
                    return leg.device, setting
    return None
