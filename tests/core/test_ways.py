"""Ways into an input: every row is the rig that it says, and plays as it says."""

from __future__ import annotations

import json
from functools import lru_cache
from pathlib import Path

import pytest
from test_truth import heard

from diaulos.__main__ import main
from diaulos.errors import RigError
from diaulos.rig.catalogue.types import make
from diaulos.rig.checks import Context, run_checks
from diaulos.rig.fits import joined
from diaulos.rig.graph import RigGraph
from diaulos.rig.model import PortRef, Rig
from diaulos.rig.modes import mode_sum
from diaulos.rig.printed import set_printed
from diaulos.rig.templates import build
from diaulos.rig.trackplan import plan_tracks
from diaulos.rig.ways import Way, sentence, ways_into
from diaulos.storage.folder import SessionFolder


def ref(text: str) -> PortRef:
    device, _, port = text.partition(".")
    return PortRef(device=device, port=port)


CASES = {
    "guitar": ("modeler-analog", "guitar.out", "interface.in1"),
    "line": ("modeler-analog", "modeler.out_l", "interface.in3"),
    "load box": ("hybrid", "load_box.plain", "interface.in2"),
}


@lru_cache
def found(name: str) -> tuple[RigGraph, tuple[Way, ...]]:
    template, source, target = CASES[name]
    graph = RigGraph(build(template, "r"))
    return graph, ways_into(graph, ref(source), ref(target))


@pytest.mark.parametrize("name", CASES)
@pytest.mark.parametrize("fifth", range(4))
def test_every_row_is_what_is_played(name: str, fifth: int) -> None:
    """A tenth and more of the rows, from the best to the last."""
    graph, ways = found(name)
    way = ways[fifth * (len(ways) - 1) // 3]
    start = next(d.id for d in way.rig.devices if d.kind == "instrument")
    got = heard(graph.of(way.rig), start)[way.track]
    assert got == pytest.approx(way.peak_dbfs, abs=0.3), way.words


def test_a_guitar_goes_in_by_the_instrument_jack_or_a_di_and_the_wrong_ones_say_so() -> None:
    _, ways = found("guitar")
    assert (ways[0].words, ways[0].verdict) == ("straight in, instrument", "good")
    good = {way.words for way in ways if way.verdict == "good"}
    assert "Passive DI, microphone" in good
    assert "straight in, line" not in good
    assert "Line isolator, line" not in good, "10 kohm take the treble of a coil"
    for way in ways:
        assert way.peak_dbfs <= -12.0 + 0.05 or way.gain_db == 0.0, "the target is a ceiling"
        assert way.room_db < 60.0
    assert [way.rank for way in ways] == sorted(way.rank for way in ways)


def test_a_line_goes_straight_in_and_through_a_di_box() -> None:
    _, ways = found("line")
    verdicts = {way.words: way.verdict for way in ways}
    assert verdicts["straight in, line"] == "good"
    assert verdicts["Passive DI, microphone"] == "good", "a DI box takes line"
    assert verdicts["DI and isolator box (as isolator), line"] == "good"
    assert verdicts["straight in, instrument"] != "good"


def test_what_clips_and_what_falls_short_is_said() -> None:
    rig = build("modeler-analog", "r").with_setting("interface", "mode3", "mic")
    graph = RigGraph(set_printed(rig, ref("interface.in3"), maximum_dbu=-6.0))
    hot = ways_into(graph, ref("modeler.out_l"), ref("interface.in3"))
    straight = next(way for way in hot if way.words == "straight in, microphone")
    assert straight.room_db == pytest.approx(-6.0 - straight.arrives_dbu, abs=0.01)
    assert straight.verdict == f"CLIPS by {-straight.room_db:.1f} dB"
    padded = next(way for way in hot if way.words == "20 dB pad, microphone")
    assert not padded.clips, "a pad is a way out"
    weak = set_printed(rig, ref("interface.in3"), gain_minimum_db=0.0, gain_maximum_db=3.0,
                       gain_step_db=1.0)  # fmt: skip
    ways = ways_into(RigGraph(weak), ref("modeler.out_l"), ref("interface.in3"))
    short = next(way for way in ways if way.words == "Passive DI, microphone")
    assert short.gain_db == 3.0
    assert short.verdict == f"{-12.0 - short.peak_dbfs:.1f} dB short"


def test_the_link_of_a_box_feeds_what_was_plugged_in_before() -> None:
    rig = build("modeler-digital", "r")
    graph = RigGraph(rig)
    ways = ways_into(graph, ref("guitar.out"), ref("interface.in2"))
    box = next(way for way in ways if way.words == "Passive DI, microphone")
    assert not box.unplugs
    linked = {str(cable.source): str(cable.target) for cable in box.rig.cables}
    assert linked["way_box.thru"] == "modeler.in"
    straight = next(way for way in ways if way.words == "straight in, instrument")
    assert straight.unplugs == ("Guitar, Jack into Floor modeler, Instrument input",)
    assert ways.index(box) < ways.index(straight)


def test_one_sum_for_a_wrong_mode_is_what_the_plan_gives() -> None:
    """Seen in Rig: an instrument input left at line."""
    graph, _ = found("guitar")
    rig = next(
        way.rig for way in found("guitar")[1] if way.words == "straight in, line"
    ).with_setting("interface", "gain1", 0.0)
    other = rig.with_setting("interface", "mode1", "instrument")
    told = mode_sum(graph.of(rig), ref("interface.in1"), "instrument")
    assert told.startswith("Line instead of instrument: ")
    levels = []
    for one in (rig, other):
        by_rig = RigGraph(one, graph.sources, tone=True)
        levels.append(next(p.unclipped_dbfs for p in plan_tracks(by_rig)
                           if p.track == found("guitar")[1][0].track))  # fmt: skip
    quieter = levels[1] - levels[0]
    assert f"{quieter:.1f} dB quieter" in told
    assert "less at 4 kHz" in told
    assert mode_sum(graph.of(rig), ref("interface.in1"), "line") == ""
    finding = next(one for one in run_checks(Context(graph.of(rig)))
                   if one.id == "instrument-into-line")  # fmt: skip
    assert told in finding.consequence


def test_the_sentence_for_the_engineer() -> None:
    graph, ways = found("guitar")
    box = next(way for way in ways if way.words == "Passive DI, microphone")
    told = sentence(box, graph, ref("guitar.out"), ref("interface.in1"))
    assert told.startswith("Input 1: microphone, gain ")
    assert "phantom power off. You get microphone level from Guitar through Passive DI" in told


def test_a_stage_desk_wants_no_dry_di() -> None:
    rig = build("modeler-analog", "r")
    desk = make("stage_desk", "desk")
    rig = rig.model_copy(update={"devices": (*rig.devices, desk)})
    rig = rig.model_copy(
        update={"cables": tuple(c for c in rig.cables if c.target.device != "interface"
                                and c.source.device != "interface"), "tracks": ()}
    )  # fmt: skip
    rig = joined(joined(rig, ref("modeler.xlr_l"), ref("desk.in1")), ref("desk.rec1"),
                 ref("computer.track1"))  # fmt: skip
    told = {one.id for one in run_checks(Context(RigGraph(rig)))}
    assert "no-dry-di" not in told
    assert "no-course" not in told


def test_only_an_output_into_a_recorded_input_is_a_way() -> None:
    graph, _ = found("guitar")
    with pytest.raises(RigError, match="from an output to an input"):
        ways_into(graph, ref("interface.in1"), ref("interface.in2"))
    with pytest.raises(RigError, match="no converter"):
        ways_into(graph, ref("guitar.out"), ref("di.in"))


def test_ways_from_the_shell(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    where = str(tmp_path / "s.diaulos")
    assert main(["new", where]) == 0
    assert main(["rig", where, "--add", "modeler-analog", "--current"]) == 0
    capsys.readouterr()
    asked = ["ways", where, "--from", "guitar.out", "--into", "interface.in1"]
    assert main([*asked, "--json"]) == 0
    rows = json.loads(capsys.readouterr().out)["ways"]
    number = next(row["number"] for row in rows if row["box"] == "passive_di")
    assert main([*asked, "--apply", str(number)]) == 0
    held = SessionFolder.open(Path(where), read_only=True).load()
    assert any(d.type == "passive_di" for d in held.rig().devices)
    assert main([*asked, "--apply", "99"]) == 1
    assert main(["ways", where, "--from", "guitar", "--into", "interface.in1"]) == 1


def desk_rig() -> Rig:
    rig = build("modeler-analog", "r")
    rig = rig.model_copy(
        update={
            "devices": (*rig.devices, make("stage_desk", "desk")),
            "cables": tuple(c for c in rig.cables if "interface" not in (c.source.device,
                                                                        c.target.device)),
            "tracks": (),
        }
    )  # fmt: skip
    return joined(joined(rig, ref("modeler.xlr_l"), ref("desk.in1")), ref("desk.rec1"),
                  ref("computer.track1"))  # fmt: skip


def test_the_engineer_is_asked_for_mic_or_line_with_what_each_gives() -> None:
    rig = desk_rig()
    found = next(one for one in run_checks(Context(RigGraph(rig))) if one.id == "ask-mic-or-line")
    peaks = []
    for word in ("mic", "line"):
        plans = plan_tracks(RigGraph(rig.with_setting("modeler", "xlr_level", word)))
        peaks.append(next(level.peak for plan in plans for level in plan.levels
                          if level.point.port.id == "xlr_l"))  # fmt: skip
    assert peaks[1] - peaks[0] == pytest.approx(30.0, abs=0.1)
    assert f"microphone {peaks[0]:.0f} dBu, line {peaks[1]:.0f} dBu" in found.consequence


@pytest.mark.parametrize(
    ("scope", "moved"),
    [("all", {"out_l", "xlr_l"}), ("jacks", {"out_l"}), ("xlr", {"xlr_l"}), ("none", set())],
)
def test_an_output_knob_acts_on_what_it_is_set_to(scope: str, moved: set[str]) -> None:
    """Seen: one knob for all outputs."""
    rig = build("modeler-analog", "r").with_setting("modeler", "knob_scope", scope)
    rig = joined(rig, ref("modeler.xlr_l"), ref("interface.in2"))
    rig = joined(rig, ref("interface.rec2"), ref("computer.track8"))
    levels = []
    for value in (-6.0, -16.0):
        plans = plan_tracks(RigGraph(rig.with_setting("modeler", "output", value)))
        levels.append({level.point.port.id: level.peak for plan in plans for level in plan.levels
                       if level.point.port.id in ("out_l", "xlr_l")})  # fmt: skip
    for port in ("out_l", "xlr_l"):
        by = levels[1][port] - levels[0][port]
        assert by == pytest.approx(-10.0 if port in moved else 0.0, abs=0.01)
    start = "guitar"
    turned = rig.with_setting("modeler", "output", -16.0)
    got = [heard(RigGraph(one), start) for one in (rig, turned)]
    tracks = {"out_l": "track2", "xlr_l": "track8"}
    for port, track in tracks.items():
        by = next(got[1][t] - got[0][t] for t in got[0] if t.port == track)
        assert by == pytest.approx(-10.0 if port in moved else 0.0, abs=0.3), "in the sound too"
