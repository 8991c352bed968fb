"""Ground loops, monitoring, and levels that clip or miss their target."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial

from diaulos.rig.checks.registry import (
    Context,
    Finding,
    Mend,
    Severity,
    at_cable,
    check,
    set_mend,
)
from diaulos.rig.course import TAP_ADJECTIVES
from diaulos.rig.graph import RECORDER, Plug
from diaulos.rig.ground import is_exposed, loop_hum_v
from diaulos.rig.mending import insert_isolator
from diaulos.rig.mixer import LEAST_DB, LEVEL, MUTE
from diaulos.rig.model import AdcStage, Control, Device, PortRef, Rig, SignalClass
from diaulos.rig.monitoring import LATE_MS, PLAYBACK, plan_monitoring
from diaulos.rig.trackplan import gain_for
from diaulos.units import volt_to_dbu

MOST_TRIES = 24


@check(
    "ground-loop",
    Severity.CAUTION,
    looks_for="an unbalanced connection in a loop between two earthed devices",
    why="the mains current in the loop's shield adds hum to the signal",
)
def ground_loop(context: Context) -> Iterator[Finding]:
    graph = context.graph
    for cable, source, target in graph.cables():
        if cable.id not in graph.loop_cables or not is_exposed(cable, source.port, target.port):
            continue
        hum = volt_to_dbu(loop_hum_v(cable))
        yield Finding(
            "ground-loop",
            Severity.CAUTION,
            at_cable(graph, cable),
            "Its shield closes a loop between two devices that are earthed by their mains plugs.",
            f"About {hum:.0f} dBu of hum in this cable (representative).",
            "Isolate the signal with a transformer. Never lift a safety earth.",
            cable=cable.id,
            port=target.ref,
            mend=Mend(
                "Put a line isolator into this cable",
                partial(insert_isolator, cable_id=cable.id),
            ),
        )


@check(
    "doubled-monitoring",
    Severity.CAUTION,
    looks_for="an instrument that a listener hears directly and through the software at once",
    why="it sounds like a very short echo, hollow and late",
)
def doubled_monitoring(context: Context) -> Iterator[Finding]:
    for one in context.monitoring.listeners:
        for twice in one.doubled:
            recorder = next(iter(context.graph.of_kind(RECORDER)))
            yield Finding(
                "doubled-monitoring",
                Severity.CAUTION,
                f"{one.listener}: {twice.source}",
                f"{twice.source} is heard directly and through the software.",
                f"The second comes {twice.apart_ms:.1f} ms later. It does not change what is "
                "recorded.",
                "Switch software monitoring off, or direct monitoring.",
                device=one.listener_id,
                mend=set_mend(Plug(recorder, recorder.ports[0]), "monitoring", "off"),
            )


@check(
    "layered-monitoring",
    Severity.CAUTION,
    looks_for="an instrument that a listener hears dry and processed at once",
    why="the dry sound lies under the tone, and the two are some milliseconds apart",
)
def layered_monitoring(context: Context) -> Iterator[Finding]:
    for one in context.monitoring.listeners:
        for two in one.layered:
            fader = two.dry.strip and two.dry.strip != PLAYBACK
            mend = None
            remedy = "Take one of the two away ahead of the listener."
            if fader:
                mixer = context.graph.devices[two.dry.mixer]
                mend = Mend(
                    f"Pull {two.dry.strip_name} down in the monitor mix of {mixer.name}",
                    partial(_pulled, device=mixer.id, strip=two.dry.strip),
                )
                remedy = f"{mend.label}. It stays armed, and what is recorded stays as it is."
            wet = TAP_ADJECTIVES[two.wet.tap] if two.wet.tap else "processed"
            yield Finding(
                "layered-monitoring",
                Severity.CAUTION,
                f"{one.listener}: {two.source}",
                f"{two.source} is heard dry and {wet} at once, {two.apart_ms:.1f} ms apart.",
                "It sounds thin and hollow, and not as it is recorded.",
                remedy,
                device=one.listener_id,
                mend=mend,
            )


def _pulled(rig: Rig, device: str, strip: str) -> Rig:
    return rig.with_setting(device, f"{LEVEL}{strip}", LEAST_DB)


def _heard_by(context: Context, source_id: str) -> Mend | None:
    """A switch that makes an instrument heard: tried in the plan, a mute first, then direct
    monitoring, then the software's."""
    tries: list[tuple[int, Device, str, str]] = []
    for device in context.rig.devices:
        for one in device.settings:
            if one.id.startswith(MUTE) and one.value == "on":
                tries.append((0, device, one.id, "off"))
            elif one.id in ("direct", "monitoring") and one.value == "off":
                tries.append((1 if one.id == "direct" else 2, device, one.id, "on"))
    for _, device, setting, value in sorted(tries, key=lambda one: one[0])[:MOST_TRIES]:
        graph = context.graph.of(context.rig.with_setting(device.id, setting, value))
        plan = plan_monitoring(graph, context.rate_hz)
        heard = {way.source_id for one in plan.listeners for way in one.ways
                 if way.kind != "playback"}  # fmt: skip
        if source_id in heard:
            return set_mend(Plug(device, device.ports[0]), setting, value)
    return None


@check(
    "nobody-hears",
    Severity.NOTE,
    looks_for="a recorded instrument that no headphone or speaker of the rig plays, with no "
    "loudspeaker in the room either",
    why="the player plays without hearing a note",
)
def nobody_hears(context: Context) -> Iterator[Finding]:
    listeners = context.monitoring.listeners
    if not listeners:
        return  # how one listens is not drawn
    heard = {way.source_id for one in listeners for way in one.ways if way.kind != "playback"}
    told: set[str] = set()
    for course in context.courses:
        source = course.start.device
        if course.source is None or source.id in heard | told:
            continue
        if any(
            leg.exit is not None and leg.exit.signal_class is SignalClass.SOUND
            for other in context.courses
            if other.start.device.id == source.id
            for leg in other.legs
        ):
            continue  # its own loudspeaker is in the room
        if any(leg.device.kind == "desk" for leg in course.legs):
            continue  # the stage hears what its desk sends it
        told.add(source.id)
        mend = _heard_by(context, source.id)
        yield Finding(
            "nobody-hears",
            Severity.NOTE,
            source.name,
            f"{source.name} is recorded, and nobody hears it.",
            "It is played in silence.",
            f"{mend.label}." if mend else "Switch direct or software monitoring on.",
            device=source.id,
            mend=mend,
        )


@check(
    "software-late",
    Severity.CAUTION,
    looks_for=f"software monitoring that comes later than {LATE_MS:g} ms",
    why="the player feels it and drags",
)
def software_late(context: Context) -> Iterator[Finding]:
    for one in context.monitoring.listeners:
        late = [w for w in one.ways if w.kind == "software" and w.delay_ms > LATE_MS]
        if not late:
            continue
        worst = max(late, key=lambda way: way.delay_ms)
        recorder = next(iter(context.graph.of_kind(RECORDER)))
        plug = Plug(recorder, recorder.ports[0])
        limit = one.buffer_limit
        yield Finding(
            "software-late",
            Severity.CAUTION,
            f"{one.listener}: {worst.source}",
            f"{worst.source} is heard {worst.delay_ms:.1f} ms late through the software.",
            f"As far away as {worst.metres:.1f} m of air. It does not change what is recorded.",
            f"Use a buffer of {limit} samples or less, or monitor directly."
            if limit
            else "Monitor directly: no buffer is small enough.",
            device=one.listener_id,
            mend=set_mend(plug, "buffer", str(limit)) if limit else None,
        )


@check(
    "clips",
    Severity.FAULT,
    looks_for="a port on a course whose clip point the loudest peak passes",
    why="what is clipped cannot be restored",
)
def clips(context: Context) -> Iterator[Finding]:
    told: set[tuple[str, str, str]] = set()
    for plan in context.plans:
        assert plan.course is not None
        for at in plan.clipped:
            leg = plan.course.legs[at.point.leg]
            # What a converter clips came in by its input.
            port = leg.entry if at.unit == "dBFS" and leg.entry is not None else at.point.port
            key = (leg.device.id, port.id, at.unit)
            if at.clips_db < 0.3 or key in told:
                continue
            told.add(key)
            plug = context.graph.plug(PortRef(device=leg.device.id, port=port.id))
            yield Finding(
                "clips",
                Severity.FAULT,
                plug.words,
                f"The loudest peak is {at.peak:.1f} {at.unit}; this clips at {at.ceiling:.1f}.",
                f"It clips by {at.clips_db:.1f} dB.",
                _less(plug, at.clips_db, at.unit),
                port=plug.ref,
                track=plan.track,
                mend=_turn_down(plug, at.clips_db if at.unit == "dBFS" else math.inf),
            )


def _less(plug: Plug, over_db: float, unit: str) -> str:
    if unit == "dBFS":
        return f"Reduce the gain ahead of {plug.words} by {over_db:.0f} dB, or use a pad."
    return "Less level ahead of it, or its pad."


def _turn_down(plug: Plug, over_db: float) -> Mend | None:
    """The converter's gain down by what clips and 12 dB more, where the gain is what clips."""
    if not math.isfinite(over_db):
        return None
    for path in plug.device.live_paths:
        if path.source != plug.port.id:
            continue
        for stage in path.stages:
            if isinstance(stage, AdcStage) and stage.control:
                setting = plug.device.setting(stage.control)
                assert isinstance(setting, Control)
                value = setting.nearest(setting.value - over_db - 12.0)
                return set_mend(plug, stage.control, value) if value < setting.value else None
    return None


OFF_TARGET_DB = 3.0


@check(
    "gain-off-target",
    Severity.NOTE,
    looks_for=f"a track whose loudest peak is more than {OFF_TARGET_DB:g} dB from the target",
    why="too low drowns in noise, too high leaves nothing for the loudest note",
)
def gain_off_target(context: Context) -> Iterator[Finding]:
    for plan in context.plans:
        peak = plan.converter_dbfs
        if peak is None:
            continue
        off = peak - context.target_peak_dbfs
        if abs(off) <= OFF_TARGET_DB:
            continue
        mend, words = None, "Change the level ahead of it."
        found = gain_for(plan, context.target_peak_dbfs)
        if found is not None and found[2] != found[1].value:
            device, setting, value = found
            mend = set_mend(Plug(device, device.ports[0]), setting.id, value)
            words = f"Set {setting.name} of {device.name} to {value:g} {setting.unit}."
        yield Finding(
            "gain-off-target",
            Severity.NOTE,
            context.track_name(plan.track),
            f"Its loudest peak is {peak:.1f} dBFS; the target is {context.target_peak_dbfs:g}.",
            f"{abs(off):.1f} dB too {'loud' if off > 0 else 'quiet'}.",
            words,
            port=plan.track,
            track=plan.track,
            mend=mend,
        )


@check(
    "mic-hears-monitor",
    Severity.NOTE,
    looks_for="a powered speaker that is not muted in a rig with microphones",
    why="the microphones record it too",
)
def mic_hears_monitor(context: Context) -> Iterator[Finding]:
    if not any(course.tap == "mic" for course in context.courses):
        return
    for device in context.graph.of_kind("monitor"):
        if not context.graph.into.get((device.id, "in")) or device.word("muted") == "on":
            continue
        yield Finding(
            "mic-hears-monitor",
            Severity.NOTE,
            device.name,
            "It is not muted, and microphones are recorded.",
            "What it plays is recorded with them.",
            "Mute it while recording, or listen by headphones.",
            device=device.id,
            mend=set_mend(Plug(device, device.ports[0]), "muted", "on"),
        )
