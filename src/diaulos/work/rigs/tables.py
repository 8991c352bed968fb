"""Patch list and track list of a rig, as the window, the shell and the sheets show them."""

from __future__ import annotations

from diaulos.figures import TAP_WORDS, number
from diaulos.records import dataclass
from diaulos.rig.model import Cable, PlannedTrack, PortRef
from diaulos.rig.trackplan import TrackPlan, stereo_sides
from diaulos.work.rigs.look import RigReport

PATCH_HEAD = ("From", "To", "Cable", "Length", "Level", "Label")
TRACK_HEAD = ("In", "Name", "Group", "Tap", "From", "Conv.", "Late", "Peak", "Clips")


@dataclass(frozen=True)
class PatchRow:
    """One cable."""

    cable: Cable
    source: str
    target: str
    kind: str
    capacitance: str
    peak: float | None
    """Loudest planned peak at the output."""
    unit: str

    @property
    def cells(self) -> tuple[str, ...]:
        """As text, in the order of `PATCH_HEAD`."""
        level = "" if self.peak is None else f"{number(self.peak, 1)} {self.unit}"
        length = f"{self.cable.length_m:g} m"
        return self.source, self.target, self.kind, length, level, self.cable.label


def patch_rows(report: RigReport) -> tuple[PatchRow, ...]:
    """Every cable of a rig, in its order."""
    peaks = _peaks(report)
    rows = []
    for cable, source, target in report.graph.cables():
        usual = cable.kind.value == "usual"
        kind = source.port.signal_class.label if usual else cable.kind.value
        farad = cable.length_m * cable.pf_per_m
        words = f"{cable.length_m:g} m × {cable.pf_per_m:g} pF/m = {farad:.0f} pF"
        peak = peaks.get((source.device.id, source.port.id))
        rows.append(
            PatchRow(
                cable, source.words, target.words, kind, words, peak[0] if peak else None,
                peak[1] if peak else "",
            )
        )  # fmt: skip
    return tuple(rows)


def _peaks(report: RigReport) -> dict[tuple[str, str], tuple[float, str]]:
    found: dict[tuple[str, str], tuple[float, str]] = {}
    for plan in report.tracks:
        if plan.course is None:
            continue
        for at in plan.levels:
            key = (plan.course.legs[at.point.leg].device.id, at.point.port.id)
            if key not in found or at.peak > found[key][0]:
                found[key] = (at.peak, at.unit)
    return found


@dataclass(frozen=True)
class TrackRow:
    """One recorded input: what is planned for it, and what the rig gives it."""

    plan: TrackPlan
    meant: PlannedTrack | None
    name: str
    tap: str
    problem: str
    delay_ms: float
    clips: str
    """Where it clips on its way and by how much, "" where it does not."""
    stations: str
    """Peak at every station, a line each."""

    @property
    def track(self) -> PortRef:
        """The recorder input."""
        return self.plan.track

    @property
    def cells(self) -> tuple[str, ...]:
        """As text, in the order of `TRACK_HEAD`."""
        course, peak = self.plan.course, self.plan.unclipped_dbfs
        return (
            str(self.meant.input_number or "") if self.meant else "",
            self.name,
            self.meant.group if self.meant else "",
            self.tap,
            course.start.device.name if course else self.problem,
            f"{course.conversions}" if course else "",
            f"{number(self.delay_ms, 2)} ms" if course else "",
            f"{number(peak, 1)} dBFS" if peak is not None else "\N{EN DASH}",
            "yes" if self.clips else "no",
        )


def track_rows(report: RigReport, rate_hz: float) -> tuple[TrackRow, ...]:
    """Every recorded input of a rig, the planned ones first and in their order."""
    planned = {track.port: track for track in report.rig.tracks}
    order = {track.port: index for index, track in enumerate(report.rig.tracks)}
    sides = stereo_sides(report.tracks)
    rows = []
    for plan in sorted(report.tracks, key=lambda p: order.get(p.track, len(order))):
        meant = planned.get(plan.track)
        tap = TAP_WORDS[plan.course.tap] if plan.course else "no course"
        tap += f", {sides[plan.track]}" if plan.track in sides else ""
        clips = "; ".join(
            f"{at.device}, {at.point.port.name} by {at.clips_db:.1f} dB" for at in plan.clipped
        )
        stations = "\n".join(
            f"{number(at.peak, 1)} {at.unit}  {at.device}: {at.point.port.name}"
            for at in plan.levels
        )
        rows.append(
            TrackRow(
                plan, meant, meant.name if meant else report.graph.plug(plan.track).port.name,
                tap, str(plan.problem) if plan.problem else "", plan.delay_ms(rate_hz), clips,
                stations,
            )
        )  # fmt: skip
    return tuple(rows)
