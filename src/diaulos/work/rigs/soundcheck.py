"""A sound check of some seconds laid over the plan, and what it says of the rig.

What is planned is the level plan's own figure. On the bench the player strums what the plan
goes by; who plays in an imported file is somebody else, which is less sure.
"""

from __future__ import annotations

import random
from collections.abc import Mapping
from dataclasses import replace
from functools import partial

import numpy as np

from diaulos.errors import EditError, RefusedError, RigError
from diaulos.records import dataclass
from diaulos.rig.bench.unit import as_built
from diaulos.rig.course import Course
from diaulos.rig.levels.calibration import (
    CalibrationPoint,
    input_stage,
    nominal_input_dbu,
    with_input_calibration,
)
from diaulos.rig.levels.causes import Cause, Difference, differences, likely_causes
from diaulos.rig.levels.settings import Role, settings_on
from diaulos.rig.model import AdcStage, PlayedLevel, PortRef, Rig
from diaulos.rig.plan import full_scale_dbu
from diaulos.session.edits import Edit, change_rigs, set_device_setting
from diaulos.session.model import Session
from diaulos.units import gain_to_db
from diaulos.work.capture.recorder import BLOCK_FRAMES
from diaulos.work.capture.ring import Taken
from diaulos.work.capture.stream import Capture
from diaulos.work.measuring import Levels, measure_source
from diaulos.work.ports import AudioSource, CancelToken, Progress, StreamSpec, no_progress
from diaulos.work.rigs.audio import LiveAudio, RigAudio
from diaulos.work.rigs.levels import set_played_edit, traced_courses
from diaulos.work.rigs.rendering import player_request, render
from diaulos.work.rigs.stored import NOTHING_STORED, Stored


@dataclass(frozen=True)
class SoundCheck:
    """What was heard against what was planned, and the likely causes of a difference."""

    differences: tuple[Difference, ...]
    causes: tuple[Cause, ...]
    exact: bool
    """True where the played signal itself is known (the bench)."""
    turned: str = ""
    """What the bench turned without saying; told when asked."""

    @property
    def agrees(self) -> bool:
        """Whether every course is within a dB."""
        return all(one.agrees for one in self.differences)


SILENT_DBFS = -60.0
"""Nobody who plays hard is below that at an input that records."""
TEN_SECONDS = 8
"""Strums that the simulated player fits into them."""


class _Nowhere:
    """A sink for what is only measured."""

    frames = 0
    clipped_samples = 0

    def write(self, block: object) -> None:
        """Nothing is kept."""

    def close(self) -> None:
        """Nothing was opened."""

    def abandon(self) -> None:
        """Nothing was written."""


def bench_check(
    session: Session,
    audio: RigAudio,
    rig_id: str = "",
    *,
    stored: Stored = NOTHING_STORED,
    seed: int = 1,
    surprise: bool = False,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> SoundCheck:
    """The simulated player through the rig as described and as it stands: units some tenths
    of a dB off, and with `surprise` one control that stands otherwise than the session says."""
    courses = traced_courses(session, rig_id, stored)
    rig = session.rig(rig_id)
    stands, turned = _surprised(rig, courses, seed) if surprise else (rig, "")
    real = as_built(stands, seed)
    starts = {course.start.device.id for course in courses.values() if course.source is not None}
    if not starts:
        raise RigError(
            "No course of this rig starts at an instrument: there is nobody to play.",
            where=rig.name,
            remedy="Choose a rig with an instrument, or import a recording.",
        )
    heard: dict[PortRef, float] = {}
    for index, start in enumerate(sorted(starts)):

        def part(done: float, words: str, at: int = index) -> None:
            progress((at + done) / len(starts), words)

        heard |= _peaks(session, audio, rig, real, start, stored, seed, part, cancel)
    return SoundCheck(differences(courses, heard), likely_causes(courses, heard), True, turned)


def _peaks(
    session: Session, audio: RigAudio, described: Rig, stands: Rig, source: str, stored: Stored,
    seed: int, progress: Progress, cancel: CancelToken | None,
) -> dict[PortRef, float]:  # fmt: skip
    """Peaks of every track of one player, who plays what the plan goes by."""
    other = session.model_copy(
        update={"rigs": tuple(stands if r.id == stands.id else r for r in session.rigs)}
    )
    request = player_request(session, described, source=source, strums=TEN_SECONDS, stored=stored)
    request = replace(request, session=other, seed=seed)
    done = render(
        request, lambda _track, _name: _Nowhere(), audio, progress=progress, cancel=cancel
    )
    return {one.track: min(0.0, one.peak_dbfs) for one in done.tracks}


def _surprised(rig: Rig, courses: Mapping[PortRef, Course], seed: int) -> tuple[Rig, str]:
    """One switch or knob of the courses turned, drawn from the seed."""
    draw = random.Random(seed)
    known = {
        one.ref: one
        for course in courses.values()
        for one in settings_on(course, free_tone=True, locked=())
    }
    refs = sorted(known, key=str)
    draw.shuffle(refs)
    for ref in refs:
        one = known[ref]
        others = [v for v in one.steps if v != one.value]
        if one.role is not Role.SWITCH:
            others = [v for v in others if abs(float(v) - float(one.value)) >= 5.0]
        if others:
            value = draw.choice(others)
            words = f"{one.words}: {one.value_words(value)}"
            return rig.with_setting(ref.device, ref.setting, value), words
    return rig, ""


LIVE_S = 10.0


def live_check(
    session: Session,
    live: LiveAudio,
    rig_id: str = "",
    *,
    stored: Stored = NOTHING_STORED,
    seconds: float = LIVE_S,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> SoundCheck:
    """Ten seconds of somebody's hardest playing by a real device, every track at once, beside
    the plan. RefusedError ("silent") where nobody played; AudioDeviceError when it goes."""
    token = cancel or CancelToken()
    courses = {
        track: course
        for track, course in traced_courses(session, rig_id, stored).items()
        if course.source is not None
    }
    if not courses:
        raise RigError(
            "No course of this rig starts at an instrument: there is nobody to play.",
            where=session.rig(rig_id).name,
            remedy="Choose a rig with an instrument, or import a recording.",
        )
    total = int(seconds * session.sample_rate_hz)
    spec = StreamSpec(session.sample_rate_hz, BLOCK_FRAMES, len(courses), 0)
    top = np.zeros(len(courses))
    capture = Capture(live.hear(tuple(courses)), spec, frames=total)

    def consume(taken: Taken) -> None:
        np.maximum(top, np.abs(taken.samples).max(axis=0, initial=0.0), out=top)

    def look() -> None:
        token.check()
        left = max(0.0, (total - capture.captured) / session.sample_rate_hz)
        progress(min(1.0, capture.captured / total), f"Play as hard as you will: {left:.0f} s left")

    failed = capture.run(consume, look)
    if failed is not None:
        raise failed
    heard = {
        track: min(0.0, gain_to_db(float(one))) for track, one in zip(courses, top, strict=True)
    }
    if max(heard.values()) < SILENT_DBFS:
        raise RefusedError(
            "silent", "nobody was heard.",
            remedy="Play while it listens; see Rig > Which socket is which, and the volume knob.",
        )  # fmt: skip
    found = differences(courses, heard, exact=False)
    return SoundCheck(found, likely_causes(courses, heard, exact=False), False)


def file_check(
    session: Session,
    tracks: Mapping[PortRef, AudioSource],
    rig_id: str = "",
    channels: Mapping[PortRef, int] | None = None,
    stored: Stored = NOTHING_STORED,
) -> SoundCheck:
    """Imported recordings of the loudest playing, one for each track, against the plan."""
    courses = traced_courses(session, rig_id, stored)
    heard: dict[PortRef, float] = {}
    for track, source in tracks.items():
        if track not in courses:
            raise EditError(f"{track} has no course in this rig.", remedy="Choose another track.")
        channel = (channels or {}).get(track, 0)
        heard[track] = _peak(source, channel)
    found = differences(courses, heard, exact=False)
    return SoundCheck(found, likely_causes(courses, heard, exact=False), False)


def _peak(source: AudioSource, channel: int) -> float:
    if channel >= source.channels:
        raise EditError(
            f"The file has {source.channels} channels; channel {channel + 1} is wanted.",
            remedy="Choose another channel.",
        )
    if source.channels == 1:
        levels: Levels = measure_source(source)
        return max(levels.peak_dbfs, -200.0)
    top = 0.0
    for block in source.blocks():
        top = max(top, float(np.abs(block[:, channel]).max(initial=0.0)))
    return 20.0 * float(np.log10(max(top, 1e-10)))


# --- taking over ---


def take_cause_edit(rig_id: str, cause: Cause) -> Edit:
    """The session as the rig really stands: the control of a cause put where it is."""
    if cause.ref is None or cause.value is None:
        raise EditError(
            "That cause is no control of the rig.", remedy="Put it right at the instrument."
        )
    return set_device_setting(rig_id, cause.ref.device, cause.ref.setting, cause.value)


def take_level_edit(rig_id: str, course: Course, shift_db: float) -> Edit:
    """How loud it was played, taken over as the instrument's loudest here."""
    source = course.source
    if source is None:
        raise EditError("A played track has no player.")
    level = PlayedLevel(
        device=course.start.device.id,
        emf_peak_dbu=source.emf_peak_dbu + shift_db,
        crest_db=source.crest_db,
        origin="sound check",
    )
    return set_played_edit(rig_id, level)


def take_calibration_edit(course: Course, difference: Difference, made_at: str) -> Edit:
    """The measured difference taken over as the calibration of the input that records: the
    same unit in every rig."""
    for leg in reversed(course.legs):
        if leg.path is None or leg.entry is None:
            continue
        if not any(isinstance(stage, AdcStage) for stage in leg.path.stages):
            continue
        device, port = leg.device, leg.entry.id
        _, stage = input_stage(device, port)
        gain = device.number(stage.control)
        known = full_scale_dbu(stage, device) - difference.db
        point = CalibrationPoint(gain, known, 0.0, nominal_input_dbu(device, port))

        change = partial(
            with_input_calibration, device=device, port_id=port, points=(point,),
            made_at=made_at, how="sound check",
        )  # fmt: skip
        return change_rigs("Take over calibration", change)
    raise EditError("There is no converter on this course.")
