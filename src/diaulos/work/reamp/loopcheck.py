"""The loop check: three seconds of a quiet sweep, and what is other than the last time.

Nobody hears a cable that is three metres longer, or a send that is a decibel low. A slate does: it
is held against the last good one of the same loop, what was changed on purpose since taken out.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diaulos.errors import RigError
from diaulos.figures import number
from diaulos.records import dataclass
from diaulos.rig.bench import Impulses
from diaulos.rig.course import Course
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.plan import return_control
from diaulos.rig.returns import PlannedReturn, planned_returns
from diaulos.session.edits import Edit, keep_loop_check
from diaulos.session.model import (
    SIMULATED,
    LoopCheck,
    LoopReturn,
    Session,
    SlateRecord,
    rig_hash,
)
from diaulos.session.roles import reamp_rig
from diaulos.signal.loop_change import ChangeKind, LoopChange, LoopState, loop_change
from diaulos.signal.slate import Slate, make_slate, read_slate
from diaulos.work.capture.loop import LoopResult, run_loop
from diaulos.work.ports import AudioSink, CancelToken, Clock, Progress, no_progress
from diaulos.work.reamp.howl import require_quiet_return
from diaulos.work.reamp.slate import (
    UNDER_DB,
    LoopBackendFor,
    LoopPlan,
    SlateOf,
    measure_slates,
)

Real = NDArray[np.float64]

USUAL_LEVEL_DBFS = -36.0
"""Of the first sweep through a loop that nobody sent anything through yet."""

KIND_WORDS: dict[ChangeKind, str] = {
    "inverted": "inverted: a plug wired the other way, or a polarity switch",
    "delay": "another latency: a device, a buffer or a converter more or less on the way",
    "send": "what is sent: the output's level, the box's trim, another output",
    "return": "what comes back: a gain, another input, the amplifier's volume",
    "level": "a gain on the way out or back, or another input",
    "treble": "treble: a longer or shorter cable, or a tone knob",
    "tone": "the tone: a knob, another cabinet, another place of the microphone",
    "hum": "hum: a ground or a supply",
    "noise": "noise: a gain, a cable without its screen, a supply",
}


@dataclass(frozen=True)
class ReturnChecked:
    """One return: its slate now, and what is other than then; `reason` says why that cannot be
    told."""

    back: PlannedReturn
    slate: SlateRecord
    change: LoopChange | None
    reason: str = ""

    @property
    def words(self) -> str:
        """What is other, in a sentence without its name."""
        if self.change is None:
            return self.reason
        return change_words(self.change)


@dataclass(frozen=True)
class LoopChecked:
    """A check of a loop. `since` is when it was last good, "" for the first time; `keep` makes it
    what later checks are held against."""

    rig: Rig
    since: str
    returns: tuple[ReturnChecked, ...]
    keep: Edit

    @property
    def as_last(self) -> bool | None:
        """Whether it is as it was; None where there was nothing before, or it cannot be told."""
        if any(one.change is None for one in self.returns):
            return None
        return not any(one.change and one.change.kinds for one in self.returns)

    @property
    def heard(self) -> bool:
        """Whether something came back by every return."""
        return all(one.slate.response for one in self.returns)

    @property
    def good(self) -> bool:
        """Whether later checks may be held against this one without anybody's saying so."""
        return self.heard and (not self.since or self.as_last is True)

    @property
    def words(self) -> str:
        """For a person."""
        if not self.since and not self.heard:
            silent = [one for one in self.returns if not one.slate.response]
            names = " and ".join(one.back.name for one in silent)
            return f"{names}: {silent[0].slate.reason}. See to cables, switches and gates."
        if not self.since:
            return "The loop is known now. Later checks are held against this one."
        day = self.since.replace("T", " ")[:16]
        if self.as_last:
            return f"As on {day}."
        several = len(self.returns) > 1
        told = [
            f"{one.back.name}: {one.words}" if several else one.words
            for one in self.returns
            if one.change is None or one.change.kinds
        ]
        return f"Not as on {day}. " + " ".join(told)


def change_words(change: LoopChange) -> str:
    """What is other than it was."""
    if not change.kinds:
        return "As it was."
    parts = []
    shaped = {"treble": change.treble_db, "tone": change.bass_db}
    for kind in change.kinds:
        figure = ""
        if kind in ("send", "return", "level"):
            figure = f"{_more(change.level_db)}: "
        elif kind == "treble":
            figure = f"{_more(shaped[kind])} above 3 kHz: "
        elif kind == "tone":
            figure = f"{_more(_widest(change))} in a part of it: "
        elif kind == "delay":
            late = "later" if change.delay_samples > 0.0 else "earlier"
            figure = f"{number(abs(change.delay_samples))} samples {late}: "
        elif kind in ("hum", "noise"):
            louder = change.hum_db if kind == "hum" else change.noise_db
            figure = f"{number(louder)} dB more noise: "
        parts.append(f"{figure}{KIND_WORDS[kind]}")
    return "; ".join(parts)[:1].upper() + "; ".join(parts)[1:] + "."


def _widest(change: LoopChange) -> float:
    return max((db - change.level_db for _, db in change.curve), key=abs, default=0.0)


def _more(db: float) -> str:
    return f"{number(abs(db))} dB {'more' if db > 0.0 else 'less'}"


def check_loop(
    session: Session,
    rig_id: str = "",
    *,
    played: Rig | None = None,
    backend_for: LoopBackendFor,
    clock: Clock,
    device: str = SIMULATED,
    returns: Sequence[str] = (),
    impulses: Impulses | None = None,
    progress: Progress = no_progress,
    cancel: CancelToken | None = None,
) -> LoopChecked:
    """Send a slate through a loop and hold it against the last good one; where something is other,
    once more: what was changed is there again, a passing noise is not. `played` is the rig as a
    plan sets its return gains; that of the session as it stands by default.

    RigError where the rig has no way back; RefusedError ("slate_clipped", "return_howls") where it
    would be dangerous; AudioDeviceError when the device fails.
    """
    cancel = cancel or CancelToken()
    stored = reamp_rig(session, rig_id)
    rig = played or stored
    backs = planned_returns(rig, returns)
    courses = tuple(one.course for one in backs)
    rate = session.sample_rate_hz
    before = last_good(session, rig.name, device)
    if device != SIMULATED:
        names = [one.name for one in backs] if len(backs) > 1 else ["the return"]
        require_quiet_return(backend_for(courses), rate, cancel, names)

    def play(slate: Slate, sinks: Sequence[AudioSink]) -> LoopResult:
        blocks = [slate.samples.astype(np.float32)]
        return run_loop(
            backend_for(courses), blocks, slate.frames, rate, 0.0, sinks, no_progress, cancel
        )

    level = before.returns[0].slate.level_dbfs if before is not None else USUAL_LEVEL_DBFS
    of = [SlateOf(one.name if len(backs) > 1 else "") for one in backs]
    then = _rig_then(session, before)
    stands = [rig] if device == SIMULATED or then is None else _may_stand(rig, stored, then)

    def listened() -> list[ReturnChecked]:
        slates = measure_slates(play, rate, level + UNDER_DB, progress, cancel, of, go_on=True)
        return [
            _checked(
                back, slate, _slate_then(before, back.course.track),
                [_expected(then, one, back.course.track, slate, rate, impulses) for one in stands],
            )
            for back, slate in zip(backs, slates, strict=True)
        ]  # fmt: skip

    found = listened()
    if any(one.change and one.change.kinds for one in found):
        found = [_of_both(*both) for both in zip(found, listened(), strict=True)]
    made_at = clock().isoformat(timespec="seconds")
    check = LoopCheck(
        rig_name=rig.name,
        rig_hash=rig_hash(rig),
        played_by=device,
        made_at=made_at,
        returns=tuple(
            LoopReturn(name=one.back.name, port=one.back.course.track, slate=one.slate)
            for one in found
        ),
    )
    since = before.made_at if before is not None else ""
    return LoopChecked(rig, since, tuple(found), keep_loop_check(check, rig))


# --- for scripts ---


def check_data(checked: LoopChecked) -> dict[str, Any]:
    """A check for JSON."""
    return {
        "as_last": checked.as_last if checked.since else None,
        "since": checked.since or None,
        "words": checked.words,
        "returns": [_return_data(one) for one in checked.returns],
    }


def _return_data(one: ReturnChecked) -> dict[str, Any]:
    change, slate = one.change, one.slate
    return {
        "return": one.back.name,
        "loop_delay_samples": slate.delay_samples,
        "loop_polarity": slate.polarity,
        "slate_reason": slate.reason or None,
        "noise_dbfs": slate.noise_dbfs,
        "hum_dbfs": slate.hum_dbfs,
        "harmonics_db": slate.harmonics_db if slate.harmonics_db > -200.0 else None,
        "response": [{"hz": round(hz, 1), "db": round(db, 2)} for hz, db in slate.response],
        "kinds": list(change.kinds) if change else [],
        "level_db": change.level_db if change else None,
        "treble_db": change.treble_db if change else None,
        "bass_db": change.bass_db if change else None,
        "delay_change_samples": change.delay_samples if change else None,
        "inverted": change.inverted if change else None,
        "noise_change_db": change.noise_db if change else None,
        "hum_change_db": change.hum_db if change else None,
        "curve": [
            {"hz": round(hz, 1), "db": round(db, 2)} for hz, db in (change.curve if change else ())
        ],
        "reason": one.reason or None,
    }


def last_good(session: Session, rig_name: str, played_by: str) -> LoopCheck | None:
    """The last good check of a loop: the one that was kept, or the slates of a newer pass."""
    kept = [
        one for one in session.loop_checks
        if (one.rig_name, one.played_by) == (rig_name, played_by)
    ]  # fmt: skip
    for take in session.takes:
        for made in take.passes:
            if (made.rig_name, made.played_by) != (rig_name, played_by):
                continue
            returns = tuple(
                LoopReturn(name=one.name, port=one.port, slate=one.slate)
                for one in made.returns
                if one.port is not None and one.slate is not None and one.slate.response
            )
            if returns:
                kept.append(
                    LoopCheck(
                        rig_name=rig_name, rig_hash=made.rig_hash, played_by=played_by,
                        made_at=made.made_at, returns=returns,
                    )
                )  # fmt: skip
    return max(kept, key=lambda one: one.made_at, default=None)


def _slate_then(before: LoopCheck | None, port: PortRef) -> SlateRecord | None:
    for one in before.returns if before is not None else ():
        if one.port == port:
            return one.slate
    return None


def _rig_then(session: Session, before: LoopCheck | None) -> Rig | None:
    return session.snapshots.get(before.rig_hash) if before is not None else None


def _may_stand(rig: Rig, stored: Rig, then: Rig) -> list[Rig]:
    """The rig as its knobs may stand on a real device: as it is to be played, as the session says,
    and with the return gains of the last time. A plan tells a gain; it turns no knob back."""
    as_then = rig
    for back in planned_returns(rig):
        control = return_control(back.course)
        if control is None:
            continue
        device, knob = control
        with suppress(RigError):  # another device, or none, had its place then
            value = then.device(device.id).number(knob.id)
            as_then = as_then.with_setting(device.id, knob.id, value)
    found: list[Rig] = []
    for one in (rig, stored, as_then):
        if one not in found:
            found.append(one)
    return found


def _expected(
    then: Rig | None,
    now: Rig,
    port: PortRef,
    slate: SlateRecord,
    rate: int,
    impulses: Impulses | None,
) -> Real | None:
    """By how much the response differs since settings were changed on purpose."""
    if then is None or then == now:
        return None
    sent = make_slate(float(rate), slate.level_dbfs)
    responses = []
    for rig in (then, now):
        course = _course(rig, port)
        if course is None:
            return None
        reading = read_slate(sent, LoopPlan(course, rate, impulses).comes_back(sent))
        if not reading.response_db:
            return None
        responses.append(np.asarray(reading.response_db))
    return np.asarray(responses[1] - responses[0])


def _course(rig: Rig, port: PortRef) -> Course | None:
    try:
        return next((one.course for one in planned_returns(rig) if one.course.track == port), None)
    except RigError:
        return None


def _checked(
    back: PlannedReturn, slate: SlateRecord, old: SlateRecord | None, expected: list[Real | None]
) -> ReturnChecked:
    """Held against each way in which the loop may stand now: it is as that which fits best, of
    those that fit alike the last."""
    if old is None:
        return ReturnChecked(back, slate, None, "It was not checked before.")
    here, there = _state(slate), _state(old)
    if here is None:
        return ReturnChecked(back, slate, None, f"It cannot be told: {slate.reason}.")
    if there is None:
        return ReturnChecked(back, slate, None, f"It could not be told then: {old.reason}.")
    changes = [loop_change(there, here, one) for one in reversed(expected)]
    return ReturnChecked(back, slate, min(changes, key=lambda one: len(one.kinds)))


def _of_both(first: ReturnChecked, second: ReturnChecked) -> ReturnChecked:
    """Of two listenings: only what both tell. Where they name it otherwise, as the second does."""
    if first.change is None or second.change is None:
        return first if second.change is None else second
    told = tuple(kind for kind in second.change.kinds if kind in first.change.kinds)
    if not first.change.kinds:
        return first
    if not told:
        return second
    return replace(second, change=replace(second.change, kinds=told))


def _state(slate: SlateRecord) -> LoopState | None:
    if not slate.response:
        return None
    return LoopState(
        slate.response,
        slate.delay_samples,
        slate.polarity,
        slate.noise_dbfs,
        slate.hum_dbfs if slate.hum_dbfs is not None else slate.noise_dbfs,
        slate.harmonics_db,
    )
