"""Every return of a pass: recorded on one sample, each measured, what belongs together kept so."""

from __future__ import annotations

import json
import re
from pathlib import Path

import numpy as np
import pytest
from test_reamp import BASS_TAKE, GUITAR_TAKE, audio_files, desk, reamped

from diaulos.audio.bench_backend import BUFFERS_EACH_WAY
from diaulos.cli.main import run as main
from diaulos.errors import EditError, InputError, RigError
from diaulos.rig.bench import Bench, BenchFaults, LoopBench
from diaulos.rig.course import reamp_courses
from diaulos.rig.model import DeviceMap, PortRef, Tie
from diaulos.rig.returns import planned_returns
from diaulos.rig.states import in_state
from diaulos.rig.templates import build
from diaulos.session import edits
from diaulos.session.migrations import migrate
from diaulos.session.model import MatchTarget, QueuedTone, Session, SlateRecord
from diaulos.session.take_edits import pass_differences, recall_pass
from diaulos.signal.delay import find_alignment
from diaulos.signal.peaks import rms_dbfs
from diaulos.storage.folder import SessionFolder
from diaulos.units import db_to_gain
from diaulos.wiring import ExternalAudio, bench_for, loop_on
from diaulos.work.capture.loop import BLOCK_FRAMES
from diaulos.work.listening.heard import compared_channels, part_channels
from diaulos.work.listening.mixing import audible, mix_rows
from diaulos.work.loudest import read_loudest
from diaulos.work.measuring import read_mono
from diaulos.work.ports import FileNotes
from diaulos.work.reamp.matching import match_pass, part_levels
from diaulos.work.reamp.planning import plan_reamp
from diaulos.work.reamp.queue import queued
from diaulos.work.reamp.recovery import bring_back, remains_of
from diaulos.work.reamp.reference import find_reference
from diaulos.work.reamp.words import (
    made_words,
    part_lines,
    pass_lines,
    pass_words,
    send_words,
    sent_words,
    slate_words,
)
from diaulos.work.takes.exporting import export_names, export_pass, named_beside
from support import NOON, RATE, measure_loudness

__all__ = ["desk"]  # a fixture

Desk = tuple[SessionFolder, Session]
WAYS = [("reamp-bass", BASS_TAKE), ("reamp-both", GUITAR_TAKE), ("reamp-loop", GUITAR_TAKE)]


def with_rig(desk: Desk, template: str, **settings: str) -> Desk:
    """The demo with an arrangement more."""
    folder, session = desk
    rig = build(template, "extra")
    for key, value in settings.items():
        device, _, setting = key.partition("__")
        rig = rig.with_setting(device, setting, value)
    return folder, session.model_copy(update={"rigs": (*session.rigs, rig)})


def heard(session, made, part, store, frames: int) -> np.ndarray:  # type: ignore[no-untyped-def]
    """What belongs together as the player plays it, (frames, 2)."""
    out = np.zeros((frames, 2))
    for channel in part_channels("pass", session, made, part, store):
        out += np.outer(channel.read(0, frames), channel.gains)
    return out


@pytest.mark.parametrize(("template", "take_id"), [*WAYS, ("reamp-usb", GUITAR_TAKE)])
def test_every_return_is_where_the_bench_has_it(desk: Desk, template: str, take_id: str) -> None:
    """The latency that the bench has by design, and the lag of the same course played without."""
    desk = with_rig(desk, template, **({"modeler__stereo": "on"} if "usb" in template else {}))
    folder, session = desk
    outcome = reamped(desk, take_id, rig_id="extra")
    di = read_mono(folder.open_audio(session.take(take_id).di.file)).astype(float)
    sent = di * db_to_gain(outcome.made.send_gain_db)
    courses = reamp_courses(outcome.rig)
    late = LoopBench(courses, RATE, BenchFaults(seed=7)).latency_samples
    assert len(outcome.made.returns) == len(courses) == 2
    for course, back, latency in zip(courses, outcome.made.returns, late, strict=True):
        assert back.port == course.track
        still = Bench(course, RATE, BenchFaults.none())
        lag = find_alignment(di, still.process(sent), RATE)
        # The drive's oversampling is in both: in the loop's latency, and in what is played here.
        own = sum(step.processor.latency_samples for step in still._steps)
        wanted = latency + 2 * BUFFERS_EACH_WAY * BLOCK_FRAMES + lag.delay_samples - own
        assert back.alignment is not None
        assert back.alignment.delay_samples == pytest.approx(wanted, abs=0.5)
        assert back.alignment.polarity == lag.polarity
        assert back.slate is not None
        assert back.slate.delay_samples == pytest.approx(
            latency + 2 * BUFFERS_EACH_WAY * BLOCK_FRAMES, abs=0.5
        )
        assert -13.5 < back.peak_dbfs < -10.8 or back.group
        assert back.headroom_db == -back.peak_dbfs
    assert audio_files(folder) >= {Path(file).name for file in outcome.made.files}


def test_the_planned_returns_are_named_and_grouped() -> None:
    bass = planned_returns(build("reamp-bass", "r"))
    assert [(one.name, one.side) for one in bass] == [("Lows", ""), ("Highs", "")]
    assert len({one.group for one in bass}) == 1
    assert bass[0].group
    pair = planned_returns(build("reamp-usb", "r"))
    assert [(one.side, one.group) for one in pair] == [
        ("left", "Desktop modeler"), ("right", "Desktop modeler"),
    ]  # fmt: skip
    both = planned_returns(build("reamp-both", "r"))
    assert [one.group for one in both] == ["", ""], "one is not the other with a cabinet"
    assert [one.name for one in planned_returns(build("reamp-both", "r"), ["Amp and cabinet"])] == [
        "Amp and cabinet"
    ]
    with pytest.raises(RigError, match="Its returns: Amp, Amp and cabinet"):
        planned_returns(build("reamp-both", "r"), ["Room"])


def test_what_belongs_together_keeps_balance_and_phase(desk: Desk) -> None:
    """Two microphones before one cabinet: heard with one move, one polarity, one gain."""
    desk = with_rig(desk, "reamp-bass")
    folder, session = desk
    target = MatchTarget(kind="lufs", lufs=-20.0)
    made = reamped(desk, BASS_TAKE, rig_id="extra", target=target).made
    (part,) = made.parts
    frames = session.take(BASS_TAKE).di.frames
    raw = [read_mono(folder.open_audio(one.file)).astype(float) for one in part]
    channels = part_channels("pass", session, made, part, folder)
    moved = [one.read(0, frames) * db_to_gain(one.gain_db) for one in channels]
    lead = round(made.placed(part[0]).delay_samples)
    before = rms_dbfs(raw[0][lead : lead + frames]) - rms_dbfs(raw[1][lead : lead + frames])
    assert rms_dbfs(moved[0]) - rms_dbfs(moved[1]) == pytest.approx(before, abs=0.01)
    between = find_alignment(raw[1], raw[0], RATE).delay_samples
    assert find_alignment(moved[1], moved[0], RATE).delay_samples == pytest.approx(
        between, abs=0.02
    )
    assert between > 20.0, "the far microphone is later, and stays so"
    assert part[0].match == part[1].match
    together = measure_loudness(heard(session, made, part, folder, frames)[:, 0], RATE).lufs
    assert together == pytest.approx(-20.0 + part[0].match.pair_offset_db, abs=0.1)
    assert part_levels(session.take(BASS_TAKE), made, part, folder).loudness.lufs == pytest.approx(
        part[0].match.before_lufs, abs=0.01
    )


def test_a_stereo_pair_is_matched_and_heard_as_one(desk: Desk) -> None:
    desk = with_rig(desk, "reamp-usb")
    folder, session = desk
    target = MatchTarget(kind="track", ident="k02")
    outcome = reamped(desk, rig_id="extra", target=target)
    made = outcome.made
    (part,) = made.parts
    frames = session.take(GUITAR_TAKE).di.frames
    stereo = heard(session, made, part, folder, frames)
    match = part[0].match
    assert match is not None
    assert match.layout == "stereo"
    assert measure_loudness(stereo, RATE).lufs == pytest.approx(match.after_lufs, abs=0.1)
    reference = read_mono(folder.open_audio(session.take(GUITAR_TAKE).track("k02").file))
    beside = np.stack([reference, reference], axis=1)
    assert measure_loudness(beside, RATE).lufs == pytest.approx(
        match.after_lufs - match.pair_offset_db, abs=0.1
    )
    after = outcome.edit(session)
    assert [after.mix[file].pan for file in made.files] == [-1.0, 1.0]
    keys = [
        one.key for one in compared_channels(after, after.take(GUITAR_TAKE), made, target, folder)
    ]
    assert keys == ["di", "reference", "pass", "pass"]


def test_a_pass_is_as_loud_as_both_sides_of_a_pair(desk: Desk) -> None:
    """The right side is far louder here: the left one alone is no measure of the pair."""
    folder, session = desk
    take = session.take(GUITAR_TAKE)
    source = take.track("k02")
    amp = read_mono(folder.open_audio(source.file))
    tracks = []
    for side, gain in (("left", 0.1), ("right", 0.7)):
        file = f"audio/{take.id}_{side}.wav"
        sink = folder.create_audio(file, RATE, 1, "24", FileNotes(side, NOON))
        sink.write((gain * amp)[:, None])
        sink.close()
        tracks.append(source.model_copy(update={
            "id": f"k{side[0]}", "name": f"Wide {side}", "file": file, "side": side, "pair": "Wide",
        }))  # fmt: skip
    take = take.model_copy(update={"tracks": (*take.tracks, *tracks)})
    others = tuple(take if one.id == take.id else one for one in session.takes)
    session = session.model_copy(update={"takes": others})
    target = MatchTarget(kind="track", ident="Wide")
    outcome = reamped((folder, session), target=target)
    match = outcome.made.main.match
    assert match is not None
    both = measure_loudness(np.stack([0.1 * amp, 0.7 * amp], axis=1), RATE).lufs
    assert match.reference_lufs == pytest.approx(both, abs=0.05)
    assert match.label == "Wide"
    assert match.after_lufs - match.pair_offset_db == pytest.approx(both, abs=0.1)
    after = outcome.edit(session)
    channels = compared_channels(after, after.take(take.id), outcome.made, target, folder)
    told = [(one.key, one.side) for one in channels]
    assert told[:3] == [("di", ""), ("reference", "left"), ("reference", "right")]
    one_side = MatchTarget(kind="track", ident="Wide left")
    alone = reamped((folder, session), target=one_side).made.main.match
    assert alone is not None
    assert alone.reference_lufs < match.reference_lufs - 9.0
    (lined,) = queued(session, [take], [QueuedTone(name="As it is", rig_id=session.rigs[0].id)],
                      "Wide")[:1]  # fmt: skip
    assert lined.target == target


def test_returns_that_do_not_belong_together_are_matched_each(desk: Desk) -> None:
    desk = with_rig(desk, "reamp-both")
    session = desk[1]
    outcome = reamped(desk, rig_id="extra", target=MatchTarget(kind="lufs", lufs=-24.0))
    made = outcome.made
    assert [len(part) for part in made.parts] == [1, 1]
    gains = [one.match.gain_db for one in made.returns]
    assert abs(gains[0] - gains[1]) > 0.1
    for one in made.returns:
        assert one.match.after_lufs == pytest.approx(-24.0 + one.match.pair_offset_db, abs=0.1)
    session = outcome.edit(session)
    rows = [row for row in mix_rows(session, session.take(GUITAR_TAKE)) if row.tap == "pass"]
    assert [row.name for row in rows] == [f"{made.name}, Amp", f"{made.name}, Amp and cabinet"]
    assert audible(rows) == {made.files[0]}, "one of the two, not both on top of each other"


def test_one_return_alone_can_be_asked_for(desk: Desk) -> None:
    desk = with_rig(desk, "reamp-bass")
    made = reamped(desk, BASS_TAKE, rig_id="extra", returns=("Highs",)).made
    assert [one.name for one in made.returns] == ["Highs"]
    assert made.main.group == ""


def test_an_unknown_target_is_told_before_anything_is_sent(desk: Desk) -> None:
    folder, _ = desk
    files = audio_files(folder)
    with pytest.raises(EditError, match="no track"):
        reamped(desk, target=MatchTarget(kind="track", ident="nobody"))
    assert audio_files(folder) == files


def test_a_reference_lines_up_every_return(desk: Desk) -> None:
    folder, session = with_rig(desk, "reamp-both")
    session = reamped((folder, session), rig_id="extra").edit(session)
    take = session.take(GUITAR_TAKE)
    found = find_reference(take, "k02", folder)
    assert set(found.returns) == set(take.passes[-1].files)
    session = found.edit(session)
    placed = session.take(GUITAR_TAKE).passes[-1]
    assert all(one.against is not None for one in placed.returns)
    assert [placed.placed(one) for one in placed.returns] == [
        found.returns[one.file].alignment or one.alignment for one in placed.returns
    ]
    again = match_pass(
        session.take(GUITAR_TAKE), placed, MatchTarget(kind="lufs", lufs=-30.0), folder
    )
    session = edits.rematch_pass(GUITAR_TAKE, placed.id, again)(session)
    matched = session.take(GUITAR_TAKE).pass_(placed.id).returns
    assert [one.match.after_lufs for one in matched] == pytest.approx([-30.0, -30.0], abs=0.1)


def test_what_a_dead_process_left_comes_back_as_one_pass(desk: Desk) -> None:
    folder, session = with_rig(desk, "reamp-bass")
    made = reamped((folder, session), BASS_TAKE, rig_id="extra").made
    found = bring_back(session, folder, remains_of(session, folder))
    assert "2 of 2 returns" in found.words
    for edit in found.edits:
        session = edit(session)
    back = session.take(BASS_TAKE).pass_(made.id)
    assert back.files == made.files
    for one, old in zip(back.returns, made.returns, strict=True):
        assert one.alignment.delay_samples == pytest.approx(old.alignment.delay_samples, abs=0.5)


def test_a_pair_is_exported_as_one_file_and_microphones_each(desk: Desk, tmp_path: Path) -> None:
    folder = desk[0]
    for template, take_id, names in (
        ("reamp-usb", GUITAR_TAKE, ("",)), ("reamp-bass", BASS_TAKE, ("Lows", "Highs")),
    ):  # fmt: skip
        there = with_rig(desk, template)
        target = MatchTarget(kind="lufs", lufs=-20.0)
        outcome = reamped(there, take_id, rig_id="extra", target=target)
        held = outcome.edit(there[1])
        take, made = held.take(take_id), outcome.made
        assert export_names(made) == names
        out = tmp_path / f"{template}.wav"
        export_pass(
            held, take, made, folder,
            lambda added, channels, notes, out=out: ExternalAudio().create(
                named_beside(out, added), RATE, channels, "24", notes, False
            ),
            lambda: NOON,
        )  # fmt: skip
        files = [ExternalAudio().open(named_beside(out, added)) for added in names]
        assert [one.channels for one in files] == ([2] if names == ("",) else [1, 1])
        columns = np.concatenate([np.concatenate(list(one.blocks())) for one in files], axis=1)
        whole = columns if names == ("",) else columns.sum(axis=1)
        lufs = measure_loudness(whole, RATE).lufs
        assert lufs == pytest.approx(-20.0 + made.main.match.pair_offset_db, abs=0.1)


def test_the_bench_clips_each_return_where_its_converter_does(desk: Desk) -> None:
    """The delays behind the converters must not ring over full scale."""
    rig = build("reamp-both", "r").with_setting("interface", "gain3", 40.0)
    bench = LoopBench(reamp_courses(rig), RATE, BenchFaults.none())
    real = LoopBench(reamp_courses(rig), RATE, BenchFaults(noise=False))
    sine = 0.5 * np.sin(2.0 * np.pi * 110.0 * np.arange(RATE) / RATE)
    for one in (bench.process(sine), real.process(sine)):
        assert np.abs(one).max() <= 1.0
        assert (np.abs(one[:, 0]) >= 0.999).sum() > 1_000
        assert (np.abs(one[:, 1]) >= 0.999).sum() == 0


@pytest.mark.parametrize("block", [64, 1_000, 4_096])
def test_several_returns_do_not_depend_on_the_block(block: int) -> None:
    courses = reamp_courses(build("reamp-bass", "r"))
    sent = 0.1 * np.random.default_rng(3).standard_normal(20_000)
    whole = LoopBench(courses, RATE, BenchFaults(seed=5)).process(sent)
    bench = LoopBench(courses, RATE, BenchFaults(seed=5))
    parts = [bench.process(sent[at : at + block]) for at in range(0, sent.size, block)]
    np.testing.assert_allclose(np.concatenate(parts), whole, atol=1e-9)


def test_a_device_brings_each_return_back_by_its_own_channel() -> None:
    rig = build("reamp-bass", "r")
    courses = reamp_courses(rig)
    assert loop_on("box")(courses).channels == ((2, 3), (2,))
    ports = [course.track for course in courses]
    ties = (Tie(port=ports[0], channel=7), Tie(port=ports[1], channel=7))
    tied = reamp_courses(rig.with_map(DeviceMap(device="box", ties=ties)))
    with pytest.raises(InputError, match="two returns would both be input 7"):
        loop_on("box")(tied)
    assert loop_on("box")(tied[:1]).channels == ((6,), (2,))


def test_the_words_of_a_pass_name_its_returns(desk: Desk) -> None:
    made = reamped(
        with_rig(desk, "reamp-bass"), BASS_TAKE, rig_id="extra",
        target=MatchTarget(kind="lufs", lufs=-20.0),
    ).made  # fmt: skip
    said = made_words(made, RATE)
    assert said.startswith(f"{made.name}: 2 returns. Lows ")
    assert "Highs " in said
    assert said.count("matched to") == 1
    assert "Together matched to" in said
    words = pass_words(made, made.parts[0], "Keel", RATE)
    assert "one gain" in words
    assert "Lows:" in words
    loud, lows, highs = part_lines(made.parts[0], RATE)
    assert "together" in loud
    assert lows.startswith("Lows  ")
    assert highs.startswith("Highs  ")
    # What one of them goes up by is what all go up by, though the two together are louder.
    steps = re.findall(r"(\S+) \N{RIGHTWARDS ARROW} (\S+) LUFS", plain_minus(words + loud))
    assert len(steps) == 3
    match = made.main.match
    assert match is not None
    for before, after in steps:
        assert float(after) - float(before) == pytest.approx(match.total_db, abs=0.011)
    assert all(float(after) < -20.0 for _, after in steps[:2])


def test_a_single_return_goes_up_by_its_gain(desk: Desk) -> None:
    """Alone it reads 3 dB less than on two loudspeakers, as which it is matched."""
    made = reamped(
        with_rig(desk, "reamp-bass"), BASS_TAKE, rig_id="extra",
        target=MatchTarget(kind="lufs", lufs=-20.0),
    ).made  # fmt: skip
    assert made.main.match is not None
    match = made.main.match.model_copy(
        update={"before_lufs": -16.0, "gain_db": -4.0, "pair_offset_db": 0.0, "after_lufs": -20.0}
    )
    one = made.main.model_copy(update={"group": "", "loudness_lufs": -19.01, "match": match})
    assert "-16.00 \N{RIGHTWARDS ARROW} -20.00 LUFS" in plain_minus(pass_lines(one, RATE)[1])


def test_a_loop_without_any_noise_is_told_so() -> None:
    slate = SlateRecord(
        delay_samples=4192.0, polarity=1, level_dbfs=-20.0, noise_dbfs=-200.0, harmonics_db=-90.0
    )
    assert slate_words(slate).endswith("; the loop adds no noise of its own")
    noisy = slate.model_copy(update={"noise_dbfs": -90.0})
    told = plain_minus(slate_words(noisy))
    assert told.endswith("; the loop's own noise -90.0 dBFS RMS")


def plain_minus(text: str) -> str:
    return text.replace("\N{MINUS SIGN}", "-")


def test_the_shell_records_and_writes_every_return(
    desk: Desk, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    folder, session = with_rig(desk, "reamp-bass")
    folder.save(session)
    folder.close()
    path = str(folder.path)
    assert main(["reamp", path, "--take", BASS_TAKE, "--rig", "extra", "--match-lufs", "-20",
                 "--returns", "all", "--json"]) == 0  # fmt: skip
    data = json.loads(capsys.readouterr().out)
    assert [one["return"] for one in data["returns"]] == ["Lows", "Highs"]
    assert data["group_gain_db"] == data["returns"][1]["gain_db"] + data["pair_offset_db"]
    assert data["file"] == data["returns"][0]["file"]
    assert set(data["returns"][0]) <= set(data) | {"return"}
    assert main(["reamp", path, "--take", BASS_TAKE, "--rig", "extra", "--returns", "Room"]) == 1
    assert "Its returns: Lows, Highs" in capsys.readouterr().err
    out = tmp_path / "bass.wav"
    assert main(["export", path, str(out), "--take", BASS_TAKE, "--pass", data["pass"],
                 "--json"]) == 0  # fmt: skip
    files = json.loads(capsys.readouterr().out)["files"]
    assert [Path(one).name for one in files] == ["bass - Lows.wav", "bass - Highs.wav"]
    assert all(Path(one).exists() for one in files)
    assert main(["export", path, str(out), "--take", BASS_TAKE, "--pass", data["pass"],
                 "--returns", "Highs"]) == 0  # fmt: skip
    assert out.exists()


def test_one_return_after_another_of_one_loop_is_known(desk: Desk) -> None:
    """The slate of an unchanged loop is not sent again, whichever return is asked for."""
    folder, session = with_rig(desk, "reamp-bass")
    first = reamped((folder, session), BASS_TAKE, rig_id="extra")
    session = first.edit(session)
    opened: list[int] = []
    bench = bench_for(seed=7)

    def counted(courses):  # type: ignore[no-untyped-def]
        opened.append(len(courses))
        return bench(courses)

    again = reamped((folder, session), BASS_TAKE, rig_id="extra", backend_for=counted).made
    assert opened == [2]
    assert [one.slate for one in again.returns] == [one.slate for one in first.made.returns]
    assert PortRef(device="computer", port="track5") == again.main.port


def test_a_pass_of_before_becomes_a_pass_with_one_return(desk: Desk) -> None:
    """Version 11: what is known of the return stood with the pass."""
    session = reamped(desk).edit(desk[1])
    data = session.model_dump(mode="json")
    (made,) = data["takes"][0]["passes"]
    (back,) = made.pop("returns")
    for key in ("name", "port", "tap", "group", "side", "recorded"):
        back.pop(key)
    made |= back
    data["schema_version"] = 11
    taken = Session.model_validate(migrate(data, "session.json"))
    (old,), (new,) = session.take(GUITAR_TAKE).passes, taken.take(GUITAR_TAKE).passes
    assert new.main.name == "Return"
    assert new.main.port is None
    assert (
        new.main.model_copy(
            update={
                "name": old.main.name,
                "port": old.main.port,
                "tap": old.main.tap,
                "recorded": old.main.recorded,
            }
        )
        == old.main
    )
    assert new.model_copy(update={"returns": old.returns}) == old
    again = reamped((desk[0], taken)).made
    assert again.main.slate == new.main.slate, "the loop is known still"


def test_what_differs_between_passes_and_one_is_recalled(desk: Desk) -> None:
    folder, session = desk
    session = reamped((folder, session), rig_id="rig01").edit(session)
    session = edits.set_device_setting("rig01", "amp", "drive", 8.0, "reamp")(session)
    session = reamped((folder, session), rig_id="rig01").edit(session)
    session = with_rig((folder, session), "reamp-usb")[1]
    session = reamped((folder, session), rig_id="extra").edit(session)
    first, second, third = session.take(GUITAR_TAKE).passes
    told = [(one.words, one.then, one.now) for one in pass_differences(session, second, first)]
    assert ("18 W combo: Drive", "5.0", "8.0") in told
    assert pass_differences(session, first, first) == ()
    words = [one.words for one in pass_differences(session, third, first)]
    assert words[0] == "Rig"
    assert "Send gain, dB" in words
    ways = [sent_words(session.snapshots[one.rig_hash]) for one in (first, third)]
    assert ways == ["box", "stream"]
    assert sent_words(build("reamp-loop", "r")) == "modeler's loop"
    assert sent_words(build("straight", "r")) == ""
    back = recall_pass(GUITAR_TAKE, first.id)(session)
    assert back.rig("rig01").device("amp").number("drive") == 5.0
    assert back.reamp_rig == "rig01"
    gone = session.model_copy(
        update={
            "rigs": tuple(rig for rig in session.rigs if rig.id != "extra"),
            "reamp_rig": "",
        }
    )
    assert (
        recall_pass(GUITAR_TAKE, third.id)(gone).rig("extra") == session.snapshots[third.rig_hash]
    )


def test_a_pass_of_state_reamp_is_recalled_with_record_as_it_is(desk: Desk) -> None:
    folder, session = with_rig(desk, "modeler-usb")
    outcome = reamped((folder, session), rig_id="extra")
    session = outcome.edit(session)
    session = edits.set_device_setting("extra", "modeler", "drive", 9.0)(session)
    back = recall_pass(GUITAR_TAKE, outcome.made.id)(session)
    rig = back.rig("extra")
    assert rig.state == "record"
    assert rig.device("modeler").word("feed") == "jack"
    assert rig.device("modeler").number("drive") == 5.0
    assert rig.reamp_switches == session.rig("extra").reamp_switches


def test_an_assumed_calibration_is_never_called_as_recorded(desk: Desk) -> None:
    """Nobody knows what the tone stage had of a DI whose level is a guess."""
    folder, session = with_rig(desk, "modeler-usb")
    excerpt = read_loudest(folder.open_audio(session.take(GUITAR_TAKE).di.file))
    rig = in_state(session.rig("extra"), "reamp")
    for known, told in ((12.0, True), (None, False)):
        plan = plan_reamp(rig, excerpt, RATE, known, -12.0, ahead_db=0.0)
        assert plan.as_recorded is told
        assert ("as recorded" in send_words(plan)) is told
