"""What was measured of one unit over months, from sessions as they lie on the disk.

A series is one figure of one unit: an instrument's strength at a position, a string's intonation, a
loop's gain, a converter's calibration. Units are the same by the library's entry that they came
from, else by their name. A change is told with what else changed between the two: that is its
likely cause, and no more than likely.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import field
from typing import Literal

import numpy as np

from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.rig.model import AdcStage, DacStage, Device, Rig
from diaulos.session.instrument import Instrument
from diaulos.session.model import LoopCheck, Session
from diaulos.session.noise_check import NoiseCheck

Kind = Literal["strength", "brightness", "intonation", "loop", "noise", "calibration"]
LEAST: dict[Kind, float] = {
    "strength": 1.0, "brightness": 2.0, "intonation": 3.0, "loop": 0.3, "noise": 3.0,
    "calibration": 0.2,
}  # fmt: skip
"""What counts as a change: well above what two measurements of the same thing differ by."""
DEAD_DB = 4.0
"""Strings are called dead when they are so much less bright than they were at their best."""
FIGURE_HZ = 1_000.0
Context = tuple[tuple[str, str], ...]
Bright = Callable[[str], float | None]
"""How bright the sound in a file of the session is."""


@dataclass(frozen=True)
class Point:
    """A figure at a moment, and what stood beside it (names and words)."""

    at: str
    value: float
    session: str
    context: Context = ()


@dataclass(frozen=True)
class Series:
    """One figure of one unit, the oldest first."""

    unit: str
    kind: Kind
    what: str
    quantity: str
    points: tuple[Point, ...]


@dataclass(frozen=True)
class Change:
    """Two neighbours that differ by more than chance, in words; `cause` is "" where nobody noted
    anything."""

    unit: str
    kind: Kind
    what: str
    at: str
    before: float
    after: float
    words: str
    cause: str


@dataclass
class _Found:
    """Points under the key of their series."""

    points: dict[tuple[str, Kind, str, str], dict[tuple[str, float], Point]] = field(
        default_factory=dict
    )
    names: dict[str, tuple[str, str]] = field(default_factory=dict)
    """When it was last called so, and how."""

    def add(self, key: str, name: str, kind: Kind, what: str, quantity: str, point: Point) -> None:
        """The same reading in two sessions is one."""
        if not point.at:
            return
        self.names[key] = max(self.names.get(key, ("", "")), (point.at, name))
        series = self.points.setdefault((key, kind, what, quantity), {})
        series.setdefault((point.at, round(point.value, 6)), point)


def timeline(sessions: Iterable[tuple[Session, Bright]]) -> tuple[Series, ...]:
    """Every series of the sessions, by unit, kind and what it is of."""
    found = _Found()
    for session, bright in sessions:
        for one in session.instruments:
            _of_instrument(found, session, one, bright)
        for check in session.loop_checks:
            _of_loop(found, session, check)
        for heard in session.noise_checks:
            _of_noise(found, session, heard)
        for rig in session.rigs:
            for device in rig.devices:
                _of_device(found, session, device)
    made = [
        Series(
            found.names[key][1], kind, what, quantity,
            tuple(sorted(points.values(), key=lambda point: (point.at, point.value))),
        )
        for (key, kind, what, quantity), points in found.points.items()
    ]  # fmt: skip
    return tuple(sorted(made, key=lambda one: (one.unit.casefold(), one.kind, one.what)))


def _key(session: Session, place: str, name: str) -> str:
    origin = session.origins.get(place)
    return f"entry {origin.entry}" if origin is not None else name.casefold()


def _of_instrument(found: _Found, session: Session, one: Instrument, bright: Bright) -> None:
    key = _key(session, f"instrument:{one.id}", one.name)
    positions = {position.id: position.name for position in one.positions}
    cable = f"{one.cable_m:g} m, {one.cable_pf_per_m:g} pF/m"
    for reading in one.strength:
        where = positions.get(reading.position_id, reading.position_id)
        knobs = [
            f"{name} {knob:g}"
            for name, knob in (("volume", reading.volume_knob), ("tone", reading.tone_knob))
            if knob is not None
        ]
        context = (
            ("cable", cable), ("strings", " ".join(one.strings)), ("knobs", ", ".join(knobs)),
            ("notes", one.notes),
        )  # fmt: skip
        peak = reading.peak_dbu
        if peak is not None:
            point = Point(reading.made_at, peak, session.name, context)
            found.add(key, one.name, "strength", f"peak, {where}", "dBu", point)
        light = bright(reading.file) if reading.file is not None else None
        if light is not None:
            point = Point(reading.made_at, light, session.name, context)
            found.add(key, one.name, "brightness", f"2 to 6 kHz, {where}", "dB", point)
    for check in one.intonation:
        point = Point(check.made_at, check.cents, session.name)
        what = f"string {check.string}, {check.note}"
        found.add(key, one.name, "intonation", what, "cents", point)


def _of_loop(found: _Found, session: Session, check: LoopCheck) -> None:
    then = session.snapshots.get(check.rig_hash)
    context = _rig_context(then) if then is not None else ()
    name = f"{check.rig_name} by {check.played_by}"
    for back in check.returns:
        slate = back.slate
        if slate.response:
            hz = np.log([one for one, _ in slate.response])
            gain = float(np.interp(np.log(FIGURE_HZ), hz, [db for _, db in slate.response]))
            point = Point(check.made_at, gain, session.name, context)
            found.add(name.casefold(), name, "loop", f"{back.name} at 1 kHz", "dB", point)
        point = Point(check.made_at, slate.noise_dbfs, session.name, context)
        found.add(name.casefold(), name, "noise", f"{back.name}, noise", "dBFS", point)


def _of_noise(found: _Found, session: Session, check: NoiseCheck) -> None:
    then = session.snapshots.get(check.rig_hash)
    context = (*(_rig_context(then) if then is not None else ()), ("tried", check.label))
    name = f"{check.rig_name} by {check.played_by}"
    for one in check.tracks:
        for what, value in (
            ("noise", one.floor_dbfs), ("noise, A-weighted", one.floor_a_dbfs),
        ):  # fmt: skip
            point = Point(check.made_at, value, session.name, context)
            found.add(name.casefold(), name, "noise", f"{one.name}, {what}", "dBFS", point)


def _rig_context(rig: Rig) -> Context:
    """Cables and knobs of a rig, each under its place."""
    devices = {device.id: device for device in rig.devices}
    told = []
    for cable in rig.cables:
        ends = [
            f"{devices[ref.device].name} {devices[ref.device].port(ref.port).name}"
            for ref in (cable.source, cable.target)
        ]
        told.append(
            (f"cable {ends[0]} to {ends[1]}", f"{cable.length_m:g} m {cable.label}".strip())
        )
    for device in rig.devices:
        for setting in device.settings:
            value = setting.value if isinstance(setting.value, str) else f"{setting.value:g}"
            told.append((f"{setting.name} of {device.name}", value))
    return tuple(told)


def _of_device(found: _Found, session: Session, device: Device) -> None:
    key = _key(session, f"device:{device.name}", device.name)
    for path in device.paths:
        for stage in path.stages:
            if not isinstance(stage, (AdcStage, DacStage)):
                continue
            port = device.port(path.source if isinstance(stage, AdcStage) else path.target).name
            for one in stage.measured:
                switches = ", ".join(f"{name} {value}" for name, value in one.when)
                what = f"0 dBFS at {port}, gain {number(one.gain_db)} dB"
                what += f", {switches}" if switches else ""
                point = Point(
                    one.made_at, one.full_scale_dbu, session.name, (("measured by", one.how),)
                )
                found.add(key, device.name, "calibration", what, "dBu", point)


# --- what changed ---


def changes(series: Iterable[Series]) -> tuple[Change, ...]:
    """What differs by more than chance between neighbours, the newest first; strings that went
    dead."""
    every = tuple(series)
    found: list[Change] = []
    for one in every:
        for before, after in zip(one.points, one.points[1:], strict=False):
            apart = after.value - before.value
            if abs(apart) >= LEAST[one.kind]:
                found.append(_change(one, before, after, every))
        found += _dead(one)
    return tuple(sorted(found, key=lambda change: change.at, reverse=True))


def _change(one: Series, before: Point, after: Point, every: tuple[Series, ...]) -> Change:
    apart = after.value - before.value
    unit = {"dBu": "dB", "dBFS": "dB"}.get(one.quantity, one.quantity)
    day = after.at[:10]
    words = (
        f"{one.unit}, {one.what}: {number(apart, sign=True)} {unit} on {day}, "
        f"since {before.at[:10]}"
    )
    return Change(
        one.unit, one.kind, one.what, after.at, before.value, after.value, words,
        _cause(one, before, after, every),
    )  # fmt: skip


def _cause(one: Series, before: Point, after: Point, every: tuple[Series, ...]) -> str:
    """What else changed between the two."""
    then, now = dict(before.context), dict(after.context)
    told = []
    fresh = now.get("notes", "").replace(then.get("notes", ""), "")
    if "string" in fresh.casefold():
        line = next((row for row in fresh.splitlines() if "string" in row.casefold()), fresh)
        told.append(f"noted: {line.strip()[:120]}")
    for key in dict.fromkeys((*then, *now)):
        if key == "notes" or then.get(key, "") == now.get(key, ""):
            continue
        was, new = then.get(key) or "not there", now.get(key) or "not there"
        told.append(f"{key}: {was} before, {new} now")
    if one.kind == "strength" and not told:
        told += _brighter(one, before, after, every)
    return "; ".join(told[:4])


def _brighter(one: Series, before: Point, after: Point, every: tuple[Series, ...]) -> list[str]:
    """New strings are brighter, too."""
    if after.value <= before.value:
        return []
    for other in every:
        if other.kind != "brightness" or other.unit != one.unit:
            continue
        values = {point.at: point.value for point in other.points}
        if before.at in values and after.at in values:
            more = values[after.at] - values[before.at]
            if more >= LEAST["brightness"]:
                return [f"likely new strings: {number(more, sign=True)} dB from 2 to 6 kHz, too"]
    return []


def _dead(one: Series) -> list[Change]:
    """The newest reading against the brightest since the strings were last brighter at a jump."""
    if one.kind != "brightness" or len(one.points) < 2:
        return []
    since = 0
    for at, (before, after) in enumerate(zip(one.points, one.points[1:], strict=False), start=1):
        if after.value - before.value >= LEAST["brightness"]:
            since = at
    best = max(one.points[since:], key=lambda point: point.value)
    last = one.points[-1]
    lost = best.value - last.value
    if lost < DEAD_DB or best.at >= last.at:
        return []
    words = (
        f"{one.unit}, {one.what}: {number(lost)} dB less bright than on {best.at[:10]}: the "
        "strings are dead, or nearly"
    )
    return [
        Change(one.unit, one.kind, one.what, last.at, best.value, last.value, words,
               "strings age (common practice, no source)")
    ]  # fmt: skip
