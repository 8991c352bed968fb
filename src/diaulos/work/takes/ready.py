"""What is armed, and what must be true before a take: worked out from the session."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from typing import Literal

from diaulos.errors import EditError
from diaulos.figures import counted
from diaulos.records import dataclass
from diaulos.rig.checks import Finding, Severity
from diaulos.rig.model import PortRef, Rig, Tap
from diaulos.rig.trackplan import TrackPlan, jack_full_scale_dbu, stereo_pairs
from diaulos.session.model import Session
from diaulos.session.roles import recording_rig
from diaulos.work.rigs.look import RigReport, look_at, node_load_of
from diaulos.work.rigs.stored import NOTHING_STORED, Stored
from diaulos.work.rigs.switches import stands_otherwise, state_words

USUAL_MINUTES = 10.0
TrackSide = Literal["", "left", "right"]
_SIDE = re.compile(r"[\s,]*\b(left|right|l|r|channel [12])\b[\s,]*", re.IGNORECASE)
NO_SIDE: tuple[str, TrackSide] = ("", "")


@dataclass(frozen=True)
class Armed:
    """A track that is to be recorded: input channel of the stream by its place in the list."""

    port: PortRef
    name: str
    tap: Tap
    input_number: int | None
    source: str
    plan: TrackPlan


def sides_of(armed: Sequence[Armed]) -> dict[PortRef, tuple[str, TrackSide]]:
    """Of the armed tracks that are the two sides of one stereo output: what both are called as one
    track, and the side."""
    names = {one.port: one.name for one in armed}
    courses = [one.plan.course for one in armed if one.plan.course is not None]
    found: dict[PortRef, tuple[str, TrackSide]] = {}
    taken: set[str] = set()
    for left, right in stereo_pairs(courses):
        if left in found or right in found:
            continue
        name = free_name(pair_name(names[left], names[right]), taken)
        taken.add(name)
        found |= {left: (name, "left"), right: (name, "right")}
    return found


def free_name(wanted: str, taken: Collection[str]) -> str:
    """A name that nothing has yet: with a number where it has to be."""
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted} {number}", number + 1
    return name


def pair_name(left: str, right: str) -> str:
    """What two sides have in common by name: "Modeled" of "Modeled left" and "Modeled right"."""
    one, other = (" ".join(_SIDE.sub(" ", name).split()) for name in (left, right))
    return one if one and one == other else f"{left} and {right}"


@dataclass(frozen=True)
class Condition:
    """Something that must be true before a take, worked out from the session."""

    id: str
    words: str
    """While it holds."""
    otherwise: str
    """While it does not."""
    holds: bool
    remedy: str = ""
    must: bool = False
    """Recording is refused while it does not hold."""


def armed_tracks(session: Session, report: RigReport) -> tuple[Armed, ...]:
    """Those of the tracks that can be recorded that nobody switched off."""
    off = session.disarmed.get(report.rig.id, ())
    return tuple(one for one in recordable_tracks(report) if one.port not in off)


def recordable_tracks(report: RigReport) -> tuple[Armed, ...]:
    """The planned tracks with a course that starts at an instrument, in the plan's order."""
    plans = {plan.track: plan for plan in report.tracks}
    found = []
    for number, planned in enumerate(report.rig.tracks, start=1):
        plan = plans.get(planned.port)
        if plan is None or plan.course is None or plan.course.source is None:
            continue
        found.append(
            Armed(
                planned.port,
                planned.name,
                plan.course.tap,
                planned.input_number or number,
                plan.course.start.device.id,
                plan,
            )
        )
    return tuple(found)


def rig_to_record(session: Session, wanted: str = "") -> str:
    """Id of the rig to record with: the one that is asked for, else the session's, else the
    first that has something armed."""
    first = recording_rig(session, wanted)
    if wanted:
        return first.id
    for rig in (first, *session.rigs):
        if recordable_tracks(look_at(session, rig.id)):
            return rig.id
    return first.id


def bytes_needed(session: Session, tracks: int, minutes: float) -> int:
    """Room that a take of some minutes takes."""
    width = 3 if session.word_length == "24" else 4
    return int(tracks * minutes * 60.0 * session.sample_rate_hz * width)


def checklist(
    session: Session,
    rig_id: str,
    free_bytes: int,
    minutes: float = USUAL_MINUTES,
    stored: Stored = NOTHING_STORED,
) -> tuple[Condition, ...]:
    """What must be true now. Nothing is ticked by hand."""
    report = look_at(session, rig_id, stored)
    armed = armed_tracks(session, report)
    there = recordable_tracks(report)
    worst = max((one.severity for one in report.findings), default=Severity.NOTE)
    dangers = [one for one in report.findings if one.severity is Severity.DANGER]
    faults = [one for one in report.findings if one.severity is Severity.FAULT]
    doubled = [one for one in report.findings if one.id == "double-monitoring"]
    need = bytes_needed(session, max(1, len(armed)), minutes)
    chosen = [
        device
        for device in report.rig.devices
        if device.kind == "instrument" and any(one.source == device.id for one in armed)
    ]
    unknown = [
        device.name
        for device in chosen
        if not any(one.id == device.word("instrument") for one in session.instruments)
    ]
    state = state_words(report.rig, "record")
    turned = stands_otherwise(session, report.rig, "record")
    switches = (
        (Condition("state", state, "The last pass went through this rig", not turned,
                   f"Set it on the hardware: {state}."),)
        if state else ()
    )  # fmt: skip
    return (
        *switches,
        Condition("armed", f"{len(armed)} of {counted(len(there), 'track')} armed",
                  "Nothing is armed", bool(armed),
                  "Arm a track: its switch is at the left of its row." if there else
                  "Plan tracks in Rig: nothing that is recorded starts at an instrument.", True),
        Condition("danger", "Nothing is dangerous", "The rig is dangerous", not dangers,
                  dangers[0].remedy if dangers else "", True),
        Condition("fault", "Nothing is wrong in the rig", f"The rig has {_count(faults, 'fault')}",
                  worst < Severity.FAULT,
                  faults[0].remedy if faults else ""),
        Condition("di", "A dry DI is armed", "No dry DI is armed",
                  any(one.tap == "di" for one in armed),
                  "Record a dry DI as well, muted: it is the way back."),
        Condition("monitoring", "Nobody hears it twice", "Somebody hears it twice", not doubled,
                  doubled[0].remedy if doubled else ""),
        Condition("disk", f"Room for {minutes:g} minutes ({need / 1e6:.0f} MB)",
                  f"No room for {minutes:g} minutes ({need / 1e6:.0f} MB)",
                  free_bytes > need, "Free some space on the disk.", free_bytes < need / 20),
        Condition("instrument", "The instrument in hand is chosen",
                  f"No instrument assigned to {' and '.join(unknown)}", not unknown,
                  "Choose it at In hand above, or in Rig at the device's Settings."),
    )  # fmt: skip


def _count(things: list[Finding], word: str) -> str:
    return f"{len(things)} {word}{'' if len(things) == 1 else 's'}"


def dry_input_of(session: Session, instrument_id: str) -> tuple[Rig, Armed]:
    """Where the recording rig hears this instrument dry; EditError where it does not."""
    rig = recording_rig(session)
    for one in recordable_tracks(look_at(session, rig.id)):
        player = rig.device(one.source)
        held = player.word("instrument") if player.has_setting("instrument") else ""
        if one.tap == "di" and held == instrument_id:
            return rig, one
    names = {known.id: known.name for known in session.instruments}
    raise EditError(
        f"{rig.name} has no armed dry DI of {names.get(instrument_id, instrument_id)}.",
        where=rig.name,
        remedy="Choose it in hand in Takes (or arm its DI in Rig), then strum again.",
    )


def calibration_of(one: Armed) -> tuple[float | None, float | None]:
    """dBu at 0 dBFS at the jack, and the load there, of a dry track; None for the others."""
    course = one.plan.course
    if one.tap != "di" or course is None or course.source is None or not one.plan.levels:
        return None, None
    full = jack_full_scale_dbu(course)
    start = course.start
    assert start.exit is not None
    output = PortRef(device=start.device.id, port=start.exit.id)
    return full, min(1e9, node_load_of(course.graph, output))
