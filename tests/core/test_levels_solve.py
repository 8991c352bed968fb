"""The gain solver against trying everything, and what it does where nothing works."""

from __future__ import annotations

import itertools
import math
import random
from collections.abc import Iterator

import pytest

from diaulos.errors import RigError
from diaulos.rig import changes
from diaulos.rig.course import Course, trace, trace_all
from diaulos.rig.graph import RigGraph
from diaulos.rig.levels.calibration import (
    CalibrationPoint,
    calibrated_inputs,
    with_input_calibration,
)
from diaulos.rig.levels.diagram import LevelDiagram, level_diagram
from diaulos.rig.levels.freeing import freeings, obstacle
from diaulos.rig.levels.settings import CourseSetting, Role, settings_on, with_values
from diaulos.rig.levels.solve import Aim, Solution, solve
from diaulos.rig.model import Choice, Control, PortRef, Rig, SettingRef
from diaulos.rig.sources import PlayedSource
from diaulos.rig.templates import TEMPLATES, Patch, build

# --- trying everything, in the stated order, by way of whole diagrams ---


def tenths(value: float) -> int:
    return round(value / 0.1)


def diagram_of(rig: Rig, track: PortRef, sources: dict[str, PlayedSource]) -> LevelDiagram:
    return level_diagram(trace(RigGraph(rig, sources), track), held=False)


def misfits(course: Course) -> int:
    """Analog cables that join two classes."""
    audio = ("instrument", "mic", "line")
    count = 0
    for leg, after in itertools.pairwise(course.legs):
        assert leg.exit is not None
        assert after.entry is not None
        one, other = leg.exit.signal_class.value, after.entry.signal_class.value
        count += one in audio and other in audio and one != other
    return count


def key_of(diagram: LevelDiagram, aim: Aim, changes: int, order: tuple[int, ...]) -> tuple:
    at = max(i for i, s in enumerate(diagram.stations) if s.place.key.endswith(".converter"))
    rooms = [s.headroom_db for s in diagram.stations[:at] if s.headroom_db is not None]
    if diagram.course.source is None:
        rooms = [
            s.headroom_db for s in diagram.stations[1:at] if s.headroom_db is not None
        ]  # a played track does not clip itself
    short = max([0.0, *(aim.least_headroom_db - room for room in rooms)])
    station = diagram.stations[at]
    reached = station.peak if aim.statistic == "peak" else station.typical
    noise = diagram.track.noise - diagram.track.peak
    passed = max(0, math.ceil((reached - aim.target_dbfs) / 0.1 - 1e-6))
    below = 0 if passed else tenths(aim.target_dbfs - reached)
    return (
        tenths(short), passed, 0, below, tenths(noise), changes, round(noise, 6), order,
    )  # fmt: skip


def with_pads(
    found: list[tuple[tuple, dict, LevelDiagram]], free: list[CourseSetting], statistic: str
) -> list:
    """Marks (key, values, diagram) whose switches take level away only to have it back by
    gain."""
    switches = [s for s in free if isinstance(s.setting, Choice)]
    gains = [
        s for s in free
        if isinstance(s.setting, Control) and s.role is Role.GAIN and not s.ahead_of
    ]  # fmt: skip
    others = [s for s in free if s not in gains]
    step = max((s.setting.step for s in gains), default=0.0)
    best: dict[tuple, tuple[tuple, dict, LevelDiagram]] = {}
    for one in sorted(found, key=lambda one: one[0]):
        best.setdefault(tuple(one[1][s.ref] for s in others), one)

    def level(diagram: LevelDiagram) -> float:
        return diagram.converter.peak if statistic == "peak" else diagram.converter.typical

    plains = {
        place: level(
            level_diagram(with_values(one[2].course, {s.ref: 0.0 for s in gains}), held=False)
        )
        for place, one in best.items()
    }
    padded = set()
    for place, one in best.items():
        for switch in switches:
            for value in switch.steps:
                values = {**one[1], switch.ref: value}
                there = tuple(values[s.ref] for s in others)
                other = best.get(there)
                if other is None or other is one:
                    continue
                takes_away = plains[place] < plains[there] - 0.5
                more = level(one[2]) - plains[place] > level(other[2]) - plains[there] + 1e-9
                near = other[0][0] <= one[0][0] and other[0][1] == 0
                if takes_away and more and near and other[0][3] <= tenths(step):
                    padded.add(place)
    return [
        ((*key[:2], int(tuple(values[s.ref] for s in others) in padded), *key[3:]), values)
        for key, values, _ in found
    ]


def brute_force(
    rig: Rig, track: PortRef, sources: dict[str, PlayedSource], aim: Aim
) -> tuple[list[tuple[tuple, dict[SettingRef, float | str]]], list[CourseSetting]]:
    course = trace(RigGraph(rig, sources), track)
    free = [s for s in settings_on(course, free_tone=aim.free_tone) if not s.kept]
    found, fits = [], []
    for places in itertools.product(*(range(len(s.steps)) for s in free)):
        values = {s.ref: s.steps[i] for s, i in zip(free, places, strict=True)}
        changed = rig
        for ref, value in values.items():
            changed = changed.with_setting(ref.device, ref.setting, value)
        diagram = diagram_of(changed, track, sources)
        changes = sum(values[s.ref] != s.value for s in free)
        found.append((key_of(diagram, aim, changes, places), values, diagram))
        fits.append(misfits(diagram.course))
    least = min(fits)
    kept = with_pads(
        [one for one, fit in zip(found, fits, strict=True) if fit == least], free, aim.statistic
    )
    return sorted(kept, key=lambda one: one[0]), free


def really_differs(
    free: list[CourseSetting], one: dict[SettingRef, float | str], other: dict
) -> bool:
    """More than one step of one control."""
    away = 0
    for setting in free:
        a, b = setting.steps.index(one[setting.ref]), setting.steps.index(other[setting.ref])
        away += abs(a - b) if isinstance(setting.setting, Control) else 2 * (a != b)
    return away > 1


# --- small rigs: those of the templates with short controls ---


def shortened(rig: Rig, draw: random.Random, most: int) -> Rig:
    """Controls of a few steps, switches and controls anywhere, an odd step now and then."""
    devices = []
    for device in rig.devices:
        settings = []
        for setting in device.settings:
            if isinstance(setting, Control) and setting.unit == "dB":
                step = draw.choice((setting.step, 2.5, 5.0))
                low = round(draw.uniform(setting.minimum, setting.maximum - step), 1)
                count = draw.randint(1, most)
                high = min(setting.maximum, round(low + count * step, 3))
                value = draw.choice([low, round(low + step * draw.randint(0, 1), 3)])
                value = min(value, high)
                new = {"minimum": low, "maximum": high, "step": step, "value": value}
                settings.append(setting.model_copy(update=new))
            elif isinstance(setting, Choice) and setting.id.startswith(("pad", "mode", "send_l")):
                value = draw.choice(setting.options)[0]
                settings.append(setting.model_copy(update={"value": value}))
            else:
                settings.append(setting)
        devices.append(device.model_copy(update={"settings": tuple(settings)}))
    return rig.model_copy(update={"devices": tuple(devices)})


def calibrated(rig: Rig, draw: random.Random) -> Rig:
    """Inputs whose gains lie on no common grid."""
    for device in rig.devices:
        for port in calibrated_inputs(device):
            points = tuple(
                CalibrationPoint(gain, draw.uniform(-9.0, 9.0), 0.0, 0.0) for gain in (0.0, 30.0)
            )
            rig = with_input_calibration(rig, rig.device(device.id), port, points, "now", "drawn")
    return rig


NO_CONVERTER = ("reamp-usb", "reamp-software")
"""Loops of numbers alone: there is nothing to solve."""


def drawn(seed: int) -> Iterator[tuple[Rig, PortRef, dict[str, PlayedSource], Aim]]:
    draw = random.Random(seed)
    name = draw.choice([one for one in TEMPLATES if one not in NO_CONVERTER])
    rig = shortened(build(name, "rig01"), draw, 4)
    if draw.random() < 0.4:
        rig = calibrated(rig, draw)
    graph = RigGraph(rig)
    sources = {}
    for device in graph.of_kind("instrument"):
        source = trace(graph, graph.tracks[0]).source
        assert source is not None
        louder = draw.uniform(-14.0, 14.0)
        sources[device.id] = PlayedSource(
            source.name, source.circuit, source.emf_peak_dbu + louder, crest_db=10.0
        )
    aim = Aim(
        target_dbfs=draw.choice((-12.0, -18.0, -6.0)),
        statistic=draw.choice(("peak", "peak", "rms")),
        least_headroom_db=draw.choice((6.0, 6.0, 3.0, 12.0)),
        free_tone=draw.random() < 0.25,
    )
    for track in graph.tracks:
        course = trace(graph, track)
        free = [s for s in settings_on(course, free_tone=aim.free_tone) if not s.kept]
        size = 1
        for setting in free:
            size *= len(setting.steps)
        if size <= 160:
            yield rig, track, sources, aim


@pytest.mark.parametrize("seed", range(32))
def test_the_optimum_is_that_of_trying_everything(seed: int) -> None:
    for rig, track, sources, aim in drawn(seed):
        everything, free = brute_force(rig, track, sources, aim)
        best_key, best = everything[0]
        solution = solve(trace(RigGraph(rig, sources), track), aim)
        assert solution.best.key[:6] == best_key[:6]
        assert dict(solution.best.values) == best
        others = [one for one in everything if really_differs(free, one[1], best)]
        if not others:
            assert solution.second is None
        else:
            assert solution.second is not None
            assert solution.second.key[:6] == others[0][0][:6]
            assert dict(solution.second.values) == others[0][1]


# --- what it says, and what it refuses ---


def course_of(name: str, index: int, **settings: float | str) -> Course:
    rig = build(name, "rig01")
    for key, value in settings.items():
        device, _, setting = key.partition("__")
        rig = rig.with_setting(device, setting, value)
    graph = RigGraph(rig)
    return trace(graph, graph.tracks[index])


def with_control(rig: Rig, device_id: str, setting_id: str, **values: float) -> Rig:
    device = rig.device(device_id)
    settings = tuple(
        s.model_copy(update=values) if s.id == setting_id else s for s in device.settings
    )
    return rig.with_device(device.model_copy(update={"settings": settings}))


def gained(solution: Solution) -> dict[str, float | str]:
    return {one.ref.setting: value for one, value in solution.changes}


def test_it_chooses_the_input_that_fits_and_the_gain() -> None:
    solution = solve(course_of("hybrid", 0, interface__mode1="line", interface__gain1=0.0))
    assert gained(solution) == {"mode1": "mic", "gain1": 6.0}
    assert solution.works
    assert solution.second is not None
    pad = SettingRef(device="interface", setting="pad1")
    assert solution.second.values[pad] == "off"  # a pad ahead of more gain only costs noise


def test_a_locked_control_stays() -> None:
    rig = changes.set_lock(
        build("hybrid", "rig01").with_setting("interface", "gain1", 20.0),
        SettingRef(device="interface", setting="gain1"),
        True,
    )
    graph = RigGraph(rig)
    solution = solve(trace(graph, graph.tracks[0]))
    assert "gain1" not in gained(solution)
    assert gained(solution)["pad1"] == "on"
    found = obstacle(solution)
    assert found is None or "locked" in found.words
    free = solve(trace(graph, graph.tracks[0]), Aim(locked=()))
    assert gained(free)["gain1"] == 6.0


def test_contradictory_locks_are_named() -> None:
    lock = SettingRef(device="interface", setting="gain1")
    course = course_of("hybrid", 0)
    with pytest.raises(RigError, match="is locked twice"):
        solve(course, Aim(locked=(lock, lock)))
    gone = SettingRef(device="interface", setting="gain99")
    with pytest.raises(RigError, match=r"A lock names interface\.gain99"):
        solve(course, Aim(locked=(gone,)))


def test_a_gain_without_limits_is_named() -> None:
    rig = with_control(build("hybrid", "rig01"), "interface", "gain1", minimum=-5000.0,
                       maximum=5000.0)  # fmt: skip
    graph = RigGraph(rig)
    with pytest.raises(RigError, match=r"Gain 1 runs from -5000 to 5000 dB .* without limits"):
        solve(trace(graph, graph.tracks[0]))


def test_a_course_without_a_converter_is_named() -> None:
    with pytest.raises(RigError, match="There is no converter on this course"):
        solve(course_of("reamp-usb", 0))


def test_too_much_for_the_input_is_freed_by_a_pad() -> None:
    """A hot line into a microphone input whose pad is locked off and gain at its least."""
    patch = Patch("Hot line")
    patch.add("bass", "bass").add("mic_preamp", "preamp", gain=40.0).add(
        "interface4", "interface", mode1="line"
    ).add("computer", "computer")
    patch.join("bass.out", "preamp.in").join("preamp.out", "interface.in1")
    patch.record("interface.rec1", 1, "Hot")
    rig = with_control(patch.rig("r1"), "preamp", "gain", minimum=30.0, value=30.0)
    graph = RigGraph(rig)
    solution = solve(trace(graph, graph.tracks[0]))
    assert not solution.works
    found = obstacle(solution)
    assert found is not None
    assert found.too_loud
    assert "preamp" in found.station.place.name.lower()
    words = [one.words for one in freeings(solution)]
    assert any("DI box" in one for one in words)
    assert any("volume of Bass down" in one for one in words)
    for one in freeings(solution):
        assert one.solution.best.key[0] == 0


def test_too_little_gain_is_freed_by_a_preamp() -> None:
    rig = with_control(build("three-tones", "rig01"), "interface", "gain4", maximum=20.0, value=0.0)
    graph = RigGraph(rig)
    solution = solve(trace(graph, graph.tracks[2]))
    found = obstacle(solution)
    assert found is not None
    assert not found.too_loud
    assert "at its most" in found.words
    freed = freeings(solution)
    assert any("microphone preamp" in one.words for one in freed)
    assert all(one.solution.works for one in freed if "preamp" in one.words)


def test_the_rms_target_aims_at_the_rms() -> None:
    solution = solve(course_of("hybrid", 0), Aim(-18.0, "rms"))
    assert level_diagram(solution.solved()).converter.typical == pytest.approx(-18.0, abs=0.6)


def test_a_calibrated_output_is_left_alone() -> None:
    rig = with_control(build("modeler-analog", "rig01"), "modeler", "output", noted=0.0)
    graph = RigGraph(rig)
    kept = {s.ref.setting: s.kept for s in settings_on(trace(graph, graph.tracks[1]))}
    assert kept["output"] == "it scales every output together"


def test_what_another_course_decided_stays() -> None:
    course = course_of("hybrid", 0, interface__gain1=20.0)
    gain = SettingRef(device="interface", setting="gain1")
    solution = solve(course, Aim(decided=(gain,)))
    assert next(s for s in solution.settings if s.ref == gain).kept == "set for another course"


def test_too_many_switches_are_refused() -> None:
    course = course_of("hybrid", 1)
    graph = RigGraph(with_control(course.rig, "drive", "level", step=0.02))
    with pytest.raises(RigError, match="too many to try"):
        solve(trace(graph, graph.tracks[1]), Aim(free_tone=True))


def test_neither_a_speaker_tap_nor_an_instruments_trim_is_turned_for_a_level() -> None:
    for name in ("hybrid", "three-tones", "modeler-digital", "amp-in-loop"):
        graph = RigGraph(build(name, "r"))
        for traced in trace_all(graph):
            if traced.course is None:
                continue
            free = [one for one in settings_on(traced.course, free_tone=True) if not one.kept]
            assert not {one.ref.setting for one in free} & {"tap", "input_trim"}
