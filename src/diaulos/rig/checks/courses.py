"""What is recorded: dry taps, amps and cabinets in a row, tracks that are not as planned."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from diaulos.circuit.loading import Load, closeness_db
from diaulos.figures import counted
from diaulos.rig.checks.cabling import node_load
from diaulos.rig.checks.registry import Context, Finding, Mend, Severity, check, set_mend
from diaulos.rig.course import TAP_ADJECTIVES, CircleError, Course, Leg
from diaulos.rig.graph import RECORDER, Plug, RigGraph
from diaulos.rig.inputs import free_inputs, takes_a_new_track
from diaulos.rig.model import (
    AmpStage,
    CabinetStage,
    Control,
    DacStage,
    Device,
    Direction,
    PlannedTrack,
    PortRef,
    Rig,
    SignalClass,
    StateSwitch,
)
from diaulos.rig.polarity import inverting, is_inverted
from diaulos.rig.states import switches_back, thrown_words


@check(
    "no-course",
    Severity.FAULT,
    looks_for="a recorded track that nothing leads to, or a planned one that is not plugged in",
    why="it would record silence",
)
def no_course(context: Context) -> Iterator[Finding]:
    for one in context.traced:
        if one.problem is not None and not isinstance(one.problem, CircleError):
            yield Finding(
                "no-course",
                Severity.FAULT,
                f"{context.track_name(one.track)}: {one.problem.where}",
                one.problem.what,
                "The track would be silent.",
                one.problem.remedy or "Plug in what is missing.",
                port=one.track,
                track=one.track,
            )
    plugged = {one.track for one in context.traced}
    for track in context.rig.tracks:
        if track.port not in plugged:
            yield Finding(
                "no-course",
                Severity.FAULT,
                track.name,
                "The track is planned, and nothing is plugged into it.",
                "It would be missing from the take.",
                f"Plug a recording stream into {_port_words(context, track.port)}.",
                port=track.port,
                track=track.port,
            )


def _port_words(context: Context, ref: PortRef) -> str:
    return context.graph.plug(ref).words if context.graph.has(ref) else str(ref)


@check(
    "too-few-inputs",
    Severity.FAULT,
    looks_for="more planned tracks than are plugged in and can still be: free inputs that take "
    "an instrument, a microphone or a line",
    why="some track of the plan cannot be recorded at the same time",
)
def too_few_inputs(context: Context) -> Iterator[Finding]:
    planned = len(context.rig.tracks)
    recorders = context.graph.of_kind(RECORDER)
    plugged = sum(bool(context.graph.into.get(_key(t.port))) for t in context.rig.tracks)
    if planned <= plugged:
        return
    graph = context.graph
    free = sum(takes_a_new_track(graph, plug) for plug in free_inputs(graph))
    inputs = sum(p.direction is Direction.IN for d in recorders for p in d.ports)
    there = min(inputs, plugged + free)
    if planned > there:
        yield Finding(
            "too-few-inputs",
            Severity.FAULT,
            recorders[0].name if recorders else context.rig.name,
            f"{counted(planned, 'track')} planned; {there} can be recorded at once: {plugged} are "
            f"plugged in, and {free} more inputs can take one.",
            f"{planned - there} of them would be missing.",
            "Add an interface or converter, or record fewer tracks at once.",
            device=recorders[0].id if recorders else "",
        )


def _key(ref: PortRef) -> tuple[str, str]:
    return ref.device, ref.port


@check(
    "not-as-planned",
    Severity.FAULT,
    looks_for="a track whose source, tap or input number is not what it was planned with",
    why="a take named dry, amp or modeled would hold something else",
)
def not_as_planned(context: Context) -> Iterator[Finding]:
    numbers = {one.port: one for one in context.rig.tracks}
    for course in context.courses:
        track = numbers.get(course.track)
        if track is None:
            continue
        wrong = []
        elsewhere = course.start.device.id != track.source
        if elsewhere and _sent_back(context, course):
            continue  # in state Reamp what is sent comes back by the same input
        if elsewhere:
            wrong.append(
                f"it starts at {course.start.device.name} instead of {_name(context, track.source)}"
            )
        if course.tap != track.tap and not (track.tap == "di" and course.tap != "di"):
            wrong.append(
                f"it is {TAP_ADJECTIVES[course.tap]} instead of {TAP_ADJECTIVES[track.tap]}"
            )
        number = _input_number(course)
        if track.input_number is not None and number != track.input_number:
            wrong.append(f"it comes by input {number} instead of {track.input_number}")
        if wrong:
            thrown = switches_back(context.rig, track.port, track.source) if elsewhere else ()
            yield Finding(
                "not-as-planned",
                Severity.FAULT,
                track.name,
                f"{track.name} is not as planned: {'; '.join(wrong)}.",
                "The track would be filed under a wrong name.",
                f"{thrown_words(context.rig, thrown)}. Where it is meant so, plan it anew."
                if thrown else "Plug it as planned, or plan it anew.",
                port=course.track,
                track=course.track,
                mend=_throw(context.rig, thrown) if thrown else _replan(track, course),
            )  # fmt: skip


def _sent_back(context: Context, course: Course) -> bool:
    return context.rig.state == "reamp" and course.start.device.kind == RECORDER


def _throw(rig: Rig, switches: tuple[StateSwitch, ...]) -> Mend:
    def change(now: Rig) -> Rig:
        for one in switches:
            now = now.with_setting(one.device, one.setting, one.value)
        return now

    return Mend(thrown_words(rig, switches), change)


def _replan(track: PlannedTrack, course: Course) -> Mend:
    new = track.model_copy(
        update={
            "source": course.start.device.id,
            "tap": course.tap,
            "input_number": _input_number(course),
        }
    )

    def change(rig: Rig) -> Rig:
        tracks = tuple(new if t.port == track.port else t for t in rig.tracks)
        return rig.model_copy(update={"tracks": tracks})

    return Mend(f"Plan {track.name} as it is plugged", change)


def _input_number(course: Course) -> int | None:
    cables = course.graph.into.get((course.track.device, course.track.port), [])
    digits = "".join(c for c in cables[0].source.port if c.isdigit()) if cables else ""
    return int(digits) if digits else None


def _name(context: Context, device_id: str) -> str:
    device = context.graph.devices.get(device_id)
    return device.name if device else device_id


@check(
    "no-dry-di",
    Severity.CAUTION,
    looks_for="an instrument of whose tracks, recorded as one performance, none is a dry DI",
    why="there is no way back when the tone turns out wrong",
)
def no_dry_di(context: Context) -> Iterator[Finding]:
    # A DI of the bass is no way back for the guitar: each source wants its own.
    groups: dict[tuple[str, str], list[Course]] = defaultdict(list)
    for course in context.courses:
        if course.source is None:
            continue
        track = context.planned.get(course.track)
        source = course.start.device.id
        groups[track.group if track is not None else source, source].append(course)
    for (group, source), courses in groups.items():
        if any(course.tap == "di" for course in courses):
            continue
        if all(_sounds_in_air(course) for course in courses):
            continue  # a voice has no other way in than by a microphone
        if any(leg.device.kind == "desk" for course in courses for leg in course.legs):
            continue  # played on a stage, for the audience that is there
        names = ", ".join(context.track_name(c.track) for c in courses)
        yield Finding(
            "no-dry-di",
            Severity.CAUTION,
            group if group and group not in context.graph.devices else names,
            f"No dry DI of {_name(context, source)} is recorded with {names}.",
            "The tone cannot be changed later.",
            "Record a DI as well, muted: by a DI box, an early send, or the dry stream.",
            port=courses[0].track,
            track=courses[0].track,
        )


def _sounds_in_air(course: Course) -> bool:
    start = course.start.exit
    return start is not None and start.signal_class is SignalClass.SOUND


@check(
    "dry-tap-changed",
    Severity.FAULT,
    looks_for="a track planned as dry that is taken after something that changes it",
    why="it cannot be reamped as if it were the instrument",
)
def dry_tap_changed(context: Context) -> Iterator[Finding]:
    for course in context.courses:
        track = context.planned.get(course.track)
        if track is None or track.tap != "di" or course.tap == "di":
            continue
        culprit = next(
            (leg for leg in course.legs if leg.path is not None and _changes(leg)), course.start
        )
        yield Finding(
            "dry-tap-changed",
            Severity.FAULT,
            track.name,
            f"It is planned dry and taken after {culprit.device.name}.",
            f"It is {TAP_ADJECTIVES[course.tap]}.",
            f"Take it ahead of {culprit.device.name}, or bypass that.",
            port=course.track,
            track=course.track,
            mend=_bypass(culprit.device),
        )


def _changes(leg: Leg) -> bool:
    assert leg.path is not None
    return leg.path.printed or any(
        isinstance(stage, AmpStage)
        or (isinstance(stage, CabinetStage) and leg.device.word(stage.setting) != "none")
        for stage in leg.path.stages
    )


def _bypass(device: Device) -> Mend | None:
    if device.has_setting("bypass"):
        return Mend(
            f"Switch {device.name} off", lambda rig: rig.with_setting(device.id, "bypass", "off")
        )
    return None


def _with_stage(course: Course, kind: type) -> list[Leg]:
    return [
        leg
        for leg in course.legs
        if leg.path is not None
        for stage in leg.path.stages
        if isinstance(stage, kind)
        and not (isinstance(stage, CabinetStage) and leg.device.word(stage.setting) == "none")
    ]


def _once(courses: list[tuple[Course, list[Leg]]]) -> Iterator[tuple[Course, list[Leg]]]:
    """One finding for each pair of devices, not one a track."""
    told: set[tuple[str, ...]] = set()
    for course, legs in courses:
        key = tuple(leg.device.id for leg in legs)
        if key not in told:
            told.add(key)
            yield course, legs


@check(
    "two-amps",
    Severity.FAULT,
    looks_for="two amplifiers in a row on one course",
    why="a tone made for one is played through another",
)
def two_amps(context: Context) -> Iterator[Finding]:
    found = [(c, _with_stage(c, AmpStage)) for c in context.courses]
    for course, legs in _once([(c, legs) for c, legs in found if len(legs) > 1]):
        if _is_model(legs[0]) and not _is_model(legs[1]):
            continue
        yield Finding(
            "two-amps",
            Severity.FAULT,
            context.track_name(course.track),
            f"{legs[0].device.name} plays into {legs[1].device.name}.",
            "Both distort: level and noise of the first are raised by the second.",
            "Take the second one's return, or leave one out.",
            port=PortRef(device=legs[1].device.id, port=_entry(legs[1])),
            track=course.track,
        )


def _is_model(leg: Leg) -> bool:
    assert leg.path is not None
    return any(isinstance(s, AmpStage) and s.full_scale_dbu is not None for s in leg.path.stages)


def _entry(leg: Leg) -> str:
    assert leg.entry is not None
    return leg.entry.id


@check(
    "model-ahead-of-amp",
    Severity.FAULT,
    looks_for="an amplifier model left on ahead of a real amplifier",
    why="the amp is driven by another amp's sound",
)
def model_ahead_of_amp(context: Context) -> Iterator[Finding]:
    found = [(c, _with_stage(c, AmpStage)) for c in context.courses]
    for course, legs in _once([(c, legs) for c, legs in found if len(legs) > 1]):
        if not _is_model(legs[0]) or _is_model(legs[1]):
            continue
        plug = Plug(legs[0].device, legs[0].device.ports[0])
        yield Finding(
            "model-ahead-of-amp",
            Severity.FAULT,
            legs[0].device.name,
            f"Its amplifier model is on, and {legs[1].device.name} follows.",
            "The amp distorts what is already distorted, with a cabinet's sound at its input.",
            f"Switch the model of {legs[0].device.name} off.",
            device=legs[0].device.id,
            track=course.track,
            mend=set_mend(plug, "model", "off"),
        )


@check(
    "two-cabinets",
    Severity.FAULT,
    looks_for="two cabinets in a row on one course, impulse responses and microphones included",
    why="treble falls off twice; it sounds dull and boxed",
)
def two_cabinets(context: Context) -> Iterator[Finding]:
    found = [(c, _with_stage(c, CabinetStage)) for c in context.courses]
    for course, legs in _once([(c, legs) for c, legs in found if len(legs) > 1]):
        names = " and ".join(leg.device.name for leg in legs)
        last = legs[0] if legs[0].device.kind != "cabinet" else legs[-1]
        plug = Plug(last.device, last.device.ports[0])
        mend = None if last.device.kind == "cabinet" else set_mend(plug, "cabinet", "none")
        yield Finding(
            "two-cabinets",
            Severity.FAULT,
            context.track_name(course.track),
            f"Two cabinets follow each other: {names}.",
            "Everything above 5 kHz is gone twice over.",
            f"Switch the cabinet of {last.device.name} off.",
            device=last.device.id,
            track=course.track,
            mend=mend,
        )


@check(
    "cabinet-without-amp",
    Severity.CAUTION,
    looks_for="a cabinet's response on a signal that comes by no amplifier",
    why="a dry signal through a cabinet is neither a DI nor a tone",
)
def cabinet_without_amp(context: Context) -> Iterator[Finding]:
    found = [(c, _with_stage(c, CabinetStage)) for c in context.courses]
    for course, legs in _once([(c, legs) for c, legs in found if legs]):
        if _with_stage(course, AmpStage):
            continue
        device = legs[0].device
        plug = Plug(device, device.ports[0])
        model = device.has_setting("model") and device.word("model") == "off"
        mend = set_mend(plug, "model", "on") if model else set_mend(plug, "cabinet", "none")
        yield Finding(
            "cabinet-without-amp",
            Severity.CAUTION,
            context.track_name(course.track),
            f"{device.name} adds a cabinet, and no amplifier comes before it.",
            "Treble is gone, and it cannot be reamped as a dry DI.",
            "Switch the amplifier model on, or the cabinet off.",
            device=device.id,
            track=course.track,
            mend=mend,
        )


@check(
    "amp-without-cabinet",
    Severity.NOTE,
    looks_for="an amp or model recorded without a cabinet",
    why="it sounds harsh until one is added; a clean or bass tone may be meant so",
)
def amp_without_cabinet(context: Context) -> Iterator[Finding]:
    for course in context.courses:
        if course.tap in ("di", "printed", "mic", "cabinet"):
            continue
        if _with_stage(course, CabinetStage) or not _with_stage(course, AmpStage):
            continue
        yield Finding(
            "amp-without-cabinet",
            Severity.NOTE,
            context.track_name(course.track),
            "The amp is recorded without a cabinet.",
            "Harsh as it is: 10 dB and more above 5 kHz that a speaker does not give.",
            "Add an impulse response when mixing, or switch one on here.",
            port=course.track,
            track=course.track,
        )


@check(
    "stereo-on-split",
    Severity.CAUTION,
    looks_for="a stereo effect in a chain whose sides are processed and dry, or of which one side "
    "is recorded",
    why="half of the effect lands on the dry side or is lost",
)
def stereo_on_split(context: Context) -> Iterator[Finding]:
    for device in context.rig.devices:
        if not device.has_setting("stereo") or device.word("stereo") != "on":
            continue
        if device.has_setting("split") and device.word("split") == "split":
            cause = "Left is processed and right is dry, and a stereo effect is on."
        elif _one_side(context, device):
            cause = "A stereo effect is on, and one of its two outputs is plugged in."
        else:
            continue
        yield Finding(
            "stereo-on-split",
            Severity.CAUTION,
            device.name,
            cause,
            "One side of the effect is missing.",
            "Use mono effects here, or plug both sides.",
            device=device.id,
            mend=set_mend(Plug(device, device.ports[0]), "stereo", "off"),
        )


def _one_side(context: Context, device: Device) -> bool:
    """Whether just one side of a pair of like outputs is used."""
    used: dict[str, list[bool]] = defaultdict(list)
    for port in device.ports:
        if port.stereo:
            kind = port.connector.value
            used[kind].append(bool(context.graph.out_of.get((device.id, port.id))))
    sides = [pair for pair in used.values() if any(pair)]
    return bool(sides) and not any(all(pair) for pair in sides)


@check(
    "feedback-loop",
    Severity.DANGER,
    looks_for="any way in a circle: a send that is heard in its own return, an output that comes "
    "back to its own input",
    why="it howls, at full level",
)
def feedback_loop(context: Context) -> Iterator[Finding]:
    graph = context.graph
    for circle in graph.circles:
        devices = list(dict.fromkeys(graph.devices[device].name for device, _ in circle))
        inside = set(circle)
        cable = next(
            (
                c
                for c in context.rig.cables
                if (c.source.device, c.source.port) in inside
                and (c.target.device, c.target.port) in inside
            ),
            None,
        )
        recorder = next(
            (graph.devices[d] for d, _ in circle if graph.devices[d].kind == RECORDER), None
        )
        mend = None
        remedy = "Unplug one of the cables of the circle."
        if recorder is not None and recorder.has_setting("monitoring"):
            remedy = (
                "Switch software monitoring off, or send by an output that it does not play to."
            )
            mend = set_mend(Plug(recorder, recorder.ports[0]), "monitoring", "off")
        yield Finding(
            "feedback-loop",
            Severity.DANGER,
            ", ".join(devices),
            f"The signal comes back to where it was: {' → '.join(devices)}.",
            "It howls at full level: loudspeakers and ears suffer.",
            remedy,
            cable=cable.id if cable else "",
            port=PortRef(device=circle[0][0], port=circle[0][1]),
            mend=mend,
        )


@check(
    "own-send",
    Severity.FAULT,
    looks_for="a track that records from the very track that is sent out, or a send that comes "
    "straight back",
    why="the stored DI would be recorded over, or onto itself",
)
def own_send(context: Context) -> Iterator[Finding]:
    for course in context.courses:
        if course.start.device.kind != RECORDER:
            continue
        start = course.start.exit
        assert start is not None
        same = _digits(start.id) == _digits(course.track.port)
        straight = all(leg.device.kind in (RECORDER, "interface") for leg in course.legs)
        if not same and not straight:
            continue
        yield Finding(
            "own-send",
            Severity.FAULT,
            context.track_name(course.track),
            f"{start.name} is sent out, and "
            + ("the same track records." if same else "comes straight back."),
            "The stored take would be recorded over." if same else "Nothing has been reamped.",
            "Record the return on another track." if same else "Plug the amp between.",
            port=course.track,
            track=course.track,
        )


def _digits(text: str) -> str:
    return "".join(c for c in text if c.isdigit())


@check(
    "calibrated-knob",
    Severity.CAUTION,
    looks_for="a knob that scales a calibrated output in use and no longer stands where it stood "
    "at the calibration",
    why="every level that was worked out behind it is off by as much",
)
def calibrated_knob(context: Context) -> Iterator[Finding]:
    for device in context.rig.devices:
        if not any(
            isinstance(stage, DacStage) and stage.measured
            for path in device.paths
            for stage in path.stages
        ):
            continue
        for setting in device.settings:
            if not isinstance(setting, Control):
                continue
            at = _calibrated_at(context.graph, device, setting)
            if not at or any(abs(setting.value - one) < 0.5 * setting.step for one in at):
                continue
            noted = at[-1]
            off = setting.value - noted
            plug = Plug(device, device.ports[0])
            yield Finding(
                "calibrated-knob",
                Severity.CAUTION,
                device.name,
                f"{setting.name} stands at {setting.value:g} {setting.unit}; the outputs were "
                f"calibrated at {noted:g}.",
                f"All its outputs are {off:+.1f} dB off together.",
                f"Set it back to {noted:g} {setting.unit}, or calibrate anew.",
                device=device.id,
                mend=set_mend(plug, setting.id, noted),
            )


def _calibrated_at(graph: RigGraph, device: Device, setting: Control) -> list[float]:
    """Where a knob stood when outputs that are plugged in were calibrated, the latest last."""
    found: dict[str, list[float]] = defaultdict(list)
    for path in device.live_paths:
        if not graph.out_of.get((device.id, path.target)):
            continue
        for stage in path.stages:
            if isinstance(stage, DacStage) and stage.control == setting.id and device.acts(stage):
                for one in stage.measured:
                    if device.holds(one.when):
                        found[one.made_at].append(one.gain_db)
    return [gain for made_at in sorted(found) for gain in found[made_at]]


@check(
    "inverted-courses",
    Severity.CAUTION,
    looks_for="two courses of one source, neither of them a dry DI, of which one arrives upside "
    "down",
    why="heard together they take each other's low end away",
)
def inverted_courses(context: Context) -> Iterator[Finding]:
    sources: dict[str, list[Course]] = defaultdict(list)
    for course in context.courses:
        if course.source is not None and course.tap not in ("di", "printed"):
            sources[course.start.device.id].append(course)
    for courses in sources.values():
        turned = [course for course in courses if is_inverted(course)]
        upright = [course for course in courses if not is_inverted(course)]
        if not turned or not upright:
            continue
        by = [context.graph.devices[ident].name for ident in inverting(turned[0])]
        yield Finding(
            "inverted-courses",
            Severity.CAUTION,
            context.track_name(turned[0].track),
            f"{_names(context, turned)} arrives inverted to {_names(context, upright)}: "
            f"{' and '.join(dict.fromkeys(by))} turns it over.",
            "Heard together they thin out, the lowest notes first.",
            "Turn one of them over when they are heard together. What is recorded is as good.",
            port=turned[0].track,
            track=turned[0].track,
        )


def _names(context: Context, courses: list[Course]) -> str:
    return ", ".join(context.track_name(course.track) for course in courses)


AMP_LOAD = Load(1e6, 0.0)


@check(
    "di-impedance",
    Severity.CAUTION,
    looks_for="a DI of a passive instrument recorded into an impedance far from an amp's 1 MΩ: "
    "more than 1.5 dB RMS from 80 Hz to 6 kHz",
    why="reamped, it drives the amp with another tone than the instrument would",
)
def di_impedance(context: Context) -> Iterator[Finding]:
    for course in context.courses:
        if course.tap != "di" or course.source is None or course.source.active:
            continue
        start = course.start
        assert start.exit is not None
        ref = PortRef(device=start.device.id, port=start.exit.id)
        ohm, farad, _ = node_load(context.graph, ref)
        away = closeness_db(course.source.circuit, Load(ohm, farad), Load(1e6, farad))
        if away > 1.5:
            yield Finding(
                "di-impedance",
                Severity.CAUTION,
                context.track_name(course.track),
                f"The DI is recorded into {ohm / 1e3:.0f} kΩ; an amp presents 1 MΩ.",
                f"{away:.1f} dB RMS between the two, 80 Hz to 6 kHz.",
                "Record it into 1 MΩ or more, or correct it when reamping.",
                port=course.track,
                track=course.track,
            )


@check(
    "late-track",
    Severity.NOTE,
    looks_for="a track that comes more than 1 ms later than the earliest of its group",
    why="summed with it, it combs until it is moved into time",
)
def late_track(context: Context) -> Iterator[Finding]:
    groups: dict[tuple[str, str], list[Course]] = defaultdict(list)
    for course in context.courses:
        track = context.planned.get(course.track)
        if track is not None and track.group:
            groups[track.group, course.start.device.id].append(course)
    for courses in groups.values():
        delays = [c.delay_ms(context.rate_hz) for c in courses]
        for course, late in zip(courses, delays, strict=True):
            if late - min(delays) > 1.0:
                yield Finding(
                    "late-track",
                    Severity.NOTE,
                    context.track_name(course.track),
                    f"It comes {late - min(delays):.1f} ms after the earliest of its group.",
                    "Summed as it is, it takes notches out of the sound.",
                    "Move it into time before summing; Diaulos measures by how much.",
                    port=course.track,
                    track=course.track,
                )
