"""The patch sheet: every cable in the order to plug, the switches and gains of its ports."""

from __future__ import annotations

from diaulos.rig.model import Cable, Device, Rig, Setting, named_by
from diaulos.rig.safety import notices
from diaulos.session.model import Session
from diaulos.work.rigs.look import RigReport, look_at
from diaulos.work.rigs.stored import Stored
from diaulos.work.rigs.tables import PATCH_HEAD, patch_rows
from diaulos.work.sheets.figuring import pf_per_m, stands
from diaulos.work.sheets.model import Notices, Part, Rows, Words

HEARD = ("headphones", "monitor")
FIRST, LAST = 0, 3


def patch_parts(session: Session, rig_id: str, stored: Stored) -> tuple[Part, ...]:
    """Notices, what to mute, cables, switches and gains."""
    report = look_at(session, rig_id, stored)
    rig = report.rig
    told = notices(rig)
    return (
        Notices("Before plugging", tuple((one.title, one.text) for one in told)),
        Words("Mute first", _mute_words(rig)),
        _cables(report),
        _settings(session, rig),
    )


def _mute_words(rig: Rig) -> tuple[str, ...]:
    heard = [device.name for device in rig.devices if device.kind in HEARD]
    lines = [f"{name}: level down until everything is plugged." for name in heard]
    phantom = [
        f"{device.name}: {setting.name} is on; plug with it off."
        for device in rig.devices
        for setting in device.settings
        if setting.id.startswith("phantom") and setting.value == "on"
    ]
    return (*lines, *phantom) or ("Nothing is heard by this rig.",)


def _cables(report: RigReport) -> Rows:
    order = _plug_order(report)
    rows = sorted(patch_rows(report), key=lambda row: order[row.cable.id])
    return Rows(
        "Cables, in the order to plug",
        ("", *PATCH_HEAD[:4], "pF/m", *PATCH_HEAD[4:]),
        tuple(
            (f"{at}", *row.cells[:4], pf_per_m(row.cable), *row.cells[4:])
            for at, row in enumerate(rows, start=1)
        ),
        frozenset({0, 4, 5, 6}),
        (0.5, 3.0, 3.0, 1.3, 0.9, 0.8, 1.3, 1.4),
        tick=True,
        empty="No cable is plugged.",
    )


def _plug_order(report: RigReport) -> dict[str, tuple[int, int, int]]:
    """What feeds and what loads an amplifier first, then course by course from its beginning on,
    what is heard last."""
    steps: dict[str, tuple[int, int]] = {}
    for number, plan in enumerate(report.tracks):
        for step, leg in enumerate(plan.course.legs if plan.course is not None else ()):
            if leg.cable is not None:
                steps.setdefault(leg.cable.id, (number, step))
    devices = {device.id: device for device in report.rig.devices}
    order = {}
    for at, cable in enumerate(report.rig.cables):
        course, step = steps.get(cable.id, (len(report.tracks), at))
        order[cable.id] = (_stage(cable, devices), course, step)
    return order


def _stage(cable: Cable, devices: dict[str, Device]) -> int:
    source, target = devices[cable.source.device], devices[cable.target.device]
    kind = source.port(cable.source.port).signal_class.value
    if kind in ("power", "speaker"):
        return FIRST
    return LAST if target.kind in HEARD else 1


def _settings(session: Session, rig: Rig) -> Rows:
    """Switches and gains of every plugged port; then what is left of a device that is plugged."""
    plugged = [ref for cable in rig.cables for ref in (cable.source, cable.target)]
    rows = []
    for device in rig.devices:
        ports = list(dict.fromkeys(ref.port for ref in plugged if ref.device == device.id))
        told: set[str] = set()
        for port_id in ports:
            for setting in port_settings(device, port_id):
                if setting.id not in told:
                    told.add(setting.id)
                    rows.append((device.name, device.port(port_id).name, setting.name,
                                 stands(session, setting)))  # fmt: skip
        of_ports = {
            setting.id for port in device.ports for setting in port_settings(device, port.id)
        }
        if ports:
            rows += [
                (device.name, "", setting.name, stands(session, setting))
                for setting in device.settings
                if setting.id not in told and setting.id not in of_ports
            ]
    return Rows(
        "Switches and gains",
        ("Device", "Port", "Control", "Stands at"),
        tuple(rows),
        frozenset(),
        (3.0, 2.2, 2.4, 2.4),
        tick=True,
        empty="No device of this rig has a control.",
    )


def port_settings(device: Device, port_id: str) -> tuple[Setting, ...]:
    """The controls and switches that belong to one port of a device alone."""
    users: dict[str, set[str]] = {}
    for port in device.ports:
        for name in _names_at(device, port.id):
            users.setdefault(name, set()).add(port.id)
    mine = {name for name, ports in users.items() if ports == {port_id}}
    return tuple(setting for setting in device.settings if setting.id in mine)


def _names_at(device: Device, port_id: str) -> set[str]:
    names = {
        name for port in device.ports if port.id == port_id for mode in port.modes
        for name, _ in mode.when
    }  # fmt: skip
    for path in device.paths:
        if path.source != port_id:
            continue
        names |= {name for name, _ in path.when}
        for stage in path.stages:
            words, numbers = named_by(stage)
            names |= words | numbers
    return names
