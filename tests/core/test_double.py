"""Double tracks: onsets against what was played, on generated players (the truth is known)."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile
from test_cli import documented

from diaulos.__main__ import main
from diaulos.demo.saltmarsh import PLAYERS
from diaulos.errors import CancelledError, RefusedError
from diaulos.signal.onsets import (
    Paired,
    against_grid,
    compare_onsets,
    find_onsets,
    pair_onsets,
)
from diaulos.signal.strings import Part, StringCharacter, play, render_notes
from diaulos.work.compare.doubling import double_words, spread_of
from support import RATE

R = float(RATE)
BASS = Part(((28,), (28,), (), (31,), (33,), (), (31,), ()))
LINE = Part(((40,), (43,), (45,), (47,), (), (50,), (47,), (45,)))
LEAD = Part(((64,), (67,), (69,), (), (71,), (69,), (67,), (64,)))
FAST = Part(((45,), (48,), (50,), (52,), (55,), (52,), (50,), (48,)))
E_CHORD, A_CHORD = (40, 47, 52, 56, 59, 64), (45, 52, 57, 60, 64)
STRUMS = Part((E_CHORD, (), E_CHORD, A_CHORD, (), A_CHORD, (43, 47, 50, 55, 59, 67), ()))
SECONDS = 24.0


def player(part: Part, seed: int, tempo_bpm: float = 110.0) -> tuple[np.ndarray, np.ndarray]:
    """What somebody plays, and when each note of it begins."""
    notes = play(part, tempo_bpm, SECONDS, seed)
    begun = np.array(sorted(one.start_s for one in notes))
    return render_notes(notes, R, SECONDS, StringCharacter(), seed), begun


def tones(times: np.ndarray, decay_s: float, seed: int) -> np.ndarray:
    """Notes that are nothing but decaying harmonics, of another make than our strings."""
    rng = np.random.default_rng(seed)
    out = 1e-5 * rng.standard_normal(round(SECONDS * R))
    at = np.arange(RATE) / R
    for begin in times:
        hz = rng.choice([82.4, 98.0, 110.0, 146.8, 196.0])
        phases = rng.uniform(0.0, 6.28, 19)
        wave = sum(np.sin(2 * np.pi * hz * n * at + phases[n - 1]) / n for n in range(1, 20))
        wave *= np.exp(-at / decay_s) * np.minimum(1.0, at / 0.001)
        first = round(begin * R)
        count = min(wave.size, out.size - first)
        out[first : first + count] += 0.1 * wave[:count]
    return out


def held_against(found: np.ndarray, begun: np.ndarray) -> tuple[int, int, int]:
    """(missed, extra, farther off than 3 ms) of the notes that were played."""
    near = [float(found[np.argmin(np.abs(found - at))] - at) for at in begun]
    met = [abs(off) for off in near if abs(off) < 0.03]
    return len(begun) - len(met), len(found) - len(met), sum(off > 0.003 for off in met)


@pytest.mark.parametrize("seed", [1, 5])
def test_onsets_of_a_bass_are_found_within_three_milliseconds(seed: int) -> None:
    samples, begun = player(BASS, seed)
    missed, extra, far = held_against(find_onsets(samples, R), begun)
    assert (missed, far) == (0, 0)
    assert extra <= 1


@pytest.mark.parametrize(
    ("part", "hiss_db"), [(LINE, None), (LINE, -55.0), (LEAD, None), (FAST, -55.0)],
    ids=["line", "line in hiss", "lead", "quick in hiss"],
)  # fmt: skip
def test_onsets_of_lines_are_found(part: Part, hiss_db: float | None) -> None:
    """Notes that ring into one another, and that are let go around the next ones: of these 150 to
    200 at most 2 in a hundred are missed and 4 farther off than 3 ms; of quick ones 6 missed."""
    missed = extra = far = count = 0
    for seed in (1, 31):
        samples, begun = player(part, seed, 138.0 if part is FAST else 110.0)
        if hiss_db is not None:
            hiss = np.random.default_rng(seed).standard_normal(samples.size)
            samples = samples + 10.0 ** (hiss_db / 20.0) * hiss
        found = held_against(find_onsets(samples, R), begun)
        missed, extra, far = missed + found[0], extra + found[1], far + found[2]
        count += begun.size
    assert missed <= (0.06 if part is FAST else 0.02) * count
    assert extra <= 0.02 * count
    assert far <= 0.04 * count


def test_a_strum_is_one_onset_under_a_chord_that_rings() -> None:
    """Its first string may be too faint under the chord to be told: of these one in eight is
    missed, and four in ten are told late, by a later string."""
    missed = extra = far = count = 0
    for seed in (1, 31):
        samples, begun = player(STRUMS, seed)
        begun = begun[np.diff(begun, prepend=-1.0) > 0.095]
        found = held_against(find_onsets(samples, R), begun)
        missed, extra, far = missed + found[0], extra + found[1], far + found[2]
        count += begun.size
    assert missed <= 0.13 * count
    assert extra <= 0.13 * count
    assert far <= 0.45 * count


def test_looking_for_onsets_can_be_ended() -> None:
    def end() -> None:
        raise CancelledError

    with pytest.raises(CancelledError):
        find_onsets(player(BASS, 1)[0], R, end)


@pytest.mark.parametrize("decay_s", [0.08, 0.3])
def test_onsets_of_plain_tones(decay_s: float) -> None:
    begun = np.arange(0.5, SECONDS - 1.0, 0.5)
    missed, extra, far = held_against(find_onsets(tones(begun, decay_s, 9), R), begun)
    assert (missed, far) == (0, 0)
    assert extra <= 2


@pytest.mark.parametrize("part", [BASS, LINE], ids=["bass", "line"])
def test_two_players_are_held_against_each_other(part: Part) -> None:
    (a, begun_a), (b, begun_b) = player(part, 1), player(part, 101)
    found = compare_onsets(a, b, R)
    truth = np.array([one.late_ms for one in pair_onsets(begun_a, begun_b)])
    told = np.array([one.late_ms for one in found.paired])
    assert told.size >= 0.9 * truth.size
    assert told.mean() == pytest.approx(truth.mean(), abs=0.7)
    assert told.std() == pytest.approx(truth.std(), abs=0.7)


@pytest.mark.parametrize("seed", [7, 102])
def test_what_two_ways_tell_otherwise_is_in_no_figure(seed: int) -> None:
    """Chords and notes between them: what is told is nearer the truth than what is not."""

    def chords(of: int) -> tuple[np.ndarray, np.ndarray]:
        samples, begun = player(PLAYERS[1].part, of, PLAYERS[1].tempo_bpm)
        first = [begun[0]]
        for at in begun[1:]:
            first += [at] if at - first[-1] > 0.095 else []
        return samples, np.array(first)

    (a, begun_a), (b, begun_b) = chords(seed), chords(seed + 400)
    found = compare_onsets(a, b, R)
    truth = pair_onsets(begun_a, begun_b)

    def off_ms(pairs: tuple[Paired, ...]) -> np.ndarray:
        near = [min(truth, key=lambda one, at=pair.at_s: abs(one.at_s - at)) for pair in pairs]
        return np.array([
            pair.late_ms - one.late_ms for pair, one in zip(pairs, near, strict=True)
            if abs(pair.at_s - one.at_s) < 0.04
        ])  # fmt: skip

    assert len(found.paired) > 0.55 * len(truth)
    assert len(found.paired) + len(found.unsure) > 0.85 * len(truth)
    told, unsure = off_ms(found.paired), off_ms(found.unsure)
    assert np.mean(np.abs(told) > 3.0) < 0.2
    assert unsure.std() > 1.5 * told.std()


def test_a_shifted_copy_is_late_by_just_that() -> None:
    samples, _ = player(BASS, 3)
    late = np.concatenate([np.zeros(480), samples])[: samples.size]
    found = compare_onsets(samples, late, R)
    spread = spread_of(found.paired)
    assert spread.mean_ms == pytest.approx(10.0, abs=0.2)
    assert spread.spread_ms < 0.2
    assert spread.worst.late_ms == pytest.approx(10.0, abs=0.5)
    assert double_words(spread).startswith("B begins 10.0 ms later on average")


def test_a_part_is_held_against_a_click() -> None:
    rng = np.random.default_rng(2)
    grid = np.arange(1, 40) * 0.5 + 0.25
    late = rng.normal(0.004, 0.005, grid.size)
    found = against_grid(find_onsets(tones(grid + late, 0.08, 5), R), 0.25, 0.25)
    told = np.array([one.late_ms for one in found])
    assert told.size == grid.size
    assert told.mean() == pytest.approx(1000.0 * late.mean(), abs=0.6)
    worst = max(found, key=lambda one: abs(one.late_ms))
    assert worst.late_ms == pytest.approx(1000.0 * late[np.argmax(np.abs(late))], abs=3.0)


def test_silence_and_too_little_are_refused() -> None:
    assert find_onsets(np.zeros(RATE), R).size == 0
    assert find_onsets(np.zeros(10), R).size == 0
    with pytest.raises(RefusedError) as caught:
        spread_of(())
    assert caught.value.reason == "too_few_onsets"


def test_the_shell(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    begun = np.arange(0.5, SECONDS - 1.0, 0.5)
    rng = np.random.default_rng(4)
    late = rng.normal(0.003, 0.004, begun.size)
    a, b = tmp_path / "a.wav", tmp_path / "b.wav"
    soundfile.write(str(a), tones(begun, 0.08, 9), RATE, subtype="FLOAT")
    soundfile.write(str(b), 0.5 * tones(begun + late, 0.08, 9), RATE, subtype="FLOAT")
    assert main(["double", str(a), str(b), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert set(data) == documented("double")
    assert data["mean_ms"] == pytest.approx(1000.0 * late.mean(), abs=0.5)
    assert data["spread_ms"] == pytest.approx(1000.0 * late.std(), abs=0.5)
    assert data["worst_ms"] == pytest.approx(1000.0 * late[np.argmax(np.abs(late))], abs=3.0)
    assert len(data["onsets"]) == begun.size
    assert data["louder_db"] == pytest.approx(-6.02, abs=0.3)
    assert main(["double", str(a), "--tempo", "120", "--division", "4", "--json"]) == 0
    click = json.loads(capsys.readouterr().out)
    assert set(click) == documented("double")
    assert abs(click["mean_ms"]) < 1.0
    assert main(["double", str(a), "--json"]) == 1
    capsys.readouterr()
    soundfile.write(str(b), np.zeros(RATE), RATE)
    assert main(["double", str(a), str(b), "--json"]) == 3
    assert json.loads(capsys.readouterr().out)["reason"] == "too_few_onsets"
