"""Edits: functions from session to session.

An edit is applied to the session of the moment, which may have moved on since it was
made; what it belongs to may be gone, and then it raises EditError and changes nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TypeVar

from pydantic import ValidationError

from diaulos.errors import EditError
from diaulos.records import dataclass
from diaulos.rig.model import (
    SOFTWARE,
    Choice,
    Device,
    DeviceMap,
    Frozen,
    PortRef,
    Rig,
    RigState,
    StateSwitch,
    Tie,
)
from diaulos.rig.states import reamps, set_in_state, with_switch
from diaulos.session.instrument import ComparedInput, StrengthReading, Tone
from diaulos.session.model import (
    Against,
    BinItem,
    CabinetLater,
    Heard,
    Impulse,
    Instrument,
    LoopCheck,
    MatchRecord,
    Pass,
    Return,
    Session,
    SheetChoice,
    Take,
    rig_hash,
)
from diaulos.session.noise_check import NoiseCheck
from diaulos.session.practices import Practice
from diaulos.session.roles import records
from diaulos.session.tone_stage import change_stage, placed, plug_in, say_trim, settled


@dataclass(frozen=True)
class Edit:
    """A change with the words that undo shows for it.

    Behind every change stands `tone_stage.settled`: one value of the trim, whoever turned it.
    """

    label: str
    change: Callable[[Session], Session]

    def __call__(self, session: Session) -> Session:
        return settled(session, self.change(session))


def _replace_take(session: Session, take: Take) -> Session:
    session.take(take.id)
    takes = tuple(take if t.id == take.id else t for t in session.takes)
    return session.model_copy(update={"takes": takes})


def _checked(session: Session) -> Session:
    """`model_copy` does not validate; a whole session is checked where values came in."""
    return Session.model_validate(session.model_dump())


def add_take(take: Take) -> Edit:
    """A new take at the end of the list."""

    def change(session: Session) -> Session:
        if any(t.id == take.id for t in session.takes):
            raise EditError(f"There is already a take {take.id}.")
        return session.model_copy(update={"takes": (*session.takes, take)})

    return Edit(f"Add take {take.name}", change)


def add_pass(take_id: str, new: Pass, rig: Rig) -> Edit:
    """A new pass of a take, with the rig as it was."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        if any(p.id == new.id for p in take.passes):
            raise EditError(f"{take.name} already has a pass {new.id}.")
        placed = _placed(take, new)
        take = take.model_copy(update={"passes": (*take.passes, placed)})
        session = _replace_take(session, take)
        snapshots = {**session.snapshots, rig_hash(rig): rig}
        apart = {
            one.file: Heard(pan=-1.0 if one.side == "left" else 1.0)
            for one in new.returns
            if one.side
        }
        return session.model_copy(update={"snapshots": snapshots, "mix": {**session.mix, **apart}})

    return Edit(f"Reamp {new.name}", change)


def _placed(take: Take, new: Pass) -> Pass:
    """A pass that keeps to the take's reference of the moment, which may have changed since it
    was begun."""

    track = take.reference_track
    reference = track.id if track is not None else ""

    def against(one: Return) -> Against | None:
        if not take.reference and reference in ("", new.track_id):
            return None
        known = one.against is not None and one.against.track_id == reference
        return one.against if known else _unmeasured(reference)

    return _with_returns(new, lambda one: {"against": against(one)})


def _with_returns(old: Pass, update: Callable[[Return], dict[str, object]]) -> Pass:
    """A pass with something of each return changed."""
    returns = tuple(one.model_copy(update=update(one)) for one in old.returns)
    return old.model_copy(update={"returns": returns})


def _unmeasured(track_id: str) -> Against:
    """What stands for a pass that nobody measured against the reference."""
    refused = "Not measured against it yet: choose the reference again."
    return Against(track_id=track_id, refused=refused)


def arm(rig_id: str, ports: Sequence[PortRef], on: bool) -> Edit:
    """Planned tracks of a rig that are recorded from now on, or are not."""

    def change(session: Session) -> Session:
        rig = session.rig(rig_id)
        off = [one for one in session.disarmed.get(rig.id, ()) if one not in ports]
        off += [] if on else list(ports)
        disarmed = {key: value for key, value in session.disarmed.items() if key != rig.id}
        if off:
            disarmed[rig.id] = tuple(off)
        return session.model_copy(update={"disarmed": disarmed})

    return Edit("Arm" if on else "Disarm", change)


def choose_sent(take_id: str, track_id: str) -> Edit:
    """The track that a take's reamps send: its dry DI, or the one behind pedals."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        track = take.track(track_id)
        if track not in take.sendable:
            raise EditError(f"{track.name} is no DI: it cannot be sent to an amplifier.")
        return _replace_take(session, take.model_copy(update={"sends": track.id}))

    return Edit(f"Send {track_id}", change)


def set_reference(take_id: str, track_id: str, against: Mapping[str, Against]) -> Edit:
    """Another track as a take's time and polarity reference ("": its dry DI), and the returns of
    its passes against it, by their files. One that came meanwhile is not in time with it."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        if track_id:
            take.track(track_id)
        take = take.model_copy(update={"reference": track_id})
        track = take.reference_track
        held = track.id if track is not None else ""

        def held_against(made: Pass) -> Pass:
            if held in ("", made.track_id):  # what was sent is its own reference
                return _with_returns(made, lambda _one: {"against": None})
            return _with_returns(
                made, lambda one: {"against": against.get(one.file, _unmeasured(held))}
            )

        passes = tuple(held_against(made) for made in take.passes)
        return _replace_take(session, take.model_copy(update={"passes": passes}))

    return Edit("Choose time reference", change)


def discard_pass(take_id: str, pass_id: str) -> Edit:
    """A pass into the bin; its file stays."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        gone = take.pass_(pass_id)
        rest = tuple(p for p in take.passes if p.id != gone.id)
        session = _replace_take(session, take.model_copy(update={"passes": rest}))
        item = BinItem(take_id=take.id, item=gone)
        return session.model_copy(update={"bin": (*session.bin, item)})

    return Edit("Discard pass", change)


def restore_pass(pass_file: str) -> Edit:
    """A pass out of the bin, by the file of one of its returns, back to its take."""

    def change(session: Session) -> Session:
        item = next((b for b in session.bin if pass_file in b.item.files), None)
        if item is None:
            raise EditError("That pass is no longer in the bin.")
        take = session.take(item.take_id)
        take = take.model_copy(update={"passes": (*take.passes, item.item)})
        session = _replace_take(session, take)
        rest = tuple(b for b in session.bin if b is not item)
        return session.model_copy(update={"bin": rest})

    return Edit("Restore pass", change)


def empty_bin() -> Edit:
    """Forget what is in the bin. Its files are deleted by the store afterwards."""

    def change(session: Session) -> Session:
        gone = session.binned_files()
        mix = {file: heard for file, heard in session.mix.items() if file not in gone}
        return session.model_copy(update={"bin": (), "take_bin": (), "mix": mix})

    return Edit("Empty bin", change)


def put_back(passes: tuple[BinItem, ...], takes: tuple[Take, ...]) -> Edit:
    """What was in the bin is there again, after all: its files could not be deleted."""

    def change(session: Session) -> Session:
        return session.model_copy(
            update={"bin": (*passes, *session.bin), "take_bin": (*takes, *session.take_bin)}
        )

    return Edit("Put the bin back", change)


def _change_pass(label: str, take_id: str, pass_id: str, **update: object) -> Edit:
    def change(session: Session) -> Session:
        take = session.take(take_id)
        old = take.pass_(pass_id)
        new = Pass.model_validate({**old.model_dump(), **update})
        passes = tuple(new if p.id == old.id else p for p in take.passes)
        return _replace_take(session, take.model_copy(update={"passes": passes}))

    return Edit(label, change)


def rename_pass(take_id: str, pass_id: str, name: str) -> Edit:
    """Another name for a pass."""
    return _change_pass("Rename pass", take_id, pass_id, name=name)


def choose_sheet(kind: str, choice: SheetChoice) -> Edit:
    """What goes into the sheets of a kind."""

    def change(session: Session) -> Session:
        return session.model_copy(update={"sheets": {**session.sheets, kind: choice}})

    return Edit("Choose what goes into the sheet", change)


def keep_pass(take_id: str, pass_id: str, keeper: bool) -> Edit:
    """Mark a pass as the one to keep, or take the mark away."""
    label = "Keep pass" if keeper else "Unmark pass"
    return _change_pass(label, take_id, pass_id, keeper=keeper)


def rematch_pass(take_id: str, pass_id: str, matches: Mapping[str, MatchRecord | None]) -> Edit:
    """Another match for returns of a pass, by their files; the files stay as they are."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        old = take.pass_(pass_id)
        new = _with_returns(
            old, lambda one: {"match": matches[one.file]} if one.file in matches else {}
        )
        passes = tuple(new if one.id == old.id else one for one in take.passes)
        return _replace_take(session, take.model_copy(update={"passes": passes}))

    return Edit("Match pass", change)


def set_sample_rate(rate_hz: int) -> Edit:
    """Another sample rate, while nothing is recorded or brought: audio never changes. Devices of
    the rigs that stood at the old rate follow where they have the new one."""

    def change(session: Session) -> Session:
        if session.holds_audio:
            raise EditError(
                f"The session holds audio at {session.sample_rate_hz} Hz.",
                where=session.name,
                remedy=f"Set the device to {session.sample_rate_hz} Hz, or make a new session at "
                f"{rate_hz} Hz and import the takes there: that resamples them.",
            )
        rigs = tuple(_at_rate(rig, session.sample_rate_hz, rate_hz) for rig in session.rigs)
        return _checked(session.model_copy(update={"sample_rate_hz": rate_hz, "rigs": rigs}))

    return Edit(f"Session at {rate_hz} Hz", change)


def _at_rate(rig: Rig, old_hz: int, new_hz: int) -> Rig:
    for device in rig.devices:
        if not device.has_setting("rate") or device.word("rate") != str(old_hz):
            continue
        setting = device.setting("rate")
        if isinstance(setting, Choice) and str(new_hz) in dict(setting.options):
            rig = rig.with_setting(device.id, "rate", str(new_hz))
    return rig


def set_device_setting(
    rig_id: str,
    device_id: str,
    setting_id: str,
    value: float | str,
    state: RigState = "record",
) -> Edit:
    """One control or choice of a device in a rig; in state Reamp alone where it stands otherwise
    there and that is the `state`."""

    def change(session: Session) -> Session:
        rig = set_in_state(session.rig(rig_id), state, device_id, setting_id, value)
        rigs = tuple(rig if r.id == rig.id else r for r in session.rigs)
        return session.model_copy(update={"rigs": rigs})

    return Edit(f"Set {setting_id}", change)


def throw_in_reamp(rig_id: str, switches: tuple[StateSwitch, ...]) -> Edit:
    """Switches that stand so in state Reamp; one that stands so in Record too is none."""

    def change(session: Session) -> Session:
        rig = session.rig(rig_id)
        for one in switches:
            rig = with_switch(rig, one)
        rigs = tuple(rig if r.id == rig.id else r for r in session.rigs)
        return session.model_copy(update={"rigs": rigs})

    return Edit("Set state Reamp", change)


def keep_loop_check(check: LoopCheck, rig: Rig) -> Edit:
    """A loop as it is now is what later checks are held against, with the rig as it was."""

    def change(session: Session) -> Session:
        others = tuple(
            one for one in session.loop_checks
            if (one.rig_name, one.played_by) != (check.rig_name, check.played_by)
        )  # fmt: skip
        return session.model_copy(
            update={
                "loop_checks": (*others, check)[-500:],
                "snapshots": {**session.snapshots, check.rig_hash: rig},
            }
        )

    return Edit("Keep loop check", change)


def keep_noise_check(check: NoiseCheck, rig: Rig) -> Edit:
    """How quiet a rig was at a time, with the rig as it was."""

    def change(session: Session) -> Session:
        return session.model_copy(
            update={
                "noise_checks": (*session.noise_checks, check)[-500:],
                "snapshots": {**session.snapshots, check.rig_hash: rig},
            }
        )

    return Edit("Keep noise check", change)


def choose_rig(rig_id: str) -> Edit:
    """Another rig as the current one. What it can do it does from now on: record, or reamp."""

    def change(session: Session) -> Session:
        rig = session.rig(rig_id)
        return session.model_copy(update={"current_rig": rig.id, **_roles_of(rig)})

    return Edit("Choose rig", change)


def choose_reamp_rig(rig_id: str) -> Edit:
    """Another rig to send stored takes through; what records stays."""
    return Edit(
        "Choose reamp rig",
        lambda session: session.model_copy(update={"reamp_rig": session.rig(rig_id).id}),
    )


def choose_recording_rig(rig_id: str) -> Edit:
    """Another rig to record with; what reamps stays."""
    return Edit(
        "Choose recording rig",
        lambda session: session.model_copy(update={"recording_rig": session.rig(rig_id).id}),
    )


def _roles_of(rig: Rig) -> dict[str, str]:
    found = {"recording_rig": rig.id} if records(rig) else {}
    return {**found, "reamp_rig": rig.id} if reamps(rig) else found


def change_rig(rig_id: str, label: str, change_of: Callable[[Rig], Rig]) -> Edit:
    """A rig changed by a function from rig to rig."""

    def change(session: Session) -> Session:
        old = session.rig(rig_id)
        new = change_of(old)
        rigs = tuple(new if r.id == old.id else r for r in session.rigs)
        return session.model_copy(update={"rigs": rigs})

    return Edit(label, change)


def tie_sockets(rig_id: str, tied: DeviceMap) -> Edit:
    """Which socket of a real device is which, for a rig."""
    return change_rig(rig_id, f"Tie sockets of {tied.device}", lambda rig: rig.with_map(tied))


def tie_program(
    rig_id: str,
    port: PortRef,
    chosen: tuple[str, int] | None,
    sizes: Mapping[str, tuple[int, int]],
) -> Edit:
    """A port of a software amplifier tied to a channel (from 1) of another program, or to none; the
    tie that it had goes. `sizes` are the inputs and outputs of the programs that are there."""

    def change(rig: Rig) -> Rig:
        for one in rig.maps:
            if any(tie.port == port for tie in one.ties):
                left = tuple(tie for tie in one.ties if tie.port != port)
                rig = rig.with_map(one.model_copy(update={"ties": left}))
        if chosen is None:
            return rig
        name, channel = chosen
        before = next((one for one in rig.maps if one.device == name), DeviceMap(device=name))
        inputs, outputs = sizes.get(name, (before.inputs, before.outputs))
        ties = (*before.ties, Tie(port=port, channel=channel))
        return rig.with_map(DeviceMap(device=name, ties=ties, inputs=inputs, outputs=outputs))

    return change_rig(rig_id, f"Tie {port} to a program", change)


def change_rigs(label: str, change_of: Callable[[Rig], Rig]) -> Edit:
    """The same change of every rig: what is known of a unit is known wherever it stands."""

    def change(session: Session) -> Session:
        return session.model_copy(update={"rigs": tuple(change_of(rig) for rig in session.rigs)})

    return Edit(label, change)


def keep_program_latency(program: str, samples: float) -> Edit:
    """How late another program is, as measured: of every software amplifier that is tied to it, in
    whichever rig."""

    def change(rig: Rig) -> Rig:
        tied = {tie.port.device for one in rig.maps if one.device == program for tie in one.ties}
        for device in rig.devices:
            if device.id in tied and device.kind == SOFTWARE and device.has_setting("latency"):
                rig = rig.with_setting(device.id, "latency", round(samples, 2))
        return rig

    return change_rigs(f"Latency of {program}", change)


TARGETS = frozenset(
    {"target_peak_dbfs", "target_statistic", "target_rms_dbfs", "least_headroom_db", "loud_moments"}
)


def set_target(**values: object) -> Edit:
    """The target: statistic, values, and the least headroom ahead of the converter."""
    if set(values) - TARGETS:
        raise EditError(f"{', '.join(sorted(set(values) - TARGETS))} is no part of the target.")
    return replace(set_info(**values), label="Set target")


def add_rig(rig: Rig, label: str = "") -> Edit:
    """One more rig, which becomes the current one."""

    def change(session: Session) -> Session:
        if any(r.id == rig.id for r in session.rigs):
            raise EditError(f"There is already a rig {rig.id}.")
        rigs = (*session.rigs, rig)
        return session.model_copy(update={"rigs": rigs, "current_rig": rig.id, **_roles_of(rig)})

    return Edit(label or f"Add rig {rig.name}", change)


def remove_rig(rig_id: str) -> Edit:
    """A rig less. Passes keep the snapshot that they were made with."""

    def change(session: Session) -> Session:
        gone = session.rig(rig_id)
        rest = tuple(r for r in session.rigs if r.id != gone.id)
        if not rest:
            raise EditError("A session keeps one rig at least.", remedy="Add another one first.")
        current = session.current_rig if session.current_rig != gone.id else rest[0].id
        roles = {
            role: "" for role in ("recording_rig", "reamp_rig") if getattr(session, role) == gone.id
        }
        return session.model_copy(update={"rigs": rest, "current_rig": current, **roles})

    return Edit("Remove rig", change)


def add_own_type(device: Device) -> Edit:
    """A device kept as a type of one's own; one of the same name is replaced."""

    def change(session: Session) -> Session:
        rest = tuple(d for d in session.own_types if d.name != device.name)
        return session.model_copy(update={"own_types": (*rest, device)})

    return Edit(f"Keep {device.name} as a type", change)


def set_track_load(take_id: str, track_id: str, load_ohm: float | None) -> Edit:
    """The impedance that a track was recorded into; None when nobody knows."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        new = revised(take.track(track_id), load_ohm=load_ohm)
        tracks = tuple(new if t.id == new.id else t for t in take.tracks)
        return _replace_take(session, take.model_copy(update={"tracks": tracks}))

    return Edit("Set input impedance", change)


def add_impulse(impulse: Impulse) -> Edit:
    """A cabinet impulse response for this session."""

    def change(session: Session) -> Session:
        if any(i.file == impulse.file for i in session.impulses):
            raise EditError(f"{impulse.name} is already in the session.")
        return session.model_copy(update={"impulses": (*session.impulses, impulse)})

    return Edit(f"Add cabinet {impulse.name}", change)


def put_cabinets(files: Sequence[str], later: CabinetLater | None) -> Edit:
    """Cabinets for what belongs together, by its audio files; None for none. Nothing that is
    stored changes its sound."""

    def change(session: Session) -> Session:
        cabinets = {file: one for file, one in session.cabinets.items() if file not in files}
        if later is not None:
            cabinets |= dict.fromkeys(files, later)
        return session.model_copy(update={"cabinets": cabinets})

    return Edit("Cabinet", change)


def add_instrument(instrument: Instrument) -> Edit:
    """One more instrument."""

    def change(session: Session) -> Session:
        if any(i.id == instrument.id for i in session.instruments):
            raise EditError(f"There is already an instrument {instrument.id}.")
        return session.model_copy(update={"instruments": (*session.instruments, instrument)})

    return Edit(f"Add {instrument.name}", change)


def replace_instrument(instrument: Instrument, label: str = "") -> Edit:
    """An instrument as it is now, in the place of the one with its id."""

    def change(session: Session) -> Session:
        session.instrument(instrument.id)
        rest = tuple(instrument if i.id == instrument.id else i for i in session.instruments)
        return session.model_copy(update={"instruments": rest})

    return Edit(label or f"Change {instrument.name}", change)


def change_instrument(instrument_id: str, label: str, **values: object) -> Edit:
    """Some fields of an instrument, checked as a whole; EditError names what is wrong."""

    def change(session: Session) -> Session:
        old = session.instrument(instrument_id)
        new = revised(old, **values)
        return replace_instrument(new)(session)

    return Edit(label, change)


def remove_instrument(instrument_id: str) -> Edit:
    """An instrument less. Takes and tones keep its id: undo brings its name back."""

    def change(session: Session) -> Session:
        gone = session.instrument(instrument_id)
        rest = tuple(i for i in session.instruments if i.id != gone.id)
        return session.model_copy(update={"instruments": rest})

    return Edit("Remove instrument", change)


def add_strength(instrument_id: str, reading: StrengthReading) -> Edit:
    """One more reading of an instrument's strength; earlier ones are kept."""

    def change(session: Session) -> Session:
        old = session.instrument(instrument_id)
        new = old.model_copy(update={"strength": (*old.strength, reading)})
        return replace_instrument(new)(session)

    return Edit("Measure strength", change)


def remove_strength(instrument_id: str, index: int) -> Edit:
    """A reading less."""

    def change(session: Session) -> Session:
        old = session.instrument(instrument_id)
        if not 0 <= index < len(old.strength):
            raise EditError("That reading is gone.")
        rest = (*old.strength[:index], *old.strength[index + 1 :])
        return replace_instrument(old.model_copy(update={"strength": rest}))(session)

    return Edit("Remove reading", change)


def set_trims(trims: Mapping[str, float], label: str = "Calculate trims") -> Edit:
    """The trims of several instruments at once."""

    def change(session: Session) -> Session:
        instruments = tuple(
            i.model_copy(update={"trim_db": trims[i.id]}) if i.id in trims else i
            for i in session.instruments
        )
        return session.model_copy(update={"instruments": instruments})

    return Edit(label, change)


def set_tone_stage(**values: object) -> Edit:
    """The device that all instruments drive: the recording rig's where it has an input trim,
    else the figures that stand in for one."""

    def change(session: Session) -> Session:
        if placed(session) is not None:
            return change_stage(session, values)
        return session.model_copy(update={"tone_stage": revised(session.tone_stage, **values)})

    return Edit("Change the device that makes the tone", change)


def choose_instrument(instrument_id: str) -> Edit:
    """The instrument in hand: it is plugged into the recording rig, and its trim is set."""
    return Edit("Choose instrument", lambda session: plug_in(session, instrument_id))


def confirm_trim(done: bool) -> Edit:
    """Somebody set trim and pad by hand on a real device, or says that they are not set."""
    label = "Say that the trim is set" if done else "Say that the trim is not set"
    return Edit(label, lambda session: say_trim(session, done))


def set_compared_inputs(inputs: tuple[ComparedInput, ...]) -> Edit:
    """The inputs that instruments are looked at into, six at most."""

    def change(session: Session) -> Session:
        if len(inputs) > 6:
            raise EditError("Six inputs at most can be compared.", remedy="Remove one first.")
        return session.model_copy(update={"compared_inputs": inputs})

    return Edit("Change compared inputs", change)


def set_reference_instrument(instrument_id: str) -> Edit:
    """The instrument that the others' drive is told against."""
    return Edit(
        "Choose reference instrument",
        lambda session: session.model_copy(
            update={"reference_instrument": session.instrument(instrument_id).id}
        ),
    )


def add_tone(tone: Tone) -> Edit:
    """A tone with what it was made with; one of the same name is replaced."""

    def change(session: Session) -> Session:
        rest = tuple(t for t in session.tones if t.name != tone.name)
        return session.model_copy(update={"tones": (*rest, tone)})

    return Edit(f"Keep tone {tone.name}", change)


def remove_tone(tone_id: str) -> Edit:
    """A tone less."""

    def change(session: Session) -> Session:
        rest = tuple(t for t in session.tones if t.id != tone_id)
        if len(rest) == len(session.tones):
            raise EditError("That tone is gone.")
        return session.model_copy(update={"tones": rest})

    return Edit("Remove tone", change)


Part = TypeVar("Part", bound=Frozen)


def revised(part: Part, **values: object) -> Part:
    """A part of the document with other values, checked; EditError names what is wrong."""
    try:
        return type(part).model_validate({**part.model_dump(), **values})
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(place) for place in first["loc"])
        raise EditError(f"{field}: {first['msg']}.".lstrip(": ")) from error


def set_a4(a4_hz: float) -> Edit:
    """What everybody tunes to."""

    def change(session: Session) -> Session:
        if not 380.0 <= a4_hz <= 500.0:
            raise EditError(
                f"A4 at {a4_hz:g} Hz is not plausible.", remedy="From 380 to 500 Hz, 440 is usual."
            )
        return session.model_copy(update={"a4_hz": a4_hz})

    return Edit("Set A4", change)


def set_info(**values: object) -> Edit:
    """Name, tempo, metre and target of the session."""

    def change(session: Session) -> Session:
        allowed = {"name", "tempo_bpm", "metre", *TARGETS}
        unknown = set(values) - allowed
        if unknown:
            raise EditError(f"{', '.join(sorted(unknown))} cannot be changed.")
        try:
            return _checked(session.model_copy(update=values))
        except ValidationError as error:
            first = error.errors()[0]
            field = ".".join(str(place) for place in first["loc"])
            raise EditError(f"{field}: {first['msg']}.") from error

    return Edit("Change session settings", change)


def follow_practice(practice_id: str) -> Edit:
    """The session follows a house practice, or none. Nothing that is set changes by it."""
    return Edit(
        "House practice" if practice_id else "No house practice",
        lambda session: session.model_copy(update={"practice": practice_id}),
    )


def keep_practice(practice: Practice) -> Edit:
    """An own practice, in the place of the one of its id."""

    def change(session: Session) -> Session:
        rest = tuple(one for one in session.own_practices if one.id != practice.id)
        return session.model_copy(update={"own_practices": (*rest, practice)})

    return Edit(f"Keep practice {practice.name}", change)


def remove_practice(practice_id: str) -> Edit:
    """An own practice less; a session that follows it follows none."""

    def change(session: Session) -> Session:
        rest = tuple(one for one in session.own_practices if one.id != practice_id)
        follows = "" if session.practice == practice_id else session.practice
        return session.model_copy(update={"own_practices": rest, "practice": follows})

    return Edit("Remove practice", change)
