"""The trainer: thresholds of listeners that are known, differences that are what they say."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from diaulos.demo.saltmarsh import bare_demo
from diaulos.errors import InputError, StorageError
from diaulos.rig.checks import Severity
from diaulos.signal.loudness import LoudnessMeter
from diaulos.signal.staircase import GUESS, LAPSE, MOST_TRIALS, Staircase, heard
from diaulos.storage.progress import ProgressFile, Trained
from diaulos.work.training.faults import FAULTS, TEMPLATES, FaultHunt, planted, sound_rig
from diaulos.work.training.hearing import SKILLS, TOLD_HZ, Hearing, material, skill_of
from diaulos.work.training.setting import MOVES, Gaining, Matching

RATE = 48_000


def sound(seconds: float = 3.0) -> np.ndarray:
    """Decaying notes with partials to 8 kHz."""
    time = np.arange(round(seconds * RATE)) / RATE
    out = np.zeros(time.size)
    for first, hz in ((0.0, 110.0), (0.9, 165.0), (1.9, 220.0)):
        part = time >= first
        since = time[part] - first
        for harmonic in range(1, int(8_000.0 / hz)):
            out[part] += np.exp(-3.0 * since) / harmonic * np.sin(2 * np.pi * hz * harmonic * since)
    return material(out)


# --- the staircase ---


def test_the_psychometric_function_is_right_at_its_ends_and_in_its_middle() -> None:
    assert float(heard(1e-9, 1.0, 4.0)) == pytest.approx(GUESS)
    assert float(heard(1e9, 1.0, 4.0)) == pytest.approx(1.0 - LAPSE)
    assert float(heard(1.0, 1.0, 4.0)) == pytest.approx(GUESS + (1.0 - GUESS - LAPSE) / 2.0)


def test_listeners_of_known_thresholds_are_measured() -> None:
    """Within 20 % in at most sixty trials, for most; the interval tells for whom not."""
    draws = np.random.default_rng(9)
    near = inside = 0
    listeners = 40
    for _ in range(listeners):
        true, slope = float(np.exp(draws.uniform(np.log(0.15), np.log(2.0)))), 6.0
        stairs = Staircase(0.1, 3.0)
        while not stairs.done:
            magnitude = stairs.next()
            assert 0.1 <= magnitude <= 3.0
            stairs.answered(magnitude, bool(draws.random() < heard(magnitude, true, slope)))
        found = stairs.found
        assert found.trials <= MOST_TRIALS
        near += abs(found.value / true - 1.0) <= 0.2
        inside += found.low <= true <= found.high
    assert near >= 0.9 * listeners
    assert inside >= 0.85 * listeners


def test_who_guesses_hears_nothing_and_who_hears_all_is_below_the_least() -> None:
    draws = np.random.default_rng(4)
    guess, sharp = Staircase(0.1, 3.0), Staircase(0.1, 3.0)
    while not guess.done:
        guess.answered(guess.next(), bool(draws.random() < GUESS))
    while not sharp.done:
        sharp.answered(sharp.next(), True)
    assert guess.found.value > 3.0
    assert sharp.found.value < 0.12
    with pytest.raises(InputError, match="least has to be above 0"):
        Staircase(0.0, 1.0)


# --- what is heard ---


@pytest.mark.parametrize("skill", SKILLS, ids=lambda one: one.id)
def test_one_of_three_differs_and_none_by_its_loudness(skill: object) -> None:
    from diaulos.work.training.hearing import Skill

    assert isinstance(skill, Skill)
    run = Hearing(skill, sound(), RATE, 7)
    trial = run.trial
    assert trial.magnitude == skill.most
    plain = [one for at, one in enumerate(trial.sounds) if at != trial.odd]
    np.testing.assert_array_equal(plain[0], plain[1])
    assert np.max(np.abs(trial.sounds[trial.odd] - plain[0])) > 1e-3
    assert max(float(np.max(np.abs(one))) for one in trial.sounds) < 1.0

    def lufs(samples: np.ndarray) -> float:
        meter = LoudnessMeter(RATE, 1)
        meter.add(samples)
        return meter.reading().lufs

    apart = lufs(trial.sounds[trial.odd]) - lufs(plain[0])
    assert apart == pytest.approx(skill.most if skill.id == "level" else 0.0, abs=0.02)


def test_a_part_of_a_difference_is_that_part_of_its_curve() -> None:
    """A half of the way to the other cabinet is half of it in dB at every frequency."""
    skill = skill_of("place")
    assert skill.curve is not None
    impulse = np.zeros(8_192)
    impulse[0] = 1.0
    half = np.fft.rfft(skill.apply(impulse, RATE, 0.5))
    hz = np.fft.rfftfreq(8_192, 1.0 / RATE)
    part = (hz > 100.0) & (hz < 12_000.0)
    found = 20.0 * np.log10(np.abs(half[part]))
    np.testing.assert_allclose(found, 0.5 * skill.curve(hz[part]), atol=0.05)
    db = skill.curve(TOLD_HZ)
    assert skill.told(1.0).endswith("Hz")
    assert np.min(db) < -3.0


def test_a_lag_makes_its_comb() -> None:
    """1 ms: the first notch at 500 Hz (analytic)."""
    impulse = np.zeros(9_600)
    impulse[100] = 1.0
    out = np.abs(np.fft.rfft(skill_of("delay").apply(impulse, RATE, 1.0)))
    hz = np.fft.rfftfreq(9_600, 1.0 / RATE)
    at = int(np.argmin(np.abs(hz - 500.0)))
    assert out[at] < 1e-3
    assert out[2 * at] == pytest.approx(1.0, abs=1e-3)


def test_a_class_shares_an_exercise_by_its_seed() -> None:
    one, other = (Hearing(skill_of("level"), sound(), RATE, 31) for _ in range(2))
    odds = []
    for _ in range(6):
        assert one.trial.odd == other.trial.odd
        odds.append(one.trial.odd)
        told = one.answer(one.trial.odd), other.answer(other.trial.odd)
        assert told[0] == told[1]
        assert told[0].startswith("Right: ")
    assert len(set(odds)) > 1
    wrong = one.trial.odd
    assert one.answer((wrong + 1) % 3).startswith(f"It was another one: {wrong + 1}, ")
    assert "95 %" in one.result()
    assert Hearing(skill_of("level"), sound(), RATE, 1).result() == "Nothing was answered yet."


# --- matching, and gain ---


def test_matching_tells_how_far_off_it_is() -> None:
    a = sound()
    run = Matching(a, 0.5 * a, RATE, 5)
    assert run.equal_db == pytest.approx(20.0 * np.log10(2.0), abs=0.01)
    assert abs(run.error_db) >= 2.0 - 0.06
    run.turn(round((run.equal_db - run.gain_db) / 0.1))
    assert abs(run.error_db) <= 0.051
    run.turn(10)
    assert "1.0 dB louder" in run.result() or "0.9 dB louder" in run.result()


def test_the_gain_of_an_unknown_player() -> None:
    run = Gaining(11)
    seen = run.look()
    assert run.left == MOVES - 1
    run.set_gain(run.gain_db + run.target_dbfs - 4.0 - seen)
    words = run.take()
    assert run.off_db is not None
    assert -12.0 < run.off_db < 4.0
    assert "dB of gain it would have met the target" in words
    loud = Gaining(11)
    loud.set_gain(50.0)
    assert loud.look() <= 0.0
    assert "clips by" in loud.take()
    assert Gaining(11).strength_dbu == run.strength_dbu
    # What would have been right is right: the same player with that gain.
    best = float(words.rpartition("With ")[2].split(" dB")[0])
    again = Gaining(11)
    again.look()
    again.set_gain(best)
    again.take()
    assert again.off_db is not None
    assert -1.0 <= again.off_db <= 0.0


def test_every_exercise_has_a_gain_that_meets_the_target() -> None:
    for seed in range(1, 60):
        run = Gaining(seed)
        run.set_gain(0.0)
        run.take()
        assert run.off_db is not None
        assert run.off_db <= 0.0, seed


def test_a_player_too_hot_for_the_input_is_not_told_a_gain_that_does_not_help() -> None:
    hot = Gaining(2)
    hot.strength_dbu = 12.0
    hot.set_gain(0.0)
    words = hot.take()
    assert hot.off_db is not None
    assert hot.off_db > 0.0
    assert "wants a pad" in words
    assert "would have met" not in words


# --- find the fault ---


@pytest.mark.parametrize("template", TEMPLATES)
def test_every_planted_fault_is_one_that_the_checks_show_and_no_other_is_there(
    template: str,
) -> None:
    session = bare_demo()
    run = FaultHunt(session, 1)
    bare = sound_rig(session, template)
    found = run.report(bare).findings
    assert max(one.severity for one in found) < Severity.CAUTION
    before = {one.key for one in found}
    for fault in FAULTS:
        rig = planted(bare, (fault.id,))
        assert rig is not None, fault.id
        new = [one for one in run.report(rig).findings
               if one.key not in before and one.severity >= Severity.CAUTION]  # fmt: skip
        assert new, fault.id


def test_exercises_hold_one_to_three_that_are_all_told() -> None:
    session = bare_demo()
    counts = set()
    for seed in range(1, 15):
        run = FaultHunt(session, seed)
        again = FaultHunt(session, seed)
        assert (run.ids, run.rig) == (again.ids, again.rig), "a class shares it"
        counts.add(len(run.ids))
        assert len(run.told()) >= 1
        titles = [title for title, _ in run.looks()]
        assert titles == ["Peaks", "Heard", "Cables", "Switches"]
    assert counts == {1, 2, 3}


def test_an_answer_tells_what_was_found_missed_and_not_there() -> None:
    run = FaultHunt(bare_demo(), 3)
    other = next(one.id for one in FAULTS if one.id not in run.ids)
    words = run.answer({run.ids[0], other})
    assert words.count("Found: ") == 1
    assert words.count("Missed: ") == len(run.ids) - 1
    assert words.count("Not there: ") == 1
    assert run.right(set(run.ids)) == 1.0
    assert run.right({other}) == 0.0


def test_what_is_wrong_is_heard() -> None:
    """The bench plays the trainer's rig: too much gain is full scale in the sound, too."""
    from diaulos import wiring

    session = bare_demo()
    run = next(
        one for one in (FaultHunt(session, seed) for seed in range(1, 60))
        if one.ids == ("too-hot",)
    )  # fmt: skip
    sounds = run.sounds(wiring.BenchAudio())
    names = {track.name for track in run.rig.tracks}
    assert set(sounds) <= names
    loudest = max(float(np.max(np.abs(one))) for one in sounds.values())
    assert loudest > 0.99


# --- the record ---


def test_the_record_is_a_plain_list_and_a_spoiled_one_is_left_alone(tmp_path: Path) -> None:
    record = ProgressFile(tmp_path / "deep" / "training.json")
    assert record.all() == ()
    for number in range(3):
        record.add(Trained(at="2026-05-09T12:00:00", exercise="level", seed=number, figure=0.4))
    assert [one.seed for one in record.all()] == [0, 1, 2]
    assert json.loads(record.path.read_text())[0]["exercise"] == "level"
    record.path.write_text("{broken")
    with pytest.raises(StorageError, match="nothing was added"):
        record.add(Trained(at="x", exercise="level", seed=9))
    assert record.path.read_text() == "{broken"


def test_the_take_is_heard_as_it_clipped_and_as_it_should_have_been() -> None:
    run = Gaining(7)
    run.set_gain(45.0)
    run.take()
    taken, right = run.sounds(sound())
    assert run.played_dbfs is not None
    assert run.best_db is not None
    assert run.played_dbfs > 0.0
    assert float(np.max(np.abs(taken))) == 1.0
    flat = int(np.sum(np.abs(taken) >= 1.0))
    assert flat > 10, "it is cut off, as it would have been"
    peak = 20.0 * np.log10(float(np.max(np.abs(right))))
    assert peak == pytest.approx(run.played_dbfs - 45.0 + run.best_db)
    assert abs(peak - run.target_dbfs) <= 1.0
    with pytest.raises(InputError, match="nothing is recorded"):
        Gaining(7).sounds(sound())
