"""Calibration as it is done: a tone in, or an output looped back, at one gain after another.

The unit is the one on the bench (`as_built`), a stand-in for the interface on the desk; real
ports take its place through the same functions on recorded samples.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.pickup import Active
from diaulos.errors import EditError, RefusedError, RigError
from diaulos.records import dataclass
from diaulos.rig.bench import BenchFaults
from diaulos.rig.bench.unit import as_built
from diaulos.rig.catalogue.types import make
from diaulos.rig.course import Course, trace
from diaulos.rig.fits import usual_kind
from diaulos.rig.flow import Point
from diaulos.rig.graph import RECORDER, RigGraph
from diaulos.rig.levels.calibration import (
    CONFIRM_HZ,
    TONE_HZ,
    CalibrationPoint,
    Linearity,
    input_stage,
    nominal_input_dbu,
    nominal_output_dbu,
    open_circuit_dbu,
    output_stage,
    with_box_calibration,
    with_input_calibration,
    with_output_calibration,
)
from diaulos.rig.model import Cable, Control, Device, PassiveStage, PortRef, Rig, SignalClass
from diaulos.rig.plan import dac_full_scale_dbu, linear_responses, sine_level
from diaulos.rig.sources import PlayedSource
from diaulos.session.edits import Edit, change_rigs
from diaulos.session.model import Session
from diaulos.signal.tone import measure_tone
from diaulos.units import dbu_to_peak_volt, peak_volt_to_dbu
from diaulos.work.measuring import read_mono
from diaulos.work.ports import AudioSource, CancelToken, Progress, no_progress
from diaulos.work.rigs.audio import LiveAudio, Played, RigAudio, heard_samples

Real = NDArray[np.float64]


TONE_S = 0.5
FAR_DB, STEP_DB = 12.0, 20.0


SETTLE_S = 0.35
"""Ahead of what is measured: the latency of the loop and the rise of its filters."""


GENERATOR_OHM = 50.0


LEAST_SEND_DBFS = -60.0
"""Sends start at their minimum and are raised from there."""


WANTED_READING_DBFS = -12.0


@dataclass(frozen=True)
class InputCalibration:
    """What was found of an input: full scale at every gain, the linearity at one of them, and
    the frequency response's one check at 1 kHz."""

    device: Device
    port: str
    points: tuple[CalibrationPoint, ...]
    linearity: Linearity | None
    how: str
    at_1khz_db: float | None = None
    """Reading at 1 kHz re the one at the calibration tone, by loop-back; None without one."""

    @property
    def odd(self) -> bool:
        """Whether some figure is far from nominal."""
        return any(point.odd for point in self.points)

    def edit(self, made_at: str) -> Edit:
        """Stored with its date at the unit, in every rig that it stands in."""
        return change_rigs(
            "Calibrate input",
            lambda rig: with_input_calibration(
                rig, self.device, self.port, self.points, made_at, self.how
            ),
        )


@dataclass(frozen=True)
class OutputCalibration:
    """What was found of a line output (open circuit), or of a box behind it."""

    device: Device
    port: str
    point: CalibrationPoint
    how: str
    box: Device | None = None

    @property
    def odd(self) -> bool:
        """Whether the figure is far from nominal."""
        return self.point.odd

    def edit(self, made_at: str) -> Edit:
        """Stored with its date at the unit, in every rig that it stands in."""
        box = self.box
        if box is not None:
            more = self.point.error_db
            return change_rigs(
                "Calibrate box", lambda rig: with_box_calibration(rig, box, more, made_at)
            )
        return change_rigs(
            "Calibrate output",
            lambda rig: with_output_calibration(
                rig, self.device, self.port, (self.point,), made_at, self.how
            ),
        )


def point_from_recording(
    device: Device, port: str, known_dbu: float, samples: Real, rate_hz: float,
    hz: float = TONE_HZ,
) -> CalibrationPoint:  # fmt: skip
    """A calibration point from a recorded tone of known voltage, at the gain as it stands."""
    tone = measure_tone(samples, rate_hz, hz)
    _, stage = input_stage(device, port)
    gain = device.number(stage.control)
    return CalibrationPoint(gain, known_dbu, tone.peak_dbfs, nominal_input_dbu(device, port))


def input_from_recording(
    rig: Rig, ref: PortRef, known_dbu: float, source: AudioSource, hz: float = TONE_HZ
) -> InputCalibration:
    """An input from a file: a tone of known voltage, recorded at the gain and switches as they
    stand in the rig. The first two seconds of its first channel count."""
    device = rig.device(ref.device)
    count = min(source.frames, 2 * source.rate_hz)
    samples = read_mono(source, count=count).astype(np.float64)
    point = point_from_recording(device, ref.port, known_dbu, samples, float(source.rate_hz), hz)
    return InputCalibration(device, ref.port, (point,), None, f"recorded tone of {hz:g} Hz")


def input_from_live(
    session: Session, live: LiveAudio, rig: Rig, ref: PortRef, known_dbu: float,
    hz: float = TONE_HZ,
) -> InputCalibration:  # fmt: skip
    """An input of a real device by a tone of known voltage, at the gain and switches as they
    stand in the rig: nobody but a person turns its knobs."""
    device, rate = rig.device(ref.device), session.sample_rate_hz
    samples = heard_samples(
        live.hear_input(ref), rate, round(SETTLE_S * rate), round(TONE_S * rate)
    )
    point = point_from_recording(
        device, ref.port, known_dbu, samples.astype(np.float64), float(rate), hz
    )
    return InputCalibration(device, ref.port, (point,), None, f"tone of {hz:g} Hz")


def standing_gain(device: Device, port: str) -> tuple[float, ...]:
    """The gain of an input as it stands in the rig: the one that a real device is measured at."""
    _, stage = input_stage(device, port)
    return (device.number(stage.control),) if stage.control is not None else (0.0,)


def raise_send(
    audio: RigAudio, rig: Rig, output: PortRef, ref: PortRef, rate: int, box_id: str = "",
    hz: float = TONE_HZ,
) -> None:  # fmt: skip
    """Send from the least level upwards and see that it comes back no louder than planned.

    RefusedError ("far_from_plan") before the whole level goes out by a socket that may be
    another one than the rig says.
    """
    course = loop_course(rig, output, ref, box_id)
    most, planned = _send_for(course, hz)
    at = LEAST_SEND_DBFS
    while at < most:
        try:
            more = _read(audio, course, at, hz, rate, 1) - (planned - most + at)
        except RefusedError as error:
            if error.reason == "no_tone":
                more = 0.0  # it drowns in what else is there
            else:
                raise
        if more > FAR_DB:
            raise RefusedError(
                "far_from_plan",
                f"a tone of {at:g} dBFS came back {more:.0f} dB louder than planned.",
                remedy="Mute the monitors. Is something else plugged in, or does a gain stand "
                "otherwise than in the rig?",
            )
        at += STEP_DB


def gain_steps(device: Device, port: str, most: int = 13) -> tuple[float, ...]:
    """Gains to measure at: both ends and evenly between, on the control's own steps."""
    _, stage = input_stage(device, port)
    if stage.control is None:
        return (0.0,)
    setting = device.setting(stage.control)
    assert isinstance(setting, Control)
    count = min(most, round((setting.maximum - setting.minimum) / setting.step) + 1)
    values = np.linspace(setting.minimum, setting.maximum, count)
    return tuple(dict.fromkeys(setting.nearest(float(value)) for value in values))


def calibrate_input(
    session: Session,
    audio: RigAudio,
    rig: Rig,
    ref: PortRef,
    known_dbu: float,
    *,
    hz: float = TONE_HZ,
    gains: tuple[float, ...] | None = None,
    seed: int = 1,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> InputCalibration:
    """A tone of known voltage at an input of the bench's unit, at one gain after another.

    The generator is turned down where the tone would clip; `known_dbu` is its most, as it is
    metred at the port. A gain at which it clips all the same is left out.
    """
    device = rig.device(ref.device)
    rate = session.sample_rate_hz
    steps = gains if gains is not None else gain_steps(device, ref.port)
    points = []
    for index, gain in enumerate(steps):
        if cancel is not None:
            cancel.check()
        progress(index / (len(steps) + 1), f"Gain {gain:g} dB")
        here = _at_gain(device, ref.port, gain)
        nominal = nominal_input_dbu(here, ref.port)
        sent = min(known_dbu, nominal + WANTED_READING_DBFS)
        samples = _tone_recorded(audio, rig, here, ref.port, sent, hz, rate, seed)
        points.append(point_from_recording(here, ref.port, sent, samples, float(rate), hz))
    linear = _input_linearity(
        audio, rig, _at_gain(device, ref.port, steps[0]), ref.port, hz, rate, seed
    )
    progress(1.0, "Done")
    return InputCalibration(device, ref.port, tuple(points), linear, f"tone of {hz:g} Hz")


def calibrate_by_loop(
    session: Session,
    audio: RigAudio,
    rig: Rig,
    output: PortRef,
    ref: PortRef,
    *,
    hz: float = TONE_HZ,
    gains: tuple[float, ...] | None = None,
    seed: int = 1,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> InputCalibration:
    """An input against a known output of the rig, looped back by a cable.

    The send starts at its minimum and is raised to what the input wants. Confirmed at 1 kHz.
    """
    device = rig.device(ref.device)
    rate = session.sample_rate_hz
    steps = gains if gains is not None else gain_steps(device, ref.port)
    points = []
    confirm: float | None = None
    linear: Linearity | None = None
    for index, gain in enumerate(steps):
        if cancel is not None:
            cancel.check()
        progress(index / (len(steps) + 1), f"Gain {gain:g} dB")
        here = rig.with_device(_at_gain(device, ref.port, gain))
        course = loop_course(here, output, ref)
        real = loop_course(as_built_loop(here, output, ref, seed), output, ref)
        at_port = _arrives_dbu(course, 0.0, hz)
        nominal = nominal_input_dbu(here.device(ref.device), ref.port)
        send = min(-1.0, nominal + WANTED_READING_DBFS - at_port)
        if send < LEAST_SEND_DBFS:
            continue
        read = _read(audio, real, send, hz, rate, seed)
        points.append(CalibrationPoint(gain, at_port + send, read, nominal))
        if index == 0:
            confirm = _read(audio, real, send, CONFIRM_HZ, rate, seed) - read
            linear = _loop_linearity(audio, real, send, hz, rate, seed)
    if not points:
        raise EditError(
            "The output is too loud for this input at every gain.",
            remedy="Put a pad between them, or calibrate by a tone.",
        )
    progress(1.0, "Done")
    how = f"loop-back from {rig.device(output.device).port(output.port).name}, {hz:g} Hz"
    return InputCalibration(device, ref.port, tuple(points), linear, how, confirm)


def calibrate_output(
    session: Session, audio: RigAudio, rig: Rig, output: PortRef, ref: PortRef, *,
    hz: float = TONE_HZ, seed: int = 1,
) -> OutputCalibration:  # fmt: skip
    """A line output against a calibrated input that it is looped back to."""
    device = rig.device(output.device)
    rate = session.sample_rate_hz
    course = loop_course(rig, output, ref)
    real = loop_course(as_built_loop(rig, output, ref, seed), output, ref)
    send, planned = _send_for(course, hz)
    read = _read(audio, real, send, hz, rate, seed)
    nominal = nominal_output_dbu(device, output.port)
    # What the plan with the measured input says of the send, and what came more.
    known = _dac_full(device, output.port) + read - planned
    point = CalibrationPoint(0.0, known, 0.0, nominal)
    _, stage = output_stage(device, output.port)
    point = replace(point, gain_db=device.number(stage.control))
    name = rig.device(ref.device).port(ref.port).name
    return OutputCalibration(device, output.port, point, f"loop-back into {name}, {hz:g} Hz")


def calibrate_output_by_meter(
    device: Device, port: str, metred_dbu: float, sent_dbfs: float, load_ohm: float
) -> OutputCalibration:
    """A line output by a meter at its plugged and loaded cable."""
    open_dbu = open_circuit_dbu(device, port, metred_dbu, load_ohm)
    nominal = nominal_output_dbu(device, port)
    _, stage = output_stage(device, port)
    point = CalibrationPoint(device.number(stage.control), open_dbu, sent_dbfs, nominal)
    return OutputCalibration(device, port, point, f"meter at {load_ohm:g} Ω")


def calibrate_box(
    session: Session, audio: RigAudio, rig: Rig, box_id: str, output: PortRef, ref: PortRef, *,
    hz: float = CONFIRM_HZ, seed: int = 1,
) -> OutputCalibration:  # fmt: skip
    """A passive box between a calibrated output and a calibrated input. At 1 kHz: that is
    where sends are reckoned."""
    box = rig.device(box_id)
    if not any(isinstance(s, PassiveStage) for path in box.paths for s in path.stages):
        raise RigError(f"{box.name} has no transformer or trim to calibrate.", where=box.id)
    rate = session.sample_rate_hz
    course = loop_course(rig, output, ref, box_id)
    real = loop_course(as_built_loop(rig, output, ref, seed, box_id), output, ref, box_id)
    send, planned = _send_for(course, hz)
    read = _read(audio, real, send, hz, rate, seed)
    point = CalibrationPoint(0.0, read - planned, 0.0, 0.0)
    return OutputCalibration(box, "", point, f"loop-back, {hz:g} Hz", box)


# --- the loop ---


def loop_course(rig: Rig, output: PortRef, ref: PortRef, box_id: str = "") -> Course:
    """Recorder, output, cable (and a box), input, recorder: what a loop-back plugs."""
    source, target = rig.device(output.device), rig.device(ref.device)
    out_path, _ = output_stage(source, output.port)
    in_path, _ = input_stage(target, ref.port)
    recorder = next((d for d in rig.devices if d.kind == RECORDER), make("computer", "computer"))
    devices = {d.id: d for d in (recorder, source, target)}
    plugs = [(PortRef(device=recorder.id, port="play1"),
              PortRef(device=source.id, port=out_path.source))]  # fmt: skip
    if box_id:
        box = rig.device(box_id)
        devices[box.id] = box
        path = next(p for p in box.live_paths if any(s.kind == "passive" for s in p.stages))
        plugs += [(output, PortRef(device=box.id, port=path.source)),
                  (PortRef(device=box.id, port=path.target), ref)]  # fmt: skip
    else:
        plugs.append((output, ref))
    plugs.append((PortRef(device=target.id, port=in_path.target),
                  PortRef(device=recorder.id, port="track1")))  # fmt: skip
    for end in (out_path.source, in_path.target):
        device = source if end == out_path.source else target
        if device.port(end).signal_class is not SignalClass.STREAM:
            raise RigError(
                f"{device.name} does not play and record by USB: it cannot be looped back by "
                "itself.",
                where=device.id,
                remedy="Calibrate it by a tone of known voltage.",
            )
    return trace(RigGraph(_joined(rig.id, tuple(devices.values()), plugs)), plugs[-1][1])


def as_built_loop(rig: Rig, output: PortRef, ref: PortRef, seed: int, box_id: str = "") -> Rig:
    """The rig with the units of the loop as they were built."""
    ids = {output.device, ref.device, box_id}
    real = as_built(rig, seed)
    return rig.model_copy(
        update={"devices": tuple(real.device(d.id) if d.id in ids else d for d in rig.devices)}
    )


def _joined(rig_id: str, devices: tuple[Device, ...], plugs: list[tuple[PortRef, PortRef]]) -> Rig:
    found = {d.id: d for d in devices}
    cables = tuple(
        Cable(
            id=f"loop{n}",
            source=source,
            target=target,
            length_m=1.0,
            kind=usual_kind(found[source.device].port(source.port).signal_class),
        )
        for n, (source, target) in enumerate(plugs, start=1)
    )
    return Rig(id=rig_id or "loop", name="Loop-back", devices=devices, cables=cables)


def _at_gain(device: Device, port: str, gain: float) -> Device:
    _, stage = input_stage(device, port)
    return device if stage.control is None else device.with_setting(stage.control, gain)


def _arrives_dbu(course: Course, sent_dbfs: float, hz: float) -> float:
    """Peak at the input of a loop, in dBu."""
    entry = course.legs[-2].entry
    assert entry is not None
    for point, response in linear_responses(course, np.array([hz])).items():
        if point.leg == len(course.legs) - 2 and point.port.id == entry.id:
            return sent_dbfs + peak_volt_to_dbu(float(abs(response[0])))
    raise RigError("The loop does not reach its input.")


def _send_for(course: Course, hz: float) -> tuple[float, float]:
    """A send that reads well below full scale, and what it is planned to read."""
    last = linear_responses(course, np.array([hz]))
    point = next(p for p in reversed(last) if p.leg == len(course.legs) - 1)
    at_zero = sine_level(course, point, 0.0, hz)
    send = min(-1.0, WANTED_READING_DBFS - at_zero)
    return send, at_zero + send


def _read(
    audio: RigAudio, course: Course, send_dbfs: float, hz: float, rate: int, seed: int
) -> float:
    """What comes back of a tone that is sent."""
    sent = [10.0 ** (send_dbfs / 20.0) * _tone(hz, rate)]
    first, count = round(SETTLE_S * rate), round(TONE_S * rate)
    back = heard_samples(audio.loop(course, seed), rate, first, count, sent)
    return measure_tone(back.astype(np.float64), float(rate), hz).peak_dbfs


def _tone(hz: float, rate: int) -> Real:
    """A sine that outlasts what is listened to, latency and all."""
    time = np.arange(round((TONE_S + 2.0 * SETTLE_S) * rate)) / rate
    return np.asarray(np.sin(2.0 * np.pi * hz * time))


def _loop_linearity(
    audio: RigAudio, course: Course, send_dbfs: float, hz: float, rate: int, seed: int
) -> Linearity:
    """As far down as the tone can be told from the noise: at a high gain that is not far."""
    steps: list[float] = []
    read: list[float] = []
    for step in range(0, -51, -10):
        try:
            read.append(_read(audio, course, send_dbfs + step, hz, rate, seed))
        except RefusedError:
            if len(steps) < 2:
                raise
            break
        steps.append(float(step))
    return Linearity(tuple(steps), tuple(read))


# --- the generator ---


def _tone_recorded(
    audio: RigAudio,
    rig: Rig,
    device: Device,
    port: str,
    known_dbu: float,
    hz: float,
    rate: int,
    seed: int,
) -> Real:
    """What the bench's unit records of a tone that is metred at its port."""
    in_path, _ = input_stage(device, port)
    generator = make("bass", "generator").model_copy(update={"name": "Tone generator"})
    recorder = next((d for d in rig.devices if d.kind == RECORDER), make("computer", "computer"))
    plugs = [
        (PortRef(device="generator", port="out"), PortRef(device=device.id, port=port)),
        (
            PortRef(device=device.id, port=in_path.target),
            PortRef(device=recorder.id, port="track1"),
        ),
    ]
    joined = _joined("tone", (generator, device, recorder), plugs)
    built = as_built(joined, seed)
    sources = {"generator": PlayedSource("Tone generator", Active(GENERATOR_OHM), known_dbu)}
    course = trace(RigGraph(built, sources), plugs[-1][1])
    arrives = abs(linear_responses(course, np.array([hz]))[_entry_point(course)][0])
    emf = dbu_to_peak_volt(known_dbu) / float(arrives)
    played = Played("generator", lambda: iter([emf * _tone(hz, rate)]))
    backend = audio.play(course.graph, (plugs[-1][1],), played, BenchFaults(seed=seed))
    first, count = round(SETTLE_S * rate), round(TONE_S * rate)
    return heard_samples(backend, rate, first, count).astype(np.float64)


def _entry_point(course: Course) -> Point:
    points = linear_responses(course, np.array([1000.0]))
    entry = course.legs[1].entry
    assert entry is not None
    return next(p for p in points if p.leg == 1 and p.port.id == entry.id)


def _input_linearity(
    audio: RigAudio, rig: Rig, device: Device, port: str, hz: float, rate: int, seed: int
) -> Linearity:
    steps = tuple(float(step) for step in range(0, -51, -10))
    top = nominal_input_dbu(device, port) - 3.0
    read = tuple(
        measure_tone(
            _tone_recorded(audio, rig, device, port, top + step, hz, rate, seed), float(rate), hz
        ).peak_dbfs
        for step in steps
    )
    return Linearity(steps, read)


def _dac_full(device: Device, port: str) -> float:
    _, stage = output_stage(device, port)
    return dac_full_scale_dbu(stage, device)
