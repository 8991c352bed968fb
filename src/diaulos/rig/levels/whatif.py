"""What if the instrument were hotter, the player dug in, another box were there?

A scenario changes a course, not the rig: the diagram after it stands beside the one before.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.catalogue.types import TYPES, make
from diaulos.rig.course import Course, trace
from diaulos.rig.levels.settings import CourseSetting, Role, settings_on, with_values
from diaulos.rig.model import Device, Rig
from diaulos.rig.playing import crest_of
from diaulos.rig.sources import REPRESENTATIVE, PlayedSource

HOTTER_DB = 6.0
DIGS_IN_PEAK_DB, DIGS_IN_RMS_DB = 4.0, 2.0
"""What a player adds who digs in (common practice, no source)."""
DI_TYPES = ("passive_di", "active_di")


@dataclass(frozen=True)
class Scenario:
    """A question in words, and the course that answers it."""

    id: str
    words: str
    change: Callable[[Course], Course]


def scenarios(course: Course) -> tuple[Scenario, ...]:
    """The questions that a course can be asked.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.

    Returns
    -------
    The questions.
    """
    found: list[Scenario] = []
    source = course.source
    if source is not None:
        found += [
            Scenario("hotter", f"Instrument hotter by {HOTTER_DB:g} dB",
                     lambda c: _played(c, HOTTER_DB, HOTTER_DB)),
            Scenario("digs-in", "Player digs in",
                     lambda c: _played(c, DIGS_IN_PEAK_DB, DIGS_IN_RMS_DB)),
            Scenario("softer", f"Instrument weaker by {HOTTER_DB:g} dB",
                     lambda c: _played(c, -HOTTER_DB, -HOTTER_DB)),
        ]  # fmt: skip
        if not source.active:
            found.append(Scenario("active", "Active bass", _active))
    for leg in course.legs:
        if leg.device.kind == "di":
            found += [
                Scenario(f"di-{kind}", f"{leg.device.name} replaced by {TYPES[kind].name}",
                         _swapped(leg.device.id, kind))
                for kind in DI_TYPES
                if kind != leg.device.type
            ]  # fmt: skip
    for one in settings_on(course):
        if one.role is Role.SWITCH:
            found += [_thrown(one, value) for value in one.steps if value != one.value]
    return tuple(found)


def scenario(course: Course, wanted: str) -> Scenario:
    """The question of this id; RigError when it cannot be asked here.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    wanted
        Id of the question.

    Returns
    -------
    The question.

    Raises
    ------
    RigError
        When it cannot be asked here.
    """
    known = scenarios(course)
    for one in known:
        if one.id == wanted:
            return one
    raise RigError(
        f"This course cannot be asked {wanted!r}.",
        where=str(course.track),
        remedy=f"It can be asked: {', '.join(one.id for one in known)}.",
    )


def _played(course: Course, peak_db: float, rms_db: float) -> Course:
    source = course.source
    assert source is not None
    peak = source.emf_peak_dbu + peak_db
    if source.max_dbu is not None:
        peak = min(peak, source.max_dbu)
    gained = peak - source.emf_peak_dbu
    crest = max(0.0, crest_of(source) + gained - rms_db)
    return _with_source(
        course, replace(source, emf_peak_dbu=peak, crest_db=crest, crest_known=True)
    )


def _active(course: Course) -> Course:
    return _with_source(course, replace(REPRESENTATIVE["bass"], name="Active bass"))


def _with_source(course: Course, source: PlayedSource) -> Course:
    return replace(course, source=source)


def _thrown(one: CourseSetting, value: float | str) -> Scenario:
    return Scenario(
        f"{one.ref}={value}",
        f"{one.words}: {one.value_words(value)}",
        lambda course: with_values(course, {one.ref: value}),
    )


def _swapped(device_id: str, type_id: str) -> Callable[[Course], Course]:
    def change(course: Course) -> Course:
        rig = swap_device(course.rig, device_id, type_id)
        new = trace(course.graph.of(rig), course.track)
        return replace(new, source=course.source)

    return change


def swap_device(rig: Rig, device_id: str, type_id: str) -> Rig:
    """The rig with a device of another type in the same place; RigError when a cable would
    hang in the air. Settings that both have stay.

    Parameters
    ----------
    rig
        The rig.
    device_id
        Id of the device.
    type_id
        Id of a device type.

    Returns
    -------
    The rig.

    Raises
    ------
    RigError
        When a cable would hang in the air.
    """
    old = rig.device(device_id)
    new = make(type_id, device_id)
    ports = {port.id for port in new.ports}
    for cable in rig.cables:
        for end in (cable.source, cable.target):
            if end.device == device_id and end.port not in ports:
                raise RigError(
                    f"{new.name} has no {old.port(end.port).name.lower()}, which is in use.",
                    where=old.name,
                )
    return rig.with_device(_with_old_settings(new, old))


def _with_old_settings(new: Device, old: Device) -> Device:
    for setting in old.settings:
        if new.has_setting(setting.id) and type(new.setting(setting.id)) is type(setting):
            try:
                new = new.with_setting(setting.id, setting.value)
            except RigError:
                continue
    return new
