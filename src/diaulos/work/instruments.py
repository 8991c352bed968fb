"""Use cases around instruments: what inputs do to them, one trim each, the pad question."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, Loading, analyse, closeness_db, curves_db, level_db
from diaulos.circuit.pickup import InstrumentCircuit
from diaulos.errors import RefusedError
from diaulos.rig.model import Direction, Rig, SignalClass
from diaulos.session.instrument import ComparedInput, Instrument, StrengthReading, Tone, ToneStage
from diaulos.session.model import Session
from diaulos.signal.amp import VOICES, AmpSettings, drive_signal
from diaulos.signal.cabinet import CABINETS, cabinet_taps
from diaulos.signal.convolve import convolve_long
from diaulos.signal.loudness import LoudnessMeter
from diaulos.signal.strength import Strength, measure_strength
from diaulos.units import db_to_gain, dbu_to_peak_volt
from diaulos.work.measuring import read_mono
from diaulos.work.ports import (
    AudioBackend,
    AudioSource,
    Block,
    BlockStatus,
    BlockTime,
    CancelToken,
    Progress,
    StreamSpec,
    no_progress,
)

Real = NDArray[np.float64]

OPEN_LOAD = Load(10e6, 10e-12)
"""As open as an input gets: 10 M."""
AMP_LOAD = Load(1e6, 100e-12)
LOW_LOAD = Load(60e3, 50e-12)
REFERENCES: dict[str, tuple[str, Load]] = {
    "amp": ("a 1 M amp input", AMP_LOAD),
    "low": ("a low-impedance effect input (60 k)", LOW_LOAD),
    "open": ("as open as possible", OPEN_LOAD),
}
"""What a loading can be compared with, by id."""
CLOSE_DB = 0.5
"""Two loadings this close (RMS) are heard as one (common practice, no source)."""


def rig_inputs(session: Session) -> tuple[ComparedInput, ...]:
    """The analog inputs of the current rig's devices, each kind once."""
    if not session.rigs:
        return ()
    found: dict[tuple[str, float, float], ComparedInput] = {}
    analog = (SignalClass.INSTRUMENT, SignalClass.LINE, SignalClass.MIC)
    for device in session.rig().devices:
        for port in device.ports:
            port = device.as_switched(port)
            if port.direction is Direction.IN and port.signal_class in analog:
                kind = (device.id, port.impedance_ohm, port.capacitance_pf)
                name = f"{device.name}: {port.name}"[:200]
                found.setdefault(
                    kind,
                    ComparedInput(name=name, ohm=port.impedance_ohm, pf=port.capacitance_pf),
                )
    return tuple(found.values())


# --- loading -------------------------------------------------------------------------


@dataclass(frozen=True)
class InputRow:
    """An instrument into one input: figures, and in words what is lost."""

    name: str
    load: Load
    figures: Loading
    words: str


def compare_inputs(session: Session, instrument: Instrument) -> tuple[InputRow, ...]:
    """The instrument at each of the session's compared inputs, its usual cable included."""
    circuit = instrument.circuit()
    best = analyse(circuit, Load.together(instrument.cable, OPEN_LOAD))
    rows = []
    for compared in session.compared_inputs:
        load = Load.together(instrument.cable, compared.load)
        figures = analyse(circuit, load)
        rows.append(InputRow(compared.name, load, figures, loss_words(figures, best)))
    return tuple(rows)


def loss_words(figures: Loading, best: Loading) -> str:
    """What is lost against an open input, in a person's words."""
    down = best.level_1khz_db - figures.level_1khz_db
    parts = []
    if down > 0.3:
        parts.append(f"{down:.1f} dB down at 1 kHz")
    if figures.low_corner_hz is not None and figures.low_corner_hz > 40.0:
        parts.append(f"bass falls below {figures.low_corner_hz:.0f} Hz: will sound thin")
        return ", ".join(parts)
    if best.resonance_hz is not None and best.peak_db is not None:
        if figures.resonance_hz is None:
            parts.append("resonance gone: will sound dull" + (" and quiet" if down > 1.0 else ""))
        else:
            assert figures.peak_db is not None
            lost = best.peak_db - figures.peak_db
            if lost > 1.0:
                parts.append(f"peak {lost:.1f} dB lower: softer top")
            if figures.resonance_hz < 0.85 * best.resonance_hz:
                parts.append(
                    f"resonance down from {best.resonance_hz / 1000.0:.1f} to "
                    f"{figures.resonance_hz / 1000.0:.1f} kHz: darker"
                )
    return ", ".join(parts) or "nothing is lost"


@dataclass(frozen=True)
class ImpedanceChoice:
    """One setting of a selectable input, and how far it is from the reference (RMS dB)."""

    ohm: float
    figures: Loading
    apart_db: float
    chosen: bool


def rate_impedances(
    instrument: Instrument, stage: ToneStage, reference: Load
) -> tuple[ImpedanceChoice, ...]:
    """Every setting of the tone stage's input; the closest to the reference is `chosen`."""
    circuit, cable = instrument.circuit(), instrument.cable
    wanted = Load.together(cable, reference)
    loads = [
        Load.together(cable, Load(ohm, stage.input_pf * 1e-12)) for ohm in stage.impedances_ohm
    ]
    apart = [closeness_db(circuit, load, wanted) for load in loads]
    best = int(np.argmin(apart)) if apart else -1
    return tuple(
        ImpedanceChoice(ohm, analyse(circuit, load), distance, index == best)
        for index, (ohm, load, distance) in enumerate(
            zip(stage.impedances_ohm, loads, apart, strict=True)
        )
    )


@dataclass(frozen=True)
class Mend:
    """A way to bring a fixed input closer to the reference, and how close it gets."""

    what: str
    apart_db: float


def mend_input(instrument: Instrument, load: Load, reference: Load) -> tuple[float, list[Mend]]:
    """How far a fixed input is from a reference, and what would mend it, best first."""
    circuit = instrument.circuit()
    cable = instrument.cable
    wanted = Load.together(cable, reference)
    now = closeness_db(circuit, Load.together(cable, load), wanted)
    short = Load(farad=1.0 * instrument.cable_pf_per_m * 1e-12)
    ways = [
        Mend("a cable of 1 m", closeness_db(circuit, Load.together(short, load), wanted)),
        Mend(
            "the input's instrument switch (1 M)",
            closeness_db(circuit, Load.together(cable, Load(1e6, load.farad)), wanted),
        ),
        Mend(
            "an active DI (10 M) or a buffer at the instrument",
            _buffered_apart(circuit, instrument, wanted),
        ),
    ]
    ways = [way for way in ways if way.apart_db < now - 0.1]
    return now, sorted(ways, key=lambda way: way.apart_db)


def _buffered_apart(circuit: InstrumentCircuit, instrument: Instrument, wanted: Load) -> float:
    """A buffer near the instrument: half a metre of cable and 10 M, then nothing matters."""
    near = Load(10e6, 0.5 * instrument.cable_pf_per_m * 1e-12)
    return closeness_db(circuit, near, wanted)


def loading_curves(instrument: Instrument, loads: Sequence[Load], freqs_hz: Real) -> Real:
    """Level over frequency at each load, dB re EMF, one row per load."""
    return curves_db(instrument.circuit(), loads, freqs_hz)


# --- strength ------------------------------------------------------------------------


def read_strength(source: AudioSource, channel: int = 0, seconds: float = 120.0) -> Strength:
    """Strength of a file's channel (its first two minutes)."""
    samples = read_mono(source, channel=channel, count=int(seconds * source.rate_hz))
    return measure_strength(samples, float(source.rate_hz))


def record_strength(
    backend: AudioBackend,
    rate_hz: int,
    seconds: float,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> Strength:
    """Record some seconds of strumming through a stream's first input and measure them."""
    cancel = cancel or CancelToken()
    total = int(seconds * rate_hz)
    kept: list[NDArray[np.float32]] = []
    failure: list[BaseException] = []

    def callback(
        inputs: Block, outputs: Block, frames: int, time: BlockTime, status: BlockStatus
    ) -> bool:
        try:
            cancel.check()
            kept.append(inputs[:, 0].astype(np.float32))
            done = time.frame + frames
            progress(min(1.0, done / total), "Recording the strums")
            return done < total
        except BaseException as error:
            failure.append(error)
            return False

    backend.open(StreamSpec(rate_hz, 1024), callback).run()
    if failure:
        raise failure[0]
    return measure_strength(np.concatenate(kept)[:total], float(rate_hz))


def strength_reading(
    found: Strength, position_id: str, label: str, made_at: str, full_scale_dbu: float | None
) -> StrengthReading:
    """A measured strength as it is kept with an instrument."""
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
        full_scale_dbu=full_scale_dbu,
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
        if reading.spread_db is not None and reading.spread_db > 3.0:
            words.append(
                f"{reading.label}: the strums differ by {reading.spread_db:.1f} dB; strum evenly"
            )
    levels = [r.peak_dbu for r in here if r.peak_dbu is not None and not r.clipped_samples]
    if len(levels) > 1 and max(levels) - min(levels) > 3.0:
        words.append(f"the readings differ by {max(levels) - min(levels):.1f} dB; repeat them")
    return words


# --- one trim each -------------------------------------------------------------------


@dataclass(frozen=True)
class TrimRow:
    """One instrument at the tone stage.

    `plain_dbfs` is its peak with trim 0 (the pad as it is set), `peak_dbfs` with the trim,
    `left_over_db` what is missing to the target (negative: above it), `drive_db` how much
    harder than the reference instrument it drives the tone stage, as it is trimmed.
    """

    instrument_id: str
    name: str
    plain_dbfs: float | None
    trim_db: float
    peak_dbfs: float | None
    left_over_db: float | None
    drive_db: float | None
    plain_drive_db: float | None
    keep_hot: bool
    reason: str


def stage_peak_dbfs(instrument: Instrument, stage: ToneStage) -> float | None:
    """Peak of an instrument in the tone stage with trim 0; None without a calibrated reading."""
    reading = instrument.reading
    if reading is None or reading.peak_dbu is None:
        return None
    peak_dbu = reading.peak_dbu
    if instrument.max_dbu is not None:
        peak_dbu = min(peak_dbu, instrument.max_dbu)
    return peak_dbu - (stage.pad_db if stage.pad_on else 0.0) - stage.full_scale_dbu


def trim_rows(session: Session) -> tuple[TrimRow, ...]:
    """All instruments side by side, as they are trimmed now."""
    stage, target = session.tone_stage, session.target_peak_dbfs
    plain = {i.id: stage_peak_dbfs(i, stage) for i in session.instruments}
    reference = _reference(session)
    reference_plain = plain.get(reference.id) if reference else None
    rows = []
    for instrument in session.instruments:
        own = plain[instrument.id]
        peak = None if own is None else own + instrument.trim_db
        drive = plain_drive = None
        if peak is not None and own is not None and reference and reference_plain is not None:
            drive = peak - (reference_plain + reference.trim_db)
            plain_drive = own - reference_plain
        rows.append(
            TrimRow(
                instrument_id=instrument.id,
                name=instrument.name,
                plain_dbfs=own,
                trim_db=instrument.trim_db,
                peak_dbfs=peak,
                left_over_db=None if peak is None else target - peak,
                drive_db=drive,
                plain_drive_db=plain_drive,
                keep_hot=instrument.keep_hot,
                reason=_missing(instrument) if own is None else "",
            )
        )
    return tuple(rows)


def _missing(instrument: Instrument) -> str:
    if instrument.reading is None:
        return "not measured yet"
    return "measured without a calibration"


def _reference(session: Session) -> Instrument | None:
    chosen = next((i for i in session.instruments if i.id == session.reference_instrument), None)
    return chosen or (session.instruments[0] if session.instruments else None)


def solve_trims(session: Session) -> dict[str, float]:
    """The trim of every instrument that brings its peak closest to the target.

    One that is kept hot on purpose keeps its trim, one without a reading too.
    """
    stage = session.tone_stage
    solved = {}
    for row in trim_rows(session):
        if row.plain_dbfs is None or row.keep_hot:
            continue
        solved[row.instrument_id] = stage.nearest_trim(session.target_peak_dbfs - row.plain_dbfs)
    return solved


def trims_csv(session: Session) -> str:
    """One profile per instrument, named after it, for a sheet."""
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    stage = session.tone_stage
    table.writerow(
        ["profile", "position", "tone stage", "trim dB", "pad", "peak dBFS", "left over dB",
         "drive dB", "drive at trim 0 dB", "stays hot"]
    )  # fmt: skip
    for row in trim_rows(session):
        instrument = session.instrument(row.instrument_id)
        position = instrument.position
        figures = (row.peak_dbfs, row.left_over_db, row.drive_db, row.plain_drive_db)
        table.writerow(
            [row.name, position.name if position else "", stage.name, f"{row.trim_db:g}",
             f"-{stage.pad_db:g} dB" if stage.pad_on else "off",
             *("" if f is None else f"{f:.1f}" for f in figures), "yes" if row.keep_hot else "no"]
        )  # fmt: skip
    return text.getvalue()


# --- the pad question ----------------------------------------------------------------


@dataclass(frozen=True)
class DriveChange:
    """How another setup drives a tone, against the one that it was made with.

    `drive_db` is positive when it is driven harder; `trim_db` is the trim that would bring
    the same drive, `left_over_db` what that leaves. `drive_knob` is the tone's drive control
    at which its preamplifier has that much less gain instead (0 to 10; None out of reach).
    """

    drive_db: float
    trim_db: float
    left_over_db: float
    drive_knob: float | None
    made_with: str
    used_with: str


def drive_change(session: Session, tone: Tone, instrument: Instrument) -> DriveChange:
    """How hard an instrument, with its trim and the pad as set, drives a tone.

    Raises RefusedError ("not_measured") where one of the two has no calibrated strength.
    """
    stage = session.tone_stage
    maker = session.instrument(tone.instrument_id)
    made = stage.model_copy(update={"pad_on": tone.pad_on})
    then, now = stage_peak_dbfs(maker, made), stage_peak_dbfs(instrument, stage)
    for one, level in ((maker, then), (instrument, now)):
        if level is None:
            raise RefusedError(
                "not_measured",
                f"{one.name} is {_missing(one)}.",
                remedy="Measure its strength with a calibrated input first.",
            )
    assert then is not None
    assert now is not None
    wanted = then + tone.trim_db
    drive = now + instrument.trim_db - wanted
    trim = stage.nearest_trim(wanted - now)
    return DriveChange(
        drive_db=drive,
        trim_db=trim,
        left_over_db=wanted - (now + trim),
        drive_knob=_same_gain_knob(tone, drive),
        made_with=setup_words(maker.name, tone.trim_db, tone.pad_on, stage.pad_db),
        used_with=setup_words(instrument.name, instrument.trim_db, stage.pad_on, stage.pad_db),
    )


def _same_gain_knob(tone: Tone, drive_db: float) -> float | None:
    voice = VOICES.get(tone.voice)
    if voice is None:
        return None
    knob = tone.drive - 10.0 * drive_db / voice.drive_span_db
    return knob if 0.0 <= knob <= 10.0 else None


def setup_words(name: str, trim_db: float, pad_on: bool, pad_db: float) -> str:
    """A setup in a few words."""
    pad = f"pad on (\N{MINUS SIGN}{pad_db:g} dB)" if pad_on else "pad off"
    sign = "\N{MINUS SIGN}" if trim_db < 0.0 else "+" if trim_db > 0.0 else ""
    return f"{name}, trim {sign}{abs(trim_db):g} dB, {pad}"


def matching_tone(session: Session, rig: Rig) -> Tone | None:
    """The kept tone that a rig's amplifier and cabinet are set to, if there is one."""
    amp = next((d for d in rig.devices if d.kind == "amp"), None)
    box = next((d for d in rig.devices if d.kind == "load_box"), None)
    if amp is None or box is None:
        return None
    now = (amp.word("voice"), *(amp.number(k) for k in ("drive", "bass", "mid", "treble")),
           box.word("cabinet"))  # fmt: skip
    for tone in session.tones:
        kept = (tone.voice, tone.drive, tone.bass, tone.mid, tone.treble, tone.cabinet)
        if kept == now:
            return tone
    return None


def tone_settings(tone: Tone) -> AmpSettings:
    """The amplifier's positions of a tone."""
    return AmpSettings(tone.voice, tone.drive, tone.bass, tone.mid, tone.treble, tone.master_db)


def make_up_db(
    di: NDArray[np.floating],
    rate_hz: float,
    full_scale_dbu: float,
    tone: Tone,
    drive_db: float,
    cancel: CancelToken | None = None,
) -> float:
    """Gain behind a tone that brings its loudness back after the drive changed, in dB.

    Measured: the DI (digital, its full scale in dBu) through the stand-in amplifier and
    cabinet as it is and at the other drive, loudness after BS.1770. Positive where the
    other drive is quieter.
    """
    check = (cancel or CancelToken()).check
    volts = np.asarray(di, dtype=np.float64) * dbu_to_peak_volt(full_scale_dbu)
    taps = cabinet_taps(tone.cabinet, rate_hz) if tone.cabinet in CABINETS else np.ones(1)
    heard = []
    for change in (0.0, drive_db):
        check()
        driven = drive_signal(volts * db_to_gain(change), tone_settings(tone), rate_hz)
        meter = LoudnessMeter(rate_hz, 1)
        meter.add(convolve_long(driven / 100.0, taps)[: volts.size])
        heard.append(meter.reading().lufs)
    if not all(math.isfinite(value) for value in heard):
        raise RefusedError("silent", "The DI is silent.", remedy="Choose a take with sound.")
    return heard[0] - heard[1]


@dataclass(frozen=True)
class VolumeRoll:
    """Turning the guitar down instead: the knob, and what it does to the treble at 5 kHz.

    `treble_db` is the change at 5 kHz on top of the change at 1 kHz.
    """

    knob: float
    level_db: float
    treble_db: float
    resonance_hz: float | None


def roll_volume(instrument: Instrument, load: Load, cut_db: float) -> VolumeRoll:
    """The volume knob at which the level at 1 kHz is `cut_db` lower, and its side effect.

    Raises RefusedError where the instrument has no volume pot or cannot go that low.
    """
    controls = instrument.controls
    if controls.volume_ohm is None:
        raise RefusedError("no_volume", f"{instrument.name} has no volume pot.")
    whole = Load.together(instrument.cable, load)

    def at(knob: float, hz: float) -> float:
        turned = controls.model_copy(update={"volume_knob": knob})
        return level_db(instrument.circuit(turned), whole, hz)

    full = at(controls.volume_knob, 1000.0)
    low, high = 0.0, controls.volume_knob
    if cut_db < 0.0 or full - at(0.01, 1000.0) < cut_db:
        raise RefusedError("impossible", f"The knob does not change the level by {cut_db:g} dB.")
    for _ in range(50):
        middle = 0.5 * (low + high)
        if full - at(middle, 1000.0) > cut_db:
            low = middle
        else:
            high = middle
    knob = 0.5 * (low + high)
    treble = (at(knob, 5000.0) - at(controls.volume_knob, 5000.0)) - (at(knob, 1000.0) - full)
    turned = controls.model_copy(update={"volume_knob": knob})
    return VolumeRoll(
        knob=knob,
        level_db=at(knob, 1000.0) - full,
        treble_db=treble,
        resonance_hz=analyse(instrument.circuit(turned), whole).resonance_hz,
    )
