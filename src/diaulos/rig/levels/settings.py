"""The controls and switches of a course that move its levels, and which of them the solver
may turn.

Left alone are what a person locked, what stands as an output was calibrated, and, unless
they are freed, what stands ahead of an amplifier or a compressor: there a pad or a trim is not
volume but drive, a part of the tone.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from enum import StrEnum

from diaulos.errors import RigError
from diaulos.records import dataclass
from diaulos.rig.course import Course, Leg
from diaulos.rig.model import (
    AdcStage,
    AmpStage,
    Choice,
    CompressorStage,
    Control,
    DacStage,
    Device,
    GainStage,
    PassiveStage,
    Path,
    PortMode,
    SettingRef,
    SignalClass,
    Stage,
)
from diaulos.rig.tone_place import TRIM

Values = Mapping[SettingRef, float | str]


class Role(StrEnum):
    """What turning it does."""

    GAIN = "gain"
    """A plain gain: its effect is worked out, not tried."""
    TRIM = "trim"
    """A passive trim: its impedance acts on both neighbours."""
    SWITCH = "switch"


@dataclass(frozen=True)
class CourseSetting:
    """A control or switch on a course. `kept` says why the solver leaves it, "" if it may
    turn it."""

    ref: SettingRef
    setting: Control | Choice
    role: Role
    leg: int
    device_name: str
    ahead_of: str
    """"amplifier" or "compressor" where one is behind it: how hard that is driven is a part of
    the tone."""
    at_entry: bool
    kept: str = ""

    @property
    def words(self) -> str:
        """For a person."""
        return f"{self.device_name}: {self.setting.name}"

    @property
    def value(self) -> float | str:
        """As it stands."""
        return self.setting.value

    def value_words(self, value: float | str) -> str:
        """A value as it is read on the device."""
        if isinstance(self.setting, Choice):
            return dict(self.setting.options).get(str(value), str(value))
        return f"{value:g} {self.setting.unit}".strip()

    @property
    def steps(self) -> tuple[float | str, ...]:
        """Every value that it can take, in the device's own steps."""
        if isinstance(self.setting, Choice):
            return tuple(value for value, _ in self.setting.options)
        return control_steps(self.setting, self.words)


MOST_STEPS = 2_000
MOST_RANGE_DB = 300.0


def control_steps(control: Control, where: str) -> tuple[float, ...]:
    """The values of a control; RigError for one whose range no device has.

    Parameters
    ----------
    control
        A knob with its range and step.
    where
        Words for the error.

    Returns
    -------
    Values in order.

    Raises
    ------
    RigError
        For a range that no device has.
    """
    span = control.maximum - control.minimum
    if span > MOST_RANGE_DB or span / control.step > MOST_STEPS:
        raise RigError(
            f"{control.name} runs from {control.minimum:g} to {control.maximum:g} "
            f"{control.unit} in steps of {control.step:g}: a gain without limits.",
            where=where,
            remedy="Give it the range and the step that the device has.",
        )
    count = int(span / control.step + 1e-9)
    values = [round(control.minimum + n * control.step, 9) for n in range(count + 1)]
    if values[-1] < control.maximum - 1e-9:
        values.append(control.maximum)
    return tuple(values)


def settings_on(
    course: Course,
    *,
    free_tone: bool = False,
    locked: tuple[SettingRef, ...] | None = None,
    decided: tuple[SettingRef, ...] = (),
) -> tuple[CourseSetting, ...]:
    """The settings of a course that move its levels ahead of or at its last converter, in
    order. `locked` replaces the rig's own locks; `decided` are set for another course.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    free_tone
        Whether controls of the tone may move.
    locked
        Settings that stay; None for the rig's own locks.
    decided
        Settings that another course has set.

    Returns
    -------
    In the order of the course.

    Raises
    ------
    RigError
        For a range that no device has.
    """
    locks = set(course.rig.locked if locked is None else locked)
    found: list[CourseSetting] = []
    bends = [(i, what) for i, leg in enumerate(course.legs) if (what := _bends(leg.path))]
    last = max((i for i, leg in enumerate(course.legs) if _has(leg, AdcStage)), default=-1)
    for index, leg in enumerate(course.legs):
        if last >= 0 and index > last:
            break
        if index == last:
            leg = _to_converter(leg)
        for setting, role, at_entry, ahead in _of_leg(leg, index, bends):
            ref = SettingRef(device=leg.device.id, setting=setting.id)
            if any(one.ref == ref for one in found):
                continue
            one = CourseSetting(ref, setting, role, index, leg.device.name, ahead, at_entry)
            kept = _kept(one, locks, free_tone)
            if not kept and ref in decided:
                kept = "set for another course"
            if not kept and not ahead and _loud(course, one):
                kept = "ahead of the loudspeaker: loudness in the room"
            found.append(replace(one, kept=kept))
    return tuple(found)


def _kept(one: CourseSetting, locks: set[SettingRef], free_tone: bool) -> str:
    if one.ref in locks:
        return "locked"
    if one.ref.setting == TRIM:
        return "the instrument's trim: set in Instruments"
    if isinstance(one.setting, Control) and one.setting.noted is not None:
        return "it scales every output together"
    if one.ahead_of and not free_tone:
        return f"ahead of the {one.ahead_of}: part of the tone"
    return ""


def _loud(course: Course, one: CourseSetting) -> bool:
    """Whether a loudspeaker is behind it: what it does is heard in the room."""
    return any(
        leg.exit is not None and leg.exit.signal_class is SignalClass.SOUND
        for leg in course.legs[one.leg :]
    )


def _to_converter(leg: Leg) -> Leg:
    """The part of a device up to its last converter: what is behind no longer sets a gain."""
    assert leg.path is not None
    stages = leg.path.stages
    end = max(i for i, stage in enumerate(stages) if isinstance(stage, AdcStage))
    return replace(leg, path=leg.path.model_copy(update={"stages": stages[: end + 1]}), exit=None)


def _has(leg: Leg, kind: type) -> bool:
    return leg.path is not None and any(isinstance(stage, kind) for stage in leg.path.stages)


def _bends(path: Path | None, first: int = 0) -> str:
    """What a path has, from a stage on, that answers by level: an amplifier, else a compressor,
    else ""."""
    stages = path.stages[first:] if path else ()
    if any(isinstance(stage, AmpStage) for stage in stages):
        return "amplifier"
    return "compressor" if any(isinstance(stage, CompressorStage) for stage in stages) else ""


def _of_leg(
    leg: Leg, index: int, bends: list[tuple[int, str]]
) -> list[tuple[Control | Choice, Role, bool, str]]:
    """(setting, role, changes the entry, ahead of what) of one device."""
    device = leg.device
    found: list[tuple[Control | Choice, Role, bool, str]] = []
    paths_read = {name for path in device.paths for name, _ in path.when}
    behind = next((what for at, what in bends if at > index), "")
    if leg.entry is not None:
        # A port's own amplifier input is ahead of the amplifier too.
        ahead = _bends(leg.path) or behind
        for name in _mode_names(device, leg.entry.id):
            _switch(device, name, paths_read, True, ahead, found)
    for number, stage in enumerate(leg.path.stages if leg.path else ()):
        ahead = _bends(leg.path, number) or behind
        for name in _offset_names(stage):
            _switch(device, name, paths_read, isinstance(stage, AdcStage), ahead, found)
        control = getattr(stage, "control", None)
        if isinstance(stage, (GainStage, AdcStage, DacStage, PassiveStage)) and control:
            setting = device.setting(control)
            assert isinstance(setting, Control)
            role = Role.TRIM if isinstance(stage, PassiveStage) else Role.GAIN
            found.append((setting, role, False, ahead))
    if leg.exit is not None:
        for name in _mode_names(device, leg.exit.id):
            _switch(device, name, paths_read, False, behind, found)
    return found


def _mode_names(device: Device, port_id: str) -> list[str]:
    """Switches that change a port's class or maximum: not those of its impedance alone, which
    are tone."""
    modes: tuple[PortMode, ...] = next(p.modes for p in device.ports if p.id == port_id)
    return [
        name
        for mode in modes
        if mode.signal_class is not None or mode.max_add_db
        for name, _ in mode.when
    ]


def _offset_names(stage: Stage) -> list[str]:
    if isinstance(stage, (GainStage, AdcStage, DacStage)):
        return [name for offset in stage.offsets for name, _ in offset.when]
    return []


def _switch(
    device: Device,
    name: str,
    paths_read: set[str],
    at_entry: bool,
    ahead: str,
    found: list[tuple[Control | Choice, Role, bool, str]],
) -> None:
    """A switch that changes levels but not the way: one that does is another course."""
    setting = device.setting(name)
    if name in _load_switches(device):
        return  # an output's tap goes by the load that is plugged in, not by a level
    if isinstance(setting, Choice) and name not in paths_read and not setting.open_ended:
        if all(one[0].id != name for one in found):
            found.append((setting, Role.SWITCH, at_entry, ahead))


def _load_switches(device: Device) -> set[str]:
    """Switches that make an output fit for another load."""
    return {
        name
        for port in device.ports
        for mode in port.modes
        if mode.rated_ohm is not None
        for name, _ in mode.when
    }


def with_values(course: Course, values: Values) -> Course:
    """A course with some of its settings at other values. Which way it runs must not depend
    on them; what hangs beside it stays as it is.

    Parameters
    ----------
    course
        From an instrument or a played track to a recorded one.
    values
        Values by setting.

    Returns
    -------
    The course.
    """
    legs = []
    devices: dict[str, Device] = {}
    for leg in course.legs:
        device = devices.get(leg.device.id)
        if device is None:
            device = leg.device
            for ref, value in values.items():
                if ref.device == device.id:
                    device = _set(device, ref.setting, value)
            devices[device.id] = device
        if device is leg.device:
            legs.append(leg)
            continue
        entry = device.port(leg.entry.id) if leg.entry is not None else None
        exit_ = device.port(leg.exit.id) if leg.exit is not None else None
        legs.append(replace(leg, device=device, entry=entry, exit=exit_))
    return replace(course, legs=tuple(legs))


def _set(device: Device, setting_id: str, value: float | str) -> Device:
    """Without validation: the values come from `CourseSetting.steps`."""
    settings = tuple(
        s.model_copy(update={"value": value}) if s.id == setting_id else s for s in device.settings
    )
    return device.model_copy(update={"settings": settings})
