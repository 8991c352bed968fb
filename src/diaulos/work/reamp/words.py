"""What is said of stored takes, plans, loops and passes: one place for window and shell."""

from __future__ import annotations

from collections.abc import Sequence

from diaulos.errors import DiaulosError, RigError
from diaulos.figures import counted, level, number, plain
from diaulos.records import dataclass
from diaulos.rig.course import can_reamp, reamp_course
from diaulos.rig.model import AmpStage, Control, PassiveStage, Rig
from diaulos.rig.plan import return_control
from diaulos.rig.returns import way_words
from diaulos.rig.states import in_state
from diaulos.session.model import (
    Against,
    Pass,
    Recorded,
    Return,
    Session,
    SlateRecord,
    Take,
    tone_words,
)
from diaulos.session.roles import reamp_rig
from diaulos.units import samples_to_ms
from diaulos.work.instruments.drive import drive_change, matching_tone
from diaulos.work.reamp.planning import ReampPlan


def take_remarks(take: Take) -> tuple[str, ...]:
    """What is wrong with a stored take."""
    di = take.sent
    if di is None:
        return ("no DI track",)
    found = []
    if di.clipped_samples:
        found.append("DI clips")
    elif di.clips_ahead:
        found.append("DI clips ahead of its converter")
    if di.full_scale_dbu is None:
        found.append("calibration unknown")
    if di.tap == "printed":
        found.append("after pedals")
    return tuple(found)


# --- the plan ---


def deviation_words(deviation: tuple[tuple[float, float], ...]) -> str:
    """The send's deviation over frequency in one line."""
    low = min(db for _, db in deviation)
    high = max(db for _, db in deviation)
    return f"{number(low, 2, sign=True)} to {number(high, 2, sign=True)} dB, 80 Hz to 8 kHz"


def send_words(plan: ReampPlan) -> str:
    """How it is sent, and with which return gain."""
    send = plan.send
    if plan.as_recorded:
        return (
            f"Send {number(send.gain_db, 1, sign=True)} dB, as recorded: the modeler gets what it "
            f"had, whatever pad and trim are now. {_gain_words(plan)}"
        ).strip()
    return (
        f"Send {number(send.gain_db, 1, sign=True)} dB: {number(send.amp_peak_dbu)} dBu peak "
        f"at the amp input, as at the DI input (1 kHz; {deviation_words(send.deviation_db)}). "
        f"{_gain_words(plan)}"
    ).strip()


def _gain_words(plan: ReampPlan) -> str:
    turned = [one for one in plan.returns if return_control(one.back.course) is not None]
    if not turned:
        return ""  # it comes back as numbers
    if len(plan.returns) == 1:
        return f"Return gain {number(plan.return_gain_db, 0)} dB."
    gains = ", ".join(f"{one.back.name} {number(one.gain_db, 0)}" for one in turned)
    return f"Return gains: {gains} dB."


def send_remarks(plan: ReampPlan) -> str:
    """What must be known of the send."""
    send, text = plan.send, ""
    if send.assumed:
        text += " Calibration unknown: +12 dBu is assumed."
    if send.limited_db > 0.05:
        short = number(send.limited_db)
        text += f" Output limited: {short} dB below the instrument's level. {_more(plan)}"
    return text


def _more(plan: ReampPlan) -> str:
    """What gives a send that is held back the rest: a trim that has some left, or what else."""
    short = plan.send.limited_db
    for leg in reamp_course(plan.rig).legs:
        for stage in leg.path.stages if leg.path else ():
            if isinstance(stage, AmpStage):
                break
            if not isinstance(stage, PassiveStage) or stage.control is None:
                continue
            trim = leg.device.setting(stage.control)
            if not isinstance(trim, Control) or trim.value >= trim.maximum:
                continue
            value = trim.nearest(trim.value + short + 0.499 * trim.step)
            return f"Raise {trim.name} of {leg.device.name} to {number(value)} {trim.unit}."
    return "Use an output that gives more, or turn the amplifier up by as much."


def plan_finding(plan: ReampPlan) -> tuple[str, bool]:
    """The worst that is known of a loop, and whether it is serious."""
    probes = [probe for _, probe in plan.stations]
    clipping = [p for p in probes if p.headroom_db is not None and p.headroom_db <= 0.05]
    if clipping:
        return f"clips first: {clipping[0].station.name}", True
    if plan.send.limited_db > 0.05:
        return f"send {number(plan.send.limited_db)} dB short", False
    if plan.send.assumed:
        return "send calibration assumed", False
    room = min((p.headroom_db for p in probes if p.headroom_db is not None), default=0.0)
    return f"nothing clips, {number(room)} dB left", False


def tone_remark(session: Session, take: Take | None) -> str:
    """A tone remembers with what it was made, and says so when it is used with others."""
    if take is None or not take.instrument_id:
        return ""
    tone = matching_tone(session, reamp_rig(session))
    if tone is None or tone.instrument_id in ("", take.instrument_id):
        return ""
    try:
        change = drive_change(session, tone, session.instrument(take.instrument_id))
    except DiaulosError:
        made = session.instrument_name(tone.instrument_id) or "another instrument"
        return f" {tone.name} was made with {made}."
    way = "harder" if change.drive_db > 0.0 else "more gently"
    return (
        f" {tone.name} was made with {change.made_with}: driven "
        f"{number(abs(change.drive_db))} dB {way} here."
    )


def sent_words(rig: Rig) -> str:
    """How a rig gets what it sends into the amplifier; "" where it has no way back."""
    try:
        return way_words(reamp_course(rig))
    except RigError:
        return ""


# --- loops ---


@dataclass(frozen=True)
class LoopRow:
    """One rig that reamps, in the words of the strip."""

    rig_id: str
    tap: str
    name: str
    peak: str
    finding: str
    serious: bool


class Loops:
    """The rigs of a session that reamp. What comes back from a rig is kept for as long as it is
    the same: finding its course takes a moment."""

    def __init__(self) -> None:
        self._taps: dict[str, tuple[Rig, str]] = {}

    def tap_of(self, rig: Rig) -> str:
        """What comes back from a rig, "" where no played track leads back."""
        known = self._taps.get(rig.id)
        if known is None or known[0] is not rig:
            sent = in_state(rig, "reamp")
            known = (rig, reamp_course(sent).tap if can_reamp(sent) else "")
            self._taps[rig.id] = known
        return known[1]

    def rows(self, session: Session, plan: ReampPlan | None) -> tuple[LoopRow, ...]:
        """Every rig that reamps; `plan` is that of the chosen one."""
        rows = []
        chosen = reamp_rig(session).id if session.rigs else ""
        for rig in session.rigs:
            tap = self.tap_of(rig)
            if not tap:
                continue
            last = last_pass(session, rig.name)
            peak = f"last peak {number(last.peak_dbfs):>6} dBFS" if last else "no pass yet"
            finding, serious = "select to see levels", False
            if rig.id == chosen and plan is not None:
                finding, serious = plan_finding(plan)
            if last and last.clipped_samples:
                finding, serious = "last pass clipped", True
            name = f"{rig.name}: {tone_words(rig)}"
            rows.append(LoopRow(rig.id, tap, name, peak, finding, serious))
        return tuple(rows)


def last_pass(session: Session, rig_name: str) -> Pass | None:
    """The newest pass through a rig of this name."""
    made = [p for take in session.takes for p in take.passes if p.rig_name == rig_name]
    return max(made, key=lambda p: p.made_at, default=None)


# --- passes ---


def pass_lines(one: Return, rate_hz: float) -> tuple[str, str, str]:
    """Three lines of figures of a return: time, loudness, peak."""
    found = one.alignment
    if found is None:
        timing = f"not in time: {one.alignment_refused}"
    else:
        ms = samples_to_ms(found.delay_samples, rate_hz)
        timing = (
            f"{plain(found.delay_samples, 2)} samples  {plain(ms, 3)} ms  "
            f"{'normal' if found.polarity > 0 else 'inverted'}"
        )
    loud = _loud_words(one)
    peak = f"peak {level(one.peak_dbfs, 'dBFS')}  headroom {number(one.headroom_db)} dB"
    if one.clipped_samples:
        peak += f"  {one.clipped_samples} CLIPPED"
    return timing, loud, peak


def _loud_words(one: Return) -> str:
    """How loud it came, and how loud it is heard."""
    match, came = one.match, one.loudness_lufs
    if match is None or came is None:
        return "silent" if came is None else f"{number(came, 2)} LUFS, not matched"
    # A match is that of the whole group, and as it is heard: a single track on both loudspeakers.
    before, others = (came, " with the others") if one.group else (match.before_lufs, "")
    after = number(before + match.total_db, 2)
    arrow = "\N{RIGHTWARDS ARROW}"
    return f"{number(before, 2)} {arrow} {after} LUFS{others}  as {match.label}"


def part_lines(part: Sequence[Return], rate_hz: float) -> tuple[str, ...]:
    """What belongs together: its loudness, then a line of figures for each return."""
    match = part[0].match
    if match is None:
        loud = "not matched"
    else:
        arrow = "\N{RIGHTWARDS ARROW}"
        loud = f"together {number(match.before_lufs, 2)} {arrow} {number(match.after_lufs, 2)} LUFS"
        loud += f"  as {match.label}"
    return (loud, *(_short_line(one) for one in part))


def _short_line(one: Return) -> str:
    found = one.alignment
    turned = "" if found is None or found.polarity > 0 else ", inverted"
    late = "not in time" if found is None else f"{plain(found.delay_samples, 2)} samples{turned}"
    clipped = f", {one.clipped_samples} CLIPPED" if one.clipped_samples else ""
    named = one.side.capitalize() or one.name
    return f"{named}  {late}, {level(one.peak_dbfs, 'dBFS')}{clipped}"


NO_NOISE_DBFS = -199.0
"""A loop of numbers alone adds none."""


def slate_words(slate: SlateRecord) -> str:
    """What the slate told of the loop itself."""
    noise = "the loop adds no noise of its own"
    if slate.noise_dbfs > NO_NOISE_DBFS:
        noise = f"the loop's own noise {level(slate.noise_dbfs, 'dBFS')} RMS"
    if slate.delay_samples is None:
        return f"loop delay not known: {slate.reason}; {noise}"
    turned = "normal" if slate.polarity == 1 else "inverted"
    return (
        f"loop delay {plain(slate.delay_samples, 2)} samples, {turned} (slate: what its magnitude "
        f"does not ask for of the phase); {noise}"
    )


def _against_words(against: Against, rate_hz: float) -> str:
    """Where a pass lies against the take's reference, which is not its DI."""
    found = against.alignment
    if found is None:
        return f"in time with the DI, not with the take's reference: {against.refused}"
    ms = samples_to_ms(found.delay_samples, rate_hz)
    turned = "" if found.polarity > 0 else ", turned over"
    return (
        f"against the take's reference {plain(found.delay_samples, 2)} samples "
        f"({plain(ms, 3)} ms){turned}, confidence {found.confidence:.2f}"
    )


def pass_words(made: Pass, part: Sequence[Return], tone: str, rate_hz: float) -> str:
    """All that is known of a pass and of what belongs together in it, a line each, with how it was
    worked out."""
    keep = ", kept" if made.keeper else ""
    parts = [f"{made.name}{keep}: {tone}"]
    for one in part:
        if len(made.returns) > 1:
            parts.append(f"{one.name}:")
        parts += _return_words(one, rate_hz)
    if len(part) > 1:
        parts.append(
            f"{part[0].group}: one move in time, one polarity and one gain, so that what lies "
            "between its returns stays as it was"
        )
        if len({one.alignment.polarity for one in part if one.alignment}) > 1:
            turned = next(one.name for one in part if one.alignment and one.alignment.polarity < 0)
            parts.append(f"{turned} is turned against the others, as recorded")
    if made.assumed_calibration:
        parts.append("send calibration assumed: +12 dBu at 0 dBFS")
    if made.send_limited_db > 0.0:
        parts.append(f"send {number(made.send_limited_db)} dB short of the instrument's level")
    return "\n".join(parts)


def _return_words(one: Return, rate_hz: float) -> list[str]:
    timing, loud, peak = pass_lines(one, rate_hz)
    parts = [" ".join(timing.split()), loud, peak]
    found = one.alignment
    if one.against is not None:
        parts.append(_against_words(one.against, rate_hz))
    if found is not None:
        parts.append(
            f"Delay by cross-correlation of the loud blocks, "
            f"error {number(found.delay_error_samples, 2)} samples (95 %), "
            f"confidence {found.confidence:.2f}"
        )
        if found.drift_ppm is not None and found.drift_error_ppm is not None:
            parts.append(
                f"drift {number(found.drift_ppm, 2, sign=True)} "
                f"\N{PLUS-MINUS SIGN}{found.drift_error_ppm:.2f} ppm"
            )
    if one.slate is not None:
        parts.append(slate_words(one.slate))
    if one.match is not None:
        parts.append(
            f"gain {number(one.match.gain_db, 2, sign=True)} dB = reference "
            f"{number(one.match.reference_lufs, 2)} \N{MINUS SIGN} before "
            f"{number(one.match.before_lufs, 2)} ({one.match.method})"
        )
        if one.match.pair_offset_db < 0.0:
            parts.append(
                f"the pair comes down by {number(-one.match.pair_offset_db, 2)} dB, "
                f"so that it stays under \N{MINUS SIGN}1 dBTP"
            )
    if one.null_db is not None:
        left = number(one.null_db)
        parts.append(f"without the DI {left} dB of it are left (best gain and delay)")
    if one.recorded is not None:
        parts.append(_recorded_words(one.recorded))
    if one.merely_di:
        parts.append(MERELY_DI)
    return parts


AS_RECORDED_DB = -60.0
"""Deeper than that two recordings are told apart by nobody (common practice, no source)."""


def _recorded_words(recorded: Recorded) -> str:
    """How near a return comes to what was recorded of its tap."""
    same = "as recorded: " if recorded.null_db <= AS_RECORDED_DB else ""
    louder = "" if abs(recorded.gain_db) < 0.05 else (
        f", {number(abs(recorded.gain_db))} dB {'louder' if recorded.gain_db > 0.0 else 'quieter'}"
    )  # fmt: skip
    return (
        f"{same}nulls with the recorded {recorded.name} to {number(recorded.null_db)} dB "
        f"(best gain and delay){louder}"
    )


MERELY_DI = (
    "what came back is the DI itself. See whether the amplifier is bypassed, or the return's lead "
    "in the send."
)


def made_words(made: Pass, rate_hz: int) -> str:
    """What is said when a pass is there."""
    if len(made.returns) == 1:
        return f"{made.name}: {_came_words(made.main, rate_hz)}"
    told = []
    for part in made.parts:
        alone = len(part) == 1
        told += [f"{one.name} {_came_words(one, rate_hz, matched=alone)}" for one in part]
        if not alone and part[0].match is not None:
            told.append(f"Together{_matched_words(part[0])}.")
    return f"{made.name}: {counted(len(made.returns), 'return')}. " + " ".join(told)


def _came_words(one: Return, rate_hz: int, *, matched: bool = True) -> str:
    if one.merely_di:
        return MERELY_DI
    if one.alignment is None:
        return f"recorded, but not in time. {one.alignment_refused}"
    ms = samples_to_ms(one.alignment.delay_samples, rate_hz)
    text = f"{plain(one.alignment.delay_samples, 2)} samples ({plain(ms, 2)} ms) late"
    if one.recorded is not None and one.recorded.null_db <= AS_RECORDED_DB:
        text += ", as recorded"
    if one.alignment.polarity < 0:
        text += ", inverted" if one.group else ", polarity inverted and corrected"
    if matched and one.match is not None:
        text += f",{_matched_words(one)}"
    return text + "."


def _matched_words(one: Return) -> str:
    if one.match is None:
        return ""
    text = f" matched to {number(one.match.after_lufs, 2)} LUFS"
    if one.match.pair_offset_db < 0.0:
        text += f" (pair down {number(-one.match.pair_offset_db)} dB)"
    return text
