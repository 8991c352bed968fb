"""The noise check: some seconds of silence on every armed track, what is in it, where it comes
from, and what another attempt has changed.

A remedy never lifts a safety earth.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field

import numpy as np
from numpy.typing import NDArray

from diaulos.records import dataclass
from diaulos.rig.levels.diagram import LevelDiagram
from diaulos.rig.model import PortRef, Rig
from diaulos.session.model import Session, rig_hash
from diaulos.session.noise_check import NoiseCheck, NoiseTrack
from diaulos.session.roles import recording_rig
from diaulos.signal.hum import Noise, NoiseChange, analyse_noise, compare_noise, gate_threshold_dbfs
from diaulos.units import LOWEST_DB
from diaulos.work.capture.recorder import Recorder
from diaulos.work.rigs.levels import levels_of
from diaulos.work.rigs.look import look_at
from diaulos.work.rigs.stored import NOTHING_STORED
from diaulos.work.takes.ready import Armed, armed_tracks
from diaulos.work.takes.recording import RecordBackendFor

SECONDS = 5.0


SETTLE_S = 0.5


LABELS = (
    "As it is", "Further from the computer", "Another outlet", "With an isolator",
    "Another supply",
)  # fmt: skip


HUM_MATTERS_DB = 3.0
"""Hum this far above the hiss is worth a remedy."""


HISS_MATTERS_DB = 3.0


QUIETEST_UNDER_DB = 30.0
"""The quietest wanted note, under the loudest peak; representative."""


@dataclass(frozen=True)
class NoiseRow:
    """One track: what was found, what cannot be avoided, and what to do."""

    track: PortRef
    name: str
    tap: str
    noise: Noise
    full_scale_dbu: float | None
    unavoidable_dbfs: float
    """What the noise budget says of this course."""
    cause: str
    remedy: str
    gate_dbfs: float | None

    @property
    def floor_dbu(self) -> float | None:
        """The floor at the input that records, in dBu; None where nobody knows its scale."""
        return None if self.full_scale_dbu is None else self.noise.floor_dbfs + self.full_scale_dbu


@dataclass(frozen=True)
class Attempt:
    """A labelled silence of all tracks."""

    label: str
    rows: tuple[NoiseRow, ...]

    @property
    def worst_a_dbfs(self) -> float:
        """The loudest track, A-weighted."""
        return max((row.noise.floor_a_dbfs for row in self.rows), default=LOWEST_DB)


def kept_check(attempt: Attempt, rig: Rig, made_at: str, played_by: str) -> NoiseCheck | None:
    """An attempt as the session keeps it; None where nothing was armed."""
    if not attempt.rows:
        return None
    return NoiseCheck(
        made_at=made_at, label=attempt.label[:200], rig_name=rig.name, rig_hash=rig_hash(rig),
        played_by=played_by,
        tracks=tuple(
            NoiseTrack(
                track=row.track, name=row.name, tap=row.tap, floor_dbfs=row.noise.floor_dbfs,
                floor_a_dbfs=row.noise.floor_a_dbfs, hum_dbfs=row.noise.hum_dbfs,
                hiss_dbfs=row.noise.hiss_dbfs, full_scale_dbu=row.full_scale_dbu,
            )
            for row in attempt.rows
        ),
    )  # fmt: skip


LEAST_SPREAD_DB = 0.5
"""How far two listens of the same thing differ at least, in five seconds; common practice, no
source."""


def _sum_dbfs(attempt: Attempt) -> float:
    """The sum of all tracks' A-weighted powers."""
    return 10.0 * float(np.log10(sum(10.0 ** (row.noise.floor_a_dbfs / 10.0)
                                     for row in attempt.rows) + 1e-30))  # fmt: skip


def spread_db(attempts: tuple[Attempt, ...]) -> float:
    """How far listens of one and the same thing differ: the largest difference between attempts
    of one label, or what five seconds can tell at least."""
    by_label: dict[str, list[float]] = {}
    for one in attempts:
        by_label.setdefault(one.label.strip().casefold(), []).append(_sum_dbfs(one))
    return max([LEAST_SPREAD_DB, *(max(v) - min(v) for v in by_label.values())])


def best_attempt(attempts: tuple[Attempt, ...]) -> Attempt | None:
    """The quietest, by the sum of all tracks' A-weighted powers; None for a tie: where others
    that were labelled otherwise are no further off than repeated listens are from each other."""
    if not attempts:
        return None
    ranked = sorted(attempts, key=_sum_dbfs)
    first = ranked[0]
    others = [
        one for one in ranked[1:]
        if one.label.strip().casefold() != first.label.strip().casefold()
        and {r.track for r in one.rows} == {r.track for r in first.rows}
    ]  # fmt: skip
    if others and _sum_dbfs(others[0]) - _sum_dbfs(first) <= spread_db(attempts):
        return None
    return first


def check_file(path: str, samples: NDArray[np.floating], rate_hz: float, label: str) -> Attempt:
    """A silence, or the quiet spans of a recording, from a file: no course is known of it."""
    noise = analyse_noise(samples, rate_hz)
    cause, remedy = "", ""
    if noise.hum and noise.hum_dbfs > noise.hiss_dbfs + HUM_MATTERS_DB:
        cause, remedy = "Mains hum.", "Listen on the bench or at the input to find where."
    elif noise.bus_tones and noise.bus_dbfs > noise.hiss_dbfs - 6.0:
        cause, remedy = BUS_WORDS
    track = PortRef(device="file", port=path)
    row = NoiseRow(track, path, "", noise, None, LOWEST_DB, cause, remedy, None)
    return Attempt(label, (row,))


BUS_WORDS = (
    "Tones of a digital bus: they come over a ground or a supply.",
    "Try a USB isolator or a filter on the USB ground, another outlet, another supply.",
)


def changes_since(first: Attempt, other: Attempt) -> dict[PortRef, NoiseChange]:
    """What an attempt has changed on every track that both have."""
    known = {row.track: row.noise for row in first.rows}
    return {
        row.track: compare_noise(known[row.track], row.noise)
        for row in other.rows
        if row.track in known
    }


@dataclass
class _Memory:
    """A sink that keeps what it gets."""

    clipped_samples: int = 0
    blocks: list[NDArray[np.float32]] = field(default_factory=list)

    @property
    def frames(self) -> int:
        return sum(block.size for block in self.blocks)

    def write(self, samples: NDArray[np.float32]) -> None:
        """Keep a block."""
        self.blocks.append(samples)

    def close(self) -> None:
        """Nothing to finish."""

    def abandon(self) -> None:
        """Forget it."""
        self.blocks.clear()


def check_noise(
    session: Session,
    backend_for: RecordBackendFor,
    label: str = LABELS[0],
    rig_id: str = "",
    should_stop: Callable[[], bool] = lambda: False,
) -> Attempt:
    """Five seconds of silence on every armed track; nothing is written."""
    rig = recording_rig(session, rig_id)
    report = look_at(session, rig.id)
    armed = armed_tracks(session, report)
    rate = session.sample_rate_hz
    sinks = [_Memory() for _ in armed]
    recorder = Recorder(
        backend_for(session, rig, tuple(one.port for one in armed), NOTHING_STORED),
        sinks,
        rate,
        frames=round(SECONDS * rate),
        start_frame=round(SETTLE_S * rate),
    )
    recorder.stop_when(should_stop)
    recorder.run()
    diagrams = {one.track: one.diagram for one in levels_of(session, rig.id)}
    loops, supplies = report.graph.loop_cables, report.graph.supply_cables
    rows = []
    for one, sink in zip(armed, sinks, strict=True):
        samples = np.concatenate(sink.blocks) if sink.blocks else np.zeros(1, np.float32)
        diagram = diagrams.get(one.port)
        rows.append(_row(one, analyse_noise(samples, float(rate)), diagram, loops, supplies))
    return Attempt(label, tuple(rows))


def unavoidable_dbfs(diagram: LevelDiagram) -> float:
    """The noise that a course must have: its budget without hum and bus tones, dBFS."""
    own = [share for share in diagram.budget if share.kind not in ("hum", "bus")]
    total = sum(10.0 ** (share.dbfs / 10.0) for share in own)
    return 10.0 * float(np.log10(total)) if total > 0.0 else LOWEST_DB


def _row(
    one: Armed,
    noise: Noise,
    diagram: LevelDiagram | None,
    loops: frozenset[str],
    supplies: frozenset[str],
) -> NoiseRow:
    unavoidable = LOWEST_DB
    full = gate = None
    if diagram is not None:
        full = diagram.converter.place.full_scale_dbu
        unavoidable = unavoidable_dbfs(diagram)
        gate = gate_threshold_dbfs(noise, min(0.0, diagram.track.peak) - QUIETEST_UNDER_DB)
    cause, remedy = _cause(one, noise, unavoidable, loops, supplies)
    return NoiseRow(one.port, one.name, one.tap, noise, full, unavoidable, cause, remedy, gate)


def _cause(
    one: Armed,
    noise: Noise,
    unavoidable: float,
    loops: frozenset[str],
    supplies: frozenset[str],
) -> tuple[str, str]:
    """The likely cause of what stands out, and its remedy; nothing where nothing does."""
    if noise.hum and noise.hum_dbfs > noise.hiss_dbfs + HUM_MATTERS_DB:
        legs = one.plan.course.legs if one.plan.course is not None else ()
        shared = [leg for leg in legs if leg.cable is not None and leg.cable.id in supplies]
        looped = [leg for leg in legs if leg.cable is not None and leg.cable.id in loops]
        if shared and not looped:
            device = shared[0].device.name
            return (
                f"Ripple of the supply that {device} shares with the pedal behind it.",
                "Feed each pedal by an isolated output of its own.",
            )
        if looped:
            device = looped[0].device.name
            return (
                f"Hum of a ground loop behind {device}.",
                "Put an isolation transformer into that connection, or run both from one outlet. "
                "Never lift a safety earth.",
            )
        if one.tap in ("di", "printed"):
            return (
                "Hum that the pickup or its cable catches.",
                "Turn the instrument, go further from transformers, screens and dimmers.",
            )
        return (
            "Hum of the amplifier, or what is ahead of it.",
            "Listen with its input plugged out; try another outlet and an isolated pedal supply. "
            "Never lift a safety earth.",
        )
    if noise.bus_tones and noise.bus_dbfs > noise.hiss_dbfs - 6.0:
        return BUS_WORDS
    if noise.processor:
        what = "Tones that sweep" if noise.processor == "sweeping" else "Hiss that is chopped"
        return (
            f"{what}: a processor's own noise, over a ground, a supply or a cable beside it.",
            "Keep cables away from screens and computers; try another outlet, an isolated supply, "
            "a transformer in the signal.",
        )
    if noise.hiss_dbfs > unavoidable + HISS_MATTERS_DB:
        over = noise.hiss_dbfs - unavoidable
        return (
            f"Hiss {over:.0f} dB above what the devices of this course must have.",
            "Look for a gain that is up ahead of a pad, or a pedal and its supply.",
        )
    return "", ""
