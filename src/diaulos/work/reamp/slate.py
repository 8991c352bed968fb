"""The slate ahead of a pass: what the loop itself does, before a note is sent.

A quiet sweep goes round the loop at falling levels until two of them agree: then what they say
is linear, and the loop's. Nothing of it is stored but the reading.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RefusedError
from diaulos.rig.bench import Bench, BenchFaults, Impulses
from diaulos.rig.course import Course
from diaulos.rig.levels.causes import likely_causes, planned_peak
from diaulos.session.model import SIMULATED, Session, SlateRecord
from diaulos.signal.slate import Slate, SlateReading, make_slate, read_slate
from diaulos.work.blocks import part_of
from diaulos.work.capture.loop import LoopResult, run_loop
from diaulos.work.ports import AudioBackend, AudioSink, CancelToken, Progress, no_progress

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
PlayLoop = Callable[[Slate, AudioSink], LoopResult]
"""Sends a slate round the loop and writes what comes back."""


LoopBackendFor = Callable[[Course], AudioBackend]
"""The audio that plays a course: the bench today, real ports later."""


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


def known_slate(session: Session, loop_hash: str) -> SlateRecord | None:
    """The slate of an unchanged loop of the simulated studio that is known already: the newest.
    Of a real loop nobody knows that it is unchanged."""
    passes = (made for take in session.takes for made in take.passes)
    found = [
        (made.made_at, made.slate)
        for made in passes
        if made.rig_hash == loop_hash
        and made.played_by == SIMULATED
        and made.slate
        and made.slate.delay_samples is not None
    ]
    return max(found, key=lambda one: one[0])[1] if found else None


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


def measure_slate(
    play: PlayLoop,
    rate_hz: int,
    sent_peak_dbfs: float,
    progress: Progress,
    cancel: CancelToken,
    plan: SlatePlan | None = None,
    *,
    go_on: bool = False,
) -> SlateRecord:
    """Send sweeps from well under the take's level downwards until two agree.

    `sent_peak_dbfs` is the loudest peak of the take as it will be sent. RefusedError
    ("slate_clipped", and unless a person says `go_on` "slate_unheard" and "slate_far") before
    anything of the take is played.
    """
    readings: list[tuple[float, SlateReading]] = []
    first = max(LOWEST_FIRST_DBFS, min(0.0, sent_peak_dbfs) - UNDER_DB)
    level, gaps, number, again = first, False, 0, 0
    while number < LEVELS:
        progress(number / LEVELS, "Slate")
        cancel.check()
        level = first - number * STEP_DB
        slate = make_slate(float(rate_hz), level)
        back = Memory()
        if play(slate, back).lost_frames:
            # A gap in it is no property of the loop: once more, and not for ever.
            gaps, again = True, again + 1
            number += again > MOST_AGAIN
            continue
        number += 1
        reading = read_slate(slate, back.samples())
        if reading.clipped:
            raise RefusedError(
                "slate_clipped",
                "The slate came back clipped, and it is far quieter than the take.",
                remedy="Turn the return's gain down, and look for a wrong input or switch.",
            )
        if not reading.heard:
            break
        if plan is not None and not readings and not go_on:
            _hold_to(plan, slate, reading)
        readings.append((level, reading))
        if len(readings) > 1 and _agree(readings[-2][1], reading):
            # Of two that agree the louder one has less noise in it.
            return _record(*readings[-2])
    if not readings and gaps:
        return _nothing(level, "blocks were lost while it was sent")
    if not readings and go_on:
        return _nothing(level, "nothing of it came back")
    if not readings:
        raise RefusedError(
            "slate_unheard",
            "Nothing of the slate came back: a noise gate, or a cable?",
            remedy="Check the cables and the gate. Where a gate swallows what is so quiet, go on.",
        )
    one = "one level alone was heard: a gate, or noise"
    return _record(*readings[-1], unsure=one if len(readings) == 1 else DISAGREE)


def send_slate(
    course: Course,
    sent_peak_dbfs: float,
    rate_hz: int,
    backend_for: LoopBackendFor,
    impulses: Impulses | None,
    progress: Progress,
    cancel: CancelToken,
    *,
    go_on: bool = False,
) -> SlateRecord:
    """The slate of a loop, sent through its ports and held to its plan."""

    def play(slate: Slate, sink: AudioSink) -> LoopResult:
        blocks = [slate.samples.astype(np.float32)]
        return run_loop(
            backend_for(course), blocks, slate.frames, rate_hz, 0.0, sink, no_progress, cancel
        )

    part = part_of(progress, 0.02, 0.05)
    plan = LoopPlan(course, rate_hz, impulses)
    return measure_slate(play, rate_hz, sent_peak_dbfs, part, cancel, plan, go_on=go_on)


def _nothing(level_dbfs: float, why: str) -> SlateRecord:
    return SlateRecord(
        delay_samples=None, polarity=None, level_dbfs=level_dbfs, noise_dbfs=-200.0,
        harmonics_db=-200.0, reason=why,
    )  # fmt: skip


def _hold_to(plan: SlatePlan, slate: Slate, reading: SlateReading) -> None:
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
        f"The slate came back {abs(off):.0f} dB {way} than planned, and so would the take.",
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
        harmonics_db=reading.harmonics_db,
        response=tuple(zip(reading.response_hz, reading.response_db, strict=True)),
        reason=unsure,
    )
