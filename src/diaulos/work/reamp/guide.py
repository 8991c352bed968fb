"""The way of a reamp step by step, at most five: what to make safe, what to plug, what to set, and
what is measured to prove it. Read off the rig itself, in its state Reamp."""

from __future__ import annotations

from diaulos.figures import number, plain
from diaulos.records import dataclass
from diaulos.rig.checks import Severity
from diaulos.rig.model import Rig
from diaulos.rig.returns import PlannedReturn, planned_returns, way_words
from diaulos.rig.states import switched
from diaulos.session.model import SIMULATED, Pass, Session
from diaulos.session.roles import reamp_rig
from diaulos.work.rigs.look import look_at

MOST_REMARKS = 2
HOT = ("amp", "load_box", "attenuator")


@dataclass(frozen=True)
class Step:
    """One step. `proved` is what was measured of it, "" where nothing was yet."""

    title: str
    lines: tuple[str, ...]
    proved: str = ""


def guide(session: Session, rig_id: str = "", device: str = SIMULATED) -> tuple[Step, ...]:
    """The steps of a rig's way; RigError where it does not reamp."""
    rig = reamp_rig(session, rig_id)
    backs = planned_returns(rig)
    steps = [
        Step("Make it safe", _safe(rig)),
        Step(f"Plug: {way_words(backs[0].course)}", _plugs(backs)),
        Step("Set", _settings(session, rig)),
        Step(
            "Check the loop: C",
            ("A quiet sweep tells delay, polarity, level, response and noise of every return.",),
            _loop_proved(session, rig, device),
        ),
        Step("Send: R", (_what_is_measured(backs),), _pass_proved(session, rig, device)),
    ]
    return tuple(step for step in steps if step.lines)


def _safe(rig: Rig) -> tuple[str, ...]:
    kinds = {device.kind for device in rig.devices}
    lines = ["Monitors down, phantom power off where you plug."]
    if "amp" in kinds:
        lines.append(
            "Amplifier off; its loudspeaker or a load of the right impedance and power stays "
            "connected, by speaker cable."
        )
    if kinds & {"load_box", "attenuator"}:
        lines.append("The load gets hot: air around it.")
    return tuple(lines)


def _plugs(backs: tuple[PlannedReturn, ...]) -> tuple[str, ...]:
    """Every cable of the way out and back, once, in order."""
    found: dict[str, str] = {}
    for back in backs:
        graph = back.course.graph
        for leg in back.course.legs:
            if leg.cable is None:
                continue
            source, target = graph.plug(leg.cable.source), graph.plug(leg.cable.target)
            kind = source.port.signal_class.label
            found.setdefault(
                leg.cable.id, f"{source.words} \N{RIGHTWARDS ARROW} {target.words} ({kind})"
            )
    return tuple(found.values())


def _settings(session: Session, rig: Rig) -> tuple[str, ...]:
    lines = [one.words("reamp") for one in switched(session.rig(rig.id))]
    lines.append("Send as low as it goes on the hardware; the planned gain is sent by itself.")
    # The rig as it stands for a reamp, so that its findings are those of that state.
    now = tuple(rig if one.id == rig.id else one for one in session.rigs)
    report = look_at(session.model_copy(update={"rigs": now}), rig.id)
    told = [one for one in report.findings if one.severity >= Severity.CAUTION]
    lines += [f"{one.cause} {one.remedy}".strip() for one in told[:MOST_REMARKS]]
    return tuple(lines)


def _what_is_measured(backs: tuple[PlannedReturn, ...]) -> str:
    way = way_words(backs[0].course)
    if way == "stream":
        return (
            "The modeler gets what it had when the take was recorded; the pass is held against "
            "the recorded track of the same tap: how deep they null."
        )
    return (
        "The amplifier's input gets the volts that the DI's input saw, at 1 kHz; the pass tells "
        "delay, polarity, peak, headroom, and whether it is merely the DI."
    )


def _loop_proved(session: Session, rig: Rig, device: str) -> str:
    known = [
        one for one in session.loop_checks if (one.rig_name, one.played_by) == (rig.name, device)
    ]
    if not known:
        return ""
    last = max(known, key=lambda one: one.made_at)
    slate = last.returns[0].slate
    late = "" if slate.delay_samples is None else f", {plain(slate.delay_samples, 2)} samples late"
    return f"Good on {last.made_at[:16].replace('T', ' ')}{late}."


def _pass_proved(session: Session, rig: Rig, device: str) -> str:
    made = [
        one
        for take in session.takes
        for one in take.passes
        if (one.rig_name, one.played_by) == (rig.name, device)
    ]
    if not made:
        return ""
    return _pass_words(max(made, key=lambda one: one.made_at))


def _pass_words(made: Pass) -> str:
    back = made.main
    if back.merely_di:
        return f"{made.name} is merely the DI: no amplifier was on the way."
    if back.alignment is None:
        return f"{made.name}: {back.alignment_refused}"
    turned = "" if back.alignment.polarity > 0 else ", inverted (turned when heard)"
    words = f"{made.name}: {plain(back.alignment.delay_samples, 2)} samples late{turned}"
    if back.recorded is not None:
        words += f", nulls with {back.recorded.name} to {number(back.recorded.null_db)} dB"
    return f"{words}."
