"""What comparing leaves is heard and exported: moves, polarity, low cuts; gapless switching."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy import signal as ss

from diaulos.__main__ import main
from diaulos.session import compare_edits, take_edits
from diaulos.session.compared import BlindSide, Moved
from diaulos.session.model import AlignmentRecord
from diaulos.signal.lowcut import low_cut_sections
from diaulos.storage.folder import SessionFolder
from diaulos.work.compare.blindrun import (
    BlindPlan,
    BlindRun,
    beforehand,
    result_words,
    trials_table,
)
from diaulos.work.compare.choices import (
    as_monitored,
    candidates_of,
    match_all,
    matched_channels,
    measure_candidate,
    open_candidate,
    side_of,
    usual_candidates,
)
from diaulos.work.compare.pairs import compare_pair
from diaulos.work.listening.layers import FADE_S, Fader
from diaulos.work.listening.mixing import channels_of, mix_rows
from diaulos.work.listening.placing import LowCutReader, moved_record
from diaulos.work.listening.player import Channel, Player
from diaulos.work.ports import CancelToken
from support import RATE, RecordingOutput


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A take of a dry DI and two modeled tracks, reamped once."""
    where = tmp_path_factory.mktemp("heard") / "s.diaulos"
    for words in (
        ["new", str(where)],
        ["rig", str(where), "--add", "modeler-usb", "--current"],
        ["record", str(where), "--seconds", "5", "--seed", "4", "--name", "One"],
        ["rig", str(where), "--add", "reamp-box", "--name", "Out", "--current"],
        ["reamp", str(where), "--take", "One", "--rig", "Out", "--no-slate"],
    ):
        assert main(words) == 0, words
    return where


@pytest.fixture
def copy(made: Path, tmp_path: Path) -> Path:
    import shutil

    shutil.copytree(made, tmp_path / "s.diaulos")
    return tmp_path / "s.diaulos"


# --- moves ---


def test_moves_add_up() -> None:
    """Sample n of the moved one is sample P(M(n)) of the file."""
    found = AlignmentRecord(delay_samples=100.0, delay_error_samples=0.0, polarity=-1,
                            confidence=1.0, drift_ppm=20.0, drift_error_ppm=0.1)  # fmt: skip
    moved = Moved(delay_samples=12.5, drift_ppm=-5.0, polarity=-1)
    both = moved_record(found, moved)
    assert both is not None
    n = 1e6
    first = n + moved.delay_samples + moved.drift_ppm * 1e-6 * n
    wanted = first + found.delay_samples + 20e-6 * first
    assert n + both.delay_samples + both.told_drift_ppm * 1e-6 * n == pytest.approx(
        wanted, abs=1e-5
    )
    assert both.polarity == 1
    assert moved_record(found, None) is found
    assert moved_record(found, Moved()) is found
    assert moved_record(None, None) is None


def test_a_moved_track_is_heard_mixed_and_exported_so(copy: Path, tmp_path: Path) -> None:
    folder = SessionFolder.open(copy)
    session = take_edits.pairs_apart("t0001", True)(folder.load())
    take = session.take("One")
    track = next(one for one in take.tracks if one.tap == "modeled")
    plain, _ = soundfile.read(copy / track.file)
    moved = Moved(delay_samples=30.0, polarity=-1, against="DI")
    session = compare_edits.move_into_time((track.file,), moved)(session)
    session = compare_edits.set_low_cut((track.file,), 80.0)(session)
    folder.save(session)
    row = next(one for one in mix_rows(session, take) if one.key == track.file)
    (channel,) = channels_of([row], session, folder)
    cut = low_cut_sections(80.0, float(RATE))
    wanted = -ss.sosfilt(cut, plain)[RATE + 30 : 2 * RATE + 30]
    heard = channel.read(RATE, RATE)
    assert np.max(np.abs(heard - wanted)) < 1e-5
    folder.close()
    out = tmp_path / "out.wav"
    assert main(["export", str(copy), str(out), "--take", "One", "--track", track.name]) == 0
    exported, _ = soundfile.read(out)
    assert np.max(np.abs(exported[RATE : 2 * RATE] - wanted)) < 1e-5
    again = SessionFolder.open(copy, read_only=True)
    assert again.load().moves[track.file].against == "DI"
    back = compare_edits.move_into_time((track.file,), None)(again.load())
    assert not back.moves


def test_polarity_is_turned_and_turned_back(copy: Path) -> None:
    session = SessionFolder.open(copy, read_only=True).load()
    file = session.take("One").tracks[0].file
    once = compare_edits.turn_polarity((file,))(session)
    assert once.moves[file].polarity == -1
    assert not compare_edits.turn_polarity((file,))(once).moves


def test_a_low_cut_is_the_same_from_anywhere() -> None:
    rng = np.random.default_rng(3)
    source = rng.standard_normal(RATE)

    def read(first: int, count: int) -> np.ndarray:
        out = np.zeros(count)
        start, stop = max(0, first), min(source.size, first + count)
        if stop > start:
            out[start - first : stop - first] = source[start:stop]
        return out

    for corner in (15.0, 80.0, 400.0):
        whole = ss.sosfilt(low_cut_sections(corner, float(RATE)), source)
        reader = LowCutReader(read, corner, float(RATE))
        at = 0
        for size in (256, 1024, 64, 4096):
            assert np.max(np.abs(reader(at, size) - whole[at : at + size])) < 1e-9
            at += size
        jumped = reader(30_000, 512)
        assert np.max(np.abs(jumped - whole[30_000:30_512])) < 1e-5


# --- candidates ---


def test_candidates_are_matched_and_brought_into_time(copy: Path) -> None:
    folder = SessionFolder.open(copy, read_only=True)
    session = folder.load()
    all_of_them = candidates_of(session)
    take = session.take("One")
    assert len(all_of_them) == len(take.parts) + sum(len(one.parts) for one in take.passes)
    usual = usual_candidates(session)
    assert len(usual) >= 2
    assert all(one.tap not in ("di", "printed") for one in usual)
    modeled = next(one for one in all_of_them if one.tap == "modeled")
    cabinet = all_of_them[-1]
    token = CancelToken()
    measured = as_monitored(
        [
            measure_candidate(open_candidate(session, one, folder), RATE, token)
            for one in (modeled, cabinet)
        ]
    )
    matched = match_all(measured)
    assert matched.gains_db[modeled.key] == pytest.approx(matched.lowered_db)
    louder = measured[1].lufs - measured[0].lufs  # type: ignore[operator]
    assert matched.gains_db[cabinet.key] == pytest.approx(matched.lowered_db - louder)
    for one in measured:
        assert one.true_peak_dbtp + matched.gains_db[one.key] <= -1.0 + 1e-6  # type: ignore[operator]
    by_peak = match_all(measured, "peak")
    peaks = [one.true_peak_dbtp + by_peak.gains_db[one.key] for one in measured]  # type: ignore[operator]
    assert peaks[0] == pytest.approx(peaks[1])
    pair = compare_pair(*(side_of(one, RATE, token) for one in measured), token, split=False)
    assert pair.louder_lu == pytest.approx(louder, abs=0.02)
    (channel,) = matched_channels(measured[1].heard, 0.0, RATE, pair.found)
    assert channel.read(0, 100).shape == (100,)


def test_a_stereo_one_is_compared_by_its_middle_and_mono_counts_twice() -> None:
    from dataclasses import dataclass

    from diaulos.work.compare.choices import Candidate, Heard, Measured

    @dataclass
    class Reader:
        value: float

        def __call__(self, first: int, count: int) -> np.ndarray:
            return np.full(count, self.value)

    pair = Heard(
        Candidate("k", "pair", "", "modeled"),
        (Channel("k", Reader(1.0), side="left"), Channel("k", Reader(0.5), side="right")), 100,
    )  # fmt: skip
    assert np.allclose(pair.mono(0, 10), 0.75)
    one = Heard(Candidate("m", "mono", "", "amp"), (Channel("m", Reader(1.0)),), 100)
    told = as_monitored(
        [Measured(pair, -20.0, -3.0, -3.0, None), Measured(one, -20.0, -3.0, -3.0, None)]
    )
    assert told[0].lufs == -20.0
    assert told[1].lufs == pytest.approx(-16.99, abs=0.01)


# --- switching ---


def test_a_fade_is_straight_and_ends() -> None:
    fader = Fader(2, float(RATE))
    block = np.ones((1024, 2, 2), np.float32)
    block[:, 1] = 1.0
    first = fader.mixed(block, np.array([1.0, 0.0]))
    assert np.all(first == 1.0), "it begins at once"
    crossed = fader.mixed(block, np.array([0.0, 1.0]))
    assert np.max(np.abs(crossed - 1.0)) < 1e-6, "two of one performance: no step in level"
    block[:, 1] = 0.0
    back = fader.mixed(block, np.array([1.0, 0.0]))
    count = round(FADE_S * RATE)
    assert back[0, 0] == pytest.approx(1.0 / count, rel=1e-3)
    assert back[count, 0] == pytest.approx(1.0)


def test_candidates_switch_at_one_moment_without_a_gap_or_click() -> None:
    """Two tones that are one tone: what comes out is that tone, whenever it is switched, to the
    last sample; and a candidate of silence fades within 5 ms."""
    at = np.arange(10 * RATE)
    tone = 0.4 * np.sin(2 * np.pi * 441.0 * at / RATE)

    def read(first: int, count: int) -> np.ndarray:
        return tone[first : first + count]

    player = Player(RecordingOutput(), RATE)
    channels = (Channel("a", read), Channel("b", read), Channel("c", lambda f, n: np.zeros(n)))
    player.set_channels(channels, tone.size, layered=True)
    player.hear({"a"})
    player._shared.level_db = 0.0
    player._shared.playing = True
    out = []
    rng = np.random.default_rng(1)
    for turn in range(60):
        while player._queue.qsize() < 3:
            player._queue.put(player.mix_next())
        out.append(player.fill(int(rng.integers(100, 700)))[:, 0])
        player.hear({("a", "b")[turn % 2]})
    heard = np.concatenate(out)
    assert player.underruns == 0
    assert np.max(np.abs(heard - tone[: heard.size])) < 1e-6
    player.hear({"c"})
    tail = player.fill(600)[:, 0]
    steps = np.abs(np.diff(tail))
    assert np.all(tail[round(FADE_S * RATE) + 1 :] == 0.0)
    assert steps.max() < 0.4 * (2 * np.pi * 441.0 / RATE) + 0.4 / (FADE_S * RATE) + 1e-6


# --- blind runs ---


def plan(kind: str = "abx", planned: int = 4) -> BlindPlan:
    sides = [BlindSide(name=name, file=f"t:{name}", gain_db=0.0) for name in ("One", "Two")]
    return BlindPlan(kind, planned, *sides)  # type: ignore[arg-type]


def test_a_run_draws_every_trial_and_tells_at_the_end() -> None:
    draws = iter([1, 0, 0, 1, 1, 0, 0])
    run = BlindRun(plan(), lambda n: next(draws) if n == 2 else 0)
    assert run.heard("x") == "b"
    assert (run.heard("a"), run.heard("b")) == ("a", "b")
    run.answer("b")
    run.answer("b")
    run.take_back()
    assert run.number == 2
    run.answer("a" if run.heard("x") == "a" else "b")
    run.answer("a")
    run.answer("a")
    assert run.ended
    test = run.record("blind", "2026-05-09T12:00:00")
    assert [one.right for one in test.trials[:2]] == [True, True]
    table = trials_table(test)
    assert len(table.rows) == 4 + 5
    assert "too few" in result_words(test)
    assert json.loads(test.model_dump_json())["trials"][0] == {"was": "b", "answer": "b"}


def test_of_a_preference_the_order_is_drawn_and_the_one_is_counted() -> None:
    draws = iter([1, 0, 1, 0, 1])
    run = BlindRun(plan("preference"), lambda _n: next(draws))
    for _ in range(4):
        run.answer("1" if run.heard("1") == "a" else "2")
    test = run.record("blind", "now")
    assert test.right == 4
    assert [one.was for one in test.trials] == ["b", "a", "b", "a"]


def test_what_a_test_can_find_is_told_beforehand() -> None:
    assert beforehand("abx", 16).startswith("12 of 16 right answers")
    assert "98 %" in beforehand("abx", 16)
    assert "too few" in beforehand("abx", 3)
    assert "every look" in beforehand("abx", 0)
    run = BlindRun(plan(planned=0), lambda _n: 0)
    assert result_words(run.record("blind", "now")) == "Nothing was answered."
    for _ in range(9):
        run.answer("a")
    assert "you hear a difference" in result_words(run.record("blind", "now"))
    assert not run.ended


@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_a_file_at_another_rate_is_brought_to_the_sessions(
    made: Path, tmp_path: Path, rate: int
) -> None:
    """The same chord, written at two rates: the difference is the resampler's alone."""
    from diaulos import wiring
    from diaulos.errors import EditError
    from diaulos.work.compare.choices import outside_file

    def chord(rate_hz: int) -> np.ndarray:
        time = np.arange(4 * rate_hz) / rate_hz
        swell = np.sin(np.pi * time / 4.0) ** 2
        tones = sum(np.sin(2.0 * np.pi * hz * time + hz) for hz in (110.0, 554.4, 2_637.0))
        return 0.2 * swell * np.asarray(tones)

    folder = SessionFolder.open(made, read_only=True)
    session = folder.load()
    here, there = tmp_path / "here.wav", tmp_path / "there.wav"
    soundfile.write(str(here), chord(RATE), RATE, subtype="FLOAT")
    soundfile.write(str(there), np.stack([chord(rate)] * 2, axis=1), rate, subtype="FLOAT")
    files = wiring.ExternalAudio()
    one = open_candidate(session, outside_file(str(here)), folder, files, wiring.resampled)
    other = open_candidate(session, outside_file(str(there)), folder, files, wiring.resampled)
    assert other.frames == one.frames
    assert [channel.side for channel in other.channels] == ["left", "right"]
    a = np.asarray(one.mono(0, one.frames), np.float64)
    b = np.asarray(other.mono(0, other.frames), np.float64)
    gain = float(a @ b) / float(b @ b)
    assert 10.0 * np.log10(np.sum((a - gain * b) ** 2) / np.sum(a**2)) < -90.0
    assert np.all(np.asarray(other.mono(-100, 50)) == 0.0)
    with pytest.raises(EditError, match=f"has {rate} Hz"):
        open_candidate(session, outside_file(str(there)), folder, files)
