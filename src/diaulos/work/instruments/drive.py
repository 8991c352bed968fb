"""How much harder another setup drives a tone, and what brings the loudness back."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, analyse, curves_db, level_db
from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.rig.model import AmpStage, Device, Rig
from diaulos.session.instrument import Instrument, Tone, ToneStage
from diaulos.session.model import Session, Take
from diaulos.session.roles import reamp_rig, recording_rig
from diaulos.session.tone_stage import stage_of
from diaulos.signal.amp import VOICES, AmpSettings, drive_signal
from diaulos.signal.cabinet import CABINETS, cabinet_taps
from diaulos.signal.convolve import convolve_long
from diaulos.signal.loudness import LoudnessMeter
from diaulos.units import db_to_gain, dbu_to_peak_volt
from diaulos.work.instruments.trims import missing_words, stage_peak_dbfs
from diaulos.work.ports import (
    CancelToken,
)

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
    stage = stage_of(session)
    made_by, then = _made_peak_dbfs(session, tone, stage)
    now = stage_peak_dbfs(instrument, stage)
    if now is None:
        raise _not_measured(instrument.name, missing_words(instrument))
    wanted = then + tone.trim_db
    drive = now + instrument.trim_db - wanted
    trim = stage.nearest_trim(wanted - now)
    return DriveChange(
        drive_db=drive,
        trim_db=trim,
        left_over_db=wanted - (now + trim),
        drive_knob=_same_gain_knob(tone, drive),
        made_with=setup_words(
            made_by, tone.trim_db, tone.pad_on, stage.pad_db if tone.pad_db is None else tone.pad_db
        ),
        used_with=setup_words(instrument.name, instrument.trim_db, stage.pad_on, stage.pad_db),
    )


def _made_peak_dbfs(session: Session, tone: Tone, stage: ToneStage) -> tuple[str, float]:
    """Who a tone was made with, and the peak that came to the stage then, its trim left out: as
    the tone remembers it, else as the instrument is measured now."""
    maker = next((one for one in session.instruments if one.id == tone.instrument_id), None)
    name = maker.name if maker is not None else tone.instrument_name or "another instrument"
    pad_db = stage.pad_db if tone.pad_db is None else tone.pad_db
    if tone.peak_dbu is not None:
        return name, tone.peak_dbu - (pad_db if tone.pad_on else 0.0) - stage.full_scale_dbu
    if maker is None:
        raise _not_measured(name, "not in this session, and the tone does not say how strong it is")
    made = stage.model_copy(update={"pad_on": tone.pad_on, "pad_db": pad_db})
    peak = stage_peak_dbfs(maker, made)
    if peak is None:
        raise _not_measured(maker.name, missing_words(maker))
    return name, peak


def _not_measured(name: str, why: str) -> RefusedError:
    return RefusedError(
        "not_measured",
        f"{name} is {why}.",
        remedy="Measure its strength with a calibrated input first.",
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


@dataclass(frozen=True)
class RigTone:
    """The tone that a rig is set to: its amplifier, a modeler's as well as a real one, and the
    cabinet that is heard with it."""

    device: str
    voice: str
    drive: float
    bass: float
    mid: float
    treble: float
    master_db: float
    cabinet: str

    def kept(self, ident: str, name: str, instrument: Instrument, stage: ToneStage) -> Tone:
        """As a tone that remembers the instrument, its trim, the pad and the input."""
        position = instrument.position
        pickup = instrument.pickup(position.pickups[0]) if position else None
        reading = instrument.reading
        return Tone(
            id=ident, name=name, voice=self.voice, drive=self.drive, bass=self.bass,
            mid=self.mid, treble=self.treble, master_db=self.master_db, cabinet=self.cabinet,
            instrument_id=instrument.id, trim_db=instrument.trim_db, pad_on=stage.pad_on,
            pad_db=stage.pad_db, instrument_name=instrument.name,
            peak_dbu=None if reading is None or reading.peak_dbu is None
            else reading.peak_dbu + instrument.turned_db,
            pickup=pickup.type if pickup else "", input_ohm=stage.impedance_ohm,
        )  # fmt: skip


def tone_of(rig: Rig) -> RigTone | None:
    """The tone of a rig's first amplifier or modeler; None where it has neither, or the model
    is off and no amplifier stands in its place."""
    amp = next((device for device in rig.devices if _sounds(device)), None)
    if amp is None:
        return None
    boxes = (amp, *(d for d in rig.devices if d is not amp))
    cabinet = next((d.word("cabinet") for d in boxes if d.has_setting("cabinet")), "none")
    bass, mid, treble = (amp.number(name) for name in ("bass", "mid", "treble"))
    return RigTone(
        amp.name, amp.word("voice"), amp.number("drive"), bass, mid, treble,
        amp.number("master"), cabinet,
    )  # fmt: skip


def _sounds(device: Device) -> bool:
    return any(isinstance(stage, AmpStage) for path in device.live_paths for stage in path.stages)


def rig_with_tone(session: Session) -> Rig | None:
    """The rig whose tone is kept: the reamp rig, else the recording rig, whichever has one."""
    if not session.rigs:
        return None
    rigs = (reamp_rig(session), recording_rig(session))
    return next((rig for rig in rigs if tone_of(rig) is not None), None)


def matching_tone(session: Session, rig: Rig) -> Tone | None:
    """The kept tone that a rig's amplifier and cabinet are set to, if there is one."""
    found = tone_of(rig)
    if found is None:
        return None
    now = (found.voice, found.drive, found.bass, found.mid, found.treble, found.cabinet)
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
    ahead_db: float,
    drive_db: float,
    cancel: CancelToken | None = None,
) -> float:
    """Gain behind a tone that brings its loudness back after the drive changed, in dB.

    Measured: the DI (digital, its full scale in dBu) through the stand-in amplifier and
    cabinet with what stands ahead of it now (`ahead_db`: the trim less the pad), and with what
    made the tone, `drive_db` less than that; loudness after BS.1770. Positive where it is
    quieter now.
    """
    check = (cancel or CancelToken()).check
    volts = np.asarray(di, dtype=np.float64) * dbu_to_peak_volt(full_scale_dbu + ahead_db)
    taps = cabinet_taps(tone.cabinet, rate_hz) if tone.cabinet in CABINETS else np.ones(1)
    heard = []
    for change in (-drive_db, 0.0):
        check()
        driven = drive_signal(volts * db_to_gain(change), tone_settings(tone), rate_hz)
        meter = LoudnessMeter(rate_hz, 1)
        meter.add(convolve_long(driven / 100.0, taps)[: volts.size])
        heard.append(meter.reading().lufs)
    if not all(math.isfinite(value) for value in heard):
        raise RefusedError("silent", "The DI is silent.", remedy="Choose a take with sound.")
    return heard[0] - heard[1]


def stronger_db(session: Session, instrument: Instrument, take: Take) -> float:
    """How much stronger an instrument is than the one that a take was played on, where both are
    measured and are not the same; else 0."""
    other = next((one for one in session.instruments if one.id == take.instrument_id), None)
    stage = stage_of(session)
    if other is None or other.id == instrument.id:
        return 0.0
    there, here = stage_peak_dbfs(other, stage), stage_peak_dbfs(instrument, stage)
    return 0.0 if there is None or here is None else here - there


@dataclass(frozen=True)
class VolumeRoll:
    """Turning the guitar down instead: the knob, and what it does to the treble.

    `treble_db` is the mean change from 2 to 6 kHz on top of the change at 1 kHz; `curve_db` the
    same at each of `freqs_hz`.
    """

    knob: float
    level_db: float
    treble_db: float
    resonance_hz: float | None
    freqs_hz: tuple[float, ...] = ()
    curve_db: tuple[float, ...] = ()


ROLL_HZ = np.geomspace(80.0, 10_000.0, 97)
_TREBLE_HZ = np.geomspace(2_000.0, 6_000.0, 25)


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
    turned = controls.model_copy(update={"volume_knob": knob})
    change = at(knob, 1000.0) - full
    before, after = (
        curves_db(instrument.circuit(c), [whole], np.append(ROLL_HZ, _TREBLE_HZ))[0]
        for c in (controls, turned)
    )
    curve = after - before - change
    treble = float(np.mean(curve[ROLL_HZ.size :]))
    return VolumeRoll(
        knob=knob,
        level_db=change,
        treble_db=treble,
        freqs_hz=tuple(float(f) for f in ROLL_HZ),
        curve_db=tuple(float(db) for db in curve[: ROLL_HZ.size]),
        resonance_hz=analyse(instrument.circuit(turned), whole).resonance_hz,
    )
