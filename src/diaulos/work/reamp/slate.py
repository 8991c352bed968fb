"""The slate ahead of a pass: what the loop itself does, before a note is sent.

A quiet sweep goes round the loop at falling levels until two of them agree: then what they say
is linear, and the loop's. Nothing of it is stored but the reading.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.records import dataclass
from diaulos.rig.bench import Bench, BenchFaults, Impulses
from diaulos.rig.course import Course
from diaulos.rig.levels.causes import likely_causes, planned_peak
from diaulos.rig.model import PortRef
from diaulos.rig.returns import PlannedReturn
from diaulos.session.model import SIMULATED, Session, SlateRecord
from diaulos.signal.slate import Slate, SlateReading, make_slate, read_slate
from diaulos.work.blocks import part_of
from diaulos.work.capture.loop import LoopResult, run_loop
from diaulos.work.ports import AudioBackend, AudioSink, CancelToken, Progress, no_progress
from diaulos.work.reamp.returns import came_by

UNDER_DB = 20.0
"""The first sweep's peak below that of the take as it is sent."""
STEP_DB = 12.0
LEVELS = 4
MOST_AGAIN = 4
"""Sweeps with a gap that are sent again, in all."""
AGREE_DB, AGREE_SAMPLES = 0.5, 0.5
"""Two levels that differ by less say the same of the loop."""
DISAGREE = "its levels do not agree: a gate or a compressor"
FAR_DB = 20.0
"""Farther from plan is not what the rig says, whichever amplifier stands where the stand-in is
planned: its volume alone does less, as it is set for playing (common practice, no source)."""
PASSED_DB = 25.0
"""What the loop passes: not so far under its loudest."""
LOWEST_FIRST_DBFS = -60.0
"""A take of nearly nothing still gets a sweep that can be heard."""

Real = NDArray[np.float64]
PlayLoop = Callable[[Slate, Sequence[AudioSink]], LoopResult]
"""Sends a slate round the loop and writes what comes back by each return."""


LoopBackendFor = Callable[[tuple[Course, ...]], AudioBackend]
"""The audio that plays courses with one start: one channel out, one back for each."""


class Memory:
    """What comes back of a slate: kept for a moment, never written."""

    clipped_samples = 0

    def __init__(self) -> None:
        self._blocks: list[NDArray[np.float64]] = []
        self.frames = 0

    def write(self, samples: NDArray[np.float64]) -> None:
        """Append samples."""
        mono = np.asarray(samples, np.float64).reshape(len(samples), -1)[:, 0]
        self._blocks.append(mono.copy())
        self.frames += mono.size

    def close(self) -> None:
        """Nothing to finish."""

    def abandon(self) -> None:
        """Forget it."""
        self._blocks.clear()

    def samples(self) -> NDArray[np.float64]:
        """All of it."""
        return np.concatenate(self._blocks) if self._blocks else np.zeros(0)


def known_slates(
    session: Session, loop_hash: str, ports: Sequence[PortRef]
) -> tuple[SlateRecord, ...] | None:
    """The slates, a return each, of an unchanged loop of the simulated studio that are known
    already: the newest. Of a real loop nobody knows that it is unchanged."""
    found: list[SlateRecord] = []
    for port in ports:
        known = [
            (made.made_at, back.slate)
            for take in session.takes
            for made in take.passes
            if made.rig_hash == loop_hash and made.played_by == SIMULATED
            for back in made.returns
            if came_by(made, back, port) and back.slate and back.slate.delay_samples is not None
        ]
        if not known:
            return None
        found.append(max(known, key=lambda one: one[0])[1])
    return tuple(found)


class SlatePlan(Protocol):
    """What is planned of a slate."""

    def comes_back(self, slate: Slate) -> Real:
        """The return, as the plan has it."""

    def cause(self, off_db: float) -> str:
        """What would explain that it is so much louder than that; "" where nothing does."""


class LoopPlan:
    """A slate through a course as the bench plays it, without noise."""

    def __init__(self, course: Course, rate_hz: int, impulses: Impulses | None) -> None:
        self._course = course
        self._rate_hz = rate_hz
        self._impulses = impulses

    def comes_back(self, slate: Slate) -> Real:
        """The return, as the plan has it."""
        faults = BenchFaults.none()
        return Bench(self._course, float(self._rate_hz), faults, self._impulses).process(
            slate.samples
        )

    def cause(self, off_db: float) -> str:
        """A knob, a switch or a cable on the way back or out."""
        track = self._course.track
        heard = {track: planned_peak(self._course) + off_db}
        causes = likely_causes({track: self._course}, heard, most=1, exact=False)
        return causes[0].words if causes and causes[0].explains else ""


@dataclass(frozen=True)
class SlateOf:
    """A return that a slate comes back by; `plan` is what is planned of it."""

    name: str = ""
    """Where there are several."""
    plan: SlatePlan | None = None


class _Readings:
    """What was read of one return so far, and what that says."""

    def __init__(self, of: SlateOf, *, go_on: bool) -> None:
        self._of, self._go_on = of, go_on
        self._readings: list[tuple[float, SlateReading]] = []
        self.settled: SlateRecord | None = None
        self.silent = False

    @property
    def waits(self) -> bool:
        """Whether another level can tell more."""
        return self.settled is None and not self.silent

    def add(self, slate: Slate, level_dbfs: float, samples: Real) -> None:
        """One more level; RefusedError where the take would be in danger."""
        reading = read_slate(slate, samples)
        at = f" at {self._of.name}" if self._of.name else ""
        if reading.clipped:
            raise RefusedError(
                "slate_clipped",
                f"The slate came back clipped{at}, and it is far quieter than the take.",
                remedy="Turn the return's gain down, and look for a wrong input or switch.",
            )
        if not reading.heard:
            self.silent = True
            return
        if self._of.plan is not None and not self._readings and not self._go_on:
            _hold_to(self._of.plan, slate, reading, at)
        self._readings.append((level_dbfs, reading))
        if len(self._readings) > 1 and _agree(self._readings[-2][1], reading):
            # Of two that agree the louder one has less noise in it.
            self.settled = _record(*self._readings[-2])

    def result(self, level_dbfs: float, *, gaps: bool) -> SlateRecord:
        """What is known behind the last level; RefusedError where nothing came back."""
        if self.settled is not None:
            return self.settled
        if not self._readings and gaps:
            return _nothing(level_dbfs, "blocks were lost while it was sent")
        if not self._readings and self._go_on:
            return _nothing(level_dbfs, "nothing of it came back")
        if not self._readings:
            at = f" at {self._of.name}" if self._of.name else ""
            raise RefusedError(
                "slate_unheard",
                f"Nothing of the slate came back{at}: a noise gate, or a cable?",
                remedy="Check the cables and the gate. Where a gate swallows what is so quiet, "
                "go on.",
            )
        one = "one level alone was heard: a gate, or noise"
        unsure = one if len(self._readings) == 1 else DISAGREE
        # The loudest has the least noise in it.
        return _record(*self._readings[0], unsure=unsure)


def measure_slates(
    play: PlayLoop,
    rate_hz: int,
    sent_peak_dbfs: float,
    progress: Progress,
    cancel: CancelToken,
    returns: Sequence[SlateOf] = (SlateOf(),),
    *,
    go_on: bool = False,
) -> tuple[SlateRecord, ...]:
    """Send sweeps from well under the take's level downwards until two agree, at every return.

    `sent_peak_dbfs` is the loudest peak of the take as it will be sent. RefusedError
    ("slate_clipped", and unless a person says `go_on` "slate_unheard" and "slate_far") before
    anything of the take is played.
    """
    found = [_Readings(one, go_on=go_on) for one in returns]
    first = max(LOWEST_FIRST_DBFS, min(0.0, sent_peak_dbfs) - UNDER_DB)
    level, gaps, number, again = first, False, 0, 0
    while number < LEVELS and any(one.waits for one in found):
        progress(number / LEVELS, "Slate")
        cancel.check()
        level = first - number * STEP_DB
        slate = make_slate(float(rate_hz), level)
        backs = [Memory() for _ in found]
        if play(slate, backs).lost_frames:
            # A gap in it is no property of the loop: once more, and not for ever.
            gaps, again = True, again + 1
            number += again > MOST_AGAIN
            continue
        number += 1
        for one, back in zip(found, backs, strict=True):
            if one.waits:
                one.add(slate, level, back.samples())
    return tuple(one.result(level, gaps=gaps) for one in found)


def send_slates(
    returns: Sequence[PlannedReturn],
    sent_peak_dbfs: float,
    rate_hz: int,
    backend_for: LoopBackendFor,
    impulses: Impulses | None,
    progress: Progress,
    cancel: CancelToken,
    *,
    go_on: bool = False,
) -> tuple[SlateRecord, ...]:
    """The slates of a loop, a return each, sent through its ports and held to its plan."""
    courses = tuple(one.course for one in returns)

    def play(slate: Slate, sinks: Sequence[AudioSink]) -> LoopResult:
        blocks = [slate.samples.astype(np.float32)]
        return run_loop(
            backend_for(courses), blocks, slate.frames, rate_hz, 0.0, sinks, no_progress, cancel
        )

    part = part_of(progress, 0.02, 0.05)
    read = [
        SlateOf(one.name if len(returns) > 1 else "", LoopPlan(one.course, rate_hz, impulses))
        for one in returns
    ]
    return measure_slates(play, rate_hz, sent_peak_dbfs, part, cancel, read, go_on=go_on)


def _nothing(level_dbfs: float, why: str) -> SlateRecord:
    return SlateRecord(
        delay_samples=None, polarity=None, level_dbfs=level_dbfs, noise_dbfs=-200.0,
        harmonics_db=-200.0, reason=why,
    )  # fmt: skip


def _hold_to(plan: SlatePlan, slate: Slate, reading: SlateReading, at: str) -> None:
    """What is far from plan is not what the rig says, whichever amplifier stands in it."""
    wanted = read_slate(slate, plan.comes_back(slate))
    if not wanted.heard:
        return
    expected = np.asarray(wanted.response_db)
    passed = expected > expected.max() - PASSED_DB
    off = float(np.median((np.asarray(reading.response_db) - expected)[passed]))
    if abs(off) < FAR_DB:
        return
    way = "lower" if off < 0.0 else "higher"
    usual = (
        "A gain or a pad on the way, the amplifier's volume, another input or microphone?"
        if off < 0.0
        else "A gain on the way, the amplifier's volume, another input?"
    )
    raise RefusedError(
        "slate_far",
        f"The slate came back {abs(off):.0f} dB {way} than planned{at}, and so would the take.",
        remedy=f"{plan.cause(off) or usual} Where it is meant so, go on.",
    )


def _agree(one: SlateReading, other: SlateReading) -> bool:
    if one.delay_samples is None or other.delay_samples is None:
        return False
    gains = np.asarray(one.response_db) - np.asarray(other.response_db)
    return (
        abs(one.delay_samples - other.delay_samples) <= AGREE_SAMPLES
        and one.polarity == other.polarity
        and float(np.median(np.abs(gains))) <= AGREE_DB
    )


def _record(level_dbfs: float, reading: SlateReading, *, unsure: str = "") -> SlateRecord:
    """As it is stored; without a delay where something speaks against it."""
    return SlateRecord(
        delay_samples=None if unsure else reading.delay_samples,
        polarity=None if unsure else (1 if reading.polarity == 1 else -1),
        level_dbfs=level_dbfs,
        noise_dbfs=max(reading.noise_dbfs, -200.0),
        hum_dbfs=reading.hum_dbfs,
        harmonics_db=reading.harmonics_db,
        response=tuple(zip(reading.response_hz, reading.response_db, strict=True)),
        reason=unsure,
    )
