"""Edits of takes: what was recorded, how it is called and judged, cut, discarded, recalled."""

from __future__ import annotations

from collections.abc import Mapping

from pydantic import ValidationError

from diaulos.errors import EditError
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.rig.model import Rig
from diaulos.rig.states import brought_home, setting_words
from diaulos.session.edits import Edit, add_take
from diaulos.session.instrument import Instrument
from diaulos.session.model import Heard, Pass, Session, Take, content_hash, rig_hash
from diaulos.session.roles import recording_rig


def add_recorded(
    takes: Take | tuple[Take, ...], rig: Rig, instruments: Mapping[str, Instrument]
) -> Edit:
    """What was recorded (the rounds of a loop are several takes) with the rig and the
    instruments as they were, each stored once."""
    several = takes if isinstance(takes, tuple) else (takes,)

    def change(session: Session) -> Session:
        for take in several:
            session = add_take(take)(session)
            if take.pairs_apart:
                panned = sides_panned(session, take.id)
                session = session.model_copy(update={"mix": {**session.mix, **panned}})
        return session.model_copy(
            update={
                "snapshots": {**session.snapshots, rig_hash(rig): rig},
                "instrument_snapshots": {
                    **session.instrument_snapshots,
                    **{content_hash(one): one for one in instruments.values()},
                },
            }
        )

    label = several[0].name if len(several) == 1 else f"{len(several)} rounds"
    return Edit(f"Record {label}", change)


def pairs_apart(take_id: str, apart: bool) -> Edit:
    """A take's stereo pairs as two tracks each, panned hard, or as one; its files stay."""
    label = "Stereo as two tracks" if apart else "Stereo as one track"
    change = change_take(take_id, label, pairs_apart=apart)

    def with_pans(session: Session) -> Session:
        after = change(session)
        return after.model_copy(update={"mix": {**after.mix, **sides_panned(after, take_id)}})

    return Edit(label, with_pans)


def sides_panned(session: Session, take_id: str) -> dict[str, Heard]:
    """How the sides of a take's stereo pairs are heard: hard at their side as tracks of their own,
    and in the middle as one, whose sides are apart by themselves."""
    take = session.take(take_id)
    places = {"left": -1.0, "right": 1.0}
    return {
        track.file: session.mix.get(track.file, Heard()).model_copy(
            update={"pan": places[track.side] if take.pairs_apart else 0.0}
        )
        for track in take.tracks
        if track.side
    }


def change_take(take_id: str, label: str, **values: object) -> Edit:
    """Some fields of a take, checked; EditError says what is wrong."""

    def change(session: Session) -> Session:
        old = session.take(take_id)
        try:
            new = Take.model_validate({**dict(old), **values})
        except ValidationError as error:
            first = error.errors()[0]
            field = ".".join(str(part) for part in first["loc"])
            raise EditError(f"{field or old.name}: {first['msg']}.") from error
        takes = tuple(new if take.id == old.id else take for take in session.takes)
        return session.model_copy(update={"takes": takes})

    return Edit(label, change)


def rename_take(take_id: str, name: str) -> Edit:
    """Another name."""
    return change_take(take_id, "Rename take", name=name)


def rate_take(take_id: str, rating: int) -> Edit:
    """0 (none) to 5."""
    return change_take(take_id, "Rate take", rating=rating)


def keep_take(take_id: str, keeper: bool) -> Edit:
    """The keeper, or no longer."""
    return change_take(take_id, "Keep take" if keeper else "Unmark take", keeper=keeper)


def tag_take(take_id: str, tags: tuple[str, ...]) -> Edit:
    """Words that it is found by."""
    return change_take(take_id, "Tag take", tags=tuple(dict.fromkeys(tags)))


def note_take(take_id: str, notes: str) -> Edit:
    """What a person says of it."""
    return change_take(take_id, "Note on take", notes=notes)


def bar_frames(tempo_bpm: float, metre: str, rate_hz: float) -> float:
    """Length of a bar in frames (not rounded). A beat of the tempo is a quarter note."""
    beats, _, unit = metre.partition("/")
    return float(beats) * 4.0 / float(unit) * 60.0 / tempo_bpm * rate_hz


def cut_to_bars(take_id: str, first_bar: int, bars: int) -> Edit:
    """A take cut to whole bars, counted from 0 at its first frame; its files stay as they are."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        bar = bar_frames(
            take.tempo_bpm or session.tempo_bpm, take.metre or session.metre,
            session.sample_rate_hz,
        )  # fmt: skip
        first, last = round(first_bar * bar), round((first_bar + bars) * bar)
        frames = max(track.frames for track in take.tracks)
        if first_bar < 0 or bars < 1 or last > frames:
            whole = int(frames / bar)
            raise EditError(
                f"Bars {first_bar + 1} to {first_bar + bars} are not all in {take.name}.",
                remedy=f"It has {whole} whole bars.",
            )
        return change_take(take_id, "", cut=(first, last))(session)

    return Edit("Cut to bars", change)


def uncut(take_id: str) -> Edit:
    """The whole take again."""
    return change_take(take_id, "Undo the cut", cut=None)


def discard_take(take_id: str) -> Edit:
    """A take into the bin; its files stay."""

    def change(session: Session) -> Session:
        gone = session.take(take_id)
        rest = tuple(take for take in session.takes if take.id != gone.id)
        return session.model_copy(update={"takes": rest, "take_bin": (*session.take_bin, gone)})

    return Edit("Discard take", change)


def restore_take(take_id: str) -> Edit:
    """A take out of the bin."""

    def change(session: Session) -> Session:
        back = next((take for take in session.take_bin if take.id == take_id), None)
        if back is None:
            raise EditError("That take is no longer in the bin.")
        rest = tuple(take for take in session.take_bin if take.id != take_id)
        session = session.model_copy(update={"take_bin": rest})
        return add_take(back)(session)

    return Edit("Restore take", change)


# --- the monitor mix ---


def set_heard(file: str, heard: Heard) -> Edit:
    """How a stored file is heard; what is usual is not written down."""

    def change(session: Session) -> Session:
        mix = {**session.mix, file: heard}
        if heard == Heard():
            del mix[file]
        return session.model_copy(update={"mix": mix})

    return Edit("Mix", change)


# --- recall ---


@dataclass(frozen=True)
class Differs:
    """A control that stands otherwise than when a take was recorded."""

    device: str
    setting: str
    words: str
    then: float | str
    now: float | str


def differences_since(session: Session, take: Take) -> tuple[Differs, ...]:
    """What differs now from a take's rig: controls and switches of the devices of one id, and
    the instruments' knobs, selector and trim."""
    then = session.snapshots.get(take.rig_hash)
    found: list[Differs] = []
    if then is not None:
        now = next((rig for rig in session.rigs if rig.id == then.id), None)
        if now is None:
            return (Differs("", "", f"The rig {then.name} is gone", then.name, ""),)
        there = {device.id: device for device in now.devices}
        for device in then.devices:
            other = there.get(device.id)
            if other is None:
                found.append(Differs(device.id, "", f"{device.name} is gone", device.name, ""))
                continue
            for setting in device.settings:
                if not other.has_setting(setting.id):
                    continue
                value = other.setting(setting.id).value
                if value != setting.value:
                    words = f"{device.name}: {setting.name}"
                    found.append(Differs(device.id, setting.id, words, setting.value, value))
    return (*found, *_instrument_differences(session, take))


def _instrument_differences(session: Session, take: Take) -> list[Differs]:
    found = []
    for kept in take.instruments.values():
        then = session.instrument_snapshots.get(kept)
        now = next((one for one in session.instruments if then and one.id == then.id), None)
        if then is None or now is None or then == now:
            continue
        for field, words in (
            ("position_id", "selector"), ("trim_db", "trim"), ("strings", "strings"),
        ):  # fmt: skip
            one, other = getattr(then, field), getattr(now, field)
            if one != other:
                found.append(Differs(then.id, field, f"{then.name}: {words}", str(one), str(other)))
        for knob in ("volume_knob", "tone_knob"):
            one, other = getattr(then.controls, knob), getattr(now.controls, knob)
            if one != other:
                words = f"{then.name}: {knob.replace('_', ' ')}"
                found.append(Differs(then.id, knob, words, one, other))
    return found


def pass_differences(session: Session, one: Pass, other: Pass) -> tuple[Differs, ...]:
    """What is otherwise in one pass than in another: controls and switches of the devices of one
    id, devices that only one of them has, how it was sent and what came back."""
    mine, its = (session.snapshots.get(made.rig_hash) for made in (one, other))
    found: list[Differs] = []
    if mine is None or its is None:
        return (Differs("", "", "The rig of one of them is not known.", "", ""),)
    if mine.name != its.name:
        found.append(Differs("", "rig", "Rig", its.name, mine.name))
    there = {device.id: device for device in its.devices}
    for device in mine.devices:
        then = there.pop(device.id, None)
        if then is None or then.type != device.type:
            was = then.name if then is not None else "none"
            found.append(Differs(device.id, "", device.kind, was, device.name))
            continue
        for setting in device.settings:
            if then.has_setting(setting.id):
                old = then.setting(setting.id)
                if old.value != setting.value:
                    words = f"{device.name}: {setting.name}"
                    was, now = setting_words(old), setting_words(setting)
                    found.append(Differs(device.id, setting.id, words, was, now))
    found += [Differs(one.id, "", one.kind, one.name, "none") for one in there.values()]
    for field, words, then_value, now_value in (
        ("send_gain_db", "Send gain, dB", number(other.send_gain_db), number(one.send_gain_db)),
        ("unloaded", "Input load undone", other.unloaded or "no", one.unloaded or "no"),
    ):
        if then_value != now_value:
            found.append(Differs("", field, words, then_value, now_value))
    return tuple(found)


def recall_pass(take_id: str, pass_id: str) -> Edit:
    """The rig and the instrument as a pass had them, in one step: the rig reamps from now on. How
    its switches stand in state Record stays as it is; a rig that is gone comes back."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        made = take.pass_(pass_id)
        then = session.snapshots.get(made.rig_hash)
        if then is None:
            raise EditError(f"{made.name} does not know its rig.")
        now = next((rig for rig in session.rigs if rig.id == then.id), None)
        home = brought_home(then, now)
        rigs = tuple(home if rig.id == home.id else rig for rig in session.rigs)
        if now is None:
            rigs = (*rigs, home)
        return session.model_copy(
            update={
                "rigs": rigs,
                "reamp_rig": home.id,
                "instruments": _instruments_then(session, take),
            }
        )

    return Edit("Recall pass", change)


def _instruments_then(session: Session, take: Take) -> tuple[Instrument, ...]:
    """The session's instruments, those of a take as they were; what was measured since stays."""
    instruments = list(session.instruments)
    for kept in take.instruments.values():
        one = session.instrument_snapshots.get(kept)
        if one is None:
            continue
        at = next((i for i, now in enumerate(instruments) if now.id == one.id), None)
        if at is None:
            instruments.append(one)
        else:
            instruments[at] = one.model_copy(update={"strength": instruments[at].strength})
    return tuple(instruments)


def recall(take_id: str) -> Edit:
    """The session's rig and instruments as a take had them, in one step. A rig or an instrument
    that is gone comes back."""

    def change(session: Session) -> Session:
        take = session.take(take_id)
        then = session.snapshots.get(take.rig_hash)
        if then is None:
            raise EditError(
                f"{take.name} does not know its rig.", remedy="Imported takes have none."
            )
        rigs = tuple(then if rig.id == then.id else rig for rig in session.rigs)
        if all(rig.id != then.id for rig in rigs):
            rigs = (*rigs, then)
        after = session.model_copy(
            update={
                "rigs": rigs,
                "current_rig": then.id,
                "instruments": _instruments_then(session, take),
            }
        )
        if recording_rig(after).id == then.id:
            return after
        return after.model_copy(update={"recording_rig": then.id})

    return Edit("Recall settings", change)
