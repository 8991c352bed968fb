"""The two states of a rig that records and reamps with the same devices: Record and Reamp.

The devices of a stored rig stand as in state Record; what stands otherwise in state Reamp is a list
of switches, to be thrown on the hardware. What is asked of a rig in one of its states is asked of a
rig whose switches stand so.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import combinations

from diaulos.errors import RigError
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.rig.course import Course, can_reamp, trace
from diaulos.rig.kept import Kept
from diaulos.rig.model import Choice, Control, Device, PortRef, Rig, RigState, StateSwitch

STATE_WORDS: dict[RigState, str] = {"record": "Record", "reamp": "Reamp"}
MOST_TOGETHER = 2
"""Switches of one device that are tried together."""

_APPLIED: Kept[tuple[Rig, Rig]] = Kept(256)
"""A rig never changes, and every view asks for its state Reamp behind every edit."""


@dataclass(frozen=True)
class Switched:
    """One switch that stands otherwise in the two states, in words."""

    device: str
    setting: str
    record: str
    reamp: str

    def words(self, state: RigState) -> str:
        """What is set on the hardware for a state."""
        return (
            f"{self.device}: {self.setting} at {self.record if state == 'record' else self.reamp}"
        )


def in_state(rig: Rig, state: RigState) -> Rig:
    """A rig as it stands in a state; the same rig where nothing stands otherwise."""
    if state == rig.state or (state == "reamp" and not rig.reamp_switches):
        return rig
    if state == "record":
        raise RigError(
            f"{rig.name} is in state Reamp: how it records is not known from it.",
            remedy="Ask the session for the rig.",
        )

    def applied() -> tuple[Rig, Rig]:
        found = rig.model_copy(update={"state": "reamp"})
        for one in rig.reamp_switches:
            found = found.with_setting(one.device, one.setting, one.value)
        return rig, found

    # Kept with the rig itself: while it is held, nothing else has its identity.
    return _APPLIED.get(id(rig), applied)[1]


def reamps(rig: Rig) -> bool:
    """Whether a stored track can be sent through it in its state Reamp."""
    return can_reamp(in_state(rig, "reamp"))


def folded(rig: Rig, changed: Rig) -> Rig:
    """A rig after its state Reamp was changed: a control or switch that stands otherwise than
    before stands so in that state alone; devices and cables are the same in both."""
    before = in_state(rig, "reamp")
    switches = {(one.device, one.setting): one for one in rig.reamp_switches}
    devices = []
    for device in changed.devices:
        own = {one.id: one for one in rig.devices}.get(device.id)
        was = {one.id: one for one in before.devices}.get(device.id)
        if own is None or was is None:
            devices.append(device)
            continue
        for setting in device.settings:
            if not own.has_setting(setting.id):
                continue
            if setting.value != was.setting(setting.id).value:
                switches[device.id, setting.id] = StateSwitch(
                    device=device.id, setting=setting.id, value=setting.value
                )
            device = device.with_setting(setting.id, own.setting(setting.id).value)
        devices.append(device)
    there = {device.id for device in devices}
    kept = tuple(one for one in switches.values() if one.device in there)
    return changed.model_copy(
        update={"devices": tuple(devices), "reamp_switches": kept, "state": "record"}
    )


def brought_home(then: Rig, now: Rig | None) -> Rig:
    """A rig that was kept in state Reamp as a session holds it: its switches stand in Record as
    they stand `now` (where it is there still), the rest as it was then."""
    if then.state == "record":
        return then
    devices = {one.id: one for one in now.devices} if now is not None else {}
    home = then.model_copy(update={"state": "record"})
    for one in then.reamp_switches:
        own = devices.get(one.device)
        if own is not None and own.has_setting(one.setting):
            home = home.with_setting(one.device, one.setting, own.setting(one.setting).value)
    return home


def set_in_state(rig: Rig, state: RigState, device: str, setting: str, value: float | str) -> Rig:
    """One control or switch: in state Reamp alone where it stands otherwise there already, in both
    states where it does not."""
    other = StateSwitch(device=device, setting=setting, value=value)
    if state == "reamp" and any(one.ref == other.ref for one in rig.reamp_switches):
        rig.with_setting(device, setting, value)  # it must be one that it has
        return with_switch(rig, other)
    return rig.with_setting(device, setting, value)


def with_switch(rig: Rig, switch: StateSwitch) -> Rig:
    """A switch that stands so in state Reamp; where that is as in state Record, none."""
    now = rig.device(switch.device).with_setting(switch.setting, switch.value)
    same = rig.device(switch.device).setting(switch.setting).value
    others = [one for one in rig.reamp_switches if one.ref != switch.ref]
    value = now.setting(switch.setting).value
    kept = [*others, switch.model_copy(update={"value": value})] if value != same else others
    return rig.model_copy(update={"reamp_switches": tuple(kept)})


def switched(rig: Rig) -> tuple[Switched, ...]:
    """What is thrown between the two states, in words."""
    found = []
    for one in rig.reamp_switches:
        device = rig.device(one.device)
        setting = device.setting(one.setting)
        there = device.with_setting(one.setting, one.value).setting(one.setting)
        found.append(
            Switched(device.name, setting.name, setting_words(setting), setting_words(there))
        )
    return tuple(found)


def setting_words(setting: Control | Choice) -> str:
    """As it is read on the device."""
    if isinstance(setting, Choice):
        return dict(setting.options).get(setting.value, setting.value)
    return f"{number(setting.value)} {setting.unit}".strip()


# --- what could be thrown ---


def proposed_switches(rig: Rig) -> tuple[StateSwitch, ...]:
    """The fewest switches that make a stored track go out through a rig and come back; none where
    it does already, or where no switch helps and a cable is wanted."""
    if can_reamp(rig):
        return ()
    for switches, other in _thrown(rig):
        if can_reamp(other):
            return switches
    return ()


def switches_back(rig: Rig, track: PortRef, source: str) -> tuple[StateSwitch, ...]:
    """The fewest switches by which a recorded track starts at its source again; none where no
    switch helps."""
    for switches, other in _thrown(rig):
        course = _traced(other, track)
        if course is not None and course.start.device.id == source:
            return switches
    return ()


def thrown_words(rig: Rig, switches: Sequence[StateSwitch]) -> str:
    """What is set, for a person."""
    found = []
    for one in switches:
        device = rig.device(one.device)
        there = device.with_setting(one.setting, one.value).setting(one.setting)
        found.append(f"Set {there.name} of {device.name} to {setting_words(there)}")
    return ", and ".join(found)


def _traced(rig: Rig, track: PortRef) -> Course | None:
    try:
        return trace(rig, track)
    except RigError:
        return None


def _thrown(rig: Rig) -> Iterator[tuple[tuple[StateSwitch, ...], Rig]]:
    """Every rig that differs in one switch by which a device goes other ways, then in two of one
    device."""
    for count in range(1, MOST_TOGETHER + 1):
        for device in rig.devices:
            for several in combinations(tuple(_ways(device)), count):
                if len({one.setting for one in several}) == count:
                    yield several, _with(rig, several)


def _ways(device: Device) -> Iterator[StateSwitch]:
    asked = {setting for path in device.paths for setting, _ in path.when}
    for setting in device.settings:
        if isinstance(setting, Choice) and setting.id in asked:
            for option, _ in setting.options:
                if option != setting.value:
                    yield StateSwitch(device=device.id, setting=setting.id, value=option)


def _with(rig: Rig, switches: Iterable[StateSwitch]) -> Rig:
    for one in switches:
        rig = rig.with_setting(one.device, one.setting, one.value)
    return rig
