"""The tone stage: the recording rig's device whose input has a trim, and the instrument in it.

There is one value of the trim. The device has it while an instrument is plugged in, every
instrument keeps its own as a profile, and whichever of the two is changed takes the other with
it (`settled`, which every edit goes through). A rig without such a device has no trim to turn;
then the figures that are typed in the session stand for the stage.
"""

from __future__ import annotations

from typing import Literal

from diaulos.errors import EditError, RigError
from diaulos.records import dataclass
from diaulos.rig.changes import named
from diaulos.rig.model import Choice, Device, PortRef, Rig
from diaulos.rig.plan import full_scale_dbu
from diaulos.rig.printed import with_maximum, with_range
from diaulos.rig.tone_place import TRIM, TonePlace, tone_place
from diaulos.session.instrument import Instrument, ToneStage
from diaulos.session.model import Session, TrimSaid
from diaulos.session.roles import recording_rig

TrimState = Literal["", "confirmed", "not set", "assumed"]


@dataclass(frozen=True)
class Placed:
    """The tone stage's place in the recording rig."""

    rig: Rig
    place: TonePlace

    @property
    def key(self) -> tuple[str, str, str]:
        """Which trim it is, and whose."""
        return self.rig.id, self.place.device.id, self.place.instrument_id


def placed(session: Session) -> Placed | None:
    """The recording rig's tone stage; None where it has no device with an input trim."""
    if not session.rigs:
        return None
    rig = recording_rig(session)
    place = tone_place(rig)
    return Placed(rig, place) if place is not None else None


def stage_of(session: Session) -> ToneStage:
    """The tone stage as figures: those of the recording rig's device, else the session's own.

    `full_scale_dbu` is the sine that reaches 0 dBFS with trim 0 and the pad off, whatever
    stands now; the impedances are those that its input can have.
    """
    found = placed(session)
    return session.tone_stage if found is None else _figures(found.place, session.tone_stage)


def _figures(place: TonePlace, own: ToneStage) -> ToneStage:
    device, trim, pad = place.device, place.trim, place.pad
    plain = device
    if pad is not None:
        plain = _at(plain, pad[0], _out_of(device, pad[0], pad[1]))
    converter = place.converter
    port = next(p for p in device.ports if p.id == place.entry.id)
    ohms = {m.impedance_ohm for m in port.modes if m.impedance_ohm is not None}
    return own.model_copy(
        update={
            "name": device.name,
            "trim_minimum_db": trim.minimum,
            "trim_maximum_db": trim.maximum,
            "trim_step_db": trim.step,
            "full_scale_dbu": (
                own.full_scale_dbu if converter is None else full_scale_dbu(converter, plain)
            ),
            "pad_db": pad[2].db if pad else 0.0,
            "pad_on": place.pad_on,
            "impedances_ohm": tuple(sorted(ohms | {port.impedance_ohm})),
            "impedance_ohm": place.entry.impedance_ohm,
            "input_pf": place.entry.capacitance_pf,
        }
    )


def _at(device: Device, setting: str, value: str) -> Device:
    return device.with_setting(setting, value) if value else device


def _out_of(device: Device, setting: str, word: str) -> str:
    """The other position of a switch."""
    choice = device.setting(setting)
    assert isinstance(choice, Choice)
    return next((option for option, _ in choice.options if option != word), "")


def change_stage(session: Session, values: dict[str, object]) -> Session:
    """The session with another tone stage: the recording rig's device is renamed, switched and
    typed anew. Raises EditError for what that device does not have."""
    found = placed(session)
    if found is None:
        raise EditError("The recording rig has no device with an input trim.")
    place, rig = found.place, found.rig
    device = place.device
    try:
        for name, value in values.items():
            device = _changed(device, place, name, value)
        rig = Rig.model_validate({**dict(rig), "devices": rig.with_device(device).devices})
    except RigError as error:
        raise EditError(error.what, remedy=error.remedy) from error
    return _with_rig(session, rig)


def _changed(device: Device, place: TonePlace, name: str, value: object) -> Device:
    pad = place.pad
    if name == "name":
        return named(device, str(value))
    if name == "pad_on" and pad is not None:
        word = pad[1] if value else _out_of(device, pad[0], pad[1])
        return device.with_setting(pad[0], word)
    if name == "impedance_ohm" and isinstance(value, (int, float)):
        return _with_impedance(device, place, float(value))
    if name == "trim_step_db" and isinstance(value, (int, float)):
        trim = place.trim
        return with_range(
            device, TRIM, minimum=trim.minimum, maximum=trim.maximum, step=float(value)
        )
    if name == "full_scale_dbu" and isinstance(value, (int, float)):
        return with_maximum(device, place.entry.id, float(value))
    raise EditError(f"{device.name} has no {name} of that kind.", remedy="Change it in Rig.")


def _with_impedance(device: Device, place: TonePlace, ohm: float) -> Device:
    """The switch position that gives this impedance at the input."""
    port = next(p for p in device.ports if p.id == place.entry.id)
    names = {name for m in port.modes if m.impedance_ohm is not None for name, _ in m.when}
    for name in names:
        choice = device.setting(name)
        if not isinstance(choice, Choice):
            continue
        for word, _ in choice.options:
            tried = device.with_setting(name, word)
            if abs(tried.port(port.id).impedance_ohm - ohm) < 1e-6 * ohm:
                return tried
    raise EditError(
        f"{device.name} has no input impedance of {ohm:g} ohm.",
        remedy="Choose one of those that its switch has.",
    )


def _with_rig(session: Session, rig: Rig) -> Session:
    rigs = tuple(rig if one.id == rig.id else one for one in session.rigs)
    return session.model_copy(update={"rigs": rigs})


def _with_trim(session: Session, instrument_id: str, trim_db: float) -> Session:
    instruments = tuple(
        one.model_copy(update={"trim_db": trim_db}) if one.id == instrument_id else one
        for one in session.instruments
    )
    return session.model_copy(update={"instruments": instruments})


def settled(before: Session, after: Session) -> Session:
    """The session with device and instrument of one mind about the trim.

    Where the device's trim was turned the instrument remembers it; where anything else changed
    (the instrument's own trim, which instrument is plugged in, which rig records) the device
    is set to the instrument's, in the device's own steps.
    """
    same = all(
        getattr(before, name) is getattr(after, name)
        for name in ("rigs", "instruments", "recording_rig", "current_rig")
    )
    now = None if same else placed(after)
    if now is None:
        return after
    instrument = _plugged(after, now)
    if instrument is None or instrument.trim_db == now.place.trim.value:
        return after
    then = placed(before)
    was = _plugged(before, then) if then is not None else None
    if (
        then is not None
        and then.key == now.key
        and then.place.trim.value != now.place.trim.value
        and was is not None
        and was.trim_db == instrument.trim_db
    ):
        return _with_trim(after, instrument.id, now.place.trim.value)
    value = now.place.trim.nearest(instrument.trim_db)
    rig = now.rig.with_setting(now.place.device.id, TRIM, value)
    return _with_trim(_with_rig(after, rig), instrument.id, value)


def _plugged(session: Session, found: Placed) -> Instrument | None:
    wanted = found.place.instrument_id
    return next((one for one in session.instruments if one.id == wanted), None)


def plug_in(session: Session, instrument_id: str) -> Session:
    """The instrument in hand: the recording rig's instrument at the tone stage stands for it
    and takes its name, and the trim follows. In a rig without a tone stage it is the rig's
    first instrument. Raises EditError where there is none."""
    instrument = session.instrument(instrument_id)
    rig, device = _hand(session)
    if device is None:
        raise EditError(
            f"The rig {rig.name} has no instrument to choose.",
            remedy="Add one in Rig and plug it in.",
        )
    device = named(device.with_setting("instrument", instrument.id), instrument.name)
    return _with_rig(session, rig.with_device(device))


def in_hand(session: Session) -> str:
    """Id of the instrument that is plugged into the recording rig; "" while nobody said."""
    if not session.rigs:
        return ""
    _, device = _hand(session)
    ident = device.word("instrument") if device is not None else ""
    return ident if any(one.id == ident for one in session.instruments) else ""


def _hand(session: Session) -> tuple[Rig, Device | None]:
    """The recording rig, and its device that stands for the instrument in hand."""
    rig = recording_rig(session)
    place = tone_place(rig)
    if place is not None and place.source is not None:
        if place.source.has_setting("instrument"):
            return rig, place.source
    planned = {track.source for track in rig.tracks}
    choosable = [d for d in rig.devices if d.kind == "instrument" and d.has_setting("instrument")]
    choosable.sort(key=lambda device: device.id not in planned)
    return rig, choosable[0] if choosable else None


# --- what a hand has to set ---


@dataclass(frozen=True)
class TrimTask:
    """What has to be set by hand on a real device: nothing turns by itself there."""

    device: str
    trim_db: float
    pad_on: bool | None
    state: TrimState

    @property
    def words(self) -> str:
        """For a person."""
        sign = "\N{MINUS SIGN}" if self.trim_db < 0.0 else "+" if self.trim_db > 0.0 else ""
        pad = "" if self.pad_on is None else f", pad {'on' if self.pad_on else 'off'}"
        return f"Set trim {sign}{abs(self.trim_db):g} dB{pad} on {self.device}"


def trim_task(session: Session, rig: Rig | None = None) -> TrimTask | None:
    """What the tone stage of a rig (the recording rig) has to be set to, and whether somebody
    said that it is: "confirmed", "not set", or "assumed" while nobody said. None where the rig
    has none."""
    found = placed(session)
    if rig is not None:
        place = tone_place(rig)
        found = Placed(rig, place) if place is not None else None
    if found is None:
        return None
    pad = found.place.pad
    wanted = _said(found, True)
    said = session.trim_said
    state: TrimState = "assumed"
    if said is not None and said.model_copy(update={"done": True}) == wanted:
        state = "confirmed" if said.done else "not set"
    device = found.place.device
    on = None if pad is None else found.place.pad_on
    return TrimTask(device.name, found.place.trim.value, on, state)


def trim_state(session: Session, rig: Rig) -> TrimState:
    """What is known of a rig's trim; "" where it has none."""
    task = trim_task(session, rig)
    return task.state if task is not None else ""


def say_trim(session: Session, done: bool) -> Session:
    """Somebody said that the tone stage stands as the rig says, or that it does not."""
    found = placed(session)
    if found is None:
        raise EditError("The recording rig has no device with an input trim.")
    return session.model_copy(update={"trim_said": _said(found, done)})


def _said(found: Placed, done: bool) -> TrimSaid:
    place = found.place
    pad = place.pad
    return TrimSaid(
        device=PortRef(device=place.device.id, port=place.entry.id),
        trim_db=place.trim.value,
        pad=place.device.word(pad[0]) if pad else "",
        done=done,
    )
