"""Names of passes, from what they are made with and what is otherwise than in those before."""

from __future__ import annotations

from diaulos.errors import RigError
from diaulos.rig.course import reamp_course
from diaulos.rig.model import Control, Rig, Setting
from diaulos.rig.returns import way_words
from diaulos.rig.states import setting_words
from diaulos.session.model import SentPart, Session, Take
from diaulos.work.reamp.parts import part_words

LONGEST = 120


def pass_name(
    session: Session, take: Take, rig: Rig, part: SentPart | None, *, behind_pedals: bool = False
) -> str:
    """Voice and drive, how it is sent, and of a part which. Where the take has a pass of that name,
    what differs from it is added: the cabinet first, else any control; a number where nothing
    does."""
    base = ", ".join(one for one in (_tone(rig), _way(rig)) if one) or rig.name
    if behind_pedals:
        base = f"{base}, after pedals"
    if part is not None:
        base = f"{base}, {part_words(session, take, part)}"
    base = base[:LONGEST]
    taken = {made.name for made in take.passes}
    if base not in taken:
        return base
    alike = [made for made in take.passes if made.name.startswith(base)]
    for made in reversed(alike):
        other = session.snapshots.get(made.rig_hash)
        more = _otherwise(rig, other) if other is not None else ""
        if more and f"{base}, {more}" not in taken:
            return f"{base}, {more}"
    number = 2
    while f"{base} ({number})" in taken:
        number += 1
    return f"{base} ({number})"


def _settings(rig: Rig) -> list[tuple[str, Setting]]:
    return [(device.id, setting) for device in rig.devices for setting in device.settings]


def _tone(rig: Rig) -> str:
    """Voice and drive of its first amplifier."""
    for device in rig.devices:
        if device.has_setting("voice"):
            # What stands in brackets behind a voice's name says what it is for.
            words = setting_words(device.setting("voice")).partition(" (")[0]
            drive = device.setting("drive") if device.has_setting("drive") else None
            return f"{words} drive {drive.value:g}" if isinstance(drive, Control) else words
    return ""


def _way(rig: Rig) -> str:
    try:
        return way_words(reamp_course(rig))
    except RigError:
        return ""


def _otherwise(rig: Rig, other: Rig) -> str:
    """What stands otherwise than in another rig, the cabinet first."""
    then = {(device, setting.id): setting for device, setting in _settings(other)}
    found = [
        setting
        for device, setting in _settings(rig)
        if (device, setting.id) in then and then[device, setting.id].value != setting.value
    ]
    found.sort(key=lambda one: one.id != "cabinet")
    if not found:
        return ""
    words = setting_words(found[0])
    return words if found[0].id == "cabinet" else f"{found[0].name.lower()} {words}"
