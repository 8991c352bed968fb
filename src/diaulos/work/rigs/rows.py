"""The recorded tracks of a rig in one line each: what the strip shows of them."""

from __future__ import annotations

from collections import Counter

from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.rig.checks import Severity
from diaulos.rig.course import Course
from diaulos.rig.model import PortRef
from diaulos.work.rigs.look import RigReport


@dataclass(frozen=True)
class TrackRow:
    """One recorded track: tap, name, planned peak, the worst that is found of it."""

    tap: str
    name: str
    peak: str
    finding: str
    serious: bool


def track_names(report: RigReport) -> dict[PortRef, str]:
    """Every recorded track in the planned order: its planned name, or its port's. Names that
    two would share are told apart by the device."""
    planned = {track.port: track.name for track in report.rig.tracks}
    order = {track: index for index, track in enumerate(planned)}
    tracks = sorted((p.track for p in report.tracks), key=lambda t: order.get(t, len(order)))
    names = {t: planned.get(t) or report.graph.plug(t).port.name for t in tracks}
    counts = Counter(names.values())
    return {
        t: name if counts[name] == 1 else f"{name} ({report.graph.plug(t).words})"
        for t, name in names.items()
    }


def track_rows(report: RigReport) -> tuple[TrackRow, ...]:
    """One row for every recorded track of a rig, in the planned order."""
    plans = {plan.track: plan for plan in report.tracks}
    rows = []
    for track, name in track_names(report).items():
        plan = plans[track]
        on_way = _cables_of(plan.course)
        own = [one for one in report.findings if one.track == track]
        own += [one for one in report.findings if one.cable and one.cable in on_way]
        bad = max(own, key=lambda one: one.severity, default=None)
        finding = f"{bad.severity.word}: {bad.cause}" if bad else "no findings"
        peak = plan.unclipped_dbfs
        level = f"planned peak {number(peak)} dBFS" if peak is not None else "no course"
        serious = bad is not None and bad.severity >= Severity.FAULT
        rows.append(TrackRow(plan.tap or "", name, level, finding, serious))
    return tuple(rows)


def _cables_of(course: Course | None) -> set[str]:
    legs = course.legs if course is not None else ()
    return {leg.cable.id for leg in legs if leg.cable is not None}
