"""How much harder another setup drives a tone, and what brings the loudness back."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from diaulos.circuit.loading import Load, analyse, level_db
from diaulos.errors import RefusedError
from diaulos.rig.model import Rig
from diaulos.session.instrument import Instrument, Tone
from diaulos.session.model import Session
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
    maker = session.instrument(tone.instrument_id)
    made = stage.model_copy(update={"pad_on": tone.pad_on})
    then, now = stage_peak_dbfs(maker, made), stage_peak_dbfs(instrument, stage)
    for one, level in ((maker, then), (instrument, now)):
        if level is None:
            raise RefusedError(
                "not_measured",
                f"{one.name} is {missing_words(one)}.",
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
