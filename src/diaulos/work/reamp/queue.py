"""Tones in a row: several tones times several takes, sent one after the other without anybody.

The queue is part of the session. Each pass that is finished is one edit, which adds it and marks it
as made: whoever stops, or is stopped, goes on with what waits, and makes nothing twice.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, ValidationError

from diaulos.errors import EditError, InputError, RigError
from diaulos.ids import free_id
from diaulos.records import dataclass
from diaulos.rig.bench import Impulses
from diaulos.rig.model import AmpStage, Choice, Frozen, Rig, Word
from diaulos.rig.plan import return_control
from diaulos.rig.returns import planned_returns
from diaulos.rig.states import setting_words
from diaulos.session import edits
from diaulos.session.edits import Edit
from diaulos.session.instrument import Name, Tone
from diaulos.session.model import (
    SIMULATED,
    MatchTarget,
    Pass,
    QueuedPass,
    QueuedSetting,
    QueuedTone,
    Session,
    Take,
    part_ident,
)
from diaulos.session.roles import reamp_rig
from diaulos.session.take_edits import pass_differences
from diaulos.work.listening.cabinets import cabinet_names, cabinet_title, put_choice
from diaulos.work.ports import CancelToken, Clock, Progress, SessionStore, no_progress
from diaulos.work.reamp.parts import stretch_of
from diaulos.work.reamp.passes import ReampRequest, make_pass
from diaulos.work.reamp.slate import LoopBackendFor

MOST_BYTES = 262_144
MOST_PASSES = 500
LONGEST_S = 600.0
"""A driven valve amplifier or a load box is not sent more than this in one go of a queue."""

TONE_CONTROLS = (
    ("voice", "voice"), ("drive", "drive"), ("bass", "bass"), ("mid", "mid"), ("treble", "treble"),
    ("master", "master_db"),
)  # fmt: skip
"""Setting of an amplifier, and where a kept tone has it."""


# --- what is asked for ---


class AskedTone(Frozen):
    """A tone in a queue's file: a kept tone by name, and any control by "device.setting"."""

    name: Name
    rig: Word = ""
    tone: Word = ""
    settings: dict[Word, float | Word] = Field(default_factory=dict, max_length=100)
    impulse: Word = ""


class QueueFile(Frozen):
    """The file of a queue."""

    format: Literal["diaulos-queue"] = "diaulos-queue"
    version: Literal[1] = 1
    takes: Annotated[tuple[Word, ...], Field(min_length=1, max_length=MOST_PASSES)]
    tones: Annotated[tuple[AskedTone, ...], Field(min_length=1, max_length=MOST_PASSES)]
    match: Word = ""
    match_lufs: float | None = Field(default=None, ge=-60.0, le=0.0)
    range: Word = ""


def read_queue(path: Path) -> QueueFile:
    """A queue from a file. InputError names the field; a file over 256 kB is not read."""
    try:
        with path.open("rb") as file:
            data = file.read(MOST_BYTES + 1)
    except OSError as error:
        raise InputError(
            f"it cannot be read ({error.strerror}).", where=str(path), remedy="Choose another file."
        ) from error
    if len(data) > MOST_BYTES:
        raise InputError("it is far too long for a queue.", where=str(path))
    try:
        return QueueFile.model_validate_json(data)
    except ValidationError as error:
        first = error.errors(include_input=False, include_url=False)[0]
        field = ".".join(str(place) for place in first["loc"])
        raise InputError(
            f"{field}: {first['msg']}." if field else f"{first['msg']}.",
            where=str(path),
            remedy="A queue file is described in docs/cli.md.",
        ) from error


def asked_passes(session: Session, asked: QueueFile) -> tuple[QueuedPass, ...]:
    """What a file asks for, against a session: every tone through every take, take by take.
    EditError or RigError names what is not there."""
    if asked.match and asked.match_lufs is not None:
        raise InputError("match and match_lufs exclude each other.", remedy="Give one.")
    tones = [queued_tone(session, one) for one in asked.tones]
    takes = [session.take(one) for one in asked.takes]
    return queued(session, takes, tones, asked.match, asked.match_lufs, asked.range)


def queued_tone(session: Session, asked: AskedTone) -> QueuedTone:
    """A tone with its rig and its settings looked up."""
    rig = reamp_rig(session, asked.rig)
    settings: dict[tuple[str, str], float | str] = {}
    if asked.tone:
        kept = next((one for one in session.tones if asked.tone in (one.id, one.name)), None)
        if kept is None:
            known = ", ".join(one.name for one in session.tones) or "none yet"
            raise EditError(f"There is no tone {asked.tone!r}.", remedy=f"Tones here: {known}.")
        settings |= tone_settings(rig, kept)
    for key, value in asked.settings.items():
        device, _, setting = key.partition(".")
        settings[device, setting] = value
    for (device, setting), value in settings.items():
        rig = rig.with_setting(device, setting, value)  # refused here, not when half is played
    if asked.impulse and asked.impulse not in dict(cabinet_names(session)):
        known = ", ".join(name for name, _ in cabinet_names(session))
        raise EditError(
            f"There is no cabinet {asked.impulse!r}.", remedy=f"Cabinets here: {known}."
        )
    return QueuedTone(
        name=asked.name,
        rig_id=rig.id,
        settings=tuple(
            QueuedSetting(device=device, setting=setting, value=value)
            for (device, setting), value in settings.items()
        ),
        impulse=asked.impulse,
    )


def tone_settings(rig: Rig, tone: Tone) -> dict[tuple[str, str], float | str]:
    """A kept tone as settings of a rig's amplifier, and of what adds its cabinet; RigError where it
    has no amplifier."""
    amp = next(
        (
            device
            for device in rig.devices
            if device.has_setting("voice")
            and any(isinstance(one, AmpStage) for path in device.live_paths for one in path.stages)
        ),
        None,
    )
    if amp is None:
        raise RigError("It has no amplifier to set a tone on.", where=rig.name)
    found: dict[tuple[str, str], float | str] = {
        (amp.id, setting): getattr(tone, field)
        for setting, field in TONE_CONTROLS
        if amp.has_setting(setting)
    }
    boxes = [amp, *(device for device in rig.devices if device is not amp)]
    box = next((device for device in boxes if device.has_setting("cabinet")), None)
    if box is not None:
        found[box.id, "cabinet"] = tone.cabinet
    return found


def queued(
    session: Session,
    takes: Sequence[Take],
    tones: Sequence[QueuedTone],
    match: str = "",
    match_lufs: float | None = None,
    stretch: str = "",
) -> tuple[QueuedPass, ...]:
    """Every tone through every take, all as loud as one track (by its name in each take), or a
    figure."""
    if len(takes) * len(tones) > MOST_PASSES:
        raise InputError(f"a queue holds {MOST_PASSES} passes at most.", remedy="Leave some out.")
    found = []
    taken = {one.id for one in session.queue}
    for take in takes:
        if take.sent is None:
            raise EditError(f"{take.name} has no dry DI to send.", remedy="Leave it out.")
        target = MatchTarget(kind="none")
        if match_lufs is not None:
            target = MatchTarget(kind="lufs", lufs=match_lufs)
        elif match:
            target = MatchTarget(kind="track", ident=part_ident(take.part(match)))
        part = stretch_of(session, take, stretch) if stretch else None
        for tone in tones:
            ident = free_id(taken, "q", digits=3)
            taken.add(ident)
            found.append(
                QueuedPass(id=ident, take_id=take.id, tone=tone, target=target, stretch=part)
            )
    return tuple(found)


# --- edits ---


def line_up(passes: Sequence[QueuedPass]) -> Edit:
    """More passes behind those that wait. What was made before leaves the queue once nothing of it
    waits."""

    def change(session: Session) -> Session:
        old = session.queue if any(one.waits for one in session.queue) else ()
        return session.model_copy(update={"queue": (*old, *passes)})

    return Edit("Queue passes", change)


def clear_queue() -> Edit:
    """What waits is not made; passes that were made stay in their takes."""
    return Edit("Clear the queue", lambda session: session.model_copy(update={"queue": ()}))


def _marked(item: QueuedPass, **values: str) -> Edit:
    def change(session: Session) -> Session:
        known = next((one for one in session.queue if one.id == item.id), None)
        if known is None or not known.waits:
            return session  # taken out of the queue, or undone, meanwhile
        marked = tuple(
            one.model_copy(update=values) if one.id == item.id else one for one in session.queue
        )
        return session.model_copy(update={"queue": marked})

    return Edit("Queue", change)


def refused(item: QueuedPass, reason: str) -> Edit:
    """It cannot be made; the others go on."""
    return _marked(item, refused=reason[:300] or "not told")


def next_waiting(session: Session) -> QueuedPass | None:
    """What is to be made next; None where nothing waits."""
    return next((one for one in session.queue if one.waits), None)


def progress_words(session: Session) -> str:
    """How far it is: "5 of 12 made, 1 refused"."""
    made = sum(bool(one.pass_id) for one in session.queue)
    words = f"{made} of {len(session.queue)} made"
    failed = sum(bool(one.refused) for one in session.queue)
    return f"{words}, {failed} refused" if failed else words


# --- what a person sets, on real hardware ---


def to_set(session: Session, item: QueuedPass) -> tuple[str, ...]:
    """What stands on the devices for this pass, in words: all that its tone sets."""
    rig = reamp_rig(session, item.tone.rig_id)
    found = []
    for one in item.tone.settings:
        device = rig.with_setting(one.device, one.setting, one.value).device(one.device)
        setting = device.setting(one.setting)
        found.append(f"{device.name}: {setting.name} {setting_words(setting)}")
    return tuple(found)


def is_driven_hard(rig: Rig) -> bool:
    """Whether what is sent heats something: a power amplifier, or a load box."""
    hot = {"amp", "load_box", "attenuator"}
    return any(device.kind in hot for device in rig.devices)


HEAT = (
    "The amplifier and its load get hot. Stay beside them, leave air around them, and let them "
    "cool down when they smell or the load's fan runs without end."
)


# --- making one ---


@dataclass(frozen=True)
class QueueOutcome:
    """A pass of the queue, and the edit that adds it and marks it as made."""

    item: QueuedPass
    made: Pass
    edit: Edit


def make_queued(
    session: Session,
    item: QueuedPass,
    *,
    store: SessionStore,
    backend_for: LoopBackendFor,
    clock: Clock,
    impulses: Impulses | None = None,
    device: str = SIMULATED,
    said: Literal["", "confirmed", "assumed"] = "",
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> QueueOutcome:
    """Send one take through one tone. The rig of the session stays as it is; the pass keeps it as
    it was played."""
    set_up = session
    for one in item.tone.settings:
        change = edits.set_device_setting(
            item.tone.rig_id, one.device, one.setting, one.value, "reamp"
        )
        set_up = change(set_up)
    rig = reamp_rig(set_up, item.tone.rig_id)
    if device != SIMULATED and is_driven_hard(rig):
        _require_short(session, item, rig)
    outcome = make_pass(
        ReampRequest(
            set_up, item.take_id, rig_id=item.tone.rig_id, target=item.target,
            stretch=item.stretch, device=device,
        ),
        store=store, backend_for=backend_for, clock=clock, impulses=impulses,
        progress=progress, cancel=cancel,
    )  # fmt: skip
    made = outcome.made
    if said:
        made = made.model_copy(update={"settings_said": said})
    cabinet: Edit | None = None
    if item.tone.impulse:
        title = cabinet_title(session, item.tone.impulse)
        made = made.model_copy(update={"name": f"{made.name}, {title}"[:200]})
        files = [one.file for one in made.parts[0]]
        cabinet = put_choice(session, files, item.tone.impulse, store)
    add = replace(outcome, edit=edits.add_pass(outcome.take_id, made, outcome.rig)).edit
    mark = _marked(item, pass_id=made.id)

    def change_all(now: Session) -> Session:
        now = add(now)
        return mark(cabinet(now) if cabinet is not None else now)

    return QueueOutcome(item, made, Edit(add.label, change_all))


def _require_short(session: Session, item: QueuedPass, rig: Rig) -> None:
    take = session.take(item.take_id)
    first, last = item.stretch or take.cut or (0, take.sent.frames if take.sent else 0)
    seconds = (last - first) / session.sample_rate_hz
    if seconds > LONGEST_S:
        raise InputError(
            f"{seconds / 60.0:.0f} minutes are too long for {rig.name} without a pause.",
            where=take.name,
            remedy=f"Send it in parts of {LONGEST_S / 60.0:.0f} minutes at most. {HEAT}",
        )


# --- what can be chosen ---


def offered_tones(session: Session, rigs: Sequence[Rig]) -> tuple[QueuedTone, ...]:
    """Tones to choose from: every rig that reamps as it stands, then on the chosen one every other
    voice of its amplifier, every kept tone, and every cabinet behind what comes back without
    one. `rigs` are those that reamp, the chosen one first, in state Reamp."""
    found = [QueuedTone(name=rig.name, rig_id=rig.id) for rig in rigs]
    if not rigs:
        return ()
    rig = rigs[0]
    amp = next((device for device in rig.devices if device.has_setting("voice")), None)
    if amp is not None:
        voice = amp.setting("voice")
        assert isinstance(voice, Choice)
        for value, title in voice.options:
            if value != voice.value:
                one = QueuedSetting(device=amp.id, setting="voice", value=value)
                name = title.partition(" (")[0]
                found.append(QueuedTone(name=name, rig_id=rig.id, settings=(one,)))
        for tone in session.tones:
            asked = AskedTone(name=tone.name, rig=rig.id, tone=tone.id)
            try:
                found.append(queued_tone(session, asked))
            except (EditError, RigError):
                continue  # of a cabinet or a voice that this rig has not
    if planned_returns(rig)[0].course.tap == "amp":
        for name, title in cabinet_names(session):
            through = QueuedTone(name=f"{rig.name}, {title}", rig_id=rig.id, impulse=name)
            found.append(through)
    return tuple(found)


def _return_gains(rig: Rig) -> set[tuple[str, str]]:
    """Device and knob of every return's gain."""
    controls = [return_control(one.course) for one in planned_returns(rig)]
    return {(device.id, knob.id) for device, knob in filter(None, controls)}


def queue_words(session: Session, made: Pass, first: Pass | None) -> str:
    """What differs in a pass from the first of its queue, in words."""
    if first is None or made == first:
        return ""
    rig = session.snapshots.get(made.rig_hash)
    gains = _return_gains(rig) if rig is not None else set()
    found = [
        f"{one.words.partition(': ')[2] or one.words} {one.now}"
        for one in pass_differences(session, made, first)
        if (one.device, one.setting) not in gains  # set for each, and matched afterwards
    ]
    later = session.cabinets.get(made.main.file)
    if later is not None and later.used:
        found.append(cabinet_title(session, later.used))
    return "; ".join(found) or "nothing"
